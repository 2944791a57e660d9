package kernel

import (
	"net/netip"

	"vinescale/internal/kernel/bpf"
)

// Counters count in the kernel what its files do not tell: bpf.Counters, or those of a staged host. Missing says why a
// feature is not there; only what belongs to a feature that is there is asked for. What each call gives is said at
// bpf.Counters.
type Counters interface {
	Has(bpf.Feature) bool
	Missing(bpf.Feature) error

	Settle() error
	CPU(visit func(bpf.Who, []bpf.Spent)) error
	Totals() (bpf.CPUTotals, error)
	ForgetCPU(gone []bpf.Who)
	Adopt(families map[int32]uint64) error
	Ended(visit func(*bpf.Ended)) error
	Tasks() ([]bpf.Task, error)

	Made(visit func(bpf.Made)) (lost uint64, err error)

	Flows(visit func(bpf.Flow, bpf.Moved)) error
	ForgetFlows(gone []bpf.Flow)
	Here(addresses map[netip.Addr]bool) error

	Transfers(visit func(bpf.Transfer, bpf.Done)) error
	Latencies(visit func(bpf.Slot, uint64)) error
	ForgetTransfers(gone []bpf.Transfer)

	Close() error
}

// counts tells whether anything is counted in the kernel.
func (r *Reader) counts() bool {
	for f := range bpf.NumFeatures {
		if r.counters.Has(f) {
			return true
		}
	}
	return false
}
