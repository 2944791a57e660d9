package cpuset

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
)

// Request is what a layout has to respect.
type Request struct {
	CPUs   int           // how many are wanted, at least 1
	Taken  Set           // CPUs that may not be used, and are no part of what is left for everybody
	Spoken Set           // CPUs that may not be used, and are left for everybody all the same
	Keep   int           // how many of those that are not taken have to be left for everybody
	Work   map[int]int64 // by CPU: the work that has to move when it is chosen, in any unit; below zero for what stays
}

// Layout is a choice of CPUs. Invariants: CPUs and Left do not overlap, neither has a CPU that was taken, together they
// are all the others, CPUs has as many as were wanted and none that is spoken for, and Left at least as many as are to
// be kept.
type Layout struct {
	CPUs   Set
	Left   Set
	Shared int   // cores of which others keep a part
	Nodes  []int // the memory nodes that it has CPUs of, in order; those that are not known are left out
	Work   int64 // the sum of the work of the CPUs that were chosen
}

// ErrNoRoom is what Lay returns where there are too few CPUs. TooFew says how many there are.
var ErrNoRoom = errors.New("too few CPUs")

// TooFew tells how many CPUs there are that may be used at most, of how many that were wanted, such that those are left
// for everybody that have to be.
type TooFew struct{ Free, Wanted, Keep int }

func (e *TooFew) Error() string {
	kept := "one of them"
	if e.Keep != 1 {
		kept = fmt.Sprint(e.Keep, " of them")
	}
	return fmt.Sprintf("it has %d free, %s to be left for everybody, and %d are wanted", e.Free, kept, e.Wanted)
}

// Unwrap makes a TooFew an ErrNoRoom.
func (e *TooFew) Unwrap() error { return ErrNoRoom }

// mostNodes is up to how many memory nodes every choice of them is tried: 255 choices of 8 nodes of 64 CPUs each take
// a quarter of a second. Beyond it each node is tried alone, and then the emptiest nodes together.
const mostNodes = 8

// Lay chooses CPUs: such that the fewest cores are shared with others, then such that they are of the fewest memory
// nodes, then such that the least work has to move. Among equals those with the lowest numbers are chosen. It finds the
// best where there are at most eight memory nodes. The error is a TooFew.
func Lay(p Places, r *Request) (Layout, error) {
	open := p.All().Minus(r.Taken)
	free := open.Minus(r.Spoken)
	if free.Len() < r.CPUs || open.Len()-r.CPUs < r.Keep || r.CPUs < 1 {
		return Layout{}, &TooFew{free.Len(), r.CPUs, r.Keep}
	}
	cores := coresOf(p, free, r.Work)
	var best Layout
	isFound := false
	for _, nodes := range choicesOf(cores) {
		within := slices.Collect(func(yield func(*core) bool) {
			for i := range cores {
				if nodes[cores[i].node] && !yield(&cores[i]) {
					return
				}
			}
		})
		chosen, shared, is := fewestShared(within, r.CPUs)
		if !is {
			continue
		}
		x := Layout{CPUs: chosen, Left: open.Minus(chosen), Shared: shared, Nodes: p.Nodes(chosen)}
		for _, cpu := range chosen.CPUs() {
			x.Work += r.Work[cpu]
		}
		if !isFound || x.Against(&best) < 0 {
			best, isFound = x, true
		}
	}
	return best, nil
}

// Against compares two layouts: below zero where the first is the better one.
func (l *Layout) Against(other *Layout) int {
	return cmp.Or(l.Shared-other.Shared, len(l.Nodes)-len(other.Nodes), cmp.Compare(l.Work, other.Work))
}

// core is a core with those of its CPUs that may be used, those with the least work first.
type core struct {
	node int
	free []int
	work []int64 // work[k] is that of the first k of them
	all  int     // how many CPUs it has
}

// coresOf lists the cores that have a free CPU, in the order of their first CPUs. A CPU whose core is not known is a
// core of its own.
func coresOf(p Places, free Set, work map[int]int64) []core {
	type key struct{ pack, core, cpu int }
	at := map[key]int{}
	var cores []core
	for _, x := range slices.SortedFunc(slices.Values(p), func(a, b Place) int { return a.CPU - b.CPU }) {
		k := key{x.Package, x.Core, -1}
		if x.Core < 0 {
			k.cpu = x.CPU
		}
		i, is := at[k]
		if !is {
			i = len(cores)
			at[k], cores = i, append(cores, core{node: x.Node})
		}
		cores[i].all++
		if free.Has(x.CPU) {
			cores[i].free = append(cores[i].free, x.CPU)
		}
	}
	cores = slices.DeleteFunc(cores, func(c core) bool { return len(c.free) == 0 })
	for i := range cores {
		c := &cores[i]
		slices.SortStableFunc(c.free, func(a, b int) int { return cmp.Compare(work[a], work[b]) })
		c.work = make([]int64, len(c.free)+1)
		for k, cpu := range c.free {
			c.work[k+1] = c.work[k] + work[cpu]
		}
	}
	return cores
}

// choicesOf lists the choices of memory nodes that are tried.
func choicesOf(cores []core) (choices []map[int]bool) {
	free := map[int]int{}
	for i := range cores {
		free[cores[i].node] += len(cores[i].free)
	}
	nodes := slices.Sorted(maps.Keys(free))
	if len(nodes) <= mostNodes {
		for of := 1; of < 1<<len(nodes); of++ {
			choice := map[int]bool{}
			for i, n := range nodes {
				choice[n] = of>>i&1 == 1
			}
			choices = append(choices, choice)
		}
		return choices
	}
	for _, n := range nodes {
		choices = append(choices, map[int]bool{n: true})
	}
	slices.SortStableFunc(nodes, func(a, b int) int { return free[b] - free[a] })
	for n := 2; n <= len(nodes); n++ {
		choice := map[int]bool{}
		for _, x := range nodes[:n] {
			choice[x] = true
		}
		choices = append(choices, choice)
	}
	return choices
}

// fewestShared chooses n CPUs of some cores such that the fewest cores are shared with others, and then the least work
// has to move; false where there are too few. It goes through the cores and keeps the best choice of each number of
// CPUs so far.
func fewestShared(cores []*core, n int) (chosen Set, shared int, is bool) {
	type cost struct {
		shared int
		work   int64
	}
	none := cost{math.MaxInt, 0}
	best := make([]cost, n+1)
	for j := range best[1:] {
		best[j+1] = none
	}
	taken := make([][]int8, len(cores)) // how many CPUs of each core the best choice of so many has
	for i, c := range cores {
		taken[i] = make([]int8, n+1)
		for j := n; j > 0; j-- {
			for k := 1; k <= min(len(c.free), j, math.MaxInt8); k++ {
				before := best[j-k]
				if before == none {
					continue
				}
				x := cost{before.shared, before.work + c.work[k]}
				if k < c.all {
					x.shared++
				}
				if now := best[j]; now == none || x.shared < now.shared || x.shared == now.shared && x.work < now.work {
					best[j], taken[i][j] = x, int8(k)
				}
			}
		}
	}
	if best[n] == none {
		return chosen, 0, false
	}
	for i, j := len(cores)-1, n; i >= 0; i-- {
		k := int(taken[i][j])
		for _, cpu := range cores[i].free[:k] {
			chosen = chosen.With(cpu)
		}
		j -= k
	}
	return chosen, best[n].shared, true
}
