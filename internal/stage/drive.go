package stage

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// drive is one of a host's two drives and what it did so far. Its moved bytes are those of the time being played.
type drive struct {
	moved                                      int64
	bytes                                      int64
	busyMicros, readMicros, writeMicros, queue int64
}

// The drives every staged host has: a fast one for the system, a slow one for data, each with partitions.
var drives = [2]struct {
	name, controller, model string
	major, minor            uint32
	millis                  float64 // an operation takes when nothing else is there
	size                    int64
	rotates                 bool
	parts                   []string // where each partition is mounted; "" for nowhere
}{
	{DiskName, "0000:00:04.0", "Cooper NV 2", 259, 0, 0.2, 960e9, false, []string{"/"}},
	{DataDisk, "0000:00:05.0", "Cooper HD 8", 8, 0, 4, 8e12, true, []string{"/srv", ""}},
}

// DataDisk is the drive that containers and jobs use.
const DataDisk = "sda"

// operation is how many bytes one moves.
const operation = 64 << 10

// split divides bytes into those read and written, as every staged counter does.
func split(bytes int64) (read, written int64) { return bytes / 3, bytes - bytes/3 }

// advance lets a drive that can carry so many bytes a second do what was asked of it: the fuller, the longer each
// takes. It tells how many operations that were, and how long each took in the mean.
func (d *drive) advance(dt time.Duration, rate int64, idleMillis float64) (operations, micros float64) {
	full := min(float64(d.moved)/(float64(rate)*dt.Seconds()), 1)
	d.busyMicros += int64(full * float64(dt.Microseconds()))
	micros = idleMillis * 1000 / (1.15 - full)
	operations = float64(d.moved) / operation
	d.readMicros += int64(operations / 3 * micros)
	d.writeMicros += int64(operations * 2 / 3 * micros)
	d.queue += int64(operations * micros)
	d.bytes += d.moved
	d.moved = 0
	return operations, micros
}

// disks are what /proc/diskstats shows of the drives and their partitions.
func (h *Host) disks() (list []account.Disk) {
	for i, d := range drives {
		x := &h.drives[i]
		read, written := split(x.bytes)
		disk := account.Disk{
			Name: d.name, Major: d.major, Minor: d.minor, ReadBytes: read &^ 511, WrittenBytes: written &^ 511,
			ReadOps: read / operation, WriteOps: written / operation,
			ReadMillis: x.readMicros / 1000, WriteMillis: x.writeMicros / 1000, BusyMillis: x.busyMicros / 1000,
			QueueMillis:        x.queue / 1000,
			RateBytesPerSecond: h.DiskRates()[d.name],
		}
		if !d.rotates { // what was removed is forgotten by and by, and caches are written down
			disk.DiscardedBytes, disk.Discards, disk.DiscardMillis = written/8&^511, written/8>>24, written/8>>26
			disk.Flushes, disk.FlushMillis = written>>26, written>>24
		}
		list = append(list, disk)
		for p := range d.parts {
			part := disk
			part.Name, part.Minor, part.Inner, part.Partition, part.RateBytesPerSecond = partName(d.name, p),
				d.minor+uint32(p)+1, true, true, 0
			if p == 0 && part.ReadOps+part.WriteOps > 0 { // the second is never used
				list = append(list, part)
			}
		}
	}
	return list
}

func partName(drive string, p int) string {
	if strings.HasPrefix(drive, "nvme") {
		return fmt.Sprintf("%sp%d", drive, p+1)
	}
	return fmt.Sprintf("%s%d", drive, p+1)
}

func (h *Host) renderDisks(w *writer, t Tree) {
	var stats, mounts strings.Builder
	used := h.disks()
	for _, d := range drives {
		for p := range d.parts {
			if name := partName(d.name, p); !slices.ContainsFunc(used,
				func(x account.Disk) bool { return x.Name == name }) {
				used = append(used, account.Disk{Name: name, Major: d.major, Minor: d.minor + uint32(p) + 1})
			}
		}
	}
	for _, d := range used {
		fmt.Fprintf(&stats, " %d %d %s %d 0 %d %d %d 0 %d %d 0 %d %d %d 0 %d %d %d %d\n", d.Major, d.Minor, d.Name,
			d.ReadOps,
			d.ReadBytes/512, d.ReadMillis, d.WriteOps, d.WrittenBytes/512, d.WriteMillis,
			d.BusyMillis, d.QueueMillis, d.Discards, d.DiscardedBytes/512, d.DiscardMillis, d.Flushes, d.FlushMillis)
	}
	w.file(filepath.Join(t.Proc(), "diskstats"), stats.String())
	for i, d := range drives {
		place := filepath.Join(t.Sys(), "devices/pci0000:00", d.controller, "block", d.name)
		w.dir(filepath.Join(place, "device"))
		w.file(filepath.Join(place, "dev"), fmt.Sprintf("%d:%d\n", d.major, d.minor))
		w.file(filepath.Join(place, "size"), fmt.Sprintf("%d\n", d.size/512))
		w.file(filepath.Join(place, "device/model"), d.model+"\n")
		w.file(filepath.Join(place, "queue/rotational"), map[bool]string{true: "1\n", false: "0\n"}[d.rotates])
		w.link("../devices/pci0000:00/"+d.controller+"/block/"+d.name, filepath.Join(t.Sys(), "block", d.name))
		for p, mount := range d.parts {
			part := filepath.Join(place, partName(d.name, p))
			w.file(filepath.Join(part, "partition"), fmt.Sprintf("%d\n", p+1))
			w.file(filepath.Join(part, "dev"), fmt.Sprintf("%d:%d\n", d.major, d.minor+uint32(p)+1))
			w.file(filepath.Join(part, "size"), fmt.Sprintf("%d\n", d.size/512/int64(len(d.parts))))
			if mount != "" {
				fmt.Fprintf(&mounts, "%d 1 %d:%d / %s rw,relatime - ext4 /dev/%s rw\n", 20+i, d.major,
					d.minor+uint32(p)+1, mount, partName(d.name, p))
			}
		}
	}
	w.file(filepath.Join(t.Proc(), "1/mountinfo"), mounts.String())
	w.file(filepath.Join(t.Proc(), "swaps"),
		fmt.Sprintf("Filename Type Size Used Priority\n/srv/swapfile file %d %d -2\n", swapSize>>10, h.swapped()>>10))
	w.file(filepath.Join(t.Sys(), "devices/system/cpu/online"), fmt.Sprintf("0-%d\n", h.CPUs-1))
	for c := range h.CPUs {
		dir := filepath.Join(t.Sys(), fmt.Sprintf("devices/system/cpu/cpu%d", c))
		w.file(filepath.Join(dir, "topology/core_id"), fmt.Sprintf("%d\n", c/2))
		w.file(filepath.Join(dir, "topology/physical_package_id"), "0\n")
		w.file(filepath.Join(dir, "cpufreq/scaling_cur_freq"), fmt.Sprintf("%d\n", 2_400_000+c%3*200_000))
		w.file(filepath.Join(dir, "cpufreq/cpuinfo_max_freq"), "3600000\n")
	}
	w.file(filepath.Join(t.Sys(), "devices/system/node/node0/cpulist"), fmt.Sprintf("0-%d\n", h.CPUs/2-1))
	w.file(filepath.Join(t.Sys(), "devices/system/node/node1/cpulist"), fmt.Sprintf("%d-%d\n", h.CPUs/2, h.CPUs-1))
}

const swapSize = 8 << 30

func (h *Host) swapped() (sum int64) {
	for _, w := range h.Workloads {
		sum += w.swapped
	}
	return sum
}

// Space answers for the filesystems of the host.
func (h *Host) Space(mount string) (account.Space, error) {
	for i, d := range drives {
		for _, at := range d.parts {
			if at == mount && at != "" {
				size := d.size / int64(len(d.parts))
				used := size/3 + h.drives[i].bytes%(size/4)
				return account.Space{Size: size, Used: used, Free: size - used - size/20, Inodes: size >> 14,
					UsedInodes: used >> 16}, nil
			}
		}
	}
	return account.Space{}, fmt.Errorf("nothing is mounted at %s", mount)
}

// limit plays what a workload's limit of CPU time, and want of memory, did to it.
func (h *Host) limit(w *Workload, level float64, dt time.Duration) {
	if w.Limit > 0 {
		periods := dt.Milliseconds() / 100
		w.periods += periods
		if wanted := w.cores * level; wanted > 0.8*w.Limit {
			part := min((wanted-0.8*w.Limit)/w.Limit, 1)
			w.held += int64(part * float64(periods))
			w.throttled += int64(part * float64(dt.Microseconds()) / 2)
			w.stalled += int64(part * float64(dt.Microseconds()) / 2)
		}
	}
}

// drive figures of a workload in a version 2 cgroup.
func (w *Workload) devices() []account.DeviceIO {
	d := &drives[w.onDrive]
	read, written := split(w.DiskBytes)
	return []account.DeviceIO{
		{Major: d.major, Minor: d.minor, Read: read, Written: written, ReadOps: read / operation,
			WriteOps: written / operation},
		{Major: 7, Read: 99, Written: 99, ReadOps: 1, WriteOps: 1},
	}
}

func (w *Workload) user() int64     { return w.CPUMicros / 5 * 4 }
func (w *Workload) anon() int64     { return w.MemoryBytes - w.fileBytes() - w.kernelBytes() }
func (w *Workload) shared() int64   { return w.fileBytes() / 8 / pageSize * pageSize }
func (w *Workload) inactive() int64 { return w.fileBytes() / 2 }

// Figures are what is counted of the workload beside its amounts: counters so far, and levels now.
func (w *Workload) Figures(v1 bool) (cpu, memory account.Figures) {
	put := func(f *account.Figures, m amount.Measure, units int64, s amount.Source) { f.Put(m, units, s) }
	if v1 {
		put(&cpu, amount.CPUUser, ticks(w.user()), amount.Split)
		put(&cpu, amount.CPUSystem, ticks(w.CPUMicros-w.user()), amount.Split)
	} else {
		put(&cpu, amount.CPUUser, w.user(), amount.Split)
		put(&cpu, amount.CPUSystem, w.CPUMicros-w.user(), amount.Split)
		put(&cpu, amount.CPUPeriods, w.periods, amount.Counted)
		put(&cpu, amount.CPUThrottledPeriods, w.held, amount.Counted)
		put(&cpu, amount.CPUThrottled, w.throttled, amount.Counted)
		put(&memory, amount.CPUPressureSome, w.stalled, amount.Counted)
		put(&memory, amount.CPUPressureFull, w.stalled/3, amount.Counted)
		put(&memory, amount.MemoryPressureSome, w.kills*1000, amount.Counted)
		put(&memory, amount.MemoryPressureFull, 0, amount.Counted)
		put(&memory, amount.DiskPressureSome, w.DiskBytes/5000, amount.Counted)
		put(&memory, amount.DiskPressureFull, w.DiskBytes/9000, amount.Counted)
		put(&memory, amount.MemoryReclaimed, w.swapped*3/pageSize*pageSize, amount.Counted)
	}
	put(&memory, amount.MemoryAnon, w.anon(), amount.Counted)
	put(&memory, amount.MemoryFile, w.fileBytes(), amount.Counted)
	put(&memory, amount.MemoryShared, w.shared(), amount.Counted)
	put(&memory, amount.MemoryKernel, w.kernelBytes(), amount.Counted)
	put(&memory, amount.MemorySwap, w.swapped, amount.Counted)
	put(&memory, amount.MemoryWorkingSet, w.MemoryBytes-w.inactive(), amount.Counted)
	put(&memory, amount.MemoryHigh, w.most, amount.Counted)
	put(&memory, amount.MemoryOOMKills, w.kills, amount.Counted)
	put(&memory, amount.MemoryMajorFaults, w.swapped/pageSize/10, amount.Counted)
	return cpu, memory
}
