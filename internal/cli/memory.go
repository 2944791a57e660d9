package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/explain"
)

func newMemory() *cobra.Command {
	return aboutHost("memory HOST", "A host's memory explained, and who holds it",
		`Memory closes the ledger of a host's memory: what is charged to workloads, the
kernel's own structures, page cache charged to nobody, huge pages, what is free,
and the residual. Below, what each workload holds, by kind, and which of them hold
much of it asleep.`, `  vinescale memory terrace-2
  vinescale memory terrace-2 --span 24h`, "/memory",
		&report[explain.Memory, explain.MemoryUser]{page: printMemory, columns: memoryColumns,
			rows: func(m *explain.Memory) []explain.MemoryUser { return m.Workloads }})
}

func printMemory(w io.Writer, m *explain.Memory) error {
	fmt.Fprintf(w, "%s from %s until %s\n%s\n", visible(m.Host), shownAt(m.From, "2006-01-02 15:04"),
		shownAt(m.To, "15:04"), missedLines(&m.Missed))
	if m.Charged == nil {
		fmt.Fprintf(w, "Not available: %s.\n", strings.Join(m.Notes, "; "))
		return nil
	}
	t := newTable(w)
	capacity := 0.0
	if m.Capacity != nil {
		capacity = *m.Capacity
	}
	line := func(name string, v *float64) {
		if v == nil {
			t.row(cell{name, false}, cell{"–", true})
			return
		}
		share, bar := "", ""
		if capacity > 0 {
			share, bar = percentText(*v/capacity), barText(*v/capacity)
		}
		t.row(cell{name, false}, cell{meanText(amount.Memory, *v), true}, cell{share, true}, cell{bar, false})
	}
	t.row(
		cell{"memory", false},
		cell{columnUnit(amount.Memory).name, true},
		cell{"of capacity", true},
		cell{"", false},
	)
	line("charged to workloads", m.Charged)
	line("kernel's own", m.Own)
	line("page cache of nobody", m.Cache)
	line("huge pages set aside", m.Huge)
	line("free", m.Free)
	line("residual", m.Residual)
	t.rule()
	line("capacity", m.Capacity)
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w)
	t = newTable(w)
	t.row(
		cell{"workload", false},
		cell{"tenant", false},
		cell{"charged", true},
		cell{"anon", true},
		cell{"file", true},
		cell{"shared", true},
		cell{"kernel", true},
		cell{"swap", true},
		cell{
			"working set",
			true,
		},
		cell{"most", true},
		cell{"PSS", true},
		cell{meanHead(amount.CPU), true},
		cell{"source", false},
		cell{"", false},
	)
	for _, x := range m.Workloads[:min(len(m.Workloads), usersShown)] {
		f := map[string]float64{}
		for _, y := range x.Figures {
			f[y.Name] = y.Value
		}
		gib := func(name string) cell {
			v, ok := f[name]
			if !ok {
				return cell{"–", true}
			}
			return cell{meanText(amount.Memory, v), true}
		}
		note := ""
		if x.Asleep != nil {
			note = "asleep for " + sleptText(x.Asleep)
		}
		if n := f["memory_oom_kills"]; n > 0 {
			note = strings.TrimSpace(fmt.Sprintf("%s %.0f ended for want of memory", note, n))
		}
		t.row(cell{x.Name, false}, cell{x.Tenant, false}, cell{meanText(amount.Memory, x.Charged), true},
			gib("memory_anon_bytes"), gib("memory_file_bytes"), gib("memory_shared_bytes"),
			gib("memory_kernel_bytes"), gib("memory_swap_bytes"), gib("memory_working_set_bytes"),
			gib("memory_high_bytes"), gib("memory_proportional_bytes"),
			cell{meanText(amount.CPU, x.CPUCores), true}, cell{x.Source, false}, cell{note, false})
	}
	if n := len(m.Workloads) - usersShown; n > 0 {
		rest := 0.0
		for _, x := range m.Workloads[usersShown:] {
			rest += x.Charged
		}
		t.row(cell{fmt.Sprintf("  %d more", n), false}, cell{"", false}, cell{meanText(amount.Memory, rest), true})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "\n%s. –  not counted for this workload.\n", columnUnit(amount.Memory).name)
	for _, s := range m.Swaps {
		fmt.Fprintf(w, "Swap on %s (%s): %s of %s %s in use now%s.\n", visible(s.Name), visible(s.Kind),
			meanText(amount.Memory, float64(s.UsedBytes)), meanText(amount.Memory, float64(s.SizeBytes)),
			columnUnit(amount.Memory).name, swappedThere(m, s.Name))
	}
	for _, n := range m.Notes {
		fmt.Fprintf(w, "%s%s.\n", strings.ToUpper(n[:1]), n[1:])
	}
	return nil
}

// sleptText says for how long, in minutes up to two hours.
func sleptText(s *explain.Sleep) string {
	text := fmt.Sprintf("%.0f min", s.Minutes)
	if s.Minutes >= 120 {
		text = fmt.Sprintf("%.0f h", s.Minutes/60)
	}
	if s.Longer {
		text += " or longer"
	}
	return text
}

// swappedThere names who has most on a swap.
func swappedThere(m *explain.Memory, swap string) string {
	type part struct {
		name  string
		bytes float64
	}
	var parts []part
	for _, x := range m.Workloads {
		for _, on := range x.SwapOn {
			if on.Swap == swap && on.Bytes >= 1<<20 {
				parts = append(parts, part{x.Name, on.Bytes})
			}
		}
	}
	slices.SortFunc(parts, func(a, b part) int { return cmp.Compare(b.bytes, a.bytes) })
	text := ""
	for i, p := range parts[:min(len(parts), 3)] {
		text += map[bool]string{true: "; ", false: ", "}[i == 0] +
			fmt.Sprintf("%s %.2f", visible(p.name), p.bytes/(1<<30))
	}
	if n := len(parts) - 3; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// memoryMeasures are a column for each measure of memory; null where it is not counted.
func memoryMeasures() (columns []column[explain.MemoryUser]) {
	for _, m := range amount.Beside() {
		if m.Entry().Of != amount.Memory || m.Manner() == amount.Stall {
			continue
		}
		columns = append(columns, column[explain.MemoryUser]{name: m.String(), value: func(x explain.MemoryUser) any {
			for i := range x.Figures {
				if x.Figures[i].Name == m.String() {
					return x.Figures[i].Value
				}
			}
			return nil
		}})
	}
	return columns
}

var memoryColumns = slices.Concat([]column[explain.MemoryUser]{
	{name: "workload", value: func(x explain.MemoryUser) any { return x.Name }},
	{name: "tenant", value: func(x explain.MemoryUser) any { return x.Tenant }},
	{name: "charged_bytes", value: func(x explain.MemoryUser) any { return x.Charged }},
	{name: "source", value: func(x explain.MemoryUser) any { return x.Source }},
	{name: "cores", value: func(x explain.MemoryUser) any { return x.CPUCores }},
	{name: "asleep_minutes", value: func(x explain.MemoryUser) any {
		if x.Asleep == nil {
			return nil
		}
		return x.Asleep.Minutes
	}},
}, memoryMeasures(), []column[explain.MemoryUser]{
	{name: "swap_on", value: func(x explain.MemoryUser) any {
		names := make([]string, len(x.SwapOn))
		for i, on := range x.SwapOn {
			names[i] = on.Swap
		}
		return strings.Join(names, " ")
	}},
})
