package cli

import (
	"encoding/csv"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/shopspring/decimal"
	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/statement"
	"vinescale/internal/api"
)

func newStatement() *cobra.Command {
	var window, provider string
	by := &oneOf{"", statement.Dimensions}
	isFocus := false
	cmd := &cobra.Command{
		Use:   "statement [TENANT]",
		Short: "What a calendar window comes to: of each tenant, or one tenant's statement",
		Args:  cobra.MaximumNArgs(1),
		Long: `Statement is the account of a calendar window: what each tenant had of every resource,
by host, kind and owner, what it costs by the tariff, what was held and not used, and
how it stood against its quotas. What the kernel had and what stood idle is split by the
tariff's key, or stands in the statement of what is shared. All statements of a window
add up to the ledger of its hosts, to the last unit. A window that is not closed is
shown as a draft. A closed statement never changes: what comes to light later is a line
of the next one. With --as csv each line is one, with --focus in the columns of the open
FinOps cost and usage specification.`,
		Example: `  vinescale statement
  vinescale statement "Frost Watch"
  vinescale statement "Frost Watch" --by owner
  vinescale statement --window this --as csv`,
	}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	flags := cmd.Flags()
	flags.StringVar(&window, "window", "this", "this, last, a month such as 2026-10, or a day that is in it")
	flags.BoolVar(&isFocus, "focus", false, "CSV in the columns of FOCUS "+statement.FocusVersion)
	flags.StringVar(&provider, "provider", "this site", "with --focus: who runs the hosts")
	flags.Var(by, "by", "of one tenant: its lines added up by host, pools, kind, owner, label or what they are of")
	completeWith(cmd, "by", by.allowed)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{"window": {window}}
		if by.value != "" && len(args) == 0 {
			return usagef("--by adds up the lines of one tenant: name it")
		}
		if len(args) == 1 && !isFocus && !as.arranged(cmd) && (as.as.value == "table" || as.as.value == "json") {
			var s api.StatementGrown
			if err := get(cmd, "/statements/of/"+url.PathEscape(args[0]), q, &s); err != nil {
				return err
			}
			if as.as.value == "json" {
				return writeIndented(cmd.OutOrStdout(), &s)
			}
			if by.value != "" {
				return printGroups(cmd.OutOrStdout(), &s.Statement, by.value)
			}
			return printStatement(cmd.OutOrStdout(), &s)
		}
		var a statement.Account
		if err := get(cmd, "/statements/account", q, &a); err != nil {
			return err
		}
		if len(args) == 1 {
			if err := onlyOf(&a, args[0]); err != nil {
				return err
			}
		}
		if isFocus {
			return writeFocus(cmd.OutOrStdout(), &a, provider)
		}
		r := &report[statement.Account, statementLine]{
			page: printAccount, rows: statementLines, columns: statementColumns,
		}
		return r.print(cmd, as, &a)
	}
	cmd.AddCommand(statementList(), statementClose(), statementCorrect(), statementCorrections(), statementVerify())
	return cmd
}

func onlyOf(a *statement.Account, tenant string) error {
	for i := range a.Statements {
		if a.Statements[i].Tenant == tenant {
			a.Statements = a.Statements[i : i+1]
			return nil
		}
	}
	return fmt.Errorf(
		"%s has no statement for %s: \"vinescale statement\" lists who has one",
		visible(tenant),
		a.Window,
	)
}

func writeFocus(w io.Writer, a *statement.Account, provider string) error {
	rows, err := a.Focus(provider)
	if err != nil {
		return err
	}
	return csv.NewWriter(w).WriteAll(rows)
}

// statementLine is a line with whose statement it is in.
type statementLine struct {
	*statement.Line
	of *statement.Statement
}

func statementLines(a *statement.Account) (rows []statementLine) {
	for i := range a.Statements {
		s := &a.Statements[i]
		for k := range s.Lines {
			rows = append(rows, statementLine{&s.Lines[k], s})
		}
	}
	return rows
}

var statementColumns = []column[statementLine]{
	{name: "number", right: true, value: func(l statementLine) any { return l.of.Number }},
	{name: "tenant", value: func(l statementLine) any { return l.of.Tenant }},
	{name: "window", value: func(l statementLine) any { return l.of.Window }},
	{name: "what", value: func(l statementLine) any { return string(l.What) }},
	{name: "resource", value: func(l statementLine) any { return l.Resource }},
	{name: "host", value: func(l statementLine) any { return l.Host }},
	{name: "kind", value: func(l statementLine) any { return l.Kind }},
	{name: "owner", value: func(l statementLine) any { return l.Owner }},
	{name: "label", value: func(l statementLine) any { return l.Label }, ifAny: true},
	{name: "pools", value: func(l statementLine) any { return l.Pools }, ifAny: true},
	{name: "quantity", right: true, value: func(l statementLine) any { return l.Quantity.String() }},
	{name: "unit", value: func(l statementLine) any { return l.Unit }},
	{name: "price", right: true, value: func(l statementLine) any { return priceText(l.Price) }, ifAny: true},
	{name: "cost", right: true, value: func(l statementLine) any { return l.Cost.String() }},
	{name: "currency", value: func(l statementLine) any { return l.of.Currency }, ifAny: true},
	{name: "units", right: true, value: func(l statementLine) any { return l.Units.String() }, extra: true},
	{name: "from", value: func(l statementLine) any { return l.From }, extra: true},
	{name: "to", value: func(l statementLine) any { return l.To }, extra: true},
	{name: "missing", right: true, value: func(l statementLine) any { return l.Missing }, extra: true},
	{name: "corrects", right: true, value: func(l statementLine) any { return l.Corrects }, extra: true},
	{name: "reason", value: func(l statementLine) any { return l.Reason }, ifAny: true},
}

func priceText(d *decimal.Decimal) string {
	if d == nil {
		return ""
	}
	return d.String()
}

// unitWords are the units of prices for people.
var unitWords = map[string]string{
	"core_hours": "core-hours",
	"gb_hours":   "GB-hours",
	"tb":         "TB",
	"gpu_hours":  "GPU-hours",
	"kwh":        "kWh",
}

// stateText says whether a statement is closed.
func stateText(s *statement.Statement) string {
	if s.ClosedAt == nil {
		return "draft"
	}
	return fmt.Sprintf(
		"number %d, closed %s by %s",
		s.Number,
		shownAt(*s.ClosedAt, "2006-01-02 15:04"),
		visible(s.ClosedBy),
	)
}

func printAccount(w io.Writer, a *statement.Account) error {
	first := &a.Statements[0]
	state := "draft: not closed yet"
	if first.ClosedAt != nil {
		state = "closed " + shownAt(*first.ClosedAt, "2006-01-02 15:04")
	}
	fmt.Fprintf(w, "%s, from %s until %s (%s); %s\n\n", a.Window, shownAt(a.From, "2006-01-02 15:04"),
		shownAt(a.To, "2006-01-02 15:04"), first.Zone, state)
	t := newTable(w)
	head := []cell{{"statement of", false}}
	var of []amount.Resource
	for _, r := range amount.Resources() {
		for i := range a.Statements {
			if totalOf(&a.Statements[i], r) != nil {
				unit, _ := r.Priced()
				of, head = append(of, r), append(head, cell{r.Entry().Title + ", " + unitWords[unit], true})
				break
			}
		}
	}
	if first.Currency != "" {
		head = append(head, cell{first.Currency, true})
	}
	t.row(head...)
	sum, costs := map[amount.Resource]decimal.Decimal{}, decimal.Zero
	for i := range a.Statements {
		s := &a.Statements[i]
		row := []cell{{s.Tenant, false}}
		for _, r := range of {
			x := totalOf(s, r)
			if x == nil {
				row = append(row, cell{"–", true})
				continue
			}
			whole := x.Used.Add(x.Borne).Add(x.Corrected)
			sum[r] = sum[r].Add(whole)
			row = append(row, cell{quantityText(whole), true})
		}
		costs = costs.Add(s.Cost)
		if first.Currency != "" {
			row = append(row, cell{s.Cost.StringFixed(2), true})
		}
		t.row(row...)
	}
	row := []cell{{"all", false}}
	for _, r := range of {
		row = append(row, cell{quantityText(sum[r]), true})
	}
	if first.Currency != "" {
		row = append(row, cell{costs.StringFixed(2), true})
	}
	t.row(row...)
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintln(w)
	for i := range a.Proof {
		p := &a.Proof[i]
		r, err := amount.ParseResource(p.Resource)
		if err != nil {
			continue // of a newer service
		}
		says := "is the ledger, to the last unit"
		if !p.Holds() {
			says = fmt.Sprintf("is NOT the ledger: %s units, and the ledger has %s", p.Statements, p.Ledger)
		}
		if p.Note != "" {
			says += "; " + p.Note
		}
		fmt.Fprintf(w, "%-11s %s\n", r.Entry().Title, indented("the sum of all statements "+says+".", 12))
	}
	return nil
}

func totalOf(s *statement.Statement, r amount.Resource) *statement.Total {
	for i := range s.Totals {
		if s.Totals[i].Resource == r.String() {
			return &s.Totals[i]
		}
	}
	return nil
}

// quantityText is a quantity for people.
func quantityText(d decimal.Decimal) string {
	switch {
	case d.IsZero():
		return "0"
	case d.Abs().LessThan(decimal.New(1, -2)):
		return d.StringFixed(4)
	}
	return d.StringFixed(2)
}

func printStatement(w io.Writer, s *api.StatementGrown) error {
	fmt.Fprintf(w, "Statement of %s for %s, from %s until %s (%s)\n%s\n\n", visible(s.Tenant), s.Window,
		shownAt(s.From, "2006-01-02 15:04"), shownAt(s.To, "2006-01-02 15:04"), s.Zone, stateText(&s.Statement))
	t := newTable(w)
	t.row(
		cell{"resource", false},
		cell{"used", true},
		cell{"borne", true},
		cell{"corrected", true},
		cell{"unit", false},
		cell{"before", true},
		cell{s.Currency, true},
	)
	for _, x := range s.Totals {
		before := "–"
		for i := range s.Growth {
			if g := &s.Growth[i]; g.Resource == x.Resource && !g.Before.IsZero() {
				before = quantityText(g.Before)
			}
		}
		cost := ""
		if s.Currency != "" {
			cost = x.Cost.StringFixed(2)
		}
		t.row(cell{titleOf(x.Resource), false}, cell{quantityText(x.Used), true}, cell{quantityText(x.Borne), true},
			cell{quantityText(x.Corrected), true}, cell{unitWords[x.Unit], false}, cell{before, true}, cell{cost, true})
	}
	if s.Currency != "" {
		t.row(cell{"in all", false}, cell{"", true}, cell{"", true}, cell{"", true}, cell{"", false}, cell{"", true},
			cell{s.Cost.StringFixed(2), true})
	}
	if err := t.flush(); err != nil {
		return err
	}
	if len(s.Held) > 0 {
		fmt.Fprintln(w, "\nHeld and not used, as means")
		t = newTable(w)
		t.row(
			cell{"  resource", false},
			cell{"held", true},
			cell{"used", true},
			cell{"unused", true},
			cell{"unit", false},
		)
		for _, x := range s.Held {
			t.row(
				cell{"  " + titleOf(x.Resource), false},
				cell{meanFigure(x.Held), true},
				cell{meanFigure(&x.Used), true},
				cell{meanFigure(x.Unused), true},
				cell{x.Unit, false},
			)
		}
		if err := t.flush(); err != nil {
			return err
		}
	}
	if err := printLimits(w, s.Limits); err != nil {
		return err
	}
	if err := printGrowth(w, s.Growth); err != nil {
		return err
	}
	for _, x := range s.Totals {
		if x.Missing > 0 {
			fmt.Fprintf(w, "\nMind: %d workloads lack a figure of %s: what they used is not in it.", x.Missing,
				titleOf(x.Resource))
		}
	}
	for _, c := range s.Coverage {
		fmt.Fprintf(w, "\nMind: %s told of %.1f of %.1f hours.", visible(c.Host), c.Told, c.Of)
	}
	fmt.Fprintln(w)
	fmt.Fprintf(w, "\n%d lines; --as csv shows them.\n", len(s.Lines))
	if s.Hash != "" {
		fmt.Fprintf(w, "Hash of its lines: %s\n", s.Hash)
	}
	return nil
}

// printGroups prints the lines of a statement added up by a dimension.
func printGroups(w io.Writer, s *statement.Statement, by string) error {
	groups, err := s.By(by)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "Statement of %s for %s, %s\n\n", visible(s.Tenant), s.Window, stateText(s))
	t := newTable(w)
	t.row(cell{"resource", false}, cell{by, false}, cell{"amount", true}, cell{"unit", false}, cell{s.Currency, true})
	for _, g := range groups {
		value, cost := g.Value, ""
		if value == "" {
			value = "–"
		}
		if s.Currency != "" {
			cost = g.Cost.StringFixed(2)
		}
		t.row(cell{titleOf(g.Resource), false}, cell{value, false}, cell{quantityText(g.Quantity), true},
			cell{unitWords[g.Unit], false}, cell{cost, true})
	}
	return t.flush()
}

func printLimits(w io.Writer, limits []statement.Limit) error {
	if len(limits) == 0 {
		return nil
	}
	fmt.Fprintln(w, "\nQuotas")
	t := newTable(w)
	t.row(
		cell{"  resource", false},
		cell{"on", false},
		cell{"of a", false},
		cell{"limit", true},
		cell{"against it", true},
		cell{"beyond", true},
	)
	for _, x := range limits {
		on, of, beyond := x.On, x.Window, "–"
		if on == "" {
			on = "all hosts"
		}
		if of == "" {
			of = "moment"
		}
		switch {
		case x.Over != nil:
			beyond = fmt.Sprintf("%.0f min", *x.Over/60)
		case x.Overrun != nil && *x.Overrun == 0:
			beyond = "0"
		case x.Overrun != nil:
			beyond = quotaText(x.Resource, x.Unit, *x.Overrun)
		}
		text := func(v *float64) string {
			if v == nil {
				return "–"
			}
			return quotaText(x.Resource, x.Unit, *v)
		}
		t.row(cell{"  " + titleOf(x.Resource), false}, cell{on, false}, cell{of, false}, cell{text(x.Limit), true},
			cell{text(x.Used), true}, cell{beyond, true})
	}
	return t.flush()
}

func printGrowth(w io.Writer, growth []statement.Growth) error {
	t := newTable(w)
	n := 0
	for _, g := range growth {
		if g.Before.IsZero() {
			continue // nothing to compare with
		}
		for _, x := range g.Whose {
			if n++; n == 1 {
				fmt.Fprintln(w, "\nWhose use changed most since the window before")
				t.row(cell{"  resource", false}, cell{"more", true}, cell{"unit", false}, cell{"whose", false})
			}
			t.row(
				cell{"  " + titleOf(g.Resource), false},
				cell{quantityText(x.More), true},
				cell{
					unitWords[g.Unit],
					false,
				},
				cell{strings.TrimSpace(x.Owner + " (" + x.Kind + ") on " + x.Host), false},
			)
		}
	}
	return t.flush()
}

// titleOf is what people call a measure.
func titleOf(name string) string {
	if m, err := amount.Parse(name); err == nil {
		return m.Entry().Title
	}
	return strings.ReplaceAll(name, "_", " ")
}

func meanFigure(v *float64) string {
	if v == nil {
		return "–"
	}
	return strconv.FormatFloat(*v, 'g', 4, 64)
}
