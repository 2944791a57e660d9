package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// Act is one line of the audit trail.
type Act struct {
	At      time.Time       `json:"at"`
	Who     string          `json:"who" doc:"Name of the token."`
	Act     string          `json:"act"`
	Subject string          `json:"subject"`
	Detail  json.RawMessage `json:"detail"`
}

type auditInput struct {
	First int `query:"first" default:"50" minimum:"1" maximum:"1000"`
}

type auditOutput struct{ Body []Act }

func auditRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-audit", Method: http.MethodGet, Path: Prefix + "/audit",
		Summary: "Who changed what, newest first", Metadata: administrators(),
	}, func(ctx context.Context, in *auditInput) (*auditOutput, error) {
		acts, err := s.hub.Acts(ctx, in.First)
		out := &auditOutput{Body: []Act{}}
		for _, a := range acts {
			out.Body = append(out.Body, Act{a.At.UTC(), a.Who, a.Act, a.Subject, json.RawMessage(a.Detail)})
		}
		return out, asProblem(err)
	})
}
