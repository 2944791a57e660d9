package hub

import (
	"context"
	"time"

	"vinescale/core/amount"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Balance compares what every tenant used with its quotas and with the capacity.
type Balance struct {
	From      time.Time         `json:"from"`
	To        time.Time         `json:"to"`
	Host      string            `json:"host"`
	Hosts     int               `json:"hosts" doc:"Hosts with records in the span."`
	Workloads int               `json:"workloads"`
	Tenants   []TenantBalance   `json:"tenants" doc:"Unassigned use first, then by name."`
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
	Used     *float64 `json:"used_mean" doc:"Null when none of its workloads has a figure, or nothing was recorded."`
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
	b.Tenants = append(b.Tenants, tenantBalance(Unassigned, 0, 0, byTenant[0], nil, elapsed))
	for _, t := range tenants {
		b.Tenants = append(b.Tenants, tenantBalance(t.Name, int(t.Colour), t.ID, byTenant[t.ID], quotas, elapsed))
	}
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

func tenantBalance(name string, colour int, id int32, u store.TenantUse, quotas []store.Quota,
	elapsed int64) TenantBalance {
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
		switch {
		case elapsed == 0:
			use.Reason = sheet.NothingRecorded
		case use.Missing > 0:
			use.Reason = sheet.Reason(r)
		}
		if elapsed > 0 && (use.Missing == 0 || units[r] > 0) {
			used, amount := r.Mean(units[r], elapsed), r.Amount(units[r], elapsed)
			peak := max(r.Mean(peaks[r], time.Minute.Milliseconds()), used) // a minute that is not whole yet has less
			use.Used, use.Amount, use.Peak = &used, &amount, &peak
			use.Over, use.PeakOver = use.Quota != nil && used > *use.Quota, use.Quota != nil && peak > *use.Quota
		}
		b.Uses = append(b.Uses, use)
	}
	return b
}
