package kernel

import (
	"os"
	"strconv"
	"strings"
	"syscall"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
)

// A cgroup that is removed takes its files with it, and what it used since the last reading. What is counted in the
// kernel stays: such a cgroup is kept for one reading longer, in which it stands with what it used until its end. One
// that was made and removed between two readings is known from the record of its making.

// numberHierarchies finds the numbers by which the kernel's records tell hierarchies apart, and of the roots that
// their outermost cgroups are in.
func (r *Reader) numberHierarchies() {
	b, err := r.proc.Read(r.proc.At("self/cgroup"))
	if err != nil {
		b = nil
	}
	numbers := map[string]int64{"": 0, "unified": 0}
	for _, line := range strings.Split(string(b), "\n") {
		number, rest, _ := strings.Cut(line, ":")
		controllers, _, _ := strings.Cut(rest, ":")
		n, err := strconv.ParseInt(number, 10, 32)
		for _, c := range strings.Split(controllers, ",") {
			if err == nil && c != "" {
				numbers[c] = n
			}
		}
	}
	for _, h := range r.cgroups.all {
		h.number = -1
		if n, ok := numbers[h.name]; ok {
			h.number = n
		}
		if info, err := os.Stat(h.Root); err == nil {
			if s, ok := info.Sys().(*syscall.Stat_t); ok {
				h.root = s.Ino
			}
		}
	}
}

// find is what is known of a cgroup by its number, though it be gone since the last reading; nil for none.
func (h *hierarchy) find(id uint64) *group {
	if g := h.known[id]; g != nil {
		return g
	}
	return h.gone[id]
}

// keepGone keeps those cgroups for this reading that are not there any more: known ones, and those that were made
// since the last reading and not met in the tree.
func (r *Reader) keepGone(dst *account.Reading) {
	if !r.counters.Has(bpf.Groups) {
		return
	}
	lost, err := r.counters.Made(func(m bpf.Made) {
		for _, h := range r.cgroups.all {
			if int64(m.Hierarchy) == h.number {
				h.made = append(h.made, m)
			}
		}
	})
	if err != nil {
		r.note("cgroups that were made", err)
	} else {
		dst.Caveats[account.GroupsMissed] = int64(lost - r.cgroups.lostMade)
		r.cgroups.lostMade = lost
	}
	for _, h := range r.cgroups.all {
		for _, m := range h.made {
			h.meetGone(r, m)
		}
		h.made = h.made[:0]
	}
}

// meetGone remembers a cgroup that was made since the last reading and is not in the tree.
func (h *hierarchy) meetGone(r *Reader, m bpf.Made) {
	if h.find(m.ID) != nil {
		return
	}
	g := &group{name: m.Name, path: "/" + m.Name, inode: m.ID, gone: true, met: r.count}
	if m.Parent != h.root {
		outer := h.find(m.Parent)
		if outer == nil {
			return // of a part of the tree that is not read
		}
		g.path, g.outer = outer.path+g.path, outer.orOuter()
	}
	g.workload = r.registry.Begins(g.path)
	h.addGone(g)
}

func (h *hierarchy) addGone(g *group) {
	g.gone = true
	h.gone[g.inode] = g
	h.order = append(h.order, g)
}

// dropGone forgets the cgroups that were kept for the last reading. What was counted of them stays with those around
// them.
func (r *Reader) dropGone() {
	for _, h := range r.cgroups.all {
		if len(h.gone) == 0 {
			continue
		}
		h.order = h.order[:len(h.order)-len(h.gone)]
		for _, g := range h.gone {
			r.leaveCounted(h, g)
		}
		clear(h.gone)
	}
}

// visitGone adds a cgroup that is gone with what was counted of it since the last reading. It stands there as one that
// was made since: its counters begin with that.
func (r *Reader) visitGone(h *hierarchy, dst *account.Reading, g *group) {
	if g.counted == nil {
		return
	}
	since := g.counted.since()
	const gone = 1 << 59
	a := nextGroup(dst, g.inode^h.salt^gone, g.workload, g.outer)
	a.Born = r.count > 1
	g.index = int32(len(dst.Groups)) - 1
	if h == r.counting(bpf.CPU) {
		var sum int64
		for _, nanos := range since.perCPU {
			sum += nanos
			a.PerCPU = append(a.PerCPU, nanos/1000)
		}
		a.CPUMicros, a.Has = sum/1000, a.Has|account.HasCPU|account.HasPerCPU
	}
	r.putCounted(h, g, a, &since)
	a.Own = a.Has
}

// nextGroup adds the group of a workload to a reading, with no figures yet.
func nextGroup(dst *account.Reading, id uint64, w account.WorkloadID, outer *group) *account.Group {
	n := len(dst.Groups)
	if n < cap(dst.Groups) {
		dst.Groups = dst.Groups[:n+1] // keeps the slices that stood there
	} else {
		// A group takes over a kilobyte: room for a quarter more would be much.
		more := make([]account.Group, n+1, n+n/16+16)
		copy(more, dst.Groups)
		dst.Groups = more
	}
	a := &dst.Groups[n]
	perCPU, devices := a.PerCPU[:0], a.Devices[:0]
	*a = account.Group{ID: id, Workload: w, Outer: -1, PerCPU: perCPU, Devices: devices}
	if outer != nil {
		a.Outer = outer.index
	}
	return a
}
