package stage

import (
	"cmp"
	"hash/fnv"
	"math"
	"strconv"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/devices"
	"vinescale/internal/identify"
)

// Host is a staged host and its truth so far.
type Host struct {
	Name        string
	V1          bool // cgroup v1 hierarchies, else v2
	Counts      bool // its kernel counts what its files do not tell
	CPUs        int
	MemoryBytes int64
	DiskRate    int64 // bytes per second the disk can carry
	LinkMbit    int64
	Boot        string

	Workloads []*Workload
	Users     map[string]int64 // uid by name

	Now    time.Time
	Uptime time.Duration

	interrupted  cpuset.Set // CPUs on which more interrupts land than on others
	away         []int64    // microseconds that each CPU was unplugged
	unplugged    []bool
	user, kernel []int64 // cumulative microseconds per CPU: of workloads, and of kernel threads and interrupts
	kthreads     []*Process
	hidden       int64 // bytes of memory no one is charged with
	slab, cache  int64 // bytes of kernel structures and page cache charged to no one

	lostCPU     int64 // microseconds of loose processes that ended between readings: no one can be charged
	hostNetwork int64 // bytes of what shares the host's network
	network     int64 // cumulative bytes of the whole host
	drives      [2]drive
	stall       int64 // microseconds some task waited for a CPU
	ends        []swarmEnd
	endCount    int // so far
	toldEnds    int // of them, by Reading
	swarmPID    int32
	slots       map[slot]uint64 // operations
	unmeasured  [2][2][len(spreadOf)]float64
	nextPID     int32
	seed        uint64

	power power
	GPUs  []*GPU

	devices  *devices.Host      // that reads the library of the GPUs
	registry *identify.Registry // whose numbers ids holds
	ids      map[*Workload]account.WorkloadID
}

// Workload is a staged workload and its truth so far. Its own network namespace has its number; 0 is the host's.
type Workload struct {
	Kind    amount.Kind
	Name    string
	Owner   string
	Tenant  string // whom the demo's rules account it to
	Path    string // cgroup path; "" for loose processes
	ID      string // of a container
	Image   string
	Account string  // of a job
	Asked   int     // CPUs a job asked for
	Limit   float64 // cores its cgroup may use; 0 for no limit
	Most    int64   // bytes of memory it may use; 0 for no limit
	Weight  int64   // of its cgroup against its siblings; 0 for the usual
	Labels  map[string]string
	Told    map[string]string // facts that the system tells which runs it: a scheduler, a machine manager
	Space   uint64
	Link    string // of the host, at the other end of its network; "" for none
	Allowed cpuset.Set

	Processes []*Process
	swarm     float64 // cores used by processes too short-lived to be seen
	cores     float64 // of all its processes at full
	memory    int64
	diskRate  float64 // bytes per second at full
	netRate   float64
	shape     shape

	CPUMicros   int64
	PerCPU      []int64
	MemoryBytes int64
	DiskBytes   int64
	NetBytes    int64

	onDrive               int   // which of its host's drives it uses
	moved                 int64 // bytes on it, in the time being played
	readNanos, writeNanos int64 // that it took for them
	throttled             int64
	periods               int64
	held                  int64 // of periods, those in which its limit held it back
	stalled               int64 // microseconds some of its threads waited for a CPU
	swapped               int64 // bytes
	kills                 int64 // processes ended for want of memory
	killRate              int64 // every 20 s
	since                 time.Duration
	most                  int64 // bytes: the highest it was charged
	layer                 int64 // bytes of its writable layer that were there before; 0 where it has none
}

// Process is a staged process and its truth so far.
type Process struct {
	PID       int32
	Start     int64 // clock ticks since boot
	Program   string
	UID       int64
	Threads   int32
	LastCPU   int32
	Kernel    bool
	Parent    int32
	Runnable  int32
	Names     []string // of its threads, where they are told apart
	On        []string // CPUs that each of its threads may run on, where that is its own
	CPUMicros int64
	AnonBytes int64
	DiskBytes int64
	tasks     []task    // what its threads used
	weights   []float64 // how its work divides over its threads; evenly where nil
	eager     int32     // threads that want to run whenever it does
	part      float64   // of its workload's living use
}

// sliceWeights are those of outer cgroups that are not weighed as usual.
var sliceWeights = map[string]int64{"/batch": 200, "/user.slice": 50}

// weights are those of the cgroups of its path, by their directories, and as account.FactWeights tells them.
func (w *Workload) weights() (byDir map[string]int64, told string) {
	byDir = map[string]int64{}
	var parts []string
	dir := ""
	for name := range strings.SplitSeq(strings.TrimPrefix(w.Path, "/"), "/") {
		dir += "/" + name
		weight := cmp.Or(sliceWeights[dir], 100)
		if dir == w.Path {
			weight = cmp.Or(w.Weight, 100)
		}
		byDir[dir] = weight
		parts = append(parts, strconv.FormatInt(weight, 10))
	}
	return byDir, strings.Join(parts, "/")
}

// cpusetOn is what the cgroup of a workload keeps it on: containers, jobs and machines are kept by cpusets, all others
// by affinity. Empty where that is the whole host.
func (w *Workload) cpusetOn(h *Host) string {
	isKept := w.Kind == amount.Container || w.Kind == amount.Job || w.Kind == amount.VM
	if !isKept || w.Allowed.Len() >= h.CPUs {
		return ""
	}
	return w.Allowed.String()
}

// allowed are the CPUs that thread i may run on by itself; "" where these are those of its process.
func (p *Process) allowed(i int) string {
	if i < len(p.On) {
		return p.On[i]
	}
	return ""
}

// HasSwarm tells whether processes of it are too short-lived to be seen.
func (w *Workload) HasSwarm() bool { return w.swarm > 0 }

// task is what one thread of a process used, and the CPU it was on last.
type task struct {
	micros int64
	cpu    int32
}

// thread is thread i of a process.
func (p *Process) thread(i int) task {
	if i < len(p.tasks) {
		return p.tasks[i]
	}
	return task{}
}

// taskName is the name of thread i.
func (p *Process) taskName(i int) string {
	if i < len(p.Names) {
		return p.Names[i]
	}
	return p.Program
}

// shape is how much of its full use a workload has at a time, 0 to 1.
type shape func(t time.Time) float64

func steady(level float64) shape { return func(time.Time) float64 { return level } }

// daily is highest at an hour of the day, and falls off over some hours to a low.
func daily(low, peakHour, width float64) shape {
	return func(t time.Time) float64 {
		h := float64(t.Hour()) + float64(t.Minute())/60
		d := math.Abs(h - peakHour)
		d = min(d, 24-d)
		return low + (1-low)*math.Exp(-d*d/(2*width*width))
	}
}

// waves runs for part of each period.
func waves(period time.Duration, part float64, offset time.Duration) shape {
	return func(t time.Time) float64 {
		at := t.Add(offset).UnixNano() % int64(period)
		if float64(at) < part*float64(period) {
			return 0.95
		}
		return 0.05
	}
}

// bursts work at full for part of each period, and at a low beside that. Each period is a little longer or shorter than
// the one before.
func bursts(period time.Duration, part, low float64) shape {
	return func(t time.Time) float64 {
		n := t.UnixNano() / int64(period)
		at := float64(t.UnixNano()%int64(period)) / float64(period)
		if at < part*(0.7+0.6*float64(n*7%11)/10) {
			return 0.97
		}
		return low
	}
}

// ramp rises over a period, and begins again.
func ramp(period time.Duration) shape {
	return func(t time.Time) float64 {
		return 0.15 + 0.8*float64(t.UnixNano()%int64(period))/float64(period)
	}
}

// noise is a number from 0 to 1 that depends on the host, the workload and the minute only.
func (h *Host) noise(name string, t time.Time, what byte) float64 {
	f := fnv.New64a()
	f.Write([]byte(h.Name))
	f.Write([]byte(name))
	m := uint64(t.Unix()/60) ^ h.seed
	f.Write([]byte{byte(m), byte(m >> 8), byte(m >> 16), byte(m >> 24), what})
	x := f.Sum64()
	x ^= x >> 33 // FNV's low bits follow its last byte closely: mix them
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return float64(x>>11) / (1 << 53)
}

// Advance plays the host on by dt: every workload uses what its shape asks for, as far as its CPUs have time left.
func (h *Host) Advance(dt time.Duration) {
	free := make([]int64, h.CPUs)
	for c := range free {
		if h.unplugged[c] {
			h.away[c] += dt.Microseconds()
		} else {
			free[c] = dt.Microseconds()
		}
	}
	h.kernelWork(dt, free)
	for i, w := range h.Workloads {
		level := w.shape(h.Now) * (0.85 + 0.3*h.noise(w.Name, h.Now, 1))
		h.work(w, level, dt, free, i)
		moved := int64(w.diskRate * level * dt.Seconds())
		h.spreadDisk(w, moved)
		sent := int64(w.netRate * level * dt.Seconds())
		w.NetBytes += sent
		h.network += sent
		if w.Link == "" && (!h.Counts || w.Path == "") {
			h.hostNetwork += sent
		}
		w.MemoryBytes = int64(float64(w.memory) * (0.8 + 0.2*min(level, 1)))
		h.layMemory(w)
		w.most = max(w.most, w.MemoryBytes)
		h.limit(w, level, dt)
		if w.since += dt; w.since >= time.Minute/3 {
			w.since, w.kills = 0, w.kills+w.killRate
		}
	}
	for i := range h.drives {
		operations, micros := h.drives[i].advance(dt, h.DiskRates()[drives[i].name], drives[i].millis)
		h.measure(i, 0, operations/3, micros)
		h.measure(i, 1, operations*2/3, micros)
		for _, w := range h.Workloads {
			if w.onDrive == i {
				each := float64(w.moved) / operation / 3 * micros * 1000
				w.readNanos, w.writeNanos, w.moved = w.readNanos+int64(each), w.writeNanos+int64(2*each), 0
			}
		}
	}
	for c := range free {
		if free[c] == 0 && !h.unplugged[c] {
			h.stall += dt.Microseconds() / int64(4*h.CPUs)
		}
	}
	h.draw(dt)
	h.workGPUs(dt)
	h.Now = h.Now.Add(dt)
	h.Uptime += dt
}

// Plug takes a CPU off the host, or gives it back. Its counters stand still meanwhile.
func (h *Host) Plug(cpu int, in bool) { h.unplugged[cpu] = !in }

// kernelWork spends a little of each CPU in interrupts and kernel threads.
func (h *Host) kernelWork(dt time.Duration, free []int64) {
	for c := range free {
		irq := free[c] / 200
		if h.interrupted.Has(c) {
			irq *= 8
		}
		h.kernel[c] += irq
		free[c] -= irq
	}
	for i, p := range h.kthreads {
		c := i % h.CPUs
		used := min(dt.Microseconds()/400, free[c])
		p.CPUMicros += used
		p.LastCPU = int32(c)
		h.user[c] += used
		free[c] -= used
	}
}

// work spends a workload's CPU time, process by process, on the CPUs it may use, fullest last.
func (h *Host) work(w *Workload, level float64, dt time.Duration, free []int64, turn int) {
	cpus := w.Allowed.CPUs()
	for i, p := range w.Processes {
		want := int64(w.cores * level * p.part * float64(dt.Microseconds()))
		got := h.spend(w, want, max(int(p.Threads), 1), dt, free, cpus, turn*7+i*3, p)
		if p.weights == nil { // else single threads wanted more than a CPU
			w.stalled += max(min(want, int64(max(p.Threads, 1))*dt.Microseconds())-got, 0) // no CPU was free
		}
		p.CPUMicros += got
		p.Runnable = 0
		if got > 0 {
			p.Runnable = int32((got + dt.Microseconds()/2) / dt.Microseconds())
			if got > dt.Microseconds()/4 {
				p.Runnable = max(p.Runnable, p.eager)
			}
			p.Runnable = min(p.Runnable, p.Threads)
		}
	}
	if w.swarm > 0 {
		got := h.spend(w, int64(w.swarm*level*float64(dt.Microseconds())), len(cpus), dt, free, cpus, turn, nil)
		if w.Path == "" && !h.Counts {
			h.lostCPU += got
		}
	}
}

// spend takes time from CPUs, at most a whole one per thread, and returns how much it got.
func (h *Host) spend(w *Workload, want int64, threads int, dt time.Duration, free []int64, cpus []int, turn int,
	p *Process) int64 {
	got := int64(0)
	most := int64(-1)
	all, turns := want, len(cpus)
	if p != nil && p.weights != nil {
		turns = threads
	}
	for k := range turns {
		if want == 0 || k >= threads {
			break
		}
		c := cpus[(turn+k)%len(cpus)]
		perThread := (want + int64(threads-k) - 1) / int64(threads-k)
		if p != nil && p.weights != nil {
			perThread = min(int64(float64(all)*p.weights[k]), want)
		}
		take := min(perThread, free[c], dt.Microseconds())
		free[c] -= take
		h.user[c] += take
		want -= take
		got += take
		w.CPUMicros += take
		w.PerCPU[c] += take
		if p == nil {
			h.endSwarm(w, take, int32(c))
			continue
		}
		for len(p.tasks) <= k {
			p.tasks = append(p.tasks, task{})
		}
		if take > 0 {
			p.tasks[k] = task{p.tasks[k].micros + take, int32(c)}
		}
		if take > most {
			most, p.LastCPU = take, int32(c)
		}
	}
	return got
}

// spreadDisk gives each process its part of what was moved, a third of it read. All are whole thirds, so that what
// processes read and dirtied adds up to what their cgroup did.
func (h *Host) spreadDisk(w *Workload, moved int64) {
	moved -= moved % 3
	h.drives[w.onDrive].moved += moved
	w.DiskBytes, w.moved = w.DiskBytes+moved, w.moved+moved
	left := moved
	for i, p := range w.Processes {
		part := int64(float64(moved)*p.part) / 3 * 3
		if i == len(w.Processes)-1 {
			part = left
		}
		p.DiskBytes += part
		left -= part
	}
}

// layMemory gives processes their anonymous memory: the workload's less its page cache and kernel memory. Whole pages.
func (h *Host) layMemory(w *Workload) {
	anon := float64(w.MemoryBytes - w.fileBytes() - w.kernelBytes())
	sum := int64(0)
	for _, p := range w.Processes {
		p.AnonBytes = int64(anon*p.part) / pageSize * pageSize
		sum += p.AnonBytes
	}
	if w.Path == "" {
		w.MemoryBytes = sum // no group counts it: its truth is what its processes hold
	} else {
		w.MemoryBytes = sum + w.fileBytes() + w.kernelBytes()
	}
}

// PageSize is how many bytes a page of a staged host's memory has.
const PageSize = pageSize

const pageSize = 4096

func (w *Workload) fileBytes() int64 {
	if w.Path == "" {
		return 0
	}
	return w.memory / 10 / pageSize * pageSize
}

func (w *Workload) kernelBytes() int64 {
	if w.Path == "" {
		return 0
	}
	return w.memory / 100 / pageSize * pageSize
}

// memory works out the host's lines of /proc/meminfo.
func (h *Host) memory() (free, cached, slab int64) {
	used := h.hidden + h.slab + h.cache
	cached, slab = h.cache, h.slab
	for _, w := range h.Workloads {
		used += w.MemoryBytes
		cached += w.fileBytes()
		slab += w.kernelBytes()
	}
	return h.MemoryBytes - used, cached, slab
}

// DiskRates are what the administrator declares the drives can carry, in bytes per second.
func (h *Host) DiskRates() map[string]int64 {
	return map[string]int64{DiskName: h.DiskRate, DataDisk: h.DiskRate / 20 * 13}
}

// Truth is what a staged host knows and a collector should find out.
type Truth struct {
	LostCPUMicros       int64 // of loose processes that ended unseen: the CPU ledger's residual
	HostNetworkBytes    int64 // the network ledger's residual
	HiddenMemoryBytes   int64 // the memory ledger's residual
	KernelCPUMicros     int64
	DiskBytes, NetBytes int64
}

// Truth returns the host's truth so far; flows are cumulative.
func (h *Host) Truth() Truth {
	t := Truth{LostCPUMicros: h.lostCPU, HostNetworkBytes: h.hostNetwork, HiddenMemoryBytes: h.hidden,
		NetBytes: h.network}
	for _, d := range h.drives {
		t.DiskBytes += d.bytes
	}
	for c := range h.kernel {
		t.KernelCPUMicros += h.kernel[c]
	}
	for _, p := range h.kthreads {
		t.KernelCPUMicros += p.CPUMicros
	}
	return t
}
