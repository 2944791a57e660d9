package kernel

import (
	"vinescale/core/account"
	"vinescale/core/amount"
)

// settle gives processes whose workload was decided anew their family, which needs all of them read: the program of the
// topmost process above each in its own workload. What is in no workload is loose, and is of its family. It returns, by
// their place in the reading, those processes that the kernel has counted with another family until now.
func (r *Reader) settle(dst *account.Reading) (apart map[int32]*kin) {
	for _, i := range r.tasks.unsettled {
		a := &dst.Processes[i]
		p := r.tasks.procs[a.PID]
		if p.kin = nil; p.workload == account.Unrecognised {
			p.workload = r.inherited(p)
		}
		if p.workload == account.Unrecognised {
			r.join(a.PID, p)
		} else {
			_, head := r.head(a.PID, p, false)
			p.family = head.program
			if was := r.setApart(a.PID, p); was != nil {
				if apart == nil {
					apart = map[int32]*kin{}
				}
				apart[i] = was
			}
		}
		a.Workload, a.Family = p.workload, p.family
	}
	r.tasks.unsettled = r.tasks.unsettled[:0]
	return apart
}

// inherited is the workload of a process whose parent was recognised by itself and set apart from its family: what it
// begins is its own. Unrecognised for any other.
func (r *Reader) inherited(p *process) account.WorkloadID {
	up := r.tasks.procs[p.parent]
	if up == nil || up.kernel || up.seen < r.count || up.uid != p.uid {
		return account.Unrecognised
	}
	if _, apart := r.tasks.kin.given[up.workload]; !apart {
		return account.Unrecognised
	}
	return up.workload
}

func (r *Reader) isLoose(w account.WorkloadID) bool {
	for int(w) >= len(r.tasks.loose) {
		r.tasks.loose = append(r.tasks.loose,
			r.registry.Workload(account.WorkloadID(len(r.tasks.loose))).Kind == amount.Loose)
	}
	return r.tasks.loose[w]
}

// head is the topmost process above one that is in the same workload, or, for a loose one, loose and of the same user.
func (r *Reader) head(pid int32, p *process, loose bool) (int32, *process) {
	for range maxDepth {
		up := r.tasks.procs[p.parent]
		if up == nil || up.kernel || up.seen < r.count || p.parent <= 1 {
			return pid, p
		}
		if loose {
			if up.uid != p.uid || up.workload != account.Unrecognised && !r.isLoose(up.workload) {
				return pid, p
			}
		} else if up.workload != p.workload {
			return pid, p
		}
		pid, p = p.parent, up
	}
	return pid, p
}
