package wire_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"vinescale/internal/identify"
	"vinescale/internal/stage"
	"vinescale/internal/wire"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

// batch is what a collector of the cooperative sends; the caller may change it.
func batch(t testing.TB) *wire.Batch {
	sound.Do(func() { sound.batch = makeBatch(t) })
	require.NotNil(t, sound.batch)
	return proto.Clone(sound.batch).(*wire.Batch)
}

var sound struct {
	sync.Once
	batch *wire.Batch
}

func makeBatch(t testing.TB) *wire.Batch {
	h := stage.Cooperative(time.Date(2026, 10, 11, 9, 0, 0, 0, time.UTC))[0]
	tree := stage.Tree{Dir: t.TempDir()}
	require.NoError(t, h.Render(tree))
	registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
		Proc: tree.Proc()}})
	var tracker account.Tracker
	tracker.Step(h.Reading(registry))
	h.Advance(time.Minute)
	iv, err := tracker.Step(h.Reading(registry))
	require.NoError(t, err)
	return &wire.Batch{Version: wire.Version, Host: h.Name,
		Intervals: []*wire.Interval{wire.FromInterval(iv, 7, "v1", registry)}}
}

func TestDecode_BothFormsSayTheSame(t *testing.T) {
	b := batch(t)
	compressed, err := wire.Encode(b)
	require.NoError(t, err)
	one, err := wire.Decode(compressed, wire.TypeProtobuf, "zstd")
	require.NoError(t, err)
	text, err := protojson.Marshal(b)
	require.NoError(t, err)
	other, err := wire.Decode(text, wire.TypeJSON+"; charset=utf-8", "")
	require.NoError(t, err)
	assert.True(t, proto.Equal(b, one))
	assert.True(t, proto.Equal(b, other))
	assert.Less(t, len(compressed), len(text)/3)
}

func TestDecode_AnUnsoundBatchIsRefusedWithTheReason(t *testing.T) {
	for want, spoil := range map[string]func(*wire.Batch){
		"version 0 is not known":          func(b *wire.Batch) { b.Version = 0 },
		"names no host":                   func(b *wire.Batch) { b.Host = "" },
		"holds no interval":               func(b *wire.Batch) { b.Intervals = nil },
		"boot and sequence":               func(b *wire.Batch) { b.Intervals[0].Sequence = 0 },
		"elapsed_millis: 0 is not from 1": func(b *wire.Batch) { b.Intervals[0].ElapsedMillis = 0 },
		"from_unix_micros: 1 is not":      func(b *wire.Batch) { b.Intervals[0].FromUnixMicros = 1 },
		"hold at least one":               func(b *wire.Batch) { b.Intervals[0].Ledgers = nil },
		"a column has":                    func(b *wire.Batch) { b.Intervals[0].Workloads.Owner = nil },
		"ledgers.resource[0]":             func(b *wire.Batch) { b.Intervals[0].Ledgers[0].Resource = "" },
		"usages.resource[1]":              func(b *wire.Batch) { b.Intervals[0].Usages[1].Resource = "cpu" },
		"programs.disk: a column has": func(b *wire.Batch) {
			b.Intervals[0].Programs.Columns[2].Units = []int64{1}
		},
		"usages.memory: a column has":    func(b *wire.Batch) { b.Intervals[0].Usages[1].Units = nil },
		"usages.cpu.units[0]: -1 is not": func(b *wire.Batch) { b.Intervals[0].Usages[0].Units[0] = -1 },
		"unknown kind":                   func(b *wire.Batch) { b.Intervals[0].Workloads.Kind[0] = "pet" },
		"there twice": func(b *wire.Batch) {
			b.Intervals[0].Workloads.Key[0] = b.Intervals[0].Workloads.Key[1]
		},
		"programs.program[0]: names a program": func(b *wire.Batch) { b.Intervals[0].Programs.Program[0] = 9999 },
		"figures.interfaces[0].workload: names a workload": func(b *wire.Batch) {
			b.Intervals[0].Figures.Interfaces[0].Workload = proto.Uint32(9999)
		},
		"figures.swap_use.workload[0]": func(b *wire.Batch) {
			b.Intervals[0].Figures.SwapUse = &wire.SwapUse{Workload: []uint32{9999}, Swap: []string{"/dev/sdb2"},
				Units: []int64{1}}
		},
		"figures.swap_use: a column": func(b *wire.Batch) {
			b.Intervals[0].Figures.SwapUse = &wire.SwapUse{Workload: []uint32{0}}
		},
		"figures.gpu_use: a column": func(b *wire.Batch) {
			b.Intervals[0].Figures.GpuUse = &wire.GpuUse{Workload: []uint32{0}}
		},
		"figures.gpu_use.engine_row[0]": func(b *wire.Batch) {
			b.Intervals[0].Figures.GpuUse = &wire.GpuUse{EngineRow: []uint32{0}, Engine: []string{"render"},
				EngineMicros: []int64{1}}
		},
		"figures.gpu_use.band[0]": func(b *wire.Batch) {
			b.Intervals[0].Figures.GpuUse = &wire.GpuUse{Workload: []uint32{0}, Gpu: []string{"a"}, Micros: []int64{1},
				Units: []int64{1}, GrantedMillis: []int64{0}, Source: []uint32{0}, BandRow: []uint32{0},
				Band: []uint32{11}, BandMillis: []int64{1}}
		},
		"figures.gpus.name": func(b *wire.Batch) {
			b.Intervals[0].Figures.Gpus = []*wire.Gpu{{Name: "a"}, {Name: "a"}}
		},
		"cpu_use.workload[0]": func(b *wire.Batch) { b.Intervals[0].CpuUse.Workload[0] = 9999 },
	} {
		b := batch(t)
		spoil(b)
		raw, err := wire.Encode(b)
		require.NoError(t, err)
		_, err = wire.Decode(raw, wire.TypeProtobuf, "zstd")
		assert.ErrorContains(t, err, want)
	}
	for _, c := range []struct{ media, encoding, want string }{
		{"text/plain", "", "not known"}, {wire.TypeProtobuf, "gzip", "not known"},
		{wire.TypeProtobuf, "zstd", "not sound zstd"}, {wire.TypeJSON, "", "not a batch"}, {"", "", "content type"},
	} {
		_, err := wire.Decode([]byte("no batch"), c.media, c.encoding)
		assert.ErrorContains(t, err, c.want)
	}
}

// TestDecode_AnOlderBatchIsBroughtIntoTheFormOfThisVersion strips a batch of what version 1 had not.
func TestDecode_AnOlderBatchIsBroughtIntoTheFormOfThisVersion(t *testing.T) {
	const known = 4 // resources
	b := batch(t)
	now := b.Intervals[0]
	now.Ledgers, now.Usages = now.Ledgers[:known], now.Usages[:known]
	now.Programs.Columns = now.Programs.Columns[:known]
	old := proto.Clone(b).(*wire.Batch)
	old.Version = 1
	iv := old.Intervals[0]
	for i := range iv.Ledgers {
		iv.Ledgers[i].Resource, iv.Usages[i].Resource = "", ""
	}
	p, columns := iv.Programs, iv.Programs.Columns
	p.Cpu, p.Memory, p.Disk, p.Network = columns[0].Units, columns[1].Units, columns[2].Units, columns[3].Units
	p.Columns = nil
	raw, err := wire.Encode(old)
	require.NoError(t, err)
	got, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
	require.NoError(t, err)
	got.Version = b.Version
	assert.True(t, proto.Equal(b, got))
}

// TestDecode_WhatANewerCollectorTellsIsNoMistake has a fifth resource, a measure and a field that are not known here;
// and then a version that is not known at all.
func TestDecode_WhatANewerCollectorTellsIsNoMistake(t *testing.T) {
	b := batch(t)
	iv := b.Intervals[0]
	n := len(iv.Workloads.Key)
	iv.Ledgers = append(iv.Ledgers, &wire.Ledger{Resource: "wine", Used: &wire.Line{Units: 5}})
	iv.Usages = append(iv.Usages, &wire.Usage{Resource: "wine", Units: make([]int64, n), Peak: make([]int64, n),
		Source: make([]uint32, n)})
	iv.Figures.Measures = append(iv.Figures.Measures, &wire.MeasureColumn{Name: "wine_spilt_bytes",
		Workload: []uint32{0}, Units: []int64{7}, Source: []uint32{0}})
	text, err := protojson.Marshal(b)
	require.NoError(t, err)
	text = append([]byte(`{"vintage": 2026, `), text[1:]...)
	got, err := wire.Decode(text, wire.TypeJSON, "")
	require.NoError(t, err)
	assert.Nil(t, got.Intervals[0].UsageOf(amount.Measure(amount.NumMeasures)))
	require.NotNil(t, got.Intervals[0].UsageOf(amount.Network))

	b.Version = wire.Version + 1
	raw, err := wire.Encode(b)
	require.NoError(t, err)
	_, err = wire.Decode(raw, wire.TypeProtobuf, "zstd")
	assert.ErrorIs(t, err, wire.ErrNewer, "its sender keeps it")
	notices, err := proto.Marshal(&wire.Notices{Version: wire.Version + 1})
	require.NoError(t, err)
	_, err = wire.DecodeNotices(notices)
	assert.ErrorIs(t, err, wire.ErrNewer)
}

// FuzzDecode: whatever comes, Decode returns; what it accepts can be walked without leaving the columns, and becomes a
// leaf that can be summed and of which no sum is negative.
func FuzzDecode(f *testing.F) {
	raw, err := proto.Marshal(batch(f))
	require.NoError(f, err)
	f.Add(raw)
	f.Add([]byte{0x08, 0x01})
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := wire.Decode(raw, wire.TypeProtobuf, "")
		if err != nil {
			return
		}
		for _, iv := range b.Intervals {
			for i := range iv.GetWorkloads().GetKey() {
				_ = iv.Workloads.Labels[i].GetValues()
				for r := range iv.Usages {
					_ = iv.Usages[r].Units[i] + iv.Usages[r].Peak[i]
				}
			}
			for i, w := range iv.GetCpuUse().GetWorkload() {
				_ = iv.CpuUse.Source[w] + iv.CpuUse.Cpu[i]
			}
			who := make([]leaf.User, len(iv.GetWorkloads().GetKey()))
			for i := range who {
				who[i] = leaf.User{Workload: int64(i/2 + 1), Tenant: int32(i % 3)}
			}
			sum := leaf.Fold(leaf.Join(iv.Leaf(1, who), iv.Leaf(1, who)))
			for name, table := range sum.Tables {
				for row := range table.Rows() {
					for c := range table.Schema.Columns {
						if n := table.Wide(c, row); n.Compare(amount.Wide{}) < 0 && !strings.HasSuffix(
							table.Schema.Columns[c].Name, ".idle") {
							t.Fatalf("%s, %s is %s", name, table.Schema.Columns[c].Name, n)
						}
					}
				}
			}
		}
	})
}
