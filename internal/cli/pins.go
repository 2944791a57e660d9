package cli

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
	"vinescale/internal/api"
)

func newPins() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "pins",
		Short: "Declared CPUs: who may run there, and who did",
		Long: `For each CPU that was declared a tenant's, pins shows which workloads' affinity
and cpuset let them run there, and which did. Time per CPU is the kernel's own
count where the cgroup hierarchy has it; else each thread's time is put down to
the CPU it last ran on, and its source says summed.`,
		Example: `  vinescale pins declare terrace-1 8-11 "Bottling Line"
  vinescale pins --span 1h`,
	}
	acrossHosts(cmd, "/pins", &report[[]explain.PinnedCPU, explain.PinnedCPU]{page: printPins, columns: pinColumns,
		rows: func(pins *[]explain.PinnedCPU) []explain.PinnedCPU { return *pins }})
	declare := acting("declare HOST CPUS TENANT", "Declare CPUs of a host as a tenant's", 3,
		func(cmd *cobra.Command, args []string) error {
			p := api.Pin{Host: args[0], CPUs: args[1], Tenant: args[2]}
			if err := send(cmd, "PUT", "/pins", p, nil); err != nil {
				return err
			}
			cmd.Printf("CPUs %s of %s are declared %s's; this records it and moves nobody\n", visible(args[1]),
				visible(args[0]), visible(args[2]))
			return nil
		})
	remove := acting("remove HOST TENANT", "Remove what is declared for a tenant on a host", 2,
		func(cmd *cobra.Command, args []string) error {
			if err := send(cmd, "DELETE", "/pins/"+url.PathEscape(args[0])+"/"+url.PathEscape(args[1]), nil,
				nil); err != nil {
				return err
			}
			cmd.Printf("nothing is declared for %s on %s any more\n", visible(args[1]), visible(args[0]))
			return nil
		})
	cmd.AddCommand(declare, remove)
	return cmd
}

func printPins(w io.Writer, answer *[]explain.PinnedCPU) error {
	pins := *answer
	if len(pins) == 0 {
		_, err := fmt.Fprintln(w, "No CPUs are declared. \"vinescale pins declare HOST CPUS TENANT\" records them.")
		return err
	}
	t := newTable(w)
	t.row(cell{"host", false}, cell{"CPU", true}, cell{"declared for", false}, cell{"workload (tenant)", false},
		cell{"may run", false}, cell{"ran, CPU s", true}, cell{"source", false}, cell{"", false})
	for _, p := range pins {
		for i, r := range pinRows(p) {
			first := []cell{{p.Host, false}, {fmt.Sprint(p.CPU), true}, {p.Tenant, false}}
			if i > 0 {
				first = []cell{{"", false}, {"", true}, {"", false}}
			}
			t.row(append(first, r...)...)
		}
	}
	return t.flush()
}

// pinRows lists who ran on a CPU, most first, and then who may.
func pinRows(p explain.PinnedCPU) [][]cell {
	may := map[string]bool{}
	for _, m := range p.May {
		may[m] = true
	}
	var rows [][]cell
	for _, r := range p.Ran {
		who := r.Workload + " (" + r.Tenant + ")"
		allowed, note := "yes", ""
		if !may[who] {
			allowed = "no longer"
		}
		if r.Tenant != p.Tenant {
			note = "not the holder"
		}
		rows = append(rows, []cell{{who, false}, {allowed, false}, {fmt.Sprintf("%.2f", r.CPUSeconds), true},
			{r.Source, false}, {note, false}})
		delete(may, who)
	}
	for _, m := range p.May {
		if may[m] {
			rows = append(rows, []cell{{m, false}, {"yes", false}, {"0.00", true}, {"", false}, {"", false}})
		}
	}
	if p.Reason != "" {
		return [][]cell{{{"not known: " + p.Reason, false}}}
	}
	if len(rows) == 0 {
		rows = append(rows, []cell{{"nobody may, and nobody did", false}})
	}
	return rows
}

// pinColumns are the columns of declared CPUs as a plain listing.
var pinColumns = []column[explain.PinnedCPU]{
	{name: "host", value: func(p explain.PinnedCPU) any { return p.Host }},
	{name: "cpu", value: func(p explain.PinnedCPU) any { return p.CPU }},
	{name: "tenant", value: func(p explain.PinnedCPU) any { return p.Tenant }},
	{name: "others_cpu_seconds", value: func(p explain.PinnedCPU) any { return p.Others }},
	{name: "may_run", value: func(p explain.PinnedCPU) any { return strings.Join(p.May, "; ") }},
	{name: "ran", value: func(p explain.PinnedCPU) any {
		var parts []string
		for _, r := range p.Ran {
			parts = append(parts, fmt.Sprintf("%s (%s) %.6f s %s", r.Workload, r.Tenant, r.CPUSeconds,
				r.Source))
		}
		return strings.Join(parts, "; ")
	}},
}
