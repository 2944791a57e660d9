package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

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
