package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
)

type unusedInput struct {
	SpanParams
	Host string `query:"host" doc:"One host; all when left out."`
}

type unusedOutput struct{ Body *explain.Unused }

func unusedRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-unused", Method: http.MethodGet, Path: Prefix + "/unused",
		Summary: "What tenants hold and do not use, with the lines it is made of", Metadata: readers(),
	}, func(ctx context.Context, in *unusedInput) (*unusedOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		u, err := s.hub.Unused(ctx, span, in.Host)
		return &unusedOutput{u}, asProblem(err)
	})
}
