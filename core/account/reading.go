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
	Load       [3]float64 // runnable and blocked tasks, averaged over 1, 5 and 15 minutes

	Groups     []Group     // only those that begin a workload
	Processes  []Process   // ascending by PID
	Threads    []Thread    // of those processes whose threads are told apart: virtual machines
	Namespaces []Namespace // network namespaces other than the host's own

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
}

// Disk is a whole block device with bytes moved since boot.
type Disk struct {
	Name               string
	Major, Minor       uint32
	ReadBytes          int64
	WrittenBytes       int64
	ReadOps, WriteOps  int64
	BusyMillis         int64
	RateBytesPerSecond int64 // what the administrator declared it can carry; 0 when not declared
}

// Interface is a network interface that leads off the host, with bytes since it appeared, seen from the host.
type Interface struct {
	Name              string
	Received, Sent    int64 // bytes
	SpeedBitPerSecond int64 // line rate per direction; 0 when the driver does not tell
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
)

// Group is a cgroup directory at which a workload begins, with the kernel's counters for it and everything below.
type Group struct {
	ID       uint64     // the directory's identity: another directory of the same path has another ID
	Workload WorkloadID // never Unrecognised
	Outer    int32      // index in Reading.Groups of the nearest enclosing one in the same hierarchy; -1 for none. Outer < own index
	Has      Has
	Born     bool // the directory was not there at the previous reading, so its counters began from nothing since

	CPUMicros   int64
	PerCPU      []int64 // microseconds by index in Reading.CPUs
	MemoryBytes int64
	FileBytes   int64 // of MemoryBytes: page cache
	KernelBytes int64 // of MemoryBytes: kernel memory
	DiskBytes   int64 // read and written on the disks of Reading.Disks
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
	LastCPU  int32      // the CPU it last ran on
	Threads  int32
	Runnable int32 // threads running or waiting for a CPU, sampled
	Kernel   bool  // a kernel thread: its use is the kernel's, and Workload is Unrecognised

	CPUMicros int64
	AnonBytes int64 // resident and not backed by a file
	DiskBytes int64 // read from and written to storage; -1 when not permitted
}

// StartUptime is when the process began, on the clock of Reading.Uptime. The kernel counts it in ticks of 10 ms (USER_HZ).
func (p *Process) StartUptime() time.Duration { return time.Duration(p.Start) * 10 * time.Millisecond }

// Thread is one thread of a process, with the part it plays in its workload, such as a virtual CPU.
type Thread struct {
	PID, TID  int32
	Start     int64 // clock ticks since boot
	Workload  WorkloadID
	Part      int32 // index into the collector's table of program names
	CPUMicros int64
}

// Namespace is a network namespace with the bytes of its interfaces, loopback left out, since it was made.
type Namespace struct {
	ID       uint64
	Workload WorkloadID // whose it is; Unrecognised when several workloads share it
	Born     bool       // it was made since the previous reading
	Bytes    int64      // received and sent
}
