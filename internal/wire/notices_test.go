package wire_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/wire"
)

func TestNotices_CarryIdentitiesAndAreRefusedWhenTheyDoNotFitTogether(t *testing.T) {
	at := time.Date(2026, 11, 23, 3, 10, 0, 0, time.UTC)
	make := func() *wire.Notices {
		n := wire.NewNotices("cellar-1", "b", at, at.Add(time.Minute))
		n.Add(account.Workload{Key: "job:1", Kind: amount.Job, Name: "ens", Owner: "m.abt", UID: 2001,
			Outer: "session:2", Facts: map[string]string{account.FactAccount: "frost"}}, time.Time{})
		n.Add(account.Workload{Key: "job:2", Kind: amount.Job}, at)
		return n
	}
	raw, err := proto.Marshal(make())
	require.NoError(t, err)
	n, err := wire.DecodeNotices(raw)
	require.NoError(t, err)
	w := n.Workloads.At(0)
	assert.Equal(t, []any{"ens", "m.abt", int64(2001), "session:2", "frost", amount.Job},
		[]any{w.Name, w.Owner, w.UID, w.Outer, w.Facts[account.FactAccount], w.Kind})
	assert.Equal(t, []int64{0, at.UnixMicro()}, n.EndedMicros)
	for want, spoil := range map[string]func(*wire.Notices){
		"version 9":                       func(n *wire.Notices) { n.Version = 9 },
		"ended_micros: a column":          func(n *wire.Notices) { n.EndedMicros = nil },
		"workloads: a column":             func(n *wire.Notices) { n.Workloads.Facts = nil },
		"workloads.key[0]: \"\" is empty": func(n *wire.Notices) { n.Workloads.Key[0] = "" },
		"workloads.kind[1]: unknown kind": func(n *wire.Notices) { n.Workloads.Kind[1] = "pet" },
	} {
		n := make()
		spoil(n)
		raw, err := proto.Marshal(n)
		require.NoError(t, err)
		_, err = wire.DecodeNotices(raw)
		assert.ErrorContains(t, err, want)
	}
	_, err = wire.DecodeNotices([]byte("not protobuf"))
	assert.ErrorContains(t, err, "no notices")
}

func TestDecode_TablesThatOlderSendersLackMayBeLeftOutAndOthersMustFit(t *testing.T) {
	b := batch(t)
	w := b.Intervals[0].Workloads
	w.Outer, w.Recogniser, w.Facts, w.RunnableMillis, w.RunnablePeak = nil, nil, nil, nil, nil
	b.Intervals[0].Programs.Family, b.Intervals[0].Parts, b.Intervals[0].Processes = nil, nil, nil
	raw, err := wire.Plain(b)
	require.NoError(t, err)
	old, err := wire.Decode(raw, wire.TypeProtobuf, "")
	require.NoError(t, err)
	assert.Nil(t, old.Intervals[0].Workloads.At(0).Facts)

	processes := func() *wire.Processes {
		return &wire.Processes{
			Names: []string{"intake"}, Workload: []uint32{0}, Pid: []int32{7}, Parent: []int32{1}, Program: []uint32{0},
			Uid: []int64{801}, Threads: []int32{1},
			Runnable: []int32{0}, LastCpu: []int32{0}, CpuMicros: []int64{5}, MemoryBytes: []int64{5},
			DiskBytes: []int64{-1},
		}
	}
	for want, spoil := range map[string]func(*wire.Interval){
		"workloads: a column":              func(iv *wire.Interval) { iv.Workloads.Outer = iv.Workloads.Outer[1:] },
		"workloads.runnable_millis[0]: -1": func(iv *wire.Interval) { iv.Workloads.RunnableMillis[0] = -1 },
		"programs: a column":               func(iv *wire.Interval) { iv.Programs.Family = iv.Programs.Family[1:] },
		"a family that is not":             func(iv *wire.Interval) { iv.Programs.Family[0] = 99 },
		"parts: a column":                  func(iv *wire.Interval) { iv.Parts = &wire.Parts{Workload: []uint32{0}} },
		"parts.workload[0]": func(iv *wire.Interval) {
			iv.Parts = &wire.Parts{Workload: []uint32{999}, Name: []string{"x"}, Micros: []int64{1}}
		},
		"processes: a column":                     func(iv *wire.Interval) { iv.Processes.Threads = nil },
		"processes.workload[0]: names a workload": func(iv *wire.Interval) { iv.Processes.Workload[0] = 999 },
		"processes.program[0]: names a program":   func(iv *wire.Interval) { iv.Processes.Program[0] = 1 },
	} {
		b := batch(t)
		b.Intervals[0].Processes = processes()
		spoil(b.Intervals[0])
		raw, err := wire.Plain(b)
		require.NoError(t, err)
		_, err = wire.Decode(raw, wire.TypeProtobuf, "")
		assert.ErrorContains(t, err, want)
	}
}
