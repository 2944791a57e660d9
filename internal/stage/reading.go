package stage

import (
	"cmp"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/devices"
	"vinescale/internal/identify"
)

// tick is a clock tick of /proc in microseconds: what a kernel shows there is whole ticks.
const tick = 10_000

func ticks(micros int64) int64 { return micros / tick * tick }

// DiskName and LinkName are the devices every staged host has one of.
const (
	DiskName = "nvme0n1"
	LinkName = "eth0"
)

// Reading is what the real reader would read of this host now. It numbers workloads and programs in registry.
func (h *Host) Reading(registry *identify.Registry) *account.Reading {
	free, cached, slab := h.memory()
	r := &account.Reading{
		Boot: h.Boot, Wall: h.Now.UTC(), Mono: h.Uptime, Uptime: h.Uptime.Truncate(10 * time.Millisecond),
		Memory: account.HostMemory{
			Total: h.MemoryBytes &^ 1023, Free: free &^ 1023, Available: (free + cached/2) &^ 1023,
			Cached: cached &^ 1023, Slab: slab &^ 1023,
			SwapTotal: swapSize, SwapFree: (swapSize - h.swapped()) &^ 1023,
		},
		Disks: h.disks(),
		Interfaces: []account.Interface{
			{Name: "lo", Kind: "loopback", Inner: true, Received: 500, Sent: 500, ReceivedPackets: 5, SentPackets: 5,
				Workload: account.Unrecognised},
			{Name: LinkName, Workload: account.Unrecognised, Kind: "physical", Received: h.received(),
				Sent: h.network - h.received(), ReceivedPackets: h.received() / packet,
				SentPackets: (h.network - h.received()) / packet, SpeedBitPerSecond: h.LinkMbit * 1e6},
		},
		Load: h.load(), Meters: h.meters(), IdleMicroWatts: h.IdleMicroWatts(),
		Pressure: []account.Pressure{
			{Resource: "cpu", Some: h.stall}, {Resource: "memory"},
			{Resource: "io", Some: h.stall / 3, Full: h.stall / 9},
		},
	}
	if len(r.Meters) == 0 {
		r.Unavailable[amount.Energy] = devices.NoMeter
	}
	for c := range h.CPUs {
		if h.unplugged[c] {
			continue
		}
		user, kernel := ticks(h.user[c]), ticks(h.kernel[c])
		r.CPUs = append(r.CPUs, account.CPUTimes{
			CPU: c, User: user, SoftIRQ: kernel, Idle: ticks(h.idle(c)),
		})
	}
	for _, w := range h.Workloads {
		id := h.identity(w, registry)
		r.Groups = append(r.Groups, h.groupsOf(w, id)...)
		for _, p := range w.Processes {
			a := reading(p, id, registry)
			if w.Path != "" {
				environ := func() []byte { return []byte(w.environ()) }
				registry.Adopt(id, &identify.Process{UID: p.UID, LoginUID: identify.NoUser, Environ: environ},
					a.Program)
			}
			a.Family = registry.Program([]byte(w.Processes[0].Program))
			r.Processes = append(r.Processes, a)
			h.addThreads(r, w, p, id, registry)
		}
		if w.Link != "" {
			id, kind := id, "veth"
			own := account.Namespace{ID: w.Space, Workload: id, Received: w.received(), Sent: w.sent(), Local: loopback}
			if w.Space == 0 {
				kind, own.ID, own.Local = "tap", pathID("", w.Link)|1<<63, -1
			}
			r.Namespaces = append(r.Namespaces, own)
			r.Interfaces = append(r.Interfaces, account.Interface{Name: w.Link, Kind: kind, Inner: true,
				Received: w.sent(), Sent: w.received(), ReceivedPackets: w.sent() / packet,
				SentPackets: w.received() / packet, Workload: id})
		}
		if f, ok := w.Files(); ok {
			for m, units := range map[amount.Measure]int64{amount.SpaceUsed: f.Bytes, amount.SpaceFiles: f.Count,
				amount.SpaceLimit: f.LimitBytes} {
				r.Levels = append(r.Levels, account.Standing{Workload: id, Measure: m, Units: units,
					Source: amount.Counted})
			}
		}
		registry.SetAllowed(id, w.Allowed.String())
		if w.Limit > 0 && w.Limit < float64(h.CPUs) { // one of the whole host is none
			registry.SetFact(id, account.FactCPULimit, strconv.FormatFloat(w.Limit, 'g', 6, 64))
		}
		if w.Most > 0 && w.Most < h.MemoryBytes {
			registry.SetFact(id, account.FactMemoryLimit, strconv.FormatInt(w.Most, 10))
		}
		if w.Path != "" {
			_, weights := w.weights()
			registry.SetFact(id, account.FactWeights, weights)
			for name, value := range w.Told {
				registry.SetFact(id, name, value)
			}
			if masks := w.vcpuMasks(); masks != "" {
				registry.SetFact(id, account.FactVCPUMasks, masks)
			}
			registry.SetFact(id, account.FactCPUSet, w.cpusetOn(h))
		}
	}
	for _, p := range h.kthreads {
		r.Processes = append(r.Processes, reading(p, account.Unrecognised, registry))
	}
	h.addGPUs(r, registry)
	h.addCounted(r, registry)
	slices.SortFunc(r.Processes, func(a, b account.Process) int { return cmp.Compare(a.PID, b.PID) })
	slices.SortStableFunc(r.Groups, func(a, b account.Group) int {
		return cmp.Compare(a.Has&account.HasMemory, b.Has&account.HasMemory)
	})
	return r
}

// vcpuMasks is where the virtual CPUs of a machine may run, as account.FactVCPUMasks tells it.
func (w *Workload) vcpuMasks() string {
	var parts []string
	for i, on := range w.Processes[0].On {
		if number, is := identify.VirtualCPU(w.Processes[0].taskName(i)); is && on != "" {
			parts = append(parts, number+": "+on)
		}
	}
	return strings.Join(parts, "; ")
}

// addThreads adds the threads of a machine, and those of processes of which no group counts where they run.
func (h *Host) addThreads(r *account.Reading, w *Workload, p *Process, id account.WorkloadID,
	registry *identify.Registry) {
	if w.Kind != amount.VM && (p.Threads == 1 || w.Path != "" && (h.V1 || h.Counts)) {
		return
	}
	for i := range int(p.Threads) {
		t := p.thread(i)
		x := account.Thread{PID: p.PID, TID: p.PID + int32(i), Start: p.Start, Workload: id, Part: account.NoProgram,
			LastCPU: t.cpu, CPUMicros: ticks(t.micros)}
		if w.Kind == amount.VM {
			x.Part = registry.Program([]byte(identify.MachinePart(p.taskName(i))))
		}
		r.Threads = append(r.Threads, x)
	}
}

// identity asks the registry once about each workload.
func (h *Host) identity(w *Workload, registry *identify.Registry) account.WorkloadID {
	if h.registry != registry {
		h.registry, h.ids = registry, map[*Workload]account.WorkloadID{}
	}
	id, ok := h.ids[w]
	if !ok {
		if w.Path != "" {
			id = registry.Begins(w.Path)
		} else {
			id = registry.Loose(h.Users[w.Owner], w.Processes[0].Program)
		}
		h.ids[w] = id
	}
	return id
}

func reading(p *Process, w account.WorkloadID, registry *identify.Registry) account.Process {
	a := account.Process{
		PID: p.PID, Start: p.Start, Workload: w, LastCPU: p.LastCPU, Threads: p.Threads, Kernel: p.Kernel,
		UID: p.UID, Parent: max(p.Parent, 1), Within: account.Unrecognised, Runnable: p.Runnable,
		CPUMicros: ticks(p.CPUMicros), UserMicros: ticks(p.CPUMicros), WaitMicros: -1, AnonBytes: p.AnonBytes,
		SwapBytes: -1, PSSBytes: -1, DiskBytes: p.DiskBytes, ReadBytes: p.DiskBytes / 3,
	}
	if !p.Kernel {
		a.Program = registry.Program([]byte(p.Program))
	}
	return a
}

// groupsOf is the cgroup of a workload: one in version 2, one in each of two hierarchies in version 1.
func (h *Host) groupsOf(w *Workload, id account.WorkloadID) []account.Group {
	if w.Path == "" {
		return nil
	}
	memory := account.Group{
		ID: pathID("memory", w.Path), Workload: id, Outer: -1, Has: account.HasMemory,
		MemoryBytes: w.MemoryBytes, FileBytes: w.fileBytes(), KernelBytes: w.kernelBytes(),
	}
	counted, charged := w.Figures(h.V1)
	waited, network := h.CountedFigures(w)
	memory.Figures = charged
	counts := func(g *account.Group) {
		if !network.Set.IsEmpty() {
			g.Figures.PutAll(&network)
			g.NetworkBytes, g.Has = w.NetBytes, g.Has|account.HasNetwork
		}
	}
	counted.PutAll(&waited)
	if h.V1 {
		cpu := account.Group{
			ID: pathID("cpuacct", w.Path), Workload: id, Outer: -1, Has: account.HasCPU | account.HasPerCPU,
			CPUMicros: w.CPUMicros, PerCPU: slices.Clone(w.PerCPU), Figures: counted,
		}
		if !h.Counts {
			return []account.Group{cpu, memory}
		}
		unified := account.Group{ID: pathID("unified", w.Path), Workload: id, Outer: -1}
		counts(&unified)
		unified.Own = unified.Has
		blkio := account.Group{ID: pathID("blkio", w.Path), Workload: id, Outer: -1, Has: account.HasDisk,
			Own:       account.HasDisk,
			DiskBytes: w.DiskBytes, Devices: w.requests()}
		return []account.Group{cpu, memory, unified, blkio}
	}
	memory.Has |= account.HasCPU | account.HasDisk
	memory.CPUMicros, memory.DiskBytes, memory.Devices = w.CPUMicros, w.DiskBytes, w.devices()
	memory.Figures.PutAll(&counted)
	if h.Counts {
		memory.PerCPU, memory.Has, memory.Devices = slices.Clone(w.PerCPU), memory.Has|account.HasPerCPU, w.requests()
		counts(&memory)
		memory.Own = memory.Has & (account.HasPerCPU | account.HasDisk | account.HasNetwork)
	}
	return []account.Group{memory}
}

func pathID(hierarchy, path string) uint64 {
	f := fnv.New64a()
	f.Write([]byte(hierarchy + path))
	return f.Sum64()
}

func (h *Host) load() []float64 {
	busy := 0.0
	for _, w := range h.Workloads {
		busy += w.cores * w.shape(h.Now)
	}
	return []float64{float64(int(busy*100)) / 100, float64(int(busy*97)) / 100, float64(int(busy*94)) / 100}
}
