package wire

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
)

// fromFigures makes the message of what was counted beside the ledger.
func fromFigures(iv *account.Interval) *Figures {
	d := &iv.Detail
	m := &Figures{DeviceUse: &DeviceUse{}, RanMicros: d.RanMicros, MemoryOwn: d.MemoryOwn, MemoryCache: d.MemoryCache,
		MemoryHuge: d.MemoryHuge}
	for _, x := range amount.Beside() {
		c := &MeasureColumn{Name: x.String()}
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
		if len(c.Workload) == 0 {
			continue
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
	for _, x := range d.Disks {
		m.Disks = append(m.Disks, &Disk{
			Name: clip(x.Name, mostName), Device: x.Major<<20 | x.Minor, Inner: x.Inner, ReadBytes: x.ReadBytes,
			WrittenBytes: x.WrittenBytes, Reads: x.ReadOps, Writes: x.WriteOps,
			ReadMerged: x.ReadMerged, WriteMerged: x.WriteMerged, ReadMillis: x.ReadMillis, WriteMillis: x.WriteMillis,
			BusyMillis:  x.BusyMillis,
			QueueMillis: x.QueueMillis, InFlight: x.InFlight, RateBytesPerSecond: x.RateBytesPerSecond,
		})
	}
	for _, x := range d.Latencies {
		m.Latencies = append(m.Latencies, &Latency{Device: x.Major<<20 | x.Minor, Written: x.Written,
			LowMicros: x.LowMicros, HighMicros: x.HighMicros, Count: x.Count})
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
	return m
}

// AddInventory puts into the message what the host is made of.
func (m *Interval) AddInventory(inv *account.Inventory) error {
	raw, err := json.Marshal(inv)
	if err != nil {
		return fmt.Errorf("encode the inventory: %w", err)
	}
	m.Inventory = &Inventory{Json: string(raw)}
	return nil
}

// Read is the inventory a message holds.
func (m *Inventory) Read() (*account.Inventory, error) {
	inv := &account.Inventory{}
	return inv, json.Unmarshal([]byte(m.GetJson()), inv)
}

// Unpack puts what a message holds, with the detail beside it, into a minute whose workloads are known. Measures that
// are not in the register are left out: a newer collector tells of them.
func (m *Figures) Unpack(d *Detail, into *explain.Minute) {
	for _, c := range m.GetMeasures() {
		x, err := amount.Parse(c.Name)
		if err != nil || len(c.Source) == 0 {
			continue
		}
		into.Columns = append(into.Columns, explain.Column{Measure: x, Rows: c.Workload, Units: c.Units,
			Sources: c.Source})
	}
	u := m.GetDeviceUse()
	for i, w := range u.GetWorkload() {
		into.Devices = append(into.Devices, explain.DeviceRow{Row: w, DeviceUse: account.DeviceUse{
			Device: int32(u.Device[i]), Read: u.ReadBytes[i], Written: u.WrittenBytes[i], ReadOps: u.Reads[i],
			WriteOps: u.Writes[i], Micros: u.Micros[i], Source: amount.Source(u.Source[i]),
		}})
	}
	for i, w := range m.GetSwapUse().GetWorkload() {
		into.Swapped = append(into.Swapped, explain.SwapRow{Row: w,
			SwapUse: account.SwapUse{Swap: m.SwapUse.Swap[i], Units: m.SwapUse.Units[i]}})
	}
	for _, x := range m.GetDisks() {
		into.Detail.Disks = append(into.Detail.Disks, account.Disk{
			Name: x.Name, Major: x.Device >> 20, Minor: x.Device & (1<<20 - 1), Inner: x.Inner,
			ReadBytes: x.ReadBytes, WrittenBytes: x.WrittenBytes, ReadOps: x.Reads, WriteOps: x.Writes,
			ReadMerged: x.ReadMerged, WriteMerged: x.WriteMerged, ReadMillis: x.ReadMillis,
			WriteMillis: x.WriteMillis, BusyMillis: x.BusyMillis, QueueMillis: x.QueueMillis, InFlight: x.InFlight,
			RateBytesPerSecond: x.RateBytesPerSecond,
		})
	}
	for _, x := range m.GetLatencies() {
		into.Detail.Latencies = append(into.Detail.Latencies, account.Latency{Major: x.Device >> 20,
			Minor: x.Device & (1<<20 - 1), Written: x.Written, LowMicros: x.LowMicros, HighMicros: x.HighMicros,
			Count: x.Count})
	}
	for _, x := range m.GetInterfaces() {
		into.Detail.Interfaces = append(into.Detail.Interfaces, account.Interface{
			Name: x.Name, Kind: x.Kind, Inner: x.Inner, Received: x.ReceivedBytes, Sent: x.SentBytes,
			ReceivedPackets: x.ReceivedPackets, SentPackets: x.SentPackets, ReceivedDropped: x.ReceivedDropped,
			SentDropped: x.SentDropped, ReceivedErrors: x.ReceivedErrors, SentErrors: x.SentErrors,
			SpeedBitPerSecond: x.BitsPerSecond, Peer: x.Peer,
		})
		end := int32(-1)
		if x.Workload != nil {
			end = int32(*x.Workload)
		}
		into.Ends = append(into.Ends, end)
	}
	into.Detail.MemoryOwn, into.Detail.MemoryCache, into.Detail.MemoryHuge = m.MemoryOwn, m.MemoryCache, m.MemoryHuge
	into.Detail.RanMicros, into.Detail.Load = m.GetRanMicros(), d.GetLoad()
	for i, cpu := range d.GetCpu() {
		if min(len(d.User), len(d.Nice), len(d.System), len(d.Idle), len(d.Iowait), len(d.Irq), len(d.Softirq),
			len(d.Steal)) <= i {
			break
		}
		into.Detail.CPUs = append(into.Detail.CPUs, account.CPUTimes{CPU: int(cpu), User: d.User[i], Nice: d.Nice[i],
			System: d.System[i], Idle: d.Idle[i], IOWait: d.Iowait[i], IRQ: d.Irq[i], SoftIRQ: d.Softirq[i],
			Steal: d.Steal[i]})
	}
	for i, name := range d.GetPressure() {
		if min(len(d.PressureSomeMicros), len(d.PressureFullMicros)) <= i {
			break
		}
		into.Detail.Pressure = append(into.Detail.Pressure, account.Pressure{Resource: name,
			Some: d.PressureSomeMicros[i], Full: d.PressureFullMicros[i]})
	}
}
