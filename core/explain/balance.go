package explain

import (
	"vinescale/core/amount"
	"vinescale/core/question"
)

// Balance compares what every tenant used with its quotas and with the capacity.
type Balance struct {
	Over
	Hosts     int               `json:"hosts" doc:"Hosts with records in the span."`
	Workloads int               `json:"workloads"`
	Tenants   []TenantBalance   `json:"tenants" doc:"Unassigned use first, then by name."`
	Resources []ResourceBalance `json:"resources"`
	Note      string            `json:"note,omitempty" doc:"Where sums stand for intervals that are no longer kept."`
}

// ResourceBalance is the whole of one resource, as means over the span.
type ResourceBalance struct {
	Resource string            `json:"resource"`
	MeanUnit string            `json:"mean_unit"`
	Capacity *float64          `json:"capacity_mean"`
	Used     *float64          `json:"used_mean"`
	Kernel   *float64          `json:"kernel_mean"`
	Steal    *float64          `json:"steal_mean"`
	Idle     *float64          `json:"idle_mean"`
	Residual *float64          `json:"residual_mean"`
	Notes    map[string]string `json:"notes,omitempty" doc:"Why a field is null."`
	Without  []string          `json:"without,omitempty" doc:"Hosts that have none of it, and are not in it."`
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
	Amount   *float64 `json:"amount" doc:"Over the span; of a level its mean."`
	Peak     *float64 `json:"peak_minute_mean" doc:"Mean of the tenant's highest minute, all its workloads added."`
	Missing  int      `json:"missing" doc:"Workloads without a figure: the amounts lack theirs."`
	Reason   string   `json:"reason,omitempty" doc:"Why figures are missing."`
	Quota    *float64 `json:"quota" doc:"The ceiling; null where none is set."`
	Over     bool     `json:"over" doc:"The mean is above the quota."`
	PeakOver bool     `json:"peak_over" doc:"The highest minute is above the quota."`
}

// Tenant is a tenant that is balanced, with its ceilings: cores, bytes, or bytes per second.
type Tenant struct {
	ID     int32
	Name   string
	Colour int
	Quotas map[amount.Resource]float64
}

// ExplainBalance sets tenants against their quotas and the capacity. Rows are by tenant, for every resource; the
// stretch is the host-wide lines of the same. Workloads is how many there were in all: one that changed tenant is one.
func ExplainBalance(over Over, stretch *question.Stretch, rows []question.Row, workloads int,
	tenants []Tenant) *Balance {
	b := &Balance{Over: over, Hosts: stretch.Hosts, Workloads: workloads, Tenants: []TenantBalance{},
		Resources: []ResourceBalance{}, Note: question.PastKeeping(stretch.Grain)}
	byTenant := map[int32]*question.Row{}
	for i := range rows {
		byTenant[rows[i].Tenant] = &rows[i]
	}
	for i, r := range amount.Resources() {
		shares := 0.0
		for k := range rows {
			shares += rows[k].Sums[i].Units
		}
		b.Resources = append(b.Resources, resourceBalance(r, stretch, &stretch.Of[i], shares))
	}
	b.Tenants = append(b.Tenants, tenantBalance(&Tenant{Name: Unassigned}, byTenant[0], stretch.ElapsedMillis))
	for i := range tenants {
		b.Tenants = append(b.Tenants, tenantBalance(&tenants[i], byTenant[tenants[i].ID], stretch.ElapsedMillis))
	}
	return b
}

func resourceBalance(r amount.Resource, stretch *question.Stretch, lines *question.Lines,
	shares float64) ResourceBalance {
	x := ResourceBalance{Resource: r.String(), MeanUnit: r.MeanUnit(), Notes: map[string]string{},
		Without: lines.Without}
	for _, l := range []struct {
		name string
		into **float64
		line question.Line
	}{
		{"capacity", &x.Capacity, lines.Capacity}, {"used", &x.Used, lines.Used}, {"idle", &x.Idle, lines.Idle},
		{"kernel", &x.Kernel, lines.Kernel}, {"steal", &x.Steal, lines.Steal},
		{"residual", &x.Residual, lines.Residual(shares)},
	} {
		switch {
		case stretch.ElapsedMillis == 0:
			x.Notes[l.name] = NothingRecorded
		case !l.line.OK():
			x.Notes[l.name] = l.line.Reason
		default:
			v := r.Mean(l.line.Units, stretch.ElapsedMillis)
			*l.into = &v
		}
	}
	return x
}

func tenantBalance(t *Tenant, row *question.Row, elapsed int64) TenantBalance {
	b := TenantBalance{Tenant: t.Name, Colour: t.Colour}
	if row != nil {
		b.Workloads = row.Workloads
	}
	for i, r := range amount.Resources() {
		use := ResourceUse{Resource: r.String()}
		if ceiling, set := t.Quotas[r]; set {
			use.Quota = &ceiling
		}
		sum := question.Sum{Source: amount.Counted} // a tenant that has no workload used nothing
		if row != nil {
			sum = row.Sums[i]
		}
		use.Missing = sum.Missing
		use.Reason = Reason(r, &sum)
		if elapsed == 0 {
			use.Reason = NothingRecorded
		} else if sum.Known() {
			used, amount := r.Mean(sum.Units, elapsed), r.Amount(sum.Units, elapsed)
			peak := max(sum.Peak, used) // a minute that is not whole yet has less
			use.Used, use.Amount, use.Peak = &used, &amount, &peak
			use.Over, use.PeakOver = use.Quota != nil && used > *use.Quota, use.Quota != nil && peak > *use.Quota
		}
		b.Uses = append(b.Uses, use)
	}
	return b
}
