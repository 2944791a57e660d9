package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/choice"
)

// Chosen is what is kept with a person, and the site's time zone.
type Chosen struct {
	choice.Choices
	SiteZone string `json:"site_zone" doc:"Time zone for whoever chose none; empty for the reader's own."`
}

type choicesOutput struct{ Body Chosen }

type choicesInput struct{ Body choice.Choices }

func choiceRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-choices", Method: http.MethodGet, Path: Prefix + "/me/choices",
		Summary: "How whoever asks wants figures shown", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*choicesOutput, error) {
		c, err := s.hub.Choices(ctx, tokenOf(ctx).Name)
		return &choicesOutput{Chosen{c, s.hub.Zone()}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "set-choices", Method: http.MethodPut, Path: Prefix + "/me/choices",
		Summary: "Keep how whoever asks wants figures shown, in place of what was chosen before", Metadata: readers(),
	}, func(ctx context.Context, in *choicesInput) (*choicesOutput, error) {
		if err := s.hub.SetChoices(ctx, tokenOf(ctx).Name, in.Body); err != nil {
			return nil, asProblem(err)
		}
		c, err := s.hub.Choices(ctx, tokenOf(ctx).Name)
		return &choicesOutput{Chosen{c, s.hub.Zone()}}, asProblem(err)
	})
}
