package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// SpanParams choose a span: from and to, or the last stretch of a length before now (or before to).
type SpanParams struct {
	From time.Time `query:"from" doc:"RFC 3339; with to."`
	To   time.Time `query:"to" doc:"RFC 3339; now when left out."`
	Span string    `query:"span" doc:"A length such as 90m, 1h or 7d, used without from; 1h when left out." example:"1h"`
}

func (p *SpanParams) span(s *service) (store.Span, error) {
	var length time.Duration
	if p.Span != "" {
		var err error
		if length, err = sheet.ParseSpan(p.Span); err != nil {
			return store.Span{}, &hub.Problem{Class: hub.Invalid, Detail: err.Error()}
		}
	}
	return s.hub.Span(p.From, p.To, length)
}

// ask reads a span and a resource.
func (p *SpanParams) ask(s *service, of string) (store.Span, amount.Resource, error) {
	span, err := p.span(s)
	if err != nil {
		return span, 0, asProblem(err)
	}
	r, err := amount.ParseResource(of)
	if err != nil {
		return span, 0, asProblem(&hub.Problem{Class: hub.Invalid, Detail: err.Error()})
	}
	return span, r, nil
}

type ledgerInput struct {
	SpanParams
	Of     string `query:"of" default:"cpu" enum:"cpu,memory,disk,network"`
	By     string `query:"by" default:"workload" doc:"tenant, user, workload, kind, host, program, family, pod, pod_namespace, image, account, partition, or label:KEY."`
	Host   string `query:"host" doc:"One host; all when left out."`
	Tenant string `query:"tenant" doc:"Only this tenant's shares; the balance's lines are then null."`
	Where  string `query:"where" doc:"Only workloads that this expression matches: CEL, as rules are; the residual is then null." example:"kind == 'job'"`
	Sort   string `query:"sort" doc:"amount (most first), name, kind, owner, tenant, host, peak, source or parts; a dash before it turns it round."`
	First  int    `query:"first" minimum:"0" doc:"How many shares to list; all when 0."`
}

type ledgerOutput struct{ Body *sheet.Ledger }

func ledgerRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-ledger", Method: http.MethodGet, Path: Prefix + "/ledger",
		Summary:     "The balanced ledger of a resource with its shares",
		Description: "used = sum of shares + kernel + steal + residual; capacity = used + idle where capacity is known.", Metadata: readers(),
	}, func(ctx context.Context, in *ledgerInput) (*ledgerOutput, error) {
		span, r, err := in.ask(s, in.Of)
		if err != nil {
			return nil, err
		}
		l, err := s.hub.Ledger(ctx, hub.Question{Span: span, Resource: r, By: in.By, Host: in.Host, Tenant: in.Tenant,
			Where: in.Where, Sort: in.Sort, First: in.First})
		if err != nil {
			return nil, asProblem(err)
		}
		return &ledgerOutput{l}, nil
	})
}
