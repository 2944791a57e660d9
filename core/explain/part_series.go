package explain

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"vinescale/core/leaf"
	"vinescale/core/question"
)

// ByPart is what series of parts are grouped by.
const ByPart = "part"

// PartSums adds up a figure of hosts' parts over steps. Make it with NewPartSums.
type PartSums struct {
	parts map[linkKey]*partSum
	told  map[hostStep]int64 // milliseconds that a host told of a step
}

type hostStep struct {
	host  int32
	start int64
}

// partSum is what one part of a host had.
type partSum struct {
	isInner   bool
	over, per float64
	steps     map[int64]*partStep
}

type partStep struct {
	over, per float64
	peak      *float64
}

// NewPartSums makes empty ones.
func NewPartSums() *PartSums {
	return &PartSums{parts: map[linkKey]*partSum{}, told: map[hostStep]int64{}}
}

// Add adds what a leaf tells of a figure.
func (s *PartSums) Add(v *leaf.View, q *question.Question, f *leaf.PartFigure) {
	starts := make([]int64, len(v.Within))
	elapsed := v.Tables[leaf.Intervals].Of("elapsed")
	for at, within := range v.Within {
		starts[at] = q.Stretch(v.Start(int64(at))).UnixMicro()
		if within {
			s.told[hostStep{v.Host, starts[at]}] += elapsed[at]
		}
	}
	f.Each(v, func(c *leaf.PartCell) {
		k := linkKey{v.Host, c.Name}
		p := s.parts[k]
		if p == nil {
			p = &partSum{steps: map[int64]*partStep{}}
			s.parts[k] = p
		}
		p.isInner, p.over, p.per = c.IsInner, p.over+c.Over, p.per+c.Per
		step := p.steps[starts[c.At]]
		if step == nil {
			step = &partStep{}
			p.steps[starts[c.At]] = step
		}
		step.over, step.per = step.over+c.Over, step.per+c.Per
		if c.Peak != nil && (step.peak == nil || *c.Peak > *step.peak) {
			step.peak = c.Peak
		}
	})
}

// PartGround is what series of parts are made of.
type PartGround struct {
	Figure    *leaf.PartFigure
	Step      time.Duration
	Stretches []question.Stretch
	Sums      *PartSums
	Hosts     map[int32]string // their names
	Part      string           // only the part of this name; "" for all that are not within another
	First     int              // parts that are told: those with the highest mean; 0 for all
}

// PartSeries is how a figure of parts went, highest mean first. In a step in which a part was not there, or told
// nothing, it has no figure. Names lists all parts there are, told or not.
func PartSeries(about Over, g *PartGround) (s *Series, names []string) {
	s = layOut(about, g.Step, g.Stretches)
	s.Measure, s.Unit, s.By = g.Figure.Name, g.Figure.Unit.Mean, ByPart
	peakOf := PeakOfTick
	if g.Figure.Of == leaf.SensorPart {
		peakOf = PeakOfReading
	}
	for k, p := range g.Sums.parts {
		names = append(names, k.name)
		if g.Part != "" && k.name != g.Part || g.Part == "" && p.isInner {
			continue
		}
		x := SeriesGroup{Name: k.name, Host: g.Hosts[k.host], Mean: make([]*float64, len(s.Starts)),
			Peak: make([]*float64, len(s.Starts))}
		told := int64(0)
		for start, step := range p.steps {
			millis := g.Sums.told[hostStep{k.host, start}]
			told += millis
			if i, is := s.at(time.UnixMicro(start).UTC()); is {
				x.Mean[i], x.Peak[i] = g.Figure.Value(step.over, step.per, millis), step.peak
				if step.peak != nil {
					s.PeakOf = peakOf
				}
			}
		}
		x.Whole = g.Figure.Value(p.over, p.per, told)
		s.close(&x)
		if x.Whole != nil || g.Part != "" {
			s.Groups = append(s.Groups, x)
		}
	}
	slices.SortFunc(s.Groups, func(a, b SeriesGroup) int {
		return cmp.Or(-cmp.Compare(orZero(a.Whole), orZero(b.Whole)), cmp.Compare(a.Host, b.Host),
			cmp.Compare(a.Name, b.Name))
	})
	if g.First > 0 && len(s.Groups) > g.First {
		s.InRest = len(s.Groups) - g.First
		s.Groups = s.Groups[:g.First]
		s.Note = fmt.Sprintf("%d more have a lower mean, and are not told", s.InRest)
	}
	slices.Sort(names)
	return s, slices.Compact(names)
}

func orZero(v *float64) float64 {
	if v == nil {
		return 0
	}
	return *v
}
