package guest

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/carry"
	"vinescale/internal/identify"
)

// TestGuestActsAreReadBackAndUndone has every act on a group done by a kernel with version 2 alone: what it says
// afterwards is what was ordered, and after it was undone what it said before.
func TestGuestActsAreReadBackAndUndone(t *testing.T) {
	dir := cell(t, "press", [2]string{"cpuset.cpus", "0-1"})
	crowd, _ := start(t, dir, "60", "0.3", "/tmp/press-record", "swarm")
	held, _ := start(t, dir, "hold", "4", "0")
	key := "service:/press.service"
	known := &carry.Known{Boot: "b", Of: map[carry.Process]string{}, Workloads: map[string]account.Workload{
		key: {Key: key, Kind: amount.Service, Name: "press", Path: "/press.service"}}}
	for _, pid := range []int{crowd.Process.Pid, held.Process.Pid} {
		known.Of[carry.Process{PID: int32(pid), Start: startOf(t, pid)}] = key
	}
	host, err := carry.New(carry.Options{Users: identify.NewUsers("/etc"), Journal: t.TempDir(), Self: 1,
		Known:  func(context.Context) (*carry.Known, error) { return known, nil },
		Policy: func() (*act.Policy, error) { return act.ParsePolicy([]byte("allow: [{acts: [all]}]")) }})
	require.NoError(t, err)
	orders := 0
	do := func(v act.Verb, target act.Target, settings map[string]string) (string, act.Outcome) {
		orders++
		o := &act.Order{ID: "a" + string(rune('a'+orders)), Whose: map[string]string{key: "Bottling"},
			Request: act.Request{Verb: v, Target: target, Settings: settings}}
		p, err := host.Preview(context.Background(), o)
		require.NoError(t, err, "%s %v", v, settings)
		o.Identity = p.Identity
		return o.ID, host.Carry(context.Background(), o, time.Minute)
	}
	target := act.Target{Form: act.OfWorkload, Key: key}
	for _, x := range []struct {
		verb     act.Verb
		settings map[string]string
		want     map[string]string
	}{
		{act.Cap, map[string]string{"cpu": "0.5"}, map[string]string{"cpu.max": "50000 100000"}},
		{act.Cap, map[string]string{"memory": "100MiB", "processes": "40"}, map[string]string{"memory.max": "104857600",
			"pids.max": "40"}},
		{act.Cap, map[string]string{"read": "vda=1MB"}, map[string]string{"io.max": device(t, "vda") +
			" rbps=1000000 wbps=max riops=max wiops=max"}},
		{act.Weigh, map[string]string{"cpu-weight": "33"}, map[string]string{"cpu.weight": "33"}},
		{act.Place, map[string]string{"cpuset": "1"}, map[string]string{"cpuset.cpus": "1",
			"cpuset.cpus.effective": "1"}},
		{act.Place, map[string]string{"cpuset": "1", "alone": "true"}, map[string]string{"cpuset.cpus": "1",
			"cpuset.cpus.partition": "root"}},
		{act.Pause, nil, map[string]string{"cgroup.freeze": "1"}},
	} {
		before := map[string]string{}
		for file := range x.want {
			before[file] = text(filepath.Join(dir, file))
		}
		id, out := do(x.verb, target, x.settings)
		require.Equal(t, act.Done, out.State, "%s %v: %+v", x.verb, x.settings, out)
		for file, want := range x.want {
			assert.Equal(t, want, text(filepath.Join(dir, file)), "%s %v", x.verb, x.settings)
		}
		_, out = do(act.Undo, act.Target{Form: act.OfAct, Act: id}, nil)
		require.Equal(t, act.Done, out.State, "undo %s %v: %+v", x.verb, x.settings, out)
		for file, was := range before {
			assert.Equal(t, was, text(filepath.Join(dir, file)), "%s %v undone", x.verb, x.settings)
		}
	}
	assert.Eventually(t, func() bool { return text(dir+"/cgroup.procs") != "" }, patience, time.Millisecond)
	_, out := do(act.End, target, map[string]string{"force": "true"})
	assert.Equal(t, act.Done, out.State, "%+v", out)
	assert.Empty(t, text(dir+"/cgroup.procs"), "none of it is left, though it forked all the time")
	t.Logf("%d processes ended: %s", out.Hit, out.Detail)
}

// device is the number of a block device, as the kernel writes it.
func device(t *testing.T, name string) string {
	number := text("/sys/class/block/" + name + "/dev")
	require.NotEmpty(t, number)
	return number
}

// startOf is when a process began, in clock ticks since boot.
func startOf(t *testing.T, pid int) int64 {
	stat := text(fmt.Sprintf("/proc/%d/stat", pid))
	fields := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
	require.Greater(t, len(fields), 19)
	start, err := strconv.ParseInt(fields[19], 10, 64)
	require.NoError(t, err)
	return start
}
