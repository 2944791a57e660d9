package hub_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/store"
)

// TestMemory_OfABigHostOverALongSpanDoesNotOverflow adds up byte-milliseconds that are more than 63 bits hold.
func TestMemory_OfABigHostOverALongSpanDoesNotOverflow(t *testing.T) {
	const huge = 24 << 40 // bytes
	f := newFixture(t)
	f.dress = func(iv *account.Interval) {
		iv.Detail.MemoryOwn, iv.Detail.MemoryCache = huge*60_000, huge*60_000
		iv.Usages[0].Figures.Put(amount.MemoryAnon, huge*60_000, amount.Counted)
		iv.Usages[0].Swapped = []account.SwapUse{{Swap: "/dev/sdb2", Units: huge * 60_000},
			{Swap: "/dev/sdc2", Units: huge / 2 * 60_000}}
	}
	for minute := range 8 { // eight minutes of it are 1.3e19
		require.NoError(t, f.send(minute, job("a", "m.abt")))
	}
	m, err := f.Memory(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	assert.InEpsilon(t, float64(huge), *m.Own, 1e-9)
	assert.InEpsilon(t, float64(huge), *m.Cache, 1e-9)
	require.Len(t, m.Workloads, 1)
	require.Len(t, m.Workloads[0].Figures, 1)
	assert.InEpsilon(t, float64(huge), m.Workloads[0].Figures[0].Value, 1e-9)
	assert.Equal(t, []explain.SwapOn{{Swap: "/dev/sdb2", Bytes: huge, Source: "summed"},
		{Swap: "/dev/sdc2", Bytes: huge / 2, Source: "summed"}}, m.Workloads[0].SwapOn)
}

// TestLinks_NameWhoIsAtTheOtherEndNow moves an interface from one workload to another.
func TestLinks_NameWhoIsAtTheOtherEndNow(t *testing.T) {
	f := newFixture(t)
	for minute, end := range []account.WorkloadID{0, 1, account.Unrecognised} {
		f.dress = func(iv *account.Interval) {
			iv.Detail.Interfaces = []account.Interface{{Name: "veth3", Kind: "veth", Inner: true, Received: 6000,
				Workload: end, Peer: map[bool]string{true: "veth4"}[end < 0]}}
		}
		require.NoError(t, f.send(minute, job("a", "m.abt"), job("b", "t.fink")))
		l, err := f.Links(ctx, f.host.Name, f.span())
		require.NoError(t, err)
		require.Len(t, l.Interfaces, 1)
		x := l.Interfaces[0]
		assert.InDelta(t, 100, x.Received, 1e-9, "bytes per second, over all minutes")
		if end < 0 {
			assert.Nil(t, x.OtherEnd)
			assert.Equal(t, "veth4", x.Peer)
			continue
		}
		require.NotNil(t, x.OtherEnd)
		assert.Equal(t, []string{"a", "b"}[end], x.OtherEnd.Name)
	}
}

// TestFigures_WhatIsNotCountedIsNullAndNeverZero has one workload counted packet by packet and operation by operation,
// one not.
func TestFigures_WhatIsNotCountedIsNullAndNeverZero(t *testing.T) {
	f := newFixture(t)
	const sdb = 8<<20 | 16
	f.dress = func(iv *account.Interval) {
		iv.Detail.Disks = []account.Disk{{Name: "sdb", Major: 8, Minor: 16, WrittenBytes: 120e6, WriteOps: 600}}
		for i := range iv.Usages {
			u := &iv.Usages[i]
			u.Devices = []account.DeviceUse{{Device: sdb, Written: 60e6, WriteOps: 300, Source: amount.Counted}}
			u.Figures.Put(amount.NetworkReceived, 6e6, amount.Summed)
			u.Figures.Put(amount.NetworkSent, 6e6, amount.Summed)
		}
		iv.Usages[0].Devices[0].Micros = 30e6
		for _, m := range []amount.Measure{amount.NetworkPacketsReceived, amount.NetworkPacketsSent,
			amount.NetworkLocalReceived, amount.NetworkLocalSent} {
			iv.Usages[0].Figures.Put(m, 600, amount.Counted)
		}
	}
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	l, err := f.Links(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	require.Len(t, l.Workloads, 2)
	for _, x := range l.Workloads {
		if x.Name == "b" {
			assert.Nil(t, x.Packets)
			assert.Nil(t, x.Local)
			continue
		}
		assert.InDelta(t, 20, *x.Packets, 1e-9)
		assert.InDelta(t, 20, *x.Local, 1e-9)
	}
	d, err := f.Disks(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	require.Len(t, d.Devices, 1)
	require.Len(t, d.Devices[0].Users, 2)
	for _, x := range d.Devices[0].Users {
		if x.Name == "b" {
			assert.Nil(t, x.TimeMean)
			assert.Nil(t, x.Latency)
			continue
		}
		assert.InDelta(t, 0.5, *x.TimeMean, 1e-9, "an operation of it was in the device half of the time")
		assert.InDelta(t, 100, *x.Latency, 1e-9, "300 of them took half a minute")
	}
}

// TestDisks_PartsThatWereNeverUsedAreThereAndADriveThatCameLaterIsNot has a volume on a partition of a drive, none of
// them used but the drive, and another drive in the inventory of which nothing was recorded.
func TestDisks_PartsThatWereNeverUsedAreThereAndADriveThatCameLaterIsNot(t *testing.T) {
	f := newFixture(t)
	f.dress = func(iv *account.Interval) {
		iv.Detail.Disks = []account.Disk{{Name: "sdb", Major: 8, Minor: 16, WrittenBytes: 120e6, WriteOps: 600}}
	}
	f.parts = &account.Inventory{Devices: []account.Device{
		{Name: "dm-0", Number: 253 << 20, Kind: "volume", Parents: []string{"sdb1"}},
		{Name: "sdb", Number: 8<<20 | 16, Kind: "drive"},
		{Name: "sdb1", Number: 8<<20 | 17, Kind: "partition", Parents: []string{"sdb"}},
		{Name: "sdc", Number: 8<<20 | 32, Kind: "drive"},
		{Name: "sdc1", Number: 8<<20 | 33, Kind: "partition", Parents: []string{"sdc"}},
	}}
	require.NoError(t, f.send(0, job("a", "m.abt")))
	d, err := f.Disks(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	var got []string
	for _, x := range d.Devices {
		got = append(got, strings.Repeat(" ", x.Depth)+x.Name+": "+x.MountState)
	}
	assert.Equal(t, []string{"sdb: not mountable (divided)", " sdb1: in use by dm-0", "  dm-0: not mounted"}, got)
}

// TestAbout_ALevelThatIsKnownSeldomIsItsMeanWhereItIsKnown tells the space of files that were counted late in the span.
func TestAbout_ALevelThatIsKnownSeldomIsItsMeanWhereItIsKnown(t *testing.T) {
	f := newFixture(t)
	for minute := range 4 {
		f.dress = func(iv *account.Interval) {
			iv.Usages[0].Figures.Put(amount.MemoryAnon, map[bool]int64{true: 1000 * 60_000}[minute == 3],
				amount.Counted)
			if minute == 3 {
				iv.Usages[0].Figures.Put(amount.SpaceUsed, 5000*60_000, amount.Summed)
			}
		}
		require.NoError(t, f.send(minute, job("a", "m.abt")))
	}
	found, err := f.Find(ctx, "a", "")
	require.NoError(t, err)
	require.NotEmpty(t, found)
	about, err := f.AboutWorkload(ctx, found[0].ID, f.span())
	require.NoError(t, err)
	values := map[string]float64{}
	for _, m := range about.Figures {
		values[m.Name] = m.Value
	}
	assert.InDelta(t, 5000, values["space_used_bytes"], 1e-6)
	assert.InDelta(t, 250, values["memory_anon_bytes"], 1e-6,
		"what stood for a quarter of the time is a quarter in the mean")
	assert.Empty(t, about.Space)
}

// TestLoad_IsOfTheNewestIntervalAndWhatIsNotToldIsNotThere has a kernel that tells load and pressure, and then one that
// does not.
func TestLoad_IsOfTheNewestIntervalAndWhatIsNotToldIsNotThere(t *testing.T) {
	f := newFixture(t)
	for minute, load := range [][]float64{{1, 2, 3}, {7.5, 4, 3.5}} {
		f.dress = func(iv *account.Interval) {
			iv.Detail.Load = load
			iv.Detail.CPUs = []account.CPUTimes{{CPU: 0, User: 60e6}}
			iv.Detail.Pressure = []account.Pressure{{Resource: "cpu", Some: 30e6},
				{Resource: "io", Some: 12e6, Full: 6e6}}
		}
		require.NoError(t, f.send(minute, job("a", "m.abt")))
	}
	c, err := f.CPUs(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	require.NotNil(t, c.Load)
	assert.Equal(t, []float64{7.5, 4, 3.5}, []float64{c.Load.One, c.Load.Five, c.Load.Fifteen})
	tenth := 0.1
	assert.Equal(t, []explain.Pressure{{Resource: "cpu", Some: 0.5}, {Resource: "io", Some: 0.2, Full: &tenth}},
		c.Pressure,
		"of memory nothing is told")
	loads, err := f.Loads(ctx, []store.Host{f.host})
	require.NoError(t, err)
	assert.Empty(t, loads, "it has been silent for most of an hour")
	f.now = noon.Add(4 * time.Minute)
	loads, err = f.Loads(ctx, []store.Host{f.host})
	require.NoError(t, err)
	assert.Equal(t, c.Load, loads[f.host.Name])
	f.dress = nil
	require.NoError(t, f.send(2, job("a", "m.abt")))
	loads, err = f.Loads(ctx, []store.Host{f.host})
	require.NoError(t, err)
	assert.Empty(t, loads, "its newest interval tells none")
	c, err = f.CPUs(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	assert.Nil(t, c.Load)
}

// TestMemory_ASleeperIsToldSinceWhenAndOneThatWokeIsNone has three workloads of 2 GiB: one never did anything, one
// stopped, one woke.
func TestMemory_ASleeperIsToldSinceWhenAndOneThatWokeIsNone(t *testing.T) {
	f := newFixture(t)
	for minute := range 15 {
		f.dress = func(iv *account.Interval) {
			for i := range iv.Usages {
				u := &iv.Usages[i]
				u.Units[amount.Memory] = 2 << 30 * 60_000
				u.Units[amount.CPU] = 1000
				if i == 1 && minute < 3 || i == 2 && minute == 12 {
					u.Units[amount.CPU] = 1e6
				}
			}
		}
		at := minute
		if minute >= 5 {
			at += 5 // nothing is recorded for five minutes, and so nobody is known to have slept
		}
		require.NoError(t, f.send(at, job("a", "m.abt"), job("b", "t.fink"), job("c", "t.fink")))
	}
	m, err := f.Memory(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	got := map[string]*explain.Sleep{}
	for _, x := range m.Workloads {
		got[x.Name] = x.Asleep
	}
	require.NotNil(t, got["a"])
	assert.Equal(t, []any{15.0, true}, []any{got["a"].Minutes, got["a"].Longer})
	require.NotNil(t, got["b"])
	assert.Equal(t, []any{12.0, false}, []any{got["b"].Minutes, got["b"].Longer})
	assert.Nil(t, got["c"])
}

// TestDisks_WhereNothingIsCountedByDeviceADriveIsSplit has a host that knows what its workloads read and dirtied, and
// what its drive moved.
func TestDisks_WhereNothingIsCountedByDeviceADriveIsSplit(t *testing.T) {
	f := newFixture(t)
	f.dress = func(iv *account.Interval) {
		iv.Detail.Disks = []account.Disk{{Name: "sdb", Major: 8, Minor: 16, ReadBytes: 60e6, WrittenBytes: 120e6,
			WriteOps: 600}}
		for i := range iv.Usages {
			iv.Usages[i].Units[amount.Disk] = []int64{90e6, 30e6}[i]
			iv.Usages[i].Source[amount.Disk] = amount.Summed
		}
	}
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	d, err := f.Disks(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	require.Len(t, d.Devices, 1)
	require.Len(t, d.Devices[0].Users, 2)
	first := d.Devices[0].Users[0]
	assert.Equal(t, []any{"a", 0.75, 0.75e6, 1.5e6, "split"},
		[]any{first.Name, first.Share, first.ReadRate, first.WriteRate, first.Source})
	assert.Nil(t, first.TimeMean)
}

// TestDisks_DrivesBehindOneControllerAreAddedUp has two drives on one controller, and one on another, which two
// workloads use.
func TestDisks_DrivesBehindOneControllerAreAddedUp(t *testing.T) {
	f := newFixture(t)
	f.dress = func(iv *account.Interval) {
		for i, name := range []string{"sda", "sdb", "sdc"} {
			iv.Detail.Disks = append(iv.Detail.Disks,
				account.Disk{Name: name, Major: 8, Minor: uint32(16 * i), WrittenBytes: 60e6, WriteOps: 600,
					QueueMillis: 60_000})
			for k := range iv.Usages {
				iv.Usages[k].Devices = append(iv.Usages[k].Devices, account.DeviceUse{
					Device: int32(8<<20 | 16*i), Written: []int64{40e6, 20e6}[k], WriteOps: 300,
					Source: amount.Source([]int{0, i}[k]),
				})
			}
		}
	}
	f.parts = &account.Inventory{Devices: []account.Device{
		{Name: "sda", Number: 8 << 20, Kind: "drive", Controller: "0000:00:05.0"},
		{Name: "sdb", Number: 8<<20 | 16, Kind: "drive", Controller: "0000:00:05.0"},
		{Name: "sdc", Number: 8<<20 | 32, Kind: "drive", Controller: "0000:00:06.0"},
	}}
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	d, err := f.Disks(ctx, f.host.Name, f.span())
	require.NoError(t, err)
	require.Len(t, d.Controllers, 2)
	both := d.Controllers[0]
	assert.Equal(t, []any{"0000:00:05.0", []string{"sda", "sdb"}, 2e6, 20.0, 2.0},
		[]any{both.Controller, both.Drives, both.WriteRate, both.Writes, both.Queue})
	require.Len(t, both.Users, 2)
	assert.Equal(t, "a", both.Users[0].Name)
	assert.InDelta(t, 2.0/3, both.Users[0].Share, 1e-9)
	assert.Equal(t, "summed", both.Users[1].Source, "as good as the weaker of both")
	assert.Equal(t, []string{"sdc"}, d.Controllers[1].Drives)
}
