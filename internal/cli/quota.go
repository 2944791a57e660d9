package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/api"
)

func newQuota() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "quota",
		Short: "What a tenant may have: ceilings for every moment, allowances for a while",
	}
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
	cmd.AddCommand(listing, quotaHistory(), quotaSet(), quotaAllow(), quotaRemove())
	return cmd
}

var quotaColumns = []column[api.Quota]{
	{name: "tenant", head: "tenant", value: func(q api.Quota) any { return q.Tenant }},
	{name: "resource", head: "resource", value: func(q api.Quota) any { return q.Resource }},
	{name: "ceiling", head: "ceiling", right: true, value: func(q api.Quota) any { return q.Ceiling },
		text: func(q api.Quota) string { return markText(&q, q.Ceiling) }},
	{name: "soft", head: "soft mark", right: true, value: func(q api.Quota) any { return q.Soft },
		text: func(q api.Quota) string { return markText(&q, q.Soft) }},
	{name: "unit", value: func(q api.Quota) any { return q.Unit }, extra: true},
	{name: "window", head: "per", value: func(q api.Quota) any { return q.Window },
		text: func(q api.Quota) string { return strings.TrimSpace(q.Window + " " + q.Zone) }},
	{name: "scope_kind", value: func(q api.Quota) any { return q.ScopeKind }, extra: true},
	{name: "scope", head: "on", value: func(q api.Quota) any { return q.Scope },
		text: func(q api.Quota) string { return scopeText(q.ScopeKind, q.Scope) }},
	{name: "basis", head: "of what is", value: func(q api.Quota) any { return q.Basis }},
	{name: "zone", value: func(q api.Quota) any { return q.Zone }, extra: true},
	{name: "applies_at", head: "applies from", value: func(q api.Quota) any { return q.AppliesAt },
		text: func(q api.Quota) string { return shownAt(q.AppliesAt, "2006-01-02 15:04") }},
	{name: "made_by", head: "made by", value: func(q api.Quota) any { return q.MadeBy }},
	{name: "made_at", value: func(q api.Quota) any { return q.MadeAt }, extra: true},
	{name: "reason", head: "reason", value: func(q api.Quota) any { return q.Reason }},
}

func scopeText(kind, name string) string {
	if kind == string(tenancy.Fleet) {
		return "all hosts"
	}
	return kind + " " + visible(name)
}

// markText is a mark in a unit that suits it.
func markText(q *api.Quota, mark *float64) string {
	if mark == nil {
		return "none"
	}
	return quotaText(q.Resource, q.Unit, *mark)
}

// quotaText writes what a quota of something gives, or what is held against it, with the unit that suits it.
func quotaText(name, in string, v float64) string {
	switch in {
	case "count":
		return fmt.Sprintf("%.4g", v)
	case "core_hours", "gpu_hours":
		return fmt.Sprintf("%.4g %s", v, strings.Replace(in, "_", "-", 1))
	case "kwh":
		return fmt.Sprintf("%.4g kWh", v)
	case "byte_hours":
		u := pick(bytesUnits(), v)
		return u.text(v) + " " + u.name + "-hours"
	case "bytes":
		if entryOf(name).Manner != amount.Level {
			u := pick(amountUnits(), v)
			return u.text(v) + " " + u.name
		}
	}
	return human(name, v)
}

func quotaHistory() *cobra.Command {
	cmd := &cobra.Command{Use: "history [TENANT [RESOURCE]]", Args: cobra.MaximumNArgs(2),
		Short: "What was in force when: who changed which quota, and why",
		Long: `Each line is a change: it applies from its moment on, until the next one of the same
quota. What was used is judged by what was in force at the time.`,
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

// scopeFlags say on which hosts a quota holds.
type scopeFlags struct{ host, pool string }

func (f *scopeFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.host, "host", "", "on this host only (default: on all together)")
	cmd.Flags().StringVar(&f.pool, "pool", "", "on the hosts of this pool together")
	cmd.MarkFlagsMutuallyExclusive("host", "pool")
}

func (f *scopeFlags) scope() (kind, name string) {
	switch {
	case f.host != "":
		return string(tenancy.OneHost), f.host
	case f.pool != "":
		return string(tenancy.HostPool), f.pool
	}
	return "", ""
}

// marks reads a ceiling and a soft mark, "none" or empty for one that is not set.
func marks(ceiling, soft string, read func(string) (float64, error)) (marks [2]*float64, err error) {
	for i, text := range []string{ceiling, soft} {
		if text == "" || text == "none" {
			continue
		}
		v, err := read(text)
		if err != nil {
			return marks, err
		}
		marks[i] = &v
	}
	return marks, nil
}

func quotaSet() *cobra.Command {
	var soft string
	var flags changeFlags
	var scope scopeFlags
	isBeyond := false
	basis := &oneOf{"used", []string{"used", "held", "greater"}}
	cmd := acting("set TENANT RESOURCE CEILING", "Put a ceiling in force", 3,
		func(cmd *cobra.Command, args []string) error {
			if _, err := tenancy.QuotaUnit(args[1], false); err != nil {
				return usageError{err}
			}
			m, err := marks(args[2], soft, func(text string) (float64, error) { return parseCeiling(args[1], text) })
			if err != nil {
				return err
			}
			body := api.QuotaToSet{
				Ceiling:  m[0],
				Soft:     m[1],
				Reason:   flags.reason,
				Basis:    basis.value,
				IsBeyond: isBeyond,
			}
			body.ScopeKind, body.Scope = scope.scope()
			return putQuota(cmd, args, &body, &flags)
		})
	flags.register(cmd)
	scope.register(cmd)
	cmd.Flags().StringVar(&soft, "soft", "", "from here on it is watched: a mark at or below the ceiling")
	cmd.Flags().Var(basis, "basis", "what is held against it: what is used, what is held, or the greater of both")
	cmd.Flags().BoolVar(&isBeyond, "beyond", false, "it may be more than what is left of the whole")
	completeWith(cmd, "basis", basis.allowed)
	cmd.Long = `The ceiling is a mean of the resource in its unit: cores; bytes, as in 64GiB; bytes
per second, as in 500MB; or "none", where only a soft mark is set. "vinescale measures"
lists resources and units. Beside resources, processes, threads, gpu_devices and
space_used_bytes may have a ceiling. It applies from a moment on (--from), and what was used
before is judged by what was in force then: "vinescale quota history" lists it.

What is held is what limits, reservations and allotments entitle workloads to. A part of
another tenant counts in the whole, and may not have more than what is left of it, unless
--beyond says so.`
	cmd.ValidArgsFunction = completeQuota
	cmd.Example = `  vinescale quota set "Frost Watch" cpu 48
  vinescale quota set "Cellar Intake" memory 128GiB --soft 96GiB --basis greater
  vinescale quota set "Frost Watch" cpu 24 --host terrace-1
  vinescale quota set "Cellar Intake" disk 500MB --from 2026-12-01 --reason "harvest is in"`
	return cmd
}

func quotaAllow() *cobra.Command {
	var soft, per, zone string
	var flags changeFlags
	var scope scopeFlags
	isBeyond := false
	cmd := acting(
		"allow TENANT RESOURCE AMOUNT --per WINDOW",
		"Put an allowance in force: an amount for a window of time",
		3,
		func(cmd *cobra.Command, args []string) error {
			if per == "" {
				return usagef("for how long? Give --per day, week, month, or such as \"14 days from 2026-09-01\"")
			}
			if _, err := tenancy.ParseWindow(per); err != nil {
				return usageError{err}
			}
			if _, err := tenancy.QuotaUnit(args[1], true); err != nil {
				return usageError{err}
			}
			m, err := marks(
				args[2],
				soft,
				func(text string) (float64, error) { return parseAllowance(args[1], text) },
			)
			if err != nil {
				return err
			}
			body := api.QuotaToSet{Ceiling: m[0], Soft: m[1], Reason: flags.reason, Window: per, Zone: zone,
				IsBeyond: isBeyond}
			body.ScopeKind, body.Scope = scope.scope()
			return putQuota(cmd, args, &body, &flags)
		},
	)
	flags.register(cmd)
	scope.register(cmd)
	cmd.Flags().StringVar(&per, "per", "", "day, week, month, or such as \"14 days from 2026-09-01\"")
	cmd.Flags().
		StringVar(&zone, "zone", "", "time zone whose midnights bound the windows, such as Europe/Vienna (UTC)")
	cmd.Flags().StringVar(&soft, "soft", "", "from here on it is watched")
	cmd.Flags().BoolVar(&isBeyond, "beyond", false, "it may be more than what is left of the whole")
	cmd.Long = `An allowance is an amount for each day, week (from Monday), month, or number of days:
core-hours of cpu, GPU-hours of gpu, byte-hours of memory and gpu_memory (as in 40TiB), bytes
of disk and network (as in 5TB), kWh of energy. "vinescale balance" tells what is spent of it,
what is left, and when it will run out at the pace of the last weeks.`
	cmd.ValidArgsFunction = completeQuota
	cmd.Example = `  vinescale quota allow "Frost Watch" cpu 20000 --per month --zone Europe/Vienna
  vinescale quota allow "Leaf Vision" energy 400kWh --per "14 days from 2026-09-01" --soft 300kWh`
	return cmd
}

// putQuota puts a quota in force, and says so.
func putQuota(cmd *cobra.Command, args []string, body *api.QuotaToSet, flags *changeFlags) (err error) {
	if body.From, err = flags.when(); err != nil {
		return err
	}
	var q api.Quota
	if err := send(cmd, "PUT", quotaPath(args), body, &q); err != nil {
		return err
	}
	cmd.Println(quotaSentence(&q))
	return nil
}

// quotaSentence says what is in force.
func quotaSentence(q *api.Quota) string {
	verb := map[string]string{"held": "hold", "greater": "use or hold"}[q.Basis]
	if verb == "" {
		verb = "use"
	}
	of := q.Resource
	if q.Window != "" {
		of += " per " + q.Window + " (" + q.Zone + ")"
	}
	if q.ScopeKind != string(tenancy.Fleet) {
		of += " on " + scopeText(q.ScopeKind, q.Scope)
	}
	since := "from " + shownAt(q.AppliesAt, "2006-01-02 15:04") + " on"
	switch {
	case q.Ceiling == nil && q.Soft == nil:
		return fmt.Sprintf("%s has no quota of %s %s", visible(q.Tenant), of, since)
	case q.Ceiling == nil:
		return fmt.Sprintf(
			"%s is watched from %s of %s %s; it has no ceiling",
			visible(q.Tenant),
			markText(q, q.Soft),
			of,
			since,
		)
	case q.Soft == nil:
		return fmt.Sprintf("%s may %s %s of %s %s", visible(q.Tenant), verb, markText(q, q.Ceiling), of, since)
	}
	return fmt.Sprintf(
		"%s may %s %s of %s %s, and is watched from %s",
		visible(q.Tenant),
		verb,
		markText(q, q.Ceiling),
		of,
		since,
		markText(q, q.Soft),
	)
}

func quotaRemove() *cobra.Command {
	var flags changeFlags
	var scope scopeFlags
	per := ""
	cmd := acting("remove TENANT RESOURCE", "End a quota; its history stays", 2,
		func(cmd *cobra.Command, args []string) error {
			if _, err := tenancy.QuotaUnit(args[1], false); err != nil {
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
			kind, name := scope.scope()
			for key, v := range map[string]string{"reason": flags.reason, "scope_kind": kind, "scope": name,
				"window": per} {
				if v != "" {
					q.Set(key, v)
				}
			}
			if err := send(cmd, "DELETE", quotaPath(args)+"?"+q.Encode(), nil, nil); err != nil {
				return err
			}
			when := ""
			if from != nil {
				when = " from " + shownAt(*from, "2006-01-02 15:04") + " on"
			}
			cmd.Printf("%s has no quota of %s any more%s\n", visible(args[0]), args[1], when)
			return nil
		})
	flags.register(cmd)
	scope.register(cmd)
	cmd.Flags().StringVar(&per, "per", "", "the allowance for this window, and not the ceiling")
	cmd.ValidArgsFunction = completeQuota
	return cmd
}

func quotaPath(args []string) string { return "/quotas/" + url.PathEscape(args[0]) + "/" + args[1] }

// completeQuota completes the second argument with what quotas may be set on.
func completeQuota(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 1 {
		return tenancy.QuotaNames(), cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// parseAllowance reads an amount of a resource for a window of time.
func parseAllowance(resource, s string) (float64, error) {
	in, err := tenancy.QuotaUnit(resource, true)
	if err != nil {
		return 0, usageError{err}
	}
	units := map[string]map[string]float64{
		"core_hours": {"core-hours": 1, "h": 1}, "gpu_hours": {"GPU-hours": 1, "h": 1},
		"kwh": {"kWh": 1, "MWh": 1e3, "Wh": 1e-3}, "byte_hours": {}, "bytes": {},
	}[in]
	forms := map[string]string{"core_hours": "core-hours, such as 20000 or 20000h",
		"gpu_hours":  "GPU-hours, such as 300",
		"kwh":        "kWh, such as 400, 400kWh or 1.2MWh",
		"byte_hours": "bytes held for an hour, such as 40TiB or 40TiB-hours",
		"bytes":      "bytes, such as 5TB or 800GiB"}[in]
	number, per := strings.TrimSpace(s), 1.0
	if in == "byte_hours" || in == "bytes" {
		if in == "byte_hours" {
			number = strings.TrimSuffix(strings.TrimSuffix(number, "-hours"), "h")
		}
		for _, x := range suffixes {
			if rest, ok := strings.CutSuffix(number, x.text); ok {
				number, per = rest, x.per
				break
			}
		}
	}
	longest := ""
	for text, factor := range units {
		if rest, ok := strings.CutSuffix(number, text); ok && len(text) > len(longest) {
			if _, err := strconv.ParseFloat(strings.TrimSpace(rest), 64); err == nil {
				longest, per = text, factor
			}
		}
	}
	number = strings.TrimSpace(strings.TrimSuffix(number, longest))
	v, err := strconv.ParseFloat(number, 64)
	switch {
	case err != nil || v*per-v*per != 0:
		return 0, usagef("an allowance of %q of %s: give %s", s, resource, forms)
	case v < 0:
		return 0, usagef("an allowance of %q: give zero or more", s)
	}
	return v * per, nil
}
