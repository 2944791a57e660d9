package wire

import (
	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

// Leaf is the interval as the book holds it, on a host by its number. Who has the workload and the tenant of each row
// of the interval's tables. Measures and resources that are not in the register are left out: a newer collector tells
// of them.
func (iv *Interval) Leaf(host int32, who []leaf.User) *leaf.Leaf { return iv.LeafOf(host, who, nil) }

// LeafOf is Leaf with no more than some tables; nil for all.
func (iv *Interval) LeafOf(host int32, who []leaf.User, tables map[string]bool) *leaf.Leaf {
	l := leaf.New(host)
	l.Only(tables)
	iv.putHost(l)
	for slot, u := range who {
		l.Table(leaf.Who).Append(int64(slot), 0, u.Workload, int64(u.Tenant))
	}
	iv.putUses(l)
	iv.putPrograms(l)
	c, ran := iv.GetCpuUse(), l.Table(leaf.Ran)
	for i, w := range c.GetWorkload() {
		ran.Append(int64(w), int64(c.Cpu[i]), 0, c.Micros[i], int64(c.Source[w]))
	}
	p := iv.GetParts()
	for i, w := range p.GetWorkload() {
		l.Table(leaf.Parts).Append(int64(w), l.Word(p.Name[i]), 0, p.Micros[i])
	}
	iv.putFigures(l, who)
	l.Sort()
	return l
}

// putHost puts the host's own figures: the ledgers' lines and what stands beside them.
func (iv *Interval) putHost(l *leaf.Leaf) {
	d, m := iv.GetDetail(), iv.GetFigures()
	row := []int64{0, iv.FromUnixMicros, iv.FromUnixMicros + iv.ElapsedMillis*1000, iv.ElapsedMillis, int64(iv.Cpus),
		m.GetMemoryOwn(), m.GetMemoryCache(), m.GetMemoryHuge(), d.GetSwapTotalBytes(), d.GetSwapUsedBytes(),
		d.GetMemoryAvailableBytes(), int64(len(d.GetLoad()))}
	for i := range 3 {
		load := 0.0
		if i < len(d.GetLoad()) {
			load = d.Load[i]
		}
		row = append(row, leaf.Load(load))
	}
	for _, r := range amount.Resources() {
		ledger := iv.LedgerOf(r)
		for _, name := range leaf.Lines {
			line := ledger.LineOf(name)
			why := line.GetUnavailable()
			if ledger == nil {
				why = account.NotRead
			}
			units := line.GetUnits()
			if why != "" {
				units = 0
			}
			row = append(row, units, l.Word(why))
		}
	}
	l.Table(leaf.Intervals).Append(row...)
	states := l.Table(leaf.States)
	for i, cpu := range d.GetCpu() {
		ran, uncounted := int64(0), int64(1)
		if i < len(m.GetRanMicros()) {
			ran, uncounted = m.RanMicros[i], 0
		}
		states.Append(int64(cpu), 0, d.User[i], d.Nice[i], d.System[i], d.Idle[i], d.Iowait[i], d.Irq[i], d.Softirq[i],
			d.Steal[i], ran, uncounted)
	}
	for i, name := range d.GetCaveat() {
		l.Table(leaf.Caveats).Append(l.Word(name), 0, d.CaveatAmount[i])
	}
	for i, name := range d.GetPressure() {
		l.Table(leaf.Pressure).Append(l.Word(name), 0, d.PressureSomeMicros[i], d.PressureFullMicros[i])
	}
}

// putUses puts what each workload used. What its collector does not tell of is untold.
func (iv *Interval) putUses(l *leaf.Leaf) {
	if !l.Makes(leaf.Uses) {
		return
	}
	w := iv.GetWorkloads()
	var told [amount.NumResources]*Usage
	for r := range told {
		told[r] = iv.UsageOf(amount.Resource(r))
	}
	for i := range w.GetKey() {
		row := []int64{int64(i), 0, int64(w.Threads[i]), int64(w.Processes[i]), 0, 0}
		if len(w.RunnableMillis) > 0 && len(w.RunnablePeak) > 0 {
			row[4], row[5] = w.RunnableMillis[i], int64(w.RunnablePeak[i])
		}
		for _, u := range told {
			switch {
			case u == nil:
				row = append(row, 0, 0, int64(amount.Unavailable), 1)
			case u.Source[i] == uint32(amount.Unavailable): // whatever stands there is no figure
				row = append(row, 0, 0, int64(amount.Unavailable), 0)
			default:
				row = append(row, u.Units[i], u.Peak[i], int64(u.Source[i]), 0)
			}
		}
		l.Table(leaf.Uses).Append(row...)
	}
}

func (iv *Interval) putPrograms(l *leaf.Leaf) {
	if !l.Makes(leaf.Programs) {
		return
	}
	p := iv.GetPrograms()
	var told [amount.NumResources][]int64
	for r := range told {
		told[r] = p.UnitsOf(amount.Resource(r))
	}
	word := func(i int32) int64 { // "" is what no living process explains
		if i < 0 {
			return 0
		}
		return l.Word(p.Names[i])
	}
	for i, w := range p.GetWorkload() {
		family := int64(0)
		if len(p.Family) > 0 {
			family = word(p.Family[i])
		}
		row := []int64{int64(w), word(p.Program[i]), family, 0, int64(p.Processes[i])}
		for _, units := range told {
			if units == nil {
				row = append(row, 0, 0, 1)
			} else {
				row = append(row, units[i], 1, 0)
			}
		}
		l.Table(leaf.Programs).Append(row...)
	}
}

// putFigures puts what was counted beside the ledger.
func (iv *Interval) putFigures(l *leaf.Leaf, who []leaf.User) {
	m := iv.GetFigures()
	for _, c := range m.GetMeasures() {
		x, err := amount.Parse(c.Name)
		if err != nil || x.HasLedger() || !l.Makes(leaf.OfMeasure(x)) {
			continue
		}
		t := l.Table(leaf.OfMeasure(x))
		for i, w := range c.Workload {
			t.Append(int64(w), 0, c.Units[i], int64(c.Source[min(i, len(c.Source)-1)]))
		}
	}
	u := m.GetDeviceUse()
	for i, w := range u.GetWorkload() {
		discarded, discards := int64(0), int64(0)
		if len(u.DiscardedBytes) > 0 && len(u.Discards) > 0 {
			discarded, discards = u.DiscardedBytes[i], u.Discards[i]
		}
		l.Table(leaf.Devices).Append(int64(w), int64(u.Device[i]), 0, u.ReadBytes[i], u.WrittenBytes[i], u.Reads[i],
			u.Writes[i], u.Micros[i], discarded, discards, int64(u.Source[i]))
	}
	for i, w := range m.GetSwapUse().GetWorkload() {
		l.Table(leaf.Swapped).Append(int64(w), l.Word(m.SwapUse.Swap[i]), 0, m.SwapUse.Units[i])
	}
	m.putGPUs(l)
	for _, x := range m.GetSensors() {
		l.Table(leaf.Sensors).Append(l.Word(x.Name), 0, l.Word(x.Kind), x.Milli)
	}
	for _, d := range m.GetDisks() {
		l.Table(leaf.Disks).Append(int64(d.Device), 0, l.Word(d.Name), truth(d.Inner), d.ReadBytes, d.WrittenBytes,
			d.Reads, d.Writes, d.ReadMerged, d.WriteMerged, d.ReadMillis, d.WriteMillis, d.BusyMillis, d.QueueMillis,
			d.DiscardedBytes, d.Discards, d.DiscardMillis, d.Flushes, d.FlushMillis, d.InFlight, d.RateBytesPerSecond)
	}
	for _, x := range m.GetLatencies() {
		kind := truth(x.Written)
		if x.Discarded {
			kind = int64(account.IODiscard)
		}
		l.Table(leaf.Latencies).Append(int64(x.Device), kind, x.LowMicros, x.HighMicros, 0, x.Count)
	}
	for _, n := range m.GetInterfaces() {
		end := leaf.User{}
		if n.Workload != nil {
			end = who[*n.Workload]
		}
		l.Table(leaf.Links).Append(l.Word(n.Name), 0, l.Word(n.Kind), truth(n.Inner), n.ReceivedBytes, n.SentBytes,
			n.ReceivedPackets, n.SentPackets, n.ReceivedDropped, n.SentDropped, n.ReceivedErrors, n.SentErrors,
			n.BitsPerSecond, end.Workload, int64(end.Tenant), l.Word(n.Peer))
	}
	p := m.GetPartPeaks()
	for i, figure := range p.GetFigure() {
		l.Table(leaf.PartPeaks).Append(l.Word(p.Figures[figure]), l.Word(p.Parts[p.Part[i]]), 0, p.Milli[i])
	}
}

// putGPUs puts what GPUs did, and for whom.
func (m *Figures) putGPUs(l *leaf.Leaf) {
	for _, g := range m.GetGpus() {
		l.Table(leaf.GPUs).Append(l.Word(g.Name), 0, int64(g.Index), l.Word(g.Card), g.Micros, g.ToldMillis, g.Units,
			g.UnitsToldMillis, g.MemoryBytes, truth(g.ByClients))
	}
	u := m.GetGpuUse()
	for i, w := range u.GetWorkload() {
		l.Table(leaf.GPUUses).Append(int64(w), l.Word(u.Gpu[i]), 0, u.Micros[i], u.Units[i], u.GrantedMillis[i],
			int64(u.Source[i]))
	}
	for i, row := range u.GetEngineRow() {
		l.Table(leaf.GPUEngines).Append(int64(u.Workload[row]), l.Word(u.Gpu[row]), l.Word(u.Engine[i]), 0,
			u.EngineMicros[i])
	}
	for i, row := range u.GetBandRow() {
		l.Table(leaf.GPUBands).Append(int64(u.Workload[row]), l.Word(u.Gpu[row]), int64(u.Band[i]), 0, u.BandMillis[i])
	}
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// DetailOf is what a leaf tells of one of its intervals beside the ledger, as a collector sends it.
func DetailOf(l *leaf.Leaf, at int64) *Detail {
	in := l.Tables[leaf.Intervals]
	d := &Detail{Load: l.Loads(at), SwapTotalBytes: in.Of("swap_total")[at], SwapUsedBytes: in.Of("swap_used")[at],
		MemoryAvailableBytes: in.Of("memory_available")[at]}
	states := l.Tables[leaf.States]
	into := []*[]int64{&d.User, &d.Nice, &d.System, &d.Idle, &d.Iowait, &d.Irq, &d.Softirq, &d.Steal}
	ats := states.Of(leaf.At)
	for row, cpu := range states.Of("cpu") {
		if ats[row] != at {
			continue
		}
		d.Cpu = append(d.Cpu, uint32(cpu))
		for i, name := range leaf.CPUStates {
			*into[i] = append(*into[i], states.Of(name)[row])
		}
	}
	p := l.Tables[leaf.Pressure]
	ats = p.Of(leaf.At)
	for row, of := range p.Of("of") {
		if ats[row] == at {
			d.Pressure = append(d.Pressure, l.Words[of])
			d.PressureSomeMicros = append(d.PressureSomeMicros, p.Of("some")[row])
			d.PressureFullMicros = append(d.PressureFullMicros, p.Of("full")[row])
		}
	}
	return d
}
