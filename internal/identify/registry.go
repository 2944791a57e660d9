package identify

import (
	"strconv"
	"strings"
	"sync"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Recogniser tells whether a workload begins at a cgroup directory, by its path in its hierarchy ("/a/b").
// It is asked once per directory; ok is false where it begins none.
type Recogniser func(path string) (w account.Workload, ok bool)

// Registry numbers workloads and programs of one host. It is safe for use from several goroutines.
type Registry struct {
	users       *Users
	recognisers []Recogniser

	mu        sync.Mutex
	workloads []account.Workload
	byKey     map[string]account.WorkloadID
	byUID     map[int64]account.WorkloadID
	programs  []string
	byProgram map[string]int32
}

// Roots are the places identity is read from. The zero value of a field is the host's own.
type Roots struct {
	Etc  string // passwd
	Run  string // OCI runtimes' state directories
	Proc string
}

// NewRegistry makes a registry with every recogniser.
func NewRegistry(roots Roots) *Registry {
	users := NewUsers(or(roots.Etc, "/etc"))
	return &Registry{
		users: users,
		recognisers: []Recogniser{
			newContainers(or(roots.Run, "/run"), or(roots.Proc, "/proc"), users).recognise,
			recogniseVM,
			jobs{users}.recognise,
			sessions{users}.recognise,
			services{users}.recognise,
		},
		byKey:     map[string]account.WorkloadID{},
		byUID:     map[int64]account.WorkloadID{},
		byProgram: map[string]int32{},
	}
}

func or(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// Begins returns the workload that begins at a cgroup directory, or Unrecognised.
func (r *Registry) Begins(path string) account.WorkloadID {
	for _, recognise := range r.recognisers {
		if w, ok := recognise(path); ok {
			w.Path = path
			return r.intern(w)
		}
	}
	return account.Unrecognised
}

// Loose returns the workload of a user's processes that belong to nothing else.
func (r *Registry) Loose(uid int64) account.WorkloadID {
	r.mu.Lock()
	id, ok := r.byUID[uid]
	r.mu.Unlock()
	if ok {
		return id
	}
	name := r.users.Name(uid)
	id = r.intern(account.Workload{
		Key: "loose:" + strconv.FormatInt(uid, 10), Kind: amount.Loose, Name: "processes of " + name, Owner: name, UID: uid,
	})
	r.mu.Lock()
	r.byUID[uid] = id
	r.mu.Unlock()
	return id
}

func (r *Registry) intern(w account.Workload) account.WorkloadID {
	w.Key, w.Name, w.Owner, w.Path = sound(w.Key), sound(w.Name), sound(w.Owner), sound(w.Path)
	r.mu.Lock()
	defer r.mu.Unlock()
	if id, ok := r.byKey[w.Key]; ok {
		return id
	}
	id := account.WorkloadID(len(r.workloads))
	r.workloads = append(r.workloads, w)
	r.byKey[w.Key] = id
	return id
}

// Workload returns what an id stands for.
func (r *Registry) Workload(id account.WorkloadID) account.Workload {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.workloads[id]
}

// SetAllowed records the CPUs a workload's processes may run on, in the kernel's list format.
func (r *Registry) SetAllowed(id account.WorkloadID, cpus string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.workloads[id].Allowed = cpus
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

// AdoptOwner gives a workload whose records name no owner the real uid of one of its processes.
func (r *Registry) AdoptOwner(id account.WorkloadID, uid int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if w := &r.workloads[id]; w.Owner == "" {
		w.Owner, w.UID = sound(r.users.Name(uid)), uid
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
