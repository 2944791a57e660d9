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
	PartOf string `json:"part_of" doc:"The tenant that it is a part of, and counts in; empty for none."`
}

type tenantsOutput struct{ Body []Tenant }

type tenantOutput struct{ Body Tenant }

type addTenantInput struct {
	Body struct {
		Name   string `json:"name" maxLength:"200"`
		PartOf string `json:"part_of,omitempty" doc:"The tenant that it is a part of; of none when left out."`
	}
}

type partOfInput struct {
	Name string `path:"name"`
	Body struct {
		PartOf string `json:"part_of" doc:"The tenant that it becomes a part of; empty for none."`
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
		names := map[int32]string{}
		for _, t := range tenants {
			names[t.ID] = t.Name
		}
		for _, t := range tenants {
			x := Tenant{Name: t.Name, Colour: int(t.Colour)}
			if t.ParentID != nil {
				x.PartOf = names[*t.ParentID]
			}
			out.Body = append(out.Body, x)
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-tenant", Method: http.MethodPost, Path: Prefix + "/tenants", Summary: "Make a tenant",
		Metadata: administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addTenantInput) (*tenantOutput, error) {
		if in.Body.PartOf != "" {
			if _, err := s.hub.Tenant(ctx, in.Body.PartOf); err != nil { // before anything is made
				return nil, asProblem(err)
			}
		}
		t, err := s.hub.AddTenant(ctx, in.Body.Name)
		if err == nil && in.Body.PartOf != "" {
			err = s.hub.SetParent(ctx, t.Name, in.Body.PartOf)
		}
		return &tenantOutput{Tenant{t.Name, int(t.Colour), in.Body.PartOf}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "put-tenant-part", Method: http.MethodPut, Path: Prefix + "/tenants/{name}/part-of",
		Summary: "Make a tenant a part of another, or of none", Metadata: administrators(),
	}, func(ctx context.Context, in *partOfInput) (*struct{}, error) {
		return nil, asProblem(s.hub.SetParent(ctx, in.Name, in.Body.PartOf))
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-tenant", Method: http.MethodDelete, Path: Prefix + "/tenants/{name}",
		Summary: "Remove a tenant with its rules, quotas and pins", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *namedInput) (*movedOutput, error) {
		moved, err := s.hub.RemoveTenant(ctx, in.Name)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
}
