package explain

import (
	"slices"

	"vinescale/core/cpuset"
)

// rehearse plays the span again with the plan in force, and keeps the verdicts on it.
func (p *PinPlan) rehearse(h *PlanHost, ask *PinAsk, best *PlanLooked) {
	pin := &Pin{Host: h.Host, CPUs: best.layout.CPUs, Kind: ask.Kind, Holder: ask.Holder, Exclusive: ask.Alone,
		From: p.From, Holds: h.Holds}
	ground := h.rehearsed(p, pin)
	ground.Pins = []*Pin{pin}
	for _, x := range h.Pins {
		if !h.isHolders(ask, x) {
			ground.Pins = append(ground.Pins, x)
		}
	}
	left := best.layout.Left
	if ask.Alone {
		p.Left.Before = left.Union(best.layout.CPUs).Minus(
			h.declaredFor(func(x *Pin) bool { return h.isHolders(ask, x) && x.Exclusive })).String()
	} else {
		left = left.Union(best.layout.CPUs)
		p.Left.Before = left.String()
	}
	p.Left.After = left.String()
	before, _ := cpuset.Parse(p.Left.Before) // made above
	p.Left.BusyBefore, p.Left.BusyAfter = h.Gathering.busy(h.Host.ID, before), ground.Gathering.busy(h.Host.ID, left)
	for _, v := range AuditPin(p.From, p.To, pin, ground).Verdicts {
		if v.Verdict == PinIdle && len(p.Holders) == 0 {
			continue // what is not there yet is not idle
		}
		p.Expected = append(p.Expected, v)
	}
}

// busy is the part of the time in which some CPUs were busy; nil where that is told of none.
func (g *Gathering) busy(host int32, cpus cpuset.Set) *float64 {
	capacity, idle := 0.0, 0.0
	for _, cpu := range cpus.CPUs() {
		if s := g.cpus[host][cpu]; s != nil {
			capacity += float64(g.elapsed[host]) * 1e3
			idle += float64(s.Idle + s.IOWait)
		}
	}
	if capacity == 0 {
		return nil
	}
	part := 1 - idle/capacity
	return &part
}

// rehearsed is what is known of the host, had everybody run where the plan lets them.
func (h *PlanHost) rehearsed(p *PinPlan, pin *Pin) *PinGround {
	then := map[int64]cpuset.Set{}
	for i := range p.Movers {
		then[p.Movers[i].ID], _ = cpuset.Parse(p.Movers[i].Then) // made by moves
	}
	g := &PinGround{Gathering: NewGathering(), Names: h.Names, Present: slices.Clone(h.Present)}
	present := map[int64]bool{}
	for i := range g.Present {
		w := &g.Present[i]
		present[w.Workload] = true
		switch to, moves := then[w.Workload]; {
		case h.Holds(w.User):
			w.Allowed, w.Masks = pin.CPUs.String(), ""
		case moves:
			w.Allowed = to.String()
		}
	}
	was, is := map[int]float64{}, map[int]float64{} // what workloads ran, by CPU
	for _, ran := range h.Ran {
		was[ran.CPU] += ran.Micros
		to := cpuset.Of(ran.CPU)
		switch target, moves := then[ran.Workload]; {
		case h.Holds(ran.User):
			to = pin.CPUs
		case moves && pin.CPUs.Has(ran.CPU):
			to = target
		case pin.Exclusive && pin.CPUs.Has(ran.CPU) && !h.isKernel(ran.User) && !present[ran.Workload]:
			to = h.places().All().Minus(pin.CPUs) // it has ended; its like will come and run elsewhere
		}
		n := to.Len()
		for _, cpu := range to.CPUs() {
			x := ran
			x.CPU, x.Micros = cpu, ran.Micros/float64(n)
			is[cpu] += x.Micros
			g.Ran = append(g.Ran, x)
		}
	}
	g.Ran = mergedUses(g.Ran)
	h.squeeze(p, g.Ran, is, was)
	g.Gathering.elapsed, g.Gathering.measures = h.Gathering.elapsed, h.Gathering.measures
	g.Gathering.cpus = map[int32]map[int]*cpuStates{h.Host.ID: {}}
	for cpu, s := range h.Gathering.cpus[h.Host.ID] {
		g.Gathering.cpus[h.Host.ID][cpu] = s.with(int64(is[cpu] - was[cpu]))
	}
	return g
}

// with is the states of a CPU on which tasks ran for so many microseconds more: idle time becomes user time, as far as
// there is any.
func (s *cpuStates) with(more int64) *cpuStates {
	x := *s
	if more > 0 {
		more = min(more, x.Idle+x.IOWait)
	}
	fromIdle := min(more, x.Idle)
	x.Idle, x.IOWait = x.Idle-fromIdle, x.IOWait-(more-fromIdle)
	x.User, x.ran = x.User+more, x.ran+more
	return &x
}

// mergedUses has each user once a CPU.
func mergedUses(uses []CPUUse) []CPUUse {
	type key struct {
		User
		cpu int
	}
	at := map[key]int{}
	merged := uses[:0]
	for _, x := range uses {
		k := key{x.User, x.CPU}
		i, is := at[k]
		if !is {
			at[k], merged = len(merged), append(merged, x)
			continue
		}
		merged[i].Micros += x.Micros
		merged[i].Source = merged[i].Source.Weaker(x.Source)
	}
	return merged
}

// squeeze cuts what was laid onto CPUs down to the time that these have, and notes how much did not fit: that long it
// would have waited at least, and ended later.
func (h *PlanHost) squeeze(p *PinPlan, ran []CPUUse, is, was map[int]float64) {
	unfit := 0.0
	fits := map[int]float64{} // by CPU, the part of what was laid there that fits
	for cpu, micros := range is {
		room := float64(h.Gathering.elapsed[h.Host.ID]) * 1e3
		if s := h.Gathering.cpus[h.Host.ID][cpu]; s != nil {
			room -= float64(s.IRQ + s.SoftIRQ + s.Steal)
		}
		fits[cpu] = 1
		if room = max(room, 0); micros > max(room, was[cpu]) {
			fits[cpu] = max(room, was[cpu]) / micros
			unfit += micros - max(room, was[cpu])
			is[cpu] = max(room, was[cpu])
		}
	}
	for i := range ran {
		ran[i].Micros *= fits[ran[i].CPU]
	}
	if unfit >= 1e6 {
		p.Notes = append(
			p.Notes,
			"of what ran in the span "+seconds(unfit/1e6)+" would not have fitted: so much would "+
				"have waited at least, and ended later",
		)
	}
}
