package carry_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/core/act"
)

// limited gives the grid's group values to be changed.
func (f *files) limited(v2 bool) {
	if v2 {
		f.put("cgroup/grid/cpu.max", "max 50000\n")
		f.put("cgroup/grid/cpu.weight", "100\n")
		f.put("cgroup/grid/memory.max", "max\n")
		f.put("cgroup/grid/pids.max", "max\n")
		f.put("cgroup/grid/cpuset.cpus", "\n")
		f.put("cgroup/grid/io.max", "")
		f.put("cgroup/cpuset.cpus.effective", "0-7\n")
		return
	}
	f.put("cgroup/cpu,cpuacct/grid/cpu.cfs_quota_us", "-1\n")
	f.put("cgroup/cpu,cpuacct/grid/cpu.cfs_period_us", "50000\n")
	f.put("cgroup/cpu,cpuacct/grid/cpu.shares", "1024\n")
	f.put("cgroup/memory/grid/memory.limit_in_bytes", "9223372036854771712\n")
	f.put("cgroup/pids/grid/pids.max", "max\n")
	f.put("cgroup/cpuset/grid/cpuset.cpus", "0-7\n")
	f.put("cgroup/blkio/grid/blkio.throttle.read_bps_device", "")
}

// engineStandIn is a container engine that has the container grid, and notes what it is told.
type engineStandIn struct {
	has     string   // what it tells of the container, but its state
	serves  string   // the path at which it takes updates
	refuses string   // why it takes none
	told    []string // bodies
}

func (e *engineStandIn) serve(t *testing.T) (socket string) {
	socket = filepath.Join(shortDir(t), "engine.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /containers/grid/json", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"State": {"Status": "running"}, "HostConfig": {%s}}`, e.has)
	})
	mux.HandleFunc("GET /version", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"Version": "4.9.1", "ApiVersion": "1.41"}`)
	})
	mux.HandleFunc("POST "+e.serves, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		e.told = append(e.told, strings.TrimSpace(string(body)))
		if e.refuses != "" {
			w.WriteHeader(http.StatusConflict)
			fmt.Fprintf(w, `{"message": %q}`, e.refuses)
		}
	})
	server := &http.Server{Handler: mux}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return socket
}

func (e *engineStandIn) take() (told []string) {
	told, e.told = e.told, nil
	return told
}

// UpdateContainerResources notes what of a container is to be changed.
func (s *podStandIn) UpdateContainerResources(_ context.Context, r *cri.UpdateContainerResourcesRequest) (
	*cri.UpdateContainerResourcesResponse, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := r.Linux
	s.calls = append(s.calls, fmt.Sprintf("%s quota %d/%d shares %d memory %d cpus %s", r.ContainerId, l.CpuQuota,
		l.CpuPeriod, l.CpuShares, l.MemoryLimitInBytes, l.CpusetCpus))
	if l.MemoryLimitInBytes == 4096 {
		return nil, status.Error(codes.Unknown, "that is too little")
	}
	return &cri.UpdateContainerResourcesResponse{}, nil
}

// managers are what may manage the container grid; each returns what it was told since it was asked last.
var managers = map[string]func(t *testing.T, f *files) (name string, told func() []string){
	"engine": func(t *testing.T, f *files) (string, func() []string) {
		e := &engineStandIn{has: `"Memory": 0, "MemorySwap": 0`, serves: "/containers/grid/update"}
		f.options.Systems.Engine = e.serve(t)
		return "the container engine", e.take
	},
	"engine with a path of its own": func(t *testing.T, f *files) (string, func() []string) {
		e := &engineStandIn{has: `"Memory": 0`, serves: "/v4.9.1/libpod/containers/grid/update"}
		f.options.Systems.Engine = e.serve(t)
		return "the container engine", e.take
	},
	"runtime": func(t *testing.T, f *files) (string, func() []string) {
		bin, log := t.TempDir(), filepath.Join(t.TempDir(), "calls")
		require.NoError(
			t,
			os.WriteFile(filepath.Join(bin, "runc"), []byte("#!/bin/sh\nshift 2; echo \"$*\" >> "+log+"\n"),
				0o755),
		)
		t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
		f.put("run/runc/grid/state.json", "{}")
		return "the runtime runc", func() []string {
			b, _ := os.ReadFile(log)
			_ = os.Remove(log)
			return strings.Split(strings.TrimSpace(string(b)), "\n")
		}
	},
	"runtime of pods": func(t *testing.T, f *files) (string, func() []string) {
		stand := &podStandIn{pids: map[string]int{"grid": 100}}
		f.options.Systems.Pods = stand.serve(t)
		return "the container runtime", stand.called
	},
}

// TestLimits_OfAContainerAreToldToItsManager sets each limit through each manager on both versions of cgroups: the
// manager is told, the kernel has it, and both have what it was once it is undone.
func TestLimits_OfAContainerAreToldToItsManager(t *testing.T) {
	type said struct{ during, after string }
	none := said{}
	acts := []struct {
		verb                       act.Verb
		settings                   map[string]string
		files                      [2]string // of version 1 and 2
		values                     [2]string // while it holds
		engine, own, runtime, pods said
	}{
		{act.Cap, map[string]string{"cpu": "1.5"}, [2]string{"cpu,cpuacct/grid/cpu.cfs_quota_us", "grid/cpu.max"},
			[2]string{"75000", "75000 50000"},
			said{`{"CpuQuota":75000,"CpuPeriod":50000}`, `{"CpuQuota":-1,"CpuPeriod":50000}`},
			said{`{"cpu":{"period":50000,"quota":75000}}`, `{"cpu":{"period":50000,"quota":-1}}`},
			said{"update --cpu-quota=75000 --cpu-period=50000 grid", "update --cpu-quota=-1 --cpu-period=50000 grid"},
			said{"grid quota 75000/50000 shares 0 memory 0 cpus ", "grid quota -1/50000 shares 0 memory 0 cpus "}},
		{act.Cap, map[string]string{"memory": "64MiB"},
			[2]string{"memory/grid/memory.limit_in_bytes", "grid/memory.max"}, [2]string{"67108864", "67108864"},
			said{`{"Memory":67108864}`, `{"Memory":-1,"MemorySwap":-1}`},
			said{`{"memory":{"limit":67108864}}`, `{"memory":{"limit":-1}}`},
			said{"update --memory=67108864 grid", "update --memory=-1 grid"},
			said{"grid quota 0/0 shares 0 memory 67108864 cpus ", "grid quota 0/0 shares 0 memory -1 cpus "}},
		{act.Cap, map[string]string{"processes": "40"}, [2]string{"pids/grid/pids.max", "grid/pids.max"},
			[2]string{"40", "40"}, said{`{"PidsLimit":40}`, `{"PidsLimit":-1}`},
			said{`{"pids":{"limit":40}}`, `{"pids":{"limit":-1}}`},
			said{"update --pids-limit=40 grid", "update --pids-limit=-1 grid"}, none},
		{act.Weigh, map[string]string{"cpu-weight": "250"}, [2]string{"cpu,cpuacct/grid/cpu.shares", "grid/cpu.weight"},
			[2]string{"2560", "250"}, said{`{"CpuShares":SHARES}`, `{"CpuShares":USUAL}`},
			said{`{"cpu":{"shares":SHARES}}`, `{"cpu":{"shares":USUAL}}`},
			said{"update --cpu-share=SHARES grid", "update --cpu-share=USUAL grid"},
			said{"grid quota 0/0 shares SHARES memory 0 cpus ", "grid quota 0/0 shares USUAL memory 0 cpus "}},
		{act.Place, map[string]string{"cpuset": "2-4"}, [2]string{"cpuset/grid/cpuset.cpus", "grid/cpuset.cpus"},
			[2]string{"2-4", "2-4"}, said{`{"CpusetCpus":"2-4"}`, `{"CpusetCpus":"0-7"}`},
			said{`{"cpu":{"cpus":"2-4"}}`, `{"cpu":{"cpus":"0-7"}}`},
			said{"update --cpuset-cpus=2-4 grid", "update --cpuset-cpus=0-7 grid"},
			said{"grid quota 0/0 shares 0 memory 0 cpus 2-4", "grid quota 0/0 shares 0 memory 0 cpus 0-7"}},
		{act.Cap, map[string]string{"read": "vda=1MB"},
			[2]string{"blkio/grid/blkio.throttle.read_bps_device", "grid/io.max"},
			[2]string{"254:0 1000000", "254:0 rbps=1000000"}, none, none, none, none},
	}
	for name, manager := range managers {
		for version, shares := range map[int]*strings.Replacer{
			1: strings.NewReplacer("SHARES", "2560", "USUAL", "1024"),
			2: strings.NewReplacer("SHARES", "6530", "USUAL", "2598"),
		} {
			t.Run(fmt.Sprint(name, " on version ", version), func(t *testing.T) {
				f := newFiles(t, version == 2)
				f.limited(version == 2)
				called, told := manager(t, f)
				f.open()
				for _, x := range acts {
					say := map[string]said{"engine": x.engine, "engine with a path of its own": x.own,
						"runtime": x.runtime, "runtime of pods": x.pods}[name]
					file := "cgroup/" + x.files[version-1]
					before := f.get(file)
					o := f.order(x.verb, grid(), x.settings)
					p := f.preview(o)
					through := called
					if say == none {
						through = "the kernel"
					}
					assert.Equal(t, through, p.Through, "%v", x.settings)
					warnings := strings.Join(p.Warnings, "; ")
					assert.Regexp(t, "anew|again", warnings, "what becomes of it is said")
					assert.Equal(t, say == none, strings.Contains(warnings, "cannot be told of this"), warnings)
					out := f.carry(o)
					require.Equal(t, act.Done, out.State, "%v: %+v", x.settings, out)
					assert.Equal(t, x.values[version-1], f.get(file))
					if say != none {
						assert.Equal(t, []string{shares.Replace(say.during)}, told(), "%v", x.settings)
					}
					if x.settings["read"] != "" {
						continue // a file of written-down lines is not put back as the kernel puts it
					}
					require.Equal(t, act.Done, f.undo(o).State)
					assert.Equal(t, before, f.get(file))
					if say != none {
						assert.Equal(t, []string{shares.Replace(say.after)}, told(), "%v undone", x.settings)
					}
				}
			})
		}
	}
}

// TestLimits_OfAnEngineGoWithWhatTheContainerWasMadeWith caps containers that an engine made with parts of a CPU, or
// with a limit of memory and swap: what is told goes with these, since engines refuse what contradicts them.
func TestLimits_OfAnEngineGoWithWhatTheContainerWasMadeWith(t *testing.T) {
	for _, x := range []struct{ has, setting, value, told string }{
		{`"NanoCpus": 2000000000`, "cpu", "1.5", `{"NanoCpus":1500000000}`},
		{`"NanoCpus": 2000000000`, "cpu", "none", `{"CpuQuota":-1,"CpuPeriod":50000}`},
		{`"Memory": 1048576, "MemorySwap": 3145728`, "memory", "4MiB", `{"Memory":4194304,"MemorySwap":6291456}`},
		{`"Memory": 1048576, "MemorySwap": -1`, "memory", "4MiB", `{"Memory":4194304,"MemorySwap":-1}`},
		{`"Memory": 1048576, "MemorySwap": 3145728`, "memory", "none", `{"Memory":-1,"MemorySwap":-1}`},
	} {
		f := newFiles(t, true)
		f.limited(true)
		f.put("cgroup/grid/cpu.max", "100000 50000\n")
		f.put("cgroup/grid/memory.max", "1048576\n")
		e := &engineStandIn{has: x.has, serves: "/containers/grid/update"}
		f.options.Systems.Engine = e.serve(t)
		f.open()
		o := f.order(act.Cap, grid(), map[string]string{x.setting: x.value})
		f.preview(o)
		require.Equal(t, act.Done, f.carry(o).State)
		assert.Equal(t, []string{x.told}, e.take(), "%s: %s %s", x.has, x.setting, x.value)
	}
}

// TestLimits_ThatAManagerRefusesAreNotSetBehindItsBack keeps the kernel's value where the manager says no.
func TestLimits_ThatAManagerRefusesAreNotSetBehindItsBack(t *testing.T) {
	f := newFiles(t, true)
	f.limited(true)
	e := &engineStandIn{serves: "/containers/grid/update", refuses: "Conflicting options: it was made otherwise"}
	f.options.Systems.Engine = e.serve(t)
	f.open()
	capped := func() act.Outcome {
		o := f.order(act.Cap, grid(), map[string]string{"memory": "4KiB"})
		f.preview(o)
		return f.carry(o)
	}
	out := capped()
	assert.Equal(t, act.Failed, out.State)
	require.Len(t, out.Left, 1)
	assert.Contains(t, out.Left[0].Why, "Conflicting options: it was made otherwise")
	assert.Equal(t, "max", f.get("cgroup/grid/memory.max"))

	stand := &podStandIn{pids: map[string]int{"grid": 100}}
	f.options.Systems.Pods = stand.serve(t)
	f.open()
	out = capped()
	require.Len(t, out.Left, 1)
	assert.Contains(t, out.Left[0].Why, "that is too little")
	assert.Equal(t, "max", f.get("cgroup/grid/memory.max"))

	// A manager that is gone when the act is carried out is not passed over.
	o := f.order(act.Cap, grid(), map[string]string{"memory": "4KiB"})
	f.preview(o)
	f.options.Systems.Pods, f.options.Systems.Engine = "", ""
	f.open()
	assert.Equal(t, act.Refused, f.carry(o).State)
	assert.Equal(t, "max", f.get("cgroup/grid/memory.max"))

	// One that cannot be asked is told of: what it manages may be managed by it.
	f.options.Systems.Pods = filepath.Join(shortDir(t), "gone.sock")
	f.open()
	assert.Contains(t, strings.Join(f.preview(o).Warnings, "; "), "cannot be asked")
}
