package tenancy_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/tenancy"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestWindow_BeginsAtMidnightOfItsZone(t *testing.T) {
	for _, c := range []struct{ window, zone, at, from, to string }{
		{"day", "UTC", "2026-10-11T12:00:00Z", "2026-10-11T00:00:00Z", "2026-10-12T00:00:00Z"},
		{"day", "UTC", "2026-10-11T00:00:00Z", "2026-10-11T00:00:00Z", "2026-10-12T00:00:00Z"},
		// 23:30 on Saturday in London's summer is half past midnight on Sunday in Vienna.
		{"day", "Europe/Vienna", "2026-07-11T22:30:00Z", "2026-07-11T22:00:00Z", "2026-07-12T22:00:00Z"},
		// Days of 23 and of 25 hours.
		{"day", "Europe/Vienna", "2026-03-29T12:00:00Z", "2026-03-28T23:00:00Z", "2026-03-29T22:00:00Z"},
		{"day", "Europe/Vienna", "2026-10-25T12:00:00Z", "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"},
		{"week", "UTC", "2026-10-11T23:59:59Z", "2026-10-05T00:00:00Z", "2026-10-12T00:00:00Z"},
		{"week", "UTC", "2026-10-12T00:00:00Z", "2026-10-12T00:00:00Z", "2026-10-19T00:00:00Z"},
		{"week", "Europe/Vienna", "2026-10-26T00:00:00Z", "2026-10-25T23:00:00Z", "2026-11-01T23:00:00Z"},
		{"month", "UTC", "2028-02-29T12:00:00Z", "2028-02-01T00:00:00Z", "2028-03-01T00:00:00Z"},
		{"month", "UTC", "2026-12-31T23:59:59Z", "2026-12-01T00:00:00Z", "2027-01-01T00:00:00Z"},
		{"month", "Asia/Kathmandu", "2026-03-01T00:00:00Z", "2026-02-28T18:15:00Z", "2026-03-31T18:15:00Z"},
		{"14 days from 2026-09-01", "UTC", "2026-09-01T00:00:00Z", "2026-09-01T00:00:00Z", "2026-09-15T00:00:00Z"},
		{"14 days from 2026-09-01", "UTC", "2026-09-14T23:59:59Z", "2026-09-01T00:00:00Z", "2026-09-15T00:00:00Z"},
		{"14 days from 2026-09-01", "UTC", "2026-09-15T00:00:00Z", "2026-09-15T00:00:00Z", "2026-09-29T00:00:00Z"},
		{"14 days from 2026-09-01", "UTC", "2026-08-31T23:59:59Z", "2026-08-18T00:00:00Z", "2026-09-01T00:00:00Z"},
		{"3 days from 2028-02-28", "UTC", "2028-03-01T12:00:00Z", "2028-02-28T00:00:00Z", "2028-03-02T00:00:00Z"},
		// Clocks were put forward at midnight: the day began at one.
		{"day", "America/Sao_Paulo", "2018-11-04T12:00:00Z", "2018-11-04T03:00:00Z", "2018-11-05T02:00:00Z"},
		// The island skipped a day.
		{"day", "Pacific/Apia", "2011-12-30T09:00:00Z", "2011-12-29T10:00:00Z", "2011-12-30T10:00:00Z"},
	} {
		w, err := tenancy.ParseWindow(c.window)
		require.NoError(t, err)
		assert.Equal(t, c.window, w.String())
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		from, to := w.Bounds(at, zone(t, c.zone))
		assert.Equal(t, []string{c.from, c.to}, []string{from.Format(time.RFC3339), to.Format(time.RFC3339)},
			"%s in %s at %s", c.window, c.zone, c.at)
	}
}

// TestWindow_PartitionsTime: every moment is in one window, and the next begins where one ends.
func TestWindow_PartitionsTime(t *testing.T) {
	zones := []string{"UTC", "Europe/Vienna", "America/Sao_Paulo", "Australia/Lord_Howe", "Asia/Kathmandu",
		"America/St_Johns", "Pacific/Apia", "Africa/Cairo"}
	windows := []string{"day", "week", "month", "1 days from 2020-02-29", "10 days from 2026-01-01",
		"365 days from 2019-06-30"}
	rapid.Check(t, func(t *rapid.T) {
		w, err := tenancy.ParseWindow(rapid.SampledFrom(windows).Draw(t, "window"))
		require.NoError(t, err)
		z := zone(t, rapid.SampledFrom(zones).Draw(t, "zone"))
		at := time.Unix(rapid.Int64Range(1_262_304_000, 1_900_000_000).Draw(t, "at"), 0) // from 2010 on
		from, to := w.Bounds(at, z)
		require.False(t, at.Before(from), "%s", from)
		require.True(t, at.Before(to), "%s", to)
		next, _ := w.Bounds(to, z)
		require.Equal(t, to, next)
		_, end := w.Bounds(from.Add(-time.Nanosecond), z)
		require.Equal(t, from, end)
	})
}

func TestParseWindow_SaysWhatItTakes(t *testing.T) {
	for text, why := range map[string]string{
		"": "give day, week, month", "year": "give day, week, month", "14 days": "give day, week, month",
		"0 days from 2026-09-01": "give 1 to 3660", "x days from 2026-09-01": "give 1 to 3660",
		"3661 days from 2026-09-01": "give 1 to 3660", "2 days from 2026-02-29": "give a date",
		"2 days since 2026-09-01": "give day, week, month", "2 weeks from 2026-09-01": "give day, week, month",
	} {
		_, err := tenancy.ParseWindow(text)
		assert.ErrorContains(t, err, why, text)
	}
	w, err := tenancy.ParseWindow("  3660 Days  from 2026-09-01")
	require.NoError(t, err)
	assert.Equal(t, 3660, w.Days)
	assert.True(t, tenancy.Window{}.IsNone())
	assert.Empty(t, tenancy.Window{}.String())
}
