package bpf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
	"github.com/cilium/ebpf/ringbuf"
	"golang.org/x/sys/unix"
)

// Ended is a task that has ended: nanoseconds on the boot clock (Start) and of CPU time, bytes to and from storage.
type Ended = cpuEnded

// Spent is CPU time in nanoseconds. User and System are sampled by ticks: their proportion is what they are good for.
type Spent = cpuSpent

// GroupPair is a task's cgroup by number, in version 2 and in the hierarchy of cpuacct. They are the same without the
// latter.
type GroupPair = cpuGroups

func (c *Counters) openCPU(Options) error {
	spec, err := loadCpu()
	if err != nil {
		return err
	}
	var now unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &now); err != nil {
		return err
	}
	if err := spec.Variables["attached_ns"].Set(uint64(now.Nano())); err != nil {
		return err
	}
	if err := spec.LoadAndAssign(&c.cpu, c.loading); err != nil {
		return err
	}
	c.keep(&c.cpu)
	l, err := link.AttachTracing(link.TracingOptions{Program: c.cpu.OnSwitch})
	if err != nil {
		return fmt.Errorf("attach to the scheduler's switches: %w", err)
	}
	c.keep(l)
	if c.ended, err = openEnded(c.cpu.EndedTasks); err != nil {
		return err
	}
	c.keep(c.ended)
	return c.Settle() // so that what runs now is known from here on
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

// CPU visits the CPU time of each cgroup pair, by CPU, since Open or since the pair was forgotten, as it was last
// settled.
func (c *Counters) CPU(visit func(GroupPair, []Spent)) error {
	return c.spent.each(c.cpu.ByGroup, c.cpus, visit)
}

// CPUTotals are counts by CPU since Open, in nanoseconds.
type CPUTotals struct {
	Ran      []uint64 // by tasks, on the scheduler's clock
	IdleTask []uint64 // the idle task was there: idle, or in an interrupt, or on its way in or out
	LostEnds uint64   // records of ended tasks that found no room, of all CPUs
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
	}
	return t, nil
}

// ForgetCPU drops cgroups that are no more, whose places others may need.
func (c *Counters) ForgetCPU(gone []GroupPair) {
	for _, g := range gone {
		_ = c.cpu.ByGroup.Delete(&g) // not there: as wanted
	}
}

// Ended visits the tasks that ended since the last call, in the order they did.
func (c *Counters) Ended(visit func(*Ended)) error { return c.ended.each(visit) }

// endedReader reads the ring of records of ended tasks.
type endedReader struct {
	*ringbuf.Reader
	record ringbuf.Record
}

func openEnded(m *ebpf.Map) (*endedReader, error) {
	r, err := ringbuf.NewReader(m)
	if err != nil {
		return nil, fmt.Errorf("open the ring of ended tasks: %w", err)
	}
	r.SetDeadline(time.Unix(1, 0)) // what is there is read, nothing is waited for
	return &endedReader{Reader: r}, nil
}

func (r *endedReader) each(visit func(*Ended)) error {
	var e Ended
	for {
		switch err := r.ReadInto(&r.record); {
		case errors.Is(err, os.ErrDeadlineExceeded):
			return nil
		case err != nil:
			return fmt.Errorf("read the ring of ended tasks: %w", err)
		}
		if decodeEnded(r.record.RawSample, &e) {
			visit(&e)
		}
	}
}

// endedSize is the length of a record: the C struct ended of cpu.bpf.c.
const endedSize = 120

// decodeEnded reads a record of the ring. False for one that is too short.
func decodeEnded(b []byte, e *Ended) bool {
	if len(b) < endedSize {
		return false
	}
	_, err := binary.Decode(b, binary.NativeEndian, e)
	return err == nil
}
