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
	for r := range iv.Ledgers {
		iv.Ledgers[r] = NoLedger(NotRead)
	}
	iv.Ledgers[amount.CPU] = cpuLedger(iv, s, s.correct(iv))
	iv.Ledgers[amount.Memory] = memoryLedger(iv, now)
	iv.Ledgers[amount.Disk] = diskLedger(iv, prev, now, s)
	iv.Ledgers[amount.Network] = networkLedger(iv, prev, now)
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

// What is carried from an interval to the next, in microseconds: time that seems to be missing, since all is read in
// steps of 10 ms; and time that was counted beyond what there was, which on a CPU that is taken away may be told long
// before, or after, it is missing elsewhere.
const (
	mostMissing = 20_000
	mostBeyond  = 1_000_000
)

// corrections are what the kernel's own counters of CPU time are wrong by, in microseconds.
type corrections struct {
	// counted twice, and to be taken off them. Less than nothing gives back what was taken off before
	steal, interrupts int64
	between           int64 // spent by the kernel when no task was there, and told by no counter
}

// correct holds the kernel's counters of each CPU to its time, where the time that tasks ran there is counted: idle,
// interrupts, steal and tasks must add up to it. What rounding made of one interval is made up for in the next.
//
// More than there was is counted twice; where steal that was told early is missing in the next interval, what was taken
// off for it is given back. Less than there was is the kernel's as far as the idle task was there longer than idle:
// interrupts that come then are sampled by ticks, seldom seen, and its way in and out is no idle time. That is counted
// by itself, so that time of tasks which nobody was charged with stays in the residual.
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
