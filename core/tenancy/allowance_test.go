package tenancy_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/tenancy"
)

// staged is a month whose end is known: what is spent each day, from four weeks before it on.
func staged(rate func(day int) float64) func(at float64) (tenancy.Spending, float64) {
	begin := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC) // a Tuesday
	const days = 30
	return func(at float64) (s tenancy.Spending, end float64) {
		s = tenancy.Spending{From: begin, To: begin.AddDate(0, 0, days), Amount: math.Inf(1),
			At: begin.Add(time.Duration(at * float64(24*time.Hour)))}
		for d := -28; d < days; d++ {
			if float64(d+1) <= at {
				s.Days = append(s.Days, tenancy.Day{From: begin.AddDate(0, 0, d), Spent: rate(d), IsKnown: true})
			}
			if d >= 0 {
				end += rate(d)
				s.Spent += rate(d) * min(max(at-float64(d), 0), 1)
			}
		}
		return s, end
	}
}

func weekday(day int) int { return ((day+1)%7 + 7) % 7 } // 0 is Monday

func TestForecast_OfStagedMonths(t *testing.T) {
	for name, c := range map[string]struct {
		rate  func(day int) float64
		exact float64 // how far from the end it may be, as a part
	}{
		"always the same":  {func(int) float64 { return 10 }, 1e-9},
		"nothing at all":   {func(int) float64 { return 0 }, 1e-9},
		"not at weekends":  {func(d int) float64 { return []float64{9, 12, 11, 9, 8, 0, 0}[weekday(d)] }, 1e-9},
		"now and then":     {func(d int) float64 { return []float64{0, 30, 3}[(d%3+3)%3] }, 0.2},
		"up and down":      {func(d int) float64 { return 10 + 6*math.Sin(float64(d)) }, 0.2},
		"with one big day": {func(d int) float64 { return map[bool]float64{true: 60, false: 5}[d == -3] }, 0.4},
	} {
		for _, at := range []float64{0, 1, 7.25, 15.5, 29.75} {
			s, end := staged(c.rate)(at)
			f, ok := s.Forecast()
			require.True(t, ok)
			assert.InDelta(t, end, f.Expected, c.exact*end+1e-9, "%s, on day %g", name, at)
			assert.LessOrEqual(t, f.Low, end*(1+1e-9)+1e-9, "%s, on day %g", name, at)
			assert.GreaterOrEqual(t, f.High, end*(1-1e-9)-1e-9, "%s, on day %g", name, at)
		}
	}
}

func TestForecast_SaysWhenItRunsOut(t *testing.T) {
	s, _ := staged(func(d int) float64 { return []float64{8, 8, 8, 8, 8, 2, 2}[weekday(d)] })(10)
	s.Amount = s.Spent + 21 // Friday: 8, then 2 and 2, then 8, and an eighth of the next day
	f, ok := s.Forecast()
	require.True(t, ok)
	require.NotNil(t, f.RunsOut)
	assert.Equal(t, "2026-09-15T03:00:00Z", f.RunsOut.Format(time.RFC3339))
	s.Amount = 1000
	f, _ = s.Forecast()
	assert.Nil(t, f.RunsOut, "the window ends before")
	s.Amount = s.Spent / 2
	f, _ = s.Forecast()
	assert.Equal(t, s.At, *f.RunsOut, "it is spent already")

	few, _ := staged(func(d int) float64 { return []float64{4, 8}[(d%2+2)%2] })(20)
	few.Days = few.Days[len(few.Days)-4:]
	few.Amount = few.Spent + 24
	f, _ = few.Forecast()
	assert.Equal(t, 4, f.DaysKnown)
	assert.Equal(t, []string{"2026-09-24T00:00:00Z", "2026-09-27T00:00:00Z"},
		[]string{f.RunsOutEarly.Format(time.RFC3339), f.RunsOutLate.Format(time.RFC3339)}, "at 8 a day, and at 4")
	few.Days = nil
	_, ok = few.Forecast()
	assert.False(t, ok, "nothing is known to go by")
}

func TestForecast_GoesByWholeKnownDaysOfFourWeeks(t *testing.T) {
	s, _ := staged(func(int) float64 { return 10 })(15)
	s.Days = append(s.Days,
		tenancy.Day{From: s.At.AddDate(0, 0, -30), Spent: 900, IsKnown: true}, // too long ago
		tenancy.Day{From: s.At.Add(-time.Hour), Spent: 900, IsKnown: true},    // not whole
		tenancy.Day{From: s.At.AddDate(0, 0, -3), Spent: 900})                 // nothing was recorded
	f, ok := s.Forecast()
	require.True(t, ok)
	assert.InDelta(t, 300, f.High, 1e-9)
}

// TestForecast_KeepsItsRange: low, expected and high are in order, and none is less than what was spent.
func TestForecast_KeepsItsRange(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rates := rapid.SliceOfN(rapid.Float64Range(0, 100), 60, 60).Draw(t, "rates")
		s, _ := staged(func(d int) float64 { return rates[d+28] })(rapid.Float64Range(0, 30).Draw(t, "at"))
		s.Amount = rapid.Float64Range(0, 3000).Draw(t, "amount")
		f, ok := s.Forecast()
		require.True(t, ok)
		require.LessOrEqual(t, s.Spent, f.Low+1e-9)
		require.LessOrEqual(t, f.Low, f.Expected)
		require.LessOrEqual(t, f.Expected, f.High)
		for _, x := range []*time.Time{f.RunsOut, f.RunsOutEarly, f.RunsOutLate} {
			if x != nil {
				require.False(t, x.Before(s.At))
				require.True(t, x.Before(s.To))
			}
		}
	})
}
