package kernel

import (
	"fmt"
	"slices"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// process is what is remembered of one process, so that a steady one costs only its changing files.
type process struct {
	start    int64
	seen     int64 // last reading it was in
	since    int64 // reading it was first in
	parent   int32
	workload account.WorkloadID
	inside   account.WorkloadID // of its cgroup, where it is another
	own      account.WorkloadID // that it makes or belongs to by itself; Unrecognised for none
	program  int32
	script   string // that it runs, where it is an interpreter
	family   int32  // program of the process at the head of its family
	kin      *kin   // of a loose one
	part     int32  // index of a part's name; -1 for none
	machine  bool   // its threads are told apart
	comm     string
	cgroups  string
	uid      int64
	kernel   bool
	places   bool  // its threads' time is to be put down to CPUs
	helper   bool  // a kernel thread that works for a process: its use is that process's workload's
	looked   int64 // reading at which it was last looked at
	netns    uint64
	allowed  string
	micros   int64 // CPU time at its last reading
	runnable int32
	threads  int32
	strays   []maskOf // its threads that may run elsewhere than its first; of a machine, all but that
	placed   []placed // its threads at their last sample, where their time is to be put down to CPUs

	index  int32    // in the reading of its last sight
	partAt int32    // in that reading's threads; -1 where its parts are not told, or thread by thread
	sums   taskSums // of all its threads
	gone   taskSums // of those that ended
	sight  identity // what it showed in the last reading of all tasks
	pss    proportional

	swapped *swappedOn // nil before the first look
}

// readProcesses lists /proc and reads each process's counters.
func (r *Reader) readProcesses(dst *account.Reading) error {
	dst.Threads = dst.Threads[:0]
	r.tasks.threadsLeft, r.tasks.placedLeft = threadsPerReading, placedPerReading
	if r.counters.Has(bpf.Tasks) {
		if err := r.readTasks(dst); err != nil {
			return err
		}
		r.endReading(dst)
		return nil
	}
	r.tasks.pids = r.tasks.pids[:0]
	err := r.proc.List(append(r.proc.At(), '.'), r.tasks.listing, func(e tree.Entry) {
		if n, ok := text.Number(e.Name); ok && n < 1<<31 {
			r.tasks.pids = append(r.tasks.pids, int32(n))
		}
	})
	if err != nil {
		return fmt.Errorf("list %s: %w", r.proc.Root, err)
	}
	slices.Sort(r.tasks.pids)
	dst.Processes = slices.Grow(dst.Processes[:0], len(r.tasks.pids))
	for _, pid := range r.tasks.pids {
		r.readProcess(dst, pid)
	}
	r.tasks.ends.drain(r, true, func(listed map[int32]int64) {
		for pid := range listed {
			if p := r.tasks.procs[pid]; p != nil && p.seen == r.count {
				listed[pid] = p.start
			}
		}
	})
	r.endReading(dst)
	return nil
}

// endReading settles what needs all processes read, and forgets those that are gone.
func (r *Reader) endReading(dst *account.Reading) {
	apart := r.settle(dst)
	r.decideKin(dst)
	for i, was := range apart {
		dst.Processes[i].Within, dst.Processes[i].Inside = was.workload, true
	}
	r.readProportional(dst)
	r.addEnded(dst)
	r.addKin(dst)
	for pid, p := range r.tasks.procs {
		if p.seen < r.count {
			delete(r.tasks.procs, pid)
		}
	}
}

// known returns what is remembered of a process, after looking at it again where that is due.
//
// A look reads several files, so that it is too dear for every process at every reading. A process is looked at in its
// first two readings, when it runs another program, and when shown differs from last time: the cgroup, user, network
// and CPUs of a process as eBPF tells them. Where eBPF tells nothing, shown is the zero identity, and each process is
// looked at once in every Options.RecheckEvery readings instead.
func (r *Reader) known(dst *account.Reading, pid int32, s *text.Stat, shown identity) *process {
	p := r.tasks.procs[pid]
	decided := false
	changed := p != nil && p.start == s.Start && shown.known && p.sight.known && p.sight != shown
	if changed {
		p.sight = shown
	}
	switch {
	case p == nil || p.start != s.Start:
		p = &process{
			start: s.Start, since: r.count, comm: string(s.Comm), kernel: s.Kernel, parent: s.Parent, part: -1,
			workload: account.Unrecognised, inside: account.Unrecognised, own: account.Unrecognised, sight: shown,
			uid: int64(shown.uid),
		}
		r.tasks.procs[pid] = p
		decided = r.look(pid, p, true)
	case p.comm != string(s.Comm):
		p.comm = string(s.Comm)
		decided = r.look(pid, p, true) // it runs another program now
	case r.count-p.since < 2:
		decided = r.look(pid, p, true) // a new process is often moved to its cgroup just after it began
	case changed, (r.count+int64(pid))%r.options.RecheckEvery == 0 &&
		(!r.seesChanges() || r.cgroups.pathsAge > p.looked):
		decided = r.look(pid, p, false)
	}
	if decided {
		r.tasks.unsettled = append(r.tasks.unsettled, int32(len(dst.Processes)))
	}
	p.seen, p.parent, p.threads = r.count, s.Parent, s.Threads
	return p
}

// seesChanges tells whether a process that changes its cgroup, user, network or CPUs shows that in a reading by itself.
func (r *Reader) seesChanges() bool { return r.counters.Has(bpf.Tasks) }

func (r *Reader) readProcess(dst *account.Reading, pid int32) {
	b, err := r.proc.Read(r.proc.AtPID(pid, "stat"))
	if err != nil {
		if !tree.Gone(err) {
			r.note(fmt.Sprintf("%s/%d/stat", r.proc.Root, pid), err)
		}
		return
	}
	s, ok := text.ParseStat(b)
	if !ok {
		if len(b) > 0 {
			r.note(fmt.Sprintf("%s/%d/stat", r.proc.Root, pid), nil)
		}
		return
	}
	p := r.known(dst, pid, &s, identity{})
	a := account.Process{
		PID: pid, Start: s.Start, Workload: p.workload, Program: p.program, Family: p.family, Parent: s.Parent,
		UID:     p.uid,
		LastCPU: s.CPU, Threads: s.Threads, Kernel: p.kernel &&
			!p.helper, CPUMicros: s.User + s.System, UserMicros: s.User, SystemMicros: s.System,
		WaitMicros: -1, SwapBytes: -1, PSSBytes: -1, DiskBytes: -1,
	}
	a.Within, a.Inside = p.inside, p.inside != account.Unrecognised
	if p.part >= 0 && p.workload != account.Unrecognised {
		dst.Threads = append(dst.Threads, account.Thread{PID: pid, TID: pid, Start: s.Start, Workload: p.workload,
			Part: p.part, LastCPU: -1, CPUMicros: a.CPUMicros})
	}
	if !p.kernel {
		if b, err := r.proc.Read(r.proc.AtPID(pid, "statm")); err == nil {
			pages, _ := text.ParseStatm(b)
			a.AnonBytes = pages * r.options.PageSize
		}
		r.sample(dst, pid, p, &s)
		a.Runnable = p.runnable
		r.placeThreads(dst, pid, p)
	}
	p.micros = a.CPUMicros
	if b, err := r.proc.Read(r.proc.AtPID(pid, "io")); err == nil {
		if read, written, ok := text.ParseIO(b); ok {
			a.DiskBytes, a.ReadBytes = read+written, read
		}
	}
	dst.Processes = append(dst.Processes, a)
}
