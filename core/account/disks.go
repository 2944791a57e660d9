package account

import (
	"slices"

	"vinescale/core/amount"
)

// dirty is what each workload's processes have dirtied that has not been written yet, as far as is known: bytes. It
// goes on from one interval to the next, since the kernel writes back up to half a minute later.
type dirty struct {
	bytes []int64 // by WorkloadID
}

// deviceGrowth fills in what a group moved on each device since the previous reading.
func (s *scratch) deviceGrowth(d, g, before *Group) {
	if len(g.Devices) == 0 {
		return
	}
	if before.ID == 0 && !g.Born {
		return // its first reading
	}
	d.Devices = make([]DeviceIO, 0, len(g.Devices))
	for _, now := range g.Devices {
		if io := now.Since(before.Devices); io != (DeviceIO{Major: now.Major, Minor: now.Minor}) {
			d.Devices = append(d.Devices, io)
		}
	}
	for _, x := range d.Devices {
		if s.isInner(x) {
			continue
		}
		f := &d.Figures
		f.gather(amount.DiskRead, x.Read, amount.Counted)
		f.gather(amount.DiskWritten, x.Written, amount.Counted)
		f.gather(amount.DiskReads, x.ReadOps, amount.Counted)
		f.gather(amount.DiskWrites, x.WriteOps, amount.Counted)
		f.gather(amount.DiskDiscarded, x.Discarded, amount.Counted)
		f.gather(amount.DiskDiscards, x.Discards, amount.Counted)
		if took := x.ReadNanos + x.WriteNanos; took > 0 {
			f.gather(amount.DiskTime, took/1000, amount.Counted)
		}
	}
}

// Since is how far the counters of a device went from those of an earlier reading.
func (io DeviceIO) Since(before []DeviceIO) DeviceIO {
	var was DeviceIO
	for _, b := range before {
		if b.Major == io.Major && b.Minor == io.Minor {
			was = b
		}
	}
	return DeviceIO{
		Major: io.Major, Minor: io.Minor, Read: grown(was.Read, io.Read), Written: grown(was.Written, io.Written),
		ReadOps: grown(was.ReadOps, io.ReadOps), WriteOps: grown(was.WriteOps, io.WriteOps),
		ReadNanos: grown(was.ReadNanos, io.ReadNanos), WriteNanos: grown(was.WriteNanos, io.WriteNanos),
		Discarded: grown(was.Discarded, io.Discarded), Discards: grown(was.Discards, io.Discards),
	}
}

func (io DeviceIO) number() int32 { return int32(io.Major<<20 | io.Minor) }

// isInner tells devices whose bytes count on another too.
func (s *scratch) isInner(io DeviceIO) bool {
	for i := range s.now.Disks {
		if d := &s.now.Disks[i]; d.Major == io.Major && d.Minor == io.Minor {
			return d.Inner
		}
	}
	return true // not known as a disk of this host
}

// device adds to, or takes off, what a workload moved on one device.
func (t *tally) device(io DeviceIO, sign int64) {
	i, found := slices.BinarySearchFunc(t.devices, io.number(),
		func(d DeviceIO, n int32) int { return int(d.number()) - int(n) })
	if !found {
		t.devices = slices.Insert(t.devices, i, DeviceIO{Major: io.Major, Minor: io.Minor})
	}
	d := &t.devices[i]
	d.Read += sign * io.Read
	d.Written += sign * io.Written
	d.ReadOps += sign * io.ReadOps
	d.WriteOps += sign * io.WriteOps
	d.ReadNanos += sign * io.ReadNanos
	d.WriteNanos += sign * io.WriteNanos
	d.Discarded += sign * io.Discarded
	d.Discards += sign * io.Discards
}

// devices divides the I/O that was issued for no workload's group. Reads are divided in proportion to what the
// processes of workloads without groups read; writes in proportion to the pages that each workload dirtied and that are
// not yet written. What then is left is the kernel's own: journals and directories.
func (s *scratch) devices(dirt *dirty) {
	if !s.now.SplitsDisk {
		return
	}
	for len(dirt.bytes) < len(s.tallies) {
		dirt.bytes = append(dirt.bytes, 0)
	}
	var readers, writers int64
	for w := range s.tallies {
		t := &s.tallies[w]
		dirt.bytes[w] = max(dirt.bytes[w]+t.dirtied-s.issued(t), 0)
		writers += dirt.bytes[w]
		if t.counted&HasDisk == 0 {
			readers += t.read
		}
	}
	s.kernelIO = 0
	var free []DeviceIO
	var read, written int64
	for _, now := range s.now.NoGroup {
		io := now.Since(s.prev.NoGroup)
		if io.Read == 0 && io.Written == 0 {
			continue
		}
		free = append(free, io)
		if !s.isInner(io) {
			read += io.Read
			written += io.Written
		}
	}
	reads, writes := min(read, readers), min(written, writers)
	s.kernelIO = read + written
	for _, now := range s.now.KernelIO {
		if io := now.Since(s.prev.KernelIO); !s.isInner(io) {
			s.kernelIO += io.Read + io.Written
		}
	}
	for w := range s.tallies {
		t := &s.tallies[w]
		if !t.live {
			continue
		}
		var myRead, myWritten int64
		if t.counted&HasDisk == 0 {
			if readers > 0 {
				myRead = mulDiv(t.read, reads, readers)
			}
			t.has[amount.Disk], t.source[amount.Disk] = true, amount.Summed
		}
		mine := dirt.bytes[w]
		if writers > 0 {
			myWritten = mulDiv(mine, writes, writers)
			dirt.bytes[w] -= myWritten
		}
		if myRead == 0 && myWritten == 0 {
			continue
		}
		t.units[amount.Disk] += myRead + myWritten
		t.source[amount.Disk] = amount.Split
		s.kernelIO -= myRead + myWritten
		t.figures.gather(amount.DiskRead, myRead, amount.Split)
		t.figures.gather(amount.DiskWritten, myWritten, amount.Split)
		t.figures.gather(amount.DiskWrittenBack, myWritten, amount.Split)
		for _, io := range free {
			part := DeviceIO{Major: io.Major, Minor: io.Minor}
			switch {
			case s.isInner(io): // its bytes are seen on a drive once more, with others
				if t.counted&HasDisk == 0 && readers > 0 {
					part.Read = mulDiv(t.read, min(io.Read, readers), readers)
				}
				if writers > 0 {
					part.Written = mulDiv(mine, min(io.Written, writers), writers)
				}
			default:
				if read > 0 {
					part.Read = mulDiv(io.Read, myRead, read)
				}
				if written > 0 {
					part.Written = mulDiv(io.Written, myWritten, written)
				}
			}
			t.device(part, +1)
		}
	}
}

// issued is how many bytes a workload's own group wrote to storage. The bytes of a loop or volume are written once more
// to the drive below it, so the two are not added: the larger of them is what the processes wrote.
func (s *scratch) issued(t *tally) int64 {
	var whole, inner int64
	for _, d := range t.devices {
		for i := range s.now.Disks {
			switch x := &s.now.Disks[i]; {
			case x.Major != d.Major || x.Minor != d.Minor || x.Partition:
			case x.Inner:
				inner += d.Written
			default:
				whole += d.Written
			}
		}
	}
	return max(whole, inner)
}

// sumFigures adds the figures of one process to a workload that no group has them of.
func (s *scratch) sumFigures(t *tally, p, before *Process) {
	if t.counted&HasCPU == 0 && !p.Grouped {
		if p.UserMicros|p.SystemMicros != 0 {
			t.figures.gather(amount.CPUUser, grown(before.UserMicros, p.UserMicros), amount.Summed)
			t.figures.gather(amount.CPUSystem, grown(before.SystemMicros, p.SystemMicros), amount.Summed)
		}
		if p.WaitMicros >= 0 && before.WaitMicros >= 0 {
			t.figures.gather(amount.CPUWait, grown(before.WaitMicros, p.WaitMicros), amount.Summed)
		}
	}
	if p.Ended {
		return
	}
	if t.counted&HasMemory == 0 {
		t.figures.gather(amount.MemoryAnon, (p.AnonBytes-p.SharedBytes)*s.elapsed, amount.Summed)
		if p.SharedBytes > 0 {
			t.figures.gather(amount.MemoryShared, p.SharedBytes*s.elapsed, amount.Summed)
		}
		if p.SwapBytes >= 0 {
			t.figures.gather(amount.MemorySwap, p.SwapBytes*s.elapsed, amount.Summed)
		}
	}
	if p.PSSBytes >= 0 {
		t.figures.gather(amount.MemoryProportional, p.PSSBytes*s.elapsed, amount.Summed)
	}
}

// standings adds the levels that are read of workloads by themselves, such as the space that their files take, and what
// each has on each swap. Those of a workload that has neither a group nor a process in this reading are left out.
func (s *scratch) standings() {
	for _, x := range s.now.Levels {
		if t := s.tally(x.Workload); t.live {
			t.figures.gather(x.Measure, x.Units*s.elapsed, x.Source)
		}
	}
	for _, x := range s.now.Swapped {
		if t := s.tally(x.Workload); t.live {
			t.swapped = joined(t.swapped, []SwapUse{{x.Swap, x.Bytes * s.elapsed}},
				func(u *SwapUse) string { return u.Swap },
				func(a, b SwapUse) SwapUse { a.Units += b.Units; return a })
		}
	}
}

// finish copies the figures without a ledger into a usage: its measures, its swaps and its devices. An outer group is
// read a moment before its inner ones, so a difference between them can come out just below zero; it is then set to
// zero.
func (s *scratch) finish(u *Usage, t *tally) {
	u.Figures = t.figures
	for m := range u.Figures.Units {
		u.Figures.Units[m] = max(u.Figures.Units[m], 0) // an outer group read a moment before its inner ones
	}
	u.Swapped, u.GPUs = t.swapped, t.gpus
	source := u.Source[amount.Disk]
	for _, d := range t.devices {
		use := DeviceUse{
			Device: d.number(), Read: max(d.Read, 0), Written: max(d.Written, 0), ReadOps: max(d.ReadOps, 0),
			WriteOps: max(d.WriteOps, 0), Discarded: max(d.Discarded, 0), Discards: max(d.Discards, 0),
			Micros: max((d.ReadNanos+d.WriteNanos)/1000, 0), Source: source,
		}
		if use.Read|use.Written|use.ReadOps|use.WriteOps|use.Discards != 0 {
			u.Devices = append(u.Devices, use)
		}
	}
}

func (d DeviceUse) add(e DeviceUse) DeviceUse {
	d.Read += e.Read
	d.Written += e.Written
	d.ReadOps += e.ReadOps
	d.WriteOps += e.WriteOps
	d.Discarded += e.Discarded
	d.Discards += e.Discards
	d.Micros += e.Micros
	d.Source = d.Source.Weaker(e.Source)
	return d
}
