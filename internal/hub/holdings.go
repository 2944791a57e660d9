package hub

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"vinescale/core/explain"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// PartText says of a Tenancy's tenant that it is a part of another.
type PartText struct {
	Tenant string `json:"tenant" yaml:"tenant"`
	Of     string `json:"of" yaml:"of"`
}

// wholeOf is the tenant that another is a part of; empty for none.
func (x *Tenancy) wholeOf(tenant string) string {
	for _, p := range x.Parts {
		if p.Tenant == tenant {
			return p.Of
		}
	}
	return ""
}

// QuotaText is one quota of a Tenancy. Amounts are numbers in the unit of what is limited.
type QuotaText struct {
	Tenant  string   `json:"tenant" yaml:"tenant"`
	Of      string   `json:"of" yaml:"of" doc:"A resource, or processes, threads, gpu_devices, space_used_bytes."`
	Ceiling *float64 `json:"ceiling,omitempty" yaml:"ceiling,omitempty" doc:"Or, with per, an allowance's amount."`
	Soft    *float64 `json:"soft,omitempty" yaml:"soft,omitempty"`
	Unit    string   `json:"unit,omitempty" yaml:"unit,omitempty" doc:"Where it is given it must fit."`
	Host    string   `json:"host,omitempty" yaml:"host,omitempty" doc:"On this host only."`
	Pool    string   `json:"pool,omitempty" yaml:"pool,omitempty" doc:"On the hosts of this pool together."`
	Basis   string   `json:"basis,omitempty" yaml:"basis,omitempty" doc:"used, held or greater; used when left out."`
	Per     string   `json:"per,omitempty" yaml:"per,omitempty" doc:"Of an allowance: its window."`
	Zone    string   `json:"zone,omitempty" yaml:"zone,omitempty" doc:"Of an allowance: its time zone."`
	Beyond  bool     `json:"beyond,omitempty" yaml:"beyond,omitempty" doc:"It may be more than its whole leaves."`
	Reason  string   `json:"reason,omitempty" yaml:"reason,omitempty"`
}

// PinText is one declaration of CPUs of a Tenancy: for a tenant, a workload or what matches a rule.
type PinText struct {
	Host     string     `json:"host" yaml:"host"`
	CPUs     string     `json:"cpus" yaml:"cpus"`
	Tenant   string     `json:"tenant,omitempty" yaml:"tenant,omitempty"`
	Workload string     `json:"workload,omitempty" yaml:"workload,omitempty"`
	Rule     string     `json:"rule,omitempty" yaml:"rule,omitempty"`
	Shared   bool       `json:"shared,omitempty" yaml:"shared,omitempty" doc:"Others may run there too."`
	Until    *time.Time `json:"until,omitempty" yaml:"until,omitempty"`
	Reason   string     `json:"reason,omitempty" yaml:"reason,omitempty"`
}

// exportHoldings adds what is in force now: which tenants are parts of which, quotas, and declarations of CPUs.
func (h *Hub) exportHoldings(ctx context.Context, x *Tenancy, tenants []store.Tenant) error {
	family, names := familyOf(tenants)
	x.Parts, x.Quotas, x.Pins = []PartText{}, []QuotaText{}, []PinText{}
	for _, t := range tenants {
		if whole := family[t.ID]; whole != 0 {
			x.Parts = append(x.Parts, PartText{t.Name, names[whole]})
		}
	}
	quotas, err := h.Quotas(ctx)
	if err != nil {
		return err
	}
	for i := range quotas {
		x.Quotas = append(x.Quotas, quotaTextOf(&quotas[i]))
	}
	for i := range x.Quotas {
		x.Quotas[i].Beyond = x.exceedsWhole(&x.Quotas[i])
	}
	pins, err := h.Declared(ctx, "")
	now := h.options.Now()
	for i := range pins {
		if p := &pins[i]; !p.Ends(now) && !p.From.After(now) {
			x.Pins = append(x.Pins, pinTextOf(p))
		}
	}
	return err
}

func quotaTextOf(q *Quota) QuotaText {
	t := QuotaText{Tenant: q.Tenant, Of: q.Resource, Ceiling: q.Limit.Ceiling, Soft: q.Limit.Soft, Per: q.Window,
		Zone: q.Limit.Zone, Reason: q.Reason}
	t.Unit, _ = tenancy.QuotaUnit(
		q.Resource,
		q.Window != "",
	) // of one that is no longer in the register it is not known
	if q.Limit.Basis != tenancy.Used {
		t.Basis = string(q.Limit.Basis)
	}
	switch q.Scope.Kind {
	case tenancy.OneHost:
		t.Host = q.Scope.Name
	case tenancy.HostPool:
		t.Pool = q.Scope.Name
	}
	return t
}

func pinTextOf(p *DeclaredPin) PinText {
	t := PinText{Host: p.HostName, CPUs: p.CPUs, Shared: !p.Exclusive, Reason: p.Reason}
	if p.Until != nil {
		until := p.Until.UTC()
		t.Until = &until
	}
	switch p.Kind {
	case explain.HolderTenant:
		t.Tenant = p.Holder
	case explain.HolderWorkload:
		t.Workload = p.Holder
	default:
		t.Rule = p.Holder
	}
	return t
}

// order is the quota as it is ordered.
func (t *QuotaText) order() *QuotaOrder {
	o := &QuotaOrder{Tenant: t.Tenant, Resource: t.Of, Window: t.Per, Reason: t.Reason, IsBeyond: true,
		Limit: tenancy.Limit{Ceiling: t.Ceiling, Soft: t.Soft, Basis: tenancy.Basis(t.Basis), Zone: t.Zone}}
	switch {
	case t.Host != "":
		o.ScopeKind, o.ScopeOn = string(tenancy.OneHost), t.Host
	case t.Pool != "":
		o.ScopeKind, o.ScopeOn = string(tenancy.HostPool), t.Pool
	}
	return o
}

func (t *PinText) order() *PinOrder {
	o := &PinOrder{Host: t.Host, CPUs: t.CPUs, IsShared: t.Shared, IsComing: true, Reason: t.Reason}
	if t.Until != nil {
		o.Until = *t.Until
	}
	for _, x := range []struct{ kind, holder string }{{explain.HolderTenant, t.Tenant},
		{explain.HolderWorkload, t.Workload}, {explain.HolderRule, t.Rule}} {
		if x.holder != "" {
			o.Kind, o.Holder = x.kind, x.holder
		}
	}
	return o
}

// limitsSame tells whether two quotas of a file limit the same.
func (t *QuotaText) limitsSame(o *QuotaText) bool {
	return t.Of == o.Of && t.Host == o.Host && t.Pool == o.Pool && t.Per == o.Per
}

// exceedsWhole tells whether a quota of a part, with those of the other parts, is more than the whole's.
func (x *Tenancy) exceedsWhole(q *QuotaText) bool {
	whole := x.wholeOf(q.Tenant)
	if whole == "" || q.Ceiling == nil {
		return false
	}
	sum, limit := 0.0, (*float64)(nil)
	for i := range x.Quotas {
		o := &x.Quotas[i]
		switch {
		case !o.limitsSame(q) || o.Ceiling == nil:
		case o.Tenant == whole:
			limit = o.Ceiling
		case x.wholeOf(o.Tenant) == whole:
			sum += *o.Ceiling
		}
	}
	return limit != nil && sum > *limit
}

// holdings is what an import puts in force, and ends.
type holdings struct {
	parents    map[string]string // "" for a tenant that is to be a part of none
	quotas     []*QuotaOrder
	endQuotas  []*QuotaOrder
	pins       []*PinOrder
	endPins    []int64
	wasRemoved func(tenant string) bool
}

// planHoldings says what of a file's quotas, declarations and parts is other than what is in force. What the file
// leaves out altogether is left as it is. Everything is checked before anything is written.
func (h *Hub) planHoldings(ctx context.Context, x, has *Tenancy, plan *Import) (*holdings, error) {
	p := &holdings{parents: map[string]string{},
		wasRemoved: func(tenant string) bool { return slices.Contains(plan.TenantsRemoved, tenant) }}
	named := func(tenant string) error {
		if slices.Contains(x.Tenants, tenant) || slices.Contains(plan.TenantsKept, tenant) {
			return nil
		}
		return problem(
			Invalid,
			"the file gives something to tenant %q, which its list of tenants does not name: add it "+
				"there",
			tenant,
		)
	}
	if err := p.planParts(x, has, plan, named); err != nil {
		return nil, err
	}
	if x.Quotas != nil {
		if err := h.planQuotas(ctx, p, x, has, plan, named); err != nil {
			return nil, err
		}
	}
	if x.Pins != nil {
		if err := h.planPins(ctx, p, x, plan, named); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (p *holdings) planParts(x, has *Tenancy, plan *Import, named func(string) error) error {
	if x.Parts == nil {
		x.Parts = has.Parts
		return nil
	}
	for i, part := range x.Parts {
		if err := cmp.Or(named(part.Tenant), named(part.Of)); err != nil {
			return err
		}
		if slices.ContainsFunc(x.Parts[:i], func(o PartText) bool { return o.Tenant == part.Tenant }) {
			return problem(Invalid, "the file makes %s a part of two tenants: give one", part.Tenant)
		}
		seen := part.Tenant
		for range x.Parts {
			if seen = x.wholeOf(seen); seen == part.Tenant {
				return problem(Invalid, "%s would come to be a part of itself: tenants would go in a circle", seen)
			}
		}
		if has.wholeOf(part.Tenant) != part.Of {
			p.parents[part.Tenant] = part.Of
			plan.Parts = append(plan.Parts, fmt.Sprintf("%s becomes a part of %s", part.Tenant, part.Of))
		}
	}
	for _, part := range has.Parts {
		if x.wholeOf(part.Tenant) == "" && !p.wasRemoved(part.Tenant) {
			p.parents[part.Tenant] = ""
			plan.Parts = append(plan.Parts, part.Tenant+" becomes a part of none")
		}
	}
	return nil
}

func (h *Hub) planQuotas(ctx context.Context, p *holdings, x, has *Tenancy, plan *Import,
	named func(string) error) error {
	for i := range x.Quotas {
		t := &x.Quotas[i]
		if err := named(t.Tenant); err != nil {
			return err
		}
		if t.Host != "" && t.Pool != "" {
			return problem(
				Invalid,
				"quota %d of the file is on host %s and on pool %s: give one",
				i+1,
				t.Host,
				t.Pool,
			)
		}
		order := t.order()
		if err := order.Limit.Check(); err != nil {
			return problem(Invalid, "quota %d of the file: %v", i+1, err)
		}
		q, err := h.soundQuota(ctx, order)
		if err != nil {
			return err
		}
		if unit, _ := tenancy.QuotaUnit(t.Of, t.Per != ""); t.Unit != "" && t.Unit != unit {
			return problem(Invalid, "quota %d of the file is in %s: one of %s is in %s", i+1, t.Unit, t.Of, unit)
		}
		for k := range i {
			if o := &x.Quotas[k]; o.Tenant == t.Tenant && o.limitsSame(t) {
				return problem(Invalid, "quotas %d and %d of the file limit the same: give one", k+1, i+1)
			}
		}
		if !t.Beyond && x.exceedsWhole(t) {
			return problem(
				Conflict,
				"quota %d of the file gives %s more of %s than what is left of %s: give less, or say "+
					"beyond: true",
				i+1,
				t.Tenant,
				t.Of,
				x.wholeOf(t.Tenant),
			)
		}
		at := slices.IndexFunc(has.Quotas, func(o QuotaText) bool { return o.Tenant == t.Tenant && o.limitsSame(t) })
		if at >= 0 && has.Quotas[at].order().Limit.Equal(q.Limit) {
			continue
		}
		p.quotas = append(p.quotas, order)
		plan.Quotas = append(plan.Quotas, "in force: "+q.text())
	}
	for i := range has.Quotas {
		t := &has.Quotas[i]
		stays := slices.ContainsFunc(
			x.Quotas,
			func(o QuotaText) bool { return o.Tenant == t.Tenant && o.limitsSame(t) },
		)
		if stays || p.wasRemoved(t.Tenant) {
			continue
		}
		order := t.order()
		order.Limit, order.Reason = tenancy.Limit{}, "not in the file any more"
		p.endQuotas = append(p.endQuotas, order)
		plan.Quotas = append(plan.Quotas, fmt.Sprintf("ends: %s, %s", t.Tenant, t.Of))
	}
	return nil
}

// text is a quota in a line.
func (q *Quota) text() string {
	unit, _ := tenancy.QuotaUnit(q.Resource, q.Window != "")
	what := "watched"
	if q.Limit.Ceiling != nil {
		what = fmt.Sprintf("%g %s", *q.Limit.Ceiling, unit)
	}
	text := fmt.Sprintf("%s, %s of %s on %s", q.Tenant, what, q.Resource, q.Scope)
	if q.Window != "" {
		text += " per " + q.Window
	}
	return text
}

func (h *Hub) planPins(ctx context.Context, p *holdings, x *Tenancy, plan *Import, named func(string) error) error {
	standing, err := h.Declared(ctx, "")
	if err != nil {
		return err
	}
	now := h.options.Now()
	standing = slices.DeleteFunc(standing, func(d DeclaredPin) bool { return d.Ends(now) || d.From.After(now) })
	kept := map[int64]bool{}
	for i := range x.Pins {
		t := &x.Pins[i]
		order := t.order()
		isEmpty := func(s string) bool { return s == "" }
		if n := len(slices.DeleteFunc([]string{t.Tenant, t.Workload, t.Rule}, isEmpty)); n != 1 {
			return problem(
				Invalid,
				"declaration %d of the file has %d holders: give a tenant, a workload or a rule",
				i+1,
				n,
			)
		}
		checked := *order
		if order.Kind == explain.HolderTenant {
			if err := named(t.Tenant); err != nil {
				return err
			}
			checked.Kind, checked.Holder = explain.HolderRule, "true" // the tenant may yet have to be made
		}
		sound, err := h.soundPin(ctx, &checked)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(standing, func(d DeclaredPin) bool {
			return d.HostName == t.Host && d.Kind == order.Kind && d.Holder == order.Holder
		})
		if at >= 0 {
			d := &standing[at]
			if kept[d.ID] {
				return problem(
					Invalid,
					"declaration %d of the file is for %s on %s, as one before it is: give one with all "+
						"CPUs",
					i+1,
					order.Holder,
					t.Host,
				)
			}
			kept[d.ID] = true
			isEnd := d.Until == nil && sound.Until == nil ||
				d.Until != nil && sound.Until != nil && d.Until.Equal(*sound.Until)
			if d.CPUs == sound.CPUs && d.Exclusive == sound.Exclusive && isEnd {
				continue
			}
			if !isEnd {
				p.endPins = append(p.endPins, d.ID) // so that the other end is no overlap
			}
		}
		p.pins = append(p.pins, order)
		plan.Pins = append(plan.Pins, fmt.Sprintf("declared: CPUs %s of %s for %s", sound.CPUs, t.Host, order.Holder))
	}
	for i := range standing {
		if d := &standing[i]; !kept[d.ID] && !(d.Kind == explain.HolderTenant && p.wasRemoved(d.Holder)) {
			p.endPins = append(p.endPins, d.ID)
			plan.Pins = append(plan.Pins, fmt.Sprintf("ends: CPUs %s of %s for %s", d.CPUs, d.HostName, d.Holder))
		}
	}
	return nil
}

// putHoldings puts in force what was planned.
func (h *Hub) putHoldings(ctx context.Context, p *holdings) error {
	for _, part := range slices.Sorted(maps.Keys(p.parents)) {
		if p.parents[part] == "" {
			if err := h.SetParent(ctx, part, ""); err != nil {
				return err
			}
		}
	}
	for _, part := range slices.Sorted(maps.Keys(p.parents)) {
		if err := h.SetParent(ctx, part, p.parents[part]); err != nil {
			return err
		}
	}
	for _, o := range p.endQuotas {
		if err := h.RemoveQuota(ctx, o); err != nil {
			return err
		}
	}
	for _, o := range p.quotas {
		if _, err := h.SetQuota(ctx, o); err != nil {
			return err
		}
	}
	for _, id := range p.endPins {
		if _, err := h.EndPin(ctx, id, time.Time{}, "not in the file any more"); err != nil {
			return err
		}
	}
	for _, o := range p.pins {
		if _, err := h.Declare(ctx, o); err != nil {
			return err
		}
	}
	return nil
}
