package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// Tenant is a tenant as the API tells it.
type Tenant struct {
	Name   string `json:"name"`
	Colour int    `json:"colour" doc:"Place in the console's row of tenant colours, 1 to 8."`
}

type tenantsOutput struct{ Body []Tenant }

type tenantOutput struct{ Body Tenant }

type addTenantInput struct {
	Body struct {
		Name string `json:"name" maxLength:"200"`
	}
}

type namedInput struct {
	Name string `path:"name"`
}

// Moved says how many workloads changed tenant by a change of rules, from now on.
type Moved struct {
	Workloads int `json:"workloads_moved"`
}

type movedOutput struct{ Body Moved }

func tenantRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-tenants", Method: http.MethodGet, Path: Prefix + "/tenants", Summary: "All tenants",
		Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*tenantsOutput, error) {
		tenants, err := s.hub.Tenants(ctx)
		out := &tenantsOutput{Body: []Tenant{}}
		for _, t := range tenants {
			out.Body = append(out.Body, Tenant{t.Name, int(t.Colour)})
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-tenant", Method: http.MethodPost, Path: Prefix + "/tenants", Summary: "Make a tenant",
		Metadata: administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addTenantInput) (*tenantOutput, error) {
		t, err := s.hub.AddTenant(ctx, in.Body.Name)
		return &tenantOutput{Tenant{t.Name, int(t.Colour)}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-tenant", Method: http.MethodDelete, Path: Prefix + "/tenants/{name}",
		Summary: "Remove a tenant with its rules, quotas and pins", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *namedInput) (*movedOutput, error) {
		moved, err := s.hub.RemoveTenant(ctx, in.Name)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
}
