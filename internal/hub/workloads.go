package hub

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// WorkloadLine is one workload with what it used over a span.
type WorkloadLine struct {
	ID           int64         `json:"id"`
	Name         string        `json:"name"`
	Kind         string        `json:"kind"`
	Owner        string        `json:"owner"`
	Tenant       string        `json:"tenant"`
	Host         string        `json:"host"`
	State        string        `json:"state" doc:"running, ended, silent, or first reading: usage in N s."`
	Uses         []WorkloadUse `json:"uses" doc:"One per resource, in the order of resources."`
	Processes    int64         `json:"processes"`
	Threads      int64         `json:"threads"`
	RunnableMean float64       `json:"runnable_threads_mean" doc:"Threads running or waiting for a CPU."`
	RunnablePeak int64         `json:"runnable_threads_peak"`
	MayUseCPUs   float64       `json:"may_use_cpus"`
	MayUseBy     string        `json:"may_use_by" enum:"limit,cpuset,asked,host"`
	HostCPUs     int           `json:"host_cpus" doc:"Logical CPUs of its host."`
	Crowding     *float64      `json:"runnable_per_cpu" doc:"For each CPU it may use; null without figures."`
	Since        time.Time     `json:"since" doc:"When it was first seen."`

	Facts map[string]string `json:"facts" doc:"The most telling: where a sign-in is from, a service's unit and state."`

	ElapsedMillis int64 `json:"-"`
}

// WorkloadUse is what a workload used of one resource.
type WorkloadUse struct {
	Resource string   `json:"resource"`
	Unit     string   `json:"unit" doc:"Of the amount."`
	MeanUnit string   `json:"mean_unit"`
	Amount   *float64 `json:"amount"`
	Mean     *float64 `json:"mean" doc:"While it ran."`
	Peak     *float64 `json:"peak" doc:"Of the highest tick."`
	Now      *float64 `json:"now" doc:"Mean of its newest interval in the span; null where it has ended."`
	Source   string   `json:"source"`
	Reason   string   `json:"reason,omitempty"`

	Means []account.Ability `json:"means,omitempty" doc:"How its host counts it; of one asked about alone."`
}

// tellingFacts are those that a list of workloads has room for.
var tellingFacts = []string{account.FactOrigin, account.FactTerminal, account.FactUnit, account.FactState,
	account.FactExit, account.FactRestarts, account.FactAccount, account.FactPartition, account.FactPod,
	account.FactImage, account.FactProgram}

// line tells of one workload, of which a row holds every resource with its state; nil where it has no usage in the
// span.
func (h *Hub) line(w *store.Workload, host *store.Host, tenant string, row *question.Row) WorkloadLine {
	core := w.Core()
	held := explain.HeldBy(&core, host.CPUs)
	now := h.options.Now()
	x := WorkloadLine{
		ID: w.ID, Name: w.Name, Kind: w.Kind, Owner: w.Owner, Tenant: tenant, Host: host.Name,
		State: stateOf(w, host, now), MayUseCPUs: held.MayUseCPUs, MayUseBy: held.By, Since: w.FirstAt.UTC(),
		HostCPUs: host.CPUs,
		Facts:    map[string]string{},
	}
	for _, name := range tellingFacts {
		if value := core.Facts[name]; value != "" {
			x.Facts[name] = value
		}
	}
	var state question.State
	if row != nil && row.State != nil {
		state = *row.State
	}
	x.Processes, x.Threads, x.RunnablePeak = state.Processes, state.Threads, state.RunnablePeak
	x.ElapsedMillis = state.ElapsedMillis
	for i, r := range amount.Resources() {
		use := WorkloadUse{Resource: r.String(), Unit: r.Unit(), MeanUnit: r.MeanUnit()}
		sum := question.NoFigure(0)
		if row != nil {
			sum = row.Sums[i]
		}
		use.Source = sum.Source.String()
		if !sum.Known() || state.ElapsedMillis == 0 {
			use.Source, use.Reason = amount.Unavailable.String(), reasonOf(r, w, row, i, now)
		} else {
			a, m := r.Amount(sum.Units, state.ElapsedMillis), r.Mean(sum.Units, state.ElapsedMillis)
			use.Amount, use.Mean, use.Peak = &a, &m, &sum.Peak
			if x.State == "running" && state.NowMillis > 0 {
				n := r.Mean(sum.Now, state.NowMillis)
				use.Now = &n
			}
		}
		x.Uses = append(x.Uses, use)
	}
	if state.ElapsedMillis > 0 {
		x.RunnableMean = state.RunnableMillis / float64(state.ElapsedMillis)
		x.Crowding = held.Crowding(x.RunnableMean)
	}
	return x
}

// reasonOf says why a workload lacks a figure of its i-th resource.
func reasonOf(r amount.Resource, w *store.Workload, row *question.Row, i int, now time.Time) string {
	switch {
	case row == nil && w.DueAt != nil && w.LastAt == nil:
		return sheet.FirstReading(w.DueAt.Sub(now))
	case row == nil:
		return "it did not run in this span"
	}
	return explain.Reason(r, &row.Sums[i])
}

func stateOf(w *store.Workload, host *store.Host, now time.Time) string {
	switch {
	case w.EndedAt != nil:
		return "ended"
	case w.LastAt == nil && w.DueAt != nil && now.Before(w.DueAt.Add(time.Minute)):
		return sheet.FirstReading(w.DueAt.Sub(now))
	case host.LastAt != nil && now.Sub(*host.LastAt) > 3*time.Minute:
		return "silent"
	case w.Alive:
		return "running"
	}
	return "ended"
}

// Workloads lists the workloads of a span, most CPU time first unless another order is asked for; those that wait for
// their first usage come last. The cursor is that of the next page, "" on the last.
func (h *Hub) Workloads(ctx context.Context, q Asked, page Page) (lines []WorkloadLine, next string, err error) {
	scope, err := h.filtered(ctx, &q)
	if err != nil {
		return nil, "", err
	}
	all, next, err := h.lines(ctx, scope, q.Where, page)
	lines = make([]WorkloadLine, len(all))
	for i := range all {
		lines[i] = all[i].WorkloadLine
	}
	return lines, next, err
}

// lineOf is a line with the workload it tells of.
type lineOf struct {
	WorkloadLine
	of  store.Workload
	row *question.Row // nil before its first usage
}

// lines lists workloads with their use. Those that wait for their first usage are on the last page.
func (h *Hub) lines(ctx context.Context, scope question.Scope, where string, page Page) ([]lineOf, string, error) {
	ask := question.Question{
		Scope:    scope,
		Measures: amount.Resources(),
		By:       []question.Dimension{question.Workload},
		State:    true,
	}
	if err := page.paged(&ask); err != nil {
		return nil, "", err
	}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, "", err
	}
	ids := make([]int64, len(answer.Rows))
	for i := range answer.Rows {
		ids[i] = answer.Rows[i].Workload
	}
	stored, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, "", err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, "", err
	}
	out := []lineOf{}
	for i := range answer.Rows {
		r := &answer.Rows[i]
		w := stored[r.Workload]
		out = append(out, lineOf{h.line(&w, &w.Host, named(names, r.Tenant), r), w, r})
	}
	if answer.Next != nil {
		return out, answer.Next.String(), nil
	}
	waiting, err := h.warming(ctx, scope, where)
	for i := range waiting {
		w := &waiting[i]
		out = append(out, lineOf{h.line(w, &w.Host, named(names, w.TenantID), nil), *w, nil})
	}
	return out, "", err
}

// Threads lists workloads by how many threads want to run for each CPU they may use, most crowded first. It is sorted
// here: what a workload may use follows from its facts.
func (h *Hub) Threads(ctx context.Context, q Asked) ([]WorkloadLine, error) {
	lines, _, err := h.Workloads(ctx, q, Page{})
	slices.SortStableFunc(lines, func(a, b WorkloadLine) int {
		return cmp.Or(cmp.Compare(orLess(b.Crowding), orLess(a.Crowding)), cmp.Compare(b.Threads, a.Threads))
	})
	return lines, err
}

func orLess(v *float64) float64 {
	if v == nil {
		return -1
	}
	return *v
}

// AboutGroup is everything about a user, a tenant or a host: what all its workloads use and hold together.
type AboutGroup struct {
	What      string            `json:"what" enum:"user,tenant,host"`
	Name      string            `json:"name"`
	Facts     map[string]string `json:"facts" doc:"What else is known of it."`
	From      time.Time         `json:"from"`
	To        time.Time         `json:"to"`
	Uses      []GroupUse        `json:"uses" doc:"Sums over its workloads, one per resource."`
	Held      GroupHeld         `json:"held"`
	Kinds     []Count           `json:"kinds"`
	Hosts     []Count           `json:"hosts"`
	Tenants   []Count           `json:"tenants"`
	Owners    []Count           `json:"owners"`
	Workloads []WorkloadLine    `json:"workloads" doc:"Most CPU time first."`
	InAll     int               `json:"workloads_in_all" doc:"Listed or not."`
	Processes int64             `json:"processes"`
	Threads   int64             `json:"threads"`
	Reason    string            `json:"unavailable,omitempty" doc:"Why nothing is known of what it ran and used."`

	explain.Missed

	Machine *Machine `json:"machine,omitempty" doc:"Of a host: what it is made of."`
}

// GroupUse is what a group's workloads used of one resource together.
type GroupUse struct {
	Resource string   `json:"resource"`
	Unit     string   `json:"unit"`
	MeanUnit string   `json:"mean_unit"`
	Amount   *float64 `json:"amount" doc:"Null when none of them has a figure."`
	Mean     *float64 `json:"mean" doc:"Over the time the records cover."`
	Missing  int      `json:"missing" doc:"Workloads without a figure: the sums lack theirs."`
	Reason   string   `json:"reason,omitempty"`
}

// GroupHeld is what the running workloads of a group are entitled to together.
type GroupHeld struct {
	CPUs             float64 `json:"cpus" doc:"Sum of what those that have a limit, a cpuset or an allotment may use."`
	Unlimited        int     `json:"unlimited_workloads" doc:"Running workloads that may use every CPU of their host."`
	MemoryBytes      float64 `json:"memory_bytes" doc:"Sum of memory limits, or else what was asked for."`
	UnlimitedMemory  int     `json:"unlimited_memory_workloads"`
	RunningWorkloads int     `json:"running_workloads"`
}

// Count is how many workloads something has.
type Count struct {
	Name      string `json:"name"`
	Workloads int    `json:"workloads"`
}

// AboutUser answers what one person holds over all their jobs, sign-ins, containers and machines on all hosts.
func (h *Hub) AboutUser(ctx context.Context, owner string, span question.Span, first int) (*AboutGroup, error) {
	ids, err := h.store.OwnedBy(ctx, owner)
	if err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		return nil, problem(
			NotFound,
			"no workload is known to be of the user %q: vinescale find looks for one",
			owner,
		)
	}
	scope, err := h.scope(ctx, span, "")
	if err != nil {
		return nil, err
	}
	scope.Only = ids
	return h.group(ctx, "user", owner, scope, first)
}

// AboutTenant answers what a tenant used and holds: what was accounted to it at the time.
func (h *Hub) AboutTenant(ctx context.Context, name string, span question.Span, first int) (*AboutGroup, error) {
	id, err := h.tenantID(ctx, name)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, "")
	if err != nil {
		return nil, err
	}
	scope.Tenants = []int32{id}
	return h.group(ctx, "tenant", name, scope, first)
}

// AboutHost answers what is on a host.
func (h *Hub) AboutHost(ctx context.Context, name string, span question.Span, first int) (*AboutGroup, error) {
	host, err := h.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, name)
	if err != nil {
		return nil, err
	}
	g, err := h.group(ctx, "host", name, scope, first)
	if err != nil {
		return nil, err
	}
	pools, err := h.store.Pools(ctx)
	g.Facts = hostFacts(&host, pools[name])
	if err != nil {
		return nil, err
	}
	g.Machine, err = h.Machine(ctx, name)
	return g, err
}

// group answers about workloads together, of which the first so many are listed; all when 0.
func (h *Hub) group(ctx context.Context, what, name string, scope question.Scope, first int) (*AboutGroup, error) {
	lines, _, err := h.lines(ctx, scope, "", Page{})
	if err != nil {
		return nil, err
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return nil, err
	}
	missed, err := h.missed(ctx, &scope, stretch, amount.Resources()...)
	if err != nil {
		return nil, err
	}
	elapsed := stretch.ElapsedMillis
	g := &AboutGroup{Missed: missed, What: what, Name: name, Facts: map[string]string{}, From: scope.Span.From,
		To:        scope.Span.To,
		Workloads: []WorkloadLine{}, InAll: len(lines)}
	kinds, hosts, tenants, owners := map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}
	var sums [amount.NumResources]question.Sum
	var known [amount.NumResources]int
	for i := range lines {
		l := &lines[i]
		if first == 0 || i < first {
			g.Workloads = append(g.Workloads, l.WorkloadLine)
		}
		kinds[l.Kind]++
		hosts[l.Host]++
		tenants[l.Tenant]++
		owners[cmp.Or(l.Owner, "(owner not known)")]++
		for r := range sums {
			sum := question.NoFigure(1)
			if l.row != nil {
				sum = l.row.Sums[r]
			}
			if !sum.Known() {
				sums[r].Missing++
				continue
			}
			known[r]++
			sums[r].Units += sum.Units
		}
		if l.State == "running" {
			g.Held.add(&l.WorkloadLine, &l.of)
			g.Processes, g.Threads = g.Processes+l.Processes, g.Threads+l.Threads
		}
	}
	for _, r := range amount.Resources() {
		missing := sums[r].Missing
		u := GroupUse{Resource: r.String(), Unit: r.Unit(), MeanUnit: r.MeanUnit(), Missing: missing}
		if missing > 0 {
			u.Reason = "not every workload has a figure"
		}
		if known[r] == 0 && missing > 0 {
			u.Reason = "none of its workloads has a figure"
		}
		if elapsed == 0 {
			u.Reason = explain.NothingRecorded
		}
		if known[r] > 0 && elapsed > 0 {
			sum, mean := r.Amount(sums[r].Units, elapsed), r.Mean(sums[r].Units, elapsed)
			u.Amount, u.Mean = &sum, &mean
		}
		g.Uses = append(g.Uses, u)
	}
	if elapsed == 0 {
		g.Reason = explain.NothingRecorded
	}
	g.Kinds, g.Hosts, g.Tenants, g.Owners = counted(kinds), counted(hosts), counted(tenants), counted(owners)
	return g, nil
}

func (g *GroupHeld) add(l *WorkloadLine, w *store.Workload) {
	g.RunningWorkloads++
	if l.MayUseBy == "host" {
		g.Unlimited++
	} else {
		g.CPUs += l.MayUseCPUs
	}
	core := w.Core()
	held := explain.HeldBy(&core, 0)
	switch {
	case held.MemoryLimit != nil:
		g.MemoryBytes += *held.MemoryLimit
	case held.MemoryAsked != nil:
		g.MemoryBytes += *held.MemoryAsked
	default:
		g.UnlimitedMemory++
	}
}

func counted(m map[string]int) []Count {
	out := []Count{}
	for name, n := range m {
		out = append(out, Count{name, n})
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Workloads, a.Workloads), cmp.Compare(a.Name, b.Name))
	})
	return out
}
