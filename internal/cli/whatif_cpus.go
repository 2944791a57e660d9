package cli

import (
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
	"vinescale/core/whatif"
)

func whatIfPins() *cobra.Command {
	var span spanFlags
	var who holderFlags
	as := &oneOf{"table", []string{"table", "json"}}
	isShared := false
	cmd := &cobra.Command{Use: "pins HOST CPUS [TENANT]", Args: cobra.RangeArgs(2, 3),
		Short: "What other CPUs for a holder would have done: what fits, what waits, who moves",
		Long: `Pins plays a span again with a holder on these CPUs of a host, and all others on what is
left. What is declared for the holder there now is left out; CPUs that are declared for
others alone stay theirs. By the minute up to six hours, by the hour up to eight days, else
by the day: what does not fit into a step waits for later ones, which gives lower bounds.
"vinescale pins plan" chooses CPUs by itself.`,
		Example: `  vinescale whatif pins cellar-1 8-11 "Bottling Line" --span 1d
  vinescale whatif pins press-1 0,1 --workload label-render --shared`}
	who.register(cmd)
	span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.BoolVar(&isShared, "shared", false, "others may run there too")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		kind, holder, err := who.holder(args[2:])
		if err != nil {
			return err
		}
		q := url.Values{"holder": {holder}, "holder_kind": {kind}, "host": {args[0]}, "cpus": {args[1]}}
		if isShared {
			q.Set("shared", "true")
		}
		if err := span.query(q); err != nil {
			return err
		}
		var x whatif.Pinned
		if err := get(cmd, "/whatif/pins", q, &x); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &x)
		}
		return printPinned(cmd.OutOrStdout(), &x)
	}
	return cmd
}

func printPinned(w io.Writer, x *whatif.Pinned) error {
	for _, sentence := range strings.SplitAfter(x.Sentence, ". ") {
		fmt.Fprintln(w, indented(strings.TrimSpace(sentence), 0))
	}
	if x.Steps == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"who", false}, cell{"CPUs", true}, cell{"mean", true}, cell{"highest", true}, cell{"steps over", true},
		cell{"steps touched", true})
	side := func(who string, s *whatif.PinSide) {
		t.row(cell{who, false}, cell{strconv.Itoa(s.CPUs), true}, cell{whatif.Amount("cpu", s.Mean), true},
			cell{whatif.Amount("cpu", s.Highest), true}, cell{fmt.Sprintf("%d of %d", s.Over, x.Steps), true},
			cell{fmt.Sprintf("%d of %d", s.Touched, x.Steps), true})
	}
	side(x.Holder, &x.Theirs)
	if x.Others != nil {
		side("all others", x.Others)
	}
	if err := t.flush(); err != nil || len(x.Movers) == 0 {
		return err
	}
	fmt.Fprintln(w, "\nWho ran on these CPUs, and would have had to run elsewhere:")
	t = newTable(w)
	t.row(cell{"workload", false}, cell{"tenant", false}, cell{"CPU seconds", true})
	for _, m := range x.Movers {
		t.row(cell{m.Name, false}, cell{m.Tenant, false}, cell{strconv.FormatFloat(m.Seconds, 'f', 1, 64), true})
	}
	return t.flush()
}

func whatIfWeight() *cobra.Command {
	var span spanFlags
	var host string
	as := &oneOf{"table", []string{"table", "json"}}
	cmd := &cobra.Command{Use: "weight WORKLOAD WEIGHT", Args: cobra.MinimumNArgs(2),
		Short: "What another weight of a workload's cgroup would have given it, and whose that was",
		Long: `Weight divides the CPU time of a host again in the steps in which the CPUs that a workload
runs on were short: at each level of the tree of cgroups in proportion to the weights, where
what one does not want goes to the others. What each wanted is what it had and what it
waited for. A weight of 100 is usual. While there is room, weights change nothing.`,
		Example: "  vinescale whatif weight label-render 300 --span 1d"}
	span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&host, "host", "", "on this host, where several have a workload of the name")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		text := args[len(args)-1]
		weight, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return usagef(
				"%q is no weight: give a number from 1 to 10000 after the workload; 100 is usual",
				visible(text),
			)
		}
		workload := strings.Join(args[:len(args)-1], " ")
		what, number, err := resolve(cmd, workload, host)
		if err != nil {
			return err
		}
		if what != "workload" {
			return usagef("%s is a %s: a weight is of a workload", visible(workload), what)
		}
		q := url.Values{"workload": {number}, "weight": {strconv.FormatFloat(weight, 'f', -1, 64)}}
		if err := span.query(q); err != nil {
			return err
		}
		var x whatif.Weighed
		if err := get(cmd, "/whatif/weight", q, &x); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &x)
		}
		return printWeighed(cmd.OutOrStdout(), &x)
	}
	return cmd
}

func printWeighed(w io.Writer, x *whatif.Weighed) error {
	fmt.Fprintf(w, "%s\n%s\n", visible(x.Workload.Whose()), indented(x.Sentence, 0))
	if x.Short == 0 {
		return nil
	}
	figure := func(v float64) string { return strconv.FormatFloat(v, 'f', 1, 64) }
	fmt.Fprintf(w, "\nCPU seconds in the %d of %d steps of %s in which CPUs were short:\n", x.Short, x.Steps,
		lengthOfStep(x.Step))
	t := newTable(w)
	t.row(cell{"workload", false}, cell{"tenant", false}, cell{"by weights now", true}, cell{"then", true},
		cell{"change", true})
	row := func(who *explain.UserRef, fair, then float64) {
		t.row(cell{who.Name, false}, cell{who.Tenant, false}, cell{figure(fair), true}, cell{figure(then), true},
			cell{signedFigure(then - fair), true})
	}
	row(&x.Workload, x.Fair, x.Then)
	for i := range x.Others {
		row(&x.Others[i].UserRef, x.Others[i].Fair, x.Others[i].Then)
	}
	if err := t.flush(); err != nil {
		return err
	}
	text := fmt.Sprintf("It had %s CPU seconds in them, and its threads waited for %s seconds.", figure(x.Ran),
		figure(x.Waited))
	if x.Untold > 0 {
		text += fmt.Sprintf(" Of others beside it, %d do not tell for how long they waited, and count as content.",
			x.Untold)
	}
	_, err := fmt.Fprintf(w, "\n%s\n", indented(text, 0))
	return err
}

// signedFigure is a change, with its sign.
func signedFigure(v float64) string {
	text := strconv.FormatFloat(v, 'f', 1, 64)
	if v > 0 {
		return "+" + text
	}
	return text
}
