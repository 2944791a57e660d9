package hub

import (
	"context"
	"slices"

	"vinescale/core/amount"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

// Measure is one figure of a workload beside its amounts.
type Measure struct {
	Name   string  `json:"name" doc:"Ends in its unit; us is microseconds."`
	Value  float64 `json:"value" doc:"Over the span: a sum, a level's mean, or the highest."`
	Source string  `json:"source"`
}

// gathered adds up what was counted of workloads, devices and interfaces over a span.
type gathered struct {
	elapsed   map[int32]int64 // milliseconds, by host
	measures  map[int64]*workloadFigures
	uses      map[useKey]*use
	disks     map[deviceKey]*wire.Disk
	latencies map[deviceKey]map[[2]int64]int64 // operations by the bounds of their bucket
	links     map[linkKey]*wire.Interface
	cpus      map[int32]map[uint32]*cpuStates
	memory    map[int32]*[3]float64
	// the workload at an interface's other end in the newest interval; 0 for none
	linkEnds map[linkKey]int64
	swapped  map[int64]map[string]float64 // byte-milliseconds by workload and swap
	loads    map[int32]*Load              // of the newest interval
	stalls   map[linkKey]*stalls          // by host and resource
}

type workloadFigures struct {
	host   int32
	units  [amount.NumMeasures]float64 // byte-milliseconds of a big host over a day are more than 63 bits hold
	over   [amount.NumMeasures]int64   // milliseconds of the intervals that have the measure
	has    amount.MeasureSet
	source [amount.NumMeasures]amount.Source
}

type useKey struct {
	host     int32
	device   uint32
	workload int64
}

type deviceKey struct {
	host   int32
	device uint32
}

type linkKey struct {
	host int32
	name string
}

type use struct {
	read, written, reads, writes, micros int64
	source                               amount.Source
}

type cpuStates struct {
	user, nice, system, idle, iowait, irq, softirq, steal, ran int64
	counted                                                    bool // ran is known for all of it
}

// withCPUs asks for what is told of each CPU, of load and of pressure too.
const withCPUs = true

func (h *Hub) gather(ctx context.Context, hostID int32, span store.Span, detail bool) (*gathered, error) {
	g := &gathered{
		elapsed: map[int32]int64{}, measures: map[int64]*workloadFigures{}, uses: map[useKey]*use{},
		disks:     map[deviceKey]*wire.Disk{},
		latencies: map[deviceKey]map[[2]int64]int64{}, links: map[linkKey]*wire.Interface{},
		cpus: map[int32]map[uint32]*cpuStates{}, memory: map[int32]*[3]float64{},
		linkEnds: map[linkKey]int64{}, swapped: map[int64]map[string]float64{}, loads: map[int32]*Load{},
		stalls: map[linkKey]*stalls{},
	}
	byName := map[string]amount.Measure{}
	for _, m := range amount.Measures() {
		byName[m.String()] = m
	}
	return g, h.store.EachFigures(ctx, hostID, span, detail, func(r *store.FigureRow) error {
		g.elapsed[r.HostID] += r.ElapsedMillis
		for _, c := range r.Figures.GetMeasures() {
			if m, known := byName[c.Name]; known {
				g.addMeasure(r, c, m)
			}
		}
		g.addDevices(r)
		g.addHost(r)
		g.addLoad(r)
		return nil
	})
}

func (g *gathered) addMeasure(r *store.FigureRow, c *wire.MeasureColumn, m amount.Measure) {
	for i, w := range c.Workload {
		if int(w) >= len(r.Workloads) {
			continue
		}
		id := r.Workloads[w]
		f := g.measures[id]
		if f == nil {
			f = &workloadFigures{host: r.HostID}
			g.measures[id] = f
		}
		source := amount.Source(c.Source[min(i, len(c.Source)-1)])
		if f.has.Has(m) {
			source = source.Weaker(f.source[m])
		}
		f.has, f.source[m] = f.has.With(m), source
		f.over[m] += r.ElapsedMillis
		if m.Manner() == amount.Height {
			f.units[m] = max(f.units[m], float64(c.Units[i]))
		} else {
			f.units[m] += float64(c.Units[i])
		}
	}
}

func (g *gathered) addDevices(r *store.FigureRow) {
	u := r.Figures.GetDeviceUse()
	for i, w := range u.GetWorkload() {
		if int(w) >= len(r.Workloads) {
			continue
		}
		k := useKey{r.HostID, u.Device[i], r.Workloads[w]}
		x := g.uses[k]
		if x == nil {
			x = &use{}
			g.uses[k] = x
		}
		x.read, x.written, x.reads, x.writes = x.read+u.ReadBytes[i], x.written+u.WrittenBytes[i], x.reads+u.Reads[i],
			x.writes+u.Writes[i]
		x.micros, x.source = x.micros+u.Micros[i], x.source.Weaker(amount.Source(u.Source[i]))
	}
	for _, d := range r.Figures.GetDisks() {
		k := deviceKey{r.HostID, d.Device}
		sum := g.disks[k]
		if sum == nil {
			g.disks[k] = d
			continue
		}
		d.ReadBytes, d.WrittenBytes, d.Reads, d.Writes = d.ReadBytes+sum.ReadBytes, d.WrittenBytes+sum.WrittenBytes,
			d.Reads+sum.Reads, d.Writes+sum.Writes
		d.ReadMerged, d.WriteMerged, d.ReadMillis, d.WriteMillis = d.ReadMerged+sum.ReadMerged,
			d.WriteMerged+sum.WriteMerged, d.ReadMillis+sum.ReadMillis, d.WriteMillis+sum.WriteMillis
		d.BusyMillis, d.QueueMillis = d.BusyMillis+sum.BusyMillis, d.QueueMillis+sum.QueueMillis
		g.disks[k] = d
	}
	for _, l := range r.Figures.GetLatencies() {
		k := deviceKey{r.HostID, l.Device}
		if g.latencies[k] == nil {
			g.latencies[k] = map[[2]int64]int64{}
		}
		g.latencies[k][[2]int64{l.LowMicros, l.HighMicros}] += l.Count
	}
}

func (g *gathered) addHost(r *store.FigureRow) {
	for _, n := range r.Figures.GetInterfaces() {
		k := linkKey{r.HostID, n.Name}
		if sum := g.links[k]; sum != nil {
			n.ReceivedBytes, n.SentBytes = n.ReceivedBytes+sum.ReceivedBytes, n.SentBytes+sum.SentBytes
			n.ReceivedPackets, n.SentPackets = n.ReceivedPackets+sum.ReceivedPackets, n.SentPackets+sum.SentPackets
			n.ReceivedDropped, n.SentDropped = n.ReceivedDropped+sum.ReceivedDropped, n.SentDropped+sum.SentDropped
			n.ReceivedErrors, n.SentErrors = n.ReceivedErrors+sum.ReceivedErrors, n.SentErrors+sum.SentErrors
		}
		g.links[k], g.linkEnds[k] = n, 0
		if n.Workload != nil && int(*n.Workload) < len(r.Workloads) {
			g.linkEnds[k] = r.Workloads[*n.Workload]
		}
	}
	for i, w := range r.Figures.GetSwapUse().GetWorkload() {
		if u := r.Figures.SwapUse; int(w) < len(r.Workloads) {
			on := g.swapped[r.Workloads[w]]
			if on == nil {
				on = map[string]float64{}
				g.swapped[r.Workloads[w]] = on
			}
			on[u.Swap[i]] += float64(u.Units[i])
		}
	}
	byCPU := g.cpus[r.HostID]
	if byCPU == nil {
		byCPU = map[uint32]*cpuStates{}
		g.cpus[r.HostID] = byCPU
	}
	d := r.Detail
	for i, cpu := range d.GetCpu() {
		if min(len(d.User), len(d.Nice), len(d.System), len(d.Idle), len(d.Iowait), len(d.Irq), len(d.Softirq),
			len(d.Steal)) <= i {
			break
		}
		s := byCPU[cpu]
		if s == nil {
			s = &cpuStates{counted: true}
			byCPU[cpu] = s
		}
		s.user, s.nice, s.system, s.idle = s.user+d.User[i], s.nice+d.Nice[i], s.system+d.System[i], s.idle+d.Idle[i]
		s.iowait, s.irq, s.softirq, s.steal = s.iowait+d.Iowait[i], s.irq+d.Irq[i], s.softirq+d.Softirq[i],
			s.steal+d.Steal[i]
		if ran := r.Figures.GetRanMicros(); i < len(ran) {
			s.ran += ran[i]
		} else {
			s.counted = false
		}
	}
	m := g.memory[r.HostID]
	if m == nil {
		m = &[3]float64{}
		g.memory[r.HostID] = m
	}
	m[0], m[1], m[2] = m[0]+float64(r.Figures.MemoryOwn), m[1]+float64(r.Figures.MemoryCache),
		m[2]+float64(r.Figures.MemoryHuge)
}

// list names the measures that were gathered of a workload. Levels are means over the time given, but those that are
// read at a slower pace over the intervals in which they were known.
func (f *workloadFigures) list(elapsed int64) []Measure {
	list := []Measure{}
	for _, m := range amount.Measures() {
		if f.has.Has(m) {
			over := elapsed
			if m.IsSlow() {
				over = f.over[m]
			}
			list = append(list, Measure{m.String(), m.Amount(f.units[m], over), f.source[m].String()})
		}
	}
	return list
}

// named finds the workloads that figures are of.
func (h *Hub) refs(ctx context.Context, ids []int64) (map[int64]UserRef, error) {
	slices.Sort(ids)
	stored, err := h.store.WorkloadsByID(ctx, slices.Compact(ids))
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	refs := make(map[int64]UserRef, len(stored))
	for id, w := range stored {
		refs[id] = UserRef{WorkloadRef{id, w.Name, w.Kind}, w.Owner, named(names, w.TenantID)}
	}
	return refs, nil
}

// UserRef names a workload that uses something, and whose it is.
type UserRef struct {
	WorkloadRef
	Owner  string `json:"owner"`
	Tenant string `json:"tenant"`
}

// Whose is the workload and its tenant in words.
func (u *UserRef) Whose() string {
	if u.Tenant == "" || u.Tenant == Unassigned {
		return u.Name + " (unassigned)"
	}
	return u.Name + " of " + u.Tenant
}

// hostsOf lists the host asked for, or all.
func (h *Hub) hostsOf(ctx context.Context, name string) (id int32, byID map[int32]store.Host, err error) {
	byID = map[int32]store.Host{}
	if name != "" {
		host, err := h.Host(ctx, name)
		if err != nil {
			return 0, nil, err
		}
		byID[host.ID] = host
		return host.ID, byID, nil
	}
	hosts, err := h.store.Hosts(ctx)
	for _, x := range hosts {
		byID[x.ID] = x
	}
	return 0, byID, err
}

// silent names the hosts of which nothing was recorded in the span.
func (g *gathered) silent(hosts map[int32]store.Host) []string {
	names := []string{}
	for id, host := range hosts {
		if g.elapsed[id] == 0 {
			names = append(names, host.Name)
		}
	}
	slices.Sort(names)
	return names
}

// noSpace is why the space that a workload's files take is not told.
func noSpace(kind string) string {
	switch kind {
	case amount.Container.String():
		return "it has no writable layer or root directory of its own that its collector sees, or one with more files than are walked: a project quota on it would count them"
	case amount.VM.String():
		return "it has no file and no device open for writing that its collector sees"
	}
	return "its files are on filesystems it shares with others, which count by user and project, not by cgroup"
}

func (h *Hub) fillFigures(ctx context.Context, a *AboutWorkload, w *store.Workload, span store.Span,
	_ map[int32]string) error {
	a.Space = noSpace(w.Kind)
	g, err := h.gather(ctx, w.HostID, span, !withCPUs)
	if err != nil {
		return err
	}
	if f := g.measures[w.ID]; f != nil {
		a.Figures = f.list(max(a.ElapsedMillis, 1))
		if f.has.Has(amount.SpaceUsed) {
			a.Space = ""
		}
	}
	return nil
}
