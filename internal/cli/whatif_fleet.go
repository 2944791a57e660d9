package cli

import (
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/whatif"
	"vinescale/internal/api"
)

// fleetFlags ask about hosts as places for workloads.
type fleetFlags struct {
	span           spanFlags
	pool           string
	percent, spare float64
}

func (f *fleetFlags) add(cmd *cobra.Command, hasPercent bool) {
	f.percent, f.spare = 95, 10
	f.span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.pool, "pool", "", "the hosts of this pool (default: all)")
	flags.Float64Var(&f.spare, "spare", 10, "so many percent of each host stay free: 0 to 90")
	if hasPercent {
		flags.Float64Var(
			&f.percent,
			"percentile",
			95,
			"of the highest ticks, that workloads are taken to need: 50 to 100",
		)
	}
}

func (f *fleetFlags) query(hasPercent bool) (url.Values, error) {
	q := url.Values{"spare": {strconv.FormatFloat(f.spare/100, 'f', -1, 64)}}
	if hasPercent {
		q.Set("percentile", strconv.FormatFloat(f.percent, 'f', -1, 64))
	}
	if f.pool != "" {
		q.Set("pool", f.pool)
	}
	return q, f.span.query(q)
}

// sizeFlags are what something has or needs.
type sizeFlags struct {
	cpus   float64
	memory string
	gpus   int
}

func (f *sizeFlags) add(cmd *cobra.Command, of string) {
	flags := cmd.Flags()
	flags.Float64Var(&f.cpus, "cpus", 0, "cores "+of)
	flags.StringVar(&f.memory, "memory", "", "memory "+of+", such as 64GiB")
	flags.IntVar(&f.gpus, "gpus", 0, "GPUs "+of)
}

func (f *sizeFlags) put(q url.Values) error {
	if f.memory != "" {
		bytes, err := parseCeiling("memory", f.memory)
		if err != nil {
			return err
		}
		q.Set("memory_bytes", strconv.FormatFloat(bytes, 'f', -1, 64))
	}
	if f.cpus != 0 {
		q.Set("cpus", strconv.FormatFloat(f.cpus, 'f', -1, 64))
	}
	if f.gpus != 0 {
		q.Set("gpus", strconv.Itoa(f.gpus))
	}
	return nil
}

func whatIfPlace() *cobra.Command {
	var fleet fleetFlags
	var size sizeFlags
	var host string
	cmd := &cobra.Command{Use: "place [WORKLOAD]", Args: cobra.ArbitraryArgs,
		Short: "Where a workload would fit best: one that is there, or one that would need so much",
		Long: `Place plays the span again with one more workload on each host, step by step: the highest ticks
of all on it are added up, as if they came at once. It fits where a percentile of the steps
leaves the part of the host free that is to stay so, and where its GPUs are free; of drives,
where their rate was declared, and its files have to fit on the filesystem with most free.
The best is where most room is left: where the largest of these parts is least. Steps are
those of "vinescale whatif empty".`,
		Example: `  vinescale whatif place weather-cache --span 1d
  vinescale whatif place --cpus 6 --memory 24GiB --gpus 1`}
	fleet.add(cmd, true)
	size.add(cmd, "that it would need, or at least")
	cmd.Flags().StringVar(&host, "host", "", "the workload is on this host, where several have one of the name")
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q, err := fleet.query(true)
		if err == nil {
			err = size.put(q)
		}
		if err != nil {
			return err
		}
		if len(args) > 0 {
			what, id, err := resolve(cmd, strings.Join(args, " "), host)
			if err != nil {
				return err
			}
			if what != "workload" {
				return usagef("%s is a %s: a workload is placed", visible(strings.Join(args, " ")), what)
			}
			q.Set("workload", id)
		}
		var p whatif.Placing
		if err := get(cmd, "/whatif/place", q, &p); err != nil {
			return err
		}
		if as.as.value == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), indented(p.Sentence, 0))
			printNotes(cmd.OutOrStdout(), p.Notes)
			fmt.Fprintln(cmd.OutOrStdout())
		}
		return list(cmd, as, placeColumns, p.Hosts)
	}
	return cmd
}

var placeColumns = []column[whatif.Fit]{
	{name: "host", value: func(f whatif.Fit) any { return f.Host }},
	{name: "fits", value: func(f whatif.Fit) any { return f.Fits },
		text: func(f whatif.Fit) string { return map[bool]string{true: "yes", false: "no"}[f.Fits] }},
	{name: "cpu_cores", head: "CPU", right: true, value: func(f whatif.Fit) any { return f.CPU },
		text: func(f whatif.Fit) string { return whatif.Amount("cpu", f.CPU) }},
	{name: "cpu_part", head: "of its CPUs", right: true, value: func(f whatif.Fit) any { return f.CPUPart },
		text: func(f whatif.Fit) string { return percentText(f.CPUPart) }},
	{name: "memory_bytes", head: "memory", right: true, value: func(f whatif.Fit) any { return f.Memory },
		text: func(f whatif.Fit) string { return whatif.Amount("memory", f.Memory) }},
	{name: "memory_part", head: "of its memory", right: true, value: func(f whatif.Fit) any { return f.MemoryPart },
		text: func(f whatif.Fit) string { return percentText(f.MemoryPart) }},
	{name: "gpus_free", head: "GPUs free", right: true, value: func(f whatif.Fit) any { return f.GPUs }},
	{name: "disk_part", head: "of its drives", right: true, value: func(f whatif.Fit) any { return f.RatePart },
		text: func(f whatif.Fit) string {
			if f.RatePart == nil {
				return "–"
			}
			return percentText(*f.RatePart)
		}},
	{name: "space_free_bytes", head: "space free", right: true, value: func(f whatif.Fit) any { return f.Space },
		text: func(f whatif.Fit) string {
			if f.Space == nil {
				return "–"
			}
			return whatif.Amount("memory", *f.Space)
		}},
	{name: "is_there", head: "is there", value: func(f whatif.Fit) any { return f.IsThere },
		text: func(f whatif.Fit) string { return map[bool]string{true: "yes"}[f.IsThere] }},
	{name: "steps_over", right: true, extra: true, value: func(f whatif.Fit) any { return f.Over }},
	{name: "steps", right: true, extra: true, value: func(f whatif.Fit) any { return f.Steps }},
	{name: "sentence", extra: true, value: func(f whatif.Fit) any { return f.Sentence }},
}

func whatIfHosts() *cobra.Command {
	var fleet fleetFlags
	var size sizeFlags
	var without []string
	added := 0
	as := &oneOf{"table", []string{"table", "json"}}
	cmd := &cobra.Command{Use: "hosts", Args: cobra.NoArgs,
		Short: "Whether all would fit with hosts taken away or added, and how many would have to be added",
		Long: `Hosts takes hosts away, adds so many of a size, and says whether everything would still fit:
where each workload of the hosts taken away would go, and what a host that has too little
for its own would give away. With a size it also says how many hosts of it would do. Needs
are those of "vinescale whatif empty".`,
		Example: `  vinescale whatif hosts --without terrace-2 --span 1d
  vinescale whatif hosts --without press-1 --add 1 --cpus 32 --memory 128GiB --gpus 8
  vinescale whatif hosts --spare 40 --cpus 32 --memory 128GiB`}
	fleet.add(cmd, true)
	size.add(cmd, "of a host that is added")
	flags := cmd.Flags()
	flags.StringSliceVar(&without, "without", nil, "hosts that are taken away")
	flags.IntVar(&added, "add", 0, "so many hosts of the size given are added")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := fleet.query(true)
		if err == nil {
			err = size.put(q)
		}
		if err != nil {
			return err
		}
		if len(without) == 0 && added == 0 && size.cpus == 0 {
			return usagef("say what would be otherwise: --without HOST, or --cpus and --memory of hosts to add")
		}
		if len(without) > 0 {
			q["without"] = []string{strings.Join(without, ",")}
		}
		if added != 0 {
			q.Set("add", strconv.Itoa(added))
		}
		var x whatif.Changed
		if err := get(cmd, "/whatif/hosts", q, &x); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &x)
		}
		return printChanged(cmd.OutOrStdout(), &x)
	}
	return cmd
}

func printChanged(w io.Writer, x *whatif.Changed) error {
	fmt.Fprintln(w, indented(x.Sentence, 0))
	printNotes(w, x.Notes)
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"", false}, cell{"hosts", true}, cell{"CPUs", true}, cell{"needed", true}, cell{"memory", true},
		cell{"needed", true}, cell{"GPUs", true})
	for _, u := range []struct {
		name string
		whatif.Use
	}{{"now", x.Before}, {"then", x.After}} {
		t.row(
			cell{u.name, false},
			cell{strconv.Itoa(u.Hosts), true},
			cell{strconv.FormatFloat(u.CPUs, 'f', -1, 64), true},
			cell{percentText(u.CPUPart), true},
			cell{whatif.Amount("memory", u.Memory), true},
			cell{percentText(u.MemoryPart), true},
			cell{strconv.Itoa(u.GPUs), true},
		)
	}
	if err := t.flush(); err != nil || len(x.Moves) == 0 {
		return err
	}
	fmt.Fprintln(w)
	return printMoves(w, x.Moves, "")
}

// printMoves lists what would go where.
func printMoves(w io.Writer, moves []whatif.Move, indent string) error {
	t := newTable(w)
	t.row(cell{indent + "workload", false}, cell{"tenant", false}, cell{"CPU", true}, cell{"memory", true},
		cell{"GPUs", true}, cell{"drives", true}, cell{"files", true}, cell{"to", false})
	for _, m := range moves {
		t.row(cell{indent + m.Name, false}, cell{m.Tenant, false}, cell{whatif.Amount("cpu", m.CPU), true},
			cell{whatif.Amount("memory", m.Memory), true}, cell{strconv.Itoa(m.GPUs), true},
			cell{whatif.Figure("disk", m.Rate), true}, cell{filesText(m.Space), true}, cell{m.To, false})
	}
	return t.flush()
}

// filesText is the space that files take, where it is known.
func filesText(bytes float64) string {
	if bytes == 0 {
		return "–"
	}
	return whatif.Amount("memory", bytes)
}

// printNotes says what was not judged.
func printNotes(w io.Writer, notes []string) {
	for _, n := range notes {
		fmt.Fprintln(w, indented("* "+n, 2))
	}
}

func whatIfGrowth() *cobra.Command {
	var fleet fleetFlags
	cmd := &cobra.Command{Use: "growth", Args: cobra.NoArgs,
		Short: "When what hosts use fills them, with a range",
		Long: `Growth tells, of every host and of all together, how CPU, memory and GPUs grow from day to day,
and when they are full. Each whole day of the span counts with the mean of its highest
hour. The median of the paces between any two days is the growth; a tenth of them are below
and above the range that is told (after Theil and Sen). What is planned is not in it.`,
		Example: `  vinescale whatif growth --span 30d
  vinescale whatif growth --span 90d --pool terraces --spare 20`}
	fleet.add(cmd, false)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := fleet.query(false)
		if err != nil {
			return err
		}
		var f api.Filling
		if err := get(cmd, "/whatif/growth", q, &f); err != nil {
			return err
		}
		return list(cmd, as, growthColumns, f.Lines)
	}
	return cmd
}

var growthColumns = []column[whatif.Fill]{
	{name: "on", value: func(g whatif.Fill) any { return g.On }},
	{name: "resource", value: func(g whatif.Fill) any { return g.Resource }},
	{name: "full", head: "full at", right: true, value: func(g whatif.Fill) any { return g.Full },
		text: func(g whatif.Fill) string { return whatif.Figure(g.Resource, g.Full) }},
	{name: "now", right: true, value: func(g whatif.Fill) any { return g.Now },
		text: func(g whatif.Fill) string { return growthText(&g, g.Now) }},
	{name: "per_day", head: "a day", right: true, value: func(g whatif.Fill) any { return g.PerDay },
		text: func(g whatif.Fill) string { return growthText(&g, g.PerDay) }},
	{name: "fills", head: "is full", value: func(g whatif.Fill) any { return g.Fills },
		text: func(g whatif.Fill) string { return fillText(&g, g.Fills) }},
	{name: "fills_early", head: "from", value: func(g whatif.Fill) any { return g.Early },
		text: func(g whatif.Fill) string { return fillText(&g, g.Early) }},
	{name: "fills_late", head: "until", value: func(g whatif.Fill) any { return g.Late },
		text: func(g whatif.Fill) string { return fillText(&g, g.Late) }},
	{name: "days_known", head: "days", right: true, value: func(g whatif.Fill) any { return g.Days }},
	{name: "capacity", right: true, extra: true, value: func(g whatif.Fill) any { return g.Capacity }},
	{name: "unit", extra: true, value: func(g whatif.Fill) any { return g.Unit }},
	{name: "per_day_low", right: true, extra: true, value: func(g whatif.Fill) any { return g.Low }},
	{name: "per_day_high", right: true, extra: true, value: func(g whatif.Fill) any { return g.High }},
	{name: "sentence", extra: true, value: func(g whatif.Fill) any { return g.Sentence }},
}

func growthText(g *whatif.Fill, v *float64) string {
	if v == nil {
		return "–"
	}
	return whatif.Figure(g.Resource, *v)
}

func fillText(g *whatif.Fill, t *time.Time) string {
	switch {
	case g.IsFull:
		return "now"
	case g.Now == nil:
		return "–"
	case t == nil:
		return "not in 2 years"
	}
	return shownAt(*t, "2006-01-02")
}
