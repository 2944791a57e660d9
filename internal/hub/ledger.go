package hub

import (
	"context"
	"maps"
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/sheet"
)

// Question is what share and ledger ask.
type Question struct {
	Asked
	Measure amount.Measure
	By      string // a dimension
	Sort    string // one of question.Orders; "" for largest first
	First   int    // shares listed; 0 for all
	After   string // cursor of the page; "" for the first
}

// Ledger answers a question with a ledger that balances and its shares. A measure without a ledger has shares alone.
func (h *Hub) Ledger(ctx context.Context, q Question) (*sheet.Ledger, error) {
	by, err := question.ParseDimension(q.By)
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	order, err := question.ParseOrder(q.Sort)
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	after, err := question.ParseKey(q.After)
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	scope, err := h.filtered(ctx, &q.Asked)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Measures: []amount.Measure{q.Measure}, By: []question.Dimension{by},
		Order: order, Page: question.Page{First: q.First, After: after}}
	if by == question.Workload {
		ask.By = append(ask.By, question.Tenant) // one that changed tenant has a share under each
	}
	if _, err := question.PlanFor(ask); err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	lines := ask
	lines.Measures = slices.DeleteFunc(slices.Clone(ask.Measures),
		func(m amount.Measure) bool { return !m.HasLedger() })
	stretch, err := h.stretch(ctx, lines)
	if err != nil {
		return nil, err
	}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, err
	}
	l := &sheet.Ledger{Host: hostOr(q.Host), From: q.Span.From, To: q.Span.To, Next: answer.Next.String(),
		Shares: make([]sheet.Share, 0, len(answer.Rows))}
	shown := 0.0
	for i := range answer.Rows {
		shown += answer.Rows[i].Sums[0].Units
		l.Shares = append(l.Shares, shareOf(&answer.Rows[i], by, q.Measure, stretch.ElapsedMillis))
	}
	l.Fill(q.Measure, stretch, answer.Total.Units[0])
	l.Note = question.PastKeeping(answer.Grain)
	if l.Missed, err = h.missed(ctx, &scope, stretch, q.Measure); err != nil {
		return nil, err
	}
	if !scope.IsWhole() && q.Measure.HasLedger() {
		l.Residual = nil
		l.Notes["residual"] = "only some shares were asked for; ask for all for the balance"
	}
	inventories, err := h.store.Inventories(ctx, scope.Hosts)
	if err != nil {
		return nil, err
	}
	l.Explain(q.Measure, stretch, answer.Total.Units[0], slices.Collect(maps.Values(inventories)))
	if q.First > 0 && after == nil {
		l.LeftOut = answer.Total.Rows - len(answer.Rows)
		l.LeftOutBy = q.Measure.Amount(max(answer.Total.Units[0]-shown, 0), stretch.ElapsedMillis)
	}
	l.Warming, err = h.warmingLines(ctx, scope, q.Where)
	return l, err
}

// hostOr is a host's name, or the word for all.
func hostOr(name string) string {
	if name == "" {
		return Fleet
	}
	return name
}

// tenantID finds a tenant's number by name; 0 for what is unassigned.
func (h *Hub) tenantID(ctx context.Context, name string) (int32, error) {
	if name == Unassigned {
		return 0, nil
	}
	t, err := h.Tenant(ctx, name)
	return t.ID, err
}

// warmingLines tells of the workloads of a scope that have no usage yet.
func (h *Hub) warmingLines(ctx context.Context, scope question.Scope, where string) ([]sheet.Warming, error) {
	waiting, err := h.warming(ctx, scope, where)
	if err != nil || len(waiting) == 0 {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	now := h.options.Now()
	var out []sheet.Warming
	for i := range waiting {
		w := &waiting[i]
		out = append(out, sheet.Warming{
			WorkloadID: w.ID, Name: w.Name, Kind: w.Kind, Owner: w.Owner, Tenant: named(names, w.TenantID),
			Host: w.Host.Name, DueAt: w.DueAt.UTC(), DueInSeconds: max(w.DueAt.Sub(now).Seconds(), 0),
		})
	}
	return out, nil
}

func shareOf(row *question.Row, by question.Dimension, m amount.Measure, elapsed int64) sheet.Share {
	sum := &row.Sums[0]
	s := sheet.Share{
		Name: row.Name, Kind: row.Names.Kind, Owner: row.Names.Owner, Tenant: row.Names.Tenant, Host: row.Names.Host,
		Workload: row.Names.Workload, WorkloadID: row.Workload, Parts: row.Parts, Missing: sum.Missing,
		Source: sum.Source.String(), Reason: explain.Reason(m, sum),
	}
	switch {
	case by == question.Tenant && row.Tenant == 0:
		s.Name, s.Tenant, s.First = Unassigned, "", true
	case by == question.Tenant:
		s.Tenant = ""
	case by == question.Workload && row.Tenant == 0:
		s.Tenant = Unassigned
	case (by == question.Program || by == question.Family) && row.Name == "":
		s.Name = account.NoProgramName
	case by == question.User && row.Name == "":
		s.Name = "(owner not known)"
	case row.Name == "":
		s.Name = "(none)"
	}
	if !sum.Known() {
		return s
	}
	if m.Entry().IsSlow && sum.Over > 0 {
		elapsed = sum.Over
	}
	a, mean := m.Amount(sum.Units, elapsed), m.Mean(sum.Units, elapsed)
	s.Amount, s.Mean = &a, &mean
	if by == question.Workload && m.HasLedger() {
		s.Peak = &sum.Peak
	}
	return s
}
