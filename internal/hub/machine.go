package hub

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vinescale/core/account"
)

// Machine is what a host is made of, as it told last.
type Machine struct {
	At *time.Time `json:"at" doc:"When it told; null where it never did."`
	account.Machine
	Devices []account.Device `json:"devices" doc:"Block devices, drives and what is on them."`
	Swaps   []account.Swap   `json:"swaps"`
	GPUs    []string         `json:"gpus" doc:"Its GPUs by their numbers and models; partitions after their card."`
	Sensors int              `json:"sensors" doc:"How many it has."`
	Reason  string           `json:"unavailable,omitempty" doc:"Why nothing is known."`
}

// Machine answers what a host is made of.
func (h *Hub) Machine(ctx context.Context, hostName string) (*Machine, error) {
	host, err := h.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	inv, at, err := h.store.Inventory(ctx, host.ID)
	if err != nil {
		return nil, err
	}
	m := &Machine{Reason: account.NotRead}
	if inv != nil {
		m.At, m.Devices, m.Swaps, m.Sensors = &at, inv.Devices, inv.Swaps, len(inv.Sensors)
		m.GPUs = gpuNames(inv.GPUs)
		if inv.Machine != nil {
			m.Machine, m.Reason = *inv.Machine, ""
		}
	}
	// A list that is empty is told as one, whatever the collector sent.
	m.Facts, m.Modules, m.Links = orEmpty(m.Facts), orEmpty(m.Modules), orEmpty(m.Links)
	m.GPUs, m.Stuck = orEmpty(m.GPUs), orEmpty(m.Stuck)
	m.Starts, m.Failed, m.Devices, m.Swaps = orEmpty(m.Starts), orEmpty(m.Failed), orEmpty(m.Devices), orEmpty(m.Swaps)
	return m, nil
}

// gpuNames lists cards by number, model, and what is wrong where they are not there any more.
func gpuNames(sheets []account.GPUSheet) (names []string) {
	for i := range sheets {
		s := &sheets[i]
		if s.Card != "" {
			continue
		}
		name := strings.TrimSpace(fmt.Sprintf("%d %s", s.Index, s.Title))
		if s.State == account.GPULost {
			name += " (lost)"
		}
		names = append(names, name)
	}
	return names
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
