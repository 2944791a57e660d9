package kernel

import (
	"vinescale/core/account"
	"vinescale/internal/kernel/text"
)

// No cgroup counts the memory of loose processes, and what several of them share is nobody's alone: a page counts by
// the number of its sharers (PSS). The kernel walks all pages of a process for that, so a process is looked at every
// pssEvery readings (at the usual pace, every five minutes), new ones first, and at most pssAtOnce of them, of pssBytes
// resident together, in one reading. In between, what it got or gave back since its look is its own.
const (
	pssEvery  = 60
	pssAtOnce = 100
	pssBytes  = 256 << 20
)

// proportional is what a look at a process's pages found, in bytes. None is known where it may not be looked at.
type proportional struct {
	at    int64 // reading of the look; 0 for none
	known bool
	all   int64 // of all its pages
	anon  int64 // of those that are no file's
	shmem int64 // of memory that is shared, and of files that are kept in memory
	held  int64 // what it held of anonymous pages then, each counted whole
}

// readProportional gives loose processes their part of what they share.
func (r *Reader) readProportional(dst *account.Reading) {
	looks, bytes := pssAtOnce, int64(pssBytes)
	due := func(p *process, anew bool) bool {
		return p.pss.at == 0 == anew && (anew || r.count-p.pss.at >= pssEvery)
	}
	for _, anew := range []bool{true, false} {
		for i := range dst.Processes {
			a := &dst.Processes[i]
			p := r.looseOf(a)
			if p == nil || looks == 0 || bytes <= 0 || !due(p, anew) {
				continue
			}
			looks--
			bytes -= a.AnonBytes
			r.lookAtPages(a, p)
		}
	}
	for _, n := range r.tasks.kin.order {
		n.looks, n.looked, n.whole, n.shared = 0, 0, 0, 0
	}
	for i := range dst.Processes {
		if p := r.looseOf(&dst.Processes[i]); p != nil && p.kin != nil && p.pss.known {
			p.kin.looks++
			p.kin.looked += p.pss.anon
			p.kin.shared += p.pss.shmem
			p.kin.whole += p.pss.held
		}
	}
	for i := range dst.Processes {
		a := &dst.Processes[i]
		p := r.looseOf(a)
		switch {
		case p == nil:
		case p.pss.known:
			a.PSSBytes = p.pss.all
			a.SharedBytes = p.pss.shmem
			a.AnonBytes = max(p.pss.anon+a.AnonBytes-p.pss.held, 0) + p.pss.shmem
		case p.pss.at == 0 && p.kin != nil && p.kin.looks > 0: // as those of its family that were looked at
			if p.kin.whole > p.kin.looked {
				a.AnonBytes = int64(float64(a.AnonBytes) * float64(p.kin.looked) / float64(p.kin.whole))
			}
			a.SharedBytes = p.kin.shared / p.kin.looks
			a.AnonBytes += a.SharedBytes
		}
	}
}

// looseOf is what is known of a living loose process; nil for any other.
func (r *Reader) looseOf(a *account.Process) *process {
	if a.Kernel || a.Ended || a.Workload == account.Unrecognised || !r.isLoose(a.Workload) {
		return nil
	}
	return r.tasks.procs[a.PID]
}

func (r *Reader) lookAtPages(a *account.Process, p *process) {
	p.pss = proportional{at: r.count, held: a.AnonBytes}
	b, err := r.proc.Read(r.proc.AtPID(a.PID, "smaps_rollup"))
	if err != nil {
		return
	}
	kib := func(key string) int64 {
		n, ok := text.Keyed(b, key)
		if !ok || n >= 1<<50 {
			return -1
		}
		return n << 10
	}
	p.pss.all, p.pss.anon, p.pss.shmem = kib("Pss"), kib("Pss_Anon"), max(kib("Pss_Shmem"), 0)
	p.pss.known = p.pss.all >= 0
	if p.pss.anon < 0 { // before Linux 5.4
		p.pss.anon = a.AnonBytes
	}
}
