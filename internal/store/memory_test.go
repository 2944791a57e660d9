package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// TestAsk_WhatIsRememberedAnswersOnlyWhileNothingChanged asks the same again after everything that can change an answer
// about a span that ended: an interval that comes late, one that is folded, a re-attribution, a tenant that goes.
func TestAsk_WhatIsRememberedAnswersOnlyWhileNothingChanged(t *testing.T) {
	s, h := open(t)
	require.NoError(t, s.Enrol(ctx, "press-1", "secret too"))
	other, err := s.HostByName(ctx, "press-1")
	require.NoError(t, err)
	frost, err := s.AddTenant(ctx, "Frost Watch")
	require.NoError(t, err)
	span := question.Span{From: noon, To: noon.Add(2 * time.Hour)}
	q := question.Question{Scope: question.Scope{Span: span}, Measures: []amount.Measure{amount.CPU},
		By: []question.Dimension{question.Tenant}}
	asked := func() map[string]float64 {
		t.Helper()
		a, lines, err := s.AskWithLines(ctx, q)
		require.NoError(t, err)
		found := map[string]float64{"used": lines.Whole.Of[0].Used.Units / 1e6, "workloads": float64(a.Workloads)}
		for i := range a.Rows {
			found[a.Rows[i].Name] = a.Rows[i].Sums[0].Units / 1e6
			a.Rows[i].Sums[0].Units = -1 // who asks may do with the answer what they like
		}
		return found
	}
	steps := func() (used []float64) {
		t.Helper()
		stretches, err := s.Lines(ctx, question.Question{Scope: question.Scope{Span: question.Span{
			From: noon.Add(-30 * time.Minute), To: noon.Add(90 * time.Minute)}}, Measures: []amount.Measure{amount.CPU},
			Step: 30 * time.Minute})
		require.NoError(t, err)
		for _, x := range stretches {
			used = append(used, x.Of[0].Used.Units/1e6)
		}
		return used
	}
	twice := func(want map[string]float64, used []float64) {
		t.Helper()
		for range 2 {
			assert.Equal(t, want, asked())
			assert.Equal(t, used, steps())
		}
	}
	ingest(t, s, h, minute("cellar-1", noon, 1, map[string]float64{"a": 5}))
	twice(map[string]float64{"used": 7, "workloads": 1, "": 5}, []float64{7})
	ingest(t, s, other, minute("press-1", noon.Add(40*time.Minute), 1, map[string]float64{"b": 3}))
	twice(map[string]float64{"used": 12, "workloads": 2, "": 8}, []float64{7, 5})
	ingest(t, s, h, minute("cellar-1", noon.Add(-10*time.Minute), 2, map[string]float64{"a": 1}))
	twice(map[string]float64{"used": 12, "workloads": 2, "": 8}, []float64{3, 7, 5})
	_, _, err = s.Fold(ctx, noon.Add(26*time.Hour))
	require.NoError(t, err)
	twice(map[string]float64{"used": 12, "workloads": 2, "": 8}, []float64{3, 7, 5})
	ingest(t, s, other, minute("press-1", noon.Add(50*time.Minute), 2, map[string]float64{"b": 1}))
	twice(map[string]float64{"used": 15, "workloads": 2, "": 9}, []float64{3, 7, 8})

	stored, err := s.Workloads(ctx)
	require.NoError(t, err)
	for i := range stored {
		if stored[i].Name == "b" {
			require.NoError(t, s.Reapply(ctx, span, []store.Move{{WorkloadID: stored[i].ID, TenantID: frost.ID}}, "us",
				nil))
		}
	}
	twice(map[string]float64{"used": 15, "workloads": 2, "": 5, "Frost Watch": 4}, []float64{3, 7, 8})
	require.NoError(t, s.RemoveTenant(ctx, "Frost Watch"))
	twice(map[string]float64{"used": 15, "workloads": 2, "": 9}, []float64{3, 7, 8})

	// What rows are called is never remembered.
	q.By, q.Page.First = []question.Dimension{question.Workload}, 1
	assert.Equal(t, 5.0, asked()["a"])
	b := minute("cellar-1", noon.Add(3*time.Hour), 3, map[string]float64{"a": 1})
	b.Intervals[0].Workloads.Name[0] = "must-intake"
	_, err = s.Ingest(ctx, h, b, version(t, s), func(string, account.Workload) tenancy.Rule { return tenancy.Rule{} })
	require.NoError(t, err)
	assert.Equal(t, 5.0, asked()["must-intake"])
}

// TestAsk_TheHighestMinuteFollowsFromWhatBeganBeforeTheSpanToo asks the same before and after an interval of two hours
// comes, which began an hour before the span.
func TestAsk_TheHighestMinuteFollowsFromWhatBeganBeforeTheSpanToo(t *testing.T) {
	s, h := open(t)
	require.NoError(t, s.Enrol(ctx, "press-1", "secret too"))
	other, err := s.HostByName(ctx, "press-1")
	require.NoError(t, err)
	ingest(t, s, h, minute("cellar-1", noon, 1, map[string]float64{"a": 60}))
	q := question.Question{Scope: question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour)}},
		Measures: []amount.Measure{amount.CPU}, By: []question.Dimension{question.Tenant}}
	peak := func() float64 {
		a, err := s.Ask(ctx, q)
		require.NoError(t, err)
		require.Len(t, a.Rows, 1)
		assert.Equal(t, 60e6, a.Rows[0].Sums[0].Units)
		return a.Rows[0].Sums[0].Peak
	}
	assert.Equal(t, 1.0, peak())
	long := minute("press-1", noon.Add(-time.Hour), 1, map[string]float64{"b": 7200})
	long.Intervals[0].ElapsedMillis, long.Intervals[0].ToUnixMicros = 7_200_000, noon.Add(time.Hour).UnixMicro()
	ingest(t, s, other, long)
	assert.Equal(t, 2.0, peak())
}
