package hub

import (
	"context"
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
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
	if !slices.Contains(store.Dimensions, q.By) {
		return nil, problem(Invalid, "cannot group by %q: choose one of %s", q.By, strings.Join(store.Dimensions, ", "))
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
	if q.Tenant != "" {
		l.Residual = nil
		l.Notes["residual"] = "only one tenant's shares are listed; ask without the tenant for the balance"
	}
	l.Sort(q.First)
	return l, nil
}

func shareOf(row *store.ShareRow, by string, r amount.Resource, elapsed int64) sheet.Share {
	s := sheet.Share{
		Name: row.Name, Kind: row.Kind, Owner: row.Owner, Tenant: row.Tenant, Host: row.Host, Parts: row.Parts, Missing: row.Missing,
		Source: amount.Source(row.Source).String(),
	}
	switch {
	case by == "tenant" && row.TenantID == 0:
		s.Name = Unassigned
	case by == "program" && row.Name == "":
		s.Name = account.NoProgramName
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
