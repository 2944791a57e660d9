package act

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Standing is a rule that has an act done by itself: when a condition has held of a workload for a time. It is off
// until it is switched on.
type Standing struct {
	Name      string            `json:"name"`
	Condition string            `json:"condition" doc:"An expression over a workload and what it used in a minute."`
	Except    string            `json:"except,omitempty" doc:"What is let alone, in the same language."`
	For       time.Duration     `json:"-"`
	Verb      Verb              `json:"verb" doc:"An act on workloads, or note: it is only written down."`
	Settings  map[string]string `json:"settings"`
	PerHour   int               `json:"per_hour" doc:"More acts in an hour stop the rule."`
	Hours     string            `json:"hours,omitempty" doc:"Only then, such as 08:00-18:00; at any time when empty."`
	Zone      string            `json:"zone,omitempty" doc:"Of the hours, by the tz database; UTC when empty."`
}

// Note is the verb of a standing rule that is only to write down what it finds.
const Note Verb = "note"

// Bounds of standing rules.
const (
	ShortestFor = time.Minute
	LongestFor  = 6 * time.Hour
	mostPerHour = 100
)

// Check says what is wrong with a standing rule, but for its expressions.
func (s *Standing) Check() (Standing, error) {
	clean := *s
	switch {
	case s.For < ShortestFor || s.For > LongestFor || s.For%time.Minute != 0:
		return clean, fmt.Errorf("for %s: give whole minutes, %s to %s", s.For, ShortestFor, LongestFor)
	case s.PerHour < 1 || s.PerHour > mostPerHour:
		return clean, fmt.Errorf("%d acts an hour: give 1 to %d", s.PerHour, mostPerHour)
	}
	if _, err := s.Open(time.Time{}); err != nil {
		return clean, err
	}
	if s.Verb == Note {
		if len(s.Settings) > 0 {
			return clean, errors.New("note takes no settings")
		}
		clean.Settings = map[string]string{}
		return clean, nil
	}
	r := Request{Verb: s.Verb, Target: Target{Form: OfWorkload, Key: "any"}, Settings: s.Settings}
	checked, err := r.Check()
	clean.Settings = checked.Settings
	return clean, err
}

// Open tells whether the rule is in force at a moment, by its hours. Hours may go over midnight.
func (s *Standing) Open(at time.Time) (bool, error) {
	if s.Hours == "" {
		return true, nil
	}
	wrong := fmt.Errorf("hours %q: write them as 08:00-18:00", s.Hours)
	from, to, is := strings.Cut(s.Hours, "-")
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return false, fmt.Errorf("time zone %q: name one of the tz database, such as Europe/Vienna", s.Zone)
	}
	a, err1 := time.Parse("15:04", from)
	b, err2 := time.Parse("15:04", to)
	if !is || err1 != nil || err2 != nil || a.Equal(b) {
		return false, wrong
	}
	local := at.In(zone)
	minute := func(t time.Time) int { return t.Hour()*60 + t.Minute() }
	now, begin, end := minute(local), minute(a), minute(b)
	if begin < end {
		return begin <= now && now < end, nil
	}
	return now >= begin || now < end, nil
}

// Firings are the moments at which a condition had held for a time, by the minutes in which it held, in order: one for
// each stretch in which it held without a gap. A minute of which nothing is told ends a stretch.
func Firings(held []time.Time, forTime time.Duration) (at []time.Time) {
	run := time.Duration(0)
	for i, m := range held {
		if i > 0 && !held[i-1].Add(time.Minute).Equal(m) {
			run = 0
		}
		if run += time.Minute; run == forTime {
			at = append(at, m.Add(time.Minute))
		}
	}
	return at
}
