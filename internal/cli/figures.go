package cli

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/internal/hub"
)

// aboutHost is a command that asks one question about one host over a span.
func aboutHost[T any](use, short, long, example, path string, print func(w io.Writer, as string, answer *T) error) *cobra.Command {
	var span spanFlags
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Example: example, Args: cobra.ExactArgs(1)}
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		var answer T
		if err := get(cmd, "/hosts/"+url.PathEscape(args[0])+path, q, &answer); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), answer)
		}
		return print(cmd.OutOrStdout(), as.value, &answer)
	}
	return cmd
}

func newCPUs() *cobra.Command {
	return aboutHost("cpus HOST", "The ledger of each logical CPU of a host, and who ran there",
		`Cpus closes the ledger of each logical CPU: user, system, interrupts, steal, waiting
for I/O and idle add up to the time there was, and what does not is the residual.
Below, who ran there. Where tasks' time is counted, what is left of it is the
kernel's own.`, `  vinescale cpus cellar-1
  vinescale cpus cellar-1 --span 1h --as csv`, "/cpus", printCPUs)
}

func printCPUs(w io.Writer, as string, c *hub.CPUs) error {
	if as != "table" {
		return write(w, as, cpuColumns, c.CPUs)
	}
	fmt.Fprintf(w, "%s from %s until %s      %d CPUs\n\n", visible(c.Host), c.From.Local().Format("2006-01-02 15:04"), c.To.Local().Format("15:04"), len(c.CPUs))
	if c.Reason != "" {
		fmt.Fprintf(w, "Not available: %s.\n", c.Reason)
		return nil
	}
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
			if len(who) < 3 && x.Capacity > 0 && s.Seconds/x.Capacity >= 0.001 {
				who = append(who, fmt.Sprintf("%s %s", s.Name, percentText(s.Seconds/x.Capacity)))
			}
		}
		if n := len(x.Shares) - len(who); n > 0 && len(who) == 3 {
			who = append(who, fmt.Sprintf("and %d more", n))
		}
		if x.Other != nil && x.Capacity > 0 && *x.Other/x.Capacity >= 0.001 {
			who = append(who, "kernel "+percentText(*x.Other/x.Capacity))
		}
		t.row(cell{fmt.Sprint(x.CPU), true}, cell{known(x.Core), true}, cell{known(x.Node), true}, cell{megahertz(x.MHz), true}, part(x.User), part(x.System), part(x.IRQ), part(x.SoftIRQ),
			part(x.Steal), part(x.IOWait), part(x.Idle), part(x.Residual), cell{strings.Join(who, ", "), false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w, "\nParts of the CPU's time. –  not known here.")
	return nil
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

var cpuColumns = []column[hub.CPULine]{
	{name: "cpu", value: func(x hub.CPULine) any { return x.CPU }}, {name: "core", value: func(x hub.CPULine) any { return x.Core }},
	{name: "package", value: func(x hub.CPULine) any { return x.Package }}, {name: "numa_node", value: func(x hub.CPULine) any { return x.Node }},
	{name: "mhz", value: func(x hub.CPULine) any { return x.MHz }}, {name: "capacity_seconds", value: func(x hub.CPULine) any { return x.Capacity }},
	{name: "user_seconds", value: func(x hub.CPULine) any { return x.User }}, {name: "system_seconds", value: func(x hub.CPULine) any { return x.System }},
	{name: "irq_seconds", value: func(x hub.CPULine) any { return x.IRQ }}, {name: "softirq_seconds", value: func(x hub.CPULine) any { return x.SoftIRQ }},
	{name: "steal_seconds", value: func(x hub.CPULine) any { return x.Steal }}, {name: "iowait_seconds", value: func(x hub.CPULine) any { return x.IOWait }},
	{name: "idle_seconds", value: func(x hub.CPULine) any { return x.Idle }}, {name: "residual_seconds", value: func(x hub.CPULine) any { return x.Residual }},
	{name: "tasks_seconds", value: func(x hub.CPULine) any { return x.Ran }},
}

func newMemory() *cobra.Command {
	return aboutHost("memory HOST", "A host's memory explained, and who holds it",
		`Memory closes the ledger of a host's memory: what is charged to workloads, the
kernel's own structures, page cache charged to nobody, huge pages, what is free,
and the residual. Below, what each workload holds, by kind, and which of them hold
much of it asleep.`, `  vinescale memory terrace-2
  vinescale memory terrace-2 --span 24h`, "/memory", printMemory)
}

func printMemory(w io.Writer, as string, m *hub.Memory) error {
	if as != "table" {
		return write(w, as, memoryColumns, m.Workloads)
	}
	fmt.Fprintf(w, "%s from %s until %s\n\n", visible(m.Host), m.From.Local().Format("2006-01-02 15:04"), m.To.Local().Format("15:04"))
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
		t.row(cell{name, false}, cell{fmt.Sprintf("%.2f", *v/(1<<30)), true}, cell{share, true}, cell{bar, false})
	}
	t.row(cell{"memory", false}, cell{"GiB", true}, cell{"of capacity", true}, cell{"", false})
	line("charged to workloads", &m.Charged)
	line("kernel's own", &m.Own)
	line("page cache of nobody", &m.Cache)
	line("huge pages set aside", &m.Huge)
	line("free", m.Free)
	line("residual", m.Residual)
	t.rule()
	line("capacity", m.Capacity)
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w)
	t = newTable(w)
	t.row(cell{"workload", false}, cell{"tenant", false}, cell{"charged", true}, cell{"anon", true}, cell{"file", true}, cell{"shared", true}, cell{"kernel", true}, cell{"swap", true},
		cell{"working set", true}, cell{"most", true}, cell{"PSS", true}, cell{"cores", true}, cell{"source", false}, cell{"", false})
	for _, x := range m.Workloads[:min(len(m.Workloads), 20)] {
		f := map[string]float64{}
		for _, y := range x.Figures {
			f[y.Name] = y.Value
		}
		gib := func(name string) cell {
			v, ok := f[name]
			if !ok {
				return cell{"–", true}
			}
			return cell{fmt.Sprintf("%.2f", v/(1<<30)), true}
		}
		note := ""
		if x.Asleep {
			note = "asleep"
		}
		if n := f["memory_oom_kills"]; n > 0 {
			note = strings.TrimSpace(fmt.Sprintf("%s %.0f ended for want of memory", note, n))
		}
		t.row(cell{x.Name, false}, cell{x.Tenant, false}, cell{fmt.Sprintf("%.2f", x.Charged/(1<<30)), true}, gib("memory_anon_bytes"), gib("memory_file_bytes"), gib("memory_shared_bytes"),
			gib("memory_kernel_bytes"), gib("memory_swap_bytes"), gib("memory_working_set_bytes"), gib("memory_high_bytes"), gib("memory_proportional_bytes"),
			cell{fmt.Sprintf("%.2f", x.CPUCores), true}, cell{x.Source, false}, cell{note, false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w, "\nGiB. –  not counted for this workload.")
	for _, s := range m.Swaps {
		fmt.Fprintf(w, "Swap on %s (%s): %.2f of %.2f GiB in use.\n", visible(s.Name), visible(s.Kind), float64(s.UsedBytes)/(1<<30), float64(s.SizeBytes)/(1<<30))
	}
	for _, n := range m.Notes {
		fmt.Fprintf(w, "%s%s.\n", strings.ToUpper(n[:1]), n[1:])
	}
	return nil
}

var memoryColumns = []column[hub.MemoryUser]{
	{name: "workload", value: func(x hub.MemoryUser) any { return x.Name }}, {name: "tenant", value: func(x hub.MemoryUser) any { return x.Tenant }},
	{name: "charged_bytes", value: func(x hub.MemoryUser) any { return x.Charged }}, {name: "source", value: func(x hub.MemoryUser) any { return x.Source }},
	{name: "cores", value: func(x hub.MemoryUser) any { return x.CPUCores }}, {name: "asleep", value: func(x hub.MemoryUser) any { return x.Asleep }},
}

func newInterfaces() *cobra.Command {
	var span spanFlags
	var host string
	cmd := &cobra.Command{
		Use: "interfaces", Short: "Every network interface, and which workload moved what", Args: cobra.NoArgs,
		Long: `Interfaces shows what went over each network interface, received and sent as the
host sees it, and what each workload moved, as the workload sees it. Workloads are
counted at IP level, interfaces with their frames: the residual is what lies between,
and what passes through.`,
		Example: `  vinescale interfaces --host press-1
  vinescale interfaces --span 1h --as json`,
	}
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := span.hostQuery(host)
		if err != nil {
			return err
		}
		var l hub.Links
		if err := get(cmd, "/interfaces", q, &l); err != nil {
			return err
		}
		return printLinks(cmd.OutOrStdout(), as.value, &l)
	}
	return cmd
}

func printLinks(w io.Writer, as string, l *hub.Links) error {
	switch as {
	case "json":
		return writeIndented(w, l)
	case "csv", "jsonl":
		return write(w, as, linkColumns, l.Interfaces)
	}
	fmt.Fprintf(w, "%s from %s until %s\n\n", visible(l.Host), l.From.Local().Format("2006-01-02 15:04"), l.To.Local().Format("15:04"))
	t := newTable(w)
	t.row(cell{"interface", false}, cell{"kind", false}, cell{"received MB/s", true}, cell{"of line", true}, cell{"sent MB/s", true}, cell{"of line", true}, cell{"packets/s", true}, cell{"dropped", true}, cell{"errors", true})
	for _, x := range l.Interfaces {
		if !x.LeadsOff && x.Received+x.Sent == 0 {
			continue
		}
		in, out := "–", "–"
		if x.ReceivedShare != nil {
			in, out = percentText(*x.ReceivedShare), percentText(*x.SentShare)
		}
		t.row(cell{x.Name + " on " + x.Host, false}, cell{x.Kind, false}, cell{megabytes(x.Received), true}, cell{in, true}, cell{megabytes(x.Sent), true}, cell{out, true},
			cell{fmt.Sprintf("%.0f", x.ReceivedPkts+x.SentPkts), true}, cell{fmt.Sprint(x.Dropped), true}, cell{fmt.Sprint(x.Errors), true})
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w)
	t = newTable(w)
	t.row(cell{"workload", false}, cell{"tenant", false}, cell{"host", false}, cell{"received MB/s", true}, cell{"sent MB/s", true}, cell{"loopback MB/s", true}, cell{"source", false})
	for _, x := range l.Workloads[:min(len(l.Workloads), 20)] {
		t.row(cell{x.Name, false}, cell{x.Tenant, false}, cell{x.Host, false}, cell{megabytes(x.Received), true}, cell{megabytes(x.Sent), true}, cell{megabytes(x.Local), true}, cell{x.Source, false})
	}
	total := func(name string, x hub.LinkTotals) {
		t.row(cell{name, false}, cell{"", false}, cell{"", false}, cell{megabytes(x.Received), true}, cell{megabytes(x.Sent), true}, cell{"", true}, cell{"", false})
	}
	t.rule()
	total("all workloads, IP", l.IP)
	total("interfaces off the host", l.Wire)
	total("residual", l.Residual)
	if err := t.flush(); err != nil {
		return err
	}
	if n := len(l.Missing); n > 0 {
		fmt.Fprintf(w, "\nOf %s the network cannot be told apart: they share the host's, and nothing there counts by cgroup.\n", counted(int64(n), "workload", "workloads"))
	}
	return nil
}

var linkColumns = []column[hub.LinkLine]{
	{name: "host", value: func(x hub.LinkLine) any { return x.Host }}, {name: "interface", value: func(x hub.LinkLine) any { return x.Name }},
	{name: "kind", value: func(x hub.LinkLine) any { return x.Kind }}, {name: "leads_off", value: func(x hub.LinkLine) any { return x.LeadsOff }},
	{name: "received_bytes_per_second", value: func(x hub.LinkLine) any { return x.Received }}, {name: "sent_bytes_per_second", value: func(x hub.LinkLine) any { return x.Sent }},
	{name: "received_packets_per_second", value: func(x hub.LinkLine) any { return x.ReceivedPkts }}, {name: "sent_packets_per_second", value: func(x hub.LinkLine) any { return x.SentPkts }},
	{name: "dropped_packets", value: func(x hub.LinkLine) any { return x.Dropped }}, {name: "errors", value: func(x hub.LinkLine) any { return x.Errors }},
}
