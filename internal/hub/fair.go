package hub

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/store"
)

const (
	// mostBusy is how many of the busiest stretches of a host are looked into, of ten minutes or of hours.
	mostBusy      = 4
	mostBusyHours = 2
	// mostContests is in how many stretches it is looked in all who had how much.
	mostContests = 48
)

// shortages tells of CPUs that were short who had more of their time than by weight: in the busiest stretches of hosts.
func (h *Hub) shortages(ctx context.Context, scope *question.Scope) ([]explain.Shortage, error) {
	if scope.Sees != nil { // a division among some only would say nothing
		return []explain.Shortage{}, nil
	}
	most := mostBusy
	if scope.Span.To.Sub(scope.Span.From) > 24*time.Hour {
		most = mostBusyHours
	}
	times, err := h.store.BusiestTimes(ctx, scope.Hosts, scope.Span, most)
	if err != nil {
		return nil, err
	}
	times = times[:min(len(times), mostContests)]
	all, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	hosts := map[int32]*store.Host{}
	for i := range all {
		hosts[all[i].ID] = &all[i]
	}
	answers := make([]*question.Answer, len(times))
	group, inGroup := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for i, t := range times {
		group.Go(func() (err error) {
			answers[i], err = h.store.Ask(inGroup, question.Question{
				Scope:    question.Scope{Span: question.Span{From: t.From, To: t.To}, Hosts: []int32{t.Host}},
				Measures: []amount.Measure{amount.CPU, amount.CPUWait},
				By:       []question.Dimension{question.Workload, question.Tenant}, NoPeaks: true})
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	rows := make([][]question.Row, len(answers))
	for i, a := range answers {
		rows[i] = a.Rows
	}
	stored, names, err := h.thoseIn(ctx, rows...)
	if err != nil {
		return nil, err
	}
	contests := make([]explain.Contest, len(times))
	for i, t := range times {
		c := &contests[i]
		c.Host, c.HostCPUs, c.From, c.To = hosts[t.Host].Name, hosts[t.Host].CPUs, t.From, t.To
		for k := range answers[i].Rows {
			r := &answers[i].Rows[k]
			if x := contenderOf(r, stored[r.Workload], hosts[t.Host]); x != nil {
				c.Contenders = append(c.Contenders, *x)
			}
		}
	}
	return explain.AddShortages(contests, names), nil
}
