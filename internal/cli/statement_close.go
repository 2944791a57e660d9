package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"vinescale/core/statement"
	"vinescale/internal/api"
)

func statementList() *cobra.Command {
	var tenant string
	cmd := &cobra.Command{Use: "list", Short: "Closed statements, the newest first", Args: cobra.NoArgs}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.Flags().StringVar(&tenant, "tenant", "", "of one tenant, or shared, or unassigned (default: all)")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q := url.Values{}
		if tenant != "" {
			q.Set("tenant", tenant)
		}
		var all []statement.Statement
		if err := get(cmd, "/statements", q, &all); err != nil {
			return err
		}
		return list(cmd, as, []column[statement.Statement]{
			{name: "number", right: true, value: func(s statement.Statement) any { return s.Number }},
			{name: "tenant", value: func(s statement.Statement) any { return s.Tenant }},
			{name: "window", value: func(s statement.Statement) any { return s.Window }},
			{name: "cost", right: true, value: func(s statement.Statement) any { return s.Cost.String() },
				text: func(s statement.Statement) string { return s.Cost.StringFixed(2) }},
			{name: "currency", value: func(s statement.Statement) any { return s.Currency }, ifAny: true},
			{name: "closed_at", value: func(s statement.Statement) any { return s.ClosedAt },
				text: func(s statement.Statement) string { return momentText(s.ClosedAt) }},
			{name: "closed_by", value: func(s statement.Statement) any { return s.ClosedBy }},
			{name: "hash", value: func(s statement.Statement) any { return s.Hash },
				text: func(s statement.Statement) string { return s.Hash[:min(len(s.Hash), 12)] }},
		}, all)
	}
	return cmd
}

func statementClose() *cobra.Command {
	cmd := acting("close WINDOW", "Close a window that is over: its statements are numbered and never change again", 1,
		func(cmd *cobra.Command, args []string) error {
			var a statement.Account
			if err := send(cmd, "POST", "/statements/close", map[string]string{"window": args[0]}, &a); err != nil {
				return err
			}
			n := len(a.Statements)
			cmd.Printf(
				"%s is closed: statements %d to %d\n",
				a.Window,
				a.Statements[0].Number,
				a.Statements[n-1].Number,
			)
			return nil
		})
	cmd.Example = "  vinescale statement close last\n  vinescale statement close 2026-10"
	return cmd
}

func statementCorrect() *cobra.Command {
	var cost, reason string
	cmd := acting(
		"correct NUMBER RESOURCE [QUANTITY]",
		"Correct a closed statement by a line of the tenant's next one",
		0,
		nil,
	)
	cmd.Args = cobra.RangeArgs(2, 3)
	cmd.Long = `Correct adds a line to the tenant's next statement. The quantity is in the unit of prices
(core-hours, GB-hours, TB, GPU-hours, kWh), below zero for what is taken off: then write
-- before it. Its cost follows from the price of then, unless --cost says it. A closed
statement itself never changes.`
	cmd.Example = `  vinescale statement correct 3 cpu --reason "the trial was free" -- -12.5
  vinescale statement correct 3 disk --cost -4.20 --reason "goodwill"`
	cmd.Flags().StringVar(&cost, "cost", "", "what is added to the cost, in the statement's currency")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it stands in the statement")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var number int64
		if _, err := fmt.Sscan(args[0], &number); err != nil || number < 1 {
			return usagef("%q is no number of a statement: \"vinescale statement list\" lists them", visible(args[0]))
		}
		c := api.CorrectionToMake{Corrects: number, Resource: args[1], Cost: cost, Reason: reason}
		if len(args) == 3 {
			c.Quantity = args[2]
		}
		var made statement.Correction
		if err := send(cmd, "POST", "/corrections", c, &made); err != nil {
			return err
		}
		cmd.Printf(
			"correction %d of statement %d: %s gets %s %s as a line of its next statement\n",
			made.ID,
			made.Corrects,
			visible(made.Tenant),
			made.Quantity,
			unitWords[made.Unit],
		)
		return nil
	}
	return cmd
}

func statementCorrections() *cobra.Command {
	cmd := &cobra.Command{Use: "corrections", Short: "Corrections, and in which statement each is", Args: cobra.NoArgs}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var all []statement.Correction
		if err := get(cmd, "/corrections", nil, &all); err != nil {
			return err
		}
		return list(cmd, as, []column[statement.Correction]{
			{name: "id", right: true, value: func(c statement.Correction) any { return c.ID }},
			{name: "corrects", right: true, value: func(c statement.Correction) any { return c.Corrects }},
			{name: "tenant", value: func(c statement.Correction) any { return c.Tenant }},
			{name: "resource", value: func(c statement.Correction) any { return c.Resource }},
			{name: "quantity", right: true, value: func(c statement.Correction) any { return c.Quantity.String() }},
			{name: "unit", value: func(c statement.Correction) any { return c.Unit }},
			{name: "cost", right: true, value: func(c statement.Correction) any { return priceText(c.Cost) }},
			{name: "reason", value: func(c statement.Correction) any { return c.Reason }},
			{name: "made_by", value: func(c statement.Correction) any { return c.MadeBy }},
			{name: "made_at", value: func(c statement.Correction) any { return c.MadeAt },
				text: func(c statement.Correction) string { return momentText(&c.MadeAt) }},
			{name: "in_statement", right: true, value: func(c statement.Correction) any { return c.In },
				text: func(c statement.Correction) string {
					if c.In == 0 {
						return "waits"
					}
					return fmt.Sprint(c.In)
				}},
		}, all)
	}
	remove := acting("remove ID", "Take back a correction that is in no statement yet", 1,
		func(cmd *cobra.Command, args []string) error {
			if err := send(cmd, "DELETE", "/corrections/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			cmd.Println("taken back")
			return nil
		})
	cmd.AddCommand(remove)
	return cmd
}

func statementVerify() *cobra.Command {
	return acting("verify", "Hold every closed statement against its hash, and against the one before it", 0,
		func(cmd *cobra.Command, _ []string) error {
			var v api.StatementsVerified
			if err := get(cmd, "/statements/verify", nil, &v); err != nil {
				return err
			}
			cmd.Printf("%d statements are as they were closed\n", v.Statements)
			return nil
		})
}
