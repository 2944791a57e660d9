package kernel

import (
	"bytes"
	"path/filepath"
	"strconv"

	"vinescale/core/account"
)

// hierarchy is one cgroup tree: the only one of version 2, or one controller's of version 1.
type hierarchy struct {
	*tree
	name  string // "" for version 2, else the controller: cpuacct, memory or unified
	salt  uint64
	known map[uint64]*group // by inode
	gen   int64
	bufs  [][]byte // a directory buffer per depth
	queue []byte
}

// group is what is remembered of one cgroup directory.
type group struct {
	name     string // last part of the path
	path     string
	workload account.WorkloadID // that begins here
	gen      int64              // last walk it was seen in
	retries  int                // how often an unrecognised one is asked about again: a runtime writes its state after making the cgroup
	held     int                // how often it was read: its limits are read again now and then
}

func openHierarchy(root, name string, n uint64) (*hierarchy, error) {
	t, err := openTree(root)
	if err != nil {
		return nil, err
	}
	return &hierarchy{tree: t, name: name, salt: (n + 1) << 61, known: map[uint64]*group{}, queue: make([]byte, 0, 4096)}, nil
}

// readGroups walks every hierarchy and reads the counters of each directory at which a workload begins.
func (r *Reader) readGroups(dst *account.Reading) {
	dst.Groups = dst.Groups[:0]
	for _, h := range r.cgroups {
		h.gen++
		h.walk(r, dst, h.queue[:0], 0, -1)
		if h.gen%r.options.RecheckEvery == 0 {
			for inode, g := range h.known {
				if g.gen < h.gen {
					delete(h.known, inode)
				}
			}
		}
	}
}

const maxDepth = 64

func (h *hierarchy) walk(r *Reader, dst *account.Reading, path []byte, depth int, outer int32) {
	if depth >= maxDepth {
		return
	}
	for len(h.bufs) <= depth {
		h.bufs = append(h.bufs, make([]byte, 8<<10))
	}
	dir := append(h.at(), '.')
	dir = append(dir, path...)
	err := h.list(dir, h.bufs[depth], func(e entry) {
		if !e.isDir {
			return
		}
		child := append(append(path, '/'), e.name...)
		mine := outer
		if h.name != "unified" || r.v2 {
			mine = r.visit(h, dst, child, e, outer)
		} else {
			r.meet(h, child, e)
		}
		h.walk(r, dst, child, depth+1, mine)
	})
	if err != nil && !gone(err) {
		r.note(filepath.Join(h.root, string(path)), err)
	}
}

// meet remembers a directory and says which workload begins at it.
func (r *Reader) meet(h *hierarchy, path []byte, e entry) (g *group, born bool) {
	g = h.known[e.inode]
	if g == nil || g.name != string(e.name) {
		g = &group{name: string(e.name), path: string(path), workload: r.registry.Begins(string(path))}
		h.known[e.inode] = g
		born = h.gen > 1
		r.forget(g)
	}
	if g.workload == account.Unrecognised && g.retries < 3 {
		g.retries++
		if g.workload = r.registry.Begins(g.path); g.workload != account.Unrecognised {
			r.forget(g)
		}
	}
	g.gen = h.gen
	return g, born
}

// forget drops what was concluded of processes' cgroups while a directory was not recognised.
func (r *Reader) forget(g *group) {
	if g.workload != account.Unrecognised {
		clear(r.paths)
		r.pathsAge = r.count
	}
}

// visit adds the group that begins at a directory, if any, and returns the index of the nearest group at or above it.
func (r *Reader) visit(h *hierarchy, dst *account.Reading, path []byte, e entry, outer int32) int32 {
	g, born := r.meet(h, path, e)
	if g.workload == account.Unrecognised {
		return outer
	}
	n := len(dst.Groups)
	if n < cap(dst.Groups) {
		dst.Groups = dst.Groups[:n+1] // keeps the PerCPU slice that stood there
	} else {
		dst.Groups = append(dst.Groups, account.Group{})
	}
	a := &dst.Groups[n]
	*a = account.Group{ID: e.inode ^ h.salt, Workload: g.workload, Outer: outer, Born: born, PerCPU: a.PerCPU[:0]}
	switch {
	case r.v2:
		r.readV2(h, path, a)
	case h.name == "cpuacct":
		r.readV1CPU(h, path, a)
	case h.name == "memory":
		r.readV1Memory(h, path, a)
	}
	if g.held++; int64(g.held)%r.options.RecheckEvery == 1 {
		r.readHeld(h, path, a.Workload)
	}
	return int32(n)
}

// counter reads a file of one cgroup; nil when it is gone or not there, which only leaves the figure out.
func (r *Reader) counter(h *hierarchy, dir []byte, file string) []byte {
	p := append(h.at(), '.')
	p = append(p, dir...)
	p = append(p, '/')
	p = append(p, file...)
	b, err := h.read(p)
	if err != nil {
		if !gone(err) {
			r.note(filepath.Join(h.root, string(dir), file), err)
		}
		return nil
	}
	return b
}

func (r *Reader) garbage(h *hierarchy, dir []byte, file string) {
	r.note(filepath.Join(h.root, string(dir), file), nil)
}

// readV2 reads the counters of the kernel's "Control Group v2" documentation.
func (r *Reader) readV2(h *hierarchy, dir []byte, a *account.Group) {
	if b := r.counter(h, dir, "cpu.stat"); b != nil {
		if n, ok := keyed(b, "usage_usec"); ok {
			a.CPUMicros, a.Has = n, a.Has|account.HasCPU
		} else {
			r.garbage(h, dir, "cpu.stat")
		}
	}
	if b := r.counter(h, dir, "memory.current"); b != nil {
		if n, ok := number(trimNewline(b)); ok {
			a.MemoryBytes, a.Has = n, a.Has|account.HasMemory
		} else {
			r.garbage(h, dir, "memory.current")
		}
	}
	if b := r.counter(h, dir, "memory.stat"); b != nil {
		a.FileBytes, _ = keyed(b, "file")
		a.KernelBytes, _ = keyed(b, "kernel")
	}
	if b := r.counter(h, dir, "io.stat"); b != nil {
		if n, ok := ioStat(b, r.isDiskNumber); ok {
			a.DiskBytes, a.Has = n, a.Has|account.HasDisk
		} else {
			r.garbage(h, dir, "io.stat")
		}
	}
}

// readV1CPU reads the kernel's "CPU Accounting Controller" files, nanoseconds. usage_percpu is exact; the user and
// system split of the same controller is sampled by ticks and not used.
func (r *Reader) readV1CPU(h *hierarchy, dir []byte, a *account.Group) {
	b := r.counter(h, dir, "cpuacct.usage")
	if b == nil {
		return
	}
	n, ok := number(trimNewline(b))
	if !ok {
		r.garbage(h, dir, "cpuacct.usage")
		return
	}
	a.CPUMicros, a.Has = n/1000, a.Has|account.HasCPU
	if b = r.counter(h, dir, "cpuacct.usage_percpu"); b == nil {
		return
	}
	for b = trimNewline(b); len(b) > 0; {
		var n int64
		if n, b, ok = nextNumber(b); !ok {
			r.garbage(h, dir, "cpuacct.usage_percpu")
			return
		}
		a.PerCPU = append(a.PerCPU, n/1000)
		b = bytes.TrimLeft(b, " ")
	}
	if len(a.PerCPU) > 0 {
		a.Has |= account.HasPerCPU
	}
}

// readV1Memory reads the kernel's "Memory Resource Controller" files.
func (r *Reader) readV1Memory(h *hierarchy, dir []byte, a *account.Group) {
	b := r.counter(h, dir, "memory.usage_in_bytes")
	if b == nil {
		return
	}
	n, ok := number(trimNewline(b))
	if !ok {
		r.garbage(h, dir, "memory.usage_in_bytes")
		return
	}
	a.MemoryBytes, a.Has = n, a.Has|account.HasMemory
	if b = r.counter(h, dir, "memory.stat"); b != nil {
		a.FileBytes, _ = keyed(b, "total_cache")
	}
	if b = r.counter(h, dir, "memory.kmem.usage_in_bytes"); b != nil {
		a.KernelBytes, _ = number(trimNewline(b))
	}
}

// readHeld records what a cgroup's workload may use at most: cpu.max and memory.max of version 2 (the kernel's "Control
// Group v2"), cpu.cfs_quota_us and memory.limit_in_bytes of version 1. No limit, and one as large as the host, is none.
func (r *Reader) readHeld(h *hierarchy, dir []byte, w account.WorkloadID) {
	switch {
	case r.v2:
		if b := r.counter(h, dir, "cpu.max"); b != nil {
			quota, rest := field(trimNewline(b))
			r.limitCPU(w, quota, rest)
		}
		r.limitMemory(h, dir, "memory.max", w)
	case h.name == "cpuacct" && r.limits != nil:
		read := func(file string) []byte {
			b, err := r.limits.read(append(append(append(r.limits.at(), '.'), dir...), file...))
			if err != nil {
				return nil
			}
			return bytes.Clone(trimNewline(b))
		}
		r.limitCPU(w, read("/cpu.cfs_quota_us"), read("/cpu.cfs_period_us"))
	case h.name == "memory":
		r.limitMemory(h, dir, "memory.limit_in_bytes", w)
	}
}

func (r *Reader) limitCPU(w account.WorkloadID, quota, period []byte) {
	q, ok1 := number(quota)
	p, _, ok2 := nextNumber(period)
	value := ""
	if ok1 && ok2 && p > 0 {
		if cores := float64(q) / float64(p); cores < float64(r.cpus) {
			value = strconv.FormatFloat(cores, 'g', 6, 64)
		}
	}
	r.registry.SetFact(w, account.FactCPULimit, value)
}

func (r *Reader) limitMemory(h *hierarchy, dir []byte, file string, w account.WorkloadID) {
	value := ""
	if b := r.counter(h, dir, file); b != nil {
		if n, ok := number(trimNewline(b)); ok && n < r.memory {
			value = strconv.FormatInt(n, 10)
		}
	}
	r.registry.SetFact(w, account.FactMemoryLimit, value)
}

// owns finds the workload of a process by the content of its cgroup file (cgroups(7)): the innermost workload that
// begins at or above its path, in the hierarchies read, version 1 before version 2.
func (r *Reader) owns(content []byte) account.WorkloadID {
	found, at := account.Unrecognised, 0
	for len(content) > 0 {
		var l []byte
		l, content = line(content)
		_, rest, _ := bytes.Cut(l, []byte{':'})
		_, path, ok := bytes.Cut(rest, []byte{':'})
		if !ok {
			continue
		}
		for len(path) > 1 {
			if w := r.registry.Begins(string(path)); w != account.Unrecognised && len(path) > at {
				found, at = w, len(path)
				break
			}
			i := bytes.LastIndexByte(path, '/')
			if i < 0 {
				break
			}
			path = path[:i]
		}
	}
	return found
}
