package hub

import (
	"time"

	"vinescale/core/question"
)

// Fleet is the word for all hosts where a host's name stands.
const Fleet = "all hosts"

// Nothing is counted outside of these years, and no answer need tell of a time that cannot be written down.
var (
	earliest = time.Unix(0, 0)
	latest   = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)
)

// Span makes a span of whole minutes that holds what was asked: from and to where both are given, else the last
// length before now (or before to). The longest is 400 days.
func (h *Hub) Span(from, to time.Time, length time.Duration) (question.Span, error) {
	if to.IsZero() {
		to = h.options.Now()
	}
	if from.IsZero() {
		if length == 0 {
			length = time.Hour
		}
		if length < time.Minute {
			return question.Span{}, problem(Invalid, "a span of %s: intervals are one minute, ask for at least one",
				length)
		}
		from = to.Add(-length)
	}
	if !from.Before(to) {
		return question.Span{}, problem(Invalid, "the span ends (%s) before it begins (%s)",
			to.UTC().Format(time.RFC3339),
			from.UTC().Format(time.RFC3339))
	}
	if from.Before(earliest) || to.After(latest) {
		return question.Span{}, problem(Invalid, "from and to: %s to %s is not within the years 1970 to 2199",
			from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339))
	}
	if to.Sub(from) > 400*24*time.Hour {
		return question.Span{}, problem(Invalid, "a span of %d days: ask for at most 400", int(to.Sub(from).Hours()/24))
	}
	return question.Span{From: from.UTC().Truncate(time.Minute),
			To: to.UTC().Add(time.Minute - 1).Truncate(time.Minute)},
		nil
}
