package account

import "slices"

// details is what the host's counters say of the time between two readings beside the ledger.
func details(prev, now *Reading) Detail {
	d := Detail{
		Load: slices.Clone(now.Load), SwapTotal: now.Memory.SwapTotal,
		SwapUsed:        now.Memory.SwapTotal - now.Memory.SwapFree,
		MemoryAvailable: now.Memory.Available, Caveats: now.Caveats,
		Disks: grownList(prev.Disks, now.Disks, func(x *Disk) string { return x.Name }, Disk.since),
		Interfaces: grownList(prev.Interfaces, now.Interfaces, func(x *Interface) string { return x.Name },
			Interface.since),
	}
	for i := range now.Disks {
		if x := now.Disks[i]; x.Fresh &&
			!slices.ContainsFunc(prev.Disks, func(p Disk) bool { return p.Name == x.Name }) {
			d.Disks = append(d.Disks, x.since(Disk{}))
		}
	}
	if prev.SplitsDisk { // a bucket that was not there had none
		d.Latencies = make([]Latency, 0, len(now.Latencies))
		before := make(map[latencyKey]int64, len(prev.Latencies))
		for i := range prev.Latencies {
			before[prev.Latencies[i].key()] = prev.Latencies[i].Count
		}
		for _, l := range now.Latencies {
			if l.Count = grown(before[l.key()], l.Count); l.Count > 0 {
				d.Latencies = append(d.Latencies, l)
			}
		}
	}
	ran := len(now.RanMicros) == len(now.CPUs) && len(prev.RanMicros) == len(prev.CPUs)
	for i, c := range now.CPUs {
		for j, p := range prev.CPUs {
			if p.CPU != c.CPU {
				continue
			}
			d.CPUs = append(d.CPUs, c.since(p))
			if ran {
				d.RanMicros = append(d.RanMicros, grown(prev.RanMicros[j], now.RanMicros[i]))
			}
		}
	}
	for _, p := range now.Pressure {
		for _, q := range prev.Pressure {
			if q.Resource == p.Resource {
				d.Pressure = append(d.Pressure, Pressure{p.Resource, grown(q.Some, p.Some), grown(q.Full, p.Full)})
			}
		}
	}
	return d
}

// grownList differences what is in both readings. What appeared since has no figure yet, what is gone none any more.
func grownList[T any, K comparable](prev, now []T, key func(*T) K, since func(now, prev T) T) []T {
	if len(now) == 0 {
		return nil
	}
	before := make(map[K]int, len(prev))
	for i := range prev {
		before[key(&prev[i])] = i
	}
	list := make([]T, 0, len(now))
	for i := range now {
		if j, ok := before[key(&now[i])]; ok {
			list = append(list, since(now[i], prev[j]))
		}
	}
	return list
}

// joined adds up two lists by key: first those of a, then those only in b.
func joined[T any, K comparable](a, b []T, key func(*T) K, add func(a, b T) T) []T {
	if len(a)+len(b) == 0 {
		return nil
	}
	list := append(make([]T, 0, len(a)), a...)
	at := make(map[K]int, len(a))
	for i := range list {
		at[key(&list[i])] = i
	}
	for i := range b {
		if j, ok := at[key(&b[i])]; ok {
			list[j] = add(list[j], b[i])
		} else {
			list = append(list, b[i])
		}
	}
	return list
}

type latencyKey struct {
	major, minor uint32
	kind         IOKind
	low          int64
}

// Number is the device's number: major << 20 | minor.
func (d *Disk) Number() int32 { return int32(d.Major<<20 | d.Minor) }

// Number is the device's number: major << 20 | minor.
func (l *Latency) Number() int32 { return int32(l.Major<<20 | l.Minor) }

func (l *Latency) key() latencyKey { return latencyKey{l.Major, l.Minor, l.Kind, l.LowMicros} }

// flows are the counters of a disk that grow.
func (d *Disk) flows() []*int64 {
	return []*int64{&d.ReadBytes, &d.WrittenBytes, &d.ReadOps, &d.WriteOps, &d.ReadMerged, &d.WriteMerged,
		&d.ReadMillis, &d.WriteMillis, &d.BusyMillis, &d.QueueMillis, &d.DiscardedBytes, &d.Discards, &d.DiscardMillis,
		&d.Flushes, &d.FlushMillis}
}

func (d Disk) since(before Disk) Disk {
	d.Fresh = false
	was := before.flows()
	for i, f := range d.flows() {
		*f = grown(*was[i], *f)
	}
	return d
}

// Add adds what the device did in the next interval; what stands at a height is as it is there.
func (d Disk) Add(next Disk) Disk {
	was := d.flows()
	for i, f := range next.flows() {
		*f += *was[i]
	}
	return next
}

// flows are the counters of an interface that grow.
func (n *Interface) flows() []*int64 {
	return []*int64{&n.Received, &n.Sent, &n.ReceivedPackets, &n.SentPackets, &n.ReceivedDropped, &n.SentDropped,
		&n.ReceivedErrors, &n.SentErrors}
}

func (n Interface) since(before Interface) Interface {
	was := before.flows()
	for i, f := range n.flows() {
		*f = grown(*was[i], *f)
	}
	return n
}

// Add adds what went over the interface in the next interval.
func (n Interface) Add(next Interface) Interface {
	was := n.flows()
	for i, f := range next.flows() {
		*f += *was[i]
	}
	return next
}

func (c CPUTimes) since(p CPUTimes) CPUTimes {
	return CPUTimes{
		c.CPU, grown(p.User, c.User), grown(p.Nice, c.Nice), grown(p.System, c.System), grown(p.Idle, c.Idle),
		grown(p.IOWait, c.IOWait), grown(p.IRQ, c.IRQ), grown(p.SoftIRQ, c.SoftIRQ), grown(p.Steal, c.Steal),
	}
}

// Add adds the times of the next interval.
func (c CPUTimes) Add(d CPUTimes) CPUTimes {
	return CPUTimes{
		c.CPU, c.User + d.User, c.Nice + d.Nice, c.System + d.System, c.Idle + d.Idle,
		c.IOWait + d.IOWait, c.IRQ + d.IRQ, c.SoftIRQ + d.SoftIRQ, c.Steal + d.Steal,
	}
}
