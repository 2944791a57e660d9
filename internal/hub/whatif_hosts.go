package hub

import (
	"context"
	"slices"

	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/whatif"
	"vinescale/internal/store"
)

// Emptying tells which hosts could be emptied onto the others, of a pool or of all (""), by what their workloads had in
// a span: at a percentile of their highest ticks, with a part of each host left free.
func (h *Hub) Emptying(ctx context.Context, span question.Span, pool string, percent, spare float64) (*whatif.Emptying,
	error) {
	if !(percent >= 50 && percent <= 100) {
		return nil, problem(Invalid, "a percentile of %g: give 50 to 100", percent)
	}
	if !(spare >= 0 && spare <= 0.9) {
		return nil, problem(Invalid, "%g of each host to stay free: give a part from 0 to 0.9", spare)
	}
	scope, err := h.scope(ctx, span, "")
	if err == nil && pool != "" {
		err = h.within(ctx, &scope, pool)
	}
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return !scope.HasHost(x.ID) || x.CPUs == 0 })
	holdings, users, err := h.holdings(ctx, scope)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	played, err := h.played(ctx, &scope, sizeStepOf(span), amount.CPU, amount.Memory)
	if err != nil {
		return nil, err
	}
	_, lines, err := h.store.AskWithLines(ctx, question.Question{Scope: scope, NoPeaks: true,
		Measures: []amount.Measure{amount.CPU, amount.Memory}, By: []question.Dimension{question.Tenant}})
	if err != nil {
		return nil, err
	}
	alone, err := h.aloneBy(ctx, holdings)
	if err != nil {
		return nil, err
	}
	var rooms []whatif.Room
	for i := range hosts {
		x := &hosts[i]
		room := whatif.Room{Host: x.Name, CPUs: float64(x.CPUs), Memory: float64(x.MemoryBytes)}
		if s, is := lines.ByHost[x.ID]; is && s.ElapsedMillis > 0 {
			room.OwnCPU = amount.CPU.Mean(s.Of[0].Kernel.Units, s.ElapsedMillis)
			room.OwnMemory = amount.Memory.Mean(s.Of[1].Kernel.Units, s.ElapsedMillis)
		}
		if room.GPUs, err = h.gpusOf(ctx, x.ID); err != nil {
			return nil, err
		}
		for k := range holdings {
			if holdings[k].Host == x.Name {
				room.Loads = append(room.Loads, loadOf(&holdings[k], names, played[holdings[k].User.Workload], percent,
					alone[holdings[k].User.Workload]))
			}
		}
		rooms = append(rooms, room)
	}
	return whatif.Empty(rooms, percent, spare), nil
}

// movable are the kinds of workloads that could run on another host.
var movable = []amount.Kind{amount.Container, amount.VM, amount.Job}

// loadOf is what a workload needs.
func loadOf(x *explain.Holding, names explain.Names, steps map[amount.Resource][]whatif.Step, percent float64,
	alone int) whatif.Load {
	who := names(x.User)
	l := whatif.Load{ID: who.ID, Name: who.Name, Tenant: who.Tenant, IsBound: !slices.Contains(movable, x.Kind)}
	peaks := func(r amount.Resource) (list []float64) {
		for _, s := range steps[r] {
			list = append(list, max(s.Peak, s.Mean))
		}
		return list
	}
	l.CPU = max(whatif.Percentile(peaks(amount.CPU), percent), float64(alone))
	l.Memory = whatif.Percentile(peaks(amount.Memory), percent)
	if set, err := cpuset.Parse(x.Held.GPUs); err == nil {
		l.GPUs = set.Len()
	}
	return l
}

// aloneBy is how many CPUs are declared for workloads alone. Of several workloads of one holder on a host the first has
// them.
func (h *Hub) aloneBy(ctx context.Context, holdings []explain.Holding) (map[int64]int, error) {
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(holdings))
	for i := range holdings {
		ids[i] = holdings[i].User.Workload
	}
	stored, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	now := h.options.Now()
	alone := map[int64]int{}
	for i := range pins {
		p := &pins[i]
		if !p.Exclusive || p.Ends(now) || p.From.After(now) {
			continue
		}
		holds, err := h.holds(ctx, p, stored)
		if err != nil {
			return nil, err
		}
		for k := range holdings {
			if holdings[k].Host == p.Host.Name && holds(holdings[k].User) {
				alone[holdings[k].User.Workload] += declaredCPUs(p.CPUs).Len()
				break
			}
		}
	}
	return alone, nil
}

// gpusOf is how many GPUs a host has.
func (h *Hub) gpusOf(ctx context.Context, host int32) (int, error) {
	inventories, err := h.store.Inventories(ctx, []int32{host})
	if inv := inventories[host]; inv != nil {
		return len(inv.GPUs), err
	}
	return 0, err
}
