package cli

import (
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
)

func newEvents() *cobra.Command {
	var span spanFlags
	var host, tenant, which string
	var kinds []string
	cmd := &cobra.Command{Use: "events", Args: cobra.NoArgs,
		Short: "What happened: began, ended, failed, signed in, killed, booted, silent, changed",
		Long: `Events lists what happened in a span, the newest first: workloads that began and how they
ended, sign-ins with where they came from, processes that were ended for want of memory, hosts
that were booted, silent or back, and who changed rules, quotas and declared CPUs. A star marks
what somebody should look at. Of each source the newest 5,000 are looked at.`,
		Example: `  vinescale events --span 24h
  vinescale events --host press-1 --kind failed --kind killed
  vinescale events --tenant "Frost Watch" --span 7d --as jsonl`}
	f := cmd.Flags()
	f.StringVar(&host, "host", "", "one host (default: all)")
	f.StringVar(&tenant, "tenant", "", "only about this tenant's workloads")
	f.StringVar(&which, "which", "", "only about workloads that this expression matches (CEL, as rules are)")
	f.StringSliceVar(&kinds, "kind", nil, "kinds of events: "+strings.Join(explain.EventKinds(), ", "))
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 50)
	completeWith(cmd, "kind", explain.EventKinds())
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q := url.Values{"first": {"0"}}
		for name, v := range map[string]string{"host": host, "tenant": tenant, "where": which,
			"kinds": strings.Join(kinds, ",")} {
			if v != "" {
				q.Set(name, v)
			}
		}
		if err := span.query(q); err != nil {
			return err
		}
		var events []explain.Event
		if err := get(cmd, "/events/past", q, &events); err != nil {
			return err
		}
		return list(cmd, as, eventColumns, events)
	}
	return cmd
}

var eventColumns = []column[explain.Event]{
	{name: "at", head: "when", value: func(e explain.Event) any { return e.At },
		text: func(e explain.Event) string { return shownAt(e.At, "2006-01-02 15:04:05") }},
	{name: "host", value: func(e explain.Event) any { return e.Host }},
	{name: "name", head: "what", value: func(e explain.Event) any { return e.Name }},
	{name: "text", head: "happened", value: func(e explain.Event) any { return e.Text },
		text: func(e explain.Event) string {
			if e.Urgent {
				return "* " + e.Text
			}
			return e.Text
		}},
	{name: "tenant", value: func(e explain.Event) any { return e.Tenant }},
	{name: "who", head: "by", value: func(e explain.Event) any { return e.Who }, ifAny: true},
	{name: "kind", value: func(e explain.Event) any { return e.Kind }, extra: true},
	{name: "urgent", value: func(e explain.Event) any { return e.Urgent }, extra: true},
	{name: "workload_id", value: func(e explain.Event) any { return e.ID }, extra: true},
	{name: "workload_kind", value: func(e explain.Event) any { return e.Of }, extra: true},
	{name: "owner", value: func(e explain.Event) any { return e.Owner }, extra: true},
}
