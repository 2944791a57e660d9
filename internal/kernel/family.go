package kernel

import (
	"vinescale/core/account"
	"vinescale/core/amount"
)

// settle gives processes whose workload was decided anew their family, which needs all of them read: the program of the
// topmost process above each in its own workload. What is in no workload is loose: of its user, by that program.
func (r *Reader) settle(dst *account.Reading) {
	for _, i := range r.tasks.unsettled {
		a := &dst.Processes[i]
		p := r.tasks.procs[a.PID]
		loose := p.workload == account.Unrecognised
		head := r.head(a.PID, p, loose)
		p.family = head.program
		if loose {
			p.workload = r.registry.Loose(p.uid, r.registry.ProgramName(head.program))
		}
		a.Workload, a.Family = p.workload, p.family
	}
	if len(r.tasks.unsettled) == 0 {
		return
	}
	r.tasks.unsettled = r.tasks.unsettled[:0]
	for i := range dst.Threads {
		if t := &dst.Threads[i]; t.Workload == account.Unrecognised {
			t.Workload = r.tasks.procs[t.PID].workload
		}
	}
}

func (r *Reader) isLoose(w account.WorkloadID) bool {
	for int(w) >= len(r.tasks.loose) {
		r.tasks.loose = append(r.tasks.loose,
			r.registry.Workload(account.WorkloadID(len(r.tasks.loose))).Kind == amount.Loose)
	}
	return r.tasks.loose[w]
}

// head is the topmost process above one that is in the same workload, or, for a loose one, loose and of the same user.
func (r *Reader) head(pid int32, p *process, loose bool) *process {
	for range maxDepth {
		up := r.tasks.procs[p.parent]
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
