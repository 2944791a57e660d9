package store

import (
	"math/bits"
	"time"
)

// lateness is by how much an interval of a minute may be longer, in milliseconds, and still be counted in one minute: a
// reading comes a little late.
const lateness = 1000

// minuteRule says in which minutes an interval is counted: where it is no longer than a minute, in the one that it
// began in. A longer one is divided into minutes from its begin on, and what is left at its end is counted in the one
// after; what was used in it is taken to have been used evenly, since nothing else is known.
//
// Books from before the rule was this one divided an interval into equal parts, as many as it had minutes to the
// nearest. What began before then stays as it was counted.
type minuteRule struct{ since time.Time }

// parts is in how many minutes an interval is counted.
func (r minuteRule) parts(start time.Time, elapsedMillis int64) int64 {
	if start.Before(r.since) {
		return max((elapsedMillis+30_000)/60_000, 1)
	}
	return max((elapsedMillis-lateness+59_999)/60_000, 1)
}

// end is when the last minute ends that an interval is counted in.
func (r minuteRule) end(start time.Time, elapsedMillis int64) time.Time {
	return start.Truncate(time.Minute).Add(time.Duration(r.parts(start, elapsedMillis)) * time.Minute)
}

// each divides what was used in an interval over the minutes that it is counted in. The parts add up to it.
func (r minuteRule) each(start time.Time, elapsedMillis, units int64, visit func(minute time.Time, units int64)) {
	n := r.parts(start, elapsedMillis)
	minute, part := start.Truncate(time.Minute), units/n
	until := func(k int64) int64 { // what was used until the end of its k-th minute
		switch {
		case k == n:
			return units
		case start.Before(r.since):
			return k*part + min(k, units%n)
		}
		high, low := bits.Mul64(uint64(units), uint64(60_000*k))
		used, _ := bits.Div64(high, low, uint64(elapsedMillis))
		return int64(used)
	}
	for k, before := int64(1), int64(0); k <= n; k++ {
		used := until(k)
		visit(minute, used-before)
		minute, before = minute.Add(time.Minute), used
	}
}
