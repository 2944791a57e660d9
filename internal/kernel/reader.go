package kernel

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
)

// Roots are the trees a Reader reads. The zero value of a field is the host's own.
type Roots struct {
	Proc   string // /proc
	Sys    string // /sys
	Cgroup string // /sys/fs/cgroup
}

// Options for Open.
type Options struct {
	Roots     Roots
	DiskRates map[string]int64 // declared bytes per second by disk name
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
	proc     *tree
	sys      *tree
	v2       bool
	cgroups  []*hierarchy

	boot        string
	count       int64 // readings taken
	uptime      time.Duration
	procs       map[int32]*process
	pids        []int32
	listing     []byte
	paths       map[string]account.WorkloadID // content of /proc/PID/cgroup -> workload, Unrecognised too
	spaces      map[uint64]*namespace
	hostNet     uint64
	selfNet     uint64 // network namespace of this process
	linkEnds    account.LinkEnds
	askedEnds   map[string]bool // interfaces whose other end was asked for
	disks       map[string]diskKind
	unused      map[string]int64 // parts, volumes and loops that were never used, and the reading that saw them last
	ifaces      map[string]*iface
	trouble     map[string]error
	names       map[string]string
	unsettled   []int32 // indexes in the reading's processes whose family is to be found
	loose       []bool  // by WorkloadID
	tids        []int32
	taskListing []byte
	threadsLeft int
	placedLeft  int
	cpus        int
	memory      int64
	pathsAge    int64 // reading at which what was concluded of cgroups last changed
	limits      *tree // of version 1: the hierarchy that limits CPU time
	diskNumbers [][2]uint32
	cpuNumbers  []int
	possible    []int // CPUs that could ever be there; nil where they are not told

	counters   Counters
	watch      watch
	keptOpen   int
	turns      int64
	slow       bool // this reading reads what is read at the slow pace
	slowAt     time.Time
	pressures  bool            // the version 2 tree beside version 1 tells stalls by cgroup
	departed   map[uint64]bool // cgroups that went, and whose counts are kept around them
	someLeft   bool            // since places were last freed
	noGroup    figures         // of departed cgroups that were in no workload
	lostEnds   uint64          // records of ended tasks that found no room
	lostBefore uint64          // of which so many were told of
	ends       ends
	taps       map[string]account.WorkloadID // virtual machines by the tap at their other end
	holders    map[account.WorkloadID]*holder
	holdsNone  map[account.WorkloadID]bool // workloads that are no holders
	swaps      []account.Swap
	seesFrames bool
	sameMounts bool  // this process sees the host's mounts as its first one does
	walk       *walk // under way, of the holder walked
	walked     *holder
	exits      *exits   // where tasks' ends are told by taskstats
	sockets    *sockets // where sockets are asked for their bytes
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
		registry: registry, options: o, counters: o.Counters, departed: map[uint64]bool{},
		taps:  map[string]account.WorkloadID{},
		procs: map[int32]*process{}, listing: make([]byte, 64<<10), taskListing: make([]byte, 16<<10),
		paths: map[string]account.WorkloadID{}, spaces: map[uint64]*namespace{},
		holders: map[account.WorkloadID]*holder{}, holdsNone: map[account.WorkloadID]bool{},
		disks: map[string]diskKind{}, unused: map[string]int64{}, ifaces: map[string]*iface{},
		trouble: map[string]error{}, names: map[string]string{},
	}
	r.watch.open()
	var err error
	if r.proc, err = openTree(o.Roots.Proc); err != nil {
		return nil, fmt.Errorf("%w: is the kernel's process tree mounted there? Name its root with --proc-root", err)
	}
	if r.sys, err = openTree(o.Roots.Sys); err != nil {
		return nil, fmt.Errorf("%w: name the root of the device tree with --sys-root", err)
	}
	r.seesFrames = seesFrames(r.proc)
	if b, err := r.sys.read(r.sys.at("devices/system/cpu/possible")); err == nil {
		set, _ := cpuset.Parse(string(trimNewline(b)))
		r.possible = set.CPUs()
	}
	boot, err := r.proc.read(r.proc.at("sys/kernel/random/boot_id"))
	if err != nil {
		return nil, fmt.Errorf("read %s/sys/kernel/random/boot_id: %w", o.Roots.Proc, err)
	}
	r.boot = string(trimNewline(boot))
	r.hostNet = r.netns(1)
	r.selfNet = r.netns(int32(os.Getpid()))
	if r.hostNet == 0 && o.Ask && r.inHostsNetwork() {
		r.hostNet = r.selfNet
	}
	if o.Ask && !r.counters.Has(bpf.CPU) {
		r.exits = openExits()
	}
	if o.Ask && !r.counters.Has(bpf.Network) {
		r.sockets = openSockets()
	}
	return r, r.openHierarchies(o.Roots.Cgroup)
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
	r.watch.close()
	r.stopWalk()
	r.exits.close()
	r.proc.close()
	r.sys.close()
	for _, h := range r.cgroups {
		h.close()
	}
	if r.limits != nil {
		r.limits.close()
	}
}

// Mode names the cgroup layout: "v2", "v1" or "hybrid" (v1 with a v2 tree beside it).
func (r *Reader) Mode() string {
	if r.v2 {
		return "v2"
	}
	for _, h := range r.cgroups {
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
		err = errGarbage
	}
	if !gone(err) && len(r.trouble) < 50 {
		r.trouble[file] = err
	}
}

// Read takes a reading into dst, reusing its slices. It fails only when the host's own CPU or memory cannot be read;
// whatever else is missing is left out and said in dst.Unavailable or by Trouble.
func (r *Reader) Read(dst *account.Reading) error {
	r.count++
	r.registry.NextReading()
	dst.Boot = r.boot
	dst.Unavailable = [amount.NumResources]string{}
	if err := r.readHost(dst); err != nil {
		return err
	}
	r.readGroups(dst)
	if err := r.readProcesses(dst); err != nil {
		return err
	}
	r.readNamespaces(dst)
	r.joinLinks(dst)
	r.readFiles(dst)
	r.readSwapped(dst)
	r.uptime = dst.Uptime
	if r.count%r.options.RecheckEvery == 0 || r.count == 2 {
		r.refreshAllowed()
	}
	return nil
}

// openHierarchies finds the cgroup trees: one of version 2, or one directory per controller of version 1.
func (r *Reader) openHierarchies(root string) error {
	if h, err := openHierarchy(root, "", 0); err == nil && h.exists(h.at("cgroup.controllers")) {
		r.v2 = true
		r.cgroups = []*hierarchy{h}
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
				r.cgroups = append(r.cgroups, h)
				break
			} else if !errors.Is(err, unix.ENOENT) {
				r.note(filepath.Join(root, name), err)
			}
		}
	}
	r.pressures = r.proc.exists(r.proc.at("pressure/cpu"))
	for _, name := range []string{"cpu", "cpu,cpuacct", "cpuacct,cpu"} {
		if t, err := openTree(filepath.Join(root, name)); err == nil {
			r.limits = t
			break
		}
	}
	return nil
}
