package kernel

import (
	"slices"

	"vinescale/core/account"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// threadsPerReading bounds how many threads are looked at in one reading: each costs an open, read and close, so a host
// of a thousand busy threads takes some milliseconds more. What is beyond it keeps its last sample.
const threadsPerReading = 1024

// placedPerReading bounds how many threads are put down to CPUs one by one: each takes 40 bytes of three readings and a
// tenth of a microsecond. On which CPUs the processes beyond it ran is not told.
const placedPerReading = 16384

// sample counts a process's threads that run or wait for a CPU, and reads the CPU time of each where they are told
// apart. Only a process that used CPU time since its last reading is looked into: what sleeps has nothing runnable.
func (r *Reader) sample(dst *account.Reading, pid int32, p *process, s *text.Stat) {
	first := p.since == r.count
	if s.Threads == 1 && !p.machine {
		p.runnable, p.placed = runs(s.State), nil
		return
	}
	if !p.machine && !first && s.User+s.System == p.micros {
		p.runnable = 0
		return
	}
	if int(s.Threads) > r.tasks.threadsLeft && !p.machine {
		return
	}
	r.tasks.threadsLeft -= int(s.Threads)
	p.runnable = 0
	r.tasks.tids = r.tasks.tids[:0]
	if err := r.proc.List(r.proc.AtPID(pid, "task"), r.tasks.taskListing, func(e tree.Entry) {
		if n, ok := text.Number(e.Name); ok && n < 1<<31 {
			r.tasks.tids = append(r.tasks.tids, int32(n))
		}
	}); err != nil {
		return
	}
	slices.Sort(r.tasks.tids)
	places := r.places(p)
	p.placed = p.placed[:0]
	for _, tid := range r.tasks.tids {
		path := tree.AppendInt(r.proc.AtPID(pid, "task/"), int64(tid))
		b, err := r.proc.Read(append(path, "/stat"...))
		if err != nil {
			continue
		}
		t, ok := text.ParseStat(b)
		if !ok {
			continue
		}
		p.runnable += runs(t.State)
		switch {
		case p.machine && p.workload != account.Unrecognised:
			part := r.registry.Program([]byte(identify.MachinePart(string(t.Comm))))
			dst.Threads = append(dst.Threads, account.Thread{PID: pid, TID: tid, Start: t.Start, Workload: p.workload,
				Part: part, LastCPU: t.CPU, CPUMicros: t.User + t.System})
		case places:
			p.placed = append(p.placed, placed{tid, t.CPU, t.Start, t.User + t.System})
		}
	}
}

// placed is what a thread had used at its last sample, and where it was then.
type placed struct {
	tid, cpu      int32
	start, micros int64
}

// places tells whether the reader itself must say on which CPUs a process ran, because no cgroup counter says it. That
// is so when the process belongs to no workload's cgroup (its workload may not be known yet) and its family is not
// counted, when it was recognised inside the cgroup of another workload, and with cgroup version 2 where eBPF does not
// count CPU time.
func (r *Reader) places(p *process) bool {
	loose := p.workload == account.Unrecognised || r.isLoose(p.workload)
	return loose && !r.countsKin() || r.cgroups.v2 && !r.counters.Has(bpf.CPU) || p.inside != account.Unrecognised
}

// placeThreads adds the threads of a process to the reading, with the figures of their last sample. The threads of a
// process that used no CPU time since then were not sampled again: their figures are still right.
func (r *Reader) placeThreads(dst *account.Reading, pid int32, p *process) {
	if r.tasks.placedLeft -= len(p.placed); r.tasks.placedLeft < 0 {
		return
	}
	for _, t := range p.placed {
		dst.Threads = append(dst.Threads, account.Thread{PID: pid, TID: t.tid, Start: t.start, Workload: p.workload,
			Part: account.NoProgram, LastCPU: t.cpu, CPUMicros: t.micros})
	}
}

// runs is 1 for the state of a task that is running or waiting for a CPU (proc_pid_stat(5), field 3).
func runs(state byte) int32 {
	if state == 'R' {
		return 1
	}
	return 0
}
