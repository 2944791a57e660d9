package hub

import (
	"context"
	"time"

	"vinescale/core/amount"
	"vinescale/internal/store"
)

// Timeline is how busy a host or the fleet was.
type Timeline struct {
	From           time.Time       `json:"from"`
	To             time.Time       `json:"to"`
	Resource       string          `json:"resource"`
	StretchSeconds float64         `json:"stretch_seconds"`
	Points         []TimelinePoint `json:"points" doc:"Stretches without records are left out: unknown, not zero."`
}

// TimelinePoint is one stretch of a timeline.
type TimelinePoint struct {
	Start time.Time `json:"start"`
	Busy  *float64  `json:"busy_share" doc:"Used of capacity, 0 to 1; null where the capacity is not known."`
	Hosts int       `json:"hosts" doc:"Hosts with records in the stretch."`
}

// Timeline answers how busy a host, or all, was over a span, in at most about 200 stretches of whole minutes.
func (h *Hub) Timeline(ctx context.Context, span store.Span, hostName string, r amount.Resource) (*Timeline, error) {
	hostID := int32(0)
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		hostID = host.ID
	}
	stretch := max((span.To.Sub(span.From) / 200).Truncate(time.Minute), time.Minute)
	points, err := h.store.Timeline(ctx, hostID, span, r, stretch)
	if err != nil {
		return nil, err
	}
	t := &Timeline{From: span.From, To: span.To, Resource: r.String(), StretchSeconds: stretch.Seconds(),
		Points: []TimelinePoint{}}
	for _, p := range points {
		x := TimelinePoint{Start: p.Start.UTC(), Hosts: p.Hosts}
		if p.Capacity > 0 {
			busy := p.Used / p.Capacity
			x.Busy = &busy
		}
		t.Points = append(t.Points, x)
	}
	return t, nil
}

// Detail returns what a host's newest interval of a span says beside the ledger, as JSON of the wire schema.
func (h *Hub) Detail(ctx context.Context, hostID int32, span store.Span) ([]byte, error) {
	return h.store.Detail(ctx, hostID, span)
}
