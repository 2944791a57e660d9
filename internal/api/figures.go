package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/core/question"
)

type oneHostInput struct {
	LiveParams
	Name string `path:"name"`
}

type body[T any] struct{ Body *T }

type disksInput struct {
	LiveParams
	HostParam
	First int `query:"first" minimum:"0" doc:"How many drives and controllers to list, the busiest first; all when 0."`
	Users int `query:"users" minimum:"0" doc:"How many users of each to list; all when 0."`
}

type linksInput struct {
	LiveParams
	HostParam
	First  int `query:"first" minimum:"0" doc:"Of how many hosts to list interfaces, the busiest first; all when 0."`
	Within int `query:"within" minimum:"0" doc:"How many interfaces within each host, the busiest first; all when 0."`
	Users  int `query:"users" minimum:"0" doc:"How many workloads to list; all when 0."`
}

type placementInput struct {
	LiveParams
	Name string `path:"name"`
	By   string `query:"by" default:"tenant" enum:"tenant,workload"`
	Step string `query:"step" default:"auto" doc:"As of a series."`
}

type gpusInput struct {
	LiveParams
	HostParam
	Device string `query:"device" doc:"All about one GPU of the host: by number (0, 0.1 a partition), uuid or address."`
}

// ofFigures registers a question about figures.
func ofFigures[In, T any](api huma.API, id, path, summary string, ask func(context.Context, *In) (*T, error)) {
	huma.Register(api, huma.Operation{OperationID: id, Method: http.MethodGet, Path: Prefix + path, Summary: summary,
		Metadata: readers()},
		func(ctx context.Context, in *In) (*body[T], error) {
			answer, err := ask(ctx, in)
			if err != nil {
				return nil, asProblem(err)
			}
			return &body[T]{answer}, nil
		})
}

// ofHost registers a question about one host over a span.
func ofHost[T any](api huma.API, s *service, id, path, summary string,
	ask func(context.Context, string, question.Span) (*T, error)) {
	ofFigures(api, id, path, summary, func(ctx context.Context, in *oneHostInput) (*T, error) {
		span, err := in.liveSpan(ctx, s, in.Name)
		if err != nil {
			return nil, err
		}
		return ask(ctx, in.Name, span)
	})
}

func figureRoutes(api huma.API, s *service) {
	ofFigures(api, "get-disks", "/disks", "Whether storage is the problem, on which device, and who causes it",
		func(ctx context.Context, in *disksInput) (*explain.Disks, error) {
			span, err := in.liveSpan(ctx, s, in.Host)
			if err != nil {
				return nil, err
			}
			d, err := s.hub.Disks(ctx, in.Host, span)
			if err == nil {
				d.Cut(in.First, in.Users)
			}
			return d, err
		})
	ofFigures(api, "get-interfaces", "/interfaces", "Every network interface, and which workload moved what",
		func(ctx context.Context, in *linksInput) (*explain.Links, error) {
			span, err := in.liveSpan(ctx, s, in.Host)
			if err != nil {
				return nil, err
			}
			l, err := s.hub.Links(ctx, in.Host, span)
			if err == nil {
				l.Cut(in.First, in.Within, in.Users)
			}
			return l, err
		})
	ofFigures(api, "get-gpus", "/gpus", "Every GPU: its state, whom it is given to, and who uses it",
		func(ctx context.Context, in *gpusInput) (*explain.GPUs, error) {
			span, err := in.liveSpan(ctx, s, in.Host)
			if err != nil {
				return nil, err
			}
			if in.Device != "" {
				return s.hub.GPU(ctx, in.Host, in.Device, span)
			}
			g, err := s.hub.GPUs(ctx, in.Host, span)
			if err == nil {
				g.Cut()
			}
			return g, err
		})
	ofHost[explain.CPUs](api, s, "get-cpus", "/hosts/{name}/cpus",
		"The ledger of each logical CPU of a host, and who ran there", s.hub.CPUs)
	ofFigures(api, "get-placement", "/hosts/{name}/placement",
		"Who ran on which CPU of a host, and when: step by step, how busy each was and who had most of it",
		func(ctx context.Context, in *placementInput) (*explain.Placement, error) {
			span, err := in.liveSpan(ctx, s, in.Name)
			if err != nil {
				return nil, err
			}
			return s.hub.Placement(ctx, in.Name, span, in.By, in.Step)
		})
	ofHost[explain.Memory](api, s, "get-memory", "/hosts/{name}/memory", "A host's memory explained, and who holds it",
		s.hub.Memory)
}
