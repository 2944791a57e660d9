package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/tenancy"
	"vinescale/internal/hub"
	"vinescale/internal/store"
)

// Rule is a rule as the API tells it.
type Rule struct {
	Position   int    `json:"position" doc:"From 1; the first that matches wins."`
	Tenant     string `json:"tenant"`
	Expression string `json:"expression" doc:"CEL over what is known of a workload."`
}

type rulesOutput struct {
	ETag string `header:"ETag" doc:"Changes when rules or tenants do."`
	Body []Rule
}

type moveRuleInput struct {
	Position int    `path:"position"`
	IfMatch  string `header:"If-Match" doc:"The ETag of the list that was seen."`
	Body     struct {
		To int `json:"to" minimum:"1" doc:"The position it is to have; those between move by one."`
	}
}

type reapplyInput struct {
	SpanParams
	Preview bool `query:"preview" doc:"Only tell what would move."`
}

type reapplyOutput struct{ Body *hub.Reapplication }

type attributesOutput struct{ Body []tenancy.Attribute }

type suggestionsInput struct{ SpanParams }

type suggestionsOutput struct{ Body []hub.Suggestion }

func etagOf(version int64) string { return `"rules-` + strconv.FormatInt(version, 10) + `"` }

// versionOf reads an ETag; 0 for none.
func versionOf(etag string) (int64, error) {
	if etag == "" || etag == "*" {
		return 0, nil
	}
	var v int64
	if _, err := fmt.Sscanf(etag, `"rules-%d"`, &v); err != nil || v <= 0 {
		return 0, &hub.Problem{Class: hub.Invalid, Detail: "If-Match " + etag + " is no ETag of the list of rules"}
	}
	return v, nil
}

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
		OperationID: "list-rule-attributes", Method: http.MethodGet, Path: Prefix + "/rules/attributes",
		Summary: "What a rule, or an expression that narrows a list, may ask about", Metadata: readers(),
	}, func(context.Context, *struct{}) (*attributesOutput, error) {
		return &attributesOutput{tenancy.ListAttributes()}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-rules", Method: http.MethodGet, Path: Prefix + "/rules",
		Summary: "The rules in the order they are tried", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*rulesOutput, error) {
		rules, version, err := s.hub.Rules(ctx)
		out := &rulesOutput{ETag: etagOf(version), Body: []Rule{}}
		for i := range rules {
			out.Body = append(out.Body, ruleOf(&rules[i]))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-rule", Method: http.MethodPost, Path: Prefix + "/rules",
		Summary:  "Add a rule; it accounts usage from now on",
		Metadata: administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addRuleInput) (*addRuleOutput, error) {
		r, moved, err := s.hub.AddRule(ctx, in.Body.Position, in.Body.Tenant, in.Body.Expression)
		return &addRuleOutput{AddedRule{ruleOf(&r), Moved{moved}}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "try-rule", Method: http.MethodPost, Path: Prefix + "/rules/try",
		Summary: "What a rule would move, were it added; nothing is changed", Metadata: readers(),
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
		OperationID: "remove-rule", Method: http.MethodDelete, Path: Prefix + "/rules/{position}",
		Summary: "Remove a rule", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *positionInput) (*movedOutput, error) {
		moved, err := s.hub.RemoveRule(ctx, in.Position)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "move-rule", Method: http.MethodPost, Path: Prefix + "/rules/{position}/move",
		Summary:  "Give a rule another position",
		Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *moveRuleInput) (*movedOutput, error) {
		version, err := versionOf(in.IfMatch)
		if err != nil {
			return nil, asProblem(err)
		}
		moved, err := s.hub.MoveRule(ctx, in.Position, in.Body.To, version)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "reapply-rules", Method: http.MethodPost, Path: Prefix + "/rules/reapply",
		Summary:     "Account the usage of a span anew by the rules in force",
		Description: "It changes whose usage is, never how much; it is written down in the audit trail.",
		Metadata:    administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *reapplyInput) (*reapplyOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		r, err := s.hub.Reapply(ctx, span, in.Preview)
		if err != nil {
			return nil, asProblem(err)
		}
		return &reapplyOutput{r}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "suggest-rules", Method: http.MethodGet, Path: Prefix + "/rules/suggestions",
		Summary:  "What is unassigned, alike together, with a rule for each group",
		Metadata: readers(),
	}, func(ctx context.Context, in *suggestionsInput) (*suggestionsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		out, err := s.hub.Suggest(ctx, span)
		return &suggestionsOutput{out}, asProblem(err)
	})
}
