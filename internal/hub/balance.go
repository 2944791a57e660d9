package hub

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Balance answers how tenants stand over a span, on one host or on all (""). Of live frames it tells what they use: how
// they stand against quotas, and who was short, is judged by the book.
func (h *Hub) Balance(ctx context.Context, span question.Span, hostName string) (*explain.Balance, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Measures: amount.Resources(), By: []question.Dimension{question.Tenant}}
	answer, lines, err := h.store.AskWithLines(ctx, ask)
	if err != nil {
		return nil, err
	}
	tenants, err := h.balanced(ctx, hostName)
	if err != nil {
		return nil, err
	}
	about := over(span, hostName)
	if about.Missed, err = h.missed(ctx, &scope, &lines.Whole, ask.Measures...); err != nil {
		return nil, err
	}
	parts, err := h.parts(ctx, &ask, tenants, false)
	if err != nil {
		return nil, err
	}
	b := explain.ExplainBalance(about, &lines.Whole, answer.Rows, answer.Workloads, tenants, parts[fleet])
	if span.Frames {
		b.OfFrames()
		return b, nil
	}
	sets, err := h.quotaSets(ctx)
	if err != nil {
		return nil, err
	}
	group, inGroup := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		b.Short, err = h.shortages(inGroup, &scope)
		return err
	})
	group.Go(func() error { return h.standing(inGroup, sets, b, span, hostName, answer.Rows, lines) })
	return b, group.Wait()
}

// fleet stands for all hosts of a scope together where a host's number stands.
const fleet = 0

// parts asks again about the parts of a span between the moments at which a limit changed in it: on all hosts together
// or on each. There are none where no limit changed.
func (h *Hub) parts(ctx context.Context, ask *question.Question, tenants []explain.Tenant,
	byHost bool) (map[int32][]explain.Part, error) {
	moments := explain.LimitsChanged(tenants, ask.Scope.Span.From, ask.Scope.Span.To)
	if len(moments) == 0 {
		return nil, nil
	}
	parts := map[int32][]explain.Part{}
	for i, from := range append([]time.Time{ask.Scope.Span.From}, moments...) {
		part := *ask
		part.Scope.Span.From = from
		if i < len(moments) {
			part.Scope.Span.To = moments[i]
		}
		answer, lines, err := h.store.AskWithLines(ctx, part)
		if err == nil && byHost && !ask.Scope.Span.Frames {
			err = h.store.HighestByHost(ctx, &part, answer.Rows)
		}
		if err != nil {
			return nil, err
		}
		rows := map[int32][]question.Row{}
		for _, r := range answer.Rows {
			rows[r.Host] = append(rows[r.Host], r)
		}
		add := func(host int32, elapsed int64) {
			parts[host] = append(parts[host], explain.Part{From: from, ElapsedMillis: elapsed, Rows: rows[host]})
		}
		if !byHost {
			add(fleet, lines.Whole.ElapsedMillis)
			continue
		}
		for host, stretch := range lines.ByHost {
			add(host, stretch.ElapsedMillis)
		}
	}
	return parts, nil
}

// Balances answers how tenants stand on each host, a page of hosts by name: one question whatever their number. First
// is how many hosts; after is the name of the last host of the page before, and next that of this page, "" for no more.
func (h *Hub) Balances(ctx context.Context, span question.Span, first int, after string) (list []explain.Balance,
	next string, err error) {
	scope, err := h.scope(ctx, span, "")
	if err != nil {
		return nil, "", err
	}
	hosts, err := h.store.Hosts(ctx) // by name
	if err != nil {
		return nil, "", err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return x.Name <= after || !scope.HasHost(x.ID) })
	if first > 0 && len(hosts) > first {
		hosts = hosts[:first]
		next = hosts[first-1].Name
	}
	scope.Hosts = []int32{}
	for i := range hosts {
		scope.Hosts = append(scope.Hosts, hosts[i].ID)
	}
	list = []explain.Balance{}
	ask := question.Question{Scope: scope, Measures: amount.Resources(),
		By: []question.Dimension{question.Host, question.Tenant}, NoPeaks: true}
	answer, lines, err := h.store.AskWithLines(ctx, ask)
	if err != nil {
		return nil, "", err
	}
	if !span.Frames {
		if err := h.store.HighestByHost(ctx, &ask, answer.Rows); err != nil {
			return nil, "", err
		}
	}
	sets, err := h.quotaSets(ctx)
	if err != nil {
		return nil, "", err
	}
	byHost := map[int32][]explain.Tenant{}
	var all []explain.Tenant
	for i := range hosts {
		if byHost[hosts[i].ID], err = h.balanced(ctx, hosts[i].Name); err != nil {
			return nil, "", err
		}
		all = append(all, byHost[hosts[i].ID]...)
	}
	parts, err := h.parts(ctx, &ask, all, true)
	if err != nil {
		return nil, "", err
	}
	rows := map[int32][]question.Row{}
	for _, r := range answer.Rows {
		rows[r.Host] = append(rows[r.Host], r)
	}
	for i := range hosts {
		id := hosts[i].ID
		stretch, there := lines.ByHost[id]
		if !there {
			stretch.Of = make([]question.Lines, amount.NumResources)
		}
		about := over(span, hosts[i].Name)
		if about.Missed, err = h.missedOn(ctx, hosts[i:i+1], span, &stretch, amount.Resources()...); err != nil {
			return nil, "", err
		}
		b := explain.ExplainBalance(about, &stretch, rows[id], lines.Workloads[id], byHost[id], parts[id])
		if list = append(list, *b); span.Frames {
			list[len(list)-1].OfFrames()
			continue
		}
		b = &list[len(list)-1]
		lines := &store.HostLines{Whole: stretch}
		if err := h.standing(ctx, sets, b, span, hosts[i].Name, rows[id], lines); err != nil {
			return nil, "", err
		}
	}
	return list, next, nil
}

// over says what an answer is about.
func over(span question.Span, hostName string) explain.Over {
	return explain.Over{From: span.From, To: span.To, Host: hostOr(hostName)}
}

// balanced lists all tenants with the changes of their ceilings on what they use of a host, or of all ("") together. A
// tenant with parts is not held against its own here: a balance tells apart what its parts used.
func (h *Hub) balanced(ctx context.Context, hostName string) ([]explain.Tenant, error) {
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	changes, err := h.store.QuotaChanges(ctx)
	scope := tenancy.Scope{Kind: tenancy.Fleet}
	if hostName != "" {
		scope = tenancy.Scope{Kind: tenancy.OneHost, Name: hostName}
	}
	family, names := familyOf(tenants)
	list := make([]explain.Tenant, len(tenants))
	for i, t := range tenants {
		list[i] = explain.Tenant{ID: t.ID, Name: t.Name, Colour: int(t.Colour),
			Limits: map[amount.Resource][]tenancy.LimitChange{}}
		for _, part := range family.Parts(t.ID) {
			list[i].Parts = append(list[i].Parts, names[part])
		}
		if len(list[i].Parts) > 0 {
			continue
		}
		for k := range changes {
			c := &changes[k]
			isOther := c.TenantID != t.ID || c.WindowBy != "" || tenancy.ScopeKind(c.ScopeKind) != scope.Kind ||
				c.Scope != scope.Name || tenancy.Basis(c.Basis) != tenancy.Used
			if r, err := amount.ParseResource(c.Resource); err == nil && !isOther {
				list[i].Limits[r] = append(list[i].Limits[r], limitChange(c))
			}
		}
	}
	return list, err
}
