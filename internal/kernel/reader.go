package kernel

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/devices"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/netlink"
	"vinescale/internal/kernel/space"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// Roots are the trees a Reader reads. The zero value of a field is the host's own.
type Roots struct {
	Proc   string // /proc
	Sys    string // /sys
	Cgroup string // /sys/fs/cgroup
	Etc    string // /etc
}

// Options for Open.
type Options struct {
	Roots     Roots
	DiskRates map[string]int64 // declared bytes per second by disk name
	// IdleMicroWatts is what the host draws at rest, as declared; 0 for not declared.
	IdleMicroWatts int64
	// Clock returns wall and monotonic time. Nil is the host's own; tests of a staged host give its clock.
	Clock func() (time.Time, time.Duration)
	// RecheckEvery is after how many readings a known process's cgroup, namespace and affinity, and a cgroup's limits,
	// are read again. 12 when zero: at the usual pace of 5 s, within a minute.
	RecheckEvery int64
	// SlowPace is how often those figures of a cgroup are read that cost much or change little: memory by kind, stalls,
	// throttling. They are read at the first reading past each whole multiple of it by the wall clock, so that they end
	// with the minute. A minute when zero; less than nothing is at every reading.
	SlowPace time.Duration
	// Counters count in the kernel what its files do not tell. Nil where that is not to be.
	Counters Counters
	// Ask says that the kernel this runs on is the host's: where Counters lack a feature, it is asked for the ends of
	// tasks and for sockets.
	Ask bool
	// Space asks a filesystem by where it is mounted; nil asks the host's own. A staged host answers by itself.
	Space func(mount string) (account.Space, error)
	// Ends asks for the other ends of interfaces; nil asks the kernel, where Ask says that it is the host's.
	Ends func() (account.LinkEnds, error)
	// Quota asks what the project of a directory has; nil asks the host's own filesystems.
	Quota func(dir string) (account.Files, error)
	// Links asks for interfaces with their addresses; nil asks the kernel, where Ask says that it is the host's.
	Links func() []account.MachineLink
	// Units asks the init system which of its units failed, and which have been between two states for minutes; nil
	// where it is not to be asked.
	Units func() (failed []string, stuck []account.Unit, err error)
	// GPULibrary tells of GPUs that the kernel's files do not tell of; nil for none.
	GPULibrary devices.Library
	// Node asks for the device number of a file below /dev; nil asks the host's own.
	Node func(path string) (major, minor uint32)
	// PageSize is how many bytes a page of the host's memory has, in which some counters are told. That of the kernel
	// this runs on when zero: arm64 and ppc64 hosts may have 64 KiB. A staged host tells its own.
	PageSize int64
	// KeepOpen is how many cgroup files may be kept open; half of what the process may open when zero.
	KeepOpen int
}

// Reader reads one host. It is not safe for use from several goroutines.
type Reader struct {
	registry *identify.Registry
	options  Options
	proc     *tree.Tree
	sys      *tree.Tree
	counters Counters

	count   int64         // readings taken
	uptime  time.Duration // at the last reading
	slow    bool          // this reading reads what is read at the slow pace
	slowAt  time.Time
	at      time.Duration // when this reading began, by the monotonic clock
	trouble map[string]error
	names   map[string]string // of devices and interfaces, kept once

	host    host
	cgroups cgroups
	tasks   tasks
	masks   masks
	net     network
	storage storage
	devices *devices.Host
	gpus    gpuGrants
	machine *account.Machine // as it was read last
	lookAt  time.Time        // from when on it is read again
}

// host is what is known of the host as a whole.
type host struct {
	boot       string
	cpus       int
	memory     int64 // bytes
	cpuNumbers []int
	possible   []int // CPUs that could ever be there; nil where they are not told
	swaps      []account.Swap
	seesFrames bool // this process may see where pages are
}

// cgroups is what is known of the cgroup trees.
type cgroups struct {
	all       []*hierarchy
	v2        bool
	limits    *tree.Tree        // of version 1: the hierarchy that limits CPU time
	cpusets   *tree.Tree        // of version 1: the hierarchy that says on which CPUs
	weighed   map[string]string // weights by directory, as they were at reading weighedAt
	weighedAt int64
	pressures bool // the version 2 tree beside version 1 tells stalls by cgroup
	watch     watch
	keptOpen  int
	turns     int64
	unplaced  bool // not all that ran since the last reading was counted by its cgroup
	unread    bool // what was counted could not be read at this reading

	paths    map[string]account.WorkloadID // content of /proc/PID/cgroup -> workload, Unrecognised too
	pathsAge int64                         // reading at which what was concluded of cgroups last changed

	lostMade uint64 // records of cgroups that were made and found no room

	departed map[uint64]bool // cgroups that went since places were last freed, and were in a workload
	someLeft bool            // since places were last freed
	noGroup  figures         // of departed cgroups that were in no workload
	kernelIO figures         // and of the kernel's own in such
}

// tasks is what is known of processes and threads, and of those that ended.
type tasks struct {
	procs       map[int32]*process
	pids        []int32
	listing     []byte
	unsettled   []int32 // indexes in the reading's processes whose family is to be found
	loose       []bool  // by WorkloadID
	kin         kinfolk
	tids        []int32
	taskListing []byte
	threadsLeft int
	placedLeft  int

	ends       ends
	exits      *netlink.Exits // where tasks' ends are told by taskstats
	lostEnds   uint64         // records of ended tasks that found no room
	lostBefore uint64         // of which so many were told of
	unplaced   uint64         // nanoseconds for which there was no room to say whose they are
}

// network is what is known of network namespaces and interfaces.
type network struct {
	spaces    map[uint64]*namespace
	hostNet   uint64
	selfNet   uint64 // network namespace of this process
	ifaces    map[string]*iface
	linkEnds  account.LinkEnds
	addresses map[netip.Addr]bool           // of the host, in all its namespaces
	askedEnds map[string]bool               // interfaces whose other end was asked for
	taps      map[string]account.WorkloadID // virtual machines by the tap at their other end
	sockets   *netlink.Sockets              // where sockets are asked for their bytes
}

// storage is what is known of block devices, and of the files of workloads.
type storage struct {
	disks       map[string]diskKind
	unused      map[string]int64 // parts, volumes and loops that were never used, and the reading that saw them last
	diskNumbers [][2]uint32
	ways        map[[2]uint32][2]uint32 // to drives, by their numbers

	holders    map[account.WorkloadID]*holder
	holdsNone  map[account.WorkloadID]bool // workloads that are no holders
	sameMounts bool                        // this process sees the host's mounts as its first one does
	walk       *space.Walk                 // under way, of the holder walked
	walked     *holder
}

// Open opens the trees. The error says which cannot be read and what to do.
func Open(registry *identify.Registry, o Options) (*Reader, error) {
	def := func(s *string, fallback string) {
		if *s == "" {
			*s = fallback
		}
	}
	def(&o.Roots.Proc, "/proc")
	def(&o.Roots.Sys, "/sys")
	def(&o.Roots.Cgroup, "/sys/fs/cgroup")
	def(&o.Roots.Etc, "/etc")
	if o.Clock == nil {
		start := time.Now()
		o.Clock = func() (time.Time, time.Duration) { now := time.Now(); return now.UTC(), now.Sub(start) }
	}
	if o.RecheckEvery == 0 {
		o.RecheckEvery = 12
	}
	if o.SlowPace == 0 {
		o.SlowPace = time.Minute
	}
	if o.PageSize == 0 {
		o.PageSize = int64(os.Getpagesize())
	}
	if o.KeepOpen == 0 {
		o.KeepOpen = mostKept()
	}
	if o.Counters == nil {
		o.Counters = (*bpf.Counters)(nil) // of which everything is missing
	}
	r := &Reader{
		registry: registry, options: o, counters: o.Counters, trouble: map[string]error{}, names: map[string]string{},
		cgroups: cgroups{paths: map[string]account.WorkloadID{}, departed: map[uint64]bool{}},
		tasks: tasks{procs: map[int32]*process{}, kin: newKinfolk(), listing: make([]byte, 64<<10),
			taskListing: make([]byte, 16<<10)},
		net: network{spaces: map[uint64]*namespace{}, ifaces: map[string]*iface{},
			taps: map[string]account.WorkloadID{}, addresses: map[netip.Addr]bool{}},
		storage: storage{disks: map[string]diskKind{}, unused: map[string]int64{},
			holders: map[account.WorkloadID]*holder{}, holdsNone: map[account.WorkloadID]bool{}},
	}
	r.devices = devices.Open(devices.Options{Sys: o.Roots.Sys, Proc: o.Roots.Proc, Library: o.GPULibrary,
		Node: o.Node})
	r.cgroups.watch.open()
	var err error
	if r.proc, err = tree.Open(o.Roots.Proc); err != nil {
		return nil, fmt.Errorf("%w: is the kernel's process tree mounted there? Name its root with --proc-root", err)
	}
	if r.sys, err = tree.Open(o.Roots.Sys); err != nil {
		return nil, fmt.Errorf("%w: name the root of the device tree with --sys-root", err)
	}
	r.host.seesFrames = seesFrames(r.proc)
	if b, err := r.sys.Read(r.sys.At("devices/system/cpu/possible")); err == nil {
		set, _ := cpuset.Parse(string(text.TrimNewline(b)))
		r.host.possible = set.CPUs()
	}
	boot, err := r.proc.Read(r.proc.At("sys/kernel/random/boot_id"))
	if err != nil {
		return nil, fmt.Errorf("read %s/sys/kernel/random/boot_id: %w", o.Roots.Proc, err)
	}
	r.host.boot = string(text.TrimNewline(boot))
	r.net.hostNet = r.netns(1)
	r.net.selfNet = r.netns(int32(os.Getpid()))
	if r.net.hostNet == 0 && o.Ask && r.inHostsNetwork() {
		r.net.hostNet = r.net.selfNet
	}
	if o.Ask && !r.counters.Has(bpf.CPU) {
		r.tasks.exits = netlink.ListenExits()
	}
	if o.Ask && !r.counters.Has(bpf.Network) {
		r.net.sockets = netlink.OpenSockets()
	}
	if err := r.openHierarchies(o.Roots.Cgroup); err != nil {
		return r, err
	}
	r.numberHierarchies()
	return r, nil
}

// CgroupV2 is where a version 2 hierarchy is mounted at or beside the cgroup trees; "" where there is none.
func CgroupV2(root string) string {
	for _, dir := range []string{root, filepath.Join(root, "unified")} {
		if _, err := os.Stat(filepath.Join(dir, "cgroup.controllers")); err == nil {
			return dir
		}
	}
	return ""
}

// Close releases the open directories, and what counts in the kernel.
func (r *Reader) Close() {
	r.counters.Close()
	r.devices.Close()
	r.cgroups.watch.close()
	r.stopWalk()
	r.tasks.exits.Close()
	r.proc.Close()
	r.sys.Close()
	for _, h := range r.cgroups.all {
		h.close()
	}
	for _, t := range []*tree.Tree{r.cgroups.limits, r.cgroups.cpusets} {
		if t != nil {
			t.Close()
		}
	}
}

// Mode names the cgroup layout: "v2", "v1" or "hybrid" (v1 with a v2 tree beside it).
func (r *Reader) Mode() string {
	if r.cgroups.v2 {
		return "v2"
	}
	for _, h := range r.cgroups.all {
		if h.name == "unified" {
			return "hybrid"
		}
	}
	return "v1"
}

// Registry is the registry this Reader asks.
func (r *Reader) Registry() *identify.Registry { return r.registry }

// Trouble returns, by file, what could not be read since the last call: garbage and missing permission. Files that
// vanished are not trouble.
func (r *Reader) Trouble() map[string]error {
	t := r.trouble
	r.trouble = map[string]error{}
	return t
}

func (r *Reader) note(file string, err error) {
	if err == nil {
		err = text.ErrGarbage
	}
	if !tree.Gone(err) && len(r.trouble) < 50 {
		r.trouble[file] = err
	}
}

// Read takes a reading into dst, reusing its slices. It fails only when the host's own CPU or memory cannot be read;
// whatever else is missing is left out and said in dst.Unavailable or by Trouble.
func (r *Reader) Read(dst *account.Reading) error {
	r.count++
	r.masks.isDue = r.count%r.options.RecheckEvery == 0 || r.count == 2
	r.masks.strays = r.masks.strays[:0]
	r.registry.NextReading()
	dst.Boot = r.host.boot
	dst.Unavailable = [amount.NumResources]string{}
	dst.Caveats = [account.NumCaveats]int64{}
	if err := r.readHost(dst); err != nil {
		return err
	}
	r.readMeters(dst)
	if err := r.readGroups(dst); err != nil {
		return err
	}
	if err := r.readProcesses(dst); err != nil {
		return err
	}
	r.sayUnseen(dst)
	r.readGPUs(dst)
	r.readNamespaces(dst)
	r.joinLinks(dst)
	r.readFiles(dst)
	r.readSwapped(dst)
	r.uptime = dst.Uptime
	if r.masks.isDue {
		r.tellMasks()
	}
	return nil
}

// readMeters reads the host's meters of energy, close to its other counters.
func (r *Reader) readMeters(dst *account.Reading) {
	if r.count%r.options.RecheckEvery == 0 {
		r.devices.FindMeters()
	}
	dst.Meters, dst.Unavailable[amount.Energy] = r.devices.Meters(dst.Meters)
	dst.IdleMicroWatts = r.options.IdleMicroWatts
}

// sayUnseen says what cannot be seen on this host, of processes outside cgroups.
func (r *Reader) sayUnseen(dst *account.Reading) {
	switch {
	case !r.options.Ask || r.counters.Has(bpf.CPU):
	case r.tasks.exits.Missing() == "":
		dst.Caveats[account.EndsByTicks] = 1
	default:
		dst.Caveats[account.EndsUnseen] = 1
	}
	for i := range dst.Processes {
		p := &dst.Processes[i]
		if !p.Kernel && !p.Ended && p.DiskBytes < 0 && p.Workload != account.Unrecognised && r.isLoose(p.Workload) {
			dst.Caveats[account.IOHidden] = 1
			return
		}
	}
}

// openHierarchies finds the cgroup trees: one of version 2, or one directory per controller of version 1.
func (r *Reader) openHierarchies(root string) error {
	if h, err := openHierarchy(root, "", 0); err == nil && h.Exists(h.At("cgroup.controllers")) {
		r.cgroups.v2 = true
		r.cgroups.all = []*hierarchy{h}
		return nil
	} else if err == nil {
		h.close()
	}
	for i, names := range [][]string{{"cpuacct", "cpu,cpuacct", "cpuacct,cpu"}, {"memory"}, {"unified"}, {"blkio"}} {
		if names[0] == "blkio" && !r.counters.Has(bpf.Disk) {
			continue // its own counters count only what a limit is set for
		}
		for _, name := range names {
			if h, err := openHierarchy(filepath.Join(root, name), names[0], uint64(i)); err == nil {
				r.cgroups.all = append(r.cgroups.all, h)
				break
			} else if !errors.Is(err, unix.ENOENT) {
				r.note(filepath.Join(root, name), err)
			}
		}
	}
	r.cgroups.pressures = r.proc.Exists(r.proc.At("pressure/cpu"))
	for _, name := range []string{"cpu", "cpu,cpuacct", "cpuacct,cpu"} {
		if t, err := tree.Open(filepath.Join(root, name)); err == nil {
			r.cgroups.limits = t
			break
		}
	}
	if t, err := tree.Open(filepath.Join(root, "cpuset")); err == nil {
		r.cgroups.cpusets = t
	}
	return nil
}
