package kernel_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/stage"
)

func staged(t testing.TB, v1 bool) (*stage.Host, stage.Tree) {
	for _, h := range stage.Cooperative(time.Date(2026, 10, 11, 9, 0, 0, 0, time.UTC)) {
		if h.V1 == v1 {
			tree := stage.Tree{Dir: t.TempDir()}
			require.NoError(t, h.Render(tree))
			return h, tree
		}
	}
	t.Fatal("no such host is staged")
	return nil, stage.Tree{}
}

func open(t testing.TB, h *stage.Host, tree stage.Tree, settings ...func(*kernel.Options)) *kernel.Reader {
	registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
		Proc: tree.Proc()}})
	options := kernel.Options{
		Roots: kernel.Roots{Proc: tree.Proc(), Sys: tree.Sys(), Cgroup: tree.Cgroup()},
		Clock: func() (time.Time, time.Duration) { return h.Now, h.Uptime }, PageSize: stage.PageSize,
	}
	for _, set := range settings {
		set(&options)
	}
	r, err := kernel.Open(registry, options)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

// TestRead_WhatIsToldInPagesGoesByTheSizeOfTheHostsPages reads the same files as those of a host whose pages have 4
// KiB, and as those of one whose pages have 64.
func TestRead_WhatIsToldInPagesGoesByTheSizeOfTheHostsPages(t *testing.T) {
	for _, v1 := range []bool{true, false} {
		h, tree := staged(t, v1)
		read := func(pageSize int64) (anon, reclaimed int64) {
			var reading account.Reading
			require.NoError(t, open(t, h, tree, func(o *kernel.Options) { o.PageSize = pageSize }).Read(&reading))
			for _, p := range reading.Processes {
				anon += p.AnonBytes
			}
			for _, g := range reading.Groups {
				reclaimed += g.Figures.Units[amount.MemoryReclaimed]
			}
			return anon, reclaimed
		}
		anon, reclaimed := read(4 << 10)
		wide, wideReclaimed := read(64 << 10)
		require.NotZero(t, anon)
		assert.Equal(t, 16*anon, wide)
		assert.Equal(t, 16*reclaimed, wideReclaimed)
	}
}

func find(t *testing.T, dir, file string) string {
	found := ""
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Name() == file && found == "" {
			found = path
		}
		return nil
	}))
	require.NotEmpty(t, found, "a file %s", file)
	return found
}

func TestReader_SurvivesGarbageInAnyCounterFile(t *testing.T) {
	for _, garbage := range []string{"", "\n", "garbage", "-5\n", "99999999999999999999999\n", "usage_usec\n",
		strings.Repeat("x", 70_000), "\x00\x00"} {
		for _, c := range []struct {
			v1   bool
			file string
		}{{false, "cpu.stat"}, {false, "memory.current"}, {false, "io.stat"}, {true, "cpuacct.usage"},
			{true, "cpuacct.usage_percpu"}, {true, "memory.usage_in_bytes"}} {
			h, tree := staged(t, c.v1)
			r := open(t, h, tree)
			require.NoError(t, os.WriteFile(find(t, tree.Cgroup(), c.file), []byte(garbage), 0o644))
			var reading account.Reading
			require.NoError(t, r.Read(&reading), "%s of %.10q", c.file, garbage)
			for _, g := range reading.Groups {
				assert.GreaterOrEqual(t, g.CPUMicros, int64(0))
				assert.GreaterOrEqual(t, g.MemoryBytes, int64(0))
				assert.GreaterOrEqual(t, g.DiskBytes, int64(0))
			}
		}
		h, tree := staged(t, false)
		r := open(t, h, tree)
		pid := h.Workloads[0].Processes[0].PID
		for _, file := range []string{"stat", "statm", "status", "io", "cgroup"} {
			require.NoError(t, os.WriteFile(fmt.Sprintf("%s/%d/%s", tree.Proc(), pid, file), []byte(garbage), 0o644))
		}
		var reading account.Reading
		require.NoError(t, r.Read(&reading))
		assert.NotEmpty(t, reading.Processes, "the others are still read")
	}
}

func TestReader_TellsOfGarbageAndLeavesTheFigureOut(t *testing.T) {
	h, tree := staged(t, false)
	r := open(t, h, tree)
	file := find(t, tree.Cgroup(), "memory.current")
	require.NoError(t, os.WriteFile(file, []byte("many\n"), 0o644))
	var reading account.Reading
	require.NoError(t, r.Read(&reading))
	without := 0
	for _, g := range reading.Groups {
		if g.Has&account.HasMemory == 0 {
			without++
		}
	}
	assert.Equal(t, 1, without)
	trouble := r.Trouble()
	require.Len(t, trouble, 1)
	assert.ErrorContains(t, trouble[filepath.Join(tree.Cgroup(), strings.TrimPrefix(file, tree.Cgroup()))],
		"not in the documented form")
	assert.Empty(t, r.Trouble(), "told once")
}

func TestReader_AFileThatMayNotBeReadIsToldAndTheRestIsRead(t *testing.T) {
	h, tree := staged(t, false)
	file := find(t, tree.Cgroup(), "cpu.stat")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o755)) // refuses to be read even to root
	r := open(t, h, tree)
	var reading account.Reading
	require.NoError(t, r.Read(&reading))
	without := 0
	for _, g := range reading.Groups {
		if g.Has&account.HasCPU == 0 {
			without++
		}
	}
	assert.Equal(t, 1, without, "of the others every counter was read")
	require.Len(t, r.Trouble(), 1)
}

func TestReader_SurvivesWhatVanishesBetweenListingAndReading(t *testing.T) {
	h, tree := staged(t, false)
	r := open(t, h, tree)
	var reading account.Reading
	require.NoError(t, r.Read(&reading))
	before := len(reading.Processes)
	gone := h.Workloads[3].Processes[0].PID
	require.NoError(t, os.Remove(fmt.Sprintf("%s/%d/stat", tree.Proc(), gone)))
	require.NoError(t, os.Remove(find(t, tree.Cgroup(), "cpu.stat")))
	require.NoError(t, r.Read(&reading))
	assert.Len(t, reading.Processes, before-1)
	assert.Empty(t, r.Trouble(), "to vanish is normal")
}

func TestReader_AFileThatGrowsIsReadWhole(t *testing.T) {
	h, tree := staged(t, false)
	var stat strings.Builder
	for c := range 2000 { // longer than the reader's first buffer
		fmt.Fprintf(&stat, "cpu%d 1 2 3 4 5 6 7 8 0 0\n", c)
	}
	require.NoError(t, os.WriteFile(filepath.Join(tree.Proc(), "stat"), []byte(stat.String()), 0o644))
	var reading account.Reading
	require.NoError(t, open(t, h, tree).Read(&reading))
	assert.Len(t, reading.CPUs, 2000)
}

func TestReader_WhatMayNotBeReadIsUnavailableNotZero(t *testing.T) {
	h, tree := staged(t, true) // version 1: disk bytes come from the processes
	for _, w := range h.Workloads {
		for _, p := range w.Processes {
			require.NoError(t, os.Remove(fmt.Sprintf("%s/%d/io", tree.Proc(), p.PID)))
		}
	}
	r := open(t, h, tree)
	var a, b account.Reading
	var tracker account.Tracker
	require.NoError(t, r.Read(&a))
	tracker.Step(&a)
	h.Advance(5 * time.Second)
	require.NoError(t, r.Read(&b))
	iv, err := tracker.Step(&b)
	require.NoError(t, err)
	for _, u := range iv.Usages {
		assert.Equal(t, amount.Unavailable, u.Source[amount.Disk])
	}
}

func TestOpen_ARootThatIsNotThereSaysWhichAndWhatToDo(t *testing.T) {
	_, err := kernel.Open(identify.NewRegistry(identify.Options{}),
		kernel.Options{Roots: kernel.Roots{Proc: "/nonexistent"}})
	assert.ErrorContains(t, err, "/nonexistent")
	assert.ErrorContains(t, err, "--proc-root")
}
