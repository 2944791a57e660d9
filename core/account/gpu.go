package account

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// GPU is one GPU, or a partition of one, at a reading.
type GPU struct {
	Name   string // what stays the same while it is in the host: its uuid where it has one, else its bus address
	Index  int32  // the host's own number of it; of a partition, its number on its card
	Card   string // of a partition: the name of the GPU that it is a part of, whose figures hold what it does too
	Source amount.Source
	Own    bool // what is told of it and its clients is counted by the collector, since that began
	// By is how the GPU itself tells how long it worked.
	By         GPUBusy
	BusyMicros int64 // since something; where By is BusyCounter
	BusyPart   int64 // in thousandths, of late; where By is BusyPart
	// Engine is the one whose work counts as the GPU's, where By is not BusyByClients and it is known; "" for the
	// busiest.
	Engine      string
	MemoryTotal int64 // bytes; -1 where it does not tell
	MemoryUsed  int64 // bytes; -1 where it does not tell
}

// GPUBusy is how a GPU itself tells how long it worked.
type GPUBusy uint8

// The ways.
const (
	BusyUntold    GPUBusy = iota // neither it nor its clients tell
	BusyByCounter                // it counts
	BusyByPart                   // it tells which part of the time of late; that stands for the time since a reading
	BusyByClients                // only its clients are counted, so what ended between readings is missing
)

// GPUClient is one user of a GPU: what one or more processes have in common that opened the device once.
type GPUClient struct {
	GPU     int32 // index in Reading.GPUs; never that of a partition's card, where the partition is known
	ID      uint64
	PID     int32 // of the first process that has it; 0 where none of the host's processes is known to have it
	Born    bool  // it was not there at the previous reading, so its counters began from nothing since
	Engines []EngineTime
	Kinds   []string // what a library calls its contexts, such as compute
	Bytes   int64    // of the GPU's memory; -1 where that is not told
}

// EngineTime is how long one engine of a GPU worked for a client, since that began. Of a kind of engine of which a GPU
// has several it is the mean of them.
type EngineTime struct {
	Engine string
	Micros int64
}

// GPUGrant says that a workload was given a GPU.
type GPUGrant struct {
	Workload WorkloadID
	GPU      int32  // index in Reading.GPUs
	Number   int    // its number among the GPUs that the workload was given, from 0 on
	By       string // what says so
	IsClaim  bool   // only the workload's own environment does
}

// GPUUse is what one workload had of one GPU.
type GPUUse struct {
	GPU     string // its name
	Micros  int64  // in which it worked for the workload
	Units   int64  // of its memory, in byte-milliseconds
	Engines []EngineTime
	Granted int64           // milliseconds for which it was the workload's
	Bands   [GPUBands]int64 // milliseconds by how busy it was for the workload: see BandOf
	Source  amount.Source   // of Micros
}

// GPUTotal is what one GPU did.
type GPUTotal struct {
	Name        string
	Index       int32
	Card        string
	Micros      int64 // in which it worked
	Told        int64 // milliseconds for which that was told
	Units       int64 // of memory taken, in byte-milliseconds
	UnitsTold   int64 // milliseconds for which that was told
	MemoryTotal int64 // bytes; 0 where not told
	By          GPUBusy
}

// GPUBands is how many bands of use are told apart: below 5 %, to 10 %, and then every 10 % up to all of the time.
const GPUBands = 11

// BandOf is the band of a GPU that worked for so long of a time.
func BandOf(busyMicros, elapsedMillis int64) int {
	twentieth := max(elapsedMillis, 1) * 50 // microseconds
	if busyMicros < twentieth {
		return 0
	}
	return int(min(1+busyMicros/(2*twentieth), GPUBands-1))
}

// BandFrom is where a band begins, as a part of the time. BandFrom(GPUBands) is where the last one ends.
func BandFrom(band int) float64 {
	switch band {
	case 0:
		return 0
	case 1:
		return 0.05
	}
	return float64(band-1) / 10
}

func (a GPUUse) add(b GPUUse) GPUUse {
	a.Micros += b.Micros
	a.Units += b.Units
	a.Granted += b.Granted
	for i := range a.Bands {
		a.Bands[i] += b.Bands[i]
	}
	a.Engines = joined(a.Engines, b.Engines, func(e *EngineTime) string { return e.Engine },
		func(x, y EngineTime) EngineTime { x.Micros += y.Micros; return x })
	a.Source = a.Source.Weaker(b.Source)
	return a
}

func (a GPUTotal) add(b GPUTotal) GPUTotal {
	b.Micros += a.Micros
	b.Told += a.Told
	b.Units += a.Units
	b.UnitsTold += a.UnitsTold
	return b
}

// NoGPU is why a host has no figures of GPUs.
const NoGPU = "this host has no GPU"

// gpuSums are what the GPUs of a host did over one interval, and for whom.
type gpuSums struct {
	totals         []GPUTotal
	capacity, used int64 // GPU-microseconds, of the cards that tell
	memory, taken  int64 // byte-milliseconds, of the cards that tell
	tellsMemory    bool
	caveats        [NumCaveats]int64
	byName         map[string]*gpuShares
}

// gpuShares are how long one GPU worked, in microseconds: at all, and for each workload.
type gpuShares struct {
	busy   int64
	shares map[WorkloadID]int64
}

// clientGrowth is what one client had of a GPU in an interval.
type clientGrowth struct {
	*GPUClient
	grew []EngineTime
}

// gpus charges workloads with what their clients had of GPUs, and adds up what the GPUs did.
//
// A card counts in the ledger where both readings have it and it, or its clients, tell how long it worked. One that has
// several engines worked as long as the busiest of them did. What is done on a partition is not a part of the time of
// its card, for others work beside it; its memory is the card's.
func (s *scratch) gpus() {
	s.gpu = gpuSums{byName: map[string]*gpuShares{}}
	if len(s.now.GPUs) == 0 {
		return
	}
	grew := s.clientGrowth()
	tellsMemory := map[string]bool{}
	for i := range s.now.GPUs {
		g := &s.now.GPUs[i]
		x := GPUTotal{Name: g.Name, Index: g.Index, Card: g.Card, MemoryTotal: max(g.MemoryTotal, 0), By: g.By}
		engine := leading(g, grew[i])
		if k := slices.IndexFunc(s.prev.GPUs, func(p GPU) bool { return p.Name == g.Name }); k >= 0 {
			x.Micros, x.Told = s.busyOf(g, &s.prev.GPUs[k], grew[i], engine)
		}
		if g.MemoryTotal >= 0 && g.MemoryUsed >= 0 {
			x.Units, x.UnitsTold = g.MemoryUsed*s.elapsed, s.elapsed
			tellsMemory[g.Name] = true
		}
		s.gpu.add(&x, s.elapsed)
		inLedger := x
		if g.Card != "" {
			inLedger.Told = 0
			if !tellsMemory[g.Card] {
				inLedger.UnitsTold = 0
			}
		}
		s.chargeClients(g, grew[i], engine, &x, &inLedger)
	}
	for _, grant := range s.now.GPUGrants {
		if t := s.tally(grant.Workload); t.live && !grant.IsClaim {
			t.gpu(&s.now.GPUs[grant.GPU]).Granted = s.elapsed
		}
	}
	s.closeGPUs()
}

// closeGPUs says of the workloads that used no GPU that they used none, and how busy those were that others had.
func (s *scratch) closeGPUs() {
	for i := range s.tallies {
		t := &s.tallies[i]
		if !t.live {
			continue
		}
		t.noneOf(amount.GPU, s.gpu.capacity > 0, s.now.GPUs[0].Source)
		t.noneOf(amount.GPUMemory, s.gpu.tellsMemory && !t.unsized, s.now.GPUs[0].Source)
		for j := range t.gpus {
			if u := &t.gpus[j]; u.Source != amount.Unavailable {
				u.Bands[BandOf(u.Micros, s.elapsed)] = s.elapsed
			}
		}
	}
}

// noneOf says that a workload that was charged with nothing of a resource had nothing of it, where that is known.
func (t *tally) noneOf(r amount.Resource, known bool, source amount.Source) {
	if known && !t.has[r] {
		t.has[r], t.source[r] = true, source
	}
}

// add puts in what a GPU did.
func (sum *gpuSums) add(x *GPUTotal, elapsed int64) {
	sum.totals = append(sum.totals, *x)
	sum.byName[x.Name] = &gpuShares{busy: x.Micros, shares: map[WorkloadID]int64{}}
	if x.Card != "" {
		return
	}
	switch {
	case x.Told == 0:
		sum.caveats[GPUUntold] += elapsed
	case x.By == BusyByClients:
		sum.caveats[GPUUnchecked] += elapsed
	}
	sum.capacity += x.Told * 1000
	sum.used += x.Micros
	if x.UnitsTold > 0 {
		sum.memory += x.MemoryTotal * elapsed
		sum.taken += x.Units
		sum.tellsMemory = true
	}
}

// clientGrowth returns what each client's engines did since the reading before, by the GPU's index. A client that was
// there then but is not in that reading has its first one now: what it did is not known.
func (s *scratch) clientGrowth() [][]clientGrowth {
	type identity struct {
		gpu string
		id  uint64
	}
	before := make(map[identity]*GPUClient, len(s.prev.GPUClients))
	for i := range s.prev.GPUClients {
		c := &s.prev.GPUClients[i]
		before[identity{s.prev.GPUs[c.GPU].Name, c.ID}] = c
	}
	grew := make([][]clientGrowth, len(s.now.GPUs))
	for i := range s.now.GPUClients {
		c := &s.now.GPUClients[i]
		x := clientGrowth{GPUClient: c}
		was := before[identity{s.now.GPUs[c.GPU].Name, c.ID}]
		for _, e := range c.Engines {
			since := e.Micros
			if was != nil {
				since = 0
				for _, w := range was.Engines {
					if w.Engine == e.Engine {
						since = w.Micros
					}
				}
			} else if c.Born {
				since = 0
			}
			x.grew = append(x.grew, EngineTime{e.Engine, grown(since, e.Micros)})
		}
		grew[c.GPU] = append(grew[c.GPU], x)
	}
	return grew
}

// leading is the engine whose work is the GPU's: the busiest one, where the GPU's own count is not that of a certain
// one. Of several that are as busy it is the first by name.
func leading(g *GPU, clients []clientGrowth) string {
	if g.Engine != "" {
		return g.Engine
	}
	sums := map[string]int64{}
	for _, c := range clients {
		for _, e := range c.grew {
			sums[e.Engine] += e.Micros
		}
	}
	busiest := ""
	for engine, micros := range sums {
		if busiest == "" || micros > sums[busiest] || micros == sums[busiest] && engine < busiest {
			busiest = engine
		}
	}
	return busiest
}

func engineTime(list []EngineTime, engine string) int64 {
	for _, e := range list {
		if e.Engine == engine {
			return e.Micros
		}
	}
	return 0
}

// busyOf is how long a GPU worked, in microseconds, and for how many milliseconds of the interval that is told.
func (s *scratch) busyOf(g, was *GPU, clients []clientGrowth, engine string) (micros, told int64) {
	switch g.By {
	case BusyByCounter:
		if was.By != BusyByCounter {
			return 0, 0
		}
		return grown(was.BusyMicros, g.BusyMicros), s.elapsed
	case BusyByPart:
		return g.BusyPart * s.elapsed, s.elapsed
	case BusyByClients:
		for _, c := range clients {
			micros += engineTime(c.grew, engine)
		}
		return micros, s.elapsed
	}
	return 0, 0
}

// chargeClients charges the workloads of a GPU's clients. What is in the ledger of the host is told apart from what is
// told of the GPU.
func (s *scratch) chargeClients(g *GPU, clients []clientGrowth, engine string, told, inLedger *GPUTotal) {
	for _, c := range clients {
		micros := engineTime(c.grew, engine)
		p := processAt(s.now.Processes, c.PID)
		if p == nil || p.Workload == Unrecognised {
			s.gpu.caveats[GPUUnplaced] += micros
			continue
		}
		t := s.tally(p.Workload)
		if !t.live {
			continue
		}
		u := t.gpu(g)
		u.Engines = joined(u.Engines, c.grew, func(e *EngineTime) string { return e.Engine },
			func(a, b EngineTime) EngineTime { a.Micros += b.Micros; return a })
		part := programTally{workload: p.Workload, family: p.Family, program: p.Program}
		if told.Told > 0 {
			u.Micros, u.Source = u.Micros+micros, g.Source
			if micros > 0 {
				s.gpu.byName[g.Name].shares[p.Workload] += micros
			}
		}
		if inLedger.Told > 0 {
			part.units[amount.GPU] = micros
			t.charge(amount.GPU, micros, g.Source)
		}
		t.unsized = t.unsized || c.Bytes < 0 && inLedger.UnitsTold > 0
		if c.Bytes >= 0 && !p.Ended {
			u.Units += c.Bytes * s.elapsed
			if inLedger.UnitsTold > 0 {
				part.units[amount.GPUMemory] = c.Bytes * s.elapsed
				t.charge(amount.GPUMemory, c.Bytes*s.elapsed, g.Source)
			}
		}
		s.programs.add(part)
	}
}

// charge adds to what a workload had of a resource.
func (t *tally) charge(r amount.Resource, units int64, source amount.Source) {
	if t.has[r] {
		source = source.Weaker(t.source[r])
	}
	t.units[r] += units
	t.has[r], t.source[r] = true, source
}

// gpu is where a workload's use of a GPU is gathered.
func (t *tally) gpu(g *GPU) *GPUUse {
	for i := range t.gpus {
		if t.gpus[i].GPU == g.Name {
			return &t.gpus[i]
		}
	}
	source := g.Source
	if g.By == BusyUntold {
		source = amount.Unavailable
	}
	t.gpus = append(t.gpus, GPUUse{GPU: g.Name, Source: source})
	return &t.gpus[len(t.gpus)-1]
}

// processAt is the newest process of a pid, of processes by pid; nil for none.
func processAt(all []Process, pid int32) *Process {
	if pid <= 0 {
		return nil
	}
	i, _ := slices.BinarySearchFunc(all, pid+1, func(p Process, pid int32) int { return cmp.Compare(p.PID, pid) })
	if i == 0 || all[i-1].PID != pid {
		return nil
	}
	return &all[i-1]
}

// ledgers are those of the time and of the memory of a host's GPUs.
func (sum *gpuSums) ledgers(now *Reading) (time, memory Ledger) {
	if len(now.GPUs) == 0 {
		return NoLedger(NoGPU), NoLedger(NoGPU)
	}
	of := func(capacity, used int64) Ledger {
		return Ledger{Capacity: Line{Units: capacity}, Used: Line{Units: used}, Idle: Line{Units: capacity - used},
			Kernel: unavailable("what a driver does for itself is in the residual"), Steal: unavailable(noSteal)}
	}
	time, memory = of(sum.capacity, sum.used), of(sum.memory, sum.taken)
	if !slices.ContainsFunc(now.GPUs, func(g GPU) bool { return g.Card == "" && (g.By != BusyUntold || g.Own) }) {
		time = NoLedger("the GPUs of this host do not tell how long they work")
	}
	if !slices.ContainsFunc(now.GPUs, func(g GPU) bool { return g.Card == "" && g.MemoryTotal >= 0 }) {
		memory = NoLedger("the GPUs of this host do not tell of their memory")
	}
	return time, memory
}
