package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/hub"
)

// Quota is a limit of a tenant's use of a resource.
type Quota struct {
	Tenant    string    `json:"tenant"`
	Resource  string    `json:"resource"`
	Ceiling   *float64  `json:"ceiling" doc:"As a mean; null where there is only a soft mark, or the limit ended."`
	Soft      *float64  `json:"soft" doc:"From here on it is watched; null for none."`
	Unit      string    `json:"unit" doc:"Of both: cores, bytes, bytes_per_second, gpus or watts."`
	AppliesAt time.Time `json:"applies_at" doc:"From when on, until the next change of it."`
	MadeAt    time.Time `json:"made_at" doc:"When it was written down."`
	MadeBy    string    `json:"made_by" doc:"By whose token."`
	Reason    string    `json:"reason"`
}

func quotaOf(q *hub.Quota) Quota {
	return Quota{q.Tenant, q.Resource, q.Limit.Ceiling, q.Limit.Soft, unitOf(q.Resource), q.AppliesAt, q.MadeAt,
		q.MadeBy, q.Reason}
}

type quotasOutput struct{ Body []Quota }

// QuotaPath names a quota.
type QuotaPath struct {
	Tenant   string       `path:"tenant"`
	Resource resourceName `path:"resource"`
}

// QuotaToSet is a limit that is to be put in force.
type QuotaToSet struct {
	Ceiling *float64   `json:"ceiling,omitempty" doc:"As a mean in the resource's unit; none when left out."`
	Soft    *float64   `json:"soft,omitempty" doc:"From here on it is watched; none when left out."`
	From    *time.Time `json:"from,omitempty" doc:"Applies from that minute on, past or to come; now when left out."`
	Reason  string     `json:"reason,omitempty" doc:"Why, for those who read the history."`
}

type putQuotaInput struct {
	QuotaPath
	Body QuotaToSet
}

type quotaOutput struct{ Body Quota }

type removeQuotaInput struct {
	QuotaPath
	From   time.Time `query:"from" doc:"Ends at that minute; now when left out."`
	Reason string    `query:"reason"`
}

type quotaChangesInput struct {
	Tenant   string `query:"tenant" doc:"One tenant; all when left out."`
	Resource string `query:"resource" doc:"One resource; all when left out."`
}

func quotaRoutes(api huma.API, s *service) {
	listed := func(quotas []hub.Quota, err error) (*quotasOutput, error) {
		out := &quotasOutput{Body: []Quota{}}
		for i := range quotas {
			out.Body = append(out.Body, quotaOf(&quotas[i]))
		}
		return out, asProblem(err)
	}
	huma.Register(api, huma.Operation{
		OperationID: "list-quotas", Method: http.MethodGet, Path: Prefix + "/quotas",
		Summary: "All quotas that are in force now", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*quotasOutput, error) {
		return listed(s.hub.Quotas(ctx))
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-quota-changes", Method: http.MethodGet, Path: Prefix + "/quotas/changes",
		Summary:  "What was in force when: every change of quotas, of each tenant the one first that applies last",
		Metadata: readers(),
	}, func(ctx context.Context, in *quotaChangesInput) (*quotasOutput, error) {
		return listed(s.hub.QuotaChanges(ctx, in.Tenant, in.Resource))
	})
	huma.Register(api, huma.Operation{
		OperationID: "put-quota", Method: http.MethodPut, Path: Prefix + "/quotas/{tenant}/{resource}",
		Summary: "Put a tenant's quota of a resource in force",
		Description: "What was used before the moment it applies from is judged by what was in force then. The same " +
			"again changes nothing.",
		Metadata: administrators(),
	}, func(ctx context.Context, in *putQuotaInput) (*quotaOutput, error) {
		order := hub.QuotaOrder{Tenant: in.Tenant, Resource: string(in.Resource), Reason: in.Body.Reason,
			Limit: tenancy.Limit{Ceiling: in.Body.Ceiling, Soft: in.Body.Soft}}
		if in.Body.From != nil {
			order.From = *in.Body.From
		}
		q, err := s.hub.SetQuota(ctx, &order)
		return &quotaOutput{quotaOf(&q)}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-quota", Method: http.MethodDelete, Path: Prefix + "/quotas/{tenant}/{resource}",
		Summary: "End a quota; its history stays", Metadata: administrators(),
	}, func(ctx context.Context, in *removeQuotaInput) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveQuota(ctx, &hub.QuotaOrder{Tenant: in.Tenant,
			Resource: string(in.Resource), From: in.From, Reason: in.Reason}))
	})
}

func unitOf(resource string) string {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return ""
	}
	return r.MeanUnit()
}
