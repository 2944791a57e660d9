package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/core/question"
)

type manyHostsInput struct {
	SpanParams
	Host string `query:"host" doc:"One host; all when left out."`
}

type oneHostInput struct {
	SpanParams
	Name string `path:"name"`
}

type body[T any] struct{ Body *T }

// ofHosts registers a question about one host or all over a span.
func ofHosts[T any](api huma.API, s *service, id, path, summary string,
	ask func(context.Context, string, question.Span) (*T, error)) {
	huma.Register(api, huma.Operation{OperationID: id, Method: http.MethodGet, Path: Prefix + path, Summary: summary,
		Metadata: readers()},
		func(ctx context.Context, in *manyHostsInput) (*body[T], error) {
			span, err := in.span(s)
			if err != nil {
				return nil, asProblem(err)
			}
			answer, err := ask(ctx, in.Host, span)
			if err != nil {
				return nil, asProblem(err)
			}
			return &body[T]{answer}, nil
		})
}

// ofHost registers a question about one host over a span.
func ofHost[T any](api huma.API, s *service, id, path, summary string,
	ask func(context.Context, string, question.Span) (*T, error)) {
	huma.Register(api, huma.Operation{OperationID: id, Method: http.MethodGet, Path: Prefix + path, Summary: summary,
		Metadata: readers()},
		func(ctx context.Context, in *oneHostInput) (*body[T], error) {
			span, err := in.span(s)
			if err != nil {
				return nil, asProblem(err)
			}
			answer, err := ask(ctx, in.Name, span)
			if err != nil {
				return nil, asProblem(err)
			}
			return &body[T]{answer}, nil
		})
}

func figureRoutes(api huma.API, s *service) {
	ofHosts[explain.Disks](api, s, "get-disks", "/disks",
		"Whether storage is the problem, on which device, and who causes it", s.hub.Disks)
	ofHosts[explain.Links](api, s, "get-interfaces", "/interfaces",
		"Every network interface, and which workload moved what", s.hub.Links)
	ofHost[explain.CPUs](api, s, "get-cpus", "/hosts/{name}/cpus",
		"The ledger of each logical CPU of a host, and who ran there", s.hub.CPUs)
	ofHost[explain.Memory](api, s, "get-memory", "/hosts/{name}/memory", "A host's memory explained, and who holds it",
		s.hub.Memory)
}
