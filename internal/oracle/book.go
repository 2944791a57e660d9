package oracle

import (
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

// Book holds intervals as they were sent, with whose they were.
type Book struct {
	Minutes   []Minute
	Hosts     map[int32]string
	Tenants   map[int32]string // those that are there; usage of others is unassigned
	Workloads map[int64]Workload
}

// Minute is one interval of one host. Ids and tenants are by the interval's workloads.
type Minute struct {
	Host     int32
	Start    time.Time
	Interval *wire.Interval
	IDs      []int64
	Tenants  []int32 // to whom each was accounted at the time

	figures map[amount.Measure][]figure // by workload, as far as they were asked for
}

// Workload is what questions may group a workload by.
type Workload struct {
	Host              int32
	Name, Kind, Owner string
	Labels, Facts     map[string]string
}

// tenant is to whom the usage of the i-th workload is accounted: that of a tenant that was removed is unassigned.
func (b *Book) tenant(m *Minute, i int) int32 {
	if _, there := b.Tenants[m.Tenants[i]]; there {
		return m.Tenants[i]
	}
	return 0
}

// each visits every workload of every interval that a scope holds.
func (b *Book) each(s *question.Scope, visit func(m *Minute, i int)) {
	for k := range b.Minutes {
		m := &b.Minutes[k]
		if m.Start.Before(s.Span.From) || !m.Start.Before(s.Span.To) || !in(s.Hosts, m.Host) {
			continue
		}
		for i, id := range m.IDs {
			if t := b.tenant(m, i); in(s.Only, id) && in(s.Tenants, t) && in(s.Sees, t) {
				visit(m, i)
			}
		}
	}
}

// stretch is the begin of the step that a time falls into: of all multiples of the step since 1970, the last one that
// is not after it.
func stretch(at time.Time, step time.Duration) time.Time {
	n := at.Unix() / int64(step.Seconds())
	return time.Unix(n*int64(step.Seconds()), 0).UTC()
}

// in tells whether a list has a number; no list at all has every one.
func in[T comparable](list []T, x T) bool {
	if list == nil {
		return true
	}
	for _, y := range list {
		if y == x {
			return true
		}
	}
	return false
}

// figure is what one workload had of one measure in one interval.
type figure struct {
	units, peak int64
	source      amount.Source
	told        bool // by the collector, if only that it cannot be had
}

func figureOf(m *Minute, i int, of amount.Measure) figure {
	if m.figures[of] == nil {
		if m.figures == nil {
			m.figures = map[amount.Measure][]figure{}
		}
		m.figures[of] = figuresOf(m, of)
	}
	return m.figures[of][i]
}

// figuresOf is what all workloads of an interval had of a measure.
func figuresOf(m *Minute, of amount.Measure) []figure {
	list := make([]figure, len(m.IDs))
	for i := range list {
		list[i] = figure{source: amount.Unavailable, told: !of.HasLedger()}
	}
	if of.HasLedger() {
		for _, u := range m.Interval.GetUsages() {
			for i := range u.Units {
				if u.Resource == of.String() {
					list[i] = figure{u.Units[i], u.Peak[i], amount.Source(u.Source[i]), true}
				}
			}
		}
		return list
	}
	for _, c := range m.Interval.GetFigures().GetMeasures() {
		for k, i := range c.Workload {
			if c.Name == of.String() {
				source := c.Source[0]
				if len(c.Source) > 1 {
					source = c.Source[k]
				}
				list[i] = figure{c.Units[k], 0, amount.Source(source), true}
			}
		}
	}
	return list
}
