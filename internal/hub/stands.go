package hub

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
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
	var held map[int32][]explain.HeldUse // of all hosts, where some quota is of all
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
			return err
		}
		work := &standWork{Hub: h, scope: question.Scope{Span: span, Hosts: hosts, Sees: h.sees(ctx)}}
		if hostName != "" || hosts == nil { // what the balance itself is of
			work.answer, work.elapsed = &question.Answer{Rows: rows}, lines.Whole.ElapsedMillis
		}
		if err := work.ceilings(ctx, byScope[scope], b); err != nil {
			return err
		}
		if err := work.allowances(ctx, byScope[scope], b); err != nil {
			return err
		}
		if hostName == "" && hosts == nil {
			held = work.held
		}
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

// standWork is the work on the quotas of one scope.
type standWork struct {
	*Hub
	scope   question.Scope
	answer  *question.Answer // of the resources, by tenant
	space   *question.Answer // of the space that files take, by tenant; nil where no quota is of it
	elapsed int64
	held    map[int32][]explain.HeldUse // by tenant
}

// promise adds to the balance of the fleet what was promised on all hosts, on each pool and on each host.
func (h *Hub) promise(ctx context.Context, sets []quotaSet, b *explain.Balance, span question.Span,
	lines *store.HostLines, held map[int32][]explain.HeldUse) error {
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return err
	}
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return err
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return err
	}
	family, names := familyOf(tenants)
	wholes := map[string]string{}
	for part, whole := range family {
		wholes[names[part]] = names[whole]
	}
	scopes := []explain.PromiseScope{}
	at := map[tenancy.Scope]int{}
	put := func(scope tenancy.Scope, host int32) {
		i, there := at[scope]
		if !there {
			i = len(scopes)
			at[scope] = i
			scopes = append(scopes, explain.PromiseScope{Scope: scope, Hosts: map[int32]bool{},
				Capacity: map[amount.Resource]float64{}, Quotas: map[amount.Resource]float64{}})
		}
		scopes[i].Hosts[host] = true
		stretch := lines.ByHost[host]
		for k, r := range amount.Resources() {
			if k < len(stretch.Of) && stretch.ElapsedMillis > 0 && stretch.Of[k].Capacity.OK() {
				scopes[i].Capacity[r] += r.Mean(stretch.Of[k].Capacity.Units, stretch.ElapsedMillis)
			}
		}
	}
	for _, x := range hosts {
		put(tenancy.Scope{Kind: tenancy.Fleet}, x.ID)
	}
	for _, x := range hosts {
		for _, pool := range pools[x.Name] {
			put(tenancy.Scope{Kind: tenancy.HostPool, Name: pool}, x.ID)
		}
	}
	for _, x := range hosts {
		put(tenancy.Scope{Kind: tenancy.OneHost, Name: x.Name}, x.ID)
	}
	ceiling := func(s *quotaSet) *float64 {
		return tenancy.InForce(s.Changes, span.To.Add(-time.Nanosecond)).Ceiling
	}
	for i := range sets {
		s := &sets[i]
		r, err := amount.ParseResource(s.Name)
		place, there := at[s.Scope]
		if err != nil || !s.window.IsNone() || !there || ceiling(s) == nil {
			continue
		}
		// What a part has is in what its whole has, where that has a ceiling of the same.
		isIn := slices.ContainsFunc(sets, func(o quotaSet) bool {
			return o.Tenant == wholes[s.Tenant] && o.Name == s.Name && o.Scope == s.Scope && o.window.IsNone() &&
				ceiling(&o) != nil
		})
		if !isIn {
			scopes[place].Quotas[r] += *ceiling(s)
		}
	}
	b.Promised = explain.AddPromises(scopes, held)
	return nil
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
	cells, err := w.cells(ctx, sets)
	if err != nil {
		return err
	}
	if err := w.findHeld(ctx); err != nil {
		return err
	}
	first := len(b.Stands)
	for _, set := range sets {
		s := w.stand(set, cells)
		s.Parts = set.parts
		b.Stands = append(b.Stands, *s)
	}
	return w.hurt(ctx, sets, b.Stands[first:])
}

// cells reads what tenants had by the minute or the hour, with the minutes of those hours where it takes them.
func (w *standWork) cells(ctx context.Context, sets []*quotaSet) (*explain.Cells, error) {
	span := w.scope.Span
	list, err := w.store.TenantCells(ctx, w.scope.Hosts, span, span.To.Sub(span.From) <= 24*time.Hour)
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
	for r, hours := range unsure {
		slices.Sort(tenants[r])
		minutes, err := w.store.MinutesOf(ctx, w.scope.Hosts, r,
			slices.SortedFunc(maps.Keys(hours), time.Time.Compare), slices.Compact(tenants[r]))
		if err != nil {
			return nil, err
		}
		cells.Refine(r, minutes)
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

// hurt tells of quotas that were exceeded who waited meanwhile.
func (w *standWork) hurt(ctx context.Context, sets []*quotaSet, stands []explain.Stand) error {
	all, err := w.store.Hosts(ctx)
	if err != nil {
		return err
	}
	hosts := map[int32]string{}
	for _, x := range all {
		hosts[x.ID] = x.Name
	}
	found, err := w.lookInto(ctx, stands)
	if err != nil {
		return err
	}
	for i := range stands {
		s := &stands[i]
		if s.Exceeded == nil || len(explain.WaitFor(s.Resource)) == 0 {
			continue
		}
		var looked []explain.Looked
		var users []explain.User
		for _, stretch := range w.lookedAt(s) {
			rows := found[looking{s.Resource, stretch.From, stretch.To}]
			for k := range rows {
				users = append(users, rows[k].User)
			}
			looked = append(looked, explain.Looked{Stretched: stretch, Rows: rows})
		}
		names, err := w.namesOf(ctx, users)
		if err != nil {
			return err
		}
		s.JudgeHurt(&sets[i].Quota, looked, hosts, names)
	}
	return nil
}

// looking is a stretch of time in which it is looked who waited for a resource.
type looking struct {
	resource string
	from, to time.Time
}

// lookedAt are the stretches in which it is looked who waited: the longest that are told, or of more than a day, in
// which there may be many, the longest alone.
func (w *standWork) lookedAt(s *explain.Stand) []explain.Stretched {
	long := func(x explain.Stretched) time.Duration { return x.To.Sub(x.From) }
	all := s.Exceeded.Longest
	if w.scope.Span.To.Sub(w.scope.Span.From) <= 24*time.Hour || len(all) == 0 {
		return all
	}
	return []explain.Stretched{
		slices.MaxFunc(all, func(a, b explain.Stretched) int { return cmp.Compare(long(a), long(b)) }),
	}
}

// lookInto asks what was used and waited for in the stretches in which quotas were exceeded, some beside each other.
func (w *standWork) lookInto(ctx context.Context, stands []explain.Stand) (map[looking][]explain.Waiting, error) {
	found := map[looking][]explain.Waiting{}
	for i := range stands {
		if s := &stands[i]; s.Exceeded != nil && len(explain.WaitFor(s.Resource)) > 0 {
			for _, stretch := range w.lookedAt(s) {
				found[looking{s.Resource, stretch.From, stretch.To}] = nil
			}
		}
	}
	var mu sync.Mutex
	group, inGroup := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for _, x := range slices.Collect(maps.Keys(found)) {
		group.Go(func() error {
			rows, err := w.waiting(inGroup, x.resource, question.Span{From: x.from, To: x.to})
			mu.Lock()
			defer mu.Unlock()
			found[x] = rows
			return err
		})
	}
	return found, group.Wait()
}

// waiting is what workloads used of a resource in a span, and for how long they waited for it.
func (w *standWork) waiting(ctx context.Context, resource string, span question.Span) ([]explain.Waiting, error) {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return nil, err
	}
	waits := explain.WaitFor(resource)
	scope := w.scope
	scope.Span = span
	answer, err := w.store.Ask(ctx, question.Question{Scope: scope, Measures: append([]amount.Measure{r}, waits...),
		By: []question.Dimension{question.Workload, question.Tenant}, NoPeaks: true})
	if err != nil {
		return nil, err
	}
	rows := make([]explain.Waiting, len(answer.Rows))
	for i, x := range answer.Rows {
		rows[i] = explain.Waiting{Host: x.Host, Used: x.Sums[0].Units,
			User: explain.User{Workload: x.Workload, Tenant: x.Tenant}}
		for k := range waits {
			if sum := &x.Sums[1+k]; sum.Known() {
				rows[i].Waited, rows[i].IsStall = sum.Units, k == len(waits)-1
				break
			}
		}
	}
	return rows, nil
}

// allowances tells how the allowances stand that are in force at the end of the span, in the window that this is in.
func (w *standWork) allowances(ctx context.Context, sets []*quotaSet, b *explain.Balance) error {
	at := w.scope.Span.To.UTC()
	if now := w.options.Now().UTC(); at.After(now) {
		at = now.Truncate(time.Minute)
	}
	type spentIn struct {
		rows       []question.Row
		isRecorded bool
	}
	var measures []amount.Measure
	for _, set := range sets {
		r, err := amount.ParseResource(set.Name)
		if err == nil && !set.window.IsNone() && !slices.Contains(measures, r) {
			measures = append(measures, r)
		}
	}
	windows := map[question.Span]spentIn{}
	var days map[int32]map[amount.Resource][]tenancy.Day
	for _, set := range sets {
		limit := tenancy.InForce(set.Changes, at.Add(-time.Nanosecond))
		if set.window.IsNone() || limit.None() {
			continue
		}
		zone, err := time.LoadLocation(limit.Zone)
		if err != nil {
			return err
		}
		from, to := set.window.Bounds(at.Add(-time.Nanosecond), zone)
		window := question.Span{From: from, To: at}
		spent, there := windows[window]
		if !there {
			scope := w.scope
			scope.Span = window
			answer, lines, err := w.store.AskWithLines(ctx, question.Question{Scope: scope, NoPeaks: true,
				Measures: measures, By: []question.Dimension{question.Tenant}})
			if err != nil {
				return err
			}
			spent = spentIn{answer.Rows, lines.Whole.ElapsedMillis > 0}
			windows[window] = spent
		}
		if days == nil {
			if days, err = w.days(ctx, at, measures); err != nil {
				return err
			}
		}
		r, err := amount.ParseResource(set.Name)
		if err != nil {
			continue
		}
		sum := sumOf(spent.rows, set.Tenants, slices.Index(measures, r))
		a := explain.Allowance{Tenant: set.Tenant, Name: set.Name, Scope: set.Scope, Window: set.window, Limit: limit,
			From: from, To: to}
		s := explain.StandOfAllowance(&a, at, &sum, spent.isRecorded, sumDays(days, set.Tenants, r))
		s.Parts = set.parts
		b.Allowances = append(b.Allowances, *s)
	}
	return nil
}

// days is what tenants spent on each of the last whole days, in UTC, in account units. The day of none (-1) tells which
// days are known.
func (w *standWork) days(ctx context.Context, at time.Time,
	measures []amount.Measure) (map[int32]map[amount.Resource][]tenancy.Day, error) {
	const day = 24 * time.Hour
	scope := w.scope
	scope.Span = question.Span{From: at.Truncate(day).AddDate(0, 0, -28), To: at.Truncate(day)}
	q := question.Question{Scope: scope, Measures: measures, By: []question.Dimension{question.Tenant}, Step: day,
		NoPeaks: true}
	answer, err := w.store.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	stretches, err := w.store.Lines(ctx, question.Question{Scope: scope, Step: day})
	if err != nil {
		return nil, err
	}
	days := map[int32]map[amount.Resource][]tenancy.Day{everyDay: {0: {}}}
	for _, s := range stretches {
		// A day with less than nine tenths of it recorded says little of what a day is like.
		if s.ElapsedMillis >= day.Milliseconds()*9/10 {
			days[everyDay][0] = append(days[everyDay][0], tenancy.Day{From: s.Start, IsKnown: true})
		}
	}
	for _, row := range answer.Rows {
		of := days[row.Tenant]
		if of == nil {
			of = map[amount.Resource][]tenancy.Day{}
			days[row.Tenant] = of
		}
		for i, r := range q.Measures {
			of[r] = append(of[r], tenancy.Day{From: row.Start, Spent: row.Sums[i].Units})
		}
	}
	return days, nil
}

// everyDay stands where a tenant's number stands.
const everyDay = -1

// sumDays adds up what some tenants spent on the days that are known.
func sumDays(days map[int32]map[amount.Resource][]tenancy.Day, tenants []int32, r amount.Resource) []tenancy.Day {
	list := slices.Clone(days[everyDay][0])
	for i := range list {
		for _, t := range tenants {
			for _, d := range days[t][r] {
				if d.From.Equal(list[i].From) {
					list[i].Spent += d.Spent
				}
			}
		}
	}
	return list
}
