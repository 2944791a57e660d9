package hub

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Quota is a limit of a tenant's, as one change put it in force: a ceiling, or with a window an allowance.
type Quota struct {
	Tenant, Resource string // what is limited: a resource, or what is counted
	Scope            tenancy.Scope
	Window           string        // of an allowance; empty for a ceiling
	Limit            tenancy.Limit // none where the change ended the limit
	AppliesAt        time.Time
	MadeAt           time.Time
	MadeBy, Reason   string
}

// isOf tells whether a quota limits the same as another.
func (q *Quota) isOf(o *Quota) bool {
	return q.Tenant == o.Tenant && q.Resource == o.Resource && q.Scope == o.Scope && q.Window == o.Window
}

// QuotaOrder is a limit that is to be put in force.
type QuotaOrder struct {
	Tenant, Resource   string
	ScopeKind, ScopeOn string // as tenancy.ScopeOf takes them
	Window             string // of an allowance, as tenancy.ParseWindow takes it; empty for a ceiling
	Limit              tenancy.Limit
	From               time.Time // from the minute that it is in; the zero time is now
	Reason             string
	IsBeyond           bool // it may be more than what is left of the whole that the tenant is a part of
}

// longestReason is how many bytes the reason of a change may have.
const longestReason = 1000

// Quotas lists the limits that are in force now, by tenant and by what is limited.
func (h *Hub) Quotas(ctx context.Context) ([]Quota, error) {
	all, err := h.QuotaChanges(ctx, "", "")
	list := []Quota{}
	now := h.options.Now()
	for _, q := range all { // newest first
		if !q.AppliesAt.After(now) && !slices.ContainsFunc(list, func(x Quota) bool { return x.isOf(&q) }) {
			list = append(list, q)
		}
	}
	list = slices.DeleteFunc(list, func(q Quota) bool { return q.Limit.None() })
	slices.SortStableFunc(list, func(a, b Quota) int {
		if a.Tenant != b.Tenant {
			return 0 // they are by tenant already
		}
		return place(a.Resource) - place(b.Resource)
	})
	return list, err
}

// QuotaChanges lists all changes of limits, of one tenant or of all (""), of one resource or of all (""): tenants by
// name, and of each the one first that applies last.
func (h *Hub) QuotaChanges(ctx context.Context, tenant, resource string) ([]Quota, error) {
	if resource != "" {
		if _, err := tenancy.QuotaUnit(resource, false); err != nil {
			return nil, problem(Invalid, "%v", err)
		}
	}
	tenants, err := h.store.Tenants(ctx) // by name
	if err != nil {
		return nil, err
	}
	if tenant != "" {
		one, err := h.Tenant(ctx, tenant)
		if err != nil {
			return nil, err
		}
		tenants = []store.Tenant{one}
	}
	changes, err := h.store.QuotaChanges(ctx)
	slices.Reverse(changes)
	slices.SortStableFunc(changes, func(a, b store.QuotaChange) int { return b.AppliesAt.Compare(a.AppliesAt) })
	list := []Quota{}
	for _, t := range tenants {
		for i := range changes {
			if c := &changes[i]; c.TenantID == t.ID && (resource == "" || c.Resource == resource) {
				list = append(list, quotaOf(&t, c))
			}
		}
	}
	return list, err
}

func quotaOf(t *store.Tenant, c *store.QuotaChange) Quota {
	return Quota{Tenant: t.Name, Resource: c.Resource, Limit: limitOf(c), Window: c.WindowBy,
		Scope:     tenancy.Scope{Kind: tenancy.ScopeKind(c.ScopeKind), Name: c.Scope},
		AppliesAt: c.AppliesAt.UTC(), MadeAt: c.MadeAt.UTC(), MadeBy: c.MadeBy, Reason: c.Reason}
}

// SetQuota puts a limit in force from a moment on, until the next change. What was used before that moment is judged by
// what was in force then. Where the same limit is in force at that moment already, nothing is changed.
func (h *Hub) SetQuota(ctx context.Context, order *QuotaOrder) (Quota, error) {
	if err := order.Limit.Check(); err != nil {
		return Quota{}, problem(Invalid, "%v", err)
	}
	return h.changeQuota(ctx, order)
}

// RemoveQuota ends a limit from a moment on. The order's limit is none.
func (h *Hub) RemoveQuota(ctx context.Context, order *QuotaOrder) error {
	q, err := h.changeQuota(ctx, order)
	if err == nil && q.MadeAt.IsZero() {
		return problem(NotFound, "%s has no quota of %s at that time", order.Tenant, order.Resource)
	}
	return err
}

// soundQuota checks an order, but for its tenant, and says which quota it is about and from when on.
func (h *Hub) soundQuota(ctx context.Context, order *QuotaOrder) (q Quota, err error) {
	q = Quota{Tenant: order.Tenant, Resource: order.Resource, Limit: order.Limit, Reason: order.Reason}
	if q.Scope, err = tenancy.ScopeOf(order.ScopeKind, order.ScopeOn); err != nil {
		return q, problem(Invalid, "%v", err)
	}
	if q.Scope.Kind != tenancy.Fleet {
		hosts, err := h.hostsOf(ctx, q.Scope)
		if err != nil {
			return q, err
		}
		if len(hosts) == 0 {
			return q, problem(NotFound, "no host is %s: \"vinescale hosts\" lists hosts and their pools", q.Scope)
		}
	}
	if order.Window != "" {
		window, err := tenancy.ParseWindow(order.Window)
		if err != nil {
			return q, problem(Invalid, "%v", err)
		}
		q.Window = window.String()
	}
	if _, err := tenancy.QuotaUnit(order.Resource, q.Window != ""); err != nil {
		return q, problem(Invalid, "%v", err)
	}
	if err := h.soundLimit(&q); err != nil {
		return q, err
	}
	if len(order.Reason) > longestReason {
		return q, problem(Invalid, "a reason of %d bytes: give at most %d", len(order.Reason), longestReason)
	}
	q.AppliesAt, err = h.soundMoment(order.From, "a quota")
	return q, err
}

// soundBasis reads what of a resource is held against a quota.
func soundBasis(word, resource string) (tenancy.Basis, error) {
	basis, err := tenancy.ParseBasis(word)
	if err != nil {
		return basis, problem(Invalid, "%v", err)
	}
	if basis != tenancy.Used && !tenancy.Basable(resource) {
		return basis, problem(
			Invalid,
			"a quota of what is %s of %s: only CPU, memory and GPUs are held",
			basis,
			resource,
		)
	}
	return basis, nil
}

// soundLimit checks a limit's basis and time zone, and puts those in that go without saying.
func (h *Hub) soundLimit(q *Quota) error {
	basis, err := soundBasis(string(q.Limit.Basis), q.Resource)
	if err != nil {
		return err
	}
	q.Limit.Basis = basis
	switch {
	case basis != tenancy.Used && q.Window != "":
		return problem(Invalid, "an allowance of what is %s: what is spent is what is used", basis)
	case q.Window == "" && q.Limit.Zone != "":
		return problem(
			Invalid,
			"a ceiling in time zone %s: only an allowance has windows that begin somewhere",
			q.Limit.Zone,
		)
	case q.Window != "" && !q.Limit.None():
		if q.Limit.Zone == "" {
			q.Limit.Zone = h.usualZone()
		}
		if _, err := time.LoadLocation(q.Limit.Zone); err != nil || q.Limit.Zone == "Local" {
			return problem(
				Invalid,
				"time zone %q does not exist: give a name of the tz database, such as Europe/Vienna",
				q.Limit.Zone,
			)
		}
	}
	return nil
}

// changeQuota writes a change down, unless what it says is in force at its moment: then it answers what put it there.
func (h *Hub) changeQuota(ctx context.Context, order *QuotaOrder) (Quota, error) {
	t, err := h.Tenant(ctx, order.Tenant)
	if err != nil {
		return Quota{}, err
	}
	q, err := h.soundQuota(ctx, order)
	if err != nil {
		return Quota{}, err
	}
	changes, err := h.QuotaChanges(ctx, "", order.Resource)
	if err != nil {
		return Quota{}, err
	}
	standing := Quota{Tenant: q.Tenant, Resource: q.Resource, Scope: q.Scope, Window: q.Window}
	isStanding := func(x Quota) bool { return x.isOf(&q) && !x.AppliesAt.After(q.AppliesAt) }
	if at := slices.IndexFunc(changes, isStanding); at >= 0 {
		standing = changes[at]
	}
	if standing.Limit.Equal(q.Limit) {
		if q.Limit.None() {
			standing.MadeAt = time.Time{}
		}
		return standing, nil
	}
	if !order.IsBeyond && q.Limit.Ceiling != nil {
		if err := h.withinWhole(ctx, &q, changes); err != nil {
			return Quota{}, err
		}
	}
	c, err := h.store.AddQuotaChange(
		ctx,
		store.QuotaChange{TenantID: t.ID, Resource: q.Resource, AppliesAt: q.AppliesAt,
			MadeBy: who(
				ctx,
			), Reason: q.Reason, Ceiling: q.Limit.Ceiling, Soft: q.Limit.Soft, ScopeKind: string(q.Scope.Kind),
			Scope: q.Scope.Name, Basis: string(cmp.Or(q.Limit.Basis, tenancy.Used)), WindowBy: q.Window,
			Zone: q.Limit.Zone},
	)
	return quotaOf(&t, &c), err
}

// withinWhole refuses a quota of a part that is more than what the quotas of the other parts leave of the whole's, and
// one of a whole that is less than its parts have.
func (h *Hub) withinWhole(ctx context.Context, q *Quota, changes []Quota) error {
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return err
	}
	family, names := familyOf(tenants)
	inForce := func(tenant int32) (float64, bool) {
		of := Quota{Tenant: names[tenant], Resource: q.Resource, Scope: q.Scope, Window: q.Window}
		if of.isOf(q) {
			return *q.Limit.Ceiling, true
		}
		at := slices.IndexFunc(changes, func(x Quota) bool { return x.isOf(&of) && !x.AppliesAt.After(q.AppliesAt) })
		if at < 0 || changes[at].Limit.Ceiling == nil {
			return 0, false
		}
		return *changes[at].Limit.Ceiling, true
	}
	var self int32
	for id, name := range names {
		if name == q.Tenant {
			self = id
		}
	}
	for _, whole := range []int32{family[self], self} {
		limit, isSet := inForce(whole)
		if whole == 0 || !isSet {
			continue
		}
		sum := 0.0
		for _, part := range family.Parts(whole) {
			v, _ := inForce(part)
			sum += v
		}
		if sum > limit {
			return problem(
				Conflict,
				"the parts of %s would have %g of %s together, and it has %g itself: give less, or say "+
					"that it may be (--beyond)",
				names[whole],
				sum,
				q.Resource,
				limit,
			)
		}
	}
	return nil
}

// SetParent makes a tenant a part of another, or of none (""): what a part uses counts in the whole.
func (h *Hub) SetParent(ctx context.Context, tenant, parent string) error {
	t, err := h.Tenant(ctx, tenant)
	if err != nil {
		return err
	}
	var of *int32
	if parent != "" {
		whole, err := h.Tenant(ctx, parent)
		if err != nil {
			return err
		}
		tenants, err := h.store.Tenants(ctx)
		if err != nil {
			return err
		}
		if family, _ := familyOf(tenants); family.WouldTurn(t.ID, whole.ID) {
			return problem(
				Conflict,
				"%s cannot be a part of %s, which is it or a part of it: tenants would go in a circle",
				tenant,
				parent,
			)
		}
		of = &whole.ID
	}
	if err := h.store.PutParent(ctx, t.ID, of); err != nil {
		return err
	}
	return h.store.NoteAct(ctx, who(ctx), "set parent", tenant, map[string]any{"parent": parent})
}
