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
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newWhatIf() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "whatif",
		Short: "What was recorded, played again with other limits, quotas, pins or hosts; advice on sizes; growth",
		Long: `What-if plays a recorded span again with something changed, and says what would have been
otherwise. It tells no more than the record knows: what a limit would have done within a
step is not known, so delays are told as bounds.`,
		Example: `  vinescale whatif limit weather-cache --cpu 0.5 --span 1d
  vinescale whatif quota "Frost Watch" cpu 25 --span 1d
  vinescale whatif pins cellar-1 8-11 "Bottling Line" --span 1d
  vinescale whatif weight label-render 300 --span 1d
  vinescale whatif empty --span 1d
  vinescale whatif place weather-cache --span 1d
  vinescale whatif growth --span 30d
  vinescale whatif sizes --span 1d`,
	}
	cmd.AddCommand(whatIfLimit(), whatIfQuota(), whatIfPins(), whatIfWeight(), whatIfEmpty(), whatIfHosts(),
		whatIfPlace(), whatIfGrowth(), whatIfSizes())
	return cmd
}

func whatIfLimit() *cobra.Command {
	var span spanFlags
	var host, cpu, memory string
	as := &oneOf{"table", []string{"table", "json"}}
	cmd := &cobra.Command{Use: "limit WORKLOAD", Args: cobra.MinimumNArgs(1),
		Short: "What another limit would have done to a workload",
		Long: `Limit plays a span again with another limit of a workload: by the minute up to a day, by
the hour up to two months, else by the day. Of CPU, work that does not fit into a step
waits for later ones: that gives by how much something would have been late at least, and
how much would have come later. Of memory it tells when the limit would have been met.`,
		Example: "  vinescale whatif limit weather-cache --cpu 0.5 --span 1d\n" +
			"  vinescale whatif limit must-intake-1 --memory 512MiB"}
	span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&host, "host", "", "on this host, where several have a workload of the name")
	flags.StringVar(&cpu, "cpu", "", "a limit in cores")
	flags.StringVar(&memory, "memory", "", "a limit in bytes, such as 2GiB")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		resource, text := "cpu", cpu
		if memory != "" {
			resource, text = "memory", memory
		}
		if (cpu == "") == (memory == "") {
			return usagef("say which limit: --cpu CORES or --memory BYTES, one of them")
		}
		limit, err := parseCeiling(resource, text)
		if err != nil {
			return err
		}
		what, name, err := resolve(cmd, strings.Join(args, " "), host)
		if err != nil {
			return err
		}
		if what != "workload" {
			return usagef("%s is a %s: a limit is of a workload", visible(strings.Join(args, " ")), what)
		}
		q := url.Values{"workload": {name}, "of": {resource}, "limit": {strconv.FormatFloat(limit, 'f', -1, 64)}}
		if err := span.query(q); err != nil {
			return err
		}
		var x api.WhatLimited
		if err := get(cmd, "/whatif/limit", q, &x); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &x)
		}
		return printLimited(cmd.OutOrStdout(), &x)
	}
	return cmd
}

func printLimited(w io.Writer, x *api.WhatLimited) error {
	fmt.Fprintf(w, "%s\n%s\n\n", visible(x.Workload.Whose()), indented(x.Sentence, 0))
	now := "no limit of its own"
	if x.Now != nil {
		now = whatif.Amount(x.Resource, *x.Now)
		if x.Freed != nil && *x.Freed > 0 {
			now += ", of which " + whatif.Amount(x.Resource, *x.Freed) + " would be freed"
		}
	}
	fmt.Fprintf(w, "Now: %s.\n", now)
	if x.Steps == 0 {
		return nil
	}
	fmt.Fprintf(w, "Its highest tick was %s; in 95 of 100 steps of %s it was at most %s.\n",
		whatif.Amount(x.Resource, x.Highest), lengthOfStep(x.Step), whatif.Amount(x.Resource, x.P95))
	if x.First != nil && x.Last != nil && x.Worst != nil {
		fmt.Fprintf(w, "Touched first at %s, last until %s, most from %s on.\n", shownAt(*x.First, "2006-01-02 15:04"),
			shownAt(*x.Last, "2006-01-02 15:04"), shownAt(*x.Worst, "2006-01-02 15:04"))
	}
	return nil
}

// lengthOfStep is the length of a step in words.
func lengthOfStep(seconds float64) string {
	switch {
	case seconds < 60:
		return "a tick"
	case seconds == 60:
		return "a minute"
	case seconds == 3600:
		return "an hour"
	}
	return "a day"
}

func whatIfQuota() *cobra.Command {
	var span spanFlags
	var host, pool string
	as := &oneOf{"table", []string{"table", "json"}}
	basis := &oneOf{"used", []string{"used", "held", "greater"}}
	cmd := &cobra.Command{Use: "quota TENANT RESOURCE CEILING", Args: cobra.ExactArgs(3),
		Short: "For how long a tenant would have been above another ceiling, and who waited meanwhile",
		Example: `  vinescale whatif quota "Frost Watch" cpu 25 --span 1d
  vinescale whatif quota "Cellar Intake" memory 16GiB --basis greater`}
	span.add(cmd)
	clientFlags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&host, "host", "", "on this host alone")
	flags.StringVar(&pool, "pool", "", "on the hosts of this pool together")
	flags.Var(basis, "basis", "what is held against it: what is used, what is held, or the greater of both")
	completeWith(cmd, "basis", basis.allowed)
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ceiling, err := parseCeiling(args[1], args[2])
		if err != nil {
			return err
		}
		q := url.Values{"tenant": {args[0]}, "of": {args[1]}, "basis": {basis.value},
			"ceiling": {strconv.FormatFloat(ceiling, 'f', -1, 64)}}
		for name, value := range map[string]string{"host": host, "pool": pool} {
			if value != "" {
				q.Set(name, value)
			}
		}
		if err := span.query(q); err != nil {
			return err
		}
		var s explain.Stand
		if err := get(cmd, "/whatif/quota", q, &s); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &s)
		}
		return printStands(cmd.OutOrStdout(), "all", &explain.Balance{Stands: []explain.Stand{s}})
	}
	return cmd
}

func whatIfEmpty() *cobra.Command {
	var fleet fleetFlags
	isMoves := false
	as := &oneOf{"table", []string{"table", "json"}}
	cmd := &cobra.Command{Use: "empty", Args: cobra.NoArgs,
		Short: "Which hosts could be emptied onto the others",
		Long: `Empty looks for hosts whose workloads would all fit on the others: each by itself, and as many
as possible at once. A workload is taken to need a percentile of its highest ticks of CPU,
of memory and of what it moves to and from drives, at least the CPUs that are declared for
it alone, the GPUs that it has, and room for its files, all at the same time; a part of each
host stays free. What belongs to a host, such as services of its init system and sign-ins,
ends with it. Drives are judged where their rate was declared, files where they are known.
Steps are minutes up to six hours, hours up to eight days, else days.`,
		Example: `  vinescale whatif empty --span 1d
  vinescale whatif empty --pool terraces --percentile 100 --spare 20`}
	fleet.add(cmd, true)
	flags := cmd.Flags()
	flags.BoolVar(&isMoves, "moves", false, "show where each workload would go")
	flags.Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := fleet.query(true)
		if err != nil {
			return err
		}
		var e whatif.Emptying
		if err := get(cmd, "/whatif/empty", q, &e); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &e)
		}
		return printEmptying(cmd.OutOrStdout(), &e, isMoves)
	}
	return cmd
}

func printEmptying(w io.Writer, e *whatif.Emptying, isMoves bool) error {
	at := "none"
	if len(e.At) > 0 {
		at = strings.Join(e.At, ", ")
	}
	fmt.Fprintf(w, "At once could be emptied: %s.\n", visible(at))
	printNotes(w, e.Notes)
	for i := range e.Hosts {
		x := &e.Hosts[i]
		fmt.Fprintf(w, "\n%s\n  %s\n", visible(x.Host), indented(x.Sentence, 2))
		if !isMoves || len(x.Moves) == 0 {
			continue
		}
		if err := printMoves(w, x.Moves, "  "); err != nil {
			return err
		}
	}
	return nil
}

func whatIfSizes() *cobra.Command {
	var span spanFlags
	var host string
	percent := 95.0
	cmd := &cobra.Command{Use: "sizes", Args: cobra.NoArgs,
		Short: "Limits, allotments and virtual machines far above or below their use",
		Long: `Sizes compares what workloads hold (limits, what a job asked for, virtual CPUs) with their
highest ticks, step by step: by the minute up to six hours, else by the hour. What is far
above a percentile of them could be smaller: with what that saves, and in how many steps
the smaller size would have been touched. What was touched or held back often is too small.`,
		Example: `  vinescale whatif sizes --span 1d
  vinescale whatif sizes --span 7d --percentile 99`}
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	cmd.Flags().Float64Var(&percent, "percentile", 95, "of the highest ticks, that a size is to cover: 50 to 100")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := span.hostQuery(host)
		if err != nil {
			return err
		}
		q.Set("percentile", strconv.FormatFloat(percent, 'f', -1, 64))
		var all []hub.SizeAdvice
		if err := get(cmd, "/whatif/sizes", q, &all); err != nil {
			return err
		}
		if len(all) == 0 && as.as.value == "table" {
			cmd.Println(
				"No size is far from what was used in this span. Judged are those of workloads that are there now, " +
					"of which at least twelve steps were recorded.",
			)
			return nil
		}
		figure := func(a hub.SizeAdvice, v float64) string { return whatif.Amount(a.Resource, v) }
		return list(cmd, as, []column[hub.SizeAdvice]{
			{name: "workload", value: func(a hub.SizeAdvice) any { return a.Name }},
			{name: "tenant", value: func(a hub.SizeAdvice) any { return a.Tenant }},
			{name: "host", value: func(a hub.SizeAdvice) any { return a.Host }},
			{name: "resource", value: func(a hub.SizeAdvice) any { return a.Resource }},
			{name: "way", value: func(a hub.SizeAdvice) any { return a.Way }},
			{name: "held", right: true, value: func(a hub.SizeAdvice) any { return a.Held },
				text: func(a hub.SizeAdvice) string { return figure(a, a.Held) }},
			{name: "advised", right: true, value: func(a hub.SizeAdvice) any { return a.Advised },
				text: func(a hub.SizeAdvice) string { return figure(a, a.Advised) }},
			{name: "saved", right: true, value: func(a hub.SizeAdvice) any { return a.Saved },
				text: func(a hub.SizeAdvice) string {
					if a.Saved < 0 {
						return "–"
					}
					return figure(a, a.Saved)
				}},
			{name: "at_percentile", right: true, value: func(a hub.SizeAdvice) any { return a.At },
				text: func(a hub.SizeAdvice) string { return figure(a, a.At) }},
			{name: "highest_tick", right: true, value: func(a hub.SizeAdvice) any { return a.Highest },
				text: func(a hub.SizeAdvice) string { return figure(a, a.Highest) }},
			{name: "risk", right: true, value: func(a hub.SizeAdvice) any {
				return float64(a.Hit) / float64(a.Steps)
			}, text: func(a hub.SizeAdvice) string { return percentText(float64(a.Hit) / float64(a.Steps)) }},
			{name: "held_by", value: func(a hub.SizeAdvice) any { return a.By }, extra: true},
			{name: "unit", value: func(a hub.SizeAdvice) any { return a.Unit }, extra: true},
			{name: "steps", right: true, value: func(a hub.SizeAdvice) any { return a.Steps }, extra: true},
			{name: "sentence", value: func(a hub.SizeAdvice) any { return a.Sentence }, extra: true},
		}, all)
	}
	return cmd
}
