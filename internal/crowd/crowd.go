// Package crowd makes up what the collectors of a fleet of any size send, for measuring what a crowded book costs.
//
// It imports core/..., internal/wire, internal/pack and internal/client. Start with Enrol, or with Minute for one host.
package crowd

import (
	"fmt"
	"math/rand/v2"
	"time"

	"vinescale/core/amount"
	"vinescale/internal/wire"
)

// works are what the workloads of a host are, in turn. The rules of the staged cooperative know all but the last.
var works = []struct {
	kind, name, owner string
	uid               int64
}{
	{"container", "intake", "svc-cellar", 801}, {"container", "route", "svc-route", 802},
	{"container", "label", "svc-label", 804}, {"vm", "bottling", "svc-bottle", 803},
	{"job", "frost", "m.abt", 2001}, {"job", "leaf", "svc-vision", 805}, {"session", "notebook", "l.roth", 2003},
	{"service", "probe", "root", 0},
}

// Minute is what the collector of a host of so many workloads sends of a minute: every figure is there, and each is
// another every minute. The workloads are the same every minute.
func Minute(rng *rand.Rand, host string, workloads int, start time.Time, sequence uint64) *wire.Interval {
	const minute = 60_000
	from := start.UnixMicro()
	iv := &wire.Interval{Boot: "b", Sequence: sequence, FromUnixMicros: from, ToUnixMicros: from + minute*1000,
		ElapsedMillis: minute, Ticks: 12, Cpus: 128, Workloads: &wire.Workloads{}, CpuUse: &wire.CpuUse{},
		Programs: &wire.Programs{}, Detail: &wire.Detail{Load: []float64{rng.Float64() * 100, 50, 50}},
		Figures: &wire.Figures{DeviceUse: &wire.DeviceUse{}}, CgroupMode: "v2"}
	about := func(size int64) int64 { return size + rng.Int64N(size) }
	for _, r := range amount.Resources() {
		iv.Ledgers = append(iv.Ledgers, &wire.Ledger{Resource: r.String(), Capacity: &wire.Line{Units: 1 << 61},
			Used: &wire.Line{Units: about(1 << 40)}, Idle: &wire.Line{Units: about(1 << 40)}, Kernel: &wire.Line{},
			Steal: &wire.Line{Unavailable: "the kernel counts steal of CPU time alone"}})
		iv.Usages = append(iv.Usages, &wire.Usage{Resource: r.String()})
		iv.Programs.Columns = append(iv.Programs.Columns, &wire.ProgramUse{Resource: r.String()})
	}
	for _, m := range amount.Beside() {
		if !m.Entry().IsSlow {
			iv.Figures.Measures = append(iv.Figures.Measures,
				&wire.MeasureColumn{Name: m.String(), Source: []uint32{0}})
		}
	}
	w, c, d, p := iv.Workloads, iv.CpuUse, iv.Figures.DeviceUse, iv.Programs
	for i := range uint32(workloads) {
		of := works[int(i)%len(works)]
		name := fmt.Sprintf("%s-%s-%d", of.name, host, i)
		w.Key, w.Kind, w.Name, w.Owner = append(w.Key, of.kind+":"+name), append(w.Kind, of.kind),
			append(w.Name, name), append(w.Owner, of.owner)
		w.Uid, w.Path, w.Allowed, w.Labels = append(w.Uid, of.uid), append(w.Path, "/"+of.kind+"/"+name),
			append(w.Allowed, "0-127"),
			append(w.Labels, &wire.Labels{Values: map[string]string{"coop.project": of.name}})
		w.Threads, w.Processes = append(w.Threads, int32(about(20))), append(w.Processes, int32(about(4)))
		w.RunnableMillis, w.RunnablePeak = append(w.RunnableMillis, about(60_000)),
			append(w.RunnablePeak, int32(about(9)))
		cpu, read, written, received, sent := int64(0), about(1<<22), about(1<<22), about(1<<20), about(1<<20)
		for k := range uint32(5) {
			micros := about(1_000_000)
			cpu += micros
			c.Workload, c.Cpu, c.Micros = append(c.Workload, i), append(c.Cpu, (i*5+k)%128), append(c.Micros, micros)
		}
		c.Source = append(c.Source, 0)
		user := cpu * 4 / 5
		memory := about(1<<30) / 4096 * 4096 * minute
		d.Workload, d.Device, d.Source = append(d.Workload, i), append(d.Device, 8<<20), append(d.Source, 0)
		reads, writes, micros := about(100), about(200), about(1_000_000)
		d.ReadBytes, d.WrittenBytes, d.Reads, d.Writes, d.Micros = append(d.ReadBytes, read),
			append(d.WrittenBytes, written), append(d.Reads, reads), append(d.Writes, writes), append(d.Micros, micros)
		for r, units := range [amount.NumResources]int64{cpu, memory, read + written, received + sent, cpu / 10,
			memory / 8, cpu * 47 / 5} {
			u := iv.Usages[r]
			u.Units, u.Source = append(u.Units, units), append(u.Source, 0)
			peak := units / 60 * 3 / 2
			if amount.Measure(r).IsLevel() {
				peak = units / minute * 9 / 8
			}
			u.Peak = append(u.Peak, peak)
			p.Columns[r].Units = append(p.Columns[r].Units, units/3, units-units/3)
		}
		p.Names = append(p.Names, fmt.Sprintf("must-%d", i%40), fmt.Sprintf("press-%d", i%40))
		p.Workload, p.Program, p.Family = append(p.Workload, i, i), append(p.Program, int32(2*i), int32(2*i+1)),
			append(p.Family, int32(2*i), int32(2*i))
		p.Processes = append(p.Processes, 2, 1)
		for _, m := range iv.Figures.Measures {
			x, _ := amount.Parse(m.Name)
			units, known := map[amount.Measure]int64{amount.CPUUser: user, amount.CPUSystem: cpu - user,
				amount.DiskRead: read, amount.DiskWritten: written, amount.DiskReads: reads, amount.DiskWrites: writes,
				amount.DiskTime: micros, amount.NetworkReceived: received, amount.NetworkSent: sent,
				amount.MemoryOOMKills: 0, amount.CPUPeriods: 600}[x]
			switch {
			case known:
			case x.IsLevel():
				units = about(1<<28) / 4096 * 4096 * minute
			default:
				units = about(10_000)
			}
			m.Workload, m.Units = append(m.Workload, i), append(m.Units, units)
		}
	}
	return iv
}
