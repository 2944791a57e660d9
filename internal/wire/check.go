package wire

import (
	"fmt"
	"math"

	"vinescale/core/amount"
)

// check holds the columns of an interval to each other, and figures and texts to what they can be. The error names the
// field.
func (iv *Interval) check() error {
	f := &faults{}
	f.text("boot", iv.Boot, mostName)
	if iv.Boot == "" || iv.Sequence == 0 || iv.Sequence > math.MaxInt64 {
		f.at("boot and sequence", "must be given, and be a number up to 2^63-1; they are what it is known by")
	}
	f.number("elapsed_millis", iv.ElapsedMillis, 1, mostElapsed)
	iv.checkTime(f)
	f.number("cpus", int64(iv.Cpus), 0, mostCPUs)
	f.text("cgroup_mode", iv.CgroupMode, mostName)
	if f.err != nil { // the bounds of all else follow from these
		return f.err
	}
	n := len(iv.GetWorkloads().GetKey())
	iv.checkLedgers(f)
	iv.Workloads.check(f, "workloads")
	if w := iv.GetWorkloads(); w != nil {
		f.rows("workloads", n, mostWorkloads, len(w.Threads), len(w.Processes))
		f.optional("workloads", n, len(w.RunnableMillis), len(w.RunnablePeak))
		numbers(f, "workloads.threads", w.Threads, 0, math.MaxInt32)
		numbers(f, "workloads.processes", w.Processes, 0, math.MaxInt32)
		numbers(f, "workloads.runnable_millis", w.RunnableMillis, 0, math.MaxInt32*iv.ElapsedMillis)
		numbers(f, "workloads.runnable_peak", w.RunnablePeak, 0, math.MaxInt32)
	}
	iv.checkUsages(f, n)
	iv.checkPrograms(f, n)
	iv.checkCPUUse(f, n)
	iv.checkParts(f, n)
	iv.checkProcesses(f, n)
	iv.checkDetail(f)
	iv.checkFigures(f, n)
	if inv := iv.GetInventory(); inv != nil {
		f.text("inventory", inv.Json, mostInventory)
		if f.err == nil {
			checkInventory(f, inv)
		}
	}
	return f.err
}

// The span of time in which an interval may lie at all, in microseconds since 1970: from 2000 to 2200. Whether it is
// one that the service counts is for the service to say, which has a clock.
const (
	earliestMicros = 946_684_800_000_000
	latestMicros   = 7_258_118_400_000_000
)

// checkTime holds the bounds of an interval to the time that passed between them. A host's clock may be set meanwhile,
// by a little: what is measured without it is the elapsed time.
func (iv *Interval) checkTime(f *faults) {
	f.number("from_unix_micros", iv.FromUnixMicros, earliestMicros, latestMicros)
	f.number("to_unix_micros", iv.ToUnixMicros, earliestMicros, latestMicros)
	if iv.ToUnixMicros < iv.FromUnixMicros {
		f.at("to_unix_micros", "is before from_unix_micros")
	}
	const slack = 5000 // milliseconds
	if between := (iv.ToUnixMicros - iv.FromUnixMicros) / 1000; f.err == nil &&
		max(between-iv.ElapsedMillis, iv.ElapsedMillis-between) > slack+iv.ElapsedMillis/10 {
		f.at("elapsed_millis", "is %d, but from_unix_micros and to_unix_micros are %d apart", iv.ElapsedMillis, between)
	}
}

// most is how much of a resource a whole host can have had in the interval, in account units. Use is of the order of
// the capacity where that is told; a declared rate can be exceeded, so it bounds no flow but CPU time.
func (iv *Interval) most(r amount.Measure) int64 {
	most := iv.mostMoved()
	switch {
	case r.Manner() == amount.Level:
		most = iv.mostHeld()
	case r == amount.CPU:
		return mostOften * int64(max(iv.Cpus, 1)) * iv.ElapsedMillis * 1000
	default:
		return most
	}
	l := iv.LedgerOf(r)
	if c := l.GetCapacity(); c.GetUnits() > 0 && c.GetUnavailable() == "" && c.Units <= most/mostOften {
		most = mostOften * c.Units
	}
	return most
}

// mostHeld is the most byte-milliseconds that a host can have had in the interval.
func (iv *Interval) mostHeld() int64 { return int64(min(heldBound*float64(iv.ElapsedMillis), 1<<62)) }

// mostMoved is how many bytes, operations or microseconds of several at once a host can have had in the interval.
func (iv *Interval) mostMoved() int64 { return int64(rateBound / 1000 * float64(iv.ElapsedMillis)) }

// checkLedgers holds the host-wide lines to what they can be. Only what is idle may be negative, where more moved than
// a declared rate allows.
func (iv *Interval) checkLedgers(f *faults) {
	names := make([]string, len(iv.Ledgers))
	for i, l := range iv.Ledgers {
		names[i] = l.GetResource()
		for _, line := range []string{"capacity", "used", "idle", "kernel", "steal"} {
			field := fmt.Sprintf("ledgers[%d].%s", i, line)
			x := l.LineOf(line)
			least := int64(0)
			if line == "idle" {
				least = -math.MaxInt64 / 2
			}
			f.number(field, x.GetUnits(), least, math.MaxInt64/2)
			f.text(field+".unavailable", x.GetUnavailable(), mostText)
		}
	}
	f.once("ledgers.resource", names)
	f.texts("ledgers.resource", names, mostName)
	if len(iv.Ledgers) == 0 || len(iv.Usages) == 0 {
		f.at("ledgers and usages", "must each hold at least one resource")
	}
	if len(iv.Ledgers) > mostLabels {
		f.at("ledgers", "%d are more than %d", len(iv.Ledgers), mostLabels)
	}
}

// check holds the identities of workloads to each other.
func (w *Workloads) check(f *faults, table string) {
	n := len(w.GetKey())
	f.rows(table, n, mostWorkloads, len(w.GetKind()), len(w.GetName()), len(w.GetOwner()), len(w.GetUid()),
		len(w.GetPath()), len(w.GetAllowed()), len(w.GetLabels()))
	f.optional(table, n, len(w.GetOuter()), len(w.GetRecogniser()), len(w.GetFacts()))
	if f.err != nil || w == nil {
		return
	}
	f.once(table+".key", w.Key)
	for i, k := range w.Kind {
		if _, err := amount.ParseKind(k); err != nil {
			f.at(fmt.Sprintf("%s.kind[%d]", table, i), "%.200s", err)
			break
		}
	}
	for _, c := range []struct {
		name   string
		column []string
		most   int
	}{{"key", w.Key, mostName}, {"name", w.Name, mostName}, {"owner", w.Owner, mostName}, {"path", w.Path, mostText},
		{"allowed", w.Allowed, mostCPUList}, {"outer", w.Outer, mostName}, {"recogniser", w.Recogniser, mostName}} {
		f.texts(table+"."+c.name, c.column, c.most)
	}
	numbers(f, table+".uid", w.Uid, -1, math.MaxUint32)
	f.labels(table+".labels", w.Labels)
	f.labels(table+".facts", w.Facts)
}

// checkUsages holds the columns of every resource to the workloads, those of resources that are not known here too: a
// newer collector may tell of more, and what is known of its batch is taken.
func (iv *Interval) checkUsages(f *faults, workloads int) {
	names := make([]string, len(iv.Usages))
	for i, u := range iv.Usages {
		names[i] = u.GetResource()
	}
	f.once("usages.resource", names)
	f.texts("usages.resource", names, mostName)
	for _, u := range iv.Usages {
		table := "usages." + u.GetResource()
		f.rows(table, workloads, mostWorkloads, len(u.GetUnits()), len(u.GetPeak()), len(u.GetSource()))
		most, peak := int64(math.MaxInt64), int64(math.MaxInt64)
		if r, err := amount.ParseResource(u.GetResource()); err == nil {
			most, peak = iv.most(r), rateBound
			if r.Manner() == amount.Level {
				peak = heldBound
			}
		}
		f.total(table+".units", u.GetUnits(), most)
		numbers(f, table+".peak", u.GetPeak(), 0, peak)
		numbers(f, table+".source", u.GetSource(), 0, int64(amount.Unavailable))
	}
}

func (iv *Interval) checkPrograms(f *faults, workloads int) {
	p := iv.GetPrograms()
	rows := len(p.GetWorkload())
	f.rows("programs", rows, mostRows, len(p.GetProgram()), len(p.GetProcesses()))
	f.optional("programs", rows, len(p.GetFamily()))
	if p == nil || f.err != nil {
		return
	}
	f.rows("programs.names", len(p.Names), mostRows)
	f.texts("programs.names", p.Names, mostName)
	index(f, "programs.workload", p.Workload, 0, workloads, "a workload")
	index(f, "programs.program", p.Program, -1, len(p.Names), "a program")
	index(f, "programs.family", p.Family, -1, len(p.Names), "a family")
	numbers(f, "programs.processes", p.Processes, 0, math.MaxInt32)
	names := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		names[i] = c.GetResource()
		f.rows("programs."+c.GetResource(), rows, mostRows, len(c.GetUnits()))
		most := int64(math.MaxInt64)
		if r, err := amount.ParseResource(c.GetResource()); err == nil {
			most = iv.most(r)
		}
		f.total("programs."+c.GetResource()+".units", c.GetUnits(), most)
	}
	f.once("programs.columns.resource", names)
	f.texts("programs.columns.resource", names, mostName)
}

func (iv *Interval) checkCPUUse(f *faults, workloads int) {
	c := iv.GetCpuUse()
	rows := len(c.GetWorkload())
	f.rows("cpu_use", rows, mostRows, len(c.GetCpu()), len(c.GetMicros()))
	if rows > 0 {
		f.rows("cpu_use.source", workloads, mostWorkloads, len(c.GetSource()))
	}
	index(f, "cpu_use.workload", c.GetWorkload(), 0, workloads, "a workload")
	numbers(f, "cpu_use.cpu", c.GetCpu(), 0, mostCPUs-1)
	f.total("cpu_use.micros", c.GetMicros(), iv.most(amount.CPU))
	numbers(f, "cpu_use.source", c.GetSource(), 0, int64(amount.Unavailable))
}

func (iv *Interval) checkParts(f *faults, workloads int) {
	t := iv.GetParts()
	f.rows("parts", len(t.GetWorkload()), mostRows, len(t.GetName()), len(t.GetMicros()))
	index(f, "parts.workload", t.GetWorkload(), 0, workloads, "a workload")
	f.texts("parts.name", t.GetName(), mostName)
	f.total("parts.micros", t.GetMicros(), iv.most(amount.CPU))
}

func (iv *Interval) checkProcesses(f *faults, workloads int) {
	p := iv.GetProcesses()
	if p == nil {
		return
	}
	f.rows("processes", len(p.Pid), mostRows, len(p.Workload), len(p.Parent), len(p.Program), len(p.Uid),
		len(p.Threads),
		len(p.Runnable), len(p.LastCpu), len(p.CpuMicros), len(p.MemoryBytes), len(p.DiskBytes))
	f.rows("processes.names", len(p.Names), mostRows)
	f.number("processes.over_millis", p.OverMillis, 0, mostElapsed)
	f.texts("processes.names", p.Names, mostName)
	index(f, "processes.workload", p.Workload, 0, workloads, "a workload")
	index(f, "processes.program", p.Program, 0, len(p.Names), "a program")
	for _, c := range []struct {
		name   string
		column []int32
	}{{"pid", p.Pid}, {"parent", p.Parent}, {"threads", p.Threads}, {"runnable", p.Runnable}} {
		numbers(f, "processes."+c.name, c.column, 0, math.MaxInt32)
	}
	numbers(f, "processes.last_cpu", p.LastCpu, -1, mostCPUs-1)
	numbers(f, "processes.uid", p.Uid, -1, math.MaxUint32)
	numbers(f, "processes.cpu_micros", p.CpuMicros, 0, mostOften*mostCPUs*mostElapsed*1000)
	numbers(f, "processes.memory_bytes", p.MemoryBytes, 0, heldBound)
	numbers(f, "processes.disk_bytes", p.DiskBytes, -1, heldBound)
}

// checkDetail holds what the host's counters say beside the ledger to what they can say.
func (iv *Interval) checkDetail(f *faults) {
	d := iv.GetDetail()
	if d == nil {
		return
	}
	f.rows("detail.cpu", len(d.Cpu), mostCPUs, len(d.User), len(d.Nice), len(d.System), len(d.Idle), len(d.Iowait),
		len(d.Irq), len(d.Softirq), len(d.Steal))
	numbers(f, "detail.cpu", d.Cpu, 0, mostCPUs-1)
	for i, column := range [][]int64{d.User, d.Nice, d.System, d.Idle, d.Iowait, d.Irq, d.Softirq, d.Steal} {
		name := []string{"user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal"}[i]
		numbers(f, "detail."+name, column, 0, mostOften*iv.ElapsedMillis*1000)
	}
	f.rows("detail.pressure", len(d.Pressure), mostLabels, len(d.PressureSomeMicros), len(d.PressureFullMicros))
	f.texts("detail.pressure", d.Pressure, mostName)
	f.rows("detail.caveat", len(d.Caveat), mostLabels, len(d.CaveatAmount))
	f.texts("detail.caveat", d.Caveat, mostName)
	numbers(f, "detail.caveat_amount", d.CaveatAmount, 0, iv.mostMoved())
	numbers(f, "detail.pressure_some_micros", d.PressureSomeMicros, 0, mostOften*iv.ElapsedMillis*1000)
	numbers(f, "detail.pressure_full_micros", d.PressureFullMicros, 0, mostOften*iv.ElapsedMillis*1000)
	f.rows("detail.load", len(d.Load), 3)
	for i, l := range d.Load {
		if !(l >= 0 && l <= 1e9) { // NaN is neither
			f.at(fmt.Sprintf("detail.load[%d]", i), "%g is not from 0 to 1e9", l)
		}
	}
	f.number("detail.swap_total_bytes", d.SwapTotalBytes, 0, heldBound)
	f.number("detail.swap_used_bytes", d.SwapUsedBytes, 0, heldBound)
	f.number("detail.memory_available_bytes", d.MemoryAvailableBytes, 0, heldBound)
}
