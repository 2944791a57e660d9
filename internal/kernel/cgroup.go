package kernel

import (
	"bytes"
	"path/filepath"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// hierarchy is one cgroup tree: the only one of version 2, or one controller's of version 1.
type hierarchy struct {
	*tree.Tree
	name  string // "" for version 2, else the controller: cpuacct, memory, blkio or unified
	salt  uint64
	known map[uint64]*group // by inode, which is the number the kernel knows a cgroup by
	gone  map[uint64]*group // of those known at the last reading or made since, that are not there any more
	order []*group          // as last walked: an outer one before its inner ones, and those that are gone last
	stale bool              // it is to be walked again
	keeps bool              // it is the kernel's own, where a file kept open shows what is in it now
	gen   int64
	bufs  [][]byte // a directory buffer per depth
	queue []byte

	number int64 // that the kernel's records have of it: 0 for version 2; -1 where it is not known
	root   uint64
	made   []bpf.Made // since the last reading
}

// group is what is remembered of one cgroup directory.
type group struct {
	name     string // last part of the path
	path     string
	inode    uint64
	workload account.WorkloadID // that begins here
	outer    *group             // the nearest around it at which a workload begins
	gen      int64              // last walk it was seen in
	met      int64              // reading it was first seen in, after the hierarchy's first
	// how often an unrecognised one is asked about again: a runtime writes its state after making the cgroup
	retries int
	index   int32            // in the reading being taken
	files   [keptFiles]int32 // kept open: descriptor + 1
	slow    account.Figures  // what is read now and then
	anchor  anchor
	visits  int64
	turn    int64 // spreads over readings what is not done at each
	watched bool
	gone    bool
	counted *counted // by the kernel for this very directory and those within it; nil where nothing is
}

func openHierarchy(root, name string, n uint64) (*hierarchy, error) {
	t, err := tree.Open(root)
	if err != nil {
		return nil, err
	}
	h := &hierarchy{Tree: t, name: name, salt: (n + 1) << 60, known: map[uint64]*group{}, gone: map[uint64]*group{},
		queue: make([]byte, 0, 4096)}
	h.keeps = t.IsCgroups()
	return h, nil
}

func (h *hierarchy) close() {
	for _, g := range h.known {
		g.close()
	}
	h.Tree.Close()
}

// readGroups reads the counters of each directory at which a workload begins. A hierarchy is walked only where it may
// have changed: listing 1,000 directories takes as long as reading the counters in them.
func (r *Reader) readGroups(dst *account.Reading) error {
	now := dst.Wall.Truncate(r.options.SlowPace)
	r.slow = r.options.SlowPace <= 0 || !now.Equal(r.slowAt)
	r.slowAt, r.at = now, dst.Mono
	dst.Groups = dst.Groups[:0]
	dst.NoGroup, dst.KernelIO = dst.NoGroup[:0], dst.KernelIO[:0]
	r.dropGone()
	changed := r.cgroups.watch.changed() || r.count%(60*r.options.RecheckEvery) == 1 // else once an hour, to be sure
	for _, h := range r.cgroups.all {
		if changed || h.stale {
			h.walkAll(r)
		}
		if h.recognise(r) {
			h.walkAll(r)
		}
	}
	r.keepGone(dst)
	r.forgetCounted()
	if err := r.gatherCounted(dst); err != nil {
		return err
	}
	for _, h := range r.cgroups.all {
		if h.name == "unified" && !r.counters.Has(bpf.Network) && r.net.sockets.Missing() != "" &&
			!r.cgroups.pressures {
			continue
		}
		for _, g := range h.order {
			switch {
			case g.workload == account.Unrecognised:
			case g.gone:
				r.visitGone(h, dst, g)
			default:
				r.visit(h, dst, g)
			}
		}
	}
	return nil
}

const maxDepth = 64

// walkAll lists the hierarchy's directories anew.
func (h *hierarchy) walkAll(r *Reader) {
	h.gen++
	h.stale = false
	before := h.order
	h.order = make([]*group, 0, len(before)+8)
	h.walk(r, h.queue[:0], 0, nil, nil)
	for _, g := range before { // an outer one before its inner ones
		switch {
		case g.gone:
			h.addGone(g)
		case g.gen == h.gen || h.known[g.inode] != g: // it is there, or another is of its number
		default:
			r.leave(g)
			delete(h.known, g.inode)
			if r.counters.Has(bpf.Groups) {
				h.addGone(g)
			} else {
				r.leaveCounted(h, g)
			}
		}
	}
}

func (h *hierarchy) walk(r *Reader, path []byte, depth int, here, outer *group) {
	if depth >= maxDepth {
		return
	}
	for len(h.bufs) <= depth {
		h.bufs = append(h.bufs, make([]byte, 8<<10))
	}
	if here == nil || !here.watched {
		r.cgroups.watch.add(h.watched(path))
		if here != nil {
			here.watched = true
		}
	}
	dir := append(h.At(), '.')
	dir = append(dir, path...)
	err := h.List(dir, h.bufs[depth], func(e tree.Entry) {
		if !e.IsDir {
			return
		}
		child := append(append(path, '/'), e.Name...)
		g := r.meet(h, child, e)
		g.outer = outer
		h.order = append(h.order, g)
		if g.workload != account.Unrecognised {
			h.walk(r, child, depth+1, g, g)
		} else {
			h.walk(r, child, depth+1, g, outer)
		}
	})
	if err != nil && !tree.Gone(err) {
		r.note(filepath.Join(h.Root, string(path)), err)
		h.stale = true
	}
}

// meet remembers a directory and which workload begins at it.
func (r *Reader) meet(h *hierarchy, path []byte, e tree.Entry) *group {
	g := h.known[e.Inode]
	if g == nil || g.name != string(e.Name) || g.path != string(path) {
		if g != nil {
			g.close()
		}
		g = &group{
			name:     string(e.Name),
			path:     string(path),
			inode:    e.Inode,
			workload: r.registry.Begins(string(path)),
		}
		h.known[e.Inode] = g
		r.cgroups.turns++
		g.turn = r.cgroups.turns
		if h.gen > 1 {
			g.met = r.count
		}
		r.forget(g)
	}
	g.gen = h.gen
	return g
}

// recognise asks again about young directories that nobody claimed. It returns whether one is claimed now.
func (h *hierarchy) recognise(r *Reader) (found bool) {
	for _, g := range h.order {
		if g.workload == account.Unrecognised && g.retries < 3 {
			g.retries++
			if g.workload = r.registry.Begins(g.path); g.workload != account.Unrecognised {
				r.forget(g)
				found = true
			}
		}
	}
	return found
}

// forget drops what was concluded of processes' cgroups while a directory was not recognised.
func (r *Reader) forget(g *group) {
	if g.workload != account.Unrecognised {
		clear(r.cgroups.paths)
		r.cgroups.pathsAge = r.count
	}
}

// visit adds the group of a workload with its counters.
func (r *Reader) visit(h *hierarchy, dst *account.Reading, g *group) {
	a := nextGroup(dst, g.inode^h.salt, g.workload, g.outer)
	a.Born = g.met == r.count
	g.index = int32(len(dst.Groups)) - 1
	slow := g.visits == 0 || r.slow
	g.visits++
	rests := r.rests(h, g)
	if slow {
		r.clearSlow(g, rests)
	}
	switch {
	case r.cgroups.v2:
		r.readV2(h, g, a, rests, slow)
	case h.name == "cpuacct":
		r.readV1CPU(h, g, a, slow)
	case h.name == "memory":
		r.readV1Memory(h, g, a, slow)
	case h.name == "unified" && slow:
		r.readPressures(h, g)
	}
	if slow {
		g.anchor.ran = false
	}
	a.Figures.PutAll(&g.slow)
	r.addCounted(h, g, a)
	if g.visits == 1 || (r.count+g.turn)%r.options.RecheckEvery == 0 {
		r.readHeld(h, []byte(g.path), a.Workload)
	}
}

// counter reads a file of one cgroup; nil when it is gone or not there, which only leaves the figure out.
func (r *Reader) counter(h *hierarchy, dir, file string) []byte {
	p := append(h.At(), '.')
	p = append(p, dir...)
	p = append(p, '/')
	p = append(p, file...)
	b, err := h.Read(p)
	if err != nil {
		if !tree.Gone(err) {
			r.note(filepath.Join(h.Root, dir, file), err)
		}
		return nil
	}
	return b
}

// often is counter for a file that is read at every reading: it is kept open, which is five times faster.
func (r *Reader) often(h *hierarchy, g *group, slot int, file string) []byte {
	if !h.keeps {
		return r.counter(h, g.path, file)
	}
	if fd := g.files[slot]; fd > 0 {
		b, err := h.ReadAgain(int(fd - 1))
		if err == nil {
			return b
		}
		g.drop(slot)
	}
	if r.cgroups.keptOpen >= r.options.KeepOpen {
		return r.counter(h, g.path, file)
	}
	p := append(h.At(), '.')
	p = append(p, g.path...)
	p = append(p, '/')
	p = append(p, file...)
	fd, e := h.Open(p, unix.O_RDONLY)
	if e != 0 {
		if !tree.Gone(e) {
			r.note(filepath.Join(h.Root, g.path, file), e)
		}
		return nil
	}
	r.cgroups.keptOpen++
	g.files[slot] = int32(fd) + 1
	b, err := h.ReadAgain(fd)
	if err != nil {
		return nil
	}
	return b
}

func (r *Reader) garbage(h *hierarchy, g *group, file string) {
	r.note(filepath.Join(h.Root, g.path, file), nil)
}

// owns finds the workload of a process by the content of its cgroup file (cgroups(7)): the innermost workload that
// begins at or above its path, in the hierarchies read, version 1 before version 2.
func (r *Reader) owns(content []byte) account.WorkloadID {
	found, at := account.Unrecognised, 0
	for len(content) > 0 {
		var l []byte
		l, content = text.Line(content)
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
