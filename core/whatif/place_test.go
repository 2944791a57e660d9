package whatif_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/whatif"
)

func byMinute(values ...float64) map[time.Time]float64 {
	at := map[time.Time]float64{}
	for i, v := range values {
		at[noon.Add(time.Duration(i)*time.Minute)] = v
	}
	return at
}

// TestPlace_WhatPeaksTogetherNeedsRoomTogether has a host that is full when the workload rests, and one that is full
// when it works.
func TestPlace_WhatPeaksTogetherNeedsRoomTogether(t *testing.T) {
	c := &whatif.Candidate{Name: "must", Host: "cellar-1", CPU: byMinute(6, 1, 6, 1), Memory: byMinute(2, 2, 2, 2)}
	sites := []whatif.Site{
		{Host: "cellar-1", CPUs: 8, Memory: 16, OwnCPU: 1, CPU: byMinute(0, 0, 0, 0.5), Taken: byMinute(4, 4, 4, 4)},
		{Host: "press-1", CPUs: 8, Memory: 16, CPU: byMinute(0, 6, 0, 6), Taken: byMinute(1, 1, 1, 1)},
		{Host: "press-2", CPUs: 8, Memory: 16, CPU: byMinute(6, 0, 6, 0), Taken: byMinute(1, 1, 1, 1)},
		{Host: "terrace-1", CPUs: 32, Memory: 16, OwnMemory: 1, CPU: byMinute(), Taken: byMinute(1, 1, 12, 1)},
	}
	fits := func(p *whatif.Placing) (list []string) {
		for _, f := range p.Hosts {
			list = append(list, fmt.Sprint(f.Host, " ", f.Fits, " ", f.CPU, " ", f.Memory, " ", f.Over))
		}
		return list
	}
	p := whatif.Place(c, sites, 100, 0)
	assert.Equal(t, []string{"cellar-1 true 7 6 0", "press-1 true 7 3 0", "terrace-1 true 6 15 0",
		"press-2 false 12 3 2"}, fits(p), "of equals the first by name, and press-1 is at 7 of 8 too")
	assert.Equal(t, "must fits best where it is, on cellar-1.", p.Sentence)
	assert.True(t, p.Hosts[0].IsThere)
	assert.Equal(t, "It fits: as it is, 88 % of its CPUs and 38 % of its memory would be used.", p.Hosts[0].Sentence)
	assert.Equal(
		t,
		"It does not fit: with it, 150 % of its CPUs and 19 % of its memory would be used, 4 cores too many.",
		p.Hosts[3].Sentence,
	)

	half := whatif.Place(c, sites, 50, 0)
	assert.Equal(t, "press-2 true 1 3 2", fits(half)[0], "in half of the steps all need one core there")
	tight := whatif.Place(c, sites, 100, 0.2)
	assert.Equal(t, "must fits on none of 4 hosts with 20 % of each left free.", tight.Sentence)

	c.GPUs = 1
	sites[2].GPUs = 1
	needs := whatif.Place(c, sites, 50, 0)
	assert.Equal(
		t,
		[]any{"press-2", true},
		[]any{needs.Hosts[0].Host, needs.Hosts[0].Fits},
		"only it has a GPU that is free",
	)
	assert.Equal(t, "It needs 1 GPU: none is free.", needs.Hosts[1].Sentence)

	apart := whatif.Place(&whatif.Candidate{Name: "It", Least: 3, LeastMemory: 8}, sites[1:2], 100, 0)
	assert.Equal(t, []string{"press-1 false 9 9 2"}, fits(apart))
	nothing := whatif.Place(
		&whatif.Candidate{Name: "It", Least: 3},
		[]whatif.Site{{Host: "new", CPUs: 4, Memory: 4}},
		95,
		0,
	)
	assert.Equal(t, []string{"new true 3 0 0"}, fits(nothing), "a host of which nothing was recorded is empty")
	assert.Equal(t, "There is no host that it could be on.", whatif.Place(c, nil, 95, 0).Sentence)
}

func TestChange_HostsGoAndCome(t *testing.T) {
	service := load(9, 1, 1, 0)
	service.IsBound = true
	rooms := []whatif.Room{
		{Host: "cellar-1", CPUs: 8, Memory: 32 * gib, Loads: []whatif.Load{load(1, 6, 4, 0), service}},
		{Host: "press-1", CPUs: 8, Memory: 32 * gib, GPUs: 1, Loads: []whatif.Load{load(2, 5, 8, 1), load(3, 2, 4, 0)}},
		{Host: "terrace-1", CPUs: 8, Memory: 32 * gib, Loads: []whatif.Load{load(4, 1, 20, 0)}},
	}
	size := &whatif.Room{CPUs: 4, Memory: 16 * gib}
	x := whatif.Change(rooms, []string{"cellar-1"}, nil, 0, 95, 0)
	require.True(t, x.CanBe)
	require.Len(t, x.Moves, 1)
	assert.Equal(t, []any{"terrace-1", int64(1), 1, 2, 3}, []any{x.Moves[0].To, x.Moves[0].ID, x.Bound, x.After.Hosts,
		x.Before.Hosts})
	assert.Equal(
		t,
		"1 workload would move, 1 that belong to the hosts taken away would end with them: 88 % of the CPUs "+
			"and 56 % of the memory would be needed.",
		x.Sentence,
	)
	assert.InDelta(t, 15/24.0, x.Before.CPUPart, 1e-9)
	assert.Nil(t, x.Needed)

	x = whatif.Change(rooms, []string{"press-1"}, size, 0, 95, 0)
	assert.False(t, x.CanBe)
	assert.Contains(t, x.Sentence, "It would not do: load 2 needs 5 cores and 8 GiB and 1 GPU")
	assert.Contains(t, x.Sentence, "Not even 64 more hosts of this size would do.", "none of them has a GPU")
	large := &whatif.Room{CPUs: 8, Memory: 64 * gib, GPUs: 1}
	x = whatif.Change(rooms, []string{"press-1", "terrace-1"}, large, 2, 95, 0)
	require.True(t, x.CanBe, x.Sentence)
	assert.Equal(t, 1, *x.Needed, "one would do too")
	assert.Equal(t, []any{3, 8 + 16.0, 2}, []any{x.After.Hosts, x.After.CPUs, x.After.GPUs})

	// Hosts that have too little for their own give away.
	rooms[0].Loads = append(rooms[0].Loads, load(5, 3, 1, 0))
	x = whatif.Change(rooms, nil, nil, 0, 95, 0)
	require.True(t, x.CanBe)
	require.Len(t, x.Moves, 1)
	assert.Equal(t, []any{int64(1), "terrace-1"}, []any{x.Moves[0].ID, x.Moves[0].To}, "the largest goes")
	x = whatif.Change(rooms, nil, size, 0, 95, 0.2)
	assert.False(t, x.CanBe)
	require.Len(t, rooms[0].Loads, 3, "what was asked about is as it was")
	assert.Equal(t, "Everything fits as it is: 50 % of the CPUs and 50 % of the memory would be needed.",
		whatif.Change(rooms[1:], nil, nil, 0, 95, 0).Sentence)
}

// TestChange_NothingIsLost: whatever is asked, each workload is on one host, and none holds more than it has.
func TestChange_NothingIsLost(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var rooms []whatif.Room
		id := int64(0)
		for i := range rapid.IntRange(1, 4).Draw(t, "hosts") {
			r := whatif.Room{Host: fmt.Sprint("host-", i), CPUs: float64(rapid.IntRange(2, 8).Draw(t, "cpus")),
				Memory: gib * float64(rapid.IntRange(2, 8).Draw(t, "memory"))}
			for range rapid.IntRange(0, 4).Draw(t, "loads") {
				id++
				r.Loads = append(r.Loads, load(id, float64(rapid.IntRange(0, 4).Draw(t, "cpu")),
					float64(rapid.IntRange(0, 3).Draw(t, "of memory")), 0))
			}
			rooms = append(rooms, r)
		}
		var without []string
		if rapid.Bool().Draw(t, "one goes") {
			without = []string{"host-0"}
		}
		added := rapid.IntRange(0, 3).Draw(t, "added")
		size := &whatif.Room{CPUs: 6, Memory: 6 * gib}
		x := whatif.Change(rooms, without, size, added, 95, 0)
		if !x.CanBe {
			if x.Needed != nil && *x.Needed == added {
				t.Fatalf("%d are said to do, and do not", added)
			}
			return
		}
		moved := map[int64]string{}
		for _, m := range x.Moves {
			if moved[m.ID] != "" {
				t.Fatalf("%d goes to two hosts", m.ID)
			}
			moved[m.ID] = m.To
		}
		cpu, memory := map[string]float64{}, map[string]float64{}
		for _, r := range rooms {
			for _, l := range r.Loads {
				at := r.Host
				if to, is := moved[l.ID]; is {
					at = to
				} else if len(without) > 0 && at == without[0] {
					t.Fatalf("%d stays on a host that is gone", l.ID)
				}
				cpu[at] += l.CPU
				memory[at] += l.Memory
			}
		}
		for _, r := range rooms {
			if cpu[r.Host] > r.CPUs || memory[r.Host] > r.Memory {
				t.Fatalf(
					"%s holds %v cores and %v bytes of %v and %v",
					r.Host,
					cpu[r.Host],
					memory[r.Host],
					r.CPUs,
					r.Memory,
				)
			}
		}
	})
}

func TestGrow_OfKnownPaces(t *testing.T) {
	days := func(n int, at func(i int) float64) (list []whatif.Day) {
		for i := range n {
			list = append(list, whatif.Day{Start: noon.Truncate(24*time.Hour).AddDate(0, 0, i), Most: at(i)})
		}
		return list
	}
	end := days(30, func(int) float64 { return 0 })[29].Start
	straight := whatif.Grow(
		"press-1",
		amount.CPU,
		100,
		0.1,
		days(30, func(i int) float64 { return 32 + 2*float64(i)/2 }),
	)
	assert.InDelta(t, 1, *straight.PerDay, 1e-9)
	assert.InDelta(t, 61, *straight.Now, 1e-9)
	assert.Equal(t, end.AddDate(0, 0, 29), *straight.Fills, "90 cores are full: 29 more")
	assert.Equal(t, []time.Time{*straight.Fills, *straight.Fills}, []time.Time{*straight.Early, *straight.Late})

	// A day of harvest and an outage say nothing of how it grows.
	odd := whatif.Grow("press-1", amount.CPU, 100, 0.1, days(30, func(i int) float64 {
		switch i {
		case 7:
			return 95
		case 19:
			return 0
		}
		return 32 + float64(i)
	}))
	assert.InDelta(t, 1, *odd.PerDay, 1e-9)
	assert.Equal(t, *straight.Fills, *odd.Fills)
	assert.False(t, odd.Early.After(*odd.Fills) || odd.Late != nil && odd.Late.Before(*odd.Fills))

	noisy := whatif.Grow("press-1", amount.Memory, 100<<30, 0, days(30, func(i int) float64 {
		return float64(int64(40+i)<<30) + float64(1<<30)*[]float64{2, -1, 0, 3, -2, -2, 1}[i%7]
	}))
	assert.InDelta(t, float64(1<<30), *noisy.PerDay, float64(1<<30)/10)
	assert.True(t, noisy.Early.Before(*noisy.Fills) && noisy.Late.After(*noisy.Fills))
	assert.InDelta(t, 31, noisy.Fills.Sub(end).Hours()/24, 4)

	for _, c := range []struct {
		at    func(i int) float64
		n     int
		want  string
		isNow bool
	}{
		{func(i int) float64 { return 50 - float64(i) }, 10,
			"It is not full within two years: 41 cores of 100 cores are used in the highest hour.", false},
		{func(i int) float64 { return 50 + float64(i)/100 }, 10, "It is not full within two years", false},
		{func(int) float64 { return 90 }, 3, "It is full: 90 cores of 100 cores are used in the highest hour.", true},
		{func(int) float64 { return 90 }, 2, "2 whole days are known: growth is told from 3 on.", false},
		{func(i int) float64 { return 60 + 3*float64(i%2) - float64(i)/100 }, 10,
			"It is not full within two years at its usual pace; at the highest on 2026-10-", false},
	} {
		g := whatif.Grow("press-1", amount.CPU, 100, 0.1, days(c.n, c.at))
		assert.Contains(t, g.Sentence, c.want)
		assert.Equal(t, c.isNow, g.IsFull, c.want)
		assert.Nil(t, g.Fills, c.want)
	}
	gap := whatif.Grow("press-1", amount.CPU, 100, 0.1, append(days(3, func(i int) float64 { return float64(10 + i) }),
		whatif.Day{Start: noon.Truncate(24*time.Hour).AddDate(0, 0, 20), Most: 30}))
	assert.InDelta(t, 1, *gap.PerDay, 1e-9, "days that are not known are left out, and not taken to be nothing")
}

// TestChange_OnTheEdge: what just fits fits, the kernel's own and what is to stay free are taken off, and whoever is
// short of memory gives away what has most of it.
func TestChange_OnTheEdge(t *testing.T) {
	rooms := []whatif.Room{
		{
			Host:      "cellar-1",
			CPUs:      10,
			Memory:    10 * gib,
			OwnCPU:    1,
			OwnMemory: 2 * gib,
			Loads:     []whatif.Load{load(1, 7, 1, 0)},
		},
		{Host: "press-1", CPUs: 10, Memory: 10 * gib, OwnCPU: 1, OwnMemory: 2 * gib,
			Loads: []whatif.Load{load(2, 0.5, 4, 0), load(3, 3, 1, 0), load(4, 0, 3, 0)}},
	}
	x := whatif.Change(rooms, nil, nil, 0, 95, 0.1)
	require.True(t, x.CanBe, x.Sentence)
	require.Len(t, x.Moves, 1)
	assert.Equal(t, []any{int64(2), "cellar-1"}, []any{x.Moves[0].ID, x.Moves[0].To},
		"ten less one, less two, are seven: a gibibyte too few; half a core and four gibibytes are free on the other")
	assert.Contains(t, x.Sentence, "1 of the hosts that stay need more than they have")
	assert.InDelta(t, 12.5/20, x.After.CPUPart, 1e-9)
	assert.InDelta(t, 13/20.0, x.Before.MemoryPart, 1e-9)
	x = whatif.Change(rooms[:1:1], nil, nil, 0, 95, 0.2)
	assert.True(t, x.CanBe, "seven of ten less two less one")
	assert.Empty(t, x.Moves)
	x = whatif.Change(rooms[:1:1], nil, nil, 0, 95, 0.21)
	assert.False(t, x.CanBe)

	c := &whatif.Candidate{Name: "It", Least: 2, LeastMemory: 7}
	site := whatif.Site{Host: "cellar-1", CPUs: 10, Memory: 10, OwnCPU: 1, OwnMemory: 2}
	p := whatif.Place(c, []whatif.Site{site}, 95, 0.1)
	assert.True(t, p.Hosts[0].Fits, "two and seven are nine of ten")
	p = whatif.Place(c, []whatif.Site{site}, 95, 0.11)
	assert.False(t, p.Hosts[0].Fits)
	c.Least, c.LeastMemory = 9, 8
	assert.Zero(t, whatif.Place(c, []whatif.Site{site}, 95, 0).Hosts[0].Over, "all of it is not more than it")
}

func TestGrow_OfAnEvenNumberOfPacesIsTheirMiddle(t *testing.T) {
	day := noon.Truncate(24 * time.Hour)
	g := whatif.Grow(
		"press-1",
		amount.CPU,
		100,
		0,
		[]whatif.Day{{Start: day, Most: 10}, {Start: day.AddDate(0, 0, 1), Most: 11},
			{Start: day.AddDate(0, 0, 2), Most: 15}, {Start: day.AddDate(0, 0, 3), Most: 16}},
	)
	// The paces are 1, 2.5, 2, 4, 2.5 and 1.
	assert.InDelta(t, 2.25, *g.PerDay, 1e-9)
	assert.InDelta(t, 1, *g.Low, 1e-9)
	assert.InDelta(t, 4, *g.High, 1e-9)
}
