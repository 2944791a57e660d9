package wire_test

import (
	"bytes"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"

	"vinescale/core/amount"
	"vinescale/internal/wire"
)

// fullBatch has every table of an interval.
func fullBatch(t testing.TB) *wire.Batch {
	b := batch(t)
	iv := b.Intervals[0]
	iv.Parts = &wire.Parts{Workload: []uint32{0}, Name: []string{"CPU 0"}, Micros: []int64{7}}
	iv.Processes = &wire.Processes{OverMillis: 5000, Names: []string{"intake"}, Workload: []uint32{0}, Pid: []int32{7},
		Parent: []int32{1}, Program: []uint32{0}, Uid: []int64{801}, Threads: []int32{1}, Runnable: []int32{0},
		LastCpu: []int32{0}, CpuMicros: []int64{5}, MemoryBytes: []int64{5}, DiskBytes: []int64{-1}}
	iv.Figures.SwapUse = &wire.SwapUse{Workload: []uint32{0}, Swap: []string{"/dev/sda3"}, Units: []int64{5}}
	iv.Figures.Gpus = []*wire.Gpu{{Name: "GPU-a", Card: "GPU-b", Index: 1, Micros: 5, ToldMillis: 6, Units: 7,
		UnitsToldMillis: 8, MemoryBytes: 9, ByClients: true}}
	iv.Figures.GpuUse = &wire.GpuUse{Workload: []uint32{0}, Gpu: []string{"GPU-a"}, Micros: []int64{5},
		Units: []int64{6}, GrantedMillis: []int64{7}, Source: []uint32{0}, EngineRow: []uint32{0},
		Engine: []string{"render"}, EngineMicros: []int64{5}, BandRow: []uint32{0}, Band: []uint32{10},
		BandMillis: []int64{8}}
	iv.Figures.Latencies = []*wire.Latency{{Device: 8 << 20, LowMicros: 4, HighMicros: 8, Count: 3}}
	iv.Figures.PartPeaks = &wire.PartPeaks{Figures: []string{"drive_busy_percent", "drive_queue"},
		Parts: []string{"sda"}, Figure: []uint32{0, 1}, Part: []uint32{0, 0}, Milli: []int64{700, 5}}
	iv.Ledgers[0].Steal.Unavailable = "this kernel does not tell"
	iv.Workloads.Labels[0] = &wire.Labels{Values: map[string]string{"coop.project": "frost"}}
	iv.Workloads.Facts[0] = &wire.Labels{Values: map[string]string{"image": "cellar"}}
	return b
}

func check(b *wire.Batch) error {
	raw, err := wire.Plain(b)
	if err != nil {
		return err
	}
	_, err = wire.Decode(raw, wire.TypeProtobuf, "")
	return err
}

// eachScalar visits every scalar of a message and what is in it, of lists the last, with its path and a way to set it.
func eachScalar(m protoreflect.Message, path string, visit func(path string, f protoreflect.FieldDescriptor,
	set func(protoreflect.Value))) {
	fields := m.Descriptor().Fields()
	for i := range fields.Len() {
		f := fields.Get(i)
		at := strings.TrimPrefix(path+"."+string(f.Name()), ".")
		switch {
		case f.IsMap() || !m.Has(f) && (f.IsList() || f.Kind() == protoreflect.MessageKind):
		case f.IsList() && f.Kind() == protoreflect.MessageKind:
			list := m.Mutable(f).List()
			eachScalar(list.Get(list.Len()-1).Message(), at, visit)
		case f.IsList():
			list := m.Mutable(f).List()
			visit(at, f, func(v protoreflect.Value) { list.Set(list.Len()-1, v) })
		case f.Kind() == protoreflect.MessageKind:
			eachScalar(m.Mutable(f).Message(), at, visit)
		default:
			visit(at, f, func(v protoreflect.Value) { m.Set(f, v) })
		}
	}
}

// mayBe lists the fields that may have a value that most may not.
var mayBe = map[string][]string{
	"-5": {"ledgers.idle.units"},
	"largest": {"ticks", "workloads.threads", "workloads.processes", "workloads.runnable_peak", "programs.processes",
		"processes.pid", "processes.parent", "processes.threads", "processes.runnable", "workloads.uid",
		"processes.uid", "figures.device_use.device", "figures.disks.device", "figures.latencies.device",
		"figures.latencies.high_micros"},
}

// TestDecode_NoFieldTakesWhatCannotBe puts into every field of a sound interval, one after another, what it cannot be:
// the batch is refused, and the field named.
func TestDecode_NoFieldTakesWhatCannotBe(t *testing.T) {
	sound := fullBatch(t)
	require.NoError(t, check(sound))
	tried := 0
	for what, values := range map[string]map[protoreflect.Kind]any{
		"-5": {protoreflect.Int64Kind: int64(-5), protoreflect.Sint64Kind: int64(-5), protoreflect.Int32Kind: int32(-5),
			protoreflect.Sint32Kind: int32(-5), protoreflect.DoubleKind: -5.0},
		"largest": {protoreflect.Int64Kind: int64(math.MaxInt64), protoreflect.Sint64Kind: int64(math.MaxInt64),
			protoreflect.Int32Kind: int32(math.MaxInt32), protoreflect.Sint32Kind: int32(math.MaxInt32),
			protoreflect.Uint32Kind: uint32(math.MaxUint32), protoreflect.Uint64Kind: uint64(math.MaxUint64),
			protoreflect.DoubleKind: math.Inf(1)},
		"half of the largest": {protoreflect.Int64Kind: int64(math.MaxInt64/2 + 1),
			protoreflect.DoubleKind: math.NaN()},
		"a text with NUL":       {protoreflect.StringKind: "must\x00"},
		"a text of 2 megabytes": {protoreflect.StringKind: strings.Repeat("m", 2<<20)},
	} {
		var fields []string
		eachScalar(sound.Intervals[0].ProtoReflect(), "", func(path string, f protoreflect.FieldDescriptor,
			_ func(protoreflect.Value)) {
			if values[f.Kind()] != nil {
				fields = append(fields, path)
			}
		})
		for _, field := range fields {
			if slices.Contains(mayBe[what], field) || what == "half of the largest" &&
				(slices.Contains(mayBe["largest"], field) || field == "sequence") {
				continue
			}
			spoilt := proto.Clone(sound).(*wire.Batch)
			eachScalar(spoilt.Intervals[0].ProtoReflect(), "", func(path string, f protoreflect.FieldDescriptor,
				set func(protoreflect.Value)) {
				if path == field {
					set(protoreflect.ValueOf(values[f.Kind()]))
				}
			})
			tried++
			err := check(spoilt)
			if assert.Error(t, err, "%s is %s", field, what) {
				assert.Contains(t, err.Error(), "intervals[0].", "%s is %s", field, what)
				assert.Less(t, len(err.Error()), 1000)
			}
		}
	}
	assert.Greater(t, tried, 250)
}

// TestDecode_BelievesUpToABound sets fields to their bounds, and one beyond.
func TestDecode_BelievesUpToABound(t *testing.T) {
	const minute = 60_000
	base := fullBatch(t)
	iv := base.Intervals[0]
	cpus := int64(iv.Cpus)
	require.Equal(t, int64(minute), iv.ElapsedMillis)
	memory := iv.LedgerOf(amount.Memory).Capacity.Units
	text := func(n int) string { return strings.Repeat("m", n) }
	labels := func(n int) *wire.Labels {
		l := &wire.Labels{Values: map[string]string{}}
		for i := range n {
			l.Values[fmt.Sprint("k", i)] = "v"
		}
		return l
	}
	for field, c := range map[string]struct {
		most int64
		set  func(iv *wire.Interval, n int64)
	}{
		"elapsed_millis, by its bounds": {minute + 5000 + minute/10, func(iv *wire.Interval, n int64) {
			iv.ToUnixMicros = iv.FromUnixMicros + n*1000
		}},
		"cpus": {8192, func(iv *wire.Interval, n int64) { iv.Cpus = uint32(n) }},
		"CPU time of all workloads": {4 * cpus * minute * 1000, func(iv *wire.Interval, n int64) {
			u := iv.UsageOf(amount.CPU)
			clear(u.Units)
			u.Units[0], u.Units[1] = n-7, 7
		}},
		"memory of all workloads": {4 * memory, func(iv *wire.Interval, n int64) {
			u := iv.UsageOf(amount.Memory)
			clear(u.Units)
			u.Units[0], u.Units[1] = n/2, n-n/2
		}},
		"bytes of one workload": {(1 << 40) / 1000 * minute, func(iv *wire.Interval, n int64) {
			u := iv.UsageOf(amount.Network)
			clear(u.Units)
			u.Units[0] = n
			if n > (1<<40)/1000*minute {
				u.Units[0] = n + minute // the bound is a little more than a whole number a millisecond
			}
		}},
		"a peak of memory":  {1 << 46, func(iv *wire.Interval, n int64) { iv.UsageOf(amount.Memory).Peak[0] = n }},
		"a peak of the CPU": {1 << 40, func(iv *wire.Interval, n int64) { iv.UsageOf(amount.CPU).Peak[0] = n }},
		"a key":             {1024, func(iv *wire.Interval, n int64) { iv.Workloads.Key[0] = text(int(n)) }},
		"a path":            {8192, func(iv *wire.Interval, n int64) { iv.Workloads.Path[0] = text(int(n)) }},
		"allowed CPUs":      {32768, func(iv *wire.Interval, n int64) { iv.Workloads.Allowed[0] = text(int(n)) }},
		"labels":            {256, func(iv *wire.Interval, n int64) { iv.Workloads.Labels[0] = labels(int(n)) }},
		"a label's value": {8192, func(iv *wire.Interval, n int64) {
			iv.Workloads.Labels[0].Values["coop.project"] = text(int(n))
		}},
		"a label's key": {1024, func(iv *wire.Interval, n int64) { iv.Workloads.Labels[0].Values[text(int(n))] = "" }},
		"a load":        {1e9, func(iv *wire.Interval, n int64) { iv.Detail.Load[0] = float64(n) }},
		"what is idle": {math.MaxInt64 / 2, func(iv *wire.Interval, n int64) {
			iv.Ledgers[2].Idle.Units = -n
		}},
		"a CPU's number":    {8191, func(iv *wire.Interval, n int64) { iv.CpuUse.Cpu[0] = uint32(n) }},
		"a time on one CPU": {4 * minute * 1000, func(iv *wire.Interval, n int64) { iv.Detail.User[0] = n }},
		"time of a part":    {4 * cpus * minute * 1000, func(iv *wire.Interval, n int64) { iv.Parts.Micros[0] = n }},
		"a kind of source":  {4, func(iv *wire.Interval, n int64) { iv.Usages[0].Source[0] = uint32(n) }},
		"the newest loads":  {3, func(iv *wire.Interval, n int64) { iv.Detail.Load = make([]float64, n) }},
		"an inventory":      {1 << 20, func(iv *wire.Interval, n int64) { iv.Inventory = inventory(int(n)) }},
		"a line's speed": {8 << 40, func(iv *wire.Interval, n int64) {
			iv.Figures.Interfaces[0].BitsPerSecond = n
		}},
		"the highest memory":   {1 << 46, func(iv *wire.Interval, n int64) { heightOf(iv, n) }},
		"a process's uid":      {math.MaxUint32, func(iv *wire.Interval, n int64) { iv.Processes.Uid[0] = n }},
		"a process's last CPU": {8191, func(iv *wire.Interval, n int64) { iv.Processes.LastCpu[0] = int32(n) }},
		"a process's CPU time": {4 * 8192 * 86_400_000 * 1000, func(iv *wire.Interval, n int64) {
			iv.Processes.CpuMicros[0] = n
		}},
		"a CPU of the host": {8191, func(iv *wire.Interval, n int64) { iv.Detail.Cpu[0] = uint32(n) }},
		"pressure, some": {4 * minute * 1000, func(iv *wire.Interval, n int64) {
			iv.Detail.Pressure, iv.Detail.PressureSomeMicros, iv.Detail.PressureFullMicros = []string{"io"}, []int64{n},
				[]int64{0}
		}},
		"pressure, full": {4 * minute * 1000, func(iv *wire.Interval, n int64) {
			iv.Detail.Pressure, iv.Detail.PressureSomeMicros, iv.Detail.PressureFullMicros = []string{"io"}, []int64{0},
				[]int64{n}
		}},
		"the low end of a bucket": {7, func(iv *wire.Interval, n int64) { iv.Figures.Latencies[0].LowMicros = n }},
		"the workload at a link's other end": {int64(len(iv.Workloads.Key)) - 1, func(iv *wire.Interval, n int64) {
			iv.Figures.Interfaces[0].Workload = proto.Uint32(uint32(n))
		}},
		"resources": {256, func(iv *wire.Interval, n int64) {
			for i := len(iv.Ledgers); i < int(n); i++ {
				iv.Ledgers = append(iv.Ledgers, &wire.Ledger{Resource: fmt.Sprint("wine", i)})
			}
		}},
		"what a disk carries": {1 << 40, func(iv *wire.Interval, n int64) {
			iv.Figures.Disks[0].RateBytesPerSecond = n
		}},
	} {
		for beyond := range int64(2) {
			b := proto.Clone(base).(*wire.Batch)
			c.set(b.Intervals[0], c.most+beyond)
			if err := check(b); beyond == 0 {
				assert.NoError(t, err, field)
			} else {
				assert.Error(t, err, field)
			}
		}
	}
	least := proto.Clone(base).(*wire.Batch)
	p := least.Intervals[0].Processes
	p.Uid[0], p.LastCpu[0] = -1, -1
	least.Intervals[0].CpuUse = &wire.CpuUse{}
	assert.NoError(t, check(least), "what is not known; and no source where nothing ran")
	p.Uid[0] = -2
	assert.Error(t, check(least))
	p.Uid[0], p.LastCpu[0] = 0, -2
	assert.Error(t, check(least))
	over := proto.Clone(base).(*wire.Batch)
	over.Intervals[0].ToUnixMicros = iv.FromUnixMicros + (minute-5000-minute/10)*1000
	assert.NoError(t, check(over), "the clock may be set back a little, too")
	over.Intervals[0].ToUnixMicros -= 1000
	assert.Error(t, check(over))
	over = proto.Clone(base).(*wire.Batch)
	over.Intervals[0].LedgerOf(amount.Memory).Capacity = &wire.Line{Unavailable: "not told"}
	over.Intervals[0].UsageOf(amount.Memory).Units[0] = 5 * memory
	assert.NoError(t, check(over), "without a capacity, the bound is what no host has")
}

// inventory is one of so many bytes.
func inventory(n int) *wire.Inventory {
	const empty = `{"cpus":null,"devices":null,"filesystems":null,"swaps":null,"counting":null}`
	return &wire.Inventory{Json: empty + strings.Repeat(" ", n-len(empty))}
}

func heightOf(iv *wire.Interval, n int64) {
	iv.Figures.Measures = []*wire.MeasureColumn{{Name: amount.MemoryHigh.String(), Workload: []uint32{0},
		Units: []int64{n}, Source: []uint32{0}}}
}

// TestDecode_TablesAreBounded sends tables of more rows than are taken, which cost little to send.
func TestDecode_TablesAreBounded(t *testing.T) {
	for field, spoil := range map[string]func(*wire.Interval){
		"workloads":          func(iv *wire.Interval) { iv.Workloads.Key = make([]string, 20_001) },
		"programs":           func(iv *wire.Interval) { iv.Programs.Workload = make([]uint32, 400_001) },
		"programs.names":     func(iv *wire.Interval) { iv.Programs.Names = make([]string, 400_001) },
		"figures.disks":      func(iv *wire.Interval) { iv.Figures.Disks = make([]*wire.Disk, 20_001) },
		"figures.ran_micros": func(iv *wire.Interval) { iv.Figures.RanMicros = make([]int64, 8193) },
		"ledgers": func(iv *wire.Interval) {
			for i := range 256 {
				iv.Ledgers = append(iv.Ledgers, &wire.Ledger{Resource: fmt.Sprint("wine", i)})
			}
		},
		"usages.wine.units": func(iv *wire.Interval) {
			n := len(iv.Workloads.Key)
			u := &wire.Usage{Resource: "wine", Units: make([]int64, n), Peak: make([]int64, n),
				Source: make([]uint32, n)}
			u.Units[0], u.Units[1] = math.MaxInt64, 1
			iv.Usages = append(iv.Usages, u)
		},
		"inventory": func(iv *wire.Interval) { iv.Inventory = &wire.Inventory{Json: `{"swaps":[{"name":"\u0000"}]}`} },
	} {
		b := fullBatch(t)
		for i := range b.Intervals[0].Figures.Disks {
			b.Intervals[0].Figures.Disks[i] = &wire.Disk{Name: "of a press"}
		}
		spoil(b.Intervals[0])
		for i, d := range b.Intervals[0].Figures.Disks {
			if d == nil {
				b.Intervals[0].Figures.Disks[i] = &wire.Disk{Name: "of a press"}
			}
		}
		assert.ErrorContains(t, check(b), "intervals[0]."+field+":", field)
	}
	b := fullBatch(t)
	b.Intervals[0].Inventory = &wire.Inventory{Json: `{"swaps":[{"name":"\\u0000 is no NUL \ud800"}], "vintage": 2026}`}
	assert.NoError(t, check(b))
}

// TestDecode_CostsNoMoreThanWhatWasSent sends little that would become much.
func TestDecode_CostsNoMoreThanWhatWasSent(t *testing.T) {
	bomb := func(raw []byte) []byte {
		encoder, err := zstd.NewWriter(nil)
		require.NoError(t, err)
		return encoder.EncodeAll(raw, nil)
	}
	allocated := func(do func()) uint64 {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		do()
		runtime.ReadMemStats(&after)
		return after.TotalAlloc - before.TotalAlloc
	}
	empty := bytes.Repeat([]byte{3<<3 | 2, 0}, 500_000) // of field 3, an empty interval each
	nested := protowire.AppendBytes([]byte{3<<3 | 2}, protowire.AppendBytes([]byte{9<<3 | 2},
		bytes.Repeat([]byte{8<<3 | 2, 0}, 500_000))) // of one interval's workloads, empty labels
	for name, c := range map[string]struct {
		body            []byte
		media, encoding string
		want            string
	}{
		"a bomb":           {bomb(make([]byte, 100<<20)), wire.TypeProtobuf, "zstd", "decompresses to more than"},
		"empty intervals":  {empty, wire.TypeProtobuf, "", "messages, which is too many for its 1000000 bytes"},
		"empty labels":     {nested, wire.TypeProtobuf, "", "messages, which is too many"},
		"packed":           {bomb(empty), wire.TypeProtobuf, "zstd", "decompresses to more than"},
		"objects":          {bytes.Repeat([]byte("{},"), 500_000), wire.TypeJSON, "", "objects, which is too many"},
		"no end of braces": {bytes.Repeat([]byte("["), 500_000), wire.TypeJSON, "", "not a batch"},
	} {
		_, err := wire.Decode(nil, wire.TypeProtobuf, "zstd") // makes what is kept
		require.Error(t, err)
		spent := allocated(func() { _, err = wire.Decode(c.body, c.media, c.encoding) })
		assert.ErrorContains(t, err, c.want, name)
		assert.Less(t, spent, uint64(16<<20+70*len(c.body)), name)
	}
	_, err := wire.DecodeNotices(bytes.Repeat([]byte{6<<3 | 2, 0}, 500_000))
	assert.ErrorContains(t, err, "too many")
	b := fullBatch(t)
	for range 2000 {
		b.Intervals = append(b.Intervals, b.Intervals[0])
	}
	assert.ErrorContains(t, check(b), "intervals: 2001 are more than 2000")
}
