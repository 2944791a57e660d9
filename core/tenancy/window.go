package tenancy

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Window divides time into the stretches that an allowance is for. The zero value is none. Bounds are midnights of a
// time zone, so that a day of 23 or 25 hours, where clocks are changed, is a day.
type Window struct {
	By     WindowBy
	Days   int       // for ByDays: how many days each has
	Anchor time.Time // for ByDays: midnight in UTC of a day on which one begins
}

// WindowBy says where windows begin.
type WindowBy uint8

// The windows there are.
const (
	NoWindow WindowBy = iota
	ByDay
	ByWeek  // from Monday, as ISO 8601 has it
	ByMonth // of the calendar
	ByDays  // so many days each, counted from a date
)

// windowForm tells how windows are written.
const windowForm = `day, week, month, or such as "14 days from 2026-09-01"`

// longestWindow is how many days a window may have.
const longestWindow = 3660

// ParseWindow reads a window: day, week, month, or such as "14 days from 2026-09-01".
func ParseWindow(text string) (Window, error) {
	words := strings.Fields(strings.ToLower(text))
	wrong := fmt.Errorf("a window of %q: give %s", text, windowForm)
	switch {
	case len(words) == 1:
		by, ok := map[string]WindowBy{"day": ByDay, "week": ByWeek, "month": ByMonth}[words[0]]
		if !ok {
			return Window{}, wrong
		}
		return Window{By: by}, nil
	case len(words) != 4 || words[1] != "days" && words[1] != "day" || words[2] != "from":
		return Window{}, wrong
	}
	days, err := strconv.Atoi(words[0])
	if err != nil || days < 1 || days > longestWindow {
		return Window{}, fmt.Errorf("a window of %q days: give 1 to %d", words[0], longestWindow)
	}
	anchor, err := time.Parse(time.DateOnly, words[3])
	if err != nil {
		return Window{}, fmt.Errorf("a window from %q on: give a date such as 2026-09-01", words[3])
	}
	return Window{By: ByDays, Days: days, Anchor: anchor}, nil
}

// String is what ParseWindow reads; empty for none.
func (w Window) String() string {
	switch w.By {
	case ByDay:
		return "day"
	case ByWeek:
		return "week"
	case ByMonth:
		return "month"
	case ByDays:
		return fmt.Sprintf("%d days from %s", w.Days, w.Anchor.Format(time.DateOnly))
	}
	return ""
}

// IsNone tells whether there is no window.
func (w Window) IsNone() bool { return w.By == NoWindow }

// Bounds are those of the window that a moment is in, in a time zone: from is in it, to is the next one's first moment.
func (w Window) Bounds(at time.Time, zone *time.Location) (from, to time.Time) {
	y, m, d := at.In(zone).Date()
	midnight := func(month time.Month, day int) time.Time { return firstMoment(y, month, day, zone) }
	switch w.By {
	case ByDay:
		return midnight(m, d), midnight(m, d+1)
	case ByWeek:
		monday := d - (int(at.In(zone).Weekday())+6)%7
		return midnight(m, monday), midnight(m, monday+7)
	case ByMonth:
		return midnight(m, 1), midnight(m+1, 1)
	case ByDays:
		day := time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
		since := int(day.Sub(w.Anchor).Hours() / 24) // days of UTC all have 24 hours
		into := (since%w.Days + w.Days) % w.Days
		return midnight(m, d-into), midnight(m, d-into+w.Days)
	}
	return at, at
}

// firstMoment is when a day begins: at midnight, or where clocks are put forward then, at the first moment there is.
func firstMoment(y int, m time.Month, d int, zone *time.Location) time.Time {
	t := time.Date(y, m, d, 0, 0, 0, 0, zone)
	want := time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Day()
	if t.Day() == want {
		return t.UTC()
	}
	// The hour of midnight does not exist: the zone's change is the day's first moment.
	for low, high := t, t.Add(3*time.Hour); ; {
		if high.Sub(low) <= time.Second {
			if high.Day() != want {
				return firstMoment(y, m, d+1, zone) // the zone left out the whole day
			}
			return high.UTC().Truncate(time.Second)
		}
		if mid := low.Add(high.Sub(low) / 2); mid.Day() == want {
			high = mid
		} else {
			low = mid
		}
	}
}
