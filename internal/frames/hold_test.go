package frames

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

var noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)

// frame is one of a host that begins so many seconds after noon.
func frame(t *testing.T, host int32, at float64, seconds int64) *Frame {
	from := noon.Add(time.Duration(at * float64(time.Second)))
	b := &wire.Batch{Version: wire.Version, Host: "cellar-1", Pace: &wire.Pace{TickMillis: uint32(seconds * 1000)},
		Intervals: []*wire.Interval{{Boot: "b", Sequence: 1, FromUnixMicros: from.UnixMicro(),
			ToUnixMicros: from.UnixMicro() + seconds*1e6, ElapsedMillis: seconds * 1000, Ticks: 1, Cpus: 4,
			CgroupMode: "v2", Ledgers: []*wire.Ledger{{Resource: "cpu"}}, Usages: []*wire.Usage{{Resource: "cpu"}},
			Workloads: &wire.Workloads{}, Programs: &wire.Programs{}, CpuUse: &wire.CpuUse{},
			Parts: &wire.Parts{}, Detail: &wire.Detail{}}}}
	body, err := wire.Encode(b)
	require.NoError(t, err)
	f, err := NewFrame(host, b, body, []leaf.User{{Workload: 7, Tenant: 1}})
	require.NoError(t, err)
	return f
}

// begins lists when the frames that are held begin, in seconds after noon, by host.
func begins(h *Hold) map[int32][]float64 {
	all := map[int32][]float64{}
	for _, f := range h.of(nil, question.Span{From: noon.Add(-time.Hour), To: noon.Add(24 * time.Hour)}) {
		all[f.Host] = append(all[f.Host], f.From.Sub(noon).Seconds())
	}
	return all
}

func TestHold_KeepsAQuarterOfAnHourInOrder(t *testing.T) {
	h := NewHold()
	h.Put(frame(t, 1, 0.02, 5))
	h.Put(frame(t, 1, 5.02, 5))
	h.Put(frame(t, 1, 5.02, 5))  // again
	h.Put(frame(t, 1, 0.02, 5))  // late
	h.Put(frame(t, 1, 9.6, 5))   // its clock was moved a little
	h.Put(frame(t, 2, 900.5, 1)) // others are not what it is measured by
	assert.Equal(t, map[int32][]float64{1: {0.02, 5.02, 9.6}, 2: {900.5}}, begins(h))
	h.Put(frame(t, 1, 900.02, 5)) // the first ended 14 min 59.98 s before this one will have
	assert.Equal(t, []float64{5.02, 9.6, 900.02}, begins(h)[1])
	h.Put(frame(t, 1, 905.02, 5))
	assert.Equal(t, []float64{9.6, 900.02, 905.02}, begins(h)[1], "what ended at 10.02 is past, when 910.02 is told")
	h.Put(frame(t, 1, 300, 5)) // its clock was set back
	assert.Equal(t, []float64{300}, begins(h)[1])
	assert.Equal(t, 2, h.Hosts())
}

func TestHold_ASpanHoldsWhatBeginsInIt(t *testing.T) {
	h := NewHold()
	for host := range int32(3) {
		for at := range 4 {
			h.Put(frame(t, host, float64(at*5), 5))
		}
	}
	var got []float64
	err := h.Each([]int32{2, 0}, question.Span{From: noon.Add(5 * time.Second), To: noon.Add(15 * time.Second)}, nil,
		func(f *Frame, l *leaf.Leaf) error {
			assert.Equal(t, f.From, l.Start(0))
			assert.Equal(t, f.Host, l.Host)
			got = append(got, float64(f.Host)*1000+f.From.Sub(noon).Seconds())
			return nil
		})
	require.NoError(t, err)
	assert.Equal(t, []float64{2005, 2010, 5, 10}, got)
}

// TestHold_TakesNoMoreMemoryThanItMay lets go of the oldest, of whatever host.
func TestHold_TakesNoMoreMemoryThanItMay(t *testing.T) {
	h := NewHold()
	one := frame(t, 1, 0, 5).size()
	h.most = 8*one + one/2
	for at := range 6 {
		h.Put(frame(t, 1, float64(at*5), 5))
		h.Put(frame(t, 2, float64(at*5)+1, 5))
	}
	assert.LessOrEqual(t, h.bytes, h.most)
	all := begins(h)
	assert.Equal(t, []float64{10, 15, 20, 25}, all[1])
	assert.Equal(t, []float64{11, 16, 21, 26}, all[2])
	sum := 0
	for _, list := range h.hosts {
		for _, f := range list {
			sum += f.size()
		}
	}
	assert.Equal(t, sum, h.bytes)
	assert.Same(t, &h.hosts[1][0].Who[0], &h.hosts[1][3].Who[0], "whose workloads are is held once")
}

func TestNow_IsWhatAllWhoStillTellHaveTold(t *testing.T) {
	h := NewHold()
	now := func(after float64, hosts ...int32) (at float64, pace time.Duration, told int) {
		m := h.Now(hosts, noon.Add(time.Duration(after*float64(time.Second))))
		if m.Hosts == 0 {
			return -1, m.Pace, 0
		}
		return m.At.Sub(noon).Seconds(), m.Pace, m.Hosts
	}
	check := func(wantAt float64, wantPace time.Duration, wantHosts int, after float64, hosts ...int32) {
		t.Helper()
		at, pace, told := now(after, hosts...)
		assert.Equal(t, []any{wantAt, wantPace, wantHosts}, []any{at, pace, told})
	}
	check(-1, 0, 0, 0)
	h.Put(frame(t, 1, 0.02, 5))
	h.Put(frame(t, 2, 2.6, 5)) // its clock differs
	h.Put(frame(t, 3, 6.02, 1))
	check(5, 5*time.Second, 3, 8)
	check(7, time.Second, 1, 8, 3)
	check(5, 5*time.Second, 2, 11.5, 1, 2)
	check(5, 5*time.Second, 2, 11.5) // the third is silent for longer than three of its ticks
	check(5, 5*time.Second, 1, 22)   // and then the first
	h.Put(frame(t, 1, 25.02, 5))     // but it is back
	check(30, 5*time.Second, 1, 31)
	long := frame(t, 1, 30.02, 5) // a tick that took twice as long as it should
	long.To = long.From.Add(10 * time.Second)
	h.Put(long)
	check(40, 10*time.Second, 1, 41)
}
