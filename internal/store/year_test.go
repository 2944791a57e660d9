package store_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

// year is a book of two hosts over a year of which the hours are synthesised, so that the truth is known: a workload on
// each, an uneven figure in each hour. The second host is silent for a fortnight of August, and on 15 June at 10:00 its
// workload goes over to the first one's tenant.
type year struct {
	*store.Store
	span     question.Span
	tenants  [2]int32
	workload [2]int64
}

var (
	silence = question.Span{From: time.Date(2026, 8, 3, 5, 0, 0, 0, time.UTC),
		To: time.Date(2026, 8, 17, 9, 0, 0, 0, time.UTC)}
	change = time.Date(2026, 6, 15, 10, 0, 0, 0, time.UTC)
)

// seconds is how many CPU seconds a host's workload used in an hour.
func (y *year) seconds(host int, hour time.Time) float64 {
	if host == 1 && silence.Holds(hour) {
		return 0
	}
	n := int(hour.Sub(y.span.From) / time.Hour)
	return float64(1 + (n*(7+host)+n/24)%(11+2*host))
}

// held is what each tenant had in the hours of a span.
func (y *year) held(span question.Span) (sums [2]float64) {
	for hour := span.From; hour.Before(span.To); hour = hour.Add(time.Hour) {
		for host := range 2 {
			tenant := host
			if host == 1 && !hour.Before(change) {
				tenant = 0
			}
			sums[tenant] += y.seconds(host, hour)
		}
	}
	return sums
}

// asked is what the book says of it, of the grain that it tells.
func (y *year) asked(t *testing.T, span question.Span) (sums [2]float64, grain question.Grain) {
	a, err := y.Ask(ctx, question.Question{Scope: question.Scope{Span: span}, Measures: []amount.Measure{amount.CPU},
		By: []question.Dimension{question.Tenant}})
	require.NoError(t, err)
	for _, r := range a.Rows {
		for i, id := range y.tenants {
			if r.Tenant == id {
				sums[i] += r.Sums[0].Units / 1e6
			}
		}
	}
	return sums, a.Grain
}

func newYear(t *testing.T) *year {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	y := &year{Store: s, span: question.Span{From: time.Date(2025, 12, 31, 0, 0, 0, 0, time.UTC),
		To: time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)}}
	var hosts [2]store.Host
	for i, name := range []string{"Cellar Intake", "Frost Watch"} {
		tenant, err := s.AddTenant(ctx, name)
		require.NoError(t, err)
		y.tenants[i] = tenant.ID
		require.NoError(t, s.Enrol(ctx, []string{"cellar-1", "press-1"}[i], name))
		hosts[i], err = s.HostByName(ctx, []string{"cellar-1", "press-1"}[i])
		require.NoError(t, err)
		ingest(t, s, hosts[i], minute(hosts[i].Name, y.span.To.Add(time.Hour), 1, map[string]float64{"press": 1}))
	}
	stored, err := s.Workloads(ctx)
	require.NoError(t, err)
	for i := range stored {
		for k := range hosts {
			if stored[i].HostID == hosts[k].ID {
				y.workload[k] = stored[i].ID
			}
		}
	}
	for host := range 2 {
		var hours []*leaf.Leaf
		for hour := y.span.From; hour.Before(y.span.To); hour = hour.Add(time.Hour) {
			if host == 1 && silence.Holds(hour) {
				continue
			}
			tenant := y.tenants[host]
			if host == 1 && !hour.Before(change) {
				tenant = y.tenants[0]
			}
			b := minute(hosts[host].Name, hour, 1, map[string]float64{"press": y.seconds(host, hour)})
			b.Intervals[0].ElapsedMillis = time.Hour.Milliseconds()
			hours = append(hours, b.Intervals[0].Leaf(hosts[host].ID,
				[]leaf.User{{Workload: y.workload[host], Tenant: tenant}}))
		}
		require.NoError(t, s.PutHours(ctx, hours))
	}
	_, days, err := s.Fold(ctx, y.span.To.Add(3*time.Hour))
	require.NoError(t, err)
	require.Equal(t, 366+366-13, days, "a day has a sum where any of its hours has")
	return y
}

func TestYear_IsAnsweredToTheHourAndLaterToTheDay(t *testing.T) {
	y := newYear(t)
	vienna, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	local := func(month time.Month, day int) time.Time {
		return time.Date(2026, month, day, 0, 0, 0, 0, vienna).UTC()
	}
	spans := map[string]question.Span{
		"all of it":               y.span,
		"the day of 23 hours":     {From: local(3, 29), To: local(3, 30)},
		"the day of 25 hours":     {From: local(10, 25), To: local(10, 26)},
		"the month of the change": {From: local(6, 1), To: local(7, 1)},
		"the day of the change":   {From: local(6, 15), To: local(6, 16)},
		"around the silence":      {From: silence.From.Add(-time.Hour), To: silence.To.Add(time.Hour)},
		"in the silence":          {From: silence.From, To: silence.To},
	}
	require.Equal(t, 23*time.Hour, spans["the day of 23 hours"].Length())
	require.Equal(t, 25*time.Hour, spans["the day of 25 hours"].Length())
	rng := rand.New(rand.NewPCG(2026, 11))
	for range 20 {
		from := y.span.From.Add(time.Duration(rng.IntN(8000)) * time.Hour)
		spans["from "+from.String()] = question.Span{From: from,
			To: from.Add(time.Duration(1+rng.IntN(700)) * time.Hour)}
	}
	for name, span := range spans {
		got, grain := y.asked(t, span)
		assert.Equal(t, y.held(span), got, name)
		assert.Equal(t, question.ByInterval, grain, "%s is exact", name)
	}
	stretches, err := y.Lines(ctx, question.Question{Scope: question.Scope{Span: question.Span{
		From: silence.From.Truncate(24 * time.Hour), To: silence.To.AddDate(0, 0, 2).Truncate(24 * time.Hour)}},
		Measures: []amount.Measure{amount.CPU}, Step: 24 * time.Hour})
	require.NoError(t, err)
	var hosts []int
	for _, x := range stretches {
		hosts = append(hosts, x.Hosts)
	}
	assert.Equal(t, []int{2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 2, 2}, hosts, "a silent host is not there")
	for _, day := range []time.Time{change, silence.From, y.span.From, y.span.To.AddDate(0, 0, -1)} {
		v, _, err := y.Verify(ctx, day.Truncate(24*time.Hour), 0, "")
		require.NoError(t, err)
		assert.Empty(t, v.Differences, day)
		assert.Equal(t, 2, v.Days, day)
	}

	v, next, err := y.Verify(ctx, change, 1, "")
	require.NoError(t, err)
	assert.Equal(t, []any{"cellar-1", 1}, []any{next, v.Days}, "one host at a time")
	v, next, err = y.Verify(ctx, change, 1, next)
	require.NoError(t, err)
	assert.Equal(t, []any{"", 1}, []any{next, v.Days})

	// A month before the end the hours are dropped. Whole days stay exact; of others it is said that they are not.
	require.NoError(t, y.Drop(ctx, y.span.To, store.Keeping{Minutes: 24 * time.Hour, Hours: 31 * 24 * time.Hour}))
	for _, span := range []question.Span{y.span, {From: change.Truncate(24 * time.Hour),
		To: silence.From.Truncate(24 * time.Hour)},
		{From: y.span.To.AddDate(0, 0, -20).Add(5 * time.Hour), To: y.span.To.Add(-3 * time.Hour)}} {
		got, grain := y.asked(t, span)
		assert.Equal(t, y.held(span), got, span)
		assert.Equal(t, question.ByInterval, grain, span)
	}
	got, grain := y.asked(t, spans["the day of 23 hours"])
	assert.Equal(t, question.ByDay, grain)
	assert.Equal(t, y.held(question.Span{From: time.Date(2026, 3, 29, 0, 0, 0, 0, time.UTC),
		To: time.Date(2026, 3, 30, 0, 0, 0, 0, time.UTC)}), got, "the day that begins in the span counts whole")
}
