package carry

import (
	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
)

// sparer says what is never touched, whatever is ordered.
type sparer struct {
	h      *Host
	policy *act.Policy
	own    string // the file that the collector runs
	signIn bool   // a sign-in is the target: the process of sshd that holds it may end
}

// why is why a process is never touched; empty where it may be.
func (s *sparer) why(p *process, w *account.Workload) string {
	exe := s.h.executable(p.pid)
	kind := amount.Loose
	if w != nil {
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
	case exe != "" && exe == s.own:
		return "it is a process of this very program: the collector or its service"
	case isPlain && (exe == "postgres" || p.comm == "postgres"):
		return "it may be the service's database; the database's own commands end it"
	case (exe == "sshd" || p.comm == "sshd") && !(s.signIn && kind == amount.Session):
		return "it lets administrators in"
	}
	return s.policy.Spares(s.h.Users.Name(p.uid), p.comm, exe)
}
