package kernel_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// child lays out a process with a parent and a number of threads, of which the first some are running.
func (f *following) child(pid, parent, threads, running int, micros int, program, cgroup string) {
	f.process(pid, 100, program, cgroup)
	stat := func(id int, state byte) string {
		return fmt.Sprintf(
			"%d (%s) %c %d 1 1 0 -1 4194560 0 0 0 0 %d 0 0 0 20 0 %d 0 100 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 0 "+
				"0 0\n", id, program, state, parent, micros, threads)
	}
	for i := range threads {
		state := byte('S')
		if i < running {
			state = 'R'
		}
		if i == 0 {
			f.write(fmt.Sprintf("proc/%d/stat", pid), stat(pid, state))
		}
		f.write(fmt.Sprintf("proc/%d/task/%d/stat", pid, pid+i), stat(pid+i, state))
	}
}

func TestFollow_LooseProcessesAreOfTheProgramAtTheHeadOfTheirFamily(t *testing.T) {
	f := follow(t)
	f.child(9001, 1, 1, 0, 1, "make", "/")
	f.child(9002, 9001, 1, 0, 1, "cc", "/")
	f.child(9003, 9002, 1, 0, 1, "as", "/")
	f.child(9010, 1, 1, 0, 1, "cc", "/")
	for range 3 {
		for pid, want := range map[int32]string{9001: "make of i.sauer", 9002: "make of i.sauer",
			9003: "make of i.sauer", 9010: "cc of i.sauer"} {
			p, w, _ := f.read(pid)
			assert.Equal(t, want, w.Name, "%d", pid)
			if pid == 9003 {
				assert.Equal(t, []string{"as", "make"},
					[]string{f.Registry().ProgramName(p.Program), f.Registry().ProgramName(p.Family)})
			}
		}
	}
	f.child(9003, 1, 1, 0, 1, "as", "/") // its parent ended, and the first process adopted it
	for range 14 {
		_, w, _ := f.read(9003)
		assert.Equal(t, "make of i.sauer", w.Name, "it stays where it came from")
	}
}

func TestFollow_JobsByEnvironmentAndMachinesByHandAreRecognisedInsideASignIn(t *testing.T) {
	f := follow(t)
	const session = "/user.slice/user-2004.slice/session-3.scope"
	f.write("sys/fs/cgroup"+session+"/cpu.stat", "usage_usec 5\n")
	f.process(9001, 100, "bash", session)
	f.process(9002, 100, "frost-ens", session)
	f.write("proc/9002/environ", "A=b\x00SLURM_JOB_ID=88\x00SLURM_JOB_ACCOUNT=frost\x00")
	f.child(9003, 9001, 3, 2, 5, "qemu-system-x86", session)
	f.write("proc/9003/cmdline", "/usr/bin/qemu-system-x86_64\x00-name\x00guest=plc\x00-smp\x002\x00")
	f.write("proc/9003/task/9004/stat",
		"9004 (CPU 0/KVM) R 1 1 1 0 -1 4194560 0 0 0 0 70 0 0 0 20 0 3 0 100 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 "+
			"0 0 0\n")
	// A kernel thread that works for the machine.
	f.write("proc/9009/stat",
		"9009 (vhost-9003) S 2 1 1 0 -1 2097216 0 0 0 0 7 0 0 0 20 0 1 0 100 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 "+
			"0 0 0\n")
	var r account.Reading
	require.NoError(t, f.Read(&r))
	require.NoError(t, f.Read(&r))
	byPID := map[int32]account.Process{}
	for _, p := range r.Processes {
		byPID[p.PID] = p
	}
	workload := func(pid int32) account.Workload { return f.Registry().Workload(byPID[pid].Workload) }
	assert.Equal(t, amount.Session, workload(9001).Kind)
	assert.False(t, byPID[9001].Inside)
	for pid, want := range map[int32]string{9002: "job 88", 9003: "plc"} {
		assert.Equal(t, want, workload(pid).Name)
		assert.True(t, byPID[pid].Inside, "the sign-in's group counts it too")
		assert.Equal(t, byPID[9001].Workload, byPID[pid].Within)
		assert.Equal(t, workload(9001).Key, workload(pid).Outer)
	}
	assert.Equal(t, "frost", workload(9002).Facts[account.FactAccount])
	assert.Equal(t, "plc", workload(9009).Name)
	assert.False(t, byPID[9009].Kernel, "its use is the machine's")
	parts := map[string]int64{}
	for _, th := range r.Threads {
		if th.Workload == byPID[9003].Workload {
			parts[f.Registry().ProgramName(th.Part)] += th.CPUMicros
		}
	}
	assert.Equal(t, map[string]int64{"vCPU 0": 700_000, "emulator": 100_000, "vhost": 70_000}, parts)
	assert.Equal(t, int32(2), byPID[9003].Runnable)
}

func TestFollow_WhatGoesOverATapIsItsMachines(t *testing.T) {
	f := follow(t)
	f.process(9003, 100, "qemu-system-x86", "/")
	f.write("proc/9003/cmdline", "/usr/bin/qemu-system-x86_64\x00-name\x00guest=plc\x00-smp\x002\x00")
	f.write("proc/9003/fdinfo/20", "pos:\t0\nflags:\t0104002\nmnt_id:\t24\niff:\tvnet7\n")
	f.write("proc/9003/fdinfo/3", "pos:\t0\nflags:\t02\n")
	f.write("sys/class/net/vnet7/tun_flags", "0x1002\n")
	over := func(in, out int) account.Reading {
		f.write("proc/1/net/dev",
			fmt.Sprintf("eth0: 1 1 0 0 0 0 0 0 1 1 0 0 0 0 0 0\nvnet7: %d 10 0 0 0 0 0 0 %d 10 0 0 0 0 0 0\n", in, out))
		var r account.Reading
		require.NoError(t, f.Read(&r))
		return r
	}
	over(100, 200)
	before, after := over(100, 200), over(1100, 250)
	find := func(r *account.Reading) account.Namespace {
		for _, n := range r.Namespaces {
			if f.Registry().Workload(n.Workload).Name == "plc" {
				return n
			}
		}
		require.Fail(t, "the machine's network is known")
		return account.Namespace{}
	}
	a, b := find(&before), find(&after)
	assert.Equal(t, a.ID, b.ID)
	assert.Equal(t, int64(50), b.Received-a.Received, "what went out to the tap it received")
	assert.Equal(t, int64(1000), b.Sent-a.Sent)
	assert.Equal(t, int64(-1), b.Local, "its own loopback is not seen")
	for _, n := range after.Interfaces {
		assert.Equal(t, n.Name == "vnet7", n.Kind == "tap")
		assert.Equal(t, n.Name != "eth0", n.Inner)
	}
}

func TestFollow_RunnableThreadsAreCountedOnlyWhereSomethingRan(t *testing.T) {
	f := follow(t)
	f.child(9001, 1, 6, 4, 10, "solver", "/")
	p, _, _ := f.read(9001)
	assert.Equal(t, int32(4), p.Runnable)
	f.child(9001, 1, 6, 5, 20, "solver", "/")
	p, _, _ = f.read(9001)
	assert.Equal(t, int32(5), p.Runnable)
	p, _, _ = f.read(9001) // it used nothing since: whatever its files say, nothing of it can be running
	assert.Equal(t, int32(0), p.Runnable)
}

// TestFollow_TheThreadsOfALooseProcessAreThereFromItsFirstReadingWhateverItDoes has one that works, rests and works
// again.
func TestFollow_TheThreadsOfALooseProcessAreThereFromItsFirstReadingWhateverItDoes(t *testing.T) {
	f := follow(t)
	for i, ticks := range []int{10, 20, 20, 35} {
		f.child(9001, 1, 3, 1, ticks, "solver", "/")
		var r account.Reading
		require.NoError(t, f.Read(&r))
		found := 0
		for _, x := range r.Threads {
			if x.PID == 9001 {
				found++
				assert.Equal(t, "solver of i.sauer", f.Registry().Workload(x.Workload).Name, "reading %d", i)
				assert.Equal(t, []any{account.NoProgram, int32(3), int64(ticks) * 10_000},
					[]any{x.Part, x.LastCPU, x.CPUMicros}, "reading %d", i)
			}
		}
		assert.Equal(t, 3, found, "reading %d", i)
	}
}

// TestFollow_ProportionalMemoryIsReadSeldomAndOfLooseProcessesAlone: no cgroup counts what those share.
func TestFollow_ProportionalMemoryIsReadSeldomAndOfLooseProcessesAlone(t *testing.T) {
	f := follow(t)
	f.write("sys/fs/cgroup/system.slice/press.service/cpu.stat", "usage_usec 5\n")
	for pid, cgroup := range map[int]string{9001: "/", 9002: "/system.slice/press.service", 9003: "/"} {
		f.process(pid, 100, "solver", cgroup)
		if pid != 9003 { // whose file may not be read
			f.write(fmt.Sprintf("proc/%d/smaps_rollup", pid),
				"00400000-7ffd0000 ---p 00000000 00:00 0 [rollup]\nRss: 9000 kB\nPss: 4096 kB\nPss_Dirty: 8 kB\n")
		}
	}
	seen := map[int64]int{}
	for n := range 70 {
		p, _, _ := f.read(9001)
		seen[p.PSSBytes]++
		if n == 3 {
			f.write("proc/9001/smaps_rollup", "Rss: 9000 kB\nPss: 2048 kB\n")
		}
	}
	assert.Equal(t, map[int64]int{4 << 20: 60, 2 << 20: 10}, seen, "by its size of five minutes ago at most")
	for _, pid := range []int32{9002, 9003} {
		p, _, _ := f.read(pid)
		assert.Equal(t, int64(-1), p.PSSBytes, "%d: not known", pid)
	}
}

// TestFollow_BriefProgramsAreOneWorkloadUntilTheyLiveOn has a program that began a moment ago, a large one that did,
// and one that began long before.
func TestFollow_BriefProgramsAreOneWorkloadUntilTheyLiveOn(t *testing.T) {
	f := follow(t)
	now := int64(f.host.Uptime / (10 * time.Millisecond))
	named := func(pid int, program string, started int64, ticks int) string {
		f.process(pid, started, program, "/")
		f.write(fmt.Sprintf("proc/%d/stat", pid), fmt.Sprintf(
			"%d (%s) S 1 1 1 0 -1 4194560 0 0 0 0 %d 0 0 0 20 0 1 0 %d 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 0 0 0\n",
			pid, program, ticks, started))
		_, w, _ := f.read(int32(pid))
		return w.Name
	}
	const brief = "brief programs of i.sauer"
	assert.Equal(t, brief, named(9001, "ls", now-5900, 19))
	assert.Equal(t, "ls of i.sauer", named(9001, "ls", now-5900, 20), "it has used a fifth of a second")
	assert.Equal(t, "sort of i.sauer", named(9002, "sort", now-6000, 1), "it has lived a minute")
	assert.Equal(t, brief, named(9003, "grep", now-5900, 1))
	w := f.Registry().Workload(f.Registry().Brief(2004))
	assert.Equal(t, []any{"brief:2004", amount.Loose, "i.sauer", int64(2004)}, []any{w.Key, w.Kind, w.Owner, w.UID})
	f.ProgramsApart(true)
	assert.Equal(t, "grep of i.sauer", named(9003, "grep", now-5900, 1), "rules ask for it")
	f.ProgramsApart(false)
	assert.Equal(t, "grep of i.sauer", named(9003, "grep", now-5900, 1), "what has become a workload stays one")
	assert.Equal(t, brief, named(9004, "cat", now-10, 1))
}

// TestFollow_WhatLooseProcessesShareCountsOnce has a family of which one process may be looked at: it shares three
// quarters of what it holds, and half as much again of shared memory.
func TestFollow_WhatLooseProcessesShareCountsOnce(t *testing.T) {
	f := follow(t)
	page := int64(os.Getpagesize())
	holds := func(pid int, pages int64) {
		f.write(fmt.Sprintf("proc/%d/statm", pid), fmt.Sprintf("900 %d 5 0 0 0 0\n", pages+5))
	}
	f.child(9001, 1, 1, 0, 1, "solver", "/")
	f.child(9002, 9001, 1, 0, 1, "solver", "/")
	holds(9001, 400)
	holds(9002, 200)
	f.write("proc/9001/smaps_rollup", fmt.Sprintf("Pss: %d kB\nPss_Anon: %d kB\nPss_Shmem: %d kB\n", 900*page>>10,
		100*page>>10, 50*page>>10))
	of := func(pid int32) []int64 {
		p, _, ok := f.read(pid)
		require.True(t, ok)
		return []int64{p.AnonBytes / page, p.SharedBytes / page}
	}
	assert.Equal(t, []int64{150, 50}, of(9001))
	assert.Equal(t, []int64{200, 0}, of(9002), "which may not be looked at")
	holds(9001, 430)
	assert.Equal(t, []int64{180, 50}, of(9001), "what it got since is its own")
	holds(9001, 10)
	assert.Equal(t, []int64{50, 50}, of(9001), "and nothing is less than nothing")
	f.child(9003, 9001, 1, 0, 1, "solver", "/")
	for pid := 9010; pid < 9010+2*100; pid++ { // so many that not all are looked at in one reading
		f.child(pid, 9001, 1, 0, 1, "solver", "/")
		holds(pid, 400)
		f.write(fmt.Sprintf("proc/%d/smaps_rollup", pid), fmt.Sprintf("Pss: 1 kB\nPss_Anon: %d kB\nPss_Shmem: %d kB\n",
			100*page>>10, 50*page>>10))
	}
	assert.Equal(t, []int64{150, 50}, of(9209), "not looked at yet: as those of its family that were")
	assert.Equal(t, []int64{150, 50}, of(9209))
	assert.Equal(t, []int64{150, 50}, of(9209))
}

func TestFollow_LimitsOfACgroupAreHeldByItsWorkloadAndALimitAsLargeAsTheHostIsNone(t *testing.T) {
	f := follow(t)
	group := "sys/fs/cgroup/system.slice/press.service/"
	f.write(group+"cpu.stat", "usage_usec 5\n")
	f.write(group+"cpu.max", "150000 100000\n")
	f.write(group+"memory.current", "5\n")
	f.write(group+"memory.max", "1048576\n")
	f.process(9001, 100, "press", "/system.slice/press.service")
	_, w, _ := f.read(9001)
	assert.Equal(t, []string{"1.5", "1048576"}, []string{w.Facts[account.FactCPULimit],
		w.Facts[account.FactMemoryLimit]})
	f.write(group+"cpu.max", "max 100000\n")
	f.write(group+"memory.max", "99999999999999999\n")
	for range 12 {
		_, w, _ = f.read(9001)
	}
	assert.Empty(t, w.Facts[account.FactCPULimit]+w.Facts[account.FactMemoryLimit])
}

func TestFollow_NamesOfGroupsMayHoldAnything(t *testing.T) {
	f := follow(t)
	for _, name := range []string{"two\nlines.service", "\x1b[31mred.service", "<b>bold.service",
		"\u202eturned.service", "no\xffutf8.service", "tab\there.service"} {
		f.write("sys/fs/cgroup/system.slice/"+name+"/cpu.stat", "usage_usec 5\n")
	}
	var r account.Reading
	require.NoError(t, f.Read(&r))
	found := 0
	for _, g := range r.Groups {
		w := f.Registry().Workload(g.Workload)
		assert.True(t, utf8.ValidString(w.Key+w.Name+w.Path), "%q", w.Name)
		for _, part := range []string{"two\nlines", "red", "bold", "turned", "utf8", "tab"} {
			if strings.Contains(w.Name, part) {
				found++
			}
		}
	}
	assert.Equal(t, 6, found, "each is counted; the faces show what is not seen as its code")
}
