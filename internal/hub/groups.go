package hub

import (
	"context"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// WorkloadGroup is several workloads together.
type WorkloadGroup struct {
	Name      string    `json:"name"`
	Workloads int       `json:"workloads"`
	Uses      []PartUse `json:"uses" doc:"One per resource, in the order of resources."`
}

// Groups adds up the workloads of a span by a dimension, most CPU time first.
func (h *Hub) Groups(ctx context.Context, q Asked, by string) ([]WorkloadGroup, error) {
	dimension, err := question.ParseDimension(by)
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	scope, err := h.filtered(ctx, &q)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Measures: amount.Resources(), By: []question.Dimension{dimension},
		NoPeaks: true}
	if _, err := question.PlanFor(ask); err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, err
	}
	elapsed, err := h.elapsed(ctx, scope)
	groups := []WorkloadGroup{}
	for i := range answer.Rows {
		r := &answer.Rows[i]
		groups = append(groups, WorkloadGroup{Name: shareOf(r, dimension, amount.CPU, elapsed).Name,
			Workloads: r.Workloads, Uses: partUses(r, elapsed)})
	}
	return groups, err
}
