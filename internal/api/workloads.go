package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

// WorkloadsParams narrow a listing of workloads.
type WorkloadsParams struct {
	LiveParams
	HostParam
	Where  string `query:"where" doc:"Only workloads that this CEL expression matches."`
	Tenant string `query:"tenant" doc:"Only what was this tenant's."`
}

// asked is what a listing of workloads is narrowed by.
func (in *WorkloadsParams) asked(ctx context.Context, s *service) (hub.Asked, error) {
	span, err := in.liveSpan(ctx, s, in.Host)
	return hub.Asked{Span: span, Host: in.Host, Where: in.Where, Tenant: in.Tenant}, err
}

type workloadsPageInput struct {
	WorkloadsParams
	PageParams
}

func (in *workloadsPageInput) page() hub.Page {
	return hub.Page{Sort: in.Sort, First: in.First, After: in.After}
}

// NextPage is where a listing that is cut into pages says how to get the next.
type NextPage struct {
	Next string `header:"X-Next-Page" doc:"Cursor of the next page, to be sent as after; left out on the last page."`
}

type workloadsOutput struct {
	NextPage
	Missed
	Body []hub.WorkloadLine
}

type programsOutput struct {
	NextPage
	Missed
	Body []hub.ProgramTotal
}

type groupsInput struct {
	WorkloadsParams
	By string `query:"by" default:"tenant" doc:"A dimension, such as tenant, user, kind, host or pod, or label:KEY."`
}

type groupsOutput struct{ Body []hub.WorkloadGroup }

type findInput struct {
	Words string `query:"words" doc:"A name, the beginning of an id, a pid, a user, or a label KEY=VALUE."`
	Host  string `query:"host" doc:"Only on this host."`
}

type findOutput struct{ Body []hub.Found }

func workloadRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-workloads", Method: http.MethodGet, Path: Prefix + "/workloads",
		Summary: "The workloads of a span with what they used, most CPU time first", Metadata: readers(),
	}, func(ctx context.Context, in *workloadsPageInput) (*workloadsOutput, error) {
		q, err := in.asked(ctx, s)
		if err != nil {
			return nil, asProblem(err)
		}
		lines, next, err := s.hub.Workloads(ctx, q, in.page())
		if err != nil {
			return nil, asProblem(err)
		}
		missed, err := s.missed(ctx, q.Span, q.Host)
		return &workloadsOutput{NextPage{next}, missed, lines}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-groups", Method: http.MethodGet, Path: Prefix + "/groups",
		Summary:  "The workloads of a span by groups: how many there are in each, and what they used together",
		Metadata: readers(),
	}, func(ctx context.Context, in *groupsInput) (*groupsOutput, error) {
		q, err := in.asked(ctx, s)
		if err != nil {
			return nil, asProblem(err)
		}
		groups, err := s.hub.Groups(ctx, q, in.By)
		return &groupsOutput{groups}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-threads", Method: http.MethodGet, Path: Prefix + "/threads",
		Summary: "Workloads by runnable threads for each CPU they may use, most crowded first", Metadata: readers(),
	}, func(ctx context.Context, in *WorkloadsParams) (*workloadsOutput, error) {
		q, err := in.asked(ctx, s)
		if err != nil {
			return nil, asProblem(err)
		}
		lines, err := s.hub.Threads(ctx, q)
		if err != nil {
			return nil, asProblem(err)
		}
		missed, err := s.missed(ctx, q.Span, q.Host)
		return &workloadsOutput{NextPage{}, missed, lines}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-programs", Method: http.MethodGet, Path: Prefix + "/programs",
		Summary: "Every program with all its processes added, most CPU time first", Metadata: readers(),
	}, func(ctx context.Context, in *workloadsPageInput) (*programsOutput, error) {
		q, err := in.asked(ctx, s)
		if err != nil {
			return nil, asProblem(err)
		}
		programs, next, err := s.hub.Programs(ctx, q, in.page())
		if err != nil {
			return nil, asProblem(err)
		}
		missed, err := s.missed(ctx, q.Span, q.Host)
		return &programsOutput{NextPage{next}, missed, programs}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "find", Method: http.MethodGet, Path: Prefix + "/find",
		Summary: "Workloads, hosts, users and tenants by any of their names", Metadata: readers(),
	}, func(ctx context.Context, in *findInput) (*findOutput, error) {
		found, err := s.hub.Find(ctx, in.Words, in.Host)
		return &findOutput{found}, asProblem(err)
	})
}
