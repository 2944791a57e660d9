package account

// Inventory is what a host is made of, as it stands: it changes seldom, and has no counters.
type Inventory struct {
	CPUs        []CPUPlace   `json:"cpus"`
	Isolated    string       `json:"isolated_cpus,omitempty"` // kept off the scheduler's balancing when it started
	NoTick      string       `json:"no_tick_cpus,omitempty"`  // without a tick while one task runs (nohz_full)
	Offline     string       `json:"offline_cpus,omitempty"`
	Devices     []Device     `json:"devices"`
	Filesystems []Filesystem `json:"filesystems"`
	Swaps       []Swap       `json:"swaps"`
	Counting    []Ability    `json:"counting"`
	Sensors     []Sensor     `json:"sensors,omitempty"` // as they stood when the interval ended
	GPUs        []GPUSheet   `json:"gpus,omitempty"`
	NoGPUs      string       `json:"no_gpus,omitempty"` // why a library that should tell of GPUs tells nothing
	Machine     *Machine     `json:"machine,omitempty"` // nil from a collector that tells none
}

// CPUPlace is where a logical CPU sits. Two of one core and package are SMT siblings. -1 is not known.
type CPUPlace struct {
	CPU     int `json:"cpu"`
	Core    int `json:"core"`
	Package int `json:"package"`
	Node    int `json:"node"`    // NUMA
	KHz     int `json:"khz"`     // now; 0 where not known
	MostKHz int `json:"max_khz"` // at most
}

// Device is a block device.
type Device struct {
	Name       string   `json:"name"`
	Number     int32    `json:"number"` // major << 20 | minor
	Kind       string   `json:"kind"`   // drive, partition, volume, loop or memory
	Parents    []string `json:"parents"`
	Controller string   `json:"controller"` // of a drive: where it is attached
	Model      string   `json:"model"`
	Label      string   `json:"label"` // a volume's own name, a loop's file
	Rotates    bool     `json:"rotates"`
	SizeBytes  int64    `json:"size_bytes"`
}

// Filesystem is a mounted filesystem on a block device.
type Filesystem struct {
	Mount     string `json:"mount"`
	Type      string `json:"type"`
	Device    string `json:"device"`
	SizeBytes int64  `json:"size_bytes"`
	UsedBytes int64  `json:"used_bytes"`
	// that an ordinary user may take: less than size - used, where some is reserved
	FreeBytes   int64  `json:"free_bytes"`
	Inodes      int64  `json:"inodes"` // 0 where the filesystem has no fixed number
	UsedInodes  int64  `json:"used_inodes"`
	Unavailable string `json:"unavailable,omitempty"` // why its space is not known
}

// Swap is a device or file that memory is swapped to.
type Swap struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"` // partition or file
	SizeBytes int64  `json:"size_bytes"`
	UsedBytes int64  `json:"used_bytes"`
}

// Ability is one thing a host can, or cannot, count.
type Ability struct {
	What       string `json:"what"`
	Of         string `json:"of,omitempty" doc:"The resource it is of; left out for none."`
	Whose      Whose  `json:"whose,omitempty" doc:"Whose use of it this is the figure of; left out where it is none."`
	Source     string `json:"source" enum:"counted,summed,split,unavailable"`
	How        string `json:"how"`
	Resolution string `json:"resolution,omitempty" doc:"How finely it is told."`
	Misses     string `json:"misses,omitempty" doc:"What it can miss."`
	Why        string `json:"why,omitempty" doc:"Why it is not better."`
}

// TimeOnCPUs is the ability to tell how long tasks ran on each CPU.
const TimeOnCPUs = "time on each CPU"

// Whose is which workloads' use of a resource an ability is the figure of.
type Whose string

// The workloads that are told apart by how they are counted.
const (
	OfCgroups Whose = "cgroups" // those that have a cgroup
	OfOthers  Whose = "others"  // processes outside cgroups
)

// Space is what a filesystem holds, in bytes and inodes (statfs(2)).
type Space struct{ Size, Used, Free, Inodes, UsedInodes int64 }

// Files is what files hold of the space of a filesystem. LimitBytes is 0 for none.
type Files struct{ Bytes, Count, LimitBytes int64 }

// LinkEnds are the other ends of a host's network interfaces, by name: the network namespace that has it, or the host's
// own interface.
type LinkEnds struct {
	Spaces map[string]uint64 // inodes of namespaces
	Peers  map[string]string
	Kinds  map[string]string // what their drivers call them, where that is told
}
