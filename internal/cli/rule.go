package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newRule() *cobra.Command {
	cmd := &cobra.Command{Use: "rule", Short: "Which workloads are whose: ordered rules, the first match wins"}
	listing := &cobra.Command{Use: "list", Short: "List rules in the order they are tried", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var rules []api.Rule
		if err := get(cmd, "/rules", nil, &rules); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Rule]{
			{name: "position", head: "#", right: true, value: func(r api.Rule) any { return r.Position }},
			{name: "tenant", head: "tenant", value: func(r api.Rule) any { return r.Tenant }},
			{name: "expression", head: "when", value: func(r api.Rule) any { return r.Expression }},
		}, rules)
	}
	var position int
	add := acting("add TENANT EXPRESSION", "Add a rule; it accounts usage from now on", 2,
		func(cmd *cobra.Command, args []string) error {
			var r api.AddedRule
			body := map[string]any{"tenant": args[0], "expression": args[1], "position": position}
			if err := send(cmd, "POST", "/rules", body, &r); err != nil {
				return err
			}
			cmd.Printf("rule %d added; %d workloads moved by it, from now on\n", r.Position, r.Workloads)
			return nil
		})
	add.Long = `An expression is CEL (the Common Expression Language). It may ask about a workload's
kind, name, owner, uid, groups (of the owner), path (cgroup), labels, image, pod,
pod_namespace, account, partition, unit and program, and about its host and the
host's pools.`
	add.Example = `  vinescale rule add "Frost Watch" "kind == 'job' && owner.startsWith('frost-')"
  vinescale rule add "Cellar Intake" "labels['org.coop.project'] == 'cellar'" --position 1`
	add.Flags().IntVar(&position, "position", 0, "where, from 1 (default: last)")
	remove := acting("remove POSITION", "Remove a rule", 1, func(cmd *cobra.Command, args []string) error {
		if _, err := strconv.Atoi(args[0]); err != nil {
			return usagef("rule %q: give its number; \"vinescale rule list\" numbers them", args[0])
		}
		var m api.Moved
		if err := send(cmd, "DELETE", "/rules/"+args[0], nil, &m); err != nil {
			return err
		}
		cmd.Printf("rule %s removed; %d workloads moved\n", args[0], m.Workloads)
		return nil
	})
	cmd.AddCommand(listing, newTryRule(), add, newMoveRule(), remove, newSuggest(), newReapply(), newExport(),
		newImport())
	return cmd
}

// newTryRule shows what a rule would do before it is added.
func newTryRule() *cobra.Command {
	var span spanFlags
	var position int
	cmd := &cobra.Command{
		Use: "try TENANT EXPRESSION", Short: "Show what a rule would move, were it added; nothing is changed",
		Args: cobra.ExactArgs(2),
		Long: `Try tells which workloads of a span would change tenant by a rule, from whom to
whom, and what they used in the span.`,
		Example: `  vinescale rule try "Cellar Intake" "kind == 'service' && name == 'journal'"`,
	}
	cmd.Flags().IntVar(&position, "position", 0, "where it would be, from 1 (default: last)")
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 20)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		var trial hub.Trial
		body := api.RuleToAdd{Position: position, Tenant: args[0], Expression: args[1]}
		if err := send(cmd, "POST", "/rules/try?"+q.Encode(), body, &trial); err != nil {
			return err
		}
		if as.as.value == "json" && !cmd.Flags().Changed("columns") {
			return writeIndented(cmd.OutOrStdout(), trial)
		}
		as.flat = true
		if err := list(cmd, as, trialColumns, trial.Moves); err != nil || as.as.value != "table" {
			return err
		}
		cmd.Printf(
			"\nIt matches %d of %d workloads of the span and would move %d, with %.0f CPU seconds. Nothing was "+
				"changed.\n",
			trial.Matched, trial.Seen, len(trial.Moves), cpuOf(trial.Moves))
		return nil
	}
	return cmd
}

var trialColumns = append([]column[hub.TrialMove]{
	{name: "workload", head: "workload", value: func(m hub.TrialMove) any { return m.Workload }},
	{name: "kind", head: "kind", value: func(m hub.TrialMove) any { return m.Kind }},
	{name: "owner", head: "owner", value: func(m hub.TrialMove) any { return m.Owner }},
	{name: "host", head: "host", value: func(m hub.TrialMove) any { return m.Host }},
	{name: "from", head: "from", value: func(m hub.TrialMove) any { return m.From }},
	{name: "to", head: "to", value: func(m hub.TrialMove) any { return m.To }},
}, amountColumns(func(m hub.TrialMove, r amount.Resource) *float64 { return partAmount(m.Uses, r) })...)
