package sheet

import (
	"fmt"
	"math"
	"time"
)

// FirstReading says of a workload that was just seen for the first time when its usage will be known.
func FirstReading(in time.Duration) string {
	return fmt.Sprintf("first reading, usage in %d s", int(math.Ceil(max(in.Seconds(), 0))))
}
