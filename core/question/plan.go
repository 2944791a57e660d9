package question

import (
	"fmt"
	"slices"

	"vinescale/core/amount"
)

// Book is one kind of record that is kept.
type Book uint8

// The books. A book of days or hours would stand beside that of minutes, and PlanFor choose by the span.
const (
	WorkloadMinutes Book = iota // what each workload used in each interval, by resource and tenant
	TenantMinutes               // sums of those by tenant and minute: for peaks of all workloads together
	ProgramMinutes              // how each workload's usage divides over programs
	CPUMinutes                  // on which CPUs each workload ran
	PartMinutes                 // CPU time of parts of workloads
	Messages                    // what was counted beside the ledger, packed by host and interval
	numBooks
)

func (b Book) String() string {
	return [numBooks]string{"workload minutes", "tenant minutes", "program minutes", "CPU minutes", "part minutes",
		"messages"}[b]
}

// Read is one reading of a book: a part of a plan.
type Read struct {
	Book     Book
	Measures []amount.Measure // that this reading answers
	At       []int            // the place of each in the question
}

// Plan is what to read to answer a question exactly. Its readings answer different measures of the same groups.
type Plan struct {
	Question Question
	Reads    []Read
}

// PlanFor finds from which books a question can be answered. The error says what of it cannot be told.
func PlanFor(q Question) (*Plan, error) {
	p := &Plan{Question: q}
	for i, m := range q.Measures {
		book, err := bookFor(&q, m)
		if err != nil {
			return nil, err
		}
		k := slices.IndexFunc(p.Reads, func(r Read) bool { return r.Book == book })
		if k < 0 {
			k = len(p.Reads)
			p.Reads = append(p.Reads, Read{Book: book})
		}
		p.Reads[k].Measures, p.Reads[k].At = append(p.Reads[k].Measures, m), append(p.Reads[k].At, i)
	}
	if len(p.Reads) == 0 {
		return nil, fmt.Errorf("nothing was asked for: name at least one measure")
	}
	return p, nil
}

// bookFor is the book that answers for a measure: the smallest that tells the groups apart.
func bookFor(q *Question, m amount.Measure) (Book, error) {
	by := q.Has
	inside := by(Program) || by(Family) || by(CPU) || by(Part)
	switch {
	case !m.HasLedger() && inside:
		return 0, fmt.Errorf("%s is counted for whole workloads: it cannot be told by program, family, CPU or part", m)
	case !m.HasLedger():
		return Messages, nil
	case m != amount.CPU && (by(CPU) || by(Part)):
		return 0, fmt.Errorf("only CPU time can be told by CPU and by part, not %s", m)
	case by(CPU):
		return CPUMinutes, nil
	case by(Part):
		return PartMinutes, nil
	case inside:
		return ProgramMinutes, nil
	case len(q.By) == 1 && by(Tenant) && !q.State && q.Scope.Only == nil && q.Step == 0 &&
		q.Scope.Span.isWholeMinutes():
		return TenantMinutes, nil
	}
	return WorkloadMinutes, nil
}
