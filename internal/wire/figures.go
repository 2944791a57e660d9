package wire

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

// fromFigures makes the message of what was counted beside the ledger.
func fromFigures(iv *account.Interval) *Figures {
	d := &iv.Detail
	m := &Figures{DeviceUse: &DeviceUse{}, RanMicros: d.RanMicros, MemoryOwn: d.MemoryOwn, MemoryCache: d.MemoryCache,
		MemoryHuge: d.MemoryHuge}
	var have [amount.NumMeasures]int // workloads that have a measure
	for i := range iv.Usages {
		for x := range iv.Usages[i].Figures.Set.All() {
			have[x]++
		}
	}
	for _, x := range amount.Beside() {
		n := have[x]
		if n == 0 {
			continue
		}
		c := &MeasureColumn{Name: x.String(), Workload: make([]uint32, 0, n), Units: make([]int64, 0, n),
			Source: make([]uint32, 0, n)}
		same := true
		for i := range iv.Usages {
			f := &iv.Usages[i].Figures
			units, ok := f.Get(x)
			if !ok {
				continue
			}
			c.Workload = append(c.Workload, uint32(i))
			c.Units = append(c.Units, units)
			c.Source = append(c.Source, uint32(f.Source[x]))
			same = same && c.Source[0] == uint32(f.Source[x])
		}
		if same {
			c.Source = c.Source[:1]
		}
		m.Measures = append(m.Measures, c)
	}
	for i := range iv.Usages {
		for _, u := range iv.Usages[i].Devices {
			t := m.DeviceUse
			t.Workload = append(t.Workload, uint32(i))
			t.Device = append(t.Device, uint32(u.Device))
			t.ReadBytes = append(t.ReadBytes, u.Read)
			t.WrittenBytes = append(t.WrittenBytes, u.Written)
			t.Reads = append(t.Reads, u.ReadOps)
			t.Writes = append(t.Writes, u.WriteOps)
			t.DiscardedBytes = append(t.DiscardedBytes, u.Discarded)
			t.Discards = append(t.Discards, u.Discards)
			t.Micros = append(t.Micros, u.Micros)
			t.Source = append(t.Source, uint32(u.Source))
		}
	}
	for i := range iv.Usages {
		for _, u := range iv.Usages[i].Swapped {
			if m.SwapUse == nil {
				m.SwapUse = &SwapUse{}
			}
			t := m.SwapUse
			t.Workload, t.Swap, t.Units = append(t.Workload, uint32(i)), append(t.Swap, clip(u.Swap, mostText)),
				append(t.Units, u.Units)
		}
	}
	m.addGPUs(iv)
	for _, x := range d.Disks {
		m.Disks = append(m.Disks, &Disk{
			Name: clip(x.Name, mostName), Device: x.Major<<20 | x.Minor, Inner: x.Inner, ReadBytes: x.ReadBytes,
			WrittenBytes: x.WrittenBytes, Reads: x.ReadOps, Writes: x.WriteOps,
			ReadMerged: x.ReadMerged, WriteMerged: x.WriteMerged, ReadMillis: x.ReadMillis, WriteMillis: x.WriteMillis,
			BusyMillis:  x.BusyMillis,
			QueueMillis: x.QueueMillis, InFlight: x.InFlight, RateBytesPerSecond: x.RateBytesPerSecond,
			DiscardedBytes: x.DiscardedBytes, Discards: x.Discards, DiscardMillis: x.DiscardMillis, Flushes: x.Flushes,
			FlushMillis: x.FlushMillis,
		})
	}
	for _, x := range d.Latencies {
		m.Latencies = append(m.Latencies, &Latency{Device: x.Major<<20 | x.Minor, Written: x.Kind == account.IOWrite,
			Discarded: x.Kind == account.IODiscard, LowMicros: x.LowMicros, HighMicros: x.HighMicros, Count: x.Count})
	}
	for _, x := range d.Interfaces {
		n := &Interface{
			Name: clip(x.Name, mostName), Kind: x.Kind, Inner: x.Inner, ReceivedBytes: x.Received,
			SentBytes: x.Sent, ReceivedPackets: x.ReceivedPackets, SentPackets: x.SentPackets,
			ReceivedDropped: x.ReceivedDropped, SentDropped: x.SentDropped, ReceivedErrors: x.ReceivedErrors,
			SentErrors: x.SentErrors, BitsPerSecond: x.SpeedBitPerSecond,
			Peer: clip(x.Peer, mostName),
		}
		if i, there := slices.BinarySearchFunc(iv.Usages, x.Workload,
			func(u account.Usage, w account.WorkloadID) int { return cmp.Compare(u.Workload, w) }); there {
			n.Workload = proto.Uint32(uint32(i))
		}
		m.Interfaces = append(m.Interfaces, n)
	}
	m.addPeaks(d.Peaks)
	return m
}

// addPeaks puts in the highest ticks of parts' figures.
func (m *Figures) addPeaks(peaks []account.PartPeak) {
	if len(peaks) == 0 {
		return
	}
	t := &PartPeaks{}
	m.PartPeaks = t
	figures, parts := map[string]uint32{}, map[string]uint32{}
	place := func(at map[string]uint32, names *[]string, name string) uint32 {
		i, there := at[name]
		if !there {
			i = uint32(len(*names))
			at[name], *names = i, append(*names, clip(name, mostName))
		}
		return i
	}
	for i := range peaks {
		t.Figure = append(t.Figure, place(figures, &t.Figures, peaks[i].Figure))
		t.Part = append(t.Part, place(parts, &t.Parts, peaks[i].Part))
		t.Milli = append(t.Milli, peaks[i].Milli)
	}
}

// addGPUs puts in what GPUs did, and for whom.
func (m *Figures) addGPUs(iv *account.Interval) {
	for _, x := range iv.Detail.GPUs {
		m.Gpus = append(m.Gpus, &Gpu{Name: clip(x.Name, mostName), Index: x.Index, Card: clip(x.Card, mostName),
			Micros: x.Micros, ToldMillis: x.Told, Units: x.Units, UnitsToldMillis: x.UnitsTold,
			MemoryBytes: x.MemoryTotal, ByClients: x.By == account.BusyByClients})
	}
	for i := range iv.Usages {
		for _, u := range iv.Usages[i].GPUs {
			if m.GpuUse == nil {
				m.GpuUse = &GpuUse{}
			}
			t := m.GpuUse
			row := uint32(len(t.Workload))
			t.Workload, t.Gpu = append(t.Workload, uint32(i)), append(t.Gpu, clip(u.GPU, mostName))
			t.Micros, t.Units = append(t.Micros, u.Micros), append(t.Units, u.Units)
			t.GrantedMillis, t.Source = append(t.GrantedMillis, u.Granted), append(t.Source, uint32(u.Source))
			for _, e := range u.Engines {
				t.EngineRow, t.Engine = append(t.EngineRow, row), append(t.Engine, clip(e.Engine, mostName))
				t.EngineMicros = append(t.EngineMicros, e.Micros)
			}
			for band, millis := range u.Bands {
				if millis > 0 {
					t.BandRow, t.Band = append(t.BandRow, row), append(t.Band, uint32(band))
					t.BandMillis = append(t.BandMillis, millis)
				}
			}
		}
	}
}

// AddInventory puts into the message what the host is made of.
func (m *Interval) AddInventory(inv *account.Inventory) error {
	raw, err := json.Marshal(inv)
	if err != nil {
		return fmt.Errorf("encode the inventory: %w", err)
	}
	m.Inventory = &Inventory{Json: string(raw)}
	m.AddSensors(inv.Sensors)
	return nil
}

// AddSensors puts in what sensors told, of those whose values stand by themselves: what a meter of energy has counted
// since it began does not, and whether a case was opened is a state.
func (m *Interval) AddSensors(sensors []account.Sensor) {
	if m.Figures != nil {
		m.Figures.Sensors = nil
	}
	told := map[string]bool{}
	for i := range sensors {
		s := &sensors[i]
		if s.Value == nil || !slices.Contains(leaf.SensorKinds(), s.Kind) {
			continue
		}
		milli := math.Round(*s.Value * leaf.SensorScale)
		if !(math.Abs(milli) <= mostMilli) {
			continue
		}
		base := clip(s.FullName(), mostName/2)
		name := base
		for n := 2; told[name]; n++ { // chips of one kind may not say which they are
			name = fmt.Sprintf("%s %d", base, n)
		}
		told[name] = true
		if m.Figures == nil {
			m.Figures = &Figures{}
		}
		m.Figures.Sensors = append(m.Figures.Sensors, &SensorReading{Name: name, Kind: s.Kind, Milli: int64(milli)})
	}
}

// Read is the inventory a message holds.
func (m *Inventory) Read() (*account.Inventory, error) {
	inv := &account.Inventory{}
	return inv, json.Unmarshal([]byte(m.GetJson()), inv)
}
