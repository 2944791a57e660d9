package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

// told shows what is null as -1.
func told(list []*float64) []float64 {
	out := make([]float64, len(list))
	for i, v := range list {
		out[i] = -1
		if v != nil {
			out[i] = *v
		}
	}
	return out
}

func TestSeries_OfTheCellarByTheMinute(t *testing.T) {
	c := newCellar(t)
	ask := func(change func(*hub.SeriesQuestion)) *explain.Series {
		q := hub.SeriesQuestion{Asked: hub.Asked{Span: c.two(), Host: ""}, Measure: amount.CPU, Step: "1m"}
		q.Span.To = noon.Add(4 * time.Minute)
		change(&q)
		s, err := c.Series(ctx, &q)
		require.NoError(t, err)
		return s
	}
	groups := func(s *explain.Series) map[string][]float64 {
		got := map[string][]float64{}
		for i := range s.Groups {
			got[s.Groups[i].Name] = told(s.Groups[i].Mean)
		}
		return got
	}
	// The first minute of cellar-1 ends at 12:01:00, after 60 s in two intervals; the fourth was told of nobody.
	s := ask(func(q *hub.SeriesQuestion) { q.By = "workload" })
	assert.Equal(t, []float64{60, 60, 60, 0}, s.Seconds)
	assert.Equal(t, explain.PeakOfTick, s.PeakOf)
	for name, want := range map[string][]float64{"must": {8. / 60, 19. / 60, -1, -1},
		"probe": {3. / 60, 4. / 60, -1, -1},
		"route": {-1, 31. / 60, 43. / 60, -1}, "label": {-1, 6. / 60, 8. / 60, -1}} {
		assert.InDeltaSlice(t, want, groups(s)[name], 1e-9, "%s, whose host was silent meanwhile", name)
	}
	at := func(name string) *explain.SeriesGroup {
		for i := range s.Groups {
			if s.Groups[i].Name == name {
				return &s.Groups[i]
			}
		}
		return nil
	}
	assert.InDeltaSlice(
		t,
		[]float64{3. / 20 * 2, 19. / 60 * 2, -1, -1},
		told(at("must").Peak),
		1e-5,
		"the highest tick",
	)
	assert.Equal(t, []any{"cellar-1", c.ids["must"]}, []any{at("must").Host, at("must").ID})
	assert.InDelta(t, 0.05, *at("probe").Least, 1e-9)

	s = ask(func(q *hub.SeriesQuestion) { q.By, q.First = "workload", 1 })
	assert.Equal(t, []string{"route"}, []string{s.Groups[0].Name})
	assert.Equal(t, 3, s.InRest)
	assert.InDeltaSlice(t, []float64{11. / 60, 29. / 60, 8. / 60, -1}, told(s.Rest.Mean), 1e-9)

	s = ask(func(q *hub.SeriesQuestion) { q.By = "tenant" })
	assert.InDeltaSlice(t, []float64{0, 50. / 60, 43. / 60, -1}, groups(s)["Harvest Routing"], 1e-9,
		"by whose it was at the time")
	assert.InDeltaSlice(t, []float64{8. / 60, 0, 0, -1}, groups(s)["Cellar Intake"], 1e-9)
	assert.Equal(t, explain.PeakOfMinute, s.PeakOf)
	assert.InDelta(t, 12, *s.Capacity[1], 1e-9, "4 and 8 CPUs")
	for k := range 3 {
		sum := *s.Kernel[k] + *s.Residual[k]
		for i := range s.Groups {
			sum += *s.Groups[i].Mean[k]
		}
		assert.InDelta(t, *s.Used[k], sum, 1e-9, "the ledger balances in each step")
	}
	require.NotEmpty(t, s.Uncovered)

	s = ask(func(q *hub.SeriesQuestion) { q.Host, q.By, q.Step = "press-1", "", "2m" })
	assert.InDeltaSlice(t, []float64{37. / 60, 51. / 60}, groups(s)["all"], 1e-9)
	s = ask(func(q *hub.SeriesQuestion) { q.By, q.Where = "user", "kind == 'container'" })
	assert.Equal(t, [][]float64{{0, 31. / 60, 43. / 60, -1}, {8. / 60, 19. / 60, 0, -1}},
		[][]float64{groups(s)["svc-route"], groups(s)["svc-cellar"]})
	assert.Nil(t, s.Capacity)
	s = ask(func(q *hub.SeriesQuestion) { q.By, q.Workload = "workload", c.ids["label"] })
	assert.Len(t, s.Groups, 1)
	assert.InDelta(t, 6./60, *s.Groups[0].Mean[1], 1e-9)
	s = ask(func(q *hub.SeriesQuestion) { q.Workload, q.Where = c.ids["label"], "kind == 'vm'" })
	assert.Empty(t, s.Groups)
	s = ask(func(q *hub.SeriesQuestion) { q.By, q.Host = "cpu", "cellar-1" })
	assert.Equal(
		t,
		map[string][]float64{"CPU 0": {8. / 60, 0, -1, -1}, "CPU 1": {3. / 60, 23. / 60, -1, -1}},
		groups(s),
	)
	s = ask(func(q *hub.SeriesQuestion) { q.By, q.Tenant = "program", "Cellar Intake" })
	assert.Len(t, s.Groups, 2)

	c.now = noon.Add(4 * time.Hour)
	require.NoError(t, c.Fold(ctx))
	for _, step := range []string{"1m", "10m", "1h", "1d"} {
		s = ask(func(q *hub.SeriesQuestion) {
			q.By, q.Step, q.Span.From, q.Span.To = "workload", step, noon.Truncate(
				24*time.Hour,
			), noon.Add(
				3*time.Hour,
			)
		})
		assert.InDelta(t, 19./60*2, *at("must").Most, 1e-5, "its highest tick is seen in steps of %s", step)
	}

	for want, change := range map[string]func(*hub.SeriesQuestion){
		"choose one of auto, 1m":      func(q *hub.SeriesQuestion) { q.Step = "7m" },
		"cannot group by":             func(q *hub.SeriesQuestion) { q.By = "colour" },
		"choose a longer step":        func(q *hub.SeriesQuestion) { q.Span.From = noon.AddDate(0, -1, 0) },
		"only CPU time can be told":   func(q *hub.SeriesQuestion) { q.By, q.Measure = "cpu", amount.Memory },
		"there is no tenant":          func(q *hub.SeriesQuestion) { q.Tenant = "Nobody" },
		"the filter does not compile": func(q *hub.SeriesQuestion) { q.Where = "kid" },
	} {
		q := hub.SeriesQuestion{Asked: hub.Asked{Span: c.two()}, Measure: amount.CPU, Step: "1m"}
		change(&q)
		_, err := c.Series(ctx, &q)
		assert.ErrorContains(t, err, want)
	}
}

// TestSeries_WhatNobodyHadIsTheSameHoweverItIsGrouped: not all time is told by CPU, by program or by part, and what was
// charged to nobody is what the ledger says.
func TestSeries_WhatNobodyHadIsTheSameHoweverItIsGrouped(t *testing.T) {
	c := newCellar(t)
	for _, by := range []string{"", "workload", "tenant", "user", "host", "account", "program", "family", "cpu",
		"part"} {
		for _, m := range []amount.Measure{amount.CPU, amount.Network} {
			if m != amount.CPU && (by == "cpu" || by == "part") {
				continue
			}
			for _, first := range []int{0, 1} {
				s, err := c.Series(ctx, &hub.SeriesQuestion{Asked: hub.Asked{Span: c.two()}, Measure: m, By: by,
					First: first, Step: "1m"})
				require.NoError(t, err)
				l, err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.two()}, Measure: m, By: "tenant"})
				require.NoError(t, err)
				sum := 0.0
				for k, residual := range told(s.Residual) {
					sum += residual * s.Seconds[k]
				}
				assert.InDelta(t, *l.Residual, sum, 1e-6, "%s by %q, the first %d", m, by, first)
			}
		}
	}
}

func TestSeries_OfAPoolIsOfItsHostsAlone(t *testing.T) {
	c := newCellar(t)
	_, err := c.SetPools(ctx, "cellar-1", []string{"casks"})
	require.NoError(t, err)
	ask := func(host, pool, by string) (*explain.Series, error) {
		return c.Series(ctx, &hub.SeriesQuestion{Asked: hub.Asked{Span: c.two(), Host: host, Pool: pool},
			Measure: amount.CPU, By: by, Step: "1m"})
	}
	for _, by := range []string{"", "workload", "tenant", "host", "program"} {
		want, err := ask("cellar-1", "", by)
		require.NoError(t, err)
		got, err := ask("", "casks", by)
		require.NoError(t, err)
		assert.Equal(t, "pool casks", got.Host)
		got.Host = want.Host
		assert.Equal(t, want, got, by)
	}
	_, err = ask("", "vats", "")
	assert.ErrorContains(t, err, "no host is in a pool \"vats\"")
	for _, h := range []string{"cellar-1", "press-1"} {
		s, err := ask(h, "casks", "")
		require.NoError(t, err)
		assert.Equal(t, h == "cellar-1", len(s.Groups) == 1, h)
	}
}

// TestSeries_OfEveryMeasureDividedInEveryWayIsTheSame: the groups told apart and the rest are what all in one are, also
// of measures that have no ledger and of workloads of which only the largest are told apart.
func TestSeries_OfEveryMeasureDividedInEveryWayIsTheSame(t *testing.T) {
	c := newCellar(t)
	for _, m := range amount.Measures() {
		q := hub.SeriesQuestion{Asked: hub.Asked{Span: c.two()}, Measure: m, Step: "1m"}
		q.Span.To = noon.Add(4 * time.Minute)
		whole, err := c.Series(ctx, &q)
		require.NoError(t, err, m)
		for _, by := range []string{"workload", "tenant", "host", "user", "kind"} {
			for _, first := range []int{0, 1} {
				q.By, q.First = by, first
				s, err := c.Series(ctx, &q)
				require.NoError(t, err, "%s by %s", m, by)
				assert.Equal(t, whole.Seconds, s.Seconds, "%s by %s", m, by)
				assert.Equal(t, whole.Used, s.Used, "%s by %s", m, by)
				if m.Manner() != amount.Flow && m.Manner() != amount.Level {
					continue
				}
				for k := range s.Seconds {
					sum, one := 0.0, 0.0
					for i := range s.Groups {
						if v := s.Groups[i].Mean[k]; v != nil {
							sum += *v
						}
					}
					if s.Rest != nil && s.Rest.Mean[k] != nil {
						sum += *s.Rest.Mean[k]
					}
					if len(whole.Groups) > 0 && whole.Groups[0].Mean[k] != nil {
						one = *whole.Groups[0].Mean[k]
					}
					assert.InDelta(t, one, sum, 1e-6+1e-9*one, "%s by %s, first %d, step %d", m, by, first, k)
				}
			}
		}
	}
}
