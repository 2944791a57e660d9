package hub

import (
	"cmp"
	"context"
	"slices"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Trial says what a rule would do, were it added: nothing is changed.
type Trial struct {
	Moves   []TrialMove `json:"moves" doc:"Workloads that would change tenant, by CPU time, most first."`
	Matched int         `json:"workloads_matched" doc:"Workloads that the expression matches."`
	Seen    int         `json:"workloads_seen" doc:"Workloads of the span."`
}

// TrialMove is one workload that would change tenant, with its use over the span.
type TrialMove struct {
	Workload string    `json:"workload"`
	Kind     string    `json:"kind"`
	Owner    string    `json:"owner"`
	Host     string    `json:"host"`
	From     string    `json:"from"`
	To       string    `json:"to"`
	Uses     []PartUse `json:"uses" doc:"What moves of each resource, in the order of resources."`
}

// CPUSeconds is how much CPU time moves.
func (m *TrialMove) CPUSeconds() float64 {
	if a := m.Uses[amount.CPU].Amount; a != nil {
		return *a
	}
	return 0
}

// TryRule tells, for the workloads of a span, which would move were a rule added at a position (last for 0), and how
// much use that is. It changes nothing.
func (h *Hub) TryRule(ctx context.Context, span question.Span, position int, tenant, expression string) (*Trial,
	error) {
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

// presence is the workloads of a span with what they used of every resource.
type presence struct {
	rows    []question.Row
	of      map[int64]store.Workload
	elapsed int64
}

func (h *Hub) present(ctx context.Context, span question.Span, only []int64) (*presence, error) {
	scope, err := h.scope(ctx, span, "")
	if err != nil {
		return nil, err
	}
	scope.Only = only
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: amount.Resources(),
		By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(answer.Rows))
	for i := range answer.Rows {
		ids[i] = answer.Rows[i].Workload
	}
	of, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	elapsed, err := h.elapsed(ctx, scope)
	return &presence{answer.Rows, of, elapsed}, err
}

// move tells of a workload that changes tenant.
func move(w *store.Workload, from, to string, uses []PartUse) TrialMove {
	return TrialMove{Workload: w.Name, Kind: w.Kind, Owner: w.Owner, Host: w.Host.Name, From: from, To: to, Uses: uses}
}

// compare tells what another list of rules would do with the workloads of a span. One, if given, is counted by.
func (h *Hub) compare(ctx context.Context, span question.Span, tried tenancy.Book, names map[int32]string,
	one *tenancy.Rule) (*Trial, error) {
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	present, err := h.present(ctx, span, nil)
	if err != nil {
		return nil, err
	}
	by := book.with(tried)
	trial := &Trial{Moves: []TrialMove{}, Seen: len(present.rows)}
	for i := range present.rows {
		r := &present.rows[i]
		w := present.of[r.Workload]
		s := by.subject(w.Host.Name, w.Core())
		if one != nil && one.Matches(s) {
			trial.Matched++
		}
		if to := by.Assign(s).TenantID; to != w.TenantID {
			trial.Moves = append(trial.Moves, move(&w, named(names, w.TenantID), named(names, to),
				partUses(r, present.elapsed)))
		}
	}
	sortMoves(trial.Moves)
	return trial, nil
}

func sortMoves(moves []TrialMove) {
	slices.SortStableFunc(moves, func(a, b TrialMove) int {
		return cmp.Or(cmp.Compare(b.CPUSeconds(), a.CPUSeconds()), cmp.Compare(a.Workload, b.Workload),
			cmp.Compare(a.Host, b.Host))
	})
}
