package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/hub"
)

type seriesInput struct {
	LiveParams
	HostParam
	Of     measureName `query:"of" default:"cpu" doc:"A measure."`
	By     string      `query:"by" doc:"Such as tenant, workload, cpu or label:KEY; all in one when left out."`
	Tenant string      `query:"tenant" doc:"Only what was this tenant's."`
	Pool   string      `query:"pool" doc:"Only hosts of this pool."`
	Where  string      `query:"where" doc:"Only workloads that this CEL expression matches." example:"kind == 'job'"`
	ID     int64       `query:"workload" doc:"Only this workload, by its number."`
	First  int         `query:"first" minimum:"0" default:"8" doc:"How many groups are told apart; all when 0."`
	Step   string      `query:"step" default:"auto" doc:"Such as 1m, 10m, 1h or 1d; auto suits the span." example:"1h"`
}

type seriesOutput struct{ Body *explain.Series }

func seriesRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-series", Method: http.MethodGet, Path: Prefix + "/series",
		Summary: "How a measure went over a span, by steps",
		Description: "Means of each step, and peaks where they are kept: a workload's highest tick is told whatever " +
			"the step. Added up, steps are what the ledger tells of the span.", Metadata: readers(),
	}, func(ctx context.Context, in *seriesInput) (*seriesOutput, error) {
		var span question.Span
		var err error
		if in.Host != "" {
			span, err = in.liveSpan(ctx, s, in.Host)
		} else {
			span, err = in.liveSpanOf(ctx, s, in.ID)
		}
		if err != nil {
			return nil, asProblem(err)
		}
		m, err := in.Of.measure()
		if err != nil {
			return nil, asProblem(err)
		}
		series, err := s.hub.Series(ctx, &hub.SeriesQuestion{
			Asked:   hub.Asked{Span: span, Host: in.Host, Where: in.Where, Tenant: in.Tenant, Pool: in.Pool},
			Measure: m, By: in.By, Workload: in.ID, First: in.First, Step: in.Step})
		if err != nil {
			return nil, asProblem(err)
		}
		return &seriesOutput{series}, nil
	})
}
