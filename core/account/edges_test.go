package account_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// These tests give every field a figure of its own and put the figures on the edges, so that a field that is mixed up
// with another, a unit that is wrong and an edge that is moved are each noticed.

func none(*account.Reading) {}

func TestDetail_EveryCounterGrowsByItself(t *testing.T) {
	at := func(n int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.CPUs = []account.CPUTimes{{CPU: 0, User: n, Nice: 2 * n, System: 3 * n, Idle: 4 * n, IOWait: 5 * n,
				IRQ: 6 * n, SoftIRQ: 7 * n, Steal: 8 * n}, {CPU: 1, Idle: 9 * n}}
			r.RanMicros = []int64{11 * n, 13 * n}
			r.Memory.SwapTotal, r.Memory.SwapFree, r.Memory.Available = 1000, 700-n, 17*n
			r.Load = []float64{float64(n), 2, 3}
			r.Pressure = []account.Pressure{{Resource: "cpu", Some: 19 * n},
				{Resource: "io", Some: 23 * n, Full: 29 * n}}
			r.Latencies = []account.Latency{{Major: 8, LowMicros: 1, HighMicros: 2, Count: 31 * n},
				{Major: 8, LowMicros: 1, HighMicros: 2, Count: 37 * n, Kind: account.IOWrite},
				{Major: 8, LowMicros: 2, HighMicros: 4}}
			r.Disks[0] = account.Disk{Name: "sda", Major: 8, ReadBytes: 41 * n, WrittenBytes: 43 * n, ReadOps: 47 * n,
				WriteOps: 53 * n, ReadMerged: 59 * n, WriteMerged: 61 * n, ReadMillis: 67 * n, WriteMillis: 71 * n,
				BusyMillis: 73 * n, QueueMillis: 79 * n, InFlight: n, RateBytesPerSecond: 83}
			r.Interfaces = []account.Interface{{Name: "uplink0", Received: 89 * n, Sent: 97 * n,
				ReceivedPackets: 101 * n,
				SentPackets:     103 * n, ReceivedDropped: 107 * n, SentDropped: 109 * n, ReceivedErrors: 113 * n,
				SentErrors: 127 * n, SpeedBitPerSecond: 800}}
		}
	}
	iv := between(t, host(10*time.Second, at(10)), host(15*time.Second, at(11)), host(25*time.Second, at(14)))
	want := func(n, end int64) account.Detail {
		r := &account.Reading{Disks: make([]account.Disk, 1)}
		at(n)(r)
		d := account.Detail{CPUs: r.CPUs, RanMicros: r.RanMicros, SwapTotal: 1000, SwapUsed: 300 + end,
			MemoryAvailable: 17 * end, Load: []float64{float64(end), 2, 3}, Pressure: r.Pressure, Disks: r.Disks,
			Interfaces: r.Interfaces, Latencies: r.Latencies[:2]}
		d.Disks[0].InFlight = end
		return d
	}
	for i, c := range []struct {
		iv   *account.Interval
		want account.Detail
	}{{iv[0], want(1, 11)}, {iv[1], want(3, 14)}, {iv[0].Add(iv[1]), want(4, 14)}} {
		got := c.iv.Detail
		got.Disks, got.Peaks = got.Disks[:1], nil
		c.want.MemoryOwn, c.want.MemoryCache, c.want.MemoryHuge = got.MemoryOwn, got.MemoryCache, got.MemoryHuge
		assert.Equal(t, c.want, got, "interval %d", i)
	}
	sum := iv[0].Add(iv[1])
	assert.Equal(t, []int64{2, 15_000}, []int64{int64(sum.Ticks), sum.ElapsedMillis})
	assert.Subset(t, sum.Detail.Peaks, []account.PartPeak{{Figure: "drive_read_bytes", Part: "sda", Milli: 12_300},
		{Figure: "drive_busy_percent", Part: "sda", Milli: 2190},
		{Figure: "cpu_taken_percent", Part: "0", Milli: 22_222}},
		"41 bytes in 5 s, and 123 in 10 s; of each the higher")
	// Where one interval does not tell what ran, the sum does not tell either: it never is that of a part.
	silent := *iv[1]
	silent.Detail.RanMicros = nil
	assert.Nil(t, iv[0].Add(&silent).Detail.RanMicros)
	assert.Nil(t, silent.Add(iv[0]).Detail.RanMicros)
	fewer := *iv[1]
	fewer.Detail.CPUs = fewer.Detail.CPUs[:1]
	assert.Nil(t, iv[0].Add(&fewer).Detail.RanMicros, "nor where a CPU went")
}

func TestCPU_IdleIsIdleWithStorageOutstandingToo(t *testing.T) {
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.CPUs = []account.CPUTimes{{CPU: 0}} }),
		host(20*time.Second, func(r *account.Reading) {
			r.CPUs = []account.CPUTimes{{CPU: 0, User: 1_000_000, Idle: 5_000_000, IOWait: 2_000_000, IRQ: 300_000,
				SoftIRQ: 500_000, Steal: 200_000}}
			r.Processes = []account.Process{{PID: 1, Start: 1100, Workload: 1, Threads: 1, CPUMicros: 700_000},
				{PID: 2, Start: 1100, Kernel: true, CPUMicros: 100_000}}
		}))[0]
	l := iv.Ledgers[amount.CPU]
	assert.Equal(t, []int64{10_000_000, 7_000_000, 3_000_000, 900_000, 200_000, 700_000, 1_200_000},
		[]int64{l.Capacity.Units, l.Idle.Units, l.Used.Units, l.Kernel.Units, l.Steal.Units, l.Shares,
			l.Residual.Units})
}

// Idle with storage outstanding is time that was counted, too, where tasks' time is held against it.
func TestSteal_IsHeldAgainstAllIdleTime(t *testing.T) {
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.RanMicros = []int64{0, 0} }),
		host(15*time.Second, func(r *account.Reading) {
			r.CPUs[0] = account.CPUTimes{CPU: 0, User: 3_000_000, Idle: 10_500_000, IOWait: 500_000, IRQ: 100_000,
				SoftIRQ: 200_000, Steal: 2_000_000}
			r.CPUs[1] = account.CPUTimes{CPU: 1, Idle: 10_000_000} // it was not online
			r.RanMicros = []int64{3_000_000, 0}
			r.Processes = []account.Process{{PID: 1, Start: 1100, Workload: 1, Threads: 1, CPUMicros: 3_000_000}}
		}))[0]
	l := iv.Ledgers[amount.CPU]
	// 0.5 + 0.5 idle, 3 run, 0.3 in interrupts and 2 taken are 1.3 s more than the five seconds there were.
	assert.Equal(t, []int64{700_000, 300_000}, []int64{l.Steal.Units, l.Kernel.Units})
	assert.Equal(t, int64(5_000_000), l.Residual.Units, "of the CPU that was away nothing is known")
}

func TestPeaks_AreRatesOfTheHighestTick(t *testing.T) {
	at := func(cpu, disk, memory int64, runnable int32) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.SplitsDisk = false
			r.Processes = []account.Process{{PID: 1, Start: 1, Workload: 2, Threads: 3, Runnable: runnable,
				CPUMicros: cpu,
				AnonBytes: memory, DiskBytes: disk, LastCPU: -1, WaitMicros: -1}}
		}
	}
	iv := between(t, host(10*time.Second, at(0, 0, 9, 9)), host(14*time.Second, at(6_000_000, 400, 700, 5)),
		host(24*time.Second, at(7_000_000, 2400, 500, 2)))
	u := of(t, iv[0], 2)
	assert.Equal(t, [amount.NumResources]int64{1_500_000, 700, 100, 0}, u.Peak)
	assert.Equal(t, []int64{20_000, 5}, []int64{u.RunnableMillis, int64(u.RunnablePeak)})
	sum := of(t, iv[0].Add(iv[1]), 2)
	assert.Equal(t, [amount.NumResources]int64{1_500_000, 700, 200, 0}, sum.Peak)
	assert.Equal(t, []int64{40_000, 5}, []int64{sum.RunnableMillis, int64(sum.RunnablePeak)})
	assert.Equal(t, int64(700*4000+500*10_000), sum.Units[amount.Memory])
}

func TestAdd_AFigureThatIsMissingOnceIsWhatIsKnown(t *testing.T) {
	a := &account.Interval{Usages: []account.Usage{{Workload: 1, Units: [amount.NumResources]int64{1, 2, 3, 4},
		Source: [amount.NumResources]amount.Source{
			amount.Unavailable, amount.Counted, amount.Split, amount.Unavailable}, Threads: 4, Procs: 3}}}
	b := &account.Interval{Usages: []account.Usage{{Workload: 1, Units: [amount.NumResources]int64{10, 20, 30, 40},
		Source: [amount.NumResources]amount.Source{
			amount.Summed, amount.Unavailable, amount.Counted, amount.Unavailable}, Threads: 2, Procs: 1}}}
	u := of(t, a.Add(b), 1)
	assert.Equal(t, [amount.NumResources]amount.Source{amount.Summed, amount.Counted, amount.Split,
		amount.Unavailable}, u.Source)
	assert.Equal(t, [amount.NumResources]int64{11, 22, 33, 44}, u.Units)
	assert.Equal(t, []int32{2, 1}, []int32{u.Threads, u.Procs})
}

// The files and kernel memory of an inner group are charged once, though the outer group counts them as well.
func TestMemory_OfNestedGroupsIsChargedOnce(t *testing.T) {
	at := func(r *account.Reading) {
		r.Memory = account.HostMemory{Total: 10_000, Free: 4_000, Cached: 3_000, Slab: 500, KernelStack: 30,
			PageTable: 20}
		r.Groups = []account.Group{
			{ID: 1, Workload: 0, Outer: -1, Has: account.HasMemory, MemoryBytes: 3_000, FileBytes: 1_000,
				KernelBytes: 200},
			{ID: 2, Workload: 1, Outer: 0, Has: account.HasMemory, MemoryBytes: 1_200, FileBytes: 400, KernelBytes: 70},
			{ID: 3, Workload: 2, Outer: 1, Has: account.HasCPU, CPUMicros: 5, FileBytes: 0},
		}
	}
	iv := between(t, host(10*time.Second, at), host(20*time.Second, at))[0]
	assert.Equal(t, []int64{1_800, 1_200}, []int64{of(t, iv, 0).Units[amount.Memory] / 10_000,
		of(t, iv, 1).Units[amount.Memory] / 10_000})
	d := iv.Detail
	assert.Equal(t, []int64{350, 2_000}, []int64{d.MemoryOwn / 10_000, d.MemoryCache / 10_000})
	l := iv.Ledgers[amount.Memory]
	assert.Equal(t, []int64{6_000, 2_350, 3_000, 650}, []int64{l.Used.Units / 10_000, l.Kernel.Units / 10_000,
		l.Shares / 10_000, l.Residual.Units / 10_000})
}

func TestPerCPU_OfAnInnerGroupIsTakenOffTheOuter(t *testing.T) {
	at := func(outer, inner []int64, cpu int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.Groups = []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasCPU | account.HasPerCPU,
				CPUMicros: cpu, PerCPU: outer}}
			if inner != nil {
				r.Groups = append(r.Groups, account.Group{ID: 2, Workload: 1, Outer: 0, Born: true,
					Has: account.HasCPU | account.HasPerCPU, CPUMicros: 30, PerCPU: inner})
			}
			r.Processes = []account.Process{{PID: 4, Start: 1, Workload: 0, Threads: 1, CPUMicros: cpu, LastCPU: 1,
				WaitMicros: -1}}
		}
	}
	// A CPU was plugged in meanwhile: the counters before have one fewer.
	iv := between(t, host(10*time.Second, at([]int64{100, 50}, nil, 150)),
		host(20*time.Second, at([]int64{160, 50, 40}, []int64{20, 0, 10}, 250)))[0]
	assert.Equal(t, []account.CPUUse{{CPU: 0, Micros: 40}, {CPU: 2, Micros: 30}}, of(t, iv, 0).CPUs)
	assert.Equal(t, []account.CPUUse{{CPU: 0, Micros: 20}, {CPU: 2, Micros: 10}}, of(t, iv, 1).CPUs)
	assert.Equal(t, amount.Counted, of(t, iv, 0).CPUSource)
}

// Of a workload that no group counts CPU by CPU, each process is put down to the CPU it last ran on; one of several
// threads is not, for they are told apart by themselves.
func TestLastCPU_OfEachProcessByItself(t *testing.T) {
	process := func(pid, cpu, threads int32, micros int64) account.Process {
		return account.Process{PID: pid, Start: 1, Workload: 0, Threads: threads, LastCPU: cpu, CPUMicros: micros,
			WaitMicros: -1}
	}
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		for pid := range int32(6) {
			r.Processes = append(r.Processes, process(pid, 0, 1, 0))
		}
		r.Threads = []account.Thread{{PID: 4, TID: 40, Workload: 0, Start: 1, LastCPU: 3, Part: account.NoProgram}}
	}), host(20*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(0, 1, 1, 7), process(1, 0, 1, 5), process(2, 1, 0, 3),
			process(3, 6, 1, 0), process(4, 0, 2, 100), process(5, -1, 1, 50)}
		r.Threads = []account.Thread{
			{PID: 4, TID: 40, Workload: 0, Start: 1, LastCPU: 3, Part: 8, CPUMicros: 60},
			{PID: 4, TID: 40, Workload: 0, Start: 1, LastCPU: 0, Part: account.NoProgram, CPUMicros: 9},
			{PID: 4, TID: 41, Workload: 0, Start: 998, LastCPU: 2, Part: 7, CPUMicros: 11},
			{PID: 4, TID: 42, Workload: 0, Start: 997, LastCPU: 2, Part: 7, CPUMicros: 13},
			{PID: 4, TID: 43, Workload: account.Unrecognised, Start: 1000, LastCPU: 2, Part: 7, CPUMicros: 17},
			{PID: 4, TID: 44, Workload: 0, Start: 1000, LastCPU: -1, Part: 7, CPUMicros: 19},
		}
	}))[0]
	u := of(t, iv, 0)
	assert.Equal(t, []account.CPUUse{{CPU: 0, Micros: 14}, {CPU: 1, Micros: 10}, {CPU: 2, Micros: 11}}, u.CPUs)
	assert.Equal(t, amount.Summed, u.CPUSource)
	assert.Equal(t, []account.PartUse{{Part: 7, Micros: 30}}, u.Parts,
		"a thread that was there before, under another part or not seen, has no usage yet")
}

func TestPrograms_OfOneFamilyAndNameAreOne(t *testing.T) {
	process := func(pid, family, program int32, micros int64) account.Process {
		return account.Process{PID: pid, Start: 1100, Workload: 0, Family: family, Program: program, Threads: 1,
			CPUMicros: micros, LastCPU: -1, WaitMicros: -1}
	}
	iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(1, 5, 2, 1), process(2, 3, 2, 2), process(3, 5, 1, 4),
			process(4, 5, 2, 8),
			process(5, 3, 1, 16)}
		r.Groups = []account.Group{{ID: 9, Workload: 0, Outer: -1, Born: true, Has: account.HasCPU, CPUMicros: 131}}
	}))[0]
	type program struct{ family, program, procs, micros int64 }
	var got []program
	for _, p := range of(t, iv, 0).Programs {
		got = append(got, program{int64(p.Family), int64(p.Program), int64(p.Procs), p.Units[amount.CPU]})
	}
	rest := int64(account.NoProgram)
	assert.Equal(t, []program{{rest, rest, 0, 100}, {3, 1, 1, 16}, {3, 2, 1, 2}, {5, 1, 1, 4}, {5, 2, 2, 9}}, got)
}

// A process was there before the last reading and is read for the first time: what it used meanwhile is not known. The
// clock of starts ticks in hundredths of a second, and may be two ticks behind.
func TestProcess_ThatWasThereBeforeHasNoUseYet(t *testing.T) {
	for start, want := range map[int64]int64{997: 0, 998: 70, 1000: 70} {
		iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
			r.Processes = []account.Process{{PID: 1, Start: start, Workload: 0, Threads: 1, CPUMicros: 70,
				WaitMicros: -1}}
		}))[0]
		assert.Equal(t, want, of(t, iv, 0).Units[amount.CPU], "started at tick %d", start)
	}
}

// Process 1 comes out of a group that counts, 2 out of one that counts disk bytes alone, and 3 goes into one. What a
// group counted is charged to it alone.
func TestProcess_ThatCameOutOfAGroupIsChargedFromTheNextReadingOn(t *testing.T) {
	at := func(seconds, used int64, first, second, third account.WorkloadID) *account.Reading {
		return host(time.Duration(seconds)*time.Second, func(r *account.Reading) {
			r.SplitsDisk = false
			r.Groups = []account.Group{
				{ID: 1, Workload: 0, Outer: -1, Has: account.HasCPU | account.HasDisk, CPUMicros: 900, DiskBytes: 90},
				{ID: 2, Workload: 1, Outer: -1, Has: account.HasDisk, DiskBytes: 70},
			}
			for i, w := range []account.WorkloadID{first, second, third} {
				r.Processes = append(r.Processes, account.Process{PID: int32(i + 1), Start: 1, Workload: w, Threads: 1,
					CPUMicros: used * 1000, UserMicros: used * 600, SystemMicros: used * 400, WaitMicros: used * 10,
					DiskBytes: used * 100, ReadBytes: used * 40})
			}
		})
	}
	var tracker account.Tracker
	step := func(r *account.Reading) *account.Interval {
		iv, err := tracker.Step(r)
		if err != nil {
			require.ErrorIs(t, err, account.ErrFirstReading)
		}
		return iv
	}
	step(at(10, 1, 0, 1, 2))
	moved := step(at(20, 3, 2, 3, 0))
	assert.Equal(t, []int64{0, 0}, []int64{of(t, moved, 2).Units[amount.CPU], of(t, moved, 2).Units[amount.Disk]})
	assert.Equal(t, []int64{2000, 0}, []int64{of(t, moved, 3).Units[amount.CPU], of(t, moved, 3).Units[amount.Disk]},
		"its CPU time no group has")
	later := step(at(30, 8, 2, 3, 0))
	for _, w := range []account.WorkloadID{2, 3} {
		u := of(t, later, w)
		assert.Equal(t, []int64{5000, 500}, []int64{u.Units[amount.CPU], u.Units[amount.Disk]})
	}
	assert.Equal(t, []int64{0, 3000}, []int64{of(t, moved, 2).Figures.Units[amount.CPUUser],
		of(t, later, 2).Figures.Units[amount.CPUUser]})
	assert.Zero(t, of(t, moved, 0).Units[amount.CPU], "and the group has what it counted, which was nothing more")
}

func TestRunning_TellsWhatEachProcessUsed(t *testing.T) {
	var tracker account.Tracker
	process := func(pid int32, start int64, w account.WorkloadID, micros, disk int64) account.Process {
		return account.Process{PID: pid, Start: start, Workload: w, Threads: 1, CPUMicros: micros, DiskBytes: disk}
	}
	running := func() map[int32][2]int64 {
		used := map[int32][2]int64{}
		list, _ := tracker.Running()
		for _, u := range list {
			used[u.PID] = [2]int64{u.Micros, u.Bytes}
		}
		return used
	}
	_, err := tracker.Step(host(10*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(1, 1, 0, 100, 10), process(3, 1, 0, 1, 10), process(4, 1, 0, 100, -1),
			process(5, 1, 0, 5, 0), process(9, 1, 0, 5, 0)}
	}))
	require.ErrorIs(t, err, account.ErrFirstReading)
	require.Empty(t, running())
	_, err = tracker.Step(host(13*time.Second, func(r *account.Reading) {
		ended := process(8, 1100, 0, 70, 0)
		ended.Ended = true
		r.Processes = []account.Process{process(1, 1, 0, 130, 25), process(2, 998, 0, 7, 3), process(3, 1100, 0, 9, 30),
			process(4, 1, 0, 140, 40), process(5, 1, 0, 6, -1), process(6, 997, 0, 8, 8),
			process(7, 1, account.Unrecognised, 9, 9), ended, process(9, 1, 0, 5, 0),
			process(10, 1100, 0, 2, 0)}
	}))
	require.NoError(t, err)
	assert.Equal(t, map[int32][2]int64{1: {30, 15}, 2: {7, -1}, 3: {9, -1}, 4: {40, -1}, 5: {1, -1}, 6: {0, -1},
		9: {0, 0}, 10: {2, -1}}, running())
	_, over := tracker.Running()
	assert.Equal(t, 3*time.Second, over)
}

func TestDevices_TheTimeTheyTookIsInMicroseconds(t *testing.T) {
	at := func(n int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.Groups = []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasDisk, DiskBytes: 12 * n,
				Devices: []account.DeviceIO{
					{Major: 8, Read: 5 * n, Written: 7 * n, ReadOps: n, WriteOps: 2 * n, ReadNanos: 3000 * n,
						WriteNanos: 9000 * n},
					{Major: 8, Minor: 1, Read: 4 * n, WriteOps: n},
					{Major: 8, Minor: 2, Read: 4 * n},
				}}}
			r.Disks = append(r.Disks, account.Disk{Name: "sdb", Major: 8, Minor: 16})
		}
	}
	iv := between(t, host(10*time.Second, at(0)), host(20*time.Second, at(3)))[0]
	u := of(t, iv, 0)
	assert.Equal(t, []account.DeviceUse{
		{Device: 8 << 20, Read: 15, Written: 21, ReadOps: 3, WriteOps: 6, Micros: 36},
		{Device: 8<<20 | 1, Read: 12, WriteOps: 3}, {Device: 8<<20 | 2, Read: 12},
	}, u.Devices)
	for m, want := range map[amount.Measure]int64{amount.DiskRead: 15, amount.DiskWritten: 21, amount.DiskReads: 3,
		amount.DiskWrites: 6, amount.DiskTime: 36} {
		got, there := u.Figures.Get(m)
		assert.True(t, there, "%s", m)
		assert.Equal(t, want, got, "%s: a partition's are its drive's, and what is no disk here is not counted", m)
	}
}

// A workload without groups reads through the drive and a loop on it; it dirties what the kernel writes later.
func TestDevices_ReadsOfWhoHasNoGroupAreDividedByWhatTheyRead(t *testing.T) {
	process := func(pid int32, w account.WorkloadID, disk, read int64) account.Process {
		return account.Process{PID: pid, Start: 1, Workload: w, Threads: 1, DiskBytes: disk, ReadBytes: read,
			WaitMicros: -1}
	}
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(1, 0, 0, 0), process(2, 1, 0, 0), process(3, 2, 0, 0)}
		r.NoGroup = []account.DeviceIO{{Major: 7}, {Major: 8}}
	}), host(20*time.Second, func(r *account.Reading) {
		r.Processes = []account.Process{process(1, 0, 900, 600), process(2, 1, 300, 300), process(3, 2, 0, 0)}
		r.NoGroup = []account.DeviceIO{{Major: 7, Read: 90}, {Major: 8, Read: 450, Written: 100, ReadOps: 7}}
	}))[0]
	a, b := of(t, iv, 0), of(t, iv, 1)
	assert.Equal(t, []account.DeviceUse{{Device: 7 << 20, Read: 60, Source: amount.Split},
		{Device: 8 << 20, Read: 300, Written: 100, Source: amount.Split}}, a.Devices)
	assert.Equal(t, []account.DeviceUse{{Device: 7 << 20, Read: 30, Source: amount.Split},
		{Device: 8 << 20, Read: 150, Source: amount.Split}}, b.Devices)
	assert.Equal(t, []int64{400, 150, 0}, []int64{a.Units[amount.Disk], b.Units[amount.Disk],
		of(t, iv, 2).Units[amount.Disk]})
	assert.Equal(t, amount.Summed, of(t, iv, 2).Source[amount.Disk], "it moved nothing, which is known")
}

func TestFigures_OfProcessesAreSummedWhereNoGroupCounts(t *testing.T) {
	at := func(n int64, p *account.Process) func(r *account.Reading) {
		return func(r *account.Reading) {
			x := *p
			x.PID, x.Start, x.Threads, x.LastCPU = 1, 1, 1, -1
			x.UserMicros, x.SystemMicros, x.CPUMicros = 5*n, 3*n, 8*n
			if x.WaitMicros >= 0 {
				x.WaitMicros = 2 * n
			}
			r.Processes = []account.Process{x}
		}
	}
	figures := func(first, second *account.Process) map[amount.Measure]int64 {
		iv := between(t, host(10*time.Second, at(10, first)), host(20*time.Second, at(17, second)))[0]
		f := of(t, iv, 0).Figures
		got := map[amount.Measure]int64{}
		for m := range f.Set.All() {
			got[m] = f.Units[m]
		}
		return got
	}
	told := &account.Process{AnonBytes: 400, SwapBytes: 30, PSSBytes: 70}
	silent := &account.Process{AnonBytes: 400, SwapBytes: -1, PSSBytes: -1, WaitMicros: -1}
	nought := &account.Process{AnonBytes: 400}
	assert.Equal(t, map[amount.Measure]int64{amount.CPUUser: 35, amount.CPUSystem: 21, amount.CPUWait: 14,
		amount.MemoryAnon: 4_000_000, amount.MemorySwap: 300_000, amount.MemoryProportional: 700_000},
		figures(told, told))
	assert.Equal(t, map[amount.Measure]int64{amount.CPUUser: 35, amount.CPUSystem: 21, amount.MemoryAnon: 4_000_000},
		figures(silent, silent))
	assert.Equal(t, map[amount.Measure]int64{amount.CPUUser: 35, amount.CPUSystem: 21, amount.CPUWait: 14,
		amount.MemoryAnon: 4_000_000, amount.MemorySwap: 0, amount.MemoryProportional: 0}, figures(nought, nought),
		"nothing is a figure too")
	assert.NotContains(t, figures(silent, told), amount.CPUWait, "a wait that was not told before has not grown")
}

func TestLedgers_SayWhyAHostHasNone(t *testing.T) {
	at := func(disks []account.Disk, interfaces []account.Interface) *account.Interval {
		set := func(r *account.Reading) { r.Disks, r.Interfaces = disks, interfaces }
		return between(t, host(10*time.Second, set), host(20*time.Second, set))[0]
	}
	iv := at([]account.Disk{{Name: "sda1", Inner: true}}, []account.Interface{{Name: "lo", Inner: true}})
	disk, network := iv.Ledgers[amount.Disk], iv.Ledgers[amount.Network]
	assert.Equal(t, "this host has no disk", disk.Capacity.Reason)
	assert.Equal(t, "this host has no disk", disk.Residual.Reason)
	assert.True(t, disk.Kernel.OK())
	assert.Equal(t, "no interface leads off this host", network.Capacity.Reason)
	assert.Equal(t, "no interface leads off this host", network.Used.Reason)

	iv = at([]account.Disk{{Name: "sda"}, {Name: "sdb", RateBytesPerSecond: 10}, {Name: "sdc"}},
		[]account.Interface{{Name: "uplink0"}, {Name: "uplink1", SpeedBitPerSecond: 80}, {Name: "uplink2"}})
	assert.Contains(t, iv.Ledgers[amount.Disk].Capacity.Reason, "for sda, sdc")
	assert.Contains(t, iv.Ledgers[amount.Network].Idle.Reason, "of uplink0, uplink2 does")
	assert.True(t, iv.Ledgers[amount.Disk].Used.OK())

	iv = at([]account.Disk{{Name: "sda", RateBytesPerSecond: 300}, {Name: "sdb", RateBytesPerSecond: 10}},
		[]account.Interface{{Name: "uplink1", SpeedBitPerSecond: 80}, {Name: "uplink2", SpeedBitPerSecond: 160}})
	assert.Equal(t, int64(3_100), iv.Ledgers[amount.Disk].Capacity.Units, "bytes in ten seconds")
	assert.Equal(t, int64(600), iv.Ledgers[amount.Network].Capacity.Units, "both directions at once")
}

// A namespace's own interfaces tell more than its open sockets, and less than counters of its cgroup.
func TestNamespaces_AreTakenBeforeOpenSocketsAndAfterCountedOnes(t *testing.T) {
	at := func(n int64, added account.Has, local int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			g := account.Group{ID: 1, Workload: 0, Outer: -1, Has: account.HasNetwork, Added: added,
				NetworkBytes: 10 * n}
			source := amount.Counted
			if added != 0 {
				source = amount.Summed
			}
			for i, m := range []amount.Measure{amount.NetworkReceived, amount.NetworkSent, amount.NetworkLocalReceived,
				amount.NetworkLocalSent} {
				g.Figures.Put(m, int64(i+1)*n, source)
			}
			r.Groups = []account.Group{g}
			r.Namespaces = []account.Namespace{{ID: 7, Workload: 0, Received: 50 * n, Sent: 30 * n, Local: local * n},
				{ID: 8, Workload: account.Unrecognised, Received: 70 * n}, {ID: 9, Workload: 1, Sent: 3 * n, Local: -1}}
			if local < 0 {
				r.Namespaces[0].Local = -1
			}
		}
	}
	for name, x := range map[string]struct {
		added account.Has
		local int64
		want  [5]int64
	}{
		"counted by cgroup":                {0, 9, [5]int64{100, 10, 20, 30, 40}},
		"of open sockets":                  {account.HasNetwork, 9, [5]int64{800, 500, 300, 90, 90}},
		"of open sockets, loopback unseen": {account.HasNetwork, -1, [5]int64{800, 500, 300, 30, 40}},
		"of open sockets, loopback unused": {account.HasNetwork, 0, [5]int64{800, 500, 300, 0, 0}},
	} {
		iv := between(t, host(10*time.Second, at(1, x.added, x.local)),
			host(20*time.Second, at(11, x.added, x.local)))[0]
		u := of(t, iv, 0)
		got := [5]int64{u.Units[amount.Network]}
		for i, m := range []amount.Measure{amount.NetworkReceived, amount.NetworkSent, amount.NetworkLocalReceived,
			amount.NetworkLocalSent} {
			got[i+1], _ = u.Figures.Get(m)
		}
		assert.Equal(t, x.want, got, name)
		assert.Equal(t, amount.Counted, u.Source[amount.Network], name)
		assert.Equal(t, int64(30), of(t, iv, 1).Units[amount.Network])
	}
}

// What is known to be nothing is a figure; what took no time that is known is none.
func TestFigures_OfNothing(t *testing.T) {
	at := func(n int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.SplitsDisk = false
			r.Processes = []account.Process{{PID: 1, Start: 1, Workload: 0, Threads: 1, LastCPU: 3, UserMicros: 1},
				{PID: 2, Start: 1, Workload: 1, Threads: 1, LastCPU: 3, DiskBytes: -1}}
			r.Groups = []account.Group{{ID: 1, Workload: 2, Outer: -1, Has: account.HasDisk,
				Devices: []account.DeviceIO{{Major: 8, Read: n}}}}
		}
	}
	iv := between(t, host(10*time.Second, at(1)), host(20*time.Second, at(3)))[0]
	idle, hidden := of(t, iv, 0), of(t, iv, 1)
	waited, known := idle.Figures.Get(amount.CPUWait)
	assert.True(t, known)
	assert.Zero(t, waited)
	assert.Equal(t, []amount.Source{amount.Summed, amount.Unavailable}, []amount.Source{idle.Source[amount.Disk],
		hidden.Source[amount.Disk]})
	assert.Empty(t, idle.CPUs, "it ran nowhere")
	f := of(t, iv, 2).Figures
	_, known = f.Get(amount.DiskTime)
	assert.False(t, known, "how long its operations took was not counted")
	read, _ := f.Get(amount.DiskRead)
	assert.Equal(t, int64(2), read)
}

// A group that was made since the last reading has counted from nothing. One that was there, and whose figure is new,
// has no growth of it yet.
func TestFigures_OfAGroupCountFromItsBirthOnly(t *testing.T) {
	at := func(of account.WorkloadID, born bool, measures ...amount.Measure) account.Group {
		g := account.Group{ID: uint64(10 + of), Workload: of, Outer: -1, Born: born, Has: account.HasCPU, CPUMicros: 5}
		for _, m := range measures {
			g.Figures.Put(m, 40, amount.Counted)
		}
		return g
	}
	iv := between(t, host(10*time.Second, func(r *account.Reading) {
		r.Groups = []account.Group{at(0, true)}
	}), host(20*time.Second, func(r *account.Reading) {
		r.Groups = []account.Group{at(0, true, amount.CPUUser), at(1, true, amount.CPUUser),
			at(2, false, amount.CPUUser)}
	}))[0]
	for w, want := range []bool{false, true, false} {
		for _, u := range iv.Usages {
			if u.Workload == account.WorkloadID(w) {
				_, known := u.Figures.Get(amount.CPUUser)
				assert.Equal(t, want, known, "workload %d", w)
			}
		}
	}
}

func TestIdleTask_WhatIsLeftIsCarriedOn(t *testing.T) {
	// In the first interval the idle task was there for 100 ms more than the CPU was idle, and 90 ms are told by
	// nothing: 10 ms are carried. In the second 20 ms are told by nothing, and the idle task was there as long as it
	// was idle.
	reading := func(at time.Duration, ran, idle, idleTask int64) *account.Reading {
		return host(at, func(r *account.Reading) {
			r.CPUs = []account.CPUTimes{{CPU: 0, User: ran, Idle: idle}, {CPU: 1, Idle: 7_000_000}}
			r.RanMicros, r.IdleTaskMicros = []int64{ran, 0}, []int64{40 + idleTask, 900_000_000 + at.Microseconds()}
		})
	}
	iv := between(t, reading(10*time.Second, 0, 0, 0), reading(15*time.Second, 3_000_000, 1_910_000, 2_010_000),
		reading(20*time.Second, 6_000_000, 3_890_000, 3_990_000))
	assert.Equal(t, []int64{90_000, 10_000}, []int64{iv[0].Ledgers[amount.CPU].Kernel.Units,
		iv[1].Ledgers[amount.CPU].Kernel.Units}, "of CPU 1, which was away, nothing is the kernel's")
}

func TestSteal_OfAnIdleCPUIsHeldAgainstItsIdleTime(t *testing.T) {
	iv := between(t, host(10*time.Second, func(r *account.Reading) { r.RanMicros = []int64{0, 0} }),
		host(15*time.Second, func(r *account.Reading) {
			r.CPUs[0].Idle, r.CPUs[0].Steal = 15_000_000, 1_000_000 // 5 s idle, and 1 s taken of the same
			r.RanMicros = []int64{0, 0}
		}))[0]
	assert.Zero(t, iv.Ledgers[amount.CPU].Steal.Units)
	assert.Zero(t, iv.Ledgers[amount.CPU].Residual.Units)
}

func TestDevices_AreKnownByOneNumber(t *testing.T) {
	assert.Equal(t, int32(8<<20|17), (&account.Disk{Major: 8, Minor: 17}).Number())
	assert.Equal(t, int32(8<<20|17), (&account.Latency{Major: 8, Minor: 17}).Number())
}

func TestDevices_OfAGroupThatWasNotSeenBeforeHaveNoUseYet(t *testing.T) {
	group := func(of account.WorkloadID, born bool) account.Group {
		return account.Group{ID: uint64(of) + 1, Workload: of, Outer: -1, Born: born, Has: account.HasDisk,
			Devices: []account.DeviceIO{{Major: 8, Read: 900}}}
	}
	iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
		r.Groups = []account.Group{group(0, false), group(1, true)}
	}))[0]
	assert.Empty(t, of(t, iv, 0).Devices)
	assert.Equal(t, []account.DeviceUse{{Device: 8 << 20, Read: 900}}, of(t, iv, 1).Devices)
}

// What goes to a loop goes to the drive below it once more. It is taken off what is not yet written once.
func TestWrittenBack_ThroughALoopIsWrittenOnce(t *testing.T) {
	at := func(dirtied, issued, free int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.Processes = []account.Process{{PID: 1, Start: 1, Workload: 0, Threads: 1, DiskBytes: dirtied,
				WaitMicros: -1}}
			r.Groups = []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasDisk, DiskBytes: issued,
				Devices: []account.DeviceIO{{Major: 7, Written: issued}, {Major: 8, Written: issued}}}}
			r.NoGroup = []account.DeviceIO{{Major: 8, Written: free}}
			r.Disks[0].WrittenBytes = issued + free
		}
	}
	iv := between(t, host(10*time.Second, at(0, 0, 0)), host(20*time.Second, at(500, 300, 200)))[0]
	assert.Equal(t, int64(500), of(t, iv, 0).Units[amount.Disk])
	l := iv.Ledgers[amount.Disk]
	assert.Equal(t, []int64{500, 0, 0}, []int64{l.Used.Units, l.Kernel.Units, l.Residual.Units})
}

func TestFigures_PutAllAndClear(t *testing.T) {
	var a, b account.Figures
	a.Put(amount.CPUUser, 1, amount.Counted)
	a.Put(amount.CPUSystem, 2, amount.Counted)
	b.Put(amount.CPUSystem, 30, amount.Split)
	a.PutAll(&b)
	assert.Equal(t, []int64{1, 30}, []int64{a.Units[amount.CPUUser], a.Units[amount.CPUSystem]})
	assert.Equal(t, amount.Split, a.Source[amount.CPUSystem])
	a.Clear()
	assert.Equal(t, account.Figures{}, a)
}

func TestAdd_JoinsPartsAndKeepsWhyALineIsMissing(t *testing.T) {
	interval := func(part int32, micros int64, line account.Line) *account.Interval {
		iv := &account.Interval{Usages: []account.Usage{{Workload: 1, Parts: []account.PartUse{{Part: 1, Micros: 5},
			{Part: part, Micros: micros}}}}}
		iv.Ledgers[amount.CPU].Idle = line
		return iv
	}
	known, missing := account.Line{Units: 7}, account.Line{Reason: "it is not told"}
	sum := interval(2, 10, known).Add(interval(3, 20, known))
	assert.Equal(t, []account.PartUse{{Part: 1, Micros: 10}, {Part: 2, Micros: 10}, {Part: 3, Micros: 20}},
		of(t, sum, 1).Parts)
	assert.Equal(t, account.Line{Units: 14}, sum.Ledgers[amount.CPU].Idle)
	for _, sum := range []*account.Interval{interval(2, 1, known).Add(interval(2, 1, missing)),
		interval(2, 1, missing).Add(interval(2, 1, known))} {
		assert.Equal(t, missing, sum.Ledgers[amount.CPU].Idle)
	}
}

func TestLedger_OfWhatCouldNotBeReadSaysWhy(t *testing.T) {
	iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
		r.Unavailable[amount.Network] = "the counters of interfaces may not be read"
	}))[0]
	l := iv.Ledgers[amount.Network]
	for _, line := range []account.Line{l.Capacity, l.Used, l.Idle, l.Residual} {
		assert.Equal(t, "the counters of interfaces may not be read", line.Reason)
	}
}

func TestNamespaces_ThatWereNotSeenBeforeHaveNoUseYet(t *testing.T) {
	iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
		r.Namespaces = []account.Namespace{{ID: 7, Workload: 0, Received: 900}, {ID: 8, Workload: 1, Received: 40,
			Born: true}}
	}))[0]
	assert.Equal(t, []int64{0, 40}, []int64{of(t, iv, 0).Units[amount.Network], of(t, iv, 1).Units[amount.Network]})
}

func TestNamespaces_ALoopbackThatIsNotUsedIsKnownToBe(t *testing.T) {
	iv := between(t, host(10*time.Second, none), host(20*time.Second, func(r *account.Reading) {
		r.Namespaces = []account.Namespace{{ID: 7, Workload: 0, Received: 9, Born: true}}
	}))[0]
	f := of(t, iv, 0).Figures
	local, known := f.Get(amount.NetworkLocalSent)
	assert.True(t, known)
	assert.Zero(t, local)
}

// What was dirtied on a loop's filesystem is written by the kernel to the loop, and then to the drive below it.
func TestWrittenBack_ToALoopIsDividedToo(t *testing.T) {
	at := func(dirtied, written int64) func(r *account.Reading) {
		return func(r *account.Reading) {
			r.Processes = []account.Process{{PID: 1, Start: 1, Workload: 0, Threads: 1, DiskBytes: dirtied,
				WaitMicros: -1}}
			r.NoGroup = []account.DeviceIO{{Major: 7, Written: written}, {Major: 8, Written: written}}
		}
	}
	iv := between(t, host(10*time.Second, at(0, 0)), host(20*time.Second, at(500, 300)))[0]
	u := of(t, iv, 0)
	assert.Equal(t, int64(300), u.Units[amount.Disk])
	assert.Equal(t, []account.DeviceUse{{Device: 7 << 20, Written: 300, Source: amount.Split},
		{Device: 8 << 20, Written: 300, Source: amount.Split}}, u.Devices)
}

func TestPartPeaks_OfEveryFigureInItsUnit(t *testing.T) {
	drive := account.Disk{Name: "sda", ReadBytes: 8_200, WrittenBytes: 17_200, ReadOps: 50, WriteOps: 30,
		ReadMillis: 330, WriteMillis: 470, DiscardedBytes: 1_004, Flushes: 7, BusyMillis: 1_460, QueueMillis: 6_320}
	idle := account.Disk{Name: "sdb", BusyMillis: 4_001, ReadMillis: 3} // two clocks; and nothing was done
	iv := (&account.Interval{ElapsedMillis: 4_000, Ticks: 2, Detail: account.Detail{
		Disks: []account.Disk{drive, idle},
		Interfaces: []account.Interface{{Name: "uplink0", Received: 890, Sent: 97_000, ReceivedPackets: 21,
			SentPackets: 13, ReceivedDropped: 5, SentDropped: 4, ReceivedErrors: 2, SentErrors: 9},
			{Name: "uplink1", Received: 1 << 62, Sent: 1, ReceivedDropped: -3, SentErrors: 1}},
		GPUs: []account.GPUTotal{{Name: "gpu0", Micros: 700_000, Told: 2_000, Units: 9_000_000, UnitsTold: 3_000},
			{Name: "gpu1", Micros: 5, UnitsTold: 3_000}},
		CPUs: []account.CPUTimes{{CPU: 3, User: 101, Nice: 53, System: 211, IRQ: 17, SoftIRQ: 29, Steal: 89, Idle: 313,
			IOWait: 187}, {CPU: 4, Idle: 900, IOWait: 100}}}}).AsTick()
	got := map[string]int64{}
	for _, p := range iv.Detail.Peaks {
		got[p.Part+" "+p.Figure] = p.Milli
	}
	assert.Equal(t, map[string]int64{
		"sda drive_busy_percent": 36_500, "sda drive_queue": 1_580, "sda drive_latency_ms": 10_000,
		"sda drive_read_bytes": 2_050_000, "sda drive_written_bytes": 4_300_000, "sda drive_reads": 12_500,
		"sda drive_writes": 7_500, "sda drive_discarded_bytes": 251_000, "sda drive_flushes": 1_750,
		"sdb drive_busy_percent":           100_000,
		"uplink0 interface_received_bytes": 222_500, "uplink0 interface_sent_bytes": 24_250_000,
		"uplink0 interface_received_packets": 5_250, "uplink0 interface_sent_packets": 3_250,
		"uplink0 interface_dropped_packets": 2_250, "uplink0 interface_errors": 2_750,
		"uplink1 interface_received_bytes": account.HighestPeak, "uplink1 interface_sent_bytes": 250,
		"uplink1 interface_errors": 250,
		"gpu0 gpu_busy_percent":    35_000, "gpu0 gpu_taken_bytes": 3_000_000,
		"3 cpu_busy_percent": 50_000, "3 cpu_kernel_percent": 21_100, "3 cpu_interrupts_percent": 4_600,
		"3 cpu_waiting_percent": 18_700, "3 cpu_taken_percent": 8_900,
		"4 cpu_waiting_percent": 10_000,
	}, got)
}
