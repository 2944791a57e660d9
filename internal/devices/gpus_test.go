package devices_test

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
	"vinescale/internal/devices"
)

// vineyard is a host whose kernel tells of two GPUs that render and a card that only drives a display.
var vineyard = map[string]string{
	"sys/devices/pci0/0000:03:00.0/gpu_busy_percent":    "37",
	"sys/devices/pci0/0000:03:00.0/mem_info_vram_total": "17179869184",
	"sys/devices/pci0/0000:03:00.0/mem_info_vram_used":  "4294967296",
	"sys/devices/pci0/0000:03:00.0/vendor":              "0x1002",
	"sys/devices/pci0/0000:03:00.0/device":              "0x740f",
	"sys/devices/pci0/0000:00:02.0/vendor":              "0x8086",
	"sys/devices/pci0/0000:00:02.0/device":              "0x56c0",
	"sys/class/drm/renderD128/device":                   "-> ../../../devices/pci0/0000:00:02.0",
	"sys/class/drm/renderD129/device":                   "-> ../../../devices/pci0/0000:03:00.0",
	"sys/class/drm/card0/device":                        "-> ../../../devices/pci0/0000:0a:00.0",
	"sys/class/drm/card1/device":                        "-> ../../../devices/pci0/0000:03:00.0",
	"sys/class/drm/card1-HDMI-A-1/status":               "connected",
	"sys/class/hwmon/hwmon2/name":                       "amdgpu",
	"sys/class/hwmon/hwmon2/device":                     "-> ../../../devices/pci0/0000:03:00.0",
	"sys/class/hwmon/hwmon2/power1_average":             "187000000",
	"sys/class/hwmon/hwmon2/power1_cap":                 "300000000",
	"sys/class/hwmon/hwmon2/temp1_input":                "51000",
	"sys/class/hwmon/hwmon2/temp1_label":                "edge",
	"sys/class/hwmon/hwmon2/temp1_crit":                 "100000",
}

// opened writes what a process has open.
func opened(t testing.TB, dir string, pid int, fds map[int]string) {
	for fd, info := range fds {
		node, content, _ := strings.Cut(info, "\n")
		base := filepath.Join(dir, "proc", fmt.Sprint(pid))
		require.NoError(t, os.MkdirAll(filepath.Join(base, "fd"), 0o755))
		require.NoError(t, os.MkdirAll(filepath.Join(base, "fdinfo"), 0o755))
		_ = os.Remove(filepath.Join(base, "fd", fmt.Sprint(fd)))
		require.NoError(t, os.Symlink(node, filepath.Join(base, "fd", fmt.Sprint(fd))))
		require.NoError(t, os.WriteFile(filepath.Join(base, "fdinfo", fmt.Sprint(fd)), []byte(content), 0o644))
	}
}

func gpuHost(t testing.TB, dir string) *devices.Host {
	return devices.Open(devices.Options{Sys: filepath.Join(dir, "sys"), Proc: filepath.Join(dir, "proc"),
		Node: func(string) (uint32, uint32) { return 0, 0 }})
}

func processes(pids ...int32) (list []account.Process) {
	for _, pid := range pids {
		list = append(list, account.Process{PID: pid, Start: 5})
	}
	return list
}

func readGPUs(h *devices.Host, at time.Duration, pids ...int32) *account.Reading {
	r := &account.Reading{Mono: at, Processes: processes(pids...)}
	h.ReadGPUs(r)
	return r
}

func TestCards_AreThoseThatRenderByTheFilesOfTheirDrivers(t *testing.T) {
	dir := tree(t, vineyard)
	opened(t, dir, 7, map[int]string{3: "/dev/dri/renderD128\ndrm-driver:\ti915\ndrm-client-id:\t4\n" +
		"drm-pdev:\t0000:00:02.0\ndrm-engine-render:\t9288864723 ns\ndrm-engine-video:\t500000000 ns\n" +
		"drm-engine-capacity-video:\t2\ndrm-total-system0:\t5 MiB\ndrm-resident-system0:\t4 MiB\n"})
	h := gpuHost(t, dir)
	r := readGPUs(h, time.Second, 7)
	assert.Equal(t, []account.GPU{
		{Name: "0000:00:02.0", Index: 0, By: account.BusyByClients, MemoryTotal: -1, MemoryUsed: -1},
		{Name: "0000:03:00.0", Index: 1, By: account.BusyByPart, BusyPart: 370, MemoryTotal: 17179869184,
			MemoryUsed: 4294967296}}, r.GPUs)
	assert.Equal(t, []account.GPUClient{{GPU: 0, ID: 4, PID: 7, Bytes: -1, Engines: []account.EngineTime{
		{Engine: "render", Micros: 9288864}, {Engine: "video", Micros: 250000}}}}, r.GPUClients,
		"of two engines of a kind it is the mean; system memory is not the GPU's")
	assert.Equal(t, []account.Meter{{Name: "GPU 0000:03:00.0", GPU: "0000:03:00.0", IsPower: true,
		MicroWatts: 187000000}}, r.Meters)
	sheets, why := h.GPUs()
	assert.Empty(t, why)
	require.Len(t, sheets, 2)
	assert.Equal(t, []any{"AMD 740f", []string{"/dev/dri/renderD129", "/dev/dri/card1"}, "the kernel"},
		[]any{sheets[1].Title, sheets[1].Nodes, sheets[1].Told})
	tells := map[string]string{}
	for _, f := range sheets[1].Figures {
		require.NotNil(t, f.Value, f.Name)
		tells[f.Section+", "+f.Name] = fmt.Sprintf("%g %s", *f.Value, f.Unit)
	}
	assert.Equal(t, map[string]string{"use, busy": "37 %", "memory, total": "1.7179869184e+10 B",
		"memory, used": "4.294967296e+09 B", "power, power1": "187 W", "power, power1, at most": "300 W",
		"temperature, edge": "51 °C", "temperature, edge, critical": "100 °C"}, tells)

	// A card that is taken out is lost, and says so; what is told of the other goes on.
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "sys/class/drm/renderD129")))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "sys/class/drm/card1")))
	for n := range 13 {
		r = readGPUs(h, time.Duration(2+n)*time.Second, 7)
	}
	assert.Len(t, r.GPUs, 1)
	sheets, _ = h.GPUs()
	require.Len(t, sheets, 2)
	assert.Equal(t, []any{account.GPULost, "it was there and is not told of any more"},
		[]any{sheets[1].State, sheets[1].Why})

	empty := readGPUs(gpuHost(t, t.TempDir()), time.Second, 7)
	assert.Empty(t, empty.GPUs)
	assert.Empty(t, empty.Meters)
}

// TestCards_TellTheMemoryOfWhatComputesBesideTheirClients has one process that computes alone, and one that has a
// client as well.
func TestCards_TellTheMemoryOfWhatComputesBesideTheirClients(t *testing.T) {
	files := map[string]string{}
	for name, content := range vineyard {
		files[name] = content
	}
	const kfd = "sys/class/kfd/kfd/"
	files[kfd+"topology/nodes/0/gpu_id"] = "0"
	files[kfd+"topology/nodes/1/gpu_id"] = "51374"
	files[kfd+"topology/nodes/1/properties"] = "simd_count 416\ndrm_render_minor 129\nhive_id 0"
	files[kfd+"proc/42/vram_51374"] = "4294967296"
	files[kfd+"proc/7/vram_51374"] = "9000"
	files[kfd+"proc/8/vram_99"] = "5"
	dir := tree(t, files)
	opened(t, dir, 7, map[int]string{3: "/dev/dri/renderD129\ndrm-client-id:\t4\ndrm-pdev:\t0000:03:00.0\n" +
		"drm-resident-vram:\t8 KiB\n"})
	r := readGPUs(gpuHost(t, dir), time.Second, 7)
	got := map[int32]int64{}
	for _, c := range r.GPUClients {
		assert.EqualValues(t, 1, c.GPU)
		got[c.PID] += c.Bytes
	}
	assert.Equal(t, map[int32]int64{7: 9000, 42: 4294967296}, got)
}

// TestClients_CountOnceAndNeverBack: shared clients, forks of the descriptor, counters that step back, and cycles.
func TestClients_CountOnceAndNeverBack(t *testing.T) {
	dir := tree(t, vineyard)
	client := func(id int, rest string) string {
		return fmt.Sprintf("/dev/dri/renderD129\npos:\t0\ndrm-driver:\tamdgpu\ndrm-client-id:\t%d\n"+
			"drm-pdev:\t0000:03:00.0\n%s", id, rest)
	}
	engines := func(r *account.Reading) map[uint64]string {
		list := map[uint64]string{}
		for _, c := range r.GPUClients {
			list[c.ID] += fmt.Sprintf("%d born=%v bytes=%d", c.PID, c.Born, c.Bytes)
			for _, e := range c.Engines {
				list[c.ID] += fmt.Sprintf(" %s=%d", e.Engine, e.Micros)
			}
		}
		return list
	}
	opened(t, dir, 7, map[int]string{
		3: client(1, "drm-engine-gfx:\t5000000 ns\ndrm-resident-vram:\t64 KiB\ndrm-memory-vram:\t99 KiB\n"),
		4: client(1, "drm-engine-gfx:\t5000000 ns\ndrm-resident-vram:\t64 KiB\n"), // a second descriptor of it
		5: client(2, "drm-cycles-rcs:\t1000\ndrm-total-cycles-rcs:\t50000\ndrm-memory-vram0:\t3 MiB\n"),
		6: "/dev/dri/renderD129\npos:\t0\n", // of a driver that tells nothing
		9: "/dev/null\n",
	})
	opened(t, dir, 10, map[int]string{3: client(1, "drm-engine-gfx:\t5000000 ns\ndrm-resident-vram:\t64 KiB\n")})
	h := gpuHost(t, dir)
	assert.Equal(t, map[uint64]string{1: "7 born=false bytes=65536 gfx=5000", 2: "7 born=false bytes=3145728 rcs=0"},
		engines(readGPUs(h, time.Second, 7, 10)))

	opened(t, dir, 7, map[int]string{
		3: client(1, "drm-engine-gfx:\t4000000 ns\ndrm-resident-vram:\t0\n"), // it stepped back; zero has no unit
		5: client(2, "drm-cycles-rcs:\t3000\ndrm-total-cycles-rcs:\t58000\ndrm-memory-vram0:\t3 MiB\n"),
	})
	opened(t, dir, 10, map[int]string{5: client(3, "drm-engine-dec_1:\t7000 ns\ndrm-engine-gfx:\t-5 ns\n")})
	r := readGPUs(h, 3*time.Second, 7, 10) // in which it is the turn of 10 to be looked at
	assert.Equal(t, map[uint64]string{1: "7 born=false bytes=0 gfx=5000",
		2: "7 born=false bytes=3145728 rcs=500000", 3: "10 born=true bytes=-1 dec_1=7"}, engines(r),
		"2,000 of 8,000 cycles in 2 s are half a second")
	assert.True(t, r.GPUs[1].Own, "what is worked out from cycles begins with the collector")

	// The first process ends: its shared client is the other's.
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "proc/7")))
	assert.Equal(t, "10 born=false bytes=65536 gfx=5000", engines(readGPUs(h, 4*time.Second, 10))[1])
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "proc/10/fdinfo"))) // it vanishes in mid-reading
	assert.Empty(t, readGPUs(h, 5*time.Second, 10).GPUClients)
}

// TestGrants_AreByTheHostsOwnNumbers has a library of four GPUs, whose nodes are numbered the other way round, and one
// of which is divided.
func TestGrants_AreByTheHostsOwnNumbers(t *testing.T) {
	h := devices.Open(devices.Options{Library: library{}, Node: func(string) (uint32, uint32) { return 0, 0 }})
	readGPUs(h, time.Second)
	for _, x := range []struct {
		name  string
		facts map[string]string
		lines []string
		want  string
	}{
		{"none", map[string]string{}, nil, ""},
		{"numbers of nodes, as a scheduler has them", map[string]string{account.FactGPUs: "0-1"}, nil,
			"GPU-2=0 by the scheduler, GPU-3=1 by the scheduler"},
		{"a list that is none", map[string]string{account.FactGPUs: "N/A"}, nil, ""},
		{"a number that is not there", map[string]string{account.FactGPUs: "3,17"}, nil, "GPU-0=0 by the scheduler"},
		{"nodes", map[string]string{account.FactGPUNodes: "195:2,195:255"}, nil,
			"GPU-1=0 by nodes made by its runtime"},
		{"names, numbers and partitions", map[string]string{account.FactGPUNames: "GPU-3,0,3:1"}, nil,
			"GPU-0=0 by the container device interface, GPU-3=1 by the container device interface, " +
				"MIG-1=2 by the container device interface"},
		{"all", map[string]string{account.FactGPUNames: "all"}, nil, "GPU-0=0 by the container device interface, " +
			"GPU-1=1 by the container device interface, GPU-2=2 by the container device interface, " +
			"GPU-3=3 by the container device interface"},
		{"a devices cgroup", nil, []string{"c 1:3 rwm", "c 195:3 rw", "c 195:0 r", "b 195:1 rw"},
			"GPU-0=0 by its devices cgroup"},
		{"a claim", map[string]string{account.FactGPUClaim: "1"}, nil, "GPU-1=0 by its own environment, claimed, " +
			"GPU-2=1 by its own environment, claimed"},
		{"a claim beside what is known", map[string]string{account.FactGPUClaim: "3", account.FactGPUs: "2"}, nil,
			"GPU-1=0 by the scheduler"},
		{"two sources of the same", map[string]string{account.FactGPUs: "2", account.FactGPUNodes: "195:2"}, nil,
			"GPU-1=0 by the scheduler"},
	} {
		var got []string
		sheets, _ := h.GPUs()
		for _, g := range h.Granted(nil, 5, x.facts, x.lines) {
			text := fmt.Sprintf("%s=%d by %s", sheets[g.GPU].Name, g.Number, g.By)
			if g.IsClaim {
				text += ", claimed"
			}
			got = append(got, text)
			assert.EqualValues(t, 5, g.Workload)
		}
		assert.Equal(t, x.want, strings.Join(got, ", "), x.name)
	}
}

// library tells of four GPUs whose nodes have the numbers 3 to 0; the last of them is divided, and has a process that
// is told of at its partition too.
type library struct{ lost, silent bool }

func (library) Close() {}

func (l library) Ask() *devices.LibraryAnswer {
	if l.silent {
		return &devices.LibraryAnswer{Why: "no answer; it is asked again in 10s"}
	}
	a := &devices.LibraryAnswer{Version: "1", Driver: "2"}
	no := devices.Figure{Why: devices.NotSupported}
	for i := range int64(4) {
		a.GPUs = append(a.GPUs, devices.LibraryGPU{Index: int32(i), UUID: fmt.Sprintf("GPU-%d", i),
			Bus: fmt.Sprintf("00000000:0%d:00.0", 3+i), Minor: devices.Figure{N: 3 - i},
			BusyMicros: devices.Figure{N: 1000 * i}, MemoryTotal: devices.Figure{N: 100},
			MemoryUsed: devices.Figure{N: 10 * i}, MicroJoules: no, MicroWatts: devices.Figure{N: 40e6}})
	}
	card := &a.GPUs[3]
	card.BusyMicros = no
	card.Users = []devices.LibraryUser{{PID: 9, Bytes: devices.Figure{N: 30}, Kinds: []string{"compute"}},
		{PID: 11, Bytes: no}}
	for part := range int32(2) {
		card.Parts = append(card.Parts, devices.LibraryGPU{Index: part, UUID: fmt.Sprintf("MIG-%d", part), Minor: no,
			BusyMicros: no, MemoryTotal: devices.Figure{N: 50}, MemoryUsed: devices.Figure{N: 30}, MicroJoules: no,
			MicroWatts: no})
	}
	card.Parts[1].Users = card.Users[:1]
	if l.lost {
		a.GPUs[1].Lost = "it does not answer"
		a.GPUs = a.GPUs[:3]
	}
	return a
}

func TestLibraryGPUs_ArePutInOnceWithTheirPartitions(t *testing.T) {
	files := map[string]string{}
	for name, content := range vineyard {
		files[name] = content
	}
	dir := tree(t, files) // the kernel tells of a card at the same address as the first of the library
	told := &struct{ devices.Library }{library{}}
	h := devices.Open(devices.Options{Sys: filepath.Join(dir, "sys"), Proc: filepath.Join(dir, "proc"), Library: told,
		Node: func(string) (uint32, uint32) { return 0, 0 }})
	r := readGPUs(h, time.Second, 9)
	var names []string
	for _, g := range r.GPUs {
		names = append(names, fmt.Sprintf("%s in %q %s by %d", g.Name, g.Card, g.Source, g.By))
	}
	assert.Equal(t, []string{`GPU-0 in "" reported by 1`, `GPU-1 in "" reported by 1`, `GPU-2 in "" reported by 1`,
		`GPU-3 in "" reported by 0`, `MIG-0 in "GPU-3" reported by 0`, `MIG-1 in "GPU-3" reported by 0`,
		`0000:00:02.0 in "" counted by 0`}, names)
	require.Len(t, r.GPUClients, 2)
	assert.Equal(t, []any{int32(5), int32(9), int64(30)},
		[]any{r.GPUClients[0].GPU, r.GPUClients[0].PID, r.GPUClients[0].Bytes}, "it counts at its partition")
	assert.Equal(t, []any{int32(3), int32(11), int64(-1)},
		[]any{r.GPUClients[1].GPU, r.GPUClients[1].PID, r.GPUClients[1].Bytes})
	assert.Len(t, r.Meters, 4, "of a partition there is no meter")
	assert.Empty(t, r.Unavailable[amount.Energy])

	told.Library = library{lost: true}
	readGPUs(h, 2*time.Second, 9)
	sheets, _ := h.GPUs()
	states := map[string]string{}
	for _, s := range sheets {
		states[s.Name] = s.State + " " + s.Why + strings.Join(s.Wrong, ";")
	}
	assert.Equal(t, "lost it does not answerit does not answer", states["GPU-1"])
	assert.Contains(t, states["GPU-3"], "lost it was there and is not told of any more")
	assert.NotContains(t, states, "MIG-0", "a card may be divided anew")

	told.Library = library{silent: true}
	r = readGPUs(h, 3*time.Second, 9)
	assert.Len(t, r.GPUs, 2, "what the kernel tells of goes on")
	sheets, why := h.GPUs()
	assert.Contains(t, why, "no answer")
	for _, s := range sheets {
		if s.Name == "GPU-0" {
			assert.Equal(t, []any{account.GPUUnknown, "no answer; it is asked again in 10s", []string{}},
				[]any{s.State, s.Why, s.Wrong})
		}
	}
}

func FuzzClient(f *testing.F) {
	f.Add("drm-driver:\ti915\ndrm-client-id:\t4\ndrm-engine-render:\t9288864723 ns\ndrm-memory-vram:\t5 MiB\n")
	f.Add("drm-client-id:\t\ndrm-cycles-:\t1\ndrm-total-cycles-x:\t-9\ndrm-engine-capacity-x:\t0\n")
	f.Add("drm-client-id: 99999999999999999999\ndrm-engine-" + strings.Repeat("x", 10_000) + ":\t5 ns\n")
	dir := tree(f, vineyard)
	f.Fuzz(func(t *testing.T, content string) {
		opened(t, dir, 7, map[int]string{3: "/dev/dri/renderD129\n" + content})
		h := gpuHost(t, dir)
		for n := range 2 {
			for _, c := range readGPUs(h, time.Duration(n)*time.Second, 7).GPUClients {
				assert.GreaterOrEqual(t, c.Bytes, int64(-1))
				for _, e := range c.Engines {
					assert.GreaterOrEqual(t, e.Micros, int64(0))
				}
			}
		}
	})
}
