package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/hub"
)

type seriesInput struct {
	LiveParams
	HostParam
	Of     seriesName `query:"of" default:"cpu" doc:"A measure, or a figure of hosts' parts."`
	By     string     `query:"by" doc:"Such as tenant, workload, cpu or label:KEY; all in one when left out."`
	Tenant string     `query:"tenant" doc:"Only what was this tenant's."`
	Pool   string     `query:"pool" doc:"Only hosts of this pool."`
	Where  string     `query:"where" doc:"Only workloads that this CEL expression matches." example:"kind == 'job'"`
	ID     int64      `query:"workload" doc:"Only this workload, by its number."`
	Part   string     `query:"part" doc:"Of a figure of hosts' parts: only the part of this name." example:"sda"`
	First  int        `query:"first" minimum:"0" default:"8" doc:"How many groups are told apart; all when 0."`
	Step   string     `query:"step" default:"auto" doc:"Such as 1m, 10m, 1h or 1d; auto suits the span." example:"1h"`
}

// seriesName is a parameter that names a measure of the register, or a figure of hosts' parts.
type seriesName string

// Schema lists what series can be asked of.
func (seriesName) Schema(huma.Registry) *huma.Schema {
	names := amount.Names(amount.Measures())
	for _, f := range leaf.PartFigures() {
		names = append(names, f.Name)
	}
	return nameSchema(names)
}

// partSeries asks for a figure of hosts' parts.
func (in *seriesInput) partSeries(ctx context.Context, s *service, span question.Span, f *leaf.PartFigure) (
	*explain.Series, error) {
	for _, given := range []struct {
		name string
		is   bool
	}{{"by", in.By != "" && in.By != explain.ByPart}, {"tenant", in.Tenant != ""}, {"where", in.Where != ""},
		{"workload", in.ID != 0}} {
		if given.is {
			return nil, &hub.Problem{
				Class: hub.Invalid,
				Detail: fmt.Sprintf("%s is told by each %s of a host, whoever "+
					"uses it: leave out %s, or ask for a measure of workloads", f.Name, f.Of, given.name),
			}
		}
	}
	return s.hub.PartSeries(ctx, &hub.PartSeriesQuestion{Span: span, Host: in.Host, Pool: in.Pool, Figure: f,
		Part: in.Part, First: in.First, Step: in.Step})
}

type seriesOutput struct{ Body *explain.Series }

func seriesRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-series", Method: http.MethodGet, Path: Prefix + "/series",
		Summary: "How a measure went over a span, by steps",
		Description: "Means of each step, and peaks where they are kept: a workload's highest tick is told whatever " +
			"the step. Added up, steps are what the ledger tells of the span.", Metadata: readers(),
	}, func(ctx context.Context, in *seriesInput) (*seriesOutput, error) {
		var span question.Span
		var err error
		if in.Host != "" {
			span, err = in.liveSpan(ctx, s, in.Host)
		} else {
			span, err = in.liveSpanOf(ctx, s, in.ID)
		}
		if err != nil {
			return nil, asProblem(err)
		}
		if f := leaf.PartFigureNamed(string(in.Of)); f != nil {
			series, err := in.partSeries(ctx, s, span, f)
			if err != nil {
				return nil, asProblem(err)
			}
			return &seriesOutput{series}, nil
		}
		m, err := measureName(in.Of).measure()
		if err == nil && in.Part != "" {
			err = &hub.Problem{
				Class: hub.Invalid,
				Detail: fmt.Sprintf("%s is a measure of workloads, and has no parts: "+
					"leave out part, or ask for a figure of hosts' parts such as drive_busy_percent", in.Of),
			}
		}
		if err != nil {
			return nil, asProblem(err)
		}
		series, err := s.hub.Series(ctx, &hub.SeriesQuestion{
			Asked:   hub.Asked{Span: span, Host: in.Host, Where: in.Where, Tenant: in.Tenant, Pool: in.Pool},
			Measure: m, By: in.By, Workload: in.ID, First: in.First, Step: in.Step})
		if err != nil {
			return nil, asProblem(err)
		}
		return &seriesOutput{series}, nil
	})
}
