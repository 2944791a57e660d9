package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
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
	set.Long = `The ceiling of cpu is in cores; of memory in bytes (or 64GiB); of disk and
network in bytes per second (or 500MB).`
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
	cmd.AddCommand(listing, set, remove)
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

func send(cmd *cobra.Command, method, path string, body, out any) error {
	to, err := dial(cmd)
	if err != nil {
		return err
	}
	return to.Send(cmd.Context(), method, api.Prefix+path, body, out)
}

var suffixes = []struct {
	text string
	per  float64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9},
	{"TB", 1e12}}

// parseCeiling reads a number, with a unit of bytes where the resource is counted in bytes.
func parseCeiling(resource, s string) (float64, error) {
	number, per := s, 1.0
	if resource != "cpu" {
		number = strings.TrimSuffix(number, "/s")
		for _, x := range suffixes {
			if rest, ok := strings.CutSuffix(number, x.text); ok {
				number, per = strings.TrimSpace(rest), x.per
				break
			}
		}
	}
	v, err := strconv.ParseFloat(number, 64)
	if err != nil || v*per-v*per != 0 {
		if resource == "cpu" {
			return 0, usagef("quota %q: give cores, such as 48 or 1.5", s)
		}
		return 0, usagef("quota %q: give bytes, or a number with KiB, MiB, GiB, TiB, kB, MB, GB or TB", s)
	}
	if v < 0 {
		return 0, usagef("quota %q: a quota is zero or more", s)
	}
	return v * per, nil
}

// human writes a mean of a resource with the unit that suits it.
func human(resource string, v float64) string {
	if resource == "cpu" {
		return fmt.Sprintf("%.4g cores", v)
	}
	units := bytesUnits
	if resource != "memory" {
		units = rateUnits
	}
	u := pick(units, v)
	return fmt.Sprintf("%.4g %s", v/u.per, u.name)
}
