package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/act"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// StandingRule is a rule that has an act done by itself, once it is switched on.
type StandingRule struct {
	act.Standing
	For     string    `json:"for" doc:"For how long the condition must hold, such as 10m."`
	IsOn    bool      `json:"is_on"`
	Stopped string    `json:"stopped" doc:"Why it stopped itself; empty where it did not."`
	MadeAt  time.Time `json:"made_at"`
	MadeBy  string    `json:"made_by"`
}

// StandingToAdd is a standing rule as it is asked for.
type StandingToAdd struct {
	act.Standing
	For string `json:"for" doc:"For how long the condition must hold, such as 10m."`
}

func (x *StandingToAdd) rule() (*act.Standing, error) {
	r := x.Standing
	var err error
	if r.For, err = sheet.ParseSpan(x.For); err != nil {
		return nil, &hub.Problem{Class: hub.Invalid, Detail: "for: " + err.Error()}
	}
	return &r, nil
}

type standingOutput struct{ Body []StandingRule }

type addStandingInput struct{ Body StandingToAdd }

type tryStandingInput struct {
	SpanParams
	Body StandingToAdd
}

type trialOfStandingOutput struct{ Body *hub.StandingTrial }

type switchInput struct {
	Name string `path:"name"`
	Body struct {
		IsOn bool `json:"is_on"`
	}
}

func standingRuleOf(x *store.StandingRule) StandingRule {
	r := x.AsRule()
	return StandingRule{
		Standing: r,
		For:      sheet.SpanText(r.For),
		IsOn:     x.IsOn,
		Stopped:  x.Stopped,
		MadeAt:   x.MadeAt.UTC(),
		MadeBy:   x.MadeBy,
	}
}

func standingRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-standing-rules", Method: http.MethodGet, Path: Prefix + "/standing",
		Summary: "Rules that have an act done by themselves", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*standingOutput, error) {
		rules, err := s.hub.StandingRules(ctx)
		out := &standingOutput{Body: []StandingRule{}}
		for i := range rules {
			out.Body = append(out.Body, standingRuleOf(&rules[i]))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-standing-rule", Method: http.MethodPost, Path: Prefix + "/standing",
		Summary: "Add a standing rule; it is off", Metadata: administrators(), DefaultStatus: http.StatusCreated,
	}, func(ctx context.Context, in *addStandingInput) (*struct{}, error) {
		r, err := in.Body.rule()
		if err == nil {
			err = s.hub.AddStanding(ctx, r)
		}
		return nil, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "try-standing-rule", Method: http.MethodPost, Path: Prefix + "/standing/try",
		Summary: "What a standing rule would have done over a span; nothing is done", Metadata: readers(),
	}, func(ctx context.Context, in *tryStandingInput) (*trialOfStandingOutput, error) {
		r, err := in.Body.rule()
		if err != nil {
			return nil, asProblem(err)
		}
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		t, err := s.hub.TryStanding(ctx, r, span)
		return &trialOfStandingOutput{t}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "switch-standing-rule", Method: http.MethodPut, Path: Prefix + "/standing/{name}",
		Summary: "Switch a standing rule on, from now, or off", Metadata: administrators(),
	}, func(ctx context.Context, in *switchInput) (*struct{}, error) {
		return nil, asProblem(s.hub.SwitchStanding(ctx, in.Name, in.Body.IsOn))
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-standing-rule", Method: http.MethodDelete, Path: Prefix + "/standing/{name}",
		Summary: "Remove a standing rule", Metadata: administrators(),
	}, func(ctx context.Context, in *namedInput) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveStanding(ctx, in.Name))
	})
}
