package whatif

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Site is a host as a place for one more workload: what it has, and what the workloads on it had, step by step.
type Site struct {
	Host   string
	CPUs   float64
	Memory float64 // bytes
	GPUs   int     // that nobody holds
	Drives Drives
	// What its kernel has, and nobody's share.
	OwnCPU, OwnMemory float64
	CPU, Taken        map[time.Time]float64 // by step: the highest ticks of all on it, added up; of CPU and of memory
	Rate              map[time.Time]float64 // the same, to and from drives
}

// Candidate is a workload that is looked a place for: what it had in each step, or what it would need in each.
type Candidate struct {
	Name        string
	Host        string                // where it is; empty for nowhere
	CPU, Memory map[time.Time]float64 // its highest tick of each step
	Rate        map[time.Time]float64 // the same, to and from drives
	Space       float64               // bytes that its files take
	Least       float64               // cores that it needs in any step, such as those that it has alone
	LeastMemory float64               // bytes
	GPUs        int
}

// Fit is how a workload would fit on a host.
type Fit struct {
	Host       string  `json:"host"`
	IsThere    bool    `json:"is_there" doc:"It is on this host now."`
	Fits       bool    `json:"fits"`
	CPU        float64 `json:"cpu_cores" doc:"All on the host with it: this percentile of the steps."`
	CPUPart    float64 `json:"cpu_part" doc:"Of the host's CPUs."`
	Memory     float64 `json:"memory_bytes"`
	MemoryPart float64 `json:"memory_part"`
	GPUs       int     `json:"gpus_free" doc:"Before it came."`
	// Of drives, where a host's rate was declared.
	RatePart *float64 `json:"disk_part" doc:"Of what its drives carry; null where that is not declared."`
	Space    *float64 `json:"space_free_bytes" doc:"Before it came, on the filesystem with most; null where not known."`
	Over     int      `json:"steps_over" doc:"In these there would have been more than the host has."`
	Steps    int      `json:"steps"`
	Sentence string   `json:"sentence"`
}

// Placing is where a workload would fit, the best first: where the larger of the parts of CPU and memory that would be
// used is least, so that most room is left.
type Placing struct {
	Percent  float64  `json:"percentile" doc:"Of the steps, in which what all need is to fit."`
	Spare    float64  `json:"spare" doc:"This part of each host's CPUs and memory stays free."`
	Hosts    []Fit    `json:"hosts"`
	Notes    []string `json:"notes" doc:"What was not judged, and why."`
	Sentence string   `json:"sentence"`
}

// Place plays the steps again with one more workload on each host. The highest ticks of a step are added up as if they
// came at once, which is more than ever was.
func Place(c *Candidate, sites []Site, percent, spare float64) *Placing {
	p := &Placing{Percent: percent, Spare: spare, Hosts: []Fit{}}
	rooms := make([]Room, len(sites))
	for i := range sites {
		rooms[i] = Room{Host: sites[i].Host, Drives: sites[i].Drives}
	}
	p.Notes = unjudged(rooms)
	for i := range sites {
		p.Hosts = append(p.Hosts, sites[i].with(c, percent, spare))
	}
	slices.SortStableFunc(p.Hosts, func(a, b Fit) int {
		if a.Fits != b.Fits {
			return map[bool]int{true: -1, false: 1}[a.Fits]
		}
		return cmp.Or(cmp.Compare(a.fullest(), b.fullest()), cmp.Compare(a.Host, b.Host))
	})
	p.Sentence = p.words(c)
	return p
}

func (f *Fit) fullest() float64 {
	most := max(f.CPUPart, f.MemoryPart)
	if f.RatePart != nil {
		most = max(most, *f.RatePart)
	}
	return most
}

// with plays the steps of a host again with a workload on it.
func (s *Site) with(c *Candidate, percent, spare float64) Fit {
	f := Fit{Host: s.Host, IsThere: s.Host == c.Host, GPUs: s.GPUs}
	at := map[time.Time]bool{}
	for _, steps := range []map[time.Time]float64{s.CPU, s.Taken, s.Rate, c.CPU, c.Memory, c.Rate} {
		for t := range steps {
			at[t] = true
		}
	}
	if len(at) == 0 {
		at[time.Time{}] = true // nothing was recorded: what is needed in any step
	}
	var cpu, memory, rate []float64
	for t := range at {
		x, y := s.OwnCPU+s.CPU[t]+max(c.CPU[t], c.Least), s.OwnMemory+s.Taken[t]+max(c.Memory[t], c.LeastMemory)
		cpu, memory = append(cpu, x), append(memory, y)
		z := s.Drives.Own + s.Rate[t] + c.Rate[t]
		rate = append(rate, z)
		if x > s.CPUs || y > s.Memory || s.Drives.Rate > 0 && z > s.Drives.Rate {
			f.Over++
		}
	}
	f.Steps = len(at)
	f.CPU, f.Memory = Percentile(cpu, percent), Percentile(memory, percent)
	f.CPUPart, f.MemoryPart = f.CPU/max(s.CPUs, 1), f.Memory/max(s.Memory, 1)
	shortCPU, shortMemory := f.CPU-s.CPUs*(1-spare), f.Memory-s.Memory*(1-spare)
	shortRate, shortSpace := 0.0, 0.0
	if s.Drives.Rate > 0 {
		part := Percentile(rate, percent) / s.Drives.Rate
		f.RatePart, shortRate = &part, (part-1+spare)*s.Drives.Rate
	}
	if s.Drives.Size > 0 {
		free := s.Drives.Free
		if f.Space = &free; !f.IsThere && c.Space > 0 {
			shortSpace = c.Space - free + s.Drives.Size*spare
		}
	}
	f.Fits = shortCPU <= 1e-9 && shortMemory <= 1e-3 && c.GPUs <= s.GPUs && shortRate <= 1e-3 && shortSpace <= 1e-3
	with := "with it"
	if f.IsThere {
		with = "as it is"
	}
	parts := fmt.Sprintf("%s, %.0f %% of its CPUs and %.0f %% of its memory would be used", with, 100*f.CPUPart,
		100*f.MemoryPart)
	switch {
	case f.Fits:
		f.Sentence = "It fits: " + parts + "."
	case c.GPUs > s.GPUs:
		f.Sentence = fmt.Sprintf("It needs %s: %s free.", gpus(c.GPUs), isOrAre(s.GPUs))
	default:
		f.Sentence = "It does not fit: " + parts
		if shortCPU > 1e-9 {
			f.Sentence += ", " + Amount("cpu", shortCPU) + " too many"
		}
		if shortMemory > 1e-3 {
			f.Sentence += ", " + Amount("memory", shortMemory) + " too much"
		}
		if shortRate > 1e-3 {
			f.Sentence += ", " + Figure("disk", shortRate) + " more than its drives are to carry"
		}
		if shortSpace > 1e-3 {
			f.Sentence += ", its files take " + Amount("memory", shortSpace) + " more than is to be taken there"
		}
		f.Sentence += "."
	}
	return f
}

func isOrAre(n int) string {
	switch n {
	case 0:
		return "none is"
	case 1:
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

func (p *Placing) words(c *Candidate) string {
	if len(p.Hosts) == 0 {
		return "There is no host that it could be on."
	}
	best := &p.Hosts[0]
	switch {
	case !best.Fits:
		return fmt.Sprintf("%s fits on none of %d hosts with %.0f %% of each left free.", c.Name, len(p.Hosts),
			100*p.Spare)
	case best.IsThere:
		return fmt.Sprintf("%s fits best where it is, on %s.", c.Name, best.Host)
	}
	return fmt.Sprintf("%s would fit best on %s: %.0f %% of its CPUs and %.0f %% of its memory would be used.", c.Name,
		best.Host, 100*best.CPUPart, 100*best.MemoryPart)
}
