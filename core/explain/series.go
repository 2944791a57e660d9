package explain

import (
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// Series is how a measure went over a span, by steps. What is null was not told in its step: uncovered says of which
// hosts and why.
type Series struct {
	Over
	Measure string      `json:"measure"`
	Unit    string      `json:"mean_unit" doc:"Of means and peaks."`
	By      string      `json:"by"`
	Step    float64     `json:"step_seconds"`
	Starts  []time.Time `json:"starts" doc:"Of every step, in order; the first may begin before the span."`
	Seconds []float64   `json:"seconds" doc:"How long figures cover each step: the longest of any host."`
	PeakOf  string      `json:"peak_of" enum:"tick,minute,reading,none" doc:"Of what a peak is the highest."`

	// Of the hosts as a whole: where all of them were asked for, and the measure has a ledger. Else null.
	Capacity []*float64 `json:"capacity"`
	Used     []*float64 `json:"used"`
	Kernel   []*float64 `json:"kernel" doc:"With what a hypervisor took."`
	Residual []*float64 `json:"residual" doc:"Used less the groups, the kernel and what was taken."`

	Groups []SeriesGroup `json:"groups" doc:"Most first."`
	Rest   *SeriesGroup  `json:"rest" doc:"All other groups together; null where there are none."`
	InRest int           `json:"groups_in_rest"`
	Note   string        `json:"note,omitempty" doc:"What is to be known of it, as that sums stand for intervals."`

	// An interval may be longer than a step: what it tells stands in each step that it covers.
	of     []int   // by step: the one in which the interval that covers it began
	millis []int64 // by step: how long the figures are that began in it
}

// SeriesGroup is one group's figures, by step.
type SeriesGroup struct {
	ID     int64  `json:"id" doc:"Of a workload; else 0."`
	Name   string `json:"name"`
	Kind   string `json:"kind,omitempty"`
	Owner  string `json:"owner,omitempty"`
	Tenant string `json:"tenant,omitempty"`
	Host   string `json:"host,omitempty"`

	Mean []*float64 `json:"mean"`
	Peak []*float64 `json:"peak" doc:"Null throughout where peaks are of none."`

	Whole   *float64 `json:"mean_whole" doc:"Over the whole span."`
	Least   *float64 `json:"least" doc:"The lowest mean of a step."`
	Most    *float64 `json:"most" doc:"The highest peak, or where there are none the highest mean of a step."`
	Source  string   `json:"source"`
	Missing int      `json:"missing" doc:"Workloads in it without a figure in some interval."`

	units []float64 // by step
}

// SeriesRow is what a group had in one step.
type SeriesRow struct {
	Start time.Time
	Sum   question.Sum
	Peak  *float64 // in the measure's mean unit
}

// SeriesGround is what series are made of.
type SeriesGround struct {
	Measure   amount.Measure
	Step      time.Duration
	Stretches []question.Stretch // by step: of the measure where it has a ledger, and at least of how long was told
	IsWhole   bool               // the stretches' lines are of what the groups are of
	PeakOf    string
}

// What peaks are the highest of.
const (
	PeakOfTick   = "tick"
	PeakOfMinute = "minute"
	PeakOfNone   = "none"

	PeakOfReading = "reading" // of a sensor
)

// NewSeries lays out the steps of a span.
func NewSeries(about Over, g *SeriesGround, by string) *Series {
	s := layOut(about, g.Step, g.Stretches)
	s.Measure, s.Unit, s.By, s.PeakOf = g.Measure.String(), g.Measure.MeanUnit(), by, g.PeakOf
	return s
}

// layOut makes the steps of a span, of which hosts told as stretches say, without any figures.
func layOut(about Over, step time.Duration, stretches []question.Stretch) *Series {
	s := &Series{Over: about, Step: step.Seconds(), PeakOf: PeakOfNone, Groups: []SeriesGroup{},
		Starts: []time.Time{}}
	q := question.Question{Step: step}
	for at := q.Stretch(about.From); at.Before(about.To); at = at.Add(step) {
		s.Starts = append(s.Starts, at)
	}
	s.Seconds = make([]float64, len(s.Starts))
	s.of, s.millis = make([]int, len(s.Starts)), make([]int64, len(s.Starts))
	for i := range stretches {
		if k, is := s.at(stretches[i].Start); is {
			s.millis[k] = stretches[i].ElapsedMillis
		}
	}
	left, from := int64(0), 0 // of the interval that began in from
	for k := range s.Starts {
		if s.millis[k] > 0 || left <= 0 {
			left, from = s.millis[k], k
		}
		s.of[k] = from
		part := left
		if k+1 < len(s.Starts) && s.millis[k+1] == 0 {
			part = min(left, step.Milliseconds())
		}
		s.Seconds[k] = float64(part) / 1000
		left -= part
	}
	return s
}

// hold lets what was told of an interval stand in each step that it covers.
func (s *Series) hold(figures []*float64) {
	for k, of := range s.of {
		if figures[of] != nil && s.Seconds[k] > 0 {
			figures[k] = figures[of]
		}
	}
}

func (s *Series) at(start time.Time) (int, bool) {
	return slices.BinarySearchFunc(s.Starts, start, time.Time.Compare)
}

// Group makes a group's figures of what it had by step. In a step that was told of the hosts where it could be, and in
// which it had nothing, it has zero; told says whether a step was. Of a level or a height that is not told by all, that
// is not known.
func (s *Series) Group(g *SeriesGround, who *SeriesGroup, rows []SeriesRow, told func(step int) bool) SeriesGroup {
	x := *who
	x.Mean, x.Peak = make([]*float64, len(s.Starts)), make([]*float64, len(s.Starts))
	x.units = make([]float64, len(s.Starts))
	there := make([]bool, len(s.Starts))
	for i := range rows {
		k, is := s.at(rows[i].Start)
		if !is {
			continue
		}
		there[k] = true
		sum := &rows[i].Sum
		if !sum.Known() || s.millis[k] == 0 {
			continue
		}
		mean := g.Measure.Mean(sum.Units, s.over(g, k, sum))
		x.Mean[k], x.Peak[k], x.units[k] = &mean, rows[i].Peak, sum.Units
	}
	for k := range s.Starts {
		if !there[k] && s.millis[k] > 0 && g.Measure.HasLedger() && told(k) {
			x.Mean[k] = new(float64)
		}
	}
	s.close(&x)
	return x
}

// close lets a group's figures stand in each step that they cover, and finds the lowest and the highest.
func (s *Series) close(x *SeriesGroup) {
	s.hold(x.Mean)
	s.hold(x.Peak)
	for k, mean := range x.Mean {
		if mean == nil {
			continue
		}
		most := mean
		if x.Peak[k] != nil {
			most = x.Peak[k]
		}
		if x.Least == nil || *mean < *x.Least {
			x.Least = mean
		}
		if x.Most == nil || *most > *x.Most {
			x.Most = most
		}
	}
}

// over is the time that a sum's mean is over: that of the step, or where a measure is told seldom that of its figures.
func (s *Series) over(g *SeriesGround, k int, sum *question.Sum) int64 {
	if (!g.Measure.HasLedger() || g.Measure.Entry().IsSlow) && sum.Over > 0 {
		return sum.Over
	}
	return s.millis[k]
}

// RestOf is what all groups together had less what those had that are told: in units, because the mean of a group may
// be over less time than that of all.
func (s *Series) RestOf(g *SeriesGround, all []SeriesRow) SeriesGroup {
	rest := slices.Clone(all)
	for i := range rest {
		r := &rest[i]
		k, is := s.at(r.Start)
		if !is {
			continue
		}
		whole := r.Sum.Units
		for n := range s.Groups {
			if units := s.Groups[n].units; units != nil {
				r.Sum.Units -= units[k]
			}
		}
		if r.Sum.Units < 0 && -r.Sum.Units < 1e-9*whole {
			r.Sum.Units = 0 // what floating point leaves
		}
		r.Peak = nil
	}
	return s.Group(g, &SeriesGroup{Name: "all others"}, rest, func(int) bool { return true })
}

// AddLines adds the hosts' own lines, where the groups are all that there are: their residual is what neither the
// groups nor the kernel had. All are the sums of all groups by step, in account units.
func (s *Series) AddLines(g *SeriesGround, all map[time.Time]float64) {
	if !g.Measure.HasLedger() || !g.IsWhole {
		return
	}
	n := len(s.Starts)
	s.Capacity, s.Used, s.Kernel = make([]*float64, n), make([]*float64, n), make([]*float64, n)
	s.Residual = make([]*float64, n)
	for i := range g.Stretches {
		x := &g.Stretches[i]
		k, is := s.at(x.Start)
		if !is || x.ElapsedMillis == 0 {
			continue
		}
		of := &x.Of[0]
		put := func(into []*float64, line question.Line) {
			if line.OK() {
				mean := g.Measure.Mean(line.Units, x.ElapsedMillis)
				into[k] = &mean
			}
		}
		put(s.Capacity, of.Capacity)
		put(s.Used, of.Used)
		if of.Kernel.OK() || of.Steal.OK() {
			put(s.Kernel, question.Line{Units: of.Kernel.Units + of.Steal.Units})
		}
		put(s.Residual, of.Residual(all[x.Start]))
	}
	for _, figures := range [][]*float64{s.Capacity, s.Used, s.Kernel, s.Residual} {
		s.hold(figures)
	}
}
