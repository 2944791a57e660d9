package whatif

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/explain"
)

// Weighed is what a span would have been, had a workload's cgroup weighed more or less against its siblings.
type Weighed struct {
	Workload explain.UserRef `json:"workload"`
	Host     string          `json:"host"`
	Now      float64         `json:"weight_now" doc:"100 is usual."`
	Weight   float64         `json:"weight" doc:"That is tried."`

	Step   float64 `json:"step_seconds"`
	Steps  int     `json:"steps" doc:"Those in which it ran or waited."`
	Short  int     `json:"steps_short" doc:"In these its CPUs were short: only then weights matter."`
	Untold int     `json:"untold" doc:"Others beside it that do not tell for how long they waited."`

	// Of the steps in which its CPUs were short.
	Ran    float64 `json:"ran_cpu_seconds"`
	Waited float64 `json:"waited_seconds" doc:"Added over threads."`
	Fair   float64 `json:"fair_cpu_seconds" doc:"What the weights as they are give it."`
	Then   float64 `json:"then_cpu_seconds" doc:"What it would have had by the weight that is tried."`

	Others   []WeighedOther `json:"others" doc:"Who would have had less or more, those with most first."`
	Sentence string         `json:"sentence"`
}

// WeighedOther is another who wanted the same CPUs.
type WeighedOther struct {
	explain.UserRef
	Fair float64 `json:"fair_cpu_seconds"`
	Then float64 `json:"then_cpu_seconds"`
}

// mostWeighed is how many of the others are named.
const mostWeighed = 20

// Weigh divides the CPU time of stretches in which a workload's CPUs were short once more, with another weight of its
// cgroup against its siblings. Contests are of its host, each so many seconds long. Both divisions are what weights
// give (explain.FairShares), so that their difference is the weight's alone.
func Weigh(who explain.User, weight float64, contests []explain.Contest, names explain.Names) (*Weighed, error) {
	x := &Weighed{Workload: names(who), Weight: weight, Others: []WeighedOther{}}
	others := map[int64]*WeighedOther{}
	for i := range contests {
		c := &contests[i]
		long := c.To.Sub(c.From).Seconds()
		x.Host, x.Step = c.Host, max(x.Step, long)
		field := c.FieldOf(who.Workload)
		if field == nil {
			continue
		}
		x.Steps++
		tried := slices.Clone(field.Contenders)
		for k := range tried { // more than one where it changed hands within the stretch
			if tried[k].Workload != who.Workload {
				continue
			}
			now, other, err := reweigh(tried[k].Weights, weight)
			if err != nil {
				return nil, ErrWeighsNothing{x.Workload.Name}
			}
			x.Now, tried[k].Weights = now, other
		}
		if !field.IsShort(long) {
			continue
		}
		x.Short++
		fair, then := explain.FairShares(field.Contenders, long), explain.FairShares(tried, long)
		untold := 0
		for k := range field.Contenders {
			o := &field.Contenders[k]
			if o.Workload == who.Workload {
				x.Ran, x.Waited, x.Fair, x.Then = x.Ran+o.Ran, x.Waited+o.Waited, x.Fair+fair[k], x.Then+then[k]
				continue
			}
			if !o.IsTold {
				untold++
			}
			if others[o.Workload] == nil {
				others[o.Workload] = &WeighedOther{UserRef: names(o.User)}
			}
			others[o.Workload].Fair += fair[k]
			others[o.Workload].Then += then[k]
		}
		x.Untold = max(x.Untold, untold)
	}
	for _, o := range others {
		if math.Abs(o.Then-o.Fair) > 1e-6 {
			x.Others = append(x.Others, *o)
		}
	}
	slices.SortFunc(x.Others, func(a, b WeighedOther) int {
		return cmp.Or(cmp.Compare(math.Abs(b.Then-b.Fair), math.Abs(a.Then-a.Fair)), cmp.Compare(a.ID, b.ID))
	})
	x.Others = x.Others[:min(len(x.Others), mostWeighed)]
	x.Sentence = x.words()
	return x, nil
}

// ErrWeighsNothing says that a workload has no weight of its own.
type ErrWeighsNothing struct{ Name string }

func (e ErrWeighsNothing) Error() string {
	return e.Name + " has no cgroup of its own whose weight is known: loose work competes by the niceness of its tasks"
}

// reweigh puts another weight to the innermost cgroup of a path, and returns what it was.
func reweigh(weights string, to float64) (now float64, other string, err error) {
	of := strings.Split(weights, "/")
	now, err = strconv.ParseFloat(of[len(of)-1], 64)
	if err != nil || now <= 0 {
		return 0, "", ErrWeighsNothing{}
	}
	of[len(of)-1] = strconv.FormatFloat(to, 'f', -1, 64)
	return now, strings.Join(of, "/"), nil
}

func (x *Weighed) words() string {
	more := x.Then - x.Fair
	weight := func(w float64) string { return strconv.FormatFloat(w, 'f', -1, 64) }
	switch {
	case x.Steps == 0:
		return "Nothing was recorded of it in this span."
	case x.Short == 0:
		return "Its CPUs were short in no step of this span: a weight says who comes first when they are, and would " +
			"have changed nothing."
	case math.Abs(more) < 0.005 && x.Fair > 1.05*x.Ran:
		return fmt.Sprintf("Its CPUs were short in %s of the time. It is not its weight that held it back then: by "+
			"the weights as they are it would have had %s, and it had %s.", part(x.Short, x.Steps), seconds(x.Fair),
			seconds(x.Ran))
	case math.Abs(more) < 0.005:
		return fmt.Sprintf(
			"Its CPUs were short in %s of the time. It had all that it wanted then, or nobody beside it "+
				"competes with its cgroup: a weight of %s in place of %s would have changed nothing.",
			part(x.Short, x.Steps),
			weight(x.Weight),
			weight(x.Now),
		)
	}
	text := fmt.Sprintf("Its CPUs were short in %s of the time. A weight of %s in place of %s would have given it "+
		"about %s %s in these steps, of %s that weights give it now", part(x.Short, x.Steps), weight(x.Weight),
		weight(x.Now), seconds(math.Abs(more)), map[bool]string{true: "more", false: "less"}[more > 0], seconds(x.Fair))
	if len(x.Others) > 0 {
		text += fmt.Sprintf(", most of it %s %s", map[bool]string{true: "from", false: "for"}[more > 0],
			x.Others[0].Name)
	}
	return text + "."
}
