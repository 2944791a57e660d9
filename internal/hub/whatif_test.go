package hub_test

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/core/whatif"
	"vinescale/internal/hub"
)

// TestWhatIf_AnotherLimitIsPlayedOverEachMinute: the route has a limit of two cores, ran for 31 s in one minute and for
// 43 in the next, and its ticks were twice as high.
func TestWhatIf_AnotherLimitIsPlayedOverEachMinute(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(5*time.Minute), 0)
	require.NoError(t, err)
	x, who, err := c.WhatIfLimit(ctx, &hub.WhatLimit{Workload: c.ids["route"], Resource: "cpu", Limit: 0.6, Span: span})
	require.NoError(t, err)
	assert.Equal(t, []any{"route", "Harvest Routing", 2, 1, 2, 60.0}, []any{who.Name, who.Tenant, x.Steps, x.Surely,
		x.Possibly, x.Step})
	assert.InDelta(t, 7, *x.Late, 1e-6, "43 s, where 36 fit")
	assert.InDelta(t, 7/0.6, *x.Delay, 1e-6)
	assert.InDelta(t, 1.4, *x.Freed, 1e-9)
	assert.InDelta(t, 2*43/60.0, x.Highest, 1e-5, "peaks are whole units")
	assert.Equal(t, []time.Time{noon.Add(time.Minute), noon.Add(3 * time.Minute), noon.Add(2 * time.Minute)},
		[]time.Time{*x.First, *x.Last, *x.Worst})
	m, _, err := c.WhatIfLimit(ctx, &hub.WhatLimit{Workload: c.ids["must"], Resource: "memory", Limit: 500, Span: span})
	require.NoError(t, err)
	assert.Equal(t, []any{2, 0, 1}, []any{m.Steps, m.Surely, m.Possibly}, "300 bytes at most, with ticks of 600")
	assert.Nil(t, m.Now)
	for _, w := range []hub.WhatLimit{{Workload: c.ids["route"], Resource: "disk", Limit: 1, Span: span},
		{Workload: c.ids["route"], Resource: "cpu", Span: span},
		{Workload: 999, Resource: "cpu", Limit: 1, Span: span}} {
		_, _, err := c.WhatIfLimit(ctx, &w)
		require.Error(t, err)
	}
}

// TestWhatIf_AnotherQuotaIsJudgedAsIfItHadBeenSet holds the answer to that of the same quota, set from before the span.
func TestWhatIf_AnotherQuotaIsJudgedAsIfItHadBeenSet(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	for _, on := range []tenancy.Scope{{Kind: tenancy.Fleet}, {Kind: tenancy.OneHost, Name: "press-1"}} {
		asked, err := c.WhatIfQuota(ctx, &hub.WhatQuota{Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 0.6,
			On: on, Span: span})
		require.NoError(t, err)
		c.order("Harvest Routing", "cpu", 0.6, func(o *hub.QuotaOrder) {
			o.From, o.ScopeKind, o.ScopeOn = noon.AddDate(0, 0, -1), string(on.Kind), on.Name
		})
		b, err := c.Balance(ctx, span, "")
		require.NoError(t, err)
		found := false
		for i := range b.Stands {
			if s := &b.Stands[i]; s.Tenant == "Harvest Routing" && s.On == on.Name {
				found = true
				assert.Equal(t, s.Exceeded, asked.Exceeded)
				assert.Equal(t, []any{*s.Used, *s.Headroom, s.Over}, []any{*asked.Used, *asked.Headroom, asked.Over})
			}
		}
		require.True(t, found, on)
		assert.Equal(t, map[bool]int{true: 2, false: 1}[on.Name == ""], asked.Exceeded.Minutes)
	}
	fleet := tenancy.Scope{Kind: tenancy.Fleet}
	for want, q := range map[string]hub.WhatQuota{
		`no tenant "Nobody"`: {Tenant: "Nobody", Resource: "cpu", Ceiling: 1, On: fleet},
		"wine":               {Tenant: "Harvest Routing", Resource: "wine", Ceiling: 1, On: fleet},
		"from 0":             {Tenant: "Harvest Routing", Resource: "cpu", Ceiling: -1, On: fleet},
		"no host is": {Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 1,
			On: tenancy.Scope{Kind: tenancy.OneHost, Name: "attic"}},
		"only CPU, memory and GPUs are held": {Tenant: "Harvest Routing", Resource: "disk", Ceiling: 1, Basis: "held",
			On: fleet},
		"lent": {Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 1, Basis: "lent", On: fleet},
	} {
		q.Span = span
		_, err := c.WhatIfQuota(ctx, &q)
		require.ErrorContains(t, err, want)
	}
}

// TestWhatIf_AQuotaOfWhatIsHeldIsJudgedAsIfItHadBeenSet: the route is entitled to two cores and uses less than one.
func TestWhatIf_AQuotaOfWhatIsHeldIsJudgedAsIfItHadBeenSet(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	fleet := tenancy.Scope{Kind: tenancy.Fleet}
	for basis, isOver := range map[string]bool{"used": false, "held": true, "greater": true} {
		asked, err := c.WhatIfQuota(ctx, &hub.WhatQuota{Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 1,
			Basis: basis, On: fleet, Span: span})
		require.NoError(t, err)
		c.order("Harvest Routing", "cpu", 1, func(o *hub.QuotaOrder) {
			o.From, o.Limit.Basis = noon.AddDate(0, 0, -1), tenancy.Basis(basis)
		})
		b, err := c.Balance(ctx, span, "")
		require.NoError(t, err)
		i := slices.IndexFunc(b.Stands, func(s explain.Stand) bool { return s.Tenant == "Harvest Routing" })
		require.NotEqual(t, -1, i, basis)
		set := &b.Stands[i]
		assert.Equal(t, []any{set.Against, set.Headroom, set.Over, set.Basis}, []any{asked.Against, asked.Headroom,
			asked.Over, asked.Basis}, basis)
		assert.Equal(t, isOver, asked.Over, basis)
	}
	threads, err := c.WhatIfQuota(ctx, &hub.WhatQuota{Tenant: "Harvest Routing", Resource: "threads", Ceiling: 1,
		On: fleet, Span: span})
	require.NoError(t, err)
	assert.True(t, threads.Over)
}

func TestSizes_AdviseOnWhatIsThereNow(t *testing.T) {
	c := newCellar(t)
	for i := range int64(15) {
		c.minute("press-1", 600+60*i, 60, had{route, 6, 1000, 37, 41, 2}, had{label, 30, 50, 9, 12, 3})
	}
	c.now = noon.Add(25 * time.Minute)
	span := question.Span{From: noon.Add(10 * time.Minute), To: c.now}
	list, err := c.Sizes(ctx, span, "", 95)
	require.NoError(t, err)
	require.Len(t, list, 1, "the label has no limit")
	a := list[0]
	assert.Equal(t, []any{"route", "press-1", "cpu", "less", "limit", 2.0, 0.25, 1.75, 15, 0},
		[]any{a.Name, a.Host, a.Resource, a.Way, a.By, a.Held, a.Advised, a.Saved, a.Steps, a.Hit})
	assert.InDelta(t, 0.2, a.At, 1e-6, "6 s a minute, and ticks twice as high")
	none, err := c.Sizes(ctx, span, "cellar-1", 95)
	require.NoError(t, err)
	assert.Empty(t, none)
	_, err = c.Sizes(ctx, span, "", 40)
	require.ErrorContains(t, err, "give 50 to 100")
}

// TestEmptying_TakesWhatEachNeededAtOnce: the must is a container of cellar-1, where the probe belongs to the host;
// route and label are on press-1.
func TestEmptying_TakesWhatEachNeededAtOnce(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	e, err := c.Emptying(ctx, &hub.FleetQuestion{Span: span, Percent: 100, Spare: 0.1})
	require.NoError(t, err)
	require.Len(t, e.Hosts, 2)
	assert.Equal(t, []string{"cellar-1"}, e.At, "the less loaded one: both at once cannot be")
	at := map[string]int{e.Hosts[0].Host: 0, e.Hosts[1].Host: 1}
	cellar, press := &e.Hosts[at["cellar-1"]], &e.Hosts[at["press-1"]]
	require.True(t, cellar.CanBe, cellar.Sentence)
	require.True(t, press.CanBe, press.Sentence)
	require.Len(t, cellar.Moves, 1)
	assert.Equal(t, []any{"must", "press-1", 1}, []any{cellar.Moves[0].Name, cellar.Moves[0].To, cellar.Bound})
	assert.InDelta(t, 2*19/60.0, cellar.Moves[0].CPU, 1e-5, "its highest tick")
	assert.Equal(t, []any{"route", "label"}, []any{press.Moves[0].Name, press.Moves[1].Name}, "the larger first")

	_, err = c.Declare(ctx, &hub.PinOrder{Host: "press-1", CPUs: "0-3", Kind: "workload", Holder: "route"})
	require.NoError(t, err)
	e, err = c.Emptying(ctx, &hub.FleetQuestion{Span: span, Percent: 100, Spare: 0.1})
	require.NoError(t, err)
	press = &e.Hosts[1]
	assert.Equal(t, []any{"press-1", false}, []any{press.Host, press.CanBe}, "four CPUs alone, of 3.6")
	assert.Contains(t, press.Sentence, "route needs 4 cores")
	for _, x := range []struct {
		pool           string
		percent, spare float64
		want           string
	}{{"", 49, 0, "50 to 100"}, {"", 95, 1, "0 to 0.9"}, {"attic", 95, 0, `no host is in a pool "attic"`}} {
		_, err := c.Emptying(ctx, &hub.FleetQuestion{Span: span, Pool: x.pool, Percent: x.percent, Spare: x.spare})
		require.ErrorContains(t, err, x.want)
	}
}

// TestDrives_AreJudgedWhereTheyAreKnown: press-1 has 900 bytes free of the filesystem with most, and the must 700 of
// files; the drives of each carry a megabyte a second.
func TestDrives_AreJudgedWhereTheyAreKnown(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(7*time.Minute), 0)
	require.NoError(t, err)
	q := hub.FleetQuestion{Span: span, Percent: 100}
	e, err := c.Emptying(ctx, &q)
	require.NoError(t, err)
	require.Len(t, e.Notes, 1)
	assert.Contains(t, e.Notes[0], "Space for files is not judged on cellar-1, press-1")
	c.dress = func(iv *account.Interval) {
		for i := range iv.Usages {
			if iv.Usages[i].Units[amount.Disk] == 300e3 {
				iv.Usages[i].Figures.Put(amount.SpaceUsed, 700*iv.ElapsedMillis, amount.Counted)
			}
		}
	}
	c.parts = &account.Inventory{Filesystems: []account.Filesystem{{Mount: "/", SizeBytes: 1000, FreeBytes: 900},
		{Mount: "/boot", SizeBytes: 5000, FreeBytes: 100}, {Mount: "/far", FreeBytes: 1 << 40, Unavailable: "away"}}}
	c.minute("press-1", 300, 60, had{route, 31, 1000, 250_000, 41, 2})
	c.minute("cellar-1", 300, 60, had{must, 19, 300, 300_000, 29, 1})
	p, err := c.Place(ctx, &hub.PlaceQuestion{FleetQuestion: q, Workload: c.ids["must"]})
	require.NoError(t, err)
	assert.Empty(t, p.Notes)
	by := map[string]whatif.Fit{}
	for _, f := range p.Hosts {
		by[f.Host] = f
	}
	require.NotNil(t, by["press-1"].RatePart)
	assert.InDelta(t, 1.1, *by["press-1"].RatePart, 0.001, "ticks of 600 and 500 kB/s, of 1 MB/s")
	assert.InDelta(t, 900, *by["press-1"].Space, 1e-9)
	assert.Contains(t, by["press-1"].Sentence, "more than its drives are to carry")
	e, err = c.Emptying(ctx, &q)
	require.NoError(t, err)
	assert.Empty(t, e.Notes)
	for _, x := range e.Hosts {
		if x.Host == "cellar-1" {
			assert.Contains(
				t,
				x.Sentence,
				"must moves 0.6 MB/s to and from drives; where else it fits, the most free is",
			)
		}
	}
	q.Span.From = noon.Add(6 * time.Minute)
	c.minute("press-1", 360, 60, had{route, 31, 1000, 5_000, 41, 2})
	c.dress = func(iv *account.Interval) {
		iv.Usages[0].Figures.Put(amount.SpaceUsed, 700*iv.ElapsedMillis, amount.Counted)
	}
	c.minute("cellar-1", 360, 60, had{must, 19, 300, 3_000, 29, 1})
	for spare, fits := range map[float64]bool{0: true, 0.19: true, 0.21: false} {
		q.Spare = spare
		p, err = c.Place(ctx, &hub.PlaceQuestion{FleetQuestion: q, Workload: c.ids["must"]})
		require.NoError(t, err)
		for _, f := range p.Hosts {
			if f.Host == "press-1" {
				assert.Equal(t, fits, f.Fits, "%v to stay free: %s", spare, f.Sentence)
			}
		}
	}
	q.Spare = 0.21
	e, err = c.Emptying(ctx, &q)
	require.NoError(t, err)
	for _, x := range e.Hosts {
		if x.Host == "cellar-1" {
			assert.Equal(
				t,
				"It cannot be emptied: the files of must take 1 KiB; where else it fits, the most free is 1 KiB, "+
					"on press-1.",
				x.Sentence,
			)
		}
	}
}

// TestPlace_PlaysTheSpanAgain: the must could go to press-1, the route only fits where it is.
func TestPlace_PlaysTheSpanAgain(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	ask := func(q hub.PlaceQuestion) (*whatif.Placing, error) {
		q.FleetQuestion = hub.FleetQuestion{Span: span, Pool: q.Pool, Percent: 100}
		return c.Place(ctx, &q)
	}
	p, err := ask(hub.PlaceQuestion{Workload: c.ids["must"]})
	require.NoError(t, err)
	require.Len(t, p.Hosts, 2)
	at := map[string]whatif.Fit{}
	for _, f := range p.Hosts {
		at[f.Host] = f
	}
	// In the second minute the must had 19 s, and ticks twice as high; the probe 4 s, route 31 s and label 6 s. In the
	// third there are route and label alone, with 43 s and 8 s.
	assert.InDelta(t, 2*(19+4)/60.0, at["cellar-1"].CPU, 1e-4)
	assert.True(t, at["cellar-1"].IsThere)
	assert.InDelta(t, 2*(19+31+6)/60.0, at["press-1"].CPU, 1e-4, "not of the third minute, in which it was not there")
	assert.InDelta(t, 2*(19+31+6)/60.0/8, at["press-1"].CPUPart, 1e-5)
	assert.InDelta(t, 2*(2000+60), at["press-1"].Memory, 2, "of memory the third minute is the highest")
	assert.Equal(t, "must fits best where it is, on cellar-1.", p.Sentence)

	_, err = c.Declare(ctx, &hub.PinOrder{Host: "press-1", CPUs: "0-3", Kind: "workload", Holder: "route"})
	require.NoError(t, err)
	p, err = ask(hub.PlaceQuestion{Workload: c.ids["must"]})
	require.NoError(t, err)
	for _, f := range p.Hosts {
		if f.Host == "press-1" {
			assert.InDelta(t, 4+2*(19+6)/60.0, f.CPU, 1e-4, "four CPUs are the route's alone, however little it uses")
		}
	}
	p, err = ask(hub.PlaceQuestion{Workload: c.ids["route"]})
	require.NoError(t, err)
	assert.Equal(t, []any{"press-1", true, true}, []any{p.Hosts[0].Host, p.Hosts[0].Fits, p.Hosts[0].IsThere})
	assert.False(t, p.Hosts[1].Fits, "cellar-1 has four CPUs, and the must is on them")

	p, err = ask(hub.PlaceQuestion{Needs: hub.Size{CPUs: 3.5, Memory: 1 << 10}})
	require.NoError(t, err)
	assert.Equal(t, []any{"press-1", true, false}, []any{p.Hosts[0].Host, p.Hosts[0].Fits, p.Hosts[1].Fits})
	for want, q := range map[string]hub.PlaceQuestion{
		"belongs to its host":     {Workload: c.ids["probe"]},
		"say what is to be":       {},
		"give numbers from 0":     {Needs: hub.Size{CPUs: -1}},
		"there is no workload":    {Workload: 4711},
		"no host is in a pool":    {FleetQuestion: hub.FleetQuestion{Pool: "vats"}, Needs: hub.Size{CPUs: 1}},
		"and 0 GPUs: give number": {Needs: hub.Size{CPUs: math.NaN()}},
	} {
		_, err := ask(q)
		require.ErrorContains(t, err, want)
	}
}

func TestWhatIfHosts_GoneAndAdded(t *testing.T) {
	c := newCellar(t)
	span, err := c.Span(noon, noon.Add(3*time.Minute), 0)
	require.NoError(t, err)
	ask := func(without []string, size hub.Size, added int) (*whatif.Changed, error) {
		return c.WhatIfHosts(
			ctx,
			&hub.HostsQuestion{FleetQuestion: hub.FleetQuestion{Span: span, Percent: 100, Spare: 0.1},
				Without: without, Size: size, Added: added},
		)
	}
	x, err := ask([]string{"press-1"}, hub.Size{}, 0)
	require.NoError(t, err)
	assert.True(t, x.CanBe, x.Sentence)
	assert.Len(t, x.Moves, 2)
	assert.Equal(t, []any{2, 12.0, 1, 4.0}, []any{x.Before.Hosts, x.Before.CPUs, x.After.Hosts, x.After.CPUs})
	assert.InDelta(t, x.Before.CPUPart*12/4, x.After.CPUPart, 1e-5, "the same on fewer CPUs, but for the kernel's")
	x, err = ask([]string{"cellar-1", "press-1"}, hub.Size{CPUs: 1, Memory: 1 << 20}, 0)
	require.NoError(t, err)
	assert.False(t, x.CanBe)
	assert.Nil(t, x.Needed, "the route needs more than one CPU")
	x, err = ask([]string{"cellar-1", "press-1"}, hub.Size{CPUs: 2, Memory: 1 << 20}, 2)
	require.NoError(t, err)
	assert.True(t, x.CanBe)
	assert.Equal(t, 2, *x.Needed)
	for _, bad := range []struct {
		without []string
		size    hub.Size
		added   int
		want    string
	}{{[]string{"office-9"}, hub.Size{}, 0, "office-9"}, {nil, hub.Size{}, 1, "of which size"},
		{nil, hub.Size{CPUs: 4}, 0, "give its CPUs and its memory"},
		{nil, hub.Size{CPUs: 4, Memory: 1}, 65, "0 to 64"}} {
		_, err := ask(bad.without, bad.size, bad.added)
		require.ErrorContains(t, err, bad.want)
	}
}

// TestFilling_ByTheHighestHourOfEachDay has four days of cellar-1, of which one hour stands out, and three of press-1.
func TestFilling_ByTheHighestHourOfEachDay(t *testing.T) {
	c := newCellar(t)
	c.now = noon.Add(6 * 24 * time.Hour)
	day := func(n int64) int64 { return 12*3600 + n*86400 } // noon is the begin
	for d := range int64(4) {
		for h := range int64(24) {
			if d == 3 && h > 10 {
				continue // the last is not whole
			}
			cpu := int64(1800)
			if h == 10 {
				cpu = 3600 + 720*d // 1 core, and 0.2 more each day
			}
			c.minute("cellar-1", day(d)+h*3600, 3600, had{must, cpu, 100, 0, 0, 0})
			if d > 0 {
				c.minute("press-1", day(d)+h*3600, 3600, had{route, 3600, 100, 0, 0, 0})
			}
		}
	}
	span, err := c.Span(noon, noon.Add(5*24*time.Hour), 0)
	require.NoError(t, err)
	lines, err := c.Filling(ctx, span, "", 0.1)
	require.NoError(t, err)
	at := map[string]whatif.Fill{}
	for _, g := range lines {
		at[g.On+" "+g.Resource] = g
	}
	assert.Equal(t, 3, at["cellar-1 cpu"].Days)
	assert.InDelta(t, 0.2, *at["cellar-1 cpu"].PerDay, 1e-4)
	assert.InDelta(t, 1.4, *at["cellar-1 cpu"].Now, 1e-4)
	assert.InDelta(t, 3.6, at["cellar-1 cpu"].Full, 1e-9)
	assert.Equal(
		t,
		time.Date(2026, 10, 25, 0, 0, 0, 0, time.UTC),
		*at["cellar-1 cpu"].Fills,
		"2.2 cores more, in 11 days",
	)
	assert.Equal(t, "cellar-1", lines[0].On, "what is full soonest is first")
	assert.Equal(t, 2, at["press-1 cpu"].Days)
	assert.Nil(t, at["press-1 cpu"].Fills)
	assert.Equal(
		t,
		2,
		at["all hosts cpu"].Days,
		"of the first day one host told nothing: it would be growth that is none",
	)
	_, err = c.SetPools(ctx, "cellar-1", []string{"casks"})
	require.NoError(t, err)
	casks, err := c.Filling(ctx, span, "casks", 0.1)
	require.NoError(t, err)
	assert.Equal(t, at["cellar-1 cpu"], casks[0])
	_, err = c.Filling(ctx, span, "vats", 0.1)
	require.ErrorContains(t, err, "vats")
	_, err = c.Filling(ctx, span, "", 1)
	require.ErrorContains(t, err, "0 to 0.9")
}
