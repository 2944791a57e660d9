package whatif

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Room is a host with what it has and what is on it.
type Room struct {
	Host   string
	CPUs   float64 // all of its cores
	Memory float64 // bytes
	GPUs   int
	Drives Drives
	// What its kernel has, and nobody's share: it stays.
	OwnCPU, OwnMemory float64
	Loads             []Load
}

// Drives is what a host's drives carry, and the filesystem of it that has most free. What is not known is 0, and not
// judged.
type Drives struct {
	Rate float64 // bytes a second of all drives together
	Own  float64 // of it, what its kernel moves, and nobody's share
	Size float64 // of that filesystem, bytes
	Free float64
}

// Load is a workload with what it needs: a percentile of its highest ticks, and of CPUs at least those that it has
// alone.
type Load struct {
	ID          int64
	Name        string
	Tenant      string
	CPU, Memory float64
	GPUs        int
	Rate        float64 // bytes a second to and from drives
	Space       float64 // bytes that its files take, and would take elsewhere
	IsBound     bool    // it belongs to its host, such as a service of its init system, and ends with it
}

// Emptied says whether a host could be emptied, and how.
type Emptied struct {
	Host     string `json:"host"`
	CanBe    bool   `json:"can_be"`
	Moves    []Move `json:"moves" doc:"Where each workload would go."`
	Bound    int    `json:"bound" doc:"Workloads that belong to the host and would end with it."`
	Sentence string `json:"sentence"`
}

// Move is a workload that goes to another host.
type Move struct {
	ID     int64   `json:"id"`
	Name   string  `json:"name"`
	Tenant string  `json:"tenant"`
	To     string  `json:"to"`
	CPU    float64 `json:"cpu_cores"`
	Memory float64 `json:"memory_bytes"`
	GPUs   int     `json:"gpus"`
	Rate   float64 `json:"disk_bytes_per_second"`
	Space  float64 `json:"space_bytes" doc:"Of its files; 0 where that is not known."`
}

// Emptying says which hosts could be emptied onto the others: each by itself, and as many as possible at once, the
// least loaded first.
type Emptying struct {
	Percent float64   `json:"percentile" doc:"Of the highest ticks, that a workload is taken to need."`
	Spare   float64   `json:"spare" doc:"This part of each host's CPUs and memory stays free."`
	Hosts   []Emptied `json:"hosts" doc:"Each by itself, those that can be first."`
	At      []string  `json:"at_once" doc:"These together."`
	Notes   []string  `json:"notes" doc:"What was not judged, and why."`
}

// mostTries is how many ways to place workloads are tried for one host. What is not found within them may still be
// possible, and the answer says so.
const mostTries = 50_000

// space is what is free on a host.
type space struct {
	host        string
	cpu, memory float64
	gpus        int
	rate, space float64 // infinite where it is not known
}

func (s *space) fits(l *Load) bool {
	return s.computes(l) && s.stores(l)
}

// computes tells whether a workload has room but for what its drives would have.
func (s *space) computes(l *Load) bool {
	return l.CPU <= s.cpu+1e-9 && l.Memory <= s.memory+1e-3 && l.GPUs <= s.gpus
}

// stores tells whether its drives have room for a workload.
func (s *space) stores(l *Load) bool { return l.Rate <= s.rate+1e-3 && s.holds(l) }

// holds tells whether they have room for its files.
func (s *space) holds(l *Load) bool { return l.Space <= s.space+1e-3 }

func (s *space) take(l *Load, sign float64) {
	s.cpu, s.memory, s.gpus = s.cpu-sign*l.CPU, s.memory-sign*l.Memory, s.gpus-int(sign)*l.GPUs
	s.rate, s.space = s.rate-sign*l.Rate, s.space-sign*l.Space
}

// Empty finds out which hosts could be emptied, where a part of each host stays free. All workloads are taken to need
// what they need at the same time, which is more than they ever did.
func Empty(rooms []Room, percent, spare float64) *Emptying {
	e := &Emptying{Percent: percent, Spare: spare, Hosts: []Emptied{}, At: []string{}, Notes: unjudged(rooms)}
	rooms = slices.Clone(rooms) // what moves is added to them
	free := make([]space, len(rooms))
	for i := range rooms {
		free[i] = rooms[i].free(spare)
	}
	for i := range rooms {
		others := slices.Delete(slices.Clone(free), i, i+1)
		e.Hosts = append(e.Hosts, rooms[i].emptyInto(others))
	}
	byLoad := make([]int, len(rooms))
	for i := range byLoad {
		byLoad[i] = i
	}
	slices.SortStableFunc(byLoad, func(a, b int) int { return cmp.Compare(rooms[a].need(), rooms[b].need()) })
	gone := map[string]bool{}
	for _, i := range byLoad {
		var others []space
		for k := range free {
			if k != i && !gone[free[k].host] {
				others = append(others, free[k])
			}
		}
		x := rooms[i].emptyInto(others)
		if !x.CanBe || len(others) == 0 {
			continue
		}
		e.At, gone[rooms[i].Host] = append(e.At, rooms[i].Host), true
		for _, m := range x.Moves {
			l := Load{CPU: m.CPU, Memory: m.Memory, GPUs: m.GPUs, Rate: m.Rate, Space: m.Space}
			at := slices.IndexFunc(free, func(s space) bool { return s.host == m.To })
			free[at].take(&l, 1)
			// What moved there has to move on, where that host is to be emptied too.
			k := slices.IndexFunc(rooms, func(r Room) bool { return r.Host == m.To })
			l.ID, l.Name, l.Tenant = m.ID, m.Name, m.Tenant
			rooms[k].Loads = append(slices.Clone(rooms[k].Loads), l)
		}
	}
	slices.Sort(e.At)
	slices.SortStableFunc(e.Hosts, func(a, b Emptied) int {
		if a.CanBe != b.CanBe {
			if a.CanBe {
				return -1
			}
			return 1
		}
		return cmp.Compare(len(a.Moves), len(b.Moves))
	})
	return e
}

// free is what is left on a host beside all that is on it.
func (r *Room) free(spare float64) space {
	s := space{host: r.Host, cpu: r.CPUs*(1-spare) - r.OwnCPU, memory: r.Memory*(1-spare) - r.OwnMemory, gpus: r.GPUs,
		rate: math.Inf(1), space: math.Inf(1)}
	if d := &r.Drives; d.Rate > 0 {
		s.rate = d.Rate*(1-spare) - d.Own
	}
	if d := &r.Drives; d.Size > 0 {
		s.space = d.Free - d.Size*spare
	}
	for i := range r.Loads {
		l := r.Loads[i]
		l.Space = 0 // it is not among what is free
		s.take(&l, 1)
	}
	return s
}

// need is how much of a host has to move: the larger of its parts of CPU and memory.
func (r *Room) need() float64 {
	cpu, memory := 0.0, 0.0
	for i := range r.Loads {
		if l := &r.Loads[i]; !l.IsBound {
			cpu, memory = cpu+l.CPU, memory+l.Memory
		}
	}
	return max(cpu/max(r.CPUs, 1), memory/max(r.Memory, 1))
}

// emptyInto looks for a place for each workload that can move: the largest first, and each where it leaves the least.
// Where that leads nowhere it goes back and tries the next place.
func (r *Room) emptyInto(others []space) Emptied {
	x := Emptied{Host: r.Host, Moves: []Move{}}
	var loads []Load
	for _, l := range r.Loads {
		if l.IsBound {
			x.Bound++
			continue
		}
		loads = append(loads, l)
	}
	size := func(l *Load) float64 {
		return max(l.CPU/max(r.CPUs, 1), l.Memory/max(r.Memory, 1)) + float64(l.GPUs)
	}
	slices.SortStableFunc(loads, func(a, b Load) int { return cmp.Compare(size(&b), size(&a)) })
	tries, deepest := 0, 0
	places := make([]int, len(loads))
	var place func(n int) bool
	place = func(n int) bool {
		if n == len(loads) {
			return true
		}
		deepest = max(deepest, n)
		order := make([]int, 0, len(others))
		for k := range others {
			if others[k].fits(&loads[n]) {
				order = append(order, k)
			}
		}
		slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(others[a].cpu, others[b].cpu) })
		for _, k := range order {
			if tries++; tries > mostTries {
				return false
			}
			others[k].take(&loads[n], 1)
			places[n] = k
			if place(n + 1) {
				return true
			}
			others[k].take(&loads[n], -1)
		}
		return false
	}
	if place(0) {
		x.CanBe = len(others) > 0
		for n := range loads {
			l := &loads[n]
			x.Moves = append(x.Moves, Move{l.ID, l.Name, l.Tenant, others[places[n]].host, l.CPU, l.Memory, l.GPUs,
				l.Rate, l.Space})
		}
	}
	x.Sentence = x.words(loads, others, deepest, tries > mostTries)
	return x
}

func (x *Emptied) words(loads []Load, others []space, deepest int, isGivenUp bool) string {
	bound := ""
	if x.Bound > 0 {
		bound = fmt.Sprintf("; %d that belong to the host would end with it", x.Bound)
	}
	switch {
	case len(others) == 0:
		return "There is no other host."
	case x.CanBe && len(loads) == 0:
		return "Nothing on it has to move" + bound + "."
	case x.CanBe:
		return fmt.Sprintf("It could be emptied: %s would fit elsewhere%s.", workloads(len(loads)), bound)
	case isGivenUp:
		return fmt.Sprintf("No way was found in %d tries: there may be one.", mostTries)
	}
	l := &loads[deepest]
	if text := l.lacksDrives(others); text != "" {
		return text
	}
	// Where GPUs are what is needed, the host that has most of them is named.
	largest := slices.MaxFunc(others, func(a, b space) int {
		return cmp.Or(cmp.Compare(min(a.gpus, l.GPUs), min(b.gpus, l.GPUs)), cmp.Compare(a.cpu, b.cpu))
	})
	text := fmt.Sprintf("It cannot be emptied: %s needs %s and %s", l.Name, Amount("cpu", l.CPU),
		Amount("memory", l.Memory))
	if l.GPUs > 0 {
		text += fmt.Sprintf(" and %s", gpus(l.GPUs))
	}
	if deepest > 0 {
		text += fmt.Sprintf(", once %d larger ones are placed", deepest)
	}
	text += fmt.Sprintf("; the most free is %s and %s", Amount("cpu", max(largest.cpu, 0)),
		Amount("memory", max(largest.memory, 0)))
	if l.GPUs > 0 {
		text += fmt.Sprintf(" and %s", gpus(largest.gpus))
	}
	return text + ", on " + largest.host + "."
}

func gpus(n int) string {
	switch n {
	case 0:
		return "no GPU"
	case 1:
		return "1 GPU"
	}
	return fmt.Sprint(n, " GPUs")
}

func workloads(n int) string {
	if n == 1 {
		return "1 workload"
	}
	return fmt.Sprint(n, " workloads")
}
