package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

type balanceInput struct {
	LiveParams
	Host string `query:"host" doc:"One host; all when left out."`
}

type balanceOutput struct{ Body *explain.Balance }

func balanceRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-balance", Method: http.MethodGet, Path: Prefix + "/balance",
		Summary: "Every tenant's use against its quotas and the capacity", Metadata: readers(),
	}, func(ctx context.Context, in *balanceInput) (*balanceOutput, error) {
		span, err := in.liveSpan(ctx, s, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		b, err := s.hub.Balance(ctx, span, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		return &balanceOutput{b}, nil
	})
}

type balancesInput struct {
	LiveParams
	First int    `query:"first" default:"50" minimum:"1" maximum:"500" doc:"How many hosts."`
	After string `query:"after" doc:"The page before told it; the first page when left out."`
}

type balancesOutput struct {
	NextPage
	Body []explain.Balance
}

func balancesRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-balances", Method: http.MethodGet, Path: Prefix + "/balances",
		Summary: "How tenants stand on each host: a balance a host, by the host's name", Metadata: readers(),
	}, func(ctx context.Context, in *balancesInput) (*balancesOutput, error) {
		span, err := in.liveSpan(ctx, s, "")
		if err != nil {
			return nil, asProblem(err)
		}
		list, next, err := s.hub.Balances(ctx, span, in.First, in.After)
		return &balancesOutput{NextPage{next}, list}, asProblem(err)
	})
}

type timelineInput struct {
	SpanParams
	Host string       `query:"host" doc:"One host; all when left out."`
	Of   resourceName `query:"of" default:"cpu"`
}

type timelineOutput struct{ Body *hub.Timeline }

func timelineRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-timeline", Method: http.MethodGet, Path: Prefix + "/timeline",
		Summary: "How busy the fleet or a host was over a span", Metadata: readers(),
	}, func(ctx context.Context, in *timelineInput) (*timelineOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		r, err := amount.ParseResource(string(in.Of))
		if err != nil {
			return nil, asProblem(&hub.Problem{Class: hub.Invalid, Detail: err.Error()})
		}
		t, err := s.hub.Timeline(ctx, span, in.Host, r)
		if err != nil {
			return nil, asProblem(err)
		}
		return &timelineOutput{t}, nil
	})
}
