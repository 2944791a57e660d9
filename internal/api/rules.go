package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
	"vinescale/internal/store"
)

// Rule is a rule as the API tells it.
type Rule struct {
	Position   int    `json:"position" doc:"From 1; the first that matches wins."`
	Tenant     string `json:"tenant"`
	Expression string `json:"expression" doc:"CEL over kind, name, owner, uid, host, path and labels."`
}

type rulesOutput struct{ Body []Rule }

// RuleToAdd is a rule that is to be added, or only tried.
type RuleToAdd struct {
	Position   int    `json:"position,omitempty" minimum:"0" doc:"Last when left out."`
	Tenant     string `json:"tenant"`
	Expression string `json:"expression"`
}

type addRuleInput struct{ Body RuleToAdd }

type tryRuleInput struct {
	SpanParams
	Body RuleToAdd
}

type tryRuleOutput struct{ Body *hub.Trial }

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
		OperationID: "try-rule", Method: http.MethodPost, Path: Prefix + "/rules/try", Summary: "What a rule would move, were it added; nothing is changed", Metadata: readers(),
	}, func(ctx context.Context, in *tryRuleInput) (*tryRuleOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		trial, err := s.hub.TryRule(ctx, span, in.Body.Position, in.Body.Tenant, in.Body.Expression)
		if err != nil {
			return nil, asProblem(err)
		}
		return &tryRuleOutput{trial}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-rule", Method: http.MethodDelete, Path: Prefix + "/rules/{position}", Summary: "Remove a rule", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *positionInput) (*movedOutput, error) {
		moved, err := s.hub.RemoveRule(ctx, in.Position)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
}
