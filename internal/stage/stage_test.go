package stage_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/stage"
)

var night = time.Date(2026, 10, 11, 3, 10, 0, 0, time.UTC)

// set is a staged host with the real reader on its rendered files.
type set struct {
	host     *stage.Host
	tree     stage.Tree
	registry *identify.Registry
	reader   *kernel.Reader
}

func open(t *testing.T, h *stage.Host) *set {
	s := &set{host: h, tree: stage.Tree{Dir: t.TempDir()}}
	require.NoError(t, h.Render(s.tree))
	s.registry = identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: s.tree.Etc(), Run: s.tree.Run(),
		Proc: s.tree.Proc()}, Informants: []identify.Informant{h.Scheduler()}})
	o := kernel.Options{
		Roots:     kernel.Roots{Proc: s.tree.Proc(), Sys: s.tree.Sys(), Cgroup: s.tree.Cgroup()},
		DiskRates: h.DiskRates(), PageSize: stage.PageSize, Space: h.Space, Quota: h.Quota, Ends: h.Ends, SlowPace: -1,
		Clock:          func() (time.Time, time.Duration) { return h.Now.UTC(), h.Uptime },
		IdleMicroWatts: h.IdleMicroWatts(), GPULibrary: h.Library(),
	}
	if h.Counts {
		o.Counters = h.Counters(s.tree)
	}
	reader, err := kernel.Open(s.registry, o)
	require.NoError(t, err)
	t.Cleanup(reader.Close)
	s.reader = reader
	return s
}

// over takes readings over a time of the host in ticks and adds up the intervals.
func (s *set) over(t *testing.T, tick time.Duration, ticks int) *account.Interval {
	var tracker account.Tracker
	var sum *account.Interval
	readings := make([]account.Reading, 3)
	for n := range ticks + 1 {
		if n > 0 {
			s.host.Advance(tick)
		}
		require.NoError(t, s.host.Render(s.tree))
		r := &readings[n%len(readings)]
		require.NoError(t, s.reader.Read(r))
		require.Empty(t, s.reader.Trouble())
		iv, err := tracker.Step(r)
		if n == 0 {
			s.registry.Ask(t.Context())
			require.ErrorIs(t, err, account.ErrFirstReading)
			continue
		}
		require.NoError(t, err)
		if sum == nil {
			sum = iv
		} else {
			sum = sum.Add(iv)
		}
	}
	return sum
}

// gpuTruth is how long GPUs worked so far for each workload on each, and in all; in microseconds.
func gpuTruth(h *stage.Host) map[string]int64 {
	m := map[string]int64{}
	for _, g := range h.GPUs {
		m[g.Name] = g.BusyMicros
		for _, u := range g.Users {
			m[g.Name+" for "+u.Workload.Name] = u.Micros
			m["for "+u.Workload.Name] += u.Micros
			m[g.Name+" copying for "+u.Workload.Name] = u.Copying
			m["memory of "+u.Workload.Name] += u.Bytes
		}
	}
	return m
}

// checkGPUs holds what workloads are charged with of GPUs to the truth: to the microsecond and the byte.
func checkGPUs(t *testing.T, h *stage.Host, iv *account.Interval, usages map[string]account.Usage,
	before map[string]int64) {
	now := gpuTruth(h)
	if len(h.GPUs) == 0 {
		assert.Equal(t, account.NoGPU, iv.Ledgers[amount.GPU].Used.Reason)
		return
	}
	holders := map[string]bool{}
	for _, g := range h.GPUs {
		for _, w := range g.Holders {
			holders[w.Name+" "+g.Name] = true
		}
	}
	var shares, busy int64
	for _, w := range h.Workloads {
		u := usages[w.Name]
		want := now["for "+w.Name] - before["for "+w.Name]
		assert.Equal(t, want, u.Units[amount.GPU], "%s: GPU time", w.Name)
		assert.Equal(t, now["memory of "+w.Name], u.Units[amount.GPUMemory]/iv.ElapsedMillis, "%s: GPU memory", w.Name)
		shares += want
		for _, x := range u.GPUs {
			key := x.GPU + " for " + w.Name
			assert.Equal(t, now[key]-before[key], x.Micros, key)
			assert.Equal(t, holders[w.Name+" "+x.GPU], x.Granted == iv.ElapsedMillis, "%s: given %s", w.Name, x.GPU)
			for _, e := range x.Engines {
				if copying := x.GPU + " copying for " + w.Name; e.Engine == "copy" {
					assert.Equal(t, now[copying]-before[copying], e.Micros, copying)
				}
			}
			var bands int64
			for _, millis := range x.Bands {
				bands += millis
			}
			if x.Source != amount.Unavailable {
				assert.Equal(t, iv.ElapsedMillis, bands, "%s: every moment is in one band", key)
			}
		}
	}
	for _, g := range h.GPUs {
		busy += now[g.Name] - before[g.Name]
	}
	l := iv.Ledgers[amount.GPU]
	assert.Equal(t, []int64{busy, shares}, []int64{busy, l.Shares})
	if h.GPUs[0].ByDRM { // its cards tell whole percents
		assert.InDelta(t, busy, l.Used.Units, 0.006*float64(len(h.GPUs))*float64(iv.ElapsedMillis*1000))
		assert.Equal(t, iv.ElapsedMillis*1000*int64(len(h.GPUs)), l.Capacity.Units)
	} else {
		assert.Equal(t, busy, l.Used.Units)
		assert.Zero(t, l.Residual.Units)
		assert.Equal(t, 6*iv.ElapsedMillis*1000, l.Capacity.Units, "one is lost, and one divided")
		assert.Equal(t, 2*iv.ElapsedMillis, iv.Detail.Caveats[account.GPUUntold])
	}
}

// truth remembers what each workload had used at a moment.
type truth struct {
	cpu, disk, net int64
	perCPU         []int64
	figures        [4]account.Figures
}

func truthOf(h *stage.Host) map[string]truth {
	m := map[string]truth{}
	for _, w := range h.Workloads {
		x := truth{cpu: w.CPUMicros, disk: w.DiskBytes, net: w.NetBytes, perCPU: slices.Clone(w.PerCPU),
			figures: figuresOf(h, w)}
		m[w.Name] = x
	}
	return m
}

// TestFleet_EveryWorkloadIsChargedWhatItTrulyUsed reads the staged hosts with the real collector code and compares
// every workload's CPU, memory, disk and network bytes, and every ledger's residual, with the truth.
func TestFleet_EveryWorkloadIsChargedWhatItTrulyUsed(t *testing.T) {
	workloads := 0
	for _, h := range stage.Fleet(night) {
		t.Run(h.Name, func(t *testing.T) {
			s := open(t, h)
			before, whole, gpus := truthOf(h), h.Truth(), gpuTruth(h)
			iv := s.over(t, 5*time.Second, 12)
			now := h.Truth()

			usages := map[string]account.Usage{}
			for _, u := range iv.Usages {
				usages[s.registry.Workload(u.Workload).Name] = u
			}
			require.Len(t, usages, len(h.Workloads))
			workloads += len(usages)
			checkGPUs(t, h, iv, usages, gpus)
			for _, w := range h.Workloads {
				u, ok := usages[w.Name]
				require.True(t, ok, "%s was found", w.Name)
				id := s.registry.Workload(u.Workload)
				assert.Equal(t, w.Kind, id.Kind, w.Name)
				assert.Equal(t, w.Owner, id.Owner, w.Name)
				assert.Equal(t, w.Allowed.String(), id.Allowed, "%s: the CPUs it may use", w.Name)

				living := int64(0) // what its living processes used; a swarm's children are not among them
				for _, p := range w.Processes {
					living += p.CPUMicros
				}
				spent := w.CPUMicros - before[w.Name].cpu
				if w.Path == "" { // no group counts it: the living, in clock ticks; and what ended, where that is told
					if h.Counts {
						living = spent
					}
					assert.InDelta(t, living, u.Units[amount.CPU], 20_000*float64(len(w.Processes)), "%s: CPU", w.Name)
					assert.Equal(t, amount.Summed, u.Source[amount.CPU], w.Name)
				} else {
					assert.Equal(t, spent, u.Units[amount.CPU], "%s: CPU, to the microsecond", w.Name)
					assert.Equal(t, amount.Counted, u.Source[amount.CPU], w.Name)
				}
				assert.InDelta(t, w.MemoryBytes, u.Units[amount.Memory]/iv.ElapsedMillis,
					0.06*float64(w.MemoryBytes)+4096, "%s: mean memory", w.Name)
				moved := w.DiskBytes - before[w.Name].disk
				assert.Equal(t, moved, u.Units[amount.Disk], "%s: disk bytes", w.Name)
				if h.Counts && moved > 0 { // what no group issued is divided by who dirtied it
					assert.Equal(t, map[bool]amount.Source{true: amount.Split}[w.Path == ""], u.Source[amount.Disk],
						w.Name)
				}
				requireCPUs(t, h, w, &u, before[w.Name])
				requireFigures(t, h, w, &u, before[w.Name], iv.ElapsedMillis)
				requireFiles(t, w, &u, iv.ElapsedMillis)
				if w.Link != "" || h.Counts && w.Path != "" {
					assert.Equal(t, w.NetBytes-before[w.Name].net, u.Units[amount.Network], "%s: network bytes", w.Name)
				} else {
					assert.Equal(t, amount.Unavailable, u.Source[amount.Network],
						"%s: cannot be told apart, and is not zero", w.Name)
				}
			}
			// What the ledgers cannot charge is what the stage hid: each counter of /proc/stat may be a tick late per
			// CPU.
			ticks := float64(4 * 10_000 * h.CPUs)
			residual := func(r amount.Resource) int64 { return iv.Ledgers[r].Residual.Units }
			assert.InDelta(t, now.LostCPUMicros-whole.LostCPUMicros, residual(amount.CPU), ticks, "CPU residual")
			assert.InDelta(t, now.KernelCPUMicros-whole.KernelCPUMicros, iv.Ledgers[amount.CPU].Kernel.Units, ticks,
				"kernel CPU")
			assert.InDelta(t, now.HiddenMemoryBytes, residual(amount.Memory)/iv.ElapsedMillis, 8192, "memory residual")
			assert.InDelta(t, 0, residual(amount.Disk), 4096, "disk residual")
			requireDevices(t, h, iv)
			requireLinks(t, s, iv)
			assert.Equal(t, now.HostNetworkBytes-whole.HostNetworkBytes, residual(amount.Network), "network residual")
		})
	}
	assert.Equal(t, 240, workloads)
}

// figuresOf are all that is counted of a workload beside its amounts, by where it is counted.
func figuresOf(h *stage.Host, w *stage.Workload) (f [4]account.Figures) {
	f[0], f[1] = w.Figures(h.V1)
	f[2], f[3] = h.CountedFigures(w)
	return f
}

// requireCPUs compares on which CPUs a workload ran, where that is counted, with where it truly did.
func requireCPUs(t *testing.T, h *stage.Host, w *stage.Workload, u *account.Usage, before truth) {
	got := make([]int64, h.CPUs)
	for _, c := range u.CPUs {
		got[c.CPU] = c.Micros
	}
	// put down thread by thread to where it last ran, in clock ticks; what ended, and was not seen, is not
	if w.Path == "" || !h.Counts && !h.V1 {
		threads := 0
		for _, p := range w.Processes {
			threads += int(p.Threads)
		}
		for cpu := range got {
			most := float64(w.PerCPU[cpu] - before.perCPU[cpu])
			assert.LessOrEqual(t, float64(got[cpu]), most+10_000*float64(threads), "%s: on CPU %d", w.Name, cpu)
			if h.Counts || !w.HasSwarm() {
				assert.GreaterOrEqual(t, float64(got[cpu]), most-10_000*float64(threads), "%s: on CPU %d", w.Name, cpu)
			}
		}
		return
	}
	for cpu := range got {
		assert.Equal(t, w.PerCPU[cpu]-before.perCPU[cpu], got[cpu], "%s: on CPU %d", w.Name, cpu)
	}
}

// requireFigures compares everything that is counted of a workload beside its amounts with what truly happened.
func requireFigures(t *testing.T, h *stage.Host, w *stage.Workload, u *account.Usage, before truth, elapsed int64) {
	if w.Path == "" {
		return // no group counts it
	}
	for i, now := range figuresOf(h, w) {
		for _, m := range amount.Measures() {
			want, there := now.Get(m)
			if !there {
				continue
			}
			got, ok := u.Figures.Get(m)
			require.True(t, ok, "%s: %s", w.Name, m)
			was := before.figures[i].Units[m]
			switch m.Manner() {
			case amount.Level:
				// The mean of a level that moved, against where it stands now.
				assert.InDelta(t, want, got/elapsed, 0.15*float64(want)+8192, "%s: %s", w.Name, m)
			case amount.Height:
				assert.GreaterOrEqual(t, want, got, "%s: %s", w.Name, m)
				assert.GreaterOrEqual(t, got, u.Peak[amount.Memory], "%s: %s", w.Name, m)
			default:
				assert.Equal(t, want-was, got, "%s: %s", w.Name, m)
			}
			assert.Equal(t, now.Source[m], u.Figures.Source[m], "%s: the source of %s", w.Name, m)
		}
	}
	if !h.V1 || h.Counts {
		read, _ := u.Figures.Get(amount.DiskRead)
		written, _ := u.Figures.Get(amount.DiskWritten)
		assert.Equal(t, u.Units[amount.Disk], read+written, "%s: read and written are the whole", w.Name)
	}
}

// TestCooperative_ItsIncidentsAreThereAtEveryHour: a demo, and the tests that run one, must not depend on the time of
// day.
func TestCooperative_ItsIncidentsAreThereAtEveryHour(t *testing.T) {
	for hour := range 24 {
		h := stage.Cooperative(time.Date(2026, 10, 11, hour, 0, 0, 0, time.UTC))[0]
		s := open(t, h)
		for range 5 {
			h.Advance(time.Minute)
		}
		iv := s.over(t, time.Minute, 20)
		for _, d := range iv.Detail.Disks {
			if d.Name == "sda" {
				assert.Greater(t, float64(d.BusyMillis)/float64(iv.ElapsedMillis), 0.87,
					"%d:00: the neighbour saturates the drive", hour)
			}
		}
		intruded := int64(0)
		for _, u := range iv.Usages {
			if s.registry.Workload(u.Workload).Name != "curd-fermentlog" {
				continue
			}
			for _, c := range u.CPUs {
				if c.CPU >= 12 {
					intruded += c.Micros
				}
			}
		}
		assert.Greater(t, intruded, int64(60e6), "%d:00: it runs on the bottling line's CPUs", hour)
	}
}

// TestFleet_OfAHostThatFellSilentNothingIsMadeUp reads a host until it hangs, and again once it was started anew: what
// it did in the dark is not known, and what it did before is neither lost nor counted twice.
func TestFleet_OfAHostThatFellSilentNothingIsMadeUp(t *testing.T) {
	hosts := stage.Fleet(night)
	h := hosts[len(hosts)-1]
	s := open(t, h)
	var tracker account.Tracker
	step := func() (*account.Interval, error) {
		require.NoError(t, h.Render(s.tree))
		r := &account.Reading{}
		require.NoError(t, s.reader.Read(r))
		return tracker.Step(r)
	}
	_, err := step()
	require.ErrorIs(t, err, account.ErrFirstReading)
	h.Advance(5 * time.Second)
	before, err := step()
	require.NoError(t, err)

	h.Advance(2 * time.Second) // nobody reads this
	h.FallSilent(20 * time.Minute)
	s.reader.Close()
	again := open(t, h) // its collector starts with it
	s.reader, s.registry, s.tree = again.reader, again.registry, again.tree
	_, err = step()
	require.ErrorIs(t, err, account.ErrNewBoot)
	was := truthOf(h)
	h.Advance(5 * time.Second)
	after, err := step()
	require.NoError(t, err)
	assert.Equal(t, int64(5000), after.ElapsedMillis, "the dark is in no interval")
	assert.GreaterOrEqual(t, after.From.Sub(before.To), 20*time.Minute)
	assert.NotEqual(t, before.Boot, after.Boot)
	spent := map[string]int64{}
	for _, u := range after.Usages {
		spent[s.registry.Workload(u.Workload).Name] = u.Units[amount.CPU]
	}
	for _, w := range h.Workloads {
		if w.Path != "" {
			assert.Equal(t, w.CPUMicros-was[w.Name].cpu, spent[w.Name], "%s: to the microsecond", w.Name)
		}
	}
	assert.InDelta(t, 0, after.Ledgers[amount.CPU].Residual.Units,
		0.01*float64(after.Ledgers[amount.CPU].Capacity.Units))
}

// TestFleet_WhileACPUIsUnpluggedAllIsPutDownToWhereItRan takes a CPU in the middle off hosts of both versions, and
// gives it back.
func TestFleet_WhileACPUIsUnpluggedAllIsPutDownToWhereItRan(t *testing.T) {
	for _, h := range stage.Cooperative(night)[:2] {
		t.Run(h.Name, func(t *testing.T) {
			s := open(t, h)
			var tracker account.Tracker
			online := []int{h.CPUs, h.CPUs, h.CPUs - 1, h.CPUs - 1, h.CPUs - 1, h.CPUs} // at both ends of the tick
			for tick := range 7 {
				h.Plug(3, tick != 3 && tick != 4)
				before := truthOf(h)
				h.Advance(5 * time.Second)
				require.NoError(t, h.Render(s.tree))
				r := &account.Reading{}
				require.NoError(t, s.reader.Read(r))
				iv, err := tracker.Step(r)
				if tick == 0 {
					require.ErrorIs(t, err, account.ErrFirstReading)
					continue
				}
				require.NoError(t, err)
				assert.Equal(t, int64(online[tick-1])*5_000_000, iv.Ledgers[amount.CPU].Capacity.Units, "tick %d", tick)
				if tick != 5 { // of a CPU that just came back the host's own count is not known yet
					assert.InDelta(t, 0, iv.Ledgers[amount.CPU].Residual.Units, 40_000*float64(h.CPUs), "tick %d", tick)
				}
				for i := range iv.Usages {
					u := &iv.Usages[i]
					for _, w := range h.Workloads {
						if w.Name == s.registry.Workload(u.Workload).Name {
							requireCPUs(t, h, w, u, before[w.Name])
						}
					}
				}
			}
		})
	}
}

// requireFiles holds the space that is told to what the workload's layer has; who has none has no figure.
func requireFiles(t *testing.T, w *stage.Workload, u *account.Usage, elapsed int64) {
	files, has := w.Files()
	units, told := u.Figures.Get(amount.SpaceUsed)
	require.Equal(t, has, told, w.Name)
	if !has {
		return
	}
	assert.InEpsilon(t, files.Bytes, units/elapsed, 0.1, "%s: space", w.Name)
	limit, _ := u.Figures.Get(amount.SpaceLimit)
	assert.Equal(t, files.LimitBytes, limit/elapsed, w.Name)
	assert.Equal(t, amount.Counted, u.Figures.Source[amount.SpaceUsed], w.Name)
}

// requireLinks holds what went over each interface with a workload at its other end to what that workload had: its
// other direction.
func requireLinks(t *testing.T, s *set, iv *account.Interval) {
	ends := 0
	for _, n := range iv.Detail.Interfaces {
		if n.Workload == account.Unrecognised {
			continue
		}
		ends++
		for _, u := range iv.Usages {
			if u.Workload == n.Workload {
				sent, _ := u.Figures.Get(amount.NetworkSent)
				received, _ := u.Figures.Get(amount.NetworkReceived)
				assert.Equal(t, []int64{sent, received}, []int64{n.Received, n.Sent}, n.Name)
			}
		}
	}
	want := 0
	for _, w := range s.host.Workloads {
		if w.Link != "" {
			want++
		}
	}
	assert.Equal(t, want, ends, "each has its workload at its other end")
}

// requireDevices holds what workloads had of each device to what the device did.
func requireDevices(t *testing.T, h *stage.Host, iv *account.Interval) {
	if h.V1 && !h.Counts {
		return // version 1 does not tell devices apart without counting in the kernel
	}
	moved, done := map[int32]int64{}, map[string]int64{}
	loose := int64(0)
	for _, u := range iv.Usages {
		for _, d := range u.Devices {
			moved[d.Device] += d.Read + d.Written
		}
		if len(u.Devices) == 0 {
			loose += u.Units[amount.Disk]
		}
	}
	for _, l := range iv.Detail.Latencies {
		done[deviceName(iv, l.Major, l.Minor)] += l.Count
	}
	for _, d := range iv.Detail.Disks {
		if d.Partition && !h.Counts {
			continue
		}
		if h.Counts && !d.Partition {
			assert.InDelta(t, d.ReadOps+d.WriteOps, done[d.Name], 16, "%s: each of its operations is in a bucket",
				d.Name)
		}
		unread := float64(loose) + 2048
		if d.Partition {
			unread += 64 << 10 // of an operation that was not whole at the first reading
		}
		assert.InDelta(t, d.ReadBytes+d.WrittenBytes, moved[int32(d.Major<<20|d.Minor)], unread,
			"%s: its bytes are its users'", d.Name)
		assert.LessOrEqual(t, d.BusyMillis, iv.ElapsedMillis, d.Name)
	}
}

func deviceName(iv *account.Interval, major, minor uint32) string {
	i := slices.IndexFunc(iv.Detail.Disks, func(d account.Disk) bool { return d.Major == major && d.Minor == minor })
	return iv.Detail.Disks[i].Name
}

// TestReading_IsWhatTheRealReaderReads holds the shortcut by which history is played to the rendered files.
func TestReading_IsWhatTheRealReaderReads(t *testing.T) {
	for _, h := range stage.Cooperative(night) {
		t.Run(h.Name, func(t *testing.T) {
			s := open(t, h)
			h.Reading(s.registry) // what ended before is told
			h.Advance(7 * time.Second)
			require.NoError(t, h.Render(s.tree))
			var rendered account.Reading
			require.NoError(t, s.reader.Read(&rendered))
			direct := h.Reading(s.registry)
			for i := range rendered.Groups { // identities of directories differ; what they stand for does not
				rendered.Groups[i].ID = 0
				if len(rendered.Groups[i].PerCPU) == 0 {
					rendered.Groups[i].PerCPU = nil
				}
				if len(rendered.Groups[i].Devices) == 0 {
					rendered.Groups[i].Devices = nil
				}
			}
			for i := range direct.Groups {
				direct.Groups[i].ID = 0
			}
			assert.ElementsMatch(t, direct.Groups, rendered.Groups)
			assert.ElementsMatch(t, direct.Namespaces, rendered.Namespaces)
			direct.Groups, rendered.Groups = nil, nil
			assert.ElementsMatch(t, direct.Levels, rendered.Levels)
			direct.Namespaces, rendered.Namespaces = nil, nil
			direct.Levels, rendered.Levels = nil, nil
			rendered.Swapped = nil
			assert.Equal(t, direct, &rendered)
		})
	}
}

// TestTenants_RulesAssignEveryWorkloadAsTheCooperativeMeans.
func TestTenants_RulesAssignEveryWorkloadAsTheCooperativeMeans(t *testing.T) {
	var book tenancy.Book
	names := map[int32]string{0: ""}
	for i, x := range stage.Tenants {
		rule, err := tenancy.Compile(int32(i+1), int32(i+1), x.Rule)
		require.NoError(t, err)
		book = append(book, rule)
		names[int32(i+1)] = x.Name
	}
	for _, h := range stage.Cooperative(night) {
		s := open(t, h)
		for _, u := range s.over(t, time.Second, 1).Usages {
			w := s.registry.Workload(u.Workload)
			tenant := book.Assign(tenancy.Subject{Host: h.Name, Workload: w}).TenantID
			want := ""
			for _, x := range h.Workloads {
				if x.Name == w.Name {
					want = x.Tenant
				}
			}
			assert.Equal(t, want, names[tenant], "%s on %s", w.Name, h.Name)
		}
	}
}
