package hub

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/whatif"
	"vinescale/internal/store"
)

// growing are the resources whose growth is told: those that a host has so much of.
var growing = []amount.Resource{amount.CPU, amount.Memory, amount.GPU, amount.GPUMemory}

// mostGrowing is how many hosts' growth is told one by one.
const mostGrowing = 64

// Filling tells when what hosts use fills them, by the whole days of a span: of each host of a pool or of all (""), and
// of all of them together. What is full soonest comes first.
func (h *Hub) Filling(ctx context.Context, span question.Span, pool string, spare float64) ([]whatif.Fill, error) {
	if err := soundSpare(spare); err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, "")
	if err == nil && pool != "" {
		err = h.within(ctx, &scope, pool)
	}
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return !scope.HasHost(x.ID) || x.LastAt == nil })
	on := "all hosts"
	if pool != "" {
		on = "pool " + pool
	}
	list := []whatif.Fill{}
	add := func(on string, hosts []int32) error {
		at := scope
		at.Hosts = hosts
		grown, err := h.grown(ctx, on, at, spare)
		list = append(list, grown...)
		return err
	}
	if len(hosts) != 1 {
		if err := add(on, scope.Hosts); err != nil {
			return nil, err
		}
	}
	if len(hosts) <= mostGrowing {
		for i := range hosts {
			if err := add(hosts[i].Name, []int32{hosts[i].ID}); err != nil {
				return nil, err
			}
		}
	}
	slices.SortStableFunc(list, func(a, b whatif.Fill) int {
		return cmp.Or(soonest(&a).Compare(soonest(&b)), -cmp.Compare(fullness(&a), fullness(&b)))
	})
	return list, nil
}

// soonest is when something is full, for an order.
func soonest(g *whatif.Fill) time.Time {
	switch {
	case g.IsFull:
		return time.Time{}
	case g.Fills != nil:
		return *g.Fills
	case g.Early != nil:
		return g.Early.AddDate(100, 0, 0)
	}
	return time.Unix(1<<40, 0)
}

func fullness(g *whatif.Fill) float64 {
	if g.Now == nil || g.Full <= 0 {
		return 0
	}
	return *g.Now / g.Full
}

// grown tells the growth of every resource that hosts have together.
func (h *Hub) grown(ctx context.Context, on string, scope question.Scope, spare float64) (list []whatif.Fill,
	err error) {
	hours, err := h.store.Lines(ctx, question.Question{Scope: scope, Measures: growing, Step: time.Hour})
	if err != nil {
		return nil, err
	}
	for i, r := range growing {
		days := map[time.Time]*growingDay{}
		for k := range hours {
			x := &hours[k]
			if !x.Of[i].Used.OK() || !x.Of[i].Capacity.OK() || x.ElapsedMillis == 0 {
				continue
			}
			start := question.ByDay.Floor(x.Start)
			if days[start] == nil {
				days[start] = &growingDay{start: start}
			}
			d := days[start]
			d.told++
			d.hosts = max(d.hosts, x.Hosts)
			d.capacity = max(d.capacity, r.Mean(x.Of[i].Capacity.Units, x.ElapsedMillis))
			d.most = max(d.most, r.Mean(x.Of[i].Used.Units, x.ElapsedMillis))
		}
		whole := slices.SortedFunc(maps.Values(days), func(a, b *growingDay) int { return a.start.Compare(b.start) })
		whole = slices.DeleteFunc(whole, func(d *growingDay) bool { return d.told < wholeDay })
		if len(whole) == 0 || whole[len(whole)-1].capacity <= 0 {
			continue
		}
		last := whole[len(whole)-1]
		var known []whatif.Day
		for _, d := range whole {
			if d.hosts == last.hosts { // else what grew is the number of hosts
				known = append(known, whatif.Day{Start: d.start, Most: d.most})
			}
		}
		list = append(list, *whatif.Grow(on, r, last.capacity, spare, known))
	}
	return list, nil
}

// growingDay is what hosts had of a resource on a day.
type growingDay struct {
	start          time.Time
	most, capacity float64
	told, hosts    int // hours, and the most hosts of one of them
}

// wholeDay is of how many hours of a day something has to be known for the day to count.
const wholeDay = 20
