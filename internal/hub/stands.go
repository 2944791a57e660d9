package hub

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// quotaSet is one quota with all its changes.
type quotaSet struct {
	explain.Quota
	window tenancy.Window
	parts  []string // names of the tenants that are parts of it
}

// quotaSets puts the changes of each quota together: in the order of tenants, and there of what is limited.
func (h *Hub) quotaSets(ctx context.Context) ([]quotaSet, error) {
	tenants, err := h.store.Tenants(ctx) // by name
	if err != nil {
		return nil, err
	}
	changes, err := h.store.QuotaChanges(ctx)
	if err != nil {
		return nil, err
	}
	family, names := familyOf(tenants)
	var sets []quotaSet
	for _, t := range tenants {
		with := family.WithParts(t.ID)
		from := len(sets)
		for i := range changes {
			c := &changes[i]
			if c.TenantID != t.ID {
				continue
			}
			window, _ := tenancy.ParseWindow(c.WindowBy) // it was checked when it was set
			scope := tenancy.Scope{Kind: tenancy.ScopeKind(c.ScopeKind), Name: c.Scope}
			at := slices.IndexFunc(sets[from:], func(s quotaSet) bool {
				return s.Name == c.Resource && s.Scope == scope && s.window == window
			})
			if at < 0 {
				at = len(sets) - from
				set := quotaSet{Quota: explain.Quota{Tenant: t.Name, Tenants: with, Name: c.Resource, Scope: scope},
					window: window}
				for _, part := range with[1:] {
					set.parts = append(set.parts, names[part])
				}
				sets = append(sets, set)
			}
			set := &sets[from+at]
			set.Changes = append(set.Changes, limitChange(c))
		}
		slices.SortStableFunc(sets[from:], func(a, b quotaSet) int { return place(a.Name) - place(b.Name) })
	}
	return sets, nil
}

// place is where something stands among what quotas may be set on.
func place(name string) int { return slices.Index(tenancy.QuotaNames(), name) }

func limitChange(c *store.QuotaChange) tenancy.LimitChange {
	return tenancy.LimitChange{From: c.AppliesAt.UTC(), Made: c.MadeAt, Limit: limitOf(c)}
}

func limitOf(c *store.QuotaChange) tenancy.Limit {
	return tenancy.Limit{Ceiling: c.Ceiling, Soft: c.Soft, Basis: tenancy.Basis(c.Basis), Zone: c.Zone}
}

// familyOf is which tenants are parts of which, and their names.
func familyOf(tenants []store.Tenant) (tenancy.Family, map[int32]string) {
	family, names := tenancy.Family{}, map[int32]string{}
	for _, t := range tenants {
		names[t.ID] = t.Name
		family[t.ID] = 0
		if t.ParentID != nil {
			family[t.ID] = *t.ParentID
		}
	}
	return family, names
}

// hostsOf lists the hosts of a quota's scope by number; nil for all.
func (h *Hub) hostsOf(ctx context.Context, scope tenancy.Scope) ([]int32, error) {
	if scope.Kind == tenancy.Fleet || scope.Kind == "" {
		return nil, nil
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	pools, err := h.store.Pools(ctx)
	list := []int32{}
	for _, x := range hosts {
		if scope.Kind == tenancy.OneHost && x.Name == scope.Name ||
			scope.Kind == tenancy.HostPool && slices.Contains(pools[x.Name], scope.Name) {
			list = append(list, x.ID)
		}
	}
	return list, err
}

// standing adds to a balance how tenants stand against each of their quotas: on a host against those of that host, and
// on all against every quota. Rows are what the balance is made of, by tenant, with the time that was recorded.
func (h *Hub) standing(ctx context.Context, sets []quotaSet, b *explain.Balance, span question.Span,
	hostName string, rows []question.Row, lines *store.HostLines) error {
	held, err := h.standScopes(ctx, sets, b, span, hostName, rows, lines, false)
	if err != nil {
		return err
	}
	if hostName == "" {
		if err := h.promise(ctx, sets, b, span, lines, held); err != nil {
			return err
		}
	}
	order := func(tenant, resource string, a, o string) int {
		return cmp.Or(cmp.Compare(tenant, a), place(resource)-place(o))
	}
	slices.SortStableFunc(
		b.Stands,
		func(x, y explain.Stand) int { return order(x.Tenant, x.Resource, y.Tenant, y.Resource) },
	)
	slices.SortStableFunc(b.Allowances, func(x, y explain.AllowanceStand) int {
		return order(x.Tenant, x.Resource, y.Tenant, y.Resource)
	})
	return nil
}

// standScopes is standing without what is promised in all; if plain, without who was hurt. It returns what is held on
// all hosts, where some quota is of all.
func (h *Hub) standScopes(ctx context.Context, sets []quotaSet, b *explain.Balance, span question.Span,
	hostName string, rows []question.Row, lines *store.HostLines, isPlain bool) (held map[int32][]explain.HeldUse,
	err error) {
	byScope := map[tenancy.Scope][]*quotaSet{}
	var scopes []tenancy.Scope
	for i := range sets {
		s := &sets[i]
		if hostName != "" && (s.Scope.Kind != tenancy.OneHost || s.Scope.Name != hostName) {
			continue
		}
		if byScope[s.Scope] == nil {
			scopes = append(scopes, s.Scope)
		}
		byScope[s.Scope] = append(byScope[s.Scope], s)
	}
	for _, scope := range scopes {
		hosts, err := h.hostsOf(ctx, scope)
		if err != nil {
			return nil, err
		}
		work := &standWork{Hub: h, scope: question.Scope{Span: span, Hosts: hosts, Sees: h.sees(ctx)}, isPlain: isPlain}
		if hostName != "" || hosts == nil { // what the balance itself is of
			work.answer, work.elapsed = &question.Answer{Rows: rows}, lines.Whole.ElapsedMillis
		}
		if err := work.ceilings(ctx, byScope[scope], b); err != nil {
			return nil, err
		}
		if err := work.allowances(ctx, byScope[scope], b); err != nil {
			return nil, err
		}
		if hostName == "" && hosts == nil {
			held = work.held
		}
	}
	return held, nil
}

// standWork is the work on the quotas of one scope.
type standWork struct {
	*Hub
	scope   question.Scope
	answer  *question.Answer // of the resources, by tenant
	space   *question.Answer // of the space that files take, by tenant; nil where no quota is of it
	elapsed int64
	held    map[int32][]explain.HeldUse // by tenant
	isPlain bool                        // who was hurt is not asked
}

// isInForce tells whether a quota limited anything within a span.
func isInForce(q *quotaSet, span question.Span) bool {
	return slices.ContainsFunc(tenancy.Terms(q.Changes, span.From, span.To),
		func(t tenancy.Term) bool { return !t.Limit.None() })
}

// ceilings holds what tenants used and held against their ceilings.
func (w *standWork) ceilings(ctx context.Context, sets []*quotaSet, b *explain.Balance) error {
	sets = slices.DeleteFunc(slices.Clone(sets), func(s *quotaSet) bool {
		return !s.window.IsNone() || !isInForce(s, w.scope.Span)
	})
	if len(sets) == 0 {
		return nil
	}
	var err error
	if w.answer == nil {
		answer, lines, err := w.store.AskWithLines(ctx, question.Question{Scope: w.scope, NoPeaks: true,
			Measures: amount.Resources(), By: []question.Dimension{question.Tenant}})
		if err != nil {
			return err
		}
		w.answer, w.elapsed = answer, lines.Whole.ElapsedMillis
	}
	isSpace := func(s *quotaSet) bool { return s.Name == amount.SpaceUsed.String() }
	if slices.ContainsFunc(sets, isSpace) {
		w.space, err = w.store.Ask(ctx, question.Question{Scope: w.scope, NoPeaks: true,
			Measures: []amount.Measure{amount.SpaceUsed}, By: []question.Dimension{question.Tenant}})
		if err != nil {
			return err
		}
	}
	var cells *explain.Cells
	group, inGroup := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		cells, err = w.cells(inGroup, sets)
		return err
	})
	group.Go(func() error { return w.findHeld(inGroup) })
	if err := group.Wait(); err != nil {
		return err
	}
	first := len(b.Stands)
	for _, set := range sets {
		s := w.stand(set, cells)
		s.Parts = set.parts
		b.Stands = append(b.Stands, *s)
	}
	if w.isPlain {
		return nil
	}
	return w.hurt(ctx, sets, b.Stands[first:])
}

// cells reads what tenants had by the minute or the hour, with the minutes of those hours where it takes them.
func (w *standWork) cells(ctx context.Context, sets []*quotaSet) (*explain.Cells, error) {
	span := w.scope.Span
	var of []amount.Resource
	for _, s := range sets {
		if r, err := amount.ParseResource(s.Name); err == nil && !slices.Contains(of, r) {
			of = append(of, r)
		}
	}
	list, err := w.store.TenantCells(ctx, w.scope.Hosts, span, span.To.Sub(span.From) <= 24*time.Hour, of...)
	if err != nil {
		return nil, err
	}
	cells := explain.NewCells(list)
	unsure, tenants := map[amount.Resource]map[time.Time]bool{}, map[amount.Resource][]int32{}
	for _, s := range sets {
		r, err := amount.ParseResource(s.Name)
		if err != nil {
			continue
		}
		if unsure[r] == nil {
			unsure[r] = map[time.Time]bool{}
		}
		tenants[r] = append(tenants[r], s.Tenants...)
		for _, hour := range s.Unsure(cells, span.From, span.To) {
			unsure[r][hour] = true
		}
	}
	var fine [amount.NumResources][]explain.HourMinutes
	group, inGroup := errgroup.WithContext(ctx)
	for r, hours := range unsure {
		slices.Sort(tenants[r])
		group.Go(func() (err error) {
			fine[r], err = w.store.MinutesOf(inGroup, w.scope.Hosts, r,
				slices.SortedFunc(maps.Keys(hours), time.Time.Compare), slices.Compact(tenants[r]))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for r := range fine {
		cells.Refine(amount.Resource(r), fine[r])
	}
	return cells, nil
}

// sum adds up what a tenant and its parts used of a measure; nothing used is known to be nothing.
func (w *standWork) sum(q *quotaSet, m amount.Measure) question.Sum {
	if !m.HasLedger() {
		return sumOf(w.space.Rows, q.Tenants, 0)
	}
	return sumOf(w.answer.Rows, q.Tenants, int(m))
}

// sumOf adds up what rows of some tenants have at a place among their sums.
func sumOf(rows []question.Row, tenants []int32, at int) question.Sum {
	sum, found := question.Sum{Source: amount.Counted}, false
	for i := range rows {
		switch row := &rows[i]; {
		case !slices.Contains(tenants, row.Tenant):
		case !found:
			sum, found = row.Sums[at], true
		default:
			over := max(sum.Over, row.Sums[at].Over)
			sum.Join(&row.Sums[at])
			sum.Over = over
		}
	}
	return sum
}

func (w *standWork) stand(set *quotaSet, cells *explain.Cells) *explain.Stand {
	span := w.scope.Span
	r, err := amount.Parse(set.Name)
	if err == nil && r.HasLedger() {
		sum := w.sum(set, r)
		s := explain.StandAgainst(&set.Quota, span.From, span.To, &sum, w.elapsed, cells)
		if s.Used == nil {
			return s // nothing of it is known, and so nothing is judged
		}
		held, greater, unheld := explain.SumHeld(w.held, set.Tenants, r)
		s.Judge(held, greater, unheld)
		now := explain.SumNow(w.held, set.Tenants, r)
		s.Now = &now
		return s
	}
	var value *float64
	reason := ""
	switch {
	case w.elapsed == 0:
		reason = explain.NothingRecorded
	case err == nil: // space
		if sum := w.sum(set, r); sum.Known() && sum.Over > 0 {
			v := r.Mean(sum.Units, sum.Over)
			value = &v
		} else {
			reason = "which space its files take was not told in this span"
		}
	default:
		v := explain.SumCounted(w.held, set.Tenants, tenancy.Counted(set.Name))
		value = &v
	}
	s := explain.StandCounted(&set.Quota, span.From, span.To, value, reason)
	s.Judge(nil, nil, 0)
	return s
}

// findHeld gathers what each workload of the scope used, is entitled to, and has now.
func (w *standWork) findHeld(ctx context.Context) error {
	answer, err := w.store.Ask(ctx, question.Question{Scope: w.scope, Measures: amount.Resources(), State: true,
		By: []question.Dimension{question.Workload}, NoPeaks: true})
	if err != nil {
		return err
	}
	ids := make([]int64, len(answer.Rows))
	newest := map[int32]time.Time{}
	for i, r := range answer.Rows {
		ids[i] = r.Workload
		if r.State != nil && r.State.To.After(newest[r.Host]) {
			newest[r.Host] = r.State.To
		}
	}
	stored, err := w.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return err
	}
	w.held = map[int32][]explain.HeldUse{}
	for _, r := range answer.Rows {
		x, there := stored[r.Workload]
		if !there || r.State == nil || w.elapsed == 0 {
			continue
		}
		core := x.Core()
		held := explain.HeldBy(&core, x.Host.CPUs)
		use := explain.HeldUse{Host: x.HostID, Part: min(float64(r.State.ElapsedMillis)/float64(w.elapsed), 1),
			Entitled: held.Entitled(core.Kind, x.Host.CPUs, x.Host.MemoryBytes), Used: map[string]float64{},
			Now: map[string]float64{}}
		isThere := newest[r.Host].Sub(r.State.To) < 90*time.Second // at the end
		for i, m := range amount.Resources() {
			use.Used[m.String()] = m.Mean(r.Sums[i].Units, w.elapsed)
			if isThere {
				use.Now[m.String()] = m.Mean(r.Sums[i].Now, r.State.NowMillis)
			}
		}
		if isThere {
			use.Processes, use.Threads = r.State.Processes, r.State.Threads
			if set, err := cpuset.Parse(held.GPUs); err == nil {
				use.GPUs = set.Len()
			}
		}
		w.held[r.Tenant] = append(w.held[r.Tenant], use)
	}
	return nil
}
