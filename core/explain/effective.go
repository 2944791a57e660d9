package explain

import (
	"fmt"
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// EffectivePin is what keeps a workload on some of its host's CPUs, and what is not as it is meant to be.
type EffectivePin struct {
	Workload string   `json:"workload"`
	ID       int64    `json:"id"`
	Kind     string   `json:"kind"`
	Tenant   string   `json:"tenant"`
	CPUs     string   `json:"cpus" doc:"Those that affinity and cpusets let its threads run on."`
	KeptBy   string   `json:"kept_by" enum:"affinity,cpuset,partition,both,nothing"`
	CPUSet   string   `json:"cpuset_cpus" doc:"Those that its cgroup lets it run on; empty for all, or where not told."`
	Masks    string   `json:"masks" doc:"Where not all of its threads may run on the same, and whose masks differ."`
	Given    string   `json:"given_cpus" doc:"Those that a scheduler gave it; empty for none."`
	VCPUs    []VCPU   `json:"vcpus" doc:"Of a machine whose virtual CPUs are told: each."`
	Declared string   `json:"declared" doc:"Those that are declared for it now; empty for none."`
	Notes    []string `json:"notes" doc:"What does not agree."`
}

// VCPU is where a virtual CPU may run.
type VCPU struct {
	VCPU string `json:"vcpu"`
	CPUs string `json:"cpus" doc:"As the kernel has it; empty where that is not known."`
	Told string `json:"told" doc:"As the machine manager was told; empty for anywhere."`
}

// What keeps a workload on some CPUs.
const (
	KeptByAffinity  = "affinity"
	KeptByCPUSet    = "cpuset"
	KeptByPartition = "partition" // a cpuset that nobody else may run on
	KeptByBoth      = "both"      // a cpuset, and affinity within it
	KeptByNothing   = "nothing"
)

// EffectiveHost is what is known of the CPUs of a host.
type EffectiveHost struct {
	CPUs   int // 0 for not known
	Places cpuset.Places
}

// EffectiveOn says what keeps a workload on some of its host's CPUs; false where nothing does, and nothing is meant to.
// Alone are those of its CPUs that others cannot run on.
func EffectiveOn(w *account.Workload, host *EffectiveHost) (p EffectivePin, alone cpuset.Set, is bool) {
	p = EffectivePin{Kind: w.Kind.String(), Workload: w.Name, CPUs: w.Allowed, CPUSet: w.Facts[account.FactCPUSet],
		Masks: w.Facts[account.FactMasks], VCPUs: []VCPU{}, Notes: []string{}}
	may, err := cpuset.Parse(w.Allowed)
	if err != nil {
		may = cpuset.Set{}
	}
	within, _ := cpuset.Parse(p.CPUSet) // the kernel's own, or empty
	isKept := !may.IsEmpty() && (host.CPUs == 0 || may.Len() < host.CPUs)
	switch {
	case !isKept && within.IsEmpty():
		p.KeptBy = KeptByNothing
	case within.IsEmpty():
		p.KeptBy = KeptByAffinity
	case w.Facts[account.FactCPUAlone] != "":
		p.KeptBy, alone = KeptByPartition, within
	case may.IsEmpty() || within.Within(may):
		p.KeptBy = KeptByCPUSet
	default:
		p.KeptBy = KeptByBoth
		p.note(
			"its cgroup would let it run on %s, and affinity keeps its threads on %s",
			cpusText(within),
			cpusText(may),
		)
	}
	if given, err := cpuset.Parse(w.Facts[account.FactCPUsGiven]); err == nil && !given.IsEmpty() {
		given = host.Places.Numbered(given)
		p.Given = given.String()
		if beyond := may.Minus(given); !beyond.IsEmpty() {
			p.note("a scheduler gave it %s, and nothing keeps it off %s", cpusText(given), cpusText(beyond))
		}
	}
	if w.Kind == amount.VM {
		p.vcpus(w)
	}
	if p.Masks != "" {
		p.note("not all of its threads may run on the same CPUs: %s", p.Masks)
	}
	isPinned := slices.ContainsFunc(
		p.VCPUs,
		func(v VCPU) bool { return v.Told != "" || v.CPUs != "" && v.CPUs != p.CPUs },
	)
	if !isPinned {
		p.VCPUs = p.VCPUs[:0]
	}
	return p, alone, isKept || !within.IsEmpty() || p.Given != "" || isPinned || p.Masks != ""
}

func (p *EffectivePin) note(format string, args ...any) {
	p.Notes = append(p.Notes, fmt.Sprintf(format, args...))
}

// vcpus puts together what the machine manager was told of each virtual CPU, and what the kernel has.
func (p *EffectivePin) vcpus(w *account.Workload) {
	at := map[string]int{}
	of := func(number string) *VCPU {
		i, is := at[number]
		if !is {
			i = len(p.VCPUs)
			at[number], p.VCPUs = i, append(p.VCPUs, VCPU{VCPU: number})
		}
		return &p.VCPUs[i]
	}
	for number, cpus := range eachVCPU(w.Facts[account.FactVCPUMasks]) {
		of(number).CPUs = cpus
	}
	for number, cpus := range eachVCPU(w.Facts[account.FactVCPUPins]) {
		of(number).Told = cpus
	}
	for i := range p.VCPUs {
		v := &p.VCPUs[i]
		told, err := cpuset.Parse(v.Told)
		has, err2 := cpuset.Parse(v.CPUs)
		if err == nil && err2 == nil && v.Told != "" && v.CPUs != "" && told.String() != has.String() {
			p.note("vCPU %s is to be on %s and may run on %s", v.VCPU, cpusText(told), cpusText(has))
		}
	}
}

// eachVCPU reads a fact such as 0: 2-3; 1: 4.
func eachVCPU(fact string) func(yield func(number, cpus string) bool) {
	return func(yield func(string, string) bool) {
		for part := range strings.SplitSeq(fact, "; ") {
			number, cpus, ok := strings.Cut(part, ": ")
			if ok && !yield(number, cpus) {
				return
			}
		}
	}
}

// LeftForAll are the CPUs of a host that nobody has for itself: not those of partitions (alone), not those that the
// kernel's command line keeps off, and not those declared for somebody alone. Empty where its CPUs are not known.
func LeftForAll(host *EffectiveHost, isolated string, alone, declared cpuset.Set) cpuset.Set {
	left := host.Places.All()
	if left.IsEmpty() {
		for cpu := range host.CPUs {
			left = left.With(cpu)
		}
	}
	off, _ := cpuset.Parse(isolated) // the kernel's own
	return left.Minus(off).Minus(alone).Minus(declared)
}
