package hub

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
)

// SensorLine is a sensor of a host.
type SensorLine struct {
	Host string    `json:"host"`
	At   time.Time `json:"at" doc:"When its host told it last."`
	account.Sensor
}

// SensorQuery narrows a listing of sensors; what is empty narrows nothing.
type SensorQuery struct{ Host, Kind, State string }

// Sensors lists what the sensors of hosts told last, the most urgent first, then by host. Those of hosts that tell of
// none are not in it.
func (h *Hub) Sensors(ctx context.Context, q SensorQuery) ([]SensorLine, error) {
	if q.Kind != "" && !slices.Contains(account.SensorKinds, q.Kind) {
		return nil, problem(Invalid, "there are no sensors of the kind %q: choose one of %s", q.Kind,
			strings.Join(account.SensorKinds, ", "))
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	var only []int32
	if q.Host != "" {
		host, err := h.Host(ctx, q.Host)
		if err != nil {
			return nil, err
		}
		only = []int32{host.ID}
	}
	told, err := h.store.Inventories(ctx, only)
	if err != nil {
		return nil, err
	}
	lines := []SensorLine{}
	for i := range hosts {
		inv := told[hosts[i].ID]
		if inv == nil || hosts[i].LastAt == nil {
			continue
		}
		for _, s := range inv.Sensors {
			if (q.Kind == "" || s.Kind == q.Kind) && (q.State == "" || s.State == q.State) {
				lines = append(lines, SensorLine{hosts[i].Name, hosts[i].LastAt.UTC(), s})
			}
		}
	}
	slices.SortStableFunc(lines, func(a, b SensorLine) int {
		return cmp.Or(cmp.Compare(urgency(a.State), urgency(b.State)), cmp.Compare(a.Host, b.Host))
	})
	return lines, nil
}

func urgency(state string) int { return slices.Index(account.SensorStates, state) }
