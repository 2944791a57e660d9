package whatif_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/whatif"
)

// TestDrives_KeepWhatTheyCannotCarryOrHold has a host whose drives are busy, one that is full, and one of whose drives
// nothing is known.
func TestDrives_KeepWhatTheyCannotCarryOrHold(t *testing.T) {
	archive := load(1, 1, 1, 0)
	archive.Rate, archive.Space = 60e6, 200*gib
	scanner := load(2, 1, 1, 0)
	scanner.Rate = 50e6
	rooms := []whatif.Room{
		{Host: "cellar-1", CPUs: 8, Memory: 32 * gib, Loads: []whatif.Load{archive},
			Drives: whatif.Drives{Rate: 100e6, Size: 1000 * gib, Free: 300 * gib}},
		{Host: "press-1", CPUs: 8, Memory: 32 * gib, Loads: []whatif.Load{scanner},
			Drives: whatif.Drives{Rate: 110e6, Own: 4e6, Size: 1000 * gib, Free: 500 * gib}},
		{Host: "terrace-1", CPUs: 8, Memory: 32 * gib,
			Drives: whatif.Drives{Rate: 500e6, Size: 1000 * gib, Free: 100 * gib}},
	}
	assert.Equal(t, "It cannot be emptied: load 1 moves 60 MB/s to and from drives; where else it fits, the most free "+
		"is 56 MB/s, on press-1.", emptied(rooms[:2:2], 0, "cellar-1").Sentence)
	assert.Equal(t, "It cannot be emptied: the files of load 1 take 200 GiB; where else it fits, the most free is "+
		"100 GiB, on terrace-1.", emptied([]whatif.Room{rooms[0], rooms[2]}, 0, "cellar-1").Sentence)
	x := emptied(rooms, 0, "press-1")
	require.True(t, x.CanBe, x.Sentence)
	assert.Equal(t, []any{"terrace-1", 50e6, 0.0}, []any{x.Moves[0].To, x.Moves[0].Rate, x.Moves[0].Space},
		"cellar-1 has 40 MB/s left")
	assert.Empty(t, whatif.Empty(rooms, 95, 0).Notes)
	rooms[1].Drives.Own = 0
	x = emptied(rooms[:2:2], 0, "cellar-1")
	require.True(t, x.CanBe, x.Sentence)
	assert.Equal(t, []any{60e6, 200.0 * gib}, []any{x.Moves[0].Rate, x.Moves[0].Space})
	assert.False(t, emptied(rooms[:2:2], 0.31, "cellar-1").CanBe, "of 500 GiB that are free, 310 are to stay so")

	rooms[1].Drives, rooms[2].Drives.Size = whatif.Drives{}, 0
	e := whatif.Empty(rooms, 95, 0)
	assert.Equal(t, []string{
		"How much the drives carry is not judged on press-1: no rate was declared for them to the collector.",
		"Space for files is not judged on press-1, terrace-1: of no filesystem there it is known what is free.",
	}, e.Notes)
	assert.True(t, emptied(rooms, 0, "cellar-1").CanBe)
	rooms[0].Drives.Rate = 40e6
	c := whatif.Change(rooms, nil, nil, 0, 95, 0)
	assert.True(t, c.CanBe, c.Sentence)
	require.Len(t, c.Moves, 1, "cellar-1 has to give it away: %s", c.Sentence)
	assert.Equal(t, int64(1), c.Moves[0].ID)
}

// emptied is how one of some hosts would be.
func emptied(rooms []whatif.Room, spare float64, host string) whatif.Emptied {
	for _, x := range whatif.Empty(rooms, 95, spare).Hosts {
		if x.Host == host {
			return x
		}
	}
	panic(host)
}

// TestDrives_NameTheHostThatLacksLeast: of hosts that hold its files the one that carries most, else the one with most
// space.
func TestDrives_NameTheHostThatLacksLeast(t *testing.T) {
	archive := load(1, 1, 1, 0)
	archive.Rate, archive.Space = 60e6, 200*gib
	room := func(host string, rate float64, free float64, loads ...whatif.Load) whatif.Room {
		return whatif.Room{Host: host, CPUs: 8, Memory: 32 * gib, Loads: loads,
			Drives: whatif.Drives{Rate: rate, Size: 1000 * gib, Free: free * gib}}
	}
	cellar := room("cellar-1", 100e6, 300, archive)
	small := room("small-1", 500e6, 900)
	small.CPUs = 0.5
	sentence := func(rooms ...whatif.Room) string {
		return emptied(append([]whatif.Room{cellar}, rooms...), 0, "cellar-1").Sentence
	}
	assert.Equal(t, "It cannot be emptied: load 1 moves 60 MB/s to and from drives; where else it fits, the most free "+
		"is 56 MB/s, on press-2.", sentence(small, room("press-1", 31e6, 800), room("press-2", 56e6, 200),
		room("press-3", 20e6, 900), room("terrace-1", 500e6, 199)))
	assert.Equal(t, "It cannot be emptied: the files of load 1 take 200 GiB; where else it fits, the most free is "+
		"150 GiB, on terrace-2.", sentence(room("terrace-1", 900e6, 100), room("terrace-2", 9e6, 150),
		room("terrace-3", 70e6, 149), small))
	for n, want := range map[int]string{5: "on cellar-1, a, b, c, d:", 7: "on cellar-1, a, b, c, d and 2 more:"} {
		rooms := []whatif.Room{cellar}
		for _, host := range []string{"a", "b", "c", "d", "e", "f"}[:n-1] {
			rooms = append(rooms, room(host, 0, 100))
		}
		rooms[0].Drives.Rate = 0
		assert.Contains(t, whatif.Empty(rooms, 95, 0).Notes[0], want)
	}
}

// TestDrives_OfAPlaceStepByStep: what peaks together has to be carried together.
func TestDrives_OfAPlaceStepByStep(t *testing.T) {
	c := &whatif.Candidate{Name: "archive", CPU: byMinute(1, 1), Memory: byMinute(1, 1), Rate: byMinute(60, 10),
		Space: 200}
	sites := []whatif.Site{
		{Host: "busy-together", CPUs: 10, Memory: 10, Rate: byMinute(50, 10),
			Drives: whatif.Drives{Rate: 100, Own: 1, Size: 1000, Free: 900}},
		{Host: "busy-apart", CPUs: 10, Memory: 10, Rate: byMinute(10, 50),
			Drives: whatif.Drives{Rate: 100, Own: 1, Size: 1000, Free: 900}},
		{Host: "full", CPUs: 10, Memory: 10, Drives: whatif.Drives{Rate: 100, Size: 1000, Free: 250}},
		{Host: "untold", CPUs: 10, Memory: 10},
	}
	by := map[string]whatif.Fit{}
	p := whatif.Place(c, sites, 100, 0.1)
	for _, f := range p.Hosts {
		by[f.Host] = f
	}
	assert.Equal(t, "untold", p.Hosts[0].Host, "what is not known does not count against it, and is said")
	assert.Len(t, p.Notes, 2)
	assert.True(t, by["busy-apart"].Fits)
	assert.InDelta(t, 0.71, *by["busy-apart"].RatePart, 1e-9)
	assert.False(t, by["busy-together"].Fits)
	assert.Equal(t, 1, by["busy-together"].Over)
	assert.Contains(t, by["busy-together"].Sentence, "2.1e-05 MB/s more than its drives are to carry")
	assert.False(t, by["full"].Fits)
	assert.InDelta(t, 250, *by["full"].Space, 1e-9)
	assert.Contains(t, by["full"].Sentence, "its files take 0 KiB more than is to be taken there")
	sites[2].Host, c.Host = "there", "there"
	assert.True(t, whatif.Place(c, sites[2:3], 100, 0.1).Hosts[0].Fits, "its files are there already")
}
