package kernel

import (
	"bytes"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// readV2 reads the counters of the kernel's "Control Group v2" documentation.
func (r *Reader) readV2(h *hierarchy, g *group, a *account.Group, rests, slow bool) {
	isAnchored := r.isAnchored(h, g)
	if isAnchored {
		r.putAnchored(g, a)
	}
	if rests {
		// What stands in its file is what stood there.
	} else if b := r.often(h, g, keptCPU, "cpu.stat"); b != nil {
		f := &g.slow
		ok := text.EachKeyed(b, func(key []byte, n int64) {
			switch string(key) {
			case "usage_usec":
				if !isAnchored {
					a.CPUMicros, a.Has = n, a.Has|account.HasCPU
				}
			case "user_usec":
				f.Put(amount.CPUUser, n, amount.Split) // the kernel divides the exact sum by ticks it sampled
			case "system_usec":
				f.Put(amount.CPUSystem, n, amount.Split)
			case "nr_periods":
				f.Put(amount.CPUPeriods, n, amount.Counted)
				g.anchor.setPeriods(n, r.at)
			case "nr_throttled":
				f.Put(amount.CPUThrottledPeriods, n, amount.Counted)
			case "throttled_usec":
				f.Put(amount.CPUThrottled, n, amount.Counted)
			}
		})
		if !ok || a.Has&account.HasCPU == 0 {
			r.garbage(h, g, "cpu.stat")
		}
	}
	if !isAnchored {
		r.setAnchor(h, g, a)
	}
	if b := r.often(h, g, keptMemory, "memory.current"); b != nil {
		if n, ok := text.Number(text.TrimNewline(b)); ok {
			a.MemoryBytes, a.Has = n, a.Has|account.HasMemory
		} else {
			r.garbage(h, g, "memory.current")
		}
	}
	if h == r.counting(bpf.Disk) {
		// It is counted with its latencies and its discards.
	} else if b := r.often(h, g, keptIO, "io.stat"); b != nil {
		var ok bool
		if a.Devices, ok = text.IOStat(b, a.Devices); ok {
			a.Has |= account.HasDisk
			a.DiskBytes = r.wholeBytes(a.Devices)
		} else {
			r.garbage(h, g, "io.stat")
		}
	}
	if slow {
		r.readV2Slowly(h, g, a)
	}
	a.FileBytes, _ = g.slow.Get(amount.MemoryFile)
	a.KernelBytes, _ = g.slow.Get(amount.MemoryKernel)
}

// readV2Slowly reads what is not needed at each reading: memory.stat alone takes the kernel ten times as long as
// cpu.stat.
func (r *Reader) readV2Slowly(h *hierarchy, g *group, a *account.Group) {
	if b := r.counter(h, g.path, "memory.stat"); b != nil {
		f := &g.slow
		var inactive int64
		text.EachKeyed(b, func(key []byte, n int64) {
			switch string(key) {
			case "anon":
				f.Put(amount.MemoryAnon, n, amount.Counted)
			case "file":
				f.Put(amount.MemoryFile, n, amount.Counted)
			case "shmem":
				f.Put(amount.MemoryShared, n, amount.Counted)
			case "kernel":
				f.Put(amount.MemoryKernel, n, amount.Counted)
			case "inactive_file":
				inactive = n
			case "pgsteal":
				f.Put(amount.MemoryReclaimed, n*r.options.PageSize, amount.Counted)
			case "pgmajfault":
				f.Put(amount.MemoryMajorFaults, n, amount.Counted)
			}
		})
		if a.Has&account.HasMemory != 0 {
			f.Put(amount.MemoryWorkingSet, max(a.MemoryBytes-inactive, 0), amount.Counted)
		}
	}
	r.putNumber(h, g, "memory.swap.current", amount.MemorySwap)
	r.putNumber(h, g, "memory.peak", amount.MemoryHigh)
	if b := r.counter(h, g.path, "memory.events"); b != nil {
		if n, ok := text.Keyed(b, "oom_kill"); ok {
			g.slow.Put(amount.MemoryOOMKills, n, amount.Counted)
		}
	}
	r.readPressures(h, g)
}

// putNumber reads a file that holds one number into the figures that are read now and then.
func (r *Reader) putNumber(h *hierarchy, g *group, file string, m amount.Measure) {
	if b := r.counter(h, g.path, file); b != nil {
		if n, ok := text.Number(text.TrimNewline(b)); ok {
			g.slow.Put(m, n, amount.Counted)
		} else {
			r.garbage(h, g, file)
		}
	}
}

// readPressures reads the stalls of a cgroup (the kernel's "PSI - Pressure Stall Information").
func (r *Reader) readPressures(h *hierarchy, g *group) {
	for _, p := range []struct {
		file       string
		some, full amount.Measure
	}{
		{"cpu.pressure", amount.CPUPressureSome, amount.CPUPressureFull},
		{"memory.pressure", amount.MemoryPressureSome, amount.MemoryPressureFull},
		{"io.pressure", amount.DiskPressureSome, amount.DiskPressureFull},
	} {
		if p.some == amount.CPUPressureSome && !g.anchor.ran {
			continue
		}
		b := r.counter(h, g.path, p.file)
		if b == nil {
			continue // kernels without pressure information have no such file
		}
		some, full, ok := text.ParsePressure(b)
		if !ok {
			r.garbage(h, g, p.file)
			continue
		}
		g.slow.Put(p.some, some, amount.Counted)
		g.slow.Put(p.full, full, amount.Counted)
	}
}

// readV1CPU reads the kernel's "CPU Accounting Controller" files, nanoseconds. usage_percpu is exact, and its sum is
// usage; the user and system split of the same controller is sampled by ticks. It has a number for each CPU that could
// ever be there, in their order.
func (r *Reader) readV1CPU(h *hierarchy, g *group, a *account.Group, slow bool) {
	if r.isAnchored(h, g) {
		r.putAnchored(g, a)
	} else {
		r.readV1Usage(h, g, a)
		r.setAnchor(h, g, a)
	}
	if slow && g.anchor.ran && a.Has&account.HasCPU != 0 {
		r.readV1CPUSlowly(h, g)
	}
}

// readV1Usage reads the time on each CPU, or where that cannot be read, on all of them together.
func (r *Reader) readV1Usage(h *hierarchy, g *group, a *account.Group) {
	read := r.counter // once, where it is counted from then on
	if h != r.counting(bpf.CPU) {
		read = func(h *hierarchy, _, file string) []byte { return r.often(h, g, keptCPU, file) }
	}
	if b := read(h, g.path, "cpuacct.usage_percpu"); b != nil {
		var sum int64
		at := 0
		for b = text.TrimNewline(b); len(b) > 0; {
			n, rest, ok := text.NextNumber(b)
			if !ok {
				r.garbage(h, g, "cpuacct.usage_percpu")
				a.PerCPU = a.PerCPU[:0]
				break
			}
			sum += n
			if at < len(r.host.possible) {
				for len(a.PerCPU) < r.host.possible[at] {
					a.PerCPU = append(a.PerCPU, 0) // a number that no CPU has
				}
			}
			a.PerCPU = append(a.PerCPU, n/1000)
			at++
			b = bytes.TrimLeft(rest, " ")
		}
		if len(a.PerCPU) > 0 {
			a.CPUMicros, a.Has = sum/1000, a.Has|account.HasCPU|account.HasPerCPU
		}
	}
	if a.Has&account.HasCPU == 0 {
		b := r.counter(h, g.path, "cpuacct.usage")
		if b == nil {
			return
		}
		n, ok := text.Number(text.TrimNewline(b))
		if !ok {
			r.garbage(h, g, "cpuacct.usage")
			return
		}
		a.CPUMicros, a.Has = n/1000, a.Has|account.HasCPU
	}
}

// readV1CPUSlowly reads what is not needed at each reading: user and system time, and throttling.
func (r *Reader) readV1CPUSlowly(h *hierarchy, g *group) {
	if b := r.counter(h, g.path, "cpuacct.stat"); b != nil {
		user, ok1 := text.Keyed(b, "user")
		system, ok2 := text.Keyed(b, "system")
		if ok1 && ok2 && user < 1<<48 && system < 1<<48 {
			g.slow.Put(amount.CPUUser, user*text.TickMicros, amount.Split)
			g.slow.Put(amount.CPUSystem, system*text.TickMicros, amount.Split)
		}
	}
	if r.cgroups.limits == nil {
		return
	}
	path := append(append(append(r.cgroups.limits.At(), '.'), g.path...), "/cpu.stat"...)
	if b, err := r.cgroups.limits.Read(path); err == nil {
		text.EachKeyed(b, func(key []byte, n int64) {
			switch string(key) {
			case "nr_periods":
				g.slow.Put(amount.CPUPeriods, n, amount.Counted)
				g.anchor.setPeriods(n, r.at)
			case "nr_throttled":
				g.slow.Put(amount.CPUThrottledPeriods, n, amount.Counted)
			case "throttled_time":
				g.slow.Put(amount.CPUThrottled, n/1000, amount.Counted)
			}
		})
	}
}

// readV1Memory reads the kernel's "Memory Resource Controller" files.
func (r *Reader) readV1Memory(h *hierarchy, g *group, a *account.Group, slow bool) {
	b := r.often(h, g, keptMemory, "memory.usage_in_bytes")
	if b == nil {
		return
	}
	n, ok := text.Number(text.TrimNewline(b))
	if !ok {
		r.garbage(h, g, "memory.usage_in_bytes")
		return
	}
	a.MemoryBytes, a.Has = n, a.Has|account.HasMemory
	if slow {
		f := &g.slow
		if b := r.counter(h, g.path, "memory.stat"); b != nil {
			var inactive int64
			text.EachKeyed(b, func(key []byte, n int64) {
				switch string(key) {
				case "total_rss":
					f.Put(amount.MemoryAnon, n, amount.Counted)
				case "total_cache":
					f.Put(amount.MemoryFile, n, amount.Counted)
				case "total_shmem":
					f.Put(amount.MemoryShared, n, amount.Counted)
				case "total_swap":
					f.Put(amount.MemorySwap, n, amount.Counted)
				case "total_inactive_file":
					inactive = n
				case "total_pgmajfault":
					f.Put(amount.MemoryMajorFaults, n, amount.Counted)
				}
			})
			f.Put(amount.MemoryWorkingSet, max(a.MemoryBytes-inactive, 0), amount.Counted)
		}
		r.putNumber(h, g, "memory.kmem.usage_in_bytes", amount.MemoryKernel)
		r.putNumber(h, g, "memory.max_usage_in_bytes", amount.MemoryHigh)
		if b := r.counter(h, g.path, "memory.oom_control"); b != nil {
			if n, ok := text.Keyed(b, "oom_kill"); ok {
				g.slow.Put(amount.MemoryOOMKills, n, amount.Counted)
			}
		}
	}
	a.FileBytes, _ = g.slow.Get(amount.MemoryFile)
	a.KernelBytes, _ = g.slow.Get(amount.MemoryKernel)
}
