package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/explain"
	"vinescale/internal/hub"
)

// PinToDeclare is a declaration of CPUs that is to be put in force.
type PinToDeclare struct {
	Host     string     `json:"host"`
	CPUs     string     `json:"cpus"                  doc:"A kernel list such as 0-3,8, or a mask such as 0xff."`
	Holder   string     `json:"holder"                doc:"A tenant or workload by name, or a rule."`
	Kind     string     `json:"holder_kind,omitempty" enum:"tenant,workload,rule"`
	IsShared bool       `json:"shared,omitempty"      doc:"Others may run there too."`
	IsComing bool       `json:"coming,omitempty"      doc:"A workload that is named need not have been seen yet."`
	Reason   string     `json:"reason,omitempty"      doc:"Why, for those who read the history."`
	From     *time.Time `json:"from,omitempty"        doc:"From that minute on; now when left out."`
	Until    *time.Time `json:"until,omitempty"       doc:"Until that minute; without an end when left out."`
}

// DeclaredPin is a declaration of CPUs.
type DeclaredPin struct {
	ID        int64      `json:"id"`
	Host      string     `json:"host"`
	CPUs      string     `json:"cpus"`
	Kind      string     `json:"holder_kind" enum:"tenant,workload,rule"`
	Holder    string     `json:"holder"`
	Exclusive bool       `json:"exclusive"`
	From      time.Time  `json:"from"`
	Until     *time.Time `json:"until"                                   doc:"Null: no end; as from: taken back."`
	Reason    string     `json:"reason"`
	MadeBy    string     `json:"made_by"`
	MadeAt    time.Time  `json:"made_at"`
	EndedBy   string     `json:"ended_by"                                doc:"Empty where it ends as declared."`
	EndReason string     `json:"end_reason"`
}

func declaredPinOf(p *hub.DeclaredPin) DeclaredPin {
	until := p.Until
	if until != nil {
		at := until.UTC()
		until = &at
	}
	return DeclaredPin{
		p.ID,
		p.HostName,
		p.CPUs,
		p.Kind,
		p.Holder,
		p.Exclusive,
		p.From.UTC(),
		until,
		p.Reason,
		p.MadeBy,
		p.MadeAt.UTC(),
		p.EndedBy,
		p.EndReason,
	}
}

// EffectiveHost is where the workloads of a host may run now, and what is left for everybody.
type EffectiveHost struct {
	Host     string `json:"host"`
	CPUs     string `json:"cpus" doc:"All of the host's; empty where they are not known."`
	Isolated string `json:"isolated_cpus" doc:"Kept off balancing by the kernel's command line."`
	NoTick   string `json:"no_tick_cpus"`
	Left     string `json:"left_cpus" doc:"Not isolated, in no partition, not declared for one alone."`

	Workloads []explain.EffectivePin `json:"workloads" doc:"Kept on some CPUs, or meant to be: by name."`
}

type pinsInput struct {
	LiveParams
	Host string `query:"host" doc:"One host; all when left out."`
}

type pinsOutput struct {
	Missed
	Body []explain.PinAudit
}

type declaredPinsInput struct {
	Host string `query:"host" doc:"One host; all when left out."`
}

type declaredPinsOutput struct{ Body []DeclaredPin }

type effectivePinsInput struct {
	Host string `path:"host"`
}

type effectivePinsOutput struct{ Body EffectiveHost }

type putPinInput struct{ Body PinToDeclare }

type pinOutput struct{ Body DeclaredPin }

type endPinInput struct {
	ID     int64     `path:"id"`
	At     time.Time `          query:"at"     doc:"Ends at that minute; now when left out."`
	Reason string    `          query:"reason"`
}

func pinRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "audit-pins", Method: http.MethodGet, Path: Prefix + "/pins",
		Summary: "Declared CPUs, each declaration with its verdicts",
		Description: "What was declared is held against what was allowed and what was done, over that part of the " +
			"span in which it was in force.", Metadata: readers(),
	}, func(ctx context.Context, in *pinsInput) (*pinsOutput, error) {
		span, err := in.liveSpan(ctx, s, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		pins, err := s.hub.Pins(ctx, span, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		missed, err := s.missed(ctx, span, in.Host)
		return &pinsOutput{missed, pins}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-declared-pins", Method: http.MethodGet, Path: Prefix + "/pins/declared",
		Summary: "What CPUs are and were declared for whom, when, by whom and why", Metadata: readers(),
	}, func(ctx context.Context, in *declaredPinsInput) (*declaredPinsOutput, error) {
		pins, err := s.hub.Declared(ctx, in.Host)
		out := &declaredPinsOutput{Body: []DeclaredPin{}}
		for i := range pins {
			out.Body = append(out.Body, declaredPinOf(&pins[i]))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-effective-pins", Method: http.MethodGet, Path: Prefix + "/hosts/{host}/pins",
		Summary: "Workloads of a host that are kept on some of its CPUs now, or are meant to be", Metadata: readers(),
	}, func(ctx context.Context, in *effectivePinsInput) (*effectivePinsOutput, error) {
		e, err := s.hub.Effective(ctx, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		return &effectivePinsOutput{EffectiveHost{in.Host, e.CPUs, e.Isolated, e.NoTick, e.Left, e.Pins}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "declare-pin", Method: http.MethodPut, Path: Prefix + "/pins",
		Summary: "Declare CPUs of a host as a holder's",
		Description: "What was declared for the same holder on the same host ends where this begins. The same again " +
			"changes nothing. It records, and moves nobody.", Metadata: administrators(),
	}, func(ctx context.Context, in *putPinInput) (*pinOutput, error) {
		order := hub.PinOrder{Host: in.Body.Host, CPUs: in.Body.CPUs, Kind: in.Body.Kind, Holder: in.Body.Holder,
			IsShared: in.Body.IsShared, IsComing: in.Body.IsComing, Reason: in.Body.Reason}
		if in.Body.From != nil {
			order.From = *in.Body.From
		}
		if in.Body.Until != nil {
			order.Until = *in.Body.Until
		}
		p, err := s.hub.Declare(ctx, &order)
		return &pinOutput{declaredPinOf(&p)}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "end-pin", Method: http.MethodDelete, Path: Prefix + "/pins/{id}",
		Summary: "End a declaration of CPUs; its history stays", Metadata: administrators(), DefaultStatus: 200,
	}, func(ctx context.Context, in *endPinInput) (*pinOutput, error) {
		p, err := s.hub.EndPin(ctx, in.ID, in.At, in.Reason)
		return &pinOutput{declaredPinOf(&p)}, asProblem(err)
	})
}
