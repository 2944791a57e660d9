package store

import (
	"context"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

// hostStretch is what one host tells of one stretch.
type hostStretch struct {
	elapsed, cpus, from, to int64
	of                      [][]lineSum // by measure and line
	grain                   question.Grain
}

type lineSum struct {
	units amount.Wide
	why   string // the last by the alphabet, as reasons of several hosts are told
}

// Lines adds the host-wide lines of resources over the hosts of a question's scope: over the whole span, or for each
// step of it. Stretches in which nothing was recorded are left out.
func (s *Store) Lines(ctx context.Context, q question.Question) ([]question.Stretch, error) {
	stretches, names, err := s.lines(ctx, q)
	list := []question.Stretch{}
	for start, byHost := range stretches {
		list = append(list, stretchOf(start, byHost, names, len(q.Measures)))
	}
	slices.SortFunc(list, func(a, b question.Stretch) int { return a.Start.Compare(b.Start) })
	return list, err
}

// LinesByHost adds the host-wide lines of resources of each host of a question's scope over the whole span, by the
// host's number. Hosts of which nothing was recorded are left out.
func (s *Store) LinesByHost(ctx context.Context, q question.Question) (map[int32]question.Stretch, error) {
	q.Step = 0
	stretches, names, err := s.lines(ctx, q)
	list := map[int32]question.Stretch{}
	for start, byHost := range stretches {
		for host, x := range byHost {
			list[host] = stretchOf(start, map[int32]*hostStretch{host: x}, names, len(q.Measures))
		}
	}
	return list, err
}

// lines adds up what each host tells of each stretch, with the names of hosts.
func (s *Store) lines(ctx context.Context, q question.Question) (map[time.Time]map[int32]*hostStretch,
	map[int32]string, error) {
	want := wanted{leaf.Intervals: {"start", "end", "elapsed", "cpus"}}
	for _, m := range q.Measures {
		for _, l := range leaf.Lines {
			want[leaf.Intervals] = append(want[leaf.Intervals], leaf.LineColumn(m, l), leaf.WhyColumn(m, l))
		}
	}
	some, err := s.someOf(ctx, q.Scope.Hosts)
	if err != nil {
		return nil, nil, err
	}
	found := make([]map[time.Time]map[int32]*hostStretch, len(some))
	group, inGroup := errgroup.WithContext(ctx)
	for i, hosts := range some {
		group.Go(func() (err error) {
			found[i], err = s.linesOf(inGroup, hosts, &q, want)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	stretches := found[0]
	for _, more := range found[1:] {
		for start, byHost := range more {
			if stretches[start] == nil {
				stretches[start] = byHost
			} else {
				maps.Copy(stretches[start], byHost)
			}
		}
	}
	hosts, err := s.Hosts(ctx)
	names := map[int32]string{}
	for _, h := range hosts {
		names[h.ID] = h.Name
	}
	return stretches, names, err
}

// linesOf is lines of some hosts of a question's scope.
func (s *Store) linesOf(ctx context.Context, hosts []int32, q *question.Question,
	want wanted) (map[time.Time]map[int32]*hostStretch, error) {
	stretches := map[time.Time]map[int32]*hostStretch{}
	r := question.ReadingOf(q.Scope.Span, q.Step)
	err := s.eachLeaf(ctx, hosts, r, want, func(p *piece) error {
		p.Fill()
		lines := linesIn(p.Leaf, q.Measures)
		var x *hostStretch
		var last time.Time
		for at, within := range p.Within(q.Scope.Span) {
			if !within {
				continue
			}
			start := q.Stretch(p.Leaf.Start(int64(at)))
			if x == nil || start != last {
				if stretches[start] == nil {
					stretches[start] = map[int32]*hostStretch{}
				}
				x, last = stretches[start][p.Host], start
			}
			if x == nil {
				x = &hostStretch{of: make([][]lineSum, len(q.Measures))}
				for i := range x.of {
					x.of[i] = make([]lineSum, len(leaf.Lines))
				}
				stretches[start][p.Host] = x
			}
			x.add(p.Leaf, at, lines)
			if !r.IsWithin(p.Grain, p.Start) {
				x.grain = max(x.grain, p.Grain)
			}
		}
		return nil
	})
	return stretches, err
}

// lineIn is where a leaf holds a line of a resource.
type lineIn struct {
	units int     // the column's place
	whys  []int64 // numbers of words
}

// linesIn finds the lines of resources in a leaf, by measure and line.
func linesIn(l *leaf.Leaf, measures []amount.Measure) [][]lineIn {
	t := l.Tables[leaf.Intervals]
	lines := make([][]lineIn, len(measures))
	for i, m := range measures {
		for _, line := range leaf.Lines {
			lines[i] = append(lines[i],
				lineIn{t.Schema.Index(leaf.LineColumn(m, line)), t.Of(leaf.WhyColumn(m, line))})
		}
	}
	return lines
}

func (x *hostStretch) add(l *leaf.Leaf, at int, lines [][]lineIn) {
	t := l.Tables[leaf.Intervals]
	from, to := t.Of("start")[at], t.Of("end")[at]
	if x.from == 0 || from < x.from {
		x.from = from
	}
	x.to, x.cpus = max(x.to, to), max(x.cpus, t.Of("cpus")[at])
	x.elapsed += t.Of("elapsed")[at]
	for i := range lines {
		for k, line := range lines[i] {
			s := &x.of[i][k]
			s.units.Plus(t.Wide(line.units, at))
			if why := line.whys[at]; why != 0 {
				s.why = max(s.why, l.Words[why])
			}
		}
	}
}

// stretchOf adds up what several hosts tell. A line that one of them lacks is unavailable for all, with the reason.
func stretchOf(start time.Time, byHost map[int32]*hostStretch, names map[int32]string, measures int) question.Stretch {
	x := question.Stretch{Start: start, Of: make([]question.Lines, measures), Hosts: len(byHost)}
	sums := make([][]amount.Wide, measures)
	for i := range sums {
		sums[i] = make([]amount.Wide, len(leaf.Lines))
	}
	for id, h := range byHost {
		from, to := time.UnixMicro(h.from).UTC(), time.UnixMicro(h.to).UTC()
		if x.From.IsZero() || from.Before(x.From) {
			x.From = from
		}
		if to.After(x.To) {
			x.To = to
		}
		x.Grain = max(x.Grain, h.grain)
		x.ElapsedMillis, x.CPUs = max(x.ElapsedMillis, h.elapsed), x.CPUs+int(h.cpus)
		for i := range x.Of {
			for k, line := range x.Of[i].Each() {
				sums[i][k].Plus(h.of[i][k].units)
				if why := h.of[i][k].why; why != "" {
					line.Line.Reason = max(line.Line.Reason, why+" ("+names[id]+")")
				}
			}
		}
	}
	for i := range x.Of {
		for k, line := range x.Of[i].Each() {
			if line.Line.OK() {
				line.Line.Units = sums[i][k].Float()
			}
		}
	}
	return x
}

// NewestDetail is what a host's newest interval says beside the ledger, and when that ended.
type NewestDetail struct {
	To     time.Time
	Detail *wire.Detail
}

// NewestDetails finds the newest interval of each host of a scope, by the host's name. Hosts that have sent none in its
// span are not in it.
func (s *Store) NewestDetails(ctx context.Context, scope *question.Scope) (map[string]NewestDetail, error) {
	r := question.Reading{Span: scope.Span} // by interval
	if err := s.sinceNewest(ctx, scope, &r); err != nil {
		return nil, err
	}
	newest := map[int32]NewestDetail{}
	at := map[int32]time.Time{}
	err := s.eachLeaf(ctx, scope.Hosts, r, wanted{leaf.Intervals: nil, leaf.States: nil, leaf.Pressure: nil},
		func(p *piece) error {
			p.Fill()
			for k, within := range p.Within(scope.Span) {
				if start := p.Leaf.Start(int64(k)); within && !start.Before(at[p.Host]) {
					at[p.Host] = start
					newest[p.Host] = NewestDetail{
						time.UnixMicro(p.Tables[leaf.Intervals].Of("end")[k]).UTC(), wire.DetailOf(p.Leaf, int64(k))}
				}
			}
			return nil
		})
	if err != nil {
		return nil, err
	}
	hosts, err := s.Hosts(ctx)
	byName := make(map[string]NewestDetail, len(newest))
	for _, h := range hosts {
		if d, there := newest[h.ID]; there {
			byName[h.Name] = d
		}
	}
	return byName, err
}

// sinceNewest narrows a reading to the hour of the newest interval that any of its hosts told, where it is about one
// host: its newest interval is then in it.
func (s *Store) sinceNewest(ctx context.Context, scope *question.Scope, r *question.Reading) error {
	if len(scope.Hosts) != 1 {
		return nil
	}
	var from *time.Time
	err := s.db.WithContext(ctx).Raw(`SELECT greatest(
			(SELECT max(start) FROM loose_leaves WHERE host_id = $1 AND start >= $2 AND start < $3),
			(SELECT max(start) FROM quires WHERE host_id = $1 AND start >= $2 AND start < $3))`, scope.Hosts[0],
		question.ByHour.Floor(scope.Span.From), scope.Span.To).Row().Scan(&from)
	if err == nil && from != nil && question.ByHour.Floor(*from).After(scope.Span.From) {
		r.Span.From = question.ByHour.Floor(*from)
	}
	return err
}
