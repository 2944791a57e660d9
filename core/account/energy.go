package account

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// drawnSince is how much a meter counted since an earlier reading of it, in microjoules. One that tells power was that
// high, in the mean of both readings, all the time between.
func (m *Meter) drawnSince(was *Meter, elapsedMillis int64) int64 {
	switch {
	case m.IsPower:
		return (m.MicroWatts + was.MicroWatts) / 2 * elapsedMillis / 1000
	case m.MicroJoules >= was.MicroJoules:
		return m.MicroJoules - was.MicroJoules
	case m.Range > was.MicroJoules: // it came to its end and began again
		return m.Range - was.MicroJoules + m.MicroJoules
	}
	return m.MicroJoules // it was set back
}

// notMetered is why the energy of an interval is not known although there are meters.
const notMetered = "its meters of energy were not there at the reading before"

// draw is what a host drew between two readings, in microjoules.
type draw struct {
	all  int64
	host int64            // of all, what is not of the GPUs below
	gpus map[string]int64 // of all, by the GPUs that have meters of their own
}

// metered adds up the meters: none is within another, but the meter of a whole host has all others in it.
func metered(prev, now *Reading, elapsedMillis int64) (d draw, why string) {
	if len(now.Meters) == 0 {
		return d, NotRead
	}
	d.gpus = map[string]int64{}
	var gpus, others int64
	whole := int64(-1)
	for i := range now.Meters {
		m := &now.Meters[i]
		j := slices.IndexFunc(prev.Meters, func(was Meter) bool {
			return was.Name == m.Name && was.IsPower == m.IsPower
		})
		switch {
		case j < 0 && m.GPU != "":
			continue // a GPU that is new, or was not told of for a while
		case j < 0:
			return d, notMetered
		}
		drawn := m.drawnSince(&prev.Meters[j], elapsedMillis)
		switch {
		case m.Whole:
			whole = drawn
		case m.GPU != "":
			d.gpus[m.GPU] += drawn
			gpus += drawn
		default:
			others += drawn
		}
	}
	d.all, d.host = gpus+others, others
	if whole >= 0 {
		d.all, d.host = whole, max(whole-gpus, 0)
		if gpus > whole { // meters are not read at one moment
			d.scale(whole, gpus)
		}
	}
	return d, ""
}

// scale makes what the GPUs drew so much in all, of so much that it was.
func (d *draw) scale(to, from int64) {
	for name, drawn := range d.gpus {
		d.gpus[name] = mulDiv(drawn, to, max(from, 1))
	}
}

// rest takes off what is drawn at rest: of the host what was declared, and all that GPUs drew that had no work.
func (d *draw) rest(declared int64, sums *gpuSums) (rest int64) {
	rest = min(declared, d.host)
	d.host -= rest
	for name, drawn := range d.gpus {
		if g := sums.byName[name]; g != nil && g.busy == 0 && len(g.shares) == 0 {
			rest += drawn
			delete(d.gpus, name)
		}
	}
	return rest
}

// splitEnergy divides what a host drew: what it draws at rest, where that is declared, is idle; the rest is the
// workloads' and the kernel's by their CPU time. What a GPU with a meter of its own drew is the workloads' by the time
// in which it worked for each. What nobody was charged such time for is in the residual. The lines of the other ledgers
// are there already.
//
// Its capacity is all that was drawn.
func (iv *Interval) splitEnergy(prev, now *Reading, gpus *gpuSums) Ledger {
	drawn, why := metered(prev, now, iv.ElapsedMillis)
	if why = cmp.Or(now.Unavailable[amount.Energy], why); why != "" {
		return NoLedger(why)
	}
	l := Ledger{Used: Line{Units: drawn.all}, Steal: unavailable(noSteal),
		Capacity: unavailable("what this host draws at rest is not declared"), Idle: unavailable(
			"what this host draws at rest is not declared")}
	if rest := now.IdleMicroWatts * iv.ElapsedMillis / 1000; rest > 0 {
		l.Capacity = Line{Units: drawn.all}
		rest = drawn.rest(rest, gpus)
		l.Idle, l.Used = Line{Units: rest}, Line{Units: drawn.all - rest}
	}
	cpu := &iv.Ledgers[amount.CPU]
	var shares int64
	for i := range iv.Usages {
		shares += iv.Usages[i].Units[amount.CPU]
	}
	kernel := max(cpu.Kernel.Units, 0)
	whole := max(cpu.Used.Units-cpu.Steal.Units, shares+kernel, 1) // of CPU time, in which the host worked
	for i := range iv.Usages {
		u := &iv.Usages[i]
		if u.Source[amount.CPU] == amount.Unavailable {
			continue
		}
		u.Source[amount.Energy] = amount.Split
		byCPU := mulDiv(drawn.host, u.Units[amount.CPU], whole)
		byGPU := gpus.drawnFor(u.Workload, drawn.gpus)
		u.Units[amount.Energy] = byCPU + byGPU
		u.Peak[amount.Energy] = u.Units[amount.Energy] * 1000 / iv.ElapsedMillis
		u.divideEnergy(amount.CPU, byCPU)
		u.divideEnergy(amount.GPU, byGPU)
	}
	l.Kernel = Line{Units: mulDiv(drawn.host, kernel, whole)}
	return l
}

// drawnFor is what GPUs drew for a workload, of what each drew.
func (sum *gpuSums) drawnFor(w WorkloadID, drawn map[string]int64) (units int64) {
	for name, joules := range drawn {
		g := sum.byName[name]
		if g == nil || g.shares[w] == 0 {
			continue
		}
		whole := g.busy
		var shares int64
		for _, micros := range g.shares {
			shares += micros
		}
		units += mulDiv(joules, g.shares[w], max(whole, shares))
	}
	return units
}

// divideEnergy gives each program its part of so much energy, by its part of a resource. The parts add up to the whole
// exactly. What is of a GPU whose time is not in the ledger is nobody's of the programs.
func (u *Usage) divideEnergy(by amount.Resource, energy int64) {
	var before, given int64 // of the resource, and of the energy
	for i := range u.Programs {
		p := &u.Programs[i]
		if before += p.Units[by]; before > 0 {
			part := mulDiv(energy, before, u.Units[by]) - given
			p.Units[amount.Energy] += part
			given += part
		}
	}
	if given < energy { // only where the resource has no programs
		u.noProgram().Units[amount.Energy] += energy - given
	}
}

// noProgram is the part of a usage that no living process explains.
func (u *Usage) noProgram() *ProgramUse {
	if len(u.Programs) == 0 || u.Programs[0].Program != NoProgram {
		u.Programs = slices.Insert(slices.Clip(u.Programs), 0, ProgramUse{Family: NoProgram, Program: NoProgram})
	}
	return &u.Programs[0]
}
