package explain

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Gathering adds up what was counted of workloads, devices and interfaces over a span. Make it with NewGathering, and
// give it the minutes of each host in the order of time.
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
	loads     map[int32]*Load     // of the newest interval
	stalls    map[linkKey]*stalls // by host and resource
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
	read, written, reads, writes, micros int64
	source                               amount.Source
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
		loads: map[int32]*Load{}, stalls: map[linkKey]*stalls{},
	}
}

// Add adds a minute.
func (g *Gathering) Add(m *Minute) {
	g.elapsed[m.Host] += m.ElapsedMillis
	for i := range m.Columns {
		g.addMeasure(m, &m.Columns[i])
	}
	g.addDevices(m)
	g.addLinks(m)
	g.addSwapped(m)
	g.addCPUs(m)
	g.addLoad(m)
	k := g.memory[m.Host]
	if k == nil {
		k = &[3]amount.Wide{}
		g.memory[m.Host] = k
	}
	k[0].Add(m.Detail.MemoryOwn)
	k[1].Add(m.Detail.MemoryCache)
	k[2].Add(m.Detail.MemoryHuge)
}

// Users lists the workloads that any figure is of, under each tenant they had.
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

func (g *Gathering) addMeasure(m *Minute, c *Column) {
	for i, row := range c.Rows {
		user, seen := m.User(row)
		if !seen {
			continue
		}
		f := g.measures[user]
		if f == nil {
			f = &workloadFigures{host: m.Host}
			g.measures[user] = f
		}
		source := c.Source(i)
		if f.has.Has(c.Measure) {
			source = source.Weaker(f.source[c.Measure])
		}
		f.has.Put(c.Measure)
		f.source[c.Measure] = source
		f.over[c.Measure] += m.ElapsedMillis
		var units amount.Wide
		units.Add(c.Units[i])
		if c.Measure.Manner() == amount.Height {
			f.units[c.Measure].Raise(units)
		} else {
			f.units[c.Measure].Plus(units)
		}
	}
}

func (g *Gathering) addDevices(m *Minute) {
	for _, d := range m.Devices {
		user, seen := m.User(d.Row)
		if !seen {
			continue
		}
		k := useKey{deviceKey{m.Host, d.Device}, user}
		x := g.uses[k]
		if x == nil {
			x = &use{}
			g.uses[k] = x
		}
		x.read, x.written, x.reads, x.writes = x.read+d.Read, x.written+d.Written, x.reads+d.ReadOps,
			x.writes+d.WriteOps
		x.micros, x.source = x.micros+d.Micros, x.source.Weaker(d.Source)
	}
	for _, d := range m.Detail.Disks {
		k := deviceKey{m.Host, d.Number()}
		if sum, there := g.disks[k]; there {
			d = sum.Add(d)
		}
		g.disks[k] = d
	}
	for _, l := range m.Detail.Latencies {
		k := deviceKey{m.Host, l.Number()}
		if g.latencies[k] == nil {
			g.latencies[k] = map[[2]int64]int64{}
		}
		g.latencies[k][[2]int64{l.LowMicros, l.HighMicros}] += l.Count
	}
}

func (g *Gathering) addLinks(m *Minute) {
	for i, n := range m.Detail.Interfaces {
		k := linkKey{m.Host, n.Name}
		if sum, there := g.links[k]; there {
			n = sum.Add(n)
		}
		g.links[k], g.linkEnds[k] = n, User{}
		if m.Ends[i] < 0 {
			continue
		}
		if user, seen := m.User(uint32(m.Ends[i])); seen {
			g.linkEnds[k] = user
		}
	}
}

func (g *Gathering) addSwapped(m *Minute) {
	for _, s := range m.Swapped {
		user, seen := m.User(s.Row)
		if !seen {
			continue
		}
		if g.swapped[user] == nil {
			g.swapped[user] = map[string]*amount.Wide{}
		}
		if g.swapped[user][s.Swap] == nil {
			g.swapped[user][s.Swap] = &amount.Wide{}
		}
		g.swapped[user][s.Swap].Add(s.Units)
	}
}

func (g *Gathering) addCPUs(m *Minute) {
	byCPU := g.cpus[m.Host]
	if byCPU == nil {
		byCPU = map[int]*cpuStates{}
		g.cpus[m.Host] = byCPU
	}
	for i, c := range m.Detail.CPUs {
		s := byCPU[c.CPU]
		if s == nil {
			s = &cpuStates{CPUTimes: account.CPUTimes{CPU: c.CPU}, counted: true}
			byCPU[c.CPU] = s
		}
		s.CPUTimes = s.CPUTimes.Add(c)
		if i < len(m.Detail.RanMicros) {
			s.ran += m.Detail.RanMicros[i]
		} else {
			s.counted = false
		}
	}
}

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
}

// NothingRecorded is why nothing is known of a span in which no host told anything.
const NothingRecorded = "nothing was recorded in this span"
