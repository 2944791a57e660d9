package store

import (
	"context"
	"time"

	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// CPUTimes adds up how the time of each CPU of one host grew, for each step of a question.
func (s *Store) CPUTimes(
	ctx context.Context,
	q question.Question,
) (map[explain.PlacedAt]explain.PlacedTime, error) {
	times := map[explain.PlacedAt]explain.PlacedTime{}
	reading := question.ReadingOf(q.Scope.Span, q.Step)
	err := s.eachLeaf(ctx, q.Scope.Hosts, reading, wanted{leaf.States: nil}, func(p *piece) error {
		p.Fill()
		within := p.Within(q.Scope.Span)
		steps := make([]time.Time, len(within))
		for at := range steps {
			steps[at] = q.Stretch(p.Leaf.Start(int64(at)))
		}
		t := p.Tables[leaf.States]
		ats := t.Of(leaf.At)
		of := map[string][]int64{}
		for _, state := range leaf.CPUStates {
			of[state] = t.Of(state)
		}
		for row, cpu := range t.Of("cpu") {
			if !within[ats[row]] {
				continue
			}
			at := explain.PlacedAt{Start: steps[ats[row]], CPU: int(cpu)}
			sum := times[at]
			sum.User += of["user"][row] + of["nice"][row]
			sum.System += of["system"][row] + of["irq"][row] + of["softirq"][row]
			sum.Idle += of["idle"][row] + of["iowait"][row]
			sum.Steal += of["steal"][row]
			times[at] = sum
		}
		return nil
	})
	return times, err
}

// PartSums tells what the parts of hosts added to a figure by step, and for how long each host told of each step.
func (s *Store) PartSums(ctx context.Context, q question.Question, f *leaf.PartFigure) (*explain.PartSums, error) {
	sums := explain.NewPartSums()
	reading := question.ReadingOf(q.Scope.Span, q.Step)
	want := wanted(f.Columns())
	want[leaf.Intervals] = []string{"start", "elapsed"}
	err := s.eachLeaf(ctx, q.Scope.Hosts, reading, want, func(p *piece) error {
		p.Fill()
		sums.Add(&leaf.View{Leaf: p.Leaf, Within: p.Within(q.Scope.Span)}, &q, f)
		return nil
	})
	return sums, err
}
