package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// PinAsk is what a plan of CPUs is made for.
type PinAsk struct {
	Holder string // a tenant's or workload's name, or a rule's expression
	Kind   string // of the holder
	CPUs   int    // how many are wanted
	Alone  bool   // nobody else is to run there
	Keep   int    // how many CPUs have to be left for everybody
}

// PlanHost is a host on which CPUs may be given to a holder, with what is known of it. The pins of the ground are all
// that are in force, and its present workloads are those that are there now.
type PlanHost struct {
	PinGround
	Host       *Host
	CgroupMode string // v1, v2 or hybrid
	Holds      func(User) bool
	Effective  []EffectiveUser // what keeps those that are present on some CPUs
}

// EffectiveUser is a workload that is present, and the CPUs that its cgroup has alone.
type EffectiveUser struct {
	User
	Alone cpuset.Set
}

// PinPlan says which CPUs a holder would best be given, what that changes, and how it is done and undone.
type PinPlan struct {
	From   time.Time `json:"from" doc:"Of the span whose record the plan rests on."`
	To     time.Time `json:"to"`
	Holder string    `json:"holder"`
	Kind   string    `json:"holder_kind" enum:"tenant,workload,rule"`
	Wanted int       `json:"cpus_wanted"`
	Alone  bool      `json:"exclusive" doc:"Nobody else is to run there; else others may."`
	Keep   int       `json:"keep" doc:"How many CPUs have to be left for everybody."`

	Fits      bool         `json:"fits"`
	Sentence  string       `json:"sentence" doc:"The plan, or why there is none."`
	Host      string       `json:"host" doc:"The best of those that were looked at; empty where none has room."`
	Looked    []PlanLooked `json:"looked_at" doc:"Each host that was looked at, the best first."`
	CPUs      string       `json:"cpus" doc:"Kernel list format; empty where there is no room."`
	Whole     bool         `json:"whole_cores" doc:"No core of it is shared with others."`
	Shared    int          `json:"shared_cores" doc:"Cores of which others keep a part."`
	Nodes     []int        `json:"nodes" doc:"The memory nodes that it has CPUs of."`
	Before    string       `json:"declared_before" doc:"Declared for the holder on that host; empty for nothing."`
	Left      PlanLeft     `json:"left" doc:"What is left for everybody."`
	Holders   []PlanGain   `json:"holders" doc:"The holder's workloads there: who gains."`
	Movers    []PlanMove   `json:"movers" doc:"Others that may run there and have to move, most time first."`
	Unmoved   int          `json:"unmoved" doc:"Others that may run there and are beyond what a plan moves."`
	Expected  []PinFault   `json:"expected" doc:"The verdicts, had it been so over the span."`
	Steps     []PinStep    `json:"steps" doc:"To be carried out in this order."`
	MakesRoom []PlanRoom   `json:"makes_room" doc:"Where nothing fits: who has CPUs, the least used first."`
	Notes     []string     `json:"notes"`
}

// PlanLooked is how well a host suits.
type PlanLooked struct {
	Host   string  `json:"host"`
	Fits   bool    `json:"fits"`
	Why    string  `json:"why" doc:"Why it does not fit; empty where it does."`
	CPUs   string  `json:"cpus"`
	Shared int     `json:"shared_cores"`
	Nodes  int     `json:"nodes"`
	Moved  float64 `json:"moved_cpu_seconds" doc:"Time of the span that would have been spent elsewhere."`
	IsHome bool    `json:"has_holder" doc:"Workloads of the holder are there now."`

	layout cpuset.Layout
	host   *PlanHost
}

// PlanLeft is what is left for everybody who has no CPUs alone, before and after.
type PlanLeft struct {
	Before     string   `json:"before_cpus"`
	After      string   `json:"after_cpus"`
	BusyBefore *float64 `json:"before_busy" doc:"The part of their time in which they were busy; null where not told."`
	BusyAfter  *float64 `json:"after_busy" doc:"The same, with what moves there and without what leaves."`
}

// PlanGain is a workload of the holder.
type PlanGain struct {
	UserRef
	May    string   `json:"may_run" doc:"Where it may run now; empty for anywhere."`
	Used   float64  `json:"cpu_seconds" doc:"Over the span."`
	Among  float64  `json:"others_cpu_seconds" doc:"Time of others on the planned CPUs."`
	Waited *float64 `json:"waited_seconds" doc:"For how long its threads waited for a CPU; null where not counted."`
}

// PlanMove is a workload of another that has to move.
type PlanMove struct {
	UserRef
	There  float64 `json:"cpu_seconds" doc:"What it ran on the planned CPUs over the span."`
	May    string  `json:"may_run" doc:"Where it may run now; empty for anywhere."`
	Then   string  `json:"then" doc:"Where it may run then."`
	ByStep bool    `json:"by_step" doc:"A step moves it; else the holder's partition keeps it off."`
}

// PinStep is one step of a plan. A step that declares is recorded by the service; one that places is an act on the
// host, with the settings that it takes.
type PinStep struct {
	What     string            `json:"what"               enum:"declare,place"`
	Workload int64             `json:"workload,omitempty"`
	Name     string            `json:"name"`
	Settings map[string]string `json:"settings"`
	Sentence string            `json:"sentence"`
	Check    string            `json:"check" doc:"How it is seen to hold."`
	Undo     string            `json:"undo"`
	MayFail  bool              `json:"may_fail" doc:"The plan goes on where this step is refused."`
}

// PlanRoom is something that would make room.
type PlanRoom struct {
	Host     string   `json:"host"`
	CPUs     string   `json:"cpus"`
	Holder   string   `json:"holder"`
	Used     *float64 `json:"used" doc:"The part of their time in which the holder used them; null where not told."`
	Enough   bool     `json:"enough" doc:"With these alone it would fit."`
	Sentence string   `json:"sentence"`
}

// The two kinds of steps.
const (
	StepDeclare = "declare"
	StepPlace   = "place"
)

// mostMoved is how many workloads of others a plan moves one by one.
const mostMoved = 100

// PlanPins plans CPUs for a holder on the best of some hosts: with the fewest cores shared, then of the fewest memory
// nodes, then where the least work has to move. A host where the holder is already comes before others that suit.
func PlanPins(from, to time.Time, ask *PinAsk, hosts []*PlanHost) *PinPlan {
	p := &PinPlan{From: from, To: to, Holder: ask.Holder, Kind: ask.Kind, Wanted: ask.CPUs, Alone: ask.Alone,
		Keep: ask.Keep, Looked: []PlanLooked{}, Nodes: []int{}, Holders: []PlanGain{}, Movers: []PlanMove{},
		Expected: []PinFault{}, Steps: []PinStep{}, MakesRoom: []PlanRoom{}, Notes: []string{}}
	for _, h := range hosts {
		p.Looked = append(p.Looked, h.look(ask))
	}
	slices.SortStableFunc(p.Looked, func(a, b PlanLooked) int {
		return cmp.Or(trueFirst(a.Fits, b.Fits), trueFirst(a.IsHome, b.IsHome), a.layout.Against(&b.layout),
			strings.Compare(a.Host, b.Host))
	})
	if len(p.Looked) == 0 || !p.Looked[0].Fits {
		p.saveRoom(ask)
		return p
	}
	best := &p.Looked[0]
	h := best.host
	p.Fits, p.Host, p.CPUs, p.Shared, p.Nodes = true, best.Host, best.CPUs, best.Shared, best.layout.Nodes
	p.Whole = p.Shared == 0
	if p.Nodes == nil {
		p.Nodes = []int{}
	}
	own := h.declaredFor(func(x *Pin) bool { return h.isHolders(ask, x) })
	p.Before = own.String()
	p.gains(h, best.layout.CPUs)
	p.moves(h, ask, best.layout.CPUs, best.layout.Left)
	p.rehearse(h, ask, best)
	p.steps(h, ask)
	p.Sentence = fmt.Sprintf(
		"%s of %s: %s, %s, %s.",
		cpusText(best.layout.CPUs),
		best.Host,
		p.coresText(),
		p.nodesText(),
		p.movedText(),
	)
	return p
}

func trueFirst(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

func (p *PinPlan) coresText() string {
	if p.Whole {
		return "whole cores"
	}
	return fmt.Sprintf("%d %s shared with others", p.Shared, plural(p.Shared, "core", "cores"))
}

func (p *PinPlan) nodesText() string {
	if len(p.Nodes) == 0 {
		return "of memory nodes that are not known"
	}
	return fmt.Sprintf("of %d memory %s", len(p.Nodes), plural(len(p.Nodes), "node", "nodes"))
}

func (p *PinPlan) movedText() string {
	n := len(p.Movers) + p.Unmoved
	if n == 0 {
		return "and nobody has to move"
	}
	sum := 0.0
	for i := range p.Movers {
		sum += p.Movers[i].There
	}
	return fmt.Sprintf("and %d %s of others %s to move, which ran there for %s", n, plural(n, "workload", "workloads"),
		plural(n, "has", "have"), seconds(sum))
}

// isHolders tells whether a declaration is for the holder: the plan takes its place.
func (h *PlanHost) isHolders(ask *PinAsk, x *Pin) bool {
	return x.Kind == ask.Kind && x.Holder == ask.Holder
}

// declaredFor are the CPUs of those declarations that count.
func (h *PlanHost) declaredFor(counts func(*Pin) bool) (set cpuset.Set) {
	for _, x := range h.Pins {
		if counts(x) {
			set = set.Union(x.CPUs)
		}
	}
	return set
}

// taken are the CPUs that somebody else has alone, and that the kernel's command line keeps off.
func (h *PlanHost) taken(ask *PinAsk) cpuset.Set {
	set := h.declaredFor(func(x *Pin) bool { return !h.isHolders(ask, x) && x.Exclusive })
	for i := range h.Effective {
		if e := &h.Effective[i]; !h.Holds(e.User) {
			set = set.Union(e.Alone)
		}
	}
	if h.Host.Inventory != nil {
		isolated, _ := cpuset.Parse(h.Host.Inventory.Isolated) // the kernel's own
		set = set.Union(isolated)
	}
	return set
}

// spoken are the CPUs that are declared for others who share them: who is to have CPUs alone cannot have these.
func (h *PlanHost) spoken(ask *PinAsk) cpuset.Set {
	return h.declaredFor(func(x *Pin) bool { return !h.isHolders(ask, x) && !x.Exclusive && ask.Alone })
}

// places are where the CPUs of the host are; where that is not told, only how many they are.
func (h *PlanHost) places() cpuset.Places {
	places := CPUPlaces(h.Host.Inventory)
	if len(places) > 0 {
		return places
	}
	for cpu := range h.Host.CPUs {
		places = append(places, cpuset.Place{CPU: cpu, Core: -1, Package: -1, Node: -1})
	}
	return places
}

// look lays out CPUs on a host.
func (h *PlanHost) look(ask *PinAsk) PlanLooked {
	x := PlanLooked{Host: h.Host.Name, host: h, IsHome: slices.ContainsFunc(h.Present,
		func(w Present) bool { return h.Holds(w.User) })}
	if len(h.places()) == 0 {
		x.Why = "its CPUs are not known yet: it has sent nothing"
		return x
	}
	r := cpuset.Request{
		CPUs:   ask.CPUs,
		Taken:  h.taken(ask),
		Spoken: h.spoken(ask),
		Keep:   ask.Keep,
		Work:   map[int]int64{},
	}
	for _, ran := range h.Ran {
		if h.Holds(ran.User) {
			r.Work[ran.CPU] -= int64(ran.Micros)
		} else if !h.isKernel(ran.User) {
			r.Work[ran.CPU] += int64(ran.Micros)
		}
	}
	for cpu, s := range h.Gathering.cpus[h.Host.ID] {
		r.Work[cpu] += s.IRQ + s.SoftIRQ // interrupts stay, and whoever is there has them
	}
	layout, err := cpuset.Lay(h.places(), &r)
	if err != nil {
		x.Why = err.Error()
		return x
	}
	x.Fits, x.layout, x.CPUs, x.Shared, x.Nodes = true, layout, layout.CPUs.String(), layout.Shared, len(layout.Nodes)
	for _, ran := range h.Ran {
		if isIn := layout.CPUs.Has(ran.CPU); !h.isKernel(ran.User) && isIn != h.Holds(ran.User) {
			x.Moved += ran.Micros / 1e6
		}
	}
	return x
}

func (h *PlanHost) isKernel(u User) bool { return h.Names(u).Kind == amount.Kernel.String() }

// gains lists the workloads of the holder on the host.
func (p *PinPlan) gains(h *PlanHost, cpus cpuset.Set) {
	among := 0.0
	for _, ran := range h.Ran {
		if cpus.Has(ran.CPU) && !h.Holds(ran.User) && !h.isKernel(ran.User) {
			among += ran.Micros / 1e6
		}
	}
	used, ran := 0.0, h.ranOn(h.places().All())
	for _, w := range h.Present {
		if !h.Holds(w.User) {
			continue
		}
		x := PlanGain{UserRef: h.Names(w.User), May: w.Allowed, Among: among, Used: ran[w.Workload]}
		used += x.Used
		if f := h.Gathering.measures[w.User]; f != nil && f.has.Has(amount.CPUWait) {
			waited := f.units[amount.CPUWait].Float() / 1e6
			x.Waited = &waited
		}
		p.Holders = append(p.Holders, x)
	}
	slices.SortStableFunc(p.Holders, func(a, b PlanGain) int { return cmp.Compare(b.Used, a.Used) })
	if long := float64(h.Gathering.elapsed[h.Host.ID]) / 1000; long > 0 && used/long > float64(cpus.Len()) {
		p.Notes = append(p.Notes, fmt.Sprintf("over the span it used %s cores on average: %d CPUs are fewer than that",
			round(used/long), cpus.Len()))
	}
	if len(p.Holders) == 0 {
		p.Notes = append(p.Notes, "nothing of "+holderWords(p.Kind, p.Holder)+" is on "+h.Host.Name+
			" now: what comes has to be placed then")
	}
}

// ranOn is what each workload ran on some CPUs, in seconds.
func (h *PlanHost) ranOn(cpus cpuset.Set) map[int64]float64 {
	ran := map[int64]float64{}
	for _, x := range h.Ran {
		if cpus.Has(x.CPU) {
			ran[x.Workload] += x.Micros / 1e6
		}
	}
	return ran
}

func holderWords(kind, holder string) string {
	if kind == HolderRule {
		return matching + holder
	}
	return holder
}

// moves lists the workloads of others that may run on the planned CPUs, and where they may run then.
func (p *PinPlan) moves(h *PlanHost, ask *PinAsk, cpus, left cpuset.Set) {
	if !ask.Alone {
		return
	}
	all, there := h.places().All(), h.ranOn(cpus)
	for _, w := range h.Present {
		if h.Holds(w.User) || h.isKernel(w.User) {
			continue
		}
		may, err := cpuset.Parse(w.Allowed)
		if err != nil || may.IsEmpty() {
			may = all
		}
		if !may.Overlaps(cpus) {
			continue
		}
		x := PlanMove{UserRef: h.Names(w.User), May: may.String(), There: there[w.Workload]}
		then := may.Intersect(left)
		if then.IsEmpty() {
			then = left
		}
		// Where the holder's partition keeps others off, only those are moved that could run nowhere else.
		x.Then, x.ByStep = then.String(), !p.isPartition(h) || may.Within(cpus)
		p.Movers = append(p.Movers, x)
	}
	slices.SortStableFunc(p.Movers, func(a, b PlanMove) int { return cmp.Compare(b.There, a.There) })
	if n := len(p.Movers) - mostMoved; n > 0 && !p.isPartition(h) {
		p.Unmoved, p.Movers = n, p.Movers[:mostMoved]
	}
}

// isPartition tells whether the holder is one workload with a cgroup of its own in version 2: it can be given a
// partition, which the kernel keeps everybody else off.
func (p *PinPlan) isPartition(h *PlanHost) bool {
	return p.Alone && h.CgroupMode == "v2" && len(p.Holders) == 1 && hasGroup(p.Holders[0].Kind)
}

func hasGroup(kind string) bool {
	return slices.Contains([]string{amount.Container.String(), amount.VM.String(), amount.Job.String(),
		amount.Service.String()}, kind)
}

// steps says how the plan is carried out: recorded first, so that the record has it from the first instant; then
// others are moved off, and last the holder is placed.
func (p *PinPlan) steps(h *PlanHost, ask *PinAsk) {
	undo := fmt.Sprintf("what is declared for %s on %s is ended again", holderWords(ask.Kind, ask.Holder), p.Host)
	if p.Before != "" {
		undo = "CPUs " + p.Before + " are declared again, as before"
	}
	isDeclared := p.Before == p.CPUs && !slices.ContainsFunc(h.Pins, func(x *Pin) bool {
		return h.isHolders(ask, x) && x.Exclusive != ask.Alone
	})
	if isDeclared {
		p.Notes = append(p.Notes, "these CPUs are declared for it already")
	} else {
		p.Steps = append(p.Steps, PinStep{What: StepDeclare, Name: holderWords(ask.Kind, ask.Holder),
			Settings: map[string]string{"cpus": p.CPUs},
			Sentence: fmt.Sprintf("Declare CPUs %s of %s for %s.", p.CPUs, p.Host, holderWords(ask.Kind, ask.Holder)),
			Check:    "the declaration is in force", Undo: undo})
	}
	for i := range p.Movers {
		if m := &p.Movers[i]; m.ByStep {
			p.Steps = append(p.Steps, PinStep{What: StepPlace, Workload: m.ID, Name: m.Name,
				Settings: map[string]string{"cpus": m.Then}, MayFail: m.There == 0,
				Sentence: fmt.Sprintf("Move %s to CPUs %s.", m.Whose(), m.Then), Check: "its host reads back its mask",
				Undo: "its CPUs are " + m.May + ", as before"})
		}
	}
	for i := range p.Holders {
		w := &p.Holders[i]
		if w.May == p.CPUs && !p.isPartition(h) {
			continue // it is there already
		}
		step := PinStep{What: StepPlace, Workload: w.ID, Name: w.Name, Settings: map[string]string{"cpus": p.CPUs},
			Sentence: fmt.Sprintf("Place %s on CPUs %s.", w.Whose(), p.CPUs), Check: "its host reads back its mask",
			Undo: "the CPUs from before"}
		if p.isPartition(h) {
			step.Settings = map[string]string{"cpuset": p.CPUs, "alone": "true"}
			step.Sentence = fmt.Sprintf("Give %s a partition of CPUs %s, which the kernel keeps everybody else off.",
				w.Whose(), p.CPUs)
			step.Check = "its host reads back the CPUs of its group, and that they are its alone"
		}
		p.Steps = append(p.Steps, step)
	}
	switch {
	case !ask.Alone || p.isPartition(h):
	case p.Unmoved > 0:
		p.Notes = append(
			p.Notes,
			fmt.Sprintf("%d more workloads may run there; a plan moves %d at most, so nothing keeps "+
				"these off", p.Unmoved, mostMoved),
		)
	default:
		p.Notes = append(p.Notes, "affinity keeps those off that are there now; what comes later is not kept off")
	}
}

// saveRoom says why there is no room on any host, and what would make some.
func (p *PinPlan) saveRoom(ask *PinAsk) {
	if len(p.Looked) == 0 {
		p.Sentence = "No host was looked at."
		return
	}
	p.Sentence = fmt.Sprintf("There is no room for %d CPUs on %s: %s.", ask.CPUs, p.Looked[0].Host, p.Looked[0].Why)
	if n := len(p.Looked); n > 1 {
		p.Sentence = fmt.Sprintf("There is no room for %d CPUs on any of %d hosts.", ask.CPUs, n)
	}
	for i := range p.Looked {
		h := p.Looked[i].host
		all := h.places().All()
		free := min(all.Minus(h.taken(ask)).Len()-ask.Keep, all.Minus(h.taken(ask)).Minus(h.spoken(ask)).Len())
		isEnough := func(set cpuset.Set) bool { return free+set.Intersect(all).Len() >= ask.CPUs }
		for _, x := range h.Pins {
			if h.isHolders(ask, x) || !x.Exclusive && !ask.Alone {
				continue
			}
			r := PlanRoom{Host: h.Host.Name, CPUs: x.CPUs.String(), Holder: holderText(x), Used: h.usedBy(x),
				Enough: isEnough(x.CPUs)}
			r.Sentence = fmt.Sprintf("%s of %s %s declared for %s", cpusText(x.CPUs), r.Host, isOrAre(x.CPUs.Len()),
				r.Holder)
			if r.Used != nil {
				r.Sentence += ", which used " + percent(*r.Used) + " of " + itOrThem(x.CPUs.Len())
			}
			p.MakesRoom = append(p.MakesRoom, r)
		}
		if h.Host.Inventory == nil {
			continue
		}
		if isolated, _ := cpuset.Parse(h.Host.Inventory.Isolated); !isolated.IsEmpty() {
			p.MakesRoom = append(p.MakesRoom, PlanRoom{Host: h.Host.Name, CPUs: isolated.String(), Holder: "the kernel",
				Enough: isEnough(isolated), Sentence: fmt.Sprintf("%s of %s %s isolated by the kernel's command line",
					cpusText(isolated), h.Host.Name, isOrAre(isolated.Len()))})
		}
	}
	used := func(r PlanRoom) float64 {
		if r.Used == nil {
			return 2 // after all that are known
		}
		return *r.Used
	}
	slices.SortStableFunc(p.MakesRoom, func(a, b PlanRoom) int {
		return cmp.Or(trueFirst(a.Enough, b.Enough), cmp.Compare(used(a), used(b)))
	})
}

// usedBy is the part of the time of declared CPUs that their holder used; nil where nothing was recorded.
func (h *PlanHost) usedBy(x *Pin) *float64 {
	capacity := float64(h.Gathering.elapsed[h.Host.ID]) * 1e3 * float64(x.CPUs.Len())
	if capacity == 0 {
		return nil
	}
	part := 0.0
	for _, ran := range h.Ran {
		if x.CPUs.Has(ran.CPU) && x.Holds(ran.User) {
			part += ran.Micros / capacity
		}
	}
	return &part
}

// AloneOf are the CPUs that the cgroup of a workload has alone; none where it shares them.
func AloneOf(w *account.Workload, host *EffectiveHost) cpuset.Set {
	_, alone, _ := EffectiveOn(w, host)
	return alone
}
