package cli

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/glossary"
	"vinescale/internal/screen"
	"vinescale/internal/sheet"
)

// sheetOf lays out rows by the columns of a listing. Usual names the columns that are shown at first, in this order;
// all that a table shows where it is empty. More adds to a line what can be done with it.
func sheetOf[T any](
	listing string,
	columns []column[T],
	usual []string,
	rows []T,
	more func(T, *screen.Row),
) *screen.Sheet {
	if len(usual) > 0 {
		place := func(c column[T]) int {
			if i := slices.Index(usual, c.name); i >= 0 {
				return i
			}
			return len(usual)
		}
		columns = slices.Clone(columns)
		slices.SortStableFunc(columns, func(a, b column[T]) int { return place(a) - place(b) })
	}
	s := &screen.Sheet{At: time.Now(), Listing: listing}
	for _, c := range columns {
		head := c.title()
		if c.head == "" && c.heads == nil {
			if e, is := glossary.Column(c.name, listing); is {
				head = e.Name()
			}
		}
		isAny := !c.ifAny || slices.ContainsFunc(rows, func(r T) bool { return pointed(c.value(r)) != nil })
		isExtra := c.extra || !isAny
		if len(usual) > 0 {
			isExtra = !slices.Contains(usual, c.name) || !isAny
		}
		s.Columns = append(s.Columns, screen.Column{Name: c.name, Head: head, Extra: isExtra,
			Right: c.right || c.isNumber(rows)})
	}
	for _, r := range rows {
		line := screen.Row{Cells: make([]screen.Cell, len(columns))}
		for i, c := range columns {
			line.Cells[i] = cellOf(c, r)
		}
		line.Key = line.Cells[0].Text
		more(r, &line)
		s.Rows = append(s.Rows, line)
	}
	return s
}

func cellOf[T any](c column[T], r T) screen.Cell {
	v := pointed(c.value(r))
	cell := screen.Cell{Text: visible(c.show(r))}
	switch x := comparable(v).(type) {
	case float64:
		cell.Order = x
		if c.text == nil {
			cell.Text = inUnits(c.name, x)
		}
	case nil:
	default:
		cell.Order = fmt.Sprint(x)
		if t, is := v.(time.Time); is {
			cell.Text = untilText(t)
		}
	}
	return cell
}

// inUnits writes a figure for people by the unit that its name ends in.
func inUnits(name string, v float64) string {
	name = strings.TrimSuffix(strings.TrimSuffix(name, "_mean"), "_peak")
	switch {
	case strings.HasSuffix(name, "bytes_per_second"):
		u := pick(rateUnits(), v)
		return u.text(v) + " " + u.name
	case strings.HasSuffix(name, "_bytes"):
		u := pick(bytesUnits(), v)
		return u.text(v) + " " + u.name
	case name == "busy" || name == "busy_of_nobody":
		return percentText(v)
	case v == math.Trunc(v) && math.Abs(v) < 1e15 && !strings.HasSuffix(name, "cores"):
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.2f", v)
}

// ledgerLine tells a ledger in a line, as means over its span.
func ledgerLine(l *sheet.Ledger) string {
	u := unitFor(l)
	text := func(v *float64) string {
		if v == nil {
			return "–"
		}
		return u.text(l.Mean(*v))
	}
	shares := 0.0
	for i := range l.Shares {
		if l.Shares[i].Amount != nil {
			shares += *l.Shares[i].Amount
		}
	}
	shares += l.LeftOutBy
	whole, is := l.Capacity, "capacity"
	if whole == nil {
		whole, is = l.Used, "in use"
	}
	line := fmt.Sprintf(
		"%s of %s, %s: %s %s = %s shares + %s kernel",
		entryOf(l.Resource).Title,
		visible(l.Host),
		u.name,
		text(whole),
		is,
		text(&shares),
		text(l.Kernel),
	)
	if l.Capacity != nil {
		line += " + " + text(l.Idle) + " idle"
	}
	if l.Steal != nil && *l.Steal > 0 {
		line += " + " + text(l.Steal) + " steal"
	}
	rest, sign := text(l.Residual), " + "
	if less, is := strings.CutPrefix(rest, "-"); is {
		rest, sign = less, " - "
	}
	return line + sign + rest + " residual"
}

// loadLine compares the load of a host with its CPUs.
func loadLine(l *explain.Load, cpus int) string {
	if l == nil || cpus == 0 {
		return ""
	}
	return fmt.Sprintf("load %.2f over 1 minute, %.2f over 5, %.2f over 15, on %d CPUs: %.2f a CPU", l.One, l.Five,
		l.Fifteen, cpus, l.One/float64(cpus))
}

// cpuParts are the columns of CPUs on a screen: parts of each CPU's own time.
var cpuParts = append([]column[explain.CPULine]{
	{name: "cpu", head: "CPU", right: true, value: func(x explain.CPULine) any { return x.CPU }},
	{name: "core", right: true, value: func(x explain.CPULine) any { return x.Core }},
	{name: "numa_node", head: "node", right: true, value: func(x explain.CPULine) any { return x.Node }},
	{name: "mhz", head: "MHz", right: true, value: func(x explain.CPULine) any { return x.MHz },
		text: func(x explain.CPULine) string { return megahertz(x.MHz) }},
	{name: "busy", value: func(x explain.CPULine) any {
		if x.Capacity <= 0 {
			return nil
		}
		return busyPart(&x)
	}, text: func(x explain.CPULine) string {
		if x.Capacity <= 0 {
			return "–"
		}
		return bar(busyPart(&x), 10) + " " + fmt.Sprintf("%3.0f %%", 100*busyPart(&x))
	}},
	{name: "ran", head: "who ran there",
		value: func(x explain.CPULine) any {
			var who []string
			for _, s := range x.Shares[:min(len(x.Shares), namesShown)] {
				if x.Capacity > 0 && s.Seconds/x.Capacity >= 0.001 {
					who = append(who, s.Name+" "+percentText(s.Seconds/x.Capacity))
				}
			}
			return strings.Join(who, ", ")
		}},
}, cpuPartColumns()...)

func busyPart(x *explain.CPULine) float64 {
	return max(0, 1-(x.Idle+x.IOWait)/x.Capacity)
}

func cpuPartColumns() (columns []column[explain.CPULine]) {
	for _, p := range []struct {
		name, head string
		of         func(*explain.CPULine) float64
	}{
		{"user_seconds", "programs", func(x *explain.CPULine) float64 { return x.User }},
		{"system_seconds", "system", func(x *explain.CPULine) float64 { return x.System }},
		{"irq_seconds", "interrupts", func(x *explain.CPULine) float64 { return x.IRQ + x.SoftIRQ }},
		{"steal_seconds", "steal", func(x *explain.CPULine) float64 { return x.Steal }},
		{"iowait_seconds", "idle, I/O", func(x *explain.CPULine) float64 { return x.IOWait }},
		{"residual_seconds", "residual", func(x *explain.CPULine) float64 { return x.Residual }},
	} {
		columns = append(columns, column[explain.CPULine]{name: p.name, head: p.head, right: true,
			value: func(x explain.CPULine) any {
				if x.Capacity <= 0 {
					return nil
				}
				return p.of(&x) / x.Capacity
			}, text: func(x explain.CPULine) string {
				if x.Capacity <= 0 {
					return "–"
				}
				return percentText(p.of(&x) / x.Capacity)
			}})
	}
	return columns
}

// bar draws a part of one as a bar of some characters.
func bar(part float64, width int) string {
	full := min(max(int(math.Round(part*float64(width))), 0), width)
	return strings.Repeat("█", full) + strings.Repeat("·", width-full)
}

// familyColumns are the columns of families of processes.
var familyColumns = []column[explain.Family]{
	{name: "program", value: func(f explain.Family) any { return f.Head.Program }},
	{name: "process", head: "process", right: true, value: func(f explain.Family) any { return f.Head.PID }},
	{name: "processes", right: true, value: func(f explain.Family) any { return f.Processes }},
	{name: "threads", right: true, value: func(f explain.Family) any { return f.Threads }},
	{
		name:  "runnable_threads",
		head:  "runnable",
		right: true,
		value: func(f explain.Family) any { return f.Runnable },
	},
	{name: "cores", right: true, value: func(f explain.Family) any { return f.Cores }},
	{name: "memory_bytes", head: "memory", right: true, value: func(f explain.Family) any { return f.MemoryBytes },
		text: func(f explain.Family) string { return inUnits("memory_bytes", f.MemoryBytes) }},
	{name: "cpus", head: "ran on CPUs", value: func(f explain.Family) any { return f.CPUs }},
}

// running is a process of a family as a screen tells of it; at is what its own files say, where they are at hand.
type running struct {
	explain.Process
	user string
	at   *sighted
}

// sighted is what a process or thread does, and how its time was spent since it was looked at before.
type sighted struct {
	id           int32
	name, path   string
	state, waits string
	cpu          int32
	nice         int
	isNice       bool
	user, system *float64 // cores; nil at first
}

func (g *sighted) value(of func(*sighted) any) any {
	if g == nil {
		return nil
	}
	return of(g)
}

// sightColumns are those that a process's or thread's own files fill.
func sightColumns[T any](at func(T) *sighted) []column[T] {
	return []column[T]{
		{name: "user_cores", head: "programs", right: true, value: func(r T) any {
			return at(r).value(func(g *sighted) any { return g.user })
		}},
		{name: "system_cores", head: "system", right: true, value: func(r T) any {
			return at(r).value(func(g *sighted) any { return g.system })
		}},
		{name: "nice", right: true, value: func(r T) any {
			return at(r).value(func(g *sighted) any {
				if !g.isNice {
					return nil
				}
				return g.nice
			})
		}},
		{name: "state", value: func(r T) any { return at(r).value(func(g *sighted) any { return g.state }) }},
		{name: "waits_in", head: "waits in", value: func(r T) any {
			return at(r).value(func(g *sighted) any { return g.waits })
		}},
		{name: "path", value: func(r T) any { return at(r).value(func(g *sighted) any { return g.path }) }},
	}
}

var processColumns = append([]column[running]{
	{name: "program", value: func(p running) any { return strings.Repeat("  ", p.Depth) + p.Program }},
	{name: "process", right: true, value: func(p running) any { return p.PID }},
	{name: "owner", value: func(p running) any { return p.user }},
	{name: "threads", right: true, value: func(p running) any { return p.Threads }},
	{name: "runnable_threads", head: "runnable", right: true, value: func(p running) any { return p.Runnable }},
	{name: "cpu", head: "on CPU", right: true, value: func(p running) any { return p.CPU }},
	{name: "cores", right: true, value: func(p running) any { return p.Cores }},
	{name: "memory_bytes", head: "memory", right: true, value: func(p running) any { return p.MemoryBytes },
		text: func(p running) string { return inUnits("memory_bytes", p.MemoryBytes) }},
	{name: "disk_bytes_per_second", head: "disk", right: true, value: func(p running) any { return p.DiskRate }},
}, sightColumns(func(p running) *sighted { return p.at })...)

var taskColumns = append([]column[*sighted]{
	{name: "thread", right: true, value: func(g *sighted) any { return g.id }},
	{name: "name", value: func(g *sighted) any { return g.name }},
	{name: "cpu", head: "on CPU", right: true, value: func(g *sighted) any { return g.cpu }},
}, sightColumns(func(g *sighted) *sighted { return g })...)

// resourceColumn is the column of means of a resource.
func resourceColumn(measure string) string {
	if r, err := amount.ParseResource(measure); err == nil {
		return r.MeanField()
	}
	return amount.CPU.MeanField()
}

// usualOfWorkloads are the columns of workloads that are seen first on a screen.
func usualOfWorkloads() []string {
	names := []string{"name", "kind", "tenant"}
	for _, r := range amount.Resources() {
		names = append(names, r.MeanField())
	}
	return append(names, "host", "owner", "threads", "state")
}

// leaveOut puts columns aside that say the same in each line.
func leaveOut(s *screen.Sheet, names ...string) {
	for i, c := range s.Columns {
		if slices.Contains(names, c.Name) {
			s.Columns[i].Extra = true
		}
	}
}

// byMeasure orders workloads by what they used of a measure, most first, so that its ledger above is explained.
func byMeasure(s *screen.Sheet, measure string) {
	at := slices.IndexFunc(s.Columns, func(c screen.Column) bool { return c.Name == resourceColumn(measure) })
	if at < 0 {
		return
	}
	s.Columns[at].Extra = false
	slices.SortStableFunc(s.Rows, func(a, b screen.Row) int {
		x, isX := a.Cells[at].Order.(float64)
		y, isY := b.Cells[at].Order.(float64)
		if isX != isY {
			return cmp.Compare(boolInt(isY), boolInt(isX))
		}
		return cmp.Compare(y, x)
	})
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
