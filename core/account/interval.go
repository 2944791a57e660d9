package account

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/amount"
)

// NoProgram stands for the part of a workload's use that no living process explains: what ended between readings,
// and memory that belongs to no one process.
const NoProgram int32 = -1

// NoProgramName stands for NoProgram in listings.
const NoProgramName = "(no one program)"

// Interval is what happened on one host between two readings, or over several that adjoin.
type Interval struct {
	Boot          string
	From, To      time.Time
	ElapsedMillis int64 // by the monotonic clock; may differ from To-From where the wall clock was stepped
	Ticks         int   // how many pairs of readings it is the sum of
	CPUCount      int

	Ledgers [amount.NumResources]Ledger
	Usages  []Usage // ascending by Workload, one each
	Detail  Detail

	chargedFile, chargedKernel int64
}

// Usage is what one workload used in an interval, in account units.
//
// Invariants: nothing is negative; for each resource the Programs add up to Units.
type Usage struct {
	Workload WorkloadID
	Units    [amount.NumResources]int64
	Peak     [amount.NumResources]int64 // of the highest tick: CPU microseconds per second, bytes, bytes per second
	Source   [amount.NumResources]amount.Source
	Threads  int32 // at the end
	Procs    int32 // at the end

	RunnableMillis int64 // threads running or waiting for a CPU, by the time they did: thread·ms, sampled at readings
	RunnablePeak   int32 // most at one reading

	CPUs      []CPUUse // where the CPU time was spent, ascending by CPU
	CPUSource amount.Source
	Programs  []ProgramUse // ascending by Family, then Program
	Parts     []PartUse    // of a workload whose threads are told apart, ascending by Part
	Figures   Figures
	Devices   []DeviceUse // ascending by Device
	Swapped   []SwapUse   // one for each swap
	GPUs      []GPUUse    // one for each GPU that it used or was given
}

// SwapUse is what one workload had on one of several swaps.
type SwapUse struct {
	Swap  string
	Units int64 // byte-milliseconds
}

// DeviceUse is what one workload moved on one block device, counted at every level: a partition's is its drive's too.
type DeviceUse struct {
	Device            int32 // major << 20 | minor
	Read, Written     int64 // bytes
	ReadOps, WriteOps int64
	Discarded         int64 // bytes that the device was told to forget
	Discards          int64 // operations that did so
	Micros            int64 // that the device took, summed over operations; 0 where not counted
	Source            amount.Source
}

// PartUse is CPU time of the threads that play one part in a workload.
type PartUse struct {
	Part   int32
	Micros int64
}

// CPUUse is CPU time spent on one logical CPU.
type CPUUse struct {
	CPU    int32
	Micros int64
}

// ProgramUse is the part of a usage that the processes of one program in one kind of family had.
type ProgramUse struct {
	Family  int32 // program of the process the family descends from; NoProgram where Program is
	Program int32 // NoProgram for what no living process explains
	Procs   int32
	Units   [amount.NumResources]int64
}

// Detail is what the host's counters say beside the ledger.
type Detail struct {
	CPUs                []CPUTimes // how each CPU's time grew
	Pressure            []Pressure // how each grew
	Load                []float64  // over 1, 5 and 15 minutes at the end; empty where not told
	SwapTotal, SwapUsed int64      // bytes at the end
	MemoryAvailable     int64      // bytes at the end

	// Of the memory ledger's kernel line, in byte-milliseconds: the kernel's own structures, page cache that is charged
	// to no workload, and what is set aside as huge pages.
	MemoryOwn, MemoryCache, MemoryHuge int64

	RanMicros  []int64     // by CPUs, how long tasks ran; empty where it is not counted
	Disks      []Disk      // how each grew; InFlight and rate at the end
	Interfaces []Interface // how each grew
	Latencies  []Latency   // how each grew
	GPUs       []GPUTotal  // of each, and of partitions
	Peaks      []PartPeak  // of the parts above, and of CPUs

	Caveats [NumCaveats]int64 // what was missed; 0 for nothing
}

// emit turns the tallies into the interval's usages.
func (s *scratch) emit(iv *Interval) {
	s.programs.group(len(s.tallies), func(p *programTally) WorkloadID { return p.workload })
	s.lastCPU.group(len(s.tallies), func(l *lastCPU) WorkloadID { return l.workload })
	live := 0
	for i := range s.tallies {
		if s.tallies[i].live {
			live++
		}
	}
	iv.Usages = make([]Usage, 0, live)
	s.parts.group(len(s.tallies), func(p *partTally) WorkloadID { return p.workload })
	arena := make([]ProgramUse, 0, len(s.programs.grouped)+live) // one allocation for all workloads' programs
	ran := make([]CPUUse, 0, len(s.lastCPU.grouped))             // and one for the CPUs they ran on
	for w := range s.tallies {
		t := &s.tallies[w]
		if !t.live {
			continue
		}
		u := t.usage(WorkloadID(w), s.elapsed)
		start := len(arena)
		arena = divide(arena, &u, merged(s.programs.of(w)))
		u.Programs = arena[start:len(arena):len(arena)]
		if t.counted&HasPerCPU == 0 {
			start := len(ran)
			ran = byLastCPU(ran, s.lastCPU.of(w))
			u.CPUs, u.CPUSource = ran[start:len(ran):len(ran)], amount.Summed
		}
		u.Parts = partsOf(s.parts.of(w))
		s.finish(&u, t)
		iv.Usages = append(iv.Usages, u)
	}
}

func partsOf(threads []partTally) []PartUse {
	if len(threads) == 0 {
		return nil
	}
	slices.SortFunc(threads, func(a, b partTally) int { return cmp.Compare(a.part, b.part) })
	var parts []PartUse
	for _, t := range threads {
		if n := len(parts); n > 0 && parts[n-1].Part == t.part {
			parts[n-1].Micros += t.micros
		} else {
			parts = append(parts, PartUse{t.part, t.micros})
		}
	}
	return parts
}

// merged sorts one workload's programs and adds up the processes of each.
func merged(programs []programTally) []programTally {
	slices.SortFunc(programs, func(a, b programTally) int {
		if a.family != b.family {
			return cmp.Compare(a.family, b.family)
		}
		return cmp.Compare(a.program, b.program)
	})
	out := programs[:0]
	for i := range programs {
		p := &programs[i]
		if n := len(out); n > 0 && out[n-1].program == p.program && out[n-1].family == p.family {
			out[n-1].count += p.count
			for r, units := range p.units {
				out[n-1].units[r] += units
			}
		} else {
			out = append(out, *p)
		}
	}
	return out
}

// peakOf is the peak of a usage that one tick holds: its mean.
func peakOf(r amount.Resource, units, elapsed int64) int64 {
	if r.IsLevel() {
		return units / elapsed
	}
	return units * 1000 / elapsed
}

// AsTick returns the interval with the peaks that it would have if it were one tick, and not the sum of several shorter
// ones. A host that is watched is read more often than others, and a peak must not depend on who looked.
func (iv *Interval) AsTick() *Interval {
	if iv.Ticks == 1 {
		return iv
	}
	tick := *iv
	tick.Ticks, tick.Usages = 1, slices.Clone(iv.Usages)
	for i := range tick.Usages {
		u := &tick.Usages[i]
		for r, units := range u.Units {
			if u.Source[r] != amount.Unavailable {
				u.Peak[r] = peakOf(amount.Resource(r), units, iv.ElapsedMillis)
			}
		}
	}
	tick.Detail.Peaks = partPeaks(&tick.Detail, iv.ElapsedMillis)
	return &tick
}

func (t *tally) usage(w WorkloadID, elapsed int64) Usage {
	u := Usage{Workload: w, Threads: t.threads, Procs: t.procs, RunnableMillis: int64(t.runnable) * elapsed,
		RunnablePeak: t.runnable}
	for r := range t.units {
		u.Source[r] = amount.Unavailable
		if !t.has[r] {
			continue
		}
		// An outer group read a moment before its inner ones may seem to have used less than they: that is no usage of
		// its own.
		u.Units[r] = max(t.units[r], 0)
		u.Source[r] = t.source[r]
		u.Peak[r] = peakOf(amount.Resource(r), u.Units[r], elapsed)
	}
	if t.counted&HasPerCPU != 0 {
		for c, micros := range t.perCPU {
			if micros > 0 {
				u.CPUs = append(u.CPUs, CPUUse{int32(c), micros})
			}
		}
	}
	return u
}

// byLastCPU adds to cpus what processes ran, by CPU.
func byLastCPU(cpus []CPUUse, ran []lastCPU) []CPUUse {
	slices.SortFunc(ran, func(a, b lastCPU) int { return cmp.Compare(a.cpu, b.cpu) })
	start := len(cpus)
	for _, l := range ran {
		if n := len(cpus); n > start && cpus[n-1].CPU == l.cpu {
			cpus[n-1].Micros += l.micros
		} else {
			cpus = append(cpus, CPUUse{l.cpu, l.micros})
		}
	}
	return cpus
}

// divide gives each program its part of a usage, so that the parts add up to the whole exactly: processes' own sums are
// scaled down where they exceed what was counted, and what they do not reach is NoProgram's.
func divide(arena []ProgramUse, u *Usage, programs []programTally) []ProgramUse {
	var sum [amount.NumResources]int64
	for i := range programs {
		for r, units := range programs[i].units {
			sum[r] += units
		}
	}
	rest := u.Units
	start := len(arena)
	arena = append(arena, ProgramUse{Family: NoProgram, Program: NoProgram})
	for i := range programs {
		part := ProgramUse{Family: programs[i].family, Program: programs[i].program, Procs: programs[i].count}
		for r, units := range programs[i].units {
			if sum[r] > u.Units[r] {
				units = mulDiv(units, u.Units[r], sum[r])
			}
			part.Units[r] = units
			rest[r] -= units
		}
		arena = append(arena, part)
	}
	arena[start].Units = rest
	if rest == ([amount.NumResources]int64{}) {
		arena = slices.Delete(arena, start, start+1)
	}
	return arena
}

// Add returns the sum of two adjoining intervals of one host and boot. Neither is changed.
//
// Usage, ledgers and details add; peaks are the higher of both. Adding is associative, so a minute's figures do not
// depend on how it was cut into ticks.
func (iv *Interval) Add(next *Interval) *Interval {
	sum := &Interval{
		Boot: iv.Boot, From: iv.From, To: next.To,
		ElapsedMillis: iv.ElapsedMillis + next.ElapsedMillis,
		Ticks:         iv.Ticks + next.Ticks, CPUCount: next.CPUCount,
		Detail: iv.Detail.add(next.Detail),
	}
	for r := range sum.Ledgers {
		sum.Ledgers[r] = iv.Ledgers[r].Add(next.Ledgers[r])
	}
	sum.Usages = mergeSorted(iv.Usages, next.Usages,
		func(u Usage) int { return int(u.Workload) }, addUsage)
	return sum
}

func addUsage(a, b Usage) Usage {
	for r := range a.Units {
		a.Units[r] += b.Units[r]
		a.Peak[r] = max(a.Peak[r], b.Peak[r])
		if a.Source[r] == amount.Unavailable {
			a.Source[r] = b.Source[r]
		} else if b.Source[r] != amount.Unavailable {
			a.Source[r] = a.Source[r].Weaker(b.Source[r])
		}
	}
	a.Threads, a.Procs = b.Threads, b.Procs
	a.RunnableMillis += b.RunnableMillis
	a.RunnablePeak = max(a.RunnablePeak, b.RunnablePeak)
	a.CPUSource = a.CPUSource.Weaker(b.CPUSource)
	a.CPUs = mergeSorted(a.CPUs, b.CPUs, func(c CPUUse) int { return int(c.CPU) },
		func(x, y CPUUse) CPUUse { x.Micros += y.Micros; return x })
	a.Programs = mergeSorted(a.Programs, b.Programs,
		func(p ProgramUse) int { return int(p.Family)<<32 | int(p.Program+1) },
		func(x, y ProgramUse) ProgramUse {
			for r := range x.Units {
				x.Units[r] += y.Units[r]
			}
			x.Procs = y.Procs
			return x
		})
	a.Figures.add(&b.Figures)
	a.Devices = mergeSorted(a.Devices, b.Devices, func(d DeviceUse) int { return int(d.Device) }, DeviceUse.add)
	a.Swapped = joined(a.Swapped, b.Swapped, func(x *SwapUse) string { return x.Swap },
		func(x, y SwapUse) SwapUse { x.Units += y.Units; return x })
	a.GPUs = joined(a.GPUs, b.GPUs, func(x *GPUUse) string { return x.GPU }, GPUUse.add)
	a.Parts = mergeSorted(a.Parts, b.Parts, func(p PartUse) int { return int(p.Part) },
		func(x, y PartUse) PartUse { x.Micros += y.Micros; return x })
	return a
}

func (d Detail) add(next Detail) Detail {
	sum := next
	sum.CPUs = mergeSorted(d.CPUs, next.CPUs, func(c CPUTimes) int { return c.CPU }, CPUTimes.Add)
	sum.MemoryOwn += d.MemoryOwn
	sum.MemoryCache += d.MemoryCache
	sum.MemoryHuge += d.MemoryHuge
	for c := range sum.Caveats {
		sum.Caveats[c] += d.Caveats[c]
	}
	sum.RanMicros = nil
	if len(d.RanMicros) == len(next.RanMicros) && len(d.CPUs) == len(next.CPUs) {
		for i, ran := range next.RanMicros {
			sum.RanMicros = append(sum.RanMicros, ran+d.RanMicros[i])
		}
	}
	sum.Disks = joined(d.Disks, next.Disks, func(x *Disk) string { return x.Name }, Disk.Add)
	sum.Interfaces = joined(d.Interfaces, next.Interfaces, func(x *Interface) string { return x.Name }, Interface.Add)
	sum.GPUs = joined(d.GPUs, next.GPUs, func(x *GPUTotal) string { return x.Name }, GPUTotal.add)
	sum.Latencies = joined(d.Latencies, next.Latencies, func(x *Latency) latencyKey { return x.key() },
		func(x, y Latency) Latency { x.Count += y.Count; return x })
	sum.Peaks = joined(d.Peaks, next.Peaks, (*PartPeak).key, PartPeak.higher)
	sum.Pressure = slices.Clone(next.Pressure)
	for i := range sum.Pressure {
		for _, p := range d.Pressure {
			if p.Resource == sum.Pressure[i].Resource {
				sum.Pressure[i].Some += p.Some
				sum.Pressure[i].Full += p.Full
			}
		}
	}
	return sum
}

// mergeSorted merges two ascending slices, joining elements of the same key with add.
func mergeSorted[T any](a, b []T, key func(T) int, add func(T, T) T) []T {
	if len(a)+len(b) == 0 {
		return nil
	}
	out := make([]T, 0, max(len(a), len(b)))
	for len(a) > 0 && len(b) > 0 {
		switch ka, kb := key(a[0]), key(b[0]); {
		case ka < kb:
			out, a = append(out, a[0]), a[1:]
		case ka > kb:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, add(a[0], b[0])), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}
