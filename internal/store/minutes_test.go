package store_test

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

func TestIngest_AnIntervalIsCountedInTheMinutesThatItLasted(t *testing.T) {
	old := noon.Add(time.Hour)
	for _, x := range []struct {
		name    string
		since   time.Time
		elapsed int64 // milliseconds
		units   int64
		want    []int64
	}{
		{"a part of a minute", time.Time{}, 20_000, 7, []int64{7}},
		{"a minute", time.Time{}, 60_000, 600, []int64{600}},
		{"a reading that comes late", time.Time{}, 61_000, 610, []int64{610}},
		{"more than late", time.Time{}, 61_001, 61_001, []int64{60_000, 1001}},
		{"a minute and a quarter", time.Time{}, 75_000, 750, []int64{600, 150}},
		{"almost a minute and a half", time.Time{}, 89_000, 890, []int64{600, 290}},
		{"two minutes", time.Time{}, 120_000, 7, []int64{3, 4}},
		{"two minutes and a late reading", time.Time{}, 121_000, 1210, []int64{600, 610}},
		{"more than two", time.Time{}, 125_000, 1250, []int64{600, 600, 50}},
		{"the most that there can be", time.Time{}, 120_000, math.MaxInt64 - 1, []int64{1<<62 - 1, 1<<62 - 1}},
		{"nothing", time.Time{}, 125_000, 0, []int64{0, 0, 0}},
		{"from the moment of the rule on", noon, 75_000, 750, []int64{600, 150}},
		{"a minute and a quarter, before", old, 75_000, 750, []int64{750}},
		{"a minute and a half, before", old, 90_000, 901, []int64{451, 450}},
		{"two and a bit, before", old, 125_000, 1251, []int64{626, 625}},
	} {
		parts, end := store.MinutesOf(x.since, noon.Add(3*time.Second), x.elapsed, x.units)
		if x.since.Equal(noon) {
			parts, end = store.MinutesOf(x.since, noon, x.elapsed, x.units)
		}
		assert.Equal(t, x.want, parts, x.name)
		assert.Equal(t, noon.Add(time.Duration(len(x.want))*time.Minute), end, x.name)
	}
}

// TestTenantUses_AReadingThatIsFifteenSecondsLateMakesNoPeak has one core used all the time, whose minutes are 75 and
// 45 seconds long.
func TestTenantUses_AReadingThatIsFifteenSecondsLateMakesNoPeak(t *testing.T) {
	s, h := open(t)
	tenant, err := s.AddTenant(ctx, "Cellar Intake")
	require.NoError(t, err)
	all := func(string, account.Workload) tenancy.Rule { return tenancy.Rule{TenantID: tenant.ID} }
	at := noon
	for n, seconds := range []int64{75, 45, 60} {
		b := minute(h.Name, at, uint64(n+1), map[string]float64{"must": float64(seconds)})
		iv := b.Intervals[0]
		iv.ElapsedMillis = seconds * 1000
		at = at.Add(time.Duration(seconds) * time.Second)
		iv.ToUnixMicros = at.UnixMicro()
		_, err := s.Ingest(ctx, h, b, version(t, s), all)
		require.NoError(t, err)
	}
	answer, err := s.Ask(ctx, question.Question{Measures: []amount.Measure{amount.CPU},
		By:    []question.Dimension{question.Tenant},
		Scope: question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour)}}})
	require.NoError(t, err)
	require.Len(t, answer.Rows, 1)
	assert.Equal(t, 1.0, answer.Rows[0].Sums[0].Peak)
	assert.Equal(t, 180e6, answer.Rows[0].Sums[0].Units)
	isVerified(t, s)
}

// isVerified holds the sums of a day to its intervals.
func isVerified(t *testing.T, s *store.Store) {
	t.Helper()
	require.NoError(t, s.SumPeaks(ctx, noon.Add(2*time.Hour)))
	v, _, err := s.Verify(ctx, noon, 0, "")
	require.NoError(t, err)
	assert.Empty(t, v.Differences)
	assert.Positive(t, v.Intervals)
}

func TestOpen_IntervalsFromBeforeTheRuleOfMinutesStayAsTheyWereCounted(t *testing.T) {
	database := testdb.New(t)
	old, err := store.OpenAt(ctx, database, 10)
	require.NoError(t, err)
	require.NoError(t, old.Enrol(ctx, "cellar-1", "secret"))
	h, err := old.HostByName(ctx, "cellar-1")
	require.NoError(t, err)
	long := func(start time.Time, sequence uint64) *wire.Batch {
		b := minute("cellar-1", start, sequence, map[string]float64{"must": 75})
		b.Intervals[0].ElapsedMillis = 75_000
		b.Intervals[0].ToUnixMicros = start.Add(75 * time.Second).UnixMicro()
		return b
	}
	ingest(t, old, h, long(noon, 1))
	require.NoError(t, old.Close())

	s, err := store.Open(ctx, database)
	require.NoError(t, err)
	defer s.Close()
	ingest(t, s, h, long(noon.Add(10*time.Minute), 2)) // it waited in a spool
	now := time.Now().UTC().Truncate(time.Hour).Add(24 * time.Hour)
	require.NoError(t, s.EnsureDay(ctx, now))
	ingest(t, s, h, long(now, 3))
	var told string
	require.NoError(t, s.Rows(ctx, `SELECT string_agg(cpu / 1e6 || '', ' ' ORDER BY minute) FROM tenant_minute`).
		Scan(&told))
	assert.Equal(t, []string{"75", "75", "60", "15"}, figures(t, told))
	isVerified(t, s)
}

// figures are numbers without the zeros at their ends.
func figures(t *testing.T, text string) (list []string) {
	t.Helper()
	for _, word := range strings.Fields(text) {
		n, err := strconv.ParseFloat(word, 64)
		require.NoError(t, err)
		list = append(list, fmt.Sprint(n))
	}
	return list
}
