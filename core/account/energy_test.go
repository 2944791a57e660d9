package account_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// TestEnergy_IsSplitByTheTimeInWhichTheHostWorked has two CPUs for ten seconds: idle for 5, taken by a hypervisor for
// 3. Of the 12 in which the host worked one workload had 6, of which two programs had 4 and 1; 120 J were drawn.
func TestEnergy_IsSplitByTheTimeInWhichTheHostWorked(t *testing.T) {
	const second, joule = 1_000_000, 1_000_000
	reading := func(at time.Duration, joules, press, sort, group, idle, steal int64) *account.Reading {
		return &account.Reading{Boot: "b", Wall: epoch.Add(at), Mono: at, Uptime: time.Hour + at,
			CPUs: []account.CPUTimes{{CPU: 0, Idle: idle * second, Steal: steal * second}, {CPU: 1}},
			Groups: []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasCPU,
				CPUMicros: group * second}},
			Processes: []account.Process{
				{PID: 5, Start: 1, Workload: 0, Program: 3, Threads: 1, CPUMicros: press * second, DiskBytes: -1},
				{PID: 6, Start: 1, Workload: 0, Program: 4, Threads: 1, CPUMicros: sort * second, DiskBytes: -1}},
			Meters: []account.Meter{{Name: "psys", Whole: true, MicroJoules: joules * joule}}}
	}
	var tracker account.Tracker
	_, err := tracker.Step(reading(0, 500, 1, 1, 10, 0, 0))
	require.ErrorIs(t, err, account.ErrFirstReading)
	iv, err := tracker.Step(reading(10*time.Second, 620, 5, 2, 16, 5, 3))
	require.NoError(t, err)
	l := iv.Ledgers[amount.Energy]
	assert.Equal(t, []int64{120 * joule, 60 * joule, 60 * joule}, []int64{l.Used.Units, l.Shares, l.Residual.Units})
	require.Len(t, iv.Usages, 1)
	u := &iv.Usages[0]
	assert.EqualValues(t, 6*joule, u.Peak[amount.Energy], "microwatts in the mean of the tick")
	parts := map[int32]int64{}
	for _, p := range u.Programs {
		parts[p.Program] = p.Units[amount.Energy]
	}
	assert.Equal(t, map[int32]int64{3: 40 * joule, 4: 10 * joule, account.NoProgram: 10 * joule}, parts)

	// A workload that ran nothing has no part, and neither have its programs.
	iv, err = tracker.Step(reading(20*time.Second, 630, 5, 2, 16, 25, 3))
	require.NoError(t, err)
	assert.Zero(t, iv.Usages[0].Units[amount.Energy])
	assert.EqualValues(t, 10*joule, iv.Ledgers[amount.Energy].Residual.Units)
}

// TestEnergy_IsAllSharedOutWhereMoreWasCharged has 4 s of work by the host's own count, 5 of a workload's and 2 of a
// kernel thread's: nobody has more than their part of what was drawn.
func TestEnergy_IsAllSharedOutWhereMoreWasCharged(t *testing.T) {
	reading := func(at time.Duration, joules, group, kernel, idle int64) *account.Reading {
		return &account.Reading{Boot: "b", Wall: epoch.Add(at), Mono: at, Uptime: time.Hour + at,
			CPUs: []account.CPUTimes{{CPU: 0, Idle: idle * 1e6}, {CPU: 1}},
			Groups: []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasCPU,
				CPUMicros: group * 1e6}},
			Processes: []account.Process{{PID: 2, Start: 1, Workload: account.Unrecognised, Kernel: true,
				CPUMicros: kernel * 1e6}},
			Meters: []account.Meter{{Name: "psys", Whole: true, MicroJoules: joules * 1e6}}}
	}
	var tracker account.Tracker
	_, _ = tracker.Step(reading(0, 0, 0, 0, 0))
	iv, err := tracker.Step(reading(10*time.Second, 70, 5, 2, 16))
	require.NoError(t, err)
	l := iv.Ledgers[amount.Energy]
	assert.Equal(t, []int64{50e6, 20e6, 0}, []int64{l.Shares, l.Kernel.Units, l.Residual.Units})
}
