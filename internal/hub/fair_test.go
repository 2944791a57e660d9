package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// TestShort_WhoHadMoreThanByWeight has two tenants on two CPUs of press-1 and one that nothing troubles beside them, in
// its busiest minutes; on cellar-1 nobody waits.
func TestShort_WhoHadMoreThanByWeight(t *testing.T) {
	c := newCellar(t)
	weighed := func(name, owner, weights, allowed string) account.Workload {
		return account.Workload{
			Key:     "container:" + name,
			Kind:    amount.Container,
			Name:    name,
			Owner:   owner,
			Allowed: allowed,
			Path:    "/machine.slice/" + name,
			Facts:   map[string]string{account.FactWeights: weights},
		}
	}
	sorter, vat := weighed("sorter", "svc-route", "100/300", "0-1"), weighed("vat", "svc-cellar", "100/100", "0-1")
	still := weighed("still", "svc-cellar", "100/100", "2-7")
	c.waits = map[string]int64{"sorter": 120, "vat": 30, "still": 0}
	for minute := range int64(20) {
		c.minute(
			"press-1",
			600+60*minute,
			60,
			had{sorter, 45, 1, 1, 1, 0},
			had{vat, 75, 1, 1, 1, 1},
			had{still, 30, 1, 1, 1, 2},
		)
	}
	c.minute(
		"press-1",
		1860,
		60,
		had{sorter, 90, 1, 1, 1, 0},
		had{vat, 10, 1, 1, 1, 1},
	) // of its own ten minutes, less busy
	b, err := c.Balance(ctx, question.Span{From: noon, To: noon.Add(time.Hour)}, "")
	require.NoError(t, err)
	require.Len(t, b.Short, 1)
	s := b.Short[0]
	assert.Equal(t, []any{"press-1", "0-1", noon.Add(10 * time.Minute), noon.Add(30 * time.Minute), 1200.0, 0},
		[]any{s.Host, s.CPUs, s.From, s.To, s.Long, s.Untold})
	assert.Equal(t, []float64{2400, 3000}, []float64{s.Ran, s.Waited})
	require.Len(t, s.Of, 2, "still contends for other CPUs")
	assert.Equal(t, "Cellar Intake", s.Of[0].Tenant)
	assert.InDeltaSlice(t, []float64{1500, 600, 900}, []float64{s.Of[0].Ran, s.Of[0].Fair, s.Of[0].More}, 1e-6)
	assert.Equal(t, "Harvest Routing", s.Of[1].Tenant)
	assert.InDeltaSlice(t, []float64{900, 1800, -900}, []float64{s.Of[1].Ran, s.Of[1].Fair, s.Of[1].More}, 1e-6)
	assert.Equal(t, []string{"sorter", "svc-route"}, []string{s.Of[1].Most.Name, s.Of[1].Most.Owner})

	b, err = c.Balance(ctx, question.Span{From: noon, To: noon.Add(time.Hour)}, "cellar-1")
	require.NoError(t, err)
	assert.Empty(t, b.Short)

	c.now = noon.Add(4 * time.Hour)
	for minute := range int64(60) {
		c.minute("press-1", 3600+60*minute, 60, had{sorter, 60, 1, 1, 1, 0}, had{vat, 54, 1, 1, 1, 1})
	}
	require.NoError(t, c.Fold(ctx))
	b, err = c.Balance(ctx, question.Span{From: noon.Add(-48 * time.Hour), To: noon.Add(3 * time.Hour)}, "press-1")
	require.NoError(t, err)
	require.Len(t, b.Short, 1, "over more than a day it is looked for by the hour")
	s = b.Short[0]
	assert.Equal(t, []any{noon.Add(time.Hour), noon.Add(2 * time.Hour), 3600.0, 7200.0, 6840.0},
		[]any{s.From, s.To, s.Long, s.Looked, s.Ran})
	assert.InDelta(t, 54*60-1710.0, s.Of[0].More, 1e-6)
}
