package whatif

import (
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Changed is what a fleet would be with hosts taken away or added.
type Changed struct {
	Percent  float64  `json:"percentile" doc:"Of the highest ticks, that a workload is taken to need."`
	Spare    float64  `json:"spare" doc:"This part of each host's CPUs and memory stays free."`
	Without  []string `json:"without"`
	Added    int      `json:"added" doc:"Hosts that were added to those there are."`
	CanBe    bool     `json:"can_be" doc:"All that has to move has a place."`
	Moves    []Move   `json:"moves" doc:"Where each workload of the hosts taken away would go."`
	Bound    int      `json:"bound" doc:"Workloads that belong to the hosts taken away, and end with them."`
	Needed   *int     `json:"needed" doc:"So many of the size would do; null for no size, or beyond 64."`
	Before   Use      `json:"before" doc:"What the workloads are taken to need of all hosts now."`
	After    Use      `json:"after" doc:"The same of the hosts that would be there."`
	Notes    []string `json:"notes" doc:"What was not judged, and why."`
	Sentence string   `json:"sentence"`
}

// Use is what workloads need of hosts.
type Use struct {
	Hosts      int     `json:"hosts"`
	CPUs       float64 `json:"cpus"`
	Memory     float64 `json:"memory_bytes"`
	GPUs       int     `json:"gpus"`
	CPUPart    float64 `json:"cpu_part"`
	MemoryPart float64 `json:"memory_part"`
}

// useOf adds up what workloads need of hosts: those that are on them, and more.
func useOf(rooms []Room, more ...Load) (u Use) {
	cpu, memory := 0.0, 0.0
	for i := range more {
		cpu, memory = cpu+more[i].CPU, memory+more[i].Memory
	}
	for i := range rooms {
		r := &rooms[i]
		u.Hosts, u.CPUs, u.Memory, u.GPUs = u.Hosts+1, u.CPUs+r.CPUs, u.Memory+r.Memory, u.GPUs+r.GPUs
		cpu, memory = cpu+r.OwnCPU, memory+r.OwnMemory
		for k := range r.Loads {
			cpu, memory = cpu+r.Loads[k].CPU, memory+r.Loads[k].Memory
		}
	}
	u.CPUPart, u.MemoryPart = cpu/max(u.CPUs, 1), memory/max(u.Memory, 1)
	return u
}

// mostAdded is how many hosts of a size are tried.
const mostAdded = 64

// Change finds out whether a fleet could do without some hosts, with so many of a size added. Where it could not, or
// where none is added, it says how many hosts of that size would do. Size is nil for none.
func Change(rooms []Room, without []string, size *Room, added int, percent, spare float64) *Changed {
	x := try(rooms, without, size, added, percent, spare)
	if size == nil {
		return x
	}
	n := sort.Search(mostAdded+1, func(n int) bool { // what fits on some fits on more
		return n == added && x.CanBe || n != added && try(rooms, without, size, n, percent, spare).CanBe
	})
	if n <= mostAdded {
		x.Needed = &n
	}
	x.Sentence += x.needs()
	return x
}

func try(rooms []Room, without []string, size *Room, added int, percent, spare float64) *Changed {
	x := &Changed{Percent: percent, Spare: spare, Without: append([]string{}, without...), Added: added,
		Moves: []Move{}, Before: useOf(rooms), Notes: []string{}}
	gone := Room{Host: strings.Join(without, ", ")}
	var stay []Room
	for i := range rooms {
		if slices.Contains(without, rooms[i].Host) {
			gone.CPUs, gone.Memory = max(gone.CPUs, rooms[i].CPUs), max(gone.Memory, rooms[i].Memory)
			gone.Loads = append(gone.Loads, rooms[i].Loads...)
			continue
		}
		stay = append(stay, rooms[i])
	}
	for n := range added {
		r := *size
		r.Host, r.Loads = fmt.Sprintf("added host %d", n+1), nil
		stay = append(stay, r)
	}
	// What is on a host that has too little for it has to move too: the smallest that make it fit.
	full := 0
	stay = slices.Clone(stay)
	for i := range stay {
		moved := stay[i].overflow(spare)
		if len(moved) > 0 {
			full++
		}
		gone.Loads = append(gone.Loads, moved...)
	}
	x.Notes = unjudged(stay)
	free := make([]space, len(stay))
	for i := range stay {
		free[i] = stay[i].free(spare)
	}
	e := gone.emptyInto(free)
	x.CanBe = e.CanBe || len(gone.Loads) == 0 && len(stay) > 0
	x.Moves, x.Bound = e.Moves, e.Bound
	x.After = useOf(stay, slices.DeleteFunc(slices.Clone(gone.Loads), func(l Load) bool { return l.IsBound })...)
	x.Sentence = x.words(&e, full, len(without))
	return x
}

// overflow takes off a host what has to leave for the rest to fit, and returns it: the largest that may move first.
func (r *Room) overflow(spare float64) (moved []Load) {
	r.Loads = slices.Clone(r.Loads)
	for {
		s := r.free(spare)
		if s.cpu >= -1e-9 && s.memory >= -1e-3 && s.rate >= -1e-3 {
			return moved
		}
		most, at := 0.0, -1
		for k := range r.Loads {
			l := &r.Loads[k]
			part := 0.0
			if s.cpu < 0 {
				part = l.CPU / max(r.CPUs, 1)
			}
			if s.memory < 0 {
				part = max(part, l.Memory/max(r.Memory, 1))
			}
			if s.rate < 0 {
				part = max(part, l.Rate/r.Drives.Rate)
			}
			if !l.IsBound && part > most {
				most, at = part, k
			}
		}
		if at < 0 { // what is too much belongs to the host
			return moved
		}
		moved = append(moved, r.Loads[at])
		r.Loads = slices.Delete(r.Loads, at, at+1)
	}
}

func (x *Changed) words(e *Emptied, full, without int) string {
	parts := fmt.Sprintf("%.0f %% of the CPUs and %.0f %% of the memory", 100*x.After.CPUPart, 100*x.After.MemoryPart)
	var text string
	switch {
	case !x.CanBe:
		return strings.Replace(e.Sentence, "It cannot be emptied", "It would not do", 1)
	case without == 0 && full == 0:
		text = "Everything fits as it is"
	case len(x.Moves) == 0:
		text = "Nothing has to move"
	default:
		text = workloads(len(x.Moves)) + " would move"
	}
	if x.Bound > 0 {
		text += fmt.Sprintf(", %d that belong to the hosts taken away would end with them", x.Bound)
	}
	if full > 0 {
		text += fmt.Sprintf("; %d of the hosts that stay need more than they have, and give some away", full)
	}
	return text + ": " + parts + " would be needed."
}

// needs says how many hosts of the size that was given would do.
func (x *Changed) needs() string {
	switch {
	case x.Needed == nil:
		return fmt.Sprintf(" Not even %d more hosts of this size would do.", mostAdded)
	case *x.Needed == 0:
		return " No host has to be added."
	case *x.Needed == 1:
		return " One added host of this size would do."
	}
	return fmt.Sprintf(" %d added hosts of this size would do.", *x.Needed)
}
