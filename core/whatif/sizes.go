package whatif

import (
	"fmt"
	"math"

	"vinescale/core/amount"
)

// Sized is a workload's limit, allotment or size of a resource, with what it had in each step.
type Sized struct {
	Resource amount.Resource
	Held     float64 // in the resource's mean unit
	Steps    []Step
	// In how many of the steps its CPU limit held it back; nil where that is not counted.
	HeldBack *int
	// It is a number of CPUs that work is made to fill: that they are full is no sign that they are too few.
	IsFilled bool
}

// Advice is another size for something that is held, with what it rests on, what it saves, and what it risks.
type Advice struct {
	Resource string  `json:"resource" enum:"cpu,memory"`
	Unit     string  `json:"unit" enum:"cores,bytes"`
	Way      string  `json:"way" enum:"less,more"`
	Held     float64 `json:"held"`
	Advised  float64 `json:"advised" doc:"For more: at least so much, since what it would have used is not known."`
	Saved    float64 `json:"saved" doc:"Below zero for what more would take."`

	Percent float64 `json:"percentile" doc:"Of the highest ticks of all steps, which the advice rests on."`
	At      float64 `json:"at_percentile"`
	Highest float64 `json:"highest_tick"`
	Steps   int     `json:"steps"`
	Hit     int     `json:"steps_hit" doc:"In how many the advised size would have been touched: the risk."`
	HitNow  int     `json:"steps_hit_now" doc:"In how many what is held was touched."`

	Sentence string `json:"sentence"`
}

// Marks says when a size is told as far from what is used.
type Marks struct {
	Percent float64 // the percentile of the highest ticks that a size is to cover
	Spare   float64 // this part of it is put on top
	Least   float64 // savings below this part of what is held are not told
	Hit     float64 // a size that was touched in this part of the steps is too small
}

// UsualMarks are those that are used where nothing else is said.
var UsualMarks = Marks{Percent: 95, Spare: 0.15, Least: 0.3, Hit: 0.05}

// leastSteps is from how many recorded steps on a size is judged.
const leastSteps = 12

// touched is from which part of a size on it counts as touched: the kernel stops just below it.
const touched = 0.98

// Advise advises on a size; false where it fits, or where too little is known.
//
// Too large is what has more than 1/(1-Least) of the percentile with its spare part. Too small is what was touched in
// the part Hit of the steps, or was held back there; it is advised twice what it holds for CPU, and half as much again
// for memory: a start, since the record does not know what it would have used.
func (m Marks) Advise(s *Sized) (Advice, bool) {
	a := Advice{Resource: s.Resource.String(), Unit: s.Resource.MeanUnit(), Held: s.Held, Percent: m.Percent}
	var peaks []float64
	for i := range s.Steps {
		if s.Steps[i].Told > 0 {
			peaks = append(peaks, max(s.Steps[i].Peak, s.Steps[i].Mean))
		}
	}
	a.Steps = len(peaks)
	if a.Steps < leastSteps || s.Held <= 0 {
		return a, false
	}
	a.At = Percentile(peaks, m.Percent)
	a.Highest = Percentile(peaks, 100)
	if !s.IsFilled {
		a.HitNow = count(peaks, touched*s.Held)
	}
	if s.HeldBack != nil {
		a.HitNow = max(a.HitNow, *s.HeldBack)
	}
	if float64(a.HitNow) >= m.Hit*float64(a.Steps) {
		return m.more(a), true
	}
	a.Way, a.Advised = "less", m.rounded(s.Resource, a.At*(1+m.Spare))
	a.Saved = a.Held - a.Advised
	a.Hit = count(peaks, a.Advised)
	if a.Saved < m.Least*a.Held {
		return a, false
	}
	a.Sentence = fmt.Sprintf(
		"It holds %s, and in %g of 100 steps its highest tick was at most %s: %s would do, and save %s",
		Amount(a.Resource, a.Held),
		m.Percent,
		Amount(a.Resource, a.At),
		Amount(a.Resource, a.Advised),
		Amount(a.Resource, a.Saved),
	)
	if a.Hit == 0 {
		a.Sentence += "; it would never have been touched."
	} else {
		a.Sentence += fmt.Sprintf("; it would have been touched in %s of the steps.", part(a.Hit, a.Steps))
	}
	return a, true
}

func (m Marks) more(a Advice) Advice {
	factor := 2.0
	what := "was held back"
	if a.Resource == amount.Memory.String() {
		factor, what = 1.5, "was at its limit"
	}
	r, _ := amount.ParseResource(a.Resource) // of the register
	a.Way, a.Advised = "more", m.rounded(r, a.Held*factor)
	a.Saved = a.Held - a.Advised
	a.Sentence = fmt.Sprintf(
		"It holds %s, and %s in %s of the steps: what it would have used is not known; begin with %s.",
		Amount(a.Resource, a.Held),
		what,
		part(a.HitNow, a.Steps),
		Amount(a.Resource, a.Advised),
	)
	return a
}

// rounded is a size as people set it: cores by quarters, memory by 64 MiB, upwards, and never nothing.
func (m Marks) rounded(r amount.Resource, v float64) float64 {
	unit := 0.25
	if r == amount.Memory {
		unit = 64 << 20
	}
	return max(math.Ceil(v/unit-1e-9), 1) * unit
}

func count(of []float64, above float64) (n int) {
	for _, v := range of {
		if v > above {
			n++
		}
	}
	return n
}
