package hub

import (
	"context"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Question is what share and ledger ask.
type Question struct {
	Span     store.Span
	Resource amount.Resource
	By       string
	Host     string // "" for all
	Tenant   string // "" for all
	Where    string // only workloads that this expression matches; "" for all
	Sort     string // one of sheet.Orders; "" for largest first
	First    int    // shares listed; 0 for all
}

// Ledger answers a question with a ledger that balances and its shares.
func (h *Hub) Ledger(ctx context.Context, q Question) (*sheet.Ledger, error) {
	ask := store.ShareQuestion{Span: q.Span, Resource: q.Resource, By: q.By}
	l := &sheet.Ledger{Host: Fleet, From: q.Span.From, To: q.Span.To}
	if q.Host != "" {
		host, err := h.Host(ctx, q.Host)
		if err != nil {
			return nil, err
		}
		ask.HostID, l.Host = host.ID, host.Name
	}
	if !store.IsDimension(q.By) {
		return nil, problem(Invalid, "cannot group by %q: choose one of %s, or label:KEY", q.By,
			strings.Join(store.Dimensions, ", "))
	}
	if err := sheet.CheckOrder(q.Sort); err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	if q.Tenant != "" {
		id := int32(0)
		if q.Tenant != Unassigned {
			t, err := h.Tenant(ctx, q.Tenant)
			if err != nil {
				return nil, err
			}
			id = t.ID
		}
		ask.TenantID = &id
	}
	matches, err := h.filter(ctx, q.Where)
	if err != nil {
		return nil, err
	}
	if ask.Only, err = h.matching(ctx, store.UseQuestion{Span: q.Span, HostID: ask.HostID}, q.Where); err != nil {
		return nil, err
	}
	totals, err := h.store.Totals(ctx, ask.HostID, q.Span, q.Resource)
	if err != nil {
		return nil, err
	}
	rows, err := h.store.Shares(ctx, ask)
	if err != nil {
		return nil, err
	}
	sum := 0.0
	l.Shares = make([]sheet.Share, 0, len(rows))
	for i := range rows {
		sum += rows[i].Units
		l.Shares = append(l.Shares, shareOf(&rows[i], q.By, q.Resource, totals.ElapsedMillis))
	}
	l.Fill(totals, sum)
	if q.Tenant != "" || q.Where != "" {
		l.Residual = nil
		l.Notes["residual"] = "only some shares were asked for; ask for all for the balance"
	}
	if l.Warming, err = h.warming(ctx, ask.HostID, q.Span, matches, ask.TenantID); err != nil {
		return nil, err
	}
	l.Sort(q.Sort)
	l.Keep(q.First)
	return l, nil
}

// filter compiles an expression that chooses workloads; nil for "".
func (h *Hub) filter(ctx context.Context, where string) (func(host string, w *store.Workload) bool, error) {
	if where == "" {
		return nil, nil
	}
	rule, err := tenancy.Compile(0, 0, where)
	if err != nil {
		return nil, problem(Invalid, "%v", strings.ReplaceAll(err.Error(), "the rule", "the filter"))
	}
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	return func(host string, w *store.Workload) bool { return rule.Matches(book.subject(host, w.Core())) }, nil
}

// warming lists the workloads that were seen in a span that reaches until now and have no usage yet.
func (h *Hub) warming(ctx context.Context, hostID int32, span store.Span, matches func(string, *store.Workload) bool,
	tenantID *int32) ([]sheet.Warming, error) {
	now := h.options.Now()
	if span.To.Before(now.Add(-time.Minute)) {
		return nil, nil
	}
	// One that is late by more than a minute has ended before its first usage, or its collector has.
	waiting, err := h.store.Warming(ctx, hostID, now.Add(-time.Minute))
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	var out []sheet.Warming
	for i := range waiting {
		w := &waiting[i]
		if matches != nil && !matches(w.Host.Name, w) || tenantID != nil && *tenantID != w.TenantID {
			continue
		}
		out = append(out, sheet.Warming{
			WorkloadID: w.ID, Name: w.Name, Kind: w.Kind, Owner: w.Owner, Tenant: named(names, w.TenantID),
			Host:  w.Host.Name,
			DueAt: w.DueAt.UTC(), DueInSeconds: max(w.DueAt.Sub(now).Seconds(), 0),
		})
	}
	return out, nil
}

func shareOf(row *store.ShareRow, by string, r amount.Resource, elapsed int64) sheet.Share {
	s := sheet.Share{
		Name: row.Name, Kind: row.Kind, Owner: row.Owner, Tenant: row.Tenant, Host: row.Host, Parts: row.Parts,
		Missing: row.Missing,
		Source:  amount.Source(row.Source).String(), WorkloadID: row.WorkloadID, Workload: row.Workload,
	}
	switch {
	case by == "tenant" && row.TenantID == 0:
		s.Name, s.First = Unassigned, true
	case (by == "program" || by == "family") && row.Name == "":
		s.Name = account.NoProgramName
	case row.Name == "" && by != "user":
		s.Name = "(none)"
	case by == "user" && row.Name == "":
		s.Name = "(owner not known)"
	}
	if by == "workload" && row.TenantID == 0 {
		s.Tenant = Unassigned
	}
	if row.Missing > 0 || amount.Source(row.Source) == amount.Unavailable {
		s.Reason = sheet.Reason(r)
	}
	if amount.Source(row.Source) == amount.Unavailable {
		return s
	}
	a, m := r.Amount(row.Units, elapsed), r.Mean(row.Units, elapsed)
	s.Amount, s.Mean = &a, &m
	if by == "workload" {
		peak := sheet.PeakMean(r, row.Peak)
		s.Peak = &peak
	}
	return s
}
