package cli

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/act"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newStanding() *cobra.Command {
	cmd := &cobra.Command{
		Use: "standing", Short: "Rules that have an act done by themselves, when a condition has held for a time",
		Long: `A standing rule holds each workload's minutes against a condition: what a rule may ask
about, and what the workload used, as numbers such as 4.0 by the names of listings
(cpu_cores_mean, memory_bytes_mean). When it has held for a time without a gap, the act is
done, once; its record names the rule. A rule is off until it is switched on: first try it
on what was. One that would act more often in an hour than it may stops itself.`,
	}
	listing := &cobra.Command{Use: "list", Short: "List standing rules", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var rules []api.StandingRule
		if err := get(cmd, "/standing", nil, &rules); err != nil {
			return err
		}
		return list(cmd, as, []column[api.StandingRule]{
			{name: "name", head: "rule", value: func(r api.StandingRule) any { return r.Name }},
			{name: "is_on", head: "is", value: func(r api.StandingRule) any { return r.IsOn }, text: onOff},
			{name: "act", head: "does", value: func(r api.StandingRule) any { return doesWhat(&r) }},
			{name: "condition", head: "when", value: func(r api.StandingRule) any { return r.Condition }},
			{name: "for", head: "for", value: func(r api.StandingRule) any { return r.For }},
			{name: "except", head: "except", value: func(r api.StandingRule) any { return r.Except }, ifAny: true},
			{
				name:  "per_hour",
				head:  "an hour",
				right: true,
				value: func(r api.StandingRule) any { return r.PerHour },
			},
			{name: "hours", head: "hours", value: func(r api.StandingRule) any { return r.Hours }, extra: true},
			{
				name:  "stopped",
				head:  "stopped",
				value: func(r api.StandingRule) any { return r.Stopped },
				extra: true,
			},
		}, rules)
	}
	cmd.AddCommand(listing, newAddStanding(), newTryStanding(), newSwitchStanding("on", true),
		newSwitchStanding("off", false))
	cmd.AddCommand(
		acting("remove NAME", "Remove a standing rule", 1, func(cmd *cobra.Command, args []string) error {
			if err := send(cmd, "DELETE", "/standing/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			cmd.Printf("standing rule %s removed\n", visible(args[0]))
			return nil
		}),
	)
	return cmd
}

func onOff(r api.StandingRule) string {
	switch {
	case r.IsOn:
		return "on"
	case r.Stopped != "":
		return "off: stopped itself"
	}
	return "off"
}

// doesWhat is an act with its settings, as it is written in a command.
func doesWhat(r *api.StandingRule) string {
	words := []string{string(r.Verb)}
	for _, name := range slices.Sorted(maps.Keys(r.Settings)) {
		words = append(words, name+"="+r.Settings[name])
	}
	return strings.Join(words, " ")
}

// standingFlags describe a standing rule.
type standingFlags struct {
	body api.StandingToAdd
	act  string
	set  []string
}

func (f *standingFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.body.For, "for", "10m", "for how long the condition must hold, in whole minutes")
	flags.StringVar(&f.act, "act", "note", "what is done: an act on workloads, or note, which only writes it down")
	flags.StringArrayVar(&f.set, "set", nil, "a setting of the act, such as force=true or cpu=2; may be repeated")
	flags.StringVar(&f.body.Except, "except", "", "what is let alone, in the same language")
	flags.IntVar(&f.body.PerHour, "per-hour", 3, "more acts in an hour stop the rule")
	flags.StringVar(&f.body.Hours, "hours", "", "only then, such as 08:00-18:00")
	flags.StringVar(&f.body.Zone, "zone", "", "time zone of the hours, such as Europe/Vienna (default UTC)")
}

func (f *standingFlags) rule(name, condition string) (*api.StandingToAdd, error) {
	f.body.Name, f.body.Condition = name, condition
	f.body.Verb = act.Verb(f.act)
	f.body.Settings = map[string]string{}
	for _, s := range f.set {
		key, value, is := strings.Cut(s, "=")
		if !is {
			return nil, usagef("--set %q: write it as SETTING=VALUE", s)
		}
		f.body.Settings[key] = value
	}
	return &f.body, nil
}

func newAddStanding() *cobra.Command {
	f := &standingFlags{}
	cmd := acting("add NAME CONDITION", "Add a standing rule; it is off", 2, nil)
	cmd.Example = `  vinescale standing add loud "kind == 'loose' && 'login' in pools && cpu_cores_mean > 4.0" \
    --for 10m --act weigh --set nice=15 --except "owner == 'root'"`
	f.add(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		body, err := f.rule(args[0], args[1])
		if err != nil {
			return err
		}
		if err := send(cmd, "POST", "/standing", body, nil); err != nil {
			return err
		}
		cmd.Printf(
			"standing rule %s added; it is off: \"vinescale standing on %s\" switches it on\n",
			visible(args[0]),
			visible(args[0]),
		)
		return nil
	}
	return cmd
}

func newTryStanding() *cobra.Command {
	f := &standingFlags{}
	var span spanFlags
	cmd := &cobra.Command{
		Use: "try CONDITION", Short: "What a standing rule would have done, and to whom; nothing is done",
		Args: cobra.ExactArgs(1),
		Example: `  vinescale standing try "kind == 'session' && memory_bytes_mean > 1e9" --for 30m --span 24h
  vinescale standing try "cpu_cores_mean > 2.0" --except "kind == 'job'" --span 6h --as csv`,
	}
	f.add(cmd)
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 30)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		body, err := f.rule("tried", args[0])
		if err != nil {
			return err
		}
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		var t hub.StandingTrial
		if err := send(cmd, "POST", "/standing/try?"+q.Encode(), body, &t); err != nil {
			return err
		}
		if as.as.value == "table" {
			times := map[int]string{0: "not once", 1: "once"}[len(t.Firings)]
			fmt.Fprintf(
				cmd.OutOrStdout(),
				"It would have acted %s.\n",
				cmp.Or(times, fmt.Sprint(len(t.Firings), " times")),
			)
			if t.Stops != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "At %s it would have stopped itself: more than %d in an hour.\n",
					shownAt(t.Stops.At, time.DateTime), body.PerHour)
			}
		}
		return list(cmd, as, []column[hub.Firing]{
			{name: "at", head: "when", value: func(x hub.Firing) any { return x.At.Format(time.RFC3339) },
				text: func(x hub.Firing) string { return shownAt(x.At, time.DateTime) }},
			{name: "name", head: "workload", value: func(x hub.Firing) any { return x.Name }},
			{name: "kind", head: "kind", value: func(x hub.Firing) any { return x.Kind }},
			{name: "owner", head: "owner", value: func(x hub.Firing) any { return x.Owner }},
			{name: "tenant", head: "tenant", value: func(x hub.Firing) any { return x.Tenant }},
			{name: "host", head: "host", value: func(x hub.Firing) any { return x.Host }},
			{name: "id", head: "id", value: func(x hub.Firing) any { return x.Workload }, extra: true},
		}, t.Firings)
	}
	return cmd
}

func newSwitchStanding(word string, isOn bool) *cobra.Command {
	return acting(word+" NAME", "Switch a standing rule "+word, 1, func(cmd *cobra.Command, args []string) error {
		err := send(cmd, "PUT", "/standing/"+url.PathEscape(args[0]), map[string]bool{"is_on": isOn}, nil)
		if err == nil {
			cmd.Printf("standing rule %s is %s\n", visible(args[0]), word)
		}
		return err
	})
}
