package text

import (
	"bytes"

	"vinescale/core/account"
)

// One clock tick of the files in /proc: USER_HZ is 100 on every architecture that Linux still supports.
const (
	TickMicros   = 10_000
	NanosPerTick = 10_000_000
)

// Stat is what is taken of /proc/PID/stat.
type Stat struct {
	Comm    []byte
	State   byte
	Parent  int32
	Session int32 // pid of the process that began its session, whether that is there or not
	Kernel  bool
	User    int64 // microseconds
	System  int64
	Start   int64
	Threads int32
	CPU     int32
}

// StateWords tell what the kernel's letter for the state of a thread means.
var StateWords = map[byte]string{'R': "running", 'S': "sleeping", 'D': "waiting for a device", 'T': "stopped",
	't': "stopped by a tracer", 'Z': "ended", 'I': "idle"}

// KernelThread marks a kernel thread in the flags field (include/linux/sched.h).
const KernelThread = 0x00200000

// ParseStat reads /proc/PID/stat (proc_pid_stat(5)). The name may hold anything, spaces and brackets too, so fields are
// counted from the last bracket.
func ParseStat(b []byte) (s Stat, ok bool) {
	open, end := bytes.IndexByte(b, '('), bytes.LastIndexByte(b, ')')
	if open < 0 || end < open {
		return s, false
	}
	s.Comm = b[open+1 : end]
	rest := TrimNewline(b[end+1:])
	var f []byte
	for n := 3; n <= 39; n++ {
		if f, rest = Field(rest); len(f) == 0 {
			return s, false
		}
		switch n {
		case 3:
			s.State = f[0]
		case 4, 6, 9, 14, 15, 20, 22, 39:
			v, ok := Number(f)
			if !ok {
				return s, false
			}
			switch n {
			case 4:
				s.Parent = int32(v)
			case 6:
				s.Session = int32(v)
			case 9:
				s.Kernel = v&KernelThread != 0
			case 14, 15:
				if v > 1<<48 {
					return s, false
				}
				if n == 14 {
					s.User = v * TickMicros
				} else {
					s.System = v * TickMicros
				}
			case 20:
				s.Threads = int32(v)
			case 22:
				s.Start = v
			case 39:
				s.CPU = int32(v)
			}
		}
	}
	return s, true
}

// ParseStatm reads resident anonymous pages of /proc/PID/statm (proc_pid_statm(5)): resident less shared (file) pages.
// How large a page is depends on the host.
func ParseStatm(b []byte) (anonPages int64, ok bool) {
	_, b, ok1 := NextNumber(TrimNewline(b))
	resident, b, ok2 := NextNumber(b)
	shared, _, ok3 := NextNumber(b)
	if !ok1 || !ok2 || !ok3 || resident > 1<<50 {
		return 0, false
	}
	return max(resident-shared, 0), true
}

// ParseIO reads bytes moved to and from storage of /proc/PID/io (proc_pid_io(5)). Writes count when pages are dirtied;
// what was dirtied and dropped before writeback is taken off.
func ParseIO(b []byte) (read, written int64, ok bool) {
	read, ok1 := Keyed(b, "read_bytes")
	written, ok2 := Keyed(b, "write_bytes")
	cancelled, ok3 := Keyed(b, "cancelled_write_bytes")
	if !ok1 || !ok2 || !ok3 || read > 1<<61 || written > 1<<61 {
		return 0, 0, false
	}
	return read, max(written-cancelled, 0), true
}

// ParseStatus reads the real uid and the CPUs a process may run on of /proc/PID/status (proc_pid_status(5)).
func ParseStatus(b []byte) (uid int64, allowed []byte, ok bool) {
	uid, ok = Keyed(b, "Uid")
	i := bytes.Index(b, []byte("\nCpus_allowed_list:"))
	if i < 0 {
		return uid, nil, ok
	}
	l, _ := Line(b[i+1+len("Cpus_allowed_list:"):])
	allowed, _ = Field(l)
	return uid, allowed, ok
}

// ParseCPUs reads the per-CPU lines of /proc/stat (proc_stat(5)) into dst.
func ParseCPUs(b []byte, dst []account.CPUTimes) ([]account.CPUTimes, bool) {
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		if len(l) < 4 || string(l[:3]) != "cpu" || l[3] == ' ' {
			continue
		}
		cpu, l, ok := NextNumber(l[3:])
		if !ok || cpu > 1<<16 {
			return dst, false
		}
		t := account.CPUTimes{CPU: int(cpu)}
		for _, into := range []*int64{&t.User, &t.Nice, &t.System, &t.Idle, &t.IOWait, &t.IRQ, &t.SoftIRQ, &t.Steal} {
			var n int64
			if n, l, ok = NextNumber(l); !ok || n > 1<<48 {
				return dst, false
			}
			*into = n * TickMicros
		}
		dst = append(dst, t)
	}
	return dst, len(dst) > 0
}

// ParseMeminfo reads /proc/meminfo (proc_meminfo(5)); its figures are in KiB.
func ParseMeminfo(b []byte) (m account.HostMemory, ok bool) {
	kib := func(key string) int64 {
		n, _ := Keyed(b, key)
		return min(n, 1<<50) << 10
	}
	m = account.HostMemory{
		Total: kib("MemTotal"), Free: kib("MemFree"), Available: kib("MemAvailable"),
		Buffers: kib("Buffers"), Cached: kib("Cached"), Shmem: kib("Shmem"),
		Slab: kib("Slab"), KernelStack: kib("KernelStack"), PageTable: kib("PageTables"),
		SwapTotal: kib("SwapTotal"), SwapFree: kib("SwapFree"), SwapCached: kib("SwapCached"),
	}
	if _, ok := Keyed(b, "Hugetlb"); ok {
		m.HugePages = kib("Hugetlb") // of all sizes
	} else if pages, ok := Keyed(b, "HugePages_Total"); ok {
		// kernels before 4.15 tell those of the usual size alone
		m.HugePages = min(pages, 1<<28) * min(kib("Hugepagesize"), 1<<34)
	}
	return m, m.Total > 0
}

// ParsePressure reads total stalled microseconds of a pressure file (the kernel's "PSI - Pressure Stall Information").
func ParsePressure(b []byte) (some, full int64, ok bool) {
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		i := bytes.Index(l, []byte("total="))
		if i < 0 {
			continue
		}
		n, good := Number(TrimNewline(l[i+len("total="):]))
		switch {
		case !good:
			return 0, 0, false
		case bytes.HasPrefix(l, []byte("some")):
			some, ok = n, true
		case bytes.HasPrefix(l, []byte("full")):
			full = n
		}
	}
	return some, full, ok
}

// ParseLoad reads /proc/loadavg.
func ParseLoad(b []byte) (load [3]float64, ok bool) {
	for i := range load {
		var f []byte
		f, b = Field(b)
		if load[i], ok = Hundredths(f); !ok {
			return load, false
		}
	}
	return load, true
}

// Hundredths reads "12.34".
func Hundredths(f []byte) (float64, bool) {
	whole, part, found := bytes.Cut(f, []byte{'.'})
	w, ok := Number(whole)
	if !ok || !found {
		return float64(w), ok
	}
	p, ok := Number(part)
	if !ok || len(part) > 6 {
		return 0, false
	}
	scale := 1.0
	for range part {
		scale *= 10
	}
	return float64(w) + float64(p)/scale, true
}

// InterfaceLines visits each interface of a /proc/net/dev file (proc_pid_net(5)).
func InterfaceLines(b []byte, visit func(name []byte, n *account.Interface)) bool {
	found := false
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		colon := bytes.LastIndexByte(l, ':')
		if colon < 0 {
			continue
		}
		name, _ := Field(l[:colon])
		rest := l[colon+1:]
		var n [12]int64
		ok := true
		for i := range n {
			var good bool
			n[i], rest, good = NextNumber(rest)
			ok = ok && good
		}
		if !ok || len(name) == 0 {
			continue
		}
		found = true
		visit(name, &account.Interface{
			Received: n[0], ReceivedPackets: n[1], ReceivedErrors: n[2], ReceivedDropped: n[3],
			Sent: n[8], SentPackets: n[9], SentErrors: n[10], SentDropped: n[11],
		})
	}
	return found
}

// DiskLine reads one line of /proc/diskstats (the kernel's "I/O statistics fields"); its sectors are always 512 bytes.
func DiskLine(l []byte) (d account.Disk, name []byte, ok bool) {
	var n [20]int64
	const always = 14 // later kernels tell more: of discards since 4.18, of flushes since 5.5
	rest := l
	for i := range n {
		if i >= always && len(bytes.TrimSpace(rest)) == 0 {
			break
		}
		if i == 2 {
			if name, rest = Field(rest); len(name) == 0 {
				return d, nil, false
			}
			continue
		}
		if n[i], rest, ok = NextNumber(rest); !ok || n[i] > 1<<53 {
			return d, nil, false
		}
	}
	return account.Disk{
		Major: uint32(n[0]), Minor: uint32(n[1]),
		ReadOps: n[3], ReadMerged: n[4], ReadBytes: n[5] * 512, ReadMillis: n[6],
		WriteOps: n[7], WriteMerged: n[8], WrittenBytes: n[9] * 512, WriteMillis: n[10],
		InFlight: n[11], BusyMillis: n[12], QueueMillis: n[13],
		Discards: n[14], DiscardedBytes: n[16] * 512, DiscardMillis: n[17], Flushes: n[18], FlushMillis: n[19],
	}, name, true
}

// IOStat reads a cgroup's io.stat into dst, a device each (the kernel's "Control Group v2", IO).
func IOStat(b []byte, dst []account.DeviceIO) ([]account.DeviceIO, bool) {
	for len(b) > 0 {
		var l, dev []byte
		l, b = Line(b)
		dev, l = Field(l)
		if len(dev) == 0 || string(dev) == "(unknown)" { // one of the ways to a drive, on which it counts too
			continue
		}
		ma, mi, found := bytes.Cut(dev, []byte{':'})
		major, ok1 := Number(ma)
		minor, ok2 := Number(mi)
		if !found || !ok1 || !ok2 || major > 1<<12 || minor > 1<<20 {
			return dst, false
		}
		io := account.DeviceIO{Major: uint32(major), Minor: uint32(minor)}
		for {
			var f []byte
			if f, l = Field(l); len(f) == 0 {
				break
			}
			key, value, _ := bytes.Cut(f, []byte{'='})
			var into *int64
			switch string(key) {
			case "rbytes":
				into = &io.Read
			case "wbytes":
				into = &io.Written
			case "rios":
				into = &io.ReadOps
			case "wios":
				into = &io.WriteOps
			case "dbytes":
				into = &io.Discarded
			case "dios":
				into = &io.Discards
			default:
				continue
			}
			n, good := Number(value)
			if !good || n > 1<<60 {
				return dst, false
			}
			*into = n
		}
		dst = append(dst, io)
	}
	return dst, true
}
