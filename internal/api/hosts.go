package api

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Host is a host as the API tells it.
type Host struct {
	Name        string        `json:"name"`
	CPUs        int           `json:"cpus" doc:"Logical CPUs; 0 before the first interval."`
	MemoryBytes int64         `json:"memory_bytes"`
	CgroupMode  string        `json:"cgroup_mode" doc:"v1, hybrid or v2."`
	EnrolledAt  time.Time     `json:"enrolled_at"`
	LastAt      *time.Time    `json:"last_at" doc:"End of its newest interval; null before the first."`
	State       string        `json:"state" enum:"reporting,silent,awaited" doc:"silent: nothing for three minutes."`
	Pools       []string      `json:"pools" doc:"That rules and questions may name."`
	Load        *explain.Load `json:"load,omitempty" doc:"Of its newest interval, to be held against its CPUs."`
	Warming     string        `json:"warming,omitempty" doc:"When its first figures are due."`
}

func hostOf(h *store.Host, pools []string, load *explain.Load, due *time.Time, now time.Time) Host {
	x := Host{Pools: pools, Load: load, Name: h.Name, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes,
		CgroupMode: h.CgroupMode, EnrolledAt: h.EnrolledAt.UTC(), State: stateOf(h, now)}
	if x.Pools == nil {
		x.Pools = []string{}
	}
	if h.LastAt == nil && due != nil {
		x.Warming = sheet.FirstReading(due.Sub(now))
	}
	if h.LastAt != nil {
		at := h.LastAt.UTC()
		x.LastAt = &at
	}
	return x
}

// How hosts stand.
const (
	reporting = "reporting"
	silent    = "silent"
	awaited   = "awaited"
)

// stateOf is how a host stands at a time.
func stateOf(h *store.Host, now time.Time) string {
	switch {
	case h.LastAt == nil:
		return awaited
	case now.Sub(*h.LastAt) > 3*time.Minute:
		return silent
	}
	return reporting
}

type poolsInput struct {
	Name string `path:"name"`
	Body struct {
		Pools []string `json:"pools" maxItems:"50"`
	}
}

type hostsInput struct {
	First   int    `query:"first" minimum:"0" doc:"How many hosts to list, by name; all when 0."`
	After   string `query:"after" doc:"Name of the last host of the page before."`
	Unheard bool   `query:"unheard" doc:"Only hosts that are not reporting."`
}

type hostsOutput struct {
	NextPage
	InAll int `header:"X-In-All" doc:"How many hosts there are, listed or not."`
	Body  []Host
}

type enrolInput struct {
	Body struct {
		Name string `json:"name" maxLength:"255"`
	}
}

// Enrolment is a host's new credential, shown once.
type Enrolment struct {
	Host       string `json:"host"`
	Credential string `json:"credential" doc:"For the collector of this host; it can write only this host's intervals."`
}

type enrolOutput struct{ Body Enrolment }

type detailInput struct {
	Name string `path:"name"`
	LiveParams
}

// HostDetail is a host with what its newest interval of a span says beside the ledger.
type HostDetail struct {
	Host
	Detail json.RawMessage `json:"detail" doc:"Of the newest interval, by the wire schema; null for none."`
}

type detailOutput struct{ Body HostDetail }

func hostRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-hosts", Method: http.MethodGet, Path: Prefix + "/hosts", Summary: "All hosts",
		Metadata: readers(),
	}, func(ctx context.Context, in *hostsInput) (*hostsOutput, error) {
		hosts, err := s.hub.Hosts(ctx) // by name
		if err != nil {
			return nil, asProblem(err)
		}
		if in.Unheard {
			hosts = slices.DeleteFunc(hosts, func(h store.Host) bool { return stateOf(&h, time.Now()) == reporting })
		}
		out := &hostsOutput{Body: []Host{}, InAll: len(hosts)}
		hosts = slices.DeleteFunc(hosts, func(h store.Host) bool { return h.Name <= in.After })
		if in.First > 0 && len(hosts) > in.First {
			hosts = hosts[:in.First]
			out.Next = hosts[in.First-1].Name
		}
		pools, due, err := s.hub.AboutHosts(ctx)
		if err != nil {
			return nil, asProblem(err)
		}
		loads, err := s.hub.Loads(ctx, hosts)
		for i := range hosts {
			name := hosts[i].Name
			out.Body = append(out.Body, hostOf(&hosts[i], pools[name], loads[name], due[name], time.Now()))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "enrol-host", Method: http.MethodPost, Path: Prefix + "/hosts",
		Summary:     "Make a host known and get its collector's credential",
		Description: "A host that is known already gets a new credential; the old one is no longer taken.",
		Metadata:    administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *enrolInput) (*enrolOutput, error) {
		credential, err := s.hub.Enrol(ctx, in.Body.Name)
		return &enrolOutput{Enrolment{in.Body.Name, credential}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-host", Method: http.MethodGet, Path: Prefix + "/hosts/{name}", Summary: "One host",
		Metadata: readers(),
	}, func(ctx context.Context, in *detailInput) (*detailOutput, error) {
		h, err := s.hub.Host(ctx, in.Name)
		if err != nil {
			return nil, asProblem(err)
		}
		span, err := in.liveSpan(ctx, s, in.Name)
		if err != nil {
			return nil, asProblem(err)
		}
		pools, due, err := s.hub.AboutHosts(ctx)
		if err != nil {
			return nil, asProblem(err)
		}
		detail, load, err := s.hub.Detail(ctx, &h, span)
		out := &detailOutput{HostDetail{Host: hostOf(&h, pools[h.Name], load, due[h.Name], time.Now())}}
		if detail != nil {
			out.Body.Detail = detail
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "set-pools", Method: http.MethodPut, Path: Prefix + "/hosts/{name}/pools",
		Summary: "Put a host into pools, in place of those it was in", Metadata: administrators(),
	}, func(ctx context.Context, in *poolsInput) (*movedOutput, error) {
		moved, err := s.hub.SetPools(ctx, in.Name, in.Body.Pools)
		return &movedOutput{Moved{moved}}, asProblem(err)
	})
}
