package hub

import (
	"context"

	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Trial says what a rule would do, were it added: nothing is changed.
type Trial struct {
	Moves   []TrialMove `json:"moves" doc:"Workloads that would change tenant, by CPU time, most first."`
	Matched int         `json:"workloads_matched" doc:"Workloads of the span that the expression matches, moved or not."`
	Seen    int         `json:"workloads_seen" doc:"Workloads of the span."`
}

// TrialMove is one workload that would change tenant, with its use over the span.
type TrialMove struct {
	Workload    string  `json:"workload"`
	Kind        string  `json:"kind"`
	Owner       string  `json:"owner"`
	Host        string  `json:"host"`
	From        string  `json:"from"`
	To          string  `json:"to"`
	CPUSeconds  float64 `json:"cpu_seconds"`
	MemoryBytes float64 `json:"memory_bytes_mean"`
	DiskBytes   float64 `json:"disk_bytes"`
}

// TryRule tells, for the workloads of a span, which would move were a rule added at a position (last for 0), and how
// much use that is. It changes nothing.
func (h *Hub) TryRule(ctx context.Context, span store.Span, position int, tenant, expression string) (*Trial, error) {
	t, err := h.Tenant(ctx, tenant)
	if err != nil {
		return nil, err
	}
	if position < 0 {
		return nil, problem(Invalid, "position %d: count from 1, or leave it out for last", position)
	}
	rule, err := tenancy.Compile(0, t.ID, expression)
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := h.store.WorkloadUses(ctx, span)
	if err != nil {
		return nil, err
	}
	totals, err := h.store.Totals(ctx, 0, span, amount.Memory)
	if err != nil {
		return nil, err
	}
	tried := book.With(position, rule)
	trial := &Trial{Moves: []TrialMove{}, Seen: len(uses)}
	for i := range uses {
		u := &uses[i]
		w := coreWorkload(&u.Workload)
		if rule.Matches(u.HostName, &w) {
			trial.Matched++
		}
		to, _ := tried.Assign(u.HostName, w)
		if to == u.TenantID {
			continue
		}
		trial.Moves = append(trial.Moves, TrialMove{
			Workload: u.Name, Kind: u.Kind, Owner: u.Owner, Host: u.HostName, From: named(names, u.TenantID), To: named(names, to),
			CPUSeconds: amount.CPU.Amount(u.CPU, totals.ElapsedMillis), MemoryBytes: amount.Memory.Mean(u.Memory, totals.ElapsedMillis),
			DiskBytes: amount.Disk.Amount(u.Disk, totals.ElapsedMillis),
		})
	}
	return trial, nil
}
