package cli

import (
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
	"vinescale/internal/api"
)

func newPins() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "pins",
		Short: "Declared CPUs: whether they were kept, and if not, by whom and when",
		Long: `Each declaration of CPUs is held against what affinity and cpusets allow and against
where time was really spent, over that part of the span in which it was in force.
A line a declaration says the gravest verdict; below it stands the evidence. With
--cpus each CPU is shown: who may run there, and who did. Time by CPU is the kernel's
own count where the cgroup hierarchy has it; else each thread's time is put down to
the CPU it last ran on, and its source says summed.

  kept         the holder ran there, and nowhere else
  intruded     others ran on CPUs that are the holder's alone
  strayed      the holder ran on CPUs that are not declared for it
  idle         the holder did next to nothing on some of them
  overlapping  another declaration names the same CPUs
  unenforced   nothing keeps others off: an affinity mask reserves nothing
  unbound      nothing keeps the holder there, or a part of its processes
  sibling      another tenant ran on the other half of a declared core
  crossing     the CPUs are of several memory nodes
  interrupted  interrupts took a good part of their time
  squeezing    the CPUs left to everybody were full while these stood idle
  absent       a declared CPU is offline or not there
  unknown      nothing was recorded, or the declaration is yet to come`,
		Example: `  vinescale pins declare terrace-1 8-11 "Bottling Line"
  vinescale pins --span 1h
  vinescale pins --host terrace-1 --cpus --span 1h`,
	}
	isByCPU := false
	failOn := &oneOf{"", []string{"bad", "watch"}}
	cmd.Flags().BoolVar(&isByCPU, "cpus", false, "show each CPU: who may run there, and who did")
	cmd.Flags().Var(failOn, "fail-on", "exit with 3 when a verdict is bad, or one to watch too")
	completeWith(cmd, "fail-on", failOn.allowed)
	acrossHosts(cmd, "/pins", &report[[]explain.PinAudit, pinRow]{
		page: func(w io.Writer, pins *[]explain.PinAudit) error {
			if isByCPU {
				return printPinnedCPUs(w, *pins)
			}
			return printPins(w, *pins)
		},
		rows: func(pins *[]explain.PinAudit) []pinRow { return pinRows(*pins, isByCPU) }, columns: pinColumns,
		holds: func(pins *[]explain.PinAudit) bool {
			for _, p := range *pins {
				if failOn.value != "" && p.Grade == "bad" || failOn.value == "watch" && p.Grade == "watch" {
					return true
				}
			}
			return false
		},
	})
	cmd.AddCommand(pinsDeclare(), pinsRemove(), pinsHistory(), pinsEffective(), pinsAdopt(), pinsPlan())
	return cmd
}

// holderFlags say who the holder of a declaration is, where it is no tenant.
type holderFlags struct{ workload, rule string }

func (f *holderFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.workload, "workload", "", "the holder is the workload of that name")
	cmd.Flags().StringVar(&f.rule, "rule", "", "the holder is whatever matches this rule, such as \"kind == 'vm'\"")
}

// holder is who was named: by an argument, or by one of the flags.
func (f *holderFlags) holder(tenant []string) (kind, name string, err error) {
	n := len(tenant)
	for _, x := range []struct{ kind, name string }{
		{explain.HolderWorkload, f.workload},
		{explain.HolderRule, f.rule},
	} {
		if x.name != "" {
			kind, name = x.kind, x.name
			n++
		}
	}
	if n != 1 {
		return "", "", usagef(
			"whose are the CPUs? Give a tenant, or --workload NAME, or --rule EXPRESSION: one of them",
		)
	}
	if len(tenant) == 1 {
		kind, name = explain.HolderTenant, tenant[0]
	}
	return kind, name, nil
}

func pinsDeclare() *cobra.Command {
	var who holderFlags
	var change changeFlags
	var until string
	isShared, isComing := false, false
	cmd := acting("declare HOST CPUS [TENANT]", "Record that CPUs of a host are a holder's", 0, nil)
	cmd.Args = cobra.RangeArgs(2, 3)
	cmd.Long = `Declare records whose CPUs are, in the kernel's list format (0-3,8) or as a mask (0xff),
and moves nobody. What was declared for the same holder on that host ends where this
begins; the same again changes nothing. "vinescale pins history" keeps what is over.`
	cmd.Example = `  vinescale pins declare terrace-1 8-11 "Bottling Line"
  vinescale pins declare terrace-1 0-3 --workload must-sample --until 2026-12-24 --reason "harvest"
  vinescale pins declare press-1 4-7 --rule "labels.site == 'north'" --shared`
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		kind, holder, err := who.holder(args[2:])
		if err != nil {
			return err
		}
		p := api.PinToDeclare{Host: args[0], CPUs: args[1], Kind: kind, Holder: holder, IsShared: isShared,
			IsComing: isComing, Reason: change.reason}
		if p.From, err = change.when(); err != nil {
			return err
		}
		if until != "" {
			end, err := parseTime(until)
			if err != nil {
				return err
			}
			p.Until = &end
		}
		var d api.DeclaredPin
		if err := send(cmd, "PUT", "/pins", p, &d); err != nil {
			return err
		}
		cmd.Println(pinSentence(&d) + "; this records it and moves nobody")
		return nil
	}
	who.register(cmd)
	change.register(cmd)
	cmd.Flags().StringVar(&until, "until", "", "when it ends; without an end when left out")
	cmd.Flags().BoolVar(&isShared, "shared", false, "others may run there too")
	cmd.Flags().BoolVar(&isComing, "coming", false, "the workload need not have been seen yet")
	return cmd
}

// pinSentence says what is declared.
func pinSentence(d *api.DeclaredPin) string {
	how := "alone"
	if !d.Exclusive {
		how = "not alone"
	}
	until := ""
	if d.Until != nil {
		until = " until " + shownAt(*d.Until, "2006-01-02 15:04")
	}
	return fmt.Sprintf(
		"CPUs %s of %s are declared for %s, %s, from %s on%s",
		d.CPUs,
		visible(d.Host),
		visible(d.Holder),
		how,
		shownAt(d.From, "2006-01-02 15:04"),
		until,
	)
}

func pinsRemove() *cobra.Command {
	var who holderFlags
	var change changeFlags
	cmd := acting("remove HOST [TENANT]", "End what is declared for a holder on a host; its history stays", 0, nil)
	cmd.Args = cobra.RangeArgs(1, 2)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		kind, holder, err := who.holder(args[1:])
		if err != nil {
			return err
		}
		at, err := change.when()
		if err != nil {
			return err
		}
		q := url.Values{"reason": {change.reason}}
		moment := time.Now()
		if at != nil {
			q.Set("at", at.Format(time.RFC3339))
			moment = *at
		}
		var all []api.DeclaredPin
		if err := get(cmd, "/pins/declared", url.Values{"host": {args[0]}}, &all); err != nil {
			return err
		}
		ended := 0
		for _, p := range all {
			if p.Kind != kind || p.Holder != holder ||
				p.Until != nil && !p.Until.After(moment.Truncate(time.Minute)) {
				continue
			}
			if err := send(cmd, "DELETE", fmt.Sprintf("/pins/%d?%s", p.ID, q.Encode()), nil, nil); err != nil {
				return err
			}
			ended++
		}
		if ended == 0 {
			return fmt.Errorf(
				"nothing is declared for %s on %s at that time; \"vinescale pins history\" lists all that was",
				holder,
				args[0],
			)
		}
		cmd.Printf("nothing is declared for %s on %s any more\n", visible(holder), visible(args[0]))
		return nil
	}
	who.register(cmd)
	change.register(cmd)
	return cmd
}

func pinsHistory() *cobra.Command {
	cmd := &cobra.Command{Use: "history [HOST]", Args: cobra.MaximumNArgs(1),
		Short: "What was declared for whom, from when until when: by whom, and why"}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{}
		if len(args) == 1 {
			q.Set("host", args[0])
		}
		var all []api.DeclaredPin
		if err := get(cmd, "/pins/declared", q, &all); err != nil {
			return err
		}
		return list(cmd, as, []column[api.DeclaredPin]{
			{name: "host", value: func(p api.DeclaredPin) any { return p.Host }},
			{name: "cpus", head: "CPUs", value: func(p api.DeclaredPin) any { return p.CPUs }},
			{name: "holder", head: "declared for", value: func(p api.DeclaredPin) any { return p.Holder }},
			{name: "holder_kind", head: "kind", value: func(p api.DeclaredPin) any { return p.Kind }},
			{name: "exclusive", value: func(p api.DeclaredPin) any { return p.Exclusive },
				text: func(p api.DeclaredPin) string {
					return map[bool]string{true: "alone", false: "shared"}[p.Exclusive]
				}},
			{name: "from", value: func(p api.DeclaredPin) any { return p.From },
				text: func(p api.DeclaredPin) string { return momentText(&p.From) }},
			{name: "until", value: func(p api.DeclaredPin) any { return p.Until },
				text: func(p api.DeclaredPin) string {
					if p.Until != nil && p.Until.Equal(p.From) {
						return "taken back"
					}
					return momentText(p.Until)
				}},
			{name: "made_by", value: func(p api.DeclaredPin) any { return p.MadeBy }},
			{name: "reason", value: func(p api.DeclaredPin) any { return p.Reason }},
			{name: "ended_by", value: func(p api.DeclaredPin) any { return p.EndedBy }},
			{name: "end_reason", value: func(p api.DeclaredPin) any { return p.EndReason }, extra: true},
			{name: "made_at", value: func(p api.DeclaredPin) any { return p.MadeAt }, extra: true},
			{name: "id", value: func(p api.DeclaredPin) any { return p.ID }, extra: true},
		}, all)
	}
	return cmd
}

func momentText(at *time.Time) string {
	if at == nil {
		return "–"
	}
	return shownAt(*at, "2006-01-02 15:04")
}

const noPins = "No CPUs are declared in this span. \"vinescale pins declare HOST CPUS TENANT\" records them; " +
	"\"vinescale pins effective HOST\" lists what is kept on some."

func printPins(w io.Writer, pins []explain.PinAudit) error {
	if len(pins) == 0 {
		_, err := fmt.Fprintln(w, noPins)
		return err
	}
	t := newTable(w)
	t.row(
		cell{"verdict", false},
		cell{"host", false},
		cell{"CPUs", false},
		cell{"declared for", false},
		cell{
			"holder",
			true,
		},
		cell{"others", true},
		cell{"kernel", true},
		cell{"idle", true},
		cell{"strayed, CPU s", true},
		cell{"also", false},
	)
	for i := range pins {
		p := &pins[i]
		part := func(seconds float64) cell {
			if p.Capacity == 0 {
				return cell{"–", true}
			}
			return cell{percentText(seconds / p.Capacity), true}
		}
		how := p.CPUs
		if !p.Exclusive {
			how += " shared"
		}
		var also []string
		for _, v := range p.Verdicts {
			if v.Verdict != p.Verdict {
				also = append(also, v.Verdict)
			}
		}
		t.row(
			cell{p.Verdict, false},
			cell{p.Host, false},
			cell{how, false},
			cell{p.Holder, false},
			part(p.Kept),
			part(
				p.Intruded,
			),
			part(p.Kernel+p.Steal),
			part(p.Idle),
			cell{fmt.Sprintf("%.0f", p.Strayed), true},
			cell{strings.Join(also, ", "), false},
		)
	}
	if err := t.flush(); err != nil {
		return err
	}
	for i := range pins {
		printFaults(w, &pins[i])
	}
	return nil
}

// printFaults says what each verdict on a declaration rests on.
func printFaults(w io.Writer, p *explain.PinAudit) {
	fmt.Fprintf(w, "\n%s %s, %s\n", visible(p.Host), p.CPUs, visible(p.Holder))
	faults := p.Verdicts
	if len(faults) == 0 {
		faults = []explain.PinFault{{Verdict: p.Verdict, Sentence: p.Sentence + " It is declared from " +
			momentText(&p.Declared) + " on."}}
	}
	for _, v := range faults {
		text := folded(v.Sentence + whenText(v.When))
		fmt.Fprintf(
			w,
			"  %-12s %s\n",
			v.Verdict,
			strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n"+strings.Repeat(" ", 15)),
		)
	}
}

// whenText says when something was, and how the holder fared meanwhile.
func whenText(e *explain.PinEvidence) string {
	if e == nil {
		return ""
	}
	day := "15:04"
	if e.StretchLong >= 3600 {
		day = "2006-01-02 15:04"
	}
	text := fmt.Sprintf(
		" It was from %s until %s",
		shownAt(e.From, "2006-01-02 15:04"),
		shownAt(e.To, day),
	)
	if e.Stretches > 1 {
		text += fmt.Sprintf(", most from %s on", shownAt(e.WorstFrom, day))
	}
	switch waited := e.HolderWaited; {
	case waited == nil:
	case *waited < 0.05:
		text += "; the holder's threads did not wait meanwhile"
	default:
		text += fmt.Sprintf("; the holder's threads waited %.1f s for a CPU meanwhile", *waited)
	}
	return text + "."
}

func printPinnedCPUs(w io.Writer, pins []explain.PinAudit) error {
	if len(pins) == 0 {
		_, err := fmt.Fprintln(w, noPins)
		return err
	}
	t := newTable(w)
	t.row(cell{"host", false}, cell{"CPU", true}, cell{"declared for", false}, cell{"verdict", false},
		cell{"workload (tenant)", false}, cell{"may run", false}, cell{"ran, CPU s", true}, cell{"source", false})
	for _, p := range pins {
		for _, x := range p.Each {
			for i, r := range whoOn(&x) {
				first := []cell{{p.Host, false}, {fmt.Sprint(x.CPU), true}, {p.Holder, false}, {x.Verdict, false}}
				if i > 0 {
					first = []cell{{"", false}, {"", true}, {"", false}, {"", false}}
				}
				t.row(append(first, r...)...)
			}
		}
	}
	return t.flush()
}

// whoOn lists who ran on a CPU, most first, and then who may.
func whoOn(p *explain.PinnedCPU) [][]cell {
	may := map[string]bool{}
	for _, m := range p.May {
		may[m] = true
	}
	var rows [][]cell
	for _, r := range p.Ran {
		who := r.Name + " (" + r.Tenant + ")"
		allowed := "yes"
		if !may[who] && p.MayCount == len(p.May) {
			allowed = "no longer"
		}
		rows = append(rows, []cell{{who, false}, {allowed, false}, {fmt.Sprintf("%.2f", r.CPUSeconds), true},
			{r.Source, false}})
		delete(may, who)
	}
	for _, m := range p.May {
		if may[m] {
			rows = append(rows, []cell{{m, false}, {"yes", false}, {"0.00", true}, {"", false}})
		}
	}
	if n := p.MayCount - len(p.May); n > 0 {
		rows = append(rows, []cell{{fmt.Sprintf("and %d more", n), false}, {"yes", false}})
	}
	if len(rows) == 0 {
		rows = append(rows, []cell{{"nobody may, and nobody did", false}})
	}
	return rows
}

// pinRow is one declaration, or one CPU of it, for programs.
type pinRow struct {
	*explain.PinAudit
	cpus                                                  string
	verdict                                               string
	capacity, kept, others, kernel, steal, idle, residual float64
	ran, may                                              string
}

func pinRows(pins []explain.PinAudit, isByCPU bool) (rows []pinRow) {
	for i := range pins {
		p := &pins[i]
		if !isByCPU {
			rows = append(
				rows,
				pinRow{p, p.CPUs, p.Verdict, p.Capacity, p.Kept, p.Intruded, p.Kernel, p.Steal, p.Idle,
					p.Residual, "", ""},
			)
			continue
		}
		for _, x := range p.Each {
			var ran []string
			for _, r := range x.Ran {
				ran = append(ran, fmt.Sprintf("%s (%s) %.6f s %s", r.Name, r.Tenant, r.CPUSeconds, r.Source))
			}
			rows = append(
				rows,
				pinRow{p, fmt.Sprint(x.CPU), x.Verdict, x.Capacity, x.Kept, x.Intruded, x.Kernel, x.Steal,
					x.Idle, x.Residual, strings.Join(ran, "; "), strings.Join(x.May, "; ")},
			)
		}
	}
	return rows
}

// pinColumns are the columns of declarations, or their CPUs, as a plain listing.
var pinColumns = []column[pinRow]{
	{name: "host", value: func(p pinRow) any { return p.Host }},
	{name: "cpus", head: "CPUs", value: func(p pinRow) any { return p.cpus }},
	{name: "holder", value: func(p pinRow) any { return p.Holder }},
	{name: "holder_kind", value: func(p pinRow) any { return p.PinAudit.Kind }},
	{name: "exclusive", value: func(p pinRow) any { return p.Exclusive }},
	{name: "verdict", value: func(p pinRow) any { return p.verdict }},
	{name: "verdicts", value: func(p pinRow) any {
		var all []string
		for _, v := range p.Verdicts {
			all = append(all, v.Verdict)
		}
		return strings.Join(all, " ")
	}},
	{name: "capacity_cpu_seconds", value: func(p pinRow) any { return p.capacity }},
	{name: "kept_cpu_seconds", value: func(p pinRow) any { return p.kept }},
	{name: "others_cpu_seconds", value: func(p pinRow) any { return p.others }},
	{name: "kernel_cpu_seconds", value: func(p pinRow) any { return p.kernel }},
	{name: "steal_cpu_seconds", value: func(p pinRow) any { return p.steal }},
	{name: "idle_cpu_seconds", value: func(p pinRow) any { return p.idle }},
	{name: "residual_cpu_seconds", value: func(p pinRow) any { return p.residual }},
	{name: "strayed_cpu_seconds", value: func(p pinRow) any { return p.Strayed }},
	{name: "holder_waited_seconds", value: func(p pinRow) any { return p.Waited }},
	{name: "effective_cpus", value: func(p pinRow) any { return p.Effective }, extra: true},
	{name: "source", value: func(p pinRow) any { return p.Source }, extra: true},
	{name: "sentence", value: func(p pinRow) any { return p.Sentence }},
	{name: "may_run", value: func(p pinRow) any { return p.may }, extra: true},
	{name: "ran", value: func(p pinRow) any { return p.ran }, extra: true},
}
