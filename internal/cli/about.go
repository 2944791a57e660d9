package cli

import (
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

func newFind() *cobra.Command {
	var host string
	cmd := &cobra.Command{
		Use: "find WORDS...", Short: "Find workloads, hosts, users and tenants by any of their names",
		Args: cobra.MinimumNArgs(1),
		Long: `Find looks for every word in the name, id, owner, labels (KEY=VALUE) and facts of
workloads, and in the names of hosts, users and tenants. A number is looked for as
a pid too. What matches exactly comes first.`,
		Example: `  vinescale find must-intake
  vinescale find coop.project=cellar
  vinescale find 1035 --host cellar-1`,
	}
	cmd.Flags().StringVar(&host, "host", "", "only on this host")
	clientFlags(cmd)
	as := listFlags(cmd, 20)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		found, err := find(cmd, strings.Join(args, " "), host)
		if err != nil {
			return err
		}
		if len(found) == 0 && as.as.value == "table" {
			cmd.Printf("Nothing has %s in its name, id, owner, labels or facts.\n", visible(strings.Join(args, " ")))
			return nil
		}
		return list(cmd, as, foundColumns, found)
	}
	return cmd
}

func find(cmd *cobra.Command, words, host string) ([]hub.Found, error) {
	q := url.Values{"words": {words}}
	if host != "" {
		q.Set("host", host)
	}
	var found []hub.Found
	return found, get(cmd, "/find", q, &found)
}

var foundColumns = []column[hub.Found]{
	{name: "what", head: "what", value: func(f hub.Found) any { return f.What }},
	{name: "name", head: "name", value: func(f hub.Found) any { return f.Name }},
	{name: "kind", head: "kind", value: func(f hub.Found) any { return f.Kind }},
	{name: "owner", head: "owner", value: func(f hub.Found) any { return f.Owner }},
	{name: "tenant", head: "tenant", value: func(f hub.Found) any { return f.Tenant }},
	{name: "host", head: "host", value: func(f hub.Found) any { return f.Host }},
	{name: "state", head: "state", value: func(f hub.Found) any { return f.State }},
	{name: "by", head: "found by", value: func(f hub.Found) any { return f.By }},
	{name: "id", head: "number", right: true, value: func(f hub.Found) any { return f.ID },
		text: func(f hub.Found) string {
			if f.ID == 0 {
				return ""
			}
			return fmt.Sprint(f.ID)
		}},
}

func newAbout() *cobra.Command {
	var span spanFlags
	var host string
	cmd := &cobra.Command{
		Use: "about WORDS...", Short: "Everything about one workload, host, user or tenant",
		Args: cobra.MinimumNArgs(1),
		Long: `About finds what the words name, as "vinescale find" does, and tells everything
about it: whose it is and how that is known, what it may use and what it used, its
processes, and what shares its CPUs and disks. Where the words name several things
it lists them; "workload/17", "host/NAME", "user/NAME" and "tenant/NAME" name one.`,
		Example: `  vinescale about bottling-plc
  vinescale about host/cellar-1
  vinescale about user/m.abt --span 24h`,
	}
	cmd.Flags().StringVar(&host, "host", "", "only look on this host")
	span.add(cmd)
	clientFlags(cmd)
	as := &oneOf{"table", []string{"table", "json", "jsonl"}}
	cmd.Flags().Var(as, "as", "output form")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		words := strings.Join(args, " ")
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		what, name, err := resolve(cmd, words, host)
		if err != nil {
			return err
		}
		if what == "workload" {
			var w hub.AboutWorkload
			if err := get(cmd, "/workloads/"+name, q, &w); err != nil {
				return err
			}
			if as.value != "table" {
				return writeOne(cmd.OutOrStdout(), as.value, w)
			}
			return writeWorkload(cmd.OutOrStdout(), &w)
		}
		var g hub.AboutGroup
		if err := get(cmd, "/about/"+what+"/"+url.PathEscape(name), q, &g); err != nil {
			return err
		}
		if as.value != "table" {
			return writeOne(cmd.OutOrStdout(), as.value, g)
		}
		return writeGroup(cmd.OutOrStdout(), &g)
	}
	return cmd
}

// resolve says which one thing words name; several candidates are an error that lists them.
func resolve(cmd *cobra.Command, words, host string) (what, name string, err error) {
	if w, n, ok := strings.Cut(words, "/"); ok && slices.Contains([]string{"workload", "host", "user", "tenant"}, w) &&
		n != "" {
		return w, n, nil
	}
	found, err := find(cmd, words, host)
	if err != nil {
		return "", "", err
	}
	exact := slices.DeleteFunc(slices.Clone(found), func(f hub.Found) bool { return !f.Exact })
	// What still runs is meant before what has ended under the same name.
	alive := slices.DeleteFunc(slices.Clone(exact), func(f hub.Found) bool { return f.State == "ended" })
	for _, candidates := range [][]hub.Found{alive, exact, found} {
		if len(candidates) == 1 {
			f := candidates[0]
			if f.What == "workload" {
				return f.What, fmt.Sprint(f.ID), nil
			}
			return f.What, f.Name, nil
		}
		if len(candidates) > 1 {
			return "", "", ambiguous(words, candidates)
		}
	}
	return "", "", fmt.Errorf("nothing has %s in its name, id, owner, labels or facts", visible(words))
}

func ambiguous(words string, found []hub.Found) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s names %d things; say which:\n", visible(words), len(found))
	t := newTable(&b)
	const most = 12
	for _, f := range found[:min(len(found), most)] {
		ref := f.What + "/" + f.Name
		if f.What == "workload" {
			ref = fmt.Sprintf("workload/%d", f.ID)
		}
		t.row(cell{"  vinescale about " + ref, false}, cell{f.Name, false}, cell{f.Kind, false}, cell{f.Owner, false},
			cell{f.Host, false}, cell{f.State, false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	if n := len(found) - most; n > 0 {
		fmt.Fprintf(&b, "  and %d more; \"vinescale find\" lists them\n", n)
	}
	return usageError{fmt.Errorf("%s", strings.TrimRight(b.String(), "\n"))}
}

// pairs prints lines of a name and a value, leaving out those without.
func pairs(w io.Writer, rows [][2]string) error {
	t := newTable(w)
	for _, r := range rows {
		if r[1] != "" {
			t.row(cell{r[0], false}, cell{r[1], false})
		}
	}
	return t.flush()
}

func at(t *time.Time) string {
	if t == nil {
		return ""
	}
	return shownAt(*t, time.DateTime)
}

func writeWorkload(w io.Writer, a *hub.AboutWorkload) error {
	fmt.Fprintf(w, "%s  %s on %s, %s\n%s\n", visible(a.Name), a.Kind, visible(a.Host), visible(a.State),
		missedLines(&a.Missed))
	uid, outer, rule := "", "", "no rule matches it"
	if a.UID != nil {
		uid = fmt.Sprintf(" (uid %d)", *a.UID)
	}
	if a.Around != nil {
		outer = a.Around.Name + fmt.Sprintf(" (workload/%d)", a.Around.ID)
	}
	if a.Rule != "" {
		rule = "by the rule " + a.Rule
	}
	var inside []string
	for _, x := range a.Inside {
		inside = append(inside, x.Name)
	}
	rows := [][2]string{
		{"owner", a.Owner + uid}, {"tenant", a.Tenant + ", " + rule},
		{"recognised as", a.Recogniser + ": " + a.Evidence}, {"cgroup", a.Path}, {"inside", outer},
		{"around", strings.Join(inside, ", ")}, {"names", a.Unnamed}, {"first seen", at(&a.FirstAt)},
		{"last figures", at(a.LastAt)}, {"ended", strings.TrimSpace(at(a.EndedAt) + " " + a.Exit)},
		{"may use", heldText(&a.Held)},
	}
	for _, k := range sortedKeys(a.Facts) {
		if !strings.HasPrefix(k, "cpu_limit") && k != "memory_limit_bytes" {
			rows = append(rows, [2]string{strings.ReplaceAll(k, "_", " "), a.Facts[k]})
		}
	}
	for _, k := range sortedKeys(a.Labels) {
		rows = append(rows, [2]string{"label " + k, a.Labels[k]})
	}
	if err := pairs(w, rows); err != nil {
		return err
	}
	fmt.Fprintln(w)
	if err := writeUses(w, &a.WorkloadLine); err != nil {
		return err
	}
	writeMeans(w, a.Uses)
	if a.Threads > 0 || a.RunnablePeak > 0 {
		fmt.Fprintf(w, "\n%s, %s; %.1f threads runnable in the mean, %d at most, on %.4g CPUs\n",
			counted(a.Processes, "process", "processes"), counted(a.Threads, "thread", "threads"), a.RunnableMean,
			a.RunnablePeak, a.MayUseCPUs)
	}
	if err := writeFigures(w, a.Figures); err != nil {
		return err
	}
	if a.Space != "" && len(a.Figures) > 0 {
		fmt.Fprintf(w, "\nSpace of its files: not available, because %s.\n", a.Space)
	}
	if len(a.Parts) > 0 {
		fmt.Fprintln(w)
		t := newTable(w)
		t.row(cell{"part", false}, cell{"CPU s", true})
		for _, p := range a.Parts {
			t.row(cell{p.Name, false}, cell{fmt.Sprintf("%.2f", p.CPUSeconds), true})
		}
		if err := t.flush(); err != nil {
			return err
		}
	}
	if err := writeWorkloadGPUs(w, a.GPUs); err != nil {
		return err
	}
	if err := writeFamilies(w, a); err != nil {
		return err
	}
	if err := writeMates(w, "on the same CPUs", "CPU s", a.CPUMates,
		func(v float64) string { return fmt.Sprintf("%.2f", v) }); err != nil {
		return err
	}
	if err := writeMates(w, "on the same disks", "GB", a.DiskMates,
		func(v float64) string { return fmt.Sprintf("%.3f", v/1e9) }); err != nil {
		return err
	}
	if len(a.Events) > 0 {
		fmt.Fprintln(w)
		for _, e := range a.Events {
			fmt.Fprintf(w, "%s  %s\n", shownAt(e.At, time.DateTime), visible(e.What))
		}
	}
	return nil
}

// writeFigures prints what was counted beside the amounts, two to a line.
func writeFigures(w io.Writer, figures []explain.Figure) error {
	if len(figures) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"counted beside", false}, cell{"", true}, cell{"source", false}, cell{"", false}, cell{"", true},
		cell{"source", false})
	half := (len(figures) + 1) / 2
	for i := range half {
		row := []cell{}
		for _, at := range []int{i, i + half} {
			if at < len(figures) {
				name, text := figureText(&figures[at])
				row = append(row, cell{name, false}, cell{text, true}, cell{figures[at].Source, false})
			}
		}
		t.row(row...)
	}
	return t.flush()
}

// figureText is a measure's name for people, and its value with a unit that suits it.
func figureText(m *explain.Figure) (name, text string) {
	return entryOf(m.Name).Title, amountText(m.Name, m.Value)
}

func sortedKeys(m map[string]string) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// heldText says in words what a workload is entitled to.
func heldText(h *explain.Held) string {
	why := map[string]string{
		"limit": "by its limit", "cpuset": "by the CPUs it may run on", "asked": "as it asked for",
		"host": "all the host's: nothing limits it",
	}[h.By]
	s := fmt.Sprintf("%.4g CPUs, %s", h.MayUseCPUs, why)
	if h.Allowed != "" {
		s += "; CPUs " + h.Allowed
	}
	switch {
	case h.MemoryLimit != nil:
		s += "; memory " + human(amount.Memory.String(), *h.MemoryLimit)
	case h.MemoryAsked != nil:
		s += "; memory " + human(amount.Memory.String(), *h.MemoryAsked) + " asked for"
	default:
		s += "; memory without limit"
	}
	if h.GPUs != "" {
		s += "; GPUs " + h.GPUs
	} else if h.GPUClaim != "" {
		s += "; GPUs " + h.GPUClaim + " by its own word"
	}
	return s
}

// writeMeans says how the host counts what a workload uses, and how good that is.
func writeMeans(w io.Writer, uses []hub.WorkloadUse) {
	for _, u := range uses {
		for i := range u.Means {
			if u.Means[i].Source == u.Source {
				fmt.Fprintln(w, "\n"+folded(u.Means[i].What+": "+explain.HowGood(&u.Means[i])+"."))
			}
		}
	}
}

func writeUses(w io.Writer, of *hub.WorkloadLine) error {
	mean := func(u *hub.WorkloadUse, v float64) string {
		if isCPU(entryOf(u.Resource)) && chosen.CPU != "" {
			cpu := cpuUnitOfWorkload(of)
			return cpu.text(v) + " " + cpu.name
		}
		return human(u.Resource, v)
	}
	t := newTable(w)
	t.row(cell{"used", false}, cell{"amount", true}, cell{"mean", true}, cell{"peak", true}, cell{"last minute", true},
		cell{"source", false}, cell{"", false})
	for i := range of.Uses {
		u := &of.Uses[i]
		if u.Amount == nil {
			t.row(cell{entryOf(u.Resource).Title, false}, cell{"–", true}, cell{"–", true}, cell{"–", true},
				cell{"–", true},
				cell{u.Source, false}, cell{u.Reason, false})
			continue
		}
		now := "–"
		if u.Now != nil {
			now = mean(u, *u.Now)
		}
		t.row(cell{entryOf(u.Resource).Title, false}, cell{amountText(u.Resource, *u.Amount), true},
			cell{mean(u, *u.Mean), true}, cell{mean(u, *u.Peak), true},
			cell{now, true}, cell{u.Source, false}, cell{"", false})
	}
	return t.flush()
}

// mostShown bounds the families and processes a table shows.
const mostShown = 20

func writeFamilies(w io.Writer, a *hub.AboutWorkload) error {
	if a.ProcessAt == nil || len(a.Families) == 0 {
		return nil
	}
	fmt.Fprintf(w, "\nProcesses at %s, over %.3g s, as families\n", untilText(a.ProcessAt.Local()), a.OverS)
	t := newTable(w)
	t.row(cell{"program", false}, cell{"pid", true}, cell{"threads", true}, cell{"runnable", true}, cell{"cores", true},
		cell{"memory MiB", true}, cell{"CPU", true})
	shown, all := 0, 0
	row := func(name string, pid int32, threads, runnable int, cores, memory float64, cpus string) {
		t.row(cell{name, false}, cell{fmt.Sprint(pid), true}, cell{fmt.Sprint(threads), true},
			cell{fmt.Sprint(runnable), true}, cell{fmt.Sprintf("%.2f", cores), true},
			cell{fmt.Sprintf("%.1f", memory/(1<<20)), true}, cell{cpus, true})
	}
	for _, f := range a.Families {
		all += f.Processes
		if shown >= mostShown {
			continue
		}
		if f.Processes > 1 {
			row(fmt.Sprintf("%s and %d below", f.Head.Program, f.Processes-1), f.Head.PID, f.Threads, f.Runnable,
				f.Cores, f.MemoryBytes, f.CPUs)
		}
		for _, p := range f.Members {
			if shown++; shown <= mostShown {
				indent := strings.Repeat("  ", p.Depth)
				if f.Processes > 1 {
					indent = "  " + indent
				}
				row(indent+p.Program, p.PID, int(p.Threads), int(p.Runnable), p.Cores, p.MemoryBytes, fmt.Sprint(p.CPU))
			}
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	if n := all - min(shown, mostShown); n > 0 {
		fmt.Fprintf(w, "%d more processes; --as json lists them\n", n)
	}
	return nil
}

func writeMates(w io.Writer, head, unit string, mates []explain.Mate, text func(float64) string) error {
	if len(mates) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{head, false}, cell{"kind", false}, cell{"tenant", false}, cell{unit, true}, cell{"source", false})
	for _, m := range mates {
		t.row(cell{m.Name, false}, cell{m.Kind, false}, cell{m.Tenant, false}, cell{text(m.Amount), true},
			cell{m.Source, false})
	}
	return t.flush()
}

func writeGroup(w io.Writer, g *hub.AboutGroup) error {
	fmt.Fprintf(w, "%s  %s, %s to %s\n%s\n", visible(g.Name), g.What, shownAt(g.From, "2006-01-02 15:04"),
		shownAt(g.To, "15:04"), missedLines(&g.Missed))
	var rows [][2]string
	for _, k := range sortedKeys(g.Facts) {
		rows = append(rows, [2]string{strings.ReplaceAll(k, "_", " "), g.Facts[k]})
	}
	if g.Reason != "" {
		err := pairs(w, append(rows, [2]string{"ran and used", "not known: " + g.Reason}))
		if err == nil && g.Machine != nil {
			err = writeMachine(w, g.Machine)
		}
		return err
	}
	for _, x := range []struct {
		name   string
		counts []hub.Count
	}{{"kinds", g.Kinds}, {"hosts", g.Hosts}, {"tenants", g.Tenants}, {"owners", g.Owners}} {
		if x.name != g.What+"s" {
			rows = append(rows, [2]string{x.name, countsText(x.counts)})
		}
	}
	held := fmt.Sprintf("%.4g CPUs", g.Held.CPUs)
	if g.Held.MemoryBytes > 0 {
		held += " and " + human(amount.Memory.String(), g.Held.MemoryBytes) + " of memory"
	}
	held += fmt.Sprintf(
		" by limits and allotments; of %d running workloads %d have no limit of CPUs, %d none of memory",
		g.Held.RunningWorkloads, g.Held.Unlimited, g.Held.UnlimitedMemory)
	rows = append(rows, [2]string{"holds", held}, [2]string{"runs",
		counted(g.Processes, "process", "processes") + ", " + counted(g.Threads, "thread", "threads")})
	if err := pairs(w, rows); err != nil {
		return err
	}
	if g.Machine != nil {
		if err := writeMachine(w, g.Machine); err != nil {
			return err
		}
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"used", false}, cell{"amount", true}, cell{"mean", true}, cell{"", false})
	for _, u := range g.Uses {
		note := ""
		if u.Missing > 0 {
			note = fmt.Sprintf("without %d workloads that have no figure", u.Missing)
		}
		if u.Amount == nil {
			t.row(cell{entryOf(u.Resource).Title, false}, cell{"–", true}, cell{"–", true}, cell{note, false})
			continue
		}
		t.row(cell{entryOf(u.Resource).Title, false}, cell{amountText(u.Resource, *u.Amount), true},
			cell{human(u.Resource, *u.Mean), true}, cell{note, false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w)
	if err := write(w, "table", shownColumns(workloadColumns),
		g.Workloads[:min(len(g.Workloads), mostShown)]); err != nil {
		return err
	}
	if n := len(g.Workloads) - mostShown; n > 0 {
		fmt.Fprintf(w, "%d more; --as json lists them\n", n)
	}
	return nil
}

func counted(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func shownColumns[T any](columns []column[T]) []column[T] {
	shown, _ := chooseColumns(columns, nil) // no names, so none can be wrong
	return shown
}

func countsText(counts []hub.Count) string {
	var parts []string
	for i, c := range counts {
		if i == 8 {
			parts = append(parts, fmt.Sprintf("and %d more", len(counts)-i))
			break
		}
		parts = append(parts, fmt.Sprintf("%d %s", c.Workloads, c.Name))
	}
	return strings.Join(parts, ", ")
}
