package kernel

import (
	"sync/atomic"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
)

// kin is a family of processes that no cgroup makes a workload of: a process and its descendants, as far as they are
// of the same user. Where the kernel counts by family, it counts what all of them ran, those too that began and ended
// between two readings, and on which CPUs.
type kin struct {
	kinKey
	id       uint64             // in readings
	workload account.WorkloadID // Unrecognised until it is decided
	lives    bool               // a workload of its own, for it has lived on or is large
	fixed    bool               // its workload was recognised and not decided here
	head     int32              // program of the process at its head; NoProgram until one was seen
	script   string             // that the head runs, where it is an interpreter

	met    int64 // reading it was first counted in; 0 where it is not counted
	seen   int64 // last reading that had a process of it
	grew   int64 // last reading in which it had run
	run    figures
	base   figures // of places that were freed
	last   int64   // microseconds at the reading before
	micros int64   // of its processes at this reading
	memory int64
	looks  int64          // how many of its processes had their pages looked at
	looked int64          // of these, their part of the anonymous pages they share
	shared int64          // and of shared memory
	whole  int64          // and what they held, each page counted whole
	moved  int64          // bytes to and from storage
	over   bool           // nothing of it is left
	places []bpf.Who      // in which its CPU time is counted
	io     figures        // what was written and read for it
	ioLast figures        // at the reading before
	ioIn   []bpf.Transfer // the places of that
	wrote  bool           // it may have more to be written back
	left   time.Duration  // uptime at which it was over
	around *group         // that counts it too
}

// kinKey tells families apart: by user and, as the kernel numbers it, family; or, where a version 2 cgroup beside
// version 1 makes a workload that the hierarchy of cpuacct does not, by that cgroup.
type kinKey struct {
	uid    int64
	family uint64
	beside uint64
}

// kinfolk are all families that are known.
type kinfolk struct {
	by      map[kinKey]*kin
	order   []*kin // as they were met
	numbers uint64
	given   map[account.WorkloadID]uint64 // families that were given to recognised workloads
	adopted map[int32]uint64              // processes that are to be of another family
	apart   *atomic.Bool                  // the programs at the heads of all of them are to be told apart
}

func newKinfolk() kinfolk {
	return kinfolk{by: map[kinKey]*kin{}, given: map[account.WorkloadID]uint64{}, adopted: map[int32]uint64{},
		apart: new(atomic.Bool)}
}

// ProgramsApart says whether each family is to be a workload by the program at its head from the beginning, as rules
// that ask for programs need it. It may be called while a reading is taken.
func (r *Reader) ProgramsApart(apart bool) { r.tasks.kin.apart.Store(apart) }

// A family is a workload of its own once it has lived this long, or when it is large: it used so much CPU time, or its
// processes hold, or have moved, so many bytes. Until then it is among the brief programs of its user: what it used by
// then stays there, so little CPU time makes it large.
const (
	livesAfter  = time.Minute
	largeMicros = 200_000
	largeBytes  = 64 << 20
)

func (k *kinfolk) get(key kinKey) *kin {
	n := k.by[key]
	if n == nil {
		k.numbers++
		n = &kin{kinKey: key, id: k.numbers, workload: account.Unrecognised, head: account.NoProgram}
		k.by[key] = n
		k.order = append(k.order, n)
	}
	return n
}

// begin begins a reading of what was counted.
func (k *kinfolk) begin() {
	for _, n := range k.order {
		n.last = n.run.micros()
		n.io, n.ioLast = n.ioLast, n.io
		n.io.reset()
		n.ioIn = n.ioIn[:0]
	}
}

// beginRun begins to add up what families ran.
func (k *kinfolk) beginRun() {
	for _, n := range k.order {
		n.run.reset()
		n.run.add(&n.base)
		n.places = n.places[:0]
	}
}

// keep keeps what was counted in a place that is to be freed, where it is a family's that goes on.
func (k *kinfolk) keep(who *bpf.Who, by []bpf.Spent) {
	if n := k.by[kinKey{uid: int64(who.Uid), family: who.Family}]; n != nil {
		n.base.spend(by)
	}
}

// forgetKin frees the places of families of which nothing is left. It is done in the reading that finds so: one whose
// process was another user's for a while may come back under the same number. Those that wrote are remembered for as
// long as the kernel may take to write it down.
func (r *Reader) forgetKin(now time.Duration) {
	k := &r.tasks.kin
	kept := k.order[:0]
	for _, n := range k.order {
		if !n.over {
			n.left = 0
			kept = append(kept, n)
			continue
		}
		if r.countsKin() && n.beside == 0 && len(n.places) > 0 {
			r.counters.ForgetCPU(n.places)
		}
		n.met = 0
		n.base.reset()
		n.run.reset()
		if n.left == 0 {
			n.left = now
		}
		if n.wrote && now-n.left < writtenAfter {
			kept = append(kept, n)
			continue
		}
		if len(n.ioIn) > 0 {
			r.counters.ForgetTransfers(n.ioIn)
		}
		delete(k.by, n.kinKey)
		if k.given[n.workload] == n.family {
			delete(k.given, n.workload)
		}
	}
	clear(k.order[len(kept):])
	k.order = kept
}

// writtenAfter is by when the kernel has written down what a process left to it, by a large margin: after 30 s it must.
const writtenAfter = 3 * time.Minute

// countsKin tells whether the kernel counts by family, and tells of each process of which it is.
func (r *Reader) countsKin() bool { return r.counting(bpf.CPU) != nil && r.counters.Has(bpf.Tasks) }

// spend adds what somebody ran to the cgroup it is counted by, and to its family where no workload's cgroup has it.
func (r *Reader) spend(h, unified *hierarchy, who *bpf.Who, by []bpf.Spent) {
	own := h.own(h.idOf(who, r.cgroups.v2))
	if own != nil {
		own.spend(by)
	}
	if unified != nil && !r.cgroups.v2 { // it says where nothing ran
		if inner := unified.own(who.V2); inner != nil {
			inner.spend(by)
		}
	}
	if n := r.kinOf(h, unified, who, own != nil); n != nil {
		if n.met == 0 {
			n.met = r.count
		}
		n.run.spend(by)
		n.places = append(n.places, *who)
	}
}

// kinOf is the family that what somebody ran is counted by; nil where its cgroup has it.
func (r *Reader) kinOf(h, unified *hierarchy, who *bpf.Who, owned bool) *kin {
	if !r.countsKin() {
		return nil
	}
	if inner := r.beside(h, unified, who); inner != nil {
		n := r.tasks.kin.get(kinKey{beside: inner.inode})
		n.workload, n.fixed, n.seen = inner.workload, true, r.count
		if n.around = nil; owned {
			n.around = h.find(h.idOf(who, r.cgroups.v2)).orOuter()
		}
		return n
	}
	if owned || who.Family <= bpf.KernelFamily {
		return nil
	}
	return r.tasks.kin.get(kinKey{uid: int64(who.Uid), family: who.Family})
}

// beside is the version 2 cgroup beside version 1 that makes another workload of somebody than the hierarchy does by
// which CPU time is counted: the innermost of both has it.
func (r *Reader) beside(h, unified *hierarchy, who *bpf.Who) *group {
	if r.cgroups.v2 || unified == nil {
		return nil
	}
	inner := unified.find(who.V2)
	if inner == nil {
		return nil
	}
	if inner = inner.orOuter(); inner == nil {
		return nil
	}
	g := h.find(who.Cpuacct)
	if g != nil {
		g = g.orOuter()
	}
	if g != nil && (g.workload == inner.workload || len(g.path) >= len(inner.path)) {
		return nil
	}
	return inner
}

// join finds the family of a loose process, and the program at its head.
func (r *Reader) join(pid int32, p *process) {
	headPID, head := r.head(pid, p, true)
	p.family = head.program
	family := p.sight.family
	if family <= bpf.KernelFamily || !r.countsKin() {
		family = bpf.FamilyOf(headPID, head.start)
	}
	n := r.tasks.kin.get(kinKey{uid: p.uid, family: family})
	p.kin = n
	first, start := bpf.FamilyHead(family)
	if at := r.tasks.procs[first]; at != nil && sameStart(at.start, start) {
		n.head, n.script = at.program, at.script
	} else if n.head == account.NoProgram {
		n.head, n.script = head.program, head.script
	}
}

// setApart sees to a process that was recognised by itself while the kernel counts what it runs with its family: from
// now on it is of a family of its workload's own. It returns the family that has counted it until now, or nil.
func (r *Reader) setApart(pid int32, p *process) *kin {
	if !r.countsKin() || p.sight.family <= bpf.KernelFamily || p.kernel {
		return nil
	}
	h, unified := r.counting(bpf.CPU), r.hierarchyOf(bpf.Network)
	if h == nil {
		return nil
	}
	who := bpf.Who{V2: p.sight.v2, Cpuacct: p.sight.cpuacct, Family: p.sight.family, Uid: uint32(p.uid)}
	was := r.kinOf(h, unified, &who, h.own(h.idOf(&who, r.cgroups.v2)) != nil)
	if was == nil || was.workload == p.workload {
		return nil
	}
	k := &r.tasks.kin
	family, ok := k.given[p.workload]
	if !ok {
		const given = 1 << 41 // no family that the kernel began has a start as high
		family = bpf.FamilyOf(pid, p.start) | given
		k.given[p.workload] = family
	}
	n := k.get(kinKey{uid: p.uid, family: family})
	n.workload, n.fixed, n.seen = p.workload, true, r.count
	k.adopted[pid] = family
	return was
}

// decideKin decides which families are workloads of their own.
func (r *Reader) decideKin(dst *account.Reading) {
	k := &r.tasks.kin
	for _, n := range k.order {
		n.micros, n.memory, n.moved = 0, 0, 0
	}
	for i := range dst.Processes {
		a := &dst.Processes[i]
		p := r.tasks.procs[a.PID]
		switch {
		case p == nil:
			continue
		case p.kin == nil:
			if n := k.by[kinKey{uid: p.uid, family: p.sight.family}]; n != nil {
				n.seen = r.count // of a recognised workload's
			}
			continue
		}
		n := p.kin
		n.seen = r.count
		n.micros += a.CPUMicros
		n.memory += a.AnonBytes
		n.moved += max(a.DiskBytes, 0)
		n.wrote = n.wrote || a.DiskBytes > a.ReadBytes
	}
	for i := range r.tasks.ends.over {
		o := &r.tasks.ends.over[i]
		n := k.by[kinKey{uid: int64(o.uid), family: o.kin}]
		if n == nil || n.head != account.NoProgram {
			continue
		}
		if first, _ := bpf.FamilyHead(o.kin); first == o.pid { // it began and ended with its family since the last one
			n.head = r.registry.Program(o.name())
		}
	}
	apart := k.apart.Load()
	for _, n := range k.order {
		ran := n.run.micros()
		if ran > n.last || n.io.moved() > n.ioLast.moved() {
			n.grew = r.count
		}
		n.over = n.seen < r.count && n.grew < r.count
		if n.fixed || n.over && n.workload != account.Unrecognised {
			continue
		}
		_, start := bpf.FamilyHead(n.family)
		age := dst.Uptime - time.Duration(start)*10*time.Millisecond
		n.lives = n.lives || apart || n.seen == r.count && age >= livesAfter || max(ran, n.micros) >= largeMicros ||
			n.memory >= largeBytes || n.moved >= largeBytes
		if n.lives && n.head != account.NoProgram {
			n.workload = r.registry.LooseScript(n.uid, r.registry.ProgramName(n.head), n.script)
		} else {
			n.workload = r.registry.Brief(n.uid)
		}
	}
	for i := range dst.Processes {
		a := &dst.Processes[i]
		if p := r.tasks.procs[a.PID]; p != nil && p.kin != nil {
			p.workload = p.kin.workload
			a.Workload, a.Grouped = p.workload, r.countsKin()
		}
	}
	for i := range dst.Threads {
		t := &dst.Threads[i]
		if p := r.tasks.procs[t.PID]; p != nil && (p.kin != nil || t.Workload == account.Unrecognised) {
			t.Workload = p.workload
		}
	}
	r.forgetKin(dst.Uptime)
}

// addKin adds what the kernel counted by family.
func (r *Reader) addKin(dst *account.Reading) {
	for _, n := range r.tasks.kin.order {
		if n.met == 0 || n.workload == account.Unrecognised {
			continue
		}
		const families = 15 << 60 // tells them from cgroups
		a := nextGroup(dst, families|n.id, n.workload, n.around)
		a.Born = n.met == r.count && r.count > 1
		a.Has, a.Own = account.HasCPU|account.HasPerCPU, account.HasCPU|account.HasPerCPU
		a.CPUMicros = n.run.micros()
		for _, nanos := range n.run.perCPU {
			a.PerCPU = append(a.PerCPU, nanos/1000)
		}
		a.Figures.Put(amount.CPUUser, n.run.user/1000, amount.Counted)
		a.Figures.Put(amount.CPUSystem, n.run.system/1000, amount.Counted)
		a.Figures.Put(amount.CPUWait, n.run.waited/1000, amount.Counted)
	}
	r.addKinIO(dst)
	if k := &r.tasks.kin; len(k.adopted) > 0 {
		if err := r.counters.Adopt(k.adopted); err != nil {
			r.note("families of recognised processes", err)
		}
		clear(k.adopted)
	}
}

// addKinIO adds what was written and read for families since the reading before. Each stands there as a group that was
// made since; one that is over is there only when something of it was written back.
func (r *Reader) addKinIO(dst *account.Reading) {
	if r.count == 1 || !r.countsKin() || r.counting(bpf.Disk) == nil {
		return
	}
	for _, n := range r.tasks.kin.order {
		if n.workload == account.Unrecognised || n.seen < r.count && n.io.moved() == n.ioLast.moved() {
			continue
		}
		since := n.io.less(&n.ioLast)
		const writers = 14 << 60
		r.tasks.kin.numbers++
		a := nextGroup(dst, writers|r.tasks.kin.numbers, n.workload, nil)
		a.Born, a.Has, a.Own = true, account.HasDisk, account.HasDisk
		a.Devices = append(a.Devices, since.devices...)
		a.DiskBytes = r.wholeBytes(a.Devices)
	}
}
