package wire

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// mostOf is how much of a measure without a ledger a whole host can have had in the interval. Time that threads wait
// for, or that operations take, is added over as many of them as there are.
func (iv *Interval) mostOf(name string) int64 {
	m, err := amount.Parse(name)
	switch {
	case err != nil: // of a newer collector, and not counted here
		return math.MaxInt64
	case m.Manner() == amount.Height:
		return heldBound
	case m.Manner() == amount.Level: // of files' space too, of which there is more than memory
		return iv.mostHeld()
	}
	return iv.mostMoved()
}

// checkFigures holds what was counted beside the ledger to what it can be.
func (iv *Interval) checkFigures(f *faults, workloads int) {
	m := iv.GetFigures()
	if m == nil {
		return
	}
	names := make([]string, len(m.Measures))
	for i, c := range m.Measures {
		names[i] = c.GetName()
		table := "figures." + c.GetName()
		f.rows(table, len(c.GetWorkload()), mostWorkloads, len(c.GetUnits()))
		if len(c.GetSource()) != 1 && len(c.GetSource()) != len(c.GetWorkload()) {
			f.at(table, "has %d sources for %d rows", len(c.GetSource()), len(c.GetWorkload()))
		}
		index(f, table+".workload", c.GetWorkload(), 0, workloads, "a workload")
		numbers(f, table+".units", c.GetUnits(), 0, iv.mostOf(c.GetName()))
		numbers(f, table+".source", c.GetSource(), 0, int64(amount.Unavailable))
	}
	f.once("figures.measures.name", names)
	f.texts("figures.measures.name", names, mostName)
	iv.checkDeviceUse(f, workloads)
	iv.checkDevices(f)
	iv.checkInterfaces(f, workloads)
	s := m.GetSwapUse()
	f.rows("figures.swap_use", len(s.GetWorkload()), mostRows, len(s.GetSwap()), len(s.GetUnits()))
	index(f, "figures.swap_use.workload", s.GetWorkload(), 0, workloads, "a workload")
	f.texts("figures.swap_use.swap", s.GetSwap(), mostText)
	numbers(f, "figures.swap_use.units", s.GetUnits(), 0, iv.mostHeld())
	iv.checkGPUs(f, workloads)
	iv.checkSensors(f)
	p := m.GetPartPeaks()
	f.rows("figures.part_peaks", len(p.GetFigure()), mostRows, len(p.GetPart()), len(p.GetMilli()))
	f.texts("figures.part_peaks.figures", p.GetFigures(), mostName)
	f.texts("figures.part_peaks.parts", p.GetParts(), mostName)
	index(f, "figures.part_peaks.figure", p.GetFigure(), 0, len(p.GetFigures()), "a figure")
	index(f, "figures.part_peaks.part", p.GetPart(), 0, len(p.GetParts()), "a part")
	for i, n := range p.GetMilli() {
		f.number(fmt.Sprintf("figures.part_peaks.milli[%d]", i), n, 0, account.HighestPeak)
	}
	f.rows("figures.ran_micros", len(m.RanMicros), mostCPUs)
	numbers(f, "figures.ran_micros", m.RanMicros, 0, mostOften*iv.ElapsedMillis*1000)
	f.number("figures.memory_own", m.MemoryOwn, 0, iv.mostHeld())
	f.number("figures.memory_cache", m.MemoryCache, 0, iv.mostHeld())
	f.number("figures.memory_huge", m.MemoryHuge, 0, iv.mostHeld())
}

func (iv *Interval) checkDeviceUse(f *faults, workloads int) {
	u := iv.Figures.GetDeviceUse()
	f.rows("figures.device_use", len(u.GetWorkload()), mostRows, len(u.GetDevice()), len(u.GetReadBytes()),
		len(u.GetWrittenBytes()), len(u.GetReads()), len(u.GetWrites()), len(u.GetMicros()), len(u.GetSource()))
	f.optional("figures.device_use", len(u.GetWorkload()), len(u.GetDiscardedBytes()), len(u.GetDiscards()))
	if u == nil {
		return
	}
	index(f, "figures.device_use.workload", u.Workload, 0, workloads, "a workload")
	numbers(f, "figures.device_use.device", u.Device, 0, math.MaxUint32)
	for i, column := range [][]int64{u.ReadBytes, u.WrittenBytes, u.Reads, u.Writes, u.Micros, u.DiscardedBytes,
		u.Discards} {
		name := []string{"read_bytes", "written_bytes", "reads", "writes", "micros", "discarded_bytes", "discards"}[i]
		numbers(f, "figures.device_use."+name, column, 0, iv.mostMoved())
	}
	numbers(f, "figures.device_use.source", u.Source, 0, int64(amount.Unavailable))
}

func (iv *Interval) checkGPUs(f *faults, workloads int) {
	m := iv.Figures
	f.rows("figures.gpus", len(m.Gpus), mostDevices)
	names := make([]string, len(m.Gpus))
	for i, g := range m.Gpus {
		field := fmt.Sprintf("figures.gpus[%d]", i)
		names[i] = g.GetName()
		f.text(field+".name", g.GetName(), mostName)
		f.text(field+".card", g.GetCard(), mostName)
		f.number(field+".index", int64(g.GetIndex()), 0, mostDevices)
		for _, n := range []int64{g.GetMicros(), g.GetToldMillis(), g.GetUnitsToldMillis()} {
			f.number(field, n, 0, iv.mostMoved())
		}
		f.number(field+".units", g.GetUnits(), 0, iv.mostHeld())
		f.number(field+".memory_bytes", g.GetMemoryBytes(), 0, heldBound)
	}
	f.once("figures.gpus.name", names)
	u := m.GetGpuUse()
	if u == nil {
		return
	}
	f.rows("figures.gpu_use", len(u.Workload), mostRows, len(u.Gpu), len(u.Micros), len(u.Units), len(u.GrantedMillis),
		len(u.Source))
	f.rows("figures.gpu_use.engine", len(u.EngineRow), mostRows, len(u.Engine), len(u.EngineMicros))
	f.rows("figures.gpu_use.band", len(u.BandRow), mostRows, len(u.Band), len(u.BandMillis))
	index(f, "figures.gpu_use.workload", u.Workload, 0, workloads, "a workload")
	index(f, "figures.gpu_use.engine_row", u.EngineRow, 0, len(u.Workload), "a row")
	index(f, "figures.gpu_use.band_row", u.BandRow, 0, len(u.Workload), "a row")
	f.texts("figures.gpu_use.gpu", u.Gpu, mostName)
	f.texts("figures.gpu_use.engine", u.Engine, mostName)
	numbers(f, "figures.gpu_use.micros", u.Micros, 0, iv.mostMoved())
	numbers(f, "figures.gpu_use.units", u.Units, 0, iv.mostHeld())
	numbers(f, "figures.gpu_use.granted_millis", u.GrantedMillis, 0, iv.mostMoved())
	numbers(f, "figures.gpu_use.source", u.Source, 0, int64(amount.Unavailable))
	numbers(f, "figures.gpu_use.engine_micros", u.EngineMicros, 0, iv.mostMoved())
	numbers(f, "figures.gpu_use.band", u.Band, 0, account.GPUBands-1)
	numbers(f, "figures.gpu_use.band_millis", u.BandMillis, 0, iv.mostMoved())
}

func (iv *Interval) checkSensors(f *faults) {
	m := iv.Figures
	f.rows("figures.sensors", len(m.Sensors), mostDevices)
	names := make([]string, len(m.Sensors))
	for i, x := range m.Sensors {
		field := fmt.Sprintf("figures.sensors[%d]", i)
		names[i] = x.GetName()
		f.text(field+".name", x.GetName(), mostName)
		f.text(field+".kind", x.GetKind(), mostName)
		f.number(field+".milli", x.GetMilli(), -mostMilli, mostMilli)
	}
	f.once("figures.sensors.name", names)
}

func (iv *Interval) checkDevices(f *faults) {
	m := iv.Figures
	f.rows("figures.disks", len(m.Disks), mostDevices)
	for i, d := range m.Disks {
		field := fmt.Sprintf("figures.disks[%d]", i)
		f.text(field+".name", d.GetName(), mostName)
		for _, n := range []int64{d.GetReadBytes(), d.GetWrittenBytes(), d.GetReads(), d.GetWrites(), d.GetReadMerged(),
			d.GetWriteMerged(), d.GetReadMillis(), d.GetWriteMillis(), d.GetBusyMillis(), d.GetQueueMillis(),
			d.GetInFlight(), d.GetDiscards(), d.GetDiscardMillis(), d.GetFlushes(), d.GetFlushMillis()} {
			f.number(field, n, 0, iv.mostMoved())
		}
		f.number(field+".discarded_bytes", d.GetDiscardedBytes(), 0, iv.mostHeld())
		f.number(field+".rate_bytes_per_second", d.GetRateBytesPerSecond(), 0, rateBound)
	}
	f.rows("figures.latencies", len(m.Latencies), mostDevices)
	for i, l := range m.Latencies {
		field := fmt.Sprintf("figures.latencies[%d]", i)
		f.number(field+".count", l.GetCount(), 0, iv.mostMoved())
		f.number(field+".low_micros", l.GetLowMicros(), 0, math.MaxInt64/2)
		f.number(field+".high_micros", l.GetHighMicros(), l.GetLowMicros()+1, math.MaxInt64/2)
	}
}

func (iv *Interval) checkInterfaces(f *faults, workloads int) {
	list := iv.Figures.Interfaces
	f.rows("figures.interfaces", len(list), mostDevices)
	for i, n := range list {
		field := fmt.Sprintf("figures.interfaces[%d]", i)
		f.text(field+".name", n.GetName(), mostName)
		f.text(field+".kind", n.GetKind(), mostName)
		f.text(field+".peer", n.GetPeer(), mostName)
		for _, x := range []int64{n.GetReceivedBytes(), n.GetSentBytes(), n.GetReceivedPackets(), n.GetSentPackets(),
			n.GetReceivedDropped(), n.GetSentDropped(), n.GetReceivedErrors(), n.GetSentErrors()} {
			f.number(field, x, 0, iv.mostMoved())
		}
		f.number(field+".bits_per_second", n.GetBitsPerSecond(), 0, 8*rateBound)
		if n.GetWorkload() >= uint32(workloads) && n.Workload != nil {
			f.at(field+".workload", "names a workload that is not in the interval")
		}
	}
}

// checkInventory holds what a host is made of to a shape that can be stored and told again, and keeps that shape alone.
func checkInventory(f *faults, inv *Inventory) {
	read, err := inv.Read()
	if err != nil {
		f.at("inventory", "%.200s", err)
		return
	}
	raw, err := json.Marshal(read)
	if err != nil {
		f.at("inventory", "%.200s", err)
		return
	}
	// The database stores no NUL, however it is written. Two backslashes before it are a backslash and digits.
	if strings.Contains(strings.ReplaceAll(string(raw), `\\`, ""), `\u0000`) {
		f.at("inventory", "a name holds a NUL, which cannot be stored")
		return
	}
	inv.Json = string(raw)
}
