package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// Unused is what tenants hold and do not use: what one could ask back.
type Unused struct {
	Over
	Tenants []TenantUnused `json:"tenants" doc:"Of those that hold something they do not use, by name."`
}

// TenantUnused is what one tenant could give back, in all, with the lines it is made of.
type TenantUnused struct {
	Tenant string       `json:"tenant"`
	Cores  float64      `json:"cpu_cores"`
	Bytes  float64      `json:"memory_bytes"`
	GPUs   float64      `json:"gpus"`
	Lines  []UnusedLine `json:"lines" doc:"Of each resource the largest first."`
}

// UnusedLine is one thing that is held and not used.
type UnusedLine struct {
	WorkloadRef
	Host     string  `json:"host"`
	Resource string  `json:"resource" enum:"cpu,memory,gpu"`
	Unit     string  `json:"unit"`
	Why      string  `json:"why" enum:"limit,asked,asleep,pin,gpu"`
	Held     float64 `json:"held"`
	Most     float64 `json:"most_used" doc:"The highest tick in the span; of what sleeps, nothing."`
	Amount   float64 `json:"unused"`
	Sentence string  `json:"sentence"`
}

// Why something is unused.
const (
	unusedLimit  = "limit"  // a limit above all that was used
	unusedAsked  = "asked"  // a job asked for more than it used
	unusedAsleep = "asleep" // memory of what has done nothing for long
	unusedPin    = "pin"    // declared CPUs on which the holder did next to nothing
	unusedGPU    = "gpu"    // an allotted GPU that did next to nothing
)

// unusedMarks says from where on what is held is told as unused: this part of it, and at least so much.
var unusedMarks = struct{ Part, Cores, Bytes, GPU float64 }{0.5, 0.5, 1 << 28, 0.01}

// Holding is what a workload that is there at the end of a span held, had at most, and whose it is.
type Holding struct {
	User
	Host  string
	Kind  amount.Kind
	Held  Held
	Most  map[string]float64 // by resource: the highest tick, in mean units
	Mean  map[string]float64
	Of    map[string]float64 // what it is entitled to (see Entitled)
	Rest  *Rest              // where it sleeps: since when
	IsGPU bool               // its use of GPUs is known
}

// FindUnused tells what tenants hold and do not use: by the workloads that are there, and the audits of pins.
func FindUnused(over Over, holdings []Holding, pins []PinAudit, names Names) *Unused {
	u := &Unused{Over: over, Tenants: []TenantUnused{}}
	by := map[string]*TenantUnused{}
	add := func(tenant string, line UnusedLine) {
		t := by[tenant]
		if t == nil {
			t = &TenantUnused{Tenant: tenant, Lines: []UnusedLine{}}
			by[tenant] = t
		}
		t.Lines = append(t.Lines, line)
		switch line.Resource {
		case amount.CPU.String():
			t.Cores += line.Amount
		case amount.Memory.String():
			t.Bytes += line.Amount
		default:
			t.GPUs += line.Amount
		}
	}
	for i := range holdings {
		h := &holdings[i]
		who := names(h.User)
		for _, line := range h.lines() {
			line.WorkloadRef, line.Host = who.WorkloadRef, h.Host
			add(who.Tenant, line)
		}
	}
	for i := range pins {
		if tenant, line, is := idlePin(&pins[i]); is {
			add(tenant, line)
		}
	}
	for _, t := range by {
		slices.SortFunc(t.Lines, func(a, b UnusedLine) int {
			return cmp.Or(
				cmp.Compare(a.Resource, b.Resource),
				cmp.Compare(b.Amount, a.Amount),
				cmp.Compare(a.Name, b.Name),
				cmp.Compare(a.Host, b.Host),
				cmp.Compare(a.Why, b.Why),
			)
		})
		u.Tenants = append(u.Tenants, *t)
	}
	slices.SortFunc(u.Tenants, func(a, b TenantUnused) int { return cmp.Compare(a.Tenant, b.Tenant) })
	return u
}

// lines are what of a workload's holdings was not used.
func (h *Holding) lines() (lines []UnusedLine) {
	for _, x := range []struct {
		r     amount.Resource
		least float64
	}{{amount.CPU, unusedMarks.Cores}, {amount.Memory, unusedMarks.Bytes}} {
		name := x.r.String()
		held, is := h.Of[name]
		most, isKnown := h.Most[name]
		left := held - most
		if !is || !isKnown || left < x.least || left < unusedMarks.Part*held {
			continue
		}
		line := UnusedLine{
			Resource: name,
			Unit:     x.r.MeanUnit(),
			Why:      unusedLimit,
			Held:     held,
			Most:     most,
			Amount:   left,
		}
		what := "is limited to"
		if h.Kind == amount.Job || x.r == amount.CPU && h.Held.CPULimit == nil {
			line.Why, what = unusedAsked, "asked for"
		}
		line.Sentence = fmt.Sprintf("It %s %s and had at most %s.", what, inUnits(x.r, held), inUnits(x.r, most))
		lines = append(lines, line)
	}
	if mean, is := h.Mean[amount.Memory.String()]; is && h.Rest != nil && mean >= Sleepers.Bytes {
		lines = append(lines, UnusedLine{Resource: amount.Memory.String(), Unit: amount.Memory.MeanUnit(),
			Why: unusedAsleep, Held: mean, Amount: mean,
			Sentence: fmt.Sprintf("It has done next to nothing for %s, and has %s.", Lasted(h.Rest.Slept),
				inUnits(amount.Memory, mean))})
	}
	gpu := amount.GPU.String()
	if held, is := h.Of[gpu]; is && h.IsGPU && h.Mean[gpu] < unusedMarks.GPU*held {
		lines = append(lines, UnusedLine{Resource: gpu, Unit: amount.GPU.MeanUnit(), Why: unusedGPU, Held: held,
			Most: h.Most[gpu], Amount: held,
			Sentence: fmt.Sprintf(
				"It has %s allotted (%s) and did next to nothing with %s.",
				inUnits(amount.GPU, held),
				h.Held.GPUs,
				itOrThem(int(held)),
			)})
	}
	return lines
}

// idlePin is a declaration with CPUs on which the holder did next to nothing.
func idlePin(p *PinAudit) (tenant string, line UnusedLine, is bool) {
	if !p.Exclusive {
		return "", line, false
	}
	for _, f := range p.Verdicts {
		if f.Verdict != PinIdle {
			continue
		}
		set, _ := cpuset.Parse(f.CPUs) // it was written by the audit
		n := float64(set.Len())
		return p.tenant(), UnusedLine{Host: p.Host, Resource: amount.CPU.String(), Unit: amount.CPU.MeanUnit(),
			Why: unusedPin, Held: n, Amount: n, Sentence: f.Sentence}, true
	}
	return "", line, false
}

// tenant is whose a declaration is: the holder, or the tenant of what ran there for it.
func (a *PinAudit) tenant() string {
	if a.Kind == HolderTenant {
		return a.Holder
	}
	for _, x := range a.Each {
		for _, r := range x.Ran {
			if r.IsHolder {
				return r.Tenant
			}
		}
	}
	return Unassigned
}

// inUnits is a mean of a resource in words.
func inUnits(r amount.Resource, v float64) string {
	if r.MeanUnit() != "bytes" {
		unit := r.MeanUnit()
		if r == amount.GPU {
			unit = "GPUs"
		}
		if v == 1 {
			unit = strings.TrimSuffix(unit, "s")
		}
		return round(v) + " " + unit
	}
	for _, x := range []struct {
		per  float64
		name string
	}{{1 << 40, "TiB"}, {1 << 30, "GiB"}, {1 << 20, "MiB"}} {
		if v >= x.per {
			return round(v/x.per) + " " + x.name
		}
	}
	return round(v) + " bytes"
}
