package crowd

import (
	"fmt"
	"math/rand/v2"

	"vinescale/core/account"
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
