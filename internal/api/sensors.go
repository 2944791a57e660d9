package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type sensorsInput struct {
	HostParam
	Kind  string `query:"kind" doc:"Of one kind, such as temperature."`
	State string `query:"state" enum:"fault,beyond,alarm,near,unavailable,within,no limits"`
}

type sensorsOutput struct{ Body []hub.SensorLine }

func sensorRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-sensors", Method: http.MethodGet, Path: Prefix + "/sensors",
		Summary: "What the sensors of hosts told last, the most urgent first", Metadata: readers(),
	}, func(ctx context.Context, in *sensorsInput) (*sensorsOutput, error) {
		lines, err := s.hub.Sensors(ctx, hub.SensorQuery{Host: in.Host, Kind: in.Kind, State: in.State})
		return &sensorsOutput{lines}, asProblem(err)
	})
}
