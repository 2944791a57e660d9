package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

// cellar is two hosts of different size. On cellar-1 two intervals lie in the first minute and one in the second, on
// press-1 one in the second and one in the third. The must was Cellar Intake's in the first minute and is Harvest
// Routing's since; the probe is nobody's, and its network cannot be told; the route is Harvest Routing's, the label
// nobody's. All figures differ, so that one in the wrong place shows.
//
// What each had, in CPU seconds, bytes held, and bytes moved to disks and over the network:
//
//	            cellar-1 12:00:00  12:00:20       12:01:00         press-1 12:01:00    12:02:00
//	must        3, 100, 7, 11      5, 200, 13, 17   19, 300, 23, 29
//	probe       1, 10, 2, -        2, 20, 4, -      4, 40, 8, -
//	route                                                         31, 1000, 37, 41    43, 2000, 47, 53
//	label                                                         6, 50, 9, 12        8, 60, 10, 14
type cellar struct {
	*fixture
	hosts map[string]store.Host
	ids   map[string]int64
	waits map[string]int64 // seconds in which threads waited for a CPU, by workload

	framed bool // each interval is told as a live frame too
}

type had struct {
	who                     account.Workload
	cpu, memory, disk, link int64 // seconds, bytes, bytes, bytes; link -1 where it cannot be told
	on                      int32 // CPU
}

var (
	must = account.Workload{Key: "container:must", Kind: amount.Container, Name: "must", Owner: "svc-cellar",
		Allowed: "0-1"}
	probe = account.Workload{Key: "loose:probe", Kind: amount.Loose, Name: "probe", Owner: "i.sauer", Allowed: "1"}
	route = account.Workload{Key: "container:route", Kind: amount.Container, Name: "route", Owner: "svc-route",
		Allowed: "0-7",
		Facts:   map[string]string{account.FactCPULimit: "2"}}
	label = account.Workload{Key: "job:label", Kind: amount.Job, Name: "label", Owner: "l.roth", Allowed: "0-7",
		Facts: map[string]string{account.FactAccount: "labels"}}
)

func newCellar(t *testing.T) *cellar { return cellarTold(t, false) }

// cellarTold is newCellar, whose intervals may be told as live frames too.
func cellarTold(t *testing.T, framed bool) *cellar {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	c := &cellar{&fixture{t: t, now: noon}, map[string]store.Host{}, map[string]int64{}, nil, framed}
	c.Hub = hub.New(s, hub.Options{Now: func() time.Time { return c.now }})
	for _, name := range []string{"cellar-1", "press-1"} {
		_, err := c.Enrol(ctx, name)
		require.NoError(t, err)
		c.hosts[name], err = c.Host(ctx, name)
		require.NoError(t, err)
	}
	c.tenant("Harvest Routing", "owner == 'svc-route'")
	c.tenant("Cellar Intake", "owner == 'svc-cellar'")
	c.minute("cellar-1", 0, 20, had{must, 3, 100, 7, 11, 0}, had{probe, 1, 10, 2, -1, 1})
	c.minute("cellar-1", 20, 40, had{must, 5, 200, 13, 17, 0}, had{probe, 2, 20, 4, -1, 1})
	c.now = noon.Add(time.Minute)
	_, _, err = c.AddRule(ctx, 1, "Harvest Routing", "name == 'must'")
	require.NoError(t, err)
	c.minute("press-1", 60, 60, had{route, 31, 1000, 37, 41, 2}, had{label, 6, 50, 9, 12, 3})
	c.minute("cellar-1", 60, 60, had{must, 19, 300, 23, 29, 1}, had{probe, 4, 40, 8, -1, 1})
	c.minute("press-1", 120, 60, had{route, 43, 2000, 47, 53, 2}, had{label, 8, 60, 10, 14, 3})
	c.now = noon.Add(time.Hour)
	for _, w := range []account.Workload{must, probe, route, label} {
		found, err := c.Find(ctx, w.Name, "")
		require.NoError(t, err)
		require.NotEmpty(t, found, w.Name)
		c.ids[w.Name] = found[0].ID
	}
	return c
}

// minute sends an interval of a host that begins so many seconds after noon.
func (c *cellar) minute(host string, at, seconds int64, all ...had) {
	b := c.batch(host, noon.Add(time.Duration(at)*time.Second), seconds, all...)
	if c.framed { // frames come first
		now := c.now
		c.now = time.UnixMicro(b.Intervals[0].ToUnixMicros)
		c.frame(b)
		c.now, b.Pace = now, nil
	}
	_, err := c.Ingest(ctx, c.hosts[host], b)
	require.NoError(c.t, err)
}

// frame tells a batch as a live frame, and returns how fast the host is wanted to be read.
func (c *cellar) frame(b *wire.Batch) time.Duration {
	b.Pace = &wire.Pace{TickMillis: uint32(b.Intervals[0].ElapsedMillis), ReadingMicros: 3000}
	body, err := wire.Encode(b)
	require.NoError(c.t, err)
	wanted, err := c.Frame(ctx, c.hosts[b.Host], b, body)
	require.NoError(c.t, err)
	return wanted
}

// tick tells a live frame of a host, in which one workload ran for so many CPU seconds.
func (c *cellar) tick(host string, from time.Time, seconds, cpu int64) time.Duration {
	return c.frame(c.batch(host, from, seconds, had{must, cpu, 100, 0, 0, 0}))
}

// frames is the span of live frames that somebody who looks at a pace sees.
func (c *cellar) frames(host string, pace time.Duration) question.Span {
	s, err := c.FrameSpan(ctx, host, pace, 0)
	require.NoError(c.t, err)
	return s
}

// batch is an interval of a host on its way.
func (c *cellar) batch(host string, from time.Time, seconds int64, all ...had) *wire.Batch {
	c.sequence++
	cpus := map[string]int64{"cellar-1": 4, "press-1": 8}[host]
	iv := &account.Interval{Boot: "b", From: from, To: from.Add(time.Duration(seconds) * time.Second),
		ElapsedMillis: seconds * 1000, Ticks: 1, CPUCount: int(cpus)}
	var names describer
	var sums [amount.NumResources]int64
	for i, h := range all {
		names = append(names, h.who)
		u := account.Usage{Workload: account.WorkloadID(i), Threads: int32(3 + i), Procs: int32(2 + i),
			RunnableMillis: h.cpu * 2000, RunnablePeak: int32(4 + i)}
		u.Units = [amount.NumResources]int64{h.cpu * 1e6, h.memory * seconds * 1000, h.disk, max(h.link, 0),
			h.cpu * 3e5, h.memory * seconds * 300, h.cpu * 7e6}
		u.Peak = [amount.NumResources]int64{h.cpu * 1e6 / seconds * 2, h.memory * 2, h.disk * 2, max(h.link, 0) * 2,
			h.cpu * 4e5, h.memory / 2, h.cpu * 9e6}
		u.Source = [amount.NumResources]amount.Source{amount.Counted, amount.Summed, amount.Split, amount.Counted,
			amount.Reported, amount.Counted, amount.Split}
		if h.link < 0 {
			u.Source[amount.Network] = amount.Unavailable
		}
		u.Programs = []account.ProgramUse{{Family: account.NoProgram, Program: account.NoProgram},
			{Family: 1, Program: 1, Procs: 2}}
		u.Programs[0].Units[amount.CPU] = 1e6
		u.Programs[1].Units = u.Units
		u.Programs[1].Units[amount.CPU] -= 1e6
		u.CPUs = []account.CPUUse{{CPU: h.on, Micros: h.cpu * 1e6}}
		u.Devices = []account.DeviceUse{{Device: 8 << 20, Read: h.disk, ReadOps: h.disk, Source: amount.Counted}}
		if waited, is := c.waits[h.who.Name]; is {
			u.Figures.Put(amount.CPUWait, waited*1e6, amount.Counted)
		}
		u.Figures.Put(amount.MemoryAnon, h.memory*seconds*500, amount.Counted)
		if h.link >= 0 {
			u.Figures.Put(amount.NetworkReceived, h.link, amount.Counted)
			u.Figures.Put(amount.NetworkSent, 2*h.link, amount.Counted)
		}
		for r := range sums {
			sums[r] += u.Units[r]
		}
		iv.Usages = append(iv.Usages, u)
	}
	for r := range iv.Ledgers {
		line := func(units int64) account.Line { return account.Line{Units: units} }
		capacity := []int64{cpus * seconds * 1e6, 1 << 20 * seconds * 1000, 1e6 * seconds, 1e6 * seconds,
			2e6 * seconds, 1 << 19 * seconds * 1000, 1e9 * seconds}[r]
		used := sums[r] + 5*seconds*int64(r+1)
		iv.Ledgers[r] = account.Ledger{Capacity: line(capacity), Used: line(used), Idle: line(capacity - used),
			Kernel: line(2 * seconds), Steal: account.Line{Reason: "none"}}
	}
	iv.Detail.CPUs = []account.CPUTimes{{CPU: 0, User: 1e6 * seconds / 4, IOWait: 1e6 * seconds / 2}}
	iv.Detail.Disks = []account.Disk{{Name: "sda", Major: 8, ReadBytes: 100 * seconds, ReadOps: seconds,
		BusyMillis: 250 * seconds}}
	iv.Detail.Interfaces = []account.Interface{{Name: "eth0", Received: 300 * seconds, Sent: 200 * seconds,
		Workload: account.Unrecognised}}
	iv.Detail.MemoryOwn = 7 * seconds * 1000
	if c.dress != nil {
		c.dress(iv)
	}
	m := wire.FromInterval(iv, c.sequence, "v2", names)
	if c.parts != nil {
		require.NoError(c.t, m.AddInventory(c.parts))
	}
	return &wire.Batch{Version: wire.Version, Host: host, Intervals: []*wire.Interval{m}}
}

// two is from noon on for two minutes: what began at 12:02 is not in it.
func (c *cellar) two() question.Span {
	s, err := c.Span(noon, noon.Add(2*time.Minute), 0)
	require.NoError(c.t, err)
	return s
}

func (c *cellar) shares(m amount.Measure, by string, asked hub.Asked, tenant string) map[string]float64 {
	asked.Span, asked.Tenant = c.two(), tenant
	l, err := c.Ledger(ctx, hub.Question{Asked: asked, Measure: m, By: by})
	require.NoError(c.t, err)
	got := map[string]float64{}
	for _, s := range l.Shares {
		if s.Amount != nil {
			got[s.Name] += *s.Amount
		}
	}
	return got
}

type amounts = map[string]float64

func TestShares_AreSumsByHandWhateverTheyAreGroupedBy(t *testing.T) {
	c := newCellar(t)
	all := hub.Asked{}
	for by, want := range map[string]amounts{
		"tenant":   {"Cellar Intake": 8, "Harvest Routing": 50, "unassigned": 13},
		"user":     {"svc-cellar": 27, "i.sauer": 7, "svc-route": 31, "l.roth": 6},
		"workload": {"must": 27, "probe": 7, "route": 31, "label": 6},
		"kind":     {"container": 58, "loose": 7, "job": 6}, "host": {"cellar-1": 34, "press-1": 37},
		"program": {"frost-ens": 63, account.NoProgramName: 8}, "family": {"frost-ens": 63, account.NoProgramName: 8},
		"account": {"labels": 6, "(none)": 65},
	} {
		assert.Equal(t, want, c.shares(amount.CPU, by, all, ""), by)
	}
	// Of a tenant alone, every grouping tells what was its at the time.
	for by, want := range map[string]amounts{
		"tenant": {"Cellar Intake": 8}, "user": {"svc-cellar": 8}, "workload": {"must": 8}, "kind": {"container": 8},
		"host": {"cellar-1": 8}, "program": {"frost-ens": 6, account.NoProgramName: 2},
		"family": {"frost-ens": 6, account.NoProgramName: 2},
	} {
		assert.Equal(t, want, c.shares(amount.CPU, by, all, "Cellar Intake"), by)
	}
	assert.Equal(t, amounts{"frost-ens": 48, account.NoProgramName: 2},
		c.shares(amount.CPU, "program", all, "Harvest Routing"))
	assert.Equal(t, amounts{"frost-ens": 9, account.NoProgramName: 4},
		c.shares(amount.CPU, "program", all, "unassigned"))
	assert.Equal(t, amounts{"must": 27, "probe": 7}, c.shares(amount.CPU, "workload", hub.Asked{Host: "cellar-1"}, ""))
	assert.Equal(t, amounts{"must": 27}, c.shares(amount.CPU, "workload",
		hub.Asked{Host: "cellar-1", Where: "kind == 'container'"}, ""))

	// The other resources; memory is a mean over the time that the longest records cover, two minutes.
	memory := func(parts ...float64) (sum float64) { // bytes times seconds
		for i := 0; i < len(parts); i += 2 {
			sum += parts[i] * parts[i+1]
		}
		return sum / 120
	}
	assert.InDeltaMapValues(t, amounts{"must": memory(100, 20, 200, 40, 300, 60),
		"probe": memory(10, 20, 20, 40, 40, 60),
		"route": memory(1000, 60), "label": memory(50, 60)}, c.shares(amount.Memory, "workload", all, ""), 1e-9)
	assert.Equal(t, amounts{"Cellar Intake": 20, "Harvest Routing": 60, "unassigned": 23},
		c.shares(amount.Disk, "tenant", all, ""))
	assert.Equal(t, amounts{"Cellar Intake": 28, "Harvest Routing": 70, "unassigned": 12},
		c.shares(amount.Network, "tenant", all, ""))
	// Measures without a ledger are asked for in the same way.
	assert.Equal(t, amounts{"Cellar Intake": 28, "Harvest Routing": 70, "unassigned": 12},
		c.shares(amount.NetworkReceived, "tenant", all, ""))
	assert.InDeltaMapValues(t, amounts{"must": memory(50, 20, 100, 40, 150, 60),
		"probe": memory(5, 20, 10, 40, 20, 60)},
		c.shares(amount.MemoryAnon, "workload", hub.Asked{Host: "cellar-1"}, ""), 1e-9)
	_, err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: amount.MemoryAnon, By: "program"})
	requireProblem(t, err, hub.Invalid, "whole workloads")
}

func TestLedger_OfTheFleetIsTheLinesOfBothHosts(t *testing.T) {
	c := newCellar(t)
	l, err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: amount.CPU, By: "workload"})
	require.NoError(t, err)
	used := 71 + (5*20+5*40+5*60+5*60)/1e6
	kernel := 2 * 180 / 1e6
	assert.InDelta(t, 4*120+8*60, *l.Capacity, 1e-9)
	assert.InDelta(t, used, *l.Used, 1e-9)
	assert.InDelta(t, kernel, *l.Kernel, 1e-12)
	assert.InDelta(t, used-71-kernel, *l.Residual, 1e-9)
	assert.Nil(t, l.Steal)
	assert.Contains(t, l.Notes["steal"], "none (")
	assert.Equal(t, []any{120.0, 12}, []any{l.ElapsedS, l.CPUs}, "the longest of any host, not the sum over hosts")
	assert.Equal(t, []time.Time{noon, noon.Add(2 * time.Minute)}, []time.Time{*l.CoveredFrom, *l.CoveredTo})
	top := l.Shares[0]
	assert.Equal(t, []any{"route", "Harvest Routing", "press-1", 31.0, "counted", 1},
		[]any{top.Name, top.Tenant, top.Host,
			*top.Amount, top.Source, top.Parts})
	assert.InDelta(t, 31.0/120, *top.Mean, 1e-12)
	held := []string{}
	for _, s := range l.Shares {
		if s.Name == "must" {
			held = append(held, s.Tenant)
		}
	}
	assert.Equal(t, []string{"Harvest Routing", "Cellar Intake"}, held,
		"a share under each tenant it had, the larger first")

	one, err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: amount.CPU, By: "workload",
		First: 2})
	require.NoError(t, err)
	assert.Equal(t, []any{2, 3, 71.0 - 31 - 19}, []any{len(one.Shares), one.LeftOut, one.LeftOutBy})
	assert.InDelta(t, *l.Residual, *one.Residual, 1e-9, "a page leaves the balance as it is")
	rest,
		err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: amount.CPU, By: "workload",
		First: 9,
		After: one.Next})
	require.NoError(t, err)
	assert.Len(t, rest.Shares, 3)
	assert.Empty(t, rest.Next)
	_, err = c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: amount.CPU, By: "workload",
		After: "grapes"})
	requireProblem(t, err, hub.Invalid, "cursor")
}

func TestBalance_OfTwoHostsIsSumsByHand(t *testing.T) {
	c := newCellar(t)
	require.NoError(t, quota(c.Hub, "Harvest Routing", "cpu", 0.45, noon.AddDate(0, -1, 0)))
	b, err := c.Balance(ctx, c.two(), "")
	require.NoError(t, err)
	assert.Equal(t, []any{2, 4}, []any{b.Hosts, b.Workloads}, "one that changed tenant is one workload")
	got := map[string][]float64{}
	for _, x := range b.Tenants {
		u := x.Uses[amount.CPU]
		got[x.Tenant] = []float64{float64(x.Workloads), *u.Amount, *u.Used, *u.Peak}
	}
	assert.Equal(t, map[string][]float64{
		"unassigned": {2, 13, 13.0 / 120, 10.0 / 60}, "Cellar Intake": {1, 8, 8.0 / 120, 8.0 / 60},
		"Harvest Routing": {2, 50, 50.0 / 120, 50.0 / 60},
	}, got, "peaks are of one minute, over both hosts and both of its intervals")
	harvest := b.Tenants[2].Uses[amount.CPU]
	assert.Equal(t, []bool{false, true}, []bool{harvest.Over, harvest.PeakOver})
	nobody := b.Tenants[0].Uses[amount.Network]
	assert.Equal(t, []any{1, 12.0, amount.Network.Entry().NeverOf},
		[]any{nobody.Missing, *nobody.Amount, nobody.Reason})
	whole := b.Resources[amount.Disk]
	assert.InDelta(t, 1e6*180/120.0, *whole.Capacity, 1e-6)
	assert.InDelta(t, (15*180.0-2*180)/120, *whole.Residual, 1e-9)

	// Of a span that no step of a day divides, both hosts are counted, though one tells of its end only.
	long, err := c.Span(noon.Add(-53*time.Minute), noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	b, err = c.Balance(ctx, long, "")
	require.NoError(t, err)
	assert.Equal(t, 2, b.Hosts)
	b, err = c.Balance(ctx, c.two(), "press-1")
	require.NoError(t, err)
	assert.Equal(t, []any{1, 2, 6.0}, []any{b.Hosts, b.Workloads, *b.Tenants[0].Uses[amount.CPU].Amount})
}

// TestBalances_AreTheBalancesOfEachHost asks for all at once, by pages of one, before and after the hours are summed.
func TestBalances_AreTheBalancesOfEachHost(t *testing.T) {
	c := newCellar(t)
	_, err := c.Enrol(ctx, "cellar-0") // has told nothing
	require.NoError(t, err)
	for range 2 {
		var got []explain.Balance
		after := ""
		for {
			list, next, err := c.Balances(ctx, c.two(), 1, after)
			require.NoError(t, err)
			require.Len(t, list, 1)
			got = append(got, list...)
			if after = next; after == "" {
				break
			}
		}
		hosts, err := c.Hosts(ctx)
		require.NoError(t, err)
		require.Len(t, got, len(hosts))
		for i, h := range hosts {
			want, err := c.Balance(ctx, c.two(), h.Name)
			require.NoError(t, err)
			assert.Equal(t, *want, got[i])
		}
		c.now = c.now.Add(24 * time.Hour)
		require.NoError(t, c.Fold(ctx))
		c.now = c.now.Add(-24 * time.Hour)
	}
}

func TestTimeline_IsOfEachStretchWithTheHostsItIsOf(t *testing.T) {
	c := newCellar(t)
	line, err := c.Timeline(ctx, c.two(), "", amount.CPU)
	require.NoError(t, err)
	require.Len(t, line.Points, 2)
	assert.Equal(t, []any{noon, 1, noon.Add(time.Minute), 2}, []any{line.Points[0].Start, line.Points[0].Hosts,
		line.Points[1].Start, line.Points[1].Hosts})
	assert.InDelta(t, (11+5*60/1e6)/(4*60), *line.Points[0].Busy, 1e-9)
	assert.InDelta(t, (60+5*120/1e6)/(12*60), *line.Points[1].Busy, 1e-9)
}

func TestWorkloads_TellTheirMeansWhileTheyRan(t *testing.T) {
	c := newCellar(t)
	lines, _, err := c.Workloads(ctx, hub.Asked{Span: c.two()}, hub.Page{})
	require.NoError(t, err)
	require.Len(t, lines, 4)
	first := lines[0]
	assert.Equal(t, []any{"route", "Harvest Routing", int64(2), int64(3), 62.0 / 60, 2.0, "limit"},
		[]any{first.Name, first.Tenant,
			first.Processes, first.Threads, first.RunnableMean, first.MayUseCPUs, first.MayUseBy})
	assert.InDelta(t, 31.0/60, *first.Uses[amount.CPU].Mean, 1e-12, "of the minute it ran, not of the span")
	assert.InDelta(t, 62.0/60/2, *first.Crowding, 1e-12)
	second := lines[1]
	assert.Equal(t, []any{"must", "Harvest Routing"}, []any{second.Name, second.Tenant},
		"whose it was at the end of the span")
	assert.InDelta(t, (100*20+200*40+300*60)/120.0, *second.Uses[amount.Memory].Mean, 1e-9)
	assert.Equal(t, "split", second.Uses[amount.Disk].Source)
	assert.InDelta(t, 600, *second.Uses[amount.Memory].Peak, 1e-9)
	early, _, err := c.Workloads(ctx, hub.Asked{Span: question.Span{From: noon, To: noon.Add(time.Minute)}}, hub.Page{})
	require.NoError(t, err)
	assert.Equal(t, []any{"must", "Cellar Intake"}, []any{early[0].Name, early[0].Tenant}, "and at the end of another")
	threads, err := c.Threads(ctx, hub.Asked{Span: c.two()})
	require.NoError(t, err)
	assert.Equal(t, "route", threads[0].Name)

	page, next, err := c.Workloads(ctx, hub.Asked{Span: c.two()}, hub.Page{Sort: "name", First: 3})
	require.NoError(t, err)
	assert.Equal(t, []string{"label", "must", "probe"}, []string{page[0].Name, page[1].Name, page[2].Name})
	page, next, err = c.Workloads(ctx, hub.Asked{Span: c.two()}, hub.Page{Sort: "name", First: 3, After: next})
	require.NoError(t, err)
	require.Len(t, page, 1)
	assert.Equal(t, []string{"route", ""}, []string{page[0].Name, next})
}

func TestAbout_ATenantIsWhatWasItsAtTheTime(t *testing.T) {
	c := newCellar(t)
	for tenant, want := range map[string][]any{
		"Cellar Intake":   {[]string{"must"}, 8.0, 28.0, 0},
		"Harvest Routing": {[]string{"route", "must"}, 50.0, 70.0, 0},
		"unassigned":      {[]string{"probe", "label"}, 13.0, 12.0, 1},
	} {
		g, err := c.AboutTenant(ctx, tenant, c.two(), 0)
		require.NoError(t, err)
		var names []string
		for _, w := range g.Workloads {
			names = append(names, w.Name)
		}
		assert.Equal(t, want, []any{names, *g.Uses[amount.CPU].Amount, *g.Uses[amount.Network].Amount,
			g.Uses[amount.Network].Missing}, tenant)
	}
	w, err := c.AboutWorkload(ctx, c.ids["must"], c.two())
	require.NoError(t, err)
	assert.InDelta(t, 27, *w.Uses[amount.CPU].Amount, 1e-9)
	require.Len(t, w.Programs, 2)
	assert.Equal(t, []any{"frost-ens", 24.0, 2}, []any{w.Programs[0].Program, *w.Programs[0].Uses[amount.CPU].Amount,
		w.Programs[0].Processes})
	require.Len(t, w.CPUMates, 1)
	assert.Equal(t, []any{"probe", 7.0}, []any{w.CPUMates[0].Name, w.CPUMates[0].Amount}, "on CPU 1, where both ran")
	require.Len(t, w.DiskMates, 1, "what is on another host's disks is none")
	assert.Equal(t, 14.0, w.DiskMates[0].Amount)
	u, err := c.AboutUser(ctx, "l.roth", c.two(), 0)
	require.NoError(t, err)
	assert.InDelta(t, 6, *u.Uses[amount.CPU].Amount, 1e-9)
	h, err := c.AboutHost(ctx, "cellar-1", c.two(), 0)
	require.NoError(t, err)
	assert.InDelta(t, 34, *h.Uses[amount.CPU].Amount, 1e-9)
}

func TestExplained_WhoseItWasIsOfTheTime(t *testing.T) {
	c := newCellar(t)
	c.declare("cellar-1", "0-1", "Harvest Routing")
	audit := func() map[int]float64 {
		pins, err := c.Pins(ctx, c.two(), "")
		require.NoError(t, err)
		others := map[int]float64{}
		for _, p := range pins[0].Each {
			others[p.CPU] = p.Intruded
		}
		return others
	}
	// The must ran 8 s on CPU 0 as Cellar Intake's, and 19 s on CPU 1 as Harvest Routing's; the probe 7 s on CPU 1.
	assert.Equal(t, map[int]float64{0: 8, 1: 7}, audit())
	_, err := c.RemoveRule(ctx, 1) // from now on the must is Cellar Intake's again
	require.NoError(t, err)
	assert.Equal(t, map[int]float64{0: 8, 1: 7}, audit(), "what a rule gives from now on changes no past")

	d, err := c.Disks(ctx, "", c.two())
	require.NoError(t, err)
	require.Len(t, d.Devices, 2)
	whose := map[string]float64{}
	for _, x := range d.Devices {
		for _, u := range x.Users {
			whose[u.Whose()] = u.ReadRate
		}
	}
	assert.Equal(t, map[string]float64{"must of Cellar Intake": 20.0 / 120, "must of Harvest Routing": 23.0 / 120,
		"probe (unassigned)": 14.0 / 120, "route of Harvest Routing": 37.0 / 60, "label (unassigned)": 9.0 / 60}, whose)
	assert.InDelta(t, 0.25, d.Devices[0].Busy, 1e-9)

	l, err := c.Links(ctx, "", c.two())
	require.NoError(t, err)
	assert.Equal(t, &explain.LinkTotals{Received: 600, Sent: 400}, l.Wire)
	assert.InDelta(t, 57.0/120+53.0/60, l.IP.Received, 1e-9)
	require.Len(t, l.Missing, 1)
	assert.Equal(t, "probe", l.Missing[0].Name)

	cpus, err := c.CPUs(ctx, "cellar-1", c.two())
	require.NoError(t, err)
	require.Len(t, cpus.CPUs, 1)
	x := cpus.CPUs[0]
	assert.Equal(t, []float64{120, 30, 60, 30}, []float64{x.Capacity, x.User, x.IOWait, x.Residual})
	assert.Equal(t, []any{"must", "Cellar Intake", 8.0},
		[]any{x.Shares[0].Name, x.Shares[0].Tenant, x.Shares[0].Seconds})

	m, err := c.Memory(ctx, "cellar-1", c.two())
	require.NoError(t, err)
	assert.InDelta(t, (28000+3400)/120.0, *m.Charged, 1e-9)
	assert.InDelta(t, 7, *m.Own, 1e-9)
	assert.Equal(t, []any{"must", 28000.0 / 120, 27.0 / 120}, []any{m.Workloads[0].Name, m.Workloads[0].Charged,
		m.Workloads[0].CPUCores})
}

func TestReapply_MovesWhatAnotherTenantHadAndTellsHowMuch(t *testing.T) {
	c := newCellar(t)
	preview, err := c.Reapply(ctx, c.two(), true)
	require.NoError(t, err)
	require.Len(t, preview.Moves, 1)
	m := preview.Moves[0]
	assert.Equal(t, []any{"must", "Cellar Intake", "Harvest Routing", 8.0, 20.0},
		[]any{m.Workload, m.From, m.To, m.CPUSeconds(),
			*m.Uses[amount.Disk].Amount})
	_, err = c.Reapply(ctx, c.two(), false)
	require.NoError(t, err)
	for by, want := range map[string]amounts{"tenant": {"Harvest Routing": 58, "unassigned": 13},
		"program": {"frost-ens": 63, account.NoProgramName: 8}} {
		assert.Equal(t, want, c.shares(amount.CPU, by, hub.Asked{}, ""), by)
	}
	assert.Equal(t, amounts{"frost-ens": 54, account.NoProgramName: 4},
		c.shares(amount.CPU, "program", hub.Asked{}, "Harvest Routing"))
	assert.Equal(t, amounts{"Harvest Routing": 98, "unassigned": 12},
		c.shares(amount.NetworkReceived, "tenant", hub.Asked{}, ""))
	b, err := c.Balance(ctx, c.two(), "")
	require.NoError(t, err)
	assert.InDelta(t, 50.0/60, *b.Tenants[2].Uses[amount.CPU].Peak, 1e-9)
}

// TestPlacement_TellsWhoRanWhereAndUnderWhichTenant: must moved from CPU 0 to CPU 1, and to another tenant.
func TestPlacement_TellsWhoRanWhereAndUnderWhichTenant(t *testing.T) {
	c := newCellar(t)
	c.declare("cellar-1", "1", "Cellar Intake")
	p, err := c.Placement(ctx, "cellar-1", c.two(), "tenant", "1m")
	require.NoError(t, err)
	names := []string{}
	for _, w := range p.Who {
		names = append(names, w.Name)
	}
	assert.Equal(t, []string{"Harvest Routing", "Cellar Intake", "unassigned"}, names)
	require.Len(t, p.CPUs, 2)
	assert.Equal(t, [][]int{{1, -1}, {2, 0}}, [][]int{p.CPUs[0].Top, p.CPUs[1].Top})
	assert.InDelta(t, 8.0/60, *p.CPUs[0].Part[0], 1e-9, "of both intervals of the minute")
	assert.InDelta(t, 3.0/60, *p.CPUs[1].Part[0], 1e-9)
	assert.InDelta(t, 19.0/60, *p.CPUs[1].Part[1], 1e-9)
	assert.InDelta(t, 1.0/3, *p.CPUs[0].Busy[0], 1e-9, "a quarter of its time in programs, half waiting for storage")
	assert.Nil(t, p.CPUs[1].Busy[0], "its time was not told")
	require.Len(t, p.Pins, 1)
	assert.Equal(t, []any{"1", "Cellar Intake"}, []any{p.Pins[0].CPUs, p.Pins[0].Holder})

	p, err = c.Placement(ctx, "cellar-1", c.two(), "workload", "1m")
	require.NoError(t, err)
	assert.Equal(t, []any{"must", 27.0, "probe"}, []any{p.Who[0].Name, p.Who[0].CPUSeconds, p.Who[1].Name})
	assert.Equal(t, [][]int{{0, -1}, {1, 0}}, [][]int{p.CPUs[0].Top, p.CPUs[1].Top})

	_, err = c.Placement(ctx, "cellar-1", c.two(), "kind", "1m")
	requireProblem(t, err, hub.Invalid, "tenant or workload")
	_, err = c.Placement(ctx, "cellar-9", c.two(), "tenant", "1m")
	requireProblem(t, err, hub.NotFound, "cellar-9")
}
