package question

import (
	"fmt"
	"slices"

	"vinescale/core/amount"
)

// Division is how finely the usage of workloads must be divided to answer.
type Division uint8

// The divisions.
const (
	ByWorkload Division = iota
	ByProgram           // over programs and their families
	ByCPU               // over the CPUs that workloads ran on
	ByPart              // over virtual CPUs or steps
)

// Plan is what to read to answer a question exactly.
type Plan struct {
	Question Question
	Division Division
	Reading  Reading
	// Peaks tells that a row's peak is the highest minute of all its workloads together, and not that of one workload's
	// highest tick: of tenants over whole minutes.
	Peaks bool
	Ticks bool // a row's peak is the highest tick of one of its workloads
}

// PlanFor finds what answers a question. The error says what of it cannot be told.
func PlanFor(q Question) (*Plan, error) {
	p := &Plan{Question: q, Reading: ReadingOf(q.Scope.Span, q.Step)}
	by := q.Has
	switch {
	case len(q.Measures) == 0:
		return nil, fmt.Errorf("nothing was asked for: name at least one measure")
	case by(CPU):
		p.Division = ByCPU
	case by(Part):
		p.Division = ByPart
	case by(Program) || by(Family):
		p.Division = ByProgram
	}
	for _, m := range q.Measures {
		switch {
		case !m.HasLedger() && p.Division != ByWorkload:
			return nil,
				fmt.Errorf("%s is counted for whole workloads: it cannot be told by program, family, CPU or part",
					m)
		case m != amount.CPU && (p.Division == ByCPU || p.Division == ByPart):
			return nil, fmt.Errorf("only CPU time can be told by CPU and by part, not %s", m)
		}
	}
	p.Peaks = slices.Equal(q.By, []Dimension{Tenant}) && !q.State && !q.NoPeaks && q.Scope.Only == nil && q.Step == 0 &&
		q.Scope.Span.isWholeMinutes() && !q.Scope.Span.Frames
	p.Ticks = !p.Peaks && !q.NoPeaks
	return p, nil
}
