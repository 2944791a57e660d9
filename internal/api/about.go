package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type workloadInput struct {
	ID int64 `path:"id"`
	LiveParams
}

type workloadOutput struct{ Body *hub.AboutWorkload }

type groupInput struct {
	What string `path:"what" enum:"host,user,tenant"`
	Name string `path:"name"`
	LiveParams
	First int `query:"first" minimum:"0" doc:"How many workloads to list; all when 0."`
}

type groupOutput struct{ Body *hub.AboutGroup }

func aboutRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-workload", Method: http.MethodGet, Path: Prefix + "/workloads/{id}",
		Summary: "Everything about one workload", Metadata: readers(),
	}, func(ctx context.Context, in *workloadInput) (*workloadOutput, error) {
		span, err := in.liveSpanOf(ctx, s, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		w, err := s.hub.AboutWorkload(ctx, in.ID, span)
		if err != nil {
			return nil, asProblem(err)
		}
		return &workloadOutput{w}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-about", Method: http.MethodGet, Path: Prefix + "/about/{what}/{name}",
		Summary: "Everything about a host, a user or a tenant", Metadata: readers(),
	}, func(ctx context.Context, in *groupInput) (*groupOutput, error) {
		host := ""
		if in.What == "host" {
			host = in.Name
		}
		span, err := in.liveSpan(ctx, s, host)
		if err != nil {
			return nil, asProblem(err)
		}
		ask := map[string]func() (*hub.AboutGroup, error){
			"host":   func() (*hub.AboutGroup, error) { return s.hub.AboutHost(ctx, in.Name, span, in.First) },
			"user":   func() (*hub.AboutGroup, error) { return s.hub.AboutUser(ctx, in.Name, span, in.First) },
			"tenant": func() (*hub.AboutGroup, error) { return s.hub.AboutTenant(ctx, in.Name, span, in.First) },
		}
		g, err := ask[in.What]()
		if err != nil {
			return nil, asProblem(err)
		}
		return &groupOutput{g}, nil
	})
}
