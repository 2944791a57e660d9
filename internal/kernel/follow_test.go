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
	"vinescale/internal/kernel"
	"vinescale/internal/stage"
)

// following is a staged version 2 host whose files a test changes under the reader.
type following struct {
	t    *testing.T
	host *stage.Host
	tree stage.Tree
	*kernel.Reader
}

func follow(t *testing.T, settings ...func(*kernel.Options)) *following {
	h, tree := staged(t, false)
	return &following{t, h, tree, open(t, h, tree, settings...)}
}

// read takes a reading and returns a process of it with its workload; ok is false when it is in none.
func (f *following) read(pid int32) (account.Process, account.Workload, bool) {
	var r account.Reading
	require.NoError(f.t, f.Read(&r))
	for _, p := range r.Processes {
		if p.PID == pid && p.Workload != account.Unrecognised {
			return p, f.Registry().Workload(p.Workload), true
		}
	}
	return account.Process{}, account.Workload{}, false
}

func (f *following) write(name, content string) {
	path := filepath.Join(f.tree.Dir, name)
	require.NoError(f.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(f.t, os.WriteFile(path, []byte(content), 0o644))
}

// process lays out a process of user i.sauer in a cgroup.
func (f *following) process(pid int, start int64, program, cgroup string) {
	dir := fmt.Sprintf("proc/%d/", pid)
	f.write(dir+"stat",
		fmt.Sprintf(
			"%d (%s) S 1 1 1 0 -1 4194560 0 0 0 0 7 0 0 0 20 0 1 0 %d 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 0 0 0\n",
			pid, program, start))
	f.write(dir+"statm", "20 10 5 0 0 0 0\n")
	f.write(dir+"status", "Name:\tx\nUid:\t2004\t2004\t2004\t2004\nCpus_allowed_list:\t0-1\n")
	f.write(dir+"cgroup", "0::"+cgroup+"\n")
	exe := filepath.Join(f.tree.Dir, dir+"exe")
	os.Remove(exe)
	require.NoError(f.t, os.Symlink("/usr/bin/"+program, exe))
}

func TestFollow_AContainerWhoseStateFileComesAfterItsCgroupIsRecognised(t *testing.T) {
	f := follow(t)
	f.write("sys/fs/cgroup/must-9/cpu.stat", "usage_usec 5\n")
	f.process(9001, 100, "intake", "/must-9")
	_, w, _ := f.read(9001)
	assert.Equal(t, amount.Loose, w.Kind)
	f.write("run/runc/must-9/state.json", `{"id":"must-9","cgroup_paths":{"":"/sys/fs/cgroup/must-9"}}`)
	_, w, _ = f.read(9001)
	assert.Equal(t, "container:must-9", w.Key, "at the next reading")
	assert.Equal(t, "i.sauer", w.Owner, "whose records name no owner: the user of its process")
}

func TestFollow_AProcessMovedToAnotherWorkloadIsFoundThere(t *testing.T) {
	f := follow(t)
	f.process(9001, 100, "intake", "/")
	for range 3 {
		_, w, _ := f.read(9001)
		assert.Equal(t, "loose:2004:intake", w.Key)
	}
	f.write("sys/fs/cgroup/system.slice/press.service/cpu.stat", "usage_usec 5\n")
	f.process(9001, 100, "intake", "/system.slice/press.service")
	found := ""
	for range 12 { // the longest it may take
		_, w, _ := f.read(9001)
		found = w.Name
	}
	assert.Equal(t, "press", found)
}

func TestFollow_AReusedPidAndAnotherProgramAreLookedAtAgain(t *testing.T) {
	f := follow(t)
	f.process(9001, 100, "intake", "/")
	p, _, _ := f.read(9001)
	f.read(9001)
	f.read(9001)
	f.process(9001, 100, "sort", "/") // it runs another program now
	q, _, _ := f.read(9001)
	assert.Equal(t, []string{"intake", "sort"}, []string{f.Registry().ProgramName(p.Program),
		f.Registry().ProgramName(q.Program)})
	exe := filepath.Join(f.tree.Dir, "proc/9001/exe")
	f.process(9001, 100, "runc", "/")
	require.NoError(t, os.Remove(exe))
	require.NoError(t, os.Symlink("/memfd:runc_cloned:/proc/self/exe (deleted)", exe))
	q, _, _ = f.read(9001)
	assert.Equal(t, "runc", f.Registry().ProgramName(q.Program), "a copy in memory goes by the process's own name")
	f.process(9001, 100, "memfd:sealed-91", "/")
	require.NoError(t, os.Remove(exe))
	require.NoError(t, os.Symlink("/memfd:sealed-91 (deleted)", exe))
	for line, want := range map[string]string{"": "sealed-91", "memfd:sealed-91\x00": "sealed-91",
		"tools/ripen\x00--fast\x00": "ripen"} {
		f.write("proc/9001/cmdline", line)
		f.process(9001, 100, "other", "/")
		f.read(9001)
		f.process(9001, 100, "memfd:sealed-91", "/")
		require.NoError(t, os.Remove(exe))
		require.NoError(t, os.Symlink("/memfd:sealed-91 (deleted)", exe))
		q, _, _ = f.read(9001)
		assert.Equal(t, want, f.Registry().ProgramName(q.Program), "by what it was begun as: %q", line)
	}
	f.process(9001, 999, "bash", "/user.slice/user-2004.slice/session-3.scope")
	f.write("sys/fs/cgroup/user.slice/user-2004.slice/session-3.scope/cpu.stat", "usage_usec 5\n")
	_, w, _ := f.read(9001)
	assert.Equal(t, "sign-in 3 of i.sauer", w.Name)
}

func TestFollow_LooseWorkOfAnInterpreterIsCalledByWhatItRuns(t *testing.T) {
	f := follow(t)
	f.write("proc/9001/cmdline", "python3.11\x00/srv/frost/nightly.py\x00--all\x00")
	f.process(9001, 100, "python3.11", "/")
	p, w, _ := f.read(9001)
	assert.Equal(t, []string{"nightly.py of i.sauer", "loose:2004:python3.11:nightly.py", "python3.11"},
		[]string{w.Name, w.Key, w.Facts[account.FactProgram]}, "and rules see the program")
	assert.Equal(t, "python3.11", f.Registry().ProgramName(p.Program))
	f.process(9002, 100, "python3.11", "/")
	f.write("proc/9002/cmdline", "python3.11\x00-c\x00pass\x00")
	_, w, _ = f.read(9002)
	assert.Equal(t, "python3.11 of i.sauer", w.Name)
	f.process(9001, 100, "sort", "/") // it runs another program now
	_, w, _ = f.read(9001)
	assert.Equal(t, "sort of i.sauer", w.Name)
}

func TestFollow_WhatIsInsideAWorkloadBelongsToItAndTheInnermostWins(t *testing.T) {
	f := follow(t)
	const session = "/user.slice/user-2004.slice/session-3.scope"
	f.write("run/runc/inner/state.json", `{"id":"inner","cgroup_paths":{"":"/sys/fs/cgroup`+session+`/inner"}}`)
	for _, dir := range []string{session, session + "/plain", session + "/inner", session + "/inner/deep"} {
		f.write("sys/fs/cgroup"+dir+"/cpu.stat", "usage_usec 5\n")
	}
	for pid, path := range map[int]string{9001: session, 9002: session + "/plain", 9003: session + "/inner",
		9004: session + "/inner/deep"} {
		f.process(pid, 100, "sh", path)
	}
	want := map[int32]string{9001: "session::3", 9002: "session::3", 9003: "container:inner", 9004: "container:inner"}
	for pid, key := range want {
		_, w, _ := f.read(pid)
		assert.Equal(t, key, w.Key, "%d", pid)
	}
	var r account.Reading
	require.NoError(t, f.Read(&r))
	for i, g := range r.Groups {
		if f.Registry().Workload(g.Workload).Key == "container:inner" {
			require.GreaterOrEqual(t, g.Outer, int32(0))
			assert.Less(t, g.Outer, int32(i))
			assert.Equal(t, "session::3", f.Registry().Workload(r.Groups[g.Outer].Workload).Key)
		}
	}
}

func TestFollow_AGroupMadeBetweenReadingsIsBornAndOneThatWasThereIsNot(t *testing.T) {
	f := follow(t)
	var r account.Reading
	require.NoError(t, f.Read(&r))
	for _, g := range r.Groups {
		assert.False(t, g.Born, "at the first reading nothing is known to be new")
	}
	f.write("sys/fs/cgroup/system.slice/press.service/cpu.stat", "usage_usec 5\n")
	f.host.Advance(5 * time.Second)
	require.NoError(t, f.Read(&r))
	born := 0
	for _, g := range r.Groups {
		if g.Born {
			born++
			assert.Equal(t, "press", f.Registry().Workload(g.Workload).Name)
		}
	}
	assert.Equal(t, 1, born)
	require.NoError(t, f.Read(&r))
	for _, g := range r.Groups {
		assert.False(t, g.Born, "once")
	}
}

func TestFollow_TheCPUsAWorkloadMayUseAreThoseOfAllItsProcesses(t *testing.T) {
	f := follow(t)
	f.process(9001, 100, "sh", "/")
	f.process(9002, 100, "sh", "/")
	f.write("proc/9002/status", "Name:\tx\nUid:\t2004\t2004\t2004\t2004\nCpus_allowed_list:\t4,6\n")
	f.read(9001)
	_, w, _ := f.read(9001)
	assert.Equal(t, "0-1,4,6", w.Allowed)
	assert.Equal(t, "0-1; 4,6 (sh)", w.Facts[account.FactMasks], "a child has another mask than its parent")
}

func TestFollow_AThreadWithAMaskOfItsOwnIsToldWithItsProcess(t *testing.T) {
	f := follow(t)
	f.process(9001, 100, "press", "/")
	f.process(9002, 100, "sort", "/")
	stat := "9001 (press) S 1 1 1 0 -1 4194560 0 0 0 0 7 0 0 0 20 0 3 0 100 0 0" +
		" 0 0 0 0 0 0 0 0 0 0 0 0 0 17 3 0 0 0 0 0\n"
	f.write("proc/9001/stat", stat)
	for tid, on := range map[int]string{9001: "0-1", 9011: "0-1", 9012: "5"} {
		dir := fmt.Sprintf("proc/9001/task/%d/", tid)
		f.write(dir+"stat", stat)
		f.write(dir+"comm", fmt.Sprintf("work-%d\n", tid))
		f.write(dir+"status", "Name:\tx\nUid:\t2004\t2004\t2004\t2004\nCpus_allowed_list:\t"+on+"\n")
	}
	f.write("proc/9002/stat", strings.Replace(strings.Replace(stat, "9001 (press) S 1", "9002 (sort) S 9001", 1),
		" 3 0 100", " 1 0 100", 1))
	f.write("proc/9002/status", "Name:\tx\nUid:\t2004\t2004\t2004\t2004\nCpus_allowed_list:\t0-7\n")
	f.read(9001)
	_, w, _ := f.read(9001)
	assert.Equal(t, "0-7", w.Allowed)
	assert.Equal(t, "0-1; 0-7 (sort, child of press on 0-1); 5 (thread work-9012 of press)",
		w.Facts[account.FactMasks])
}

func TestFollow_WhatACgroupIsKeptOnAndHowItIsWeighed(t *testing.T) {
	f := follow(t)
	const group = "sys/fs/cgroup/coop.slice/must.service"
	f.write(group+"/cpu.stat", "usage_usec 5\n")
	f.write(group+"/cpu.weight", "200\n")
	f.write("sys/fs/cgroup/coop.slice/cpu.weight", "50\n")
	f.write(group+"/cpuset.cpus.effective", "2-3\n")
	f.write(group+"/cpuset.cpus.partition", "isolated\n")
	f.process(9001, 100, "must", "/coop.slice/must.service")
	f.read(9001)
	_, w, _ := f.read(9001)
	facts := func() [3]string {
		return [3]string{w.Facts[account.FactCPUSet], w.Facts[account.FactCPUAlone], w.Facts[account.FactWeights]}
	}
	assert.Equal(t, [3]string{"2-3", "isolated", "50/200"}, facts())

	f.write(group+"/cpuset.cpus.effective", "0-1023\n")
	f.write(group+"/cpuset.cpus.partition", "isolated invalid (Parent unable to distribute cpu downstream)\n")
	require.NoError(t, os.Remove(filepath.Join(f.tree.Dir, "sys/fs/cgroup/coop.slice/cpu.weight")))
	for range 12 {
		_, w, _ = f.read(9001)
	}
	assert.Equal(t, [3]string{"", "", "-/200"}, facts(),
		"the whole host is no set, a partition that is not valid is none, and where there is no weight none competes")
}
