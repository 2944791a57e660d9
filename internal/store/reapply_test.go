package store_test

import (
	"sync"
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

// TestReapply_WhileIntervalsComeInEveryIntervalIsCountedOnceForSomebody re-attributes history over and over while other
// minutes of the same span are taken in: the sums by tenant always add up to the usage.
func TestReapply_WhileIntervalsComeInEveryIntervalIsCountedOnceForSomebody(t *testing.T) {
	s, h := open(t)
	tenant, err := s.AddTenant(ctx, "Cellar Intake")
	require.NoError(t, err)
	ingest(t, s, h, minute(h.Name, noon, 1, map[string]float64{"must": 10, "barrel": 20}))
	workloads, err := s.Workloads(ctx)
	require.NoError(t, err)
	span := question.Span{From: noon, To: noon.Add(time.Hour)}
	v := version(t, s)
	var both sync.WaitGroup
	both.Go(func() {
		for n := 1; n < 30; n++ {
			b := minute(h.Name, noon.Add(time.Duration(n)*time.Minute), uint64(n+1),
				map[string]float64{"must": 10, "barrel": 20})
			_, err := s.Ingest(ctx, h, b, v,
				func(_ string, w account.Workload) tenancy.Rule { return tenancy.Rule{} })
			assert.NoError(t, err)
		}
	})
	both.Go(func() {
		for n := range 12 {
			var moves []store.Move
			for _, w := range workloads {
				moves = append(moves, store.Move{WorkloadID: w.ID, TenantID: tenant.ID * int32(n%2), Rule: "true"})
			}
			assert.NoError(t, s.Reapply(ctx, span, moves, "test", nil))
		}
	})
	both.Wait()
	of := func(by ...question.Dimension) (sum float64) {
		answer, err := s.Ask(ctx, question.Question{Scope: question.Scope{Span: span}, By: by,
			Measures: []amount.Measure{amount.CPU}})
		require.NoError(t, err)
		return answer.Total.Units[0]
	}
	sum, byRows := of(question.Tenant), of(question.Tenant, question.Workload)
	assert.Equal(t, 30*30e6, sum)
	assert.Equal(t, sum, byRows, "the sums kept by tenant and the usage itself agree")
	acts, err := s.Acts(ctx, 100)
	require.NoError(t, err)
	assert.Len(t, acts, 12, "each is in the audit trail")
}
