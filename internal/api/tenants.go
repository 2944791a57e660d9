package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/store"
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
		OperationID: "list-tenants", Method: http.MethodGet, Path: Prefix + "/tenants", Summary: "All tenants", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*tenantsOutput, error) {
		tenants, err := s.hub.Tenants(ctx)
		out := &tenantsOutput{Body: []Tenant{}}
		for _, t := range tenants {
			out.Body = append(out.Body, Tenant{t.Name, int(t.Colour)})
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-tenant", Method: http.MethodPost, Path: Prefix + "/tenants", Summary: "Make a tenant", Metadata: administrators(), DefaultStatus: 201,
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

// Rule is a rule as the API tells it.
type Rule struct {
	Position   int    `json:"position" doc:"From 1; the first that matches wins."`
	Tenant     string `json:"tenant"`
	Expression string `json:"expression" doc:"CEL over kind, name, owner, uid, host, path and labels."`
}

type rulesOutput struct{ Body []Rule }

type addRuleInput struct {
	Body struct {
		Position   int    `json:"position,omitempty" minimum:"0" doc:"Last when left out."`
		Tenant     string `json:"tenant"`
		Expression string `json:"expression"`
	}
}

// AddedRule is a new rule with what it moved.
type AddedRule struct {
	Rule
	Moved
}

type addRuleOutput struct{ Body AddedRule }

type positionInput struct {
	Position int `path:"position"`
}

func ruleOf(r *store.Rule) Rule { return Rule{r.Position, r.Tenant.Name, r.Expression} }

func ruleRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-rules", Method: http.MethodGet, Path: Prefix + "/rules", Summary: "The rules in the order they are tried", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*rulesOutput, error) {
		rules, err := s.hub.Rules(ctx)
		out := &rulesOutput{Body: []Rule{}}
		for i := range rules {
			out.Body = append(out.Body, ruleOf(&rules[i]))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-rule", Method: http.MethodPost, Path: Prefix + "/rules", Summary: "Add a rule; it accounts usage from now on",
		Metadata: administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addRuleInput) (*addRuleOutput, error) {
		r, moved, err := s.hub.AddRule(ctx, in.Body.Position, in.Body.Tenant, in.Body.Expression)
		return &addRuleOutput{AddedRule{ruleOf(&r), Moved{moved}}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-rule", Method: http.MethodDelete, Path: Prefix + "/rules/{position}", Summary: "Remove a rule", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *positionInput) (*movedOutput, error) {
		moved, err := s.hub.RemoveRule(ctx, in.Position)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
}
