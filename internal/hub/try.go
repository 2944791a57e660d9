package hub

import (
	"cmp"
	"context"
	"slices"

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
	Workload string `json:"workload"`
	Kind     string `json:"kind"`
	Owner    string `json:"owner"`
	Host     string `json:"host"`
	From     string `json:"from"`
	To       string `json:"to"`
	Use
}

// Use is what moved, over a span.
type Use struct {
	CPUSeconds   float64 `json:"cpu_seconds"`
	MemoryBytes  float64 `json:"memory_bytes_mean"`
	DiskBytes    float64 `json:"disk_bytes"`
	NetworkBytes float64 `json:"network_bytes"`
}

func useOf(u *store.WorkloadUse, elapsed int64) Use {
	return Use{
		CPUSeconds: amount.CPU.Amount(u.CPU, elapsed), MemoryBytes: amount.Memory.Mean(u.Memory, elapsed),
		DiskBytes: amount.Disk.Amount(u.Disk, elapsed), NetworkBytes: amount.Network.Amount(u.Network, elapsed),
	}
}

// elapsed is the time that a span's records cover, in milliseconds.
func (h *Hub) elapsed(ctx context.Context, span store.Span) (int64, error) {
	t, err := h.store.Totals(ctx, 0, span, amount.Memory)
	return t.ElapsedMillis, err
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
	return h.compare(ctx, span, book.With(position, rule), names, &rule)
}

// compare tells what another list of rules would do with the workloads of a span. One, if given, is counted by.
func (h *Hub) compare(ctx context.Context, span store.Span, tried tenancy.Book, names map[int32]string,
	one *tenancy.Rule) (*Trial, error) {
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := h.store.WorkloadUses(ctx, store.UseQuestion{Span: span})
	if err != nil {
		return nil, err
	}
	elapsed, err := h.elapsed(ctx, span)
	if err != nil {
		return nil, err
	}
	by := book.with(tried)
	trial := &Trial{Moves: []TrialMove{}, Seen: len(uses)}
	for i := range uses {
		u := &uses[i]
		s := by.subject(u.HostName, u.Core())
		if one != nil && one.Matches(s) {
			trial.Matched++
		}
		if to := by.Assign(s).TenantID; to != u.TenantID {
			trial.Moves = append(trial.Moves, TrialMove{
				Workload: u.Name, Kind: u.Kind, Owner: u.Owner, Host: u.HostName, From: named(names, u.TenantID),
				To: named(names, to), Use: useOf(u, elapsed),
			})
		}
	}
	sortMoves(trial.Moves)
	return trial, nil
}

func sortMoves(moves []TrialMove) {
	slices.SortStableFunc(moves, func(a, b TrialMove) int {
		return cmp.Or(cmp.Compare(b.CPUSeconds, a.CPUSeconds), cmp.Compare(a.Workload, b.Workload),
			cmp.Compare(a.Host, b.Host))
	})
}
