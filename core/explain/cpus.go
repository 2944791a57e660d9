package explain

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// CPUs is the ledger of each logical CPU of a host.
type CPUs struct {
	Over
	CPUs     []CPULine  `json:"cpus"`
	Load     *Load      `json:"load,omitempty" doc:"At the end of the newest interval; left out where not told."`
	Pressure []Pressure `json:"pressure" doc:"For what tasks of the host waited; empty where not told."`
	Cores    *CoreUse   `json:"cores,omitempty" doc:"Where CPUs share cores: how far the cores were used."`
	Reason   string     `json:"unavailable,omitempty" doc:"Why there is nothing."`
}

// CoreUse tells how busy CPUs were against how far the cores were used that they share. A core had work while one of
// its CPUs had; how long two had at once is not counted, and so it is known within bounds only.
type CoreUse struct {
	CPUs     int     `json:"cpus"`
	Cores    int     `json:"cores"`
	BusyCPUs float64 `json:"busy_cpus_mean"`
	Least    float64 `json:"busy_cores_least" doc:"Had their CPUs always worked at the same time."`
	Most     float64 `json:"busy_cores_most" doc:"Had they never."`
	Sentence string  `json:"sentence"`
}

// coreUse adds up cores; nil where no two CPUs share one, or where they are is not known.
func coreUse(lines []CPULine) *CoreUse {
	type core struct{ core, pack int }
	least, sum := map[core]float64{}, map[core]float64{}
	use := &CoreUse{}
	for i := range lines {
		c := &lines[i]
		if c.Core < 0 || c.Capacity <= 0 {
			return nil
		}
		at := core{c.Core, c.Package}
		busy := min(max(1-(c.Idle+c.IOWait)/c.Capacity, 0), 1)
		use.CPUs++
		use.BusyCPUs += busy
		least[at], sum[at] = max(least[at], busy), sum[at]+busy
	}
	if use.Cores = len(sum); use.Cores == use.CPUs {
		return nil
	}
	for at := range sum {
		use.Least, use.Most = use.Least+least[at], use.Most+min(sum[at], 1)
	}
	use.Sentence = fmt.Sprintf(
		"%s of %d CPUs were busy in the mean. They share %d cores, of which %s to %s had work: "+
			"a CPU whose sibling works too gives less than a core.",
		round(use.BusyCPUs),
		use.CPUs,
		use.Cores,
		round(use.Least),
		round(use.Most),
	)
	return use
}

// CPULine is one logical CPU: capacity = user + system + irq + softirq + steal + iowait + idle + residual, in seconds.
// The shares say whose user and system time it was.
type CPULine struct {
	CPU      int        `json:"cpu"`
	Core     int        `json:"core" doc:"-1 where not known."`
	Package  int        `json:"package"`
	Node     int        `json:"numa_node"`
	Siblings []int      `json:"smt_siblings" doc:"Other CPUs of the same core."`
	MHz      *float64   `json:"mhz" doc:"Now; null where not known."`
	MostMHz  *float64   `json:"max_mhz"`
	Capacity float64    `json:"capacity_seconds"`
	User     float64    `json:"user_seconds"`
	System   float64    `json:"system_seconds"`
	IRQ      float64    `json:"irq_seconds"`
	SoftIRQ  float64    `json:"softirq_seconds"`
	Steal    float64    `json:"steal_seconds"`
	IOWait   float64    `json:"iowait_seconds" doc:"Idle, with I/O outstanding."`
	Idle     float64    `json:"idle_seconds"`
	Residual float64    `json:"residual_seconds" doc:"Negative where the kernel counts time twice."`
	Ran      *float64   `json:"tasks_seconds" doc:"How long tasks ran; null where not counted."`
	Shares   []CPUShare `json:"shares" doc:"Who ran there, most first."`
	Other    *float64   `json:"other_seconds" doc:"Of that, nobody's: the kernel's. Null where not counted."`
	Untold   *float64   `json:"untold_seconds" doc:"User and system time of nobody known; null where tasks' is."`
}

// CPUShare is a workload's time on a CPU.
type CPUShare struct {
	UserRef
	Seconds float64 `json:"cpu_seconds"`
	Source  string  `json:"source"`
}

// CPUUse is what one workload ran on one CPU.
type CPUUse struct {
	User
	CPU    int
	Micros float64
	Source amount.Source
}

// ExplainCPUs tells of each CPU of a host over a span, and who ran there.
func ExplainCPUs(over Over, g *Gathering, host *Host, ran []CPUUse, names Names) *CPUs {
	c := &CPUs{Over: over, CPUs: []CPULine{}, Pressure: []Pressure{}}
	inv := host.Inventory
	places := map[int]account.CPUPlace{}
	if inv != nil {
		for _, p := range inv.CPUs {
			places[p.CPU] = p
		}
	}
	c.Load, c.Pressure = g.loads[host.ID], g.pressures(host.ID)
	elapsed := float64(g.elapsed[host.ID]) / 1000
	for _, cpu := range slices.Sorted(maps.Keys(g.cpus[host.ID])) {
		x := cpuLine(cpu, g.cpus[host.ID][cpu], elapsed, places)
		charged := 0.0
		for _, r := range ran {
			if r.CPU == cpu {
				seconds := r.Micros / 1e6
				charged += seconds
				x.Shares = append(x.Shares, CPUShare{names(r.User), seconds, r.Source.String()})
			}
		}
		slices.SortFunc(x.Shares, func(a, b CPUShare) int {
			return cmp.Or(cmp.Compare(b.Seconds, a.Seconds), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
		})
		if x.Ran != nil {
			other := *x.Ran - charged
			x.Other = &other
		} else {
			untold := max(x.User+x.System-charged, 0)
			x.Untold = &untold
		}
		c.CPUs = append(c.CPUs, x)
	}
	c.Cores = coreUse(c.CPUs)
	if len(c.CPUs) == 0 {
		c.Reason = "this host has sent nothing about its CPUs in this span"
	}
	return c
}

func cpuLine(cpu int, s *cpuStates, elapsed float64, places map[int]account.CPUPlace) CPULine {
	sec := func(micros int64) float64 { return float64(micros) / 1e6 }
	x := CPULine{
		CPU: cpu, Core: -1, Package: -1, Node: -1, Siblings: []int{}, Shares: []CPUShare{}, Capacity: elapsed,
		User: sec(s.User + s.Nice), System: sec(s.System), IRQ: sec(s.IRQ), SoftIRQ: sec(s.SoftIRQ),
		Steal: sec(s.Steal), IOWait: sec(s.IOWait), Idle: sec(s.Idle),
	}
	x.Residual = x.Capacity - x.User - x.System - x.IRQ - x.SoftIRQ - x.Steal - x.IOWait - x.Idle
	if s.counted {
		ran := sec(s.ran)
		x.Ran = &ran
	}
	p, ok := places[cpu]
	if !ok {
		return x
	}
	x.Core, x.Package, x.Node = p.Core, p.Package, p.Node
	for _, other := range places {
		if other.CPU != cpu && p.Core >= 0 && other.Core == p.Core && other.Package == p.Package {
			x.Siblings = append(x.Siblings, other.CPU)
		}
	}
	slices.Sort(x.Siblings)
	if p.KHz > 0 {
		mhz := float64(p.KHz) / 1000
		x.MHz = &mhz
	}
	if p.MostKHz > 0 {
		mhz := float64(p.MostKHz) / 1000
		x.MostMHz = &mhz
	}
	return x
}
