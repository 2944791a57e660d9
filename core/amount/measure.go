package amount

import "fmt"

// Measure is one figure of a workload beside the four amounts of the ledger. It is sent and stored by number: new ones
// go to the end.
type Measure uint8

// The measures.
const (
	CPUUser                Measure = iota // in user mode
	CPUSystem                             // in the kernel
	CPUWait                               // ready to run, waiting for a CPU: summed over threads
	CPUThrottled                          // held back by its limit
	CPUPeriods                            // periods of its limit in which it ran
	CPUThrottledPeriods                   // of those, in which it was held back
	CPUPressureSome                       // some thread waited for a CPU
	CPUPressureFull                       // all did
	MemoryPressureSome                    // some thread waited for memory
	MemoryPressureFull                    //
	DiskPressureSome                      // some thread waited for I/O
	DiskPressureFull                      //
	MemoryAnon                            // of no file: heap and stacks
	MemoryFile                            // page cache charged to it
	MemoryShared                          // shared memory and files in memory
	MemoryKernel                          // kernel memory charged to it
	MemorySwap                            // of it on swap
	MemoryWorkingSet                      // charged, less file pages not used of late
	MemoryProportional                    // its processes' memory, shared pages by the number of sharers (PSS)
	MemoryHigh                            // the most it was charged at once
	MemoryReclaimed                       // taken back from it by the kernel
	MemoryOOMKills                        // processes ended for want of memory
	MemoryMajorFaults                     // page faults that had to wait for storage
	DiskRead                              // bytes from devices
	DiskWritten                           // bytes to devices
	DiskReads                             // operations
	DiskWrites                            //
	DiskTime                              // that devices took for it
	DiskWrittenBack                       // of DiskWritten: by the kernel later, on its behalf
	NetworkReceived                       // by it: bytes that came in, IP level
	NetworkSent                           //
	NetworkPacketsReceived                //
	NetworkPacketsSent                    //
	NetworkLocalReceived                  // bytes over loopback, which never leave the host
	NetworkLocalSent                      //
	SpaceUsed                             // bytes its files take on filesystems
	SpaceFiles                            // files, directories and links of it
	SpaceLimit                            // bytes its files may take
	NumMeasures            int     = iota
)

// Manner is how a measure goes over an interval and over groups within groups.
type Manner uint8

// The manners.
const (
	Flow   Manner = iota // adds up over time; what inner groups had is taken off the outer's
	Level                // stands at a height, counted times milliseconds; inner ones are taken off too
	Stall                // adds up over time; an outer group's is its own figure, since stalls overlap
	Height               // the highest counts; an outer group's is its own figure
)

type measureFacts struct {
	name   string // with its unit
	manner Manner
}

var measures = [NumMeasures]measureFacts{
	CPUUser: {"cpu_user_us", Flow}, CPUSystem: {"cpu_system_us", Flow}, CPUWait: {"cpu_wait_us", Flow},
	CPUThrottled: {"cpu_throttled_us", Flow}, CPUPeriods: {"cpu_limit_periods", Flow},
	CPUThrottledPeriods: {"cpu_throttled_periods", Flow},
	CPUPressureSome:     {"cpu_pressure_some_us", Stall}, CPUPressureFull: {"cpu_pressure_full_us", Stall},
	MemoryPressureSome: {"memory_pressure_some_us", Stall}, MemoryPressureFull: {"memory_pressure_full_us", Stall},
	DiskPressureSome: {"disk_pressure_some_us", Stall}, DiskPressureFull: {"disk_pressure_full_us", Stall},
	MemoryAnon: {"memory_anon_bytes", Level}, MemoryFile: {"memory_file_bytes", Level},
	MemoryShared: {"memory_shared_bytes", Level},
	MemoryKernel: {"memory_kernel_bytes", Level}, MemorySwap: {"memory_swap_bytes", Level},
	MemoryWorkingSet:   {"memory_working_set_bytes", Level},
	MemoryProportional: {"memory_proportional_bytes", Level}, MemoryHigh: {"memory_high_bytes", Height},
	MemoryReclaimed: {"memory_reclaimed_bytes", Flow}, MemoryOOMKills: {"memory_oom_kills", Flow},
	MemoryMajorFaults: {"memory_major_faults", Flow},
	DiskRead:          {"disk_read_bytes", Flow}, DiskWritten: {"disk_written_bytes", Flow},
	DiskReads:  {"disk_reads", Flow},
	DiskWrites: {"disk_writes", Flow},
	DiskTime:   {"disk_time_us", Flow}, DiskWrittenBack: {"disk_written_back_bytes", Flow},
	NetworkReceived: {"network_received_bytes", Flow}, NetworkSent: {"network_sent_bytes", Flow},
	NetworkPacketsReceived: {"network_received_packets", Flow}, NetworkPacketsSent: {"network_sent_packets", Flow},
	NetworkLocalReceived: {"network_local_received_bytes", Flow}, NetworkLocalSent: {"network_local_sent_bytes", Flow},
	SpaceUsed: {"space_used_bytes", Level}, SpaceFiles: {"space_files", Level},
	SpaceLimit: {"space_limit_bytes", Level},
}

// Measures lists every measure.
func Measures() []Measure {
	all := make([]Measure, NumMeasures)
	for m := range all {
		all[m] = Measure(m)
	}
	return all
}

// String is the measure's name, which ends in its unit: us is microseconds.
func (m Measure) String() string {
	if int(m) >= NumMeasures {
		return fmt.Sprintf("measure(%d)", uint8(m))
	}
	return measures[m].name
}

// Manner is how the measure adds up.
func (m Measure) Manner() Manner { return measures[m].manner }

// IsSlow tells levels that are read so seldom that a workload may be there for long before they are known.
func (m Measure) IsSlow() bool {
	return m == MemoryProportional || m == SpaceUsed || m == SpaceFiles || m == SpaceLimit
}

// Amount converts what was gathered over an interval into the measure's unit: a level into its mean.
func (m Measure) Amount(units float64, elapsedMillis int64) float64 {
	if m.Manner() == Level {
		if elapsedMillis <= 0 {
			return 0
		}
		return units / float64(elapsedMillis)
	}
	return units
}

// MeasureSet says which measures there are.
type MeasureSet uint64

// Has tells whether m is in the set.
func (s MeasureSet) Has(m Measure) bool { return s&(1<<m) != 0 }

// With is the set and m.
func (s MeasureSet) With(m Measure) MeasureSet { return s | 1<<m }
