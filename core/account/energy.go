package account

import (
	"cmp"

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

// metered is what a host drew between two readings, in microjoules: all meters added, for none is within another.
func metered(prev, now *Reading, elapsedMillis int64) (sum int64, why string) {
	if len(now.Meters) == 0 {
		return 0, NotRead
	}
	for i := range now.Meters {
		m, found := &now.Meters[i], false
		for j := range prev.Meters {
			if was := &prev.Meters[j]; was.Name == m.Name && was.IsPower == m.IsPower {
				sum, found = sum+m.drawnSince(was, elapsedMillis), true
			}
		}
		if !found {
			return 0, notMetered
		}
	}
	return sum, ""
}

// splitEnergy divides what a host drew: what it draws at rest, where that is declared, is idle; the rest is the
// workloads' and the kernel's by their CPU time, and what nobody was charged CPU time for is in the residual. The CPU
// ledger's lines are there already.
//
// Its capacity is all that was drawn.
func (iv *Interval) splitEnergy(prev, now *Reading) Ledger {
	drawn, why := metered(prev, now, iv.ElapsedMillis)
	if why = cmp.Or(now.Unavailable[amount.Energy], why); why != "" {
		return NoLedger(why)
	}
	l := Ledger{Used: Line{Units: drawn}, Steal: unavailable(noSteal),
		Capacity: unavailable("what this host draws at rest is not declared"), Idle: unavailable(
			"what this host draws at rest is not declared")}
	if rest := now.IdleMicroWatts * iv.ElapsedMillis / 1000; rest > 0 {
		rest = min(rest, drawn)
		l.Capacity, l.Idle, l.Used = Line{Units: drawn}, Line{Units: rest}, Line{Units: drawn - rest}
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
		u.Units[amount.Energy] = mulDiv(l.Used.Units, u.Units[amount.CPU], whole)
		u.Peak[amount.Energy] = u.Units[amount.Energy] * 1000 / iv.ElapsedMillis
		u.divideEnergy()
	}
	l.Kernel = Line{Units: mulDiv(l.Used.Units, kernel, whole)}
	return l
}

// divideEnergy gives each program its part, by its CPU time. The parts add up to the whole exactly.
func (u *Usage) divideEnergy() {
	var before, given int64 // of the CPU time, and of the energy
	for i := range u.Programs {
		p := &u.Programs[i]
		if before += p.Units[amount.CPU]; before > 0 {
			p.Units[amount.Energy] = mulDiv(u.Units[amount.Energy], before, u.Units[amount.CPU]) - given
			given += p.Units[amount.Energy]
		}
	}
}
