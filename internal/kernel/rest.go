package kernel

import (
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
)

// Most cgroups of a host are at rest at any moment: nothing has run in them since the last reading. Where the kernel
// counts who runs at each switch, that is known, and the files of their CPU time, which would say what they said, need
// not be read. Every so many readings they are read all the same, to be sure.

// resting is what is remembered of a group while nothing runs in it.
type resting struct {
	known  bool
	ran    bool // since its figures were last read that are read now and then
	micros int64
	perCPU []int64
	has    account.Has
}

// ofRunning are the figures read now and then that stay as they are while nothing runs.
var ofRunning = []amount.Measure{amount.CPUUser, amount.CPUSystem, amount.CPUPeriods, amount.CPUThrottledPeriods,
	amount.CPUThrottled}

// rests tells whether what was last read of a group's CPU time holds still.
func (r *Reader) rests(h *hierarchy, g *group) bool {
	if r.mayHaveRun(h, g) {
		g.rest.ran = true
		return false
	}
	return (r.count+g.turn)%r.options.RecheckEvery != 0
}

// mayHaveRun tells whether anything may have run in a group, or within it, since the last reading.
func (r *Reader) mayHaveRun(h *hierarchy, g *group) bool {
	if !g.rest.known || h != r.counting(bpf.CPU) || r.cgroups.unplaced {
		return true
	}
	return g.counted != nil && !slices.Equal(g.counted.whole.perCPU, g.counted.last.perCPU)
}

// remember keeps what was read of a group's CPU time.
func (g *group) remember(a *account.Group) {
	const ofCPU = account.HasCPU | account.HasPerCPU
	g.rest.known = a.Has&account.HasCPU != 0
	g.rest.ran = g.rest.ran || a.CPUMicros != g.rest.micros
	g.rest.micros, g.rest.has = a.CPUMicros, a.Has&ofCPU
	g.rest.perCPU = append(g.rest.perCPU[:0], a.PerCPU...)
}

// recall puts what was last read of a group's CPU time into the reading.
func (g *group) recall(a *account.Group) {
	a.CPUMicros, a.Has = g.rest.micros, a.Has|g.rest.has
	a.PerCPU = append(a.PerCPU, g.rest.perCPU...)
}

// clearSlow forgets the figures that are read now and then. Those of CPU time stay where they will not be read again:
// in version 2 of a group at rest, in version 1 of one in which nothing ran since they were read.
func (r *Reader) clearSlow(g *group, rests bool) {
	was := g.slow
	g.slow.Clear()
	if r.cgroups.v2 && !rests || !r.cgroups.v2 && g.rest.ran {
		return
	}
	for _, m := range ofRunning {
		if units, ok := was.Get(m); ok {
			g.slow.Put(m, units, was.Source[m])
		}
	}
}
