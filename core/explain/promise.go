package explain

import (
	"vinescale/core/amount"
	"vinescale/core/tenancy"
)

// Promise is what was promised of a resource on the hosts of a scope, against what there is.
type Promise struct {
	Scope    string   `json:"scope_kind" enum:"fleet,pool,host"`
	On       string   `json:"scope" doc:"The pool or host; empty for the fleet."`
	Resource string   `json:"resource"`
	Unit     string   `json:"unit"`
	Capacity float64  `json:"capacity"`
	Quotas   *float64 `json:"quotas" doc:"Ceilings of that scope, added; null for none."`
	Held     float64  `json:"held" doc:"What workloads are entitled to, added."`
	IsOver   bool     `json:"overcommitted" doc:"One of both is more than there is."`
}

// PromiseScope is the hosts of a scope with what they have, and the ceilings that are set on them.
type PromiseScope struct {
	Scope    tenancy.Scope
	Hosts    map[int32]bool
	Capacity map[amount.Resource]float64 // where it is known
	Quotas   map[amount.Resource]float64 // where some are set
}

// AddPromises says of each scope what was promised of the resources that can be held. Held is of all workloads.
func AddPromises(scopes []PromiseScope, held map[int32][]HeldUse) []Promise {
	list := []Promise{}
	for _, s := range scopes {
		for _, r := range amount.Resources() {
			capacity, isKnown := s.Capacity[r]
			if !tenancy.Basable(r.String()) || !isKnown || capacity <= 0 {
				continue
			}
			c := Promise{Scope: string(s.Scope.Kind), On: s.Scope.Name, Resource: r.String(), Unit: r.MeanUnit(),
				Capacity: capacity}
			if sum, isSet := s.Quotas[r]; isSet {
				c.Quotas, c.IsOver = &sum, sum > capacity
			}
			for _, uses := range held {
				for _, u := range uses {
					if s.Hosts[u.Host] {
						c.Held += u.Entitled[r.String()] * u.Part
					}
				}
			}
			c.IsOver = c.IsOver || c.Held > capacity
			list = append(list, c)
		}
	}
	return list
}
