package stage

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/devices"
	"vinescale/internal/identify"
)

// GPU is a staged GPU, or a partition of one, and its truth so far. The host's kernel tells of it, or a library.
type GPU struct {
	Index  int32
	Part   int32 // its number on its card; -1 for a card
	Title  string
	Name   string // its uuid, or its address
	Bus    string
	ByDRM  bool
	Memory int64 // bytes

	Users   []*GPUUser
	Holders []*Workload // to whom the scheduler, or a runtime, gave it

	BusyMicros int64
	Joules     int64 // microjoules
	lastPart   int64 // of the time last played in which it worked, in percent
	draws      int64 // microwatts
	rest, busy int64 // microwatts at rest, and more when it works

	hot       bool // its clocks are held back by heat
	corrected int64
	faulty    int64 // uncorrected errors
	lost      bool
	divided   bool
}

// GPUUser is what one process has of a GPU.
type GPUUser struct {
	Workload *Workload
	PID      int32
	Client   uint64
	Bytes    int64
	Micros   int64 // of the engine whose work counts
	Copying  int64 // microseconds of another engine
	shape    shape
}

// shape of work that swings within minutes, as training does: it computes, and then waits for its images.
func swings(period time.Duration, part float64) shape { return waves(period, part, 0) }

// use lets the first process of a workload use a GPU.
func (g *GPU) use(w *Workload, memory int64, s shape) {
	g.Users = append(g.Users, &GPUUser{Workload: w, PID: w.Processes[0].PID, Client: uint64(20 + len(g.Users)),
		Bytes: memory, shape: s})
}

func (h *Host) workload(name string) *Workload {
	i := slices.IndexFunc(h.Workloads, func(w *Workload) bool { return w.Name == name })
	return h.Workloads[i]
}

// libraryGPUs gives a host eight cards of which a library tells: two that were given and idle, one that swings, one
// that is held back by heat and used by a job it was not given to, one that is divided, one with errors, one that fell
// off the bus, and one for nobody.
func (h *Host) libraryGPUs(jobs [4]string, container string) {
	for i := range int32(8) {
		h.GPUs = append(h.GPUs, &GPU{Index: i, Part: -1, Title: "Cooper Leaf 48",
			Name: fmt.Sprintf("GPU-5e3b1c40-0000-4000-8000-%012d", i), Bus: fmt.Sprintf("00000000:%02X:00.0", 0x3b+i),
			Memory: 48 * gib, rest: 25e6, busy: 260e6})
	}
	idle, swinging, hot, divided := h.workload(jobs[0]), h.workload(jobs[1]), h.workload(jobs[2]), h.workload(jobs[3])
	for _, g := range h.GPUs[:2] {
		g.Holders = []*Workload{idle}
		g.use(idle, 3*gib, steady(0))
	}
	h.GPUs[2].Holders = []*Workload{swinging}
	h.GPUs[2].use(swinging, 31*gib, swings(170*time.Second, 0.45))
	h.GPUs[3].Holders, h.GPUs[3].hot = []*Workload{hot}, true
	h.GPUs[3].use(hot, 22*gib, steady(0.66))
	h.GPUs[3].use(divided, 6*gib, swings(7*time.Minute, 0.3)) // which was given a part of another
	h.GPUs[4].divided, h.GPUs[4].Holders = true, []*Workload{divided}
	h.GPUs[5].corrected, h.GPUs[5].faulty = 318, 2
	h.GPUs[6].lost = true
	for part, w := range []*Workload{divided, h.workload(container)} {
		p := &GPU{Index: 4, Part: int32(part), Title: "Cooper Leaf 48, half", Memory: 24 * gib,
			Name: fmt.Sprintf("MIG-5e3b1c40-0000-4000-8000-%012d", 40+part)}
		if part == 1 { // the other is of the card that its job was given
			p.Holders = []*Workload{w}
		}
		p.use(w, int64(5+3*part)*gib, steady(0))
		h.GPUs = append(h.GPUs, p)
	}
	h.workload(container).Labels["cdi.k8s.io/leaf"] = "cooper.example/mig=4:1"
}

// drmGPUs gives a host two cards that the kernel tells of, used by two jobs and a sign-in.
func (h *Host) drmGPUs(jobs [2]string, other string) {
	for i := range int32(2) {
		h.GPUs = append(h.GPUs, &GPU{Index: i, Part: -1, ByDRM: true, Bus: fmt.Sprintf("0000:%02x:00.0", 0x63+i),
			Name: fmt.Sprintf("0000:%02x:00.0", 0x63+i), Memory: 16 * gib, rest: 14e6, busy: 170e6})
	}
	h.GPUs[0].Holders = []*Workload{h.workload(jobs[0])}
	h.GPUs[0].use(h.workload(jobs[0]), 9*gib, waves(11*time.Minute, 0.7, 2*time.Minute))
	h.GPUs[0].use(h.workload(other), gib/2, steady(0.07))
	h.GPUs[1].Holders = []*Workload{h.workload(jobs[1])}
	h.GPUs[1].use(h.workload(jobs[1]), 4*gib, daily(0.15, 4, 3))
}

// workGPUs lets the GPUs do what is asked of them for some time: jobs wait for each other, so that nothing is done
// twice at once.
func (h *Host) workGPUs(dt time.Duration) {
	for _, g := range h.GPUs {
		if g.lost {
			continue
		}
		left := dt.Microseconds()
		busy := int64(0)
		for _, u := range g.Users {
			level := u.shape(h.Now) * (0.9 + 0.15*h.noise(u.Workload.Name, h.Now, byte(7+g.Index)))
			did := min(int64(level*float64(dt.Microseconds())), left)
			if u.shape(h.Now) == 0 {
				did = 0
			}
			left -= did
			busy += did
			u.Micros += did
			u.Copying += did / 3
		}
		g.BusyMicros += busy
		g.lastPart = (busy*100 + dt.Microseconds()/2) / max(dt.Microseconds(), 1)
		joules := g.rest/1000*dt.Microseconds()/1000 + g.busy/1000*busy/1000
		g.Joules += joules
		if dt > 0 {
			g.draws = int64(float64(joules) / dt.Seconds())
		}
	}
}

// memoryUsed is what is taken of a GPU's memory: a card's is that of its partitions too.
func (h *Host) memoryUsed(g *GPU) int64 {
	used := int64(300 << 20) // its driver's
	if g.Part >= 0 {
		used = 0
	}
	for _, x := range h.GPUs {
		if x == g || g.Part < 0 && x.Index == g.Index && !x.ByDRM {
			for _, u := range x.Users {
				used += u.Bytes
			}
		}
	}
	return used
}

// Library is the library that tells of the host's GPUs; nil where none does.
func (h *Host) Library() devices.Library {
	if len(h.GPUs) == 0 || h.GPUs[0].ByDRM {
		return nil
	}
	return gpuLibrary{h}
}

type gpuLibrary struct{ h *Host }

// Close does nothing: there is no process.
func (gpuLibrary) Close() {}

// Ask tells of the GPUs as the helper of a library would, but that its counters have no samples' edges.
func (l gpuLibrary) Ask() *devices.LibraryAnswer {
	a := &devices.LibraryAnswer{Version: "12.550", Driver: "550.90"}
	for _, g := range l.h.GPUs {
		x := l.h.told(g)
		if g.Part >= 0 {
			card := &a.GPUs[g.Index]
			card.Parts = append(card.Parts, x)
		} else {
			a.GPUs = append(a.GPUs, x)
		}
	}
	return a
}

func (h *Host) told(g *GPU) devices.LibraryGPU {
	no := devices.Figure{Why: devices.NotSupported}
	x := devices.LibraryGPU{Index: g.Index, UUID: g.Name, Title: g.Title, Bus: g.Bus,
		Minor: devices.Figure{N: int64(g.Index)}}
	if g.lost {
		why := devices.Figure{Why: "the GPU is lost: it does not answer on its bus any more"}
		x.Lost, x.BusyMicros, x.MemoryTotal, x.MemoryUsed = why.Why, why, why, why
		x.MicroJoules, x.MicroWatts = why, why
		return x
	}
	x.MemoryTotal, x.MemoryUsed = devices.Figure{N: g.Memory}, devices.Figure{N: h.memoryUsed(g)}
	x.BusyMicros = devices.Figure{N: g.BusyMicros}
	x.MicroJoules, x.MicroWatts = devices.Figure{N: g.Joules}, devices.Figure{N: g.draws}
	if g.Part >= 0 {
		x.Index, x.Minor, x.BusyMicros, x.MicroJoules, x.MicroWatts = g.Part, no, no, no, no
		x.NoTimes = no.Why
	}
	if g.divided {
		x.BusyMicros, x.NoTimes = no, no.Why
	}
	for _, u := range g.Users {
		user := devices.LibraryUser{PID: u.PID, Kinds: []string{"compute"}, Bytes: devices.Figure{N: u.Bytes}}
		if x.BusyMicros.OK() {
			user.Engines = []account.EngineTime{{Engine: devices.MainEngine, Micros: u.Micros},
				{Engine: "decoder", Micros: u.Copying}}
		}
		x.Users = append(x.Users, user)
	}
	x.Figures = g.figures(&x)
	return x
}

// figures is the sheet of a GPU as the library tells it.
func (g *GPU) figures(x *devices.LibraryGPU) (list []account.GPUFigure) {
	put := func(section, name, unit string, v float64) {
		list = append(list, account.GPUFigure{Section: section, Name: name, Unit: unit, Value: &v})
	}
	say := func(section, name, text string) {
		list = append(list, account.GPUFigure{Section: section, Name: name, Text: text})
	}
	if g.Part >= 0 {
		put("device", "instance", "", float64(g.Part+1))
		put("memory", "total", "B", float64(g.Memory))
		put("memory", "used", "B", float64(x.MemoryUsed.N))
		return list
	}
	say("device", "firmware", "94.02.26.80.01")
	if g.divided {
		list = append(list, account.GPUFigure{Section: "use", Name: "busy", Unit: "%", Why: devices.NotSupported})
	} else {
		put("use", "busy", "%", float64(g.lastPart))
	}
	put("memory", "total", "B", float64(g.Memory))
	put("memory", "used", "B", float64(x.MemoryUsed.N))
	put("power", "power", "W", float64(g.draws)/1e6)
	put("power", "cap", "W", 300)
	put("power", "least cap", "W", 100)
	put("power", "most cap", "W", 300)
	temperature, held := 31+float64(g.lastPart)*0.36, "nothing"
	clock := 1410.0
	if g.hot {
		temperature, held, clock = 92, "heat", 1035
	} else if g.lastPart == 0 {
		held, clock = "having no work", 210
	}
	put("temperature", "temperature", "°C", temperature)
	put("temperature", "slowed down from", "°C", 90)
	put("temperature", "shut down from", "°C", 95)
	list = append(list, account.GPUFigure{Section: "temperature", Name: "fan", Unit: "%", Why: devices.NotSupported})
	put("clocks", "graphics", "MHz", clock)
	put("clocks", "graphics, at most", "MHz", 1410)
	say("clocks", "held back by", held)
	say("errors", "memory errors are corrected", "yes")
	put("errors", "corrected errors of memory, ever", "", float64(g.corrected))
	put("errors", "uncorrected errors of memory, ever", "", float64(g.faulty))
	say("mode", "compute mode", "shared")
	say("mode", "divided", map[bool]string{true: "yes", false: "no"}[g.divided])
	put("link", "generation", "", 4)
	put("link", "width", "lanes", 16)
	return list
}

// renderGPUs writes the files by which a kernel tells of GPUs and their clients.
func (h *Host) renderGPUs(w *writer, t Tree) {
	for _, g := range h.GPUs {
		if !g.ByDRM {
			continue
		}
		device := filepath.Join(t.Sys(), "devices/pci0000:60", g.Bus)
		put := func(file, content string) { w.file(filepath.Join(device, file), content+"\n") }
		w.dir(filepath.Join(t.Sys(), "bus/pci/drivers/vinegpu"))
		w.link("../../../bus/pci/drivers/vinegpu", filepath.Join(device, "driver"))
		put("vendor", "0x1af4")
		put("product_name", "Cooper Vine 16")
		put("vbios_version", "113-CV16")
		put("gpu_busy_percent", fmt.Sprint(g.lastPart))
		put("mem_info_vram_total", fmt.Sprint(g.Memory))
		put("mem_info_vram_used", fmt.Sprint(h.memoryUsed(g)))
		put("current_link_speed", "16.0 GT/s PCIe")
		put("current_link_width", "16")
		node := fmt.Sprintf("renderD%d", 128+g.Index)
		w.dir(filepath.Join(t.Sys(), "class/drm", node))
		w.link("../../../devices/pci0000:60/"+g.Bus, filepath.Join(t.Sys(), "class/drm", node, "device"))
		chip := filepath.Join(t.Sys(), "class/hwmon", fmt.Sprint("hwmon", 7+g.Index))
		w.link("../../../devices/pci0000:60/"+g.Bus, filepath.Join(chip, "device"))
		for file, value := range map[string]int64{"power1_average": g.draws, "power1_cap": 200e6,
			"power1_cap_max": 220e6, "temp1_input": 34_000 + g.lastPart*300, "temp1_crit": 100_000,
			"fan1_input": 900 + g.lastPart*20} {
			w.file(filepath.Join(chip, file), fmt.Sprintf("%d\n", value))
		}
		w.file(filepath.Join(chip, "name"), "vinegpu\n")
		w.file(filepath.Join(chip, "temp1_label"), "edge\n")
		for k, u := range g.Users {
			fd := strconv.Itoa(9 + k)
			dir := filepath.Join(t.Proc(), fmt.Sprint(u.PID))
			w.dir(filepath.Join(dir, "fd"))
			w.link("/dev/dri/"+node, filepath.Join(dir, "fd", fd))
			w.file(filepath.Join(dir, "fdinfo", fd), fmt.Sprintf("pos:\t0\nflags:\t02100002\ndrm-driver:\tvinegpu\n"+
				"drm-client-id:\t%d\ndrm-pdev:\t%s\ndrm-engine-render:\t%d ns\ndrm-engine-copy:\t%d ns\n"+
				"drm-resident-vram:\t%d KiB\ndrm-resident-gtt:\t2048 KiB\n", u.Client, g.Bus, u.Micros*1000,
				u.Copying*1000, u.Bytes>>10))
		}
	}
}

// addGPUs adds to a reading what the real reader would read of the GPUs.
func (h *Host) addGPUs(r *account.Reading, registry *identify.Registry) {
	if len(h.GPUs) == 0 {
		return
	}
	for _, w := range h.Workloads {
		if numbers := h.allotted(w); numbers != "" {
			registry.SetFact(h.identity(w, registry), account.FactGPUs, numbers)
		}
	}
	tree := h.devices
	if tree == nil {
		tree = devices.Open(devices.Options{Sys: "/nowhere", Library: h.Library(),
			Node: func(string) (uint32, uint32) { return 0, 0 }})
		h.devices = tree
	}
	if h.GPUs[0].ByDRM {
		h.addDRM(r)
		return
	}
	tree.ReadGPUs(r)
	for _, w := range h.Workloads {
		id := h.identity(w, registry)
		r.GPUGrants = tree.Granted(r.GPUGrants, id, registry.Workload(id).Facts, nil)
	}
}

func (h *Host) addDRM(r *account.Reading) {
	for i, g := range h.GPUs {
		r.GPUs = append(r.GPUs, account.GPU{Name: g.Name, Index: g.Index, By: account.BusyByPart,
			BusyPart: g.lastPart * 10, MemoryTotal: g.Memory, MemoryUsed: h.memoryUsed(g)})
		r.Meters = append(r.Meters, account.Meter{Name: "GPU " + g.Name, GPU: g.Name, IsPower: true,
			MicroWatts: g.draws})
		r.Unavailable[amount.Energy] = ""
		for _, u := range g.Users {
			r.GPUClients = append(r.GPUClients, account.GPUClient{GPU: int32(i), ID: u.Client, PID: u.PID,
				Bytes: u.Bytes, Engines: []account.EngineTime{{Engine: "copy", Micros: u.Copying},
					{Engine: "render", Micros: u.Micros}}})
		}
		for _, w := range g.Holders {
			r.GPUGrants = append(r.GPUGrants, account.GPUGrant{Workload: h.ids[w], GPU: int32(i), By: "the scheduler"})
		}
	}
	slices.SortFunc(r.GPUClients, func(a, b account.GPUClient) int { return int(a.PID - b.PID) })
}

// allotted is which GPUs the scheduler gave a job, by the host's numbers; "" for none.
func (h *Host) allotted(w *Workload) string {
	var numbers []string
	for _, g := range h.GPUs {
		if w.Kind == amount.Job && slices.Contains(g.Holders, w) && g.Part < 0 {
			numbers = append(numbers, fmt.Sprint(g.Index))
		}
	}
	return strings.Join(numbers, ",")
}

// Scheduler is the batch scheduler of the host, and its machine manager: what they tell of jobs and machines.
func (h *Host) Scheduler() identify.Informant { return scheduler{h} }

type scheduler struct{ h *Host }

func (scheduler) Name() string { return "the staged batch scheduler" }

func (s scheduler) Knows(w account.Workload) bool {
	return w.Kind == amount.Job && len(s.h.GPUs) > 0 ||
		slices.ContainsFunc(s.h.Workloads, func(x *Workload) bool { return x.Name == w.Name && x.Told != nil })
}

func (s scheduler) Ask(_ context.Context, about []account.Workload) (map[string]account.Workload, error) {
	found := map[string]account.Workload{}
	for _, w := range about {
		for _, x := range s.h.Workloads {
			if x.Name == w.Name {
				facts := maps.Clone(x.Told)
				if facts == nil {
					facts = map[string]string{}
				}
				if numbers := s.h.allotted(x); numbers != "" {
					facts[account.FactGPUs] = numbers
				}
				found[w.Key] = account.Workload{UID: -1, Facts: facts}
			}
		}
	}
	return found, nil
}
