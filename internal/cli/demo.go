package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/shopspring/decimal"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/statement"
	"vinescale/core/tenancy"
	"vinescale/internal/carry"
	"vinescale/internal/client"
	"vinescale/internal/collect"
	"vinescale/internal/devices"
	"vinescale/internal/hub"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/stage"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

func newDemo() *cobra.Command {
	var history time.Duration
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run the whole product on demo data: a staged fleet, a week of history and live figures",
		Long: `Demo stages the hosts of a made-up winegrowers' cooperative, plays a week of their
history into the books, and runs the real collector on each, live. Without --data
everything is in a temporary directory that is removed at the end.`,
		Args: cobra.NoArgs,
	}
	configFlags(cmd, "listen", "data", "log_level", "log_format")
	cmd.Flags().DurationVar(&history, "history", 7*24*time.Hour, "how much history to play; 0 for none")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if history < 0 || history > 7*24*time.Hour {
			return usagef("--history %s: give 0 to 168h", history)
		}
		c, err := loadConfig(cmd)
		if err != nil {
			return err
		}
		if !cmd.Flags().Changed("log-level") && c.from["log_level"] == "default" {
			if err := c.Set("log_level", "warn"); err != nil {
				return err
			}
		}
		log, err := newLog(cmd.ErrOrStderr(), c)
		if err != nil {
			return err
		}
		slog.SetDefault(log)
		dir := c.String("data")
		if dir == "" {
			if dir, err = os.MkdirTemp("", "vinescale-demo-"); err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			if err := os.Chmod(dir, 0o711); err != nil { // the user postgres must be able to enter it
				return err
			}
		}
		// The demo keeps its own books, whatever the configuration says of a database.
		for key, value := range map[string]string{"data": filepath.Join(dir, "service"), "database": ""} {
			if err := c.Set(key, value); err != nil {
				return err
			}
		}
		return runDemo(cmd.Context(), c, dir, history, cmd.OutOrStdout())
	}
	return cmd
}

func runDemo(ctx context.Context, c *config, dir string, history time.Duration, out io.Writer) error {
	s, err := startService(ctx, c)
	if err != nil {
		return err
	}
	defer s.stop()
	d := &demo{dir: dir, service: s, credentials: map[string]string{}, played: map[string]*played{}}
	begin := time.Now().Add(-history).Truncate(time.Minute)
	d.hosts = stage.Cooperative(begin)
	if err := d.furnish(ctx, history); err != nil {
		return ended(ctx, err)
	}
	fmt.Fprintf(out, "playing %s of history …\n", history)
	if err := d.play(ctx, time.Now().Truncate(time.Minute)); err != nil {
		return ended(ctx, err)
	}
	if err := d.declare(ctx); err != nil {
		return ended(ctx, err)
	}
	if err := d.account(ctx, begin); err != nil {
		return ended(ctx, err)
	}
	fmt.Fprintf(out, `
Vine Scale runs on demo data: %d hosts of a winegrowers' cooperative.

  console   %s
  sign in   %s

In another terminal:

  export VINESCALE_SERVICE=%s VINESCALE_TOKEN=%s
  vinescale balance
  vinescale share --of cpu --by tenant
  vinescale ledger --host cellar-1 --of cpu
  vinescale pins
  vinescale about bottling-plc
  vinescale threads --first 5

Ctrl-C ends it.
`, len(d.hosts), s.url, s.token, s.url, s.token)
	live, ctx := errgroup.WithContext(ctx)
	for _, h := range d.hosts {
		live.Go(func() error { return d.collect(ctx, h) })
	}
	live.Go(func() error { return s.wait(ctx) })
	return live.Wait()
}

// ended makes an interruption no error.
func ended(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

type demo struct {
	dir         string
	service     *service
	hosts       []*stage.Host
	credentials map[string]string
	played      map[string]*played // by host
}

// played is where the history of a host ended.
type played struct {
	registry *identify.Registry
	tracker  account.Tracker
	idle     map[string]time.Time // since when GPUs have had no work
}

// declare records whose CPUs are, once the workloads have been seen, where nothing is declared from an earlier run.
func (d *demo) declare(ctx context.Context) error {
	have, err := d.service.hub.Declared(ctx, "")
	if err != nil || len(have) > 0 {
		return err
	}
	for _, p := range stage.Pins {
		order := hub.PinOrder{
			Host:     p.Host,
			CPUs:     p.CPUs,
			Kind:     p.Kind,
			Holder:   p.Holder,
			IsShared: p.IsShared,
			IsComing: true,
			Reason:   p.Reason,
			From:     time.Now().AddDate(0, -2, 0),
		}
		if _, err := d.service.hub.Declare(ctx, &order); err != nil {
			return err
		}
	}
	return nil
}

// daysClosed is how many of the last whole days have closed statements.
const daysClosed = 3

// account sets a tariff, and closes the last whole days of the history that were played.
func (d *demo) account(ctx context.Context, begin time.Time) error {
	h := d.service.hub
	tariff := stage.Tariff()
	isSet, err := h.SetTariff(ctx, &tariff, "agreed by the members")
	if err != nil || !isSet { // it is there from an earlier run
		return err
	}
	from, _ := tariff.At(time.Now())
	var days []time.Time
	for len(days) < daysClosed {
		if from, _ = tariff.At(from.Add(-time.Hour)); from.Before(begin) {
			break
		}
		days = append(days, from)
	}
	for _, day := range slices.Backward(days) {
		a, err := h.CloseWindow(ctx, tariff.Name(day))
		if err != nil {
			return err
		}
		at := slices.IndexFunc(a.Statements, func(s statement.Statement) bool { return s.Tenant == "Label Press" })
		if !day.Equal(days[len(days)-1]) || at < 0 {
			continue
		}
		if _, err := h.Correct(ctx, &statement.Correction{Corrects: a.Statements[at].Number, Resource: "cpu",
			Quantity: decimal.NewFromInt(-4), Reason: "the new printer's trial run was free"}); err != nil {
			return err
		}
	}
	return nil
}

// furnish sets up tenants, rules, quotas and hosts, where they are not there from an earlier run.
func (d *demo) furnish(ctx context.Context, history time.Duration) error {
	h := d.service.hub
	have, err := h.Tenants(ctx)
	if err != nil {
		return err
	}
	for _, x := range d.hosts {
		credential, err := h.Enrol(ctx, x.Name)
		if err != nil {
			return err
		}
		d.credentials[x.Name] = credential
	}
	if len(have) > 0 {
		return nil
	}
	for host, pool := range stage.Pools {
		if _, err := h.SetPools(ctx, host, []string{pool}); err != nil {
			return err
		}
	}
	for _, t := range stage.Tenants {
		if _, err := h.AddTenant(ctx, t.Name); err != nil {
			return err
		}
		if _, _, err := h.AddRule(ctx, 0, t.Name, t.Rule); err != nil {
			return err
		}
	}
	if _, err := h.AddTenant(ctx, stage.Department); err != nil { // after the others, whose colours are known
		return err
	}
	for _, t := range stage.Tenants {
		if err := h.SetParent(ctx, t.Name, t.PartOf); err != nil {
			return err
		}
	}
	now := time.Now()
	about := now.AddDate(0, 0, -12).Format(time.DateOnly)
	lasting := stage.Quota{
		Tenant:   "Frost Watch",
		Resource: "cpu",
		Window:   "14 days from " + about,
		Zone:     "Europe/Vienna",
		Ceiling:  stage.Spends * (history + 20*time.Hour).Hours(),
		Reason:   "until the next frost outlook",
	}
	for _, q := range append(slices.Clone(stage.Quotas), lasting) {
		order := hub.QuotaOrder{Tenant: q.Tenant, Resource: q.Resource, Reason: q.Reason, Window: q.Window,
			Limit: tenancy.Limit{Ceiling: &q.Ceiling, Basis: tenancy.Basis(q.Basis), Zone: q.Zone},
			From:  now.AddDate(0, -2, 0)}
		switch {
		case q.Host != "":
			order.ScopeKind, order.ScopeOn = string(tenancy.OneHost), q.Host
		case q.Pool != "":
			order.ScopeKind, order.ScopeOn = string(tenancy.HostPool), q.Pool
		}
		if q.Soft > 0 {
			order.Limit.Soft = &q.Soft
		}
		if q.Before > 0 {
			order.From = now.Add(-q.Before)
		}
		if _, err := h.SetQuota(ctx, &order); err != nil {
			return err
		}
	}
	return nil
}

// pace is how the history is played.
type pace struct{ tick, interval time.Duration }

// The last day is played by the minute, with readings that are close enough for a minute to have a peak and far enough
// apart for a day to be played in seconds. The days before it are told by the half hour.
var (
	lastDay = pace{20 * time.Second, time.Minute}
	before  = pace{10 * time.Minute, 30 * time.Minute}
)

func paceAt(now, until time.Time) pace {
	if until.Sub(now) > 24*time.Hour {
		return before
	}
	return lastDay
}

// looksAtSensors tells for which intervals of the history sensors are looked at: for each of the last two hours, and
// for one of ten minutes before, since their files take long to write.
func looksAtSensors(at, until time.Time) bool {
	return until.Sub(at) < 2*time.Hour || at.Minute()%10 == 0
}

// play moves every host on to a time and sends what its collector would have sent on the way.
func (d *demo) play(ctx context.Context, until time.Time) error {
	known, err := d.service.hub.Hosts(ctx)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	for _, h := range d.hosts {
		if err := h.Render(d.tree(h)); err != nil { // the runtimes' state files, by which containers are recognised
			return err
		}
		d.played[h.Name] = &played{registry: d.registry(h), idle: map[string]time.Time{}}
		group.Go(func() error { return d.playHost(ctx, h, until, lastOf(known, h.Name)) })
	}
	return group.Wait()
}

func lastOf(hosts []store.Host, name string) time.Time {
	for _, h := range hosts {
		if h.Name == name && h.LastAt != nil {
			return *h.LastAt
		}
	}
	return time.Time{}
}

func (d *demo) tree(h *stage.Host) stage.Tree {
	return stage.Tree{Dir: filepath.Join(d.dir, "stage", h.Name)}
}

func (d *demo) registry(h *stage.Host) *identify.Registry {
	t := d.tree(h)
	return identify.NewRegistry(identify.Options{Boot: h.Boot,
		Roots:      identify.Roots{Etc: t.Etc(), Run: t.Run(), Proc: t.Proc()},
		Informants: []identify.Informant{h.Scheduler()}})
}

func (d *demo) playHost(ctx context.Context, h *stage.Host, until, known time.Time) error {
	to, err := client.New(d.service.url, d.credentials[h.Name])
	if err != nil {
		return err
	}
	sensors := devices.Open(devices.Options{Sys: d.tree(h).Sys(), Library: h.Library()})
	registry, tracker, mode := d.played[h.Name].registry, &d.played[h.Name].tracker, modeOf(h)
	var open *account.Interval
	batch := &wire.Batch{Version: wire.Version, Host: h.Name}
	send := func() error {
		if len(batch.Intervals) == 0 {
			return nil
		}
		encoded, err := wire.Encode(batch)
		if err != nil {
			return err
		}
		batch.Intervals = nil
		return to.SendBatch(ctx, encoded, nil)
	}
	h.Now = h.Now.Truncate(time.Minute)
	for ; !h.Now.After(until); h.Advance(paceAt(h.Now, until).tick) {
		reading := h.Reading(registry)
		iv, err := tracker.Step(reading)
		if errors.Is(err, account.ErrFirstReading) {
			continue
		}
		if err != nil {
			return err
		}
		if open == nil {
			open = iv
		} else {
			open = open.Add(iv)
		}
		if open.ElapsedMillis < paceAt(open.From, until).interval.Milliseconds() {
			continue
		}
		gpus := &account.Inventory{GPUs: account.SheetsOf(open)}
		gpus.TellGPUs(open, reading, registry.Workload, d.played[h.Name].idle)
		if open.From.After(known) {
			m := wire.FromInterval(open, uint64(open.To.UnixMicro()), mode, registry)
			if looksAtSensors(open.To, until) {
				if err := h.RenderSensors(d.tree(h)); err != nil {
					return err
				}
				m.AddSensors(sensors.Sensors())
			}
			if until.Sub(open.To) < 2*time.Minute {
				processes, over := tracker.Running()
				m.AddProcesses(open, processes, over, registry)
				if err := h.Render(d.tree(h)); err != nil { // its sensors as they stand now
					return err
				}
				inventory, err := d.survey(h)
				if err != nil {
					return err
				}
				inventory.TellGPUs(open, reading, registry.Workload, d.played[h.Name].idle)
				if err := m.AddInventory(inventory); err != nil {
					return err
				}
			}
			batch.Intervals = append(batch.Intervals, m)
		}
		open = nil
		if len(batch.Intervals) == 120 {
			if err := send(); err != nil {
				return err
			}
		}
	}
	return send()
}

func modeOf(h *stage.Host) string {
	if h.V1 {
		return "hybrid"
	}
	return "v2"
}

// bridge tells what a host used while its history was played: that ends where the playing began, and the collector
// begins now.
func (d *demo) bridge(ctx context.Context, h *stage.Host, to *client.Client) error {
	past := d.played[h.Name]
	iv, err := past.tracker.Step(h.Reading(past.registry))
	if err != nil {
		return nil // nothing was played, or no time passed
	}
	m := wire.FromInterval(iv, uint64(iv.To.UnixMicro()), modeOf(h), past.registry)
	encoded, err := wire.Encode(&wire.Batch{Version: wire.Version, Host: h.Name, Intervals: []*wire.Interval{m}})
	if err != nil {
		return err
	}
	return to.SendBatch(ctx, encoded, nil)
}

// reader reads a staged host with the real collector's code.
func (d *demo) reader(h *stage.Host) (*kernel.Reader, error) {
	tree := d.tree(h)
	o := kernel.Options{
		Roots: kernel.Roots{Proc: tree.Proc(), Sys: tree.Sys(), Cgroup: tree.Cgroup(), Etc: tree.Etc()},
		Links: h.Links, Units: h.Units,
		DiskRates: h.DiskRates(), IdleMicroWatts: h.IdleMicroWatts(),
		GPULibrary: h.Library(), PageSize: stage.PageSize, Space: h.Space, Quota: h.Quota, Ends: h.Ends,
		Clock: func() (time.Time, time.Duration) { return h.Now.UTC(), h.Uptime },
	}
	if h.Counts {
		o.Counters = h.Counters(tree)
	}
	return kernel.Open(d.registry(h), o)
}

// survey is what a staged host is made of.
func (d *demo) survey(h *stage.Host) (*account.Inventory, error) {
	reader, err := d.reader(h)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	if err := reader.Read(&account.Reading{}); err != nil {
		return nil, err
	}
	return reader.Survey(), nil
}

// collect runs the real collector on a staged host, live.
func (d *demo) collect(ctx context.Context, h *stage.Host) error {
	tree := d.tree(h)
	forward := func(now time.Time) error {
		if dt := now.Sub(h.Now); dt > 0 {
			h.Advance(dt)
		}
		return h.Render(tree)
	}
	if err := forward(time.Now()); err != nil {
		return err
	}
	reader, err := d.reader(h)
	if err != nil {
		return err
	}
	defer reader.Close()
	spool, err := collect.OpenSpool(filepath.Join(d.dir, "spool", h.Name))
	if err != nil {
		return err
	}
	defer spool.Close()
	to, err := client.New(d.service.url, d.credentials[h.Name])
	if err != nil {
		return err
	}
	if err := d.bridge(ctx, h, to); err != nil {
		return ended(ctx, err)
	}
	_, key, err := act.ParseCredential(d.credentials[h.Name])
	if err != nil {
		return err
	}
	t := d.tree(h)
	return collect.New(collect.Options{
		Host: h.Name, Source: reader, Names: reader.Registry(), Client: to, Spool: spool, BeforeTick: forward,
		IdleGPUs: d.played[h.Name].idle, OrderKey: key,
		Acts: &carry.Options{
			Users:    reader.Registry().Users(),
			Journal:  filepath.Join(d.dir, "acts", h.Name),
			IsStaged: true,
			Proc:     t.Proc(),
			Cgroup:   t.Cgroup(),
			Sys:      t.Sys(),
			Run:      t.Run(),
			Policy:   func() (*act.Policy, error) { return act.ParsePolicy([]byte("allow: [{acts: [all]}]")) },
		},
	}).Run(ctx)
}
