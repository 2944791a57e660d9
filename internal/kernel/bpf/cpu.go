package bpf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
	"golang.org/x/sys/unix"
)

// Ended is a task that has ended: nanoseconds on the boot clock (Start) and of CPU time, bytes to and from storage.
type Ended = cpuEnded

// Spent is CPU time in nanoseconds. User and System are sampled by ticks: their proportion is what they are good for.
type Spent = cpuSpent

// Who is whose CPU time was spent: a cgroup by number, in version 2 and in the hierarchy of cpuacct, which are the same
// without the latter; the real user; and the family, which PID and Start of FamilyHead tell.
type Who = cpuWho

// beginningKey stands among adopted processes while the tasks are looked through for the first time.
const beginningKey = -1

// KernelFamily is that of the kernel's own threads.
const KernelFamily = 1

// FamilyHead is the process at the head of a family, with when it began, in ticks of 10 ms on the boot clock.
func FamilyHead(family uint64) (pid int32, start int64) {
	return int32(family >> 42), int64(family & (1<<42 - 1))
}

// FamilyOf is the family that a process is at the head of.
func FamilyOf(pid int32, start int64) uint64 { return uint64(pid)<<42 | uint64(start)&(1<<42-1) }

func (c *Counters) openCPU(Options) error {
	spec, err := loadCpu()
	if err != nil {
		return err
	}
	var now, tick unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &now); err != nil {
		return err
	}
	if err := unix.ClockGetres(unix.CLOCK_MONOTONIC_COARSE, &tick); err != nil { // which is as fine as ticks are
		return err
	}
	for name, value := range map[string]any{"attached_ns": uint64(now.Nano()), "tick_ns": uint64(tick.Nano())} {
		if err := spec.Variables[name].Set(value); err != nil {
			return err
		}
	}
	spec.Maps["ran_elsewhere"].MaxEntries = uint32(c.cpus)
	if err := spec.LoadAndAssign(&c.cpu, c.loading); err != nil {
		return err
	}
	c.keep(&c.cpu)
	for _, x := range []struct {
		to      string
		program *ebpf.Program
	}{{"births", c.cpu.OnBirth}, {"moves between cgroups", c.cpu.OnMove}, {"programs begun", c.cpu.OnProgram},
		{"ticks", c.cpu.OnTick}, {"the scheduler's switches", c.cpu.OnSwitch}} {
		l, err := link.AttachTracing(link.TracingOptions{Program: x.program})
		if err != nil {
			return fmt.Errorf("attach to %s: %w", x.to, err)
		}
		c.keep(l)
	}
	review, err := link.AttachIter(link.IterOptions{Program: c.cpu.OnReview})
	if err != nil {
		return fmt.Errorf("attach the review of tasks: %w", err)
	}
	c.keep(review)
	c.review = review
	beginning, is := int32(beginningKey), uint64(1)
	if err := c.cpu.Adopted.Put(&beginning, &is); err != nil {
		return fmt.Errorf("begin to look through the tasks: %w", err)
	}
	err = c.lookThrough()
	_ = c.cpu.Adopted.Delete(&beginning)
	if err != nil {
		return err
	}
	if c.ended, err = openRing(c.cpu.EndedTasks); err != nil {
		return err
	}
	c.keep(c.ended)
	return c.Settle() // so that what runs now is known from here on
}

// lookThrough has the kernel look at every task.
func (c *Counters) lookThrough() error {
	f, err := c.review.Open()
	if err != nil {
		return fmt.Errorf("look through the tasks: %w", err)
	}
	defer f.Close()
	if _, err = io.Copy(io.Discard, f); err != nil {
		return fmt.Errorf("look through the tasks: %w", err)
	}
	return nil
}

// Adopt makes processes, with all their threads, of another family from now on.
func (c *Counters) Adopt(families map[int32]uint64) error {
	for pid, family := range families {
		if err := c.cpu.Adopted.Put(&pid, &family); err != nil {
			return fmt.Errorf("tell of the family of process %d: %w", pid, err)
		}
	}
	err := c.lookThrough()
	for pid := range families {
		_ = c.cpu.Adopted.Delete(&pid)
	}
	return err
}

// Settle charges the tasks that are on a CPU now, and puts down what is gathered there: about 10 µs for each CPU.
// Without it, what runs long is charged when it next leaves its CPU, and what its cgroup spent there is told when
// another's turn comes.
func (c *Counters) Settle() error {
	for cpu := range c.cpus {
		_, err := c.cpu.Settle.Run(&ebpf.RunOptions{Context: make([]byte, 32), Flags: unix.BPF_F_TEST_RUN_ON_CPU,
			CPU: uint32(cpu)})
		if err != nil && !errors.Is(err, unix.ENXIO) { // a CPU that is not online
			return fmt.Errorf("settle CPU %d: %w", cpu, err)
		}
	}
	return nil
}

// CPU visits whose CPU time was spent, by CPU, since Open or since they were forgotten, as it was last settled.
func (c *Counters) CPU(visit func(Who, []Spent)) error {
	var afar map[Who]map[uint64]Spent // by CPU, of what was counted on another
	if err := c.elsewhere.each(c.cpu.Elsewhere, 1, func(p cpuPlace, s []Spent) {
		if afar == nil {
			afar = map[Who]map[uint64]Spent{}
		}
		if afar[p.Who] == nil {
			afar[p.Who] = map[uint64]Spent{}
		}
		afar[p.Who][p.Cpu] = s[0]
	}); err != nil {
		return err
	}
	with := func(who Who, by []Spent) {
		for cpu, s := range afar[who] {
			x := &by[cpu]
			x.Run, x.User, x.System, x.Waited = x.Run+s.Run, x.User+s.User, x.System+s.System, x.Waited+s.Waited
		}
		delete(afar, who)
		visit(who, by)
	}
	if err := c.spent.each(c.cpu.ByWho, c.cpus, with); err != nil {
		return err
	}
	for who := range afar { // all of it was counted elsewhere
		with(who, make([]Spent, c.cpus))
	}
	return nil
}

// CPUTotals are counts by CPU since Open, in nanoseconds.
type CPUTotals struct {
	Ran      []uint64 // by tasks, on the scheduler's clock
	IdleTask []uint64 // the idle task was there: idle, or in an interrupt, or on its way in or out
	LostEnds uint64   // records of ended tasks that found no room, of all CPUs
	Unplaced uint64   // of Ran, of all CPUs: for it there was no room to say whose it was
}

// Totals reads the counts by CPU.
func (c *Counters) Totals() (t CPUTotals, err error) {
	var heres []cpuHere
	if err = c.cpu.Heres.Lookup(uint32(0), &heres); err != nil {
		return t, err
	}
	for i := range heres {
		t.Ran = append(t.Ran, heres[i].Ran)
		t.IdleTask = append(t.IdleTask, heres[i].IdleTask)
		t.LostEnds += heres[i].Lost
		t.Unplaced += heres[i].Unplaced
	}
	return t, c.afar.each(c.cpu.RanElsewhere, 1, func(cpu uint32, ran []uint64) { t.Ran[cpu] += ran[0] })
}

// ForgetCPU drops who is no more, whose places others may need.
func (c *Counters) ForgetCPU(gone []Who) {
	if len(gone) == 0 {
		return
	}
	for _, w := range gone {
		_ = c.cpu.ByWho.Delete(&w) // not there: as wanted
	}
	var places []cpuPlace
	_ = c.elsewhere.each(c.cpu.Elsewhere, 1, func(p cpuPlace, _ []Spent) {
		if slices.Contains(gone, p.Who) {
			places = append(places, p)
		}
	})
	for _, p := range places {
		_ = c.cpu.Elsewhere.Delete(&p)
	}
}

// Ended visits the tasks that ended since the last call, in the order they did.
func (c *Counters) Ended(visit func(*Ended)) error {
	var e Ended
	return c.ended.each(func(b []byte) {
		if decodeEnded(b, &e) {
			visit(&e)
		}
	})
}

// endedSize is the length of a record: the C struct ended of cpu.bpf.c.
const endedSize = 128

// decodeEnded reads a record of the ring. False for one that is too short.
func decodeEnded(b []byte, e *Ended) bool {
	if len(b) < endedSize {
		return false
	}
	_, err := binary.Decode(b, binary.NativeEndian, e)
	return err == nil
}
