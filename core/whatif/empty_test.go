package whatif_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/whatif"
)

const gib = 1 << 30

func load(id int64, cpu, memory float64, gpus int) whatif.Load {
	return whatif.Load{ID: id, Name: fmt.Sprint("load ", id), CPU: cpu, Memory: memory * gib, GPUs: gpus}
}

func TestEmpty_OneHostAndSeveralAtOnce(t *testing.T) {
	service := load(9, 1, 1, 0)
	service.IsBound = true
	rooms := []whatif.Room{
		{Host: "cellar-1", CPUs: 8, Memory: 32 * gib, Loads: []whatif.Load{load(1, 2, 4, 0), service}},
		{Host: "press-1", CPUs: 16, Memory: 64 * gib, GPUs: 2, OwnCPU: 1,
			Loads: []whatif.Load{load(2, 6, 8, 1), load(3, 3, 4, 0)}},
		{Host: "terrace-1", CPUs: 8, Memory: 64 * gib, Loads: []whatif.Load{load(4, 1, 40, 0)}},
	}
	e := whatif.Empty(rooms, 95, 0)
	by := map[string]whatif.Emptied{}
	for _, x := range e.Hosts {
		by[x.Host] = x
	}
	assert.True(t, by["cellar-1"].CanBe)
	assert.Equal(t, "It could be emptied: 1 workload would fit elsewhere; 1 that belong to the host would end with it.",
		by["cellar-1"].Sentence)
	assert.Equal(t, "press-1", by["cellar-1"].Moves[0].To, "six cores are free there, and seven on terrace-1")
	assert.False(t, by["press-1"].CanBe)
	assert.Equal(t, "It cannot be emptied: load 2 needs 6 cores and 8 GiB and 1 GPU; the most free is 7 cores and "+
		"24 GiB and no GPU, on terrace-1.", by["press-1"].Sentence, "no other host has a GPU")
	assert.True(t, by["terrace-1"].CanBe)
	assert.Equal(t, []string{"cellar-1", "terrace-1"}, e.At, "both fit on press-1")
	assert.Len(t, rooms[1].Loads, 2, "what was asked about is as it was")
	tight := whatif.Empty(rooms[:2:2], 95, 0.5)
	assert.Empty(t, tight.At, "half of each host is to stay free")
	alone := whatif.Empty(rooms[:1:1], 95, 0)
	assert.Equal(t, []any{false, "There is no other host."}, []any{alone.Hosts[0].CanBe, alone.Hosts[0].Sentence})
}

// TestEmpty_IsAsGoodAsTryingEverything holds each answer to all ways of placing a few workloads.
func TestEmpty_IsAsGoodAsTryingEverything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var rooms []whatif.Room
		id := int64(0)
		for i := range rapid.IntRange(2, 4).Draw(t, "hosts") {
			r := whatif.Room{Host: fmt.Sprint("host-", i), CPUs: float64(rapid.IntRange(2, 8).Draw(t, "cpus")),
				Memory: gib * float64(rapid.IntRange(2, 8).Draw(t, "memory")),
				GPUs:   rapid.IntRange(0, 2).Draw(t, "gpus"),
				Drives: whatif.Drives{Rate: float64(rapid.IntRange(0, 6).Draw(t, "rate")),
					Size: 10 * float64(rapid.IntRange(0, 1).Draw(t, "known")),
					Free: float64(rapid.IntRange(0, 9).Draw(t, "free"))}}
			for range rapid.IntRange(0, 4).Draw(t, "loads") {
				id++
				l := load(id, float64(rapid.IntRange(0, 3).Draw(t, "cpu")),
					float64(rapid.IntRange(0, 3).Draw(t, "bytes")), rapid.IntRange(0, 1).Draw(t, "gpu"))
				l.Rate = float64(rapid.IntRange(0, 3).Draw(t, "moved"))
				l.Space = float64(rapid.IntRange(0, 6).Draw(t, "space"))
				r.Loads = append(r.Loads, l)
			}
			rooms = append(rooms, r)
		}
		for _, x := range whatif.Empty(append([]whatif.Room{}, rooms...), 95, 0).Hosts {
			require.Equal(t, canBeEmptied(rooms, x.Host), x.CanBe, "%s: %s", x.Host, x.Sentence)
			if x.CanBe {
				held(t, rooms, x)
			}
		}
	})
}

// held fails where moves put more on a host than it has.
func held(t *rapid.T, rooms []whatif.Room, x whatif.Emptied) {
	for _, r := range rooms {
		if r.Host == x.Host {
			require.Len(t, x.Moves, len(r.Loads))
			continue
		}
		cpu, memory, gpus, moved := 0.0, 0.0, 0, false
		rate, space := 0.0, 0.0
		for _, l := range r.Loads {
			cpu, memory, gpus, rate = cpu+l.CPU, memory+l.Memory, gpus+l.GPUs, rate+l.Rate
		}
		for _, m := range x.Moves {
			if m.To == r.Host {
				cpu, memory, gpus, moved = cpu+m.CPU, memory+m.Memory, gpus+m.GPUs, true
				rate, space = rate+m.Rate, space+m.Space
			}
		}
		if moved {
			require.True(t, cpu <= r.CPUs && memory <= r.Memory, "%s has %v cores for %v", r.Host, r.CPUs, cpu)
			require.LessOrEqual(t, gpus, r.GPUs)
			require.True(t, r.Drives.Rate == 0 || rate <= r.Drives.Rate)
			require.True(t, r.Drives.Size == 0 || space <= r.Drives.Free)
		}
	}
}

// canBeEmptied tries every way to place what is on a host.
func canBeEmptied(rooms []whatif.Room, host string) bool {
	type space struct {
		cpu, memory float64
		gpus        int
		rate, files float64
	}
	var free []space
	var loads []whatif.Load
	for _, r := range rooms {
		if r.Host == host {
			loads = r.Loads
			continue
		}
		s := space{r.CPUs, r.Memory, r.GPUs, r.Drives.Rate, r.Drives.Free}
		if r.Drives.Rate == 0 {
			s.rate = 1e9
		}
		if r.Drives.Size == 0 {
			s.files = 1e9
		}
		for _, l := range r.Loads {
			s = space{s.cpu - l.CPU, s.memory - l.Memory, s.gpus - l.GPUs, s.rate - l.Rate, s.files}
		}
		free = append(free, s)
	}
	var try func(n int) bool
	try = func(n int) bool {
		if n == len(loads) {
			return true
		}
		l := loads[n]
		for k, s := range free {
			if s.cpu < l.CPU || s.memory < l.Memory || s.gpus < l.GPUs || s.rate < l.Rate || s.files < l.Space {
				continue
			}
			free[k] = space{s.cpu - l.CPU, s.memory - l.Memory, s.gpus - l.GPUs, s.rate - l.Rate, s.files - l.Space}
			if try(n + 1) {
				return true
			}
			free[k] = s
		}
		return false
	}
	return try(0)
}
