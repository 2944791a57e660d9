package wire_test

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/internal/wire"
)

// TestLeaf_HoldsWhatTheIntervalTells goes through every table.
func TestLeaf_HoldsWhatTheIntervalTells(t *testing.T) {
	iv := fullBatch(t).Intervals[0]
	iv.Figures.Measures = []*wire.MeasureColumn{
		{Name: "wine_spilt_bytes", Workload: []uint32{0}, Units: []int64{9}, Source: []uint32{0}},
		{Name: "cpu", Workload: []uint32{0}, Units: []int64{9}, Source: []uint32{0}},
		{Name: amount.CPUUser.String(), Workload: []uint32{1, 0}, Units: []int64{5, 6}, Source: []uint32{1}},
		{Name: amount.CPUWait.String(), Workload: []uint32{0, 1}, Units: []int64{7, 8}, Source: []uint32{0, 2}}}
	iv.Figures.Interfaces = []*wire.Interface{{Name: "veth3", Kind: "veth", Inner: true, ReceivedBytes: 1, SentBytes: 2,
		ReceivedPackets: 3, SentPackets: 4, ReceivedDropped: 5, SentDropped: 6, ReceivedErrors: 7, SentErrors: 8,
		BitsPerSecond: 9, Workload: proto.Uint32(1), Peer: "eth9"}, {Name: "eth0"}}
	iv.Figures.Disks = []*wire.Disk{{Name: "sda", Device: 8 << 20, Inner: true, ReadBytes: 1, WrittenBytes: 2, Reads: 3,
		Writes: 4, ReadMerged: 5, WriteMerged: 6, ReadMillis: 7, WriteMillis: 8, BusyMillis: 9, QueueMillis: 10,
		DiscardedBytes: 13, Discards: 14, DiscardMillis: 15, Flushes: 16, FlushMillis: 17, InFlight: 11,
		RateBytesPerSecond: 12}}
	iv.Figures.Latencies = append(iv.Figures.Latencies, &wire.Latency{Device: 9, Discarded: true, LowMicros: 6,
		HighMicros: 7, Count: 2}, &wire.Latency{Device: 10, Written: true, LowMicros: 6, HighMicros: 7, Count: 2})
	iv.Figures.DeviceUse = &wire.DeviceUse{Workload: []uint32{1}, Device: []uint32{8 << 20}, ReadBytes: []int64{1},
		WrittenBytes: []int64{2}, Reads: []int64{3}, Writes: []int64{4}, Micros: []int64{5}, Source: []uint32{2},
		DiscardedBytes: []int64{6}, Discards: []int64{7}}
	iv.Figures.RanMicros, iv.Figures.MemoryOwn, iv.Figures.MemoryCache, iv.Figures.MemoryHuge = []int64{77}, 4, 5, 6
	iv.Usages[2].Source[0], iv.Usages[2].Units[0] = uint32(amount.Unavailable), 99
	iv.Usages = iv.Usages[:3]
	iv.Ledgers = iv.Ledgers[:3]
	iv.Detail.Pressure, iv.Detail.PressureSomeMicros, iv.Detail.PressureFullMicros = []string{"io"}, []int64{8},
		[]int64{7}
	who := make([]leaf.User, len(iv.Workloads.Key))
	for i := range who {
		who[i] = leaf.User{Workload: int64(100 + i), Tenant: int32(i % 3)}
	}
	l := iv.Leaf(3, who)
	l.Fill()
	assert.Equal(t, int32(3), l.Host)
	row := func(table string, n int, skip int) (values []any) {
		for i, c := range l.Tables[table].Schema.Columns[skip:] {
			v := l.Tables[table].Low[i+skip][n]
			if c.Word {
				values = append(values, l.Words[v])
			} else {
				values = append(values, v)
			}
		}
		return values
	}
	start := iv.FromUnixMicros
	assert.Equal(t, []any{int64(8 << 20), int64(0), start, "sda", int64(1), int64(1), int64(2), int64(3), int64(4),
		int64(5), int64(6), int64(7), int64(8), int64(9), int64(10), int64(13), int64(14), int64(15), int64(16),
		int64(17), int64(11), int64(12)}, row(leaf.Disks, 0, 0))
	assert.Equal(t, []any{"veth3", int64(0), start, "veth", int64(1), int64(1), int64(2), int64(3), int64(4), int64(5),
		int64(6), int64(7), int64(8), int64(9), int64(101), int64(1), "eth9"}, row(leaf.Links, 0, 0))
	assert.Equal(t, []any{int64(0), int64(0), int64(0), ""}, row(leaf.Links, 1, 13), "its other end is no workload's")
	assert.Equal(t, []any{int64(1), int64(8 << 20), int64(0), int64(1), int64(2), int64(3), int64(4), int64(5),
		int64(6), int64(7), int64(2)}, row(leaf.Devices, 0, 0))
	assert.Equal(t, []any{int64(0), "/dev/sda3", int64(0), int64(5)}, row(leaf.Swapped, 0, 0))
	assert.Equal(t, []any{int64(9), int64(2), int64(6), int64(7), int64(0), int64(2)}, row(leaf.Latencies, 0, 0))
	assert.Equal(t, []any{int64(10), int64(1), int64(6), int64(7), int64(0), int64(2)}, row(leaf.Latencies, 1, 0))
	assert.Equal(t, []any{int64(8 << 20), int64(0), int64(4), int64(8), int64(0), int64(3)}, row(leaf.Latencies, 2, 0))
	assert.Equal(t, []any{"io", int64(0), int64(8), int64(7), iv.ElapsedMillis}, row(leaf.Pressure, 0, 0))
	assert.Equal(t, []any{int64(0), "CPU 0", int64(0), int64(7)}, row(leaf.Parts, 0, 0))
	user, wait := leaf.OfMeasure(amount.CPUUser), leaf.OfMeasure(amount.CPUWait)
	assert.Equal(t, []any{int64(0), int64(0), int64(6), int64(1), iv.ElapsedMillis, int64(1)}, row(user, 0, 0),
		"rows are in order; one source stands for all")
	assert.Equal(t, []any{int64(1), int64(0), int64(8), int64(2), iv.ElapsedMillis, int64(1)}, row(wait, 1, 0))

	states := l.Tables[leaf.States]
	assert.Equal(t, []int64{77, 0}, []int64{states.Of("ran")[0], states.Of("uncounted")[0]})
	if states.Rows() > 1 {
		assert.Equal(t, []int64{0, 1}, []int64{states.Of("ran")[1], states.Of("uncounted")[1]})
	}
	uses := l.Tables[leaf.Uses]
	of := func(column string, n int) int64 { return uses.Of(column)[n] }
	cpu := iv.UsageOf(amount.CPU)
	assert.Equal(t, []int64{cpu.Units[1], cpu.Peak[1], int64(cpu.Source[1]), 0, 0, cpu.Units[1]}, []int64{of("cpu", 1),
		of("cpu.peak", 1), of("cpu.source", 1), of("cpu.untold", 1), of("cpu.lacks", 1), of("cpu.now", 1)})
	assert.Equal(t, []int64{0, 4, 0, 1}, []int64{of("disk", 0), of("disk.source", 0), of("disk.untold", 0),
		of("disk.lacks", 0)}, "whatever stands there is no figure")
	assert.Equal(t, []int64{0, 4, 1, 1}, []int64{of("network", 0), of("network.source", 0), of("network.untold", 0),
		of("network.lacks", 0)}, "its collector does not tell")
	assert.Equal(t, []int64{int64(iv.Workloads.Threads[1]), int64(iv.Workloads.Processes[1]),
		iv.Workloads.RunnableMillis[1], int64(iv.Workloads.RunnablePeak[1])},
		[]int64{of("threads", 1), of("processes", 1), of("runnable_millis", 1), of("runnable_peak", 1)})
	in := l.Tables[leaf.Intervals]
	assert.Equal(t, []int64{4, 5, 6, iv.LedgerOf(amount.CPU).Used.Units}, []int64{in.Of("memory_own")[0],
		in.Of("memory_cache")[0], in.Of("memory_huge")[0], in.Of("cpu.used")[0]})
	assert.Equal(t, []string{"this kernel does not tell", account.NotRead}, []string{l.Words[in.Of("cpu.steal.why")[0]],
		l.Words[in.Of("network.used.why")[0]]})

	programs := l.Tables[leaf.Programs]
	p := iv.Programs
	told := map[string]int64{}
	for n := range programs.Rows() {
		told[fmt.Sprint(programs.Of(leaf.Slot)[n], l.Words[programs.Of("program")[n]],
			l.Words[programs.Of("family")[n]],
			programs.Of("processes")[n])] += programs.Of("cpu")[n]
	}
	name := func(i int32) string {
		if i < 0 {
			return ""
		}
		return p.Names[i]
	}
	want := map[string]int64{}
	for i, w := range p.Workload {
		want[fmt.Sprint(w, name(p.Program[i]), name(p.Family[i]), p.Processes[i])] += p.Columns[0].Units[i]
	}
	assert.Equal(t, want, told)

	d := wire.DetailOf(l, 0)
	assert.True(t, proto.Equal(iv.Detail, d), "%v\n%v", iv.Detail, d)
}

// TestLeaf_AnOlderCollectorsIntervalLacksColumns has neither families nor runnable threads.
func TestLeaf_AnOlderCollectorsIntervalLacksColumns(t *testing.T) {
	iv := batch(t).Intervals[0]
	iv.Workloads.RunnableMillis, iv.Workloads.RunnablePeak, iv.Programs.Family = nil, nil, nil
	iv.Programs.Columns = iv.Programs.Columns[:1]
	iv.Detail.Load = iv.Detail.Load[:1]
	l := iv.Leaf(3, make([]leaf.User, len(iv.Workloads.Key)))
	assert.Zero(t, l.Tables[leaf.Uses].Of("runnable_peak")[0])
	programs := l.Tables[leaf.Programs]
	assert.Equal(t, []int64{0, 1, 0, 0, 1}, []int64{programs.Of("family")[0], programs.Of("cpu.told")[0],
		programs.Of("cpu.untold")[0], programs.Of("memory.told")[0], programs.Of("memory.untold")[0]})
	assert.Len(t, l.Loads(0), 1)
}

// twoTicks is an interval of 20 s, then one of 40 s, in which parts did other things.
func twoTicks() (a, b *account.Interval) {
	tick := func(ms, k int64) *account.Interval {
		iv := &account.Interval{Boot: "b", From: time.Unix(k, 0), To: time.Unix(k, ms*1e6), ElapsedMillis: ms,
			Ticks: 2}
		iv.Detail.Disks = []account.Disk{
			{Name: "sda", Major: 8, ReadBytes: 11 * k, WrittenBytes: 12 * k, ReadOps: 13 * k,
				WriteOps: 14 * k, ReadMillis: 15 * k, WriteMillis: 16 * k, BusyMillis: 17 * k, QueueMillis: 18 * k,
				DiscardedBytes: 19 * k, Flushes: 20 * k},
			{Name: "sdb", Major: 9},
		}
		iv.Detail.Interfaces = []account.Interface{
			{Name: "eth0", Received: 21 * k, Sent: 22 * k, ReceivedPackets: 23 * k,
				SentPackets: 24 * k, ReceivedDropped: 25 * k, SentDropped: 26 * k, ReceivedErrors: 27 * k,
				SentErrors: 28 * k},
		}
		iv.Detail.GPUs = []account.GPUTotal{{Name: "GPU-b", Index: 4, Micros: 29 * k, Told: 30 * k, Units: 31 * k,
			UnitsTold: 32}}
		iv.Detail.CPUs = []account.CPUTimes{{CPU: 3, User: 33, Nice: 34 * k, System: 35 * k, Idle: 36, IOWait: 37 * k,
			IRQ: 38, SoftIRQ: 39 * k, Steal: 40 * k}}
		return iv.AsTick()
	}
	return tick(20_000, 900), tick(40_000, 1100)
}

// TestLeaf_OneTickIsThePeakOfEachFigureOfParts holds what a collector tells of the highest ticks to what the book makes
// of the same tick.
func TestLeaf_OneTickIsThePeakOfEachFigureOfParts(t *testing.T) {
	cells := func(iv *account.Interval, f *leaf.PartFigure) map[string]*leaf.PartCell {
		l := wire.FromInterval(iv, 7, "v1", long{"must"}).Leaf(1, nil)
		l.Fill()
		found := map[string]*leaf.PartCell{}
		f.Each(&leaf.View{Leaf: l, Within: []bool{true}}, func(c *leaf.PartCell) { x := *c; found[c.Name] = &x })
		return found
	}
	value := func(iv *account.Interval, f *leaf.PartFigure, c *leaf.PartCell) float64 {
		v := f.Value(c.Over, c.Per, iv.ElapsedMillis)
		require.NotNil(t, v, f.Name)
		return *v
	}
	a, b := twoTicks()
	for _, f := range leaf.PartFigures() {
		if f.Of == leaf.SensorPart {
			continue
		}
		of := map[string]string{leaf.DrivePart: "sda", leaf.InterfacePart: "eth0", leaf.GPUPart: "GPU 4",
			leaf.CPUPart: "CPU 3"}[f.Of]
		highest := 0.0
		for _, iv := range []*account.Interval{a, b} {
			c := cells(iv, &f)[of]
			require.NotNil(t, c, f.Name)
			require.NotNil(t, c.Peak, f.Name)
			require.Positive(t, *c.Peak, f.Name)
			assert.InDelta(t, value(iv, &f, c), *c.Peak, 0.001, f.Name)
			highest = max(highest, *c.Peak)
		}
		assert.Equal(t, highest, *cells(a.Add(b), &f)[of].Peak, "%s: the higher of two", f.Name)
		assert.Equal(t, highest, *cells(b.Add(a), &f)[of].Peak, "%s: the higher of two", f.Name)
		if rest := cells(a, &f)["sdb"]; f.Of == leaf.DrivePart && f.Name != "drive_latency_ms" {
			assert.Equal(t, 0.0, *rest.Peak, "%s: nothing in any tick", f.Name)
		} else if rest != nil {
			assert.Nil(t, rest.Peak, "%s: without an operation", f.Name)
		}
		a.Detail.Peaks, a.Ticks = nil, 1
		assert.Nil(t, cells(a, &f)[of].Peak, "%s: an older collector does not tell", f.Name)
		a, b = twoTicks()
	}
}

// long names everything by more than is taken.
type long struct{ name string }

func (d long) Workload(account.WorkloadID) account.Workload {
	facts := map[string]string{}
	for i := range 300 {
		facts[fmt.Sprintf("%03d", i)] = "grape"
	}
	return account.Workload{Key: d.name, Name: d.name, Owner: d.name, Path: d.name, Allowed: d.name, Outer: d.name,
		Labels: map[string]string{d.name: d.name}, Facts: facts}
}
func (d long) ProgramName(int32) string { return d.name }

// TestFromInterval_CutsTextsToWhatIsTaken: whatever the kernel calls things, what is sent is taken.
func TestFromInterval_CutsTextsToWhatIsTaken(t *testing.T) {
	for _, name := range []string{strings.Repeat("ä", 40_000), "must\x00press", "\xff\xfe", "x"} {
		iv := &account.Interval{Boot: "b", From: noon, To: noon, ElapsedMillis: 60_000, CPUCount: 1,
			Usages: []account.Usage{{Programs: []account.ProgramUse{{Program: 1, Family: 1}},
				Parts: []account.PartUse{{Part: 1}}, Swapped: []account.SwapUse{{Swap: name, Units: 1}},
				GPUs: []account.GPUUse{{GPU: name, Engines: []account.EngineTime{{Engine: name}}}}}},
			Detail: account.Detail{GPUs: []account.GPUTotal{{Name: name, Card: name}},
				Disks:      []account.Disk{{Name: name}},
				Interfaces: []account.Interface{{Name: name, Peer: name, Workload: 99}}}}
		m := wire.FromInterval(iv, 1, "v2", long{name})
		require.NoError(t, check(&wire.Batch{Version: wire.Version, Host: "cellar-1", Intervals: []*wire.Interval{m}}),
			"%.20q", name)
		assert.Equal(t, noon.Add(time.Minute).UnixMicro(), m.ToUnixMicros, "whatever the clock was set to")
		w := m.Workloads
		assert.Len(t, w.Facts[0].Values, 256)
		assert.Contains(t, w.Facts[0].Values, "255")
		for _, s := range []struct {
			text string
			most int
		}{{w.Key[0], 1024}, {w.Name[0], 1024}, {w.Path[0], 8192}, {w.Allowed[0], 32768}} {
			assert.True(t, utf8.ValidString(s.text))
			if len(name) > s.most {
				assert.Equal(t, name[:s.most], s.text, "as much of it as fits")
			}
		}
		if name == "x" {
			assert.Equal(t, []any{"x", "x", "x", map[string]string{"x": "x"}}, []any{w.Key[0], w.Allowed[0],
				m.Programs.Names[0], w.Labels[0].Values})
		}
	}
	fits := strings.Repeat("m", 1024)
	exact := wire.FromInterval(&account.Interval{Usages: make([]account.Usage, 1)}, 1, "v2", long{fits})
	assert.Equal(t, fits, exact.Workloads.Key[0])
	m := wire.FromInterval(&account.Interval{Usages: make([]account.Usage, 1)}, 1, "v2",
		long{strings.Repeat("ä", 511) + "xä"})
	assert.Equal(t, 1023, len(m.Workloads.Key[0]), "no letter is cut in two")
}

// TestProcesses_AreReadAgainHoweverLittleTheyTook has as many processes as are taken, all alike.
func TestProcesses_AreReadAgainHoweverLittleTheyTook(t *testing.T) {
	p := &wire.Processes{Names: []string{"intake"}, MemoryBytes: make([]int64, 400_000)}
	packed, err := p.Pack()
	require.NoError(t, err)
	assert.Less(t, len(packed), 4000)
	got, err := wire.UnpackProcesses(packed)
	require.NoError(t, err)
	assert.True(t, proto.Equal(p, got))
}

// TestFromInterval_TellsEachSourceAndWhatNoProgramExplains has two workloads whose figure was got in two ways.
func TestFromInterval_TellsEachSourceAndWhatNoProgramExplains(t *testing.T) {
	iv := &account.Interval{Usages: []account.Usage{
		{Programs: []account.ProgramUse{{Program: account.NoProgram, Family: 3},
			{Program: 3, Family: account.NoProgram}}},
		{}, {}}}
	for i, source := range []amount.Source{amount.Counted, amount.Split, amount.Counted} {
		iv.Usages[i].Workload = account.WorkloadID(i)
		iv.Usages[i].Figures.Put(amount.CPUUser, int64(i+1), source)
		iv.Usages[i].Figures.Put(amount.CPUSystem, 1, amount.Summed)
	}
	m := wire.FromInterval(iv, 1, "v2", long{"x"})
	columns := map[string][]uint32{}
	for _, c := range m.Figures.Measures {
		columns[c.Name] = c.Source
	}
	assert.Equal(t, map[string][]uint32{"cpu_user_us": {0, 2, 0}, "cpu_system_us": {1}}, columns)
	assert.Equal(t, []int32{-1, 0}, m.Programs.Program)
	assert.Equal(t, []int32{0, -1}, m.Programs.Family)
}

var noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
