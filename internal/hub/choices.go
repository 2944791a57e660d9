package hub

import (
	"cmp"
	"context"

	"vinescale/core/choice"
)

// Choices are how the person of a token wants figures shown.
func (h *Hub) Choices(ctx context.Context, name string) (choice.Choices, error) {
	return h.store.Choices(ctx, name)
}

// Zone is the site's time zone, in which times are shown to whoever chose none; "" for each reader's own.
func (h *Hub) Zone() string { return h.options.Zone }

// usualZone bounds the days of what names no time zone.
func (h *Hub) usualZone() string { return cmp.Or(h.options.Zone, "UTC") }

// SetChoices keeps them.
func (h *Hub) SetChoices(ctx context.Context, name string, c choice.Choices) error {
	if err := c.Check(); err != nil {
		return problem(Invalid, "%v", err)
	}
	kept, err := h.store.Choices(ctx, name)
	if err != nil {
		return err
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return err
	}
	numbers := map[string]int{}
	for _, t := range tenants {
		numbers[t.Name] = int(t.Colour)
	}
	if err := choice.CheckColours(c.Colours, kept.Colours, numbers); err != nil {
		return problem(Invalid, "%v", err)
	}
	return h.store.SetChoices(ctx, name, c)
}
