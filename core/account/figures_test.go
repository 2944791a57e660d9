package account_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// host is a small one that readings are made of: two CPUs, a drive with a partition and a loop on it.
func host(at time.Duration, change func(r *account.Reading)) *account.Reading {
	ticks := at.Microseconds() / 10_000 * 10_000
	r := &account.Reading{
		Boot: "first", Mono: at, Uptime: at, Wall: epoch.Add(at), SplitsDisk: true,
		CPUs:   []account.CPUTimes{{CPU: 0, Idle: ticks}, {CPU: 1, Idle: ticks}},
		Memory: account.HostMemory{Total: 1 << 30, Free: 1 << 29},
		Disks: []account.Disk{{Name: "sda", Major: 8},
			{Name: "sda1", Major: 8, Minor: 1, Inner: true, Partition: true}, {Name: "loop0", Major: 7, Inner: true}},
	}
	change(r)
	return r
}

// between differences two readings, and both against an even earlier one that is the tracker's first.
func between(t *testing.T, readings ...*account.Reading) (intervals []*account.Interval) {
	var tracker account.Tracker
	for i, r := range readings {
		iv, err := tracker.Step(r)
		if i == 0 {
			require.ErrorIs(t, err, account.ErrFirstReading)
			continue
		}
		require.NoError(t, err)
		intervals = append(intervals, iv)
	}
	return intervals
}

func of(t *testing.T, iv *account.Interval, w account.WorkloadID) account.Usage {
	for _, u := range iv.Usages {
		if u.Workload == w {
			return u
		}
	}
	require.Fail(t, "no such usage", w)
	return account.Usage{}
}

func TestEnded_AProcessThatLivedBetweenReadingsIsChargedWhole(t *testing.T) {
	none := func(*account.Reading) {}
	iv := between(t, host(10*time.Second, none), host(15*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{
			{PID: 77, Start: 1200, Workload: 3, Ended: true, CPUMicros: 1_000, AnonBytes: 1 << 20, WaitMicros: -1},
			// the number was used again
			{PID: 77, Start: 1300, Workload: 3, Ended: true, CPUMicros: 2_000, WaitMicros: -1},
			{PID: 77, Start: 1400, Workload: 3, Threads: 1, CPUMicros: 4_000, AnonBytes: 4096, WaitMicros: -1},
		}
	}))[0]
	u := of(t, iv, 3)
	assert.Equal(t, int64(7_000), u.Units[amount.CPU])
	assert.Equal(t, int64(4096*5000), u.Units[amount.Memory], "what has ended stands at no height")
	assert.Equal(t, int32(1), u.Procs)
}

func TestEnded_OnlyWhatItUsedSinceTheLastReadingIsCharged(t *testing.T) {
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{{PID: 5, Start: 100, Workload: 1, Threads: 1, CPUMicros: 900_000}}
	}), host(15*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{{PID: 5, Start: 100, Workload: 1, Ended: true, CPUMicros: 1_000_000}}
	}), host(20*time.Second, func(*account.Reading) {}))
	assert.Equal(t, int64(100_000), of(t, iv[0], 1).Units[amount.CPU])
	assert.Empty(t, iv[1].Usages)
}

func TestWrittenBack_IsSplitByWhoDirtiedIt(t *testing.T) {
	process := func(pid int32, w account.WorkloadID, written int64) account.Process {
		return account.Process{PID: pid, Start: 1, Workload: w, Threads: 1, DiskBytes: written, WaitMicros: -1}
	}
	group := func(w account.WorkloadID, written int64) account.Group {
		return account.Group{ID: uint64(100 + w), Workload: w, Outer: -1, Has: account.HasDisk, DiskBytes: written,
			Devices: []account.DeviceIO{{Major: 8, Written: written}, {Major: 8, Minor: 1, Written: written}}}
	}
	shared := func(written int64) []account.DeviceIO {
		return []account.DeviceIO{{Major: 8, Written: written}, {Major: 8, Minor: 1, Written: written}}
	}
	drive := func(r *account.Reading, written int64) {
		r.Disks[0].WrittenBytes, r.Disks[1].WrittenBytes = written, written
	}
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(1, 1, 0), process(2, 2, 0)}
		r.Groups = []account.Group{group(1, 0), group(2, 0)}
		r.NoGroup = shared(0)
	}), host(15*time.Second, func(r *account.Reading) { // both dirty pages; 1 writes half of its own directly
		r.Processes = []account.Process{process(1, 1, 600), process(2, 2, 100)}
		r.Groups = []account.Group{group(1, 300), group(2, 0)}
		r.NoGroup = shared(0)
		drive(r, 300)
	}), host(20*time.Second, func(r *account.Reading) { // and the kernel writes them, with 50 bytes of its own
		r.Processes = []account.Process{process(1, 1, 600), process(2, 2, 100)}
		r.Groups = []account.Group{group(1, 300), group(2, 0)}
		r.NoGroup = shared(450)
		drive(r, 750)
	}))
	assert.Equal(t, int64(300), of(t, iv[0], 1).Units[amount.Disk])
	assert.Equal(t, amount.Counted, of(t, iv[0], 1).Source[amount.Disk])
	one, two := of(t, iv[1], 1), of(t, iv[1], 2)
	assert.Equal(t, []int64{300, 100}, []int64{one.Units[amount.Disk], two.Units[amount.Disk]})
	assert.Equal(t, amount.Split, one.Source[amount.Disk], "and it says so")
	back, _ := one.Figures.Get(amount.DiskWrittenBack)
	assert.Equal(t, int64(300), back)
	for _, d := range one.Devices {
		assert.Equal(t, int64(300), d.Written, "the same on the drive and on its partition: %d", d.Device)
	}
	l := iv[1].Ledgers[amount.Disk]
	assert.Equal(t, []int64{50, 0}, []int64{l.Kernel.Units, l.Residual.Units}, "what nobody dirtied is the kernel's")
}

func TestSteal_ThatIsCountedAsIdleTooIsTakenOff(t *testing.T) {
	// In five seconds CPU 0 ran tasks for 3 s and was taken for 2 s, of which the kernel counts 1 s as idle as well.
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.RanMicros = []int64{0, 0} }),
		host(15*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 3_000_000, Idle: 11_000_000, Steal: 2_000_000}
			r.RanMicros = []int64{3_000_000, 0}
			r.Processes = []account.Process{{PID: 1, Start: 1100, Workload: 1, Threads: 1, CPUMicros: 3_000_000}}
		}))[0]
	l := iv.Ledgers[amount.CPU]
	assert.Equal(t, int64(1_000_000), l.Steal.Units)
	assert.Zero(t, l.Residual.Units)
}

func TestSteal_ThatIsToldEarlyIsGivenBack(t *testing.T) {
	// CPU 0 runs a task all the time but for 100 ms that are taken in the second interval, and told in the first.
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.RanMicros = []int64{0, 0} }),
		host(15*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 5_000_000, Idle: 10_000_000, Steal: 100_000}
			r.RanMicros = []int64{5_000_000, 0}
			r.Processes = []account.Process{{PID: 1, Start: 1000, Workload: 1, Threads: 1, CPUMicros: 5_000_000}}
		}), host(20*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 9_900_000, Idle: 10_000_000, Steal: 100_000}
			r.RanMicros = []int64{9_900_000, 0}
			r.Processes = []account.Process{{PID: 1, Start: 1000, Workload: 1, Threads: 1, CPUMicros: 9_900_000}}
		}))
	for i, steal := range []int64{0, 100_000} {
		l := iv[i].Ledgers[amount.CPU]
		assert.Equal(t, []int64{steal, 0}, []int64{l.Steal.Units, l.Residual.Units}, "interval %d", i)
	}
}

func TestInterrupts_ThatWereTakenOffAreGivenBackToThemselves(t *testing.T) {
	// No hypervisor: 15 ms of interrupts of the second interval are told in the first.
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.RanMicros = []int64{0, 0} }),
		host(15*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 5_000_000, Idle: 10_000_000, SoftIRQ: 40_000}
			r.RanMicros = []int64{5_000_000, 0}
		}), host(20*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 9_970_000, Idle: 10_000_000, SoftIRQ: 40_000}
			r.RanMicros = []int64{9_970_000, 0}
		}))
	for i, kernel := range []int64{0, 30_000} {
		l := iv[i].Ledgers[amount.CPU]
		assert.Equal(t, []int64{kernel, 0}, []int64{l.Kernel.Units, l.Steal.Units}, "interval %d", i)
	}
}

func TestIdleTask_ThatIsNotIdleIsTheKernels(t *testing.T) {
	// In five seconds CPU 0 ran tasks for 3 s and was idle for 1.6 s, and the idle task was there for 1.9 s. Of 3 s of
	// tasks, one of 100 ms was charged to nobody.
	cpus := func(idleTask int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 3_000_000, Idle: 11_600_000}
			r.RanMicros, r.IdleTaskMicros = []int64{3_000_000, 0}, []int64{idleTask, 5_000_000}
			r.Processes = []account.Process{{PID: 1, Start: 1100, Workload: 1, Threads: 1, CPUMicros: 2_900_000}}
		}
	}
	for name, x := range map[string]struct{ idleTask, kernel, residual int64 }{
		"told":                   {1_900_000, 300_000, 200_000}, // 100 ms of the CPU's time are told by nothing
		"as long as it was idle": {1_600_000, 0, 500_000},
		// what tasks ran, and nobody was charged with, stays
		"longer than there is room": {3_000_000, 400_000, 100_000},
	} {
		iv := between(t, host(10*time.Second, func(r *account.Reading) {
			r.RanMicros, r.IdleTaskMicros = []int64{0, 0}, []int64{0, 0}
		}), host(15*time.Second, cpus(x.idleTask)))[0]
		l := iv.Ledgers[amount.CPU]
		assert.Equal(t, []int64{x.kernel, x.residual}, []int64{l.Kernel.Units, l.Residual.Units}, name)
	}
}

func TestCPU_OneThatIsUnpluggedLeavesTheLedger(t *testing.T) {
	iv := between(t, host(10*time.Second, func(*account.Reading) {}),
		host(15*time.Second, func(r *account.Reading) { r.CPUs = r.CPUs[:1] }),
		// it comes back, its counters began anew
		host(20*time.Second, func(r *account.Reading) { r.CPUs[1].Idle = 100_000 }))
	assert.Equal(t, int64(5_000_000), iv[0].Ledgers[amount.CPU].Capacity.Units)
	assert.Equal(t, int64(5_000_000), iv[1].Ledgers[amount.CPU].Capacity.Units,
		"a CPU that was not there before has no figure yet")
	for _, x := range iv {
		assert.GreaterOrEqual(t, x.Ledgers[amount.CPU].Idle.Units, int64(0))
	}
}

func TestDevice_ThatAppearsAndGoesNeverShowsAStorm(t *testing.T) {
	with := func(read int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.Disks = append(r.Disks, account.Disk{Name: "sdb", Major: 8, Minor: 16, ReadBytes: read, BusyMillis: read})
			r.Interfaces = []account.Interface{{Name: "veth3", Inner: true, Received: read}}
			r.NoGroup = []account.DeviceIO{{Major: 8, Minor: 16, Read: read}}
		}
	}
	iv := between(t, host(10*time.Second, func(*account.Reading) {}), host(15*time.Second, with(9_000_000)),
		host(20*time.Second, with(9_001_000)), host(25*time.Second, func(*account.Reading) {}),
		host(30*time.Second, with(500)))
	for i, want := range []int64{0, 1_000, 0, 0} {
		assert.Equal(t, want, iv[i].Ledgers[amount.Disk].Used.Units, "interval %d", i)
		for _, d := range iv[i].Detail.Disks {
			assert.LessOrEqual(t, d.ReadBytes, int64(1_000), "%s in interval %d", d.Name, i)
		}
	}
}

// TestDevice_APartThatWasNeverUsedHasItsFirstUse: it is left out of readings until then, but its counters were known to
// be zero.
func TestDevice_APartThatWasNeverUsedHasItsFirstUse(t *testing.T) {
	with := func(name string, fresh bool, read int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.Disks = []account.Disk{{Name: name, Major: 8, Minor: 17, Inner: true, Partition: true, Fresh: fresh,
				ReadBytes: read}}
		}
	}
	iv := between(t, host(10*time.Second, func(*account.Reading) {}), host(15*time.Second, with("sdb1", true, 4096)),
		host(20*time.Second, with("sdb1", false, 5000)),
		host(25*time.Second, with("sdb2", false, 7000)))
	for i, want := range [][]int64{{4096}, {904}, {}} {
		got := []int64{}
		for _, d := range iv[i].Detail.Disks {
			got = append(got, d.ReadBytes)
			assert.False(t, d.Fresh, "that is a matter of readings")
		}
		assert.Equal(t, want, got, "interval %d", i)
	}
}

func TestCounters_ThatWrapBeginANewSeries(t *testing.T) {
	group := func(units int64) func(*account.Reading) {
		return func(r *account.Reading) {
			g := account.Group{ID: 9, Workload: 1, Outer: -1, Has: account.HasCPU | account.HasNetwork,
				CPUMicros: units, NetworkBytes: units}
			g.Figures.Put(amount.NetworkReceived, units, amount.Counted)
			g.Figures.Put(amount.CPUPressureSome, units, amount.Counted)
			r.Groups = []account.Group{g}
		}
	}
	for name, top := range map[string]int64{"32 bits": math.MaxUint32, "63 bits": math.MaxInt64} {
		iv := between(t, host(10*time.Second, group(top-10)), host(15*time.Second, group(top)),
			host(20*time.Second, group(7)), host(25*time.Second, group(9)))
		for i, want := range []int64{10, 0, 2} {
			u := of(t, iv[i], 1)
			got, _ := u.Figures.Get(amount.NetworkReceived)
			stalled, _ := u.Figures.Get(amount.CPUPressureSome)
			assert.Equal(t, []int64{want, want, want, want},
				[]int64{u.Units[amount.CPU], u.Units[amount.Network], got, stalled}, "%s, interval %d", name, i)
		}
	}
}

func TestMemory_AllOfItIsExplained(t *testing.T) {
	with := func(r *account.Reading) {
		r.Memory = account.HostMemory{Total: 1000, Free: 300, Slab: 30, KernelStack: 5, PageTable: 15, Buffers: 20,
			Cached: 170, SwapCached: 10, HugePages: 100}
		r.Groups = []account.Group{{ID: 9, Workload: 1, Outer: -1, Has: account.HasMemory, MemoryBytes: 300,
			FileBytes: 120, KernelBytes: 20}}
	}
	iv := between(t, host(10*time.Second, with), host(11*time.Second, with))[0]
	d, l := &iv.Detail, iv.Ledgers[amount.Memory]
	assert.Equal(t, []int64{30e3, 80e3, 100e3}, []int64{d.MemoryOwn, d.MemoryCache, d.MemoryHuge},
		"what is charged to a workload is not the kernel's once more")
	assert.Equal(t, []int64{1000e3, 300e3, 210e3, 300e3, 190e3},
		[]int64{l.Capacity.Units, l.Shares, l.Kernel.Units, l.Idle.Units, l.Residual.Units})
}

func TestNamespaces_TellLoopbackWhereItIsSeen(t *testing.T) {
	spaces := func(received, local int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.Namespaces = []account.Namespace{{ID: 7, Workload: 1, Received: received, Sent: 5, Local: local},
				{ID: 8, Workload: 2, Received: received, Local: -1}}
		}
	}
	iv := between(t, host(10*time.Second, spaces(100, 1000)), host(15*time.Second, spaces(160, 1400)))[0]
	own, machine := of(t, iv, 1), of(t, iv, 2)
	assert.Equal(t, []int64{60, 60}, []int64{own.Units[amount.Network], machine.Units[amount.Network]},
		"loopback leaves no host")
	for _, m := range []amount.Measure{amount.NetworkLocalReceived, amount.NetworkLocalSent} {
		n, ok := own.Figures.Get(m)
		assert.True(t, ok)
		assert.Equal(t, int64(400), n)
		_, ok = machine.Figures.Get(m)
		assert.False(t, ok, "what goes on within a machine is not seen, and not zero")
	}
}

func TestFigures_OfAnOuterGroupAreItsOwn(t *testing.T) {
	group := func(id uint64, w account.WorkloadID, outer int32, received, high, stalled, anon int64) account.Group {
		g := account.Group{ID: id, Workload: w, Outer: outer, Has: account.HasMemory, MemoryBytes: anon}
		g.Figures.Put(amount.NetworkReceived, received, amount.Counted)
		g.Figures.Put(amount.MemoryHigh, high, amount.Counted)
		g.Figures.Put(amount.DiskPressureSome, stalled, amount.Counted)
		g.Figures.Put(amount.MemoryAnon, anon, amount.Counted)
		return g
	}
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		r.Groups = []account.Group{group(1, 1, -1, 100, 900, 10, 500), group(2, 2, 0, 40, 300, 5, 200)}
	}),
		host(15*time.Second, func(r *account.Reading) {
			r.Groups = []account.Group{group(1, 1, -1, 170, 950, 30, 500), group(2, 2, 0, 90, 300, 6, 200)}
		}))[0]
	get := func(w account.WorkloadID, m amount.Measure) int64 {
		u := of(t, iv, w)
		n, ok := u.Figures.Get(m)
		require.True(t, ok)
		return n
	}
	assert.Equal(t, []int64{20, 50}, []int64{get(1, amount.NetworkReceived), get(2, amount.NetworkReceived)},
		"a flow: less what those inside had")
	assert.Equal(t, []int64{300 * 5000, 200 * 5000}, []int64{get(1, amount.MemoryAnon), get(2, amount.MemoryAnon)},
		"a level too")
	assert.Equal(t, []int64{20, 1}, []int64{get(1, amount.DiskPressureSome), get(2, amount.DiskPressureSome)},
		"stalls overlap: each has its own")
	assert.Equal(t, []int64{950, 200}, []int64{get(1, amount.MemoryHigh), get(2, amount.MemoryHigh)},
		"a height that was reached before is not this interval's")
}

func TestFigures_AddUpHoweverTheTimeIsCut(t *testing.T) {
	group := func(n int64) func(*account.Reading) {
		return func(r *account.Reading) {
			g := account.Group{ID: 1, Workload: 1, Outer: -1, Has: account.HasCPU | account.HasDisk, CPUMicros: n,
				Devices: []account.DeviceIO{{Major: 8, Read: n, ReadOps: n / 3, ReadNanos: n * 1000}}, DiskBytes: n}
			g.Figures.Put(amount.CPUThrottled, n*2, amount.Counted)
			g.Figures.Put(amount.MemorySwap, 77, amount.Counted)
			r.Groups = []account.Group{g}
			r.Disks[0].ReadBytes = n
			r.Latencies = []account.Latency{{Major: 8, LowMicros: 8, HighMicros: 10, Count: n}}
		}
	}
	cut := between(t, host(10*time.Second, group(5)), host(12*time.Second, group(50)), host(15*time.Second, group(500)))
	whole := between(t, host(10*time.Second, group(5)), host(15*time.Second, group(500)))[0]
	sum := cut[0].Add(cut[1])
	assert.Equal(t, whole.Ledgers, sum.Ledgers)
	assert.Equal(t, whole.Usages[0].Units, sum.Usages[0].Units)
	assert.Equal(t, whole.Usages[0].Figures, sum.Usages[0].Figures)
	assert.Equal(t, whole.Usages[0].Devices, sum.Usages[0].Devices)
	assert.Equal(t, whole.Detail.Disks, sum.Detail.Disks)
	assert.Equal(t, whole.Detail.Latencies, sum.Detail.Latencies)
}

func TestInside_WhatIsTakenOffAnothersGroupIsItsOwn(t *testing.T) {
	reading := func(issued, inner int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.Groups = []account.Group{{ID: 1, Workload: 1, Outer: -1, Has: account.HasDisk, DiskBytes: issued,
				Devices: []account.DeviceIO{{Major: 8, Written: issued}}}}
			r.Processes = []account.Process{{PID: 4, Start: 1, Workload: 2, Within: 1, Inside: true, Threads: 1,
				DiskBytes: inner, WaitMicros: -1}}
			r.NoGroup = []account.DeviceIO{{Major: 8}}
			r.Disks[0].WrittenBytes = issued
		}
	}
	iv := between(t, host(10*time.Second, reading(0, 0)), host(15*time.Second, reading(1_000, 400)))[0]
	assert.Equal(t, []int64{600, 400}, []int64{of(t, iv, 1).Units[amount.Disk], of(t, iv, 2).Units[amount.Disk]},
		"a job in a sign-in: nothing is lost between them")
	assert.Zero(t, iv.Ledgers[amount.Disk].Residual.Units)
}

func TestStandings_AreLevelsOfWorkloadsThatAreThere(t *testing.T) {
	there := func(bytes, swapped int64) func(*account.Reading) {
		return func(r *account.Reading) {
			r.Processes = []account.Process{{PID: 5, Start: 100, Workload: 1, Threads: 1}}
			r.Levels = []account.Standing{{Workload: 1, Measure: amount.SpaceUsed, Units: bytes,
				Source: amount.Counted}, {Workload: 9, Measure: amount.SpaceUsed, Units: 7}}
			r.Swapped = []account.Swapped{{Workload: 1, Swap: "/dev/sdb2", Bytes: swapped},
				{Workload: 1, Swap: "/srv/swapfile", Bytes: 10}, {Workload: 1, Swap: "/dev/sdb2", Bytes: 1}}
			r.Interfaces = []account.Interface{{Name: "veth1", Kind: "veth", Inner: true, Workload: 1, Received: bytes}}
		}
	}
	iv := between(t, host(10*time.Second, there(0, 0)), host(15*time.Second, there(1000, 5)),
		host(25*time.Second, there(4000, 20)))
	sum := iv[0].Add(iv[1])
	u := of(t, sum, 1)
	space, _ := u.Figures.Get(amount.SpaceUsed)
	assert.Equal(t, int64(1000*5000+4000*10_000), space, "a height, for as long as it stood")
	assert.Equal(t, []account.SwapUse{{Swap: "/dev/sdb2", Units: 6*5000 + 21*10_000},
		{Swap: "/srv/swapfile", Units: 10 * 15_000}}, u.Swapped)
	assert.Len(t, sum.Usages, 1, "a level makes no workload")
	assert.Equal(t, []any{account.WorkloadID(1), int64(4000)},
		[]any{sum.Detail.Interfaces[0].Workload, sum.Detail.Interfaces[0].Received})
}
