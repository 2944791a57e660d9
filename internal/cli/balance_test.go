package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/explain"
)

func TestBalance_SaysHowAUseStandsAndWhatWasInForceWhen(t *testing.T) {
	mark := func(v float64) *float64 { return &v }
	cores := unit{name: "cores", per: 1, digits: 2}
	use := explain.ResourceUse{Used: mark(5), QuotaUse: explain.QuotaUse{Quota: mark(4), Soft: mark(3), Over: true,
		SoftOver: true, PeakOver: true}}
	assert.Equal(t, "1.00 over", standText(&use, cores))
	use.Terms = []explain.QuotaTerm{
		{From: noonOf(1), To: noonOf(2), Used: mark(6), QuotaUse: explain.QuotaUse{Quota: mark(4), Over: true}},
		{From: noonOf(2), To: noonOf(3), QuotaUse: explain.QuotaUse{Soft: mark(3)}},
	}
	use.Coming = &explain.ComingQuota{From: noonOf(4)}
	assert.Equal(t, "over for a time", standText(&use, cores))
	assert.Equal(t, []string{
		"*  Frost Watch, 2026-10-01 12:00 until 2026-10-02 12:00: quota 4.00; used 6.00, 2.00 over",
		"*  Frost Watch, 2026-10-02 12:00 until 2026-10-03 12:00: soft mark 3.00; used –",
		"*  Frost Watch, from 2026-10-04 12:00 on: no quota",
	}, termLines("Frost Watch", &use, cores))
	use = explain.ResourceUse{Used: mark(5), QuotaUse: explain.QuotaUse{Soft: mark(4), SoftOver: true, PeakOver: true}}
	assert.Equal(t, "over soft mark", standText(&use, cores))
	use.SoftOver = false
	assert.Equal(t, "peak over", standText(&use, cores))
	use.PeakOver = false
	assert.Empty(t, standText(&use, cores))
}

func noonOf(day int) time.Time { return time.Date(2026, 10, day, 12, 0, 0, 0, time.Local) }

func TestBalance_OfOneResourceTellsWhatLimitsItAlone(t *testing.T) {
	list := []explain.Caveat{{What: "gpu_untold"}, {What: "ends_lost"}, {What: "unwatched"}, {What: "of a newer one"}}
	names := func(of string) (names []string) {
		for _, c := range limiting(list, of) {
			names = append(names, c.What)
		}
		return names
	}
	assert.Equal(t, []string{"ends_lost", "unwatched", "of a newer one"}, names("cpu"))
	assert.Equal(t, []string{"gpu_untold", "unwatched", "of a newer one"}, names("gpu"))
	assert.Len(t, names("all"), 4)
	assert.Len(t, list, 4, "what is shown elsewhere stays as it is")
}
