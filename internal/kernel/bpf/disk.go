package bpf

import (
	"fmt"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
)

// Transfer says for whom, on which device, and what: its Kind is an account.IOKind. Its owner is a cgroup, of the
// hierarchy that controls block I/O, and where the task is known its user and family.
type Transfer = diskTransfer

// NobodyKnown is the family of content of a file of which it is not known who made it dirty.
const NobodyKnown = 2

// Done is bytes and operations handed to a device, and the nanoseconds until it had done those it has.
type Done = diskDone

// Slot is a bucket of a device's histogram of latencies.
type Slot = diskSlot

// DeviceNumber takes Transfer.Device and Slot.Device apart.
func DeviceNumber(device uint32) (major, minor uint32) { return device >> 20, device & (1<<20 - 1) }

// BucketBounds are the latencies a bucket of the histogram holds, in microseconds: from low up to, not with, high.
// There are four buckets to each doubling.
func BucketBounds(bucket uint16) (low, high int64) {
	at := func(b int64) int64 {
		if b < 4 {
			return b
		}
		return (4 + b%4) << (b/4 - 1)
	}
	return at(int64(bucket)), at(int64(bucket) + 1)
}

func (c *Counters) openDisk(Options) error {
	o := *c.loading
	if c.Has(CPU) { // which knows the families
		o.MapReplacements = map[string]*ebpf.Map{"lasts": c.cpu.Lasts}
	}
	if err := loadDiskObjects(&c.disk, &o); err != nil {
		if !c.loadRequests(&o) {
			return err
		}
	}
	c.keep(&c.disk)
	for _, program := range []*ebpf.Program{c.disk.OnDirty, c.disk.OnDelete, c.disk.OnComplete, c.disk.OnIssue,
		c.disk.OnSubmit, c.disk.OnSplit, c.disk.OnRemap, c.disk.OnRqRemap} {
		if program == nil {
			continue
		}
		l, err := link.AttachTracing(link.TracingOptions{Program: program})
		if err != nil {
			return fmt.Errorf("attach to the block layer: %w", err)
		}
		c.keep(l)
	}
	return nil
}

// loadRequests loads what counts requests alone, for a kernel that does not tell who makes pages dirty: before Linux
// 5.18.
func (c *Counters) loadRequests(o *ebpf.CollectionOptions) bool {
	var requests struct {
		diskMaps
		OnIssue    *ebpf.Program `ebpf:"on_issue"`
		OnComplete *ebpf.Program `ebpf:"on_complete"`
	}
	if err := loadDiskObjects(&requests, o); err != nil {
		return false
	}
	c.disk.diskMaps = requests.diskMaps
	c.disk.diskPrograms = diskPrograms{OnIssue: requests.OnIssue, OnComplete: requests.OnComplete}
	return true
}

// Transfers visits what was done for each cgroup since Open.
func (c *Counters) Transfers(visit func(Transfer, Done)) error {
	return c.transfers.each(c.disk.Transfers, c.cpus, func(t Transfer, by []Done) {
		var sum Done
		for i := range by {
			sum.Bytes += by[i].Bytes
			sum.Operations += by[i].Operations
			sum.Nanoseconds += by[i].Nanoseconds
		}
		visit(t, sum)
	})
}

// Latencies visits how often each bucket of latency was met since Open.
func (c *Counters) Latencies(visit func(Slot, uint64)) error {
	return c.latencies.each(c.disk.Latencies, c.cpus, func(s Slot, by []uint64) {
		var sum uint64
		for _, n := range by {
			sum += n
		}
		visit(s, sum)
	})
}

// ForgetTransfers drops cgroups that are no more.
func (c *Counters) ForgetTransfers(gone []Transfer) {
	for _, t := range gone {
		_ = c.disk.Transfers.Delete(&t)
	}
}
