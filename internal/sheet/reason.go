package sheet

import (
	"fmt"
	"math"
	"time"

	"vinescale/core/amount"
)

// NothingRecorded is why nothing is known of a span in which no host told anything.
const NothingRecorded = "nothing was recorded in this span"

// FirstReading says of a workload that was just seen for the first time when its usage will be known.
func FirstReading(in time.Duration) string {
	return fmt.Sprintf("first reading, usage in %d s", int(math.Ceil(max(in.Seconds(), 0))))
}

// Reason says why a workload's usage of a resource is unavailable.
func Reason(r amount.Resource) string {
	switch r {
	case amount.Network:
		return "the host's network counters do not tell apart what shares them"
	case amount.Disk:
		return "the counters of its processes may not be read: run the collector with more rights"
	default:
		return "first reading: there is no usage before a second one"
	}
}
