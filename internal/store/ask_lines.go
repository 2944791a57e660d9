package store

import (
	"cmp"
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
	caveats                 map[string]int64
	grain                   question.Grain
	told                    []question.Told // until settle makes gaps of it
	gaps                    []question.Gap
}

type lineSum struct {
	units amount.Wide
	why   string // the last by the alphabet, as reasons of several hosts are told
}

// Lines adds the host-wide lines of resources over the hosts of a question's scope: over the whole span, or for each
// step of it. Stretches in which nothing was recorded are left out.
func (s *Store) Lines(ctx context.Context, q question.Question) ([]question.Stretch, error) {
	if length := cellOf(q.Step); length > 0 && !q.Scope.Span.Frames {
		return s.linesByCells(ctx, q, length)
	}
	return s.linesAnew(ctx, q)
}

// linesAnew is Lines without what is remembered.
func (s *Store) linesAnew(ctx context.Context, q question.Question) ([]question.Stretch, error) {
	some, err := s.someOf(ctx, q.Scope.Hosts)
	if err != nil {
		return nil, err
	}
	found := make([]*lining, len(some))
	group, inGroup := errgroup.WithContext(ctx)
	for i, hosts := range some {
		x := newLining(&q)
		found[i] = x
		group.Go(func() error { return s.eachLeaf(inGroup, hosts, x.reading, x.wanted(), x.add) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, more := range found[1:] {
		found[0].join(more)
	}
	found[0].settle()
	return s.inOrder(ctx, found[0].stretches, q.Measures)
}

// inOrder adds the hosts of each stretch up, and puts stretches in their order.
func (s *Store) inOrder(ctx context.Context, stretches map[time.Time]map[int32]*hostStretch,
	measures []amount.Measure) ([]question.Stretch, error) {
	names, err := s.hostNames(ctx)
	list := make([]question.Stretch, 0, len(stretches))
	for start, byHost := range stretches {
		list = append(list, stretchOf(start, byHost, names, measures))
	}
	slices.SortFunc(list, func(a, b question.Stretch) int { return a.Start.Compare(b.Start) })
	return list, err
}

// withLedger are those of some measures that have lines.
func withLedger(measures []amount.Measure) (list []amount.Measure) {
	for _, m := range measures {
		if m.HasLedger() {
			list = append(list, m)
		}
	}
	return list
}

func (s *Store) hostNames(ctx context.Context) (map[int32]string, error) {
	return noted(ctx, "names of hosts", func() (map[int32]string, error) {
		hosts, err := s.Hosts(ctx)
		names := make(map[int32]string, len(hosts))
		for _, h := range hosts {
			names[h.ID] = h.Name
		}
		return names, err
	})
}

// HostLines are host-wide lines over a whole span.
type HostLines struct {
	// Whole is of all hosts together; of no time where nothing was recorded.
	Whole question.Stretch
	// ByHost is of each by its number. Hosts of which nothing was recorded are left out.
	ByHost map[int32]question.Stretch
	// Workloads is how many were counted on each host.
	Workloads map[int32]int
}

// AskWithLines answers a question over a whole span, and tells the lines beside it, in one reading.
func (s *Store) AskWithLines(ctx context.Context, q question.Question) (*question.Answer, *HostLines, error) {
	a, r, err := s.ask(ctx, q, true)
	if err != nil {
		return nil, nil, err
	}
	names, err := s.hostNames(ctx)
	h := &HostLines{Whole: question.Stretch{Of: make([]question.Lines, len(q.Measures))},
		ByHost: map[int32]question.Stretch{}, Workloads: r.workloads}
	for start, byHost := range r.stretches {
		h.Whole = stretchOf(start, byHost, names, q.Measures)
		for host, x := range byHost {
			h.ByHost[host] = stretchOf(start, map[int32]*hostStretch{host: x}, names, q.Measures)
		}
	}
	return a, h, err
}

// lining adds up what hosts tell of stretches.
type lining struct {
	q         *question.Question
	reading   question.Reading
	stretches map[time.Time]map[int32]*hostStretch
}

// newLining is of those of a question's measures that have lines.
func newLining(q *question.Question) *lining {
	lined := *q
	lined.Measures = withLedger(q.Measures)
	return &lining{&lined, question.ReadingOf(q.Scope.Span, q.Step), map[time.Time]map[int32]*hostStretch{}}
}

// wanted says which columns answer.
func (x *lining) wanted() wanted {
	want := wanted{leaf.Intervals: {"start", "end", "elapsed", "cpus"}, leaf.Caveats: nil}
	for _, m := range x.q.Measures {
		for _, l := range leaf.Lines {
			want[leaf.Intervals] = append(want[leaf.Intervals], leaf.LineColumn(m, l), leaf.WhyColumn(m, l))
		}
	}
	return want
}

// join adds what was found on other hosts.
func (x *lining) join(other *lining) {
	for start, byHost := range other.stretches {
		if x.stretches[start] == nil {
			x.stretches[start] = byHost
		} else {
			maps.Copy(x.stretches[start], byHost)
		}
	}
}

// settle finds what each host did not tell between its first interval and its last. Of steps nothing is found.
func (x *lining) settle() {
	for _, h := range x.stretches[time.Time{}] {
		h.gaps = question.Gaps(h.told, time.UnixMicro(h.from).UTC(), time.UnixMicro(h.to).UTC())
		h.told = nil
	}
}

// add adds what a leaf has.
func (x *lining) add(p *piece) error {
	p.Fill()
	lines := linesIn(p.Leaf, x.q.Measures)
	var h *hostStretch
	var last time.Time
	of := make([]*hostStretch, p.Intervals())
	for at, within := range p.Within(x.q.Scope.Span) {
		if !within {
			continue
		}
		start := x.q.Stretch(p.Leaf.Start(int64(at)))
		if h == nil || start != last {
			if x.stretches[start] == nil {
				x.stretches[start] = map[int32]*hostStretch{}
			}
			h, last = x.stretches[start][p.Host], start
		}
		if h == nil {
			h = &hostStretch{of: make([][]lineSum, len(x.q.Measures))}
			for i := range h.of {
				h.of[i] = make([]lineSum, len(leaf.Lines))
			}
			x.stretches[start][p.Host] = h
		}
		h.add(p.Leaf, at, lines, x.q.Step == 0)
		of[at] = h
		if !x.reading.IsWithin(p.Grain, p.Leaf.Start(int64(at))) {
			h.grain = max(h.grain, p.Grain)
		}
	}
	if t := p.Tables[leaf.Caveats]; t != nil {
		ats, amounts := t.Of(leaf.At), t.Of("amount")
		for row, what := range t.Of("what") {
			if h := of[ats[row]]; h != nil {
				if h.caveats == nil {
					h.caveats = map[string]int64{}
				}
				h.caveats[p.Words[what]] += amounts[row]
			}
		}
	}
	return nil
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

// add adds an interval of a leaf: of a step, or of the whole span.
func (x *hostStretch) add(l *leaf.Leaf, at int, lines [][]lineIn, isWhole bool) {
	t := l.Tables[leaf.Intervals]
	from, to := t.Of("start")[at], t.Of("end")[at]
	if x.from == 0 || from < x.from {
		x.from = from
	}
	x.to, x.cpus = max(x.to, to), max(x.cpus, t.Of("cpus")[at])
	elapsed := t.Of("elapsed")[at]
	x.elapsed += elapsed
	if isWhole {
		x.told = append(x.told, question.Told{Start: time.UnixMicro(from).UTC(), End: time.UnixMicro(to).UTC(),
			Elapsed: time.Duration(elapsed) * time.Millisecond})
	}
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
func stretchOf(start time.Time, byHost map[int32]*hostStretch, names map[int32]string,
	measures []amount.Measure) question.Stretch {
	x := question.Stretch{Start: start, Of: make([]question.Lines, len(measures)), Hosts: len(byHost)}
	sums := make([][]amount.Wide, len(measures))
	someHave := make([]bool, len(measures)) // of what not every host has
	for i, m := range measures {
		for _, h := range byHost {
			someHave[i] = someHave[i] || m.Entry().IsOptional && h.of[i][leaf.UsedLine].why == ""
		}
	}
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
		if start.IsZero() {
			x.Told = append(x.Told, question.HostTold{Host: id, From: from, To: to, Gaps: h.gaps})
		}
		for what, n := range h.caveats {
			if x.Caveats == nil {
				x.Caveats = map[string]question.Caveat{}
			}
			c := x.Caveats[what]
			c.Amount, c.Hosts = c.Amount+n, append(c.Hosts, names[id])
			x.Caveats[what] = c
		}
		x.ElapsedMillis, x.CPUs = max(x.ElapsedMillis, h.elapsed), x.CPUs+int(h.cpus)
		for i := range x.Of {
			if someHave[i] && h.of[i][leaf.UsedLine].why != "" {
				x.Of[i].Without = append(x.Of[i].Without, names[id])
				continue
			}
			for k, line := range x.Of[i].Each() {
				sums[i][k].Plus(h.of[i][k].units)
				if why := h.of[i][k].why; why != "" {
					line.Line.Reason = max(line.Line.Reason, why+" ("+names[id]+")")
				}
			}
		}
	}
	for i := range x.Of {
		slices.Sort(x.Of[i].Without)
	}
	slices.SortFunc(x.Told, func(a, b question.HostTold) int { return cmp.Compare(a.Host, b.Host) })
	for i := range x.Of {
		for k, line := range x.Of[i].Each() {
			if line.Line.OK() {
				line.Line.Units, line.Line.Exact = sums[i][k].Float(), sums[i][k]
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
	if len(scope.Hosts) != 1 || scope.Span.Frames {
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
