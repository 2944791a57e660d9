package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
	"vinescale/internal/api"
)

func newTenant() *cobra.Command {
	cmd := &cobra.Command{Use: "tenant", Short: "Whom usage is accounted to: list, add, remove"}
	listing := &cobra.Command{Use: "list", Short: "List tenants", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var tenants []api.Tenant
		if err := get(cmd, "/tenants", nil, &tenants); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Tenant]{
			{name: "name", head: "tenant", value: func(t api.Tenant) any { return t.Name }},
			{name: "part_of", head: "part of", value: func(t api.Tenant) any { return t.PartOf }},
			{name: "colour", head: "colour", right: true, value: func(t api.Tenant) any { return t.Colour }},
		}, tenants)
	}
	partOf := ""
	add := acting("add NAME", "Make a tenant", 1, func(cmd *cobra.Command, args []string) error {
		body := map[string]string{"name": args[0], "part_of": partOf}
		if err := send(cmd, "POST", "/tenants", body, nil); err != nil {
			return err
		}
		cmd.Printf("tenant %s made; add a rule so that usage is accounted to it\n", visible(args[0]))
		return nil
	})
	add.Flags().StringVar(&partOf, "part-of", "", "the tenant that it is a part of, and counts in")
	part := acting("part NAME [OF]", "Make a tenant a part of another, or of none", 0, nil)
	part.Args = cobra.RangeArgs(1, 2)
	part.Long = `What a part uses counts in the whole, such as a project's in its department's. Quotas of
the whole are held against it and all its parts. Without OF it is a part of none.`
	part.RunE = func(cmd *cobra.Command, args []string) error {
		whole := append(args, "")[1]
		path := "/tenants/" + url.PathEscape(args[0]) + "/part-of"
		if err := send(cmd, "PUT", path, map[string]string{"part_of": whole}, nil); err != nil {
			return err
		}
		if whole == "" {
			cmd.Printf("%s is a part of no tenant\n", visible(args[0]))
			return nil
		}
		cmd.Printf("%s is a part of %s, and counts in it\n", visible(args[0]), visible(whole))
		return nil
	}
	remove := acting("remove NAME", "Remove a tenant with its rules, quotas and pins", 1,
		func(cmd *cobra.Command, args []string) error {
			var m api.Moved
			if err := send(cmd, "DELETE", "/tenants/"+url.PathEscape(args[0]), nil, &m); err != nil {
				return err
			}
			cmd.Printf("tenant %s removed; %d workloads moved to other rules or to unassigned\n", visible(args[0]),
				m.Workloads)
			return nil
		})
	cmd.AddCommand(listing, add, part, remove)
	return cmd
}

// acting makes a command that changes something by a call.
func acting(use, short string, args int, run func(*cobra.Command, []string) error) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(args), RunE: run}
	clientFlags(cmd)
	return cmd
}

func get(cmd *cobra.Command, path string, q url.Values, out any) error {
	to, err := dial(cmd)
	if err != nil {
		return err
	}
	return to.Get(cmd.Context(), api.Prefix+path, q, out)
}

// getListing is get of an answer over a span whose body is rows alone, with what their figures lack.
func getListing(cmd *cobra.Command, path string, q url.Values, out any) (missed explain.Missed, err error) {
	to, err := dial(cmd)
	if err != nil {
		return missed, err
	}
	header, err := to.GetBeside(cmd.Context(), api.Prefix+path, q, out)
	if text := header.Get(api.MissedHeader); err == nil && text != "" {
		if err := json.Unmarshal([]byte(text), &missed); err != nil {
			return missed, fmt.Errorf("what the figures lack cannot be read: %w", err)
		}
	}
	return missed, err
}

func send(cmd *cobra.Command, method, path string, body, out any) error {
	to, err := dial(cmd)
	if err != nil {
		return err
	}
	return to.Send(cmd.Context(), method, api.Prefix+path, body, out)
}

// readFile reads what a command was given a file of; "-" stands for standard input.
func readFile(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(cmd.InOrStdin(), 16<<20))
	}
	return os.ReadFile(name)
}
