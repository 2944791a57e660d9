package carry_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/carry"
)

func TestEnd_ByForceLeavesNoneOfAFamilyThatKeepsForking(t *testing.T) {
	s := newScene(t)
	storm := s.run("trap '' TERM; sleep 60 & READY; while :; do sleep 60 & done")
	bystander := s.run("READY; exec sleep 60")
	require.Eventually(t, func() bool { return len(s.alive()) > 20 }, patience, time.Millisecond)
	_, p, out := s.act(act.End, family(storm), map[string]string{"force": "true"})
	assert.Equal(t, act.Done, out.State, out.Detail)
	assert.Greater(t, out.Hit, p.Total, "it grew between its preview and its end")
	assert.Equal(t, []int{bystander.Process.Pid}, s.alive())
	assert.Contains(t, p.Warnings, "what has ended cannot be brought back")
	assert.False(t, out.CanUndo)
}

func TestEnd_CleanlyAsksAndSaysWhoDidNotListen(t *testing.T) {
	s := newScene(t)
	deaf := s.run("sleep 61 & trap '' TERM; READY; while :; do sleep 0.2; done")
	_, _, out := s.act(act.End, family(deaf), map[string]string{"wait": "1s"})
	assert.Equal(t, act.Partly, out.State, out.Detail)
	require.NotEmpty(t, out.Left)
	assert.Contains(t, out.Left[0].Why, "still runs after 1s")
	assert.Contains(t, s.alive(), deaf.Process.Pid)

	stopped := s.run("READY; exec sleep 62")
	require.NoError(t, stopped.Process.Signal(unix.SIGSTOP))
	require.Eventually(
		t,
		func() bool { return stat(t, stopped.Process.Pid)[0] == "T" },
		patience,
		time.Millisecond,
	)
	_, _, out = s.act(act.End, process(stopped), nil)
	assert.Equal(t, act.Done, out.State, "one that is paused hears it: %+v", out)
}

const leaderless = "VINESCALE_LEADERLESS"

// What is started with that ends its first thread, and goes on in others.
func init() {
	if os.Getenv(leaderless) != "" {
		go func() { time.Sleep(time.Hour) }()
		_, _, _ = syscall.Syscall(syscall.SYS_EXIT, 0, 0, 0)
	}
}

func TestEnd_OfAProcessWhoseFirstThreadHasEndedEndsTheOthers(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	for how, settings := range map[string]map[string]string{"by force": {"force": "true"}, "when asked": nil} {
		for _, of := range []func(*exec.Cmd) act.Target{process, family} {
			s := newScene(t)
			x := s.run(leaderless + "=1 exec " + self)
			threads := func() int {
				tasks, _ := os.ReadDir(fmt.Sprintf("/proc/%d/task", x.Process.Pid))
				return len(tasks)
			}
			require.Eventually(t, func() bool { return stat(t, x.Process.Pid)[0] == "Z" }, patience, time.Millisecond)
			require.Greater(t, threads(), 1)
			_, _, out := s.act(act.End, of(x), settings)
			assert.Equal(t, act.Done, out.State, "%s: %+v", how, out)
			assert.Equal(t, 1, out.Hit, how)
			assert.LessOrEqual(t, threads(), 1, how)
		}
	}
}

func TestEnd_OfAProcessLeavesItsChildrenAndSaysSo(t *testing.T) {
	s := newScene(t)
	parent := s.run("sleep 63 & READY; wait")
	_, p, out := s.act(act.End, process(parent), map[string]string{"force": "true"})
	assert.Equal(t, act.Done, out.State)
	assert.Contains(t, p.Warnings, "its 1 descendants stay: aim at the family to end them too")
	assert.Len(t, s.alive(), 1)
}

func TestEnd_AllOfAProgramEndsNoOther(t *testing.T) {
	s := newScene(t)
	dir := t.TempDir()
	for from, to := range map[string]string{"sleep": "pruner", "cat": "stamper"} {
		program, err := os.ReadFile("/bin/" + from)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, to), program, 0o755))
	}
	s.run(dir + "/pruner 64 & " + dir + "/pruner 65 & READY; wait")
	other := s.run("READY; exec sleep 66")
	user := s.options.Users.Name(int64(os.Getuid()))
	o := act.Target{Form: act.OfProgram, Program: "pruner", User: user}
	_, p, out := s.act(act.End, o, map[string]string{"force": "true"})
	assert.Equal(t, 2, p.Total)
	assert.Equal(t, act.Done, out.State, out.Detail)
	assert.Contains(t, s.alive(), other.Process.Pid)
	assert.Contains(t, s.refused(act.End, act.Target{Form: act.OfProgram, Program: "stamper", User: user}, nil),
		"runs no stamper")
	assert.Contains(t, s.refused(act.End, act.Target{Form: act.OfProgram, Program: "x", User: "nobody-here"}, nil),
		"no user")
}

func TestPause_StopsAFamilyAndUndoLetsItGoOn(t *testing.T) {
	s := newScene(t)
	cmd := s.run("sleep 67 & sleep 68 & READY; wait")
	o, p, out := s.act(act.Pause, family(cmd), nil)
	require.Equal(t, act.Done, out.State, out.Detail)
	assert.Len(t, p.Changes, 3)
	for _, pid := range s.alive() {
		assert.Equal(t, "T", stat(t, pid)[0])
	}
	_, _, again := s.act(act.Pause, family(cmd), nil)
	assert.Equal(t, "all of it was so already; nothing was changed", again.Detail)
	assert.False(t, again.CanUndo)

	// One goes on by other hands: that one is left as it is.
	require.NoError(t, cmd.Process.Signal(unix.SIGCONT))
	require.Eventually(
		t,
		func() bool { return stat(t, cmd.Process.Pid)[0] != "T" },
		patience,
		time.Millisecond,
	)
	undone := s.undo(o)
	assert.Equal(t, act.Done, undone.State, "%+v", undone)
	assert.Len(t, undone.Changes, 2)
	for _, pid := range s.alive() {
		assert.NotEqual(t, "T", stat(t, pid)[0])
	}
	assert.Contains(t, s.refused(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil), "undone already")
}

func TestPlace_ThreadsAndChildrenAndUndoPutsBackOnlyItsOwn(t *testing.T) {
	s := newScene(t)
	cmd := s.run("sleep 69 & sleep 70 & READY; wait")
	var before unix.CPUSet
	require.NoError(t, unix.SchedGetaffinity(0, &before))
	o, p, out := s.act(act.Place, family(cmd), map[string]string{"cpus": "0"})
	require.Equal(t, act.Done, out.State, out.Detail)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "this reserves nothing")
	on := func(pid int) int {
		var set unix.CPUSet
		require.NoError(t, unix.SchedGetaffinity(pid, &set))
		return set.Count()
	}
	pids := s.alive()
	require.Len(t, pids, 3)
	for _, pid := range pids {
		assert.Equal(t, 1, on(pid))
	}
	if before.Count() > 1 {
		var other unix.CPUSet
		other.Set(1)
		require.NoError(t, unix.SchedSetaffinity(pids[1], &other))
		o2 := s.order(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil)
		undo := s.preview(o2)
		require.Len(t, undo.Left, 1)
		assert.Contains(t, undo.Left[0].Why, "somebody has set it to 1 since")
		assert.Equal(t, act.Done, s.carry(o2).State)
		for i, pid := range pids {
			assert.Equal(t, i == 1, on(pid) == 1)
		}
	}
	assert.Contains(t, s.refused(act.Place, family(cmd), map[string]string{"cpus": "4000"}), "this host has")
	assert.Contains(t, s.refused(act.Place, family(cmd), map[string]string{"cpuset": "0"}), "group of a workload")
}

func TestWeigh_SetsEveryThreadAndSaysWhatIsNotPermitted(t *testing.T) {
	s := newScene(t)
	cmd := s.run("sleep 71 & READY; wait")
	_, _, out := s.act(act.Weigh, family(cmd), map[string]string{"nice": "7", "io-priority": "best-effort-6"})
	require.Equal(t, act.Done, out.State, "%+v", out)
	for _, pid := range s.alive() {
		assert.Equal(t, "7", stat(t, pid)[16])
	}
	_, _, lower := s.act(act.Weigh, family(cmd), map[string]string{"nice": "-5"})
	if os.Geteuid() == 0 {
		assert.Equal(t, act.Done, lower.State, "%+v", lower)
	} else {
		assert.Equal(t, act.Failed, lower.State)
		assert.Contains(t, lower.Left[0].Why, "not permitted")
	}
	assert.Contains(
		t,
		s.refused(act.Weigh, family(cmd), map[string]string{"cpu-weight": "50"}),
		"group of a workload",
	)
}

func TestCarry_IsDoneOnceAndNeverOnAnother(t *testing.T) {
	s := newScene(t)
	cmd := s.run("READY; exec sleep 72")
	o := s.order(act.Weigh, process(cmd), map[string]string{"nice": "3"})
	s.preview(o)
	var all sync.WaitGroup
	outs := make([]act.Outcome, 8)
	for i := range outs {
		all.Go(func() { outs[i] = s.carry(o) })
	}
	all.Wait()
	for _, out := range outs {
		assert.Equal(t, outs[0], out, "who asks again is told the same")
	}
	require.Equal(t, act.Done, outs[0].State)
	require.NoError(t, unix.Setpriority(unix.PRIO_PROCESS, cmd.Process.Pid, 9))
	s.open()
	assert.Equal(t, outs[0].Detail, s.carry(o).Detail)
	assert.Equal(t, "9", stat(t, cmd.Process.Pid)[16], "not done a second time, by a collector started anew either")

	late := s.order(act.Weigh, process(cmd), map[string]string{"nice": "10"})
	s.preview(late)
	out := s.host.Carry(context.Background(), late, -time.Millisecond)
	assert.Equal(t, act.Expired, out.State)
	assert.Equal(t, act.Expired, s.host.Recall("never-heard-of").State)

	changed := s.order(act.End, process(cmd), nil)
	s.preview(changed)
	changed.Identity = "another"
	assert.Equal(t, act.Refused, s.carry(changed).State)

	reused := process(cmd)
	reused.Start = startOf(t, cmd.Process.Pid) - 1
	assert.Contains(t, s.refused(act.End, reused, nil), "another has its number")
	gone := s.order(act.End, process(cmd), nil)
	s.preview(gone)
	require.NoError(t, cmd.Process.Kill())
	require.Eventually(t, func() bool { return len(s.alive()) == 0 }, patience, time.Millisecond)
	out = s.carry(gone)
	assert.Equal(t, act.Refused, out.State)
	assert.Contains(t, out.Detail, "there is no process")
	for _, id := range []string{"../../etc/passwd", "", "a/b"} {
		gone.ID = id
		assert.Equal(t, act.Failed, s.carry(gone).State, "a number that would name another file")
	}
}

// TestRecall_ReadsBackWhatACollectorThatEndedHadDone cuts an act in its middle: the journal knows that it was begun.
func TestRecall_ReadsBackWhatACollectorThatEndedHadDone(t *testing.T) {
	s := newScene(t)
	cmd := s.run("sleep 73 & READY; wait")
	o, _, out := s.act(act.Weigh, family(cmd), map[string]string{"nice": "4"})
	require.Equal(t, act.Done, out.State)
	cut := func() {
		file := filepath.Join(s.options.Journal, o.ID+".json")
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		text := string(b)
		i := strings.Index(text, `"Outcome":`)
		require.NoError(t, os.WriteFile(file, []byte(text[:i]+`"Outcome":null}`), 0o600))
		s.open()
	}
	cut()
	whole := s.carry(o)
	assert.Equal(t, act.Done, whole.State)
	assert.Contains(t, whole.Detail, "read back, all of it was done")
	cut()
	pids := s.alive()
	require.NoError(t, unix.Setpriority(unix.PRIO_PROCESS, pids[1], 8))
	part := s.host.Recall(o.ID)
	assert.Equal(t, act.Partly, part.State)
	assert.Contains(t, part.Detail, "1 of 2 values")
	assert.Equal(t, part, s.host.Recall(o.ID), "and stays so")
	cut()
	for _, pid := range pids {
		require.NoError(t, unix.Setpriority(unix.PRIO_PROCESS, pid, 9))
	}
	assert.Equal(t, act.Failed, s.carry(o).State)
	assert.Equal(t, "9", stat(t, pids[0])[16], "what was begun is not done again")
}

func TestPermit_WhatIsNeverTouchedAndWhatThePolicySays(t *testing.T) {
	s := newScene(t)
	cmd := s.run("sleep 74 & READY; wait")
	assert.Contains(t, s.refused(act.End, act.Target{Form: act.OfProcess, PID: 1}, nil), "first process")
	assert.Contains(
		t,
		s.refused(act.End, act.Target{Form: act.OfProcess, PID: int32(os.Getpid())}, nil),
		"collector",
	)
	assert.Contains(t, s.refused(act.End, act.Target{Form: act.OfProcess, PID: 1 << 30}, nil), "no process")

	s.policy = "allow: [{acts: [pause], kinds: [loose], tenants: [Frost Watch]}]"
	assert.Contains(t, s.refused(act.End, family(cmd), nil), "does not allow end on a loose of Frost Watch")
	_, _, out := s.act(act.Pause, family(cmd), nil)
	assert.Equal(t, act.Done, out.State)
	other := s.runOf(otherKey, "READY; exec sleep 75")
	assert.Contains(t, s.refused(act.Pause, process(other), nil), "Leaf Vision")

	s.policy = allowsAll + "\nnever: {programs: [sleep]}"
	_, p, out := s.act(act.End, family(cmd), map[string]string{"force": "true"})
	assert.Equal(t, act.Done, out.State)
	require.Len(t, p.Left, 1)
	assert.Contains(t, p.Left[0].Why, "the program sleep is never touched")
	assert.Len(t, s.alive(), 2, "what is spared stays, and the other's")

	s.policy = allowsAll
	o := s.order(act.Pause, process(other), nil)
	delete(o.Whose, otherKey)
	_, err := s.host.Preview(context.Background(), o)
	assert.ErrorContains(t, err, "cannot say whose it is")
	unknown := s.runOf("", "READY; exec sleep 76")
	assert.Contains(t, s.refused(act.Pause, process(unknown), nil), "of no workload")

	// A database that this program began is the service's, also where it was begun from a sign-in.
	const session = "session:1"
	w := s.known.Workloads[workKey]
	w.Key, w.Kind = session, amount.Session
	s.known.Workloads[session] = w
	program, err := os.ReadFile("/bin/sleep")
	require.NoError(t, err)
	database := filepath.Join(t.TempDir(), "postgres")
	require.NoError(t, os.WriteFile(database, program, 0o755))
	begun := s.runOf(session, database+" 78 & READY; wait")
	o = s.order(act.End, family(begun), map[string]string{"force": "true"})
	o.Whose[session] = "Frost Watch"
	require.Len(t, s.preview(o).Left, 1)
	assert.Contains(t, s.preview(o).Left[0].Why, "the service's database")

	// The policy of now counts, also where it was another at the preview.
	o = s.order(act.Pause, process(other), nil)
	s.preview(o)
	s.policy = ""
	out = s.carry(o)
	assert.Equal(t, act.Refused, out.State)
	assert.NotEqual(t, "T", stat(t, other.Process.Pid)[0])
}

func TestReadPolicy_OnlyAFileOfRootsThatNobodyElseMayWrite(t *testing.T) {
	file := filepath.Join(t.TempDir(), "acts.yaml")
	_, err := carry.ReadPolicy(file)
	assert.ErrorContains(t, err, "only observes")
	require.NoError(t, os.WriteFile(file, []byte(allowsAll), 0o644))
	p, err := carry.ReadPolicy(file)
	if os.Geteuid() != 0 {
		assert.ErrorContains(t, err, "must be a file of root's")
		return
	}
	require.NoError(t, err)
	assert.Len(t, p.Allow, 1)
	for _, mode := range []os.FileMode{0o664, 0o646} {
		require.NoError(t, os.Chmod(file, mode))
		_, err = carry.ReadPolicy(file)
		assert.ErrorContains(t, err, "nobody else may", "%o", mode)
	}
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.Chown(file, 1000, 0))
	_, err = carry.ReadPolicy(file)
	assert.ErrorContains(t, err, "file of root's")
	require.NoError(t, os.Chown(file, 0, 0))
	require.NoError(t, os.WriteFile(file, []byte("allow: [{acts: [sing]}]"), 0o600))
	_, err = carry.ReadPolicy(file)
	assert.ErrorContains(t, err, "nothing is allowed")
}

func TestLook_TellsFilesAndNamesButNoSecrets(t *testing.T) {
	s := newScene(t)
	dir := t.TempDir()
	t.Setenv("CELLAR_SECRET", "s3cret-of-the-cellar")
	cmd := s.run("exec 7>" + dir + "/pressing.log; READY; exec sleep 77")
	_, _, out := s.act(act.Look, process(cmd), nil)
	require.Equal(t, act.Done, out.State, out.Detail)
	all := ""
	for _, f := range out.Found {
		all += f.Of + " " + f.What + " " + f.Text + "\n"
	}
	assert.Contains(t, all, "file 7 "+dir+"/pressing.log")
	assert.Contains(t, all, "process command line sleep 77")
	assert.Contains(t, all, "CELLAR_SECRET")
	assert.NotContains(t, all, "s3cret")
	assert.Contains(t, all, "sleeping")
	assert.NotContains(t, all, "watched")
}

func TestLook_WatchesForSomeSeconds(t *testing.T) {
	s := newScene(t)
	dir := t.TempDir()
	cmd := s.run("READY; sleep 0.3; exec 8>" + dir + "/opened-later; while :; do :; done")
	_, _, out := s.act(act.Look, process(cmd), map[string]string{"seconds": "2"})
	require.Equal(t, act.Done, out.State, out.Detail)
	all := ""
	for _, f := range out.Found {
		if f.Of == "watched" {
			all += f.What + ": " + f.Text + "\n"
		}
	}
	calls := slices.IndexFunc(out.Found, func(g act.Glimpse) bool { return g.Of == "system call" })
	require.NotEqual(t, -1, calls, "they are counted, or it is said why not")
	t.Log(out.Found[calls])
	assert.Regexp(t, `thread \d+: \d+ % running`, all, "it runs for most of the time")
	assert.Contains(t, all, "opened: "+dir+"/opened-later")
	assert.Contains(t, all, "on CPU ")
}
