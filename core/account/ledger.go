package account

import (
	"fmt"
	"math/bits"
	"strings"

	"vinescale/core/amount"
)

// Line is one line of a ledger in account units, or the reason why it cannot be had.
type Line struct {
	Units  int64
	Reason string // why not available; "" when Units is a figure. Units is then 0, so that sums need no special case
}

// OK tells whether the line is a figure.
func (l Line) OK() bool { return l.Reason == "" }

func unavailable(format string, a ...any) Line { return Line{Reason: fmt.Sprintf(format, a...)} }

// add sums two lines; a sum with an unavailable part is unavailable.
func (l Line) add(m Line) Line {
	switch {
	case !l.OK():
		return l
	case !m.OK():
		return m
	}
	return Line{Units: l.Units + m.Units}
}

// Ledger is one resource of one host over one interval, in account units.
//
// Invariants, an unavailable line counting as zero:
//
//	Used     = Shares + Kernel + Steal + Residual
//	Capacity = Used + Idle, where Capacity is available
//
// Residual is signed: it is negative where shares were counted more finely than the host's own total. Idle is signed
// too: the kernel counts it in ticks of 10 ms, and a declared rate can be exceeded. Neither is clamped, so that
// intervals add up exactly however they are cut.
//
// The kernel counts some time twice: what is taken by the hypervisor while a CPU is being woken is both idle and steal,
// and without precise interrupt accounting what an interrupt took is the interrupted task's too. Where the time that
// tasks ran is counted CPU by CPU, that excess is known, and is taken off steal, then off interrupts. Where it is not,
// the residual is negative by up to that much.
type Ledger struct {
	Capacity Line // what there was to use
	Used     Line // in use by the host's own count, whoever used it
	Idle     Line
	Kernel   Line  // used by the kernel on nobody's account
	Steal    Line  // taken by the hypervisor; CPU only
	Shares   int64 // sum over the workloads
	Residual Line  // in use, charged to nobody
}

// Add sums two ledgers of one resource.
func (l Ledger) Add(m Ledger) Ledger {
	sum := Ledger{
		Capacity: l.Capacity.add(m.Capacity), Used: l.Used.add(m.Used), Idle: l.Idle.add(m.Idle),
		Kernel: l.Kernel.add(m.Kernel), Steal: l.Steal.add(m.Steal), Shares: l.Shares + m.Shares,
	}
	sum.close()
	return sum
}

// close works out the residual from the other lines, which makes the ledger balance.
func (l *Ledger) close() {
	if !l.Used.OK() {
		l.Residual = Line{Reason: l.Used.Reason}
		return
	}
	l.Residual = Line{Units: l.Used.Units - l.Shares - l.Kernel.Units - l.Steal.Units}
}

// balance fills the interval's ledgers and details from the host's own counters.
func (iv *Interval) balance(prev, now *Reading, s *scratch) {
	iv.Detail = details(prev, now)
	iv.Detail.GPUs = s.gpu.totals
	iv.Detail.Peaks = partPeaks(&iv.Detail, iv.ElapsedMillis)
	for c, n := range s.gpu.caveats {
		iv.Detail.Caveats[c] += n
	}
	for r := range iv.Ledgers {
		iv.Ledgers[r] = NoLedger(NotRead)
	}
	iv.Ledgers[amount.CPU] = cpuLedger(iv, s, s.correct(iv))
	iv.Ledgers[amount.Memory] = memoryLedger(iv, now)
	iv.Ledgers[amount.Disk] = diskLedger(iv, prev, now, s)
	iv.Ledgers[amount.Network] = networkLedger(iv, prev, now)
	iv.Ledgers[amount.GPU], iv.Ledgers[amount.GPUMemory] = s.gpu.ledgers(now)
	iv.Ledgers[amount.Energy] = iv.splitEnergy(prev, now, &s.gpu)
	for r := range iv.Ledgers {
		l := &iv.Ledgers[r]
		if why := now.Unavailable[r]; why != "" {
			l.Capacity, l.Used, l.Idle = Line{Reason: why}, Line{Reason: why}, Line{Reason: why}
		}
		for i := range iv.Usages {
			l.Shares += iv.Usages[i].Units[r]
		}
		l.close()
	}
}

// NotRead is why a host has no figures of a resource that its collector does not know.
const NotRead = "its collector does not tell"

// NoLedger is the ledger of a resource of which nothing is known, for a reason.
func NoLedger(why string) Ledger {
	no := Line{Reason: why}
	return Ledger{Capacity: no, Used: no, Idle: no, Kernel: no, Steal: no, Residual: no}
}

const noSteal = "only CPU time can be taken by a hypervisor"

// How much is carried from an interval to the next at most, in microseconds. Time that seems to be missing is a matter
// of rounding to 10 ms, so little of it is carried. Time beyond what there was can be much more: on a CPU that the
// hypervisor takes away, steal may be told long before, or after, the same time is missing in another counter.
const (
	mostMissing = 20_000
	mostBeyond  = 1_000_000
)

// corrections are by how much the kernel's own counters of CPU time are wrong in one interval, in microseconds.
type corrections struct {
	// Time that the counters of steal and of interrupts hold although another counter holds it as well; it is
	// subtracted from them. A negative value returns time that an earlier interval subtracted by mistake.
	steal, interrupts int64
	// Time that no counter holds, and that the kernel spent while no task was running. It is added to the kernel's
	// line.
	between int64
}

// correct compares, for each CPU, the kernel's counters with the time that passed. It can do so only where the time
// that tasks ran on each CPU is counted: idle, interrupts, steal and tasks must then add up to the length of the
// interval.
//
// If they add up to more, some time was counted twice, and the excess is subtracted from steal first, then from
// interrupts. Steal may also be told one interval early. Then the next interval seems to lack as much, and what was
// subtracted is returned there.
//
// If they add up to less, the kernel may have spent the rest while no task was running: interrupts that arrive then are
// sampled by the tick and seldom seen, and entering and leaving idle is not idle time. How much of that there can be is
// known, for it is the time that the idle task was running and the CPU was not idle. Only so much is given to the
// kernel. The time of tasks that nobody was charged with is therefore never hidden in it; it stays in the residual.
//
// All counters are rounded to ticks of 10 ms, so a small rest of each interval is carried into the next.
func (s *scratch) correct(iv *Interval) (sum corrections) {
	if len(iv.Detail.RanMicros) != len(iv.Detail.CPUs) {
		return sum
	}
	if s.carried == nil {
		s.carried = map[int]carry{}
	}
	idleTask := s.idleTask()
	for i, c := range iv.Detail.CPUs {
		ran, idle := iv.Detail.RanMicros[i], c.Idle+c.IOWait
		if idle == 0 && ran == 0 {
			continue // it was not online
		}
		was := s.carried[c.CPU]
		excess := was.excess + idle + c.IRQ + c.SoftIRQ + c.Steal + ran - iv.ElapsedMillis*1000
		steal := min(max(excess, -was.steal), c.Steal)
		interrupts := min(max(excess-steal, -was.interrupts), c.IRQ+c.SoftIRQ)
		excess -= steal + interrupts
		now := carry{steal: max(steal, 0), interrupts: max(interrupts, 0)}
		if paused, known := idleTask[c.CPU]; known {
			awake := was.awake + paused - idle
			part := min(max(-excess, 0), max(awake, 0))
			excess += part
			sum.between += part
			now.awake = min(max(awake-part, -mostMissing), mostMissing)
		}
		now.excess = min(max(excess, -mostMissing), mostBeyond)
		s.carried[c.CPU] = now
		sum.steal += steal
		sum.interrupts += interrupts
	}
	return sum
}

// carry is what is left of one interval for the next, of one CPU, in microseconds.
type carry struct {
	excess            int64 // counted beyond the time there was
	steal, interrupts int64 // taken off them
	awake             int64 // the idle task was there and not idle
}

// idleTask is how long the idle task was on each CPU that was there at both readings.
func (s *scratch) idleTask() map[int]int64 {
	if len(s.now.IdleTaskMicros) != len(s.now.CPUs) || len(s.prev.IdleTaskMicros) != len(s.prev.CPUs) {
		return nil
	}
	grew := make(map[int]int64, len(s.now.CPUs))
	for i, c := range s.now.CPUs {
		for j, p := range s.prev.CPUs {
			if p.CPU == c.CPU {
				grew[c.CPU] = grown(s.prev.IdleTaskMicros[j], s.now.IdleTaskMicros[i])
			}
		}
	}
	return grew
}

func cpuLedger(iv *Interval, s *scratch, wrong corrections) Ledger {
	var idle, steal, interrupts int64
	for _, c := range iv.Detail.CPUs {
		idle += c.Idle + c.IOWait
		steal += c.Steal
		interrupts += c.IRQ + c.SoftIRQ
	}
	steal -= wrong.steal
	interrupts -= wrong.interrupts
	capacity := iv.ElapsedMillis * 1000 * int64(len(iv.Detail.CPUs))
	return Ledger{
		Capacity: Line{Units: capacity}, Idle: Line{Units: idle}, Used: Line{Units: capacity - idle},
		Kernel: Line{Units: interrupts + s.kernelCPU + wrong.between}, Steal: Line{Units: steal},
	}
}

// memoryLedger counts as the kernel's what is charged to no workload: its own structures and page cache.
func memoryLedger(iv *Interval, now *Reading) Ledger {
	m, ms := &now.Memory, iv.ElapsedMillis
	own := max((m.Slab+m.KernelStack+m.PageTable)*ms-iv.chargedKernel, 0)
	cache := max((m.Buffers+m.Cached+m.SwapCached)*ms-iv.chargedFile, 0)
	huge := m.HugePages * ms
	iv.Detail.MemoryOwn, iv.Detail.MemoryCache, iv.Detail.MemoryHuge = own, cache, huge
	return Ledger{
		Capacity: Line{Units: m.Total * ms}, Idle: Line{Units: m.Free * ms}, Used: Line{Units: (m.Total - m.Free) * ms},
		Kernel: Line{Units: own + cache + huge}, Steal: unavailable(noSteal),
	}
}

func diskLedger(iv *Interval, prev, now *Reading, s *scratch) Ledger {
	var used, capacity int64
	var undeclared []string
	disks := 0
	for _, d := range now.Disks {
		if d.Inner {
			continue
		}
		disks++
		for _, p := range prev.Disks {
			if p.Name == d.Name {
				used += grown(p.ReadBytes, d.ReadBytes) + grown(p.WrittenBytes, d.WrittenBytes)
			}
		}
		if d.RateBytesPerSecond == 0 {
			undeclared = append(undeclared, d.Name)
		}
		capacity += d.RateBytesPerSecond * iv.ElapsedMillis / 1000
	}
	l := Ledger{Used: Line{Units: used}, Kernel: Line{Units: s.kernelIO}, Steal: unavailable(noSteal)}
	if s.hiddenIO > 0 && !now.SplitsDisk {
		l.Kernel = unavailable("the storage counters of kernel threads may not be read without more rights")
	}
	switch {
	case disks == 0:
		l.Capacity, l.Used, l.Kernel = unavailable("this host has no disk"), unavailable("this host has no disk"),
			Line{}
	case len(undeclared) > 0:
		l.Capacity = unavailable("the kernel does not say what a disk can carry, and no rate is declared for %s",
			strings.Join(undeclared, ", "))
	default:
		l.setCapacity(capacity)
		return l
	}
	l.Idle = l.Capacity
	return l
}

func networkLedger(iv *Interval, prev, now *Reading) Ledger {
	var used, capacity int64
	var unknown []string
	interfaces := 0
	for _, n := range now.Interfaces {
		if n.Inner {
			continue
		}
		interfaces++
		for _, p := range prev.Interfaces {
			if p.Name == n.Name {
				used += grown(p.Received, n.Received) + grown(p.Sent, n.Sent)
			}
		}
		if n.SpeedBitPerSecond == 0 {
			unknown = append(unknown, n.Name)
		}
		capacity += 2 * n.SpeedBitPerSecond / 8 * iv.ElapsedMillis / 1000 // both directions at once
	}
	l := Ledger{Used: Line{Units: used}, Kernel: unavailable("the kernel's own traffic is not counted apart"),
		Steal: unavailable(noSteal)}
	switch {
	case interfaces == 0:
		l.Capacity = unavailable("no interface leads off this host")
		l.Used = l.Capacity
	case len(unknown) > 0:
		l.Capacity = unavailable("the driver of %s does not tell its line rate", strings.Join(unknown, ", "))
	default:
		l.setCapacity(capacity)
		return l
	}
	l.Idle = l.Capacity
	return l
}

// setCapacity states a declared capacity. Where more moved than was declared, idle is negative and says by how much.
func (l *Ledger) setCapacity(units int64) {
	l.Capacity, l.Idle = Line{Units: units}, Line{Units: units - l.Used.Units}
}

// mulDiv is a*b/c for non-negative numbers whose product may exceed 64 bits; the result fits because b <= c.
func mulDiv(a, b, c int64) int64 {
	hi, lo := bits.Mul64(uint64(a), uint64(b))
	q, _ := bits.Div64(hi, lo, uint64(c))
	return int64(q)
}
