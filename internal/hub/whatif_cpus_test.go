package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/whatif"
	"vinescale/internal/hub"
)

// TestWhatIfPins_OnTheCPUOfAnother: the route ran on CPU 2 of press-1 for 31 and 43 s, label on 3 for 6 and 8.
func TestWhatIfPins_OnTheCPUOfAnother(t *testing.T) {
	c := newCellar(t)
	for cpus, tenant := range map[string]string{"7": "Cellar Intake", "4": "Harvest Routing"} {
		_, err := c.Declare(
			ctx,
			&hub.PinOrder{Host: "press-1", CPUs: cpus, Holder: tenant, From: noon.AddDate(0, 0, -9)},
		)
		require.NoError(t, err)
	}
	_, err := c.Declare(ctx, &hub.PinOrder{Host: "cellar-1", CPUs: "3", Holder: "Cellar Intake",
		From: noon.AddDate(0, 0, -9)})
	require.NoError(t, err)
	span, err := c.Span(noon, noon.Add(5*time.Minute), 0)
	require.NoError(t, err)
	q := hub.WhatPins{Holder: "Harvest Routing", Host: "press-1", CPUs: "3", Span: span}
	x, err := c.WhatIfPins(ctx, &q)
	require.NoError(t, err)
	assert.Equal(t, []any{"press-1", "Harvest Routing", "3", true, 60.0, 2}, []any{x.Host, x.Holder, x.CPUs, x.IsAlone,
		x.Step, x.Steps})
	assert.Equal(
		t,
		[]int{1, 0, 2},
		[]int{x.Theirs.CPUs, x.Theirs.Over, x.Theirs.Touched},
		"its ticks were twice as high",
	)
	assert.InDelta(t, 2*43/60.0, x.Theirs.Highest, 1e-5)
	assert.InDeltaSlice(t, []float64{74, 14, 120 - 74}, []float64{x.Strayed, x.Off, x.Idle}, 1e-9)
	require.Len(t, x.Movers, 1)
	assert.Equal(
		t,
		[]any{"label", "unassigned", 14.0},
		[]any{x.Movers[0].Name, x.Movers[0].Tenant, x.Movers[0].Seconds},
	)
	require.NotNil(t, x.Others)
	assert.Equal(t, 6, x.Others.CPUs, "but 3 and the 7 of another; the 4 of its own comes back")
	assert.InDelta(t, 14/120.0, x.Others.Mean, 1e-9)
	assert.Nil(t, x.Spared, "nobody tells for how long it waited")

	c.waits = map[string]int64{"route": 11, "label": 5}
	c.minute("press-1", 180, 60, had{route, 20, 1000, 37, 41, 2}, had{label, 6, 50, 9, 12, 5})
	c.minute("press-1", 240, 60, had{route, 20, 1000, 37, 41, 2}, had{label, 6, 50, 9, 12, 3})
	q.Span.From = noon.Add(3 * time.Minute)
	for kind, holder := range map[string]string{"workload": "route", "rule": "owner == 'svc-route'",
		"tenant": q.Holder} {
		q.Kind, q.Holder = kind, holder
		x, err = c.WhatIfPins(ctx, &q)
		require.NoError(t, err)
		require.NotNil(t, x.Spared, kind)
		assert.Equal(t, []float64{11, 40, 6}, []float64{*x.Spared, x.Strayed, x.Off}, "%s: label was on 5 first", kind)
	}
	q.IsShared = true
	x, err = c.WhatIfPins(ctx, &q)
	require.NoError(t, err)
	assert.Nil(t, x.Others)
	for want, of := range map[string]hub.WhatPins{
		"CPU 7 of press-1 is declared for another": {CPUs: "6-7"},
		"would leave none of press-1":              {CPUs: "0-6"},
		"CPU 8-9 is not there: press-1 has":        {CPUs: "7-9"},
		"no CPUs were given":                       {CPUs: ""},
		"no host":                                  {CPUs: "1", Host: "attic"},
		"nothing of Cellar Intake ran on press-1":  {CPUs: "1", Holder: "Cellar Intake"},
		"no tenant":                                {CPUs: "1", Holder: "Nobody"},
		"choose tenant, workload or rule":          {CPUs: "1", Kind: "pool"},
		"is not a CPU number":                      {CPUs: "one"},
	} {
		of.Span = span
		if of.Host == "" {
			of.Host = "press-1"
		}
		if of.Holder == "" {
			of.Holder = "Harvest Routing"
		}
		_, err := c.WhatIfPins(ctx, &of)
		require.ErrorContains(t, err, want)
	}
}

// TestWhatIfWeight_WhereItsCPUsAreShort: two containers want all of two CPUs in twenty minutes, and not in the next.
func TestWhatIfWeight_WhereItsCPUsAreShort(t *testing.T) {
	c := newCellar(t)
	weighed := func(name, owner, weights string) account.Workload {
		return account.Workload{Key: "container:" + name, Kind: amount.Container, Name: name, Owner: owner,
			Allowed: "0-1", Path: "/machine.slice/" + name, Facts: map[string]string{account.FactWeights: weights}}
	}
	still := weighed("still", "svc-cellar", "100/100")
	still.Allowed = "2-7"
	sorter, vat := weighed("sorter", "svc-route", "100/100"), weighed("vat", "svc-cellar", "100/100")
	c.waits = map[string]int64{"sorter": 60, "vat": 60}
	for minute := range int64(20) {
		c.minute(
			"press-1",
			600+60*minute,
			60,
			had{sorter, 60, 1, 1, 1, 0},
			had{vat, 60, 1, 1, 1, 1},
			had{still, 30, 1, 1, 1, 4},
		)
	}
	c.waits = map[string]int64{"sorter": 0, "vat": 0}
	c.minute("press-1", 1800, 60, had{sorter, 20, 1, 1, 1, 0}, had{vat, 60, 1, 1, 1, 1})
	found, err := c.Find(ctx, "sorter", "")
	require.NoError(t, err)
	span, err := c.Span(noon, noon.Add(time.Hour), 0)
	require.NoError(t, err)
	x, err := c.WhatIfWeight(ctx, &hub.WhatWeight{Workload: found[0].ID, Weight: 300, Span: span})
	require.NoError(t, err)
	assert.Equal(t, []any{"sorter", "press-1", 100.0, 60.0, 21, 20, 0}, []any{x.Workload.Name, x.Host, x.Now, x.Step,
		x.Steps, x.Short, x.Untold})
	assert.InDeltaSlice(t, []float64{1200, 1200, 1200, 1800}, []float64{x.Ran, x.Waited, x.Fair, x.Then}, 1e-6)
	require.Len(t, x.Others, 1, "still runs elsewhere")
	assert.Equal(t, []any{"vat", "Cellar Intake"}, []any{x.Others[0].Name, x.Others[0].Tenant})
	for want, q := range map[string]hub.WhatWeight{
		"give 1 to 10000":               {Workload: found[0].ID, Weight: 0.5},
		"no cgroup of its own":          {Workload: c.ids["route"], Weight: 10},
		"10000, as the kernel":          {Workload: found[0].ID, Weight: 10_001},
		"no workload of the number 999": {Workload: 999, Weight: 10},
	} {
		q.Span = span
		_, err := c.WhatIfWeight(ctx, &q)
		require.ErrorContains(t, err, want)
	}
	none, err := c.WhatIfWeight(ctx, &hub.WhatWeight{Workload: found[0].ID, Weight: 300, Span: c.two()})
	require.NoError(t, err)
	assert.Equal(t, whatif.Weighed{Workload: none.Workload, Host: "press-1", Weight: 300, Step: 60,
		Others: []whatif.WeighedOther{}, Sentence: "Nothing was recorded of it in this span."}, *none)
}
