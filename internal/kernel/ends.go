package kernel

import (
	"bytes"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// ends holds the records of tasks that ended until they can be counted. The use of an ended thread is added to its
// process while that lives. Once the whole process has ended, it becomes an entry of its own in the reading.
type ends struct {
	waiting []end // in the order they ended
	over    []over
}

// end is a task that ended.
type end struct {
	pid, tgid, parent int32
	start             int64 // clock ticks since boot
	v2, cpuacct       uint64
	kin               uint64 // as the kernel numbers its family; 0 where not told
	uid               uint32
	cpu               int32 // that it was on last; -1 where not told
	comm              [16]byte
	sums              taskSums
}

// over is a process that ended, with all its threads.
type over struct {
	end
	sums taskSums
}

// drain reads the exit records that arrived since the last call, from eBPF or taskstats, whichever is in use.
//
// A task may end after the processes were listed and before drain is called. Its figures are then in the list already,
// so its record is kept for the next reading. Find tells, for the tasks in its map, when those in the list began.
// Whole is true where the figures of a listed process include what its ended threads used (as in /proc/PID/stat); their
// records are then not added again.
func (e *ends) drain(r *Reader, whole bool, find func(listed map[int32]int64)) {
	switch {
	case r.counters.Has(bpf.CPU):
		if err := r.counters.Ended(func(t *bpf.Ended) {
			if whole && t.Pid != t.Tgid {
				return
			}
			x := end{
				pid: t.Pid, tgid: t.Tgid, parent: t.Parent, start: int64(t.Start / text.NanosPerTick), v2: t.Who.V2,
				cpuacct: t.Who.Cpuacct, kin: t.Who.Family, uid: t.Who.Uid, cpu: int32(t.Cpu),
				sums: taskSums{
					run: int64(t.Run), user: int64(t.User), system: int64(t.System), waited: int64(t.Waited),
					read: int64(t.Read), written: int64(t.Written), cancelled: int64(t.Cancelled),
				},
			}
			copy(x.comm[:], bpf.Comm(&t.Comm))
			e.waiting = append(e.waiting, x)
		}); err != nil {
			r.note("ended tasks", err)
		}
	case r.tasks.exits.Missing() == "":
		ended, lost := r.tasks.exits.Take()
		r.tasks.lostEnds = lost
		for _, told := range ended {
			if told.PID != told.TGID {
				continue // what the kernel sums up of ended threads is as good
			}
			x := end{
				pid: told.PID, tgid: told.TGID, parent: told.Parent, start: told.Start, uid: told.UID, cpu: -1,
				comm: told.Comm,
				sums: taskSums{run: told.Run, user: told.User, system: told.System, waited: told.Waited,
					read: told.Read, written: told.Written, cancelled: told.Cancelled},
			}
			if p := r.tasks.procs[x.pid]; p != nil && sameStart(p.start, x.start) {
				x.start = p.start
			}
			e.waiting = append(e.waiting, x)
		}
	}
	e.sort(r, find)
}

// sameStart tells whether two times at which a task began mean the same task, both in clock ticks. They may differ by a
// few ticks, because an exit record does not hold the time itself: it is worked out from how long the task lived.
func sameStart(a, b int64) bool { return max(a-b, b-a) <= 5 }

const notListed = -1 << 40

// sort decides what becomes of each record: that of a task which is still listed waits, that of a thread is added to
// its process, and that of a process's first thread means that the process is over.
func (e *ends) sort(r *Reader, find func(listed map[int32]int64)) {
	e.over = e.over[:0]
	if len(e.waiting) == 0 {
		return
	}
	// Which of them the list still has: by number of the task, and of its process.
	listed := make(map[int32]int64, len(e.waiting))
	for i := range e.waiting {
		listed[e.waiting[i].pid], listed[e.waiting[i].tgid] = notListed, notListed
	}
	find(listed)
	kept := e.waiting[:0]
	var threads map[int32]*taskSums // of processes that are not listed any more
	for _, x := range e.waiting {
		switch {
		case sameStart(listed[x.pid], x.start):
			kept = append(kept, x)
		case x.pid != x.tgid:
			if p := r.tasks.procs[x.tgid]; p != nil && p.seen == r.count-1 {
				p.gone.add(&x.sums)
			} else {
				if threads == nil {
					threads = map[int32]*taskSums{}
				}
				if threads[x.tgid] == nil {
					threads[x.tgid] = &taskSums{}
				}
				threads[x.tgid].add(&x.sums)
			}
		default:
			e.over = append(e.over, over{end: x, sums: x.sums})
		}
	}
	e.waiting = kept
	for i := range e.over {
		o := &e.over[i]
		if t := threads[o.tgid]; t != nil {
			o.sums.add(t)
			delete(threads, o.tgid)
		}
		if p := r.tasks.procs[o.tgid]; p != nil && p.start == o.start {
			o.sums.add(&p.gone)
		}
	}
}

// addEnded adds the processes that ended since the last reading.
func (r *Reader) addEnded(dst *account.Reading) {
	switch lost := int64(r.tasks.lostEnds - r.tasks.lostBefore); {
	case r.countsKin():
		dst.Caveats[account.EndsLost] = lost
	case lost > 0: // nothing else tells what they used
		dst.Caveats[account.EndsUnseen] = 1
	}
	r.tasks.lostBefore = r.tasks.lostEnds
	for i := range r.tasks.ends.over {
		o := &r.tasks.ends.over[i]
		a := account.Process{
			PID: o.pid, Start: o.start, Ended: true, Parent: o.parent, UID: int64(o.uid),
			Workload: account.Unrecognised, Within: account.Unrecognised,
			LastCPU: o.cpu, SwapBytes: -1, PSSBytes: -1,
		}
		putSums(&a, &o.sums)
		if n := r.tasks.kin.by[kinKey{uid: a.UID, family: o.kin}]; n != nil && o.sums.written > 0 {
			n.wrote = true
		}
		if p := r.tasks.procs[o.pid]; p != nil && p.start == o.start {
			a.Workload, a.Program, a.Family, a.UID = p.workload, p.program, p.family, p.uid
			a.Kernel = p.kernel && !p.helper
			a.Within, a.Inside = p.inside, p.inside != account.Unrecognised
			a.Grouped = p.kin != nil && r.countsKin()
			if p.part >= 0 && p.workload != account.Unrecognised {
				dst.Threads = append(dst.Threads, account.Thread{PID: a.PID, TID: a.PID, Start: a.Start,
					Workload: p.workload, Part: p.part, LastCPU: -1, CPUMicros: a.CPUMicros})
			}
		} else {
			r.place(&a, o)
		}
		dst.Processes = append(dst.Processes, a)
	}
	r.tasks.ends.over = r.tasks.ends.over[:0]
}

// name is the name that a process went by.
func (e *end) name() []byte {
	name, _, _ := bytes.Cut(e.comm[:], []byte{0})
	return bytes.TrimPrefix(name, []byte(inMemory))
}

// place finds whose a process was that lived between two readings: by its cgroup, else with its parent, else its
// user's.
func (r *Reader) place(a *account.Process, o *over) {
	a.Program = r.registry.Program(o.name())
	a.Family = a.Program
	a.Workload = r.workloadOf(o.v2, o.cpuacct)
	parent := r.tasks.procs[o.parent]
	n := r.tasks.kin.by[kinKey{uid: a.UID, family: o.kin}]
	sameOwner := parent != nil && !parent.kernel && parent.uid == a.UID && o.parent > 1
	switch {
	case parent != nil && parent.kernel && o.parent == 2:
		a.Kernel = true // of kthreadd
	case a.Workload != account.Unrecognised:
		if parent != nil && parent.workload == a.Workload {
			a.Family = parent.family
		}
	case n != nil && n.workload != account.Unrecognised:
		a.Grouped = r.countsKin()
		if a.Workload = n.workload; n.head != account.NoProgram {
			a.Family = n.head
		}
	case sameOwner && parent.workload != account.Unrecognised:
		a.Workload, a.Family = parent.workload, parent.family
	default:
		a.Workload, a.Grouped = r.registry.Brief(a.UID), r.countsKin()
	}
}

// workloadOf is the innermost workload of a cgroup by its numbers; Unrecognised for none.
func (r *Reader) workloadOf(v2, cpuacct uint64) account.WorkloadID {
	found, depth := account.Unrecognised, 0
	for _, h := range r.cgroups.all {
		id := v2
		if h.name == "cpuacct" {
			id = cpuacct
		} else if h.name != "" && h.name != "unified" {
			continue
		}
		if g := h.find(id); g != nil {
			if g = g.orOuter(); g != nil && len(g.path) > depth {
				found, depth = g.workload, len(g.path)
			}
		}
	}
	return found
}
