package hub

import (
	"context"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// Placement answers who ran on which CPU of a host, and when: by tenant or by workload, in steps as of a series.
func (h *Hub) Placement(ctx context.Context, hostName string, span question.Span, by, stepText string) (
	*explain.Placement, error) {
	dimension := question.Dimension(by)
	if dimension != question.Tenant && dimension != question.Workload {
		return nil, problem(Invalid, "placement by %q: choose tenant or workload", by)
	}
	step, err := seriesStep(stepText, span)
	if err != nil {
		return nil, err
	}
	host, err := h.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Step: step, NoPeaks: true}
	stretches, err := h.store.Lines(ctx, ask)
	if err != nil {
		return nil, err
	}
	about := over(span, hostName)
	whole, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return nil, err
	}
	if about.Missed, err = h.missed(ctx, &scope, whole, amount.CPU); err != nil {
		return nil, err
	}
	series := explain.NewSeries(about, &explain.SeriesGround{Measure: amount.CPU, Step: step, Stretches: stretches,
		PeakOf: explain.PeakOfNone}, by)
	g := &explain.PlacementGround{}
	if g.Times, err = h.store.CPUTimes(ctx, ask); err != nil {
		return nil, err
	}
	ask.Measures = []amount.Measure{amount.CPU}
	ask.By = []question.Dimension{question.CPU, dimension}
	if dimension == question.Workload {
		ask.By = append(ask.By, question.Tenant)
	}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, err
	}
	g.Ran = runsOf(answer.Rows, dimension)
	p := explain.NewPlacement(series, g)
	p.Pins, err = h.placedPins(ctx, host.ID, span)
	return p, err
}

// runsOf are the rows of an answer by CPU, each of those who ran once a CPU and step.
func runsOf(rows []question.Row, by question.Dimension) []explain.PlacedRun {
	type key struct {
		explain.PlacedAt
		of int64
	}
	at := map[key]int{}
	var runs []explain.PlacedRun
	for i := range rows {
		r := &rows[i]
		if !r.Sums[0].Known() {
			continue
		}
		x := explain.PlacedRun{PlacedAt: explain.PlacedAt{Start: r.Start, CPU: int(r.CPU)}, Key: r.Workload,
			Micros: r.Sums[0].Units}
		x.Who = explain.PlacedWho{ID: r.Workload, Name: r.Name, Tenant: r.Names.Tenant}
		if by == question.Tenant {
			x.Key, x.Who.Name = int64(r.Tenant), r.Names.Tenant
		}
		if r.Tenant == 0 {
			if x.Who.Tenant = Unassigned; by == question.Tenant {
				x.Who.Name = Unassigned
			}
		}
		k := key{x.PlacedAt, x.Key}
		if was, there := at[k]; there { // it was of several tenants in this step
			runs[was].Micros += x.Micros
			continue
		}
		at[k] = len(runs)
		runs = append(runs, x)
	}
	return runs
}

// placedPins are the declarations of a host's CPUs that were in force in a span, in their order.
func (h *Hub) placedPins(ctx context.Context, hostID int32, span question.Span) ([]explain.PlacedPin, error) {
	pins, err := h.store.Pins(ctx)
	list := []explain.PlacedPin{}
	for i := range pins {
		p := &pins[i]
		if p.HostID == hostID && !inForce(p, span).IsEmpty() {
			list = append(list, explain.PlacedPin{CPUs: p.CPUs, Holder: declared(p).Holder, Exclusive: p.Exclusive,
				From: p.From.UTC(), Until: p.Until})
		}
	}
	return list, err
}
