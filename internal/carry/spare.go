package carry

import (
	"vinescale/core/act"
	"vinescale/core/amount"
)

// sparer says what is never touched, whatever is ordered.
type sparer struct {
	h      *Host
	known  *Known
	policy *act.Policy
	own    string             // the file that the collector runs
	signIn bool               // a sign-in is the target: the process of sshd that holds it may end
	at     map[int32]*process // by pid
}

func (h *Host) newSparer(known *Known, list []process, policy *act.Policy) *sparer {
	s := &sparer{h: h, known: known, policy: policy, own: h.executable(h.Self), at: map[int32]*process{}}
	for i := range list {
		s.at[list[i].pid] = &list[i]
	}
	return s
}

// why is why a process is never touched; empty where it may be.
func (s *sparer) why(p *process) string {
	exe, kind := s.h.executable(p.pid), amount.Loose
	if w, is := s.known.Workloads[p.workload]; is {
		kind = w.Kind
	}
	isPlain := kind == amount.Loose || kind == amount.Service || kind == amount.Kernel
	switch {
	case p.pid == 1:
		return "it is the first process of the host"
	case p.isKernel || p.pid == 2:
		return "it is a thread of the kernel"
	case p.pid == s.h.Self:
		return "it is this host's collector"
	case s.isOwn(exe):
		return "it is a process of this very program: the collector or its service"
	case (exe == "postgres" || p.comm == "postgres") && (isPlain || s.isBelowOwn(p)):
		return "it may be the service's database; the database's own commands end it"
	case (exe == "sshd" || p.comm == "sshd") && !(s.signIn && kind == amount.Session):
		return "it lets administrators in"
	}
	return s.policy.Spares(s.h.Users.Name(p.uid), p.comm, exe)
}

func (s *sparer) isOwn(exe string) bool { return exe != "" && exe == s.own }

// isBelowOwn tells whether a process descends from one of this program: its service has a database of its own.
func (s *sparer) isBelowOwn(p *process) bool {
	for depth := 0; p != nil && depth < 64; depth++ {
		if s.isOwn(s.h.executable(p.pid)) {
			return true
		}
		p = s.at[p.parent]
	}
	return false
}

// within is the first process of a workload that is never touched, in words; empty where there is none. What is done to
// the whole of it through another system would be done to that too.
func (s *sparer) within(match func(key string) bool) string {
	for _, p := range s.at {
		if match(p.workload) {
			if why := s.why(p); why != "" {
				return named(p) + ", is in it, and is never touched: " + why
			}
		}
	}
	return ""
}
