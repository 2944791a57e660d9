package cli

import (
	"fmt"
	"io"
	"strings"

	"vinescale/core/explain"

	"github.com/spf13/cobra"
)

func newCPUs() *cobra.Command {
	return aboutHost("cpus HOST", "The ledger of each logical CPU of a host, and who ran there",
		`Cpus closes the ledger of each logical CPU: user, system, interrupts, steal, waiting
for I/O and idle add up to the time there was, and what does not is the residual.
Below, who ran there. Where tasks' time is counted, what is left of it is the
kernel's own.`, `  vinescale cpus cellar-1
  vinescale cpus cellar-1 --span 1h --as csv`, "/cpus",
		&report[explain.CPUs, explain.CPULine]{page: printCPUs, columns: cpuColumns,
			rows: func(c *explain.CPUs) []explain.CPULine { return c.CPUs }})
}

func printCPUs(w io.Writer, c *explain.CPUs) error {
	fmt.Fprintf(w, "%s from %s until %s      %d CPUs\n%s", visible(c.Host),
		shownAt(c.From, "2006-01-02 15:04"), shownAt(c.To, "15:04"), len(c.CPUs),
		missedLines(&c.Missed))
	if c.Reason != "" {
		fmt.Fprintf(w, "\nNot available: %s.\n", c.Reason)
		return nil
	}
	if l := c.Load; l != nil {
		fmt.Fprintf(w, "load %.2f over 1 minute, %.2f over 5, %.2f over 15: %.2f a CPU\n", l.One, l.Five, l.Fifteen,
			l.One/float64(len(c.CPUs)))
	}
	if text := waited(c.Pressure); text != "" {
		fmt.Fprintf(w, "%s\n", text)
	}
	if c.Cores != nil {
		fmt.Fprintln(w, folded(c.Cores.Sentence))
	}
	fmt.Fprintln(w)
	t := newTable(w)
	head := []cell{{"CPU", true}, {"core", true}, {"node", true}, {"MHz", true}}
	for _, name := range []string{"user", "system", "irq", "softirq", "steal", "iowait", "idle", "residual"} {
		head = append(head, cell{name, true})
	}
	t.row(append(head, cell{"who ran there", false})...)
	for i := range c.CPUs {
		x := &c.CPUs[i]
		part := func(v float64) cell {
			if x.Capacity <= 0 {
				return cell{"–", true}
			}
			return cell{percentText(v / x.Capacity), true}
		}
		who := []string{}
		for _, s := range x.Shares {
			if len(who) < namesShown && x.Capacity > 0 && s.Seconds/x.Capacity >= 0.001 {
				who = append(who, fmt.Sprintf("%s %s", s.Name, percentText(s.Seconds/x.Capacity)))
			}
		}
		if n := len(x.Shares) - len(who); n > 0 && len(who) == namesShown {
			who = append(who, fmt.Sprintf("%d more", n))
		}
		if x.Other != nil && x.Capacity > 0 && *x.Other/x.Capacity >= 0.001 {
			who = append(who, "kernel "+percentText(*x.Other/x.Capacity))
		}
		if x.Untold != nil && x.Capacity > 0 && *x.Untold/x.Capacity >= 0.005 {
			who = append(who, "not told apart "+percentText(*x.Untold/x.Capacity))
		}
		t.row(cell{fmt.Sprint(x.CPU), true}, cell{known(x.Core), true}, cell{known(x.Node), true},
			cell{megahertz(x.MHz), true}, part(x.User), part(x.System), part(x.IRQ), part(x.SoftIRQ),
			part(x.Steal), part(x.IOWait), part(x.Idle), part(x.Residual), cell{strings.Join(who, ", "), false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w, "\nParts of the CPU's time. –  not known here.")
	return nil
}

// namesShown is how many workloads are named on each CPU.
const namesShown = 2

// waited says for what tasks of a host waited, and for how much of the time.
func waited(pressure []explain.Pressure) string {
	of := map[string]string{"cpu": "a CPU", "memory": "memory", "io": "storage"}
	var parts []string
	for _, p := range pressure {
		parts = append(parts, fmt.Sprintf("for %s %s", of[p.Resource], percentText(p.Some)))
	}
	if len(parts) == 0 {
		return ""
	}
	return "some task waited " + strings.Join(parts, ", ") + " of the time"
}

func megahertz(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.0f", *v)
}

func known(n int) string {
	if n < 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

var cpuColumns = []column[explain.CPULine]{
	{name: "cpu", value: func(x explain.CPULine) any { return x.CPU }},
	{name: "core", value: func(x explain.CPULine) any { return x.Core }},
	{name: "package", value: func(x explain.CPULine) any { return x.Package }},
	{name: "numa_node", value: func(x explain.CPULine) any { return x.Node }},
	{name: "mhz", value: func(x explain.CPULine) any { return x.MHz }},
	{name: "capacity_seconds", value: func(x explain.CPULine) any { return x.Capacity }},
	{name: "user_seconds", value: func(x explain.CPULine) any { return x.User }},
	{name: "system_seconds", value: func(x explain.CPULine) any { return x.System }},
	{name: "irq_seconds", value: func(x explain.CPULine) any { return x.IRQ }},
	{name: "softirq_seconds", value: func(x explain.CPULine) any { return x.SoftIRQ }},
	{name: "steal_seconds", value: func(x explain.CPULine) any { return x.Steal }},
	{name: "iowait_seconds", value: func(x explain.CPULine) any { return x.IOWait }},
	{name: "idle_seconds", value: func(x explain.CPULine) any { return x.Idle }},
	{name: "residual_seconds", value: func(x explain.CPULine) any { return x.Residual }},
	{name: "tasks_seconds", value: func(x explain.CPULine) any { return x.Ran }},
}
