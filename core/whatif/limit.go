package whatif

import (
	"slices"
	"time"

	"vinescale/core/amount"
)

// Step is what a workload had of a resource in a step of time.
type Step struct {
	Start time.Time
	Mean  float64 // in the resource's mean unit, such as cores, over the time that was recorded
	Peak  float64 // of the highest tick
	Told  time.Duration
}

// Limited is what a limit would have done to a workload, had it been in force over a span.
type Limited struct {
	Resource string  `json:"resource" enum:"cpu,memory"`
	Unit     string  `json:"unit" enum:"cores,bytes"`
	Limit    float64 `json:"limit"`
	// What limits it now; nil for nothing.
	Now   *float64 `json:"now" doc:"Its limit now; null for none."`
	Freed *float64 `json:"freed" doc:"What it would free; below zero for what it takes. Null without a limit now."`

	Step     float64 `json:"step_seconds" doc:"How long each step is."`
	Steps    int     `json:"steps" doc:"Those that something was recorded of."`
	Surely   int     `json:"steps_over" doc:"In these it had more than the limit as a mean."`
	Possibly int     `json:"steps_touched" doc:"In these its highest tick was above the limit: those among them."`
	Highest  float64 `json:"highest_tick"`
	P95      float64 `json:"p95" doc:"So much the highest tick did not exceed in 95 of 100 steps."`

	// Of CPU: the work that would not have fitted into the steps in which it was done. It would have been done later.
	Late  *float64 `json:"late_cpu_seconds" doc:"Of CPU: work that would have come later, at least. Null for memory."`
	Delay *float64 `json:"delay_seconds" doc:"Of CPU: by how much something would have been late, at least."`
	Open  *float64 `json:"open_cpu_seconds" doc:"Of CPU: work that would not have been done by the end of the span."`

	First    *time.Time `json:"first" doc:"Begin of the first step that it would have touched."`
	Last     *time.Time `json:"last" doc:"End of the last."`
	Worst    *time.Time `json:"worst" doc:"Begin of that in which it had most."`
	Sentence string     `json:"sentence"`
}

// Limit plays steps again with a limit: a number of cores, or of bytes. Steps are in order of time, each so long.
//
// Of CPU: what is more than the limit in a step waits, and is done in later steps as far as these have room. The
// longest queue over the limit is by how much something would have been late. Within a step, the work may have waited
// longer: the record does not know, so these are lower bounds.
func Limit(r amount.Resource, limit float64, now *float64, steps []Step, long time.Duration) *Limited {
	x := &Limited{Resource: r.String(), Unit: r.MeanUnit(), Limit: limit, Now: now, Step: long.Seconds()}
	if now != nil {
		freed := *now - limit
		x.Freed = &freed
	}
	var peaks []float64
	late, queue, longest := 0.0, 0.0, 0.0
	for i := range steps {
		s := &steps[i]
		if s.Told <= 0 {
			continue
		}
		x.Steps++
		peak := max(s.Peak, s.Mean)
		peaks = append(peaks, peak)
		if peak > x.Highest {
			x.Highest = peak
			if peak > limit {
				start := s.Start
				x.Worst = &start
			}
		}
		told := s.Told.Seconds()
		over := (s.Mean - limit) * told
		if over > 0 {
			x.Surely++
			late += over
		}
		queue = max(queue+over, 0)
		longest = max(longest, queue)
		if peak > limit {
			x.Possibly++
			start, end := s.Start, s.Start.Add(long)
			if x.First == nil {
				x.First = &start
			}
			x.Last = &end
		}
	}
	x.P95 = Percentile(peaks, 95)
	if r == amount.CPU {
		delay := longest / limit
		x.Late, x.Delay, x.Open = &late, &delay, &queue
	}
	x.Sentence = x.words()
	return x
}

// Percentile is the smallest of some figures that so many of a hundred do not exceed (the nearest-rank method of ISO
// 3534-1's quantiles); 0 of none.
func Percentile(of []float64, percent float64) float64 {
	if len(of) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(of))
	rank := int(percent / 100 * float64(len(sorted)))
	if float64(rank) < percent/100*float64(len(sorted)) {
		rank++
	}
	return sorted[min(max(rank, 1), len(sorted))-1]
}
