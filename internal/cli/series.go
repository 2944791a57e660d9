package cli

import (
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newSeries() *cobra.Command {
	var span spanFlags
	var host, pool, tenant, where, part, step string
	first := 8
	of := &seriesFlag{measureFlag{amount.CPU.String()}}
	by := &dimension{"", question.Divisions()}
	cmd := &cobra.Command{Use: "series", Args: cobra.NoArgs,
		Short: "How a measure went over a span, of the fleet, a host or a tenant, by any grouping",
		Long: `Series tells a measure step by step: a line for each group with its mean over the span, the
lowest and the highest of its steps, and a small graph from zero to its own highest. Of
workloads, drives, interfaces, GPUs and logical CPUs the highest tick is told, whatever the
step. A dot stands for a step that nothing was told of. As csv, json or jsonl, each step of
each group is a row.

Figures of drives, interfaces, GPUs, logical CPUs and sensors are told too, each part
apart: drives that are within another, and interfaces that do not lead off the host,
only where --part names them.`,
		Example: `  vinescale series --of cpu --by tenant --span 24h
  vinescale series --of memory --by workload --host cellar-1 --first 5
  vinescale series --of disk --host press-1 --step 10m --as csv
  vinescale series --of drive_busy_percent --span 24h
  vinescale series --of sensor_celsius --host press-1`}
	f := cmd.Flags()
	f.Var(of, "of", "which resource, or another measure (\"vinescale measures\" lists them)")
	f.Var(by, "by", "what to group by (default: all in one)")
	f.StringVar(&host, "host", "", "one host (default: all)")
	f.StringVar(&pool, "pool", "", "only the hosts of this pool")
	f.StringVar(&tenant, "tenant", "", "only what was this tenant's")
	f.StringVar(&part, "part", "", "only the drive, interface, GPU, CPU or sensor of this name")
	f.StringVar(&where, "which", "", "only workloads that this expression matches (CEL, as rules are)")
	f.IntVar(&first, "first", first, "how many groups are told apart, the largest first; 0 for all")
	f.StringVar(&step, "step", hub.AutoStep, "how long a step is: "+strings.Join(hub.Steps(), ", "))
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	names := amount.Names(amount.Measures())
	for _, f := range leaf.PartFigures() {
		names = append(names, f.Name)
	}
	completeWith(cmd, "of", names)
	completeWith(cmd, "by", append(question.Dimensions(), question.Divisions()...))
	completeWith(cmd, "step", hub.Steps())
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if first < 0 {
			return usagef("--first %d: give the number of groups to tell apart, or 0 for all", first)
		}
		q := url.Values{"of": {of.value}, "first": {strconv.Itoa(first)}, "step": {step}}
		for name, v := range map[string]string{"by": by.value, "host": host, "pool": pool, "tenant": tenant,
			"where": where, "part": part} {
			if v != "" {
				q.Set(name, v)
			}
		}
		if err := span.query(q); err != nil {
			return err
		}
		if f := cmd.Flags().Lookup("live"); f != nil && f.Changed && span.span == "" {
			q.Set("span", usualFollowed) // one step of now would say nothing of how it goes
		}
		to, err := dial(cmd)
		if err != nil {
			return err
		}
		var s explain.Series
		if err := to.Get(cmd.Context(), api.Prefix+"/series", q, &s); err != nil {
			return err
		}
		if as.value != "table" {
			if text := missedLines(&s.Missed); text != "" {
				fmt.Fprint(cmd.ErrOrStderr(), text)
			}
			return write(cmd.OutOrStdout(), as.value, stepColumns, stepsOf(&s))
		}
		return printSeries(cmd.OutOrStdout(), &s)
	}
	return cmd
}

// usualFollowed is how far back a series goes that is followed, where no span is given.
const usualFollowed = "5m"

// stepRow is a step of a group, for programs.
type stepRow struct {
	Start   time.Time `json:"start"`
	What    string    `json:"what"` // group, rest, capacity, used, kernel or residual
	Name    string    `json:"name"`
	ID      int64     `json:"id"`
	Host    string    `json:"host"`
	Mean    *float64  `json:"mean"`
	Peak    *float64  `json:"peak"`
	Unit    string    `json:"unit"`
	Seconds float64   `json:"seconds"`
}

var stepColumns = []column[stepRow]{
	{name: "start", value: func(r stepRow) any { return r.Start }},
	{name: "what", value: func(r stepRow) any { return r.What }},
	{name: "name", value: func(r stepRow) any { return r.Name }},
	{name: "id", value: func(r stepRow) any { return r.ID }},
	{name: "host", value: func(r stepRow) any { return r.Host }},
	{name: "mean", value: func(r stepRow) any { return r.Mean }},
	{name: "peak", value: func(r stepRow) any { return r.Peak }},
	{name: "unit", value: func(r stepRow) any { return r.Unit }},
	{name: "seconds", value: func(r stepRow) any { return r.Seconds }},
}

func stepsOf(s *explain.Series) []stepRow {
	rows := []stepRow{}
	add := func(what, name string, id int64, host string, mean, peak []*float64) {
		for k := range mean {
			row := stepRow{Start: s.Starts[k], What: what, Name: name, ID: id, Host: host, Mean: mean[k], Unit: s.Unit,
				Seconds: s.Seconds[k]}
			if peak != nil {
				row.Peak = peak[k]
			}
			rows = append(rows, row)
		}
	}
	for i := range s.Groups {
		g := &s.Groups[i]
		add("group", g.Name, g.ID, g.Host, g.Mean, g.Peak)
	}
	if s.Rest != nil {
		add("rest", s.Rest.Name, 0, "", s.Rest.Mean, nil)
	}
	for _, l := range []struct {
		name string
		of   []*float64
	}{{"capacity", s.Capacity}, {"used", s.Used}, {"kernel", s.Kernel}, {"residual", s.Residual}} {
		add(l.name, "", 0, "", l.of, nil)
	}
	return rows
}

// graphWide is how many characters a small graph has at most.
const graphWide = 48

func printSeries(w io.Writer, s *explain.Series) error {
	groups := s.Groups
	if s.Rest != nil {
		groups = append(groups[:len(groups):len(groups)], *s.Rest)
	}
	top := 0.0
	for i := range groups {
		if groups[i].Most != nil {
			top = max(top, *groups[i].Most)
		}
	}
	u := pick(meanUnits(entryOf(s.Measure)), top)
	step := stepText(time.Duration(s.Step) * time.Second)
	fmt.Fprintf(w, "%s over %s from %s until %s, in steps of %s\n", entryOf(s.Measure).Title, visible(s.Host),
		momentText(&s.From), momentText(&s.To), step)
	fmt.Fprint(w, noteLine(s.Note), missedLines(&s.Missed))
	if len(groups) == 0 {
		_, err := fmt.Fprintln(w, "\nNothing was told of it.")
		return err
	}
	fmt.Fprintln(w)
	t := newTable(w)
	most := map[string]string{explain.PeakOfTick: "highest tick", explain.PeakOfMinute: "highest minute",
		explain.PeakOfReading: "highest reading", explain.PeakOfNone: "highest step"}[s.PeakOf]
	head := s.By
	switch head {
	case "":
		head = "of"
	case explain.ByPart:
		head = leaf.PartFigureNamed(s.Measure).Of
	}
	t.row(cell{head, false}, cell{"mean, " + u.name, true}, cell{"lowest step", true}, cell{most, true},
		cell{"each from 0 to its highest", false})
	text := func(v *float64) cell {
		if v == nil {
			return cell{"–", true}
		}
		return cell{u.text(*v), true}
	}
	for i := range groups {
		g := &groups[i]
		name := g.Name
		if i == len(s.Groups) {
			name = fmt.Sprintf("%d others", s.InRest)
		}
		if g.Host != "" && s.Host == hub.Fleet && s.By != string(question.Host) {
			name += " (" + g.Host + ")"
		}
		t.row(cell{name, false}, text(g.Whole), text(g.Least), text(g.Most), cell{graph(g), false})
	}
	return t.flush()
}

var blocks = []rune(" ▁▂▃▄▅▆▇█")

// graph draws a group's steps from zero to its highest: the highest of those that share a character, a dot where
// nothing was told.
func graph(g *explain.SeriesGroup) string {
	n, top := len(g.Mean), 0.0
	if g.Most != nil {
		top = *g.Most
	}
	wide := min(n, graphWide)
	var b strings.Builder
	for c := range wide {
		var most *float64
		for k := c * n / wide; k < (c+1)*n/wide; k++ {
			for _, v := range []*float64{g.Mean[k], g.Peak[k]} {
				if v != nil && (most == nil || *v > *most) {
					most = v
				}
			}
		}
		switch {
		case most == nil:
			b.WriteRune('·')
		case top <= 0 || *most <= 0:
			b.WriteRune(blocks[0])
		default:
			b.WriteRune(blocks[min(1+int(*most/top*float64(len(blocks)-1)), len(blocks)-1)])
		}
	}
	return b.String()
}

// stepText is how long a step is: those of live frames are of seconds.
func stepText(step time.Duration) string {
	if step < time.Minute {
		return fmt.Sprintf("%.0f s", step.Seconds())
	}
	return explain.Lasted(step)
}
