package question

import (
	"cmp"
	"slices"
	"time"
)

// Told is an interval of a host, or the sum of some: when it began and ended, and for how long of that it tells.
type Told struct {
	Start, End time.Time
	Elapsed    time.Duration
}

// Gap is a part of a span in which a host told nothing: for all of it, or for some time that a sum does not tell where.
type Gap struct {
	From, To time.Time
	Lacking  time.Duration
}

// gapFrom is how long nothing must be told to be a gap: a host's readings are not taken to the second.
const gapFrom = 5 * time.Second

// Gaps finds the parts between a begin and an end of which nothing was told. Told is sorted by the way.
func Gaps(told []Told, begin, end time.Time) []Gap {
	slices.SortFunc(told, func(a, b Told) int { return cmp.Or(a.Start.Compare(b.Start), a.End.Compare(b.End)) })
	var gaps []Gap
	add := func(from, to time.Time, lacking time.Duration) {
		if lacking >= gapFrom {
			gaps = append(gaps, Gap{from, to, lacking})
		}
	}
	at := begin
	for i, t := range told {
		if t.Start.After(at) {
			add(at, t.Start, t.Start.Sub(at))
		}
		if lacking := t.End.Sub(t.Start) - t.Elapsed; lacking > 0 {
			for _, late := range told[i+1:] { // what is not in the sum yet may lie within it
				if !late.Start.Before(t.End) {
					break
				}
				lacking -= late.Elapsed
			}
			add(t.Start, t.End, lacking)
		}
		if t.End.After(at) {
			at = t.End
		}
	}
	if end.After(at) {
		add(at, end, end.Sub(at))
	}
	return gaps
}

// HostTold is what one host told of a span: from its first interval until the end of its last, but for the gaps.
type HostTold struct {
	Host     int32
	From, To time.Time
	Gaps     []Gap
}
