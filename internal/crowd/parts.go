package crowd

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"

	"vinescale/core/account"
	"vinescale/core/leaf"
	"vinescale/internal/wire"
)

const (
	drive     = 8 << 20 // its number; the partition on it is the next
	gigabytes = 1 << 30
)

// addParts adds what a host's own devices and interfaces did in an interval: a drive with a partition, the interface
// that leads off the host, and one of every fourth workload.
func addParts(rng *rand.Rand, iv *wire.Interval) error {
	read, written := rng.Int64N(gigabytes), rng.Int64N(gigabytes)
	for i, name := range []string{"sda", "sda1"} {
		iv.Figures.Disks = append(iv.Figures.Disks, &wire.Disk{Name: name, Device: uint32(drive + i), Inner: i > 0,
			ReadBytes: read, WrittenBytes: written, Reads: read >> 15, Writes: written >> 16, ReadMillis: read >> 17,
			WriteMillis: written >> 17, BusyMillis: rng.Int64N(iv.ElapsedMillis), QueueMillis: rng.Int64N(100_000)})
	}
	for bucket := range int64(8) {
		iv.Figures.Latencies = append(iv.Figures.Latencies, &wire.Latency{Device: drive, LowMicros: 64 << bucket,
			HighMicros: 128 << bucket, Count: 1 + rng.Int64N(1000)})
	}
	link := func(name, kind string, inner bool, size int64) *wire.Interface {
		received, sent := rng.Int64N(size), rng.Int64N(size)
		return &wire.Interface{Name: name, Kind: kind, Inner: inner, ReceivedBytes: received, SentBytes: sent,
			ReceivedPackets: received >> 10, SentPackets: sent >> 10}
	}
	uplink := link("ens1", "physical", false, 64*gigabytes)
	uplink.BitsPerSecond = 25e9
	iv.Figures.Interfaces = append(iv.Figures.Interfaces, uplink)
	for i := 0; i < len(iv.Workloads.Key); i += 4 {
		end := link(fmt.Sprintf("veth%d", i), "veth", true, gigabytes)
		workload := uint32(i)
		end.Workload = &workload
		iv.Figures.Interfaces = append(iv.Figures.Interfaces, end)
	}
	if iv.Sequence%10 != 1 {
		return nil
	}
	inventory := account.Inventory{
		Devices: []account.Device{{Name: "sda", Number: drive, Kind: "drive", Controller: "nvme0", Model: "Stave 2000",
			SizeBytes: 2000 * gigabytes}, {Name: "sda1", Number: drive + 1, Kind: "partition", Parents: []string{"sda"},
			SizeBytes: 1900 * gigabytes}},
		Filesystems: []account.Filesystem{{Mount: "/", Type: "ext4", Device: "sda1", SizeBytes: 1900 * gigabytes,
			UsedBytes: 700 * gigabytes, FreeBytes: 1100 * gigabytes}},
	}
	return iv.AddInventory(&inventory)
}

// rarely are figures of parts that are nothing in every tick of most minutes.
var rarely = []string{"drive_discarded_bytes", "drive_flushes", "interface_dropped_packets", "interface_errors",
	"cpu_taken_percent"}

// addEveryPart adds what a host of many parts tells of them beside: seven drives more, the states of each CPU, eight
// GPUs, sixteen sensors, and the highest tick of every figure of each.
func addEveryPart(rng *rand.Rand, iv *wire.Interval) {
	f, d, elapsed := iv.Figures, iv.Detail, iv.ElapsedMillis
	for i := range 7 {
		read, written := rng.Int64N(gigabytes), rng.Int64N(gigabytes)
		f.Disks = append(f.Disks, &wire.Disk{Name: fmt.Sprintf("nvme%dn1", i), Device: uint32(259<<20 + i),
			ReadBytes: read, WrittenBytes: written, Reads: read >> 15, Writes: written >> 16, ReadMillis: read >> 17,
			WriteMillis: written >> 17, BusyMillis: rng.Int64N(elapsed), QueueMillis: rng.Int64N(100_000)})
	}
	for cpu := range iv.Cpus {
		user, system, waited := rng.Int64N(elapsed*600), rng.Int64N(elapsed*200), rng.Int64N(elapsed*100)
		d.Cpu, d.User, d.Nice = append(d.Cpu, cpu), append(d.User, user), append(d.Nice, 0)
		d.System, d.Iowait, d.Irq = append(d.System, system), append(d.Iowait, waited), append(d.Irq, system/20)
		d.Softirq, d.Steal = append(d.Softirq, system/10), append(d.Steal, 0)
		d.Idle = append(d.Idle, elapsed*1000-user-system-waited-system/20-system/10)
	}
	for i := range int32(8) {
		f.Gpus = append(f.Gpus, &wire.Gpu{Name: fmt.Sprintf("0000:%02x:00.0", 0x40+i), Index: i,
			Micros: rng.Int64N(elapsed * 1000), ToldMillis: elapsed, Units: rng.Int64N(80 * gigabytes * elapsed),
			UnitsToldMillis: elapsed, MemoryBytes: 80 * gigabytes})
	}
	for i := range 16 {
		kind := []string{"temperature", "temperature", "fan", "power"}[i%4]
		f.Sensors = append(f.Sensors, &wire.SensorReading{Name: fmt.Sprintf("board/%s%d", kind, i), Kind: kind,
			Milli: 20_000 + rng.Int64N(60_000)})
	}
	f.PartPeaks = peaksOf(rng, iv)
}

// peaksOf are the highest ticks of an interval's parts.
func peaksOf(rng *rand.Rand, iv *wire.Interval) *wire.PartPeaks {
	parts := map[string][]string{}
	for _, x := range iv.Figures.Disks {
		parts[leaf.DrivePart] = append(parts[leaf.DrivePart], x.Name)
	}
	for _, x := range iv.Figures.Interfaces {
		parts[leaf.InterfacePart] = append(parts[leaf.InterfacePart], x.Name)
	}
	for _, x := range iv.Figures.Gpus {
		parts[leaf.GPUPart] = append(parts[leaf.GPUPart], x.Name)
	}
	for _, cpu := range iv.Detail.Cpu {
		parts[leaf.CPUPart] = append(parts[leaf.CPUPart], strconv.Itoa(int(cpu)))
	}
	p, begins := &wire.PartPeaks{}, map[string]uint32{}
	for _, kind := range leaf.PartKinds() {
		begins[kind] = uint32(len(p.Parts))
		p.Parts = append(p.Parts, parts[kind]...)
	}
	for _, figure := range leaf.PartFigures() {
		if len(parts[figure.Of]) == 0 || slices.Contains(rarely, figure.Name) {
			continue
		}
		for i := range parts[figure.Of] {
			p.Figure, p.Part = append(p.Figure, uint32(len(p.Figures))), append(p.Part, begins[figure.Of]+uint32(i))
			p.Milli = append(p.Milli, 1+rng.Int64N(100_000))
		}
		p.Figures = append(p.Figures, figure.Name)
	}
	return p
}
