package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type verifyInput struct {
	Day   time.Time `query:"day" required:"true" doc:"RFC 3339: any time of the day, which is one of universal time."`
	First int       `query:"first" minimum:"0" doc:"Of how many hosts, by name; all when 0."`
	After string    `query:"after" doc:"Name of the last host of the page before."`
}

type verifyOutput struct{ Body *hub.Verification }

func verifyRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "verify", Method: http.MethodGet, Path: Prefix + "/verify",
		Summary:  "Recompute what is summed of one day, and say where the book differs from itself",
		Metadata: administrators(),
	}, func(ctx context.Context, in *verifyInput) (*verifyOutput, error) {
		v, err := s.hub.Verify(ctx, in.Day, in.First, in.After)
		return &verifyOutput{v}, asProblem(err)
	})
}
