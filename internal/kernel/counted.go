package kernel

import (
	"runtime"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
)

// counted is what the kernel counted for one cgroup directory since counting began. A zero value has nothing.
type counted struct {
	own   figures // of this very directory
	whole figures // and of all within it
	base  figures // of those within it that are no more
	last  figures // whole, at the reading before
}

// since is what was counted of a cgroup, and of all within it, since the reading before.
func (c *counted) since() figures { return c.whole.less(&c.last) }

type figures struct {
	perCPU               []int64 // nanoseconds
	user, system, waited int64   // nanoseconds
	net                  [6]int64
	devices              []account.DeviceIO
}

// The places in figures.net.
const (
	netReceived = iota
	netSent
	netPacketsReceived
	netPacketsSent
	netLocalReceived
	netLocalSent
)

func (f *figures) reset() {
	clear(f.perCPU)
	*f = figures{perCPU: f.perCPU, devices: f.devices[:0]}
}

// less is how much more there is in f than there was at an earlier reading.
func (f *figures) less(was *figures) (d figures) {
	d = figures{perCPU: append([]int64(nil), f.perCPU...), user: f.user - was.user, system: f.system - was.system,
		waited: f.waited - was.waited, net: f.net}
	for c := range was.perCPU {
		d.perCPU[c] -= was.perCPU[c]
	}
	for i := range was.net {
		d.net[i] -= was.net[i]
	}
	for _, io := range f.devices {
		d.devices = append(d.devices, io.Since(was.devices))
	}
	return d
}

// micros is the CPU time on all CPUs.
func (f *figures) micros() (sum int64) {
	for _, nanos := range f.perCPU {
		sum += nanos
	}
	return sum / 1000
}

// moved is what was moved on devices, and discarded, in bytes.
func (f *figures) moved() (sum int64) {
	for _, io := range f.devices {
		sum += io.Read + io.Written + io.Discarded
	}
	return sum
}

func (f *figures) add(g *figures) {
	for len(f.perCPU) < len(g.perCPU) {
		f.perCPU = append(f.perCPU, 0)
	}
	for c, n := range g.perCPU {
		f.perCPU[c] += n
	}
	f.user, f.system, f.waited = f.user+g.user, f.system+g.system, f.waited+g.waited
	for i, n := range g.net {
		f.net[i] += n
	}
	for _, io := range g.devices {
		*f.device(io.Major, io.Minor) = sumIO(*f.device(io.Major, io.Minor), io)
	}
}

// spend adds what was spent on each CPU.
func (f *figures) spend(by []bpf.Spent) {
	for len(f.perCPU) < len(by) {
		f.perCPU = append(f.perCPU, 0)
	}
	for c := range by {
		f.perCPU[c] += int64(by[c].Run)
		f.user, f.system, f.waited = f.user+int64(by[c].User), f.system+int64(by[c].System),
			f.waited+int64(by[c].Waited)
	}
}

func sumIO(a, b account.DeviceIO) account.DeviceIO {
	a.Read, a.Written, a.ReadOps, a.WriteOps = a.Read+b.Read, a.Written+b.Written, a.ReadOps+b.ReadOps,
		a.WriteOps+b.WriteOps
	a.ReadNanos, a.WriteNanos = a.ReadNanos+b.ReadNanos, a.WriteNanos+b.WriteNanos
	a.Discarded, a.Discards = a.Discarded+b.Discarded, a.Discards+b.Discards
	return a
}

func (f *figures) device(major, minor uint32) *account.DeviceIO {
	for i := range f.devices {
		if d := &f.devices[i]; d.Major == major && d.Minor == minor {
			return d
		}
	}
	f.devices = append(f.devices, account.DeviceIO{Major: major, Minor: minor})
	return &f.devices[len(f.devices)-1]
}

// counting returns the cgroup hierarchy whose ids key the counters of a feature, or nil when the feature is not loaded.
func (r *Reader) counting(f bpf.Feature) *hierarchy {
	if !r.counters.Has(f) {
		return nil
	}
	return r.hierarchyOf(f)
}

// hierarchyOf returns the cgroup hierarchy whose ids would key the counters of a feature, loaded or not; nil where that
// hierarchy is not mounted. With version 2 there is one for all; with version 1 each feature needs a certain
// controller.
func (r *Reader) hierarchyOf(f bpf.Feature) *hierarchy {
	var name string
	switch f {
	case bpf.CPU:
		name = "cpuacct"
	case bpf.Network:
		name = "unified"
	case bpf.Disk:
		name = "blkio"
	}
	for _, h := range r.cgroups.all {
		if r.cgroups.v2 || h.name == name {
			return h
		}
	}
	return nil
}

// gatherCounted reads the counters that eBPF keeps by cgroup id, and adds those of all cgroups inside a workload to it.
func (r *Reader) gatherCounted(dst *account.Reading) error {
	dst.SplitsDisk = false
	if !r.counts() && r.net.sockets == nil {
		return nil
	}
	r.resetCounted()
	r.cgroups.unplaced, r.cgroups.unread = false, false
	if h := r.counting(bpf.CPU); h != nil {
		if err := r.gatherCPU(dst, h); err != nil {
			return err
		}
	}
	if h := r.counting(bpf.Network); h != nil {
		if err := r.counters.Flows(func(f bpf.Flow, m bpf.Moved) {
			own := h.own(f.Group)
			if own == nil {
				return
			}
			if f.Interface == bpf.Loopback {
				own.net[netLocalReceived+f.Sent] += int64(m.Bytes)
				return
			}
			own.net[netReceived+f.Sent] += int64(m.Bytes)
			own.net[netPacketsReceived+f.Sent] += int64(m.Packets)
		}); err != nil {
			r.note("network by cgroup", err)
		}
	}
	if h := r.hierarchyOf(bpf.Network); h != nil && r.net.sockets.Missing() == "" {
		r.gatherSockets(h)
	}
	if h := r.counting(bpf.Disk); h != nil {
		r.gatherDisk(dst, h)
	}
	for _, h := range r.cgroups.all {
		h.addUp()
	}
	return nil
}

// resetCounted begins to add up anew what was counted for cgroups.
func (r *Reader) resetCounted() {
	for _, h := range r.cgroups.all {
		for _, g := range h.order {
			if g.counted != nil {
				g.counted.own.reset()
			}
		}
	}
}

// gatherCPU reads where the time of each CPU went, and at once what was counted of it in the kernel: on a busy host
// this process may wait for a CPU in between, and what others ran meanwhile would be in the one and not in the other.
// Where it did, both are read again.
func (r *Reader) gatherCPU(dst *account.Reading, h *hierarchy) error {
	const long, attempts = 5 * time.Millisecond, 3
	r.tasks.kin.begin()
	unified := r.hierarchyOf(bpf.Network)
	runtime.LockOSThread() // whose time tells how long it waited
	defer runtime.UnlockOSThread()
	for range attempts {
		begun, ran := time.Now(), ownTime()
		r.cgroups.unread = false
		if err := r.readCPUs(dst); err != nil {
			return err
		}
		r.resetCounted()
		r.tasks.kin.beginRun()
		if err := r.counters.CPU(func(who bpf.Who, by []bpf.Spent) {
			r.spend(h, unified, &who, by)
		}); err != nil {
			r.cgroups.unread = true
			r.note("CPU time by cgroup and family", err)
		}
		if waited := time.Since(begun) - (ownTime() - ran); waited < long {
			break
		}
	}
	return nil
}

// ownTime is how long this thread has run.
func ownTime() time.Duration {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t)
	return time.Duration(t.Nano())
}

// gatherSockets adds up the bytes of open sockets by cgroup.
func (r *Reader) gatherSockets(h *hierarchy) {
	if err := r.net.sockets.Read(); err != nil {
		r.note("sockets", err)
		return
	}
	for _, x := range []struct {
		groups map[uint64]*[2]int64
		at     int
	}{{r.net.sockets.Groups, netReceived}, {r.net.sockets.Local, netLocalReceived}} {
		for id, moved := range x.groups {
			if own := h.own(id); own != nil {
				own.net[x.at] += moved[0]
				own.net[x.at+1] += moved[1]
			} else if id > 1 && h.known[id] == nil {
				delete(x.groups, id)
			}
		}
	}
}

func (r *Reader) gatherDisk(dst *account.Reading, h *hierarchy) {
	var rest, own figures
	rest.devices, own.devices = dst.NoGroup, dst.KernelIO[:0]
	rest.add(&r.cgroups.noGroup)
	own.add(&r.cgroups.kernelIO)
	err := r.counters.Transfers(func(t bpf.Transfer, d bpf.Done) {
		f := r.writer(h, &t)
		switch {
		case f != nil:
		case r.countsKin() && t.Owner.Family <= bpf.KernelFamily:
			f = &own
		default:
			f = &rest
		}
		r.addTransfer(f, t, d)
	})
	dst.NoGroup, dst.KernelIO = rest.devices, own.devices
	if err != nil {
		r.note("block I/O by cgroup and family", err)
		return
	}
	dst.SplitsDisk = true
	dst.Latencies = dst.Latencies[:0]
	met := map[bpf.Slot]int{} // of drives that several ways lead to
	if err := r.counters.Latencies(func(s bpf.Slot, n uint64) {
		major, minor := r.drive(bpf.DeviceNumber(s.Device))
		if len(r.storage.ways) > 0 {
			s.Device = major<<20 | minor
			if at, there := met[s]; there {
				dst.Latencies[at].Count += int64(n)
				return
			}
			met[s] = len(dst.Latencies)
		}
		low, high := bpf.BucketBounds(s.Bucket)
		dst.Latencies = append(dst.Latencies, account.Latency{Major: major, Minor: minor, Kind: account.IOKind(s.Kind),
			LowMicros: low, HighMicros: high, Count: int64(n)})
	}); err != nil {
		r.note("latencies of devices", err)
	}
}

// writer is whose a transfer is: a workload's, by its cgroup, or a family's. Nil where it is neither's.
func (r *Reader) writer(h *hierarchy, t *bpf.Transfer) *figures {
	if own := h.own(t.Owner.Group); own != nil {
		return own
	}
	if n := r.writingKin(t); n != nil {
		n.ioIn = append(n.ioIn, *t)
		return &n.io
	}
	return nil
}

func (r *Reader) writingKin(t *bpf.Transfer) *kin {
	if t.Owner.Family <= bpf.NobodyKnown || !r.countsKin() {
		return nil
	}
	return r.tasks.kin.by[kinKey{uid: int64(t.Owner.Uid), family: t.Owner.Family}]
}

// own is where what was counted for a cgroup belongs: nil for one in no workload.
func (h *hierarchy) own(id uint64) *figures {
	g := h.find(id)
	if g == nil || g.workload == account.Unrecognised && g.outer == nil {
		return nil
	}
	if g.counted == nil {
		g.counted = &counted{}
	}
	return &g.counted.own
}

// addUp adds each directory's own figures to those around it at which a workload begins.
func (h *hierarchy) addUp() {
	for _, g := range h.order {
		if c := g.counted; c != nil {
			c.whole, c.last = c.last, c.whole
			c.whole.reset()
			c.whole.add(&c.base)
		}
	}
	for _, g := range h.order {
		if g.counted == nil {
			continue
		}
		for o := g.orOuter(); o != nil; o = o.outer {
			if o.counted == nil {
				o.counted = &counted{}
			}
			o.counted.whole.add(&g.counted.own)
		}
	}
}

// orOuter is the nearest group at or around g at which a workload begins.
func (g *group) orOuter() *group {
	if g.workload != account.Unrecognised {
		return g
	}
	return g.outer
}

// leaveCounted keeps what was counted for a cgroup that is no more with those around it.
func (r *Reader) leaveCounted(h *hierarchy, g *group) {
	r.cgroups.someLeft = true
	if g.orOuter() != nil {
		r.cgroups.departed[g.inode^h.salt] = true
	}
	if g.counted == nil {
		return
	}
	for o := g.outer; o != nil; o = o.outer {
		if o.counted == nil {
			o.counted = &counted{}
		}
		o.counted.base.add(&g.counted.own)
	}
}

// forgetCounted frees the places of cgroups that are no more. What they had was added to those around them, or is
// nobody's.
func (r *Reader) forgetCounted() {
	if !r.counts() || !r.cgroups.someLeft && r.count%r.options.RecheckEvery != 0 {
		return
	}
	r.cgroups.someLeft = false
	const root = 1
	if h := r.counting(bpf.CPU); h != nil {
		var gone []bpf.Who
		beside := r.hierarchyOf(bpf.Network) // beside version 1, places are by the version 2 cgroup too
		_ = r.counters.CPU(func(who bpf.Who, by []bpf.Spent) {
			switch id := h.idOf(&who, r.cgroups.v2); {
			case id > root && h.find(id) == nil:
			case !r.cgroups.v2 && beside != nil && who.V2 > root && beside.find(who.V2) == nil:
				if g := h.find(id); g != nil && g.counted != nil {
					g.counted.base.spend(by) // what ran in it was this one's
					gone = append(gone, who)
					return
				}
			default:
				return
			}
			gone = append(gone, who)
			if !r.cgroups.departed[h.idOf(&who, r.cgroups.v2)^h.salt] &&
				(beside == nil || !r.cgroups.departed[who.V2^beside.salt]) {
				r.tasks.kin.keep(&who, by)
			}
		})
		r.counters.ForgetCPU(gone)
	}
	if h := r.counting(bpf.Network); h != nil {
		var gone []bpf.Flow
		_ = r.counters.Flows(func(f bpf.Flow, _ bpf.Moved) {
			if f.Group > root && h.find(f.Group) == nil {
				gone = append(gone, f)
			}
		})
		r.counters.ForgetFlows(gone)
	}
	if h := r.counting(bpf.Disk); h != nil {
		var gone []bpf.Transfer
		_ = r.counters.Transfers(func(t bpf.Transfer, d bpf.Done) {
			of := t.Owner.Group
			over := of <= root && t.Owner.Family > bpf.NobodyKnown && r.writingKin(&t) == nil // of a family
			if !over && (of <= root || h.find(of) != nil) {
				return
			}
			gone = append(gone, t)
			switch {
			case r.cgroups.departed[of^h.salt]:
			case r.countsKin() && t.Owner.Family <= bpf.KernelFamily:
				r.addTransfer(&r.cgroups.kernelIO, t, d)
			default:
				r.addTransfer(&r.cgroups.noGroup, t, d)
			}
		})
		r.counters.ForgetTransfers(gone)
	}
	clear(r.cgroups.departed)
}

// addTransfer adds what was moved on a device, and on the partition of it that was addressed.
func (r *Reader) addTransfer(f *figures, t bpf.Transfer, d bpf.Done) {
	numbers := []uint32{t.Device, t.Part}
	if t.Part == t.Device || t.Part == 0 { // a way to a drive has none
		numbers = numbers[:1]
	}
	for _, number := range numbers {
		io := f.device(r.drive(bpf.DeviceNumber(number)))
		switch account.IOKind(t.Kind) {
		case account.IODiscard:
			io.Discarded, io.Discards = io.Discarded+int64(d.Bytes), io.Discards+int64(d.Operations)
		case account.IOWrite:
			io.Written, io.WriteOps, io.WriteNanos = io.Written+int64(d.Bytes), io.WriteOps+int64(d.Operations),
				io.WriteNanos+int64(d.Nanoseconds)
		default:
			io.Read, io.ReadOps, io.ReadNanos = io.Read+int64(d.Bytes), io.ReadOps+int64(d.Operations),
				io.ReadNanos+int64(d.Nanoseconds)
		}
	}
}

func (h *hierarchy) idOf(who *bpf.Who, v2 bool) uint64 {
	if v2 {
		return who.V2
	}
	return who.Cpuacct
}

// addCounted puts what the kernel counted for a group into the reading.
func (r *Reader) addCounted(h *hierarchy, g *group, a *account.Group) {
	var none figures
	w := &none
	if g.counted != nil {
		w = &g.counted.whole
	}
	if h == r.counting(bpf.CPU) && r.cgroups.v2 {
		for _, nanos := range w.perCPU {
			a.PerCPU = append(a.PerCPU, nanos/1000)
		}
		a.Has, a.Own = a.Has|account.HasPerCPU, a.Own|account.HasPerCPU
	}
	r.putCounted(h, g, a, w)
}

// putCounted puts what the kernel counted for a group beside its CPU time into the reading.
func (r *Reader) putCounted(h *hierarchy, g *group, a *account.Group, w *figures) {
	f := &a.Figures
	if h == r.counting(bpf.CPU) {
		f.Put(amount.CPUWait, w.waited/1000, amount.Counted)
	}
	if r.registry.Workload(g.workload).Kind == amount.VM {
		// What a machine sends passes no socket of its process but a tap.
	} else if h == r.counting(bpf.Network) {
		a.NetworkBytes, a.Has = w.net[netReceived]+w.net[netSent], a.Has|account.HasNetwork
		a.Own |= account.HasNetwork
		for i, m := range []amount.Measure{amount.NetworkReceived, amount.NetworkSent, amount.NetworkPacketsReceived,
			amount.NetworkPacketsSent,
			amount.NetworkLocalReceived, amount.NetworkLocalSent} {
			f.Put(m, w.net[i], amount.Counted)
		}
	} else if r.net.sockets.Missing() == "" && h == r.hierarchyOf(bpf.Network) {
		a.NetworkBytes, a.Has, a.Added = w.net[netReceived]+w.net[netSent], a.Has|account.HasNetwork,
			a.Added|account.HasNetwork
		a.Own |= account.HasNetwork
		f.Put(amount.NetworkReceived, w.net[netReceived], amount.Summed)
		f.Put(amount.NetworkSent, w.net[netSent], amount.Summed)
		f.Put(amount.NetworkLocalReceived, w.net[netLocalReceived], amount.Summed)
		f.Put(amount.NetworkLocalSent, w.net[netLocalSent], amount.Summed)
	}
	if h == r.counting(bpf.Disk) {
		a.Devices = append(a.Devices[:0], w.devices...)
		a.DiskBytes, a.Has = r.wholeBytes(a.Devices), a.Has|account.HasDisk
		a.Own |= account.HasDisk
	}
}

// wholeBytes is what was moved on devices whose bytes do not count on another too.
func (r *Reader) wholeBytes(devices []account.DeviceIO) (sum int64) {
	for _, d := range devices {
		if r.isDiskNumber(d.Major, d.Minor) {
			sum += d.Read + d.Written
		}
	}
	return sum
}

// readRan reads how long tasks ran on each CPU, close to the host's own count of the same.
func (r *Reader) readRan(dst *account.Reading) {
	dst.RanMicros, dst.IdleTaskMicros = dst.RanMicros[:0], dst.IdleTaskMicros[:0]
	if !r.counters.Has(bpf.CPU) {
		return
	}
	if err := r.counters.Settle(); err != nil {
		r.cgroups.unread = true
		r.note("time on each CPU", err)
		return
	}
	totals, err := r.counters.Totals()
	if err != nil {
		r.cgroups.unread = true
		r.note("time on each CPU", err)
		return
	}
	r.cgroups.unplaced = r.cgroups.unplaced || totals.Unplaced != r.tasks.unplaced
	r.tasks.lostEnds = totals.LostEnds
	dst.Caveats[account.TimeUnplaced] += int64(totals.Unplaced-r.tasks.unplaced) / int64(time.Microsecond)
	r.tasks.unplaced = totals.Unplaced
	for _, c := range dst.CPUs {
		if c.CPU >= min(len(totals.Ran), len(totals.IdleTask)) {
			dst.RanMicros, dst.IdleTaskMicros = dst.RanMicros[:0], dst.IdleTaskMicros[:0]
			return
		}
		dst.RanMicros = append(dst.RanMicros, int64(totals.Ran[c.CPU])/int64(time.Microsecond))
		dst.IdleTaskMicros = append(dst.IdleTaskMicros, int64(totals.IdleTask[c.CPU])/int64(time.Microsecond))
	}
}
