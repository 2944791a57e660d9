package question

import "time"

// Grain is how finely something is kept: by interval, or as the sum of an hour or a day of universal time.
type Grain uint8

// The grains, finest first.
const (
	ByInterval Grain = iota
	ByHour
	ByDay
)

// Length is how long a stretch of the grain is; 0 for intervals, which have their own.
func (g Grain) Length() time.Duration {
	return [...]time.Duration{0, time.Hour, 24 * time.Hour}[g]
}

func (g Grain) String() string { return [...]string{"interval", "hour", "day"}[g] }

// Floor is the begin of the stretch that a time is in.
func (g Grain) Floor(t time.Time) time.Time {
	if g == ByInterval {
		return t
	}
	return t.UTC().Truncate(g.Length())
}

// coarsest is the coarsest grain whose sums fall into one step each. Steps begin at whole multiples since 1970, as
// hours and days do.
func coarsest(step time.Duration) Grain {
	switch {
	case step%ByDay.Length() == 0:
		return ByDay
	case step%ByHour.Length() == 0:
		return ByHour
	}
	return ByInterval
}

// Reading says which sums answer for a span: days that lie in it wholly, hours that do, and for the rest intervals. All
// of its spans are empty where there is none.
type Reading struct {
	Span  Span
	Days  Span
	Hours Span // those of Days too: where a day has no sum, its hours have
}

// IsWithin tells whether a sum that begins at a time is one of those that answer exactly. Others stand for intervals
// that are no longer kept.
func (r *Reading) IsWithin(g Grain, start time.Time) bool {
	switch g {
	case ByHour:
		return r.Hours.Holds(start)
	case ByDay:
		return r.Days.Holds(start)
	}
	return true
}

// PastKeeping is what to tell of an answer that has sums of a grain in the place of intervals.
func PastKeeping(g Grain) string {
	if g == ByInterval {
		return ""
	}
	return "the intervals of this span are past their keeping: every " + g.String() + " that begins in it counts whole"
}

// ReadingOf finds the coarsest sums that answer exactly for a span in steps; 0 is one step.
func ReadingOf(span Span, step time.Duration) Reading {
	r := Reading{Span: span}
	if span.Frames {
		return r
	}
	most := coarsest(step)
	if most >= ByHour {
		r.Hours = whole(span, ByHour)
	}
	if most >= ByDay {
		r.Days = whole(span, ByDay)
	}
	return r
}

// whole is the stretches of a grain that lie in a span wholly.
func whole(span Span, g Grain) Span {
	from, to := g.Floor(span.From), g.Floor(span.To)
	if from.Before(span.From) {
		from = from.Add(g.Length())
	}
	if !from.Before(to) {
		return Span{From: to, To: to}
	}
	return Span{From: from, To: to}
}
