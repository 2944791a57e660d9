package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/text"
	"vinescale/internal/screen"
	"vinescale/internal/sheet"
	"vinescale/internal/wire"
)

// hereSource reads the kernel of the host that it runs on, without any service. Nobody's tenants are known to it.
type hereSource struct {
	roots  *hostRoots
	reader *kernel.Reader

	readings [2]account.Reading
	turn     int
	tracker  account.Tracker
	interval *account.Interval // nil before the second reading
	at       time.Time         // of the last reading
	running  []explain.Running
	over     time.Duration

	inventory  *account.Inventory
	surveyedAt time.Time
	spent      time.Duration // CPU time of this process at the last reading
	cost       string
	sights     map[int32]kernel.Sight // of this round of looks, by pid or tid
	before     map[int32]kernel.Sight // of the round before
	lookedAt   time.Time
	beforeAt   time.Time
	lookedOver time.Duration
}

// surveyEvery is how often it is read what the host is made of, and its sensors.
const surveyEvery = 5 * time.Second

func newHere(roots *hostRoots) (*hereSource, error) {
	reader, err := roots.open(0)
	if err != nil {
		return nil, err
	}
	return &hereSource{roots: roots, reader: reader, sights: map[int32]kernel.Sight{}}, nil
}

func (h *hereSource) Title() string { return "this host, " + visible(h.roots.name) }
func (h *hereSource) close()        { h.reader.Close() }

func (h *hereSource) Paces() []time.Duration { return livePaces }

func (h *hereSource) Pages() []screen.Page {
	return []screen.Page{{Name: pageWorkloads, By: sheet.Dimensions, Measures: amount.ResourceNames()},
		{Name: pageCPUs}, {Name: pageDisks}, {Name: pageNetwork}, {Name: pageGPUs}, {Name: pageSensors},
		{Name: pageSignedIn}}
}

// Read reads the kernel, unless it has just been read for another page.
func (h *hereSource) Read(ctx context.Context, want screen.Want) (*screen.Sheet, error) {
	if time.Since(h.at) > want.Pace*3/4 || h.interval == nil && time.Since(h.at) > time.Second/2 {
		if err := h.tick(ctx); err != nil {
			return nil, err
		}
	}
	s := &screen.Sheet{At: h.at}
	switch {
	case want.Page == pageSensors:
		s = h.sensors()
	case h.interval == nil:
		s.Head = []string{
			"This is the first reading: there is no usage before a second one, which comes within a moment.",
		}
	default:
		s = h.show(want)
		leaveOut(s, "host")
	}
	s.At, s.Cost = h.at, h.cost
	return s, nil
}

// tick reads the kernel once more.
func (h *hereSource) tick(ctx context.Context) error {
	first := h.at.IsZero()
	r := &h.readings[h.turn]
	if err := h.reader.Read(r); err != nil {
		return err
	}
	h.turn = 1 - h.turn
	before := h.at
	h.at = time.Now()
	if h.reader.Registry().ToAsk() {
		h.reader.Registry().Ask(ctx)
	}
	iv, err := h.tracker.Step(r)
	switch {
	case errors.Is(err, account.ErrFirstReading):
		return nil
	case err != nil:
		return err
	}
	h.interval = iv
	processes, over := h.tracker.Running()
	h.running, h.over = h.running[:0], over
	for i := range processes {
		p := &processes[i]
		h.running = append(h.running, explain.Running{Workload: int64(p.Workload), PID: p.PID, Parent: p.Parent,
			Program: h.reader.Registry().ProgramName(p.Program), UID: p.UID, Threads: p.Threads, Runnable: p.Runnable,
			LastCPU: p.LastCPU, CPUMicros: p.Micros, MemoryBytes: p.AnonBytes, DiskBytes: p.Bytes})
	}
	if h.inventory == nil || time.Since(h.surveyedAt) > surveyEvery {
		h.inventory, h.surveyedAt = h.reader.Survey(), time.Now()
	}
	h.tellCost(before, first)
	return nil
}

// tellCost says what this program used since the last reading.
func (h *hereSource) tellCost(before time.Time, first bool) {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return
	}
	spent := time.Duration(u.Utime.Nano() + u.Stime.Nano())
	if !first && h.spent > 0 {
		h.cost = fmt.Sprintf("looking takes %.3f CPUs", (spent-h.spent).Seconds()/h.at.Sub(before).Seconds())
	}
	h.spent = spent
}

func (h *hereSource) names() sheet.Namer { return namer(h.reader.Registry()) }

func (h *hereSource) show(want screen.Want) *screen.Sheet {
	switch want.Page {
	case pageWorkloads:
		return h.workloads(want)
	case pageSignedIn:
		lines := slices.DeleteFunc(
			h.lines(),
			func(w hub.WorkloadLine) bool { return w.Kind != amount.Session.String() },
		)
		return h.alone(signInSheet(lines))
	case withinGroup:
		by, name, _ := strings.Cut(want.Of, "=")
		lines := slices.DeleteFunc(h.lines(), func(w hub.WorkloadLine) bool {
			return map[string]string{"user": w.Owner, "kind": w.Kind}[by] != name
		})
		return h.alone(sheetOf("workloads", workloadColumns, usualOfWorkloads(), lines, workloadRow))
	case withinWorkload, withinFamily, withinProcess:
		return h.within(want)
	}
	g, over, host, names := h.gather()
	switch want.Page {
	case pageCPUs:
		var ran []explain.CPUUse
		for i := range h.interval.Usages {
			u := &h.interval.Usages[i]
			for _, c := range u.CPUs {
				ran = append(ran, explain.CPUUse{User: userOf(u.Workload), CPU: int(c.CPU), Micros: float64(c.Micros),
					Source: u.CPUSource})
			}
		}
		return cpuSheet(explain.ExplainCPUs(over, g, host, ran, names))
	case pageDisks:
		var uses []explain.HostUse
		for i := range h.interval.Usages {
			u := &h.interval.Usages[i]
			uses = append(uses, explain.HostUse{User: userOf(u.Workload), Units: float64(u.Units[amount.Disk]),
				Source: u.Source[amount.Disk]})
		}
		return diskSheet(explain.ExplainDisks(over, g, []explain.Host{*host}, map[int32][]explain.HostUse{0: uses},
			names))
	case pageNetwork:
		return linkSheet(explain.ExplainLinks(over, g, []explain.Host{*host}, names))
	default:
		keys := map[explain.HostKey]explain.User{}
		for i := range h.interval.Usages {
			id := h.interval.Usages[i].Workload
			keys[explain.HostKey{Key: h.reader.Registry().Workload(id).Key}] = userOf(id)
		}
		return gpuSheet(explain.ExplainGPUs(over, g, []explain.Host{*host}, keys, names))
	}
}

// userOf is a workload as explanations know it: 0 would be nobody.
func userOf(id account.WorkloadID) explain.User { return explain.User{Workload: int64(id) + 1} }

// gather lays the interval out as a service does, so that the same code explains it.
func (h *hereSource) gather() (*explain.Gathering, explain.Over, *explain.Host, explain.Names) {
	registry := h.reader.Registry()
	m := wire.FromInterval(h.interval, 1, h.reader.Mode(), registry)
	who := make([]leaf.User, len(h.interval.Usages))
	for i := range who {
		who[i] = userOf(h.interval.Usages[i].Workload)
	}
	l := m.Leaf(0, who)
	l.Fill()
	scope := &question.Scope{Span: question.Span{From: h.interval.From.Add(-time.Second), To: h.interval.To}}
	g := explain.NewGathering()
	g.Add(l.View(scope, func(int32) bool { return true }))
	host := &explain.Host{Name: h.roots.name, CPUs: h.interval.CPUCount, Inventory: h.inventory}
	names := func(u explain.User) explain.UserRef {
		w := registry.Workload(account.WorkloadID(u.Workload - 1))
		return explain.UserRef{WorkloadRef: explain.WorkloadRef{ID: u.Workload, Name: w.Name, Kind: w.Kind.String()},
			Owner: w.Owner}
	}
	return g, explain.Over{From: h.interval.From, To: h.interval.To, Host: h.roots.name}, host, names
}

// lines are the workloads with what they used.
func (h *hereSource) lines() []hub.WorkloadLine {
	lines := make([]hub.WorkloadLine, 0, len(h.interval.Usages))
	for i := range h.interval.Usages {
		u := &h.interval.Usages[i]
		w := h.reader.Registry().Workload(u.Workload)
		held := explain.HeldBy(&w, h.interval.CPUCount)
		x := hub.WorkloadLine{ID: int64(u.Workload), Name: w.Name, Kind: w.Kind.String(), Owner: w.Owner,
			Host: h.roots.name, State: "running", Facts: w.Facts, Processes: int64(u.Procs), Threads: int64(u.Threads),
			RunnablePeak: int64(
				u.RunnablePeak,
			), MayUseCPUs: held.MayUseCPUs, MayUseBy: held.By, HostCPUs: h.interval.CPUCount,
			RunnableMean: float64(u.RunnableMillis) / float64(max(h.interval.ElapsedMillis, 1))}
		for _, r := range amount.Resources() {
			use := hub.WorkloadUse{Resource: r.String(), Source: u.Source[r].String()}
			if u.Source[r] != amount.Unavailable {
				mean := r.Mean(float64(u.Units[r]), h.interval.ElapsedMillis)
				use.Mean = &mean
			}
			x.Uses = append(x.Uses, use)
		}
		lines = append(lines, x)
	}
	return lines
}

func (h *hereSource) workloads(want screen.Want) *screen.Sheet {
	r, err := amount.ParseResource(want.Measure)
	if err != nil {
		r = amount.CPU
	}
	l := sheet.FromInterval(h.roots.name, h.interval, r, want.By, h.names())
	var s *screen.Sheet
	if want.By == "workload" {
		s = sheetOf("workloads", workloadColumns, usualOfWorkloads(), h.lines(), workloadRow)
		byMeasure(s, want.Measure)
	} else {
		usual := []string{"name", "kind", "owner", "mean", "source", "parts", "reason"}
		s = sheetOf("share", shareColumns, usual, l.Shares, func(x sheet.Share, r *screen.Row) {
			if want.By != "program" { // which runs in several workloads
				r.Open = groupPlace(want.By, x.Name)
			}
		})
	}
	s.Head = []string{ledgerLine(&l)}
	if line := loadLine(explain.LoadOf(h.interval.Detail.Load, h.at), h.interval.CPUCount); line != "" {
		s.Head = append(s.Head, line)
	}
	return h.alone(s)
}

// alone takes from lines what only a service can do or tell.
func (h *hereSource) alone(s *screen.Sheet) *screen.Sheet {
	leaveOut(s, "tenant")
	for i := range s.Rows {
		s.Rows[i].Acts = nil
	}
	return s
}

func (h *hereSource) sensors() *screen.Sheet {
	if h.inventory == nil {
		return &screen.Sheet{Head: []string{"The sensors are read for the first time."}}
	}
	var lines []hub.SensorLine
	for _, x := range h.inventory.Sensors {
		lines = append(lines, hub.SensorLine{Host: h.roots.name, At: h.surveyedAt, Sensor: x})
	}
	return h.alone(sensorSheet(lines))
}

// within shows what was opened: a workload's families, a family's processes, a process's threads.
func (h *hereSource) within(want screen.Want) *screen.Sheet {
	if want.Page == withinProcess {
		pid, _ := strconv.ParseInt(want.Of, 10, 32)
		return h.threads(int32(pid))
	}
	number, pid, _ := strings.Cut(want.Of, "/")
	id, _ := strconv.ParseInt(number, 10, 64)
	families := explain.Families(slices.DeleteFunc(slices.Clone(h.running),
		func(p explain.Running) bool { return p.Workload != id }), h.over)
	if pid == "" {
		s := familySheet(families, want.Of, "")
		for _, x := range h.lines() {
			if x.ID == id {
				w := h.reader.Registry().Workload(account.WorkloadID(id))
				s.Head = workloadHead(&hub.AboutWorkload{WorkloadLine: x, Path: w.Path,
					Held: explain.HeldBy(&w, h.interval.CPUCount)})
			}
		}
		return s
	}
	h.beginLook()
	users := h.reader.Registry().Users()
	return processSheet(families, pid, func(p explain.Process) running {
		x := running{Process: p, user: users.Name(p.UID)}
		if g, ok := kernel.SightOf(h.roots.kernel.Proc, p.PID, h.roots.own()); ok {
			x.at = h.sighted(g)
		}
		return x
	}, withinProcess, "")
}

func (h *hereSource) threads(pid int32) *screen.Sheet {
	h.beginLook()
	var list []*sighted
	for _, g := range kernel.SightsOfThreads(h.roots.kernel.Proc, pid, h.roots.own()) {
		list = append(list, h.sighted(g))
	}
	s := sheetOf("about", taskColumns, nil, list, func(*sighted, *screen.Row) {})
	for i := range s.Columns {
		if s.Columns[i].Name == "path" {
			s.Columns[i].Extra = true
		}
	}
	if len(list) == 0 {
		s.Note = "it has ended"
	}
	return s
}

// beginLook begins a round of looks. Times are compared with those of the round before, unless that was only just:
// the kernel counts them in steps of 10 ms.
func (h *hereSource) beginLook() {
	now := time.Now()
	if now.Sub(h.lookedAt) >= shortestLook {
		h.before, h.beforeAt = h.sights, h.lookedAt
		h.sights, h.lookedAt = map[int32]kernel.Sight{}, now
	}
	h.lookedOver = now.Sub(h.beforeAt)
}

// shortestLook is the least time that two rounds of looks lie apart.
const shortestLook = time.Second / 2

// sighted is a look at a process or thread, and how it spent its time since the last one.
func (h *hereSource) sighted(g kernel.Sight) *sighted {
	x := &sighted{
		id:     g.ID,
		name:   g.Comm,
		path:   g.Program,
		state:  text.StateWords[g.State],
		waits:  g.WaitsIn,
		cpu:    g.CPU,
		nice:   g.Nice,
		isNice: h.roots.own(),
	}
	if was, is := h.before[g.ID]; is && was.Start == g.Start {
		user := (g.User - was.User).Seconds() / h.lookedOver.Seconds()
		system := (g.System - was.System).Seconds() / h.lookedOver.Seconds()
		x.user, x.system = &user, &system
	}
	h.sights[g.ID] = g
	return x
}
