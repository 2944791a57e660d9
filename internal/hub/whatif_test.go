package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/question"
	"vinescale/core/tenancy"
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
		asked, err := c.WhatIfQuota(ctx, "Harvest Routing", "cpu", 0.6, on, span)
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
	for _, x := range []struct {
		tenant, of string
		ceiling    float64
		on         tenancy.Scope
		want       string
	}{
		{"Nobody", "cpu", 1, tenancy.Scope{Kind: tenancy.Fleet}, `no tenant "Nobody"`},
		{"Harvest Routing", "wine", 1, tenancy.Scope{Kind: tenancy.Fleet}, "wine"},
		{"Harvest Routing", "cpu", -1, tenancy.Scope{Kind: tenancy.Fleet}, "from 0"},
		{"Harvest Routing", "cpu", 1, tenancy.Scope{Kind: tenancy.OneHost, Name: "attic"}, "no host is"},
	} {
		_, err := c.WhatIfQuota(ctx, x.tenant, x.of, x.ceiling, x.on, span)
		require.ErrorContains(t, err, x.want)
	}
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
	e, err := c.Emptying(ctx, span, "", 100, 0.1)
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
	e, err = c.Emptying(ctx, span, "", 100, 0.1)
	require.NoError(t, err)
	press = &e.Hosts[1]
	assert.Equal(t, []any{"press-1", false}, []any{press.Host, press.CanBe}, "four CPUs alone, of 3.6")
	assert.Contains(t, press.Sentence, "route needs 4 cores")
	for _, x := range []struct {
		pool           string
		percent, spare float64
		want           string
	}{{"", 49, 0, "50 to 100"}, {"", 95, 1, "0 to 0.9"}, {"attic", 95, 0, `no host is in a pool "attic"`}} {
		_, err := c.Emptying(ctx, span, x.pool, x.percent, x.spare)
		require.ErrorContains(t, err, x.want)
	}
}
