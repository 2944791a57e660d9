package explain

import (
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// Balance compares what every tenant used with its quotas and with the capacity.
type Balance struct {
	Over
	Hosts     int               `json:"hosts" doc:"Hosts with records in the span."`
	Workloads int               `json:"workloads"`
	Tenants   []TenantBalance   `json:"tenants" doc:"Unassigned use first, then by name."`
	Resources []ResourceBalance `json:"resources"`
	// How tenants stand against each quota, and in the windows of their allowances.
	Stands     []Stand          `json:"stands"`
	Allowances []AllowanceStand `json:"allowances"`
	// What was promised on all hosts, on each pool and on each host, against what there is.
	Promised []Promise `json:"promised"`
	// CPUs that were short, and who had more of their time than by weight; those where most was waited first. Looked
	// into are the busiest stretches of each host, and of these on all hosts the busiest 48.
	Short []Shortage `json:"short"`
	Note  string     `json:"note,omitempty" doc:"Where sums stand for intervals that are no longer kept."`
}

// OfFrames makes it a balance of live frames: the highest minutes of tenants, and how they stand against quotas over
// time, are known by the book alone.
func (b *Balance) OfFrames() {
	b.Stands, b.Allowances, b.Promised, b.Short = []Stand{}, []AllowanceStand{}, []Promise{}, []Shortage{}
	b.Note = "live figures: peaks, quotas over time and who was short are told by the book"
	for i := range b.Tenants {
		for k := range b.Tenants[i].Uses {
			b.Tenants[i].Uses[k].Peak, b.Tenants[i].Uses[k].PeakOver = nil, false
		}
	}
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
	Parts     []string      `json:"parts,omitempty" doc:"Tenants that are parts of it: their use is in their own rows."`
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
	QuotaUse
	Terms  []QuotaTerm  `json:"terms,omitempty" doc:"What was in force in the span, in order, where it changed."`
	Coming *ComingQuota `json:"coming,omitempty" doc:"What is in force after the span, where that is another."`
}

// ComingQuota is the limit after the one that was in force at the end of the span.
type ComingQuota struct {
	From  time.Time `json:"from"`
	Quota *float64  `json:"quota"`
	Soft  *float64  `json:"soft"`
}

// QuotaUse is a use against the limit that was in force.
type QuotaUse struct {
	Quota    *float64 `json:"quota" doc:"The ceiling, at the end where it changed; null where none is set."`
	Soft     *float64 `json:"soft" doc:"From here on it is watched; null where no soft mark is set."`
	Over     bool     `json:"over" doc:"The mean is above the quota; in one of the terms where it changed."`
	PeakOver bool     `json:"peak_over" doc:"The highest minute is above the quota that was in force."`
	SoftOver bool     `json:"soft_over" doc:"The mean is above the soft mark."`
}

// QuotaTerm is a part of the span in which one limit was in force.
type QuotaTerm struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Used *float64  `json:"used_mean"`
	Peak *float64  `json:"peak_minute_mean"`
	QuotaUse
}

// Tenant is a tenant that is balanced, with all changes of its limits.
type Tenant struct {
	ID     int32
	Name   string
	Colour int
	Parts  []string // tenants that are parts of it
	Limits map[amount.Resource][]tenancy.LimitChange
}

// Part is a part of a balanced span between two moments at which a limit changed: its rows are by tenant, on all
// hosts of the balance together.
type Part struct {
	From          time.Time
	ElapsedMillis int64
	Rows          []question.Row
}

// LimitsChanged lists the moments within a span at which a limit of any of the tenants became another, in order.
func LimitsChanged(tenants []Tenant, from, to time.Time) (moments []time.Time) {
	for i := range tenants {
		for _, changes := range tenants[i].Limits {
			for _, term := range tenancy.Terms(changes, from, to)[1:] {
				moments = append(moments, term.From)
			}
		}
	}
	slices.SortFunc(moments, time.Time.Compare)
	return slices.CompactFunc(moments, time.Time.Equal)
}

// ExplainBalance sets tenants against their quotas and the capacity. Rows are by tenant, for every resource; the
// stretch is the host-wide lines of the same. Workloads is how many there were in all: one that changed tenant is one.
// Parts are those between the moments that LimitsChanged lists, none where it lists none.
func ExplainBalance(over Over, stretch *question.Stretch, rows []question.Row, workloads int, tenants []Tenant,
	parts []Part) *Balance {
	b := &Balance{Over: over, Hosts: stretch.Hosts, Workloads: workloads, Tenants: []TenantBalance{},
		Resources: []ResourceBalance{}, Stands: []Stand{}, Allowances: []AllowanceStand{},
		Promised: []Promise{}, Short: []Shortage{},
		Note: question.PastKeeping(stretch.Grain)}
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
	whole := span{over.From, over.To, stretch.ElapsedMillis, parts}
	b.Tenants = append(b.Tenants, whole.of(&Tenant{Name: Unassigned}, byTenant[0]))
	for i := range tenants {
		b.Tenants = append(b.Tenants, whole.of(&tenants[i], byTenant[tenants[i].ID]))
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

// span is what a balance is over, with its parts.
type span struct {
	from, to      time.Time
	elapsedMillis int64
	parts         []Part
}

func (s *span) of(t *Tenant, row *question.Row) TenantBalance {
	b := TenantBalance{Tenant: t.Name, Colour: t.Colour, Parts: t.Parts}
	if row != nil {
		b.Workloads = row.Workloads
	}
	for i, r := range amount.Resources() {
		use := ResourceUse{Resource: r.String()}
		sum := question.Sum{Source: amount.Counted} // a tenant that has no workload used nothing
		if row != nil {
			sum = row.Sums[i]
		}
		use.Missing = sum.Missing
		use.Reason = Reason(r, &sum)
		if s.elapsedMillis == 0 {
			use.Reason = NothingRecorded
		} else if sum.Known() {
			amount := r.Amount(sum.Units, s.elapsedMillis)
			use.Amount = &amount
		}
		use.Used, use.Peak = means(r, &sum, s.elapsedMillis)
		terms := tenancy.Terms(t.Limits[r], s.from, s.to)
		use.QuotaUse = against(terms[len(terms)-1].Limit, use.Used, use.Peak)
		if len(terms) > 1 {
			use.Over, use.PeakOver, use.SoftOver = false, false, false
			for _, term := range terms {
				x := s.term(r, t.ID, &term)
				use.Over, use.PeakOver = use.Over || x.Over, use.PeakOver || x.PeakOver
				use.SoftOver = use.SoftOver || x.SoftOver
				use.Terms = append(use.Terms, x)
			}
		}
		if c := tenancy.Coming(t.Limits[r], s.to); c != nil {
			use.Coming = &ComingQuota{c.From, c.Limit.Ceiling, c.Limit.Soft}
		}
		b.Uses = append(b.Uses, use)
	}
	return b
}

// term is a tenant's use in the time that a limit was in force. It is made of whole parts.
func (s *span) term(r amount.Resource, tenant int32, term *tenancy.Term) QuotaTerm {
	sum, elapsed, found := question.Sum{Source: amount.Counted}, int64(0), false
	for _, part := range s.parts {
		if part.From.Before(term.From) || !part.From.Before(term.To) {
			continue
		}
		elapsed += part.ElapsedMillis
		for i := range part.Rows {
			switch of := &part.Rows[i]; {
			case of.Tenant != tenant:
			case !found:
				sum, found = of.Sums[r], true
			default:
				highest := max(sum.Peak, of.Sums[r].Peak)
				sum.Join(&of.Sums[r])
				sum.Peak = highest
			}
		}
	}
	x := QuotaTerm{From: term.From, To: term.To}
	x.Used, x.Peak = means(r, &sum, elapsed)
	x.QuotaUse = against(term.Limit, x.Used, x.Peak)
	return x
}

// means are a sum's mean and its highest minute, nil where they are not known.
func means(r amount.Resource, sum *question.Sum, elapsedMillis int64) (used, peak *float64) {
	if elapsedMillis == 0 || !sum.Known() {
		return nil, nil
	}
	mean := r.Mean(sum.Units, elapsedMillis)
	highest := max(sum.Peak, mean) // a minute that is not whole yet has less
	return &mean, &highest
}

// against judges means by a limit.
func against(limit tenancy.Limit, used, peak *float64) QuotaUse {
	above := func(v, mark *float64) bool { return v != nil && mark != nil && *v > *mark }
	return QuotaUse{Quota: limit.Ceiling, Soft: limit.Soft, Over: above(used, limit.Ceiling),
		PeakOver: above(peak, limit.Ceiling), SoftOver: above(used, limit.Soft)}
}
