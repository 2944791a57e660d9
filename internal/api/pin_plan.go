package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/internal/hub"
)

type planPinsInput struct {
	SpanParams
	Holder   string `query:"holder" required:"true" doc:"A tenant or workload by name, or a rule."`
	Kind     string `query:"holder_kind" enum:"tenant,workload,rule" doc:"A tenant when left out."`
	CPUs     int    `query:"cpus" required:"true" doc:"How many are wanted." minimum:"1" maximum:"8192"`
	Host     string `query:"host" doc:"On this host; on the best of all when left out."`
	Pool     string `query:"pool" doc:"On the best host of this pool."`
	IsShared bool   `query:"shared" doc:"Others may run there too."`
	Keep     int    `query:"keep" doc:"How many CPUs have to be left for everybody." default:"1"`
}

type planPinsOutput struct{ Body explain.PinPlan }

func pinPlanRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "plan-pins", Method: http.MethodGet, Path: Prefix + "/pins/plan",
		Summary: "Which CPUs a holder would best be given, and what that changes",
		Description: "Such that the fewest cores are shared with others, then of the fewest memory nodes, then such " +
			"that the least work of the span has to move. The span is played again with the plan in force, which " +
			"gives the verdicts to expect. Nothing is changed: each step is carried out by itself.",
		Metadata: readers(),
	}, func(ctx context.Context, in *planPinsInput) (*planPinsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		plan, err := s.hub.PlanPins(ctx, &hub.PinQuery{Kind: in.Kind, Holder: in.Holder, CPUs: in.CPUs, Host: in.Host,
			Pool: in.Pool, IsShared: in.IsShared, Keep: in.Keep, Span: span})
		if err != nil {
			return nil, asProblem(err)
		}
		return &planPinsOutput{*plan}, nil
	})
}
