package explain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

func TestReason(t *testing.T) {
	for _, c := range []struct {
		of   amount.Measure
		sum  question.Sum
		want string
	}{
		{amount.CPU, question.Sum{Source: amount.Counted}, ""},
		{amount.CPU, question.Sum{Source: amount.Unavailable}, explain.NoSum},
		{amount.CPU, question.Sum{Missing: 2, Untold: 2}, account.NotRead},
		{amount.CPUUser, question.Sum{Source: amount.Counted, Missing: 2, Untold: 1},
			"its host does not count this for it"},
		{amount.Network, question.Sum{Missing: 1}, amount.Network.Entry().NeverOf},
	} {
		require.Equal(t, c.want, explain.Reason(c.of, &c.sum), "%s %+v", c.of, c.sum)
	}
}

func TestNoSpace(t *testing.T) {
	require.Contains(t, explain.NoSpace(amount.Container), "writable layer")
	require.Contains(t, explain.NoSpace(amount.VM), "open for writing")
	require.Contains(t, explain.NoSpace(amount.Service), "shares with others")
}

// TestGathering_CountsByDevice: one host's counting says nothing of another's.
func TestGathering_CountsByDevice(t *testing.T) {
	g := explain.NewGathering()
	g.Add(&explain.Minute{Host: 2, ElapsedMillis: 1, Workloads: []int64{7}, Tenants: []int32{0},
		Devices: []explain.DeviceRow{{Row: 0, DeviceUse: account.DeviceUse{Device: 1, Read: 1}}}})
	require.True(t, g.CountsByDevice(2))
	require.False(t, g.CountsByDevice(1))
}

// TestColumn_MayHaveOneSourceForAll: a column whose figures all have one source tells it once.
func TestColumn_MayHaveOneSourceForAll(t *testing.T) {
	one := explain.Column{Rows: []uint32{0, 1, 2}, Sources: []uint32{uint32(amount.Split)}}
	each := explain.Column{Rows: []uint32{0, 1}, Sources: []uint32{uint32(amount.Counted), uint32(amount.Summed)}}
	require.Equal(t, []amount.Source{amount.Split, amount.Split, amount.Counted, amount.Summed},
		[]amount.Source{one.Source(0), one.Source(2), each.Source(0), each.Source(1)})
}

func TestMinute_TellsWhoARowStandsFor(t *testing.T) {
	m := explain.Minute{Workloads: []int64{7, 0}, Tenants: []int32{3, 0}}
	user, seen := m.User(0)
	require.True(t, seen)
	require.Equal(t, explain.User{Workload: 7, Tenant: 3}, user)
	for _, row := range []uint32{1, 2, 3} {
		_, seen = m.User(row)
		require.False(t, seen, "row %d is hidden, or not there", row)
	}
}

func TestFamilies_ListAtMostSoManyMembersAndCountAll(t *testing.T) {
	processes := []explain.Running{{PID: 1000, Parent: 1, Threads: 1, MemoryBytes: 5}}
	for i := range int32(250) {
		processes = append(processes, explain.Running{PID: i + 2, Parent: 1000, Threads: 2, MemoryBytes: 3})
	}
	families := explain.Families(processes, time.Second)
	require.Len(t, families, 1)
	f := families[0]
	require.Equal(t, []int{251, 501, 200}, []int{f.Processes, f.Threads, len(f.Members)})
	require.InDelta(t, 755, f.MemoryBytes, 0)
}
