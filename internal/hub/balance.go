package hub

import (
	"context"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// Balance answers how tenants stand over a span, on one host or on all ("").
func (h *Hub) Balance(ctx context.Context, span question.Span, hostName string) (*explain.Balance, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Measures: amount.Resources(), By: []question.Dimension{question.Tenant}}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, err
	}
	stretch, err := h.stretch(ctx, ask)
	if err != nil {
		return nil, err
	}
	workloads, err := h.store.CountPresent(ctx, &scope)
	if err != nil {
		return nil, err
	}
	tenants, err := h.balanced(ctx)
	if err != nil {
		return nil, err
	}
	return explain.ExplainBalance(over(span, hostName), stretch, answer.Rows, workloads, tenants), nil
}

// over says what an answer is about.
func over(span question.Span, hostName string) explain.Over {
	return explain.Over{From: span.From, To: span.To, Host: hostOr(hostName)}
}

// balanced lists all tenants with their ceilings. A ceiling for a resource that is not in the register stands for
// nothing here.
func (h *Hub) balanced(ctx context.Context) ([]explain.Tenant, error) {
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	quotas, err := h.store.Quotas(ctx)
	list := make([]explain.Tenant, len(tenants))
	for i, t := range tenants {
		list[i] = explain.Tenant{ID: t.ID, Name: t.Name, Colour: int(t.Colour), Quotas: map[amount.Resource]float64{}}
		for _, q := range quotas {
			if r, err := amount.ParseResource(q.Resource); err == nil && q.TenantID == t.ID {
				list[i].Quotas[r] = q.Ceiling
			}
		}
	}
	return list, err
}
