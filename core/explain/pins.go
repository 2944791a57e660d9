package explain

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// Pin is a declaration that CPUs of a host are a holder's.
type Pin struct {
	ID        int64
	Host      *Host
	CPUs      cpuset.Set
	Kind      string // of the holder: tenant, workload or rule
	Holder    string // a tenant's or workload's name, or a rule's expression
	Exclusive bool   // nobody else is to run there
	Reason    string
	MadeBy    string
	From      time.Time
	Until     *time.Time // nil for one without an end
	Holds     func(User) bool
}

// The kinds of holders.
const (
	HolderTenant   = "tenant"
	HolderWorkload = "workload"
	HolderRule     = "rule"
)

// PinAudit holds a declaration against what was allowed and what was done. Its time balances: capacity = kept +
// intruded + kernel + steal + idle + residual, in CPU-seconds on the declared CPUs.
type PinAudit struct {
	ID        int64      `json:"id"`
	Host      string     `json:"host"`
	CPUs      string     `json:"cpus" doc:"Declared, kernel list format."`
	Kind      string     `json:"holder_kind" enum:"tenant,workload,rule"`
	Holder    string     `json:"holder" doc:"A tenant or a workload by name, or a rule's expression."`
	Exclusive bool       `json:"exclusive" doc:"Nobody else is to run there; else others may."`
	Reason    string     `json:"reason" doc:"Why it was declared."`
	MadeBy    string     `json:"made_by"`
	Declared  time.Time  `json:"declared_from"`
	Until     *time.Time `json:"declared_until" doc:"Null while it has no end."`
	From      time.Time  `json:"from" doc:"Of the part of the span in which it was in force."`
	To        time.Time  `json:"to"`

	// The gravest of its verdicts, and all of them, the gravest first.
	Verdict  string     `json:"verdict" doc:"The gravest, such as kept, intruded or unknown."`
	Grade    string     `json:"grade" enum:"bad,watch,fine,unknown"`
	Sentence string     `json:"sentence" doc:"What the gravest verdict says."`
	Verdicts []PinFault `json:"verdicts" doc:"All, the gravest first."`

	Capacity float64 `json:"capacity_cpu_seconds"`
	Kept     float64 `json:"kept_cpu_seconds" doc:"Time of the holder on these CPUs."`
	Intruded float64 `json:"others_cpu_seconds" doc:"Time of others on them."`
	Kernel   float64 `json:"kernel_cpu_seconds" doc:"Interrupts, kernel threads, and what nobody was charged with."`
	Steal    float64 `json:"steal_cpu_seconds"`
	Idle     float64 `json:"idle_cpu_seconds"`
	Residual float64 `json:"residual_cpu_seconds"`
	Strayed  float64 `json:"strayed_cpu_seconds" doc:"Time of the holder on CPUs not declared for it."`

	// For how long threads of the holder were ready and waited for a CPU, added over threads.
	Waited *float64 `json:"holder_waited_seconds" doc:"Added over threads; null where not counted."`
	// On which CPUs affinity and cpusets let the holder's workloads run, and how many of others may run on these.
	Effective string `json:"effective_cpus" doc:"Where the holder may run; empty where that is not known."`
	// CPUs of it that the kernel's command line keeps off its scheduler's balancing, and that have no tick.
	Isolated string      `json:"isolated_cpus" doc:"Of the declared CPUs, kernel list format."`
	NoTick   string      `json:"no_tick_cpus" doc:"Of the declared CPUs, kernel list format."`
	Others   int         `json:"others_allowed" doc:"Workloads of others that may run there."`
	Source   string      `json:"source" doc:"How time by CPU was obtained, the weakest of all."`
	Each     []PinnedCPU `json:"each" doc:"Each declared CPU."`

	pin      *Pin
	suspects map[int64]bool // workloads of which it matters when they ran
	dated    []dated
}

// PinnedCPU is what is known of one CPU of a declaration.
type PinnedCPU struct {
	CPU      int      `json:"cpu"`
	Verdict  string   `json:"verdict" enum:"kept,intruded,idle,absent,unknown"`
	Capacity float64  `json:"capacity_cpu_seconds"`
	Kept     float64  `json:"kept_cpu_seconds"`
	Intruded float64  `json:"others_cpu_seconds"`
	Kernel   float64  `json:"kernel_cpu_seconds"`
	Steal    float64  `json:"steal_cpu_seconds"`
	Idle     float64  `json:"idle_cpu_seconds"`
	Residual float64  `json:"residual_cpu_seconds"`
	Ran      []PinRun `json:"ran" doc:"Who ran there, most first."`
	May      []string `json:"may_run" doc:"Up to ten that affinity and cpusets allow it, with their tenant."`
	MayCount int      `json:"may_run_count" doc:"How many they are."`
}

// PinRun is what one workload ran.
type PinRun struct {
	UserRef
	CPUSeconds float64 `json:"cpu_seconds"`
	Source     string  `json:"source" doc:"counted for each CPU, or summed by the CPU that each thread last ran on."`
	IsHolder   bool    `json:"holder"`
}

// PinFault is one verdict on a declaration, with its evidence. A declaration that was kept has that as its verdict.
type PinFault struct {
	Verdict  string       `json:"verdict"`
	Grade    string       `json:"grade" enum:"bad,watch,fine,unknown"`
	CPUs     string       `json:"cpus" doc:"Those that it is about."`
	Seconds  *float64     `json:"cpu_seconds" doc:"How much time it is about; null where it is about none."`
	Culprits []PinRun     `json:"culprits" doc:"Whose time that was, most first: at most five."`
	When     *PinEvidence `json:"when,omitempty" doc:"When it was, where that is known."`
	Sentence string       `json:"sentence"`
}

// PinEvidence tells when something on declared CPUs was, by stretches of time, and for how long threads of the holder
// waited for a CPU in these.
type PinEvidence struct {
	From         time.Time `json:"from" doc:"Begin of the first stretch in which it was."`
	To           time.Time `json:"to" doc:"End of the last."`
	Stretches    int       `json:"stretches" doc:"In how many it was."`
	StretchLong  float64   `json:"stretch_seconds" doc:"How long each of them is."`
	WorstFrom    time.Time `json:"worst_from" doc:"Begin of that in which it was most."`
	WorstSeconds float64   `json:"worst_cpu_seconds"`
	HolderWaited *float64  `json:"holder_waited_seconds" doc:"In these stretches; null where not counted."`
}

// Present is a workload that was on the host in the span, with the CPUs that it may run on.
type Present struct {
	User
	Allowed string // kernel list format
	Masks   string // where its processes may not all run on the same, as account.FactMasks tells
}

// Verdicts on pins.
const (
	PinKept        = "kept"
	PinIntruded    = "intruded"
	PinStrayed     = "strayed"
	PinIdle        = "idle"
	PinOverlapping = "overlapping"
	PinUnenforced  = "unenforced"
	PinUnbound     = "unbound"
	PinSibling     = "sibling"
	PinCrossing    = "crossing"
	PinInterrupted = "interrupted"
	PinSqueezing   = "squeezing"
	PinAbsent      = "absent"
	PinUnknown     = "unknown"
)

// The grades of verdicts.
const (
	gradeBad     = "bad"
	gradeWatch   = "watch"
	gradeFine    = "fine"
	gradeUnknown = "unknown"
)

// pinMarks says from where on something on declared CPUs is told as a verdict. What is below is in the figures alone.
var pinMarks = struct {
	// Of others' or strayed time: this part of the capacity, or so many seconds if that is less.
	Part, Seconds float64
	Idle          float64 // a CPU whose holder ran for less than this part of the time is idle
	Interrupts    float64 // the part of a CPU's time that interrupts took
	Squeezed      float64 // how busy the CPUs were that are left to everybody
}{0.001, 1, 0.01, 0.01, 0.9}

// PinGround is what is known of one host over the time in which its declarations are audited.
type PinGround struct {
	Gathering *Gathering // of the states of CPUs, and of what workloads waited
	Pins      []*Pin     // all that were in force at some moment of it
	Present   []Present
	Ran       []CPUUse // under the tenant of the time
	Names     Names
}

// AuditPin audits a declaration over a part of time in which it was in force.
func AuditPin(from, to time.Time, pin *Pin, ground *PinGround) *PinAudit {
	a := &PinAudit{ID: pin.ID, Host: pin.Host.Name, CPUs: pin.CPUs.String(), Kind: pin.Kind, Holder: pin.Holder,
		Exclusive: pin.Exclusive, Reason: pin.Reason, MadeBy: pin.MadeBy, Declared: pin.From, Until: pin.Until,
		From: from,
		To:   to, Each: []PinnedCPU{}, Verdicts: []PinFault{}, pin: pin, suspects: map[int64]bool{}}
	p := &pinAuditor{
		PinGround: ground,
		PinAudit:  a,
		pin:       pin,
		capacity:  float64(ground.Gathering.elapsed[pin.Host.ID]) / 1000,
	}
	if p.capacity == 0 {
		a.Verdict, a.Grade, a.Sentence = PinUnknown, gradeUnknown, "Nothing was recorded in this span."
		for _, cpu := range pin.CPUs.CPUs() {
			a.Each = append(a.Each, PinnedCPU{CPU: cpu, Verdict: PinUnknown, Ran: []PinRun{}, May: []string{}})
		}
		return a
	}
	p.places()
	p.observe()
	p.judge()
	slices.SortStableFunc(a.Verdicts, func(x, y PinFault) int { return gravity(x.Verdict) - gravity(y.Verdict) })
	first := a.Verdicts[0]
	a.Verdict, a.Grade, a.Sentence = first.Verdict, first.Grade, first.Sentence
	return a
}

// byGravity lists the verdicts, the gravest first.
var byGravity = []string{
	PinAbsent,
	PinIntruded,
	PinOverlapping,
	PinStrayed,
	PinSibling,
	PinSqueezing,
	PinInterrupted,
	PinIdle,
	PinCrossing,
	PinUnbound,
	PinUnenforced,
	PinKept,
}

func gravity(verdict string) int { return slices.Index(byGravity, verdict) }

// pinAuditor is the work on one audit.
type pinAuditor struct {
	*PinGround
	*PinAudit
	pin      *Pin
	capacity float64 // of one CPU, in seconds
	layout   cpuset.Places
	tenants  map[int32]bool // those of the holder's workloads, at the time

	effective cpuset.Set // where the holder's workloads may run
}

func (p *pinAuditor) places() {
	p.layout = CPUPlaces(p.pin.Host.Inventory)
	p.tenants = map[int32]bool{}
	for _, r := range p.Ran {
		if p.pin.Holds(r.User) {
			p.tenants[r.Tenant] = true
		}
	}
}

// isKernel tells whether time of a user's is the kernel's own.
func (p *pinAuditor) isKernel(u User) bool {
	return p.Names(u).Kind == amount.Kernel.String()
}

// observe adds up what was done on each declared CPU, and who may run there.
func (p *pinAuditor) observe() {
	weakest := amount.Counted
	effective := cpuset.Set{}
	others := map[int64]bool{}
	for _, w := range p.Present {
		set, err := cpuset.Parse(w.Allowed)
		switch {
		case err != nil:
		case p.pin.Holds(w.User):
			effective = effective.Union(set)
		case set.Overlaps(p.pin.CPUs) && !p.isKernel(w.User):
			others[w.Workload] = true
		}
	}
	p.effective = effective
	p.Effective, p.Others = effective.String(), len(others)
	if inv := p.pin.Host.Inventory; inv != nil {
		p.Isolated, p.NoTick = p.declaredOf(inv.Isolated), p.declaredOf(inv.NoTick)
	}
	for _, cpu := range p.pin.CPUs.CPUs() {
		x := PinnedCPU{CPU: cpu, Ran: []PinRun{}, May: p.may(cpu)}
		x.MayCount = len(x.May)
		x.May = x.May[:min(len(x.May), 10)]
		states := p.Gathering.cpus[p.pin.Host.ID][cpu]
		if states == nil {
			if p.isAbsent(cpu) {
				x.Verdict = PinAbsent
				p.Each = append(p.Each, x)
				continue
			}
			states = &cpuStates{} // who ran is known, and of the rest nothing: it is in the residual
		}
		line := cpuLine(cpu, states, p.capacity, nil)
		charged := 0.0
		for _, r := range p.Ran {
			if r.CPU != cpu || r.Micros == 0 {
				continue
			}
			seconds := r.Micros / 1e6
			charged += seconds
			weakest = weakest.Weaker(r.Source)
			isHolder := p.pin.Holds(r.User)
			x.Ran = append(x.Ran, PinRun{p.Names(r.User), seconds, r.Source.String(), isHolder})
			switch {
			case isHolder:
				x.Kept += seconds
			case p.isKernel(r.User):
				x.Kernel += seconds
			default:
				x.Intruded += seconds
			}
		}
		sortRuns(x.Ran)
		x.Capacity, x.Steal, x.Idle = line.Capacity, line.Steal, line.Idle+line.IOWait
		x.Kernel += kernelTime(&line, charged)
		x.Residual = x.Capacity - x.Kept - x.Intruded - x.Kernel - x.Steal - x.Idle
		x.Verdict = PinKept
		if x.Intruded >= p.threshold(1) && p.pin.Exclusive {
			x.Verdict = PinIntruded
		} else if x.Kept < pinMarks.Idle*x.Capacity {
			x.Verdict = PinIdle
		}
		p.Each = append(p.Each, x)
		p.Capacity, p.Kept, p.Intruded = p.Capacity+x.Capacity, p.Kept+x.Kept, p.Intruded+x.Intruded
		p.Kernel, p.Steal, p.Idle, p.Residual = p.Kernel+x.Kernel, p.Steal+x.Steal, p.Idle+x.Idle, p.Residual+x.Residual
	}
	p.Source = weakest.String()
	p.Waited = p.Gathering.waited(p.pin)
}

// declaredOf is which of the declared CPUs are in a list; none where it is not one.
func (p *pinAuditor) declaredOf(list string) string {
	set, _ := cpuset.Parse(list)
	return set.Intersect(p.pin.CPUs).String()
}

// kernelTime is what the kernel itself had of a CPU: interrupts, and what no workload was charged with. Where the time
// of tasks is counted, an interrupt that came while one ran is in that task's time already.
func kernelTime(line *CPULine, charged float64) float64 {
	interrupts := line.IRQ + line.SoftIRQ
	if line.Ran == nil {
		return interrupts
	}
	outside := line.Capacity - line.Steal - line.Idle - line.IOWait - *line.Ran
	return max(*line.Ran-charged, 0) + min(max(outside, 0), interrupts)
}

// isAbsent tells whether a CPU that told nothing is none of the host's: others told, and nobody ran there.
func (p *pinAuditor) isAbsent(cpu int) bool {
	return len(p.Gathering.cpus[p.pin.Host.ID]) > 0 &&
		!slices.ContainsFunc(p.Ran, func(r CPUUse) bool { return r.CPU == cpu && r.Micros > 0 })
}

// waited is for how long threads of a holder waited for a CPU, in seconds; nil where that was counted for none.
func (g *Gathering) waited(pin *Pin) *float64 {
	var sum *float64
	for u, f := range g.measures {
		if f.host != pin.Host.ID || !f.has.Has(amount.CPUWait) || !pin.Holds(u) {
			continue
		}
		if sum == nil {
			sum = new(float64)
		}
		*sum += f.units[amount.CPUWait].Float() / 1e6
	}
	return sum
}

// may lists the workloads that may run on a CPU.
func (p *pinAuditor) may(cpu int) []string {
	list := []string{}
	for _, w := range p.Present {
		if set, err := cpuset.Parse(w.Allowed); err == nil && set.Has(cpu) {
			who := p.Names(w.User)
			list = append(list, who.Name+" ("+who.Tenant+")")
		}
	}
	return list
}

// threshold is from how many seconds on, on so many CPUs, time is told in a verdict.
func (p *pinAuditor) threshold(cpus int) float64 {
	return min(pinMarks.Part*p.capacity*float64(cpus), pinMarks.Seconds)
}

func sortRuns(runs []PinRun) {
	slices.SortFunc(runs, func(a, b PinRun) int {
		return cmp.Or(cmp.Compare(b.CPUSeconds, a.CPUSeconds), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID),
			cmp.Compare(a.Tenant, b.Tenant))
	})
}

// dated is a verdict of which it matters when it was: the CPUs and whose time on them.
type dated struct {
	verdict string
	cpus    cpuset.Set
	counts  func(User) bool
}

// Suspects lists the workloads of which it is to be found out when they ran and waited; none where nothing of it is in
// a verdict. Those of the holder are among them.
func (a *PinAudit) Suspects() []int64 {
	if len(a.dated) == 0 {
		return nil
	}
	list := make([]int64, 0, len(a.suspects))
	for w := range a.suspects {
		list = append(list, w)
	}
	slices.Sort(list)
	return list
}

// PinStretch is what one workload did in a stretch of time: ran on a CPU, or waited for any (CPU -1).
type PinStretch struct {
	Start time.Time
	CPUUse
}

// Date says when what the verdicts tell of was. Stretches are so long, and begin within the audited time.
func (a *PinAudit) Date(stretches []PinStretch, long time.Duration) {
	for _, d := range a.dated {
		sums, waits := map[time.Time]float64{}, map[time.Time]float64{}
		isCounted := false
		for _, s := range stretches {
			switch {
			case s.CPU < 0 && a.pin.Holds(s.User):
				waits[s.Start] += s.Micros / 1e6
				isCounted = true
			case s.CPU >= 0 && d.cpus.Has(s.CPU) && d.counts(s.User):
				sums[s.Start] += s.Micros / 1e6
			}
		}
		when := &PinEvidence{StretchLong: long.Seconds()}
		waited := 0.0
		for start, seconds := range sums {
			if seconds < min(pinMarks.Part*long.Seconds(), pinMarks.Seconds) {
				continue
			}
			if when.Stretches == 0 || start.Before(when.From) {
				when.From = start
			}
			if end := start.Add(long); end.After(when.To) {
				when.To = end
			}
			if seconds > when.WorstSeconds || seconds == when.WorstSeconds && start.Before(when.WorstFrom) {
				when.WorstFrom, when.WorstSeconds = start, seconds
			}
			when.Stretches++
			waited += waits[start]
		}
		if when.Stretches == 0 {
			continue
		}
		if when.From.Before(a.From) {
			when.From = a.From
		}
		if when.To.After(a.To) {
			when.To = a.To
		}
		if isCounted {
			when.HolderWaited = &waited
		}
		for i := range a.Verdicts {
			if a.Verdicts[i].Verdict == d.verdict {
				a.Verdicts[i].When = when
			}
		}
	}
}

// CPUPlaces are where the CPUs of a host are, as its inventory tells.
func CPUPlaces(inv *account.Inventory) cpuset.Places {
	var places cpuset.Places
	if inv != nil {
		for _, x := range inv.CPUs {
			places = append(places, cpuset.Place{CPU: x.CPU, Core: x.Core, Package: x.Package, Node: x.Node})
		}
	}
	return places
}
