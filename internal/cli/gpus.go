package cli

import (
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/account"
	"vinescale/core/explain"
)

func newGPUs() *cobra.Command {
	var host, device string
	var sections []string
	var failTrouble bool
	cmd := &cobra.Command{
		Use: "gpus [HOST]", Short: "Every GPU: busy or idle, whom it is given to, and who uses it",
		Long: `Gpus shows every GPU and every partition of one: its state, how busy it was over the
span, its memory, whom it is given to and who used it. Busy is the part of the time in
which its engine had work, however much of the engine that work fills. Inside a job GPUs
are numbered from 0 on; "as 0" beside a holder says by which number it knows this one.

With --device it tells everything about one GPU of a host, section by section.`,
		Example: `  vinescale gpus
  vinescale gpus press-1 --span 24h
  vinescale gpus press-1 --device 0 --section power --section temperature
  vinescale gpus --fail-trouble || echo "a GPU is given and idle, or used by another"`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) > 1:
				return usagef("%d hosts are too many: give one, or none for all", len(args))
			case device != "" && len(args) == 0 && host == "":
				return usagef("--device %s: of which host? Give its name", device)
			case len(sections) > 0 && device == "":
				return usagef("--section is of one GPU: name it with --device")
			}
			for _, s := range sections {
				if !slices.Contains(account.GPUSections, s) {
					return usagef("there is no section %q: choose of %s", s, strings.Join(account.GPUSections, ", "))
				}
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&host, "host", "", "one host (default: all)")
	f.StringVar(&device, "device", "", "everything about one GPU of the host: its number, uuid or address")
	f.StringArrayVar(&sections, "section", nil, "with --device, only this section; may be given several times")
	f.BoolVar(&failTrouble, "fail-trouble", false,
		"exit with 3 when a GPU is lost or faulty, given and idle, or used without being given")
	return overSpan(cmd, func(args []string, q url.Values) string {
		if len(args) > 0 {
			host = args[0]
		}
		for name, v := range map[string]string{"host": host, "device": device} {
			if v != "" {
				q.Set(name, v)
			}
		}
		return "/gpus"
	}, &report[explain.GPUs, explain.GPULine]{
		page: func(w io.Writer, g *explain.GPUs) error {
			if device != "" && len(g.GPUs) == 1 {
				return printGPU(w, g, sections)
			}
			return printGPUs(w, g)
		},
		rows: func(g *explain.GPUs) []explain.GPULine { return g.GPUs }, columns: gpuColumns,
		holds: func(g *explain.GPUs) bool { return failTrouble && g.Trouble },
	})
}

var gpuColumns = []column[explain.GPULine]{
	{name: "host", value: func(x explain.GPULine) any { return x.Host }},
	{name: "number", value: func(x explain.GPULine) any { return x.Number }},
	{name: "name", value: func(x explain.GPULine) any { return x.Name }},
	{name: "title", value: func(x explain.GPULine) any { return x.Title }},
	{name: "bus", value: func(x explain.GPULine) any { return x.Bus }},
	{name: "state", value: func(x explain.GPULine) any { return x.State }},
	{name: "idle_since", value: func(x explain.GPULine) any { return x.Since }},
	{name: "busy", value: func(x explain.GPULine) any { return x.Busy }},
	{name: "busy_of_nobody", value: func(x explain.GPULine) any { return x.Residual }},
	{name: "memory_bytes", value: func(x explain.GPULine) any { return x.MemoryBytes }},
	{name: "memory_used_bytes_mean", value: func(x explain.GPULine) any { return x.MemoryUsed }},
	{name: "given_to", value: func(x explain.GPULine) any {
		return joinedText(x.Holders, func(h *explain.GPUHolding) string { return h.Name })
	}},
	{name: "used_by", value: func(x explain.GPULine) any {
		return joinedText(x.Users, func(u *explain.GPUUse) string { return u.Name })
	}},
	{name: "notices", value: func(x explain.GPULine) any { return strings.Join(x.Notices, "; ") }},
	{name: "unavailable", value: func(x explain.GPULine) any { return x.NoBusy }, extra: true},
}

func joinedText[T any](list []T, text func(*T) string) string {
	parts := make([]string, len(list))
	for i := range list {
		parts[i] = text(&list[i])
	}
	return strings.Join(parts, "; ")
}

// spanHead is the first line of a page over a span.
func spanHead(o *explain.Over) string {
	return fmt.Sprintf("%s from %s until %s", visible(o.Host), shownAt(o.From, "2006-01-02 15:04"),
		shownAt(o.To, "15:04"))
}

func printGPUs(w io.Writer, g *explain.GPUs) error {
	fmt.Fprintf(w, "%s\n%s\n", spanHead(&g.Over), missedLines(&g.Missed))
	if len(g.GPUs) == 0 {
		fmt.Fprintln(w, "No host tells of a GPU.")
		return writeGPUNotes(w, g)
	}
	t := newTable(w)
	t.row(cell{"GPU, who had it", false}, cell{"model, tenant", false}, cell{"state", false}, cell{"busy", true},
		cell{"memory", true}, cell{"given", false}, cell{"source", false}, cell{"look at", false})
	for i := range g.GPUs {
		for _, row := range gpuRows(&g.GPUs[i], g.To) {
			t.row(row...)
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	return writeGPUNotes(w, g)
}

// gpuRows are the rows of one GPU: itself, and who had it. What is to be looked at stands beside them, one a row.
func gpuRows(x *explain.GPULine, until time.Time) (rows [][]cell) {
	name := x.Number + " of " + x.Host
	if x.Card != "" {
		name = "  " + x.Number
	}
	part := func(busy *float64) cell {
		if busy == nil {
			return cell{"–", true}
		}
		return cell{percentText(*busy), true}
	}
	rows = append(rows, []cell{{name, false}, {x.Title, false}, {gpuState(x, until), false}, part(x.Busy),
		{gpuMemory(x), true}, {"", false}, {"", false}})
	users := map[int64]bool{}
	for _, u := range x.Users {
		users[u.ID] = true
		rows = append(rows, []cell{{"  · " + u.Name, false}, {u.Tenant, false}, {"", false}, part(u.Busy),
			{human("gpu_memory", u.Memory), true}, {givenText(x, u.ID), false}, {u.Source, false}})
	}
	for _, h := range x.Holders {
		if !users[h.ID] {
			uses := "uses none"
			if h.Parts {
				uses = "uses a partition"
			}
			rows = append(rows, []cell{{"  · " + h.Name, false}, {h.Tenant, false}, {uses, false}, {"", true},
				{"", true}, {givenText(x, h.ID), false}, {"", false}})
		}
	}
	for i, n := range x.Notices {
		if i == len(rows) {
			rows = append(rows, []cell{{"", false}, {"", false}, {"", false}, {"", true}, {"", true}, {"", false},
				{"", false}})
		}
		rows[i] = append(rows[i], cell{n, false})
	}
	return rows
}

// writeGPUNotes says what the figures of GPUs mean, and what is not told.
func writeGPUNotes(w io.Writer, g *explain.GPUs) error {
	untold := map[string][]string{}
	for i := range g.GPUs {
		x := &g.GPUs[i]
		for what, why := range map[string]string{"How busy %s was": x.NoBusy, "Who uses %s": x.NoUsers} {
			if why != "" && x.State != account.GPULost {
				key := what + "\x00" + why
				untold[key] = append(untold[key], x.Number+" of "+x.Host)
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(untold)) {
		what, why, _ := strings.Cut(key, "\x00")
		fmt.Fprintln(w, "\n"+folded(fmt.Sprintf(what+": not available, because %s.", strings.Join(untold[key], ", "),
			why)))
	}
	for _, n := range g.Notes {
		fmt.Fprintln(w, "\n"+folded("Of the GPUs of "+n+"."))
	}
	if len(g.GPUs) > 0 {
		fmt.Fprintln(w, "\nBusy is the part of the span in which the GPU's engine had work, however much that fills "+
			"it.")
	}
	return nil
}

// gpuState says how a GPU is, and since when.
func gpuState(x *explain.GPULine, until time.Time) string {
	switch {
	case x.State == account.GPUIdle && x.Since != nil:
		return "idle for " + explain.Lasted(until.Sub(*x.Since))
	case x.State == account.GPUUnknown:
		return "not told"
	}
	return x.State
}

func gpuMemory(x *explain.GPULine) string {
	switch {
	case x.MemoryBytes == nil:
		return "–"
	case x.MemoryUsed == nil:
		return "– of " + human("gpu_memory", float64(*x.MemoryBytes))
	}
	return human("gpu_memory", *x.MemoryUsed) + " of " + human("gpu_memory", float64(*x.MemoryBytes))
}

// spreadText says how a use swung.
func spreadText(s *explain.GPUSpread) string {
	if s == nil {
		return ""
	}
	median := fmt.Sprintf("%.0f %%", 100*s.Median)
	if s.Median < account.BandFrom(1) {
		median = "below 5 %"
	}
	return fmt.Sprintf("median %s; above 80 %% for %.0f %% of the time, below 5 %% for %.0f %%", median, 100*s.Above80,
		100*s.Below5)
}

// givenText says by what a GPU is a workload's, and how it is numbered inside.
func givenText(x *explain.GPULine, workload int64) string {
	for _, h := range x.Holders {
		if h.ID != workload {
			continue
		}
		text := h.By
		if h.Number >= 0 {
			text = fmt.Sprintf("as %d, by %s", h.Number, h.By)
		}
		if h.Claim {
			text += " alone"
		}
		return text
	}
	return "not given"
}

// printGPU tells everything about one GPU, or chosen sections.
func printGPU(w io.Writer, g *explain.GPUs, sections []string) error {
	x := &g.GPUs[0]
	if len(sections) == 0 {
		if err := printGPUs(w, g); err != nil {
			return err
		}
		fmt.Fprintln(w)
		rows := [][2]string{{"name", x.Name}, {"bus", x.Bus}, {"opened by", strings.Join(x.Nodes, ", ")},
			{"driver", x.Driver}, {"told by", x.Told}, {"why", x.Why}}
		for _, u := range x.Users {
			rows = append(rows, [2]string{"for " + u.Name, spreadText(u.Spread)})
			for _, e := range u.Engines {
				rows = append(rows, [2]string{"", e.Engine + " " + percentText(e.Busy)})
			}
		}
		if err := pairs(w, rows); err != nil {
			return err
		}
		sections = account.GPUSections
	}
	for _, section := range sections {
		var rows [][2]string
		for i := range x.Figures {
			if f := &x.Figures[i]; f.Section == section {
				rows = append(rows, [2]string{f.Name, gpuFigureText(f)})
			}
		}
		if len(rows) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", strings.ToUpper(section[:1])+section[1:])
		if err := pairs(w, rows); err != nil {
			return err
		}
	}
	return nil
}

// gpuFigureText is a figure of a GPU with its unit, or why there is none.
func gpuFigureText(f *account.GPUFigure) string {
	switch {
	case f.Text != "":
		return f.Text
	case f.Value == nil:
		return "– " + f.Why
	case f.Unit == "B":
		return human("gpu_memory", *f.Value)
	case f.Unit == "J":
		return amountText("energy", *f.Value)
	case f.Unit == "Hz":
		return strconv.FormatFloat(*f.Value/1e6, 'g', 5, 64) + " MHz"
	}
	return strings.TrimSpace(strconv.FormatFloat(*f.Value, 'g', 6, 64) + " " + f.Unit)
}

// writeWorkloadGPUs tells which GPUs a workload was given or used, by both numberings.
func writeWorkloadGPUs(w io.Writer, gpus []explain.WorkloadGPU) error {
	if len(gpus) == 0 {
		return nil
	}
	fmt.Fprintln(w, "\nGPUs, over its life")
	t := newTable(w)
	t.row(cell{"host's number", true}, cell{"inside", true}, cell{"model", false}, cell{"given by", false},
		cell{"state", false}, cell{"busy", true}, cell{"how it swung", false}, cell{"memory", true},
		cell{"source", false})
	for i := range gpus {
		g := &gpus[i]
		inside, by := "–", g.By
		if g.Inside >= 0 {
			inside = strconv.Itoa(g.Inside)
		}
		if by == "" {
			by = "not given"
		}
		if g.Claim {
			by += " alone"
		}
		busy, spread, memory, source := "–", "", "", ""
		if g.Use != nil {
			if g.Use.Busy != nil {
				busy = percentText(*g.Use.Busy)
			}
			if s := g.Use.Spread; s != nil {
				busy = percentText(s.Mean)
			}
			spread, memory, source = spreadText(g.Use.Spread), human("gpu_memory", g.Use.Memory), g.Use.Source
		}
		state := gpuState(&explain.GPULine{State: g.State, Since: g.Since}, time.Now())
		t.row(cell{g.Number, true}, cell{inside, true}, cell{g.Title, false}, cell{by, false}, cell{state, false},
			cell{busy, true}, cell{spread, false}, cell{memory, true}, cell{source, false})
		for _, n := range g.Notices {
			t.row(cell{"", true}, cell{"", true}, cell{"! " + n, false})
		}
	}
	return t.flush()
}
