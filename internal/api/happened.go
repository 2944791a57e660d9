package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/internal/hub"
)

type eventsInput struct {
	SpanParams
	HostParam
	Tenant string `query:"tenant" doc:"Only what is about this tenant's workloads."`
	Where  string `query:"where" doc:"Only about workloads that this CEL expression matches." example:"kind == 'job'"`
	Kinds  string `query:"kinds" doc:"Kinds of events, separated by commas; all when left out." example:"failed,killed"`
	Urgent bool   `query:"urgent" doc:"Only what somebody should look at."`
	ID     int64  `query:"workload" doc:"Only about this workload, by its number."`
	First  int    `query:"first" minimum:"0" default:"500" doc:"How many, the newest first; all when 0."`
}

type eventsOutput struct {
	InAll int `header:"X-In-All" doc:"How many were found: of each source the newest 5000 are looked at."`
	Body  []explain.Event
}

func pastRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-events", Method: http.MethodGet, Path: Prefix + "/events/past",
		Summary: "What happened in a span, newest first",
		Description: "What began and ended and how, sign-ins, processes ended for want of memory, hosts that were " +
			"booted, silent or back, and who changed rules, quotas and declared CPUs.", Metadata: readers(),
	}, func(ctx context.Context, in *eventsInput) (*eventsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		q := hub.EventsQuestion{Asked: hub.Asked{Span: span, Host: in.Host, Where: in.Where, Tenant: in.Tenant},
			First: in.First, Workload: in.ID, Urgent: in.Urgent}
		if in.Kinds != "" {
			q.Kinds = strings.Split(in.Kinds, ",")
		}
		list, inAll, err := s.hub.Events(ctx, &q)
		return &eventsOutput{inAll, list}, asProblem(err)
	})
}
