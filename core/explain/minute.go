package explain

import (
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Minute is what was counted beside the ledger on one host in one interval. Rows of its tables stand for workloads: the
// place of one in Workloads.
type Minute struct {
	Host          int32
	Start         time.Time
	ElapsedMillis int64
	Workloads     []int64 // by row; 0 where the workload is not the asker's to see
	Tenants       []int32 // by row: to whom its usage was accounted at the time
	Columns       []Column
	Devices       []DeviceRow
	Swapped       []SwapRow
	// Detail is the host's own. Its CPUs, load and pressure are there only where they were asked for.
	Detail account.Detail
	Ends   []int32 // by interface of Detail: the row of the workload that alone is at its other end; -1 for none
}

// Column is one measure of those workloads that have it.
type Column struct {
	Measure amount.Measure
	Rows    []uint32
	Units   []int64
	Sources []uint32 // one where all have the same
}

// Source is how the figure of the i-th row was got.
func (c *Column) Source(i int) amount.Source {
	return amount.Source(c.Sources[min(i, len(c.Sources)-1)])
}

// DeviceRow is what one workload moved on one device.
type DeviceRow struct {
	Row uint32
	account.DeviceUse
}

// SwapRow is what one workload had on one of several swaps.
type SwapRow struct {
	Row uint32
	account.SwapUse
}

// User is whose a figure is.
type User struct {
	Workload int64
	Tenant   int32
}

// User is who a row stands for; false where it is not the asker's to see.
func (m *Minute) User(row uint32) (User, bool) {
	if int(row) >= len(m.Workloads) || m.Workloads[row] == 0 {
		return User{}, false
	}
	return User{m.Workloads[row], m.Tenants[row]}, true
}
