package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/core/explain"
)

// Quota is a tenant's ceiling for a resource.
type Quota struct {
	Tenant   string  `json:"tenant"`
	Resource string  `json:"resource"`
	Ceiling  float64 `json:"ceiling"`
	Unit     string  `json:"unit" doc:"cores, bytes or bytes_per_second."`
}

type quotasOutput struct{ Body []Quota }

// QuotaPath names a quota.
type QuotaPath struct {
	Tenant   string       `path:"tenant"`
	Resource resourceName `path:"resource"`
}

type putQuotaInput struct {
	QuotaPath
	Body struct {
		Ceiling float64 `json:"ceiling" doc:"Cores, bytes, or bytes per second; zero or more."`
	}
}

type quotaOutput struct{ Body Quota }

func quotaRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-quotas", Method: http.MethodGet, Path: Prefix + "/quotas", Summary: "All quotas",
		Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*quotasOutput, error) {
		tenants, err := s.hub.Tenants(ctx)
		if err != nil {
			return nil, asProblem(err)
		}
		quotas, err := s.hub.Quotas(ctx)
		out := &quotasOutput{Body: []Quota{}}
		for _, t := range tenants {
			for _, q := range quotas {
				if q.TenantID == t.ID {
					out.Body = append(out.Body, Quota{t.Name, q.Resource, q.Ceiling, unitOf(q.Resource)})
				}
			}
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "put-quota", Method: http.MethodPut, Path: Prefix + "/quotas/{tenant}/{resource}",
		Summary: "Set a tenant's ceiling for a resource", Metadata: administrators(),
	}, func(ctx context.Context, in *putQuotaInput) (*quotaOutput, error) {
		err := s.hub.SetQuota(ctx, in.Tenant, string(in.Resource), in.Body.Ceiling)
		return &quotaOutput{Quota{in.Tenant, string(in.Resource), in.Body.Ceiling, unitOf(string(in.Resource))}},
			asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-quota", Method: http.MethodDelete, Path: Prefix + "/quotas/{tenant}/{resource}",
		Summary: "Remove a ceiling", Metadata: administrators(),
	}, func(ctx context.Context, in *QuotaPath) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveQuota(ctx, in.Tenant, string(in.Resource)))
	})
}

func unitOf(resource string) string {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return ""
	}
	return r.MeanUnit()
}

// Pin declares that CPUs of a host are a tenant's.
type Pin struct {
	Host   string `json:"host"`
	Tenant string `json:"tenant"`
	CPUs   string `json:"cpus" doc:"The kernel's list format, such as 0-3,8."`
}

type pinsInput struct {
	SpanParams
	Host string `query:"host" doc:"One host; all when left out."`
}

type pinsOutput struct {
	Missed
	Body []explain.PinnedCPU
}

type putPinInput struct{ Body Pin }

type pinOutput struct{ Body Pin }

type pinPath struct {
	Host   string `path:"host"`
	Tenant string `path:"tenant"`
}

func pinRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "audit-pins", Method: http.MethodGet, Path: Prefix + "/pins",
		Summary: "Every declared CPU: who may run there and who did", Metadata: readers(),
	}, func(ctx context.Context, in *pinsInput) (*pinsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		pins, err := s.hub.Pins(ctx, span, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		missed, err := s.missed(ctx, span, in.Host)
		return &pinsOutput{missed, pins}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "declare-pin", Method: http.MethodPut, Path: Prefix + "/pins",
		Summary: "Declare CPUs of a host as a tenant's", Metadata: administrators(),
	}, func(ctx context.Context, in *putPinInput) (*pinOutput, error) {
		return &pinOutput{in.Body}, asProblem(s.hub.Declare(ctx, in.Body.Host, in.Body.CPUs, in.Body.Tenant))
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-pin", Method: http.MethodDelete, Path: Prefix + "/pins/{host}/{tenant}",
		Summary: "Remove what is declared for a tenant on a host", Metadata: administrators(),
	}, func(ctx context.Context, in *pinPath) (*struct{}, error) {
		return nil, asProblem(s.hub.Undeclare(ctx, in.Host, in.Tenant))
	})
}
