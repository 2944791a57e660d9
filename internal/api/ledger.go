package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// SpanParams choose a span: from and to, or the last stretch of a length before now (or before to).
type SpanParams struct {
	From time.Time `query:"from" doc:"RFC 3339; with to."`
	To   time.Time `query:"to" doc:"RFC 3339; now when left out."`
	Span string    `query:"span" doc:"A length such as 90m, 1h or 7d; 1h when left out." example:"1h"`
}

func (p *SpanParams) span(s *service) (question.Span, error) {
	var length time.Duration
	if p.Span != "" {
		var err error
		if length, err = sheet.ParseSpan(p.Span); err != nil {
			return question.Span{}, &hub.Problem{Class: hub.Invalid, Detail: err.Error()}
		}
	}
	return s.hub.Span(p.From, p.To, length)
}

// HostParam chooses one host, or all.
type HostParam struct {
	Host string `query:"host" doc:"One host; all when left out."`
}

// PageParams choose a page of a listing that is sorted where it is stored.
type PageParams struct {
	Sort  string `query:"sort" doc:"amount, name, kind, owner, tenant, host, peak, source or parts; -name turns it."`
	First int    `query:"first" minimum:"0" doc:"How many to list; all when 0."`
	After string `query:"after" doc:"Cursor of the page, as the page before it told; the first page when left out."`
}

type ledgerInput struct {
	LiveParams
	HostParam
	PageParams
	Of     measureName `query:"of" default:"cpu" doc:"A measure; one without a ledger has shares alone."`
	By     string      `query:"by" default:"workload" doc:"A dimension, such as tenant or user, or label:KEY."`
	Tenant string      `query:"tenant" doc:"Only this tenant's shares; the residual is then null."`
	Where  string      `query:"where" doc:"Only workloads that this CEL expression matches." example:"kind == 'job'"`
}

type ledgerOutput struct{ Body *sheet.Ledger }

func ledgerRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-ledger", Method: http.MethodGet, Path: Prefix + "/ledger",
		Summary: "The balanced ledger of a resource with its shares",
		Description: "used = sum of shares + kernel + steal + residual; capacity = used + idle where capacity is " +
			"known.", Metadata: readers(),
	}, func(ctx context.Context, in *ledgerInput) (*ledgerOutput, error) {
		span, err := in.liveSpan(ctx, s, in.Host)
		if err != nil {
			return nil, asProblem(err)
		}
		m, err := in.Of.measure()
		if err != nil {
			return nil, asProblem(err)
		}
		l, err := s.hub.Ledger(ctx, hub.Question{
			Asked:   hub.Asked{Span: span, Host: in.Host, Where: in.Where, Tenant: in.Tenant},
			Measure: m, By: in.By, Sort: in.Sort, First: in.First, After: in.After})
		if err != nil {
			return nil, asProblem(err)
		}
		return &ledgerOutput{l}, nil
	})
}
