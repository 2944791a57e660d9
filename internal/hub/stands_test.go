package hub_test

import (
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
	"vinescale/internal/hub"
)

// order sets a quota from long ago on.
func (f *fixture) order(tenant, resource string, ceiling float64, change func(*hub.QuotaOrder)) hub.Quota {
	f.t.Helper()
	o := hub.QuotaOrder{Tenant: tenant, Resource: resource, Limit: tenancy.Limit{Ceiling: &ceiling},
		From: noon.AddDate(0, -2, 0)}
	if change != nil {
		change(&o)
	}
	q, err := f.SetQuota(ctx, &o)
	require.NoError(f.t, err)
	return q
}

func on(kind, name string) func(*hub.QuotaOrder) {
	return func(o *hub.QuotaOrder) { o.ScopeKind, o.ScopeOn = kind, name }
}

// TestStands_AreOfTheirScope: on all hosts, on those of a pool, on one; before and after the hours are summed.
func TestStands_AreOfTheirScope(t *testing.T) {
	c := newCellar(t)
	_, err := c.SetPools(ctx, "press-1", []string{"presses"})
	require.NoError(t, err)
	c.order("Harvest Routing", "cpu", 1, nil)
	c.order("Harvest Routing", "cpu", 0.2, on("host", "cellar-1"))
	c.order("Harvest Routing", "cpu", 0.6, on("pool", "presses"))
	c.order("Harvest Routing", "memory", 3000, nil)
	c.order("Harvest Routing", "threads", 6, nil)
	span := question.Span{From: noon, To: noon.Add(3 * time.Minute)}
	for range 2 {
		b, err := c.Balance(ctx, span, "")
		require.NoError(t, err)
		type line struct {
			Resource, On    string
			Used, Headroom  float64
			Minutes, Trends int
		}
		var lines []line
		for _, s := range b.Stands {
			x := line{s.Resource, s.On, *s.Used, *s.Headroom, 0, len(s.Trend)}
			if s.Exceeded != nil {
				x.Minutes = s.Exceeded.Minutes
			}
			lines = append(lines, x)
		}
		// The must did 19 s on cellar-1 in the second minute, the route 31 s then on press-1 and 43 s in the third.
		// Of each host two minutes were recorded: means are over these.
		near := func(want line, got line) {
			assert.InDelta(t, want.Used, got.Used, 1e-6, "%+v", got)
			assert.InDelta(t, want.Headroom, got.Headroom, 1e-6, "%+v", got)
			got.Used, got.Headroom, want.Used, want.Headroom = 0, 0, 0, 0
			assert.Equal(t, want, got)
		}
		require.Len(t, lines, 5)
		near(line{"cpu", "", 93.0 / 120, 1 - 93.0/120, 0, 3}, lines[0])
		near(line{"cpu", "cellar-1", 19.0 / 120, 0.2 - 19.0/120, 1, 2}, lines[1])
		near(line{"cpu", "presses", 74.0 / 120, 0.6 - 74.0/120, 1, 2}, lines[2])
		near(line{"memory", "", 3300 / 2.0, 3000 - 3300/2.0, 0, 3}, lines[3])
		near(line{"threads", "", 6, 0, 0, 0}, lines[4])
		assert.True(t, b.Stands[2].Over)
		assert.Equal(t, noon.Add(2*time.Minute), *b.Stands[2].Exceeded.First)

		one, err := c.Balance(ctx, span, "cellar-1")
		require.NoError(t, err)
		require.Len(t, one.Stands, 1, "on a host its own quotas count")
		assert.Equal(t, 0.2, *one.Tenants[2].Uses[amount.CPU].Quota)
		c.now = c.now.Add(24 * time.Hour)
		require.NoError(t, c.Fold(ctx))
		c.now = c.now.Add(-24 * time.Hour)
	}
	whole, err := c.Balance(ctx, question.Span{From: noon.Add(-time.Hour), To: noon.AddDate(0, 0, 2)}, "")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, 1}, []int{whole.Stands[0].Exceeded.Minutes, whole.Stands[1].Exceeded.Minutes,
		whole.Stands[2].Exceeded.Minutes}, "of hours it is known just as of minutes")
	assert.Equal(t, "hour", whole.Stands[0].P95Of)
}

// TestStands_PartsCountInTheWhole: and a part may not have more than what is left, unless that is said.
func TestStands_PartsCountInTheWhole(t *testing.T) {
	c := newCellar(t)
	for _, name := range []string{"Vineyard Research", "Leaf Vision"} {
		_, err := c.AddTenant(ctx, name)
		require.NoError(t, err)
	}
	require.NoError(t, c.SetParent(ctx, "Harvest Routing", "Vineyard Research"))
	require.NoError(t, c.SetParent(ctx, "Leaf Vision", "Vineyard Research"))
	require.NoError(t, c.SetParent(ctx, "Cellar Intake", "Harvest Routing"))
	requireProblem(t, c.SetParent(ctx, "Vineyard Research", "Cellar Intake"), hub.Conflict, "go in a circle")
	requireProblem(t, c.SetParent(ctx, "Leaf Vision", "Leaf Vision"), hub.Conflict, "go in a circle")
	requireProblem(t, c.SetParent(ctx, "Leaf Vision", "Winter"), hub.NotFound, "no tenant")

	c.order("Vineyard Research", "cpu", 2, nil)
	b, err := c.Balance(ctx, question.Span{From: noon, To: noon.Add(3 * time.Minute)}, "")
	require.NoError(t, err)
	require.Len(t, b.Stands, 1)
	assert.InDelta(t, (93.0+8)/120, *b.Stands[0].Used, 1e-6, "with parts of parts")
	promised := func(on, resource string) explain.Promise {
		b, err := c.Balance(ctx, question.Span{From: noon, To: noon.Add(3 * time.Minute)}, "")
		require.NoError(t, err)
		at := slices.IndexFunc(b.Promised, func(p explain.Promise) bool { return p.On == on && p.Resource == resource })
		require.GreaterOrEqual(t, at, 0)
		return b.Promised[at]
	}
	fleet := promised("", "cpu")
	assert.InDelta(t, 12, fleet.Capacity, 1e-6, "of both hosts")
	assert.InDelta(t, 2, *fleet.Quotas, 1e-6)
	assert.InDelta(t, 2, fleet.Held, 1e-6, "the limit of the route")
	assert.InDelta(t, 2, promised("press-1", "cpu").Held, 1e-6)
	assert.Nil(t, promised("press-1", "cpu").Quotas)
	assert.Equal(t, []string{"Harvest Routing", "Cellar Intake", "Leaf Vision"}, b.Stands[0].Parts)
	for _, x := range b.Tenants {
		if x.Tenant == "Vineyard Research" {
			assert.Nil(t, x.Uses[amount.CPU].Quota, "its own work alone is not held against what all have")
			assert.Equal(t, []string{"Harvest Routing", "Leaf Vision"}, x.Parts)
		}
	}
	set := func(tenant string, ceiling float64, isBeyond bool) error {
		_, err := c.SetQuota(
			ctx,
			&hub.QuotaOrder{Tenant: tenant, Resource: "cpu", Limit: tenancy.Limit{Ceiling: &ceiling},
				From: noon.AddDate(0, -1, 0), IsBeyond: isBeyond},
		)
		return err
	}
	require.NoError(t, set("Harvest Routing", 1.5, false))
	assert.InDelta(t, 2, *promised("", "cpu").Quotas, 1e-6, "what a part may have is in what its whole may")
	requireProblem(t, set("Leaf Vision", 0.6, false), hub.Conflict,
		"the parts of Vineyard Research would have 2.1 of cpu together, and it has 2 itself")
	require.NoError(t, set("Leaf Vision", 0.5, false), "just what is left")
	require.NoError(t, set("Leaf Vision", 0.6, true))
	requireProblem(t, set("Vineyard Research", 1.9, false), hub.Conflict, "would have 2.1 of cpu together")
	require.NoError(t, c.SetParent(ctx, "Leaf Vision", ""))
	require.NoError(t, set("Vineyard Research", 1.9, false), "a tenant that is no part takes nothing")
}

// TestStands_TellWhoWasHurt: while b was above its quota on terrace-1, c waited there.
func TestStands_TellWhoWasHurt(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	f.tenant("Leaf Vision", "owner == 't.fink'")
	waits := int64(0)
	f.dress = func(iv *account.Interval) {
		for i := range iv.Usages {
			iv.Usages[i].Figures.Put(amount.CPUWait, waits, amount.Counted)
		}
	}
	require.NoError(t, f.send(0, job("a", "m.abt"), job("c", "t.fink")))
	waits = 30e6
	require.NoError(t, f.send(1, job("a", "m.abt"), job("b", "m.abt"), job("c", "t.fink")))
	waits = 50e6
	require.NoError(t, f.send(2, job("a", "m.abt"), job("c", "t.fink")))
	f.order("Frost Watch", "cpu", 1.5, nil)
	f.order("Leaf Vision", "cpu", 0.5, nil)
	f.order("Leaf Vision", "disk", 100, nil)
	b, err := f.Balance(ctx, question.Span{From: noon, To: noon.Add(3 * time.Minute)}, "")
	require.NoError(t, err)
	require.Len(t, b.Stands, 3)
	frost := b.Stands[0]
	assert.Equal(t, 1, frost.Exceeded.Minutes)
	require.Len(t, frost.Hurt, 1)
	assert.Equal(t, []any{"c", "Leaf Vision", "terrace-1", 30.0, 30.0 / 90}, []any{frost.Hurt[0].Name,
		frost.Hurt[0].Tenant, frost.Hurt[0].Host, frost.Hurt[0].Waited, frost.Hurt[0].Part})
	assert.Len(t, b.Stands[1].Hurt, 2, "a and b waited while c was above")
	disk := b.Stands[2]
	assert.Equal(t, []any{3, 0}, []any{disk.Exceeded.Minutes, len(disk.Hurt)}, "that hurt nobody")
	assert.NotEmpty(t, disk.HurtBy)
}

// TestAllowances_TellWhatIsSpentInTheirWindow: a day of a zone that is not that of UTC.
func TestAllowances_TellWhatIsSpentInTheirWindow(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	// An hour of intervals on each of two days before, and on the day itself; in Vienna, Sunday began at 22:00 UTC.
	from := func(hours int) { f.now = noon.Add(time.Duration(hours+1) * time.Hour) }
	for _, hour := range []int{-48, -24, -15, -13, 0} {
		from(hour)
		require.NoError(t, f.send(hour*60, job("a", "m.abt")))
	}
	f.now = noon.Add(time.Hour)
	allow := func(window, zone string) func(*hub.QuotaOrder) {
		return func(o *hub.QuotaOrder) { o.Window, o.Limit.Zone = window, zone }
	}
	minute := 1.0 / 60 // core-hours that a minute spends
	f.order("Frost Watch", "cpu", 2.5*minute, allow("day", "Europe/Vienna"))
	f.order("Frost Watch", "cpu", 4.5*minute, allow("week", ""))
	f.order("Frost Watch", "disk", 1.5e6, allow("14 days from 2026-10-11", "UTC"))
	f.order("Frost Watch", "cpu", 9, nil)
	b, err := f.Balance(ctx, question.Span{From: noon, To: noon.Add(time.Hour)}, "")
	require.NoError(t, err)
	require.Len(t, b.Stands, 1, "an allowance is no ceiling")
	type line struct{ window, zone, from, to, state string }
	var lines []line
	spent := []float64{}
	for _, a := range b.Allowances {
		lines = append(lines, line{a.Window, a.Zone, a.From.Format("02 15:04"), a.To.Format("02 15:04"), a.State})
		spent = append(spent, *a.Spent)
		assert.InDelta(t, *a.Amount, *a.Spent+*a.Left, 1e-9)
		assert.Nil(t, a.Expected)
		assert.Equal(t, "no whole day is known yet that a forecast could go by", a.Reason)
	}
	assert.Equal(t, []line{
		{"day", "Europe/Vienna", "10 22:00", "11 22:00", "fine"},
		{"week", "UTC", "05 00:00", "12 00:00", "exhausted"},
		{"14 days from 2026-10-11", "UTC", "11 00:00", "25 00:00", "fine"},
	}, lines)
	assert.InDeltaSlice(t, []float64{2 * minute, 5 * minute, 1e6}, spent, 1e-9)

	early, err := f.Balance(ctx, question.Span{From: noon.Add(-48 * time.Hour), To: noon.Add(-14 * time.Hour)}, "")
	require.NoError(t, err)
	assert.Equal(t, []any{"09 22:00", 2 * minute}, []any{early.Allowances[0].From.Format("02 15:04"),
		*early.Allowances[0].Spent}, "the window is that of the span's end, and what came later is not spent yet")
}

func TestSetQuota_SaysWhatIsWrong(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	four := 4.0
	sound := hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu", Limit: tenancy.Limit{Ceiling: &four}}
	for _, c := range []struct {
		change func(o *hub.QuotaOrder)
		class  hub.Class
		why    string
	}{
		{func(o *hub.QuotaOrder) { o.Resource = "wine" }, hub.Invalid, "choose one of cpu"},
		{func(o *hub.QuotaOrder) { o.Resource = "cpu_wait_us" }, hub.Invalid, "choose one of cpu"},
		{func(o *hub.QuotaOrder) { o.ScopeKind, o.ScopeOn = "rack", "4" }, hub.Invalid, "choose fleet, pool or host"},
		{func(o *hub.QuotaOrder) { o.ScopeKind, o.ScopeOn = "pool", "presses" }, hub.NotFound,
			"no host is pool presses"},
		{func(o *hub.QuotaOrder) { o.ScopeKind, o.ScopeOn = "host", "press-9" }, hub.NotFound,
			"no host is host press-9"},
		{func(o *hub.QuotaOrder) { o.ScopeKind = "host" }, hub.Invalid, "has a name"},
		{func(o *hub.QuotaOrder) { o.Window = "year" }, hub.Invalid, "give day, week, month"},
		{func(o *hub.QuotaOrder) { o.Window, o.Limit.Zone = "day", "Middle/Earth" }, hub.Invalid, "does not exist"},
		{func(o *hub.QuotaOrder) { o.Window, o.Limit.Zone = "day", "Local" }, hub.Invalid, "does not exist"},
		{func(o *hub.QuotaOrder) { o.Limit.Zone = "UTC" }, hub.Invalid, "only an allowance has windows"},
		{func(o *hub.QuotaOrder) { o.Window, o.Resource = "day", "threads" }, hub.Invalid, "and no allowance"},
		{func(o *hub.QuotaOrder) { o.Limit.Basis = "asked" }, hub.Invalid, "choose used, held or greater"},
		{func(o *hub.QuotaOrder) { o.Limit.Basis, o.Resource = "held", "disk" }, hub.Invalid, "are held"},
		{func(o *hub.QuotaOrder) { o.Limit.Basis, o.Window = "held", "day" }, hub.Invalid, "what is spent"},
	} {
		o := sound
		c.change(&o)
		_, err := f.SetQuota(ctx, &o)
		requireProblem(t, err, c.class, c.why)
	}
	all, err := f.QuotaChanges(ctx, "", "")
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was half-written")

	// The same again changes nothing; another window, scope or basis is another.
	change := func(o *hub.QuotaOrder) { o.Window = "Month" }
	first := f.order("Frost Watch", "cpu", 4, change)
	again := f.order("Frost Watch", "cpu", 4, func(o *hub.QuotaOrder) { o.Window, o.Limit.Zone = "month", "UTC" })
	assert.WithinDuration(t, first.MadeAt, again.MadeAt, time.Microsecond, "it is the one that was made first")
	f.order("Frost Watch", "cpu", 4, nil)
	f.order("Frost Watch", "cpu", 4, on("host", "terrace-1"))
	held := f.order("Frost Watch", "cpu", 4, func(o *hub.QuotaOrder) { o.Limit.Basis = tenancy.Held })
	assert.Equal(t, tenancy.Held, held.Limit.Basis)
	standing, err := f.Quotas(ctx)
	require.NoError(t, err)
	assert.Len(t, standing, 3, "the basis of a quota is a change of it")
	require.NoError(t, f.RemoveQuota(ctx, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu", Window: "month"}))
	standing, err = f.Quotas(ctx)
	require.NoError(t, err)
	assert.Len(t, standing, 2)
	var stands []explain.Stand
	b, err := f.Balance(ctx, f.span(), "")
	require.NoError(t, err)
	stands = b.Stands
	assert.Len(t, stands, 2, "where nothing was recorded they are told of, with the reason")
	assert.Equal(t, "nothing was recorded in this span", stands[0].Reason)
}
