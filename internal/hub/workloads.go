package hub

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
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
	State        string        `json:"state" doc:"running, ended, silent (its host does not report), or first reading: usage in N s."`
	Uses         []WorkloadUse `json:"uses" doc:"One per resource, in the order of resources."`
	Processes    int64         `json:"processes"`
	Threads      int64         `json:"threads"`
	RunnableMean float64       `json:"runnable_threads_mean" doc:"Threads running or waiting for a CPU, sampled at readings."`
	RunnablePeak int64         `json:"runnable_threads_peak"`
	MayUseCPUs   float64       `json:"may_use_cpus"`
	MayUseBy     string        `json:"may_use_by" enum:"limit,cpuset,asked,host"`
	Crowding     *float64      `json:"runnable_per_cpu" doc:"Runnable threads in the mean for each CPU it may use; null without figures."`

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
}

// line tells of one workload. Known is false where it has no usage in the span.
func (h *Hub) line(u *store.WorkloadUse, host *store.Host, names map[int32]string, known bool) WorkloadLine {
	held := heldBy(&u.Workload, host.CPUs)
	now := h.options.Now()
	x := WorkloadLine{
		ID: u.ID, Name: u.Name, Kind: u.Kind, Owner: u.Owner, Tenant: named(names, u.TenantID), Host: host.Name,
		State:     stateOf(&u.Workload, host, now),
		Processes: u.Processes, Threads: u.Threads, RunnablePeak: u.RunnablePeak, MayUseCPUs: held.MayUseCPUs,
		MayUseBy: held.By, ElapsedMillis: u.ElapsedMillis,
	}
	units := [amount.NumResources]float64{u.CPU, u.Memory, u.Disk, u.Network}
	peaks := [amount.NumResources]int64{u.CPUPeak, u.MemoryPeak, u.DiskPeak, u.NetworkPeak}
	newest := [amount.NumResources]int64{u.CPUNow, u.MemoryNow, u.DiskNow, u.NetworkNow}
	sources := [amount.NumResources]int16{u.CPUSource, u.MemorySource, u.DiskSource, u.NetworkSource}
	for _, r := range amount.Resources() {
		use := WorkloadUse{Resource: r.String(), Unit: r.Unit(), MeanUnit: r.MeanUnit(),
			Source: amount.Source(sources[r]).String()}
		if !known || amount.Source(sources[r]) == amount.Unavailable || u.ElapsedMillis == 0 {
			use.Source, use.Reason = amount.Unavailable.String(), reasonOf(r, &u.Workload, known, now)
		} else {
			a, m, p := r.Amount(units[r], u.ElapsedMillis), r.Mean(units[r], u.ElapsedMillis),
				sheet.PeakMean(r, peaks[r])
			use.Amount, use.Mean, use.Peak = &a, &m, &p
			if x.State == "running" && u.NowMillis > 0 {
				n := r.Mean(float64(newest[r]), u.NowMillis)
				use.Now = &n
			}
		}
		x.Uses = append(x.Uses, use)
	}
	if known && u.ElapsedMillis > 0 {
		x.RunnableMean = u.RunnableMillis / float64(u.ElapsedMillis)
		if x.MayUseCPUs > 0 {
			crowding := x.RunnableMean / x.MayUseCPUs
			x.Crowding = &crowding
		}
	}
	return x
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

// Workloads lists the workloads of a span, on one host or on all (""), that an expression matches ("" for all), by CPU
// time, most first.
func (h *Hub) Workloads(ctx context.Context, span store.Span, hostName, where string) ([]WorkloadLine, error) {
	ask := store.UseQuestion{Span: span}
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		ask.HostID = host.ID
	}
	matches, err := h.filter(ctx, where)
	if err != nil {
		return nil, err
	}
	lines, err := h.lines(ctx, ask)
	if err != nil {
		return nil, err
	}
	out := []WorkloadLine{}
	for i := range lines {
		if matches == nil || matches(lines[i].Host, &lines[i].of) {
			out = append(out, lines[i].WorkloadLine)
		}
	}
	return out, nil
}

// lineOf is a line with the workload it tells of.
type lineOf struct {
	WorkloadLine
	of store.Workload
}

// lines lists workloads with their use, most CPU time first; those that wait for their first usage come last.
func (h *Hub) lines(ctx context.Context, ask store.UseQuestion) ([]lineOf, error) {
	uses, err := h.store.WorkloadUses(ctx, ask)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	byID := map[int32]*store.Host{}
	for i := range hosts {
		byID[hosts[i].ID] = &hosts[i]
	}
	var out []lineOf
	for i := range uses {
		out = append(out, lineOf{h.line(&uses[i], byID[uses[i].HostID], names, true), uses[i].Workload})
	}
	now := h.options.Now()
	if ask.Span.To.Before(now.Add(-time.Minute)) {
		return out, nil
	}
	waiting, err := h.store.Warming(ctx, ask.HostID, now.Add(-time.Minute))
	if err != nil {
		return nil, err
	}
	for i := range waiting {
		if ask.Only != nil && !slices.Contains(ask.Only, waiting[i].ID) {
			continue
		}
		u := store.WorkloadUse{Workload: waiting[i], HostName: waiting[i].Host.Name}
		out = append(out, lineOf{h.line(&u, &waiting[i].Host, names, false), waiting[i]})
	}
	return out, nil
}

// Threads lists workloads by how many threads want to run for each CPU they may use, most crowded first.
func (h *Hub) Threads(ctx context.Context, span store.Span, hostName, where string) ([]WorkloadLine, error) {
	lines, err := h.Workloads(ctx, span, hostName, where)
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
	Processes int64             `json:"processes"`
	Threads   int64             `json:"threads"`
	Reason    string            `json:"unavailable,omitempty" doc:"Why nothing is known of what it ran and used."`
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
func (h *Hub) AboutUser(ctx context.Context, owner string, span store.Span) (*AboutGroup, error) {
	ids, err := h.store.OwnedBy(ctx, owner)
	if err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		return nil, problem(NotFound, "no workload is known to be of the user %q: vinescale find looks for one", owner)
	}
	return h.group(ctx, "user", owner, store.UseQuestion{Span: span, Only: ids}, nil)
}

// AboutTenant answers what a tenant uses and holds.
func (h *Hub) AboutTenant(ctx context.Context, name string, span store.Span) (*AboutGroup, error) {
	if name != Unassigned {
		if _, err := h.Tenant(ctx, name); err != nil {
			return nil, err
		}
	}
	return h.group(ctx, "tenant", name, store.UseQuestion{Span: span}, func(l *lineOf) bool { return l.Tenant == name })
}

// AboutHost answers what is on a host.
func (h *Hub) AboutHost(ctx context.Context, name string, span store.Span) (*AboutGroup, error) {
	host, err := h.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	g, err := h.group(ctx, "host", name, store.UseQuestion{Span: span, HostID: host.ID}, nil)
	if err != nil {
		return nil, err
	}
	pools, err := h.store.Pools(ctx)
	g.Facts = hostFacts(&host, pools[name])
	return g, err
}

func (h *Hub) group(ctx context.Context, what, name string, ask store.UseQuestion,
	only func(*lineOf) bool) (*AboutGroup, error) {
	lines, err := h.lines(ctx, ask)
	if err != nil {
		return nil, err
	}
	recorded, err := h.store.Totals(ctx, ask.HostID, ask.Span, amount.Memory)
	if err != nil {
		return nil, err
	}
	elapsed := recorded.ElapsedMillis
	g := &AboutGroup{What: what, Name: name, Facts: map[string]string{}, From: ask.Span.From, To: ask.Span.To,
		Workloads: []WorkloadLine{}}
	kinds, hosts, tenants, owners := map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}
	sums := [amount.NumResources]float64{}
	known, missing := [amount.NumResources]int{}, [amount.NumResources]int{}
	for i := range lines {
		l := &lines[i]
		if only != nil && !only(l) {
			continue
		}
		g.Workloads = append(g.Workloads, l.WorkloadLine)
		kinds[l.Kind]++
		hosts[l.Host]++
		tenants[l.Tenant]++
		owners[cmp.Or(l.Owner, "(owner not known)")]++
		for r, u := range l.Uses {
			if u.Amount == nil {
				missing[r]++
				continue
			}
			known[r]++
			if r == int(amount.Memory) { // over the time it ran, to over the whole
				sums[r] += *u.Mean * float64(l.ElapsedMillis) / float64(max(elapsed, 1))
			} else {
				sums[r] += *u.Amount
			}
		}
		if l.State == "running" {
			g.Held.add(&l.WorkloadLine, &l.of)
			g.Processes, g.Threads = g.Processes+l.Processes, g.Threads+l.Threads
		}
	}
	for _, r := range amount.Resources() {
		u := GroupUse{Resource: r.String(), Unit: r.Unit(), MeanUnit: r.MeanUnit(), Missing: missing[r]}
		if missing[r] > 0 {
			u.Reason = "not every workload has a figure"
		}
		if known[r] == 0 && missing[r] > 0 {
			u.Reason = "none of its workloads has a figure"
		}
		if elapsed == 0 {
			u.Reason = sheet.NothingRecorded
		}
		if known[r] > 0 && elapsed > 0 {
			sum, mean := sums[r], sums[r]
			if r != amount.Memory {
				mean = sum / (float64(elapsed) / 1e3)
			}
			u.Amount, u.Mean = &sum, &mean
		}
		g.Uses = append(g.Uses, u)
	}
	if elapsed == 0 {
		g.Reason = sheet.NothingRecorded
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
	held := heldBy(w, 0)
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
