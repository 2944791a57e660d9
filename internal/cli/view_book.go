package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/api"
	"vinescale/internal/client"
	"vinescale/internal/hub"
	"vinescale/internal/screen"
	"vinescale/internal/sheet"
)

// The pages of a screen.
const (
	pageWorkloads = "Workloads"
	pageHosts     = "Hosts"
	pageCPUs      = "CPUs"
	pageMemory    = "Memory"
	pageDisks     = "Disks"
	pageNetwork   = "Network"
	pageGPUs      = "GPUs"
	pageSensors   = "Sensors"
	pageSignedIn  = "Signed in"
	pageEvents    = "Events"
	// Within what was opened.
	withinGroup    = "Its workloads"
	withinWorkload = "Families"
	withinFamily   = "Processes"
	withinProcess  = "Threads"
)

// bookSource reads what a service tells: of the fleet, or of a host or a tenant alone.
type bookSource struct {
	to           *client.Client
	host, tenant string
}

func (b *bookSource) Title() string {
	switch {
	case b.host != "":
		return "host " + visible(b.host)
	case b.tenant != "":
		return "tenant " + visible(b.tenant)
	}
	return "all hosts"
}

func (b *bookSource) Paces() []time.Duration { return livePaces }

// livePaces are those that are offered in the live view; --pace takes any between.
var livePaces = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second,
	time.Minute}

func (b *bookSource) Pages() []screen.Page {
	measures := amount.ResourceNames()
	if b.tenant != "" {
		return []screen.Page{
			{Name: pageWorkloads, By: []string{"workload", "user", "kind", "host"}, Measures: measures},
			{Name: pageSignedIn},
			{Name: pageEvents},
		}
	}
	by := []string{"workload", "tenant", "user", "kind", "program"}
	pages := []screen.Page{{Name: pageWorkloads, By: append(by, "host"), Measures: measures}, {Name: pageHosts}}
	if b.host != "" {
		pages = []screen.Page{{Name: pageWorkloads, By: by, Measures: measures}, {Name: pageCPUs}, {Name: pageMemory}}
	}
	return append(pages, screen.Page{Name: pageDisks}, screen.Page{Name: pageNetwork}, screen.Page{Name: pageGPUs},
		screen.Page{Name: pageSensors}, screen.Page{Name: pageSignedIn}, screen.Page{Name: pageEvents})
}

// Read asks the service; its answers are of live frames, of the newest ticks.
func (b *bookSource) Read(ctx context.Context, want screen.Want) (*screen.Sheet, error) {
	s, err := b.read(ctx, want)
	if err != nil {
		return nil, err
	}
	if b.host != "" {
		leaveOut(s, "host")
	}
	if b.tenant != "" {
		leaveOut(s, "tenant")
	}
	var p api.LivePace // without it the figures are told all the same
	if b.to.Get(ctx, api.Prefix+"/pace", b.query(nil), &p) == nil && p.Hosts > 0 {
		s.Cost = fmt.Sprintf("reading takes %.3f CPUs", p.ReadingCores)
	}
	return s, nil
}

func (b *bookSource) read(ctx context.Context, want screen.Want) (*screen.Sheet, error) {
	live := b.query(url.Values{"live": {sheet.SpanText(want.Pace)}})
	get := func(path string, q url.Values, out any) error { return b.to.Get(ctx, api.Prefix+path, q, out) }
	switch want.Page {
	case pageWorkloads:
		return b.workloads(get, live, want)
	case pageHosts:
		return b.hosts(get)
	case pageCPUs:
		var c explain.CPUs
		if err := get("/hosts/"+url.PathEscape(b.host)+"/cpus", live, &c); err != nil {
			return nil, err
		}
		return cpuSheet(&c), nil
	case pageMemory:
		var m explain.Memory
		if err := get("/hosts/"+url.PathEscape(b.host)+"/memory", live, &m); err != nil {
			return nil, err
		}
		s := sheetOf("memory", memoryColumns, nil, m.Workloads, func(w explain.MemoryUser, r *screen.Row) {
			within(r, w.ID, w.Name, b.host)
		})
		return s, b.ledger(get, live, "memory", s)
	case pageDisks:
		var d explain.Disks
		if err := get("/disks", live, &d); err != nil {
			return nil, err
		}
		return diskSheet(&d), nil
	case pageNetwork:
		var l explain.Links
		if err := get("/interfaces", live, &l); err != nil {
			return nil, err
		}
		return linkSheet(&l), nil
	case pageGPUs:
		var g explain.GPUs
		if err := get("/gpus", live, &g); err != nil {
			return nil, err
		}
		return gpuSheet(&g), nil
	case pageSensors:
		var lines []hub.SensorLine
		if err := get("/sensors", b.query(nil), &lines); err != nil {
			return nil, err
		}
		return sensorSheet(lines), nil
	case pageSignedIn:
		live.Set("where", "kind == 'session'")
		var lines []hub.WorkloadLine
		if err := get("/workloads", live, &lines); err != nil {
			return nil, err
		}
		return signInSheet(lines), nil
	case pageEvents:
		return b.events(get)
	case withinGroup:
		return b.group(get, live, want)
	}
	return b.within(get, live, want)
}

type getter func(path string, q url.Values, out any) error

// query is a query of what is looked at alone.
func (b *bookSource) query(q url.Values) url.Values {
	if q == nil {
		q = url.Values{}
	}
	if b.host != "" {
		q.Set("host", b.host)
	}
	if b.tenant != "" {
		q.Set("tenant", b.tenant)
	}
	return q
}

// ledger puts the ledger of a resource above a sheet. What a tenant uses has none.
func (b *bookSource) ledger(get getter, live url.Values, measure string, s *screen.Sheet) error {
	if b.tenant != "" {
		return nil
	}
	q := url.Values{"of": {measure}, "by": {"kind"}, "live": live["live"]}
	if b.host != "" {
		q.Set("host", b.host)
	}
	var l sheet.Ledger
	if err := get("/ledger", q, &l); err != nil {
		return err
	}
	if l.CoveredTo == nil {
		s.Head = append([]string{"No live frames have come yet: hosts tell them every few seconds."}, s.Head...)
		return nil
	}
	s.Head, s.At = append([]string{ledgerLine(&l)}, s.Head...), *l.CoveredTo
	return nil
}

func (b *bookSource) workloads(get getter, live url.Values, want screen.Want) (*screen.Sheet, error) {
	var s *screen.Sheet
	switch want.By {
	case "workload":
		var lines []hub.WorkloadLine
		if err := get("/workloads", live, &lines); err != nil {
			return nil, err
		}
		s = sheetOf("workloads", workloadColumns, usualOfWorkloads(), lines, workloadRow)
		byMeasure(s, want.Measure)
	case "program":
		var lines []hub.ProgramTotal
		if err := get("/programs", live, &lines); err != nil {
			return nil, err
		}
		s = sheetOf("programs", programColumns, nil, lines, func(hub.ProgramTotal, *screen.Row) {})
	default:
		live.Set("by", want.By)
		var groups []hub.WorkloadGroup
		if err := get("/groups", live, &groups); err != nil {
			return nil, err
		}
		s = sheetOf("workloads", groupColumns(want.By), nil, groups,
			func(g hub.WorkloadGroup, r *screen.Row) { r.Open = groupPlace(want.By, g.Name) })
		byMeasure(s, want.Measure)
	}
	return s, b.ledger(get, live, want.Measure, s)
}

// groupPlace is where the workloads of a group are: of a tenant, a user, a kind or a host.
func groupPlace(by, name string) *screen.Place {
	return &screen.Place{Page: withinGroup, Of: by + "=" + name, Name: by + " " + visible(name)}
}

// group lists the workloads of a group.
func (b *bookSource) group(get getter, live url.Values, want screen.Want) (*screen.Sheet, error) {
	by, name, _ := strings.Cut(want.Of, "=")
	of := *b
	switch by {
	case "host":
		of.host = name
		live.Set("host", name)
	case "tenant":
		live.Set("tenant", name)
	case "user":
		live.Set("where", "owner == "+strconv.Quote(name))
	default:
		live.Set("where", by+" == "+strconv.Quote(name))
	}
	want.By, want.Measure = "workload", amount.CPU.String()
	s, err := of.workloads(get, live, want)
	if err == nil {
		leaveOut(s, by, map[string]string{"user": "owner"}[by])
	}
	return s, err
}

func groupColumns(by string) []column[hub.WorkloadGroup] {
	return append([]column[hub.WorkloadGroup]{
		{name: "name", head: by, value: func(g hub.WorkloadGroup) any { return g.Name }},
		{
			name:  "workloads",
			head:  "workloads",
			right: true,
			value: func(g hub.WorkloadGroup) any { return g.Workloads },
		},
	}, meanColumns(func(g hub.WorkloadGroup, r amount.Resource) *float64 { return partMean(g.Uses, r) })...)
}

func workloadRow(w hub.WorkloadLine, r *screen.Row) {
	within(r, w.ID, w.Name, w.Host)
	r.Find = strings.Join([]string{w.Facts["origin"], w.Facts["unit"], strconv.FormatInt(w.ID, 10)}, " ")
}

// within makes a line one of a workload: it can be opened, and acted on.
func within(r *screen.Row, id int64, name, host string) {
	number := strconv.FormatInt(id, 10)
	r.Key = number
	r.Open = &screen.Place{Page: withinWorkload, Of: number, Name: visible(name) + " on " + visible(host)}
	target := "workload/" + number
	r.Acts = []screen.Act{
		{Name: "about", Args: []string{"about", target}},
		{Name: "end", Args: []string{"act", "end", target}},
		{Name: "pause", Args: []string{"act", "pause", target}},
		{Name: "continue", Args: []string{"act", "continue", target}},
		{Name: "weigh", Args: []string{"act", "weigh", target, "--cpu-weight", "50"}},
		{Name: "cap", Args: []string{"act", "cap", target, "--cpu", "1"}},
		{Name: "place", Args: []string{"act", "place", target, "--cpus", "0"}},
	}
}

func (b *bookSource) hosts(get getter) (*screen.Sheet, error) {
	var hosts []api.Host
	if err := get("/hosts", nil, &hosts); err != nil {
		return nil, err
	}
	return sheetOf("hosts", hostColumns, nil, hosts, func(h api.Host, r *screen.Row) {
		r.Open = groupPlace("host", h.Name)
	}), nil
}

func (b *bookSource) events(get getter) (*screen.Sheet, error) {
	q := b.query(url.Values{"span": {"1h"}, "first": {"200"}})
	var list []explain.Event
	if err := get("/events/past", q, &list); err != nil {
		return nil, err
	}
	s := sheetOf("events", eventColumns, nil, list, func(e explain.Event, r *screen.Row) {
		r.Key = fmt.Sprint(e.At.UnixNano(), e.Host, e.ID, e.Kind)
	})
	s.Note = "of the last hour, the newest first"
	return s, nil
}

// within reads what was opened: a workload's families, or a family's processes.
func (b *bookSource) within(get getter, live url.Values, want screen.Want) (*screen.Sheet, error) {
	id, pid, _ := strings.Cut(want.Of, "/")
	var a hub.AboutWorkload
	if err := get("/workloads/"+id, url.Values{"live": live["live"]}, &a); err != nil {
		return nil, err
	}
	head := workloadHead(&a)
	var s *screen.Sheet
	if pid == "" {
		s = familySheet(a.Families, want.Of, a.Host)
	} else {
		s = processSheet(a.Families, pid, func(p explain.Process) running {
			return running{Process: p, user: fmt.Sprint("uid ", p.UID)}
		}, "", a.Host)
		s.Note = "threads and where they wait are told by a closer look (a), or on the host itself by live --here"
	}
	s.Head = head
	if a.ProcessAt != nil {
		s.Head = append(s.Head, fmt.Sprintf("processes as they were at %s, over %.0f s",
			shownAt(*a.ProcessAt, time.TimeOnly), a.OverS))
	} else {
		s.Note = "its host has not told of its processes yet"
	}
	return s, nil
}

// workloadHead says what is known of a workload, for above its families.
func workloadHead(a *hub.AboutWorkload) []string {
	line := fmt.Sprintf("%s %s, owner %s, %s", a.Kind, visible(a.Name), visible(a.Owner), visible(a.State))
	if a.Tenant != "" {
		line += ", tenant " + visible(a.Tenant)
	}
	may := fmt.Sprintf(
		"may use %.4g CPUs (by its %s), has %s with %s, %.1f of them runnable",
		a.MayUseCPUs,
		a.MayUseBy,
		some(a.Processes, "process", "processes"),
		some(a.Threads, "thread", "threads"),
		a.RunnableMean,
	)
	var uses []string
	for i := range a.Uses {
		if u := &a.Uses[i]; u.Now != nil || u.Mean != nil {
			v := u.Mean
			if u.Now != nil {
				v = u.Now
			}
			r, err := amount.ParseResource(u.Resource)
			if err == nil {
				uses = append(uses, inSentence(r.Entry().Title)+" "+meanWithUnit(r, *v)+" ("+u.Source+")")
			}
		}
	}
	if limit := a.Held.MemoryLimit; limit != nil {
		may += ", memory up to " + inUnits("memory_bytes", *limit)
	}
	head := []string{line, may, strings.Join(uses, ", ")}
	if a.Path != "" {
		head = append(head, "group "+visible(a.Path))
	}
	return head
}

// inSentence is a title in the middle of a sentence: only abbreviations keep their capitals.
func inSentence(title string) string {
	words := strings.Fields(title)
	for i, w := range words {
		if w != strings.ToUpper(w) {
			words[i] = strings.ToLower(w)
		}
	}
	return strings.Join(words, " ")
}

// some is a number of things in words.
func some(n int64, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

// meanWithUnit is a mean with its unit.
func meanWithUnit(r amount.Resource, v float64) string {
	return meanText(r, v) + " " + lastWord(meanHead(r))
}

func lastWord(s string) string { return s[strings.LastIndexByte(s, ' ')+1:] }
