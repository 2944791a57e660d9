package kernel

import (
	"fmt"

	"vinescale/core/account"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// taskSums is what threads used: nanoseconds and bytes.
type taskSums struct {
	run, user, system, waited int64
	read, written, cancelled  int64
}

func (t *taskSums) add(u *taskSums) {
	t.run, t.user, t.system, t.waited = t.run+u.run, t.user+u.user, t.system+u.system, t.waited+u.waited
	t.read, t.written, t.cancelled = t.read+u.read, t.written+u.written, t.cancelled+u.cancelled
}

// atLeast raises each figure to that of u: the kernel's own sum of a process's ended threads is a little old, but has
// all.
func (t *taskSums) atLeast(u *taskSums) {
	t.run, t.user, t.system = max(t.run, u.run), max(t.user, u.user), max(t.system, u.system)
	t.read, t.written, t.cancelled = max(t.read, u.read), max(t.written, u.written), max(t.cancelled, u.cancelled)
}

// identity is what a process shows of whose it is. Where it changes, the process is looked at again.
type identity struct {
	v2, cpuacct  uint64
	family, mask uint64
	uid, net     uint32
	known        bool
}

func liveSums(t *bpf.Task) taskSums {
	return taskSums{
		run: int64(t.Run), user: int64(t.User), system: int64(t.System), waited: int64(t.Waited),
		read: int64(t.Read), written: int64(t.Written), cancelled: int64(t.Cancelled),
	}
}

// putSums states what a process used in the units of a reading.
func putSums(a *account.Process, t *taskSums) {
	a.CPUMicros, a.UserMicros, a.SystemMicros, a.WaitMicros = t.run/1000, t.user/1000, t.system/1000, t.waited/1000
	a.ReadBytes = t.read
	a.DiskBytes = t.read + max(t.written-t.cancelled, 0)
}

// readTasks reads all tasks as the kernel lists them, and joins threads to their processes.
func (r *Reader) readTasks(dst *account.Reading) error {
	tasks, err := r.counters.Tasks()
	if err != nil {
		return fmt.Errorf("list the kernel's tasks: %w", err)
	}
	r.tasks.ends.drain(r, false, func(listed map[int32]int64) {
		for i := range tasks {
			if _, asked := listed[tasks[i].Pid]; asked {
				listed[tasks[i].Pid] = int64(tasks[i].Start / text.NanosPerTick)
			}
		}
	})
	dst.Processes = dst.Processes[:0]
	for i := range tasks {
		if t := &tasks[i]; t.Pid == t.Tgid {
			r.addLeader(dst, t)
		}
	}
	for i := range tasks {
		if t := &tasks[i]; t.Pid != t.Tgid {
			r.addThread(dst, t)
		}
	}
	return nil
}

// addLeader adds a process with what its first thread, and its ended ones, used.
func (r *Reader) addLeader(dst *account.Reading, t *bpf.Task) {
	s := text.Stat{
		Comm: bpf.Comm(&t.Comm), Parent: t.Parent, Kernel: t.Flags&text.KernelThread != 0,
		Start:   int64(t.Start / text.NanosPerTick),
		Threads: int32(t.Threads), CPU: int32(t.Cpu),
	}
	now := identity{v2: t.Groups.V2, cpuacct: t.Groups.Cpuacct, uid: t.Uid, net: t.Net, mask: t.Mask,
		family: t.Family, known: true}
	p := r.known(dst, t.Pid, &s, now)
	p.index = int32(len(dst.Processes))
	own := taskSums{
		run: int64(t.GoneRun), user: int64(t.GoneUser), system: int64(t.GoneSystem),
		read: int64(t.GoneRead), written: int64(t.GoneWritten), cancelled: int64(t.GoneCancelled),
	}
	p.gone.atLeast(&own)
	p.sums = liveSums(t)
	p.sums.add(&p.gone)
	a := account.Process{
		PID: t.Pid, Start: s.Start, Workload: p.workload, Program: p.program, Family: p.family, Parent: s.Parent,
		UID:     p.uid,
		LastCPU: s.CPU, Threads: s.Threads, Kernel: p.kernel && !p.helper, SwapBytes: -1, PSSBytes: -1,
		Within: p.inside, Inside: p.inside != account.Unrecognised,
	}
	putSums(&a, &p.sums)
	if t.State == 0 {
		a.Runnable = 1
	}
	p.partAt = -1
	if p.part >= 0 && p.workload != account.Unrecognised {
		p.partAt = int32(len(dst.Threads))
		dst.Threads = append(dst.Threads, account.Thread{PID: t.Pid, TID: t.Pid, Start: s.Start, Workload: p.workload,
			Part: p.part, LastCPU: -1, CPUMicros: a.CPUMicros})
	} else if p.machine {
		r.addMachineThread(dst, p, t)
	}
	if p.places = !p.machine && !p.kernel && s.Threads > 1 && r.places(p) &&
		int(s.Threads) <= r.tasks.placedLeft; p.places {
		r.tasks.placedLeft -= int(s.Threads)
		r.addPlaced(dst, p, t)
	}
	if !p.kernel {
		if t.AnonPages >= 0 {
			a.AnonBytes, a.SwapBytes = t.AnonPages*r.options.PageSize, max(t.SwapPages, 0)*r.options.PageSize
		} else if b, err := r.proc.Read(r.proc.AtPID(t.Pid, "statm")); err == nil {
			pages, _ := text.ParseStatm(b)
			a.AnonBytes = pages * r.options.PageSize
		}
	}
	dst.Processes = append(dst.Processes, a)
}

// addThread joins another thread to its process.
func (r *Reader) addThread(dst *account.Reading, t *bpf.Task) {
	p := r.tasks.procs[t.Tgid]
	if p == nil || p.seen != r.count {
		return
	}
	a := &dst.Processes[p.index]
	sums := liveSums(t)
	p.sums.add(&sums)
	putSums(a, &p.sums)
	if p.partAt >= 0 {
		dst.Threads[p.partAt].CPUMicros = a.CPUMicros
	}
	if t.State == 0 {
		a.Runnable++
	}
	if p.machine {
		r.addMachineThread(dst, p, t)
	} else if p.places {
		r.addPlaced(dst, p, t)
	}
	if r.masks.isDue && (t.Mask != p.sight.mask || p.machine) {
		r.masks.strays = append(r.masks.strays, stray{t.Tgid, t.Pid, t.Mask, string(bpf.Comm(&t.Comm))})
	}
}

// addPlaced adds a thread whose time is to be put down to the CPU it last ran on.
func (r *Reader) addPlaced(dst *account.Reading, p *process, t *bpf.Task) {
	dst.Threads = append(dst.Threads, account.Thread{
		PID: t.Tgid, TID: t.Pid, Start: int64(t.Start / text.NanosPerTick), Workload: p.workload,
		Part:    account.NoProgram,
		LastCPU: int32(t.Cpu), CPUMicros: int64(t.Run) / 1000,
	})
}

func (r *Reader) addMachineThread(dst *account.Reading, p *process, t *bpf.Task) {
	if p.workload == account.Unrecognised {
		return
	}
	part := r.registry.Program([]byte(identify.MachinePart(string(bpf.Comm(&t.Comm)))))
	dst.Threads = append(dst.Threads, account.Thread{
		PID: t.Tgid, TID: t.Pid, Start: int64(t.Start / text.NanosPerTick), Workload: p.workload, Part: part,
		LastCPU: int32(t.Cpu), CPUMicros: int64(t.Run) / 1000,
	})
}
