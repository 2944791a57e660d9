package explain

import (
	"time"

	"vinescale/core/cpuset"
)

// PinnedCPU is what is known of one declared CPU.
type PinnedCPU struct {
	Host   string    `json:"host"`
	CPU    int       `json:"cpu"`
	Tenant string    `json:"tenant" doc:"Whom it is declared for."`
	May    []string  `json:"may_run" doc:"Workloads whose affinity and cpuset allow it, with their tenant in brackets."`
	Ran    []PinRun  `json:"ran" doc:"Who did run there, most first."`
	Others float64   `json:"others_cpu_seconds" doc:"Time that was accounted to other tenants there."`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Reason string    `json:"unavailable,omitempty" doc:"Why nothing is known of it."`
}

// PinRun is what one workload ran on a CPU.
type PinRun struct {
	Workload   string  `json:"workload"`
	Kind       string  `json:"kind"`
	Tenant     string  `json:"tenant" doc:"To whom it was accounted at the time."`
	CPUSeconds float64 `json:"cpu_seconds"`
	Source     string  `json:"source" doc:"counted for each CPU, or summed by the CPU that each thread last ran on."`
}

// Pin is a declaration that CPUs of a host are a tenant's.
type Pin struct {
	Host   string
	CPUs   cpuset.Set
	Tenant int32
	Holder string // the tenant's name
}

// Present is a workload that was on the host in the span, with the CPUs that it may run on.
type Present struct {
	User
	Allowed string // kernel list format
}

// ExplainPin audits each CPU of a declaration: who may run there, and who did. Ran is by CPU, workload and the tenant
// of the time. Without recorded, nothing is known.
func ExplainPin(over Over, p *Pin, recorded bool, present []Present, ran []CPUUse, names Names) []PinnedCPU {
	out := []PinnedCPU{}
	for _, cpu := range p.CPUs.CPUs() {
		x := PinnedCPU{Host: p.Host, CPU: cpu, Tenant: p.Holder, May: []string{}, Ran: []PinRun{},
			From: over.From, To: over.To}
		if !recorded {
			x.Reason = NothingRecorded
		}
		for _, w := range present {
			if set, err := cpuset.Parse(w.Allowed); err == nil && set.Has(cpu) {
				who := names(w.User)
				x.May = append(x.May, who.Name+" ("+who.Tenant+")")
			}
		}
		for _, u := range ran {
			if u.CPU != cpu || u.Micros == 0 {
				continue
			}
			who := names(u.User)
			x.Ran = append(x.Ran, PinRun{who.Name, who.Kind, who.Tenant, u.Micros / 1e6, u.Source.String()})
			if u.Tenant != p.Tenant {
				x.Others += u.Micros / 1e6
			}
		}
		out = append(out, x)
	}
	return out
}
