package cli

import (
	"fmt"
	"io"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/explain"

	"github.com/spf13/cobra"
)

func newInterfaces() *cobra.Command {
	return acrossHosts(&cobra.Command{
		Use: "interfaces", Short: "Every network interface, and which workload moved what",
		Long: `Interfaces shows what went over each network interface, received and sent as the
host sees it, and what each workload moved, as the workload sees it. Workloads are
counted at IP level (with frames where only their own interfaces are counted),
interfaces with their frames: the residual is what lies between, and what passes
through.`,
		Example: `  vinescale interfaces --host press-1
  vinescale interfaces --span 1h --as json`,
	}, "/interfaces", &report[explain.Links, explain.LinkLine]{page: printLinks, columns: linkColumns,
		rows: func(l *explain.Links) []explain.LinkLine { return l.Interfaces }})
}

func printLinks(w io.Writer, l *explain.Links) error {
	fmt.Fprintf(w, "%s from %s until %s\n%s\n", visible(l.Host), shownAt(l.From, "2006-01-02 15:04"),
		shownAt(l.To, "15:04"), missedLines(&l.Missed))
	if len(l.Silent) > 0 {
		fmt.Fprintf(w, "%s\n", folded("Of "+strings.Join(l.Silent, ", ")+" nothing was recorded in this span."))
	}
	if l.Wire == nil {
		return nil
	}
	t := newTable(w)
	t.row(
		cell{"interface", false},
		cell{"kind", false},
		cell{"received " + columnUnit(amount.Network).name, true},
		cell{"of line", true},
		cell{
			"sent " + columnUnit(amount.Network).name,
			true,
		},
		cell{"of line", true},
		cell{"packets/s", true},
		cell{"dropped", true},
		cell{"errors", true},
		cell{"other end", false},
	)
	within, more := 0, 0
	for _, x := range l.Interfaces {
		if !x.LeadsOff {
			if x.Received+x.Sent == 0 {
				continue
			}
			if within++; within > 15 {
				more++
				continue
			}
		}
		in, out := "–", "–"
		if x.ReceivedShare != nil {
			in, out = percentText(*x.ReceivedShare), percentText(*x.SentShare)
		}
		t.row(
			cell{x.Name + " on " + x.Host, false},
			cell{x.Kind, false},
			cell{meanText(amount.Network, x.Received), true},
			cell{in, true},
			cell{meanText(amount.Network, x.Sent), true},
			cell{out, true},
			cell{fmt.Sprintf("%.0f", x.ReceivedPkts+x.SentPkts), true},
			cell{fmt.Sprint(x.Dropped), true},
			cell{fmt.Sprint(x.Errors), true},
			cell{otherEnd(&x), false},
		)
	}
	if err := t.flush(); err != nil {
		return err
	}
	if more > 0 {
		fmt.Fprintf(w, "  %d more within hosts carried less; --as csv has them all\n", more)
	}
	fmt.Fprintln(w,
		"\nInterfaces: received and sent as the host sees it, with frames. Workloads: as they see it, at IP level "+
			"where cgroups are\ncounted; with frames where only their own interfaces are.")
	fmt.Fprintln(w)
	t = newTable(w)
	t.row(
		cell{"workload", false},
		cell{"tenant", false},
		cell{"host", false},
		cell{"received " + columnUnit(amount.Network).name, true},
		cell{
			"sent " + columnUnit(amount.Network).name,
			true,
		},
		cell{"loopback " + columnUnit(amount.Network).name, true},
		cell{"source", false},
	)
	for _, x := range l.Workloads[:min(len(l.Workloads), usersShown)] {
		loopback := "–"
		if x.Local != nil {
			loopback = meanText(amount.Network, *x.Local)
		}
		t.row(
			cell{x.Name, false},
			cell{x.Tenant, false},
			cell{x.Host, false},
			cell{meanText(amount.Network, x.Received), true},
			cell{meanText(amount.Network, x.Sent), true},
			cell{loopback, true},
			cell{x.Source, false},
		)
	}
	total := func(name string, x explain.LinkTotals) {
		t.row(cell{name, false}, cell{"", false}, cell{"", false}, cell{meanText(amount.Network, x.Received), true},
			cell{meanText(amount.Network, x.Sent), true}, cell{"", true}, cell{"", false})
	}
	if n := len(l.Workloads) - usersShown; n > 0 {
		rest := explain.LinkTotals{}
		for _, x := range l.Workloads[usersShown:] {
			rest.Received += x.Received
			rest.Sent += x.Sent
		}
		total(fmt.Sprintf("  %d more", n), rest)
	}
	t.rule()
	total("all workloads, IP", *l.IP)
	total("interfaces off the host", *l.Wire)
	total("residual", *l.Residual)
	if err := t.flush(); err != nil {
		return err
	}
	if n := len(l.Missing); n > 0 {
		fmt.Fprintf(w,
			"\nOf %s the network cannot be told apart: they share the host's, and nothing there counts by cgroup.\n",
			counted(int64(n), "workload", "workloads"))
	}
	return nil
}

// usersShown is how many workloads a table of one resource shows before it adds the rest.
const usersShown = 20

// otherEnd names who is at an interface's other end.
func otherEnd(x *explain.LinkLine) string {
	if x.OtherEnd != nil {
		return x.OtherEnd.Name
	}
	return x.Peer
}

var linkColumns = []column[explain.LinkLine]{
	{name: "host", value: func(x explain.LinkLine) any { return x.Host }},
	{name: "interface", value: func(x explain.LinkLine) any { return x.Name }},
	{name: "kind", value: func(x explain.LinkLine) any { return x.Kind }},
	{name: "leads_off", value: func(x explain.LinkLine) any { return x.LeadsOff }},
	{name: "received_bytes_per_second", value: func(x explain.LinkLine) any { return x.Received }},
	{name: "sent_bytes_per_second", value: func(x explain.LinkLine) any { return x.Sent }},
	{name: "received_packets_per_second", value: func(x explain.LinkLine) any { return x.ReceivedPkts }},
	{name: "sent_packets_per_second", value: func(x explain.LinkLine) any { return x.SentPkts }},
	{name: "dropped_packets", value: func(x explain.LinkLine) any { return x.Dropped }},
	{name: "errors", value: func(x explain.LinkLine) any { return x.Errors }},
	{name: "other_end", value: func(x explain.LinkLine) any { return otherEnd(&x) }},
}
