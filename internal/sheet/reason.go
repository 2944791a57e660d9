package sheet

import "vinescale/core/amount"

// Reason says why a workload's usage of a resource is unavailable.
func Reason(r amount.Resource) string {
	switch r {
	case amount.Network:
		return "the host's network counters do not tell apart what shares them"
	case amount.Disk:
		return "the counters of its processes may not be read: run the collector with more rights"
	default:
		return "neither its cgroup nor its processes could be read"
	}
}
