package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/whatif"
	"vinescale/internal/store"
)

// FleetQuestion asks about hosts as places for workloads, by what these had in a span.
type FleetQuestion struct {
	Span    question.Span
	Pool    string  // the hosts of this pool; "" for all
	Percent float64 // of the highest ticks, that workloads are taken to need
	Spare   float64 // this part of each host stays free
}

// Emptying tells which hosts could be emptied onto the others.
func (h *Hub) Emptying(ctx context.Context, q *FleetQuestion) (*whatif.Emptying, error) {
	f, err := h.loads(ctx, q)
	if err != nil {
		return nil, err
	}
	return whatif.Empty(f.rooms, q.Percent, q.Spare), nil
}

// Size is the size of a host.
type Size struct {
	CPUs, Memory float64
	GPUs         int
}

// HostsQuestion asks whether all would fit with some hosts taken away, and so many of a size added; a size without
// CPUs is none.
type HostsQuestion struct {
	FleetQuestion
	Without []string
	Size    Size
	Added   int
}

// WhatIfHosts tells where everything would be with hosts taken away or added.
func (h *Hub) WhatIfHosts(ctx context.Context, q *HostsQuestion) (*whatif.Changed, error) {
	size := &q.Size
	f, err := h.loads(ctx, &q.FleetQuestion)
	if err != nil {
		return nil, err
	}
	for _, name := range q.Without {
		if !slices.ContainsFunc(f.rooms, func(r whatif.Room) bool { return r.Host == name }) {
			if _, err := h.Host(ctx, name); err != nil {
				return nil, err
			}
			return nil, problem(Invalid, "%s is not among the hosts that are asked about", name)
		}
	}
	if q.Added < 0 || q.Added > 64 {
		return nil, problem(Invalid, "%d hosts to add: give 0 to 64", q.Added)
	}
	var of *whatif.Room
	if size.CPUs > 0 || size.Memory > 0 {
		if !(size.CPUs > 0 && size.CPUs <= 8192 && size.Memory > 0 && size.Memory <= 1<<46 && size.GPUs >= 0) {
			return nil, problem(
				Invalid,
				"a host of %g CPUs, %g bytes and %d GPUs: give its CPUs and its memory",
				size.CPUs,
				size.Memory,
				size.GPUs,
			)
		}
		of = &whatif.Room{CPUs: size.CPUs, Memory: size.Memory, GPUs: size.GPUs}
	} else if q.Added > 0 {
		return nil, problem(Invalid, "hosts are to be added: of which size? Give their CPUs and their memory")
	}
	return whatif.Change(f.rooms, q.Without, of, q.Added, q.Percent, q.Spare), nil
}

// PlaceQuestion asks where a workload would fit best: one that is there, or one that would need so much.
type PlaceQuestion struct {
	FleetQuestion
	Workload int64 // 0 for one that is not there yet
	Needs    Size  // of one that is not there, or at least of one that is
}

// Place plays a span again with one more workload on each host.
func (h *Hub) Place(ctx context.Context, q *PlaceQuestion) (*whatif.Placing, error) {
	needs := &q.Needs
	if !(needs.CPUs >= 0 && needs.CPUs <= 8192 && needs.Memory >= 0 && needs.Memory <= 1<<46 && needs.GPUs >= 0) {
		return nil, problem(Invalid, "a need of %g cores, %g bytes and %d GPUs: give numbers from 0", needs.CPUs,
			needs.Memory, needs.GPUs)
	}
	if q.Workload == 0 && needs.CPUs == 0 && needs.Memory == 0 && needs.GPUs == 0 {
		return nil, problem(
			Invalid,
			"say what is to be placed: a workload, or the CPUs and the memory that it would need",
		)
	}
	f, err := h.loads(ctx, &q.FleetQuestion)
	if err != nil {
		return nil, err
	}
	c := whatif.Candidate{Name: "It", Least: needs.CPUs, LeastMemory: needs.Memory, GPUs: needs.GPUs}
	if q.Workload != 0 {
		w, err := h.workload(ctx, q.Workload)
		if err != nil {
			return nil, err
		}
		if kind, err := amount.ParseKind(w.Kind); err != nil || !kind.Moves() {
			return nil, problem(
				Invalid,
				"%s is a %s, and belongs to its host: containers, machines and jobs are placed",
				w.Name,
				w.Kind,
			)
		}
		steps, is := f.played[w.ID]
		if !is {
			steps, err = h.playedOf(ctx, &q.FleetQuestion, w.ID)
			if err != nil {
				return nil, err
			}
		}
		c.Name, c.Host = w.Name, w.Host.Name
		c.CPU, c.Memory = highest(steps[amount.CPU]), highest(steps[amount.Memory])
		c.Rate = highest(steps[amount.Disk])
		space, err := h.filesOf(ctx, question.Scope{Span: q.Span, Sees: h.sees(ctx), Only: []int64{w.ID}})
		if err != nil {
			return nil, err
		}
		c.Space = space[w.ID]
		if len(c.CPU) == 0 && needs.CPUs == 0 {
			return nil, problem(
				NotFound,
				"nothing was recorded of %s in this span: choose another, or say what it needs",
				w.Name,
			)
		}
		c.Least = max(c.Least, float64(f.alone[w.ID]))
		core := w.Core()
		if set, err := cpuset.Parse(explain.HeldBy(&core, w.Host.CPUs).GPUs); err == nil {
			c.GPUs = max(c.GPUs, set.Len())
		}
	}
	return whatif.Place(&c, f.sites(q.Workload), q.Percent, q.Spare), nil
}

// playedOf is what one workload had in each step, which may have ended meanwhile.
func (h *Hub) playedOf(ctx context.Context, q *FleetQuestion, id int64) (map[amount.Resource][]whatif.Step, error) {
	scope := question.Scope{Span: q.Span, Sees: h.sees(ctx), Only: []int64{id}}
	played, err := h.played(ctx, &scope, fleetStepOf(q.Span), loading...)
	return played[id], err
}

// fleetStepOf is how long the steps are that hosts are judged by as places for workloads: as sizes are, but by the day
// from the second week on, since all that is on all of them is looked at.
func fleetStepOf(span question.Span) time.Duration {
	if span.Length() > 8*24*time.Hour {
		return 24 * time.Hour
	}
	return sizeStepOf(span)
}

// loading is what a host has to have room for at any time.
var loading = []amount.Measure{amount.CPU, amount.Memory, amount.Disk}

// filesOf is how much space the files of workloads take, in bytes: the mean of the last hour of a span.
func (h *Hub) filesOf(ctx context.Context, scope question.Scope) (map[int64]float64, error) {
	if from := scope.Span.To.Add(-time.Hour); from.After(scope.Span.From) {
		scope.Span.From = from
	}
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.SpaceUsed},
		By: []question.Dimension{question.Workload}, State: true, NoPeaks: true})
	if err != nil {
		return nil, err
	}
	files := map[int64]float64{}
	for i := range answer.Rows {
		r := &answer.Rows[i]
		if r.State != nil && r.State.ElapsedMillis > 0 && r.Sums[0].Known() {
			files[r.Workload] = amount.SpaceUsed.Mean(r.Sums[0].Units, r.State.ElapsedMillis)
		}
	}
	return files, nil
}

// highest is the highest tick of each step.
func highest(steps []whatif.Step) map[time.Time]float64 {
	at := map[time.Time]float64{}
	for _, s := range steps {
		at[s.Start] += max(s.Peak, s.Mean)
	}
	return at
}

// fleetLoads is hosts with the workloads that are on them at the end of a span, and what these had.
type fleetLoads struct {
	rooms  []whatif.Room
	played map[int64]map[amount.Resource][]whatif.Step
	alone  map[int64]int
}

// sites are the hosts as places for a workload, which is taken off them where it is there.
func (f *fleetLoads) sites(without int64) (sites []whatif.Site) {
	for i := range f.rooms {
		r := &f.rooms[i]
		s := whatif.Site{Host: r.Host, CPUs: r.CPUs, Memory: r.Memory, GPUs: r.GPUs, OwnCPU: r.OwnCPU,
			OwnMemory: r.OwnMemory, CPU: map[time.Time]float64{}, Taken: map[time.Time]float64{}, Drives: r.Drives,
			Rate: map[time.Time]float64{}}
		for k := range r.Loads {
			l := &r.Loads[k]
			if l.ID == without {
				continue
			}
			s.GPUs -= l.GPUs
			steps := highest(f.played[l.ID][amount.CPU])
			alone := float64(f.alone[l.ID])
			s.OwnCPU += alone
			for at, v := range steps {
				s.CPU[at] += max(v-alone, 0)
			}
			for at, v := range highest(f.played[l.ID][amount.Memory]) {
				s.Taken[at] += v
			}
			for at, v := range highest(f.played[l.ID][amount.Disk]) {
				s.Rate[at] += v
			}
		}
		sites = append(sites, s)
	}
	return sites
}

// loads gathers hosts and what is on them.
func (h *Hub) loads(ctx context.Context, q *FleetQuestion) (*fleetLoads, error) {
	if !(q.Percent >= 50 && q.Percent <= 100) {
		return nil, problem(Invalid, "a percentile of %g: give 50 to 100", q.Percent)
	}
	if err := soundSpare(q.Spare); err != nil {
		return nil, err
	}
	span := q.Span
	scope, err := h.scope(ctx, span, "")
	if err == nil && q.Pool != "" {
		err = h.within(ctx, &scope, q.Pool)
	}
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return !scope.HasHost(x.ID) || x.CPUs == 0 })
	f := &fleetLoads{}
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: loading, Step: fleetStepOf(span),
		State: true, By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, err
	}
	holdings, _, err := h.stillThere(ctx, answer.Rows) // who has ended takes no room
	if err != nil {
		return nil, err
	}
	there := scope
	there.Only = []int64{}
	for i := range holdings {
		there.Only = append(there.Only, holdings[i].User.Workload)
	}
	names, err := h.namesOf(ctx, usersOf(holdings))
	if err != nil {
		return nil, err
	}
	f.played = playedIn(answer.Rows, loading)
	shares, lines, err := h.store.AskWithLines(ctx, question.Question{Scope: scope, NoPeaks: true,
		Measures: loading, By: []question.Dimension{question.Host}})
	if err != nil {
		return nil, err
	}
	files, err := h.filesOf(ctx, there)
	if err != nil {
		return nil, err
	}
	if f.alone, err = h.aloneBy(ctx, holdings); err != nil {
		return nil, err
	}
	inventories, err := h.store.Inventories(ctx, scope.Hosts)
	if err != nil {
		return nil, err
	}
	for i := range hosts {
		x := &hosts[i]
		room := whatif.Room{Host: x.Name, CPUs: float64(x.CPUs), Memory: float64(x.MemoryBytes),
			GPUs: gpusIn(inventories[x.ID])}
		if s, is := lines.ByHost[x.ID]; is && s.ElapsedMillis > 0 {
			own := ownOf(&s, sharesOn(shares, x.ID))
			room.OwnCPU, room.OwnMemory = own[0], own[1]
			if of := &s.Of[2]; of.Capacity.OK() {
				room.Drives.Rate = amount.Disk.Mean(of.Capacity.Units, s.ElapsedMillis)
				room.Drives.Own = own[2]
			}
		}
		room.Drives.Size, room.Drives.Free = mostFree(inventories[x.ID])
		for k := range holdings {
			if holdings[k].Host == x.Name {
				id := holdings[k].User.Workload
				l := loadOf(&holdings[k], names, f.played[id], q.Percent, f.alone[id])
				l.Space = files[id]
				room.Loads = append(room.Loads, l)
			}
		}
		f.rooms = append(f.rooms, room)
	}
	return f, nil
}

// sharesOn is the row of a host; nil where no workload had anything there.
func sharesOn(a *question.Answer, host int32) *question.Row {
	i := slices.IndexFunc(a.Rows, func(r question.Row) bool { return r.Host == host })
	if i < 0 {
		return nil
	}
	return &a.Rows[i]
}

// ownOf is what a host has of what it is judged by that moves with no workload, in each measure's mean unit: its
// kernel's, and what was used and is nobody's share.
func ownOf(s *question.Stretch, shares *question.Row) (own [3]float64) {
	for k, m := range loading {
		of := &s.Of[k]
		units := of.Kernel.Units
		if of.Used.OK() {
			rest := of.Used.Units - of.Steal.Units
			if shares != nil {
				rest -= shares.Sums[k].Units
			}
			units = max(units, rest)
		}
		own[k] = m.Mean(units, s.ElapsedMillis)
	}
	return own
}

func soundSpare(spare float64) error {
	if !(spare >= 0 && spare <= 0.9) {
		return problem(Invalid, "%g of each host to stay free: give a part from 0 to 0.9", spare)
	}
	return nil
}

// loadOf is what a workload needs.
func loadOf(x *explain.Holding, names explain.Names, steps map[amount.Resource][]whatif.Step, percent float64,
	alone int) whatif.Load {
	who := names(x.User)
	l := whatif.Load{ID: who.ID, Name: who.Name, Tenant: who.Tenant, IsBound: !x.Kind.Moves()}
	peaks := func(r amount.Resource) (list []float64) {
		for _, s := range steps[r] {
			list = append(list, max(s.Peak, s.Mean))
		}
		return list
	}
	l.CPU = max(whatif.Percentile(peaks(amount.CPU), percent), float64(alone))
	l.Memory = whatif.Percentile(peaks(amount.Memory), percent)
	l.Rate = whatif.Percentile(peaks(amount.Disk), percent)
	if set, err := cpuset.Parse(x.Held.GPUs); err == nil {
		l.GPUs = set.Len()
	}
	return l
}

// aloneBy is how many CPUs are declared for workloads alone. Of several workloads of one holder on a host the first has
// them.
func (h *Hub) aloneBy(ctx context.Context, holdings []explain.Holding) (map[int64]int, error) {
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(holdings))
	for i := range holdings {
		ids[i] = holdings[i].User.Workload
	}
	stored, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	now := h.options.Now()
	alone := map[int64]int{}
	for i := range pins {
		p := &pins[i]
		if !p.Exclusive || p.Ends(now) || p.From.After(now) {
			continue
		}
		holds, err := h.holds(ctx, p, stored)
		if err != nil {
			return nil, err
		}
		for k := range holdings {
			if holdings[k].Host == p.Host.Name && holds(holdings[k].User) {
				alone[holdings[k].User.Workload] += declaredCPUs(p.CPUs).Len()
				break
			}
		}
	}
	return alone, nil
}

// mostFree is the filesystem of a host with most free, in bytes; 0 where none is known.
func mostFree(inv *account.Inventory) (size, free float64) {
	if inv == nil {
		return 0, 0
	}
	for i := range inv.Filesystems {
		if f := &inv.Filesystems[i]; f.Unavailable == "" && float64(f.FreeBytes) >= free && f.SizeBytes > 0 {
			size, free = float64(f.SizeBytes), float64(f.FreeBytes)
		}
	}
	return size, free
}

// gpusIn is how many GPUs a host has that answer. A partition is of a GPU that counts.
func gpusIn(inv *account.Inventory) (n int) {
	if inv == nil {
		return 0
	}
	for i := range inv.GPUs {
		if g := &inv.GPUs[i]; g.Card == "" && g.State != account.GPULost {
			n++
		}
	}
	return n
}
