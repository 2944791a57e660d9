package amount

// Entry is what the register says of one measure. All that the product does with a measure, it does by its entry.
type Entry struct {
	Name    string // stable; of a measure without a ledger it ends in its unit
	Title   string // for people
	Meaning string // in whole sentences: what is counted, and how
	Unit    Unit
	Manner  Manner
	Bound   Bound
	Form    Form
	Of      Resource // the resource it belongs to; itself where it is one
	// InBits tells that its rates are held against those of lines, which people read in bits a second.
	InBits bool
	// NeverOf says why a workload may lack a figure of it: what to tell where its collector tells nothing better.
	NeverOf string
	// ByProcess tells what processes' own counters tell too, so that a program's part of it is known.
	ByProcess bool
	// IsOptional tells resources that not every host has: lists of hosts that have none leave it out.
	IsOptional bool
	// IsSlow tells levels that are read so seldom that a workload may be there for long before they are known. Their
	// mean is over the time in which they were known.
	IsSlow bool
}

// The units. A ledger counts in whole account units, so that sums are exact: CPU time in microseconds, levels in
// byte-milliseconds, what is moved in bytes, energy in microjoules.
var (
	cpuTime = Unit{"cpu_seconds", "cores", 1e6, Plain, "core_hours", 3.6e9, "core_hours", 3.6e9}
	held    = Unit{"bytes", "bytes", 1, Binary, "byte_hours", 3.6e6, "gb_hours", 3.6e15}
	moved   = Unit{"bytes", "bytes_per_second", 1, Decimal, "bytes", 1, "tb", 1e12}
	micros  = Unit{"us", "us_per_second", 1, Seconds, "us", 1, "hours", 3.6e9}
	gpuTime = Unit{"gpu_seconds", "gpus", 1e6, Plain, "gpu_hours", 3.6e9, "gpu_hours", 3.6e9}
	drawn   = Unit{"joules", "watts", 1e6, Hourly, "kwh", 3.6e12, "kwh", 3.6e12}
	count   = Unit{"count", "per_second", 1, Plain, "count", 1, "count", 1}
	number  = Unit{"count", "count", 1, Plain, "count_hours", 3.6e6, "count_hours", 3.6e6} // of a level
)

const firstReading = "first reading: there is no usage before a second one"

var register = [NumMeasures]Entry{
	CPU: {Name: "cpu", Title: "CPU", Unit: cpuTime, Bound: ByCapacity, Of: CPU, ByProcess: true,
		NeverOf: firstReading,
		Meaning: "CPU time over the span, as a mean number of busy logical CPUs. Counted by the kernel for each " +
			"cgroup; summed over processes where a workload has none."},
	Memory: {Name: "memory", Title: "Memory", Unit: held, Manner: Level, Bound: ByCapacity, Of: Memory,
		ByProcess: true, NeverOf: firstReading,
		Meaning: "Memory charged to workloads, as the time-weighted mean over the span. Processes without a cgroup " +
			"of their own count with their anonymous memory."},
	Disk: {Name: "disk", Title: "Disk", Unit: moved, Bound: ByCapacity, Of: Disk, ByProcess: true,
		NeverOf: "the counters of its processes may not be read: run the collector with more rights",
		Meaning: "Bytes read from and written to disks per second, as the mean over the span. The capacity is what " +
			"the administrator declared: the kernel does not say what a disk can carry."},
	Network: {Name: "network", Title: "Network", Unit: moved, Bound: ByCapacity, Of: Network, InBits: true,
		NeverOf: "the host's network counters do not tell apart what shares them",
		Meaning: "Bytes received and sent per second, both directions together, seen from the host. Workloads are " +
			"counted by the cgroup of their sockets, by a network namespace of their own, or by a machine’s tap; " +
			"where a host counts none of these, what shares its network is not available."},
	GPU: {Name: "gpu", Title: "GPU", Unit: gpuTime, Bound: ByCapacity, Of: GPU, ByProcess: true, IsOptional: true,
		NeverOf: "its host has no GPU that tells who uses it",
		Meaning: "Part of the span in which the engine of a GPU had work, added over GPUs, as a mean number of busy " +
			"GPUs. An engine that has any work counts as busy, however much of it the work fills. Where a GPU has " +
			"several engines, the busiest counts: engines are never added up. Counted by the kernel for those that " +
			"have a device open, or reported by the vendor’s library from samples."},
	GPUMemory: {Name: "gpu_memory", Title: "GPU memory", Unit: held, Manner: Level, Bound: ByCapacity, Of: GPUMemory,
		ByProcess: true, IsOptional: true, NeverOf: "its host has no GPU that tells who has its memory",
		Meaning: "Memory of GPUs that is taken, as the time-weighted mean over the span. What a driver holds for " +
			"itself is in the residual. System memory that a GPU uses counts as memory, not here."},
	Energy: {Name: "energy", Title: "Energy", Unit: drawn, Bound: ByCapacity, Of: Energy, ByProcess: true,
		IsOptional: true,
		NeverOf:    "its host has no meter of energy, or its CPU time is not known",
		Meaning: "Energy that the host drew by its own meters, as mean power over the span. What it draws at rest, " +
			"where that is declared, is set apart as idle; the rest is split over workloads by their CPU time, and " +
			"that of GPUs with meters of their own by the time in which they worked for each."},

	CPUUser: {Name: "cpu_user_us", Title: "CPU in user mode", Unit: micros, Of: CPU,
		Meaning: "CPU time that its threads spent in their own code."},
	CPUSystem: {Name: "cpu_system_us", Title: "CPU in the kernel", Unit: micros, Of: CPU,
		Meaning: "CPU time that its threads spent in the kernel, on their own account."},
	CPUWait: {Name: "cpu_wait_us", Title: "CPU wait", Unit: micros, Form: Line, Of: CPU,
		Meaning: "Time that its threads were ready to run and waited for a CPU, added over threads."},
	CPUThrottled: {Name: "cpu_throttled_us", Title: "CPU throttled", Unit: micros, Form: Line, Of: CPU,
		Meaning: "Time that its CPU limit held it back, added over CPUs."},
	CPUPeriods: {Name: "cpu_limit_periods", Title: "CPU limit periods", Unit: count, Form: Line, Of: CPU,
		Meaning: "Periods of its CPU limit in which it ran."},
	CPUThrottledPeriods: {Name: "cpu_throttled_periods", Title: "CPU throttled periods", Unit: count, Form: Line,
		Of: CPU, Bound: ByLimit, Meaning: "Periods of its CPU limit in which it was held back."},
	CPUPressureSome: {Name: "cpu_pressure_some_us", Title: "CPU pressure, some", Unit: micros, Manner: Stall,
		Form: Line, Of: CPU, Meaning: "Time in which at least one of its threads waited for a CPU."},
	CPUPressureFull: {Name: "cpu_pressure_full_us", Title: "CPU pressure, full", Unit: micros, Manner: Stall,
		Form: Line, Of: CPU, Meaning: "Time in which all of its threads that could run waited for a CPU."},
	MemoryPressureSome: {Name: "memory_pressure_some_us", Title: "Memory pressure, some", Unit: micros, Manner: Stall,
		Form: Line, Of: Memory, Meaning: "Time in which at least one of its threads waited for memory."},
	MemoryPressureFull: {Name: "memory_pressure_full_us", Title: "Memory pressure, full", Unit: micros, Manner: Stall,
		Form: Line, Of: Memory, Meaning: "Time in which all of its threads that could run waited for memory."},
	DiskPressureSome: {Name: "disk_pressure_some_us", Title: "Disk pressure, some", Unit: micros, Manner: Stall,
		Form: Line, Of: Disk, Meaning: "Time in which at least one of its threads waited for I/O."},
	DiskPressureFull: {Name: "disk_pressure_full_us", Title: "Disk pressure, full", Unit: micros, Manner: Stall,
		Form: Line, Of: Disk, Meaning: "Time in which all of its threads that could run waited for I/O."},

	MemoryAnon: {Name: "memory_anon_bytes", Title: "Memory, anonymous", Unit: held, Manner: Level, Bound: ByLimit,
		Of: Memory, Meaning: "Memory that belongs to no file: heap and stacks."},
	MemoryFile: {Name: "memory_file_bytes", Title: "Memory, files", Unit: held, Manner: Level, Bound: ByLimit,
		Of: Memory, Meaning: "Page cache that is charged to it."},
	MemoryShared: {Name: "memory_shared_bytes", Title: "Memory, shared", Unit: held, Manner: Level, Bound: ByLimit,
		Of: Memory, Meaning: "Shared memory, and files that are kept in memory."},
	MemoryKernel: {Name: "memory_kernel_bytes", Title: "Memory, kernel", Unit: held, Manner: Level, Bound: ByLimit,
		Of: Memory, Meaning: "Kernel memory that is charged to it."},
	MemorySwap: {Name: "memory_swap_bytes", Title: "Memory on swap", Unit: held, Manner: Level, Form: Line, Of: Memory,
		Meaning: "Its memory that stands on swap."},
	MemoryWorkingSet: {Name: "memory_working_set_bytes", Title: "Memory, working set", Unit: held, Manner: Level,
		Form: Line, Bound: ByLimit, Of: Memory,
		Meaning: "What is charged to it, without file pages that were not used of late."},
	MemoryProportional: {Name: "memory_proportional_bytes", Title: "Memory, proportional", Unit: held, Manner: Level,
		Form: Line, Of: Memory, IsSlow: true,
		Meaning: "Memory of its processes, in which a shared page counts by the number of its sharers (PSS)."},
	MemoryHigh: {Name: "memory_high_bytes", Title: "Memory, highest", Unit: held, Manner: Height, Form: Line,
		Bound: ByLimit, Of: Memory, Meaning: "The most that was charged to it at once."},
	MemoryReclaimed: {Name: "memory_reclaimed_bytes", Title: "Memory reclaimed", Unit: moved, Form: Line, Of: Memory,
		Meaning: "Memory that the kernel took back from it."},
	MemoryOOMKills: {Name: "memory_oom_kills", Title: "Ended for want of memory", Unit: count, Form: Marks, Of: Memory,
		Meaning: "Processes of it that the kernel ended for want of memory."},
	MemoryMajorFaults: {Name: "memory_major_faults", Title: "Major page faults", Unit: count, Form: Line, Of: Memory,
		Meaning: "Page faults that had to wait for storage."},

	DiskRead: {Name: "disk_read_bytes", Title: "Disk, read", Unit: moved, Bound: ByCapacity, Of: Disk,
		Meaning: "Bytes that it read from devices."},
	DiskWritten: {Name: "disk_written_bytes", Title: "Disk, written", Unit: moved, Bound: ByCapacity, Of: Disk,
		Meaning: "Bytes that it wrote to devices."},
	DiskReads: {Name: "disk_reads", Title: "Disk reads", Unit: count, Of: Disk,
		Meaning: "Operations that read from devices for it."},
	DiskWrites: {Name: "disk_writes", Title: "Disk writes", Unit: count, Of: Disk,
		Meaning: "Operations that wrote to devices for it."},
	DiskDiscarded: {Name: "disk_discarded_bytes", Title: "Disk, discarded", Unit: moved, Form: Line, Of: Disk,
		Meaning: "Bytes that devices were told to forget for it, such as those of files it removed. They are not " +
			"written."},
	DiskDiscards: {Name: "disk_discards", Title: "Disk discards", Unit: count, Form: Line, Of: Disk,
		Meaning: "Operations that told devices to forget bytes for it."},
	DiskTime: {Name: "disk_time_us", Title: "Disk time", Unit: micros, Form: Line, Of: Disk,
		Meaning: "Time that devices took for its operations, added over operations."},
	DiskWrittenBack: {Name: "disk_written_back_bytes", Title: "Disk, written back", Unit: moved, Form: Line, Of: Disk,
		Meaning: "Of what it wrote, bytes that the kernel wrote later on its behalf."},

	NetworkReceived: {Name: "network_received_bytes", Title: "Network, received", Unit: moved, Bound: ByCapacity,
		Of: Network, Meaning: "Bytes that it received, at IP level."},
	NetworkSent: {Name: "network_sent_bytes", Title: "Network, sent", Unit: moved, Bound: ByCapacity, Of: Network,
		Meaning: "Bytes that it sent, at IP level."},
	NetworkPacketsReceived: {Name: "network_received_packets", Title: "Packets received", Unit: count, Of: Network,
		Meaning: "Packets that it received."},
	NetworkPacketsSent: {Name: "network_sent_packets", Title: "Packets sent", Unit: count, Of: Network,
		Meaning: "Packets that it sent."},
	NetworkLocalReceived: {Name: "network_local_received_bytes", Title: "Loopback, received", Unit: moved, Of: Network,
		Meaning: "Bytes that it received over loopback, which never leave the host."},
	NetworkLocalSent: {Name: "network_local_sent_bytes", Title: "Loopback, sent", Unit: moved, Of: Network,
		Meaning: "Bytes that it sent over loopback, which never leave the host."},

	SpaceUsed: {Name: "space_used_bytes", Title: "Space used", Unit: held, Manner: Level, Bound: ByLimit, Of: Disk,
		IsSlow: true, Meaning: "Bytes that its files take on filesystems."},
	SpaceFiles: {Name: "space_files", Title: "Files", Unit: number, Manner: Level, Form: Line, Of: Disk, IsSlow: true,
		Meaning: "Files, directories and links of it."},
	SpaceLimit: {Name: "space_limit_bytes", Title: "Space limit", Unit: held, Manner: Level, Form: Line, Of: Disk,
		IsSlow: true, Meaning: "Bytes that its files may take."},
}
