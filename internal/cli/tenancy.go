package cli

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"vinescale/core/amount"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newMoveRule() *cobra.Command {
	cmd := acting("move POSITION TO", "Give a rule another position; those between move by one", 2,
		func(cmd *cobra.Command, args []string) error {
			var at [2]int
			for i, a := range args {
				n, err := strconv.Atoi(a)
				if err != nil || n < 1 {
					return usagef("position %q: give a number from 1; \"vinescale rule list\" numbers the rules", a)
				}
				at[i] = n
			}
			var m api.Moved
			if err := send(cmd, "POST", fmt.Sprintf("/rules/%d/move", at[0]), map[string]int{"to": at[1]},
				&m); err != nil {
				return err
			}
			cmd.Printf("rule %d is now rule %d; %d workloads moved by it, from now on\n", at[0], at[1], m.Workloads)
			return nil
		})
	return cmd
}

// newSuggest lists what is accounted to nobody.
func newSuggest() *cobra.Command {
	var span spanFlags
	cmd := &cobra.Command{
		Use: "suggest", Short: "What is unassigned, largest first, alike together, with a rule for each",
		Args: cobra.NoArgs,
		Long: `Suggest puts unassigned workloads that are alike together: by a job's account, a
container's namespace or project label, a unit, or the owner. The rule it gives
for each matches all of them; try it with "vinescale rule try" and a tenant.`,
	}
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 20)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		var all []hub.Suggestion
		if err := get(cmd, "/rules/suggestions", q, &all); err != nil {
			return err
		}
		if len(all) == 0 && as.as.value == "table" {
			cmd.Println("Nothing is unassigned in this span.")
			return nil
		}
		as.flat = true
		return list(cmd, as, append([]column[hub.Suggestion]{
			{name: "about", head: "what is alike", value: func(s hub.Suggestion) any { return s.About }},
			{name: "workloads", head: "workloads", right: true,
				value: func(s hub.Suggestion) any { return s.Workloads }},
		}, append(amountColumns(func(s hub.Suggestion, r amount.Resource) *float64 { return partAmount(s.Uses, r) }),
			[]column[hub.Suggestion]{
				{name: "examples", head: "such as", value: func(s hub.Suggestion) any {
					return strings.Join(s.Examples, ", ")
				}, extra: true},
				{name: "expression", head: "rule", value: func(s hub.Suggestion) any { return s.Expression }},
			}...)...), all)
	}
	return cmd
}

// newReapply accounts history anew.
func newReapply() *cobra.Command {
	var span spanFlags
	var preview bool
	cmd := &cobra.Command{
		Use: "reapply --from TIME", Short: "Account usage since a time anew by the rules in force", Args: cobra.NoArgs,
		Long: `A change of rules accounts usage from then on. Reapply changes history, on purpose:
usage of the span is accounted by the rules as they are now. It changes whose
usage is, never how much, and is written down in the audit trail. Look first,
with --preview.`,
		Example: `  vinescale rule reapply --from 2026-11-01 --preview
  vinescale rule reapply --from 2026-11-01`,
	}
	cmd.Flags().StringVar(&span.from, "from", "", "begin, such as 2026-11-22T03:10 (local time) or with a zone")
	cmd.Flags().StringVar(&span.to, "to", "", "end; now when left out")
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what would move")
	clientFlags(cmd)
	as := listFlags(cmd, 20)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if span.from == "" {
			return usagef("since when? Give --from TIME")
		}
		q, err := span.hostQuery("")
		if err != nil {
			return err
		}
		q.Set("preview", strconv.FormatBool(preview))
		var r hub.Reapplication
		if err := send(cmd, "POST", "/rules/reapply?"+q.Encode(), nil, &r); err != nil {
			return err
		}
		if as.as.value == "json" && !cmd.Flags().Changed("columns") {
			return writeIndented(cmd.OutOrStdout(), r)
		}
		if len(r.Moves) > 0 {
			as.flat = true
			if err := list(cmd, as, trialColumns, r.Moves); err != nil {
				return err
			}
		}
		if as.as.value != "table" {
			return nil
		}
		done := "was moved; totals are unchanged, and it is in the audit trail"
		if preview {
			done = "would move. Nothing was changed"
		}
		if len(r.Moves) > 0 {
			cmd.Println()
		}
		cmd.Printf("From %s to %s, use of %d of %d workloads, %.0f CPU seconds, %s.\n",
			shownAt(r.From, "2006-01-02 15:04"), shownAt(r.To, "2006-01-02 15:04"), len(r.Moves), r.Seen,
			cpuOf(r.Moves), done)
		return nil
	}
	return cmd
}

func cpuOf(moves []hub.TrialMove) float64 {
	sum := 0.0
	for _, m := range moves {
		sum += m.CPUSeconds()
	}
	return sum
}

func newExport() *cobra.Command {
	return acting("export", "Print all tenants, rules, quotas and declared CPUs as YAML, to keep them elsewhere", 0,
		func(cmd *cobra.Command, _ []string) error {
			var x hub.Tenancy
			if err := get(cmd, "/tenancy", nil, &x); err != nil {
				return err
			}
			text, err := tenancyYAML(&x)
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(text)
			return err
		})
}

func tenancyYAML(x *hub.Tenancy) ([]byte, error) {
	var b bytes.Buffer
	b.WriteString("# Tenants and rules of Vine Scale. The first rule that matches a workload says whose it is.\n" +
		"# Quotas and declared CPUs are those in force; a file without them leaves them as they are.\n")
	out := yaml.NewEncoder(&b)
	out.SetIndent(2)
	if err := out.Encode(x); err != nil {
		return nil, err
	}
	return b.Bytes(), out.Close()
}

// parseTenancy reads what export prints. A field that is not known is a mistake, not something to pass over.
func parseTenancy(raw []byte) (*hub.Tenancy, error) {
	var x hub.Tenancy
	in := yaml.NewDecoder(bytes.NewReader(raw))
	in.KnownFields(true)
	if err := in.Decode(&x); err != nil {
		return nil, fmt.Errorf("is not a file of tenants and rules: %w; \"vinescale rule export\" prints one", err)
	}
	if x.Rules == nil && x.Tenants == nil {
		return nil, fmt.Errorf("names no tenants and no rules; \"vinescale rule export\" prints such a file")
	}
	if x.Tenants == nil {
		x.Tenants = []string{}
	}
	if x.Rules == nil {
		x.Rules = []hub.RuleText{}
	}
	return &x, nil
}

func newImport() *cobra.Command {
	var preview, prune bool
	cmd := acting(
		"import FILE",
		"Make rules, quotas and declared CPUs those of a YAML file, and add its tenants",
		1,
		nil,
	)
	cmd.Long = `Import reads what "vinescale rule export" prints (- for standard input). The rules
become those of the file, in its order; tenants that it names are added. Tenants
that it does not name are kept, unless --prune is given. Quotas and declared CPUs become
those of the file from now on, where it has any: others end, and their history stays. The
same file again changes nothing.`
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what would change")
	cmd.Flags().BoolVar(&prune, "prune", false, "remove tenants that the file does not name, with all that is theirs")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		raw, err := readFile(cmd, args[0])
		if err != nil {
			return err
		}
		x, err := parseTenancy(raw)
		if err != nil {
			return fmt.Errorf("%s %w", args[0], err)
		}
		var plan hub.Import
		if err := send(cmd, "PUT", fmt.Sprintf("/tenancy?preview=%t&prune=%t", preview, prune), x, &plan); err != nil {
			return err
		}
		tellImport(cmd, &plan, preview)
		return nil
	}
	return cmd
}

func tellImport(cmd *cobra.Command, plan *hub.Import, preview bool) {
	if !plan.Changed {
		cmd.Println("The file is what there is already; nothing was changed.")
		return
	}
	for _, x := range []struct {
		head  string
		names []string
	}{{"tenant added", plan.TenantsAdded}, {"tenant removed", plan.TenantsRemoved},
		{"tenant kept, though the file does not name it", plan.TenantsKept}} {
		for _, n := range x.names {
			cmd.Printf("%s: %s\n", x.head, visible(n))
		}
	}
	for _, r := range plan.RulesAdded {
		cmd.Printf("rule added: %s when %s\n", visible(r.Tenant), visible(r.When))
	}
	for _, r := range plan.RulesRemoved {
		cmd.Printf("rule removed: %s when %s\n", visible(r.Tenant), visible(r.When))
	}
	if plan.Reordered {
		cmd.Println("rules put into another order")
	}
	for _, x := range []struct {
		head  string
		lines []string
	}{{"tenant", plan.Parts}, {"quota", plan.Quotas}, {"CPUs", plan.Pins}} {
		for _, line := range x.lines {
			cmd.Printf("%s: %s\n", x.head, visible(line))
		}
	}
	done := "From now on"
	if preview {
		done = "Nothing was changed. It would move, from now on:"
		cmd.Printf("%s %d workloads of the last hour, with %.0f CPU seconds.\n", done, len(plan.Moves),
			cpuOf(plan.Moves))
		return
	}
	cmd.Printf("%s, %d workloads of the last hour are another tenant's; they used %.0f CPU seconds.\n", done,
		len(plan.Moves), cpuOf(plan.Moves))
}
