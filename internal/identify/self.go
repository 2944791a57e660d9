package identify

import (
	"vinescale/core/account"
	"vinescale/core/amount"
)

// self recognises the very process that reads: its cost is a service's own, not that of whoever started it. Where the
// init system, or a container, has it as a workload of its own, it stays that.
type self struct{ pid int32 }

func (s self) byProcess(p *Process, around account.Workload) (account.Workload, bool) {
	if s.pid == 0 || p.PID != s.pid || around.Kind == amount.Service && around.Key != "" {
		return account.Workload{}, false
	}
	return account.Workload{Key: "service:vinescale-collector", Kind: amount.Service, Name: "vinescale-collector",
		UID: p.UID}, true
}
