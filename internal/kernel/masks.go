package kernel

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/cpuset"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// masks is what is known of the CPUs that tasks may run on.
type masks struct {
	isDue  bool // this reading tells them
	strays []stray
	lists  map[uint64]string     // by the kernel's number of a mask, kernel list format
	parsed map[string]cpuset.Set // of lists
	from   int                   // the place among processes from which on threads are looked into next
}

// stray is a thread that may run on other CPUs than the first of its process, as eBPF tells it; of a machine, any but
// the first.
type stray struct {
	pid, tid int32
	mask     uint64
	comm     string
}

// maskOf is which CPUs a thread may run on.
type maskOf struct{ comm, allowed string }

const (
	// mostThreadsLooked bounds how many threads are asked in one reading where they may run, where eBPF does not tell.
	mostThreadsLooked = 1024
	// mostMasksKept bounds how many masks are remembered.
	mostMasksKept = 4096
	// mostMasks is how many masks of a workload are told.
	mostMasks = 4
)

// tellMasks records, per workload, on which CPUs its threads may run: their affinity masks within their cpusets. Where
// they differ within a workload, that is a fact of it: a child that was given another mask than its parent, or kept one
// that its parent lost, a thread that was given one of its own.
func (r *Reader) tellMasks() {
	if len(r.masks.lists) > mostMasksKept || len(r.masks.parsed) > mostMasksKept || r.masks.lists == nil {
		r.masks.lists, r.masks.parsed = map[uint64]string{}, map[string]cpuset.Set{}
	}
	if r.counters.Has(bpf.Tasks) {
		r.placeStrays()
	} else {
		r.lookForStrays()
	}
	all := map[account.WorkloadID]*workloadMasks{}
	for pid, p := range r.tasks.procs {
		if p.workload == account.Unrecognised || p.allowed == "" {
			continue
		}
		w := all[p.workload]
		if w == nil {
			w = &workloadMasks{uses: map[string]*maskUse{}}
			all[p.workload] = w
		}
		w.allowed = w.allowed.Union(r.parsedMask(p.allowed))
		w.use(p.allowed, pid, r.maskHolder(p), true)
		for _, s := range p.strays {
			w.allowed = w.allowed.Union(r.parsedMask(s.allowed))
			if number, isCPU := identify.VirtualCPU(s.comm); isCPU && p.machine {
				w.vcpus = append(w.vcpus, maskOf{number, s.allowed})
			} else if s.allowed != p.allowed {
				w.use(s.allowed, pid, "thread "+s.comm+" of "+p.comm, false)
			}
		}
	}
	for id, w := range all {
		r.registry.SetAllowed(id, w.allowed.String())
		r.registry.SetFact(id, account.FactMasks, w.text())
		r.registry.SetFact(id, account.FactVCPUMasks, w.vcpuText())
	}
}

// maskHolder names a process with another mask than others of its workload: with its parent, where that has another.
func (r *Reader) maskHolder(p *process) string {
	parent := r.tasks.procs[p.parent]
	if parent == nil || parent.workload != p.workload || parent.allowed == p.allowed || parent.allowed == "" {
		return p.comm
	}
	return fmt.Sprintf("%s, child of %s on %s", p.comm, parent.comm, parent.allowed)
}

func (r *Reader) parsedMask(list string) cpuset.Set {
	set, ok := r.masks.parsed[list]
	if !ok {
		set, _ = cpuset.Parse(list) // the kernel's own
		r.masks.parsed[list] = set
	}
	return set
}

// placeStrays gives the threads that eBPF told of to their processes.
func (r *Reader) placeStrays() {
	for _, p := range r.tasks.procs {
		p.strays = p.strays[:0]
	}
	for _, s := range r.masks.strays {
		p := r.tasks.procs[s.pid]
		if p == nil || p.kernel {
			continue
		}
		list, ok := r.masks.lists[s.mask]
		if !ok {
			if list, ok = r.threadMask(s.pid, s.tid); !ok {
				continue // it has ended
			}
			r.masks.lists[s.mask] = list
		}
		p.strays = append(p.strays, maskOf{s.comm, list})
	}
}

// lookForStrays asks threads one by one: those of as many processes as one reading has time for, the next ones the next
// time.
func (r *Reader) lookForStrays() {
	left := mostThreadsLooked
	pids := slices.Sorted(maps.Keys(r.tasks.procs))
	for n := range pids {
		at := (r.masks.from + n) % len(pids)
		pid, p := pids[at], r.tasks.procs[pids[at]]
		if p.kernel || p.threads < 2 {
			p.strays = p.strays[:0]
			continue
		}
		if left -= int(p.threads); left < 0 && n > 0 {
			r.masks.from = at
			return
		}
		r.lookAtThreads(pid, p)
	}
}

func (r *Reader) lookAtThreads(pid int32, p *process) {
	p.strays = p.strays[:0]
	r.tasks.tids = r.tasks.tids[:0]
	if err := r.proc.List(r.proc.AtPID(pid, "task"), r.tasks.taskListing, func(e tree.Entry) {
		if n, ok := text.Number(e.Name); ok && n < 1<<31 && int32(n) != pid {
			r.tasks.tids = append(r.tasks.tids, int32(n))
		}
	}); err != nil {
		return
	}
	slices.Sort(r.tasks.tids)
	for _, tid := range r.tasks.tids[:min(len(r.tasks.tids), mostThreadsLooked)] {
		list, ok := r.threadMask(pid, tid)
		if !ok || list == p.allowed && !p.machine {
			continue
		}
		path := tree.AppendInt(r.proc.AtPID(pid, "task/"), int64(tid))
		if b, err := r.proc.Read(append(path, "/comm"...)); err == nil {
			p.strays = append(p.strays, maskOf{string(text.TrimNewline(b)), list})
		}
	}
}

// threadMask reads where a thread may run; false where it has ended.
func (r *Reader) threadMask(pid, tid int32) (string, bool) {
	b, err := r.proc.Read(append(tree.AppendInt(r.proc.AtPID(pid, "task/"), int64(tid)), "/status"...))
	if err != nil {
		return "", false
	}
	_, allowed, _ := text.ParseStatus(b)
	return r.intern(allowed), len(allowed) > 0
}

// workloadMasks are the masks of a workload's threads.
type workloadMasks struct {
	allowed cpuset.Set
	uses    map[string]*maskUse
	vcpus   []maskOf // by the number of the virtual CPU
}

// maskUse is how many processes have a mask, and the first of those that do; of a thread, where no process has it.
type maskUse struct {
	processes int
	pid       int32
	holder    string
	ofProcess bool
}

func (w *workloadMasks) use(mask string, pid int32, holder string, ofProcess bool) {
	m := w.uses[mask]
	if m == nil {
		m = &maskUse{pid: pid, holder: holder, ofProcess: ofProcess}
		w.uses[mask] = m
	}
	if ofProcess {
		m.processes++
	}
	if ofProcess && !m.ofProcess || ofProcess == m.ofProcess && pid < m.pid {
		m.pid, m.holder, m.ofProcess = pid, holder, ofProcess
	}
}

// text lists the masks, that of most processes first; the others with who has them. It is empty where all have the
// same.
func (w *workloadMasks) text() string {
	if len(w.uses) < 2 {
		return ""
	}
	order := slices.SortedFunc(maps.Keys(w.uses), func(a, b string) int {
		x, y := w.uses[a], w.uses[b]
		return cmp.Or(
			cmp.Compare(y.processes, x.processes),
			cmp.Compare(x.pid, y.pid),
			cmp.Compare(x.holder, y.holder),
		)
	})
	parts := make([]string, 0, mostMasks)
	for i, mask := range order[:min(len(order), mostMasks)] {
		if i > 0 {
			mask += " (" + w.uses[mask].holder + ")"
		}
		parts = append(parts, mask)
	}
	return strings.Join(parts, "; ")
}

// vcpuText lists where each virtual CPU may run, as account.FactVCPUPins does.
func (w *workloadMasks) vcpuText() string {
	slices.SortStableFunc(w.vcpus, func(a, b maskOf) int {
		x, _ := strconv.Atoi(a.comm)
		y, _ := strconv.Atoi(b.comm)
		return x - y
	})
	parts := make([]string, len(w.vcpus))
	for i, v := range w.vcpus {
		parts[i] = v.comm + ": " + v.allowed
	}
	return strings.Join(parts, "; ")
}
