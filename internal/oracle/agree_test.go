package oracle_test

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/oracle"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

var (
	ctx    = context.Background()
	monday = time.Date(2026, 10, 5, 0, 0, 0, 0, time.UTC)
)

// week fills a store with a staged week of twelve hosts, once for all tests.
func week(t *testing.T) (*store.Store, *oracle.Book) {
	filled.Do(func() { filled.store, filled.book = fill(t) })
	require.NotNil(t, filled.book)
	return filled.store, filled.book
}

var filled struct {
	sync.Once
	store *store.Store
	book  *oracle.Book
}

func fill(t *testing.T) (*store.Store, *oracle.Book) {
	rng := rand.New(rand.NewPCG(20261005, 1))
	sent, err := oracle.Week(rng, monday, t.TempDir())
	require.NoError(t, err)
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	book, err := oracle.Fill(ctx, rng, s, sent, monday.Add(80*time.Hour+30*time.Minute))
	require.NoError(t, err)
	return s, book
}

// drawScope draws whose figures, of when and where. Edges of its span often lie on the begin of an interval, or next to
// it.
func drawScope(t *rapid.T, b *oracle.Book) question.Scope {
	edge := func(what string) time.Time {
		at := b.Minutes[rapid.IntRange(0, len(b.Minutes)-1).Draw(t, what)].Start
		switch rapid.IntRange(0, 4).Draw(t, what+" beside") {
		case 0:
			return at
		case 1:
			return at.Add(time.Microsecond)
		case 2:
			return at.Truncate(time.Minute).Add(time.Minute)
		}
		return at.Truncate(time.Minute)
	}
	s := question.Scope{Span: question.Span{From: edge("from"), To: edge("to")}}
	if s.Span.To.Before(s.Span.From) {
		s.Span.From, s.Span.To = s.Span.To, s.Span.From
	}
	hosts, tenants, workloads := keys(b.Hosts), append(keys(b.Tenants), 0), keys(b.Workloads)
	s.Hosts = some(t, "hosts", hosts)
	s.Tenants = some(t, "tenants", tenants)
	s.Sees = some(t, "sees", tenants)
	s.Only = some(t, "only", workloads)
	return s
}

func keys[K cmp.Ordered, V any](m map[K]V) []K {
	list := []K{}
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// some draws a part of a list: mostly all of it, sometimes none.
func some[T any](t *rapid.T, what string, all []T) []T {
	switch rapid.IntRange(0, 9).Draw(t, what) {
	case 0:
		return []T{}
	case 1:
		return []T{rapid.SampledFrom(all).Draw(t, what+" one")}
	case 2, 3:
		return all[rapid.IntRange(0, len(all)-1).Draw(t, what+" from"):]
	}
	return nil
}

var groupings = [][]question.Dimension{
	{}, {question.Tenant}, {question.User}, {question.Kind}, {question.Host}, {question.Workload},
	{question.Workload, question.Tenant}, {question.Program}, {question.Family}, {question.Family, question.Program},
	{question.CPU, question.Workload, question.Tenant}, {question.Part}, {"account"}, {"label:coop.project"},
	{question.Tenant, question.Host}, {question.Kind, question.Tenant},
}

func drawQuestion(t *rapid.T, b *oracle.Book) question.Question {
	q := question.Question{Scope: drawScope(t, b), By: rapid.SampledFrom(groupings).Draw(t, "by")}
	measures := amount.Measures()
	inside := q.Has(question.Program) || q.Has(question.Family)
	switch {
	case q.Has(question.CPU) || q.Has(question.Part):
		measures = []amount.Measure{amount.CPU}
	case inside:
		measures = amount.Resources()
	}
	first := rapid.IntRange(0, len(measures)-1).Draw(t, "first measure")
	q.Measures = measures[first:min(first+rapid.IntRange(1, 4).Draw(t, "measures"), len(measures))]
	q.State = slices.Equal(q.By, []question.Dimension{question.Workload}) && rapid.Bool().Draw(t, "state") &&
		q.Measures[0].HasLedger() && q.Measures[len(q.Measures)-1].HasLedger()
	if !q.State && rapid.IntRange(0, 3).Draw(t, "stepped") == 0 {
		q.Step = rapid.SampledFrom([]time.Duration{time.Minute, 7 * time.Minute, time.Hour, 24 * time.Hour}).Draw(t,
			"step")
	}
	order := rapid.SampledFrom(question.Orders).Draw(t, "order")
	q.Order = question.Order{By: order, Turned: rapid.Bool().Draw(t, "turned")}
	return q
}

func sorted(rows []question.Row) []question.Row {
	key := func(r *question.Row) string {
		return fmt.Sprintf("%d %d %d %d %d %q %q %q", r.Start.UnixMicro(), r.Workload, r.Tenant, r.Host, r.CPU, r.Name,
			r.Family,
			r.Names)
	}
	slices.SortFunc(rows, func(a, b question.Row) int { return cmp.Compare(key(&a), key(&b)) })
	return rows
}

// TestStore_AnswersAsTheIntervalsDo asks random questions over a week of twelve hosts: while half of it is summed by
// the hour and the day and the other half is loose, and when all of it is summed.
func TestStore_AnswersAsTheIntervalsDo(t *testing.T) {
	s, book := week(t)
	t.Logf("%d intervals of %d hosts, %d workloads", len(book.Minutes), len(book.Hosts), len(book.Workloads))
	requireSound(t, s, book)
	t.Run("half of it summed", func(t *testing.T) { agree(t, s, book) })
	t.Run("lines of the half", func(t *testing.T) { agreeOnLines(t, s, book) })
	require.NoError(t, oracle.Settle(ctx, s, monday.AddDate(0, 0, 9)))
	requireSound(t, s, book)
	t.Run("all of it summed", func(t *testing.T) { agree(t, s, book) })
	t.Run("lines of all", func(t *testing.T) { agreeOnLines(t, s, book) })
}

// requireSound verifies the book: every interval is there once, and every sum is the sum of its parts.
func requireSound(t *testing.T, s *store.Store, book *oracle.Book) {
	intervals, hours := 0, 0
	for day := range 8 {
		v, _, err := s.Verify(ctx, monday.AddDate(0, 0, day), 0, "")
		require.NoError(t, err)
		require.Empty(t, v.Differences)
		intervals, hours = intervals+v.Intervals, hours+v.Hours
	}
	require.Equal(t, len(book.Minutes), intervals)
	require.Positive(t, hours)
}

func agree(t *testing.T, s *store.Store, book *oracle.Book) {
	answered := 0
	rapid.Check(t, func(t *rapid.T) {
		q := drawQuestion(t, book)
		want := book.Ask(q)
		if q.Has(question.Workload) && len(want) > 0 && rapid.Bool().Draw(t, "at least") {
			for i := range q.Measures {
				q.Least = append(q.Least, rapid.SampledFrom(want).Draw(t, "least").Sums[i].Units)
			}
			want = slices.DeleteFunc(want, func(r question.Row) bool { return !reaches(&r, q.Least) })
		}
		answer, err := s.Ask(ctx, q)
		require.NoError(t, err)
		answered += len(want)
		require.Equal(t, len(want), answer.Total.Rows)
		requireRows(t, want, slices.Clone(answer.Rows), &q)
		requirePages(t, s, q, answer)
	})
	require.Positive(t, answered, "the questions were about something")
}

func reaches(r *question.Row, least []float64) bool {
	for i := range r.Sums {
		if r.Sums[i].Known() && r.Sums[i].Units >= least[i] {
			return true
		}
	}
	return false
}

// requirePages holds that rows are in order, and that pages of them, one after another, are the whole.
func requirePages(t *rapid.T, s *store.Store, q question.Question, whole *question.Answer) {
	if q.Step > 0 {
		return
	}
	for i := 1; i < len(whole.Rows); i++ {
		a, b := q.KeyOf(&whole.Rows[i-1]), q.KeyOf(&whole.Rows[i])
		require.LessOrEqual(t, q.Order.Compare(&a, &b), 0, "row %d of %+v", i, q)
	}
	if len(whole.Rows) > 60 {
		return
	}
	q.Page.First = rapid.IntRange(1, 25).Draw(t, "page")
	rows := []question.Row{}
	for range 100 {
		page, err := s.Ask(ctx, q)
		require.NoError(t, err)
		require.LessOrEqual(t, len(page.Rows), q.Page.First)
		rows = append(rows, page.Rows...)
		if len(page.Rows) > 0 {
			require.Equal(t, whole.Total, page.Total, "every page tells of the whole")
		}
		if page.Next == nil {
			break
		}
		after, err := question.ParseKey(page.Next.String())
		require.NoError(t, err)
		q.Page.After = after
	}
	requireRows(t, slices.Clone(whole.Rows), rows, &q)
}

// requireRows holds two lists to each other, whatever their order, and tells of the first row that differs.
func requireRows(t *rapid.T, want, got []question.Row, q *question.Question) {
	sorted(want)
	sorted(got)
	for i := range min(len(want), len(got)) {
		require.Equal(t, want[i], got[i], "%+v", q)
	}
	require.Len(t, got, len(want), "%+v", q)
}

// agreeOnGaps holds what hosts told of a span to how much of it they lack. Gaps of some seconds are none by themselves.
func agreeOnGaps(t require.TestingT, want, got []question.HostTold) {
	require.Len(t, got, len(want))
	for i, x := range got {
		require.Equal(t, []any{want[i].Host, want[i].From, want[i].To}, []any{x.Host, x.From, x.To})
		lacking := time.Duration(0)
		for _, g := range x.Gaps {
			lacking += g.Lacking
			require.False(t, g.From.Before(x.From) || g.To.After(x.To), "%v", g)
		}
		require.InDelta(t, want[i].Gaps[0].Lacking.Seconds(), lacking.Seconds(), 30, "host %d", x.Host)
	}
}

// agreeOnLines asks for the host-wide lines of every resource.
func agreeOnLines(t *testing.T, s *store.Store, book *oracle.Book) {
	rapid.Check(t, func(t *rapid.T) {
		q := question.Question{Scope: drawScope(t, book), Measures: amount.Resources()}
		q.Step = rapid.SampledFrom([]time.Duration{0, time.Minute, 7 * time.Minute, time.Hour, 24 * time.Hour}).Draw(t,
			"step")
		got, err := s.Lines(ctx, q)
		require.NoError(t, err)
		want := book.Lines(q)
		require.Len(t, got, len(want))
		for _, x := range got {
			agreeOnGaps(t, want[x.Start].Told, x.Told)
			of := want[x.Start]
			of.Told, x.Told = nil, nil
			for _, c := range x.Caveats {
				slices.Sort(c.Hosts)
			}
			require.Equal(t, of, x)
		}
	})
}
