package hub

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// hurt tells of quotas that were exceeded who waited meanwhile.
func (w *standWork) hurt(ctx context.Context, sets []*quotaSet, stands []explain.Stand) error {
	all, err := w.store.Hosts(ctx)
	if err != nil {
		return err
	}
	hosts := map[int32]string{}
	for _, x := range all {
		hosts[x.ID] = x.Name
	}
	found, err := w.lookInto(ctx, stands)
	if err != nil {
		return err
	}
	for i := range stands {
		s := &stands[i]
		if s.Exceeded == nil || len(explain.WaitFor(s.Resource)) == 0 {
			continue
		}
		var looked []explain.Looked
		var users []explain.User
		for _, stretch := range w.lookedAt(s) {
			rows := found[looking{s.Resource, stretch.From, stretch.To}]
			for k := range rows {
				users = append(users, rows[k].User)
			}
			looked = append(looked, explain.Looked{Stretched: stretch, Rows: rows})
		}
		names, err := w.namesOf(ctx, users)
		if err != nil {
			return err
		}
		s.JudgeHurt(&sets[i].Quota, looked, hosts, names)
	}
	return nil
}

// looking is a stretch of time in which it is looked who waited for a resource.
type looking struct {
	resource string
	from, to time.Time
}

// lookedAt are the stretches in which it is looked who waited: the longest that are told, or of more than a day, in
// which there may be many, the longest alone.
func (w *standWork) lookedAt(s *explain.Stand) []explain.Stretched {
	long := func(x explain.Stretched) time.Duration { return x.To.Sub(x.From) }
	all := s.Exceeded.Longest
	if w.scope.Span.To.Sub(w.scope.Span.From) <= 24*time.Hour || len(all) == 0 {
		return all
	}
	return []explain.Stretched{
		slices.MaxFunc(all, func(a, b explain.Stretched) int { return cmp.Compare(long(a), long(b)) }),
	}
}

// lookInto asks what was used and waited for in the stretches in which quotas were exceeded, some beside each other.
func (w *standWork) lookInto(ctx context.Context, stands []explain.Stand) (map[looking][]explain.Waiting, error) {
	found := map[looking][]explain.Waiting{}
	for i := range stands {
		if s := &stands[i]; s.Exceeded != nil && len(explain.WaitFor(s.Resource)) > 0 {
			for _, stretch := range w.lookedAt(s) {
				found[looking{s.Resource, stretch.From, stretch.To}] = nil
			}
		}
	}
	var mu sync.Mutex
	group, inGroup := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for _, x := range slices.Collect(maps.Keys(found)) {
		group.Go(func() error {
			rows, err := w.waiting(inGroup, x.resource, question.Span{From: x.from, To: x.to})
			mu.Lock()
			defer mu.Unlock()
			found[x] = rows
			return err
		})
	}
	return found, group.Wait()
}

// waiting is what workloads used of a resource in a span, and for how long they waited for it.
func (w *standWork) waiting(ctx context.Context, resource string, span question.Span) ([]explain.Waiting, error) {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return nil, err
	}
	waits := explain.WaitFor(resource)
	scope := w.scope
	scope.Span = span
	answer, err := w.store.Ask(ctx, question.Question{Scope: scope, Measures: append([]amount.Measure{r}, waits...),
		By: []question.Dimension{question.Workload, question.Tenant}, NoPeaks: true})
	if err != nil {
		return nil, err
	}
	rows := make([]explain.Waiting, len(answer.Rows))
	for i, x := range answer.Rows {
		rows[i] = explain.Waiting{Host: x.Host, Used: x.Sums[0].Units,
			User: explain.User{Workload: x.Workload, Tenant: x.Tenant}}
		for k := range waits {
			if sum := &x.Sums[1+k]; sum.Known() {
				rows[i].Waited, rows[i].IsStall = sum.Units, k == len(waits)-1
				break
			}
		}
	}
	return rows, nil
}
