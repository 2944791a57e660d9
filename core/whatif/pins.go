package whatif

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// PinTry is a host's CPUs for a holder, to be tried on a recorded span.
type PinTry struct {
	Host, Holder string
	CPUs         cpuset.Set // for the holder
	Others       cpuset.Set // that other holders have alone: nobody else runs there
	All          cpuset.Set // the host's
	IsAlone      bool       // nobody but the holder is to run on CPUs
	Long         time.Duration
	Told         map[time.Time]time.Duration // of each step, how much of it was recorded
	Ran          []PinRun
	Peaks        map[time.Time]float64 // of the holder's highest ticks, in cores
	Waited       map[time.Time]float64 // seconds in which the holder waited for a CPU; nil where that is not told
}

// PinRun is what somebody ran on a CPU in a step.
type PinRun struct {
	Start   time.Time
	CPU     int
	IsTheir bool // the holder's
	Who     Runner
	Seconds float64
}

// Runner is a workload, and whose it is.
type Runner struct {
	ID     int64  `json:"id"`
	Name   string `json:"name"`
	Tenant string `json:"tenant"`
}

// Pinned is what a span would have been, had a holder had other CPUs of a host.
type Pinned struct {
	Host    string  `json:"host"`
	Holder  string  `json:"holder"`
	CPUs    string  `json:"cpus" doc:"In the kernel's list format."`
	IsAlone bool    `json:"exclusive" doc:"Nobody else would have run there."`
	Step    float64 `json:"step_seconds"`
	Steps   int     `json:"steps" doc:"Those that something was recorded of."`

	Theirs PinSide  `json:"theirs" doc:"The holder on these CPUs."`
	Others *PinSide `json:"others" doc:"All others, on what would have been left. Null where they are not kept off."`

	Strayed float64  `json:"strayed_cpu_seconds" doc:"That the holder ran on other CPUs, and would have run here."`
	Off     float64  `json:"moved_off_cpu_seconds" doc:"That others ran here, and would have run elsewhere."`
	Movers  []PinOff `json:"movers" doc:"Who they are, those with most first."`
	Idle    float64  `json:"idle_cpu_seconds" doc:"That these CPUs would have stood idle, or have been left to others."`
	Spared  *float64 `json:"spared_seconds" doc:"Waiting while others ran here, at most; null where it is not counted."`

	Sentence string `json:"sentence"`
}

// PinSide is how much was used, held against the CPUs that there would have been for it.
type PinSide struct {
	CPUs    int     `json:"cpus"`
	Mean    float64 `json:"mean_cores"`
	Highest float64 `json:"highest_cores" doc:"Of the holder, its highest tick; of others, their highest step."`
	Over    int     `json:"steps_over" doc:"In these it was more than the CPUs as a mean."`
	Touched int     `json:"steps_touched" doc:"In these it was more by the highest tick: those among them."`
	Late    float64 `json:"late_cpu_seconds" doc:"Work that would have come later, at least."`
	Delay   float64 `json:"delay_seconds" doc:"By how much something would have been late, at least."`
	Open    float64 `json:"open_cpu_seconds" doc:"Work that would not have been done by the end of the span."`
}

// PinOff is who ran on the CPUs that another would have had alone.
type PinOff struct {
	Runner
	Seconds float64 `json:"cpu_seconds"`
}

// mostMovers is how many of those who would have to run elsewhere are named.
const mostMovers = 20

// Pins plays a span again with a holder on CPUs of its own. What does not fit on the CPUs of one side waits, as under
// Limit. How threads would have been spread within a step, the record does not know: they are taken to fill their CPUs
// evenly, so that what waits is a lower bound.
func Pins(q *PinTry) *Pinned {
	x := &Pinned{Host: q.Host, Holder: q.Holder, CPUs: q.CPUs.String(), IsAlone: q.IsAlone, Step: q.Long.Seconds(),
		Movers: []PinOff{}}
	theirs, others := map[time.Time]float64{}, map[time.Time]float64{}
	here := map[time.Time]bool{} // others ran on these CPUs
	off := map[int64]*PinOff{}
	for i := range q.Ran {
		r := &q.Ran[i]
		on := q.CPUs.Has(r.CPU)
		switch {
		case r.IsTheir:
			theirs[r.Start] += r.Seconds
			if !on {
				x.Strayed += r.Seconds
			}
			continue
		case q.Others.Has(r.CPU): // it stays where it is
			continue
		}
		others[r.Start] += r.Seconds
		if !on || r.Seconds <= 0 {
			continue
		}
		here[r.Start] = true
		if q.IsAlone {
			x.Off += r.Seconds
			if off[r.Who.ID] == nil {
				off[r.Who.ID] = &PinOff{Runner: r.Who}
			}
			off[r.Who.ID].Seconds += r.Seconds
		}
	}
	for _, m := range off {
		x.Movers = append(x.Movers, *m)
	}
	slices.SortFunc(x.Movers, func(a, b PinOff) int {
		return cmp.Or(cmp.Compare(b.Seconds, a.Seconds), cmp.Compare(a.ID, b.ID))
	})
	x.Movers = x.Movers[:min(len(x.Movers), mostMovers)]
	x.Theirs = q.side(q.CPUs.Len(), theirs, q.Peaks)
	x.Steps = len(q.Told)
	if q.IsAlone {
		side := q.side(q.All.Minus(q.CPUs).Minus(q.Others).Len(), others, nil)
		x.Others = &side
	}
	for at, told := range q.Told {
		x.Idle += max(float64(q.CPUs.Len())*told.Seconds()-theirs[at], 0)
	}
	if q.Waited != nil && q.IsAlone {
		spared := 0.0
		for at := range here {
			spared += q.Waited[at]
		}
		x.Spared = &spared
	}
	x.Sentence = x.words()
	return x
}

// side holds what was used against so many CPUs.
func (q *PinTry) side(cpus int, used, peaks map[time.Time]float64) PinSide {
	s := PinSide{CPUs: cpus}
	var steps []Step
	sum, told := 0.0, 0.0
	for at, t := range q.Told {
		mean := used[at] / t.Seconds()
		steps = append(steps, Step{Start: at, Mean: mean, Peak: peaks[at], Told: t})
		sum, told = sum+used[at], told+t.Seconds()
	}
	if told == 0 {
		return s
	}
	slices.SortFunc(steps, func(a, b Step) int { return a.Start.Compare(b.Start) })
	l := Limit(amount.CPU, float64(cpus), nil, steps, q.Long)
	s.Mean, s.Highest, s.Over, s.Touched = sum/told, l.Highest, l.Surely, l.Possibly
	s.Late, s.Delay, s.Open = *l.Late, *l.Delay, *l.Open
	return s
}

// words says in a few sentences what the CPUs would have done.
func (x *Pinned) words() string {
	if x.Steps == 0 {
		return "Nothing was recorded of this host in this span."
	}
	fit := func(who string, s *PinSide) string {
		if s.Touched == 0 {
			return fmt.Sprintf("%s would have had room on %s: at most %s were used.", who, cpuCount(s.CPUs),
				Amount("cpu", s.Highest))
		}
		text := fmt.Sprintf("%s used more than %s in %s of the time", who, cpuCount(s.CPUs), part(s.Touched, x.Steps))
		if s.Late == 0 {
			return text + " for moments: bursts would have been flattened, and nothing of a whole step would have " +
				"come later."
		}
		text += fmt.Sprintf(": at least %s of work would have come later, and something by %s at least",
			seconds(s.Late), span(s.Delay))
		if s.Open > 0 {
			text += fmt.Sprintf("; %s would not have been done by the end", seconds(s.Open))
		}
		return text + "."
	}
	list := []string{fit(x.Holder, &x.Theirs)}
	if x.Others != nil {
		list = append(list, fit("All others", x.Others))
		if x.Off > 0 {
			list = append(list, fmt.Sprintf("Others ran for %s on these, most of it %s, and would have had to run "+
				"elsewhere.", seconds(x.Off), x.Movers[0].Name))
		}
	}
	if x.Spared != nil && *x.Spared > 0 {
		list = append(list, fmt.Sprintf("At most %s of waiting would have been spared.", span(*x.Spared)))
	}
	return strings.Join(list, " ")
}

func cpuCount(n int) string {
	if n == 1 {
		return "1 CPU"
	}
	return fmt.Sprintf("%d CPUs", n)
}
