package carry_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/carry"
	"vinescale/internal/devices"
	"vinescale/internal/identify"
)

// files is a host of written-down files: two containers, and something else in the group around one of them.
type files struct {
	*scene
	root string
}

const (
	gridKey = "container:grid@1"
	leafKey = "container:leaf@1"
)

func newFiles(t *testing.T, v2 bool) *files {
	f := &files{scene: &scene{t: t, policy: allowsAll}, root: t.TempDir()}
	f.known = carry.Known{Boot: "boot", Of: map[carry.Process]string{{PID: 100, Start: 5}: gridKey,
		{PID: 101, Start: 6}: gridKey, {PID: 200, Start: 7}: leafKey, {PID: 300, Start: 8}: otherKey},
		Workloads: map[string]account.Workload{
			gridKey:  {Key: gridKey, Kind: amount.Container, Name: "grid", Path: "/grid"},
			leafKey:  {Key: leafKey, Kind: amount.Container, Name: "leaf", Path: "/pod/leaf"},
			otherKey: {Key: otherKey, Kind: amount.Loose, Name: "other"}}}
	f.put("proc/stat", "btime 1700000000\n")
	for pid, start := range map[int]int{100: 5, 101: 6, 200: 7, 300: 8} {
		f.put(fmt.Sprintf("proc/%d/stat", pid), fmt.Sprintf("%d (must) S 1 0 0 0 0 0 0 0 0 0 0 0 0 0 20 0 1 0 %d"+
			strings.Repeat(" 0", 20), pid, start))
		f.put(fmt.Sprintf("proc/%d/status", pid), "Name:\tmust\nUid:\t0\t0\t0\t0\nCpus_allowed_list:\t0-7\n")
	}
	f.put("sys/devices/system/cpu/online", "0-7\n")
	f.put("sys/class/block/vda/dev", "254:0\n")
	in := map[int]string{100: "/grid", 101: "/grid/inner", 200: "/pod/leaf", 300: "/pod"}
	trees := []string{"cpu,cpuacct", "memory", "pids", "cpuset", "blkio", "freezer"}
	if v2 {
		trees = []string{""}
		f.put("cgroup/cgroup.controllers", "cpuset cpu io memory pids\n")
	}
	for pid, path := range in {
		lines := ""
		for i, tree := range trees {
			lines += fmt.Sprintf("%d:%s:%s\n", i, tree, path)
		}
		f.put(fmt.Sprintf("proc/%d/cgroup", pid), lines)
	}
	for _, tree := range trees {
		for _, dir := range []string{"/grid", "/grid/inner", "/pod", "/pod/leaf"} {
			pids := ""
			for pid, path := range in {
				if path == dir {
					pids += fmt.Sprintln(pid)
				}
			}
			f.put("cgroup/"+tree+dir+"/cgroup.procs", pids)
		}
	}
	f.options = carry.Options{Proc: f.root + "/proc", Cgroup: f.root + "/cgroup", Sys: f.root + "/sys",
		Run: f.root + "/run", Users: identify.NewUsers("/etc"), Journal: t.TempDir(), Self: 1,
		Known:  func(context.Context) (*carry.Known, error) { return &f.known, nil },
		Policy: func() (*act.Policy, error) { return act.ParsePolicy([]byte(f.policy)) }}
	f.open()
	return f
}

func (f *files) order(v act.Verb, target act.Target, settings map[string]string) *act.Order {
	o := f.scene.order(v, target, settings)
	o.Whose[gridKey], o.Whose[leafKey] = "Frost Watch", "Leaf Vision"
	return o
}

func (f *files) refused(v act.Verb, target act.Target, settings map[string]string) string {
	_, err := f.host.Preview(context.Background(), f.order(v, target, settings))
	require.Error(f.t, err)
	return err.Error()
}

func (f *files) put(name, content string) {
	path := filepath.Join(f.root, name)
	require.NoError(f.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(f.t, os.WriteFile(path, []byte(content), 0o644))
}

func (f *files) get(name string) string {
	b, err := os.ReadFile(filepath.Join(f.root, name))
	require.NoError(f.t, err)
	return strings.TrimSpace(string(b))
}

func grid() act.Target { return act.Target{Form: act.OfWorkload, Key: gridKey} }

// done carries an act out on the grid's group, whose values it returns, and undoes it.
func (f *files) done(v act.Verb, settings map[string]string, names ...string) (during, after []string) {
	read := func() (values []string) {
		for _, n := range names {
			values = append(values, f.get("cgroup/"+n))
		}
		return values
	}
	o := f.order(v, grid(), settings)
	f.preview(o)
	out := f.carry(o)
	require.Equal(f.t, act.Done, out.State, "%+v", out)
	during = read()
	undo := f.order(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil)
	f.preview(undo)
	require.Equal(f.t, act.Done, f.carry(undo).State)
	return during, read()
}

func TestCap_WritesWhatTheKernelTakesAndUndoPutsBackWhatWas(t *testing.T) {
	for name, x := range map[string]struct {
		v2       bool
		verb     act.Verb
		settings map[string]string
		before   map[string]string
		want     map[string]string
	}{
		"CPU by version 2": {true, act.Cap, map[string]string{"cpu": "1.5"},
			map[string]string{"/grid/cpu.max": "max 50000"}, map[string]string{"/grid/cpu.max": "75000 50000"}},
		"lifted by version 2": {true, act.Cap, map[string]string{"cpu": "none", "memory": "none", "processes": "none"},
			map[string]string{"/grid/cpu.max": "20000 100000", "/grid/memory.max": "1048576", "/grid/pids.max": "7"},
			map[string]string{"/grid/cpu.max": "max 100000", "/grid/memory.max": "max", "/grid/pids.max": "max"}},
		"all by version 2": {true, act.Cap, map[string]string{"cpu": "0.01", "memory": "10000000", "processes": "30"},
			map[string]string{"/grid/cpu.max": "max 10000", "/grid/memory.max": "max", "/grid/pids.max": "max",
				"/grid/memory.current": "5"},
			map[string]string{"/grid/cpu.max": "1000 10000", "/grid/memory.max": "9998336", "/grid/pids.max": "30"}},
		"CPU by version 1": {false, act.Cap, map[string]string{"cpu": "2"},
			map[string]string{"cpu,cpuacct/grid/cpu.cfs_quota_us": "-1", "cpu,cpuacct/grid/cpu.cfs_period_us": "40000"},
			map[string]string{"cpu,cpuacct/grid/cpu.cfs_quota_us": "80000"}},
		"lifted by version 1": {false, act.Cap, map[string]string{"cpu": "none", "memory": "none"},
			map[string]string{"cpu,cpuacct/grid/cpu.cfs_quota_us": "5000",
				"cpu,cpuacct/grid/cpu.cfs_period_us": "100000",
				"memory/grid/memory.limit_in_bytes":  "4096"},
			map[string]string{"cpu,cpuacct/grid/cpu.cfs_quota_us": "-1", "memory/grid/memory.limit_in_bytes": "-1"}},
		"weight by version 2": {true, act.Weigh, map[string]string{"cpu-weight": "250"},
			map[string]string{"/grid/cpu.weight": "100"}, map[string]string{"/grid/cpu.weight": "250"}},
		"weight by version 1": {false, act.Weigh, map[string]string{"cpu-weight": "250", "io-weight": "5"},
			map[string]string{"cpu,cpuacct/grid/cpu.shares": "1024", "blkio/grid/blkio.weight": "500"},
			map[string]string{"cpu,cpuacct/grid/cpu.shares": "2560", "blkio/grid/blkio.weight": "10"}},
		"CPUs by version 2": {true, act.Place, map[string]string{"cpuset": "2-4"},
			map[string]string{"/grid/cpuset.cpus": ""}, map[string]string{"/grid/cpuset.cpus": "2-4"}},
		"CPUs alone by version 2": {true, act.Place, map[string]string{"cpuset": "2-4", "alone": "true"},
			map[string]string{"/grid/cpuset.cpus": "0-7", "/grid/cpuset.cpus.partition": "member",
				"/cpuset.cpus.effective": "0-7"},
			map[string]string{"/grid/cpuset.cpus": "2-4", "/grid/cpuset.cpus.partition": "root"}},
		"CPUs shared again by version 1": {false, act.Place, map[string]string{"cpuset": "0-7", "alone": "false"},
			map[string]string{"cpuset/grid/cpuset.cpus": "2", "cpuset/grid/cpuset.cpu_exclusive": "1"},
			map[string]string{"cpuset/grid/cpuset.cpus": "0-7", "cpuset/grid/cpuset.cpu_exclusive": "0"}},
		"paused by version 2": {true, act.Pause, nil, map[string]string{"/grid/cgroup.freeze": "0"},
			map[string]string{"/grid/cgroup.freeze": "1"}},
		"paused by version 1": {false, act.Pause, nil, map[string]string{"freezer/grid/freezer.state": "THAWED"},
			map[string]string{"freezer/grid/freezer.state": "FROZEN"}},
		"continued by version 1": {false, act.Continue, nil,
			map[string]string{"freezer/grid/freezer.state": "FROZEN"},
			map[string]string{"freezer/grid/freezer.state": "THAWED"}},
	} {
		f := newFiles(t, x.v2)
		var names, want, before []string
		for file, value := range x.before {
			f.put("cgroup/"+file, value+"\n")
		}
		for file, value := range x.want {
			names, want, before = append(names, file), append(want, value), append(before, x.before[file])
		}
		during, after := f.done(x.verb, x.settings, names...)
		assert.Equal(t, want, during, name)
		assert.Equal(t, before, after, name)
	}
}

func TestPlace_AloneIsRefusedWhereNothingWouldBeLeft(t *testing.T) {
	f := newFiles(t, true)
	f.put("cgroup/grid/cpuset.cpus", "\n")
	f.put("cgroup/grid/cpuset.cpus.partition", "member\n")
	f.put("cgroup/cpuset.cpus.effective", "2-5\n")
	alone := func(cpus string) string {
		_, err := f.host.Preview(context.Background(), f.order(act.Place, grid(), map[string]string{"cpuset": cpus,
			"alone": "true"}))
		if err == nil {
			return ""
		}
		return err.Error()
	}
	assert.Contains(t, alone("2-5"), "leave none for everybody else")
	assert.Empty(t, alone("2-4"))

	g := newFiles(t, false)
	g.put("cgroup/cpuset/grid/cpuset.cpus", "\n")
	g.put("cgroup/cpuset/grid/cpuset.cpu_exclusive", "0\n")
	g.put("cgroup/cpuset/cpuset.effective_cpus", "0-3\n")
	g.put("cgroup/cpuset/taken/cpuset.cpu_exclusive", "1\n")
	g.put("cgroup/cpuset/taken/cpuset.cpus", "0-1\n")
	_, err := g.host.Preview(context.Background(), g.order(act.Place, grid(), map[string]string{"cpuset": "2-3",
		"alone": "true"}))
	assert.ErrorContains(t, err, "leave none", "others have the rest alone")
}

func TestCap_NamesWhoElseIsInTheGroup(t *testing.T) {
	f := newFiles(t, true)
	f.put("cgroup/pod/leaf/memory.max", "max\n")
	f.put("cgroup/pod/leaf/memory.current", "900000000\n")
	leaf := act.Target{Form: act.OfWorkload, Key: leafKey}
	p := f.preview(f.order(act.Cap, leaf, map[string]string{"memory": "100MB"}))
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "it holds 900000000 bytes now, more than the limit")
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "what began it has other values written down")
	assert.Equal(t, []string{leafKey}, p.Workloads)

	// A group that holds others' processes is not this one's to limit.
	w := f.known.Workloads[leafKey]
	w.Path = "/elsewhere"
	f.known.Workloads[leafKey] = w
	f.put("proc/200/cgroup", "0::/pod\n")
	f.put("cgroup/pod/cgroup.procs", "200\n300\n")
	f.put("cgroup/pod/memory.max", "max\n")
	assert.Contains(t, f.refused(act.Cap, leaf, map[string]string{"memory": "100MB"}), "holds others too, such as "+
		"process 300")
	f.put("proc/200/cgroup", "0::/\n")
	assert.Contains(
		t,
		f.refused(act.Cap, leaf, map[string]string{"memory": "100MB"}),
		"no group of the controller memory",
	)
	// A loose program is in no group of its own: it is given one.
	loose := act.Target{Form: act.OfWorkload, Key: otherKey}
	p = f.preview(f.order(act.Cap, loose, map[string]string{"cpu": "1", "processes": "9"}))
	var made []string
	for _, c := range p.Changes {
		made = append(made, c.What+": "+c.Before+" > "+strings.SplitAfter(c.After, "act-")[0])
	}
	assert.Equal(
		t,
		[]string{"a group of its own: none > made", "its group of the controller cpu: /pod > /vinescale/act-",
			"CPU limit, microseconds (100000 are a core): max 100000 > 100000 100000",
			"limit of processes and threads: max > 9"},
		made,
	)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "it is moved into one, /vinescale/act-")
	assert.Contains(t, f.refused(act.Cap, grid(), map[string]string{"read": "vdz=1MB"}), `no block device "vdz"`)
}

// TestCap_DoesNotMindWhoEndsMeanwhile has a group whose processes come and go: one that has ended is in no group.
func TestCap_DoesNotMindWhoEndsMeanwhile(t *testing.T) {
	f := newFiles(t, true)
	f.put("cgroup/grid/cpu.max", "max 100000\n")
	f.put("proc/101/cgroup", "0::/\n")
	request := map[string]string{"cpu": "1"}
	assert.Contains(t, f.refused(act.Cap, grid(), request), "no group of the controller cpu")
	f.put("proc/101/stat", strings.Replace(f.get("proc/101/stat"), ") S", ") Z", 1))
	assert.Len(t, f.preview(f.order(act.Cap, grid(), request)).Changes, 1)
	require.NoError(t, os.Remove(f.root+"/proc/101/cgroup"))
	o := f.order(act.Cap, grid(), request)
	f.preview(o)
	assert.Equal(t, act.Done, f.carry(o).State)
	assert.Equal(t, "100000 100000", f.get("cgroup/grid/cpu.max"))
}

func TestCap_IsNotSetOnAGroupInWhichSomethingIsNeverTouched(t *testing.T) {
	for _, x := range []struct {
		verb     act.Verb
		settings map[string]string
	}{{act.Cap, map[string]string{"memory": "1MiB"}}, {act.Weigh, map[string]string{"cpu-weight": "1"}},
		{act.Place, map[string]string{"cpuset": "0"}}} {
		f := newFiles(t, true)
		for file, value := range map[string]string{"memory.max": "max", "cpu.weight": "100", "cpuset.cpus": "",
			"cgroup.freeze": "0"} {
			f.put("cgroup/grid/"+file, value+"\n")
		}
		f.put("proc/101/stat", strings.Replace(f.get("proc/101/stat"), "(must)", "(nebbiolo)", 1))
		f.policy = allowsAll + "\nnever: {programs: [nebbiolo]}"
		assert.Contains(
			t,
			f.refused(x.verb, grid(), x.settings),
			"process 101, nebbiolo is in its group, and is never",
		)
		p := f.preview(f.order(act.Pause, grid(), nil))
		require.Len(t, p.Changes, 1, "paused process by process, and that one is left")
		assert.Equal(t, "process 100", p.Changes[0].Where)
	}
	f := newFiles(t, true)
	assert.Contains(t, f.refused(act.Message, grid(), map[string]string{"text": "up"}), "is no sign-in")
}

func TestCarry_RefusesWhereAValueChangedSinceThePreview(t *testing.T) {
	f := newFiles(t, true)
	f.put("cgroup/grid/cpu.max", "max 100000\n")
	o := f.order(act.Cap, grid(), map[string]string{"cpu": "1"})
	f.preview(o)
	f.put("cgroup/grid/cpu.max", "50000 100000\n")
	out := f.carry(o)
	assert.Equal(t, act.Refused, out.State)
	assert.Equal(t, "50000 100000", f.get("cgroup/grid/cpu.max"))

	// The same name, begun anew, is another.
	o = f.order(act.Cap, grid(), map[string]string{"cpu": "1"})
	f.preview(o)
	require.NoError(t, os.Rename(f.root+"/cgroup/grid", f.root+"/cgroup/before"))
	f.put("cgroup/grid/cgroup.procs", "100\n")
	f.put("cgroup/grid/inner/cgroup.procs", "101\n")
	f.put("cgroup/grid/cpu.max", "50000 100000\n")
	assert.Equal(t, act.Refused, f.carry(o).State)
	delete(f.known.Workloads, gridKey)
	assert.Contains(t, f.refused(act.Cap, grid(), map[string]string{"cpu": "1"}), "another instance")
}

func TestUndo_LeavesWhatSomebodyElseHasSetSince(t *testing.T) {
	f := newFiles(t, true)
	f.put("cgroup/grid/cpu.max", "max 100000\n")
	f.put("cgroup/grid/pids.max", "max\n")
	o := f.order(act.Cap, grid(), map[string]string{"cpu": "1", "processes": "9"})
	f.preview(o)
	require.Equal(t, act.Done, f.carry(o).State)
	f.put("cgroup/grid/pids.max", "12\n")
	undo := f.order(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil)
	p := f.preview(undo)
	require.Len(t, p.Left, 1)
	assert.Contains(t, p.Left[0].Why, "set it to 12 since")
	out := f.carry(undo)
	assert.Equal(t, act.Done, out.State)
	assert.Equal(t, "max 100000", f.get("cgroup/grid/cpu.max"))
	assert.Equal(t, "12", f.get("cgroup/grid/pids.max"))
	assert.Contains(t, f.refused(act.Undo, act.Target{Form: act.OfAct, Act: "a999"}, nil), "does not know act a999")
}

func TestPower_IsLimitedWithinTheBoundsOfTheDriver(t *testing.T) {
	f := newFiles(t, true)
	const dir = "sys/bus/pci/devices/0000:03:00.0/hwmon/hwmon4/"
	for name, value := range map[string]string{"power1_cap": "250000000", "power1_cap_min": "100000000",
		"power1_cap_max": "300000000", "power1_cap_default": "250000000"} {
		f.put(dir+name, value+"\n")
	}
	order := func(address, watts string) *act.Order {
		o := f.order(act.Power, act.Target{Form: act.OfGPU, GPU: address}, map[string]string{"watts": watts})
		o.Whose["gpu:"+address] = "unassigned"
		return o
	}
	refused := func(o *act.Order) string {
		_, err := f.host.Preview(context.Background(), o)
		require.Error(t, err)
		return err.Error()
	}
	o := order("0000:03:00.0", "180")
	p := f.preview(o)
	assert.Equal(t, []string{"gpu:0000:03:00.0"}, p.Workloads)
	require.Equal(t, act.Done, f.carry(o).State)
	assert.Equal(t, "180000000", f.get(dir+"power1_cap"))
	f.put(dir+"power1_cap", "180250000\n") // rounded by the driver: it is still what was set
	undo := f.order(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil)
	f.preview(undo)
	require.Equal(t, act.Done, f.carry(undo).State)
	assert.Equal(t, "250000000", f.get(dir+"power1_cap"))
	assert.Contains(t, refused(order("0000:03:00.0", "301")), "takes 100 to 300 W")
	assert.Contains(t, refused(order("0000:03:00.0", "99")), "takes 100 to 300 W")
	assert.Contains(t, refused(order("0000:04:00.0", "200")), "has a limit of its power to set")
	assert.Contains(t, refused(order("../../../0000", "200")), "its address on the bus")
	f.put(dir+"power1_cap", "120000000\n")
	o = order("0000:03:00.0", "usual")
	f.preview(o)
	require.Equal(t, act.Done, f.carry(o).State)
	assert.Equal(t, "250000000", f.get(dir+"power1_cap"))
}

// library is a vendor's library of one GPU, at 0000:04:00.0.
type library struct {
	is     map[string]int64
	wrong  error
	rounds int64 // to how many microwatts it rounds a limit
}

func (l *library) Ask(_ context.Context, address, setting string, value *int64) (*devices.Adjustment, error) {
	if address != "0000:04:00.0" {
		return nil, devices.ErrNoGPU
	}
	if l.wrong != nil {
		return nil, l.wrong
	}
	if value != nil {
		l.is[setting] = *value / max(l.rounds, 1) * max(l.rounds, 1)
	}
	return &devices.Adjustment{Value: l.is[setting], Usual: 280e6, Least: 100e6, Most: 310e6}, nil
}

func TestGPU_WhatOnlyTheVendorsLibrarySetsIsSetByIt(t *testing.T) {
	f := newFiles(t, true)
	l := &library{is: map[string]int64{devices.PowerLimit: 300e6, devices.ComputeMode: 1}}
	f.options.GPUs = l
	f.open()
	order := func(v act.Verb, address, name, value string) *act.Order {
		o := f.order(v, act.Target{Form: act.OfGPU, GPU: address}, map[string]string{name: value})
		o.Whose["gpu:"+address] = "Leaf Vision"
		return o
	}
	undone := func(o *act.Order) {
		undo := f.order(act.Undo, act.Target{Form: act.OfAct, Act: o.ID}, nil)
		f.preview(undo)
		require.Equal(t, act.Done, f.carry(undo).State)
	}
	refused := func(o *act.Order) string {
		_, err := f.host.Preview(context.Background(), o)
		require.Error(t, err)
		return err.Error()
	}
	admit := order(act.Admit, "0000:04:00.0", "compute", "one-process")
	p := f.preview(admit)
	assert.Equal(t, []act.Change{{What: "who may compute", Where: "0000:04:00.0", Before: "one thread",
		After: "one process"}}, p.Changes)
	assert.Equal(t, "its vendor's library", p.Through)
	assert.Contains(t, p.Warnings, "what computes on it already goes on")
	require.Equal(t, act.Done, f.carry(admit).State)
	assert.EqualValues(t, 3, l.is[devices.ComputeMode])
	undone(admit)
	assert.EqualValues(t, 1, l.is[devices.ComputeMode], "as it was, even where that is not set any more by itself")

	l.rounds = 5e6
	power := order(act.Power, "0000:04:00.0", "watts", "220")
	f.preview(power)
	require.Equal(t, act.Done, f.carry(power).State)
	assert.EqualValues(t, 220e6, l.is[devices.PowerLimit])
	undone(power)
	assert.EqualValues(t, 300e6, l.is[devices.PowerLimit])
	usual := order(act.Power, "0000:04:00.0", "watts", "usual")
	f.preview(usual)
	require.Equal(t, act.Done, f.carry(usual).State)
	assert.EqualValues(t, 280e6, l.is[devices.PowerLimit])
	assert.Contains(t, refused(order(act.Power, "0000:04:00.0", "watts", "311")), "takes 100 to 310 W")
	assert.Contains(t, refused(order(act.Admit, "0000:05:00.0", "compute", "shared")), "no vendor's library")

	p = f.preview(admit)
	l.is[devices.ComputeMode] = 2
	again := order(act.Admit, "0000:04:00.0", "compute", "one-process")
	f.preview(again)
	l.is[devices.ComputeMode] = 0
	assert.Equal(t, act.Refused, f.carry(again).State, "somebody set it since the preview")
	l.wrong = errors.New("the library does not permit it: only root may")
	assert.Contains(t, refused(order(act.Admit, "0000:04:00.0", "compute", "shared")), "only root may")
}
