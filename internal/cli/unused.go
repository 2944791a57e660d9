package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
)

// unusedRow is one line of what a tenant holds and does not use, for programs.
type unusedRow struct {
	tenant string
	explain.UnusedLine
}

func newUnused() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "unused",
		Short: "What tenants hold and do not use: what could be asked back",
		Long: `Unused adds up, for each tenant, what its workloads hold and did not use in the span:
limits and requests at least twice as large as all that was used at any tick, memory of what
has done next to nothing for long, allotted GPUs that stood idle, and declared CPUs on which
the holder did next to nothing. A limit that is the whole host is none, and holds nothing.`,
		Example: `  vinescale unused --span 7d
  vinescale unused --span 7d --as csv --where "resource == 'memory'"`,
	}
	return acrossHosts(cmd, "/unused", &report[explain.Unused, unusedRow]{page: printUnused,
		rows: func(u *explain.Unused) (rows []unusedRow) {
			for _, t := range u.Tenants {
				for _, l := range t.Lines {
					rows = append(rows, unusedRow{t.Tenant, l})
				}
			}
			return rows
		}, columns: []column[unusedRow]{
			{name: "tenant", value: func(r unusedRow) any { return r.tenant }},
			{name: "resource", value: func(r unusedRow) any { return r.Resource }},
			{name: "unused", value: func(r unusedRow) any { return r.Amount }},
			{name: "unit", value: func(r unusedRow) any { return r.Unit }},
			{name: "held", value: func(r unusedRow) any { return r.Held }},
			{name: "most_used", value: func(r unusedRow) any { return r.Most }},
			{name: "why", value: func(r unusedRow) any { return r.Why }},
			{name: "workload", value: func(r unusedRow) any { return r.Name }},
			{name: "host", value: func(r unusedRow) any { return r.Host }},
			{name: "sentence", value: func(r unusedRow) any { return r.Sentence }, extra: true},
		}})
}

func printUnused(w io.Writer, u *explain.Unused) error {
	fmt.Fprint(w, missedLines(&u.Missed))
	if len(u.Tenants) == 0 {
		_, err := fmt.Fprintln(w, "Nothing is held that was not used in this span.")
		return err
	}
	t := newTable(w)
	t.row(cell{"tenant", false}, cell{"CPU, cores", true}, cell{"memory", true}, cell{"GPUs", true},
		cell{"lines", true})
	for _, x := range u.Tenants {
		t.row(cell{x.Tenant, false}, cell{fmt.Sprintf("%.2f", x.Cores), true}, cell{human("memory", x.Bytes), true},
			cell{fmt.Sprintf("%.0f", x.GPUs), true}, cell{fmt.Sprint(len(x.Lines)), true})
	}
	if err := t.flush(); err != nil {
		return err
	}
	for _, x := range u.Tenants {
		fmt.Fprintf(w, "\n%s\n", visible(x.Tenant))
		lines := newTable(w)
		for _, l := range x.Lines {
			name := l.Name
			if name == "" {
				name = "declared CPUs"
			}
			lines.row(cell{"  " + human(l.Resource, l.Amount), true}, cell{name, false}, cell{l.Host, false},
				cell{l.Sentence, false})
		}
		if err := lines.flush(); err != nil {
			return err
		}
	}
	return nil
}
