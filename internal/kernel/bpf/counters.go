package bpf

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"runtime"
	"runtime/debug"
	"slices"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
	"github.com/cilium/ebpf/link"
	"github.com/cilium/ebpf/rlimit"
)

// Feature is one thing that the kernel can be asked to count.
type Feature uint8

// The features.
const (
	CPU     Feature = iota // CPU time by cgroup and CPU, and a record of each task that ended
	Tasks                  // all tasks in one reading
	Network                // bytes and packets by cgroup, interface and direction
	Disk                   // block I/O by cgroup, device and direction
	Groups                 // a record of each cgroup that was made
	NumFeatures
)

var featureNames = [NumFeatures]string{"cpu", "tasks", "network", "disk", "groups"}

func (f Feature) String() string { return featureNames[f] }

// ErrOff says that a feature was not asked for.
var ErrOff = errors.New("not asked for")

// Options for Open.
type Options struct {
	// CgroupV2 is the mount of the version 2 hierarchy, whose root counts the network. "" where there is none.
	CgroupV2 string
	// Off leaves features out.
	Off []Feature
}

// Counters are the programs that could be loaded. Close unloads them. They are not safe for use from several
// goroutines.
type Counters struct {
	missing [NumFeatures]error
	closers []io.Closer
	loading *ebpf.CollectionOptions // of all the programs, which share the kernel's types; nil once loaded
	cpus    int                     // possible CPUs: how many values a counter by CPU has

	cpu    cpuObjects
	tasks  *taskReader
	ended  *ring
	made   *ring
	groups groupsObjects
	here   map[netip.Addr]bool // addresses that were told
	review *link.Iter
	net    netObjects
	disk   diskObjects

	spent     batch[cpuWho, cpuSpent]
	elsewhere batch[cpuPlace, cpuSpent]
	afar      batch[uint32, uint64]
	flows     batch[netFlow, netMoved]
	transfers batch[diskTransfer, diskDone]
	latencies batch[diskSlot, uint64]
}

// Open loads and attaches what this kernel, and this process's rights, allow. It never fails: Missing says what is not
// there and why.
func Open(o Options) *Counters {
	c := &Counters{here: map[netip.Addr]bool{}, loading: &ebpf.CollectionOptions{Cache: btf.NewCache()}}
	var err error
	if c.cpus, err = ebpf.PossibleCPU(); err != nil {
		c.cpus = runtime.NumCPU()
	}
	_ = rlimit.RemoveMemlock() // kernels before 5.11 need it; where it fails, loading says so
	for f, open := range [NumFeatures]func(Options) error{CPU: c.openCPU, Tasks: c.openTasks, Network: c.openNetwork,
		Disk: c.openDisk, Groups: c.openGroups} {
		if slices.Contains(o.Off, Feature(f)) {
			c.missing[f] = ErrOff
		} else if err := open(o); err != nil {
			c.missing[f] = explain(err)
		}
	}
	// Loading took the types of the whole kernel, some 30 MB, which are not needed any more.
	c.loading = nil
	debug.FreeOSMemory()
	return c
}

// explain says in few words why a program could not be loaded.
func explain(err error) error {
	var rejected *ebpf.VerifierError
	switch {
	// it cannot try, so it cannot tell
	case errors.Is(err, os.ErrPermission), os.Geteuid() != 0 && errors.Is(err, ebpf.ErrNotSupported):
		return fmt.Errorf(
			"this process may not: run it as root, or with CAP_BPF and the other capabilities for tracing of " +
				"capabilities(7), for the network CAP_NET_ADMIN too")
	case errors.Is(err, ebpf.ErrNotSupported), errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("this kernel cannot (%w)", err)
	case errors.As(err, &rejected):
		return fmt.Errorf("this kernel does not take the program (%w)", err)
	}
	return err
}

// Missing is why a feature is not there; nil when it is. Of nil Counters all are missing.
func (c *Counters) Missing(f Feature) error {
	if c == nil {
		return ErrOff
	}
	return c.missing[f]
}

// Has tells whether a feature is there.
func (c *Counters) Has(f Feature) bool { return c.Missing(f) == nil }

// Close detaches and unloads everything. Nil Counters have nothing to unload.
func (c *Counters) Close() error {
	if c == nil {
		return nil
	}
	var errs []error
	for _, x := range slices.Backward(c.closers) {
		errs = append(errs, x.Close())
	}
	c.closers = nil
	return errors.Join(errs...)
}

// keep adds what Close closes, first what was made first.
func (c *Counters) keep(x io.Closer) { c.closers = append(c.closers, x) }

// batch reads all of a map with a value for each CPU, a thousand entries a call.
type batch[K comparable, V any] struct {
	keys   []K
	values []V
}

const perBatch = 1024

func (b *batch[K, V]) each(m *ebpf.Map, cpus int, visit func(K, []V)) error {
	if b.keys == nil {
		b.keys, b.values = make([]K, perBatch), make([]V, perBatch*cpus)
	}
	var cursor ebpf.MapBatchCursor
	for {
		n, err := m.BatchLookup(&cursor, b.keys, b.values, nil)
		if err != nil && !errors.Is(err, ebpf.ErrKeyNotExist) {
			return fmt.Errorf("read the map of %s: %w", m, err)
		}
		for i := range n {
			visit(b.keys[i], b.values[i*cpus:(i+1)*cpus])
		}
		if err != nil {
			return nil // past the last
		}
	}
}
