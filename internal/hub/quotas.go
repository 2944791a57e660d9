package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// Quota is a limit of a tenant's use of a resource, as one change put it in force.
type Quota struct {
	Tenant, Resource string
	Limit            tenancy.Limit // none where the change ended the limit
	AppliesAt        time.Time
	MadeAt           time.Time
	MadeBy, Reason   string
}

// QuotaOrder is a limit that is to be put in force.
type QuotaOrder struct {
	Tenant, Resource string
	Limit            tenancy.Limit
	From             time.Time // from the minute that it is in; the zero time is now
	Reason           string
}

// longestReason is how many bytes the reason of a change may have.
const longestReason = 1000

// Quotas lists the limits that are in force now, by tenant and resource.
func (h *Hub) Quotas(ctx context.Context) ([]Quota, error) {
	all, err := h.QuotaChanges(ctx, "", "")
	list := []Quota{}
	now := time.Now()
	for _, q := range all { // newest first
		isSame := func(x Quota) bool { return x.Tenant == q.Tenant && x.Resource == q.Resource }
		if !q.AppliesAt.After(now) && !slices.ContainsFunc(list, isSame) {
			list = append(list, q)
		}
	}
	list = slices.DeleteFunc(list, func(q Quota) bool { return q.Limit.None() })
	place := func(q *Quota) int { return slices.Index(amount.ResourceNames(), q.Resource) }
	slices.SortStableFunc(list, func(a, b Quota) int {
		if a.Tenant != b.Tenant {
			return 0 // they are by tenant already
		}
		return place(&a) - place(&b)
	})
	return list, err
}

// QuotaChanges lists all changes of limits, of one tenant or of all (""), of one resource or of all (""): tenants by
// name, and of each the one first that applies last.
func (h *Hub) QuotaChanges(ctx context.Context, tenant, resource string) ([]Quota, error) {
	if resource != "" {
		if _, err := amount.ParseResource(resource); err != nil {
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
	return Quota{Tenant: t.Name, Resource: c.Resource, Limit: tenancy.Limit{Ceiling: c.Ceiling, Soft: c.Soft},
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

// changeQuota writes a change down, unless what it says is in force at its moment: then it answers what put it there.
func (h *Hub) changeQuota(ctx context.Context, order *QuotaOrder) (Quota, error) {
	t, err := h.Tenant(ctx, order.Tenant)
	if err != nil {
		return Quota{}, err
	}
	if len(order.Reason) > longestReason {
		return Quota{}, problem(Invalid, "a reason of %d bytes: give at most %d", len(order.Reason), longestReason)
	}
	from := order.From
	if from.IsZero() {
		from = time.Now()
	}
	from = from.UTC().Truncate(time.Minute)
	if y := from.Year(); y < 1970 || y > 9999 {
		return Quota{}, problem(Invalid, "a quota from %s on: give a moment in the years 1970 to 9999",
			from.Format(time.RFC3339))
	}
	changes, err := h.QuotaChanges(ctx, t.Name, order.Resource)
	if err != nil {
		return Quota{}, err
	}
	standing := Quota{Tenant: t.Name, Resource: order.Resource}
	if i := slices.IndexFunc(changes, func(q Quota) bool { return !q.AppliesAt.After(from) }); i >= 0 {
		standing = changes[i]
	}
	if standing.Limit.Equal(order.Limit) {
		if order.Limit.None() {
			standing.MadeAt = time.Time{}
		}
		return standing, nil
	}
	c, err := h.store.AddQuotaChange(ctx, store.QuotaChange{TenantID: t.ID, Resource: order.Resource, AppliesAt: from,
		MadeBy: who(ctx), Reason: order.Reason, Ceiling: order.Limit.Ceiling, Soft: order.Limit.Soft})
	return quotaOf(&t, &c), err
}
