package api

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
	"vinescale/internal/wire"
)

// LiveParams choose a span, which live frames may answer for.
type LiveParams struct {
	SpanParams
	Live string `query:"live" doc:"A pace from 1s to 1m: live frames answer, of span (15m at most) or of the pace."`
}

// liveSpan is the span that was asked for, of one host or of all ("").
func (p *LiveParams) liveSpan(ctx context.Context, s *service, host string) (question.Span, error) {
	if p.Live == "" {
		return p.span(s)
	}
	invalid := func(why string) (question.Span, error) {
		return question.Span{}, &hub.Problem{Class: hub.Invalid, Detail: why}
	}
	if !p.From.IsZero() || !p.To.IsZero() {
		return invalid("live frames are of now: leave out from and to, or live")
	}
	pace, err := sheet.ParseSpan(p.Live)
	if err != nil {
		return invalid("live: " + err.Error())
	}
	length := time.Duration(0)
	if p.Span != "" {
		if length, err = sheet.ParseSpan(p.Span); err != nil {
			return invalid(err.Error())
		}
	}
	return s.hub.FrameSpan(ctx, host, pace, length)
}

// liveSpanOf is liveSpan of the host that a workload is on; 0 is of no one host.
func (p *LiveParams) liveSpanOf(ctx context.Context, s *service, workload int64) (question.Span, error) {
	if p.Live == "" || workload == 0 {
		return p.liveSpan(ctx, s, "")
	}
	host, err := s.hub.HostOfWorkload(ctx, workload)
	if err != nil {
		return question.Span{}, err
	}
	return p.liveSpan(ctx, s, host)
}

type frameInput struct {
	ContentType     string `header:"Content-Type"`
	ContentEncoding string `header:"Content-Encoding"`
	RawBody         []byte `contentType:"application/x-protobuf"`
}

// FrameReceipt says how a host is wanted to be read.
type FrameReceipt struct {
	TickMillis int64 `json:"tick_millis" doc:"How often, for those who look at it; 0 for as often as it is anyway."`
}

type frameOutput struct{ Body FrameReceipt }

func frameRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "send-frame", Method: http.MethodPost, Path: Prefix + "/frames",
		Summary: "Send a live frame of one host: what its newest tick counted",
		Description: "A batch, as intervals are sent in, with one interval and a pace; protobuf compressed by zstd. " +
			"It is held for a quarter of an hour and never stored: one that is lost is in its minute.",
		Metadata: collectors(), MaxBodyBytes: maxBatch, BodyReadTimeout: 10 * time.Second, SkipValidateBody: true,
	}, func(ctx context.Context, in *frameInput) (*frameOutput, error) {
		b, err := wire.Decode(in.RawBody, in.ContentType, in.ContentEncoding)
		if err != nil {
			return nil, asProblem(notTaken("the frame was not taken", err))
		}
		body := bytes.Clone(
			in.RawBody,
		) // which is another request's afterwards
		if in.ContentType != wire.TypeProtobuf || in.ContentEncoding != "zstd" { // it is held in one form
			if body, err = wire.Encode(b); err != nil {
				return nil, asProblem(err)
			}
		}
		host, err := s.hub.HostByID(ctx, *tokenOf(ctx).HostID)
		if err != nil {
			return nil, asProblem(err)
		}
		tick, err := s.hub.Frame(ctx, host, b, body)
		return &frameOutput{FrameReceipt{tick.Milliseconds()}}, asProblem(err)
	})
}
