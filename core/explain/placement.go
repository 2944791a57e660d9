package explain

import (
	"cmp"
	"slices"
	"time"
)

// Placement tells who ran where and when: of each CPU of a host, step by step, how busy it was and who had most of it.
type Placement struct {
	Over
	By      string      `json:"by" enum:"tenant,workload"`
	Step    float64     `json:"step_seconds"`
	Starts  []time.Time `json:"starts" doc:"Of every step, in order; the first may begin before the span."`
	Seconds []float64   `json:"seconds" doc:"How long figures cover each step; 0 where nothing was told."`
	Who     []PlacedWho `json:"who" doc:"Those who had most of some CPU in some step, by how much they ran in all."`
	CPUs    []PlacedCPU `json:"cpus" doc:"By number."`
	Notes   []string    `json:"notes" doc:"What of it is not known, and why."`
	Pins    []PlacedPin `json:"pins" doc:"What was declared of CPUs while the span lasted."`
}

// PlacedWho is somebody who ran: a tenant or a workload.
type PlacedWho struct {
	ID         int64   `json:"id" doc:"Of a workload; else 0."`
	Name       string  `json:"name"`
	Tenant     string  `json:"tenant"`
	CPUSeconds float64 `json:"cpu_seconds" doc:"Over the span, on all CPUs."`
}

// PlacedPin is a declaration of CPUs.
type PlacedPin struct {
	CPUs      string     `json:"cpus"`
	Holder    string     `json:"holder"`
	Exclusive bool       `json:"exclusive"`
	From      time.Time  `json:"from"`
	Until     *time.Time `json:"until"`
}

// PlacedCPU is one CPU, by step. What was not told is null.
type PlacedCPU struct {
	CPU    int        `json:"cpu"`
	Busy   []*float64 `json:"busy_part" doc:"Of its time, from 0 to 1: neither idle nor taken by a hypervisor."`
	User   []*float64 `json:"user_part" doc:"Of its time: in programs, as the kernel samples it."`
	System []*float64 `json:"system_part" doc:"Of its time: in the kernel for programs, and in interrupts."`
	Top    []int      `json:"top" doc:"Who had most of it: a place in who; -1 for nobody."`
	Part   []*float64 `json:"top_part" doc:"Of its time, what that one had."`
}

// PlacedTime is how a CPU's time grew in one step, in microseconds.
type PlacedTime struct{ User, System, Idle, Steal int64 }

// PlacementGround is what a placement is made of.
type PlacementGround struct {
	Times map[PlacedAt]PlacedTime
	Ran   []PlacedRun
}

// PlacedAt is a CPU in the step that begins at a time.
type PlacedAt struct {
	Start time.Time
	CPU   int
}

// PlacedRun is how long somebody ran on a CPU in a step. Key tells them apart.
type PlacedRun struct {
	PlacedAt
	Key    int64
	Who    PlacedWho
	Micros float64
}

// NewPlacement lays out who ran where.
func NewPlacement(s *Series, g *PlacementGround) *Placement {
	p := &Placement{Over: s.Over, By: s.By, Step: s.Step, Starts: s.Starts, Seconds: s.Seconds, Who: []PlacedWho{},
		CPUs: []PlacedCPU{}, Notes: []string{}, Pins: []PlacedPin{}}
	var numbers []int
	for at := range g.Times {
		numbers = append(numbers, at.CPU)
	}
	for i := range g.Ran {
		numbers = append(numbers, g.Ran[i].CPU)
	}
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	tops := map[PlacedAt]*PlacedRun{}
	for i := range g.Ran {
		r := &g.Ran[i]
		if top := tops[r.PlacedAt]; r.Micros > 0 && (top == nil || r.Micros > top.Micros ||
			r.Micros == top.Micros && r.Key < top.Key) { // the same whatever the order they come in
			tops[r.PlacedAt] = r
		}
	}
	places := p.rank(g, tops)
	n := len(s.Starts)
	for _, cpu := range numbers {
		c := PlacedCPU{CPU: cpu, Busy: make([]*float64, n), User: make([]*float64, n), System: make([]*float64, n),
			Top: make([]int, n), Part: make([]*float64, n)}
		for k := range s.Starts {
			begun := s.Starts[s.of[k]] // of the interval that covers the step
			c.Top[k] = -1
			if s.Seconds[k] == 0 {
				continue
			}
			at := PlacedAt{begun, cpu}
			if t, told := g.Times[at]; told {
				c.put(k, t)
			}
			if top := tops[at]; top != nil {
				part := top.Micros / 1000 / float64(max(s.millis[s.of[k]], 1))
				c.Top[k], c.Part[k] = places[top.Key], &part
			}
		}
		p.CPUs = append(p.CPUs, c)
	}
	if len(g.Times) == 0 && len(g.Ran) > 0 {
		p.Notes = append(
			p.Notes,
			"its collector does not tell how each CPU's time grew: brightness is of who ran most",
		)
	}
	return p
}

// put puts how busy the CPU was in a step.
func (c *PlacedCPU) put(k int, t PlacedTime) {
	all := float64(t.User + t.System + t.Idle + t.Steal)
	if all <= 0 {
		return
	}
	part := func(micros int64) *float64 { x := float64(micros) / all; return &x }
	c.Busy[k], c.User[k], c.System[k] = part(t.User+t.System), part(t.User), part(t.System)
}

// rank lists those who had most of some CPU in some step, most first, and returns the place of each by its key.
func (p *Placement) rank(g *PlacementGround, tops map[PlacedAt]*PlacedRun) map[int64]int {
	sums, isTop := map[int64]float64{}, map[int64]*PlacedRun{}
	for i := range g.Ran {
		sums[g.Ran[i].Key] += g.Ran[i].Micros
	}
	for _, r := range tops { // who changed tenant is told with the last
		was := isTop[r.Key]
		if was == nil || cmp.Or(r.Start.Compare(was.Start), cmp.Compare(was.CPU, r.CPU)) > 0 {
			isTop[r.Key] = r
		}
	}
	keys := make([]int64, 0, len(isTop))
	for key := range isTop {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(a, b int64) int { return cmp.Or(cmp.Compare(sums[b], sums[a]), cmp.Compare(a, b)) })
	places := make(map[int64]int, len(keys))
	for i, key := range keys {
		who := isTop[key].Who
		who.CPUSeconds = sums[key] / 1e6
		places[key] = i
		p.Who = append(p.Who, who)
	}
	return places
}
