package cli

import (
	"encoding/json"
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
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
			{name: "colour", head: "colour", right: true, value: func(t api.Tenant) any { return t.Colour }},
		}, tenants)
	}
	add := acting("add NAME", "Make a tenant", 1, func(cmd *cobra.Command, args []string) error {
		if err := send(cmd, "POST", "/tenants", map[string]string{"name": args[0]}, nil); err != nil {
			return err
		}
		cmd.Printf("tenant %s made; add a rule so that usage is accounted to it\n", visible(args[0]))
		return nil
	})
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
	cmd.AddCommand(listing, add, remove)
	return cmd
}

func newQuota() *cobra.Command {
	cmd := &cobra.Command{Use: "quota", Short: "What a tenant may use at most: one ceiling a resource"}
	listing := &cobra.Command{Use: "list", Short: "List quotas", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var quotas []api.Quota
		if err := get(cmd, "/quotas", nil, &quotas); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Quota]{
			{name: "tenant", head: "tenant", value: func(q api.Quota) any { return q.Tenant }},
			{name: "resource", head: "resource", value: func(q api.Quota) any { return q.Resource }},
			{name: "ceiling", head: "ceiling", right: true, value: func(q api.Quota) any { return q.Ceiling },
				text: func(q api.Quota) string { return human(q.Resource, q.Ceiling) }},
			{name: "unit", head: "unit", value: func(q api.Quota) any { return q.Unit },
				text: func(api.Quota) string { return "" }},
		}, quotas)
	}
	set := acting("set TENANT RESOURCE CEILING", "Set a ceiling", 3, func(cmd *cobra.Command, args []string) error {
		if _, err := amount.ParseResource(args[1]); err != nil {
			return usageError{err}
		}
		ceiling, err := parseCeiling(args[1], args[2])
		if err != nil {
			return err
		}
		var q api.Quota
		if err := send(cmd, "PUT", "/quotas/"+url.PathEscape(args[0])+"/"+args[1],
			map[string]float64{"ceiling": ceiling}, &q); err != nil {
			return err
		}
		cmd.Printf("%s may use %s of %s\n", visible(q.Tenant), human(q.Resource, q.Ceiling), q.Resource)
		return nil
	})
	set.Long = `The ceiling is a mean of the resource in its unit: cores; bytes, as in 64GiB; bytes
per second, as in 500MB. "vinescale measures" lists resources and units.`
	set.ValidArgsFunction = completeQuota
	set.Example = `  vinescale quota set "Frost Watch" cpu 48
  vinescale quota set "Cellar Intake" memory 128GiB
  vinescale quota set "Cellar Intake" disk 500MB`
	remove := acting("remove TENANT RESOURCE", "Remove a ceiling", 2, func(cmd *cobra.Command, args []string) error {
		if _, err := amount.ParseResource(args[1]); err != nil {
			return usageError{err}
		}
		if err := send(cmd, "DELETE", "/quotas/"+url.PathEscape(args[0])+"/"+args[1], nil, nil); err != nil {
			return err
		}
		cmd.Printf("%s has no quota of %s any more\n", visible(args[0]), args[1])
		return nil
	})
	remove.ValidArgsFunction = completeQuota
	cmd.AddCommand(listing, set, remove)
	return cmd
}

// completeQuota completes the second argument with the resources.
func completeQuota(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 1 {
		return amount.ResourceNames(), cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
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
