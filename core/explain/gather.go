package explain

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

// Gathering adds up what was counted of workloads, devices and interfaces over a span. Make it with NewGathering, and
// give it the leaves of each host, in any order.
type Gathering struct {
	elapsed   map[int32]int64 // milliseconds, by host
	measures  map[User]*workloadFigures
	uses      map[useKey]*use
	disks     map[deviceKey]account.Disk
	latencies map[deviceKey]map[[2]int64]int64 // operations by the bounds of their bucket
	links     map[linkKey]account.Interface
	cpus      map[int32]map[int]*cpuStates
	memory    map[int32]*[3]amount.Wide
	linkEnds  map[linkKey]User // the workload at an interface's other end in the newest interval
	swapped   map[User]map[string]*amount.Wide
	gpus      map[linkKey]*account.GPUTotal // by host and name
	gpuUses   map[gpuKey]*GPUUse
	loads     map[int32]*Load     // of the newest interval
	stalls    map[linkKey]*stalls // by host and resource
	newest    map[linkKey]int64   // begin of the newest interval that something was taken over from
}

type workloadFigures struct {
	host   int32
	units  [amount.NumMeasures]amount.Wide
	over   [amount.NumMeasures]int64 // milliseconds of the intervals that have the measure
	has    amount.MeasureSet
	source [amount.NumMeasures]amount.Source
}

type useKey struct {
	deviceKey
	user User
}

type deviceKey struct {
	host   int32
	device int32
}

type linkKey struct {
	host int32
	name string
}

type use struct {
	read, written, reads, writes, micros, discarded, discards int64
	source                                                    amount.Source
}

type cpuStates struct {
	account.CPUTimes
	ran     int64
	counted bool // ran is known for all of it
}

// NewGathering makes an empty one.
func NewGathering() *Gathering {
	return &Gathering{
		elapsed: map[int32]int64{}, measures: map[User]*workloadFigures{}, uses: map[useKey]*use{},
		disks: map[deviceKey]account.Disk{}, latencies: map[deviceKey]map[[2]int64]int64{},
		links: map[linkKey]account.Interface{}, cpus: map[int32]map[int]*cpuStates{},
		memory: map[int32]*[3]amount.Wide{}, linkEnds: map[linkKey]User{}, swapped: map[User]map[string]*amount.Wide{},
		gpus: map[linkKey]*account.GPUTotal{}, gpuUses: map[gpuKey]*GPUUse{},
		loads: map[int32]*Load{}, stalls: map[linkKey]*stalls{}, newest: map[linkKey]int64{},
	}
}

// Add adds what of a leaf may be seen.
func (g *Gathering) Add(v *leaf.View) {
	in := v.Tables[leaf.Intervals]
	elapsed, own, cache, huge := in.Of("elapsed"), in.Schema.Index("memory_own"), in.Schema.Index("memory_cache"),
		in.Schema.Index("memory_huge")
	k := g.memory[v.Host]
	if k == nil {
		k = &[3]amount.Wide{}
	}
	for at, within := range v.Within {
		if !within {
			continue
		}
		g.memory[v.Host] = k
		g.elapsed[v.Host] += elapsed[at]
		for i, column := range []int{own, cache, huge} {
			k[i].Plus(in.Wide(column, at))
		}
		g.addLoad(v, int64(at))
	}
	v.EachUser(
		func(u leaf.User) { g.figuresOf(u, v.Host) },
	) // of some, nothing may be known but that they were there
	for _, m := range amount.Beside() {
		g.addMeasure(v, m)
	}
	g.addUses(v)
	g.addDevices(v)
	g.addLinks(v)
	g.addSwapped(v)
	g.addGPUs(v)
	g.addCPUs(v)
	g.addPressure(v)
}

// Join adds what another gathering has of other hosts.
func (g *Gathering) Join(other *Gathering) {
	maps.Copy(g.elapsed, other.elapsed)
	maps.Copy(g.measures, other.measures)
	maps.Copy(g.uses, other.uses)
	maps.Copy(g.disks, other.disks)
	maps.Copy(g.latencies, other.latencies)
	maps.Copy(g.links, other.links)
	maps.Copy(g.cpus, other.cpus)
	maps.Copy(g.memory, other.memory)
	maps.Copy(g.linkEnds, other.linkEnds)
	maps.Copy(g.swapped, other.swapped)
	maps.Copy(g.gpus, other.gpus)
	maps.Copy(g.gpuUses, other.gpuUses)
	maps.Copy(g.loads, other.loads)
	maps.Copy(g.stalls, other.stalls)
	maps.Copy(g.newest, other.newest)
}

// Users lists the workloads that were there, under each tenant they had.
func (g *Gathering) Users() []User {
	seen := map[User]bool{}
	for u := range g.measures {
		seen[u] = true
	}
	for k := range g.uses {
		seen[k.user] = true
	}
	for _, u := range g.linkEnds {
		seen[u] = true
	}
	for k := range g.gpuUses {
		seen[k.user] = true
	}
	users := make([]User, 0, len(seen))
	for u := range seen {
		if u.Workload != 0 {
			users = append(users, u)
		}
	}
	slices.SortFunc(users, func(a, b User) int {
		return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(a.Tenant, b.Tenant))
	})
	return users
}

// ElapsedMillis is how long what was recorded of a host covers.
func (g *Gathering) ElapsedMillis(host int32) int64 { return g.elapsed[host] }

// figuresOf is where figures of a user are gathered.
func (g *Gathering) figuresOf(user User, host int32) *workloadFigures {
	f := g.measures[user]
	if f == nil {
		f = &workloadFigures{host: host}
		g.measures[user] = f
	}
	return f
}

func (g *Gathering) addMeasure(v *leaf.View, m amount.Measure) {
	t := v.Tables[leaf.OfMeasure(m)]
	slots, ats, sources, over := t.Of(leaf.Slot), t.Of(leaf.At), t.Of("source"), t.Of("over")
	if len(sources) == 0 { // it was read for what follows from it alone
		return
	}
	for row, slot := range slots {
		user, seen := v.User(slot, ats[row])
		if !seen {
			continue
		}
		f := g.figuresOf(user, v.Host)
		source := amount.Source(sources[row])
		if f.has.Has(m) {
			source = source.Weaker(f.source[m])
		}
		f.has.Put(m)
		f.source[m] = source
		f.over[m] += over[row]
		units := t.Wide(t.Schema.Index("units"), row)
		if m.Manner() == amount.Height {
			f.units[m].Raise(units)
		} else {
			f.units[m].Plus(units)
		}
	}
}

// addUses adds what workloads moved on devices.
func (g *Gathering) addUses(v *leaf.View) {
	t := v.Tables[leaf.Devices]
	ats, devices, sources := t.Of(leaf.At), t.Of("device"), t.Of("source")
	flows := columns(t, leaf.DeviceFlows)
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := v.User(slot, ats[row])
		if !seen {
			continue
		}
		k := useKey{deviceKey{v.Host, int32(devices[row])}, user}
		x := g.uses[k]
		if x == nil {
			x = &use{}
			g.uses[k] = x
		}
		for i, into := range []*int64{&x.read, &x.written, &x.reads, &x.writes, &x.micros, &x.discarded, &x.discards} {
			*into += flows[i][row]
		}
		x.source = x.source.Weaker(amount.Source(sources[row]))
	}
}

// columns are some of a table's columns.
func columns(t *leaf.Table, names []string) [][]int64 {
	list := make([][]int64, len(names))
	for i, n := range names {
		list[i] = t.Of(n)
	}
	return list
}

// isNewer tells whether a row of a table is newer than what was taken over from another leaf, and notes that it is.
func (g *Gathering) isNewer(of linkKey, at int64) bool {
	if was, there := g.newest[of]; there && was > at {
		return false
	}
	g.newest[of] = at
	return true
}

func (g *Gathering) addDevices(v *leaf.View) {
	t := v.Tables[leaf.Disks]
	flows := columns(t, leaf.DiskFlows)
	ats, names, inner, inFlight, rates := t.Of(
		leaf.At,
	), t.Of(
		"name",
	), t.Of(
		"inner",
	), t.Of(
		"in_flight",
	), t.Of(
		"rate",
	)
	newest := t.Of(leaf.NewestAt)
	for row, number := range t.Of("device") {
		if !v.Within[ats[row]] {
			continue
		}
		k := deviceKey{v.Host, int32(number)}
		d, there := g.disks[k]
		if g.isNewer(linkKey{v.Host, "disk " + fmt.Sprint(number)}, newest[row]) || !there {
			d.Name, d.Major, d.Minor = v.Words[names[row]], uint32(number>>20), uint32(number&(1<<20-1))
			d.Inner, d.InFlight, d.RateBytesPerSecond = inner[row] != 0, inFlight[row], rates[row]
		}
		for i, into := range []*int64{&d.ReadBytes, &d.WrittenBytes, &d.ReadOps, &d.WriteOps, &d.ReadMerged,
			&d.WriteMerged, &d.ReadMillis, &d.WriteMillis, &d.BusyMillis, &d.QueueMillis, &d.DiscardedBytes,
			&d.Discards, &d.DiscardMillis, &d.Flushes, &d.FlushMillis} {
			*into += flows[i][row]
		}
		g.disks[k] = d
	}
	t = v.Tables[leaf.Latencies]
	ats, low, high, count, kinds := t.Of(leaf.At), t.Of("low"), t.Of("high"), t.Of("count"), t.Of("written")
	for row, number := range t.Of("device") {
		if !v.Within[ats[row]] || account.IOKind(kinds[row]) == account.IODiscard { // nobody waits for it
			continue
		}
		k := deviceKey{v.Host, int32(number)}
		if g.latencies[k] == nil {
			g.latencies[k] = map[[2]int64]int64{}
		}
		g.latencies[k][[2]int64{low[row], high[row]}] += count[row]
	}
}

func (g *Gathering) addLinks(v *leaf.View) {
	t := v.Tables[leaf.Links]
	flows := columns(t, leaf.LinkFlows)
	ats, kinds, inner, speeds, newest := t.Of(leaf.At), t.Of("kind"), t.Of("inner"), t.Of("bits_per_second"),
		t.Of(leaf.NewestAt)
	ends, tenants, peers := t.Of("end_workload"), t.Of("end_tenant"), t.Of("peer")
	for row, name := range t.Of("name") {
		if !v.Within[ats[row]] {
			continue
		}
		k := linkKey{v.Host, v.Words[name]}
		n, there := g.links[k]
		if g.isNewer(linkKey{v.Host, "link " + k.name}, newest[row]) || !there {
			n.Name, n.Kind, n.Peer = k.name, v.Words[kinds[row]], v.Words[peers[row]]
			n.Inner, n.SpeedBitPerSecond = inner[row] != 0, speeds[row]
			g.linkEnds[k] = v.MaySee(leaf.User{Workload: ends[row], Tenant: int32(tenants[row])})
		}
		for i, into := range []*int64{&n.Received, &n.Sent, &n.ReceivedPackets, &n.SentPackets, &n.ReceivedDropped,
			&n.SentDropped, &n.ReceivedErrors, &n.SentErrors} {
			*into += flows[i][row]
		}
		g.links[k] = n
	}
}

func (g *Gathering) addSwapped(v *leaf.View) {
	t := v.Tables[leaf.Swapped]
	ats, swaps := t.Of(leaf.At), t.Of("swap")
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := v.User(slot, ats[row])
		if !seen {
			continue
		}
		if g.swapped[user] == nil {
			g.swapped[user] = map[string]*amount.Wide{}
		}
		swap := v.Words[swaps[row]]
		if g.swapped[user][swap] == nil {
			g.swapped[user][swap] = &amount.Wide{}
		}
		g.swapped[user][swap].Plus(t.Wide(t.Schema.Index("units"), row))
	}
}

func (g *Gathering) addCPUs(v *leaf.View) {
	t := v.Tables[leaf.States]
	states := columns(t, leaf.CPUStates)
	ats, ran, uncounted := t.Of(leaf.At), t.Of("ran"), t.Of("uncounted")
	for row, cpu := range t.Of("cpu") {
		if !v.Within[ats[row]] {
			continue
		}
		byCPU := g.cpus[v.Host]
		if byCPU == nil {
			byCPU = map[int]*cpuStates{}
			g.cpus[v.Host] = byCPU
		}
		s := byCPU[int(cpu)]
		if s == nil {
			s = &cpuStates{CPUTimes: account.CPUTimes{CPU: int(cpu)}, counted: true}
			byCPU[int(cpu)] = s
		}
		for i, into := range []*int64{&s.User, &s.Nice, &s.System, &s.Idle, &s.IOWait, &s.IRQ, &s.SoftIRQ, &s.Steal} {
			*into += states[i][row]
		}
		s.ran += ran[row]
		s.counted = s.counted && uncounted[row] == 0
	}
}

// User is whose a figure is.
type User = leaf.User

// Figure is one measure of a workload over a span.
type Figure struct {
	Name   string  `json:"name" doc:"Ends in its unit; us is microseconds."`
	Value  float64 `json:"value" doc:"Over the span: a sum, a level's mean, or the highest."`
	Source string  `json:"source"`
}

// Figures lists the measures without a ledger that were gathered of a workload, whoever it was accounted to. Levels are
// means over the time given, but those that are read at a slower pace over the intervals in which they were known.
func (g *Gathering) Figures(workload int64, elapsedMillis int64) []Figure {
	var f workloadFigures
	for u, x := range g.measures {
		if u.Workload == workload {
			f.join(x)
		}
	}
	return f.list(elapsedMillis)
}

// join adds figures of the same workload under another tenant.
func (f *workloadFigures) join(x *workloadFigures) {
	for m := range x.has.All() {
		source := x.source[m]
		if f.has.Has(m) {
			source = source.Weaker(f.source[m])
		}
		f.has.Put(m)
		f.source[m] = source
		f.over[m] += x.over[m]
		if m.Manner() == amount.Height {
			f.units[m].Raise(x.units[m])
		} else {
			f.units[m].Plus(x.units[m])
		}
	}
}

func (f *workloadFigures) list(elapsedMillis int64) []Figure {
	list := []Figure{}
	for m := range f.has.All() {
		over := elapsedMillis
		if m.Entry().IsSlow {
			over = f.over[m]
		}
		list = append(list, Figure{m.String(), m.Amount(f.units[m].Float(), over), f.source[m].String()})
	}
	return list
}

// Silent names the hosts of which nothing was recorded in the span, sorted.
func (g *Gathering) Silent(hosts []Host) []string {
	names := []string{}
	for _, h := range hosts {
		if g.elapsed[h.ID] == 0 {
			names = append(names, h.Name)
		}
	}
	slices.Sort(names)
	return names
}

// Host is a host that is explained.
type Host struct {
	ID        int32
	Name      string
	CPUs      int
	Inventory *account.Inventory // what it is made of; nil where its collector does not tell
}

// WorkloadRef names a workload.
type WorkloadRef struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// UserRef names a workload that uses something, and whose it was.
type UserRef struct {
	WorkloadRef
	Owner  string `json:"owner"`
	Tenant string `json:"tenant"`
}

// Unassigned is the name under which usage of no tenant is shown.
const Unassigned = "unassigned"

// Whose is the workload and its tenant in words.
func (u *UserRef) Whose() string {
	if u.Tenant == "" || u.Tenant == Unassigned {
		return u.Name + " (unassigned)"
	}
	return u.Name + " of " + u.Tenant
}

// Names puts names to who used something.
type Names func(User) UserRef

// Over is the span that an answer is about, and the name of the host or hosts.
type Over struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Host string    `json:"host"`

	Missed
}

// NothingRecorded is why nothing is known of a span in which no host told anything.
const NothingRecorded = "nothing was recorded in this span"
