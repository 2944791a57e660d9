package hub

import (
	"context"
	"time"

	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// PinnedCPU is what is known of one declared CPU.
type PinnedCPU struct {
	Host   string    `json:"host"`
	CPU    int       `json:"cpu"`
	Tenant string    `json:"tenant" doc:"Whom it is declared for."`
	May    []string  `json:"may_run" doc:"Workloads whose affinity and cpuset allow it, with their tenant in brackets."`
	Ran    []PinRun  `json:"ran" doc:"Who did run there, most first."`
	Others float64   `json:"others_cpu_seconds" doc:"Time of other tenants' workloads there."`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Reason string    `json:"unavailable,omitempty" doc:"Why nothing is known of it."`
}

// PinRun is what one workload ran on a CPU.
type PinRun struct {
	Workload   string  `json:"workload"`
	Kind       string  `json:"kind"`
	Tenant     string  `json:"tenant"`
	CPUSeconds float64 `json:"cpu_seconds"`
	Source     string  `json:"source" doc:"counted by the kernel per CPU; or summed: each thread's time put down to the CPU it last ran on."`
}

// Pins audits every declared CPU over a span, on one host or on all ("").
func (h *Hub) Pins(ctx context.Context, span store.Span, hostName string) ([]PinnedCPU, error) {
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	if hostName != "" {
		if _, err := h.Host(ctx, hostName); err != nil {
			return nil, err
		}
	}
	out := []PinnedCPU{}
	for _, p := range pins {
		if hostName != "" && p.Host.Name != hostName {
			continue
		}
		audited, err := h.auditPin(ctx, &p, span, names)
		if err != nil {
			return nil, err
		}
		out = append(out, audited...)
	}
	return out, nil
}

func (h *Hub) auditPin(ctx context.Context, p *store.Pin, span store.Span, names map[int32]string) ([]PinnedCPU,
	error) {
	declared, err := cpuset.Parse(p.CPUs)
	if err != nil {
		return nil, err
	}
	running, err := h.store.RunningWorkloads(ctx, p.HostID, span)
	if err != nil {
		return nil, err
	}
	use, err := h.store.CPUUse(ctx, p.HostID, span)
	if err != nil {
		return nil, err
	}
	recorded, err := h.store.Totals(ctx, p.HostID, span, amount.CPU)
	if err != nil {
		return nil, err
	}
	reason := ""
	if recorded.ElapsedMillis == 0 {
		reason = sheet.NothingRecorded
	}
	byID := map[int64]*store.Workload{}
	for i := range running {
		byID[running[i].ID] = &running[i]
	}
	var out []PinnedCPU
	for _, cpu := range declared.CPUs() {
		x := PinnedCPU{Host: p.Host.Name, CPU: cpu, Tenant: p.Tenant.Name, May: []string{}, Ran: []PinRun{},
			From: span.From, To: span.To, Reason: reason}
		for i := range running {
			if set, err := cpuset.Parse(running[i].Allowed); err == nil && set.Has(cpu) {
				x.May = append(x.May, running[i].Name+" ("+named(names, running[i].TenantID)+")")
			}
		}
		for _, u := range use {
			w := byID[u.WorkloadID]
			if int(u.CPU) != cpu || w == nil || u.Micros == 0 {
				continue
			}
			run := PinRun{w.Name, w.Kind, named(names, w.TenantID), float64(u.Micros) / 1e6,
				amount.Source(u.Source).String()}
			x.Ran = append(x.Ran, run)
			if w.TenantID != p.TenantID {
				x.Others += run.CPUSeconds
			}
		}
		out = append(out, x)
	}
	return out, nil
}
