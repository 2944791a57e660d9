package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"time"

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
	cmd := &cobra.Command{Use: "quota", Short: "What a tenant may use at most: a ceiling and a soft mark a resource"}
	listing := &cobra.Command{Use: "list", Short: "List the quotas that are in force", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var quotas []api.Quota
		if err := get(cmd, "/quotas", nil, &quotas); err != nil {
			return err
		}
		return list(cmd, as, quotaColumns, quotas)
	}
	cmd.AddCommand(listing, quotaHistory(), quotaSet(), quotaRemove())
	return cmd
}

var quotaColumns = []column[api.Quota]{
	{name: "tenant", head: "tenant", value: func(q api.Quota) any { return q.Tenant }},
	{name: "resource", head: "resource", value: func(q api.Quota) any { return q.Resource }},
	{name: "ceiling", head: "ceiling", right: true, value: func(q api.Quota) any { return q.Ceiling },
		text: func(q api.Quota) string { return markText(q.Resource, q.Ceiling) }},
	{name: "soft", head: "soft mark", right: true, value: func(q api.Quota) any { return q.Soft },
		text: func(q api.Quota) string { return markText(q.Resource, q.Soft) }},
	{name: "unit", value: func(q api.Quota) any { return q.Unit }, extra: true},
	{name: "applies_at", head: "applies from", value: func(q api.Quota) any { return q.AppliesAt },
		text: func(q api.Quota) string { return q.AppliesAt.Local().Format("2006-01-02 15:04") }},
	{name: "made_by", head: "made by", value: func(q api.Quota) any { return q.MadeBy }},
	{name: "made_at", value: func(q api.Quota) any { return q.MadeAt }, extra: true},
	{name: "reason", head: "reason", value: func(q api.Quota) any { return q.Reason }},
}

// markText is a mark in a unit that suits it.
func markText(resource string, mark *float64) string {
	if mark == nil {
		return "none"
	}
	return human(resource, *mark)
}

func quotaHistory() *cobra.Command {
	cmd := &cobra.Command{Use: "history [TENANT [RESOURCE]]", Args: cobra.MaximumNArgs(2),
		Short: "What was in force when: who changed which quota, and why",
		Long: `Each line is a change: it applies from its moment on, until the next one of the same
tenant and resource. What was used is judged by what was in force at the time.`,
		Example: `  vinescale quota history
  vinescale quota history "Leaf Vision" cpu`,
		ValidArgsFunction: completeQuota}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{}
		for i, name := range []string{"tenant", "resource"}[:len(args)] {
			q.Set(name, args[i])
		}
		var changes []api.Quota
		if err := get(cmd, "/quotas/changes", q, &changes); err != nil {
			return err
		}
		return list(cmd, as, quotaColumns, changes)
	}
	return cmd
}

// changeFlags are from when a change applies, and why it is made.
type changeFlags struct{ from, reason string }

func (f *changeFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.from, "from", "", "from when on it applies, past or to come; now when left out")
	cmd.Flags().StringVar(&f.reason, "reason", "", "why, for those who read the history")
}

// when is the moment that was given; nil for now.
func (f *changeFlags) when() (*time.Time, error) {
	if f.from == "" {
		return nil, nil
	}
	t, err := parseTime(f.from)
	return &t, err
}

func quotaSet() *cobra.Command {
	var soft string
	var flags changeFlags
	use := "set TENANT RESOURCE CEILING"
	cmd := acting(use, "Put a quota in force", 3, func(cmd *cobra.Command, args []string) error {
		if _, err := amount.ParseResource(args[1]); err != nil {
			return usageError{err}
		}
		var body api.QuotaToSet
		var err error
		for _, x := range []struct {
			text string
			into **float64
		}{{args[2], &body.Ceiling}, {soft, &body.Soft}} {
			if x.text == "" || x.text == "none" {
				continue
			}
			v, err := parseCeiling(args[1], x.text)
			if err != nil {
				return err
			}
			*x.into = &v
		}
		body.Reason = flags.reason
		if body.From, err = flags.when(); err != nil {
			return err
		}
		var q api.Quota
		if err := send(cmd, "PUT", quotaPath(args), body, &q); err != nil {
			return err
		}
		cmd.Println(quotaSentence(&q))
		return nil
	})
	flags.register(cmd)
	cmd.Flags().StringVar(&soft, "soft", "", "from here on it is watched: a mark at or below the ceiling")
	cmd.Long = `The ceiling is a mean of the resource in its unit: cores; bytes, as in 64GiB; bytes
per second, as in 500MB; or "none", where only a soft mark is set. "vinescale measures"
lists resources and units. It applies from a moment on (--from), and what was used before
is judged by what was in force then: "vinescale quota history" lists it.`
	cmd.ValidArgsFunction = completeQuota
	cmd.Example = `  vinescale quota set "Frost Watch" cpu 48
  vinescale quota set "Cellar Intake" memory 128GiB --soft 96GiB
  vinescale quota set "Cellar Intake" disk 500MB --from 2026-12-01 --reason "harvest is in"`
	return cmd
}

// quotaSentence says what is in force.
func quotaSentence(q *api.Quota) string {
	since := "from " + q.AppliesAt.Local().Format("2006-01-02 15:04") + " on"
	switch {
	case q.Ceiling == nil:
		return fmt.Sprintf("%s is watched from %s of %s %s; it has no ceiling", visible(q.Tenant),
			human(q.Resource, *q.Soft), q.Resource, since)
	case q.Soft == nil:
		return fmt.Sprintf("%s may use %s of %s %s", visible(q.Tenant), human(q.Resource, *q.Ceiling), q.Resource,
			since)
	}
	return fmt.Sprintf("%s may use %s of %s %s, and is watched from %s", visible(q.Tenant),
		human(q.Resource, *q.Ceiling), q.Resource, since, human(q.Resource, *q.Soft))
}

func quotaRemove() *cobra.Command {
	var flags changeFlags
	cmd := acting("remove TENANT RESOURCE", "End a quota; its history stays", 2,
		func(cmd *cobra.Command, args []string) error {
			if _, err := amount.ParseResource(args[1]); err != nil {
				return usageError{err}
			}
			q := url.Values{}
			from, err := flags.when()
			if err != nil {
				return err
			}
			if from != nil {
				q.Set("from", from.UTC().Format(time.RFC3339))
			}
			if flags.reason != "" {
				q.Set("reason", flags.reason)
			}
			if err := send(cmd, "DELETE", quotaPath(args)+"?"+q.Encode(), nil, nil); err != nil {
				return err
			}
			when := ""
			if from != nil {
				when = " from " + from.Local().Format("2006-01-02 15:04") + " on"
			}
			cmd.Printf("%s has no quota of %s any more%s\n", visible(args[0]), args[1], when)
			return nil
		})
	flags.register(cmd)
	cmd.ValidArgsFunction = completeQuota
	return cmd
}

func quotaPath(args []string) string { return "/quotas/" + url.PathEscape(args[0]) + "/" + args[1] }

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
