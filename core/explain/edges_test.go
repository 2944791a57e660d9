package explain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
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
	l := newLeaf(2, 0, time.Millisecond)
	l.Table(leaf.Who).Append(0, 0, 7, 0)
	l.Table(leaf.Devices).Append(0, 1, 0, 1, 0, 0, 0, 0, 0, 0, 0)
	g.Add(viewOf(l))
	require.True(t, g.CountByDevice()[2])
	require.False(t, g.CountByDevice()[1])
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
