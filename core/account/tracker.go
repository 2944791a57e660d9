package account

import (
	"cmp"
	"errors"
	"slices"
	"time"

	"vinescale/core/amount"
)

// Why a reading yields no interval. None of them is a fault: usage is always between two readings of one series.
var (
	ErrFirstReading = errors.New("first reading: usage is known from the next one on")
	ErrNewBoot      = errors.New("the host started anew since the last reading: its counters began again")
	ErrNoTime       = errors.New("the monotonic clock has not moved on since the last reading")
)

// Tracker holds the last reading and differences the next one against it. The zero value is ready.
type Tracker struct {
	prev    *Reading
	scratch scratch
	dirty   dirty
}

// Step gives the Tracker the next reading and returns the interval since the one before.
//
// The Tracker keeps r until the Step after next returns; the caller must not change it meanwhile, and may reuse the
// reading before it. A counter that went back yields nothing for that counter and begins a new series.
func (t *Tracker) Step(r *Reading) (*Interval, error) {
	prev := t.prev
	t.prev = r
	if !slices.IsSortedFunc(r.Processes, byPID) {
		slices.SortFunc(r.Processes, byPID)
	}
	switch {
	case prev == nil:
		return nil, ErrFirstReading
	case prev.Boot != r.Boot:
		return nil, ErrNewBoot
	case millis(r.Mono) <= millis(prev.Mono):
		return nil, ErrNoTime
	}
	iv := &Interval{
		Boot: r.Boot,
		From: r.Wall.Add(prev.Mono - r.Mono), // by the monotonic clock: a step of the wall clock stretches nothing
		To:   r.Wall, ElapsedMillis: millis(r.Mono) - millis(prev.Mono),
		Ticks: 1, CPUCount: len(r.CPUs),
	}
	t.scratch.reset(prev, r)
	t.scratch.groups(iv)
	t.scratch.processes()
	t.scratch.threads()
	t.scratch.namespaces()
	t.scratch.standings()
	t.scratch.gpus()
	t.scratch.devices(&t.dirty)
	iv.chargedFile += t.scratch.shared
	t.scratch.emit(iv)
	iv.balance(prev, r, &t.scratch)
	return iv, nil
}

// ProcessUse is what one process used between the last two readings.
type ProcessUse struct {
	Process
	Micros int64 // CPU
	Bytes  int64 // moved to and from storage; -1 when not known
}

// Running lists the processes of workloads at the last reading with what each used since the one before, and how long
// that was. It is empty before the second reading.
func (t *Tracker) Running() (processes []ProcessUse, over time.Duration) {
	prev, now := t.scratch.prev, t.scratch.now
	if now == nil || now != t.prev {
		return nil, 0
	}
	j := 0
	for i := range now.Processes {
		p := now.Processes[i]
		for j < len(prev.Processes) && byPID(prev.Processes[j], p) < 0 {
			j++
		}
		if p.Workload == Unrecognised || p.Ended {
			continue
		}
		u := ProcessUse{Process: p, Bytes: -1}
		if j < len(prev.Processes) && prev.Processes[j].PID == p.PID && prev.Processes[j].Start == p.Start {
			u.Micros = grown(prev.Processes[j].CPUMicros, p.CPUMicros)
			if was := prev.Processes[j].DiskBytes; was >= 0 && p.DiskBytes >= 0 {
				u.Bytes = grown(was, p.DiskBytes)
			}
		} else if p.StartUptime() >= prev.Uptime-20*time.Millisecond {
			u.Micros = p.CPUMicros
		}
		processes = append(processes, u)
	}
	return processes, now.Mono - prev.Mono
}

func byPID(a, b Process) int {
	if a.PID != b.PID {
		return int(a.PID) - int(b.PID)
	}
	return cmp.Compare(a.Start, b.Start)
}

func millis(d time.Duration) int64 { return int64(d / time.Millisecond) }

// grown is how far a counter went between two readings of one series; a counter that went back began a new series.
func grown(prev, now int64) int64 {
	if now < prev {
		return 0
	}
	return now - prev
}

// tally gathers what one workload used in one interval, before it is turned into a Usage.
type tally struct {
	live    bool
	counted Has // measures that a group of this workload counts
	units   [amount.NumResources]int64
	has     [amount.NumResources]bool
	source  [amount.NumResources]amount.Source
	threads int32
	procs   int32
	perCPU  []int64

	runnable int32
	figures  Figures
	devices  []DeviceIO // by the order of Reading.Disks
	read     int64      // bytes its processes read from storage, and dirtied
	dirtied  int64
	swapped  []SwapUse
	gpus     []GPUUse
	unsized  bool // a client of its does not tell how much of a GPU's memory it has
}

// programTally is what processes of one program in one workload used.
type programTally struct {
	workload WorkloadID
	family   int32
	program  int32
	count    int32
	units    [amount.NumResources]int64
}

// scratch is the working memory of Step, kept between steps so that a steady host costs no allocation per process.
type scratch struct {
	prev, now *Reading
	elapsed   int64
	tallies   []tally               // by WorkloadID
	programs  buckets[programTally] // one a process
	prevGroup map[uint64]int
	prevSpace map[uint64]int
	lastCPU   buckets[lastCPU]
	parts     buckets[partTally] // one a thread told apart
	kernelCPU int64              // microseconds of kernel threads
	kernelIO  int64
	shared    int64         // byte-milliseconds of shared memory that processes outside groups are charged with
	carried   map[int]carry // by CPU
	hiddenIO  int           // kernel threads whose storage counters may not be read
	gpu       gpuSums
}

// lastCPU is a thread's time in the interval, put down to the CPU it last ran on.
type lastCPU struct {
	workload WorkloadID
	cpu      int32
	micros   int64
}

// partTally is what one thread used.
type partTally struct {
	workload WorkloadID
	part     int32
	micros   int64
}

func (s *scratch) reset(prev, now *Reading) {
	s.prev, s.now = prev, now
	s.elapsed = millis(now.Mono) - millis(prev.Mono)
	for i := range s.tallies {
		per, devices := s.tallies[i].perCPU, s.tallies[i].devices
		clear(per)
		s.tallies[i] = tally{perCPU: per, devices: devices[:0]}
	}
	if s.prevGroup == nil {
		s.prevGroup = map[uint64]int{}
		s.prevSpace = map[uint64]int{}
	}
	clear(s.prevGroup)
	clear(s.prevSpace)
	s.programs.reset()
	s.lastCPU.reset()
	s.parts.reset()
	s.kernelCPU, s.kernelIO, s.shared, s.hiddenIO = 0, 0, 0, 0
}

func (s *scratch) tally(w WorkloadID) *tally {
	for int(w) >= len(s.tallies) {
		s.tallies = append(s.tallies, tally{})
	}
	return &s.tallies[w]
}

// groups charges each workload with its groups' own counts: the counter's growth less that of the workloads inside it.
func (s *scratch) groups(iv *Interval) {
	for i := range s.prev.Groups {
		s.prevGroup[s.prev.Groups[i].ID] = i
	}
	for i := range s.now.Groups {
		g := &s.now.Groups[i]
		// A group made since the previous reading counted from nothing, within the interval: before stays zero.
		var before Group
		if j, ok := s.prevGroup[g.ID]; ok {
			before = s.prev.Groups[j]
			g.Has &= before.Has | HasMemory
		} else if !g.Born {
			// There before but not read as this workload's: its first reading. It has no usage yet, and what its
			// processes used stays with the group around it, which counted them.
			s.tally(g.Workload).counted |= g.Has &^ HasMemory
			g.Has &= HasMemory
		}
		d := Group{
			Workload: g.Workload, Outer: g.Outer, Has: g.Has, Added: g.Added,
			CPUMicros:    grown(before.CPUMicros, g.CPUMicros),
			DiskBytes:    grown(before.DiskBytes, g.DiskBytes),
			NetworkBytes: grown(before.NetworkBytes, g.NetworkBytes),
			MemoryBytes:  g.MemoryBytes * s.elapsed,
			Figures:      g.Figures.grownSince(&before.Figures, g.Born && before.ID == 0, s.elapsed),
		}
		if g.Has&HasMemory != 0 {
			d.Figures.gather(amount.MemoryHigh, g.MemoryBytes, amount.Counted)
		}
		s.deviceGrowth(&d, g, &before)
		iv.chargedFile += g.FileBytes * s.elapsed
		iv.chargedKernel += g.KernelBytes * s.elapsed
		s.tally(g.Workload).count(d, +1)
		s.countPerCPU(g.Workload, g, before.PerCPU, +1)
		s.takeFromOuter(iv, g, d, before.PerCPU)
	}
}

// takeFromOuter takes what a group counted off the nearest enclosing group that counts the same, measure by measure.
func (s *scratch) takeFromOuter(iv *Interval, g *Group, d Group, before []int64) {
	for o := g.Outer; o >= 0 && d.Has != 0; o = s.now.Groups[o].Outer {
		outer := &s.now.Groups[o]
		both := d.Has & outer.Has
		part := d
		part.Has = both
		part.Figures.Set.Keep(&outer.Figures.Set)
		s.tally(outer.Workload).count(part, -1)
		if both&HasPerCPU != 0 {
			s.countPerCPU(outer.Workload, g, before, -1)
		}
		if both&HasMemory != 0 {
			iv.chargedFile -= g.FileBytes * s.elapsed
			iv.chargedKernel -= g.KernelBytes * s.elapsed
		}
		d.Has &^= both
	}
}

func (t *tally) count(d Group, sign int64) {
	t.live = true
	add := func(bit Has, r amount.Resource, units int64) {
		if d.Has&bit == 0 {
			return
		}
		t.units[r] += sign * units
		if sign > 0 {
			t.counted |= bit
			t.has[r], t.source[r] = true, amount.Counted
			if d.Added&bit != 0 {
				t.source[r] = amount.Summed
			}
		}
	}
	add(HasCPU, amount.CPU, d.CPUMicros)
	add(HasMemory, amount.Memory, d.MemoryBytes)
	add(HasDisk, amount.Disk, d.DiskBytes)
	add(HasNetwork, amount.Network, d.NetworkBytes)
	if sign < 0 {
		t.figures.takeOff(&d.Figures)
	} else {
		t.figures.add(&d.Figures)
	}
	if d.Has&HasDisk != 0 {
		for i := range d.Devices {
			t.device(d.Devices[i], sign)
		}
	}
}

func (s *scratch) countPerCPU(w WorkloadID, g *Group, before []int64, sign int64) {
	if g.Has&HasPerCPU == 0 {
		return
	}
	t := s.tally(w)
	t.counted |= HasPerCPU
	if len(t.perCPU) < len(g.PerCPU) {
		t.perCPU = append(t.perCPU, make([]int64, len(g.PerCPU)-len(t.perCPU))...)
	}
	for c, micros := range g.PerCPU {
		was := int64(0)
		if c < len(before) {
			was = before[c]
		}
		t.perCPU[c] += sign * grown(was, micros)
	}
}

// processes adds what each process used to the workloads that no group counts, and to its program within its workload.
func (s *scratch) processes() {
	j := 0
	for i := range s.now.Processes {
		p := &s.now.Processes[i]
		for j < len(s.prev.Processes) && byPID(s.prev.Processes[j], *p) < 0 {
			j++
		}
		var before Process
		same := j < len(s.prev.Processes) && s.prev.Processes[j].PID == p.PID && s.prev.Processes[j].Start == p.Start
		switch {
		case same:
			before = s.prev.Processes[j]
		case p.StartUptime() < s.prev.Uptime-20*time.Millisecond:
			// Older than the previous reading yet not in it: it was not readable then, so what it used since is not
			// known.
			before = *p
		}
		if same && before.Workload != p.Workload && before.Workload != Unrecognised {
			s.leave(p, &before)
		}
		s.charge(p, &before)
	}
}

// leave has a process that came out of a workload whose group counts begin from now on: the group has what it used
// until it left, and when that was nobody tells.
func (s *scratch) leave(p, before *Process) {
	counted := s.tally(before.Workload).counted
	if counted&HasCPU != 0 && !p.Grouped {
		before.CPUMicros, before.UserMicros, before.SystemMicros, before.WaitMicros = p.CPUMicros, p.UserMicros,
			p.SystemMicros, p.WaitMicros
	}
	if counted&HasDisk != 0 && !s.now.SplitsDisk {
		before.DiskBytes, before.ReadBytes = p.DiskBytes, p.ReadBytes
	}
}

func (s *scratch) charge(p, before *Process) {
	cpu := grown(before.CPUMicros, p.CPUMicros)
	disk, read := int64(0), int64(0)
	if p.DiskBytes >= 0 && before.DiskBytes >= 0 {
		disk = grown(before.DiskBytes, p.DiskBytes)
		read = min(grown(before.ReadBytes, p.ReadBytes), disk)
	}
	memory := p.AnonBytes * s.elapsed
	if p.Ended {
		memory = 0
	}
	if p.Kernel {
		s.kernelCPU += cpu
		s.kernelIO += disk
		if p.DiskBytes < 0 {
			s.hiddenIO++
		}
		return
	}
	if p.Workload == Unrecognised {
		return
	}
	t := s.tally(p.Workload)
	t.live = true
	count := int32(0)
	if !p.Ended {
		t.threads += p.Threads
		t.runnable += p.Runnable
		t.procs++
		count = 1
	}
	// What is taken off another workload's group, which counted it, is this one's by its processes; else it is split
	// with the rest.
	taken := p.Inside && s.tally(p.Within).counted&HasDisk != 0
	t = s.tally(p.Workload)
	if !taken {
		t.read += read
		t.dirtied += disk - read
	}
	var given Has // what the other workload's group has counted, and gives up
	if p.Inside {
		given = s.tally(p.Within).giveUp(cpu, memory, disk)
	}
	if !p.Grouped || given&HasCPU != 0 {
		t.sum(HasCPU, amount.CPU, cpu, given)
	}
	t.sum(HasMemory, amount.Memory, memory, given)
	if t.counted&HasMemory == 0 && !p.Ended {
		s.shared += p.SharedBytes * s.elapsed
	}
	if p.DiskBytes >= 0 && (!s.now.SplitsDisk || taken) {
		t.sum(HasDisk, amount.Disk, disk, given)
	}
	s.sumFigures(t, p, before)
	// of more threads each is put down by itself
	if cpu > 0 && !p.Grouped && t.counted&HasPerCPU == 0 && p.Threads <= 1 && p.LastCPU >= 0 {
		s.lastCPU.add(lastCPU{p.Workload, p.LastCPU, cpu})
	}
	s.programs.add(programTally{
		workload: p.Workload, family: p.Family, program: p.Program, count: count,
		units: [amount.NumResources]int64{amount.CPU: cpu, amount.Memory: memory, amount.Disk: disk},
	})
}

// giveUp takes off what a group counted the use of a process that belongs to another workload, recognised inside it. It
// returns of which measures it did.
func (t *tally) giveUp(cpu, memory, disk int64) (given Has) {
	for _, x := range []struct {
		bit   Has
		of    amount.Resource
		units int64
	}{{HasCPU, amount.CPU, cpu}, {HasMemory, amount.Memory, memory}, {HasDisk, amount.Disk, disk}} {
		if t.counted&x.bit != 0 && t.has[x.of] {
			t.units[x.of] -= x.units
			t.source[x.of] = amount.Summed
			given |= x.bit
		}
	}
	return given
}

// threads divides the CPU time of processes whose threads are told apart, and puts it down to CPUs where no group
// counts that.
func (s *scratch) threads() {
	if len(s.now.Threads) == 0 {
		return
	}
	type identity struct {
		tid, part int32
		start     int64
	}
	before := make(map[identity]int64, len(s.prev.Threads))
	for i := range s.prev.Threads {
		t := &s.prev.Threads[i]
		before[identity{t.TID, t.Part, t.Start}] = t.CPUMicros
	}
	for i := range s.now.Threads {
		t := &s.now.Threads[i]
		was, known := before[identity{t.TID, t.Part, t.Start}]
		if !known && time.Duration(t.Start)*10*time.Millisecond < s.prev.Uptime-20*time.Millisecond {
			continue // its first reading
		}
		used := grown(was, t.CPUMicros)
		if used == 0 || t.Workload == Unrecognised {
			continue
		}
		if w := s.tally(t.Workload); t.LastCPU >= 0 && w.counted&HasPerCPU == 0 {
			s.lastCPU.add(lastCPU{t.Workload, t.LastCPU, used})
		}
		if t.Part != NoProgram {
			s.parts.add(partTally{t.Workload, t.Part, used})
		}
	}
}

// sum adds one process's use, unless a group of the same workload counts this measure already and the process is not
// given to it by another's.
func (t *tally) sum(bit Has, r amount.Resource, units int64, given Has) {
	if t.counted&bit != 0 && given&bit == 0 {
		return
	}
	t.units[r] += units
	t.has[r], t.source[r] = true, amount.Summed
}

// namespaces charges a workload with the bytes of the network namespace that is its alone.
func (s *scratch) namespaces() {
	for i := range s.prev.Namespaces {
		s.prevSpace[s.prev.Namespaces[i].ID] = i
	}
	for i := range s.now.Namespaces {
		n := &s.now.Namespaces[i]
		if n.Workload == Unrecognised {
			continue
		}
		var before Namespace
		if k, ok := s.prevSpace[n.ID]; ok {
			before = s.prev.Namespaces[k]
		} else if !n.Born {
			before = *n
		}
		t := s.tally(n.Workload)
		if t.counted&HasNetwork != 0 && t.source[amount.Network] == amount.Counted {
			continue // its sockets are counted, which tells loopback apart too
		}
		if t.has[amount.Network] && t.source[amount.Network] == amount.Summed && t.counted&HasNetwork != 0 {
			// its own interfaces tell more than its open sockets
			t.units[amount.Network], t.counted = 0, t.counted&^HasNetwork
			for _, m := range []amount.Measure{amount.NetworkReceived, amount.NetworkSent} {
				t.figures.Put(m, 0, amount.Counted)
			}
			if n.Local >= 0 {
				t.figures.Put(amount.NetworkLocalReceived, 0, amount.Counted)
				t.figures.Put(amount.NetworkLocalSent, 0, amount.Counted)
			}
		}
		t.live = true
		received, sent := grown(before.Received, n.Received), grown(before.Sent, n.Sent)
		t.units[amount.Network] += received + sent
		t.has[amount.Network], t.source[amount.Network] = true, amount.Counted
		t.figures.gather(amount.NetworkReceived, received, amount.Counted)
		t.figures.gather(amount.NetworkSent, sent, amount.Counted)
		if n.Local >= 0 {
			local := grown(before.Local, n.Local)
			t.figures.gather(amount.NetworkLocalReceived, local, amount.Counted)
			t.figures.gather(amount.NetworkLocalSent, local, amount.Counted)
		}
	}
}
