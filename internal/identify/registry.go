package identify

import (
	"maps"
	"path"
	"strconv"
	"strings"
	"sync"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// ByPath tells whether a workload begins at a cgroup directory, by its path in its hierarchy ("/a/b").
// It is asked once per directory; ok is false where it begins none.
type ByPath func(path string) (w account.Workload, ok bool)

// ByProcess tells whether a process makes, or belongs to, a workload that has no cgroup of its own. It is asked when a
// process appears and when it runs another program. Inside is the workload whose cgroup the process is in; its zero
// value stands for none.
type ByProcess func(p *Process, inside account.Workload) (w account.Workload, ok bool)

// Registry numbers workloads and programs of one host. It is safe for use from several goroutines.
type Registry struct {
	users     *Users
	byPath    []recogniser[ByPath]
	byProcess []recogniser[ByProcess]
	asking    *asking
	runtimes  *runtimes
	jobs      batch

	mu        sync.Mutex
	workloads []account.Workload
	byKey     map[string]account.WorkloadID
	byLoose   map[looseKey]account.WorkloadID
	programs  []string
	byProgram map[string]int32
}

type recogniser[F any] struct {
	name string
	ask  F
}

type looseKey struct {
	uid     int64
	program string
	script  string // that the program, an interpreter, runs
	brief   bool
}

// Roots are the places identity is read from. The zero value of a field is the host's own.
type Roots struct {
	Etc  string // passwd, group
	Run  string // OCI runtimes' state directories, utmp
	Proc string
}

// Options for NewRegistry.
type Options struct {
	Roots      Roots
	Boot       string // boot id: what is numbered anew at each start, as sign-ins are, is told apart by it
	Self       int32  // pid of the process that reads this host; 0 where it reads another's files
	Sites      []Site
	Informants []Informant
}

// NewRegistry makes a registry with every recogniser.
//
// Recognisers are tried in the order in which they stand here, and the first that claims a cgroup or a process has it.
// What knows most of it comes first:
//
//   - Work that this program began has a group that only root could make, and is nothing else.
//   - A site's own way of naming its jobs comes before all, because the administrator has said so.
//   - A runtime's own record names a container for certain, so it comes before what only follows from a path: the name
//     of a pod, of an engine's container, of a machine's scope. A pod is not mistaken for an engine's container.
//   - Machines, jobs and sign-ins come before units: they run in scopes, which are units of the init system too, and a
//     unit would claim all of them.
//   - By process, this program comes first, so that nothing can claim what it uses itself. A machine's command line
//     comes before a job's environment, since a machine that a job began is a workload of its own. A sign-in comes
//     last: nearly everything a user runs has its audit session.
//
// A new recogniser goes where it claims nothing that a better one would name.
func NewRegistry(o Options) *Registry {
	run, proc := or(o.Roots.Run, "/run"), or(o.Roots.Proc, "/proc")
	r := &Registry{
		users:   NewUsers(or(o.Roots.Etc, "/etc")),
		byKey:   map[string]account.WorkloadID{},
		byLoose: map[looseKey]account.WorkloadID{}, byProgram: map[string]int32{},
	}
	oci := newRuntimes(run, proc, r.users)
	r.runtimes = oci
	machines := machines{run, proc, r.users, bootMark(o.Boot)}
	r.jobs = batch{r.users, r.trusted}
	signIns := sessions{r.users, bootMark(o.Boot)}
	r.byPath = []recogniser[ByPath]{
		{
			BegunRecogniser,
			begun{run, r.users}.recognise,
		}, {"OCI runtime", oci.recognise}, {"pod", oci.pod}, {"container engine", engine{r.users}.recognise},
		{"virtual machine", machines.byPath},
		{"batch job", r.jobs.byPath}, {"sign-in", signIns.byPath}, {"unit", services{r.users}.recognise},
	}
	r.byProcess = []recogniser[ByProcess]{
		{"virtual machine", machines.byProcess}, {"batch job", r.jobs.byProcess}, {"sign-in", signIns.byProcess},
	}
	for _, s := range o.Sites {
		site := site{s, r.users}
		r.byPath = append([]recogniser[ByPath]{{s.Name, site.byPath}}, r.byPath...)
		r.byProcess = append([]recogniser[ByProcess]{{s.Name, site.byProcess}}, r.byProcess...)
	}
	r.byProcess = append([]recogniser[ByProcess]{{"this process", self{o.Self}.byProcess}}, r.byProcess...)
	r.asking = newAsking(append([]Informant{&utmp{path.Join(run, "utmp"), proc}}, o.Informants...))
	return r
}

func or(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// bootMark is enough of a boot id to tell one start of a host from another.
func bootMark(boot string) string { return boot[:min(len(boot), 8)] }

// Users are the host's.
func (r *Registry) Users() *Users { return r.users }

// NextReading says that a reading begins: what is looked for in vain in one is not looked for again until the next.
func (r *Registry) NextReading() { r.runtimes.next() }

// Begins returns the workload that begins at a cgroup directory, or Unrecognised.
func (r *Registry) Begins(path string) account.WorkloadID {
	if path == "/" {
		return account.Unrecognised
	}
	for _, x := range r.byPath {
		if w, ok := x.ask(path); ok {
			w.Path, w.Recogniser = path, x.name
			if w.Owner == "" && w.UID < 0 {
				if uid, ok := uidOfSlice(path); ok { // a rootless engine's
					w.Owner, w.UID = r.users.Name(uid), uid
				}
			}
			return r.intern(w, "the name of its cgroup")
		}
	}
	return account.Unrecognised
}

// OfProcess returns the workload that a process makes or belongs to by itself, whatever its cgroup. Inside is the
// workload of its cgroup, or Unrecognised: containers, jobs and machines keep what runs in their cgroups.
func (r *Registry) OfProcess(p *Process, inside account.WorkloadID) account.WorkloadID {
	var around account.Workload
	if inside != account.Unrecognised {
		around = r.Workload(inside)
		if around.Kind != amount.Session && around.Kind != amount.Service {
			return account.Unrecognised
		}
	}
	for _, x := range r.byProcess {
		if w, ok := x.ask(p, around); ok {
			w.Recogniser = x.name
			return r.intern(w, "process "+strconv.Itoa(int(p.PID)))
		}
	}
	return account.Unrecognised
}

// Loose returns the workload of a user's processes that belong to nothing else and descend from one program.
func (r *Registry) Loose(uid int64, program string) account.WorkloadID {
	return r.LooseScript(uid, program, "")
}

// LooseScript is Loose of a program that is an interpreter, with the script that it runs: the workload is called by
// that. Rules see the program as before.
func (r *Registry) LooseScript(uid int64, program, script string) account.WorkloadID {
	program = sound(program)
	key := looseKey{uid: uid, program: program, script: script}
	r.mu.Lock()
	id, ok := r.byLoose[key]
	r.mu.Unlock()
	if ok {
		return id
	}
	name, called, rest := r.users.Name(uid), program, program
	if script != "" {
		called, rest = script, program+":"+script
	}
	id = r.intern(account.Workload{
		Key: "loose:" + strconv.FormatInt(uid, 10) + ":" + rest, Kind: amount.Loose, Name: called + " of " + name,
		Owner: name, UID: uid,
		Recogniser: "user and program", Facts: map[string]string{account.FactProgram: program},
	}, "in no container, machine, job, sign-in or unit")
	r.mu.Lock()
	r.byLoose[key] = id
	r.mu.Unlock()
	return id
}

// Brief returns the workload of a user's programs that belong to nothing else and have not lived long enough, or are
// not large enough, to be workloads of their own.
func (r *Registry) Brief(uid int64) account.WorkloadID {
	key := looseKey{uid: uid, brief: true}
	r.mu.Lock()
	id, ok := r.byLoose[key]
	r.mu.Unlock()
	if ok {
		return id
	}
	name := r.users.Name(uid)
	id = r.intern(account.Workload{
		Key: "brief:" + strconv.FormatInt(
			uid,
			10,
		), Kind: amount.Loose, Name: "brief programs of " + name, Owner: name,
		UID: uid, Recogniser: "user", Facts: map[string]string{},
	}, "in no container, machine, job, sign-in or unit, and in no family that lived a minute or was large")
	r.mu.Lock()
	r.byLoose[key] = id
	r.mu.Unlock()
	return id
}

func (r *Registry) intern(w account.Workload, evidence string) account.WorkloadID {
	w = soundWorkload(w)
	id, isNew := r.number(&w, evidence)
	if isNew {
		// Not while the registry is locked: what is asked has a lock of its own, under which it is told of answers.
		r.asking.add(id, w)
	}
	return id
}

func (r *Registry) number(w *account.Workload, evidence string) (id account.WorkloadID, isNew bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if id, ok := r.byKey[w.Key]; ok {
		return id, false
	}
	if w.Facts[account.FactWhy] == "" {
		w.Facts[account.FactWhy] = sound(evidence)
	}
	if groups := r.users.Groups(w.UID); len(groups) > 0 {
		w.Facts[account.FactGroups] = strings.Join(groups, ",")
	}
	id = account.WorkloadID(len(r.workloads))
	r.workloads = append(r.workloads, *w)
	r.byKey[w.Key] = id
	return id, true
}

// trusted finds a job that was recognised by its cgroup, which only the scheduler could make.
func (r *Registry) trusted(key string, uid int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	id, ok := r.byKey[key]
	return ok && (r.workloads[id].UID == uid || r.workloads[id].UID < 0)
}

// Workload returns what an id stands for. Its maps are never changed: a change makes new ones.
func (r *Registry) Workload(id account.WorkloadID) account.Workload {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.workloads[id]
}

// Count is how many workloads have been recognised so far; ids are below it.
func (r *Registry) Count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.workloads)
}

// SetAllowed records the CPUs a workload's processes may run on, in the kernel's list format.
func (r *Registry) SetAllowed(id account.WorkloadID, cpus string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.workloads[id].Allowed = cpus
}

// SetFact records a fact of a workload; "" takes it back.
func (r *Registry) SetFact(id account.WorkloadID, name, value string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.setFact(id, name, value)
}

func (r *Registry) setFact(id account.WorkloadID, name, value string) {
	w := &r.workloads[id]
	if value = sound(value); w.Facts[name] == value {
		return
	}
	facts := maps.Clone(w.Facts)
	if value == "" {
		delete(facts, name)
	} else {
		facts[name] = value
	}
	w.Facts = facts
}

// Program numbers a program by its name. It does not keep name, and allocates only for a new one.
func (r *Registry) Program(name []byte) int32 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if id, ok := r.byProgram[string(name)]; ok {
		return id
	}
	id := int32(len(r.programs))
	r.programs = append(r.programs, sound(string(name)))
	r.byProgram[string(name)] = id
	return id
}

// ProgramName returns a program's name. NoProgram is what no living process explains.
func (r *Registry) ProgramName(id int32) string {
	if id == account.NoProgram {
		return account.NoProgramName
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.programs[id]
}

// Adopt completes what a workload's records leave open by one of its processes: its owner and its program.
func (r *Registry) Adopt(id account.WorkloadID, p *Process, program int32) {
	r.mu.Lock()
	defer r.mu.Unlock()
	w := &r.workloads[id]
	for name, value := range r.jobs.complete(p, w) {
		r.setFact(id, name, value)
	}
	if w.Owner == "" {
		w.UID = p.Person()
		w.Owner = sound(r.users.Name(w.UID))
		r.setFact(id, account.FactGroups, strings.Join(r.users.Groups(w.UID), ","))
	}
	if w.Facts[account.FactProgram] == "" && int(program) < len(r.programs) {
		r.setFact(id, account.FactProgram, r.programs[program])
	}
}

// sound makes a name that any process can choose fit for storing: valid UTF-8, no NUL, not endless.
func sound(s string) string {
	const longest = 512
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
	if len(s) > longest {
		s = strings.ToValidUTF8(s[:longest], "") + "…"
	}
	return s
}

// mostLabels bounds what one workload may bring along.
const mostLabels = 100

func soundWorkload(w account.Workload) account.Workload {
	w.Key, w.Name, w.Owner, w.Path, w.Outer = sound(
		w.Key,
	), sound(
		w.Name,
	), sound(
		w.Owner,
	), sound(
		w.Path,
	), sound(
		w.Outer,
	)
	w.Labels, w.Facts = soundMap(w.Labels), soundMap(w.Facts)
	return w
}

func soundMap(m map[string]string) map[string]string {
	out := make(map[string]string, len(m))
	for k, v := range m {
		if v != "" && len(out) < mostLabels {
			out[sound(k)] = sound(v)
		}
	}
	return out
}
