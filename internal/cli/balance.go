package cli

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newBalance() *cobra.Command {
	var span spanFlags
	var host string
	var failOver bool
	of := &choice{"all", append(amount.ResourceNames(), "all")}
	cmd := &cobra.Command{
		Use:   "balance",
		Short: "Every tenant's use against its quotas and the capacity",
		Long: `Balance compares, over a span, what each tenant used (the mean, and its highest
minute with all its workloads added) with its quota, and closes each resource's
ledger: tenants + unassigned + kernel + idle + residual = capacity.`,
		Example: `  vinescale balance
  vinescale balance --span 24h --of cpu
  vinescale balance --fail-over && echo nobody is over`,
		Args: cobra.NoArgs,
	}
	cmd.Flags().Var(of, "of", "which resource")
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	cmd.Flags().BoolVar(&failOver, "fail-over", false, "exit with 3 when a tenant's mean is over its quota")
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q := url.Values{}
		if host != "" {
			q.Set("host", host)
		}
		if err := span.query(q); err != nil {
			return err
		}
		var b hub.Balance
		if err := get(cmd, "/balance", q, &b); err != nil {
			return err
		}
		if err := printBalance(cmd.OutOrStdout(), as.value, of.value, &b); err != nil {
			return err
		}
		if failOver && anyOver(&b, of.value) {
			return errCondition
		}
		return nil
	}
	return cmd
}

func anyOver(b *hub.Balance, of string) bool {
	for _, t := range b.Tenants {
		for _, u := range t.Uses {
			if u.Over && (of == "all" || of == u.Resource) {
				return true
			}
		}
	}
	return false
}

// balanceRow is one tenant and resource, for programs.
type balanceRow struct {
	Tenant    string   `json:"tenant"`
	Workloads int      `json:"workloads"`
	Resource  string   `json:"resource"`
	Unit      string   `json:"unit"`
	Used      *float64 `json:"used_mean"`
	Peak      *float64 `json:"peak_minute_mean"`
	Quota     *float64 `json:"quota"`
	Over      bool     `json:"over"`
	PeakOver  bool     `json:"peak_over"`
	Missing   int      `json:"missing"`
}

func printBalance(w io.Writer, as, of string, b *hub.Balance) error {
	if as == "json" {
		return writeIndented(w, b)
	}
	if as != "table" {
		var rows []balanceRow
		for _, t := range b.Tenants {
			for i, u := range t.Uses {
				if of == "all" || of == u.Resource {
					rows = append(rows, balanceRow{t.Tenant, t.Workloads, u.Resource, b.Resources[i].MeanUnit, u.Used, u.Peak, u.Quota, u.Over, u.PeakOver, u.Missing})
				}
			}
		}
		return list(w, as, []column[balanceRow]{
			{name: "tenant", value: func(r balanceRow) any { return r.Tenant }}, {name: "workloads", value: func(r balanceRow) any { return r.Workloads }},
			{name: "resource", value: func(r balanceRow) any { return r.Resource }}, {name: "unit", value: func(r balanceRow) any { return r.Unit }},
			{name: "used_mean", value: func(r balanceRow) any { return r.Used }}, {name: "peak_minute_mean", value: func(r balanceRow) any { return r.Peak }},
			{name: "quota", value: func(r balanceRow) any { return r.Quota }}, {name: "over", value: func(r balanceRow) any { return r.Over }},
			{name: "peak_over", value: func(r balanceRow) any { return r.PeakOver }},
		}, rows)
	}
	fmt.Fprintf(w, "%s from %s until %s      %d hosts      %d workloads\n", visible(b.Host), b.From.Local().Format("2006-01-02 15:04"),
		b.To.Local().Format("15:04"), b.Hosts, b.Workloads)
	for i := range b.Resources {
		if of == "all" || of == b.Resources[i].Resource {
			if err := writeBalance(w, b, i); err != nil {
				return err
			}
		}
	}
	return nil
}

func writeBalance(w io.Writer, b *hub.Balance, i int) error {
	r := &b.Resources[i]
	u := unit{"cores", 1, 2}
	if r.Resource != "cpu" {
		top := 0.0
		for _, t := range b.Tenants {
			if used := t.Uses[i].Used; used != nil {
				top = max(top, *used)
			}
		}
		u = pick(map[bool][]unit{true: bytesUnits, false: rateUnits}[r.Resource == "memory"], top)
	}
	fmt.Fprintln(w)
	t := newTable(w)
	name := strings.ToUpper(r.Resource[:1]) + r.Resource[1:]
	if r.Resource == "cpu" {
		name = "CPU"
	}
	t.row(cell{name + " by tenant", false}, cell{u.name, true}, cell{"quota", true}, cell{"peak minute", true}, cell{"of capacity", true}, cell{"", false}, cell{"", false})
	line := func(name string, mean *float64, more ...cell) {
		if mean == nil {
			t.row(append([]cell{{name, false}, {"–", true}}, more[:min(len(more), 2)]...)...)
			return
		}
		if len(more) == 0 {
			more = []cell{{"", true}, {"", true}}
		}
		part := cell{"", true}
		bar := ""
		if r.Capacity != nil && *r.Capacity > 0 {
			part.text, bar = fmt.Sprintf("%.1f %%", 100**mean / *r.Capacity), barText(*mean / *r.Capacity)
		}
		row := append([]cell{{name, false}, {u.text(*mean), true}}, more[:2]...)
		row = append(append(row, part), more[2:]...)
		if len(more) == 2 {
			row = append(row, cell{"", false})
		}
		t.row(append(row, cell{bar, false})...)
	}
	why := ""
	for _, x := range b.Tenants {
		use := x.Uses[i]
		quota, note := "none set", ""
		if use.Quota != nil {
			quota = u.text(*use.Quota)
			switch {
			case use.Over:
				note = u.text(*use.Used-*use.Quota) + " over"
			case use.PeakOver:
				note = "peak over"
			}
		}
		if x.Tenant == hub.Unassigned {
			quota = ""
		}
		peak := ""
		if use.Peak != nil {
			peak = u.text(*use.Peak)
		}
		if use.Missing > 0 && use.Used != nil {
			note = strings.TrimSpace(note + fmt.Sprintf(" %d not counted", use.Missing))
		}
		if use.Missing > 0 {
			why = use.Reason
		}
		line(x.Tenant, use.Used, cell{quota, true}, cell{peak, true}, cell{note, false})
	}
	line("kernel", r.Kernel)
	if r.Resource == "cpu" && r.Steal != nil && *r.Steal > 0 {
		line("steal", r.Steal)
	}
	line("idle", r.Idle)
	line("residual", r.Residual)
	t.rule()
	line("capacity", r.Capacity)
	if err := t.flush(); err != nil {
		return err
	}
	if why != "" {
		fmt.Fprintf(w, "–  not available, or of part of the workloads: %s.\n", visible(why))
	}
	for _, field := range []string{"capacity", "idle", "kernel", "residual"} {
		if why := r.Notes[field]; why != "" {
			fmt.Fprintf(w, "–  not available (%s): %s.\n", field, visible(why))
		}
	}
	return nil
}

func newPins() *cobra.Command {
	var span spanFlags
	var host string
	cmd := &cobra.Command{
		Use:   "pins",
		Short: "Declared CPUs: who may run there, and who did",
		Long: `For each CPU that was declared a tenant's, pins shows which workloads' affinity
and cpuset let them run there, and which did. Time per CPU is the kernel's own
count where the cgroup hierarchy has it; else each process's time is put down to
the CPU it last ran on, and its source says summed.`,
		Example: `  vinescale pins declare terrace-1 8-11 "Bottling Line"
  vinescale pins --span 1h`,
		Args: cobra.NoArgs,
	}
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q := url.Values{}
		if host != "" {
			q.Set("host", host)
		}
		if err := span.query(q); err != nil {
			return err
		}
		var pins []hub.PinnedCPU
		if err := get(cmd, "/pins", q, &pins); err != nil {
			return err
		}
		return printPins(cmd.OutOrStdout(), as.value, pins)
	}
	declare := acting("declare HOST CPUS TENANT", "Declare CPUs of a host as a tenant's", 3, func(cmd *cobra.Command, args []string) error {
		p := api.Pin{Host: args[0], CPUs: args[1], Tenant: args[2]}
		if err := send(cmd, "PUT", "/pins", p, nil); err != nil {
			return err
		}
		cmd.Printf("CPUs %s of %s are declared %s's; this records it and moves nobody\n", visible(args[1]), visible(args[0]), visible(args[2]))
		return nil
	})
	remove := acting("remove HOST TENANT", "Remove what is declared for a tenant on a host", 2, func(cmd *cobra.Command, args []string) error {
		if err := send(cmd, "DELETE", "/pins/"+url.PathEscape(args[0])+"/"+url.PathEscape(args[1]), nil, nil); err != nil {
			return err
		}
		cmd.Printf("nothing is declared for %s on %s any more\n", visible(args[1]), visible(args[0]))
		return nil
	})
	cmd.AddCommand(declare, remove)
	return cmd
}

func printPins(w io.Writer, as string, pins []hub.PinnedCPU) error {
	if as == "json" || as == "jsonl" {
		return writeJSON(w, as, pins)
	}
	if as == "table" && len(pins) == 0 {
		_, err := fmt.Fprintln(w, "No CPUs are declared. \"vinescale pins declare HOST CPUS TENANT\" records them.")
		return err
	}
	if as == "csv" {
		return list(w, as, []column[hub.PinnedCPU]{
			{name: "host", value: func(p hub.PinnedCPU) any { return p.Host }},
			{name: "cpu", value: func(p hub.PinnedCPU) any { return p.CPU }},
			{name: "tenant", value: func(p hub.PinnedCPU) any { return p.Tenant }},
			{name: "others_cpu_seconds", value: func(p hub.PinnedCPU) any { return p.Others }},
			{name: "may_run", value: func(p hub.PinnedCPU) any { return strings.Join(p.May, "; ") }},
			{name: "ran", value: func(p hub.PinnedCPU) any {
				var parts []string
				for _, r := range p.Ran {
					parts = append(parts, fmt.Sprintf("%s (%s) %.6f s %s", r.Workload, r.Tenant, r.CPUSeconds, r.Source))
				}
				return strings.Join(parts, "; ")
			}},
		}, pins)
	}
	t := newTable(w)
	t.row(cell{"host", false}, cell{"CPU", true}, cell{"declared for", false}, cell{"workload (tenant)", false}, cell{"may run", false}, cell{"ran, CPU s", true}, cell{"source", false}, cell{"", false})
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
func pinRows(p hub.PinnedCPU) [][]cell {
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
		rows = append(rows, []cell{{who, false}, {allowed, false}, {fmt.Sprintf("%.2f", r.CPUSeconds), true}, {r.Source, false}, {note, false}})
		delete(may, who)
	}
	for _, m := range p.May {
		if may[m] {
			rows = append(rows, []cell{{m, false}, {"yes", false}, {"0.00", true}, {"", false}, {"", false}})
		}
	}
	if len(rows) == 0 {
		rows = append(rows, []cell{{"nobody may, and nobody did", false}})
	}
	return rows
}
