package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/internal/api"
)

// measureFlag is a flag that takes the name of a measure.
type measureFlag struct{ value string }

func (m *measureFlag) String() string { return m.value }
func (m *measureFlag) Type() string   { return "MEASURE" }
func (m *measureFlag) Set(s string) error {
	if _, err := amount.Parse(s); err != nil {
		return fmt.Errorf("choose one of %s, or another measure (\"vinescale measures\" lists them)",
			strings.Join(amount.ResourceNames(), ", "))
	}
	m.value = s
	return nil
}

// seriesFlag is a flag that takes the name of a measure, or of a figure of hosts' parts.
type seriesFlag struct{ measureFlag }

func (m *seriesFlag) Set(s string) error {
	if leaf.PartFigureNamed(s) != nil {
		m.value = s
		return nil
	}
	return m.measureFlag.Set(s)
}

// completeWith completes a flag with words.
func completeWith(cmd *cobra.Command, flag string, words []string) {
	// It fails only for a flag that the command has not, which is a mistake in this program.
	if err := cmd.RegisterFlagCompletionFunc(flag,
		cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)); err != nil {
		panic(err)
	}
}

func newMeasures() *cobra.Command {
	cmd := &cobra.Command{
		Use: "measures", Short: "Everything the book counts: units, meaning, and how figures combine",
		Args: cobra.NoArgs,
		Long: `Measures lists the service's register: each measure with its unit, what it means, and
how its figures add up over time, workloads and hosts. Those with a ledger are
resources; "vinescale share --of NAME" asks for any of them. Those that are told by
part are of drives, interfaces, GPUs, logical CPUs or sensors, each apart:
"vinescale series --of NAME" asks how they went.`,
		Example: `  vinescale measures
  vinescale measures --where "resource == 'memory'" --columns name,unit,meaning`,
	}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var measures []api.Measure
		if err := get(cmd, "/measures", nil, &measures); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Measure]{
			{name: "name", head: "measure", value: func(m api.Measure) any { return m.Name }},
			{name: "title", value: func(m api.Measure) any { return m.Title }, extra: true},
			{name: "part", head: "told by", value: func(m api.Measure) any { return m.Part },
				text: func(m api.Measure) string { return cmp.Or(m.Part, "workload") }},
			{name: "resource", value: func(m api.Measure) any { return m.Resource }},
			{name: "has_ledger", head: "ledger", value: func(m api.Measure) any { return m.HasLedger },
				text: func(m api.Measure) string { return map[bool]string{true: "yes"}[m.HasLedger] }},
			{name: "unit", value: func(m api.Measure) any { return m.Unit }},
			{name: "mean_unit", head: "mean", value: func(m api.Measure) any { return m.MeanUnit }},
			{name: "manner", value: func(m api.Measure) any { return m.Manner }},
			{name: "over_time", head: "over time", value: func(m api.Measure) any { return m.OverTime }},
			{name: "over_workloads", head: "workloads", value: func(m api.Measure) any { return m.OverWorkloads }},
			{name: "over_hosts", head: "hosts", value: func(m api.Measure) any { return m.OverHosts }},
			{name: "bound", value: func(m api.Measure) any { return m.Bound }},
			{name: "form", value: func(m api.Measure) any { return m.Form }},
			{name: "meaning", value: func(m api.Measure) any { return m.Meaning }, extra: true},
		}, measures)
	}
	return cmd
}
