package hub

import (
	"context"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Fleet is the word for all hosts where a host's name stands.
const Fleet = "all hosts"

// Span makes a span of whole minutes that holds what was asked: from and to where both are given, else the last
// length before now (or before to). The longest is 400 days.
func (h *Hub) Span(from, to time.Time, length time.Duration) (store.Span, error) {
	if to.IsZero() {
		to = h.options.Now()
	}
	if from.IsZero() {
		if length == 0 {
			length = time.Hour
		}
		if length < time.Minute {
			return store.Span{}, problem(Invalid, "a span of %s: intervals are one minute, ask for at least one", length)
		}
		from = to.Add(-length)
	}
	if !from.Before(to) {
		return store.Span{}, problem(Invalid, "the span ends (%s) before it begins (%s)", to.UTC().Format(time.RFC3339), from.UTC().Format(time.RFC3339))
	}
	if to.Sub(from) > 400*24*time.Hour {
		return store.Span{}, problem(Invalid, "a span of %d days: ask for at most 400", int(to.Sub(from).Hours()/24))
	}
	return store.Span{From: from.UTC().Truncate(time.Minute), To: to.UTC().Add(time.Minute - 1).Truncate(time.Minute)}, nil
}

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

// Balance compares what every tenant used with its quotas and with the capacity.
type Balance struct {
	From      time.Time         `json:"from"`
	To        time.Time         `json:"to"`
	Host      string            `json:"host"`
	Hosts     int               `json:"hosts" doc:"Hosts with records in the span."`
	Workloads int               `json:"workloads"`
	Tenants   []TenantBalance   `json:"tenants" doc:"By name; unassigned use last."`
	Resources []ResourceBalance `json:"resources"`
}

// ResourceBalance is the whole of one resource, as means over the span.
type ResourceBalance struct {
	Resource string            `json:"resource" enum:"cpu,memory,disk,network"`
	MeanUnit string            `json:"mean_unit"`
	Capacity *float64          `json:"capacity_mean"`
	Used     *float64          `json:"used_mean"`
	Kernel   *float64          `json:"kernel_mean"`
	Steal    *float64          `json:"steal_mean"`
	Idle     *float64          `json:"idle_mean"`
	Residual *float64          `json:"residual_mean"`
	Notes    map[string]string `json:"notes,omitempty" doc:"Why a field is null."`
}

// TenantBalance is one tenant's row.
type TenantBalance struct {
	Tenant    string        `json:"tenant"`
	Colour    int           `json:"colour" doc:"Place in the row of tenant colours, 1 to 8; 0 for unassigned."`
	Workloads int           `json:"workloads"`
	Uses      []ResourceUse `json:"uses" doc:"One per resource, in the order of resources."`
}

// ResourceUse is one tenant's use of one resource.
type ResourceUse struct {
	Resource string   `json:"resource"`
	Used     *float64 `json:"used_mean" doc:"Null when none of its workloads has a figure."`
	Amount   *float64 `json:"amount" doc:"Over the span: cpu_seconds or bytes; memory's mean bytes."`
	Peak     *float64 `json:"peak_minute_mean" doc:"Mean of the tenant's highest minute, all its workloads added."`
	Missing  int      `json:"missing" doc:"Workloads without a figure: the amounts lack theirs."`
	Reason   string   `json:"reason,omitempty" doc:"Why figures are missing."`
	Quota    *float64 `json:"quota" doc:"The ceiling; null where none is set."`
	Over     bool     `json:"over" doc:"The mean is above the quota."`
	PeakOver bool     `json:"peak_over" doc:"The highest minute is above the quota."`
}

// Balance answers how tenants stand over a span, on one host or on all ("").
func (h *Hub) Balance(ctx context.Context, span store.Span, hostName string) (*Balance, error) {
	b := &Balance{From: span.From, To: span.To, Host: Fleet, Tenants: []TenantBalance{}, Resources: []ResourceBalance{}}
	hostID := int32(0)
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		hostID, b.Host = host.ID, host.Name
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	quotas, err := h.store.Quotas(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := h.store.TenantUses(ctx, hostID, span)
	if err != nil {
		return nil, err
	}
	points, err := h.store.Timeline(ctx, hostID, span, amount.CPU, span.To.Sub(span.From))
	if err != nil {
		return nil, err
	}
	for _, p := range points {
		b.Hosts = max(b.Hosts, p.Hosts)
	}
	var shares [amount.NumResources]float64
	byTenant := map[int32]store.TenantUse{}
	for _, u := range uses {
		byTenant[u.TenantID] = u
		b.Workloads += u.Workloads
		for r, v := range []float64{u.CPU, u.Memory, u.Disk, u.Network} {
			shares[r] += v
		}
	}
	elapsed := int64(0)
	for _, r := range amount.Resources() {
		t, err := h.store.Totals(ctx, hostID, span, r)
		if err != nil {
			return nil, err
		}
		elapsed = t.ElapsedMillis
		b.Resources = append(b.Resources, resourceBalance(t, shares[r]))
	}
	for _, t := range tenants {
		b.Tenants = append(b.Tenants, tenantBalance(t.Name, int(t.Colour), t.ID, byTenant[t.ID], quotas, elapsed))
	}
	b.Tenants = append(b.Tenants, tenantBalance(Unassigned, 0, 0, byTenant[0], nil, elapsed))
	return b, nil
}

func resourceBalance(t sheet.Totals, shares float64) ResourceBalance {
	var l sheet.Ledger
	l.Fill(t, shares)
	mean := func(a *float64) *float64 {
		if a == nil {
			return nil
		}
		m := l.Mean(*a)
		return &m
	}
	return ResourceBalance{
		Resource: l.Resource, MeanUnit: l.MeanUnit, Notes: l.Notes, Capacity: mean(l.Capacity), Used: mean(l.Used),
		Kernel: mean(l.Kernel), Steal: mean(l.Steal), Idle: mean(l.Idle), Residual: mean(l.Residual),
	}
}

func tenantBalance(name string, colour int, id int32, u store.TenantUse, quotas []store.Quota, elapsed int64) TenantBalance {
	b := TenantBalance{Tenant: name, Colour: colour, Workloads: u.Workloads}
	units := [amount.NumResources]float64{u.CPU, u.Memory, u.Disk, u.Network}
	missing := [amount.NumResources]int{u.CPUMissing, u.MemoryMissing, u.DiskMissing, u.NetworkMissing}
	peaks := [amount.NumResources]float64{u.CPUPeak, u.MemoryPeak, u.DiskPeak, u.NetworkPeak}
	for _, r := range amount.Resources() {
		use := ResourceUse{Resource: r.String(), Missing: missing[r]}
		for _, q := range quotas {
			if q.TenantID == id && q.Resource == r.String() {
				ceiling := q.Ceiling
				use.Quota = &ceiling
			}
		}
		if use.Missing > 0 {
			use.Reason = sheet.Reason(r)
		}
		if use.Missing == 0 || units[r] > 0 {
			used, amount := r.Mean(units[r], elapsed), r.Amount(units[r], elapsed)
			peak := max(r.Mean(peaks[r], time.Minute.Milliseconds()), used) // a minute that is not whole yet has less
			use.Used, use.Amount, use.Peak = &used, &amount, &peak
			use.Over, use.PeakOver = use.Quota != nil && used > *use.Quota, use.Quota != nil && peak > *use.Quota
		}
		b.Uses = append(b.Uses, use)
	}
	return b
}

// Timeline is how busy a host or the fleet was.
type Timeline struct {
	From           time.Time       `json:"from"`
	To             time.Time       `json:"to"`
	Resource       string          `json:"resource"`
	StretchSeconds float64         `json:"stretch_seconds"`
	Points         []TimelinePoint `json:"points" doc:"Stretches without records are left out: unknown, not zero."`
}

// TimelinePoint is one stretch of a timeline.
type TimelinePoint struct {
	Start time.Time `json:"start"`
	Busy  *float64  `json:"busy_share" doc:"Used of capacity, 0 to 1; null where the capacity is not known."`
	Hosts int       `json:"hosts" doc:"Hosts with records in the stretch."`
}

// Timeline answers how busy a host, or all, was over a span, in at most about 200 stretches of whole minutes.
func (h *Hub) Timeline(ctx context.Context, span store.Span, hostName string, r amount.Resource) (*Timeline, error) {
	hostID := int32(0)
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		hostID = host.ID
	}
	stretch := max((span.To.Sub(span.From) / 200).Truncate(time.Minute), time.Minute)
	points, err := h.store.Timeline(ctx, hostID, span, r, stretch)
	if err != nil {
		return nil, err
	}
	t := &Timeline{From: span.From, To: span.To, Resource: r.String(), StretchSeconds: stretch.Seconds(), Points: []TimelinePoint{}}
	for _, p := range points {
		x := TimelinePoint{Start: p.Start.UTC(), Hosts: p.Hosts}
		if p.Capacity > 0 {
			busy := p.Used / p.Capacity
			x.Busy = &busy
		}
		t.Points = append(t.Points, x)
	}
	return t, nil
}

// PinnedCPU is what is known of one declared CPU.
type PinnedCPU struct {
	Host   string    `json:"host"`
	CPU    int       `json:"cpu"`
	Tenant string    `json:"tenant" doc:"Whom it is declared for."`
	May    []string  `json:"may_run" doc:"Workloads whose affinity and cpuset allow it, with their tenant in brackets."`
	Ran    []PinRun  `json:"ran" doc:"Who did run there, most first."`
	Others float64   `json:"others_cpu_seconds" doc:"Time of other tenants' workloads there."`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
}

// PinRun is what one workload ran on a CPU.
type PinRun struct {
	Workload   string  `json:"workload"`
	Kind       string  `json:"kind"`
	Tenant     string  `json:"tenant"`
	CPUSeconds float64 `json:"cpu_seconds"`
	Source     string  `json:"source" doc:"counted by the kernel per CPU; or summed: each process's time put down to the CPU it last ran on."`
}

// Pins audits every declared CPU over a span, on one host or on all ("").
func (h *Hub) Pins(ctx context.Context, span store.Span, hostName string) ([]PinnedCPU, error) {
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	names := map[int32]string{0: Unassigned}
	for _, t := range tenants {
		names[t.ID] = t.Name
	}
	if hostName != "" {
		if _, err := h.Host(ctx, hostName); err != nil {
			return nil, err
		}
	}
	out := []PinnedCPU{}
	for _, p := range pins {
		if hostName != "" && p.Host.Name != hostName {
			continue
		}
		audited, err := h.auditPin(ctx, &p, span, names)
		if err != nil {
			return nil, err
		}
		out = append(out, audited...)
	}
	return out, nil
}

func (h *Hub) auditPin(ctx context.Context, p *store.Pin, span store.Span, names map[int32]string) ([]PinnedCPU, error) {
	declared, err := cpuset.Parse(p.CPUs)
	if err != nil {
		return nil, err
	}
	running, err := h.store.RunningWorkloads(ctx, p.HostID, span)
	if err != nil {
		return nil, err
	}
	use, err := h.store.CPUUse(ctx, p.HostID, span)
	if err != nil {
		return nil, err
	}
	byID := map[int64]*store.Workload{}
	for i := range running {
		byID[running[i].ID] = &running[i]
	}
	var out []PinnedCPU
	for _, cpu := range declared.CPUs() {
		x := PinnedCPU{Host: p.Host.Name, CPU: cpu, Tenant: p.Tenant.Name, May: []string{}, Ran: []PinRun{}, From: span.From, To: span.To}
		for i := range running {
			if set, err := cpuset.Parse(running[i].Allowed); err == nil && set.Has(cpu) {
				x.May = append(x.May, running[i].Name+" ("+named(names, running[i].TenantID)+")")
			}
		}
		for _, u := range use {
			w := byID[u.WorkloadID]
			if int(u.CPU) != cpu || w == nil || u.Micros == 0 {
				continue
			}
			run := PinRun{w.Name, w.Kind, named(names, w.TenantID), float64(u.Micros) / 1e6, amount.Source(u.Source).String()}
			x.Ran = append(x.Ran, run)
			if w.TenantID != p.TenantID {
				x.Others += run.CPUSeconds
			}
		}
		out = append(out, x)
	}
	return out, nil
}

func named(names map[int32]string, id int32) string {
	if n, ok := names[id]; ok {
		return n
	}
	return Unassigned
}

// Detail returns what a host's newest interval of a span says beside the ledger, as JSON of the wire schema.
func (h *Hub) Detail(ctx context.Context, hostID int32, span store.Span) ([]byte, error) {
	return h.store.Detail(ctx, hostID, span)
}
