package store

import (
	"context"
	"time"

	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"

	"golang.org/x/sync/errgroup"
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
	reading := question.ReadingOf(q.Scope.Span, q.Step)
	want := wanted(f.Columns())
	want[leaf.Intervals] = []string{"start", "elapsed"}
	some, err := s.someOf(ctx, q.Scope.Hosts)
	if err != nil {
		return nil, err
	}
	found := make([]*explain.PartSums, len(some))
	group, inGroup := errgroup.WithContext(ctx)
	for i, hosts := range some {
		found[i] = explain.NewPartSums()
		group.Go(func() error {
			return s.eachLeaf(inGroup, hosts, reading, want, func(p *piece) error {
				p.Fill()
				found[i].Add(&leaf.View{Leaf: p.Leaf, Within: p.Within(q.Scope.Span)}, &q, f)
				return nil
			})
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, more := range found[1:] {
		found[0].Join(more)
	}
	return found[0], nil
}
