package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/core/tenancy"
	"vinescale/core/whatif"
	"vinescale/internal/hub"
)

// WhatLimited is what another limit would have done to a workload.
type WhatLimited struct {
	Workload explain.UserRef `json:"workload"`
	whatif.Limited
}

type whatLimitInput struct {
	SpanParams
	Workload int64   `query:"workload" required:"true" doc:"By its number."`
	Resource string  `query:"of" required:"true" doc:"cpu or memory."`
	Limit    float64 `query:"limit" required:"true" doc:"Cores, or bytes."`
}

type whatLimitOutput struct{ Body WhatLimited }

type whatQuotaInput struct {
	SpanParams
	Tenant   string  `query:"tenant" required:"true"`
	Resource string  `query:"of" required:"true" doc:"What quotas may be set on."`
	Ceiling  float64 `query:"ceiling" required:"true" doc:"As a mean, in the resource's unit."`
	Basis    string  `query:"basis" enum:"used,held,greater" default:"used" doc:"What is held against it."`
	Host     string  `query:"host" doc:"On this host alone."`
	Pool     string  `query:"pool" doc:"On the hosts of this pool together."`
}

type whatQuotaOutput struct{ Body explain.Stand }

type whatPinsInput struct {
	SpanParams
	Holder   string `query:"holder" required:"true" doc:"A tenant, a workload or a rule."`
	Kind     string `query:"holder_kind" enum:"tenant,workload,rule" default:"tenant"`
	Host     string `query:"host" required:"true"`
	CPUs     string `query:"cpus" required:"true" doc:"In the kernel's list format." example:"2-4"`
	IsShared bool   `query:"shared" doc:"Others may run there too."`
}

type whatPinsOutput struct{ Body whatif.Pinned }

type whatWeightInput struct {
	SpanParams
	Workload int64   `query:"workload" required:"true" doc:"By its number."`
	Weight   float64 `query:"weight" required:"true" doc:"1 to 10000; 100 is usual."`
}

type whatWeightOutput struct{ Body whatif.Weighed }

type sizesInput struct {
	SpanParams
	HostParam
	Percent float64 `query:"percentile" default:"95" doc:"Of the highest ticks, that a size is to cover: 50 to 100."`
}

type sizesOutput struct{ Body []hub.SizeAdvice }

// FleetParams ask about hosts as places for workloads.
type FleetParams struct {
	SpanParams
	Pool    string  `query:"pool" doc:"The hosts of this pool; all when left out."`
	Percent float64 `query:"percentile" default:"95" doc:"Of the highest ticks, that workloads are taken to need."`
	Spare   float64 `query:"spare" default:"0.1" doc:"This part of each host stays free: 0 to 0.9."`
}

func (p *FleetParams) question(s *service) (*hub.FleetQuestion, error) {
	span, err := p.span(s)
	return &hub.FleetQuestion{Span: span, Pool: p.Pool, Percent: p.Percent, Spare: p.Spare}, err
}

type emptyInput struct{ FleetParams }

type emptyOutput struct{ Body whatif.Emptying }

type hostsIfInput struct {
	FleetParams
	Without []string `query:"without" doc:"Hosts that are taken away." example:"cellar-1"`
	Added   int      `query:"add" doc:"So many hosts of the size given are added."`
	CPUs    float64  `query:"cpus" doc:"Of a host that is added."`
	Memory  float64  `query:"memory_bytes" doc:"Of a host that is added."`
	GPUs    int      `query:"gpus" doc:"Of a host that is added."`
}

type hostsIfOutput struct{ Body whatif.Changed }

type placeInput struct {
	FleetParams
	Workload int64   `query:"workload" doc:"By its number; left out for one that is not there yet."`
	CPUs     float64 `query:"cpus" doc:"Cores that it would need, or at least."`
	Memory   float64 `query:"memory_bytes" doc:"Memory that it would need, or at least."`
	GPUs     int     `query:"gpus" doc:"GPUs that it would need, or at least."`
}

type placeOutput struct{ Body whatif.Placing }

type fillingInput struct {
	SpanParams
	Pool  string  `query:"pool" doc:"The hosts of this pool; all when left out."`
	Spare float64 `query:"spare" default:"0.1" doc:"What counts as full leaves this part free: 0 to 0.9."`
}

// Filling is when hosts are full.
type Filling struct {
	Method string        `json:"method" doc:"How growth is told."`
	Lines  []whatif.Fill `json:"lines" doc:"Of all hosts together and of each, what is full soonest first."`
}

type fillingOutput struct{ Body Filling }

func whatIfRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "what-if-limit", Method: http.MethodGet, Path: Prefix + "/whatif/limit",
		Summary: "What another limit would have done to a workload over a span",
		Description: "The record is played again by the minute (of up to a day), the hour or the day. What it does " +
			"not know is told as a bound: at least so much would have come later, by at least so long.",
		Metadata: readers(),
	}, func(ctx context.Context, in *whatLimitInput) (*whatLimitOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		x, who, err := s.hub.WhatIfLimit(ctx, &hub.WhatLimit{Workload: in.Workload, Resource: in.Resource,
			Limit: in.Limit, Span: span})
		if err != nil {
			return nil, asProblem(err)
		}
		return &whatLimitOutput{WhatLimited{who, *x}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "what-if-quota", Method: http.MethodGet, Path: Prefix + "/whatif/quota",
		Summary: "How a tenant would have stood against another ceiling over a span", Metadata: readers(),
	}, func(ctx context.Context, in *whatQuotaInput) (*whatQuotaOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		on := tenancy.Scope{Kind: tenancy.Fleet}
		switch {
		case in.Host != "" && in.Pool != "":
			return nil, asProblem(&hub.Problem{Class: hub.Invalid, Detail: "a host and a pool were given: choose one"})
		case in.Host != "":
			on = tenancy.Scope{Kind: tenancy.OneHost, Name: in.Host}
		case in.Pool != "":
			on = tenancy.Scope{Kind: tenancy.HostPool, Name: in.Pool}
		}
		stand, err := s.hub.WhatIfQuota(ctx, &hub.WhatQuota{Tenant: in.Tenant, Resource: in.Resource,
			Ceiling: in.Ceiling, Basis: in.Basis, On: on, Span: span})
		if err != nil {
			return nil, asProblem(err)
		}
		return &whatQuotaOutput{*stand}, nil
	})
	cpuRoutes(api, s)
	huma.Register(api, huma.Operation{
		OperationID: "what-if-empty", Method: http.MethodGet, Path: Prefix + "/whatif/empty",
		Summary: "Which hosts could be emptied onto the others: each by itself, and as many as possible at once",
		Description: "Containers, machines and jobs move; what belongs to the host ends with it. CPU, memory, GPUs " +
			"and CPUs that somebody has alone have to fit, all at the same time.", Metadata: readers(),
	}, func(ctx context.Context, in *emptyInput) (*emptyOutput, error) {
		q, err := in.question(s)
		if err != nil {
			return nil, asProblem(err)
		}
		e, err := s.hub.Emptying(ctx, q)
		if err != nil {
			return nil, asProblem(err)
		}
		return &emptyOutput{*e}, nil
	})
	fleetRoutes(api, s)
	huma.Register(api, huma.Operation{
		OperationID: "advise-sizes", Method: http.MethodGet, Path: Prefix + "/whatif/sizes",
		Summary: "Limits, allotments and virtual machines far above or below their use",
		Description: "Each advice says on which percentile of the highest ticks it rests, what it saves, and in how " +
			"many steps the advised size would have been touched.", Metadata: readers(),
	}, func(ctx context.Context, in *sizesInput) (*sizesOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		list, err := s.hub.Sizes(ctx, span, in.Host, in.Percent)
		return &sizesOutput{list}, asProblem(err)
	})
}

// cpuRoutes are the questions about who would have had which CPUs.
func cpuRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "what-if-pins", Method: http.MethodGet, Path: Prefix + "/whatif/pins",
		Summary: "What other CPUs for a holder would have done on a host over a span",
		Description: "The span is played again with the holder on these CPUs, and all others on what is left. CPUs " +
			"that are declared now for others alone stay theirs. What would have come later is a lower bound.",
		Metadata: readers(),
	}, func(ctx context.Context, in *whatPinsInput) (*whatPinsOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		x, err := s.hub.WhatIfPins(ctx, &hub.WhatPins{Kind: in.Kind, Holder: in.Holder, Host: in.Host, CPUs: in.CPUs,
			IsShared: in.IsShared, Span: span})
		if err != nil {
			return nil, asProblem(err)
		}
		return &whatPinsOutput{*x}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "what-if-weight", Method: http.MethodGet, Path: Prefix + "/whatif/weight",
		Summary: "What another weight of a workload's cgroup would have done over a span",
		Description: "Where the CPUs that it runs on were short, their time is divided again among all who wanted " +
			"it, at each level of the tree of cgroups by weight; what one does not want goes to the others.",
		Metadata: readers(),
	}, func(ctx context.Context, in *whatWeightInput) (*whatWeightOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		x, err := s.hub.WhatIfWeight(ctx, &hub.WhatWeight{Workload: in.Workload, Weight: in.Weight, Span: span})
		if err != nil {
			return nil, asProblem(err)
		}
		return &whatWeightOutput{*x}, nil
	})
}

// fleetRoutes are the questions about hosts as places for workloads.
func fleetRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "what-if-hosts", Method: http.MethodGet, Path: Prefix + "/whatif/hosts",
		Summary: "Whether all would fit with hosts taken away or added, and how many of a size would do",
		Description: "Containers, machines and jobs of the hosts that are taken away move to those that stay or are " +
			"added, as do those that a host has too little for.", Metadata: readers(),
	}, func(ctx context.Context, in *hostsIfInput) (*hostsIfOutput, error) {
		q, err := in.question(s)
		if err != nil {
			return nil, asProblem(err)
		}
		x, err := s.hub.WhatIfHosts(ctx, &hub.HostsQuestion{FleetQuestion: *q, Without: in.Without, Added: in.Added,
			Size: hub.Size{CPUs: in.CPUs, Memory: in.Memory, GPUs: in.GPUs}})
		if err != nil {
			return nil, asProblem(err)
		}
		return &hostsIfOutput{*x}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "what-if-place", Method: http.MethodGet, Path: Prefix + "/whatif/place",
		Summary: "Where a workload would fit best: one that is there, or one that would need so much",
		Description: "The span is played again with it on each host, step by step. What all need is to fit in a " +
			"percentile of the steps.", Metadata: readers(),
	}, func(ctx context.Context, in *placeInput) (*placeOutput, error) {
		q, err := in.question(s)
		if err != nil {
			return nil, asProblem(err)
		}
		p, err := s.hub.Place(ctx, &hub.PlaceQuestion{FleetQuestion: *q, Workload: in.Workload,
			Needs: hub.Size{CPUs: in.CPUs, Memory: in.Memory, GPUs: in.GPUs}})
		if err != nil {
			return nil, asProblem(err)
		}
		return &placeOutput{*p}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "what-if-growth", Method: http.MethodGet, Path: Prefix + "/whatif/growth",
		Summary: "When what hosts use fills them, with a range", Metadata: readers(),
	}, func(ctx context.Context, in *fillingInput) (*fillingOutput, error) {
		span, err := in.span(s)
		if err != nil {
			return nil, asProblem(err)
		}
		lines, err := s.hub.Filling(ctx, span, in.Pool, in.Spare)
		if err != nil {
			return nil, asProblem(err)
		}
		return &fillingOutput{Filling{whatif.GrowthMethod, lines}}, nil
	})
}
