package hub

import (
	"context"
	"time"
)

// Verification says what of one day was recomputed and compared, and where the book differs from itself.
type Verification struct {
	Day         time.Time    `json:"day" doc:"Its begin, in universal time."`
	Intervals   int          `json:"intervals" doc:"That are kept one by one; each was counted once."`
	Hours       int          `json:"hours" doc:"Hours of hosts that were summed again from their intervals."`
	Days        int          `json:"days" doc:"Days of hosts that were summed again from their hours."`
	Peaks       int          `json:"highest_minutes" doc:"Hours whose highest minutes by tenant were found again."`
	Differences []Difference `json:"differences" doc:"None where the book is sound."`
	Next        string       `json:"next,omitempty" doc:"The last host of this page, to be sent as after for the next."`
}

// Difference is one place in which the book does not agree with itself.
type Difference struct {
	Host  string    `json:"host" doc:"Empty where it is about all of them."`
	Start time.Time `json:"start"`
	What  string    `json:"what"`
}

// Verify recomputes what is summed of the day that holds a time, and compares: of the first hosts by name after one,
// all where first is 0.
func (h *Hub) Verify(ctx context.Context, day time.Time, first int, after string) (*Verification, error) {
	if day.Before(earliest) || day.After(latest) {
		return nil, problem(Invalid, "day: %s is not within the years 1970 to 2199", day.UTC().Format(time.RFC3339))
	}
	v, next, err := h.store.Verify(ctx, day, first, after)
	if err != nil {
		return nil, err
	}
	out := &Verification{Day: day.UTC().Truncate(24 * time.Hour), Intervals: v.Intervals, Hours: v.Hours, Days: v.Days,
		Peaks: v.Peaks, Differences: []Difference{}, Next: next}
	for _, d := range v.Differences {
		out.Differences = append(out.Differences, Difference(d))
	}
	return out, nil
}
