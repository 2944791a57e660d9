package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Answers that were worked out are remembered, with a mark of the leaves that they were worked out from: whatever
// changes a leaf, on this instance or another, changes its mark, and what is remembered no longer answers. Who asks the
// same of the same leaves while it is being worked out waits for that.
const (
	mostAnswers = 1000
	mostCells   = 1000
	mostWeight  = 64 << 20 // of all answers in bytes, by and large
)

// longestWork is how long an answer that others wait for may take to be worked out.
const longestWork = time.Minute

type memory struct {
	mu      sync.Mutex
	weight  int
	answers *lru.Cache[string, *remembered]
	cells   *lru.Cache[string, *rememberedCell]
	flights singleflight.Group
}

func newMemory() *memory {
	m := &memory{}
	var err, err2 error
	m.answers, err = lru.NewWithEvict(mostAnswers, func(_ string, r *remembered) { m.weight -= r.weight() })
	m.cells, err2 = lru.New[string, *rememberedCell](mostCells)
	if err != nil || err2 != nil {
		panic("a memory holds at least one") // the sizes are constants
	}
	return m
}

// remember keeps an answer, and lets go of those that were not asked for in the longest time.
func (m *memory) remember(key string, r *remembered) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.answers.Remove(key)
	m.weight += r.weight()
	m.answers.Add(key, r)
	for m.weight > mostWeight {
		m.answers.RemoveOldest()
	}
}

// remembered is what was worked out for a question, before names are put to it, and the highest minutes: a long
// interval that begins before a span is counted in minutes of it, and is in none of its leaves.
type remembered struct {
	mark      mark
	near      []question.Row
	total     question.Total
	grain     question.Grain
	workloads map[int32]int // how many were counted, by host
	stretches map[time.Time]map[int32]*hostStretch
}

// weight is about how many bytes are held by it.
func (r *remembered) weight() int {
	const row, lines = 400, 1500
	n := row * (1 + len(r.near))
	for _, byHost := range r.stretches {
		n += lines * len(byHost)
	}
	return n
}

// rememberedCell is the stretches of one hour or day of a timeline.
type rememberedCell struct {
	mark      mark
	stretches []question.Stretch
}

// mark tells leaves from others: how many they are, and a digest of which and of who wrote them last.
type mark struct{ count, digest int64 }

// marks are those of the leaves that answer for a reading, by the hour or day they begin in; 0 for all in one.
func (s *Store) marks(ctx context.Context, hosts []int32, r question.Reading, sections []string,
	length time.Duration) (map[time.Time]mark, error) {
	var b statement
	cell := "'1970-01-01T00:00:00Z'::timestamptz"
	switch length {
	case time.Hour:
		cell = "date_trunc('hour', start, 'UTC')"
	case question.ByDay.Length():
		cell = "date_trunc('day', start, 'UTC')"
	}
	// Every transaction that writes a row leaves its own number in xmin, also where it writes the same again.
	query := fmt.Sprintf(`SELECT %s, hours <> 0, count(*), bit_xor(hashint8extended(written, hashtextextended(section,
				hashint8extended(host_id, 3 * extract(epoch FROM start)::bigint + grain))))
		FROM (%s) AS x GROUP BY 1, 2`, cell, b.storedColumns(hosts, r, sections,
		"u.host_id, u.start, u.section, u.xmin::text::bigint AS written"))
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what answers: %w", err)
	}
	defer rows.Close()
	found := map[time.Time]mark{}
	for rows.Next() {
		var at time.Time
		var isDay bool // it holds the hours of a day, and so is in the cell of each
		var m mark
		if err := rows.Scan(&at, &isDay, &m.count, &m.digest); err != nil {
			return nil, err
		}
		cells := 1
		if isDay && length == time.Hour {
			cells = 24
		}
		for n := range cells {
			cell := at.UTC().Add(time.Duration(n) * length)
			was := found[cell]
			found[cell] = mark{was.count + m.count, was.digest ^ m.digest}
		}
	}
	return found, rows.Err()
}

// recall is workOut of a question, unless its answer is remembered or is being worked out.
func (s *Store) recall(ctx context.Context, plan *question.Plan, exists func(int32) bool, tenants map[int32]string,
	withLines bool) (*remembered, error) {
	q := &plan.Question
	if c := (count{q: q}); !c.isNamedLast() || plan.Division != question.ByWorkload || q.Scope.Only != nil ||
		q.Scope.Span.Frames {
		return s.workOut(ctx, plan, exists, tenants, withLines)
	}
	found, err := s.marks(ctx, q.Scope.Hosts, plan.Reading, []string{hostSection, leaf.SectionOf(leaf.Who)}, 0)
	if err != nil {
		return nil, err
	}
	now := found[time.Unix(0, 0).UTC()]
	after := ""
	if q.Page.After != nil {
		after = q.Page.After.String()
	}
	scope := q.Scope
	key := fmt.Sprint(scope.Span.From.UnixNano(), scope.Span.To.UnixNano(), scope.Hosts == nil, scope.Hosts,
		scope.Tenants == nil, scope.Tenants, scope.Sees == nil, scope.Sees, q.Measures, q.By, q.Step, q.State,
		q.NoPeaks, q.Least, q.Order, q.Page.First, after, slices.Sorted(maps.Keys(tenants)), withLines)
	if r, there := s.memory.answers.Get(key); there && r.mark == now {
		return r, nil
	}
	r, err, _ := s.memory.flights.Do(fmt.Sprint(key, now), func() (any, error) {
		// Whoever asked first may leave; those who wait for the answer do not.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), longestWork)
		defer cancel()
		r, err := s.workOut(ctx, plan, exists, tenants, withLines)
		if err == nil {
			r.mark = now
			s.memory.remember(key, r)
		}
		return r, err
	})
	if err != nil {
		return nil, err
	}
	return r.(*remembered), nil
}

// rows are copies of the remembered rows, for names to be put to.
func (r *remembered) rows() []question.Row {
	rows := slices.Clone(r.near)
	for i := range rows {
		rows[i].Sums = slices.Clone(rows[i].Sums)
	}
	return rows
}

// cellOf is the length of the stretches of time by which a timeline is remembered, in which its steps lie wholly; 0
// where there is none.
func cellOf(step time.Duration) time.Duration {
	for _, length := range []time.Duration{time.Hour, question.ByDay.Length()} {
		if step > 0 && length%step == 0 {
			return length
		}
	}
	return 0
}

// linesByCells is Lines where the hours or days of a timeline that ended are remembered.
func (s *Store) linesByCells(ctx context.Context, q question.Question, length time.Duration) ([]question.Stretch,
	error) {
	span := question.Span{From: q.Scope.Span.From.UTC(), To: q.Scope.Span.To.UTC()} // its moments are keys
	cells := question.Span{From: span.From.Add(length - 1).Truncate(length), To: span.To.Truncate(length)}
	if !cells.From.Before(cells.To) {
		return s.linesAnew(ctx, q)
	}
	inner := q
	inner.Scope.Span = cells
	marks, err := s.marks(ctx, q.Scope.Hosts, question.ReadingOf(cells, q.Step), []string{hostSection}, length)
	if err != nil {
		return nil, err
	}
	key := func(at time.Time) string {
		return fmt.Sprint(at.Unix(), length, q.Step, q.Measures, q.Scope.Hosts == nil, q.Scope.Hosts)
	}
	byCell, missing := map[time.Time][]question.Stretch{}, question.Span{}
	for at := cells.From; at.Before(cells.To); at = at.Add(length) {
		if c, there := s.memory.cells.Get(key(at)); there && c.mark == marks[at] {
			byCell[at] = c.stretches
			continue
		}
		if missing.From.IsZero() {
			missing.From = at
		}
		missing.To = at.Add(length)
	}
	list := []question.Stretch{}
	ask := func(part question.Span) error {
		if !part.From.Before(part.To) {
			return nil
		}
		inner.Scope.Span = part
		more, err := s.linesAnew(ctx, inner)
		list = append(list, more...)
		return err
	}
	if err := ask(missing); err != nil {
		return nil, err
	}
	anew := map[time.Time][]question.Stretch{}
	for _, x := range list {
		at := x.Start.UTC().Truncate(length)
		anew[at] = append(anew[at], x)
	}
	for at := missing.From; at.Before(missing.To); at = at.Add(length) {
		byCell[at] = anew[at]
		s.memory.cells.Add(key(at), &rememberedCell{marks[at], anew[at]})
	}
	list = list[:0]
	if err := ask(question.Span{From: span.From, To: cells.From}); err != nil {
		return nil, err
	}
	for at := cells.From; at.Before(cells.To); at = at.Add(length) {
		list = append(list, byCell[at]...)
	}
	return list, ask(question.Span{From: cells.To, To: span.To})
}
