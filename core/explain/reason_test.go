package explain_test

import (
	"testing"

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
		{amount.CPUUser, question.Sum{Source: amount.Counted, Missing: 2, Untold: 1}, "its host does not count this for it"},
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
