package store

import (
	"time"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// courseKey is one of those that a question counts: one workload, under one tenant where those are told apart, of one
// program, CPU or part where usage is divided so. It is looked up for every row that is read, so it holds numbers
// alone.
type courseKey struct {
	workload int64
	tenant   int32
	cpu      int32
	words    int32 // which of the count's
}

// course is what one of them had, step by step.
type course struct {
	host  int32
	parts []part // in the order of their steps
}

// words are the names that parts are told apart by: of a program and the head of its family, or of a part.
type words struct{ program, family, part string }

// part is the sums of a course in one step, by the question's measures.
type part struct {
	step      int64 // microseconds since 1970; 0 for none
	processes int64
	sums      []tally
	newest    int64           // begin of the newest interval
	tenant    int32           // in that one
	state     *question.State // where it was asked for
}

// tally is what a part had of one measure.
type tally struct {
	units  amount.Wide
	peak   int64
	now    int64
	over   int64 // milliseconds of the intervals that have a figure
	count  int64 // of those intervals, less those in which the workload was there
	source amount.Source
	known  bool
	lacks  bool // some interval has no figure
	untold bool // its collector did not tell of the measure in some interval
}

// add adds units that were got in some way; what is unavailable is no figure.
func (x *tally) add(units amount.Wide, source amount.Source) {
	if source == amount.Unavailable {
		return
	}
	x.units.Plus(units)
	x.source, x.known = x.source.Weaker(source), true
}

// stateColumns are what is known of workloads beside their sums.
type stateColumns struct {
	from, to, elapsed, runnable, runnablePeak, nowElapsed, threads, processes []int64
}

func stateOf(t *leaf.Table) stateColumns {
	return stateColumns{t.Of("from"), t.Of("to"), t.Of("elapsed"), t.Of("runnable_millis"), t.Of("runnable_peak"),
		t.Of("now_elapsed"), t.Of("threads"), t.Of("processes")}
}

// addState adds what a row knows of a workload beside its sums.
func (p *part) addState(of *stateColumns, row int, isNewest bool) {
	s := p.state
	from, to := time.UnixMicro(of.from[row]).UTC(), time.UnixMicro(of.to[row]).UTC()
	if s.From.IsZero() || from.Before(s.From) {
		s.From = from
	}
	if to.After(s.To) {
		s.To = to
	}
	s.ElapsedMillis += of.elapsed[row]
	s.RunnableMillis += float64(of.runnable[row])
	s.RunnablePeak = max(s.RunnablePeak, of.runnablePeak[row])
	if isNewest {
		s.NowMillis, s.Threads, s.Processes = of.nowElapsed[row], of.threads[row], of.processes[row]
	}
}

// spare is room for parts that are to come, taken anew for each host: to make it for all would take gigabytes.
type spare struct {
	parts [][]part
	slabs [][]tally
	taken int // of the slabs
	rest  []tally
}

// partsOf is room for the parts of one course.
func (s *spare) partsOf() (parts []part) {
	if n := len(s.parts); n > 0 {
		parts, s.parts = s.parts[n-1], s.parts[:n-1]
	}
	return parts
}

// tallies are those of one part, of so many measures.
func (s *spare) tallies(n int) []tally {
	if len(s.rest) < n {
		if s.taken == len(s.slabs) {
			s.slabs = append(s.slabs, make([]tally, n*min(1024, 1<<s.taken)))
		}
		s.rest = s.slabs[s.taken]
		s.taken++
	}
	tallies := s.rest[:n:n]
	s.rest = s.rest[n:]
	return tallies
}

// takeBack takes the room of courses that nobody needs any more.
func (s *spare) takeBack(courses map[courseKey]*course) {
	for _, x := range courses {
		s.parts = append(s.parts, x.parts[:0])
	}
	for _, slab := range s.slabs[:s.taken] {
		clear(slab)
	}
	s.taken, s.rest = 0, nil
}
