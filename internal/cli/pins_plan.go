package cli

import (
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/act"
	"vinescale/core/explain"
	"vinescale/internal/api"
)

func pinsPlan() *cobra.Command {
	var who holderFlags
	var span spanFlags
	var host, pool, reason string
	var way actWay
	keep := 1
	as := &oneOf{"table", []string{"table", "json"}}
	isShared, isCarriedOut := false, false
	cmd := &cobra.Command{
		Use:   "plan CPUS [TENANT]",
		Short: "Which CPUs a holder would best be given, what that changes, and how it is undone",
		Args:  cobra.RangeArgs(1, 2),
		Long: `Plan chooses so many CPUs of a host, or of the best host of a pool or of all: such that
the fewest cores are shared with others, then of the fewest memory nodes, then such that
the least work has to move. It uses no CPUs that are another's alone, and leaves some for
everybody. The span is played again with the plan in force: that gives the verdicts to
expect. Nothing is changed, unless --carry-out is given: then each step is shown,
confirmed, carried out and checked, and it stops at the first one that fails.`,
		Example: `  vinescale pins plan 4 "Bottling Line"
  vinescale pins plan 2 --workload route-solver-7c --span 1d
  vinescale pins plan 4 "Frost Watch" --pool terraces --keep 4`,
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		kind, holder, err := who.holder(args[1:])
		if err != nil {
			return err
		}
		cpus, err := strconv.Atoi(args[0])
		if err != nil || cpus < 1 {
			return usagef("%q is no number of CPUs: how many are wanted comes first, at least 1", visible(args[0]))
		}
		q := url.Values{"holder": {holder}, "holder_kind": {kind}, "cpus": {strconv.Itoa(cpus)},
			"keep": {strconv.Itoa(keep)}}
		for name, value := range map[string]string{"host": host, "pool": pool} {
			if value != "" {
				q.Set(name, value)
			}
		}
		if isShared {
			q.Set("shared", "true")
		}
		if err := span.query(q); err != nil {
			return err
		}
		if isCarriedOut && !way.isConfirmed && !canAsk(cmd) {
			return usagef("say --yes to carry out all steps: nobody can be asked here")
		}
		var plan explain.PinPlan
		if err := get(cmd, "/pins/plan", q, &plan); err != nil {
			return err
		}
		if as.value == "json" {
			err = writeIndented(cmd.OutOrStdout(), &plan)
		} else {
			err = printPlan(cmd.OutOrStdout(), &plan)
		}
		if err != nil {
			return err
		}
		if !plan.Fits {
			return errCondition
		}
		if isCarriedOut {
			return carryOutPlan(cmd, &plan, way, reason)
		}
		return nil
	}
	who.register(cmd)
	span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&host, "host", "", "on this host (default: the best of all)")
	flags.StringVar(&pool, "pool", "", "on the best host of this pool")
	flags.BoolVar(&isShared, "shared", false, "others may run there too")
	flags.IntVar(&keep, "keep", 1, "how many CPUs have to be left for everybody")
	flags.BoolVar(&isCarriedOut, "carry-out", false, "carry the plan out, step by step")
	flags.BoolVar(&way.isConfirmed, "yes", false, "with --carry-out: without asking before each step")
	flags.StringVar(&reason, "reason", "", "with --carry-out: why, for the record")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	return cmd
}

func printPlan(w io.Writer, p *explain.PinPlan) error {
	fmt.Fprintln(w, indented(p.Sentence, 0))
	if !p.Fits {
		for _, r := range p.MakesRoom[:min(len(p.MakesRoom), mostOfAct)] {
			enough := ""
			if r.Enough {
				enough = " With these it would fit."
			}
			fmt.Fprintf(w, "  %s.%s\n", visible(r.Sentence), enough)
		}
		return printLooked(w, p)
	}
	if p.Before != "" {
		fmt.Fprintf(w, "Declared for it there until now: %s.\n", p.Before)
	}
	fmt.Fprintf(w, "Left for everybody: CPUs %s", p.Left.After)
	if b, a := p.Left.BusyBefore, p.Left.BusyAfter; b != nil && a != nil {
		fmt.Fprintf(w, ", which would have been %s busy (now: %s, %s busy)", percentText(*a), p.Left.Before,
			percentText(*b))
	}
	fmt.Fprintln(w, ".")
	t := newTable(w)
	if len(p.Holders) > 0 {
		fmt.Fprintln(w, "\nWho gains")
		t.row(cell{"  workload", false}, cell{"may run on", false}, cell{"ran, CPU s", true}, cell{"waited, s", true},
			cell{"others there, CPU s", true})
		for _, x := range p.Holders[:min(len(p.Holders), mostOfAct)] {
			waited := "–"
			if x.Waited != nil {
				waited = fmt.Sprintf("%.1f", *x.Waited)
			}
			t.row(
				cell{"  " + x.Whose(), false},
				cell{orAnywhere(x.May), false},
				cell{fmt.Sprintf("%.1f", x.Used), true},
				cell{waited, true},
				cell{fmt.Sprintf("%.1f", x.Among), true},
			)
		}
		if err := t.flush(); err != nil {
			return err
		}
	}
	if len(p.Movers) > 0 {
		fmt.Fprintln(w, "\nWho has to move")
		t = newTable(w)
		t.row(cell{"  workload", false}, cell{"ran there, CPU s", true}, cell{"may run on", false}, cell{"then", false})
		for _, x := range p.Movers[:min(len(p.Movers), mostOfAct)] {
			t.row(cell{"  " + x.Whose(), false}, cell{fmt.Sprintf("%.1f", x.There), true},
				cell{orAnywhere(x.May), false}, cell{x.Then, false})
		}
		if err := t.flush(); err != nil {
			return err
		}
		if n := len(p.Movers) + p.Unmoved - mostOfAct; n > 0 {
			fmt.Fprintf(w, "  and %d more\n", n)
		}
	}
	fmt.Fprintf(w, "\nHad it been so from %s to %s\n", shownAt(p.From, "2006-01-02 15:04"),
		shownAt(p.To, "2006-01-02 15:04"))
	for _, v := range p.Expected {
		fmt.Fprintf(w, "  %-12s %s\n", v.Verdict, indented(v.Sentence, 15))
	}
	fmt.Fprintln(w, "\nSteps")
	for i, x := range p.Steps[:min(len(p.Steps), mostOfAct)] {
		fmt.Fprintf(w, "  %2d  %s\n", i+1, indented(x.Sentence+" Undone: "+x.Undo+".", 6))
	}
	if n := len(p.Steps) - mostOfAct; n > 0 {
		fmt.Fprintf(w, "  and %d more\n", n)
	}
	if len(p.Notes) > 0 {
		fmt.Fprintln(w)
	}
	for _, n := range p.Notes {
		fmt.Fprintf(w, "Mind: %s.\n", indented(n, 6))
	}
	return printLooked(w, p)
}

// printLooked lists the hosts that were looked at, where there were several.
func printLooked(w io.Writer, p *explain.PinPlan) error {
	if len(p.Looked) < 2 {
		return nil
	}
	fmt.Fprintln(w, "\nHosts that were looked at")
	t := newTable(w)
	t.row(cell{"  host", false}, cell{"CPUs", false}, cell{"cores shared", true}, cell{"nodes", true},
		cell{"moves, CPU s", true}, cell{"", false})
	for _, x := range p.Looked[:min(len(p.Looked), mostOfAct)] {
		if !x.Fits {
			t.row(cell{"  " + x.Host, false}, cell{"–", false}, cell{"", true}, cell{"", true}, cell{"", true},
				cell{x.Why, false})
			continue
		}
		here := ""
		if x.IsHome {
			here = "the holder is here"
		}
		t.row(cell{"  " + x.Host, false}, cell{x.CPUs, false}, cell{strconv.Itoa(x.Shared), true},
			cell{strconv.Itoa(x.Nodes), true}, cell{fmt.Sprintf("%.1f", x.Moved), true}, cell{here, false})
	}
	return t.flush()
}

func orAnywhere(cpus string) string {
	if cpus == "" {
		return "any"
	}
	return cpus
}

// indented folds a text whose lines after the first stand so far in.
func indented(text string, by int) string {
	return strings.ReplaceAll(strings.TrimRight(folded(text), "\n"), "\n", "\n"+strings.Repeat(" ", by))
}

// carryOutPlan carries the steps of a plan out, one by one, each checked before the next. Where one fails that the plan
// needs, it stops, and says how to take back what was done.
func carryOutPlan(cmd *cobra.Command, p *explain.PinPlan, way actWay, reason string) error {
	w := cmd.OutOrStdout()
	var undo []string
	var failed error
	for i := range p.Steps {
		x := &p.Steps[i]
		fmt.Fprintf(w, "\nStep %d of %d. %s\n", i+1, len(p.Steps), visible(x.Sentence))
		back, err := carryOutStep(cmd, p, x, way, reason)
		if back != "" {
			undo = append(undo, back)
		}
		switch {
		case err == nil:
			fmt.Fprintf(w, "Checked: %s.\n", x.Check)
		case x.MayFail:
			fmt.Fprintf(w, "Not done, and the plan goes on: %v\n", err)
		default:
			failed = fmt.Errorf("step %d: %w", i+1, err)
		}
		if failed != nil {
			break
		}
	}
	if len(undo) > 0 {
		fmt.Fprintln(w, "\nTo take it back, in this order:")
	}
	for _, command := range slices.Backward(undo) {
		fmt.Fprintln(w, " ", command)
	}
	if failed == nil {
		fmt.Fprintf(
			w,
			"\nThe plan is carried out. \"vinescale pins --host %s --span 5m\" shows how it is kept.\n",
			p.Host,
		)
	}
	return failed
}

// carryOutStep carries out one step, and returns the command that takes it back where it changed something.
func carryOutStep(cmd *cobra.Command, p *explain.PinPlan, x *explain.PinStep, way actWay, reason string) (undo string,
	err error) {
	if x.What == explain.StepPlace {
		done, err := way.carry(cmd, map[string]any{"verb": act.Place, "host": p.Host, "workload": x.Workload,
			"settings": x.Settings, "reason": reason, "target": act.Target{Form: act.OfWorkload}}, "table")
		if done.CanUndo {
			undo = "vinescale act undo " + done.ID
		}
		return undo, err
	}
	if !way.isConfirmed && !confirms(cmd, "Record this?") {
		return "", fmt.Errorf("not confirmed; nothing was done")
	}
	order := api.PinToDeclare{Host: p.Host, CPUs: p.CPUs, Holder: p.Holder, Kind: p.Kind, IsShared: !p.Alone,
		IsComing: true, Reason: reason}
	var d api.DeclaredPin
	if err := send(cmd, "PUT", "/pins", order, &d); err != nil {
		return "", err
	}
	holder := quoted(p.Holder)
	switch p.Kind {
	case explain.HolderWorkload:
		holder = "--workload " + holder
	case explain.HolderRule:
		holder = "--rule " + holder
	}
	undo = fmt.Sprintf("vinescale pins remove %s %s", quoted(p.Host), holder)
	if p.Before != "" {
		undo = fmt.Sprintf("vinescale pins declare %s %s %s", quoted(p.Host), p.Before, holder)
	}
	var all []api.DeclaredPin
	if err := get(cmd, "/pins/declared", url.Values{"host": {p.Host}}, &all); err != nil {
		return undo, err
	}
	if !slices.ContainsFunc(all, func(x api.DeclaredPin) bool { return x.ID == d.ID && x.CPUs == p.CPUs }) {
		return undo, fmt.Errorf("the declaration %d is not in force", d.ID)
	}
	return undo, nil
}

// quoted is a word as a shell takes it.
func quoted(word string) string {
	if word != "" && strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:") == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
