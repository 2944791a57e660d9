package hub

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strconv"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// AboutWorkload is everything that is known of one workload.
type AboutWorkload struct {
	WorkloadLine
	Key        string            `json:"key" doc:"Tells it from others on its host, and from earlier ones of its name."`
	UID        *int64            `json:"uid" doc:"Of the owner; null when not known."`
	Path       string            `json:"path" doc:"The cgroup it was recognised by; empty for none."`
	Recogniser string            `json:"recogniser" doc:"What claimed it."`
	Evidence   string            `json:"evidence" doc:"What it was recognised by."`
	Unnamed    string            `json:"names_unavailable,omitempty" doc:"Why an outside system could not be asked about it."`
	Labels     map[string]string `json:"labels"`
	Facts      map[string]string `json:"facts" doc:"What else is known of it; the unit of a number is in its name."`
	Around     *WorkloadRef      `json:"around,omitempty" doc:"The workload around it, such as a container's pod; left out for none."`
	Inside     []WorkloadRef     `json:"inside" doc:"Workloads inside it: their use is not in its own."`
	Rule       string            `json:"rule" doc:"The rule that gives it to its tenant; empty where none does."`
	History    []HeldBy          `json:"history" doc:"To whom it was accounted, oldest first."`
	Held       Held              `json:"held"`
	FirstAt    time.Time         `json:"first_at"`
	LastAt     *time.Time        `json:"last_at" doc:"End of the newest interval it was in."`
	EndedAt    *time.Time        `json:"ended_at"`
	Exit       string            `json:"exit,omitempty" doc:"How it ended, where known."`
	DueAt      *time.Time        `json:"due_at" doc:"When its first usage is due; null once there is some."`
	Parts      []Part            `json:"parts" doc:"CPU time of its virtual CPUs or steps, where they are told apart."`
	Programs   []ProgramLine     `json:"programs" doc:"What its programs used over the span, most CPU time first."`
	Families   []Family          `json:"families" doc:"Its processes at the newest interval's end: one entry a family, most CPU time first."`
	ProcessAt  *time.Time        `json:"processes_at" doc:"When these processes were read; null where the collector tells of none."`
	OverS      float64           `json:"processes_over_seconds" doc:"The time their use is over."`
	CPUMates   []Mate            `json:"shares_cpus_with" doc:"What ran on the same CPUs over the span, most CPU time there first."`
	DiskMates  []Mate            `json:"shares_disks_with" doc:"What else used the host's disks over the span, most bytes first."`
	Figures    []Measure         `json:"figures" doc:"What was counted beside the amounts; what is not here was not counted for it."`
	Space      string            `json:"space_unavailable" doc:"Why the space its files take is not known; empty where it is among the figures."`
	Events     []Event           `json:"events" doc:"Oldest first."`
}

// WorkloadRef names a workload.
type WorkloadRef struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// HeldBy says to whom a workload was accounted from a time on.
type HeldBy struct {
	From   time.Time `json:"from"`
	Tenant string    `json:"tenant"`
	Rule   string    `json:"rule" doc:"The rule then; empty for none."`
}

// Held is what a workload is entitled to.
type Held struct {
	MayUseCPUs  float64  `json:"may_use_cpus" doc:"CPUs it may use at once: the least of its limit, the CPUs it may run on, and what it asked for."`
	By          string   `json:"may_use_by" enum:"limit,cpuset,asked,host" doc:"Which of these it is; host where nothing limits it."`
	Allowed     string   `json:"allowed_cpus" doc:"CPUs its processes may run on, kernel list format."`
	CPULimit    *float64 `json:"cpu_limit_cores"`
	CPUAsked    *float64 `json:"cpus_asked" doc:"By a job, or virtual CPUs of a machine."`
	MemoryLimit *float64 `json:"memory_limit_bytes"`
	MemoryAsked *float64 `json:"memory_asked_bytes"`
	GPUs        string   `json:"gpus" doc:"The host's numbers of the GPUs allotted; empty for none."`
}

// Part is CPU time of one part of a workload.
type Part struct {
	Name       string  `json:"name"`
	CPUSeconds float64 `json:"cpu_seconds"`
}

// ProgramLine is what one program of a workload used.
type ProgramLine struct {
	Family    string `json:"family" doc:"Program at the head of the family."`
	Program   string `json:"program"`
	Processes int    `json:"processes"`
	Use
}

// Family is a process with all its descendants within a workload.
type Family struct {
	Head        Process   `json:"head"`
	Processes   int       `json:"processes"`
	Threads     int       `json:"threads"`
	Runnable    int       `json:"runnable_threads"`
	Cores       float64   `json:"cores"`
	MemoryBytes float64   `json:"memory_bytes"`
	CPUs        string    `json:"cpus" doc:"CPUs they last ran on."`
	Members     []Process `json:"members" doc:"Parents before children, the head first; at most 200."`
}

// Process is one process at its host's newest reading.
type Process struct {
	PID         int32    `json:"pid"`
	Parent      int32    `json:"parent"`
	Depth       int      `json:"depth" doc:"0 for the head of a family."`
	Program     string   `json:"program"`
	UID         int64    `json:"uid"`
	Threads     int32    `json:"threads"`
	Runnable    int32    `json:"runnable_threads"`
	CPU         int32    `json:"cpu" doc:"That it last ran on."`
	Cores       float64  `json:"cores"`
	MemoryBytes float64  `json:"memory_bytes"`
	DiskRate    *float64 `json:"disk_bytes_per_second"`
}

// Mate is another workload that uses the same resource.
type Mate struct {
	WorkloadRef
	Tenant string  `json:"tenant"`
	Amount float64 `json:"amount" doc:"CPU seconds on the same CPUs, or bytes."`
	Source string  `json:"source"`
}

// Event is something that happened to a workload.
type Event struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// mostMates and mostMembers bound what one answer lists.
const (
	mostMates   = 8
	mostMembers = 200
)

// AboutWorkload answers everything about a workload, with its use over a span.
func (h *Hub) AboutWorkload(ctx context.Context, id int64, span store.Span) (*AboutWorkload, error) {
	w, err := h.store.WorkloadByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem(NotFound, "there is no workload of the number %d: vinescale find looks for one", id)
	}
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := h.store.WorkloadUses(ctx, store.UseQuestion{Span: span, HostID: w.HostID})
	if err != nil {
		return nil, err
	}
	use := store.WorkloadUse{Workload: w, HostName: w.Host.Name}
	known := false
	for i := range uses {
		if uses[i].ID == id {
			use, known = uses[i], true
		}
	}
	a := &AboutWorkload{
		WorkloadLine: h.line(&use, &w.Host, names, known),
		Key:          w.Key, Path: w.Path, Recogniser: w.Recogniser, Evidence: w.Facts[account.FactWhy],
		Unnamed: w.Facts[account.FactUnnamed],
		Labels:  map[string]string{}, Facts: map[string]string{}, Inside: []WorkloadRef{}, History: []HeldBy{},
		Held:    heldBy(&w, w.Host.CPUs),
		FirstAt: w.FirstAt.UTC(), LastAt: utc(w.SeenUntil(&w.Host)), EndedAt: utc(w.EndedAt),
		Exit: w.Facts[account.FactExit], DueAt: utc(w.DueAt),
		Figures: []Measure{}, Parts: []Part{}, Programs: []ProgramLine{}, Families: []Family{}, CPUMates: []Mate{},
		DiskMates: []Mate{}, Events: []Event{},
	}
	if w.UID >= 0 {
		a.UID = &w.UID
	}
	for k, v := range w.Labels {
		a.Labels[k] = v
	}
	for k, v := range w.Facts {
		if k != account.FactWhy && k != account.FactUnnamed {
			a.Facts[k] = v
		}
	}
	for _, fill := range []func(context.Context, *AboutWorkload, *store.Workload, store.Span, map[int32]string) error{
		h.fillNesting, h.fillHistory, h.fillParts, h.fillProcesses, h.fillFigures,
	} {
		if err := fill(ctx, a, &w, span, names); err != nil {
			return nil, err
		}
	}
	return a, h.fillMates(ctx, a, &w, span, names, uses)
}

func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}

func (h *Hub) fillNesting(ctx context.Context, a *AboutWorkload, w *store.Workload, _ store.Span,
	_ map[int32]string) error {
	if w.OuterKey != "" {
		outer, err := h.store.WorkloadByKey(ctx, w.HostID, w.OuterKey)
		if err == nil {
			a.Around = &WorkloadRef{outer.ID, outer.Name, outer.Kind}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	inner, err := h.store.Around(ctx, w.HostID, w.Key)
	for i := range inner {
		a.Inside = append(a.Inside, WorkloadRef{inner[i].ID, inner[i].Name, inner[i].Kind})
	}
	return err
}

func (h *Hub) fillHistory(ctx context.Context, a *AboutWorkload, w *store.Workload, _ store.Span,
	names map[int32]string) error {
	history, err := h.store.Assignments(ctx, w.ID)
	if err != nil {
		return err
	}
	a.Events = append(a.Events, Event{w.FirstAt.UTC(), "first seen"})
	for i, x := range history {
		a.History = append(a.History, HeldBy{x.FromAt.UTC(), named(names, x.TenantID), x.Rule})
		a.Rule = x.Rule
		if i > 0 {
			a.Events = append(a.Events, Event{x.FromAt.UTC(), "accounted to " + named(names, x.TenantID)})
		}
	}
	if w.EndedAt != nil {
		what := "ended"
		if a.Exit != "" {
			what += ": " + a.Exit
		}
		a.Events = append(a.Events, Event{w.EndedAt.UTC(), what})
	}
	slices.SortStableFunc(a.Events, func(x, y Event) int { return x.At.Compare(y.At) })
	return nil
}

func (h *Hub) fillParts(ctx context.Context, a *AboutWorkload, w *store.Workload, span store.Span,
	_ map[int32]string) error {
	parts, err := h.store.Parts(ctx, w.HostID, w.ID, span)
	if err != nil {
		return err
	}
	for _, p := range parts {
		a.Parts = append(a.Parts, Part{p.Name, float64(p.Micros) / 1e6})
	}
	programs, err := h.store.Programs(ctx, []int64{w.ID}, span)
	for _, p := range programs {
		u := store.WorkloadUse{CPU: p.CPU, Memory: p.Memory, Disk: p.Disk, Network: p.Network}
		line := ProgramLine{Family: p.Family, Program: p.Program, Processes: p.Processes,
			Use: useOf(&u, max(a.ElapsedMillis, 1))}
		if line.Program == "" {
			line.Program = account.NoProgramName
		}
		a.Programs = append(a.Programs, line)
	}
	return err
}

func (h *Hub) fillProcesses(ctx context.Context, a *AboutWorkload, w *store.Workload, _ store.Span,
	_ map[int32]string) error {
	running, at, over, err := h.store.Running(ctx, w.HostID)
	if err != nil || at.IsZero() {
		return err
	}
	a.ProcessAt, a.OverS = &at, over.Seconds()
	var mine []store.RunningProcess
	for _, p := range running {
		if p.WorkloadID == w.ID {
			mine = append(mine, p)
		}
	}
	a.Families = families(mine, over)
	return nil
}

// families puts processes under the topmost process above each, however deep.
func families(processes []store.RunningProcess, over time.Duration) []Family {
	byPID := map[int32]*store.RunningProcess{}
	children := map[int32][]*store.RunningProcess{}
	for i := range processes {
		byPID[processes[i].PID] = &processes[i]
	}
	out := []Family{}
	var heads []*store.RunningProcess
	for i := range processes {
		p := &processes[i]
		if byPID[p.Parent] == nil || p.Parent == p.PID {
			heads = append(heads, p)
		} else {
			children[p.Parent] = append(children[p.Parent], p)
		}
	}
	for _, head := range heads {
		var f Family
		var ran cpuset.Set
		var visit func(p *store.RunningProcess, depth int)
		visit = func(p *store.RunningProcess, depth int) {
			x := processOf(p, depth, over)
			f.Processes++
			f.Threads, f.Runnable = f.Threads+int(p.Threads), f.Runnable+int(p.Runnable)
			f.Cores, f.MemoryBytes = f.Cores+x.Cores, f.MemoryBytes+x.MemoryBytes
			ran = ran.Union(cpuset.Of(int(p.LastCPU)))
			if len(f.Members) < mostMembers {
				f.Members = append(f.Members, x)
			}
			for _, c := range children[p.PID] {
				visit(c, depth+1)
			}
		}
		visit(head, 0)
		f.Head, f.CPUs = f.Members[0], ran.String()
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b Family) int {
		return cmp.Or(cmp.Compare(b.Cores, a.Cores), cmp.Compare(b.MemoryBytes, a.MemoryBytes),
			cmp.Compare(a.Head.PID, b.Head.PID))
	})
	return out
}

func processOf(p *store.RunningProcess, depth int, over time.Duration) Process {
	x := Process{
		PID: p.PID, Parent: p.Parent, Depth: depth, Program: p.Program, UID: p.UID, Threads: p.Threads,
		Runnable: p.Runnable, CPU: p.LastCPU,
		MemoryBytes: float64(p.Memory),
	}
	if over > 0 {
		x.Cores = float64(p.CPU) / float64(over.Microseconds())
		if p.Disk >= 0 {
			rate := float64(p.Disk) / over.Seconds()
			x.DiskRate = &rate
		}
	}
	return x
}

// fillMates finds what used the same CPUs and disks.
func (h *Hub) fillMates(ctx context.Context, a *AboutWorkload, w *store.Workload, span store.Span,
	names map[int32]string, uses []store.WorkloadUse) error {
	rows, err := h.store.CPUUse(ctx, w.HostID, span)
	if err != nil {
		return err
	}
	mine := map[int32]bool{}
	for _, r := range rows {
		if r.WorkloadID == w.ID && r.Micros > 0 {
			mine[r.CPU] = true
		}
	}
	there := map[int64]*Mate{}
	for _, r := range rows {
		if r.WorkloadID == w.ID || !mine[r.CPU] || r.Micros == 0 {
			continue
		}
		if there[r.WorkloadID] == nil {
			there[r.WorkloadID] = &Mate{Source: amount.Source(r.Source).String()}
		}
		there[r.WorkloadID].Amount += float64(r.Micros) / 1e6
	}
	for i := range uses {
		u := &uses[i]
		ref := WorkloadRef{u.ID, u.Name, u.Kind}
		if m := there[u.ID]; m != nil {
			m.WorkloadRef, m.Tenant = ref, named(names, u.TenantID)
			a.CPUMates = append(a.CPUMates, *m)
		}
		if u.ID != w.ID && u.Disk > 0 {
			a.DiskMates = append(a.DiskMates, Mate{ref, named(names, u.TenantID), u.Disk,
				amount.Source(u.DiskSource).String()})
		}
	}
	for _, mates := range []*[]Mate{&a.CPUMates, &a.DiskMates} {
		slices.SortStableFunc(*mates, func(x, y Mate) int { return cmp.Compare(y.Amount, x.Amount) })
		*mates = (*mates)[:min(len(*mates), mostMates)]
	}
	return nil
}

// heldBy reads what a workload is entitled to from its facts.
func heldBy(w *store.Workload, hostCPUs int) Held {
	fact := func(name string) *float64 {
		v, err := strconv.ParseFloat(w.Facts[name], 64)
		if err != nil || v <= 0 {
			return nil
		}
		return &v
	}
	x := Held{
		Allowed: w.Allowed, CPULimit: fact(account.FactCPULimit), CPUAsked: fact(account.FactCPUAsked),
		MemoryLimit: fact(account.FactMemoryLimit),
		MemoryAsked: fact(account.FactMemoryAsked), GPUs: w.Facts[account.FactGPUs], MayUseCPUs: float64(hostCPUs),
		By: "host",
	}
	least := func(v float64, by string) {
		if v > 0 && v < x.MayUseCPUs {
			x.MayUseCPUs, x.By = v, by
		}
	}
	if set, err := cpuset.Parse(w.Allowed); err == nil {
		least(float64(set.Len()), "cpuset")
	}
	if x.CPULimit != nil {
		least(*x.CPULimit, "limit")
	}
	if x.CPUAsked != nil && w.Kind == amount.Job.String() {
		least(*x.CPUAsked, "asked")
	}
	return x
}

// reasonOf says why a workload lacks a figure.
func reasonOf(r amount.Resource, w *store.Workload, known bool, now time.Time) string {
	switch {
	case !known && w.DueAt != nil && w.LastAt == nil:
		return sheet.FirstReading(w.DueAt.Sub(now))
	case !known:
		return "it did not run in this span"
	}
	return sheet.Reason(r)
}
