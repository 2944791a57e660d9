package amount

import (
	"fmt"
	"iter"
	"math/bits"
	"strings"
)

// Measure is the number of one entry of the register: one thing that the book counts. The zero value is CPU.
//
// Numbers hold within one program only. Measures travel and are stored by name, so entries may be put in anywhere.
type Measure uint16

// Resource is a measure that has a ledger: one of Resources.
//
// Invariant: 0 <= Resource < NumResources, so that arrays of NumResources elements can be indexed by it.
type Resource = Measure

// The resources, in the order they are shown.
const (
	CPU          Resource = iota // time that workloads ran
	Memory                       // memory that is charged to workloads
	Disk                         // bytes moved to and from drives
	Network                      // bytes moved over interfaces
	GPU                          // time in which GPUs worked
	GPUMemory                    // memory of GPUs that is taken
	Energy                       // what the host drew, by its meters
	NumResources int      = iota
)

// The measures without a ledger, which are read beside the resources.
const (
	CPUUser Measure = iota + Measure(NumResources)
	CPUSystem
	CPUWait
	CPUThrottled
	CPUPeriods
	CPUThrottledPeriods
	CPUPressureSome
	CPUPressureFull
	MemoryPressureSome
	MemoryPressureFull
	DiskPressureSome
	DiskPressureFull
	MemoryAnon
	MemoryFile
	MemoryShared
	MemoryKernel
	MemorySwap
	MemoryWorkingSet
	MemoryProportional
	MemoryHigh
	MemoryReclaimed
	MemoryOOMKills
	MemoryMajorFaults
	DiskRead
	DiskWritten
	DiskReads
	DiskWrites
	DiskDiscarded
	DiskDiscards
	DiskTime
	DiskWrittenBack
	NetworkReceived
	NetworkSent
	NetworkPacketsReceived
	NetworkPacketsSent
	NetworkLocalReceived
	NetworkLocalSent
	SpaceUsed
	SpaceFiles
	SpaceLimit
	NumMeasures int = iota + NumResources
)

// Resources lists every resource in display order.
func Resources() []Resource { return span(0, NumResources) }

// Beside lists the measures that have no ledger.
func Beside() []Measure { return span(NumResources, NumMeasures) }

// Measures lists every measure: the resources first.
func Measures() []Measure { return span(0, NumMeasures) }

func span(from, to int) []Measure {
	all := make([]Measure, 0, to-from)
	for m := from; m < to; m++ {
		all = append(all, Measure(m))
	}
	return all
}

// Entry is what the register says of the measure. It panics for a number that is none, as an index out of range does.
func (m Measure) Entry() *Entry { return &register[m] }

// String is the measure's name, or its number where it is not in the register.
func (m Measure) String() string {
	if int(m) >= NumMeasures {
		return fmt.Sprintf("measure(%d)", uint16(m))
	}
	return register[m].Name
}

// HasLedger tells a resource from other measures.
func (m Measure) HasLedger() bool { return int(m) < NumResources }

// Manner is how the measure adds up.
func (m Measure) Manner() Manner { return register[m].Manner }

// IsLevel tells what stands at a height from what accumulates.
func (m Measure) IsLevel() bool { return register[m].Manner == Level }

// Unit names the unit of an amount over an interval, such as cpu_seconds or bytes.
func (m Measure) Unit() string { return register[m].Unit.Name }

// MeanUnit names the unit of the mean over an interval, such as cores, bytes or bytes_per_second.
func (m Measure) MeanUnit() string { return register[m].Unit.Mean }

// Amount converts account units gathered over an interval into Unit. A level's amount is its time-weighted mean over
// the interval, so a level over no time is 0.
func (m Measure) Amount(units float64, elapsedMillis int64) float64 {
	if m.IsLevel() {
		return m.Mean(units, elapsedMillis)
	}
	return units / register[m].Unit.Per
}

// Mean converts account units gathered over an interval into MeanUnit. Over no time it is 0. A height has no mean: it
// is told as it is.
func (m Measure) Mean(units float64, elapsedMillis int64) float64 {
	units /= register[m].Unit.Per
	switch {
	case m.Manner() == Height:
		return units
	case elapsedMillis <= 0:
		return 0
	case m.IsLevel():
		return units / float64(elapsedMillis)
	}
	return units / (float64(elapsedMillis) / 1e3)
}

// Spent converts account units into the unit in which allowances of the measure are told.
func (m Measure) Spent(units float64) float64 { return units / register[m].Unit.SpentPer }

// Priced is the unit in which a price of the measure is given, such as core_hours or gb_hours (a gigabyte is 10^9
// bytes), and how many account units are one of it.
func (m Measure) Priced() (unit string, per int64) {
	return register[m].Unit.Priced, register[m].Unit.PricedPer
}

// PeakMean converts the peak of a tick, in account units a second for what accumulates, into MeanUnit.
func (m Measure) PeakMean(peak float64) float64 { return peak / register[m].Unit.Per }

var byName = func() map[string]Measure {
	names := make(map[string]Measure, NumMeasures)
	for m := range register {
		names[register[m].Name] = Measure(m)
	}
	return names
}()

// Parse reads a measure's name. The error names the measures there are.
func Parse(name string) (Measure, error) {
	if m, ok := byName[name]; ok {
		return m, nil
	}
	return 0, fmt.Errorf("unknown measure %q: choose one of %s", name, strings.Join(Names(Measures()), ", "))
}

// ParseResource reads a resource's name. The error names the resources there are.
func ParseResource(name string) (Resource, error) {
	if m, err := Parse(name); err == nil && m.HasLedger() {
		return m, nil
	}
	return 0, fmt.Errorf("unknown resource %q: choose one of %s", name, strings.Join(ResourceNames(), ", "))
}

// ResourceNames lists what ParseResource accepts.
func ResourceNames() []string { return Names(Resources()) }

// Names lists the names of measures.
func Names(measures []Measure) []string {
	names := make([]string, len(measures))
	for i, m := range measures {
		names[i] = m.String()
	}
	return names
}

// MeasureSet says which measures there are. Sets are equal where they hold the same measures.
type MeasureSet [(NumMeasures + 63) / 64]uint64

// Has tells whether m is in the set.
func (s *MeasureSet) Has(m Measure) bool { return s[m/64]&(1<<(m%64)) != 0 }

// Put adds m to the set.
func (s *MeasureSet) Put(m Measure) { s[m/64] |= 1 << (m % 64) }

// Keep takes out what is not in t as well.
func (s *MeasureSet) Keep(t *MeasureSet) {
	for i := range s {
		s[i] &= t[i]
	}
}

// All goes over the measures of the set, in the register's order. It goes from one set bit to the next, since most sets
// hold few of many.
func (s *MeasureSet) All() iter.Seq[Measure] {
	return func(yield func(Measure) bool) {
		for i, word := range s {
			for ; word != 0; word &= word - 1 {
				if !yield(Measure(64*i + bits.TrailingZeros64(word))) {
					return
				}
			}
		}
	}
}

// IsEmpty tells a set that holds nothing.
func (s *MeasureSet) IsEmpty() bool { return *s == MeasureSet{} }

// AmountField names a field that holds amounts of the measure, with their unit: cpu_seconds, disk_bytes; of a level,
// whose amount is its mean, memory_bytes_mean.
func (m Measure) AmountField() string {
	e := m.Entry()
	switch {
	case !m.HasLedger():
		return e.Name
	case m.IsLevel():
		return m.MeanField()
	case strings.HasPrefix(e.Unit.Name, e.Name+"_"):
		return e.Unit.Name
	}
	return e.Name + "_" + e.Unit.Name
}

// MeanField names a field that holds means of the measure over time, with their unit: cpu_cores_mean.
func (m Measure) MeanField() string { return m.Entry().Name + "_" + m.Entry().Unit.Mean + "_mean" }
