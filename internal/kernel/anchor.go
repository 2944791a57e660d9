package kernel

import (
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
)

// Where the kernel counts who runs at each switch, all cgroups are read in one go, close to the host's own count. Their
// files are read one after the other: on a busy host some time passes until the last, and what ran meanwhile would be
// in this interval for the one and in the next for the other. So a file says once how much there was when counting
// began, and again where something was not counted.

// anchor is by how much the files of a cgroup's CPU time told more than was counted, when they were read.
type anchor struct {
	known  bool
	ran    bool // something did, since its figures were last read that are read now and then
	micros int64
	perCPU []int64
	has    account.Has
	// How many periods of a limit its file told last, when they were more than before, and whether they may still be
	// growing: what used up its limit for longer than a period is held back through others, in which nothing runs.
	periods int64
	grew    time.Duration
	held    bool
}

// longestPeriod is the most that a period of a limit on CPU time may take (the kernel's "CFS Bandwidth Control").
const longestPeriod = time.Second

// setPeriods holds how many periods of a limit a file told at an instant of the host's clock.
func (x *anchor) setPeriods(n int64, at time.Duration) {
	if n != x.periods {
		x.periods, x.grew = n, at
	}
	x.held = at-x.grew <= longestPeriod
}

// ofRunning are the figures read now and then that stay as they are while nothing runs. What is ready to run and waits
// runs sooner or later, and is in the stalls that are read then.
var ofRunning = []amount.Measure{amount.CPUUser, amount.CPUSystem, amount.CPUPeriods, amount.CPUThrottledPeriods,
	amount.CPUThrottled}

var stallsOfRunning = []amount.Measure{amount.CPUPressureSome, amount.CPUPressureFull}

// isAnchored tells whether a group's CPU time is known by what was counted, without its files.
func (r *Reader) isAnchored(h *hierarchy, g *group) bool {
	return g.anchor.known && h == r.counting(bpf.CPU) && !r.cgroups.unread && !r.cgroups.unplaced
}

// rests tells whether nothing has run in a group, nor within it, since the last reading, and nothing was held back. It
// is known where CPU time is counted, and in the version 2 hierarchy beside.
func (r *Reader) rests(h *hierarchy, g *group) bool {
	rests := g.visits > 1 && r.counters.Has(bpf.CPU) && !r.cgroups.unread && !r.cgroups.unplaced &&
		(h == r.counting(bpf.CPU) && g.anchor.known || h.name == "unified") && !g.anchor.held &&
		(g.counted == nil || slices.Equal(g.counted.whole.perCPU, g.counted.last.perCPU))
	g.anchor.ran = g.anchor.ran || !rests
	return rests
}

// setAnchor holds what files told of a group's CPU time against what was counted of it until this reading. One that
// was made since the last reading has what was counted, and nothing before.
func (r *Reader) setAnchor(h *hierarchy, g *group, a *account.Group) {
	if h != r.counting(bpf.CPU) {
		return
	}
	x := &g.anchor
	x.known = a.Has&account.HasCPU != 0 && !r.cgroups.unread
	if !x.known {
		return
	}
	w := g.countedWhole()
	x.has, x.micros = a.Has&(account.HasCPU|account.HasPerCPU), a.CPUMicros-w.micros()
	x.perCPU = append(x.perCPU[:0], a.PerCPU...)
	for cpu, nanos := range w.perCPU {
		if cpu < len(x.perCPU) {
			x.perCPU[cpu] -= nanos / 1000
		}
	}
	if a.Born && !r.cgroups.unplaced {
		x.micros = 0
		clear(x.perCPU)
		a.PerCPU = a.PerCPU[:0]
		r.putAnchored(g, a)
	}
}

// putAnchored puts the CPU time that was counted of a group into the reading, on what there was before.
func (r *Reader) putAnchored(g *group, a *account.Group) {
	w := g.countedWhole()
	a.CPUMicros, a.Has = g.anchor.micros+w.micros(), a.Has|g.anchor.has
	a.PerCPU = append(a.PerCPU, g.anchor.perCPU...)
	for cpu, nanos := range w.perCPU {
		if cpu < len(a.PerCPU) {
			a.PerCPU[cpu] += nanos / 1000
		}
	}
}

// countedWhole is what was counted of a group, and of all within it.
func (g *group) countedWhole() *figures {
	if g.counted == nil {
		return &figures{}
	}
	return &g.counted.whole
}

// clearSlow forgets the figures that are read now and then. Those of CPU time stay where they will not be read again:
// in version 2 of a group at rest, in version 1 of one in which nothing ran since they were read.
func (r *Reader) clearSlow(g *group, rests bool) {
	was := g.slow
	g.slow.Clear()
	keep := func(list []amount.Measure) {
		for _, m := range list {
			if units, ok := was.Get(m); ok {
				g.slow.Put(m, units, was.Source[m])
			}
		}
	}
	if !g.anchor.ran {
		keep(stallsOfRunning)
	}
	if r.cgroups.v2 && rests || !r.cgroups.v2 && !g.anchor.ran {
		keep(ofRunning)
	}
}
