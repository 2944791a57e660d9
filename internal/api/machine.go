package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type machineInput struct {
	Name string `path:"name"`
}

func machineRoutes(api huma.API, s *service) {
	ofFigures(api, "get-machine", "/hosts/{name}/machine",
		"What a host is made of: firmware, processor, memory modules, drives, links, and what begins by itself",
		func(ctx context.Context, in *machineInput) (*hub.Machine, error) { return s.hub.Machine(ctx, in.Name) })
}
