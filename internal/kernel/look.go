package kernel

import (
	"bytes"
	"path"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/text"
)

// look reads what seldom changes: whose a process is, what it runs, in which network, on which CPUs. Anew is set where
// it may have become part of another workload; else only a change of its cgroup or user makes it so. It returns whether
// its workload was decided anew.
func (r *Reader) look(pid int32, p *process, anew bool) bool {
	if p.kernel {
		r.lookKernel(p)
		return false
	}
	was := p.uid
	if b, err := r.proc.Read(r.proc.AtPID(pid, "status")); err == nil {
		if uid, allowed, ok := text.ParseStatus(b); ok {
			p.uid = uid
			if p.allowed != string(allowed) {
				p.allowed = r.intern(allowed)
			}
		}
	}
	if r.net.hostNet != 0 {
		p.netns = r.netns(pid)
	}
	b, err := r.proc.Read(r.proc.AtPID(pid, "cgroup"))
	if err != nil {
		b = nil
	}
	if !anew && p.cgroups == string(b) && p.uid == was && r.cgroups.pathsAge <= p.looked {
		return false
	}
	p.looked = r.count
	if p.cgroups != string(b) {
		p.cgroups = r.intern(b)
	}
	if anew {
		p.program, p.script = r.program(pid, p), ""
		if name := r.registry.ProgramName(p.program); identify.IsInterpreter(name) {
			p.script = identify.Script(name, r.processFile(pid, "cmdline"))
		}
	}
	w, known := r.cgroups.paths[p.cgroups]
	switch {
	case err != nil && p.sight.known: // it has ended since it was listed: what it showed there is what is known
		w = r.workloadOf(p.sight.v2, p.sight.cpuacct)
	case !known:
		w = r.owns([]byte(p.cgroups)) // reading other files has overwritten b
		r.cgroups.paths[p.cgroups] = w
	}
	facts := identify.Process{
		PID: pid, Parent: p.parent, Start: p.start, UID: p.uid, Comm: p.comm, Cgroups: p.cgroups,
		LoginUID: r.loginFile(pid, "loginuid"), Session: r.loginFile(pid, "sessionid"),
		Environ: func() []byte { return r.processFile(pid, "environ") },
		Cmdline: func() []byte { return r.processFile(pid, "cmdline") },
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
		r.lookParts(pid, p)
	}
	return true
}

// lookParts says whether a process's CPU time is told apart from that of others in its workload.
func (r *Reader) lookParts(pid int32, p *process) {
	p.part, p.machine = -1, false
	switch r.registry.Workload(p.workload).Kind {
	case amount.Job:
		if step := identify.JobStep(p.cgroups); step != "" {
			p.part = r.registry.Program([]byte(step))
		}
	case amount.VM:
		p.machine = true
		r.lookTaps(pid, p.workload)
	}
}

// lookKernel finds the workload of a kernel thread that works for a process.
func (r *Reader) lookKernel(p *process) {
	pid, ok := identify.WorksFor(p.comm)
	if !ok {
		return
	}
	if master := r.tasks.procs[pid]; master != nil && !master.kernel && master.workload != account.Unrecognised {
		p.workload, p.helper = master.workload, true
		p.program = r.registry.Program([]byte("vhost"))
		p.family, p.inside, p.part = master.family, master.inside, p.program
	}
}

// loginFile reads a number that the audit system keeps of a process; NoUser where there is none, or it may not be read.
func (r *Reader) loginFile(pid int32, name string) int64 {
	b, err := r.proc.Read(r.proc.AtPID(pid, name))
	if err != nil {
		return identify.NoUser
	}
	n, ok := text.Number(text.TrimNewline(b))
	if !ok || n == 1<<32-1 {
		return identify.NoUser
	}
	return n
}

// processFile returns a copy of a file that a process can fill as it likes; nil when it may not be read.
func (r *Reader) processFile(pid int32, name string) []byte {
	b, err := r.proc.Read(r.proc.AtPID(pid, name))
	if err != nil {
		return nil
	}
	return bytes.Clone(b[:min(len(b), 256<<10)])
}

// program names what a process runs: its executable's base name, or its own name where the link may not be read.
func (r *Reader) program(pid int32, p *process) int32 {
	target, err := r.proc.Readlink(r.proc.AtPID(pid, "exe"))
	if err != nil || len(target) == 0 {
		return r.registry.Program([]byte(p.comm))
	}
	target = bytes.TrimSuffix(target, []byte(" (deleted)"))
	if bytes.HasPrefix(target, []byte("/"+inMemory)) {
		return r.registry.Program([]byte(r.calls(pid, p)))
	}
	return r.registry.Program(target[bytes.LastIndexByte(target, '/')+1:])
}

// inMemory is what the kernel puts before the name of a file that is in memory alone (memfd_create(2)).
const inMemory = "memfd:"

// calls is what a program calls itself that runs from memory, where its file has no name that says anything: the
// process's own name, or where that is the file's or only its number, what its command line begins with.
func (r *Reader) calls(pid int32, p *process) string {
	if _, isNumber := text.Number([]byte(p.comm)); !isNumber && !strings.HasPrefix(p.comm, inMemory) {
		return p.comm
	}
	first, _, _ := bytes.Cut(r.processFile(pid, "cmdline"), []byte{0})
	if name := path.Base(string(first)); len(first) > 0 && !strings.HasPrefix(name, inMemory) && name != "/" {
		return name
	}
	return strings.TrimPrefix(p.comm, inMemory)
}
