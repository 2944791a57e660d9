package kernel

import (
	"vinescale/core/account"
	"vinescale/internal/kernel/text"
)

// A process's proportional memory is read every pssEvery readings (at the usual pace, every five minutes), and of at
// most pssAtOnce processes in one: the kernel walks all its pages for it, which takes a tenth of a millisecond to many.
const (
	pssEvery  = 60
	pssAtOnce = 50
)

// readProportional gives loose processes their proportional memory: no cgroup counts what they share.
func (r *Reader) readProportional(dst *account.Reading) {
	left := pssAtOnce
	for i := range dst.Processes {
		a := &dst.Processes[i]
		if a.Kernel || a.Ended || a.Workload == account.Unrecognised || !r.isLoose(a.Workload) {
			continue
		}
		p := r.tasks.procs[a.PID]
		if left > 0 && (p.pssAt == 0 || r.count-p.pssAt >= pssEvery) {
			left--
			p.pssAt, p.pss = r.count, -1
			if b, err := r.proc.Read(r.proc.AtPID(a.PID, "smaps_rollup")); err == nil {
				if kib, ok := text.Keyed(b, "Pss"); ok && kib < 1<<50 {
					p.pss = kib << 10
				}
			}
		}
		if p.pssAt != 0 {
			a.PSSBytes = p.pss
		}
	}
}
