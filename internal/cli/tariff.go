package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"vinescale/core/amount"
	"vinescale/core/statement"
	"vinescale/internal/api"
)

func newTariff() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "tariff",
		Short: "For which windows statements are made, and what things cost",
		Args:  cobra.NoArgs,
		Long: `The tariff says for which calendar windows statements are made and in which time zone,
what a core-hour, GB-hour, TB, GPU-hour or kWh costs from when on, and how what is shared
is split over tenants. Without a tariff statements are by months of UTC, and have no
prices. It is written as YAML, applies to windows that are not closed, and the same file
again changes nothing.`,
		Example: `  vinescale tariff
  vinescale tariff export
  vinescale tariff import tariff.yaml --reason "agreed in autumn"`,
	}
	clientFlags(cmd)
	as := &oneOf{"table", []string{"table", "json"}}
	cmd.Flags().Var(as, "as", "output form")
	completeWith(cmd, "as", as.allowed)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var t api.TariffInForce
		if err := get(cmd, "/tariff", nil, &t); err != nil {
			return err
		}
		if as.value == "json" {
			return writeIndented(cmd.OutOrStdout(), &t)
		}
		return printTariff(cmd.OutOrStdout(), &t)
	}
	cmd.AddCommand(tariffExport(), tariffImport())
	return cmd
}

func printTariff(w io.Writer, t *api.TariffInForce) error {
	if t.MadeAt == nil {
		fmt.Fprintln(w, "No tariff was set: statements are by months of UTC, and have no prices.")
		return nil
	}
	fmt.Fprintf(w, "Set %s by %s", shownAt(*t.MadeAt, "2006-01-02 15:04"), visible(t.MadeBy))
	if t.Reason != "" {
		fmt.Fprintf(w, ": %s", visible(t.Reason))
	}
	split := map[statement.Key]string{statement.NotSplit: "is not split", statement.ByUse: "is split as each used it",
		statement.Equally: "is split equally", statement.ByShares: "is split by shares"}[t.Split]
	fmt.Fprintf(w, "\nWindows: %s, %s. What is shared %s.\n", t.Window, t.Zone, split)
	if t.KeepIdle && t.Split != statement.NotSplit {
		fmt.Fprintln(w, "What stood idle is not split.")
	}
	for _, tenant := range slices.Sorted(maps.Keys(t.Shares)) {
		fmt.Fprintf(w, "  %s bears %d\n", visible(tenant), t.Shares[tenant])
	}
	if t.Label != "" {
		fmt.Fprintf(w, "Lines are told apart by the label %s too.\n", visible(t.Label))
	}
	if len(t.Prices) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	table := newTable(w)
	table.row(
		cell{"resource", false},
		cell{t.Currency, true},
		cell{"a", false},
		cell{"from", false},
		cell{"until", false},
	)
	for _, p := range t.Prices {
		until := p.Until
		if until == "" {
			until = "–"
		}
		table.row(cell{titleOf(p.Of), false}, cell{p.Price.String(), true}, cell{pricedUnit(p.Of), false},
			cell{p.From, false}, cell{until, false})
	}
	return table.flush()
}

func tariffExport() *cobra.Command {
	return acting("export", "Write the tariff as YAML", 0, func(cmd *cobra.Command, _ []string) error {
		var t api.TariffInForce
		if err := get(cmd, "/tariff", nil, &t); err != nil {
			return err
		}
		var b bytes.Buffer
		e := yaml.NewEncoder(&b)
		e.SetIndent(2)
		if err := e.Encode(t.Tariff); err != nil {
			return err
		}
		_, err := cmd.OutOrStdout().Write(b.Bytes())
		return err
	})
}

func tariffImport() *cobra.Command {
	var reason string
	cmd := acting("import FILE", "Make the tariff that of a YAML file (- for standard input)", 1, nil)
	cmd.Flags().StringVar(&reason, "reason", "", "why, for those who read the history")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		raw, err := readFile(cmd, args[0])
		if err != nil {
			return err
		}
		t := api.TariffToSet{Reason: reason}
		d := yaml.NewDecoder(bytes.NewReader(raw))
		d.KnownFields(true)
		if err := d.Decode(&t.Tariff); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("%s is no tariff: %w", visible(args[0]), err)
		}
		if _, err := t.Tariff.Check(); err != nil {
			return fmt.Errorf("%s: %w", visible(args[0]), err)
		}
		var set api.TariffSet
		if err := send(cmd, "PUT", "/tariff", t, &set); err != nil {
			return err
		}
		if !set.IsChanged {
			cmd.Println("The file is the tariff in force already; nothing was changed.")
			return nil
		}
		cmd.Println("The tariff is in force for windows that are not closed.")
		return nil
	}
	return cmd
}

// pricedUnit is one of the units that a resource's price is for, in words.
func pricedUnit(resource string) string {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return ""
	}
	unit, _ := r.Priced()
	return strings.TrimSuffix(unitWords[unit], "s")
}
