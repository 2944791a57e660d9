package kernel

import (
	"bytes"
	"fmt"
	"slices"

	"vinescale/core/account"
	"vinescale/core/cpuset"
)

// process is what is remembered of one process, so that a steady one costs only its changing files.
type process struct {
	start    int64
	seen     int64 // last reading it was in
	since    int64 // reading it was first in
	workload account.WorkloadID
	program  int32
	comm     string
	uid      int64
	kernel   bool
	netns    uint64
	allowed  string
}

// readProcesses lists /proc and reads each process's counters.
func (r *Reader) readProcesses(dst *account.Reading) error {
	r.pids = r.pids[:0]
	err := r.proc.list(append(r.proc.at(), '.'), r.listing, func(e entry) {
		if n, ok := number(e.name); ok && n < 1<<31 {
			r.pids = append(r.pids, int32(n))
		}
	})
	if err != nil {
		return fmt.Errorf("list %s: %w", r.proc.root, err)
	}
	slices.Sort(r.pids)
	dst.Processes = slices.Grow(dst.Processes[:0], len(r.pids))
	for _, pid := range r.pids {
		r.readProcess(dst, pid)
	}
	for pid, p := range r.procs {
		if p.seen < r.count {
			delete(r.procs, pid)
		}
	}
	return nil
}

func (r *Reader) readProcess(dst *account.Reading, pid int32) {
	b, err := r.proc.read(r.proc.atPID(pid, "stat"))
	if err != nil {
		if !gone(err) {
			r.note(fmt.Sprintf("%s/%d/stat", r.proc.root, pid), err)
		}
		return
	}
	s, ok := parseStat(b)
	if !ok {
		if len(b) > 0 {
			r.note(fmt.Sprintf("%s/%d/stat", r.proc.root, pid), nil)
		}
		return
	}
	p := r.procs[pid]
	switch {
	case p == nil || p.start != s.start:
		p = &process{start: s.start, since: r.count, comm: string(s.comm), kernel: s.kernel, workload: account.Unrecognised}
		r.procs[pid] = p
		r.look(pid, p)
	case r.count-p.since < 2 || (r.count+int64(pid))%recheckEvery == 0:
		r.look(pid, p) // a new process is often moved to its cgroup just after it began
	case p.comm != string(s.comm):
		p.comm = string(s.comm)
		r.look(pid, p) // it runs another program now
	}
	p.seen = r.count
	a := account.Process{
		PID: pid, Start: s.start, Workload: p.workload, Program: p.program, LastCPU: s.cpu, Threads: s.threads,
		Kernel: p.kernel, CPUMicros: s.micros, DiskBytes: -1,
	}
	if !p.kernel {
		if b, err := r.proc.read(r.proc.atPID(pid, "statm")); err == nil {
			a.AnonBytes, _ = parseStatm(b)
		}
	}
	if b, err := r.proc.read(r.proc.atPID(pid, "io")); err == nil {
		if n, ok := parseIO(b); ok {
			a.DiskBytes = n
		}
	}
	dst.Processes = append(dst.Processes, a)
}

// look reads what seldom changes: whose a process is, what it runs, in which network, on which CPUs.
func (r *Reader) look(pid int32, p *process) {
	if p.kernel {
		return
	}
	if b, err := r.proc.read(r.proc.atPID(pid, "status")); err == nil {
		if uid, allowed, ok := parseStatus(b); ok {
			p.uid = uid
			if p.allowed != string(allowed) {
				p.allowed = string(allowed)
			}
		}
	}
	p.program = r.program(pid, p)
	if r.hostNet != 0 {
		p.netns = r.netns(pid)
	}
	b, err := r.proc.read(r.proc.atPID(pid, "cgroup"))
	if err != nil {
		b = nil
	}
	w, known := r.paths[string(b)]
	if !known {
		w = r.owns(b)
		r.paths[string(b)] = w
	}
	if w == account.Unrecognised {
		w = r.registry.Loose(p.uid)
	} else {
		r.registry.AdoptOwner(w, p.uid)
	}
	p.workload = w
}

// program names what a process runs: its executable's base name, or its own name where the link may not be read.
func (r *Reader) program(pid int32, p *process) int32 {
	target, err := r.proc.readlink(r.proc.atPID(pid, "exe"))
	if err != nil || len(target) == 0 {
		return r.registry.Program([]byte(p.comm))
	}
	target = bytes.TrimSuffix(target, []byte(" (deleted)"))
	return r.registry.Program(target[bytes.LastIndexByte(target, '/')+1:])
}

// refreshAllowed records, per workload, on which CPUs its processes may run: their affinity masks within their cpusets.
func (r *Reader) refreshAllowed() {
	sets := map[account.WorkloadID]cpuset.Set{}
	parsed := map[string]cpuset.Set{}
	for _, p := range r.procs {
		if p.workload == account.Unrecognised || p.allowed == "" {
			continue
		}
		s, ok := parsed[p.allowed]
		if !ok {
			s, _ = cpuset.Parse(p.allowed)
			parsed[p.allowed] = s
		}
		sets[p.workload] = sets[p.workload].Union(s)
	}
	for w, s := range sets {
		r.registry.SetAllowed(w, s.String())
	}
}

// namespace is what is remembered of one network namespace.
type namespace struct {
	seen  int64
	index int // in the reading of that count
	born  bool
}

// netns is the identity of a process's network namespace, 0 when it may not be known.
func (r *Reader) netns(pid int32) uint64 {
	target, err := r.proc.readlink(r.proc.atPID(pid, "ns/net"))
	if err != nil {
		return 0
	}
	digits := bytes.TrimSuffix(bytes.TrimPrefix(target, []byte("net:[")), []byte("]"))
	n, ok := number(digits)
	if !ok {
		return 0
	}
	return uint64(n)
}

// readNamespaces reads the interfaces of each network namespace but the host's, through one process that is in it.
func (r *Reader) readNamespaces(dst *account.Reading) {
	dst.Namespaces = dst.Namespaces[:0]
	if r.hostNet == 0 {
		return
	}
	for i := range dst.Processes {
		p := &dst.Processes[i]
		ns := r.procs[p.PID].netns
		if ns == 0 || ns == r.hostNet || p.Kernel {
			continue
		}
		known := r.spaces[ns]
		if known != nil && known.seen == r.count {
			if a := &dst.Namespaces[known.index]; a.Workload != p.Workload {
				a.Workload = account.Unrecognised
			}
			continue
		}
		b, err := r.proc.read(r.proc.atPID(p.PID, "net/dev"))
		if err != nil {
			continue
		}
		a := account.Namespace{ID: ns, Workload: p.Workload}
		if !ifaceBytes(b, func(name []byte, received, sent int64) {
			if string(name) != "lo" {
				a.Bytes += received + sent
			}
		}) {
			continue
		}
		if known == nil {
			known = &namespace{born: r.count > 1 && p.StartUptime() >= r.uptime}
			r.spaces[ns] = known
		} else {
			known.born = false
		}
		known.seen, known.index = r.count, len(dst.Namespaces)
		a.Born = known.born
		dst.Namespaces = append(dst.Namespaces, a)
	}
	for id, n := range r.spaces {
		if n.seen < r.count {
			delete(r.spaces, id)
		}
	}
}
