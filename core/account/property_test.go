package account_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// history is a random host whose counters only grow, with nested groups and processes in and out of them.
type history struct {
	at        time.Duration
	idle      []int64
	groups    []account.Group
	processes []account.Process
	spaces    []account.Namespace
	gpus      []account.GPU
	clients   []account.GPUClient
	meters    []account.Meter
	disk, net int64
}

func drawHistory(t *rapid.T) *history {
	h := &history{at: 10 * time.Second, idle: make([]int64, rapid.IntRange(1, 4).Draw(t, "cpus"))}
	groups := rapid.IntRange(0, 6).Draw(t, "groups")
	for i := range groups {
		g := account.Group{
			ID: uint64(i + 1), Workload: account.WorkloadID(i), Outer: int32(rapid.IntRange(-1, i-1).Draw(t, "outer")),
			Has: account.Has(rapid.IntRange(0, 15).Draw(t, "has")), PerCPU: make([]int64, len(h.idle)),
		}
		h.groups = append(h.groups, g)
	}
	for i := range rapid.IntRange(0, 12).Draw(t, "processes") {
		h.processes = append(h.processes, account.Process{
			PID: int32(100 + i*3), Start: 100,
			Workload: account.WorkloadID(rapid.IntRange(0, groups+2).Draw(t, "workload")),
			Program:  int32(rapid.IntRange(0, 3).Draw(t, "program")),
			Family:   int32(rapid.IntRange(0, 1).Draw(t, "family")), Threads: 1,
			Within: account.WorkloadID(groups - 1), Inside: groups > 0 && rapid.IntRange(0, 4).Draw(t, "inside") == 0,
			Runnable: int32(rapid.IntRange(0, 2).Draw(t, "runnable")),
			Kernel:   rapid.IntRange(0, 6).Draw(t, "kernel") == 0,
		})
	}
	for i := range groups {
		if rapid.Bool().Draw(t, "space") {
			h.spaces = append(h.spaces, account.Namespace{ID: uint64(900 + i), Workload: account.WorkloadID(i)})
		}
	}
	h.drawGPUs(t)
	return h
}

// drawGPUs adds GPUs that tell how long they work, or whose clients do, or neither; and clients of processes that there
// are, and are not. There is a meter of the host, and one of each GPU.
func (h *history) drawGPUs(t *rapid.T) {
	h.meters = []account.Meter{{Name: "package-0"}}
	for i := range rapid.IntRange(0, 3).Draw(t, "gpus") {
		g := account.GPU{Name: string(rune('a' + i)), Engine: "render", MemoryTotal: 1 << 30, MemoryUsed: 1 << 29,
			By: rapid.SampledFrom([]account.GPUBusy{account.BusyUntold, account.BusyByCounter,
				account.BusyByClients}).Draw(t, "by")}
		if i == 2 && rapid.Bool().Draw(t, "a partition") {
			g.Card = "a"
		}
		h.gpus = append(h.gpus, g)
		h.meters = append(h.meters, account.Meter{Name: "GPU " + g.Name, GPU: g.Name})
		for k := range rapid.IntRange(0, 3).Draw(t, "clients") {
			h.clients = append(h.clients, account.GPUClient{GPU: int32(i), ID: uint64(k), Bytes: 1 << 20,
				PID: int32(100 + 3*rapid.IntRange(0, 12).Draw(t, "pid"))})
		}
	}
}

// growGPUs lets the GPUs work.
func (h *history) growGPUs(t *rapid.T, grow func() int64) {
	clients := make([]account.GPUClient, len(h.clients))
	for i, c := range h.clients {
		did := map[string]int64{}
		for _, e := range c.Engines {
			did[e.Engine] = e.Micros
		}
		c.Engines = []account.EngineTime{{Engine: "copy", Micros: did["copy"] + grow()},
			{Engine: "render", Micros: did["render"] + grow()}}
		clients[i] = c
	}
	h.clients = clients
	for i := range h.gpus {
		h.gpus[i].BusyMicros += grow()
	}
	for i := range h.meters {
		h.meters[i].MicroJoules += grow()
	}
}

// step lets everything grow by random amounts; inner groups' growth is in their outer ones' too, as the kernel counts.
func (h *history) step(t *rapid.T) {
	h.at += time.Duration(rapid.IntRange(1, 20_000).Draw(t, "millis")) * time.Millisecond
	grow := func() int64 { return int64(rapid.IntRange(0, 3_000_000).Draw(t, "grow")) }
	for i := range h.groups {
		cpu, disk, c := grow(), grow(), rapid.IntRange(0, len(h.idle)-1).Draw(t, "cpu")
		for k := int32(i); k >= 0; k = h.groups[k].Outer {
			g := &h.groups[k]
			g.CPUMicros += cpu
			g.DiskBytes += disk
			g.PerCPU = slices.Clone(g.PerCPU)
			g.PerCPU[c] += cpu
			g.MemoryBytes += 4096
		}
	}
	for i := range h.processes {
		p := &h.processes[i]
		cpu, disk := grow(), grow()
		p.CPUMicros += cpu
		p.DiskBytes += disk
		p.AnonBytes = 1024
		// its group, and those around it, count it too
		for k := int32(p.Within); p.Inside && k >= 0; k = h.groups[k].Outer {
			h.groups[k].CPUMicros += cpu
			h.groups[k].DiskBytes += disk
			h.groups[k].MemoryBytes = 1<<20 + h.groups[k].MemoryBytes
		}
		p.LastCPU = int32(rapid.IntRange(0, len(h.idle)-1).Draw(t, "last"))
	}
	for i := range h.spaces {
		h.spaces[i].Received += grow()
	}
	for c := range h.idle {
		h.idle[c] += grow()
	}
	h.growGPUs(t, grow)
	h.disk += grow()
	h.net += grow()
}

func (h *history) reading() *account.Reading {
	r := &account.Reading{
		Boot: "b", Mono: h.at, Uptime: h.at, Wall: epoch.Add(h.at), Groups: slices.Clone(h.groups),
		Processes:  slices.Clone(h.processes),
		Namespaces: slices.Clone(h.spaces), Memory: account.HostMemory{Total: 1 << 34, Free: 1 << 33, Slab: 1 << 20,
			Cached: 1 << 25},
		Disks:      []account.Disk{{Name: "sda", ReadBytes: h.disk, RateBytesPerSecond: 1_000_000}},
		Interfaces: []account.Interface{{Name: "eth0", Received: h.net, SpeedBitPerSecond: 1_000_000_000}},
		GPUs:       slices.Clone(h.gpus), GPUClients: h.clients, Meters: slices.Clone(h.meters),
		IdleMicroWatts: 1000,
	}
	for c, idle := range h.idle {
		r.CPUs = append(r.CPUs, account.CPUTimes{CPU: c, Idle: idle})
	}
	return r
}

func requireBalanced(t *rapid.T, iv *account.Interval) {
	for _, r := range amount.Resources() {
		l := iv.Ledgers[r]
		shares := int64(0)
		for _, u := range iv.Usages {
			require.GreaterOrEqual(t, u.Units[r], int64(0), "%s: nothing is negative", r)
			shares += u.Units[r]
			parts := int64(0)
			for _, p := range u.Programs {
				require.GreaterOrEqual(t, p.Units[r], int64(0), "%s: no program is negative", r)
				parts += p.Units[r]
			}
			require.Equal(t, u.Units[r], parts, "%s: programs add up to their workload", r)
		}
		require.Equal(t, shares, l.Shares, "%s", r)
		require.Equal(t, l.Used.Units, l.Shares+l.Kernel.Units+l.Steal.Units+l.Residual.Units, "%s: used", r)
		require.Equal(t, l.Capacity.Units, l.Used.Units+l.Idle.Units, "%s: capacity", r)
	}
}

func TestInterval_TheLedgerBalancesOverAnyHistory(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t)
		var tracker account.Tracker
		_, err := tracker.Step(h.reading())
		require.ErrorIs(t, err, account.ErrFirstReading)
		var sum *account.Interval
		for range rapid.IntRange(1, 4).Draw(t, "steps") {
			h.step(t)
			if rapid.IntRange(0, 4).Draw(t, "event") == 0 && len(h.processes) > 0 {
				h.processes = h.processes[1:] // one ends unseen
			}
			iv, err := tracker.Step(h.reading())
			require.NoError(t, err)
			requireBalanced(t, iv)
			if sum == nil {
				sum = iv
			} else {
				sum = sum.Add(iv)
			}
			requireBalanced(t, sum)
		}
	})
}

func TestInterval_SplittingItAndAddingThePartsChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t)
		var whole, parts account.Tracker
		first := h.reading()
		whole.Step(first)
		parts.Step(first)
		var sum *account.Interval
		for range rapid.IntRange(2, 5).Draw(t, "parts") {
			h.step(t)
			iv, err := parts.Step(h.reading())
			require.NoError(t, err)
			if sum == nil {
				sum = iv
			} else {
				sum = sum.Add(iv)
			}
		}
		want, err := whole.Step(h.reading())
		require.NoError(t, err)
		require.Equal(t, want.ElapsedMillis, sum.ElapsedMillis)
		require.Equal(t, len(want.Usages), len(sum.Usages))
		for i := range want.Usages {
			a, b := want.Usages[i], sum.Usages[i]
			// flows; a level is told by its ticks
			for _, r := range []amount.Resource{amount.CPU, amount.Disk, amount.Network, amount.GPU} {
				require.Equal(t, a.Units[r], b.Units[r], "%s of workload %d", r, a.Workload)
				require.Equal(t, a.Source[r], b.Source[r])
			}
		}
		for _, r := range []amount.Resource{amount.CPU, amount.Disk, amount.Network, amount.GPU} {
			require.Equal(t, want.Ledgers[r].Residual, sum.Ledgers[r].Residual, "%s", r)
		}
	})
}

func TestInterval_TheOrderOfProcessesChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t)
		var one, other account.Tracker
		one.Step(h.reading())
		other.Step(shuffled(h.reading()))
		h.step(t)
		a, err := one.Step(h.reading())
		require.NoError(t, err)
		b, err := other.Step(shuffled(h.reading()))
		require.NoError(t, err)
		require.Equal(t, a.Usages, b.Usages)
		require.Equal(t, a.Ledgers, b.Ledgers)
	})
}

func shuffled(r *account.Reading) *account.Reading {
	rand.Shuffle(len(r.Processes), func(i, j int) { r.Processes[i], r.Processes[j] = r.Processes[j], r.Processes[i] })
	return r
}
