package bpf

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"sync"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"github.com/cilium/ebpf"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpen_EachFeatureIsThereOrSaysWhy(t *testing.T) {
	c := Open(Options{Off: []Feature{Network}})
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	assert.ErrorIs(t, c.Missing(Network), ErrOff)
	for f := range NumFeatures {
		if err := c.Missing(f); err != nil {
			t.Logf("%s: %v", f, err)
			assert.NotEmpty(t, err.Error())
		}
	}
	var none *Counters
	assert.False(t, none.Has(CPU), "without counters nothing is there")
	if !c.Has(CPU) || !c.Has(Tasks) {
		t.Skip(
			"this process may not, or this kernel cannot, count: the tests that need it run as root (make test-root)")
	}
	tasks, err := c.Tasks()
	require.NoError(t, err)
	me := 0
	for i := range tasks {
		if i > 0 {
			assert.Less(t, tasks[i-1].Pid, tasks[i].Pid, "ascending")
		}
		if tasks[i].Tgid == int32(os.Getpid()) {
			me++
			assert.Equal(t, "bpf.test", string(Comm(&tasks[i].Comm)))
		}
	}
	assert.Positive(t, me)
	var totals CPUTotals
	var begun time.Time
	whole, sum := uint64(0), uint64(0)
	for range 20 { // on a busy host this process may have to wait between the two
		begun = time.Now()
		require.NoError(t, c.Settle())
		totals, err = c.Totals()
		require.NoError(t, err)
		whole, sum = 0, 0
		require.NoError(t, c.CPU(func(_ Who, by []Spent) {
			for i := range by {
				sum += by[i].Run
			}
		}))
		for _, n := range totals.Ran {
			whole += n
		}
		if max(whole, sum)-min(whole, sum) < 20e6 {
			break
		}
	}
	assert.InDelta(t, whole, sum, 20e6, "what cgroups had is what tasks ran")

	time.Sleep(200 * time.Millisecond)
	require.NoError(t, c.Settle())
	now, err := c.Totals()
	require.NoError(t, err)
	elapsed := time.Since(begun).Nanoseconds() + 20e6
	for cpu, n := range now.IdleTask {
		idle := int64(n - totals.IdleTask[cpu])
		assert.GreaterOrEqual(t, idle, int64(0))
		assert.LessOrEqual(t, idle+int64(now.Ran[cpu]-totals.Ran[cpu]), elapsed,
			"CPU %d: tasks and the idle task take turns", cpu)
	}
}

// TestOpen_RequestsAreCountedWhereDirtyPagesAreNot loads what an older kernel would.
func TestOpen_RequestsAreCountedWhereDirtyPagesAreNot(t *testing.T) {
	c := Open(Options{Off: []Feature{Network, Disk, Groups}})
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	if !c.Has(CPU) {
		t.Skip("this process may not, or this kernel cannot, count: make test-root runs it as root")
	}
	known := map[string]*ebpf.Map{"lasts": c.cpu.Lasts}
	require.True(t, c.loadRequests(&ebpf.CollectionOptions{MapReplacements: known}))
	assert.NotNil(t, c.disk.OnIssue)
	assert.Nil(t, c.disk.OnDirty)
	require.NoError(t, c.Transfers(func(Transfer, Done) {}))
	assert.NoError(t, c.disk.Close())
}

func TestExplain_SaysWhatToDo(t *testing.T) {
	assert.ErrorContains(t, explain(os.ErrPermission), "CAP_BPF")
	assert.ErrorContains(t, explain(os.ErrNotExist), "this kernel cannot")
	odd := errors.New("odd")
	assert.Equal(t, odd, explain(odd))
}

func TestBucketBounds_AdjoinAndWidenByAQuarterAtMost(t *testing.T) {
	_, at := BucketBounds(0)
	for b := uint16(1); b < 150; b++ {
		low, high := BucketBounds(b)
		require.Equal(t, at, low, "bucket %d begins where the one before ends", b)
		require.Greater(t, high, low)
		if low >= 4 {
			require.LessOrEqual(t, 4*(high-low), low)
		}
		at = high
	}
}

func TestRecords_AreAsLongAsThoseOfThePrograms(t *testing.T) {
	assert.Equal(t, endedSize, int(unsafe.Sizeof(Ended{})))
	major, minor := DeviceNumber(8<<20 | 17)
	assert.Equal(t, []uint32{8, 17}, []uint32{major, minor})
}

// FuzzRecords holds the readers of the ring and of the task list to their promise on any bytes: nothing beyond them is
// read.
func FuzzRecords(f *testing.F) {
	f.Add([]byte{})
	f.Add(make([]byte, endedSize-1))
	f.Add(make([]byte, endedSize))
	f.Add(make([]byte, 3*taskSize+7))
	f.Fuzz(func(t *testing.T, b []byte) {
		var e Ended
		if decodeEnded(b, &e) != (len(b) >= endedSize) {
			t.Fatal("a record is whole or none")
		}
		if n := len(Comm(&e.Comm)); n > 16 {
			t.Fatal(n)
		}
		if n := len(viewTasks(b)); n != len(b)/taskSize {
			t.Fatal(n)
		}
	})
}

// countTasks counts CPU time alone, where that can be done.
func countTasks(t *testing.T) *Counters {
	c := Open(Options{Off: []Feature{Network, Disk, Groups}})
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	if !c.Has(CPU) {
		t.Skip(
			"this process may not, or this kernel cannot, count: the tests that need it run as root (make test-root)")
	}
	return c
}

// TestCPU_WhoeverIsForgottenStaysAway forgets who ran last on a CPU that is idle since: a reading does not put it there
// again. Something else may run there at any time, so that it is tried often.
func TestCPU_WhoeverIsForgottenStaysAway(t *testing.T) {
	const user = 61236
	c := countTasks(t)
	runtime.LockOSThread()
	onCPU(t, 0)
	places := func() (who []Who) {
		require.NoError(t, c.Settle())
		require.NoError(t, c.CPU(func(w Who, _ []Spent) {
			if w.Uid == user {
				who = append(who, w)
			}
		}))
		return who
	}
	// Longer than a tick: the clock of a task that runs is as old, and time stolen at its beginning can take that much.
	const burn = "i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done"
	for range 20 {
		onCPU(t, runtime.NumCPU()-1)
		cmd := exec.Command("sh", "-c", burn)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
		require.NoError(t, cmd.Start())
		onCPU(t, 0)
		require.NoError(t, cmd.Wait())
		for left := false; !left; time.Sleep(time.Millisecond) { // its parent may be told while it is still on its CPU
			require.NoError(t, c.Ended(func(e *Ended) { left = left || int(e.Pid) == cmd.Process.Pid }))
		}
		was := places()
		require.NotEmpty(t, was)
		c.ForgetCPU(was)
		require.Empty(t, places())
	}
}

// onCPU keeps the thread of the test on a CPU. Whoever calls it has locked the thread, which ends with the test.
func onCPU(t *testing.T, cpu int) {
	var set unix.CPUSet
	set.Set(cpu)
	require.NoError(t, unix.SchedSetaffinity(0, &set))
}

// TestCPU_WhatRanElsewhereIsOfTheCPUThatItRanOn moves a task that runs alone on one CPU to another family from another
// CPU: what it ran until then was not told of before.
func TestCPU_WhatRanElsewhereIsOfTheCPUThatItRanOn(t *testing.T) {
	c := countTasks(t)
	if runtime.NumCPU() < 2 {
		t.Skip("there is one CPU")
	}
	runtime.LockOSThread() // and ends with the test: its CPUs were its own
	onCPU(t, 1)
	work := exec.Command("sh", "-c", "while :; do :; done")
	require.NoError(t, work.Start())
	t.Cleanup(func() { work.Process.Kill(); work.Wait() })
	onCPU(t, 0)
	pid := int32(work.Process.Pid)
	ran := func() (by [2]uint64) {
		require.NoError(t, c.CPU(func(who Who, spent []Spent) {
			if head, _ := FamilyHead(who.Family); head == pid {
				by[0], by[1] = by[0]+spent[0].Run, by[1]+spent[1].Run
			}
		}))
		return by
	}
	time.Sleep(50 * time.Millisecond) // so that the shell has begun
	require.NoError(t, c.Adopt(map[int32]uint64{pid: FamilyOf(pid, 1)}))
	require.NoError(t, c.Settle())
	before, host := ran(), total(t, c)
	begun := time.Now()
	time.Sleep(400 * time.Millisecond)
	require.NoError(t, c.Adopt(map[int32]uint64{pid: FamilyOf(pid, 2)}))
	passed := time.Since(begun)
	require.NoError(t, c.Settle())
	after, now := ran(), total(t, c)
	t.Logf("in %v: %v by CPU, of all that ran %v", passed, []uint64{after[0] - before[0], after[1] - before[1]},
		[]uint64{now.Ran[0] - host.Ran[0], now.Ran[1] - host.Ran[1]})
	assert.Zero(t, after[0]-before[0], "it never ran there")
	assert.Greater(t, after[1]-before[1], uint64(passed.Nanoseconds()/10), "it had a part of its CPU at least")
	assert.GreaterOrEqual(t, now.Ran[1]-host.Ran[1]+1e6, after[1]-before[1], "which is in what ran there")
}

func total(t *testing.T, c *Counters) CPUTotals {
	totals, err := c.Totals()
	require.NoError(t, err)
	return totals
}

// TestCPU_WhatRanBeforeIsNotCountedOnceItRunsAgain has work begin all the while until the programs are attached, run
// for a moment, and wait. What it ran until then is not told of when it ends.
func TestCPU_WhatRanBeforeIsNotCountedOnceItRunsAgain(t *testing.T) {
	const user = 61235
	var all []*exec.Cmd
	isOpen, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-isOpen:
				return
			case <-time.After(100 * time.Millisecond):
			}
			if len(all) == 40 { // those that began last are nearest to when the programs are attached
				all[0].Process.Kill()
				all[0].Wait()
				all = all[1:]
			}
			// It stops itself, and not only waits: so its state tells that all of its work is done.
			cmd := exec.Command(
				"sh",
				"-c",
				"i=0; while [ $i -lt 60000 ]; do i=$((i+1)); done; kill -STOP $$; read line",
			)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
			in, err := cmd.StdinPipe()
			if err == nil && cmd.Start() == nil {
				t.Cleanup(func() { in.Close(); cmd.Process.Kill(); cmd.Wait() })
				all = append(all, cmd)
			}
		}
	}()
	stop := sync.OnceFunc(func() { close(isOpen); <-over })
	t.Cleanup(stop)
	c := countTasks(t)
	stop()
	ran := func() (sum uint64) {
		require.NoError(t, c.Settle())
		require.NoError(t, c.CPU(func(who Who, spent []Spent) {
			for i := range spent {
				if who.Uid == user {
					sum += spent[i].Run
				}
			}
		}))
		return sum
	}
	require.NotEmpty(t, all)
	for _, cmd := range all {
		stat := fmt.Sprintf("/proc/%d/stat", cmd.Process.Pid)
		require.Eventually(t, func() bool {
			b, err := os.ReadFile(stat)
			return err == nil && bytes.Contains(b, []byte(") T "))
		}, 3*time.Minute, 10*time.Millisecond, "each comes to where it stops")
	}
	before := ran()
	own := time.Duration(0)
	for _, cmd := range all {
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		own += cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	}
	time.Sleep(100 * time.Millisecond)
	ended := time.Duration(ran() - before)
	t.Logf("%d shells ran for %v; when they ended they were told to have run for %v more", len(all), own, ended)
	assert.Less(t, ended, own/50+time.Duration(len(all))*time.Millisecond, "it is what ending took")
}
