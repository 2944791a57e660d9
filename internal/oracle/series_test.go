package oracle_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/hub"
)

// TestSeries_AreTheSumsOfTheBookAtEveryStep adds up the steps of series over a staged week with silent hosts, at every
// step that fits, and holds them to what the book tells of the whole week.
func TestSeries_AreTheSumsOfTheBookAtEveryStep(t *testing.T) {
	s, book := week(t)
	end := monday.AddDate(0, 0, 7)
	h := hub.New(s, hub.Options{Now: func() time.Time { return end }})
	span := question.Span{From: monday, To: end}
	for _, m := range []amount.Measure{amount.CPU, amount.Memory, amount.Network} {
		for _, by := range []question.Dimension{question.Tenant, question.Workload, question.User} {
			whole, err := s.Ask(
				ctx,
				question.Question{Scope: question.Scope{Span: span}, Measures: []amount.Measure{m},
					By: []question.Dimension{by}, NoPeaks: true},
			)
			require.NoError(t, err)
			for _, step := range hub.Steps()[5:] { // 15m and longer
				got, err := h.Series(
					ctx,
					&hub.SeriesQuestion{Asked: hub.Asked{Span: span}, Measure: m, By: string(by),
						First: 3, Step: step},
				)
				require.NoError(t, err, step)
				require.Len(t, got.Groups, 3)
				units := func(mean []*float64) (sum float64) {
					for k := range mean {
						if mean[k] != nil {
							sum += *mean[k] / m.Mean(1, int64(got.Seconds[k]*1000))
						}
					}
					return sum
				}
				left := whole.Total.Units[0]
				for i := range got.Groups {
					assert.InEpsilon(
						t,
						whole.Rows[i].Sums[0].Units,
						units(got.Groups[i].Mean),
						1e-9,
						"%s by %s, %s: %s",
						m,
						by,
						step,
						got.Groups[i].Name,
					)
					left -= whole.Rows[i].Sums[0].Units
				}
				assert.InDelta(
					t,
					left,
					units(got.Rest.Mean),
					1e-9*whole.Total.Units[0],
					"%s by %s, %s: the rest",
					m,
					by,
					step,
				)
			}
		}
	}
	require.NotEmpty(t, book.Minutes)
}
