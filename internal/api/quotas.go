package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/tenancy"
	"vinescale/internal/hub"
)

// Quota is a limit of a tenant's: a ceiling, or with a window an allowance.
type Quota struct {
	Tenant    string    `json:"tenant"`
	Resource  string    `json:"resource" doc:"Or processes, threads, gpu_devices, space_used_bytes."`
	ScopeKind string    `json:"scope_kind" enum:"fleet,pool,host"`
	Scope     string    `json:"scope" doc:"The pool or host; empty for all hosts together."`
	Ceiling   *float64  `json:"ceiling" doc:"A mean, or an allowance's amount; null: only a soft mark, or ended."`
	Soft      *float64  `json:"soft" doc:"From here on it is watched; null for none."`
	Unit      string    `json:"unit" doc:"Of both."`
	Basis     string    `json:"basis" enum:"used,held,greater" doc:"What is held against it."`
	Window    string    `json:"window" doc:"Of an allowance: day, week, month, N days from DATE; else empty."`
	Zone      string    `json:"zone" doc:"Of an allowance: the time zone of its windows."`
	AppliesAt time.Time `json:"applies_at" doc:"From when on, until the next change of it."`
	MadeAt    time.Time `json:"made_at" doc:"When it was written down."`
	MadeBy    string    `json:"made_by" doc:"By whose token."`
	Reason    string    `json:"reason"`
}

func quotaOf(q *hub.Quota) Quota {
	unit, _ := tenancy.QuotaUnit(q.Resource, q.Window != "") // of one that is no longer in the register it is not known
	return Quota{q.Tenant, q.Resource, string(q.Scope.Kind), q.Scope.Name, q.Limit.Ceiling, q.Limit.Soft, unit,
		string(q.Limit.Basis), q.Window, q.Limit.Zone, q.AppliesAt, q.MadeAt, q.MadeBy, q.Reason}
}

type quotasOutput struct{ Body []Quota }

// quotaName is a parameter that names what quotas may be set on.
type quotaName string

// Schema lists the names.
func (quotaName) Schema(huma.Registry) *huma.Schema { return nameSchema(tenancy.QuotaNames()) }

// QuotaPath names what is limited.
type QuotaPath struct {
	Tenant   string    `path:"tenant"`
	Resource quotaName `path:"resource"`
}

// QuotaToSet is a limit that is to be put in force.
type QuotaToSet struct {
	Ceiling   *float64   `json:"ceiling,omitempty" doc:"A mean, or an allowance's amount; none when left out."`
	Soft      *float64   `json:"soft,omitempty" doc:"From here on it is watched; none when left out."`
	ScopeKind string     `json:"scope_kind,omitempty" enum:"fleet,pool,host" doc:"The fleet when left out."`
	Scope     string     `json:"scope,omitempty" doc:"The pool or host by name."`
	Basis     string     `json:"basis,omitempty" enum:"used,held,greater" doc:"What is used, when left out."`
	Window    string     `json:"window,omitempty" doc:"Makes an allowance: day, week, month, or N days from DATE."`
	Zone      string     `json:"zone,omitempty" doc:"The time zone of the windows, such as Europe/Vienna; UTC."`
	From      *time.Time `json:"from,omitempty" doc:"Applies from that minute on, past or to come; now."`
	Reason    string     `json:"reason,omitempty" doc:"Why, for those who read the history."`
	IsBeyond  bool       `json:"beyond,omitempty" doc:"It may be more than what is left of the whole."`
}

type putQuotaInput struct {
	QuotaPath
	Body QuotaToSet
}

type quotaOutput struct{ Body Quota }

type removeQuotaInput struct {
	QuotaPath
	From      time.Time `query:"from" doc:"Ends at that minute; now when left out."`
	Reason    string    `query:"reason"`
	ScopeKind string    `query:"scope_kind" enum:"fleet,pool,host"`
	Scope     string    `query:"scope"`
	Window    string    `query:"window" doc:"Of an allowance."`
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
			ScopeKind: in.Body.ScopeKind, ScopeOn: in.Body.Scope, Window: in.Body.Window, IsBeyond: in.Body.IsBeyond,
			Limit: tenancy.Limit{Ceiling: in.Body.Ceiling, Soft: in.Body.Soft, Basis: tenancy.Basis(in.Body.Basis),
				Zone: in.Body.Zone}}
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
			Resource: string(in.Resource), From: in.From, Reason: in.Reason, ScopeKind: in.ScopeKind, ScopeOn: in.Scope,
			Window: in.Window}))
	})
}
