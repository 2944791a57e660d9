package hub

import (
	"context"
	"strings"

	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// PartSeriesQuestion asks how a figure of hosts' parts went.
type PartSeriesQuestion struct {
	Span       question.Span
	Host, Pool string
	Figure     *leaf.PartFigure
	Part       string // only the part of this name; "" for all that are not within another
	First      int    // parts that are told: the highest; 0 for all
	Step       string // as of SeriesQuestion
}

// mostPartsNamed is how many parts are named to somebody who asked for one that is not there.
const mostPartsNamed = 12

// PartSeries answers how a figure of drives, interfaces, GPUs, CPUs or sensors went over a span.
func (h *Hub) PartSeries(ctx context.Context, q *PartSeriesQuestion) (*explain.Series, error) {
	slow := ""
	if q.Span.Frames && q.Figure.Of == leaf.SensorPart {
		q.Span.Frames, slow = false, "sensors are looked at once a minute: these are minutes of the book"
	}
	step, err := seriesStep(q.Step, q.Span)
	if err != nil {
		return nil, err
	}
	asked := &Asked{Span: q.Span, Host: q.Host, Pool: q.Pool}
	scope, err := h.filtered(ctx, asked)
	if err != nil {
		return nil, err
	}
	ask := question.Question{Scope: scope, Step: step, NoPeaks: true}
	g := &explain.PartGround{Figure: q.Figure, Step: step, Hosts: map[int32]string{}, Part: q.Part, First: q.First}
	if g.Stretches, err = h.store.Lines(ctx, ask); err != nil {
		return nil, err
	}
	if g.Sums, err = h.store.PartSums(ctx, ask, q.Figure); err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	for i := range hosts {
		g.Hosts[hosts[i].ID] = hosts[i].Name
	}
	about := asked.about()
	whole, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return nil, err
	}
	if about.Missed, err = h.missed(ctx, &scope, whole); err != nil {
		return nil, err
	}
	s, names := explain.PartSeries(about, g)
	if s.Note == "" {
		s.Note = slow
	}
	if q.Part != "" && len(s.Groups) == 0 && len(names) > 0 {
		if len(names) > mostPartsNamed {
			names = append(names[:mostPartsNamed], "others")
		}
		return nil, problem(
			NotFound,
			"%s told of no %s %q in this span: it told of %s",
			about.Host,
			q.Figure.Of,
			q.Part,
			strings.Join(names, ", "),
		)
	}
	return s, nil
}
