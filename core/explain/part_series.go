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
	parts  map[linkKey]*partSum
	told   map[hostStep]int64 // milliseconds that a host told of a step
	starts []int64            // of steps, as they were met
	places map[int64]int      // of each start among them
}

type hostStep struct {
	host  int32
	start int64
}

// partSum is what one part of a host had.
type partSum struct {
	isInner   bool
	over, per float64
	steps     []partStep // by the place of their start
}

type partStep struct {
	isThere, hasPeak bool
	over, per, peak  float64
}

// NewPartSums makes empty ones.
func NewPartSums() *PartSums {
	return &PartSums{parts: map[linkKey]*partSum{}, told: map[hostStep]int64{}, places: map[int64]int{}}
}

func (s *PartSums) place(start int64) int {
	i, is := s.places[start]
	if !is {
		i = len(s.starts)
		s.places[start], s.starts = i, append(s.starts, start)
	}
	return i
}

func (s *PartSums) part(k linkKey) *partSum {
	p := s.parts[k]
	if p == nil {
		p = &partSum{}
		s.parts[k] = p
	}
	return p
}

// add adds to what the part had in a step.
func (p *partSum) add(place int, x partStep) {
	for len(p.steps) <= place {
		p.steps = append(p.steps, partStep{})
	}
	step := &p.steps[place]
	if x.hasPeak && (!step.hasPeak || x.peak > step.peak) {
		step.hasPeak, step.peak = true, x.peak
	}
	step.isThere, step.over, step.per = true, step.over+x.over, step.per+x.per
	p.over, p.per = p.over+x.over, p.per+x.per
}

// Add adds what a leaf tells of a figure.
func (s *PartSums) Add(v *leaf.View, q *question.Question, f *leaf.PartFigure) {
	places := make([]int, len(v.Within))
	elapsed := v.Tables[leaf.Intervals].Of("elapsed")
	for at, within := range v.Within {
		start := q.Stretch(v.Start(int64(at))).UnixMicro()
		places[at] = s.place(start)
		if within {
			s.told[hostStep{v.Host, start}] += elapsed[at]
		}
	}
	f.Each(v, func(c *leaf.PartCell) {
		p := s.part(linkKey{v.Host, c.Name})
		p.isInner = c.IsInner
		x := partStep{over: c.Over, per: c.Per}
		if c.Peak != nil {
			x.hasPeak, x.peak = true, *c.Peak
		}
		p.add(places[c.At], x)
	})
}

// Join adds what others have, of other hosts.
func (s *PartSums) Join(others *PartSums) {
	for of, millis := range others.told {
		s.told[of] += millis
	}
	for k, other := range others.parts {
		p := s.part(k)
		p.isInner = other.isInner
		for i, step := range other.steps {
			if step.isThere {
				p.add(s.place(others.starts[i]), step)
			}
		}
	}
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
	type told struct {
		who   linkKey
		sum   *partSum
		whole *float64
	}
	var all []told
	for k, p := range g.Sums.parts {
		names = append(names, k.name)
		if g.Part != "" && k.name != g.Part || g.Part == "" && p.isInner {
			continue
		}
		millis := int64(0)
		for i, step := range p.steps {
			if step.isThere {
				millis += g.Sums.told[hostStep{k.host, g.Sums.starts[i]}]
			}
		}
		if whole := g.Figure.Value(p.over, p.per, millis); whole != nil || g.Part != "" {
			all = append(all, told{k, p, whole})
		}
	}
	slices.SortFunc(all, func(a, b told) int {
		return cmp.Or(-cmp.Compare(orZero(a.whole), orZero(b.whole)),
			cmp.Compare(g.Hosts[a.who.host], g.Hosts[b.who.host]), cmp.Compare(a.who.name, b.who.name))
	})
	if g.First > 0 && len(all) > g.First {
		s.InRest = len(all) - g.First
		all = all[:g.First]
		s.Note = fmt.Sprintf("%d more have a lower mean, and are not told", s.InRest)
	}
	for _, x := range all {
		s.Groups = append(s.Groups, s.ofPart(g, x.who, x.sum, x.whole))
		if slices.ContainsFunc(x.sum.steps, func(step partStep) bool { return step.hasPeak }) {
			s.PeakOf = peakOf
		}
	}
	slices.Sort(names)
	return s, slices.Compact(names)
}

// ofPart is how a figure of one part went.
func (s *Series) ofPart(g *PartGround, who linkKey, p *partSum, whole *float64) SeriesGroup {
	x := SeriesGroup{Name: who.name, Host: g.Hosts[who.host], Whole: whole, Mean: make([]*float64, len(s.Starts)),
		Peak: make([]*float64, len(s.Starts))}
	for place, step := range p.steps {
		start := g.Sums.starts[place]
		if i, is := s.at(time.UnixMicro(start).UTC()); is && step.isThere {
			x.Mean[i] = g.Figure.Value(step.over, step.per, g.Sums.told[hostStep{who.host, start}])
			if step.hasPeak {
				x.Peak[i] = &step.peak
			}
		}
	}
	s.close(&x)
	return x
}

func orZero(v *float64) float64 {
	if v == nil {
		return 0
	}
	return *v
}
