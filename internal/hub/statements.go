package hub

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/statement"
	"vinescale/internal/store"
)

// correctsBack is how many closed windows an account looks back on for what has changed since they were closed.
const correctsBack = 3

// Account is the account of a window: its closed statements, or a draft of what would be closed now.
func (h *Hub) Account(ctx context.Context, window string) (*statement.Account, error) {
	tariff, _, err := h.tariff(ctx)
	if err != nil {
		return nil, err
	}
	from, to, err := h.window(&tariff, window)
	if err != nil {
		return nil, err
	}
	var closed []store.Statement
	if window != "" { // by its name: it may have been closed by another tariff, whose windows are others
		closed, err = h.store.Statements(ctx, &store.StatementsOf{Window: window})
	}
	if err == nil && len(closed) == 0 {
		closed, err = h.store.Statements(ctx, &store.StatementsOf{From: from})
		if len(closed) > 0 && !closed[0].WindowTo.Equal(to) {
			closed = nil
		}
	}
	if err != nil {
		return nil, err
	}
	if len(closed) > 0 {
		a := &statement.Account{Window: closed[0].WindowName, From: closed[0].WindowFrom.UTC(),
			To: closed[0].WindowTo.UTC(), Proof: []statement.Proof{}}
		for i := range closed {
			a.Statements = append(a.Statements, closed[i].Value)
		}
		return a, nil
	}
	a, _, err := h.draft(ctx, &tariff, from, to)
	return a, err
}

// window finds the window that is meant: this (now; also when left out), last (the one before), or by a month or a day
// that is in it.
func (h *Hub) window(t *statement.Tariff, text string) (from, to time.Time, err error) {
	switch text {
	case "", "this":
		from, to = t.At(h.options.Now())
		return from, to, nil
	case "last":
		from, _ = t.At(h.options.Now())
		from, to = t.At(from.Add(-time.Second))
		return from, to, nil
	}
	for _, form := range []string{"2006-01", time.DateOnly} {
		if day, err := time.Parse(form, text); err == nil {
			if y := day.Year(); y < 1971 || y > 2199 {
				break
			}
			from, to = t.Bounds(day)
			return from, to, nil
		}
	}
	return from, to, problem(
		Invalid,
		"a window %q: give this, last, a month such as 2026-10, or a day that is in it",
		text,
	)
}

// draft makes the account of a window, with corrections of those before. It returns the corrections that it has.
func (h *Hub) draft(ctx context.Context, t *statement.Tariff, from, to time.Time) (*statement.Account, []int64, error) {
	if from.After(h.options.Now()) {
		return nil, nil, problem(Invalid, "the window from %s on has not begun", from.Format(time.RFC3339))
	}
	a, err := h.draw(ctx, t, from, to)
	if err != nil {
		return nil, nil, err
	}
	if err := h.besides(ctx, a); err != nil {
		return nil, nil, err
	}
	before, err := h.before(ctx, from)
	if err != nil {
		return nil, nil, err
	}
	waiting, err := h.store.Corrections(ctx, true)
	if err != nil {
		return nil, nil, err
	}
	var ids []int64
	var by []statement.Correction
	for i := range waiting {
		ids, by = append(ids, waiting[i].ID), append(by, waiting[i].Value)
	}
	a.Correct(before, by)
	return a, ids, nil
}

// draw makes the account of a window from the book alone.
func (h *Hub) draw(ctx context.Context, t *statement.Tariff, from, to time.Time) (*statement.Account, error) {
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	g := &statement.Ground{From: from, To: to, Tariff: *t}
	names := map[int32]string{}
	for i := range hosts {
		names[hosts[i].ID] = hosts[i].Name
	}
	poolsOf := func(host string) string { return strings.Join(pools[host], ", ") }
	silent := map[string]time.Duration{}
	for _, part := range t.Stretches(from, to) {
		span := question.Span{From: part.From, To: part.To}
		q := question.Question{Scope: question.Scope{Span: span}, Measures: amount.Resources(), NoPeaks: true,
			By: []question.Dimension{question.Tenant, question.Host, question.Kind, question.User}}
		if t.Label != "" {
			q.By = append(q.By, question.Dimension("label:"+t.Label))
		}
		answer, lines, err := h.store.AskWithLines(ctx, q)
		if err != nil {
			return nil, err
		}
		p := statement.Part{Stretch: part}
		for i := range answer.Rows {
			p.Uses = append(p.Uses, useOf(&answer.Rows[i], t.Label != "", poolsOf))
		}
		for id := range lines.ByHost {
			stretch := lines.ByHost[id]
			p.Hosts = append(p.Hosts, statement.HostLedgers{Host: names[id], Pools: poolsOf(names[id]),
				Of: ledgersOf(&stretch, names[id])})
		}
		slices.SortFunc(p.Hosts, func(a, b statement.HostLedgers) int { return strings.Compare(a.Host, b.Host) })
		g.Stretches = append(g.Stretches, p)
		if err := h.silentIn(ctx, hosts, span, &lines.Whole, silent); err != nil {
			return nil, err
		}
	}
	until := h.toldUntil(question.Span{})
	if until.After(to) {
		until = to
	}
	for host, lacking := range silent {
		g.Hosts = append(g.Hosts, statement.Coverage{Host: host, Told: (until.Sub(from) - lacking).Hours(),
			Of: until.Sub(from).Hours()})
	}
	slices.SortFunc(g.Hosts, func(a, b statement.Coverage) int { return strings.Compare(a.Host, b.Host) })
	return statement.Draw(g), nil
}

// useOf is a row of what tenants used, by host, kind, owner and perhaps a label.
func useOf(r *question.Row, byLabel bool, poolsOf func(string) string) statement.Use {
	x := statement.Use{Tenant: cmp.Or(r.Names.Tenant, statement.Unassigned), Host: r.Names.Host,
		Pools: poolsOf(
			r.Names.Host,
		), Kind: r.Names.Kind, Owner: r.Names.Owner, Of: make([]statement.Amount, amount.NumResources)}
	if byLabel {
		x.Label = r.Name
	}
	for i := range r.Sums {
		sum := &r.Sums[i]
		x.Of[i] = statement.Amount{Units: sum.Exact, IsKnown: sum.Known(), Missing: sum.Missing - sum.Untold}
	}
	return x
}

// withoutHost is a reason that names the host, without its name.
func withoutHost(reason, host string) string { return strings.TrimSuffix(reason, " ("+host+")") }

// ledgersOf are the lines of a host's ledgers.
func ledgersOf(s *question.Stretch, host string) []statement.Ledger {
	list := make([]statement.Ledger, amount.NumResources)
	for i := range s.Of {
		l := &s.Of[i]
		list[i] = statement.Ledger{Used: l.Used.Exact, Idle: l.Idle.Exact, Kernel: l.Kernel.Exact, Steal: l.Steal.Exact,
			NoUsed: withoutHost(l.Used.Reason, host), NoIdle: withoutHost(l.Idle.Reason, host)}
	}
	return list
}

// silentIn adds for how long each host did not tell of a span.
func (h *Hub) silentIn(ctx context.Context, hosts []store.Host, span question.Span, whole *question.Stretch,
	silent map[string]time.Duration) error {
	expected, err := h.expected(ctx, hosts, span, whole.Told)
	if err != nil {
		return err
	}
	for _, x := range expected {
		if u := explain.ExplainUncovered(span, h.toldUntil(span), []explain.Expected{x}, whole.Told); u != nil {
			silent[x.Name] += time.Duration(u.Seconds * float64(time.Second))
		}
	}
	return nil
}

// besides puts to the statements of a window what tenants were entitled to, and how they stood against their quotas.
func (h *Hub) besides(ctx context.Context, a *statement.Account) error {
	span := question.Span{From: a.From, To: a.To}
	scope := question.Scope{Span: span}
	answer, lines, err := h.store.AskWithLines(ctx, question.Question{Scope: scope, NoPeaks: true,
		Measures: amount.Resources(), By: []question.Dimension{question.Tenant}})
	if err != nil || lines.Whole.ElapsedMillis == 0 {
		return err
	}
	sets, err := h.quotaSets(ctx)
	if err != nil {
		return err
	}
	b := &explain.Balance{}
	work := &standWork{Hub: h, scope: scope, elapsed: lines.Whole.ElapsedMillis}
	if work.held, err = h.standScopes(ctx, sets, b, span, "", answer.Rows, lines, true); err != nil {
		return err
	}
	if work.held == nil { // no quota needed it
		if err := work.findHeld(ctx); err != nil {
			return err
		}
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return err
	}
	numbers := map[string]int32{statement.Unassigned: 0}
	for _, t := range tenants {
		numbers[t.Name] = t.ID
	}
	for i := range a.Statements {
		s := &a.Statements[i]
		if s.Tenant == statement.Shared {
			continue
		}
		id := numbers[s.Tenant]
		for _, r := range amount.Resources() {
			held, _, unheld := explain.SumHeld(work.held, []int32{id}, r)
			if held == nil || *held == 0 {
				continue
			}
			sum := sumOf(answer.Rows, []int32{id}, int(r))
			x := statement.Holding{Resource: r.String(), Unit: r.MeanUnit(), Held: held, Unheld: unheld,
				Used: r.Mean(sum.Units, work.elapsed)}
			unused := max(*held-x.Used, 0)
			x.Unused = &unused
			s.Held = append(s.Held, x)
		}
		s.Limits = append(s.Limits, limitsOf(b, s.Tenant)...)
	}
	return nil
}

// limitsOf is how a tenant stood against its quotas.
func limitsOf(b *explain.Balance, tenant string) (list []statement.Limit) {
	for i := range b.Stands {
		x := &b.Stands[i]
		if x.Tenant != tenant {
			continue
		}
		l := statement.Limit{Resource: x.Resource, Unit: x.Unit, On: x.On, Limit: cmp.Or(x.Ceiling, x.Soft),
			Used: x.Against}
		if x.Exceeded != nil {
			seconds := float64(x.Exceeded.Minutes) * 60
			l.Over = &seconds
		}
		list = append(list, l)
	}
	for i := range b.Allowances {
		x := &b.Allowances[i]
		if x.Tenant != tenant {
			continue
		}
		l := statement.Limit{
			Resource: x.Resource,
			Unit:     x.Unit,
			On:       x.On,
			Window:   x.Window,
			Limit:    cmp.Or(x.Amount, x.Soft),
			Used:     x.Spent,
		}
		if x.Left != nil {
			over := max(-*x.Left, 0)
			l.Overrun = &over
		}
		list = append(list, l)
	}
	return list
}

// before gathers the closed windows before a moment that have to be looked at again.
func (h *Hub) before(ctx context.Context, from time.Time) ([]statement.Before, error) {
	heads, err := h.store.Statements(ctx, &store.StatementsOf{NoLines: true})
	if err != nil {
		return nil, err
	}
	var windows []time.Time
	for i := range heads {
		if at := heads[i].WindowFrom; at.Before(from) && !slices.ContainsFunc(windows, at.Equal) {
			windows = append(windows, at)
		}
	}
	slices.SortFunc(windows, time.Time.Compare)
	windows = windows[max(len(windows)-correctsBack, 0):]
	tariffs, err := h.tariffs(ctx)
	if err != nil {
		return nil, err
	}
	var list []statement.Before
	for _, at := range windows {
		closed, err := h.store.Statements(ctx, &store.StatementsOf{From: at})
		if err != nil {
			return nil, err
		}
		b := statement.Before{Tariff: tariffs[0]}
		if v := closed[0].Tariff; v != nil {
			b.Tariff = tariffs[*v]
		}
		var numbers []int64
		for i := range closed {
			b.Closed = append(b.Closed, closed[i].Value)
			numbers = append(numbers, closed[i].Number)
		}
		if b.Later, err = h.laterLines(ctx, heads, at, numbers); err != nil {
			return nil, err
		}
		if b.Now, err = h.draw(ctx, &b.Tariff, at.UTC(), closed[0].WindowTo.UTC()); err != nil {
			return nil, err
		}
		list = append(list, b)
	}
	return list, nil
}

// laterLines are the lines of statements of later windows that correct some.
func (h *Hub) laterLines(ctx context.Context, heads []store.Statement, after time.Time, numbers []int64) (
	[]statement.Later, error) {
	later := []int64{}
	for i := range heads {
		if heads[i].WindowFrom.After(after) {
			later = append(later, heads[i].Number)
		}
	}
	whole, err := h.store.Statements(ctx, &store.StatementsOf{ByNumber: later})
	var lines []statement.Later
	for i := range whole {
		for k := range whole[i].Value.Lines {
			if l := &whole[i].Value.Lines[k]; slices.Contains(numbers, l.Corrects) {
				lines = append(lines, statement.Later{Tenant: whole[i].Tenant, Line: *l})
			}
		}
	}
	return lines, err
}
