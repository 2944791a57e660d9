package store_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

// bound is a book of two hosts over three days and a half: an interval every 25 minutes, with an uneven figure in each,
// and none for five hours of the second host's second day.
type bound struct {
	*store.Store
	hosts    [2]store.Host
	span     question.Span
	seconds  [2]map[time.Time]float64
	sequence uint64
}

func newBound(t *testing.T, s *store.Store) *bound {
	b := &bound{Store: s}
	b.span.From = noon.Truncate(24 * time.Hour)
	b.span.To = b.span.From.Add(84 * time.Hour)
	for i, name := range []string{"cellar-1", "press-1"} {
		require.NoError(t, s.Enrol(ctx, name, "secret of "+name))
		var err error
		b.hosts[i], err = s.HostByName(ctx, name)
		require.NoError(t, err)
		b.seconds[i] = map[time.Time]float64{}
		n := 0
		first := b.span.From.Add(time.Duration(7*i) * time.Minute)
		for at := first; at.Before(b.span.To); at = at.Add(25 * time.Minute) {
			n++
			if hour := at.Sub(b.span.From).Hours(); i == 1 && hour >= 29 && hour < 34 {
				continue
			}
			b.take(t, i, at, float64((n*(5+i)+n/9)%(17-3*i))+0.25)
		}
	}
	return b
}

// take takes in an interval of one host.
func (b *bound) take(t *testing.T, host int, at time.Time, seconds float64) {
	b.sequence++
	name := b.hosts[host].Name
	ingest(t, b.Store, b.hosts[host], minute(name, at, b.sequence, map[string]float64{"vat of " + name: seconds}))
	b.seconds[host][at] = seconds
}

// truth is what the hosts' workloads used in the intervals that begin in a span.
func (b *bound) truth(span question.Span) (sums [2]float64) {
	for i := range sums {
		for at, s := range b.seconds[i] {
			if span.Holds(at) {
				sums[i] += s
			}
		}
	}
	return sums
}

// asked is what the book tells of it, by two ways and in steps, of the grain that it says.
func (b *bound) asked(t *testing.T, span question.Span, step time.Duration) (sums [2]float64, grain question.Grain) {
	q := question.Question{Scope: question.Scope{Span: span}, Measures: []amount.Measure{amount.CPU}, Step: step,
		By: []question.Dimension{question.Workload}}
	a, err := b.Ask(ctx, q)
	require.NoError(t, err)
	for _, r := range a.Rows {
		b.isTrueOfStep(t, &r, span, step, a.Grain)
		assert.True(t, step == 0 || !r.Start.Before(span.From.Truncate(step)) && r.Start.Before(span.To), r.Start)
		for i := range sums {
			if r.Name == "vat of "+b.hosts[i].Name {
				sums[i] += r.Sums[0].Units / 1e6
			}
		}
	}
	q.Least = []float64{6.25e6} // which some have to the microsecond
	most, err := b.Ask(ctx, q)
	require.NoError(t, err)
	assert.Equal(t, slices.DeleteFunc(a.Rows, func(r question.Row) bool { return r.Sums[0].Units < 6.25e6 }), most.Rows)
	q.Least = nil
	stretches, err := b.Lines(ctx, q)
	require.NoError(t, err)
	used, intervals := 0.0, 0
	for _, x := range stretches {
		used += x.Of[0].Used.Units / 1e6
		assert.Equal(t, a.Grain, x.Grain)
	}
	for i := range sums {
		for at := range b.seconds[i] {
			if span.Holds(at) && len(a.Rows) > 0 {
				intervals++
			}
		}
	}
	if a.Grain == question.ByInterval {
		assert.InDelta(t, sums[0]+sums[1]+2*float64(intervals), used, 1e-6, "each line holds 2 s of the kernel besides")
	}
	return sums, a.Grain
}

// isTrueOfStep holds a row to what its workload used in its step.
func (b *bound) isTrueOfStep(t *testing.T, r *question.Row, span question.Span, step time.Duration,
	grain question.Grain) {
	if step == 0 || grain != question.ByInterval {
		return
	}
	want := 0.0
	for i := range b.hosts {
		for at, seconds := range b.seconds[i] {
			if r.Name == "vat of "+b.hosts[i].Name && span.Holds(at) && at.Truncate(step).Equal(r.Start) {
				want += seconds
			}
		}
	}
	assert.InDelta(t, want, r.Sums[0].Units/1e6, 1e-6, "%s in %v of %v", r.Name, r.Start, span)
}

// isTrue asks over many spans, whose edges are at hours, at intervals and between them.
func (b *bound) isTrue(t *testing.T, when string) {
	t.Helper()
	rng := rand.New(rand.NewPCG(12, 29))
	for n := range 60 {
		unit := []time.Duration{24 * time.Hour, time.Hour, 25 * time.Minute, time.Minute}[n%4]
		whole := int(b.span.Length() / unit)
		from := b.span.From.Add(time.Duration(rng.IntN(whole)) * unit)
		span := question.Span{From: from, To: from.Add(time.Duration(1+rng.IntN(whole)) * unit)}
		step := []time.Duration{0, time.Hour, 24 * time.Hour, time.Minute, 0}[n%5]
		got, grain := b.asked(t, span, step)
		assert.InDeltaSlice(t, one(b.truth(span)), one(got), 1e-6, "%s: %v by %v", when, span, step)
		assert.Equal(t, question.ByInterval, grain, "%s: %v is exact", when, span)
	}
}

func one(sums [2]float64) []float64 { return sums[:] }

// rows is how many leaves a table has, by their most common section.
func (b *bound) rows(t *testing.T, table string) (n int) {
	require.NoError(t, b.Rows(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE section = 'host'", table)).Scan(&n))
	return n
}

func (b *bound) fold(t *testing.T) {
	_, _, err := b.Fold(ctx, b.span.To.Add(2*time.Hour))
	require.NoError(t, err)
	require.NoError(t, b.SumPeaks(ctx, b.span.To.Add(2*time.Hour)))
}

func (b *bound) isVerified(t *testing.T) {
	t.Helper()
	for day := b.span.From; day.Before(b.span.To); day = day.AddDate(0, 0, 1) {
		v, _, err := b.Verify(ctx, day, 0, "")
		require.NoError(t, err)
		assert.Empty(t, v.Differences, day)
		assert.Positive(t, v.Hours)
	}
}

// TestFold_HoursThatAreBoundAnswerAsTheyDidAlone asks the same of loose intervals, of hours that stand alone, and of
// hours that are bound with those of their day, and again after each way in which a bound hour changes.
func TestFold_HoursThatAreBoundAnswerAsTheyDidAlone(t *testing.T) {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	defer s.Close()
	b := newBound(t, s)
	b.isTrue(t, "loose")
	b.fold(t)
	assert.Equal(t, []int{6, 24, 6}, []int{b.rows(t, "day_quires"), b.rows(t, "hour_leaves"), b.rows(t, "day_leaves")},
		"three days of two hosts are bound, and the hours of the fourth stand alone")
	b.isTrue(t, "bound")
	b.isVerified(t)

	// An interval that comes late, into an hour that is bound and into one of which nothing was recorded.
	b.take(t, 0, b.span.From.Add(3*time.Hour+11*time.Minute), 0.75)
	b.take(t, 1, b.span.From.Add(30*time.Hour+11*time.Minute), 1.5)
	b.isTrue(t, "with late intervals that are loose")
	_, days, err := b.Fold(ctx, b.span.From.AddDate(0, 0, 1).Add(time.Minute)) // before any of these days is over
	require.NoError(t, err)
	assert.Zero(t, days)
	assert.Equal(t, 5, b.rows(t, "day_quires"), "the hours of the first day stand alone again")
	b.isTrue(t, "with a day that is due")
	b.fold(t)
	assert.Equal(t, []int{6, 24}, []int{b.rows(t, "day_quires"), b.rows(t, "hour_leaves")})
	b.isTrue(t, "bound again")
	b.take(t, 1, b.span.From.Add(47*time.Hour+41*time.Minute), 2.5)
	b.fold(t)
	b.isTrue(t, "bound again, and not asked in between")
	b.isVerified(t)

	tenant, err := s.AddTenant(ctx, "Cellar Intake")
	require.NoError(t, err)
	workloads, err := s.Workloads(ctx)
	require.NoError(t, err)
	var moves []store.Move
	for _, w := range workloads {
		if w.Name == "vat of cellar-1" {
			moves = append(moves, store.Move{WorkloadID: w.ID, TenantID: tenant.ID, Rule: "true"})
		}
	}
	move := func(span question.Span) {
		require.NoError(t, s.Reapply(ctx, span, moves, "test", nil))
	}
	held := func(span question.Span) float64 {
		a, err := s.Ask(ctx, question.Question{Scope: question.Scope{Span: span, Tenants: []int32{tenant.ID}},
			Measures: []amount.Measure{amount.CPU}, By: []question.Dimension{question.Tenant}})
		require.NoError(t, err)
		return a.Total.Units[0] / 1e6
	}
	moved := question.Span{From: b.span.From.Add(5*time.Hour + 20*time.Minute), To: b.span.From.Add(31 * time.Hour)}
	move(moved)
	assert.Equal(t, 4, b.rows(t, "day_quires"), "days in which nothing changed stay bound")
	assert.InDelta(t, b.truth(moved)[0], held(b.span), 1e-6, "what is in the span has gone over, to the interval")
	b.fold(t)
	assert.InDelta(t, b.truth(moved)[0], held(b.span), 1e-6, "and still has once it is bound")
	b.isTrue(t, "of a tenant")
	b.isVerified(t)

	// The intervals go. Hours that begin in a span count whole, bound as they are, and the answer says so.
	require.NoError(t, s.Drop(ctx, b.span.To, store.Keeping{Minutes: 24 * time.Hour}))
	assert.Equal(t, 6, b.rows(t, "day_quires"))
	first := question.Span{From: b.span.From, To: b.span.From.Add(24 * time.Hour)}
	for _, x := range []struct {
		from, to, countsFrom, countsTo time.Duration
		grain                          question.Grain
	}{
		{2 * time.Hour, 9 * time.Hour, 2 * time.Hour, 9 * time.Hour, question.ByInterval},
		{150 * time.Minute, 570 * time.Minute, 3 * time.Hour, 10 * time.Hour, question.ByHour},
		{181 * time.Minute, 239 * time.Minute, 0, 0, question.ByInterval}, // no hour begins in it
		{20*time.Hour + 59*time.Minute, 52 * time.Hour, 21 * time.Hour, 52 * time.Hour, question.ByInterval},
	} {
		got, grain := b.asked(t, question.Span{From: first.From.Add(x.from), To: first.From.Add(x.to)}, 0)
		counts := question.Span{From: first.From.Add(x.countsFrom), To: first.From.Add(x.countsTo)}
		assert.InDeltaSlice(t, one(b.truth(counts)), one(got), 1e-6, "%v", x)
		assert.Equal(t, x.grain, grain, "%v", x)
	}
	got, grain := b.asked(t, first, time.Minute)
	assert.Equal(t, question.ByHour, grain, "by the minute it is no longer known")
	assert.InDeltaSlice(t, one(b.truth(first)), one(got), 1e-6)

	// Without intervals the hours that begin in the span are accounted anew, and no others.
	more := question.Span{From: b.span.From.Add(90 * time.Minute), To: b.span.From.Add(4 * time.Hour)}
	move(more)
	assert.InDelta(t, b.truth(question.Span{From: b.span.From.Add(2 * time.Hour), To: more.To})[0],
		held(question.Span{From: b.span.From, To: more.To}), 1e-6)
	b.fold(t)
	assert.Equal(t, 6, b.rows(t, "day_quires"))
	assert.InDelta(t, b.truth(first)[0]+b.truth(first)[1], func() float64 {
		got, _ := b.asked(t, first, 0)
		return got[0] + got[1]
	}(), 1e-6, "nothing was lost of it")

	require.NoError(t, s.Drop(ctx, b.span.To, store.Keeping{Minutes: 24 * time.Hour, Hours: 48 * time.Hour}))
	assert.Equal(t, 4, b.rows(t, "day_quires"), "bound hours go with the hours")
	got, grain = b.asked(t, first, 0)
	assert.Equal(t, question.ByInterval, grain)
	assert.InDeltaSlice(t, one(b.truth(first)), one(got), 1e-6, "and their day stays")
	got, grain = b.asked(t, question.Span{From: first.From, To: first.From.Add(time.Hour)}, 0)
	assert.Equal(t, question.ByDay, grain)
	assert.InDeltaSlice(t, one(b.truth(first)), one(got), 1e-6)
}

// TestOpen_HoursOfABookFromBeforeAreBoundByAndBy opens a book whose program did not bind the hours of a day.
func TestOpen_HoursOfABookFromBeforeAreBoundByAndBy(t *testing.T) {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	defer s.Close()
	b := newBound(t, s)
	b.fold(t)
	require.NoError(t, b.Unbind(ctx))
	assert.Equal(t, []int{0, 24 + 24*6 - 5}, []int{b.rows(t, "day_quires"), b.rows(t, "hour_leaves")})
	b.isTrue(t, "as it was left")
	b.take(t, 0, b.span.From.Add(3*time.Hour+11*time.Minute), 0.75)
	b.fold(t)
	assert.Equal(t, []int{6, 24}, []int{b.rows(t, "day_quires"), b.rows(t, "hour_leaves")})
	var left int
	require.NoError(t, b.Rows(ctx, "SELECT count(*) FROM unbound_days").Scan(&left))
	assert.Zero(t, left)
	b.isTrue(t, "bound")
	b.isVerified(t)
}

// TestVerify_HoursThatAreBoundOtherwiseThanIsSaidAreTold spoils what is bound in two ways.
func TestVerify_HoursThatAreBoundOtherwiseThanIsSaidAreTold(t *testing.T) {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	defer s.Close()
	b := newBound(t, s)
	b.fold(t)
	for _, x := range []struct{ spoil, says string }{
		{"UPDATE day_quires SET hours = hours & ~8 WHERE host_id = 2 AND start = '2026-10-12'",
			"press-1 2026-10-12T00:00 the hours that are bound with the day are others than are written down beside " +
				"them"},
		{`INSERT INTO hour_leaves SELECT host_id, start, section, body FROM quires
			WHERE host_id = 1 AND start = '2026-10-13T05:00:00Z'`,
			"cellar-1 2026-10-13T05:00 the sum of the hour is there twice: alone, and bound with those of its day"},
	} {
		tx := b.Begin(ctx)
		require.NoError(t, tx.Exec(x.spoil).Error)
		require.NoError(t, tx.Commit().Error)
		var told []string
		for day := b.span.From; day.Before(b.span.To); day = day.AddDate(0, 0, 1) {
			v, _, err := b.Verify(ctx, day, 0, "")
			require.NoError(t, err)
			for _, d := range v.Differences {
				told = append(told, fmt.Sprintf("%s %s %s", d.Host, d.Start.Format("2006-01-02T15:04"), d.What))
			}
		}
		assert.Contains(t, told, x.says)
	}
}
