package whatif_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/cpuset"
	"vinescale/core/whatif"
)

func cpus(list string) cpuset.Set {
	set, err := cpuset.Parse(list)
	if err != nil {
		panic(err)
	}
	return set
}

// TestPins_WhoFitsAndWhoMoves tries CPUs 2 and 3 of six, of which 5 is another's alone, on three minutes of which the
// last was recorded for half a minute.
func TestPins_WhoFitsAndWhoMoves(t *testing.T) {
	at := func(minute int) time.Time { return noon.Add(time.Duration(minute) * time.Minute) }
	vat, label, route := whatif.Runner{ID: 7, Name: "vat"}, whatif.Runner{ID: 8, Name: "label"},
		whatif.Runner{ID: 9, Name: "route"}
	q := &whatif.PinTry{Host: "press-1", Holder: "Frost Watch", CPUs: cpus("2-3"), Others: cpus("5"), All: cpus("0-5"),
		IsAlone: true, Long: time.Minute,
		Told: map[time.Time]time.Duration{at(0): time.Minute, at(1): time.Minute, at(2): 30 * time.Second},
		Ran: []whatif.PinRun{
			{Start: at(0), CPU: 0, IsTheir: true, Seconds: 50}, {Start: at(0), CPU: 2, IsTheir: true, Seconds: 60},
			{Start: at(0), CPU: 3, IsTheir: true, Seconds: 30},
			{Start: at(0), CPU: 3, Who: vat, Seconds: 20}, {Start: at(0), CPU: 5, Who: route, Seconds: 60},
			{Start: at(1), CPU: 0, Who: label, Seconds: 60}, {Start: at(1), CPU: 1, Who: label, Seconds: 60},
			{Start: at(1), CPU: 2, Who: label, Seconds: 60}, {Start: at(1), CPU: 3, Who: vat, Seconds: 11},
			{Start: at(2), CPU: 4, Who: label, Seconds: 30}, {Start: at(2), CPU: 2, IsTheir: true, Seconds: 3},
		},
		Peaks:  map[time.Time]float64{at(0): 2.5, at(2): 2.25},
		Waited: map[time.Time]float64{at(0): 9, at(1): 4, at(2): 100}}
	x := whatif.Pins(q)
	assert.Equal(t, []any{3, "2-3", 50.0, 91.0}, []any{x.Steps, x.CPUs, x.Strayed, x.Off})
	assert.Equal(t, []whatif.PinOff{{Runner: label, Seconds: 60}, {Runner: vat, Seconds: 31}}, x.Movers)
	assert.InDeltaSlice(t, []float64{143.0 / 150, 2.5, 20, 10}, []float64{x.Theirs.Mean, x.Theirs.Highest,
		x.Theirs.Late, x.Theirs.Delay}, 1e-9)
	assert.Equal(t, []int{2, 1, 2}, []int{x.Theirs.CPUs, x.Theirs.Over, x.Theirs.Touched})
	require.NotNil(t, x.Others)
	assert.Equal(t, []int{3, 1, 1}, []int{x.Others.CPUs, x.Others.Over, x.Others.Touched})
	assert.InDeltaSlice(t, []float64{241.0 / 150, 191.0 / 60, 11, 11.0 / 3}, []float64{x.Others.Mean, x.Others.Highest,
		x.Others.Late, x.Others.Delay}, 1e-9)
	assert.InDelta(t, 120+57, x.Idle, 1e-9, "the second minute whole, and most of the last")
	assert.InDelta(t, 13, *x.Spared, 1e-9, "nobody else ran there in the last")
	assert.Equal(
		t,
		"Frost Watch used more than 2 CPUs in 67 % of the time: at least 20 CPU-seconds of work would "+
			"have come later, and something by 10 seconds at least. All others used more than 3 CPUs in 33 % "+
			"of the time: at least 11 CPU-seconds of work would have come later, and something by 3.67 "+
			"seconds at least. Others ran for 91 CPU-seconds on these, most of it label, and would have had "+
			"to run elsewhere. At most 13 seconds of waiting would have been spared.",
		x.Sentence,
	)

	q.IsAlone, q.Waited = false, nil
	shared := whatif.Pins(q)
	assert.Nil(t, shared.Others)
	assert.Nil(t, shared.Spared)
	assert.Equal(t, []any{0.0, 0, 50.0}, []any{shared.Off, len(shared.Movers), shared.Strayed})
	assert.Equal(t, x.Theirs, shared.Theirs)
	q.Told = nil
	assert.Equal(t, "Nothing was recorded of this host in this span.", whatif.Pins(q).Sentence)
}

// TestPins_BoundsHoldAgainstAFleetPlayedAgain plays demands tick by tick on a host without pins, records it by the
// minute, and plays the same demands again with the pins in force. What came later then is never less than what was
// told of it, and where a step is a tick it is just that.
func TestPins_BoundsHoldAgainstAFleetPlayedAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const ticks, all = 12, 6 // of 5 s, in each minute; CPUs
		own := rapid.IntRange(1, 4).Draw(t, "CPUs of its own")
		minutes := rapid.IntRange(1, 6).Draw(t, "minutes")
		isByTick := rapid.Bool().Draw(t, "a step is a tick")
		long := time.Minute
		if isByTick {
			long = 5 * time.Second
		}
		var set cpuset.Set
		for c := range own {
			set = set.With(c)
		}
		q := &whatif.PinTry{Host: "press-1", Holder: "it", CPUs: set, All: cpus("0-5"), IsAlone: true, Long: long,
			Told: map[time.Time]time.Duration{}, Peaks: map[time.Time]float64{}}
		var late, queue, longest [2]float64
		for tick := range minutes * ticks {
			at := noon.Add((time.Duration(tick) * 5 * time.Second).Truncate(long))
			q.Told[at] += 5 * time.Second
			// Together they want no more than there is, so that without pins all is done at once.
			holder := rapid.Float64Range(0, all).Draw(t, "holder")
			others := rapid.Float64Range(0, all-holder).Draw(t, "others")
			q.Peaks[at] = max(q.Peaks[at], holder)
			q.Ran = append(q.Ran, whatif.PinRun{Start: at, CPU: tick % all, IsTheir: true, Seconds: holder * 5},
				whatif.PinRun{Start: at, CPU: (tick + 1) % all, Who: whatif.Runner{ID: 1}, Seconds: others * 5})
			for side, wants := range []float64{holder, others} {
				room := float64([]int{own, all - own}[side])
				late[side] += max(wants-room, 0) * 5
				queue[side] = max(queue[side]+(wants-room)*5, 0)
				longest[side] = max(longest[side], queue[side]/room)
			}
		}
		x := whatif.Pins(q)
		for side, told := range []whatif.PinSide{x.Theirs, *x.Others} {
			require.LessOrEqual(t, told.Late, late[side]+1e-6)
			require.LessOrEqual(t, told.Delay, longest[side]+1e-6)
			require.LessOrEqual(t, told.Open, queue[side]+1e-6)
			require.LessOrEqual(t, told.Over, told.Touched)
			if isByTick {
				require.InDelta(t, late[side], told.Late, 1e-6)
				require.InDelta(t, longest[side], told.Delay, 1e-6)
				require.InDelta(t, queue[side], told.Open, 1e-6)
			}
		}
	})
}
