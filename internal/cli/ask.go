package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/api"
	"vinescale/internal/client"
	"vinescale/internal/sheet"
)

// clientFlags adds what a command needs to call the service.
func clientFlags(cmd *cobra.Command) { configFlags(cmd, "service", "token", "show") }

func dial(cmd *cobra.Command) (*client.Client, error) {
	c, err := loadConfig(cmd)
	if err != nil {
		return nil, err
	}
	to, err := client.New(c.String("service"), c.String("token"))
	if err != nil {
		return nil, usageError{err}
	}
	to.Always(liveQuery(cmd))
	return to, nil
}

// spanFlags are the flags that choose a span.
type spanFlags struct{ span, from, to string }

func (s *spanFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&s.span, "span", "", "the last stretch of this length, such as 90m, 1h or 7d (default 1h)")
	cmd.Flags().StringVar(&s.from, "from", "", "begin, such as 2026-11-22T03:10 (local time) or with a zone")
	cmd.Flags().StringVar(&s.to, "to", "", "end; now when left out")
}

// hostQuery is a query of one host (all for "") and of the span.
func (s *spanFlags) hostQuery(host string) (url.Values, error) {
	q := url.Values{}
	if host != "" {
		q.Set("host", host)
	}
	return q, s.query(q)
}

// query checks the span and puts it into a query.
func (s *spanFlags) query(q url.Values) error {
	if s.span != "" && s.from != "" {
		return usagef("give --span, or --from and --to, not both")
	}
	if s.span != "" {
		if _, err := sheet.ParseSpan(s.span); err != nil {
			return usageError{err}
		}
		q.Set("span", s.span)
	}
	for name, v := range map[string]string{"from": s.from, "to": s.to} {
		if v == "" {
			continue
		}
		t, err := parseTime(v)
		if err != nil {
			return usagef("--%s: %w", name, err)
		}
		q.Set(name, t.UTC().Format(time.RFC3339))
	}
	return nil
}

func parseTime(s string) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(form, s, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usagef("%q is no time: write 2026-11-22T03:10, or with a zone 2026-11-22T03:10:00Z", s)
}

func newHosts() *cobra.Command {
	cmd := &cobra.Command{Use: "hosts", Short: "All hosts: size, cgroup layout, and whether they report",
		Args: cobra.NoArgs}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		to, err := dial(cmd)
		if err != nil {
			return err
		}
		var hosts []api.Host
		if err := to.Get(cmd.Context(), api.Prefix+"/hosts", nil, &hosts); err != nil {
			return err
		}
		return list(cmd, as, hostColumns, hosts)
	}
	cmd.AddCommand(newEnrol(), newPool())
	return cmd
}

var hostColumns = []column[api.Host]{
	{name: "name", head: "host", value: func(h api.Host) any { return h.Name }},
	{name: "state", head: "state", value: func(h api.Host) any { return h.State },
		text: func(h api.Host) string { return cmp.Or(h.Warming, h.State) }},
	{name: "cpus", head: "CPUs", right: true, value: func(h api.Host) any { return h.CPUs }},
	loadColumn("load_1m", "load 1 min", func(l *explain.Load) float64 { return l.One }),
	loadColumn("load_5m", "5 min", func(l *explain.Load) float64 { return l.Five }),
	loadColumn("load_15m", "15 min", func(l *explain.Load) float64 { return l.Fifteen }),
	{name: "memory_bytes", heads: func() string { return meanHead(amount.Memory) }, right: true,
		value: func(h api.Host) any { return h.MemoryBytes },
		text:  func(h api.Host) string { return meanText(amount.Memory, float64(h.MemoryBytes)) }},
	{name: "cgroup_mode", head: "cgroups", value: func(h api.Host) any { return h.CgroupMode }},
	{name: "pools", head: "pools", value: func(h api.Host) any { return strings.Join(h.Pools, ", ") }},
	{name: "last_at", head: "figures until", value: func(h api.Host) any {
		if h.LastAt == nil {
			return nil
		}
		return h.LastAt.Format(time.RFC3339)
	}, text: func(h api.Host) string {
		if h.LastAt == nil {
			return "none yet"
		}
		return shownAt(*h.LastAt, "2006-01-02 15:04:05")
	}},
}

// loadColumn is one of a host's loads; null where it tells none.
func loadColumn(name, head string, of func(*explain.Load) float64) column[api.Host] {
	return column[api.Host]{name: name, head: head, right: true, value: func(h api.Host) any {
		if h.Load == nil {
			return nil
		}
		return of(h.Load)
	}, text: func(h api.Host) string {
		if h.Load == nil {
			return "–"
		}
		return strconv.FormatFloat(of(h.Load), 'f', 2, 64)
	}}
}

func newEnrol() *cobra.Command {
	cmd := &cobra.Command{
		Use: "enrol NAME", Short: "Make a host known and print its collector's credential", Args: cobra.ExactArgs(1),
		Long: "Enrol makes a host known and prints a credential for its collector, once. A host\nthat is known " +
			"already gets a new credential; the old one is no longer taken.",
	}
	clientFlags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		to, err := dial(cmd)
		if err != nil {
			return err
		}
		var e api.Enrolment
		if err := to.Send(cmd.Context(), "POST", api.Prefix+"/hosts", map[string]string{"name": args[0]},
			&e); err != nil {
			return err
		}
		cmd.Println(e.Credential)
		return nil
	}
	return cmd
}

func newPool() *cobra.Command {
	cmd := acting("pool HOST [POOL...]", "Put a host into pools that rules may ask about, in place of those it was in",
		0, nil)
	cmd.Args = cobra.MinimumNArgs(1)
	cmd.Example = `  vinescale hosts pool press-1 presses north`
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var m api.Moved
		pools := append([]string{}, args[1:]...)
		if err := send(cmd, "PUT", "/hosts/"+url.PathEscape(args[0])+"/pools", map[string]any{"pools": pools},
			&m); err != nil {
			return err
		}
		in := "in no pool"
		if len(pools) > 0 {
			in = "in " + strings.Join(pools, ", ")
		}
		cmd.Printf("%s is %s; %d workloads moved by rules that ask\n", visible(args[0]), in, m.Workloads)
		return nil
	}
	return cmd
}

func newShare() *cobra.Command {
	return newLedgerCommand("share",
		"Who used a resource, over all hosts or one, by tenant, user, workload, kind, host or program",
		`  vinescale share --of cpu --by tenant
  vinescale share --of memory --by user --span 24h
  vinescale share --of cpu --by workload --host cellar-1 --from 2026-11-22T03:00 --to 2026-11-22T04:00`,
		"tenant", false)
}

func newLedger() *cobra.Command {
	return newLedgerCommand("ledger", "One host's balanced ledger of a resource",
		`  vinescale ledger --host cellar-1 --of cpu`, "workload", true)
}

func newLedgerCommand(use, short, example, defaultBy string, needsHost bool) *cobra.Command {
	var span spanFlags
	var host, tenant, where, order string
	var columns []string
	var first int
	of := &measureFlag{amount.CPU.String()}
	by := &dimension{defaultBy, nil}
	cmd := &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.NoArgs}
	flags := cmd.Flags()
	flags.Var(of, "of", "which resource, or another measure (\"vinescale measures\" lists them)")
	flags.Var(by, "by", "what to group the shares by")
	flags.StringVar(&host, "host", "", "one host (default: all)")
	flags.IntVar(&first, "first", 20, "how many shares a table shows; 0 for all")
	flags.StringVar(&where, "which", "",
		"only workloads that this expression matches (CEL, as rules are), such as \"kind == 'job'\"")
	flags.StringVar(&order, "sort", "", "sort by "+strings.Join(question.Orders,
		", ")+"; with a dash before it the other way round (default amount)")
	flags.StringSliceVar(&columns, "columns", nil,
		"print a plain listing of these columns: "+strings.Join(columnNames(shareColumns), ", "))
	if !needsHost {
		flags.StringVar(&tenant, "tenant", "", "only this tenant's shares")
	}
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	completeWith(cmd, "of", amount.Names(amount.Measures()))
	completeWith(cmd, "by", question.Dimensions())
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if needsHost && host == "" {
			return usagef("whose ledger? Give --host NAME; \"vinescale hosts\" lists them")
		}
		if first < 0 {
			return usagef("--first %d: give the number of shares to show, or 0 for all", first)
		}
		q := url.Values{"of": {of.value}, "by": {by.value}}
		for name, v := range map[string]string{"host": host, "tenant": tenant, "where": where, "sort": order} {
			if v != "" {
				q.Set(name, v)
			}
		}
		if err := span.query(q); err != nil {
			return err
		}
		to, err := dial(cmd)
		if err != nil {
			return err
		}
		var l sheet.Ledger
		if err := to.Get(cmd.Context(), api.Prefix+"/ledger", q, &l); err != nil {
			return err
		}
		if len(columns) > 0 {
			return list(cmd, &listing{as: as, columns: columns, first: first}, shareColumns, l.Shares)
		}
		return printLedgers(cmd.OutOrStdout(), as.value, by.value, first, []sheet.Ledger{l})
	}
	return cmd
}

// dimension is a flag that takes a word to group by, or one of some more, or label:KEY.
type dimension struct {
	value string
	more  []string
}

func (d *dimension) words() []string { return append(question.Dimensions(), d.more...) }
func (d *dimension) String() string  { return d.value }
func (d *dimension) Type() string    { return strings.Join(d.words(), "|") + "|label:KEY" }
func (d *dimension) Set(s string) error {
	if _, err := question.ParseDimension(s); err != nil && !slices.Contains(d.more, s) {
		return fmt.Errorf("choose one of %s, or label:KEY", strings.Join(d.words(), ", "))
	}
	d.value = s
	return nil
}

// shareColumns are the columns of shares as a plain listing.
var shareColumns = []column[sheet.Share]{
	{name: "name", head: "name", value: func(s sheet.Share) any { return s.Name }},
	{name: "kind", head: "kind", value: func(s sheet.Share) any { return s.Kind }},
	{name: "owner", head: "owner", value: func(s sheet.Share) any { return s.Owner }},
	{name: "tenant", head: "tenant", value: func(s sheet.Share) any { return s.Tenant }},
	{name: "host", head: "host", value: func(s sheet.Share) any { return s.Host }},
	{name: "workload", head: "workload", value: func(s sheet.Share) any { return s.Workload }},
	{name: "amount", head: "amount", right: true, value: func(s sheet.Share) any { return s.Amount },
		text: func(s sheet.Share) string { return figure(s.Amount) }},
	{name: "mean", head: "mean", right: true, value: func(s sheet.Share) any { return s.Mean },
		text: func(s sheet.Share) string { return figure(s.Mean) }},
	{name: "peak", head: "peak", right: true, value: func(s sheet.Share) any { return s.Peak },
		text: func(s sheet.Share) string { return figure(s.Peak) }},
	{name: "source", head: "source", value: func(s sheet.Share) any { return s.Source }},
	{name: "parts", head: "parts", right: true, value: func(s sheet.Share) any { return s.Parts }},
	{name: "missing", head: "missing", right: true, value: func(s sheet.Share) any { return s.Missing }},
	{name: "reason", head: "reason", value: func(s sheet.Share) any { return s.Reason }},
}

// figure writes a number in the units of programs, to three decimals; a dash for none.
func figure(v *float64) string {
	if v == nil {
		return "–"
	}
	return strconv.FormatFloat(*v, 'f', 3, 64)
}
