package kernel

import (
	"bytes"
	"fmt"
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/identify"
)

// process is what is remembered of one process, so that a steady one costs only its changing files.
type process struct {
	start    int64
	seen     int64 // last reading it was in
	since    int64 // reading it was first in
	parent   int32
	workload account.WorkloadID
	inside   account.WorkloadID // of its cgroup, where it is another
	own      account.WorkloadID // that it makes or belongs to by itself; Unrecognised for none
	program  int32
	family   int32 // program of the process at the head of its family
	part     int32 // index of a part's name; -1 for none
	machine  bool  // its threads are told apart
	comm     string
	cgroups  string
	uid      int64
	kernel   bool
	helper   bool  // a kernel thread that works for a process: its use is that process's workload's
	looked   int64 // reading at which it was last looked at
	netns    uint64
	allowed  string
	micros   int64 // CPU time at its last reading
	runnable int32
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
	dst.Threads = dst.Threads[:0]
	r.threadsLeft = threadsPerReading
	for _, pid := range r.pids {
		r.readProcess(dst, pid)
	}
	r.settle(dst)
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
	decided := false
	switch {
	case p == nil || p.start != s.start:
		p = &process{
			start: s.start, since: r.count, comm: string(s.comm), kernel: s.kernel, parent: s.parent, part: -1,
			workload: account.Unrecognised, inside: account.Unrecognised, own: account.Unrecognised,
		}
		r.procs[pid] = p
		decided = r.look(pid, p, true)
	case p.comm != string(s.comm):
		p.comm = string(s.comm)
		decided = r.look(pid, p, true) // it runs another program now
	case r.count-p.since < 2:
		decided = r.look(pid, p, true) // a new process is often moved to its cgroup just after it began
	case (r.count+int64(pid))%r.options.RecheckEvery == 0:
		decided = r.look(pid, p, false)
	}
	if decided {
		r.unsettled = append(r.unsettled, int32(len(dst.Processes)))
	}
	p.seen, p.parent = r.count, s.parent
	a := account.Process{
		PID: pid, Start: s.start, Workload: p.workload, Program: p.program, Family: p.family, Parent: s.parent, UID: p.uid,
		LastCPU: s.cpu, Threads: s.threads, Kernel: p.kernel && !p.helper, CPUMicros: s.micros, DiskBytes: -1,
	}
	a.Within, a.Inside = p.inside, p.inside != account.Unrecognised
	if p.part >= 0 && p.workload != account.Unrecognised {
		dst.Threads = append(dst.Threads, account.Thread{PID: pid, TID: pid, Start: s.start, Workload: p.workload, Part: p.part, CPUMicros: s.micros})
	}
	if !p.kernel {
		if b, err := r.proc.read(r.proc.atPID(pid, "statm")); err == nil {
			a.AnonBytes, _ = parseStatm(b)
		}
		r.sample(dst, pid, p, &s)
		a.Runnable = p.runnable
	}
	p.micros = s.micros
	if b, err := r.proc.read(r.proc.atPID(pid, "io")); err == nil {
		if n, ok := parseIO(b); ok {
			a.DiskBytes = n
		}
	}
	dst.Processes = append(dst.Processes, a)
}

// look reads what seldom changes: whose a process is, what it runs, in which network, on which CPUs. Anew is set where
// it may have become part of another workload; else only a change of its cgroup or user makes it so. It returns whether
// its workload was decided anew.
func (r *Reader) look(pid int32, p *process, anew bool) bool {
	if p.kernel {
		r.lookKernel(p)
		return false
	}
	was := p.uid
	if b, err := r.proc.read(r.proc.atPID(pid, "status")); err == nil {
		if uid, allowed, ok := parseStatus(b); ok {
			p.uid = uid
			if p.allowed != string(allowed) {
				p.allowed = string(allowed)
			}
		}
	}
	if r.hostNet != 0 {
		p.netns = r.netns(pid)
	}
	b, err := r.proc.read(r.proc.atPID(pid, "cgroup"))
	if err != nil {
		b = nil
	}
	if !anew && p.cgroups == string(b) && p.uid == was && r.pathsAge <= p.looked {
		return false
	}
	p.looked = r.count
	if p.cgroups != string(b) {
		p.cgroups = string(b)
	}
	if anew {
		p.program = r.program(pid, p)
	}
	w, known := r.paths[p.cgroups]
	if !known {
		w = r.owns([]byte(p.cgroups)) // reading other files has overwritten b
		r.paths[p.cgroups] = w
	}
	facts := identify.Process{
		PID: pid, Parent: p.parent, Start: p.start, UID: p.uid, Comm: p.comm, Cgroups: p.cgroups,
		LoginUID: r.loginFile(pid, "loginuid"), Session: r.loginFile(pid, "sessionid"),
		Environ: func() []byte { return r.processFile(pid, "environ") }, Cmdline: func() []byte { return r.processFile(pid, "cmdline") },
	}
	p.own = r.registry.OfProcess(&facts, w)
	p.inside = account.Unrecognised
	switch {
	case p.own != account.Unrecognised && p.own != w:
		p.inside, w = w, p.own
	case w == account.Unrecognised && p.own != account.Unrecognised:
		w = p.own
	}
	p.workload = w
	if w != account.Unrecognised {
		r.registry.Adopt(w, &facts, p.program)
		r.lookParts(p)
	}
	return true
}

// lookParts says whether a process's CPU time is told apart from that of others in its workload.
func (r *Reader) lookParts(p *process) {
	p.part, p.machine = -1, false
	switch r.registry.Workload(p.workload).Kind {
	case amount.Job:
		if step := identify.JobStep(p.cgroups); step != "" {
			p.part = r.registry.Program([]byte(step))
		}
	case amount.VM:
		p.machine = true
	}
}

// lookKernel finds the workload of a kernel thread that works for a process.
func (r *Reader) lookKernel(p *process) {
	pid, ok := identify.WorksFor(p.comm)
	if !ok {
		return
	}
	if master := r.procs[pid]; master != nil && !master.kernel && master.workload != account.Unrecognised {
		p.workload, p.helper = master.workload, true
		p.program = r.registry.Program([]byte("vhost"))
		p.family, p.inside, p.part = master.family, master.inside, p.program
	}
}

// settle gives processes whose workload was decided anew their family, which needs all of them read: the program of the topmost
// process above each in its own workload. What is in no workload is loose: of its user, by that program.
func (r *Reader) settle(dst *account.Reading) {
	for _, i := range r.unsettled {
		a := &dst.Processes[i]
		p := r.procs[a.PID]
		loose := p.workload == account.Unrecognised
		head := r.head(a.PID, p, loose)
		p.family = head.program
		if loose {
			p.workload = r.registry.Loose(p.uid, r.registry.ProgramName(head.program))
		}
		a.Workload, a.Family = p.workload, p.family
	}
	r.unsettled = r.unsettled[:0]
}

func (r *Reader) isLoose(w account.WorkloadID) bool {
	for int(w) >= len(r.loose) {
		r.loose = append(r.loose, r.registry.Workload(account.WorkloadID(len(r.loose))).Kind == amount.Loose)
	}
	return r.loose[w]
}

// head is the topmost process above one that is in the same workload, or, for a loose one, loose and of the same user.
func (r *Reader) head(pid int32, p *process, loose bool) *process {
	for range maxDepth {
		up := r.procs[p.parent]
		if up == nil || up.kernel || up.seen < r.count || p.parent <= 1 {
			return p
		}
		if loose {
			if up.uid != p.uid || up.workload != account.Unrecognised && !r.isLoose(up.workload) {
				return p
			}
		} else if up.workload != p.workload {
			return p
		}
		p = up
	}
	return p
}

func (r *Reader) loginFile(pid int32, name string) int64 {
	b, err := r.proc.read(r.proc.atPID(pid, name))
	if err != nil {
		return identify.NoUser
	}
	n, ok := number(trimNewline(b))
	if !ok || n == 1<<32-1 {
		return identify.NoUser
	}
	return n
}

// processFile returns a copy of a file that a process can fill as it likes; nil when it may not be read.
func (r *Reader) processFile(pid int32, name string) []byte {
	b, err := r.proc.read(r.proc.atPID(pid, name))
	if err != nil {
		return nil
	}
	return bytes.Clone(b[:min(len(b), 256<<10)])
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
