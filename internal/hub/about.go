package hub

import (
	"context"
	"errors"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/store"
)

// AboutWorkload is everything that is known of one workload.
type AboutWorkload struct {
	WorkloadLine
	Key        string                `json:"key" doc:"Tells it from others of its name."`
	UID        *int64                `json:"uid" doc:"Of the owner; null when not known."`
	Path       string                `json:"path" doc:"The cgroup it was recognised by; empty for none."`
	Recogniser string                `json:"recogniser" doc:"What claimed it."`
	Evidence   string                `json:"evidence" doc:"What it was recognised by."`
	Unnamed    string                `json:"names_unavailable,omitempty" doc:"Why another system could not be asked."`
	Labels     map[string]string     `json:"labels"`
	Facts      map[string]string     `json:"facts" doc:"What else is known of it; the unit of a number is in its name."`
	Around     *explain.WorkloadRef  `json:"around,omitempty" doc:"Such as a container's pod; left out for none."`
	Inside     []explain.WorkloadRef `json:"inside" doc:"Workloads inside it: their use is not in its own."`
	Rule       string                `json:"rule" doc:"The rule that gives it to its tenant; empty where none does."`
	History    []HeldBy              `json:"history" doc:"To whom it was accounted, oldest first."`
	Held       explain.Held          `json:"held"`
	FirstAt    time.Time             `json:"first_at"`
	LastAt     *time.Time            `json:"last_at" doc:"End of the newest interval it was in."`
	EndedAt    *time.Time            `json:"ended_at"`
	Exit       string                `json:"exit,omitempty" doc:"How it ended, where known."`
	DueAt      *time.Time            `json:"due_at" doc:"When its first usage is due; null once there is some."`
	Parts      []Part                `json:"parts" doc:"CPU time of its virtual CPUs or steps."`
	Programs   []ProgramLine         `json:"programs" doc:"What its programs used over the span, most CPU time first."`
	Families   []explain.Family      `json:"families" doc:"Its processes now, most CPU time first."`
	ProcessAt  *time.Time            `json:"processes_at" doc:"When they were read; null for none."`
	OverS      float64               `json:"processes_over_seconds" doc:"The time their use is over."`
	CPUMates   []explain.Mate        `json:"shares_cpus_with" doc:"What ran on the same CPUs, most first."`
	DiskMates  []explain.Mate        `json:"shares_disks_with" doc:"What else used the disks, most first."`
	Figures    []explain.Figure      `json:"figures" doc:"What was counted beside the amounts."`
	GPUs       []explain.WorkloadGPU `json:"gpus" doc:"Those it was given or used, over its life."`
	Space      string                `json:"space_unavailable" doc:"Why its files' space is not known."`
	Events     []WorkloadEvent       `json:"events" doc:"Oldest first."`

	explain.Missed
}

// HeldBy says to whom a workload was accounted from a time on.
type HeldBy struct {
	From   time.Time `json:"from"`
	Tenant string    `json:"tenant"`
	Rule   string    `json:"rule" doc:"The rule then; empty for none."`
}

// Part is CPU time of one part of a workload.
type Part struct {
	Name       string  `json:"name"`
	CPUSeconds float64 `json:"cpu_seconds"`
}

// ProgramLine is what one program of a workload used.
type ProgramLine struct {
	Family    string    `json:"family" doc:"Program at the head of the family."`
	Program   string    `json:"program"`
	Processes int       `json:"processes"`
	Uses      []PartUse `json:"uses" doc:"One per resource, in the order of resources."`
}

// WorkloadEvent is something that happened to a workload.
type WorkloadEvent struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// workload finds a workload by its number.
func (h *Hub) workload(ctx context.Context, id int64) (store.Workload, error) {
	w, err := h.store.WorkloadByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return w, problem(NotFound, "there is no workload of the number %d: vinescale find looks for one", id)
	}
	return w, err
}

// HostOfWorkload is the name of the host that a workload is on.
func (h *Hub) HostOfWorkload(ctx context.Context, id int64) (string, error) {
	w, err := h.workload(ctx, id)
	return w.Host.Name, err
}

// AboutWorkload answers everything about a workload, with its use over a span.
func (h *Hub) AboutWorkload(ctx context.Context, id int64, span question.Span) (*AboutWorkload, error) {
	w, err := h.workload(ctx, id)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, w.Host.Name)
	if err != nil {
		return nil, err
	}
	mine := scope
	mine.Only = []int64{id}
	answer, err := h.store.Ask(ctx, question.Question{Scope: mine, Measures: amount.Resources(),
		By: []question.Dimension{question.Workload}, State: true})
	if err != nil {
		return nil, err
	}
	var row *question.Row
	tenant := named(names, w.TenantID)
	if len(answer.Rows) > 0 {
		row = &answer.Rows[0]
		tenant = named(names, row.Tenant)
	}
	core := w.Core()
	a := &AboutWorkload{
		WorkloadLine: h.line(&w, &w.Host, tenant, row),
		Key:          w.Key, Path: w.Path, Recogniser: w.Recogniser, Evidence: w.Facts[account.FactWhy],
		Unnamed: w.Facts[account.FactUnnamed], Labels: map[string]string{}, Facts: map[string]string{},
		Inside: []explain.WorkloadRef{}, History: []HeldBy{}, Held: explain.HeldBy(&core, w.Host.CPUs),
		FirstAt: w.FirstAt.UTC(), LastAt: utc(w.SeenUntil(&w.Host)), EndedAt: utc(w.EndedAt),
		Exit: w.Facts[account.FactExit], DueAt: utc(w.DueAt), Figures: []explain.Figure{}, Parts: []Part{},
		Programs: []ProgramLine{}, Families: []explain.Family{}, CPUMates: []explain.Mate{},
		DiskMates: []explain.Mate{}, Events: []WorkloadEvent{}, GPUs: []explain.WorkloadGPU{},
	}
	inventories, err := h.store.Inventories(ctx, []int32{w.HostID})
	if err != nil {
		return nil, err
	}
	for i, r := range amount.Resources() {
		a.Uses[i].Means = explain.MeansFor(inventories[w.HostID], r, core.Kind)
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
	for _, fill := range []func(context.Context, *AboutWorkload, *store.Workload, question.Scope) error{
		h.fillNesting, h.fillHistory, h.fillParts, h.fillProcesses, h.fillFigures, h.fillMates,
		h.fillGPUs,
	} {
		if err := fill(ctx, a, &w, scope); err != nil {
			return nil, err
		}
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return nil, err
	}
	a.Missed, err = h.missed(ctx, &scope, stretch, amount.Resources()...)
	return a, err
}

// ref names a stored workload.
func ref(w *store.Workload) *explain.WorkloadRef {
	return &explain.WorkloadRef{ID: w.ID, Name: w.Name, Kind: w.Kind}
}

func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}

func (h *Hub) fillNesting(ctx context.Context, a *AboutWorkload, w *store.Workload, _ question.Scope) error {
	if w.OuterKey != "" {
		outer, err := h.store.WorkloadByKey(ctx, w.HostID, w.OuterKey)
		if err == nil {
			a.Around = ref(&outer)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	inner, err := h.store.Around(ctx, w.HostID, w.Key)
	for i := range inner {
		a.Inside = append(a.Inside, *ref(&inner[i]))
	}
	return err
}

func (h *Hub) fillHistory(ctx context.Context, a *AboutWorkload, w *store.Workload, _ question.Scope) error {
	names, err := h.tenantNames(ctx)
	if err != nil {
		return err
	}
	history, err := h.store.Assignments(ctx, w.ID)
	if err != nil {
		return err
	}
	a.Events = append(a.Events, WorkloadEvent{w.FirstAt.UTC(), "first seen"})
	for i, x := range history {
		a.History = append(a.History, HeldBy{x.FromAt.UTC(), named(names, x.TenantID), x.Rule})
		a.Rule = x.Rule
		if i > 0 {
			a.Events = append(a.Events, WorkloadEvent{x.FromAt.UTC(), "accounted to " + named(names, x.TenantID)})
		}
	}
	if w.EndedAt != nil {
		what := "ended"
		if a.Exit != "" {
			what += ": " + a.Exit
		}
		a.Events = append(a.Events, WorkloadEvent{w.EndedAt.UTC(), what})
	}
	slices.SortStableFunc(a.Events, func(x, y WorkloadEvent) int { return x.At.Compare(y.At) })
	return nil
}

func (h *Hub) fillParts(ctx context.Context, a *AboutWorkload, w *store.Workload, scope question.Scope) error {
	scope.Only = []int64{w.ID}
	parts, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.CPU},
		By: []question.Dimension{question.Part}, Order: question.Order{By: "name"}})
	if err != nil {
		return err
	}
	for _, p := range parts.Rows {
		a.Parts = append(a.Parts, Part{p.Name, p.Sums[0].Units / 1e6})
	}
	programs, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: amount.Resources(),
		By: []question.Dimension{question.Family, question.Program}})
	if err != nil {
		return err
	}
	for i := range programs.Rows {
		p := &programs.Rows[i]
		line := ProgramLine{Family: p.Family, Program: p.Name, Processes: p.Parts,
			Uses: partUses(p, max(a.ElapsedMillis, 1))}
		if line.Program == "" {
			line.Program = account.NoProgramName
		}
		a.Programs = append(a.Programs, line)
	}
	return nil
}

func (h *Hub) fillProcesses(ctx context.Context, a *AboutWorkload, w *store.Workload, _ question.Scope) error {
	running, at, over, err := h.store.Running(ctx, w.HostID)
	if err != nil || at.IsZero() {
		return err
	}
	a.ProcessAt, a.OverS = &at, over.Seconds()
	a.Families = explain.Families(slices.DeleteFunc(running,
		func(p explain.Running) bool { return p.Workload != w.ID }),
		over)
	return nil
}

// fillFigures tells what was counted beside the amounts.
func (h *Hub) fillFigures(ctx context.Context, a *AboutWorkload, w *store.Workload, scope question.Scope) error {
	a.Space = explain.NoSpace(w.Core().Kind)
	scope.Only = []int64{w.ID}
	var tables []string
	for _, r := range amount.Resources() {
		tables = append(tables, leaf.OfResource(r)...)
	}
	g, err := h.gatherIn(ctx, &scope, tables)
	if err != nil {
		return err
	}
	a.Figures = g.Figures(w.ID, max(a.ElapsedMillis, 1))
	for _, f := range a.Figures {
		if f.Name == amount.SpaceUsed.String() {
			a.Space = ""
		}
	}
	return nil
}

// fillMates finds what used the same CPUs and disks.
func (h *Hub) fillMates(ctx context.Context, a *AboutWorkload, w *store.Workload, scope question.Scope) error {
	ran, users, err := h.ranWhere(ctx, scope)
	if err != nil {
		return err
	}
	disk, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.Disk},
		By: []question.Dimension{question.Workload, question.Tenant}})
	if err != nil {
		return err
	}
	var uses []explain.HostUse
	for _, r := range disk.Rows {
		u := explain.User{Workload: r.Workload, Tenant: r.Tenant}
		users = append(users, u)
		uses = append(uses, explain.HostUse{User: u, Units: r.Sums[0].Units, Source: r.Sums[0].Source})
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return err
	}
	a.CPUMates, a.DiskMates = explain.CPUMates(w.ID, ran[w.HostID], names), explain.DiskMates(w.ID, uses, names)
	return nil
}
