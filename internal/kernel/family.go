package kernel

import (
	"vinescale/core/account"
	"vinescale/core/amount"
)

// settle gives processes whose workload was decided anew their family, which needs all of them read: the program of the
// topmost process above each in its own workload. What is in no workload is loose: of its user, by that program.
func (r *Reader) settle(dst *account.Reading) {
	for _, i := range r.unsettled {
		a := &dst.Processes[i]
		p := r.procs[a.PID]
		loose := p.workload == account.Unrecognised
		head := r.head(a.PID, p, loose)
		p.family = head.program
		if loose {
			p.workload = r.registry.Loose(p.uid, r.registry.ProgramName(head.program))
		}
		a.Workload, a.Family = p.workload, p.family
	}
	if len(r.unsettled) == 0 {
		return
	}
	r.unsettled = r.unsettled[:0]
	for i := range dst.Threads {
		if t := &dst.Threads[i]; t.Workload == account.Unrecognised {
			t.Workload = r.procs[t.PID].workload
		}
	}
}

func (r *Reader) isLoose(w account.WorkloadID) bool {
	for int(w) >= len(r.loose) {
		r.loose = append(r.loose, r.registry.Workload(account.WorkloadID(len(r.loose))).Kind == amount.Loose)
	}
	return r.loose[w]
}

// head is the topmost process above one that is in the same workload, or, for a loose one, loose and of the same user.
func (r *Reader) head(pid int32, p *process, loose bool) *process {
	for range maxDepth {
		up := r.procs[p.parent]
		if up == nil || up.kernel || up.seen < r.count || p.parent <= 1 {
			return p
		}
		if loose {
			if up.uid != p.uid || up.workload != account.Unrecognised && !r.isLoose(up.workload) {
				return p
			}
		} else if up.workload != p.workload {
			return p
		}
		p = up
	}
	return p
}
