package stage

import (
	"errors"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
)

// Counters tell what programs in the kernel of a staged host would have counted since it began. They know cgroups by
// the numbers of the directories rendered for them.
type Counters struct {
	host   *Host
	tree   Tree
	told   int // of the host's ends, those that were told or are older than these counters
	inodes map[string]uint64
}

// Counters begins to count. The host must be one that Counts, and be rendered in t.
func (h *Host) Counters(t Tree) *Counters {
	return &Counters{host: h, tree: t, told: h.endCount, inodes: map[string]uint64{}}
}

var (
	errListed = errors.New("a staged host shows its tasks as files")
	errMade   = errors.New("no cgroup of a staged host is made")
)

// Missing says that all is there but the list of all tasks.
func (c *Counters) Missing(f bpf.Feature) error {
	switch f {
	case bpf.Tasks:
		return errListed
	case bpf.Groups:
		return errMade
	}
	return nil
}

// Has tells whether a feature is there.
func (c *Counters) Has(f bpf.Feature) bool { return c.Missing(f) == nil }

// root is the number of a hierarchy's root.
const root = 1

// inode is the number of a workload's cgroup in a hierarchy of version 1, or of the only one of version 2. Work in no
// cgroup is the root's.
func (c *Counters) inode(hierarchy string, w *Workload) uint64 {
	if w.Path == "" {
		return root
	}
	if !c.host.V1 {
		hierarchy = ""
	}
	dir := filepath.Join(c.tree.Cgroup(), hierarchy, w.Path)
	if n, ok := c.inodes[dir]; ok {
		return n
	}
	info, err := os.Stat(dir)
	if err != nil {
		return root
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		c.inodes[dir] = s.Ino
	}
	return c.inodes[dir]
}

func (c *Counters) who(w *Workload) bpf.Who {
	who := bpf.Who{V2: c.inode("unified", w), Uid: uint32(w.Processes[0].UID)}
	who.Cpuacct = who.V2
	if c.host.V1 {
		who.Cpuacct = c.inode("cpuacct", w)
	}
	return who
}

// Settle has nothing to do: a staged host is up to date whenever it is looked at.
func (c *Counters) Settle() error { return nil }

// CPU visits the time of each workload's cgroup.
func (c *Counters) CPU(visit func(bpf.Who, []bpf.Spent)) error {
	for _, w := range c.host.Workloads {
		by := make([]bpf.Spent, len(w.PerCPU))
		for cpu, micros := range w.PerCPU {
			by[cpu].Run = nanos(micros)
		}
		by[0].Waited = nanos(w.stalled)
		visit(c.who(w), by)
	}
	return nil
}

func nanos(micros int64) uint64 { return uint64(micros) * 1000 }

// Totals are how long tasks, and the idle task, were on each CPU.
func (c *Counters) Totals() (t bpf.CPUTotals, err error) {
	h := c.host
	for cpu := range h.CPUs {
		t.Ran = append(t.Ran, nanos(h.user[cpu]))
		t.IdleTask = append(t.IdleTask, nanos(h.idle(cpu)))
	}
	return t, nil
}

// Ended visits the processes of swarms that ended since the last call.
func (c *Counters) Ended(visit func(*bpf.Ended)) error {
	for _, e := range c.host.endsSince(c.told) {
		x := bpf.Ended{
			Who: c.who(e.of), Start: uint64(e.start) * tick * 1000, Run: nanos(e.micros), User: nanos(e.micros),
			Cpu: uint32(e.cpu), Pid: e.pid, Tgid: e.pid, Parent: e.of.Processes[0].PID,
		}
		for i, b := range []byte(e.of.Processes[0].Program) {
			if i < len(x.Comm)-1 {
				x.Comm[i] = int8(b)
			}
		}
		visit(&x)
	}
	c.told = c.host.endCount
	return nil
}

// Tasks are not to be had.
func (c *Counters) Tasks() ([]bpf.Task, error) { return nil, errListed }

// Made and Adopt are not asked for: no cgroup of a staged host is made, and its families are not told. Here has nothing
// to do: nothing stays on a staged host.
func (c *Counters) Made(func(bpf.Made)) (uint64, error) { return 0, errMade }
func (c *Counters) Here(map[netip.Addr]bool) error      { return nil }
func (c *Counters) Adopt(map[int32]uint64) error        { return errListed }

// Flows visits what each workload moved over the host's link. What a machine moves goes over a tap, and is no socket's.
func (c *Counters) Flows(visit func(bpf.Flow, bpf.Moved)) error {
	for _, w := range c.host.Workloads {
		if w.Kind == amount.VM || w.NetBytes == 0 {
			continue
		}
		id := c.inode("unified", w)
		for sent, bytes := range []int64{w.received(), w.sent()} {
			visit(bpf.Flow{Group: id, Interface: bpf.Loopback + 1, Sent: uint32(sent)},
				bpf.Moved{Bytes: uint64(bytes), Packets: uint64(bytes / packet)})
		}
	}
	return nil
}

// Transfers visits what each workload read and wrote.
func (c *Counters) Transfers(visit func(bpf.Transfer, bpf.Done)) error {
	for _, w := range c.host.Workloads {
		for _, d := range w.issued() {
			key := bpf.Transfer{Device: d.Major<<20 | d.Minor,
				Part: d.Major<<20 | (d.Minor + 1)}
			key.Owner.Group = c.inode("blkio", w)
			if d.Read > 0 {
				visit(key, bpf.Done{Bytes: uint64(d.Read), Operations: uint64(d.ReadOps),
					Nanoseconds: uint64(d.ReadNanos)})
			}
			if d.Written > 0 {
				key.Kind = uint32(account.IOWrite)
				visit(key, bpf.Done{Bytes: uint64(d.Written), Operations: uint64(d.WriteOps),
					Nanoseconds: uint64(d.WriteNanos)})
			}
		}
	}
	return nil
}

// Latencies visits the histogram of each drive.
func (c *Counters) Latencies(visit func(bpf.Slot, uint64)) error {
	c.host.eachSlot(visit)
	return nil
}

// ForgetCPU, ForgetFlows and ForgetTransfers have nothing to do: no cgroup of a staged host goes away.
func (c *Counters) ForgetCPU([]bpf.Who)            {}
func (c *Counters) ForgetFlows([]bpf.Flow)         {}
func (c *Counters) ForgetTransfers([]bpf.Transfer) {}

// Close has nothing to unload.
func (c *Counters) Close() error { return nil }

// idle is how long a CPU was idle, in microseconds.
func (h *Host) idle(cpu int) int64 {
	return h.Uptime.Microseconds() - h.away[cpu] - h.user[cpu] - h.kernel[cpu]
}

// issued is what a workload moved on its drive, as requests are counted one by one; empty where it moved nothing.
func (w *Workload) issued() []account.DeviceIO {
	d := w.devices()[0]
	if d.Read+d.Written == 0 {
		return nil
	}
	d.ReadNanos, d.WriteNanos = w.readNanos, w.writeNanos
	return []account.DeviceIO{d}
}

// swarmEnd are processes of a swarm that ended on one CPU, taken together.
type swarmEnd struct {
	of     *Workload
	pid    int32
	start  int64 // clock ticks since boot
	micros int64
	cpu    int32
}

// mostEnds is how many ends are remembered for those who ask.
const mostEnds = 1 << 10

// endSwarm remembers what ended.
func (h *Host) endSwarm(w *Workload, micros int64, cpu int32) {
	if micros == 0 {
		return
	}
	h.swarmPID++
	h.ends = append(h.ends, swarmEnd{w, 1<<20 + h.swarmPID, h.Uptime.Microseconds() / tick, micros, cpu})
	h.endCount++
	if len(h.ends) > 2*mostEnds {
		h.ends = append(h.ends[:0], h.ends[len(h.ends)-mostEnds:]...)
	}
}

// endsSince lists what ended after so many.
func (h *Host) endsSince(told int) []swarmEnd {
	return h.ends[max(len(h.ends)-(h.endCount-told), 0):]
}

// slot is a bucket of a drive's histogram of latencies.
type slot struct {
	drive   int
	written uint16
	bucket  uint16
}

// spreadOf says how many of a hundred operations take how many times the mean.
var spreadOf = [...]struct{ part, times float64 }{{0.60, 0.70}, {0.29, 1.10}, {0.09, 2.00}, {0.02, 4.05}}

// measure puts operations that took so long in the mean into a drive's histogram. What is left of an operation is put
// to the next.
func (h *Host) measure(drive int, written uint16, operations, micros float64) {
	if h.slots == nil {
		h.slots = map[slot]uint64{}
	}
	for i, s := range spreadOf {
		left := &h.unmeasured[drive][written][i]
		*left += operations * s.part
		whole := float64(uint64(*left))
		*left -= whole
		h.slots[slot{drive, written, bucketOf(int64(micros * s.times))}] += uint64(whole)
	}
}

// bucketOf is the bucket that holds a latency.
func bucketOf(micros int64) (bucket uint16) {
	for {
		if _, high := bpf.BucketBounds(bucket); micros < high {
			return bucket
		}
		bucket++
	}
}

func (h *Host) eachSlot(visit func(bpf.Slot, uint64)) {
	order := func(a, b slot) int {
		return int(a.drive)<<20 + int(a.written)<<18 +
			int(a.bucket) - int(b.drive)<<20 - int(b.written)<<18 - int(b.bucket)
	}
	for _, s := range slices.SortedFunc(maps.Keys(h.slots), order) {
		if n := h.slots[s]; n > 0 {
			visit(bpf.Slot{Device: drives[s.drive].major<<20 | drives[s.drive].minor, Kind: s.written,
				Bucket: s.bucket}, n)
		}
	}
}

// addCounted puts what is counted in the kernel into a reading, as the real reader would.
func (h *Host) addCounted(r *account.Reading, registry *identify.Registry) {
	if !h.Counts {
		return
	}
	r.SplitsDisk = true
	for _, c := range r.CPUs {
		r.RanMicros = append(r.RanMicros, h.user[c.CPU])
		r.IdleTaskMicros = append(r.IdleTaskMicros, h.idle(c.CPU))
	}
	for _, w := range h.Workloads {
		if w.Path == "" {
			for _, d := range w.requests() {
				i := slices.IndexFunc(r.NoGroup, func(x account.DeviceIO) bool {
					return x.Major == d.Major && x.Minor == d.Minor
				})
				if i < 0 {
					r.NoGroup = append(r.NoGroup, d)
					continue
				}
				x := &r.NoGroup[i]
				x.Read, x.Written, x.ReadOps, x.WriteOps = x.Read+d.Read, x.Written+d.Written, x.ReadOps+d.ReadOps,
					x.WriteOps+d.WriteOps
				x.ReadNanos, x.WriteNanos = x.ReadNanos+d.ReadNanos, x.WriteNanos+d.WriteNanos
			}
		}
	}
	h.eachSlot(func(s bpf.Slot, n uint64) {
		major, minor := bpf.DeviceNumber(s.Device)
		low, high := bpf.BucketBounds(s.Bucket)
		r.Latencies = append(r.Latencies, account.Latency{Major: major, Minor: minor, Kind: account.IOKind(s.Kind),
			LowMicros: low, HighMicros: high, Count: int64(n)})
	})
	for _, e := range h.endsSince(h.toldEnds) {
		p := e.of.Processes[0]
		program := registry.Program([]byte(p.Program))
		r.Processes = append(r.Processes, account.Process{
			PID: e.pid, Start: e.start, Ended: true, Parent: p.PID, UID: p.UID, Workload: h.identity(e.of, registry),
			Within:  account.Unrecognised,
			Program: program, Family: program, LastCPU: e.cpu, SwapBytes: -1, PSSBytes: -1, CPUMicros: e.micros,
			UserMicros: e.micros,
		})
	}
	h.toldEnds = h.endCount
}

// requests are what a workload moved, on its drive and on the partition of it that it uses.
func (w *Workload) requests() []account.DeviceIO {
	list := w.issued()
	if len(list) == 1 {
		part := list[0]
		part.Minor++
		list = append(list, part)
	}
	return list
}

// CountedFigures are what is counted of a workload in the kernel, as measures: of its CPU time, and of its network.
func (h *Host) CountedFigures(w *Workload) (cpu, network account.Figures) {
	if !h.Counts || w.Path == "" {
		return cpu, network
	}
	cpu.Put(amount.CPUWait, w.stalled, amount.Counted)
	if w.Kind != amount.VM {
		network.Put(amount.NetworkReceived, w.received(), amount.Counted)
		network.Put(amount.NetworkSent, w.sent(), amount.Counted)
		network.Put(amount.NetworkPacketsReceived, w.received()/packet, amount.Counted)
		network.Put(amount.NetworkPacketsSent, w.sent()/packet, amount.Counted)
		network.Put(amount.NetworkLocalReceived, 0, amount.Counted)
		network.Put(amount.NetworkLocalSent, 0, amount.Counted)
	}
	return cpu, network
}
