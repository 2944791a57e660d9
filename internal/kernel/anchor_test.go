package kernel_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// TestAnchors_FilesAreReadOnceAndWhereSomethingWasNotCounted holds a reader to when it looks at the files of a group's
// CPU time: what stands there tells whether it did.
func TestAnchors_FilesAreReadOnceAndWhereSomethingWasNotCounted(t *testing.T) {
	h := newHistory(t)
	const press, inner, must = "/system.slice/press.service", "/system.slice/press.service/pump",
		"/system.slice/must.service"
	var tasks [3]*task
	for i, path := range []string{press, inner, must} {
		tasks[i] = h.born(h.tasks[1])
		h.move(tasks[i], path)
		h.run(tasks[i], i%2, 1000)
	}
	reader := h.reader(t, 1000)
	shown := int64(0)
	read := func() (cpu, user map[string]int64) { // what stands in the files is a million more at each reading
		h.show()
		shown += 1_000_000
		for path := range h.groups {
			if path != "" {
				h.write("sys/fs/cgroup"+path+"/cpu.stat", fmt.Sprintf("usage_usec %d\nuser_usec %d\n", shown, shown))
			}
		}
		var reading account.Reading
		require.NoError(t, reader.Read(&reading))
		h.now += 5 * time.Second
		cpu, user = map[string]int64{}, map[string]int64{}
		for _, g := range reading.Groups {
			name := reader.Registry().Workload(g.Workload).Name
			require.NotZero(t, g.Has&account.HasCPU, name)
			cpu[name] = g.CPUMicros
			user[name], _ = g.Figures.Get(amount.CPUUser)
		}
		return cpu, user
	}
	type told struct{ cpu, user int64 } // user time by how many readings ago it was read first
	check := func(why string, press, must told) {
		t.Helper()
		cpu, user := read()
		assert.Equal(t, []told{press, must}, []told{{cpu["press"], user["press"] / 1_000_000},
			{cpu["must"], user["must"] / 1_000_000}}, why)
	}
	check("the first reading reads all", told{1_000_000, 1}, told{1_000_000, 1})
	check("nothing ran", told{1_000_000, 1}, told{1_000_000, 1})
	h.run(tasks[2], 1, 1)
	check("it ran for a microsecond on the other CPU", told{1_000_000, 1}, told{1_000_001, 3})
	h.run(tasks[1], 0, 5)
	check("what ran is within it", told{1_000_005, 4}, told{1_000_001, 3})
	h.now += time.Minute
	check("a minute later user time is what it was", told{1_000_005, 4}, told{1_000_001, 3})
	h.run(tasks[0], 0, 70)
	h.unplaced++
	check("it is not known who ran", told{6_000_000, 6}, told{6_000_000, 6})
	h.run(tasks[0], 1, 2)
	check("and now it is again", told{6_000_002, 7}, told{6_000_000, 6})
	h.mute = true
	check("nothing is told", told{8_000_000, 8}, told{8_000_000, 8})
	h.mute = false
	check("and now it is again, but not since when", told{9_000_000, 9}, told{9_000_000, 9})
	h.run(tasks[2], 0, 3)
	check("now it is", told{9_000_000, 9}, told{9_000_003, 10})

	young := h.born(h.tasks[1])
	h.move(young, "/system.slice/still.service")
	h.run(young, 0, 44)
	cpu, _ := read()
	assert.Equal(
		t,
		int64(44),
		cpu["still"],
		"one that was made since has what was counted, whatever its file says later",
	)
	h.run(young, 1, 6)
	cpu, _ = read()
	assert.Equal(t, int64(50), cpu["still"])
}

// TestAnchors_WhatIsHeldBackIsReadThoughNothingRuns has a group that used up its limit for longer than a period: the
// periods through which it is held back are told in the interval they are of.
func TestAnchors_WhatIsHeldBackIsReadThoughNothingRuns(t *testing.T) {
	h := newHistory(t)
	const must = "/system.slice/must.service"
	x := h.born(h.tasks[1])
	h.move(x, must)
	h.run(x, 0, 1000)
	reader := h.reader(t, 1000)
	check := func(why string, inFile, told int64) {
		t.Helper()
		h.show()
		h.write("sys/fs/cgroup"+must+"/cpu.stat",
			fmt.Sprintf("usage_usec 1000\nnr_periods %d\nnr_throttled %d\n", inFile, inFile))
		var reading account.Reading
		require.NoError(t, reader.Read(&reading))
		h.now += 500 * time.Millisecond
		for _, g := range reading.Groups {
			if reader.Registry().Workload(g.Workload).Name == "must" {
				periods, _ := g.Figures.Get(amount.CPUPeriods)
				held, _ := g.Figures.Get(amount.CPUThrottledPeriods)
				assert.Equal(t, []int64{told, told}, []int64{periods, held}, why)
				return
			}
		}
		require.Fail(t, "it is not there")
	}
	check("the first reading", 10, 10)
	check("nothing ran, and it was held back", 15, 15)
	check("and once more", 20, 20)
	check("no period ended: the next may be a second long", 20, 20)
	check("it is", 21, 21)
	check("nor did one now", 21, 21)
	check("nor within a second", 21, 21)
	check("one did just then", 22, 22)
	check("nor did one now", 22, 22)
	check("nor within a second", 22, 22)
	check("nor within more than a second", 22, 22)
	check("so it is at rest, whatever its file says", 99, 22)
	h.run(x, 1, 1)
	check("and read again once it ran", 99, 99)
}
