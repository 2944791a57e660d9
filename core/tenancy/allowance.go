package tenancy

import (
	"math"
	"slices"
	"time"
)

// Day is what was spent in a whole day.
type Day struct {
	From    time.Time
	Spent   float64
	IsKnown bool // something was recorded of it
}

// Spending is how an allowance stands at a moment within its window.
type Spending struct {
	From, To time.Time // the window
	At       time.Time // until when it is known what was spent; within the window
	Spent    float64
	Amount   float64
	Days     []Day // whole days before At, in any order, each 24 hours; of those of the last four weeks
}

// Forecast is what a spending comes to. Low and high are its range.
type Forecast struct {
	Expected, Low, High float64
	RunsOut             *time.Time // when the amount is spent, as expected; nil where the window ends before
	RunsOutEarly        *time.Time // at the highest pace
	RunsOutLate         *time.Time // at the lowest
	DaysKnown           int
}

// How far a forecast looks back, and from how many known days on it goes by whole weeks.
const (
	forecastDays = 28
	twoWeeks     = 14
)

// ForecastMethod says in words how a Forecast is made.
const ForecastMethod = "The rest of the window is taken to be spent as the last four weeks were: each weekday as " +
	"its mean. The range is the rest at the lowest and at the highest pace of any seven days in a row of them, or of " +
	"any single day where fewer than 14 are known or the rest is less than seven."

// Forecast says what will be spent at the end of the window, by ForecastMethod. It is false where no whole day is
// known.
func (s *Spending) Forecast() (Forecast, bool) {
	days := slices.DeleteFunc(slices.Clone(s.Days), func(d Day) bool {
		return !d.IsKnown || d.From.Before(s.At.AddDate(0, 0, -forecastDays-1)) ||
			d.From.Add(24*time.Hour).After(s.At)
	})
	slices.SortFunc(days, func(a, b Day) int { return a.From.Compare(b.From) })
	if len(days) == 0 {
		return Forecast{}, false
	}
	inARow := 7
	if len(days) < twoWeeks || s.To.Sub(s.At) < 7*24*time.Hour {
		inARow = 1
	}
	low, high := pace(days, inARow)
	mean := meanByWeekday(days)
	f := Forecast{DaysKnown: len(days)}
	f.Expected, f.RunsOut = s.spend(mean)
	f.Low, f.RunsOutLate = s.spend(func(time.Weekday) float64 { return low })
	f.High, f.RunsOutEarly = s.spend(func(time.Weekday) float64 { return high })
	f.Low, f.High = min(f.Low, f.Expected), max(f.High, f.Expected)
	return f, true
}

// spend goes on to the window's end, day by day, at a rate a day by the weekday in UTC, and says when the amount is
// reached. What is over already ran out no later than now.
func (s *Spending) spend(rate func(time.Weekday) float64) (total float64, runsOut *time.Time) {
	total = s.Spent
	for at := s.At; at.Before(s.To); {
		if total >= s.Amount && runsOut == nil {
			when := at
			runsOut = &when
		}
		next := at.UTC().Truncate(24 * time.Hour).Add(24 * time.Hour)
		if next.After(s.To) {
			next = s.To
		}
		a := rate(at.UTC().Weekday())
		more := a * next.Sub(at).Hours() / 24
		if runsOut == nil && total+more >= s.Amount && more > 0 {
			when := at.Add(time.Duration(float64(next.Sub(at)) * (s.Amount - total) / more))
			if when.Before(s.To) {
				runsOut = &when
			}
		}
		total += more
		at = next
	}
	return total, runsOut
}

// pace is the lowest and the highest amount a day, in the mean of n days in a row.
func pace(days []Day, n int) (low, high float64) {
	low, high = math.Inf(1), 0
	for i := range days[:len(days)-n+1] {
		sum := 0.0
		for _, d := range days[i : i+n] {
			sum += d.Spent
		}
		low, high = min(low, sum/float64(n)), max(high, sum/float64(n))
	}
	return low, high
}

// meanByWeekday is the mean of each weekday, or that of all days for one that is not known.
func meanByWeekday(days []Day) func(time.Weekday) float64 {
	var sums [7]float64
	var counts [7]int
	all := 0.0
	for _, d := range days {
		w := d.From.UTC().Weekday()
		sums[w] += d.Spent
		counts[w]++
		all += d.Spent
	}
	return func(w time.Weekday) float64 {
		if counts[w] == 0 {
			return all / float64(len(days))
		}
		return sums[w] / float64(counts[w])
	}
}
