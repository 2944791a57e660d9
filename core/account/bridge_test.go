package account_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// TestBridge_TellsTheGrowthOfWhatTheHostCountsAndNothingElse is a host of two CPUs that no collector read for a minute.
// Workload 0 has a cgroup (must), 1 a cgroup within it that was made meanwhile (press), 2 none (a user).
func TestBridge_TellsTheGrowthOfWhatTheHostCountsAndNothingElse(t *testing.T) {
	const second, tick = 1_000_000, 100 // microseconds; clock ticks in a second
	wall := time.Date(2026, 10, 5, 8, 0, 0, 0, time.UTC)
	base := &account.Reading{Boot: "b", Wall: wall, Mono: 5 * time.Hour, Uptime: 1000 * time.Second,
		CPUs: []account.CPUTimes{{CPU: 0, Idle: 100 * second}, {CPU: 1, Idle: 90 * second}},
		Groups: []account.Group{{ID: 7, Workload: 3, Outer: -1, Has: account.HasCPU | account.HasNetwork,
			Own: account.HasNetwork, CPUMicros: 40 * second, NetworkBytes: 900}},
		Processes: []account.Process{
			{PID: 10, Start: 400 * tick, CPUMicros: 3 * second, DiskBytes: 4096, ReadBytes: 4096},
			{PID: 11, Start: 500 * tick, CPUMicros: 8 * second},
		},
		Disks: []account.Disk{{Name: "vda", Major: 8, ReadBytes: 1000}},
	}
	now := &account.Reading{Boot: "b", Wall: wall.Add(time.Minute), Mono: time.Second, Uptime: 1060 * time.Second,
		CPUs: []account.CPUTimes{{CPU: 0, Idle: 110 * second}, {CPU: 1, Idle: 130 * second}},
		Groups: []account.Group{
			{ID: 7, Workload: 0, Outer: -1, Has: account.HasCPU | account.HasNetwork, Own: account.HasNetwork,
				CPUMicros: 75 * second, NetworkBytes: 5000},
			{ID: 9, Workload: 1, Outer: 0, Has: account.HasCPU, CPUMicros: 20 * second},
			{ID: 15 << 60, Workload: 2, Outer: -1, Has: account.HasCPU | account.HasPerCPU,
				Own: account.HasCPU | account.HasPerCPU, CPUMicros: 17, PerCPU: []int64{9, 8}, Born: true},
		},
		Processes: []account.Process{
			{PID: 10, Start: 400 * tick, Workload: 2, Grouped: true, CPUMicros: 7 * second, DiskBytes: 12288,
				ReadBytes: 4096, LastCPU: 1, Threads: 1},
			{PID: 12, Start: 1030 * tick, Workload: 2, Grouped: true, CPUMicros: 2 * second, LastCPU: 0, Threads: 1},
			{PID: 13, Start: 1020 * tick, Workload: 1, Grouped: true, CPUMicros: 19 * second, Threads: 1, LastCPU: 0},
			{PID: 14, Start: 600 * tick, Workload: 2, Grouped: true, CPUMicros: 9 * second, Threads: 1},
		},
		RanMicros: []int64{5, 6}, IdleTaskMicros: []int64{1, 2}, SplitsDisk: true,
		NoGroup: []account.DeviceIO{{Major: 8, Read: 77}},
		Disks:   []account.Disk{{Name: "vda", Major: 8, ReadBytes: 1000, WrittenBytes: 8192}},
		Caveats: [account.NumCaveats]int64{account.EndsLost: 3},
	}
	iv, err := account.Bridge(base, now)
	require.NoError(t, err)
	assert.Equal(t, wall, iv.From)
	assert.EqualValues(t, 60_000, iv.ElapsedMillis)
	assert.Equal(t, [account.NumCaveats]int64{account.Unwatched: 60_000}, iv.Detail.Caveats)
	used := map[account.WorkloadID]int64{}
	for _, u := range iv.Usages {
		used[u.Workload] = u.Units[amount.CPU]
		assert.Equal(t, amount.Unavailable, u.Source[amount.Network], "of its own counts nothing is compared")
	}
	assert.Equal(t, map[account.WorkloadID]int64{
		0: 16 * second, // 35 of the cgroup, of which press had 19
		1: 19 * second, // by its process, which began within
		2: 6 * second,  // 4 and 2; of what was not read before nothing is known
	}, used)
	assert.Equal(t, amount.Summed, iv.Usages[0].Source[amount.CPU])
	assert.EqualValues(t, 8192, iv.Usages[2].Units[amount.Disk])
	assert.Empty(t, iv.Usages[2].CPUs)
	cpu := iv.Ledgers[amount.CPU]
	assert.EqualValues(t, 70*second, cpu.Used.Units)
	assert.EqualValues(t, 29*second, cpu.Residual.Units, "what ended, and what was not read")
	assert.EqualValues(t, 8192, iv.Ledgers[amount.Disk].Used.Units)
	assert.Zero(t, iv.Ledgers[amount.Disk].Residual.Units)

	assert.True(t, now.Processes[0].Grouped, "the reading is not changed")
	assert.Equal(t, uint64(15<<60), now.Groups[2].ID)
	for what, change := range map[string]func(){
		"another boot": func() { base.Boot = "a" },
		"no time":      func() { base.Boot, base.Uptime = "b", now.Uptime },
	} {
		change()
		_, err = account.Bridge(base, now)
		assert.Error(t, err, what)
	}
}

// TestBridge_OfGPUsTellsWhatTheKernelCountedForClients: what a collector added up of samples by itself began anew with
// it, and how busy a card was of late says nothing of a long time.
func TestBridge_OfGPUsTellsWhatTheKernelCountedForClients(t *testing.T) {
	reading := func(at time.Duration, render, reported, pid int64) *account.Reading {
		rendered := func(micros int64) []account.EngineTime {
			return []account.EngineTime{{Engine: "render", Micros: micros}}
		}
		return &account.Reading{Boot: "b", Wall: time.Date(2026, 10, 5, 8, 0, 0, 0, time.UTC).Add(at), Mono: at,
			Uptime: at, CPUs: []account.CPUTimes{{CPU: 0}},
			Processes: []account.Process{{PID: 10, Start: 5, Workload: 0, Threads: 1},
				{PID: 11, Start: 5, Workload: 0, Threads: 1}},
			GPUs: []account.GPU{{Name: "card", By: account.BusyByPart, BusyPart: 1000, MemoryTotal: -1, MemoryUsed: -1},
				{Name: "vendor", By: account.BusyByCounter, BusyMicros: reported, Source: amount.Reported, Own: true,
					MemoryTotal: 100, MemoryUsed: 60}},
			GPUClients: []account.GPUClient{
				{GPU: 0, ID: 4, PID: int32(pid), Bytes: -1, Engines: rendered(render)},
				{GPU: 0, ID: 5, PID: 11, Bytes: -1, Born: true, Engines: rendered(9e6)},
				{GPU: 1, ID: 10, PID: 10, Bytes: 50, Born: true, Engines: rendered(reported)}}}
	}
	base, now := reading(time.Hour, 5e6, 0, 10), reading(time.Hour+time.Minute, 17e6, 8e6, 10)
	base.GPUClients = base.GPUClients[:1]
	iv, err := account.Bridge(base, now)
	require.NoError(t, err)
	require.Len(t, iv.Usages, 1)
	u := &iv.Usages[0]
	assert.EqualValues(t, 12e6, u.Units[amount.GPU], "one client was not there before: nothing is known of it yet")
	l := iv.Ledgers[amount.GPU]
	assert.Equal(t, []int64{60e6, 12e6, 0}, []int64{l.Capacity.Units, l.Used.Units, l.Residual.Units})
	assert.Equal(t, []int64{60_000, 60_000, 60_000}, []int64{iv.Detail.Caveats[account.GPUUntold],
		iv.Detail.Caveats[account.GPUUnchecked], iv.Detail.Caveats[account.Unwatched]})
}
