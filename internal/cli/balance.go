package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

func newBalance() *cobra.Command {
	failOn := &oneOf{"", []string{"over", "soft", "exhausted"}}
	of := &oneOf{"all", append(amount.ResourceNames(), "all")}
	cmd := &cobra.Command{
		Use:   "balance",
		Short: "Every tenant's use against its quotas and the capacity",
		Long: `Balance compares, over a span, what each tenant used (the mean, and its highest
minute with all its workloads added) with its quota, and closes each resource's
ledger: tenants + unassigned + kernel + idle + residual = capacity.

Below stand the quotas, a line each, on all hosts, a pool or a host: what is used and what
is held, what is left, for how long single minutes were above, and whether others waited
meanwhile; and the allowances, with what is spent, what is left, and when they run out.
Where a host was short of CPU time, it is told who had more of it, and who less, than the
weights of their cgroups would have given them.`,
		Example: `  vinescale balance
  vinescale balance --span 24h --of cpu
  vinescale balance --fail-on over && echo nobody is over`,
	}
	cmd.Flags().Var(of, "of", "which resource")
	cmd.Flags().Var(failOn, "fail-on", "exit with 3 when a tenant is over a quota, or over a soft mark too, "+
		"or an allowance is exhausted")
	completeWith(cmd, "of", of.allowed)
	completeWith(cmd, "fail-on", failOn.allowed)
	return acrossHosts(cmd, "/balance", &report[explain.Balance, balanceRow]{
		page: func(w io.Writer, b *explain.Balance) error { return printBalance(w, of.value, b) },
		rows: func(b *explain.Balance) []balanceRow { return balanceRows(of.value, b) }, columns: balanceColumns,
		holds: func(b *explain.Balance) bool {
			switch failOn.value {
			case "":
				return false
			case "exhausted":
				return anyExhausted(b, of.value, false)
			}
			isSoft := failOn.value == "soft"
			return anyOver(b, of.value, isSoft) || isSoft && anyExhausted(b, of.value, true)
		},
	})
}

// anyOver tells whether a tenant is over its quota, or, with soft, over its soft mark too.
func anyOver(b *explain.Balance, of string, soft bool) bool {
	for _, t := range b.Tenants {
		for _, u := range t.Uses {
			if (u.Over || soft && u.SoftOver) && (of == "all" || of == u.Resource) {
				return true
			}
		}
	}
	return slices.ContainsFunc(b.Stands, func(s explain.Stand) bool {
		return (s.Over || soft && s.SoftOver) && (of == "all" || of == s.Resource)
	})
}

// anyExhausted tells whether an allowance is spent, or, with soft, is watched or expected to be spent.
func anyExhausted(b *explain.Balance, of string, soft bool) bool {
	return slices.ContainsFunc(b.Allowances, func(a explain.AllowanceStand) bool {
		isNear := a.State == explain.AllowanceWatched || a.State == explain.AllowanceRunningOut
		return (a.State == explain.AllowanceExhausted || soft && isNear) && (of == "all" || of == a.Resource)
	})
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
	Soft      *float64 `json:"soft"`
	Over      bool     `json:"over"`
	PeakOver  bool     `json:"peak_over"`
	SoftOver  bool     `json:"soft_over"`
	Terms     int      `json:"terms"`
	Missing   int      `json:"missing"`
}

// balanceRows lists every tenant and resource.
func balanceRows(of string, b *explain.Balance) (rows []balanceRow) {
	for _, t := range b.Tenants {
		for i, u := range t.Uses {
			if of == "all" || of == u.Resource {
				rows = append(rows, balanceRow{t.Tenant, t.Workloads, u.Resource, b.Resources[i].MeanUnit, u.Used,
					u.Peak, u.Quota, u.Soft, u.Over, u.PeakOver, u.SoftOver, max(len(u.Terms), 1), u.Missing})
			}
		}
	}
	return rows
}

var balanceColumns = []column[balanceRow]{
	{name: "tenant", value: func(r balanceRow) any { return r.Tenant }},
	{name: "workloads", value: func(r balanceRow) any { return r.Workloads }},
	{name: "resource", value: func(r balanceRow) any { return r.Resource }},
	{name: "unit", value: func(r balanceRow) any { return r.Unit }},
	{name: "used_mean", value: func(r balanceRow) any { return r.Used }},
	{name: "peak_minute_mean", value: func(r balanceRow) any { return r.Peak }},
	{name: "quota", value: func(r balanceRow) any { return r.Quota }},
	{name: "soft", value: func(r balanceRow) any { return r.Soft }},
	{name: "over", value: func(r balanceRow) any { return r.Over }},
	{name: "peak_over", value: func(r balanceRow) any { return r.PeakOver }},
	{name: "soft_over", value: func(r balanceRow) any { return r.SoftOver }},
	{name: "terms", value: func(r balanceRow) any { return r.Terms }, extra: true},
	{name: "missing", value: func(r balanceRow) any { return r.Missing }, extra: true},
}

func printBalance(w io.Writer, of string, b *explain.Balance) error {
	fmt.Fprintf(w, "%s from %s until %s      %d hosts      %d workloads\n", visible(b.Host),
		shownAt(b.From, "2006-01-02 15:04"),
		shownAt(b.To, "15:04"), b.Hosts, b.Workloads)
	missed := b.Missed
	missed.Caveats = limiting(missed.Caveats, of)
	fmt.Fprint(w, noteLine(b.Note), missedLines(&missed))
	for i := range b.Resources {
		r := &b.Resources[i]
		noneHasIt := r.Used == nil && entryOf(r.Resource).IsOptional
		if of == "all" && !noneHasIt || of == r.Resource {
			if err := writeBalance(w, b, i); err != nil {
				return err
			}
		}
	}
	if err := printStands(w, of, b); err != nil {
		return err
	}
	if err := printAllowances(w, of, b); err != nil {
		return err
	}
	if err := printPromised(w, of, b); err != nil {
		return err
	}
	return printShort(w, of, b)
}

// limiting are the caveats that limit the shares of a resource, "all" for any. Those that are not known here stay.
func limiting(list []explain.Caveat, of string) []explain.Caveat {
	r, err := amount.ParseResource(of)
	if err != nil {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(x explain.Caveat) bool {
		for c := range account.NumCaveats {
			if c.String() == x.What {
				return !c.Limits(r)
			}
		}
		return false
	})
}

func writeBalance(w io.Writer, b *explain.Balance, i int) error {
	r := &b.Resources[i]
	e := entryOf(r.Resource)
	top := 0.0
	for _, t := range b.Tenants {
		if used := t.Uses[i].Used; used != nil {
			top = max(top, *used)
		}
	}
	u := pick(meanUnits(e), top)
	if isCPU(e) && r.Capacity != nil {
		u = cpuUnitOf(b.Host, int(*r.Capacity))
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{e.Title + " by tenant", false}, cell{u.name, true}, cell{"quota", true}, cell{"peak minute", true},
		cell{"of capacity", true}, cell{"", false}, cell{"", false})
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
			part.text, bar = percentText(*mean / *r.Capacity), barText(*mean / *r.Capacity)
		}
		row := append([]cell{{name, false}, {u.text(*mean), true}}, more[:2]...)
		row = append(append(row, part), more[2:]...)
		if len(more) == 2 {
			row = append(row, cell{"", false})
		}
		t.row(append(row, cell{bar, false})...)
	}
	why := ""
	var changed []string
	for _, x := range b.Tenants {
		if len(x.Parts) > 0 && x.Workloads == 0 {
			continue // all that it has is its parts'
		}
		use := x.Uses[i]
		quota, note := "none set", ""
		if use.Quota != nil {
			quota = u.text(*use.Quota)
		} else if use.Soft != nil {
			quota = "watched"
		}
		note = standText(&use, u)
		if len(use.Terms) > 0 || use.Coming != nil {
			quota += "*"
			changed = append(changed, termLines(x.Tenant, &use, u)...)
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
	if r.Steal != nil && *r.Steal > 0 {
		line("steal", r.Steal)
	}
	line("idle", r.Idle)
	line("residual", r.Residual)
	t.rule()
	line("capacity", r.Capacity)
	if err := t.flush(); err != nil {
		return err
	}
	for _, text := range changed {
		fmt.Fprintln(w, text)
	}
	if why != "" {
		fmt.Fprintf(w, "–  not available, or of part of the workloads: %s.\n", visible(why))
	}
	for _, field := range []string{"capacity", "idle", "kernel", "residual"} {
		if why := r.Notes[field]; why != "" {
			fmt.Fprintf(w, "–  not available (%s): %s.\n", field, visible(why))
		}
	}
	fmt.Fprint(w, withoutLine(r.Without))
	return nil
}

// standText says how a use stands against its quota, where there is something to say.
func standText(use *explain.ResourceUse, u unit) string {
	switch {
	case len(use.Terms) > 0 && use.Over:
		return "over for a time"
	case use.Over:
		return u.text(*use.Used-*use.Quota) + " over"
	case use.SoftOver:
		return "over soft mark"
	case use.PeakOver:
		return "peak over"
	}
	return ""
}

// termLines say what was in force when, where that changed within the span or changes after it.
func termLines(tenant string, use *explain.ResourceUse, u unit) (lines []string) {
	for _, x := range use.Terms {
		used := "used –"
		if x.Used != nil {
			used = "used " + u.text(*x.Used)
		}
		if stand := standText(&explain.ResourceUse{Used: x.Used, QuotaUse: x.QuotaUse}, u); stand != "" {
			used += ", " + stand
		}
		lines = append(lines, fmt.Sprintf("*  %s, %s until %s: %s; %s", visible(tenant),
			shownAt(x.From, "2006-01-02 15:04"), shownAt(x.To, "2006-01-02 15:04"),
			limitText(x.Quota, x.Soft, u), used))
	}
	if c := use.Coming; c != nil {
		lines = append(lines, fmt.Sprintf("*  %s, from %s on: %s", visible(tenant),
			shownAt(c.From, "2006-01-02 15:04"), limitText(c.Quota, c.Soft, u)))
	}
	return lines
}

func limitText(ceiling, soft *float64, u unit) string {
	switch {
	case ceiling != nil:
		return "quota " + u.text(*ceiling)
	case soft != nil:
		return "soft mark " + u.text(*soft)
	}
	return "no quota"
}
