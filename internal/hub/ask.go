package hub

import (
	"context"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Asked is what every question about usage may be narrowed by.
type Asked struct {
	Span  question.Span
	Host  string // "" for all
	Where string // only workloads that this expression matches; "" for all

	Tenant string // only what was this tenant's; "" for all
	Pool   string // only hosts of this pool; "" for all
}

// sees lists the tenants whose figures the caller may see; nil is all. Readers see all for now.
func (h *Hub) sees(context.Context) []int32 { return nil }

// scope makes the scope of a question: its span, its hosts, and the bounds of who asks. Every question of the service
// about usage gets its scope here.
func (h *Hub) scope(ctx context.Context, span question.Span, hostName string) (question.Scope, error) {
	s := question.Scope{Span: span, Sees: h.sees(ctx)}
	if hostName == "" {
		return s, nil
	}
	host, err := h.Host(ctx, hostName)
	s.Hosts = []int32{host.ID}
	return s, err
}

// filtered is the scope of a question: of a tenant, where one was named, and with the workloads that its expression
// matches.
func (h *Hub) filtered(ctx context.Context, q *Asked) (question.Scope, error) {
	scope, err := h.scope(ctx, q.Span, q.Host)
	if err == nil && q.Pool != "" {
		err = h.within(ctx, &scope, q.Pool)
	}
	if err == nil && q.Tenant != "" {
		var id int32
		id, err = h.tenantID(ctx, q.Tenant)
		scope.Tenants = []int32{id}
	}
	if err != nil || q.Where == "" {
		return scope, err
	}
	matches, err := h.filter(ctx, q.Where)
	if err != nil {
		return scope, err
	}
	present, err := h.store.Present(ctx, &scope)
	if err != nil {
		return scope, err
	}
	scope.Only = []int64{}
	for i := range present {
		if matches(present[i].Host.Name, &present[i]) {
			scope.Only = append(scope.Only, present[i].ID)
		}
	}
	return scope, nil
}

// about says what an answer is about.
func (q *Asked) about() explain.Over {
	about := over(q.Span, q.Host)
	if q.Host == "" && q.Pool != "" {
		about.Host = "pool " + q.Pool
	}
	return about
}

// within leaves of a scope the hosts of a pool.
func (h *Hub) within(ctx context.Context, scope *question.Scope, pool string) error {
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return err
	}
	among := scope.Hosts
	scope.Hosts = []int32{}
	isPool := false
	for i := range hosts {
		if !slices.Contains(pools[hosts[i].Name], pool) {
			continue
		}
		isPool = true
		if among == nil || slices.Contains(among, hosts[i].ID) {
			scope.Hosts = append(scope.Hosts, hosts[i].ID)
		}
	}
	if !isPool {
		return problem(NotFound, "no host is in a pool %q: \"vinescale hosts\" tells which pools there are", pool)
	}
	return nil
}

// filter compiles an expression that chooses workloads.
func (h *Hub) filter(ctx context.Context, where string) (func(host string, w *store.Workload) bool, error) {
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

// Told are the resources that hosts tell of: of those that not every host has, some host told in the last day.
func (h *Hub) Told(ctx context.Context) (map[amount.Resource]bool, error) {
	told := map[amount.Resource]bool{}
	var optional []amount.Measure
	for _, r := range amount.Resources() {
		if told[r] = !r.Entry().IsOptional; !told[r] {
			optional = append(optional, r)
		}
	}
	now := h.options.Now()
	scope, err := h.scope(ctx, question.Span{From: now.Add(-24 * time.Hour), To: now}, "")
	if err != nil {
		return nil, err
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: scope, Measures: optional})
	for i, r := range optional {
		told[r] = stretch.ElapsedMillis > 0 && stretch.Of[i].Used.OK()
	}
	return told, err
}

// stretch is the host-wide lines of measures over a scope's whole span; one of no time where nothing was recorded.
func (h *Hub) stretch(ctx context.Context, q question.Question) (*question.Stretch, error) {
	stretches, err := h.store.Lines(ctx, q)
	if err != nil || len(stretches) == 0 {
		return &question.Stretch{Of: make([]question.Lines, len(q.Measures))}, err
	}
	return &stretches[0], nil
}

// reportsWithin is how long after its end an interval may come before it is missed.
const reportsWithin = 2 * time.Minute

// Missed is what answers about a span lack, of one host or of all (""): the parts that some host told nothing of, and
// what was missed of any resource.
func (h *Hub) Missed(ctx context.Context, span question.Span, hostName string) (explain.Missed, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return explain.Missed{}, err
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return explain.Missed{}, err
	}
	return h.missed(ctx, &scope, stretch, amount.Resources()...)
}

// missed is what answers about some measures in a scope lack; the stretch is that of its whole span.
func (h *Hub) missed(ctx context.Context, scope *question.Scope, s *question.Stretch,
	measures ...amount.Measure) (m explain.Missed, err error) {
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return m, err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return !scope.HasHost(x.ID) })
	return h.missedOn(ctx, hosts, scope.Span, s, measures...)
}

// missedOn is missed of some hosts. Those that never told anything are awaited, and miss nothing; of the others figures
// are expected from their first on.
func (h *Hub) missedOn(ctx context.Context, hosts []store.Host, span question.Span, s *question.Stretch,
	measures ...amount.Measure) (m explain.Missed, err error) {
	m.Caveats = explain.CaveatsOf(s.Caveats, measures...)
	expected, err := h.expected(ctx, hosts, span, s.Told)
	if err != nil {
		return m, err
	}
	m.Uncovered = explain.ExplainUncovered(span, h.toldUntil(span), expected, s.Told)
	return m, nil
}

// toldUntil is until when hosts that report have told of a span.
func (h *Hub) toldUntil(span question.Span) time.Time {
	if span.Frames { // which ends where all that still tell have told
		return span.To
	}
	return h.options.Now().Add(-reportsWithin)
}

// expected are the hosts that records of a span are expected of, each from when on. Those that never told anything are
// awaited, and miss nothing.
func (h *Hub) expected(ctx context.Context, hosts []store.Host, span question.Span, told []question.HostTold) (
	[]explain.Expected, error) {
	atBegin := map[int32]bool{}
	for _, t := range told {
		atBegin[t.Host] = !t.From.After(span.From)
	}
	var late []int32
	for i := range hosts {
		if hosts[i].LastAt != nil && !atBegin[hosts[i].ID] {
			late = append(late, hosts[i].ID)
		}
	}
	first, err := h.store.FirstTold(ctx, late)
	var expected []explain.Expected
	for i := range hosts {
		if hosts[i].LastAt != nil {
			expected = append(expected, explain.Expected{ID: hosts[i].ID, Name: hosts[i].Name,
				From: first[hosts[i].ID]})
		}
	}
	return expected, err
}

// elapsed is the time that a scope's records cover, in milliseconds: the longest of any host.
func (h *Hub) elapsed(ctx context.Context, scope question.Scope) (int64, error) {
	s, err := h.stretch(ctx, question.Question{Scope: scope})
	return s.ElapsedMillis, err
}

// namesOf puts names to the workloads and tenants of figures.
func (h *Hub) namesOf(ctx context.Context, users []explain.User) (explain.Names, error) {
	ids := make([]int64, 0, len(users))
	for i, u := range users {
		if i == 0 || users[i-1].Workload != u.Workload {
			ids = append(ids, u.Workload)
		}
	}
	stored, err := h.store.Callings(ctx, ids)
	if err != nil {
		return nil, err
	}
	tenants, err := h.tenantNames(ctx)
	return func(u explain.User) explain.UserRef {
		w := stored[u.Workload]
		return explain.UserRef{WorkloadRef: explain.WorkloadRef{ID: w.ID, Name: w.Name, Kind: w.Kind}, Owner: w.Owner,
			Tenant: named(tenants, u.Tenant)}
	}, err
}

// warming lists the workloads of a scope that were seen in a span that reaches until now and have no usage yet.
func (h *Hub) warming(ctx context.Context, scope question.Scope, where string) ([]store.Workload, error) {
	now := h.options.Now()
	// Frames tell of a workload from its second reading on.
	if scope.Span.Frames || scope.Span.To.Before(now.Add(-time.Minute)) {
		return nil, nil
	}
	if where != "" {
		scope.Only = nil // those that have no usage yet are chosen by the expression itself
	}
	// One that is late by more than a minute has ended before its first usage, or its collector has.
	waiting, err := h.store.Warming(ctx, &scope, now.Add(-time.Minute))
	if err != nil || where == "" {
		return waiting, err
	}
	matches, err := h.filter(ctx, where)
	if err != nil {
		return nil, err
	}
	kept := waiting[:0]
	for i := range waiting {
		if matches(waiting[i].Host.Name, &waiting[i]) {
			kept = append(kept, waiting[i])
		}
	}
	return kept, nil
}
