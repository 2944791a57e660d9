package explain_test

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// TestStories runs the stories in testdata/stories: what hosts are made of and what was counted in; the explanation
// out.
//
// "host" describes a host and "minute" gives what was counted on it: both in lines of key=value words. The other
// commands ask; an answer is told field by field under the names of the interface. A plain field that is empty or zero
// is not told, nor one that is null: a zero that is known stands there as 0.
//
// A workload is written NAME/TENANT; one that the asker may not see is called "hidden".
func TestStories(t *testing.T) {
	datadriven.Walk(t, "testdata/stories", func(t *testing.T, path string) {
		s := &story{t: t, gathering: explain.NewGathering()}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			s.t = t
			return s.run(d)
		})
	})
}

type story struct {
	t         *testing.T
	gathering *explain.Gathering
	hosts     []explain.Host
	workloads []string // by number, less one
	tenants   []string
}

var epoch = time.Date(2026, 10, 11, 3, 0, 0, 0, time.UTC)

func (s *story) over(host string) explain.Over {
	return explain.Over{From: epoch, To: epoch.Add(time.Hour), Host: host}
}

// number finds a name in a list, or adds it; the first is 1.
func number(list *[]string, name string) int {
	i := slices.Index(*list, name)
	if i < 0 {
		*list = append(*list, name)
		i = len(*list) - 1
	}
	return i + 1
}

func (s *story) user(text string) explain.User {
	workload, tenant, _ := strings.Cut(text, "/")
	u := explain.User{Workload: int64(number(&s.workloads, workload))}
	if tenant != "" {
		u.Tenant = int32(number(&s.tenants, tenant))
	}
	return u
}

func (s *story) names(u explain.User) explain.UserRef {
	tenant := explain.Unassigned
	if u.Tenant > 0 {
		tenant = s.tenants[u.Tenant-1]
	}
	return explain.UserRef{WorkloadRef: explain.WorkloadRef{ID: u.Workload, Name: s.workloads[u.Workload-1]},
		Tenant: tenant}
}

func (s *story) host(name string) *explain.Host {
	for i := range s.hosts {
		if s.hosts[i].Name == name {
			return &s.hosts[i]
		}
	}
	s.t.Fatalf("there is no host %q in this story", name)
	return nil
}

func (s *story) run(d *datadriven.TestData) string {
	name := ""
	if len(d.CmdArgs) > 0 && d.CmdArgs[0].Key == "on" {
		name = d.CmdArgs[0].Vals[0]
	}
	lines := s.lines(d)
	switch d.Cmd {
	case "host":
		s.addHost(d, lines)
		return ""
	case "minute":
		s.addMinute(s.host(name), d, lines)
		return ""
	case "disks":
		moved := map[int32][]explain.HostUse{}
		for _, v := range lines {
			id := s.host(v.text("on")).ID
			moved[id] = append(
				moved[id],
				explain.HostUse{User: s.user(v.text("of")), Units: float64(v.number("units")),
					Source: amount.Summed},
			)
		}
		return told(explain.ExplainDisks(s.over(""), s.gathering, s.hosts, moved, s.names))
	case "interfaces":
		return told(explain.ExplainLinks(s.over(""), s.gathering, s.hosts, s.names))
	case "cpus":
		return told(explain.ExplainCPUs(s.over(name), s.gathering, s.host(name), s.ran(lines), s.names))
	case "memory":
		return s.memory(s.host(name), lines)
	case "pin":
		return s.pin(s.host(name), d, lines)
	case "plan":
		return s.plan(d, lines)
	case "mates":
		id := int64(number(&s.workloads, argument(d, "of")))
		var uses []explain.HostUse
		for _, v := range lines {
			if v.kind == "use" {
				uses = append(uses, explain.HostUse{User: s.user(v.text("of")), Units: float64(v.number("bytes")),
					Source: amount.Counted})
			}
		}
		if uses != nil {
			return told(explain.DiskMates(id, uses, s.names))
		}
		return told(explain.CPUMates(id, s.ran(lines), s.names))
	case "families":
		return s.families(d, lines)
	case "held":
		return s.held(d, lines)
	case "users":
		users := ""
		for _, u := range s.gathering.Users() {
			ref := s.names(u)
			users += ref.Whose() + "\n"
		}
		return users
	case "figures":
		u := s.user(argument(d, "of"))
		return told(s.gathering.Figures(u.Workload, s.gathering.ElapsedMillis(s.hosts[0].ID)))
	case "balance":
		return s.balance(d, lines)
	}
	d.Fatalf(s.t, "unknown command %q", d.Cmd)
	return ""
}

func (s *story) addHost(d *datadriven.TestData, lines []values) {
	h := explain.Host{ID: int32(len(s.hosts) + 1), Name: argument(d, "name")}
	inv := &account.Inventory{}
	for _, v := range lines {
		switch v.kind {
		case "device":
			x := account.Device{Name: v.name, Number: v.device("number"), Kind: v.text("kind"),
				Controller: v.text("behind"), Label: v.text("label"), SizeBytes: v.number("size")}
			if v.has("on") {
				x.Parents = strings.Split(v.text("on"), ",")
			}
			inv.Devices = append(inv.Devices, x)
		case "filesystem":
			inv.Filesystems = append(inv.Filesystems, account.Filesystem{Device: v.name, Mount: v.text("at"),
				Type: v.text("type"), SizeBytes: v.number("size"), UsedBytes: v.number("used"),
				Inodes: v.number(
					"inodes",
				), UsedInodes: v.number("used_inodes"), Unavailable: v.text("unavailable")})
		case "swap":
			inv.Swaps = append(inv.Swaps, account.Swap{Name: v.name, SizeBytes: v.number("size"),
				UsedBytes: v.number("used")})
		case "cpu":
			inv.CPUs = append(inv.CPUs, account.CPUPlace{CPU: v.whole(v.name), Core: int(v.number("core")),
				Package: int(v.number("package")), Node: int(v.number("node")), KHz: int(v.number("khz")),
				MostKHz: int(v.number("most"))})
		default:
			d.Fatalf(s.t, "unknown line %q", v.kind)
		}
	}
	if len(lines) > 0 {
		h.Inventory = inv
	}
	s.hosts = append(s.hosts, h)
}

func (s *story) addMinute(h *explain.Host, d *datadriven.TestData, lines []values) {
	at, err := time.ParseDuration(argument(d, "at"))
	require.NoError(s.t, err)
	long, err := time.ParseDuration(argument(d, "long"))
	require.NoError(s.t, err)
	l := newLeaf(h.ID, at, long)
	slot := int64(0)
	row := func(v values) int64 {
		u := explain.User{}
		if v.text("of") != "hidden" {
			u = s.user(v.text("of"))
		}
		l.Table(leaf.Who).Append(slot, 0, u.Workload, int64(u.Tenant))
		slot++
		return slot - 1
	}
	memory := map[string]int64{}
	for _, v := range lines {
		switch v.kind {
		case "figure":
			measure, err := amount.Parse(v.name)
			require.NoError(s.t, err)
			l.Table(leaf.OfMeasure(measure)).Append(row(v), 0, v.number("units"), int64(v.source()))
		case "moved":
			l.Table(leaf.Devices).Append(row(v), int64(v.device("on")), 0, v.number("read"), v.number("written"),
				v.number("reads"),
				v.number("writes"), v.micros("took"), v.number("discarded"), v.number("discards"),
				int64(v.source()))
		case "swapped":
			l.Table(leaf.Swapped).Append(row(v), l.Word(v.text("on")), 0, v.number("units"))
		case "disk":
			l.Table(leaf.Disks).Append(int64(v.device("number")), 0, l.Word(v.name), 0, v.number("read"),
				v.number("written"), v.number("reads"), v.number("writes"), v.number("merged_reads"),
				v.number("merged_writes"), v.micros("read_took")/1000, v.micros("write_took")/1000,
				v.micros("busy")/1000, v.micros("queued")/1000, v.number("discarded"), v.number("discards"), 0,
				v.number("flushes"), 0,
				v.number("in_flight"), 0)
		case "latency":
			l.Table(leaf.Latencies).
				Append(int64(v.device("on")), truth(v.has("written"))+2*truth(v.has("discarded")),
					v.micros("from"),
					v.micros("to"), 0, v.number("count"))
		case "interface":
			end := explain.User{}
			if v.has("of") && v.text("of") != "hidden" {
				end = s.user(v.text("of"))
			}
			l.Table(leaf.Links).
				Append(l.Word(v.name), 0, l.Word(v.text("kind")), truth(v.has("inner")), v.number("in"),
					v.number("out"), v.number("packets_in"), v.number("packets_out"), v.number("dropped_in"),
					v.number("dropped_out"),
					v.number("errors_in"), v.number("errors_out"), v.number("speed"), end.Workload,
					int64(end.Tenant), l.Word(v.text("peer")))
		case "cpu":
			l.Table(leaf.States).Append(int64(v.whole(v.name)), 0, v.micros("user"), v.micros("nice"),
				v.micros("system"), v.micros("idle"), v.micros("iowait"), v.micros("irq"), v.micros("softirq"),
				v.micros("steal"), v.micros("ran"), truth(!v.has("ran")))
		case "pressure":
			l.Table(leaf.Pressure).Append(l.Word(v.name), 0, v.micros("some"), v.micros("full"))
		case "load":
			for i, name := range []string{"1m", "5m", "15m"} {
				memory["load_"+[]string{"1", "5", "15"}[i]] = leaf.Load(v.float(name))
			}
			memory["loads"] = 3
		case "kernel":
			memory["memory_own"], memory["memory_cache"], memory["memory_huge"] = v.number(
				"own",
			), v.number(
				"cache",
			),
				v.number(
					"huge",
				)
		default:
			d.Fatalf(s.t, "unknown line %q", v.kind)
		}
	}
	in := l.Tables[leaf.Intervals]
	for column, value := range memory {
		in.Of(column)[0] = value
	}
	s.gathering.Add(viewOf(l))
}

// newLeaf is a leaf of one interval in which nothing was counted yet.
func newLeaf(host int32, at, long time.Duration) *leaf.Leaf {
	l := leaf.New(host)
	from := epoch.Add(at)
	in := l.Table(leaf.Intervals)
	for i, c := range in.Schema.Columns {
		if c.Fill == leaf.Stored {
			in.Low[i] = []int64{0}
		}
	}
	in.Of("start")[0], in.Of("end")[0] = from.UnixMicro(), from.Add(long).UnixMicro()
	in.Of("elapsed")[0] = long.Milliseconds()
	return l
}

// viewOf is the whole of a leaf, as one who may see all sees it. Workload 0 is one that may not be seen.
func viewOf(l *leaf.Leaf) *leaf.View {
	scope := question.Scope{Span: question.Span{From: epoch.AddDate(-1, 0, 0), To: epoch.AddDate(1, 0, 0)}}
	return l.View(&scope, func(int32) bool { return true })
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// ran reads the lines that say who ran on which CPU.
// pin audits a declaration. "other" lines are declarations beside it, "holds" lines say whose a rule's is, "stretch"
// lines when something was, on no CPU where the holder waited.
func (s *story) declared(host *explain.Host, lines []values, cpus, of, kind string, shared bool) *explain.Pin {
	set, err := cpuset.Parse(cpus)
	require.NoError(s.t, err)
	holds := map[string]bool{}
	for _, v := range lines {
		if v.kind == "holds" {
			holds[v.text("of")] = true
		}
	}
	return &explain.Pin{Host: host, CPUs: set, Holder: of, Kind: kind, Exclusive: !shared,
		Holds: func(u explain.User) bool {
			who := s.names(u)
			switch kind {
			case explain.HolderWorkload:
				return who.Name == of
			case explain.HolderRule:
				return holds[who.Name]
			}
			return who.Tenant == of
		}}
}

func (s *story) pin(host *explain.Host, d *datadriven.TestData, lines []values) string {
	declared := func(cpus, of, kind string, shared bool) *explain.Pin {
		return s.declared(host, lines, cpus, of, kind, shared)
	}
	kind := explain.HolderTenant
	if d.HasArg("kind") {
		kind = argument(d, "kind")
	}
	pin := declared(argument(d, "cpus"), argument(d, "of"), kind, d.HasArg("shared"))
	ground := explain.PinGround{
		Gathering: s.gathering,
		Pins:      []*explain.Pin{pin},
		Ran:       s.ran(lines),
		Names:     s.names,
	}
	var stretches []explain.PinStretch
	long := 10 * time.Second
	for _, v := range lines {
		switch v.kind {
		case "present":
			present := explain.Present{User: s.user(v.text("of")), Allowed: v.text("allowed")}
			if v.has("masks") {
				present.Masks = v.text("masks")
			}
			ground.Present = append(ground.Present, present)
		case "other":
			kind := explain.HolderTenant
			if v.has("kind") {
				kind = v.text("kind")
			}
			ground.Pins = append(ground.Pins, declared(v.text("cpus"), v.text("of"), kind, v.has("shared")))
		case "stretch":
			cpu := -1
			if v.has("cpu") {
				cpu = int(v.number("cpu"))
			}
			stretches = append(stretches, explain.PinStretch{
				Start:  epoch.Add(time.Duration(v.micros("at")) * time.Microsecond),
				CPUUse: explain.CPUUse{User: s.user(v.text("of")), CPU: cpu, Micros: float64(v.micros("for"))}})
		}
	}
	a := explain.AuditPin(epoch, epoch.Add(time.Minute), pin, &ground)
	if stretches != nil {
		a.Date(stretches, long)
	}
	suspects := ""
	for _, id := range a.Suspects() {
		suspects += " " + s.workloads[id-1]
	}
	if suspects != "" {
		suspects = "suspects" + suspects + "\n"
	}
	return told(a) + suspects
}

// plan plans CPUs on all hosts. A line names what is on one of them: who is present, what is declared, who ran, and
// who has CPUs alone.
func (s *story) plan(d *datadriven.TestData, lines []values) string {
	cpus, err := strconv.Atoi(argument(d, "cpus"))
	require.NoError(s.t, err)
	ask := explain.PinAsk{Holder: argument(d, "of"), Kind: explain.HolderTenant, CPUs: cpus, Alone: !d.HasArg("shared"),
		Keep: 1}
	if d.HasArg("kind") {
		ask.Kind = argument(d, "kind")
	}
	var hosts []*explain.PlanHost
	for i := range s.hosts {
		host := &s.hosts[i]
		if d.HasArg("on") && argument(d, "on") != host.Name {
			continue
		}
		var of []values
		for _, v := range lines {
			if v.text("on") == host.Name {
				of = append(of, v)
			}
		}
		x := &explain.PlanHost{Host: host, CgroupMode: "v1", PinGround: explain.PinGround{Gathering: s.gathering,
			Names: s.names, Ran: s.ran(of)}}
		if d.HasArg("v2") { // and each workload is a container there
			x.CgroupMode = "v2"
			x.Names = func(u explain.User) explain.UserRef {
				who := s.names(u)
				who.Kind = amount.Container.String()
				return who
			}
		}
		x.Holds = s.declared(host, of, "", ask.Holder, ask.Kind, false).Holds
		for _, v := range of {
			switch v.kind {
			case "present":
				x.Present = append(x.Present, explain.Present{User: s.user(v.text("of")), Allowed: v.text("allowed")})
			case "declared":
				kind := explain.HolderTenant
				if v.has("kind") {
					kind = v.text("kind")
				}
				x.Pins = append(x.Pins, s.declared(host, of, v.text("cpus"), v.text("of"), kind, v.has("shared")))
			case "alone":
				set, err := cpuset.Parse(v.text("cpus"))
				require.NoError(s.t, err)
				x.Effective = append(x.Effective, explain.EffectiveUser{User: s.user(v.text("of")), Alone: set})
			}
		}
		hosts = append(hosts, x)
	}
	return told(explain.PlanPins(epoch, epoch.Add(time.Minute), &ask, hosts))
}

func (s *story) ran(lines []values) []explain.CPUUse {
	var ran []explain.CPUUse
	for _, v := range lines {
		if v.kind == "ran" {
			ran = append(ran, explain.CPUUse{User: s.user(v.text("of")), CPU: int(v.number("cpu")),
				Micros: float64(v.micros("for")), Source: v.source()})
		}
	}
	return ran
}

func (v values) line() question.Line {
	if v.has("unavailable") {
		return question.Line{Reason: v.text("unavailable")}
	}
	return question.Line{Units: float64(v.number("units"))}
}

func (v values) sum() question.Sum {
	sum := question.Sum{Units: float64(v.number("units")), Peak: v.float("peak"), Source: v.source(),
		Missing: int(v.number("missing")), Untold: int(v.number("untold"))}
	if v.has("unavailable") {
		sum.Source = amount.Unavailable
	}
	return sum
}

// hostLines reads the lines of a ledger.
func hostLines(lines []values) (l question.Lines) {
	for _, x := range l.Each() {
		for _, v := range lines {
			if v.kind == "line" && v.name == x.Name {
				*x.Line = v.line()
			}
		}
	}
	return l
}

func (s *story) memory(h *explain.Host, lines []values) string {
	ledger := hostLines(lines)
	var uses []explain.MemoryUse
	for _, v := range lines {
		if v.kind != "use" {
			continue
		}
		u := explain.MemoryUse{User: s.user(v.text("of")), Memory: v.sum(),
			CPU: question.Sum{Units: float64(v.micros("cpu")), Source: amount.Counted}}
		if v.has("rested") {
			rested := time.Duration(v.micros("rested")) * time.Microsecond
			u.Rest = &explain.Rest{Since: epoch.Add(time.Hour - rested), Slept: rested, Longer: v.has("longer")}
		}
		uses = append(uses, u)
	}
	return told(explain.ExplainMemory(s.over(h.Name), s.gathering, h, &ledger, uses, s.names))
}

func (s *story) families(d *datadriven.TestData, lines []values) string {
	var running []explain.Running
	for _, v := range lines {
		disk := int64(-1)
		if v.has("disk") {
			disk = v.number("disk")
		}
		running = append(running, explain.Running{PID: int32(v.number("pid")), Parent: int32(v.number("parent")),
			Program: v.name, Threads: int32(v.number("threads")), Runnable: int32(v.number("runnable")),
			LastCPU: int32(v.number("cpu")), CPUMicros: v.micros("ran"), MemoryBytes: v.number("memory"),
			DiskBytes: disk, UID: v.number("uid")})
	}
	over, err := time.ParseDuration(argument(d, "over"))
	require.NoError(s.t, err)
	return told(explain.Families(running, over))
}

func (s *story) held(d *datadriven.TestData, lines []values) string {
	w := &account.Workload{Facts: map[string]string{}, Allowed: argument(d, "allowed")}
	if d.HasArg("kind") {
		kind, err := amount.ParseKind(argument(d, "kind"))
		require.NoError(s.t, err)
		w.Kind = kind
	}
	for _, v := range lines {
		w.Facts[v.kind] = v.name
	}
	cpus, err := strconv.Atoi(argument(d, "cpus"))
	require.NoError(s.t, err)
	held := explain.HeldBy(w, cpus)
	text := told(held)
	if d.HasArg("runnable") {
		mean, err := strconv.ParseFloat(argument(d, "runnable"), 64)
		require.NoError(s.t, err)
		if c := held.Crowding(mean); c != nil {
			text += fmt.Sprintf("crowding=%g\n", *c)
		} else {
			text += "no crowding\n"
		}
	}
	return text
}

func (s *story) balance(d *datadriven.TestData, lines []values) string {
	stretch := question.Stretch{Hosts: 1, Of: make([]question.Lines, amount.NumResources)}
	if argument(d, "long") != "" {
		long, err := time.ParseDuration(argument(d, "long"))
		require.NoError(s.t, err)
		stretch.ElapsedMillis = long.Milliseconds()
	}
	rows := map[string]map[int32]*question.Row{"": {}} // by the beginning of their part, "" for the whole
	limits := map[string]map[amount.Resource][]tenancy.LimitChange{}
	var tenants []explain.Tenant
	var parts []explain.Part
	var begins []string
	for _, v := range lines {
		if v.kind == "part" {
			part := explain.Part{
				From:          epoch.Add(v.duration("from")),
				ElapsedMillis: v.duration("long").Milliseconds(),
			}
			parts, begins = append(parts, part), append(begins, v.text("from"))
			rows[v.text("from")] = map[int32]*question.Row{}
			continue
		}
		r, err := amount.ParseResource(v.text("resource"))
		require.NoError(s.t, err)
		switch v.kind {
		case "line":
			for _, l := range stretch.Of[r].Each() {
				if l.Name == v.name {
					*l.Line = v.line()
				}
			}
		case "tenant":
			if limits[v.name] == nil {
				limits[v.name] = map[amount.Resource][]tenancy.LimitChange{}
				tenants = append(tenants, explain.Tenant{ID: int32(number(&s.tenants, v.name)), Name: v.name,
					Colour: 1, Limits: limits[v.name]})
			}
			change := tenancy.LimitChange{From: epoch.Add(-time.Hour)}
			if v.has("from") {
				change.From = epoch.Add(v.duration("from"))
			}
			for key, into := range map[string]**float64{"quota": &change.Limit.Ceiling, "soft": &change.Limit.Soft} {
				if v.has(key) {
					mark := v.float(key)
					*into = &mark
				}
			}
			limits[v.name][r] = append(limits[v.name][r], change)
		case "use":
			id := int32(0)
			if v.name != explain.Unassigned {
				id = int32(number(&s.tenants, v.name))
			}
			rows := rows[v.text("part")]
			if rows[id] == nil {
				rows[id] = &question.Row{Tenant: id, Workloads: int(v.number("workloads")),
					Sums: make([]question.Sum, amount.NumResources)}
				for i := range rows[id].Sums {
					rows[id].Sums[i].Source = amount.Counted
				}
			}
			rows[id].Sums[r] = v.sum()
		}
	}
	listed := func(rows map[int32]*question.Row) (list []question.Row) {
		for _, row := range rows {
			list = append(list, *row)
		}
		return list
	}
	for i := range parts {
		parts[i].Rows = listed(rows[begins[i]])
	}
	return told(explain.ExplainBalance(s.over(""), &stretch, listed(rows[""]), 3, tenants, parts))
}

func argument(d *datadriven.TestData, name string) string {
	for _, a := range d.CmdArgs {
		if a.Key == name && len(a.Vals) > 0 {
			return strings.Join(a.Vals, ",")
		}
	}
	return ""
}

// values are the words of a line: its kind, perhaps a name, and key=value words; _ stands for a space.
type values struct {
	t     *testing.T
	kind  string
	name  string
	words []string
}

func (s *story) lines(d *datadriven.TestData) []values {
	var list []values
	for line := range strings.Lines(d.Input) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		v := values{t: s.t, kind: words[0]}
		if len(words) > 1 && !strings.Contains(words[1], "=") {
			v.name = words[1]
		}
		v.words = words[1:]
		list = append(list, v)
	}
	return list
}

func (v values) find(key string) (string, bool) {
	for _, w := range v.words {
		if k, value, _ := strings.Cut(w, "="); k == key {
			return strings.ReplaceAll(value, "_", " "), true
		}
	}
	return "", false
}

func (v values) has(key string) bool     { _, ok := v.find(key); return ok }
func (v values) text(key string) string  { text, _ := v.find(key); return text }
func (v values) number(key string) int64 { return int64(v.float(key)) }
func (v values) micros(key string) int64 { return v.duration(key).Microseconds() }
func (v values) whole(text string) int {
	n, err := strconv.Atoi(text)
	require.NoError(v.t, err)
	return n
}
func (v values) device(key string) int32 {
	major, minor := v.pair(key)
	return int32(major<<20 | minor)
}
func (v values) float(key string) float64 {
	if !v.has(key) {
		return 0
	}
	n, err := strconv.ParseFloat(v.text(key), 64)
	require.NoError(v.t, err)
	return n
}

func (v values) duration(key string) time.Duration {
	if !v.has(key) {
		return 0
	}
	d, err := time.ParseDuration(v.text(key))
	require.NoError(v.t, err)
	return d
}

func (v values) pair(key string) (major, minor uint32) {
	_, err := fmt.Sscanf(v.text(key), "%d:%d", &major, &minor)
	require.NoError(v.t, err)
	return major, minor
}

func (v values) source() amount.Source {
	for _, s := range []amount.Source{amount.Counted, amount.Summed, amount.Split} {
		if v.text("source") == s.String() {
			return s
		}
	}
	return amount.Counted
}

// told writes an answer under the names of the interface: what is empty, zero or null is left out.
func told(answer any) string {
	var b strings.Builder
	tell(&b, "", reflect.ValueOf(answer))
	if b.Len() == 0 {
		return "nothing\n"
	}
	return b.String()
}

func tell(b *strings.Builder, indent string, v reflect.Value) {
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if v.Kind() == reflect.Slice {
		for i := range v.Len() {
			tell(b, indent, v.Index(i))
		}
		return
	}
	var words, below []string
	flat(v, func(name string, f reflect.Value) {
		switch {
		case name == "from" || name == "to" || f.IsZero():
		case f.Kind() == reflect.Pointer && f.Elem().Kind() == reflect.Struct,
			f.Kind() == reflect.Slice && f.Type().Elem().Kind() == reflect.Struct:
			var under strings.Builder
			tell(&under, indent+"    ", f)
			if under.Len() > 0 {
				below = append(below, indent+"  "+name+"\n"+under.String())
			}
		case f.Kind() == reflect.Slice && f.Len() == 0:
		default:
			words = append(words, name+"="+text(f))
		}
	})
	b.WriteString(indent + strings.Join(words, " ") + "\n" + strings.Join(below, ""))
}

// flat calls each for every field of a struct, those of embedded ones as its own.
func flat(v reflect.Value, each func(name string, f reflect.Value)) {
	for i := range v.NumField() {
		field := v.Type().Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		switch {
		case field.Anonymous:
			flat(v.Field(i), each)
		case field.IsExported():
			each(name, v.Field(i))
		}
	}
}

func text(f reflect.Value) string {
	if f.Kind() == reflect.Pointer {
		f = f.Elem()
	}
	if f.Kind() == reflect.Float64 {
		return strconv.FormatFloat(math.Round(f.Float()*1e6)/1e6, 'f', -1, 64)
	}
	if f.Kind() == reflect.String {
		return f.String()
	}
	if at, ok := f.Interface().(time.Time); ok {
		return at.Format("15:04:05")
	}
	plain, err := json.Marshal(f.Interface())
	if err != nil {
		return err.Error()
	}
	return string(plain)
}
