package whatif

import (
	"fmt"
	"math"
	"slices"
	"time"

	"vinescale/core/amount"
)

// Day is what hosts had of a resource on a day: the mean of its highest hour, in the resource's mean unit.
type Day struct {
	Start time.Time
	Most  float64
}

// Fill is how what hosts use of a resource grows, and when it fills them.
type Fill struct {
	On       string     `json:"on" doc:"A host, a pool, or all hosts."`
	Resource string     `json:"resource"`
	Unit     string     `json:"unit"`
	Capacity float64    `json:"capacity"`
	Full     float64    `json:"full" doc:"What counts as full: the capacity less the part that is to stay free."`
	Now      *float64   `json:"now" doc:"The line at the last day; null where too few days are known."`
	PerDay   *float64   `json:"per_day" doc:"The median of how much it grew a day, between any two days."`
	Low      *float64   `json:"per_day_low" doc:"A tenth of these is below it."`
	High     *float64   `json:"per_day_high" doc:"A tenth of them is above it."`
	Fills    *time.Time `json:"fills" doc:"When it is full at that pace; null where it is not within two years."`
	Early    *time.Time `json:"fills_early" doc:"At the highest pace."`
	Late     *time.Time `json:"fills_late" doc:"At the lowest."`
	IsFull   bool       `json:"is_full"`
	Days     int        `json:"days_known"`
	Sentence string     `json:"sentence"`
}

// GrowthMethod says how growth is told.
const GrowthMethod = "Each day counts with the mean of its highest hour. Between any two days there is a pace; " +
	"their median is the growth, and the paces that a tenth of them are below and above are the range (after Theil " +
	"and Sen). " +
	"It is taken to go on as it went: what is planned is not in it."

const (
	leastDays = 3                        // that growth is told from
	horizon   = 2 * 365 * 24 * time.Hour // as far as it is told
)

// Grow tells how a resource grows, by days in order of time; those of which nothing is known are left out. A part of
// the capacity is to stay free.
func Grow(on string, r amount.Resource, capacity, spare float64, days []Day) *Fill {
	g := &Fill{On: on, Resource: r.String(), Unit: r.MeanUnit(), Capacity: capacity, Full: capacity * (1 - spare),
		Days: len(days)}
	if len(days) < leastDays {
		g.Sentence = fmt.Sprintf("%d whole days are known: growth is told from %d on.", len(days), leastDays)
		return g
	}
	last := days[len(days)-1].Start
	at := func(d Day) float64 { return d.Start.Sub(last).Hours() / 24 }
	var paces []float64
	for i := range days {
		for k := range i {
			if apart := at(days[i]) - at(days[k]); apart > 0 {
				paces = append(paces, (days[i].Most-days[k].Most)/apart)
			}
		}
	}
	pace := middle(paces)
	low, high := Percentile(paces, 10), Percentile(paces, 90)
	var levels []float64
	for _, d := range days {
		levels = append(levels, d.Most-pace*at(d))
	}
	now := middle(levels)
	g.Now, g.PerDay, g.Low, g.High = &now, &pace, &low, &high
	g.IsFull = now >= g.Full
	if !g.IsFull {
		g.Fills, g.Early, g.Late = g.when(now, pace, last), g.when(now, high, last), g.when(now, low, last)
	}
	g.Sentence = g.words()
	return g
}

// middle is the median of some numbers.
func middle(of []float64) float64 {
	sorted := slices.Sorted(slices.Values(of))
	n := len(sorted)
	if n%2 == 1 {
		return sorted[n/2]
	}
	return (sorted[n/2-1] + sorted[n/2]) / 2
}

// when is when a line is full; nil where it is not within the horizon.
func (g *Fill) when(now, pace float64, last time.Time) *time.Time {
	if pace <= 0 {
		return nil
	}
	days := (g.Full - now) / pace
	if days*24 > horizon.Hours() {
		return nil
	}
	t := last.Add(time.Duration(math.Round(days*24)) * time.Hour)
	return &t
}

func (g *Fill) words() string {
	figure := func(v float64) string { return Figure(g.Resource, v) }
	if g.IsFull {
		return fmt.Sprintf("It is full: %s of %s are used in the highest hour.", figure(*g.Now), figure(g.Capacity))
	}
	day := func(t *time.Time) string {
		if t == nil {
			return "not within two years"
		}
		return t.Format("2006-01-02")
	}
	switch {
	case g.Fills == nil && g.Early == nil:
		return fmt.Sprintf("It is not full within two years: %s of %s are used in the highest hour.", figure(*g.Now),
			figure(g.Capacity))
	case g.Fills == nil:
		return fmt.Sprintf("It is not full within two years at its usual pace; at the highest on %s.", day(g.Early))
	}
	return fmt.Sprintf("It grows by %s a day, and is full on %s (from %s on at the highest pace, at the lowest %s).",
		figure(*g.PerDay), day(g.Fills), day(g.Early), day(g.Late))
}
