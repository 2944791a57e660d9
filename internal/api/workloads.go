package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

type workloadsInput struct {
	SpanParams
	Host  string `query:"host" doc:"One host; all when left out."`
	Where string `query:"where" doc:"Only workloads that this expression matches: CEL, as rules are."`
}

type workloadsOutput struct{ Body []hub.WorkloadLine }

type programsOutput struct{ Body []hub.ProgramTotal }

type findInput struct {
	Words string `query:"words" doc:"A name, the beginning of an id, a pid, a user, or a label KEY=VALUE."`
	Host  string `query:"host" doc:"Only on this host."`
}

type findOutput struct{ Body []hub.Found }

func workloadRoutes(api huma.API, s *service) {
	list := func(id, path, summary string, ask func(ctx context.Context, in *workloadsInput) ([]hub.WorkloadLine,
		error)) {
		huma.Register(api, huma.Operation{OperationID: id, Method: http.MethodGet, Path: Prefix + path,
			Summary: summary, Metadata: readers()},
			func(ctx context.Context, in *workloadsInput) (*workloadsOutput, error) {
				lines, err := ask(ctx, in)
				return &workloadsOutput{lines}, asProblem(err)
			})
	}
	list("list-workloads", "/workloads", "The workloads of a span with what they used, most CPU time first",
		func(ctx context.Context, in *workloadsInput) ([]hub.WorkloadLine, error) {
			span, err := in.span(s)
			if err != nil {
				return nil, err
			}
			return s.hub.Workloads(ctx, span, in.Host, in.Where)
		})
	list("list-threads", "/threads", "Workloads by runnable threads for each CPU they may use, most crowded first",
		func(ctx context.Context, in *workloadsInput) ([]hub.WorkloadLine, error) {
			span, err := in.span(s)
			if err != nil {
				return nil, err
			}
			return s.hub.Threads(ctx, span, in.Host, in.Where)
		})
	huma.Register(api, huma.Operation{
		OperationID: "list-programs", Method: http.MethodGet, Path: Prefix + "/programs",
		Summary: "Every program with all its processes added, most CPU time first", Metadata: readers(),
	}, func(ctx context.Context, in *workloadsInput) (*programsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		programs, err := s.hub.Programs(ctx, span, in.Host, in.Where)
		return &programsOutput{programs}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "find", Method: http.MethodGet, Path: Prefix + "/find",
		Summary: "Workloads, hosts, users and tenants by any of their names", Metadata: readers(),
	}, func(ctx context.Context, in *findInput) (*findOutput, error) {
		found, err := s.hub.Find(ctx, in.Words, in.Host)
		return &findOutput{found}, asProblem(err)
	})
}
