package hub

import (
	"context"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// Timeline is how busy a host or the fleet was.
type Timeline struct {
	From           time.Time       `json:"from"`
	To             time.Time       `json:"to"`
	Resource       string          `json:"resource"`
	StretchSeconds float64         `json:"stretch_seconds"`
	Points         []TimelinePoint `json:"points" doc:"Stretches without records are left out: unknown, not zero."`

	explain.Missed
}

// TimelinePoint is one stretch of a timeline.
type TimelinePoint struct {
	Start time.Time `json:"start"`
	Busy  *float64  `json:"busy_share" doc:"Used of capacity, 0 to 1; null where not known for all hosts."`
	Hosts int       `json:"hosts" doc:"Hosts with records in the stretch."`
}

// steps are the lengths of stretches that people read easily. Whole hours and days are answered from their sums.
var steps = []time.Duration{time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute,
	20 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour, 4 * time.Hour, 6 * time.Hour,
	12 * time.Hour, 24 * time.Hour, 48 * time.Hour}

// stepFor is the shortest step that divides a span into about 200 stretches at most.
func stepFor(span question.Span) time.Duration { return shortest(steps, span) }

// shortest is the first of some steps that divides a span into about 200 stretches at most.
func shortest(steps []time.Duration, span question.Span) time.Duration {
	for _, step := range steps {
		if span.Length() <= 200*step {
			return step
		}
	}
	return steps[len(steps)-1]
}

// Timeline answers how busy a host, or all, was over a span, in at most about 200 stretches of one length.
func (h *Hub) Timeline(ctx context.Context, span question.Span, hostName string, r amount.Resource) (*Timeline, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	step := stepFor(span)
	stretches, err := h.store.Lines(ctx, question.Question{Scope: scope, Measures: []amount.Measure{r}, Step: step})
	if err != nil {
		return nil, err
	}
	t := &Timeline{From: span.From, To: span.To, Resource: r.String(), StretchSeconds: step.Seconds(),
		Points: []TimelinePoint{}}
	for _, s := range stretches {
		x := TimelinePoint{Start: s.Start, Hosts: s.Hosts}
		if l := &s.Of[0]; l.Capacity.OK() && l.Used.OK() && l.Capacity.Units > 0 {
			busy := l.Used.Units / l.Capacity.Units
			x.Busy = &busy
		}
		t.Points = append(t.Points, x)
	}
	t.Missed, err = h.Missed(ctx, span, hostName)
	return t, err
}
