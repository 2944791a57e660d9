package explain

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"vinescale/core/cpuset"
)

// judge says of a declaration what was right and wrong with it.
func (p *pinAuditor) judge() {
	p.absent()
	p.intruded()
	p.overlapping()
	p.strayed()
	p.idle()
	p.unbound()
	if p.pin.Exclusive {
		p.unenforced()
		p.siblings()
		p.squeezing()
	}
	p.crossing()
	p.interrupted()
	isBroken := func(f PinFault) bool {
		return f.Verdict == PinIntruded || f.Verdict == PinStrayed || f.Verdict == PinAbsent
	}
	for _, f := range p.Verdicts {
		if isBroken(f) {
			return
		}
	}
	if p.Kept > 0 {
		how := ""
		if p.pin.Exclusive && p.Intruded == 0 {
			how = ", alone"
		}
		if p.Strayed == 0 {
			how += ", and nowhere else"
		}
		p.fault(
			PinKept,
			gradeFine,
			p.pin.CPUs,
			&p.Kept,
			nil,
			"%s ran there for %s%s.",
			p.holder(),
			seconds(p.Kept),
			how,
		)
	}
}

// fault adds a verdict.
func (p *pinAuditor) fault(
	verdict, grade string,
	cpus cpuset.Set,
	seconds *float64,
	culprits []PinRun,
	sentence string,
	args ...any,
) {
	if culprits == nil {
		culprits = []PinRun{}
	}
	text := fmt.Sprintf(sentence, args...)
	if strings.HasPrefix(text, matching) {
		text = "W" + text[1:]
	}
	p.Verdicts = append(p.Verdicts, PinFault{Verdict: verdict, Grade: grade, CPUs: cpus.String(), Seconds: seconds,
		Culprits: culprits[:min(len(culprits), 5)], Sentence: text})
}

// absent names declared CPUs that told nothing.
func (p *pinAuditor) absent() {
	var gone cpuset.Set
	for _, x := range p.Each {
		if x.Verdict == PinAbsent {
			gone = gone.With(x.CPU)
		}
	}
	if n := gone.Len(); n > 0 {
		p.fault(
			PinAbsent,
			gradeBad,
			gone,
			nil,
			nil,
			"%s of %s %s offline or not there: declared for %s, of no use to it.",
			cpusText(gone),
			p.Host,
			isOrAre(n),
			p.holder(),
		)
	}
}

// ranOn lists whose time there was on CPUs, most first, of those who count, with its sum.
func (p *pinAuditor) ranOn(cpus cpuset.Set, counts func(User) bool) (runs []PinRun, on cpuset.Set, sum float64) {
	at := map[User]int{}
	for _, r := range p.Ran {
		if r.Micros == 0 || !cpus.Has(r.CPU) || !counts(r.User) {
			continue
		}
		i, there := at[r.User]
		if !there {
			i = len(runs)
			at[r.User] = i
			runs = append(runs, PinRun{p.Names(r.User), 0, r.Source.String(), p.pin.Holds(r.User)})
		}
		runs[i].CPUSeconds += r.Micros / 1e6
		sum += r.Micros / 1e6
		on = on.With(r.CPU)
	}
	sortRuns(runs)
	return runs, on, sum
}

// date keeps a verdict to be dated, with whose time it is about.
func (p *pinAuditor) date(verdict string, cpus cpuset.Set, counts func(User) bool) {
	p.dated = append(p.dated, dated{verdict, cpus, counts})
	for _, r := range p.Ran {
		if p.pin.Holds(r.User) || cpus.Has(r.CPU) && counts(r.User) {
			p.suspects[r.Workload] = true
		}
	}
}

func (p *pinAuditor) isOther(u User) bool { return !p.pin.Holds(u) && !p.isKernel(u) }

func (p *pinAuditor) intruded() {
	if !p.pin.Exclusive {
		return
	}
	runs, on, sum := p.ranOn(p.pin.CPUs, p.isOther)
	if len(runs) == 0 || sum < p.threshold(p.pin.CPUs.Len()) {
		return
	}
	who := runs[0].Whose()
	if n := len(runs) - 1; n > 0 {
		who = fmt.Sprintf("%s and %d more", who, n)
	}
	meanwhile := ""
	if p.Waited != nil && *p.Waited >= 1 {
		meanwhile = fmt.Sprintf("; threads of %s waited %s s for a CPU in this span", p.holder(),
			round(*p.Waited))
	}
	p.fault(
		PinIntruded,
		gradeBad,
		on,
		&sum,
		runs,
		"%s ran for %s on %s, declared for %s alone%s.",
		who,
		seconds(sum),
		cpusText(on),
		p.holder(),
		meanwhile,
	)
	p.date(PinIntruded, p.pin.CPUs, p.isOther)
}

// overlapping names other declarations of the same CPUs.
func (p *pinAuditor) overlapping() {
	var both cpuset.Set
	var with []string
	for _, o := range p.Pins {
		isSame := o.Kind == p.pin.Kind && o.Holder == p.pin.Holder
		if isSame || !o.Exclusive && !p.pin.Exclusive || !o.CPUs.Overlaps(p.pin.CPUs) {
			continue
		}
		both = both.Union(o.CPUs.Intersect(p.pin.CPUs))
		with = append(with, holderText(o))
	}
	if len(with) > 0 {
		p.fault(PinOverlapping, gradeBad, both, nil, nil, "%s %s declared for %s and for %s: not both can have %s.",
			cpusText(both), isOrAre(both.Len()), p.holder(), listed(with), itOrThem(both.Len()))
	}
}

// strayed tells of time of the holder on CPUs that are not declared for it.
func (p *pinAuditor) strayed() {
	declared := p.pin.CPUs
	for _, o := range p.Pins { // CPUs of another declaration for the same workloads are theirs too
		if o.Kind == p.pin.Kind && o.Holder == p.pin.Holder {
			declared = declared.Union(o.CPUs)
		}
	}
	strays := func(u User) bool {
		if !p.pin.Holds(u) {
			return false
		}
		for _, o := range p.Pins {
			if o != p.pin && o.Kind != HolderTenant && p.pin.Kind == HolderTenant && o.Holds(u) {
				return false // it has a declaration of its own
			}
		}
		return true
	}
	var elsewhere cpuset.Set
	for _, r := range p.Ran {
		if !declared.Has(r.CPU) {
			elsewhere = elsewhere.With(r.CPU)
		}
	}
	runs, on, sum := p.ranOn(elsewhere, strays)
	p.Strayed = sum
	if len(runs) == 0 || sum < p.threshold(p.pin.CPUs.Len()) {
		return
	}
	who := runs[0].Whose()
	if n := len(runs) - 1; n > 0 {
		who = fmt.Sprintf("%s and %d more", who, n)
	}
	p.fault(PinStrayed, gradeWatch, on, &sum, runs, "%s ran for %s on %s, which %s not declared for %s.", who,
		seconds(sum), cpusText(on), isOrAre(on.Len()), itOrThem(len(runs)))
	p.date(PinStrayed, elsewhere, strays)
}

func (p *pinAuditor) idle() {
	var still cpuset.Set
	for _, x := range p.Each {
		if x.Verdict != PinAbsent && x.Kept < pinMarks.Idle*x.Capacity {
			still = still.With(x.CPU)
		}
	}
	if still.IsEmpty() {
		return
	}
	sum := float64(still.Len()) * p.capacity
	what := fmt.Sprintf(
		"%s did next to nothing on %s: %s stood ready for it",
		p.holder(),
		cpusText(still),
		seconds(sum),
	)
	if p.pin.Exclusive {
		what += ", and nobody else was to have them"
	}
	p.fault(PinIdle, gradeWatch, still, &sum, nil, "%s.", what)
}

// unbound tells that nothing keeps the holder there, and which of its processes have another mask than the rest.
func (p *pinAuditor) unbound() {
	beyond := p.effective.Minus(p.pin.CPUs)
	if p.pin.Kind == HolderTenant || beyond.IsEmpty() {
		return // of a tenant not all need be there
	}
	sentence := "Nothing keeps " + p.holder() + " there: affinity and cpusets let it run on " + cpusText(
		beyond,
	) + " too"
	for _, w := range p.Present {
		if set, err := cpuset.Parse(w.Allowed); err == nil && w.Masks != "" && p.pin.Holds(w.User) &&
			!set.Within(p.pin.CPUs) {
			sentence += "; not all of its processes may run on the same: " + w.Masks
			break
		}
	}
	p.fault(PinUnbound, gradeWatch, beyond, nil, nil, "%s.", sentence)
}

// unenforced tells that nothing keeps others away.
func (p *pinAuditor) unenforced() {
	if p.Others == 0 {
		return
	}
	p.fault(
		PinUnenforced,
		gradeWatch,
		p.pin.CPUs,
		nil,
		nil,
		"Nothing keeps others off %s: affinity and cpusets let %d other %s run there.",
		cpusText(p.pin.CPUs),
		p.Others,
		plural(p.Others, "workload", "workloads"),
	)
}

// siblings tells of other tenants' time on CPUs that share a core with a declared one.
func (p *pinAuditor) siblings() {
	siblings := p.layout.Siblings(p.pin.CPUs)
	runs, on, sum := p.ranOn(siblings, func(u User) bool { return p.isOther(u) && !p.tenants[u.Tenant] })
	if len(runs) == 0 || sum < p.threshold(siblings.Len()) {
		return
	}
	p.fault(
		PinSibling,
		gradeWatch,
		on,
		&sum,
		runs,
		"%s ran for %s on %s, which %s a core with declared CPUs: what runs there slows %s.",
		runs[0].Whose(),
		seconds(sum),
		cpusText(on),
		plural(on.Len(), "shares", "share"),
		p.holder(),
	)
}

// crossing tells that the CPUs are of several nodes.
func (p *pinAuditor) crossing() {
	nodes := p.layout.Nodes(p.pin.CPUs)
	if len(nodes) < 2 {
		return
	}
	var names []string
	for _, n := range nodes {
		names = append(names, strconv.Itoa(n))
	}
	p.fault(
		PinCrossing,
		gradeWatch,
		p.pin.CPUs,
		nil,
		nil,
		"%s are of memory nodes %s: what is in the memory of one is slower for CPUs of the other.",
		cpusText(p.pin.CPUs),
		strings.Join(names, " and "),
	)
}

// interrupted tells of CPUs on which interrupts took a good part of the time.
func (p *pinAuditor) interrupted() {
	var on cpuset.Set
	sum := 0.0
	for _, cpu := range p.pin.CPUs.CPUs() {
		s := p.Gathering.cpus[p.pin.Host.ID][cpu]
		if s == nil {
			continue
		}
		if took := float64(s.IRQ+s.SoftIRQ) / 1e6; took >= pinMarks.Interrupts*p.capacity {
			on = on.With(cpu)
			sum += took
		}
	}
	if on.IsEmpty() {
		return
	}
	p.fault(
		PinInterrupted,
		gradeWatch,
		on,
		&sum,
		nil,
		"Interrupts took %.3g s of %s, %s of the time: they land there.",
		sum,
		cpusText(on),
		percent(sum/(p.capacity*float64(on.Len()))),
	)
}

// squeezing tells that the CPUs left to everybody were short while some are kept for few.
func (p *pinAuditor) squeezing() {
	left := p.layout.All()
	if left.IsEmpty() {
		for cpu := range p.pin.Host.CPUs {
			left = left.With(cpu)
		}
	}
	if left.IsEmpty() {
		return // which CPUs the host has is not known
	}
	for _, o := range p.Pins {
		if o.Exclusive {
			left = left.Minus(o.CPUs)
		}
	}
	if left.IsEmpty() {
		p.fault(
			PinSqueezing,
			gradeWatch,
			p.pin.CPUs,
			nil,
			nil,
			"Every CPU of %s is declared for somebody alone: none is left for all others, the system among them.",
			p.Host,
		)
		return
	}
	capacity, idle := 0.0, 0.0
	for _, cpu := range left.CPUs() {
		if s := p.Gathering.cpus[p.pin.Host.ID][cpu]; s != nil {
			capacity += p.capacity
			idle += float64(s.Idle+s.IOWait) / 1e6
		}
	}
	if capacity == 0 || 1-idle/capacity < pinMarks.Squeezed || p.Idle < (1-pinMarks.Squeezed)*p.Capacity {
		return
	}
	busy := capacity - idle
	p.fault(PinSqueezing, gradeWatch, p.pin.CPUs, &busy, nil,
		"%s, left for everybody else, %s busy for %s of the time, while %s of %s stood idle.", cpusText(left),
		plural(left.Len(), "was", "were"), percent(busy/capacity), percent(p.Idle/p.Capacity), cpusText(p.pin.CPUs))
}

func (p *pinAuditor) holder() string { return holderText(p.pin) }

// matching stands before the expression of a rule that holds CPUs.
const matching = "what matches "

func holderText(pin *Pin) string {
	if pin.Kind == HolderRule {
		return matching + pin.Holder
	}
	return pin.Holder
}

func cpusText(cpus cpuset.Set) string {
	if cpus.Len() == 1 {
		return "CPU " + cpus.String()
	}
	return "CPUs " + cpus.String()
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

func isOrAre(n int) string  { return plural(n, "is", "are") }
func itOrThem(n int) string { return plural(n, "it", "them") }

// seconds is CPU time in words.
func seconds(v float64) string {
	if v >= 100_000 {
		return fmt.Sprintf("%.0f CPU-hours", v/3600)
	}
	return round(v) + " CPU-seconds"
}

// round writes a number with three figures, or all before the point.
func round(v float64) string {
	if v >= 100 {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.3g", v)
}

// percent is a part in words, never all or nothing of it where it is neither.
func percent(part float64) string {
	return fmt.Sprintf("%.0f %%", math.Round(100*part))
}
