package account

import (
	"time"

	"vinescale/core/amount"
)

// WorkloadID is a small number that stands for one workload within one collector. Unrecognised marks none.
type WorkloadID int32

// Unrecognised is the WorkloadID of a cgroup or process that no recogniser claims.
const Unrecognised WorkloadID = -1

// Workload says what a WorkloadID stands for.
type Workload struct {
	Key     string // unique on its host for as long as the workload lives, such as "container:3f2a…"
	Kind    amount.Kind
	Name    string
	Owner   string // the user it runs for, by name
	UID     int64  // the owner's uid; -1 when not known
	Path    string // the cgroup it was recognised by, if any
	Labels  map[string]string
	Allowed string // CPUs its processes may run on, kernel list format; "" when not known

	Outer      string            // Key of the workload around it, such as a container's pod; "" for none
	Recogniser string            // which recogniser claimed it
	Facts      map[string]string // what else is known of it, by the Fact names; never changed in place
}

// Reading is what was read of one host at one moment. Counters are cumulative since boot.
type Reading struct {
	Boot   string        // boot id: counters of another boot do not continue these
	Wall   time.Time     // when it was read, UTC
	Mono   time.Duration // the host's monotonic clock: lengths of intervals come from here alone
	Uptime time.Duration // since boot, the clock that process start times are measured on

	CPUs       []CPUTimes
	Memory     HostMemory
	Disks      []Disk
	Interfaces []Interface
	Pressure   []Pressure
	// runnable and blocked tasks, averaged over 1, 5 and 15 minutes; empty where the kernel does not tell
	Load []float64

	Groups     []Group     // only those that begin a workload
	Processes  []Process   // ascending by PID, then Start
	Threads    []Thread    // of those processes whose threads are told apart: virtual machines
	Namespaces []Namespace // network namespaces other than the host's own
	Levels     []Standing  // what workloads hold beside what their groups and processes tell
	Swapped    []Swapped   // where there are several swaps

	// RanMicros is how long tasks ran on each CPU of CPUs, counted by the scheduler's clock; empty where that is not
	// counted.
	RanMicros []int64
	// IdleTaskMicros is how long the idle task was on each CPU of CPUs: idle, or in interrupts, or on its way in or
	// out. Empty where that is not counted.
	IdleTaskMicros []int64
	// NoGroup is what was issued to devices for no workload's group: by processes in none, and by the kernel writing
	// back what others dirtied. Meaningful where SplitsDisk says that issued I/O is counted by group.
	NoGroup    []DeviceIO
	SplitsDisk bool
	// KernelIO is what the kernel issued for itself, such as journals and directories: not in NoGroup, and nobody's but
	// the kernel's. Empty where that is not told apart.
	KernelIO  []DeviceIO
	Latencies []Latency // of the disks, where counted

	GPUs       []GPU       // and partitions of them, each after its card
	GPUClients []GPUClient // in any order
	GPUGrants  []GPUGrant  // who was given which

	Meters []Meter // of energy; none of them within another, but in that of the whole host
	// IdleMicroWatts is what the host draws at rest, as its administrator declared; 0 for not declared.
	IdleMicroWatts int64

	Caveats [NumCaveats]int64 // what was missed since the reading before; 0 for nothing

	// Unavailable holds, per resource, why its host totals could not be read; "" when they were.
	Unavailable [amount.NumResources]string
}

// CPUTimes is where one logical CPU's time went, in microseconds since boot (/proc/stat). Guest time is inside User.
type CPUTimes struct {
	CPU                                                   int
	User, Nice, System, Idle, IOWait, IRQ, SoftIRQ, Steal int64
}

// HostMemory is the host's memory in bytes (/proc/meminfo).
type HostMemory struct {
	Total, Free, Available       int64
	Buffers, Cached, Shmem       int64
	Slab, KernelStack, PageTable int64
	SwapTotal, SwapFree          int64
	HugePages                    int64 // set aside in pools of huge pages, taken or not
	SwapCached                   int64
}

// Disk is a block device with what it did since boot (the kernel's "I/O statistics fields").
type Disk struct {
	Name         string
	Major, Minor uint32
	// a partition, a volume or a loop on another device: its bytes are the other's too, so they count there
	Inner     bool
	Partition bool // Inner, and a part of one device
	// not in the reading before, for it was there and had never been used: all it did is of this interval
	Fresh              bool
	ReadBytes          int64
	WrittenBytes       int64
	ReadOps, WriteOps  int64
	ReadMerged         int64 // operations that were joined to another before the device saw them
	WriteMerged        int64
	ReadMillis         int64 // summed over operations: from being queued to done
	WriteMillis        int64
	DiscardedBytes     int64 // that it was told to forget: they were not written
	Discards           int64
	DiscardMillis      int64
	Flushes            int64 // times it was told to write its own cache down
	FlushMillis        int64
	BusyMillis         int64 // at least one operation in flight
	QueueMillis        int64 // operations in flight, times milliseconds
	InFlight           int64 // now
	RateBytesPerSecond int64 // what the administrator declared it can carry; 0 when not declared
}

// AddWay adds what was counted of one of several ways to this device.
func (d *Disk) AddWay(way *Disk) {
	d.ReadBytes, d.WrittenBytes = d.ReadBytes+way.ReadBytes, d.WrittenBytes+way.WrittenBytes
	d.ReadOps, d.WriteOps = d.ReadOps+way.ReadOps, d.WriteOps+way.WriteOps
	d.ReadMerged, d.WriteMerged = d.ReadMerged+way.ReadMerged, d.WriteMerged+way.WriteMerged
	d.ReadMillis, d.WriteMillis = d.ReadMillis+way.ReadMillis, d.WriteMillis+way.WriteMillis
	d.DiscardedBytes, d.Discards = d.DiscardedBytes+way.DiscardedBytes, d.Discards+way.Discards
	d.DiscardMillis, d.QueueMillis = d.DiscardMillis+way.DiscardMillis, d.QueueMillis+way.QueueMillis
	d.Flushes, d.FlushMillis = d.Flushes+way.Flushes, d.FlushMillis+way.FlushMillis
	d.BusyMillis, d.InFlight = max(d.BusyMillis, way.BusyMillis), d.InFlight+way.InFlight
}

// DeviceIO is what was moved on one device since counting began, by device number.
type DeviceIO struct {
	Major, Minor          uint32
	Read, Written         int64 // bytes
	ReadOps, WriteOps     int64
	ReadNanos, WriteNanos int64 // nanoseconds that the device took, summed over operations; 0 where not counted
	Discarded, Discards   int64 // bytes that the device was told to forget, and in how many operations
}

// IOKind is what an operation on a device does.
type IOKind uint8

// The kinds of operations. Zeroes that a device writes by itself are written, as the kernel has them.
const (
	IORead IOKind = iota
	IOWrite
	IODiscard
)

// Latency is how many operations of a device took so long, since counting began.
type Latency struct {
	Major, Minor uint32
	Kind         IOKind
	LowMicros    int64 // the bucket's bounds: from low up to, not with, high
	HighMicros   int64
	Count        int64
}

// Interface is a network interface in the host's own namespace, with counters since it appeared. Directions are seen
// from the host: what a virtual machine sends comes in by its tap.
type Interface struct {
	Name string
	// it does not lead off the host by itself: its bytes go on over another, or stay here
	Inner                        bool
	Kind                         string // physical, loopback, veth, tap, bridge, or what its driver calls it
	Received, Sent               int64  // bytes
	ReceivedPackets, SentPackets int64
	ReceivedDropped, SentDropped int64 // packets
	ReceivedErrors, SentErrors   int64
	SpeedBitPerSecond            int64 // line rate per direction; 0 when the driver does not tell

	Workload WorkloadID // that alone is at its other end; Unrecognised for none or several
	Peer     string     // the interface of this host at its other end; "" for none
}

// Pressure is the kernel's pressure stall information for one resource: microseconds since boot in which some, or all,
// runnable tasks waited for it.
type Pressure struct {
	Resource   string // cpu, memory, io
	Some, Full int64
}

// Has says which counters of a Group were readable.
type Has uint8

// The counters a Group may have.
const (
	HasCPU Has = 1 << iota
	HasMemory
	HasDisk
	HasPerCPU
	HasNetwork
)

// Group is a cgroup directory at which a workload begins, with the kernel's counters for it and everything below.
type Group struct {
	ID       uint64     // the directory's identity: another directory of the same path has another ID
	Workload WorkloadID // never Unrecognised
	// index in Reading.Groups of the nearest enclosing one in the same hierarchy; -1 for none. Outer < own index
	Outer int32
	Has   Has
	Added Has  // of Has: added up over its members, not counted for the whole
	Own   Has  // of Has: counted by the collector, since it began to; the rest the host counts, whoever looks
	Born  bool // the directory was not there at the previous reading, so its counters began from nothing since

	CPUMicros   int64
	PerCPU      []int64 // microseconds by number of the CPU, those that are not online too
	MemoryBytes int64
	FileBytes   int64 // of MemoryBytes: page cache
	KernelBytes int64 // of MemoryBytes: kernel memory
	DiskBytes   int64 // read and written on the disks of Reading.Disks that are not Inner

	NetworkBytes int64      // received and sent, loopback left out
	Devices      []DeviceIO // of DiskBytes and of Inner disks, device by device
	Figures      Figures    // counters and levels beside these
}

// Process is one process (thread group). Its identity is PID and Start: pids are reused.
type Process struct {
	PID      int32
	Start    int64 // clock ticks since boot
	Workload WorkloadID
	Within   WorkloadID // where Inside: the other workload whose group counts it too
	Inside   bool       // it was recognised by itself, inside another workload's group
	Program  int32      // index into the collector's table of program names
	Family   int32      // program of the process its family descends from, within its workload
	Parent   int32      // pid
	UID      int64      // real uid
	LastCPU  int32      // the CPU its first thread last ran on; -1 where not known
	Threads  int32
	Runnable int32 // threads running or waiting for a CPU, sampled
	Grouped  bool  // a group counts its CPU time, whether that group is in the reading or not
	Kernel   bool  // a kernel thread: its use is the kernel's, and Workload is Unrecognised
	// it ended since the previous reading; these are its last figures, and it stands at no height any more
	Ended bool

	CPUMicros    int64
	UserMicros   int64 // of CPUMicros; 0 with SystemMicros 0 where it is not told apart
	SystemMicros int64
	WaitMicros   int64 // ready to run and waiting for a CPU; -1 when not known
	AnonBytes    int64 // resident and not backed by a file; of what it shares, its part where that is known
	SharedBytes  int64 // of AnonBytes: its part of shared memory, which the host counts among the files it keeps
	SwapBytes    int64 // -1 when not known
	PSSBytes     int64 // resident, shared pages by the number of sharers; -1 when not known
	DiskBytes    int64 // read from and written to storage, written when a page is dirtied; -1 when not permitted
	ReadBytes    int64 // of DiskBytes
}

// StartUptime is when the process began, on the clock of Reading.Uptime. The kernel counts it in ticks of 10 ms
// (USER_HZ).
func (p *Process) StartUptime() time.Duration { return time.Duration(p.Start) * 10 * time.Millisecond }

// Thread is one thread of a process: with the part it plays in its workload, such as a virtual CPU; or to put its time
// down to the CPU it last ran on, where no group counts that; or both.
type Thread struct {
	PID, TID  int32
	Start     int64 // clock ticks since boot
	Workload  WorkloadID
	Part      int32 // index into the collector's table of program names; NoProgram where it plays none
	LastCPU   int32 // -1 where its time is not to be put down to a CPU
	CPUMicros int64
}

// Standing is a level of a workload, read by itself.
type Standing struct {
	Workload WorkloadID
	Measure  amount.Measure
	Units    int64 // in the measure's unit
	Source   amount.Source
}

// Swapped is what a workload's processes have on one of several swaps, added up over their pages.
type Swapped struct {
	Workload WorkloadID
	Swap     string // the device or file
	Bytes    int64
}

// Meter is a meter of energy of a host, or of a part of it that no other meter but that of the whole covers.
type Meter struct {
	Name        string // package-0, dram of package-0, psys, power meter
	Whole       bool   // it meters the whole host, and so has all others in it
	GPU         string // the name of the GPU whose energy it meters; "" for none
	MicroJoules int64  // since it began, or last came to Range
	Range       int64  // where it begins again from 0; 0 where it does not
	IsPower     bool   // it tells power, and does not add up
	MicroWatts  int64  // now, where IsPower
}

// Namespace is a network namespace with the bytes of its interfaces, loopback left out, since it was made; or a tap of
// a virtual machine, seen from the machine. Directions are the workload's: what it received and what it sent.
type Namespace struct {
	ID             uint64
	Workload       WorkloadID // whose it is; Unrecognised when several workloads share it
	Born           bool       // it was made since the previous reading
	Received, Sent int64      // bytes
	// bytes over its loopback interface, which counts what it sends as received too; -1 where that is not seen
	Local int64
}
