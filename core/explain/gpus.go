package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

// GPUs tells of the GPUs of hosts over a span.
type GPUs struct {
	Over
	GPUs    []GPULine `json:"gpus" doc:"By host and number; partitions after their card."`
	Silent  []string  `json:"hosts_not_recorded" doc:"Hosts of whose GPUs nothing is known in the span."`
	Notes   []string  `json:"notes" doc:"What cannot be told of whole hosts, and why."`
	Trouble bool      `json:"trouble" doc:"Whether anything is wrong, used without being given, or given and idle."`
}

// GPULine is one GPU, or a partition of one.
type GPULine struct {
	Host   string   `json:"host"`
	Name   string   `json:"name" doc:"What stays the same while it is in the host: its uuid, or its bus address."`
	Index  int32    `json:"index" doc:"The host's own number of it; of a partition, its number on its card."`
	Card   string   `json:"card,omitempty" doc:"Of a partition: the name of its card."`
	Number string   `json:"number" doc:"As it is called in short: 0, or 0.1 for partition 1 of GPU 0."`
	Title  string   `json:"title" doc:"Its model; empty where not told."`
	Bus    string   `json:"bus,omitempty"`
	Nodes  []string `json:"nodes" doc:"The files by which programs open it."`
	Driver string   `json:"driver,omitempty"`
	Told   string   `json:"told_by,omitempty"`

	State string     `json:"state" enum:"busy,idle,lost,unknown" doc:"As its host told last."`
	Why   string     `json:"why,omitempty" doc:"Why it is lost, or its state not known."`
	Since *time.Time `json:"idle_since,omitempty" doc:"Since when it has had no work, as far as it was watched."`

	Busy      *float64 `json:"busy" doc:"Part of the span in which its engine had work; null where not told."`
	NoBusy    string   `json:"busy_unavailable,omitempty"`
	ByClients bool     `json:"by_clients,omitempty" doc:"Only its clients are counted: what they did last is not."`
	Residual  *float64 `json:"busy_of_nobody" doc:"Of busy, what no workload is charged with; it is signed."`

	MemoryBytes *int64   `json:"memory_bytes"`
	MemoryUsed  *float64 `json:"memory_used_bytes_mean"`
	NoMemory    string   `json:"memory_unavailable,omitempty"`

	Holders []GPUHolding `json:"holders" doc:"Whom it is given to, now or in the span."`
	Users   []GPUUse     `json:"users" doc:"Who had work on it, or its memory: most work first."`
	NoUsers string       `json:"users_unavailable,omitempty"`

	Notices []string            `json:"notices" doc:"What to look at: errors, use without a grant, grants without use."`
	Figures []account.GPUFigure `json:"figures,omitempty" doc:"All that it tells; of one GPU alone."`
}

// GPUHolding is a workload that a GPU is given to.
type GPUHolding struct {
	UserRef
	Number  int     `json:"number_inside" doc:"Its number among the workload's GPUs; -1 where not known any more."`
	By      string  `json:"by" doc:"What says so."`
	Claim   bool    `json:"claim,omitempty" doc:"Only its own environment says so."`
	Granted float64 `json:"granted" doc:"Part of the span for which it was the workload's."`
	Parts   bool    `json:"uses_partitions,omitempty" doc:"It uses partitions of it."`
}

// GPUUse is what a workload had of a GPU over a span.
type GPUUse struct {
	UserRef
	Busy    *float64     `json:"busy" doc:"Part of the span in which it worked for the workload; null where not told."`
	Memory  float64      `json:"memory_bytes_mean"`
	Engines []EngineBusy `json:"engines" doc:"Each by itself: engines work beside each other and are never added up."`
	Spread  *GPUSpread   `json:"spread" doc:"How it swung, tick by tick; null where not told."`
	Source  string       `json:"source"`
	Granted float64      `json:"granted" doc:"Part of the span for which it was the workload's."`

	micros, units, granted amount.Wide
	engines                map[string]*amount.Wide
	bands                  [account.GPUBands]int64
	source                 amount.Source
}

// EngineBusy is how busy one engine was.
type EngineBusy struct {
	Engine string  `json:"engine"`
	Busy   float64 `json:"busy" doc:"Part of the span in which it had work for the workload."`
}

// GPUSpread is how the use of a GPU was spread over the time in which it was a workload's, or was used by it.
type GPUSpread struct {
	Mean    float64   `json:"mean"`
	Median  float64   `json:"median" doc:"Half of the time it was busier than this: worked out within a band of 10 %."`
	Above80 float64   `json:"above_80_percent" doc:"Part of the time in which it was busy for more than 80 %."`
	Below5  float64   `json:"below_5_percent" doc:"Part of the time in which it was busy for less than 5 %."`
	Seconds float64   `json:"over_seconds"`
	Bands   []float64 `json:"bands" doc:"Parts of the time: below 5 %, below 10 %, and then for every 10 %."`
}

type gpuKey struct {
	linkKey
	user User
}

// addGPUs adds what GPUs did, and for whom.
func (g *Gathering) addGPUs(v *leaf.View) {
	t := v.Tables[leaf.GPUs]
	ats, newest, cards, indexes, memory := t.Of(leaf.At), t.Of(leaf.NewestAt), t.Of("card"), t.Of("index"),
		t.Of("memory_bytes")
	flows := columns(t, []string{"micros", "told", "units", "units_told", "by_clients"})
	for row, name := range t.Of("gpu") {
		if !v.Within[ats[row]] {
			continue
		}
		k := linkKey{v.Host, v.Words[name]}
		x := g.gpus[k]
		if x == nil {
			x = &account.GPUTotal{Name: k.name}
			g.gpus[k] = x
		}
		if g.isNewer(linkKey{v.Host, "gpu " + k.name}, newest[row]) {
			x.Index, x.Card, x.MemoryTotal = int32(indexes[row]), v.Words[cards[row]], memory[row]
		}
		x.Micros += flows[0][row]
		x.Told += flows[1][row]
		x.Units += flows[2][row]
		x.UnitsTold += flows[3][row]
		if flows[4][row] != 0 {
			x.By = account.BusyByClients
		}
	}
	g.addGPUUses(v)
}

func (g *Gathering) addGPUUses(v *leaf.View) {
	each := func(table string, add func(u *GPUUse, t *leaf.Table, row int)) {
		t := v.Tables[table]
		ats, names := t.Of(leaf.At), t.Of("gpu")
		for row, slot := range t.Of(leaf.Slot) {
			user, seen := v.User(slot, ats[row])
			if !seen {
				continue
			}
			k := gpuKey{linkKey{v.Host, v.Words[names[row]]}, user}
			if g.gpuUses[k] == nil {
				g.gpuUses[k] = &GPUUse{engines: map[string]*amount.Wide{}}
			}
			add(g.gpuUses[k], t, row)
		}
	}
	each(leaf.GPUUses, func(u *GPUUse, t *leaf.Table, row int) {
		u.micros.Plus(t.Wide(t.Schema.Index("micros"), row))
		u.units.Plus(t.Wide(t.Schema.Index("units"), row))
		u.granted.Plus(t.Wide(t.Schema.Index("granted"), row))
		u.source = u.source.Weaker(amount.Source(t.Of("source")[row]))
	})
	each(leaf.GPUEngines, func(u *GPUUse, t *leaf.Table, row int) {
		engine := v.Words[t.Of("engine")[row]]
		if u.engines[engine] == nil {
			u.engines[engine] = &amount.Wide{}
		}
		u.engines[engine].Plus(t.Wide(t.Schema.Index("micros"), row))
	})
	each(leaf.GPUBands, func(u *GPUUse, t *leaf.Table, row int) {
		if band := t.Of("band")[row]; band >= 0 && band < account.GPUBands {
			u.bands[band] += t.Of("millis")[row]
		}
	})
}

// spread works out how use was spread; nil where nothing is known of it.
func (u *GPUUse) spread() *GPUSpread {
	var all int64
	for _, millis := range u.bands {
		all += millis
	}
	if all == 0 || u.source == amount.Unavailable {
		return nil
	}
	s := &GPUSpread{Mean: u.micros.Float() / 1000 / float64(all), Seconds: float64(all) / 1000, Bands: []float64{}}
	before := 0.0
	for band, millis := range u.bands {
		part, from, to := float64(millis)/float64(all), account.BandFrom(band), account.BandFrom(band+1)
		s.Bands = append(s.Bands, part)
		if before < 0.5 && before+part >= 0.5 {
			s.Median = from + (to-from)*(0.5-before)/part
		}
		before += part
		if from >= 0.8 {
			s.Above80 += part
		}
	}
	s.Below5 = s.Bands[0]
	return s
}

// finish says what a workload had of a GPU in parts of so many milliseconds.
func (u *GPUUse) finish(who UserRef, elapsed float64) GPUUse {
	x := *u
	x.UserRef, x.Source, x.Spread, x.Engines = who, u.source.String(), u.spread(), []EngineBusy{}
	if u.source != amount.Unavailable {
		busy := u.micros.Float() / 1000 / elapsed
		x.Busy = &busy
	}
	x.Memory, x.Granted = u.units.Float()/elapsed, u.granted.Float()/elapsed
	for name, micros := range u.engines {
		if busy := micros.Float() / 1000 / elapsed; busy > 0 {
			x.Engines = append(x.Engines, EngineBusy{name, busy})
		}
	}
	slices.SortFunc(x.Engines, func(a, b EngineBusy) int {
		return cmp.Or(cmp.Compare(b.Busy, a.Busy), cmp.Compare(a.Engine, b.Engine))
	})
	return x
}

// HostKey is a workload by the key that its host knows it by.
type HostKey struct {
	Host int32
	Key  string
}

// ExplainGPUs tells of the GPUs of hosts over a span. Users are told by their keys where a host's sheet names them: of
// keys has the workloads that may be seen.
func ExplainGPUs(over Over, g *Gathering, hosts []Host, keys map[HostKey]User, names Names) *GPUs {
	x := &GPUs{Over: over, GPUs: []GPULine{}, Silent: g.Silent(hosts), Notes: []string{}}
	for i := range hosts {
		h := &hosts[i]
		sheets := map[string]*account.GPUSheet{}
		order := []string{}
		if h.Inventory != nil {
			for j := range h.Inventory.GPUs {
				s := &h.Inventory.GPUs[j]
				sheets[s.Name] = s
				order = append(order, s.Name)
			}
			if why := h.Inventory.NoGPUs; why != "" {
				x.Notes = append(x.Notes, h.Name+": "+why)
			}
		}
		for k := range g.gpus { // what was there in the span and is not any more
			if k.host == h.ID && sheets[k.name] == nil {
				order = append(order, k.name)
			}
		}
		for _, name := range order {
			line := gpuLine(h, sheets[name], g.gpus[linkKey{h.ID, name}])
			line.Name = name
			line.tellUse(g, h, sheets[name], keys, names)
			x.GPUs = append(x.GPUs, line)
		}
	}
	x.number()
	granted := map[string]map[int64]bool{} // by host: who was given some GPU, and not by its own word
	for i := range x.GPUs {
		for _, held := range x.GPUs[i].Holders {
			if held.Claim {
				continue
			}
			if granted[x.GPUs[i].Host] == nil {
				granted[x.GPUs[i].Host] = map[int64]bool{}
			}
			granted[x.GPUs[i].Host][held.ID] = true
		}
	}
	x.holdThroughCards()
	for i := range x.GPUs {
		x.GPUs[i].notice(over.To, granted[x.GPUs[i].Host])
		x.Trouble = x.Trouble || len(x.GPUs[i].Notices) > 0
	}
	slices.Sort(x.Notes)
	return x
}

// holdThroughCards says of those who were given a card and use a partition of it that the partition is theirs too.
func (x *GPUs) holdThroughCards() {
	for i := range x.GPUs {
		part := &x.GPUs[i]
		k := slices.IndexFunc(x.GPUs, func(l GPULine) bool {
			return l.Host == part.Host && l.Name == part.Card && part.Card != ""
		})
		if k < 0 {
			continue
		}
		for j := range x.GPUs[k].Holders {
			held := &x.GPUs[k].Holders[j]
			uses := slices.ContainsFunc(part.Users, func(u GPUUse) bool { return u.ID == held.ID })
			if uses && !slices.ContainsFunc(part.Holders, func(h GPUHolding) bool { return h.ID == held.ID }) {
				held.Parts = true
				own := *held
				own.By += ", with its card"
				part.Holders = append(part.Holders, own)
			}
		}
	}
}

// gpuLine is what is told of one GPU, by its sheet and by what it did; one of them may be nil.
func gpuLine(h *Host, s *account.GPUSheet, did *account.GPUTotal) GPULine {
	x := GPULine{Host: h.Name, Nodes: []string{}, Holders: []GPUHolding{}, Users: []GPUUse{}, Notices: []string{},
		State: account.GPUUnknown, Why: "it is not there any more"}
	if s != nil {
		x.Index, x.Card, x.Title, x.Bus, x.Nodes, x.Driver, x.Told = s.Index, s.Card, s.Title, s.Bus, orNone(
			s.Nodes,
		),
			s.Driver, s.Told
		x.State, x.Why, x.Since, x.NoBusy, x.NoMemory, x.NoUsers = s.State, s.Why, s.Since, s.NoBusy, s.NoMemory,
			s.NoUsers
		x.MemoryBytes, x.Figures = s.MemoryBytes, s.Figures
		x.Notices = append(x.Notices, s.Wrong...)
	}
	if did == nil {
		x.NoBusy = cmp.Or(x.NoBusy, NothingRecorded)
		return x
	}
	x.ByClients = did.By == account.BusyByClients
	if s == nil {
		x.Index, x.Card = did.Index, did.Card
	}
	if did.Told > 0 {
		busy := float64(did.Micros) / 1000 / float64(did.Told)
		x.Busy, x.NoBusy = &busy, ""
	} else {
		x.NoBusy = cmp.Or(x.NoBusy, "it did not tell how long it worked")
	}
	if did.UnitsTold > 0 {
		used := float64(did.Units) / float64(did.UnitsTold)
		x.MemoryUsed, x.NoMemory = &used, ""
		if x.MemoryBytes == nil && did.MemoryTotal > 0 {
			x.MemoryBytes = &did.MemoryTotal
		}
	}
	return x
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// tellUse tells who used the GPU, and whom it is given to.
func (x *GPULine) tellUse(g *Gathering, h *Host, s *account.GPUSheet, keys map[HostKey]User, names Names) {
	elapsed := float64(max(g.elapsed[h.ID], 1))
	holds := map[User]int{}
	if s != nil {
		for _, held := range s.Holders {
			u, seen := keys[HostKey{h.ID, held.Key}]
			if !seen {
				continue
			}
			holds[u] = len(x.Holders)
			x.Holders = append(x.Holders, GPUHolding{UserRef: names(u), Number: held.Number, By: held.By,
				Claim: held.Claim})
		}
	}
	var charged float64
	for k, u := range g.gpuUses {
		if k.host != h.ID || k.name != x.Name {
			continue
		}
		use := u.finish(names(k.user), elapsed)
		if use.Busy != nil {
			charged += *use.Busy
		}
		if i, held := holds[k.user]; held {
			x.Holders[i].Granted = use.Granted
		} else if use.Granted > 0 {
			x.Holders = append(x.Holders, GPUHolding{UserRef: use.UserRef, Number: -1, By: "in the span, not any more",
				Granted: use.Granted})
		}
		if u.micros.Float() > 0 || u.units.Float() > 0 || len(use.Engines) > 0 ||
			use.Granted > 0 && use.Spread != nil {
			x.Users = append(x.Users, use)
		}
	}
	if x.Busy != nil && x.Card == "" {
		residual := *x.Busy - charged
		x.Residual = &residual
	}
	slices.SortFunc(x.Users, func(a, b GPUUse) int {
		return cmp.Or(cmp.Compare(b.micros.Float(), a.micros.Float()), cmp.Compare(b.Memory, a.Memory),
			cmp.Compare(a.ID, b.ID))
	})
	slices.SortFunc(x.Holders, func(a, b GPUHolding) int {
		return cmp.Or(cmp.Compare(b.Granted, a.Granted), cmp.Compare(a.ID, b.ID))
	})
}

// number says how each GPU is called in short, and puts them in order.
func (x *GPUs) number() {
	index := map[string]int32{}
	for i := range x.GPUs {
		index[x.GPUs[i].Host+"\x00"+x.GPUs[i].Name] = x.GPUs[i].Index
	}
	of := func(l *GPULine) int32 {
		if card, known := index[l.Host+"\x00"+l.Card]; l.Card != "" && known {
			return card
		}
		return l.Index
	}
	for i := range x.GPUs {
		l := &x.GPUs[i]
		if l.Number = strconv.Itoa(int(l.Index)); l.Card != "" {
			l.Number = fmt.Sprintf("%d.%d", of(l), l.Index)
		}
	}
	slices.SortStableFunc(x.GPUs, func(a, b GPULine) int {
		isPart := func(l *GPULine) int {
			if l.Card != "" {
				return int(l.Index) + 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(of(&a), of(&b)), cmp.Compare(isPart(&a), isPart(&b)),
			cmp.Compare(a.Name, b.Name))
	})
}

// idleLong is from when on a GPU that was given to somebody and has no work is worth a notice.
const idleLong = 10 * time.Minute

// notice says what is to be looked at. On a host where some were given GPUs, who uses one without that is told.
func (x *GPULine) notice(until time.Time, granted map[int64]bool) {
	given := map[int64]bool{}
	holders := []string{}
	for _, h := range x.Holders {
		if !h.Claim {
			given[h.ID] = true
			if h.Number >= 0 {
				holders = append(holders, h.Name)
			}
		}
	}
	if len(holders) > 1 {
		x.Notices = append(x.Notices, fmt.Sprintf("it is given to %d at once: %s", len(holders), listed(holders)))
	}
	if len(holders) > 0 && x.State == account.GPUIdle && x.Since != nil && until.Sub(*x.Since) >= idleLong {
		x.Notices = append(x.Notices, fmt.Sprintf("given to %s and idle for %s", listed(holders),
			Lasted(until.Sub(*x.Since))))
	}
	for _, u := range x.Users {
		if given[u.ID] || u.micros.Float() == 0 && u.units.Float() == 0 || len(granted) == 0 {
			continue
		}
		text := "used by %s, which was given no GPU"
		if granted[u.ID] {
			text = "used by %s, which it was not given to"
		}
		x.Notices = append(x.Notices, fmt.Sprintf(text, u.Name))
	}
}

func listed(names []string) string {
	switch n := len(names); n {
	case 0:
		return "nobody"
	case 1:
		return names[0]
	default:
		return fmt.Sprintf("%s and %d more", names[0], n-1)
	}
}

// Lasted is a length of time for people.
func Lasted(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d min", int(d.Minutes()))
}

// WorkloadGPU is a GPU that a workload was given, or used.
type WorkloadGPU struct {
	Name    string     `json:"name"`
	Number  string     `json:"number" doc:"The host's own number of it."`
	Inside  int        `json:"number_inside" doc:"Its number inside, from 0 on; -1 where it is not given to it."`
	Title   string     `json:"title"`
	By      string     `json:"given_by" doc:"What says that it was given to it; empty where nothing does."`
	Claim   bool       `json:"claim,omitempty" doc:"Only its own environment says so."`
	State   string     `json:"state" enum:"busy,idle,lost,unknown" doc:"Of the GPU, as its host told last."`
	Since   *time.Time `json:"idle_since,omitempty"`
	Use     *GPUUse    `json:"use" doc:"What it had of it over its life; null for nothing."`
	Notices []string   `json:"notices"`
}

// Of lists the GPUs of one workload among those explained, which were asked for over its life.
func (x *GPUs) Of(workload int64) []WorkloadGPU {
	list := []WorkloadGPU{}
	for i := range x.GPUs {
		l := &x.GPUs[i]
		w := WorkloadGPU{Name: l.Name, Number: l.Number, Inside: -1, Title: l.Title, State: l.State, Since: l.Since,
			Notices: l.Notices}
		found := false
		for _, h := range l.Holders {
			if h.ID == workload {
				w.Inside, w.By, w.Claim, found = h.Number, h.By, h.Claim, true
			}
		}
		for j := range l.Users {
			if l.Users[j].ID == workload {
				w.Use, found = &l.Users[j], true
			}
		}
		if found {
			list = append(list, w)
		}
	}
	return list
}

// Find picks a GPU by its number on its host, its uuid or its address; nil for none.
func (x *GPUs) Find(host, name string) *GPULine {
	for i := range x.GPUs {
		l := &x.GPUs[i]
		if l.Host == host && (l.Number == name || l.Name == name || l.Bus == name && l.Card == "") {
			return l
		}
	}
	return nil
}
