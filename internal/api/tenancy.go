package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type tenancyOutput struct{ Body *hub.Tenancy }

type importInput struct {
	SpanParams
	Preview bool `query:"preview" doc:"Only tell what would change."`
	Prune   bool `query:"prune" doc:"Remove tenants that are not named, with all that is theirs."`
	Body    hub.Tenancy
}

type importOutput struct{ Body *hub.Import }

func tenancyRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "export-tenancy", Method: http.MethodGet, Path: Prefix + "/tenancy",
		Summary: "All tenants and rules, to keep elsewhere", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*tenancyOutput, error) {
		x, err := s.hub.Export(ctx)
		return &tenancyOutput{x}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "import-tenancy", Method: http.MethodPut, Path: Prefix + "/tenancy",
		Summary:     "Make the rules these, and add these tenants",
		Description: "The same again changes nothing. Moves are told for the workloads of the span.",
		Metadata:    administrators(),
	}, func(ctx context.Context, in *importInput) (*importOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		plan, err := s.hub.Import(ctx, span, &in.Body, in.Prune, in.Preview)
		if err != nil {
			return nil, asProblem(err)
		}
		return &importOutput{plan}, nil
	})
}
