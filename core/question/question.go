package question

import (
	"slices"
	"time"

	"vinescale/core/amount"
)

// Question asks for sums of measures over a scope.
type Question struct {
	Scope    Scope
	Measures []amount.Measure
	By       []Dimension   // groups are told apart by all of these; none puts everything into one
	Step     time.Duration // sums for each stretch of this length, not by pages; 0 for one over the span
	State    bool          // by workload: also its threads and its newest interval
	NoPeaks  bool          // rows need no peaks
	Least    []float64     // by workload: account units by measure; rows that reach none of them are left out
	Order    Order
	Page     Page
}

// Order is how rows are sorted. The zero value is by the first measure, most first.
type Order struct {
	By     string // one of Orders
	Turned bool   // the other way round
}

// Page is which of the sorted rows are wanted.
type Page struct {
	First int // at most so many; 0 for all
	After *Key
}

// Row is one group's sums.
type Row struct {
	Start     time.Time // of its stretch; zero where no step was asked for
	Workload  int64
	Tenant    int32 // of the usage's own time; by workload alone, that of its newest interval
	Host      int32
	CPU       int32
	Name      string // of the workload, tenant, user, kind, host, program, part, fact or label that it is grouped by
	Family    string // the program at the head, beside a program
	Names     Names
	Parts     int // workloads in it; of a program, its processes: the most of each workload at the end of one interval
	Workloads int
	Sums      []Sum  // in the order of the question's measures
	State     *State // where it was asked for
}

// Names are the words beside a row's name, where its dimensions have them.
type Names struct{ Kind, Owner, Tenant, Host, Workload string }

// Sum is what a group had of one measure.
type Sum struct {
	Units   float64     // account units; 0 where Source is Unavailable
	Exact   amount.Wide // the same, to the last unit
	Peak    float64     // of a workload's highest tick, or of a tenant's highest minute: in the measure's mean unit
	Now     float64     // of the workload's newest interval, where State was asked for: account units
	Source  amount.Source
	Missing int   // of Parts: those that lack a figure in some interval, so that Units lacks theirs
	Untold  int   // of Missing: those whose collector does not tell of the measure at all
	Over    int64 // milliseconds of the intervals that have a figure, where the measure has no ledger
}

// Known tells whether there is a figure at all.
func (s *Sum) Known() bool { return s.Source != amount.Unavailable }

// Join adds the sum of another group of the same measure.
func (s *Sum) Join(t *Sum) {
	switch {
	case !t.Known():
	case !s.Known():
		s.Units, s.Exact, s.Source = t.Units, t.Exact, t.Source
	default:
		s.Units, s.Source = s.Units+t.Units, s.Source.Weaker(t.Source)
		s.Exact.Plus(t.Exact)
	}
	s.Missing, s.Untold = s.Missing+t.Missing, s.Untold+t.Untold
}

// State is what is known of a workload beside its sums.
type State struct {
	ElapsedMillis      int64 // that its intervals cover
	NowMillis          int64 // of its newest interval
	From, To           time.Time
	Threads, Processes int64 // at the end of its newest interval
	RunnableMillis     float64
	RunnablePeak       int64
}

// Total is what all rows of an answer add up to, whatever page of them was asked for.
type Total struct {
	Rows  int
	Units []float64 // by the question's measures
}

// Answer is rows, and what they are of.
type Answer struct {
	Rows  []Row
	Total Total
	Next  *Key // where the next page begins; nil where there is none
	// Grain is that of sums that stand for intervals which are no longer kept: those that begin in the span count
	// whole. ByInterval where the answer is exact.
	Grain     Grain
	Workloads int // that were counted, each once
}

// Line is one host-wide line in account units, or the reason why it cannot be had.
type Line struct {
	Units  float64
	Exact  amount.Wide // the same, to the last unit, where the line is of the book
	Reason string
}

// OK tells whether the line is a figure.
func (l Line) OK() bool { return l.Reason == "" }

// Lines are the host-wide lines of one resource's ledger.
type Lines struct {
	Capacity, Used, Idle, Kernel, Steal Line

	Without []string // hosts that have none of what not every host has: the lines are of the others
}

// Each gives the lines with their names, in the order they are stored and shown.
func (l *Lines) Each() []NamedLine {
	return []NamedLine{{"capacity", &l.Capacity}, {"used", &l.Used}, {"idle", &l.Idle}, {"kernel", &l.Kernel},
		{"steal", &l.Steal}}
}

// NamedLine is one of the lines with its name.
type NamedLine struct {
	Name string
	Line *Line
}

// Stretch is the host-wide lines of all hosts of a scope over a span, or over one step of it.
//
// The time that it covers is the longest of any host, so that means add up over hosts. A line that one host lacks is
// unavailable for all, with the reason.
type Stretch struct {
	Start         time.Time // zero where no step was asked for
	ElapsedMillis int64
	CPUs          int
	Hosts         int       // with records
	From, To      time.Time // covered; zero when nothing is
	Of            []Lines   // in the order of the question's measures
	Grain         Grain     // as in Answer
	// Caveats are what was missed, by name (account.Caveat), with how much and on which hosts.
	Caveats map[string]Caveat
	// Told is of which parts of the span each host told, by host, where it is of all of a span.
	Told []HostTold
}

// Caveat is what hosts missed of one kind.
type Caveat struct {
	Amount int64
	Hosts  []string // by name, in no order
}

// Has tells whether groups are told apart by a dimension.
func (q *Question) Has(d Dimension) bool { return slices.Contains(q.By, d) }

// Residual is what is used and neither the shares', the kernel's nor taken by the hypervisor; it is signed. A line that
// is not available counts as nothing, but without the host's own total there is no residual.
func (l *Lines) Residual(shares float64) Line {
	if !l.Used.OK() {
		return Line{Reason: l.Used.Reason}
	}
	return Line{Units: l.Used.Units - shares - l.Kernel.Units - l.Steal.Units}
}

// Stretch is the begin of the step that an interval falls into; zero where no step is asked for. Steps begin at whole
// multiples since 1970, so that they stay where they are while a span moves on.
func (q *Question) Stretch(start time.Time) time.Time {
	if q.Step <= 0 {
		return time.Time{}
	}
	step := q.Step.Microseconds()
	micros := start.UnixMicro()
	return time.UnixMicro(micros - (micros%step+step)%step).UTC()
}
