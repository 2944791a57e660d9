package tenancy_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/tenancy"
)

var monday = time.Date(2026, 9, 7, 0, 0, 0, 0, time.UTC)

func hour(n int) time.Time { return monday.Add(time.Duration(n) * time.Hour) }

func ceiling(v float64) tenancy.Limit { return tenancy.Limit{Ceiling: &v} }

func change(from, made int, limit tenancy.Limit) tenancy.LimitChange {
	return tenancy.LimitChange{From: hour(from), Made: hour(made), Limit: limit}
}

func at(c tenancy.LimitChange) *tenancy.LimitChange { return &c }

func changes(list ...tenancy.LimitChange) []tenancy.LimitChange { return list }

func TestTerms_TellWhatWasInForceWhen(t *testing.T) {
	none := tenancy.Limit{}
	always, raised := change(1, 1, ceiling(4)), change(12, 12, ceiling(8))
	for name, c := range map[string]struct {
		changes []tenancy.LimitChange
		want    []tenancy.Term
	}{
		"no quota":             {nil, []tenancy.Term{{hour(10), hour(20), none}}},
		"set long before":      {changes(always), []tenancy.Term{{hour(10), hour(20), ceiling(4)}}},
		"set at the beginning": {changes(change(10, 10, ceiling(4))), []tenancy.Term{{hour(10), hour(20), ceiling(4)}}},
		"set at the end":       {changes(change(20, 9, ceiling(4))), []tenancy.Term{{hour(10), hour(20), none}}},
		"set in the midst": {changes(raised), []tenancy.Term{{hour(10), hour(12), none},
			{hour(12), hour(20), ceiling(8)}}},
		"raised, written down later": {changes(change(15, 19, ceiling(8)), always),
			[]tenancy.Term{{hour(10), hour(15), ceiling(4)}, {hour(15), hour(20), ceiling(8)}}},
		"the same twice": {changes(always, change(15, 15, ceiling(4))),
			[]tenancy.Term{{hour(10), hour(20), ceiling(4)}}},
		"corrected for the same moment": {changes(change(12, 13, ceiling(9)), raised),
			[]tenancy.Term{{hour(10), hour(12), none}, {hour(12), hour(20), ceiling(9)}}},
		"taken back at the same moment": {
			changes(always, raised, change(12, 13, ceiling(4)), change(14, 14, ceiling(9))),
			[]tenancy.Term{{hour(10), hour(14), ceiling(4)}, {hour(14), hour(20), ceiling(9)}}},
		"removed": {changes(always, change(19, 19, none)),
			[]tenancy.Term{{hour(10), hour(19), ceiling(4)}, {hour(19), hour(20), none}}},
	} {
		assert.Equal(t, c.want, tenancy.Terms(c.changes, hour(10), hour(20)), name)
	}
	assert.Equal(t, ceiling(4), tenancy.InForce([]tenancy.LimitChange{change(5, 5, ceiling(4))}, hour(5)))
	assert.True(t, tenancy.InForce([]tenancy.LimitChange{change(5, 5, ceiling(4))}, hour(5).Add(-1)).None())
}

func TestComing_IsTheNextLimitThatIsAnother(t *testing.T) {
	always, later := change(1, 1, ceiling(4)), change(12, 2, ceiling(8))
	for name, c := range map[string]struct {
		changes []tenancy.LimitChange
		want    *tenancy.LimitChange
	}{
		"none":                      {nil, nil},
		"all are past":              {changes(always), nil},
		"it applies at the moment":  {changes(change(10, 10, ceiling(8))), at(change(10, 10, ceiling(8)))},
		"the first of two":          {changes(change(15, 3, ceiling(9)), later, always), &later},
		"the same again is none":    {changes(always, change(12, 2, ceiling(4))), nil},
		"taken back before it came": {changes(always, later, change(12, 3, ceiling(4))), nil},
		"and another after that": {changes(always, later, change(12, 3, ceiling(4)), change(15, 4, ceiling(9))),
			at(change(15, 4, ceiling(9)))},
		"corrected before it came": {changes(always, change(12, 3, ceiling(9)), later),
			at(change(12, 3, ceiling(9)))},
	} {
		assert.Equal(t, c.want, tenancy.Coming(c.changes, hour(10)), name)
	}
}

// TestTerms_PartitionTheSpan: whatever the changes, terms lie end to end, differ from their neighbours, and each
// moment's limit is that of the last change before it.
func TestTerms_PartitionTheSpan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var changes []tenancy.LimitChange
		for i := range rapid.IntRange(0, 8).Draw(t, "changes") {
			limit := tenancy.Limit{}
			if v := rapid.IntRange(0, 3).Draw(t, "ceiling"); v > 0 {
				limit = ceiling(float64(v))
			}
			changes = append(changes, change(rapid.IntRange(0, 12).Draw(t, "from"), i, limit))
		}
		terms := tenancy.Terms(changes, hour(3), hour(9))
		require.Equal(t, hour(3), terms[0].From)
		require.Equal(t, hour(9), terms[len(terms)-1].To)
		for i, x := range terms {
			require.True(t, x.From.Before(x.To))
			if i > 0 {
				require.Equal(t, terms[i-1].To, x.From)
				require.False(t, x.Limit.Equal(terms[i-1].Limit))
			}
		}
		for h := 3; h < 9; h++ {
			want, at := tenancy.Limit{}, -1
			for _, c := range changes { // they were written down in this order
				if from := int(c.From.Sub(monday).Hours()); from <= h && from >= at {
					want, at = c.Limit, from
				}
			}
			require.True(t, want.Equal(tenancy.InForce(changes, hour(h))), "hour %d", h)
			for _, x := range terms {
				if !hour(h).Before(x.From) && hour(h).Before(x.To) {
					require.True(t, want.Equal(x.Limit), "hour %d", h)
				}
			}
		}
	})
}

func TestLimit_SaysWhatIsWrongWithIt(t *testing.T) {
	four, three := 4.0, 3.0
	require.NoError(t, tenancy.Limit{Ceiling: &four, Soft: &four}.Check())
	require.NoError(t, tenancy.Limit{Soft: &three}.Check(), "one may only want to be told")
	nought := 0.0
	require.NoError(t, tenancy.Limit{Ceiling: &nought}.Check(), "nothing at all is allowed")
	assert.ErrorContains(t, tenancy.Limit{}.Check(), "neither")
	assert.ErrorContains(t, tenancy.Limit{Ceiling: &three, Soft: &four}.Check(), "at most the ceiling")
	for _, bad := range []float64{-1, math.NaN(), math.Inf(1)} {
		assert.ErrorContains(t, tenancy.Limit{Ceiling: &bad}.Check(), "zero or more")
		assert.ErrorContains(t, tenancy.Limit{Soft: &bad}.Check(), "zero or more")
	}
	assert.True(t, tenancy.Limit{Ceiling: &four, Soft: &three}.Equal(tenancy.Limit{Ceiling: &four, Soft: &three}))
	assert.False(t, tenancy.Limit{Ceiling: &four}.Equal(tenancy.Limit{Ceiling: &four, Soft: &three}))
	assert.False(t, tenancy.Limit{Ceiling: &four}.Equal(tenancy.Limit{Ceiling: &three}))
}
