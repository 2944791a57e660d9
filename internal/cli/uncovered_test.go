package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/explain"
)

func TestUncoveredLine_NamesSomePartsAndCountsTheRest(t *testing.T) {
	part := func(host string, from, to, lacking int) explain.UncoveredPart {
		at := func(minute int) time.Time { return time.Date(2026, 10, 11, 12, minute, 0, 0, time.Local) }
		return explain.UncoveredPart{Host: host, From: at(from), To: at(to), Seconds: float64(lacking)}
	}
	assert.Empty(t, uncoveredLine(nil))
	assert.Equal(t, "Nothing was recorded of cellar-1 and press-1 from 2026-10-11 12:00:00 until 12:30:00.\n",
		uncoveredLine(&explain.Uncovered{Hosts: 2, Parts: []explain.UncoveredPart{part("cellar-1", 0, 30, 1800),
			{Host: "press-1", From: part("", 0, 30, 0).From.Add(300 * time.Millisecond), To: part("", 0, 30, 0).To,
				Seconds: 1799.7}}}))
	assert.Equal(t, "Nothing was recorded of cellar-1 from 2026-10-11 12:00:00 until 12:30:00 for 60 s.\n",
		uncoveredLine(&explain.Uncovered{Hosts: 1, Parts: []explain.UncoveredPart{part("cellar-1", 0, 30, 60)}}))
	assert.Equal(t, "No live frames came of cellar-1 from 2026-10-11 12:00:00 until 12:30:00 for 60 s.\n",
		uncoveredLine(&explain.Uncovered{Hosts: 1, OfLive: true,
			Parts: []explain.UncoveredPart{part("cellar-1", 0, 30, 60)}}))
	many := &explain.Uncovered{Hosts: 5, Seconds: 7200}
	for _, host := range []string{"a", "b", "c", "d", "e"} {
		many.Parts = append(many.Parts, part(host, 0, 24, 1440))
	}
	assert.Equal(t, "Nothing was recorded of a, b, c and 2 more from 2026-10-11 12:00:00 until 12:24:00.\n",
		uncoveredLine(many))
	for n := range 3 {
		many.Parts = append(many.Parts, part("a", 30+n, 31+n, 60))
	}
	assert.Contains(t, uncoveredLine(many), "and more of 5\nhosts: 2.0 h in all.")
}

func TestCaveatLines_NameSomeHosts(t *testing.T) {
	assert.Empty(t, caveatLines(nil))
	assert.Equal(t, "Mind: some work is not seen.\n", caveatLines([]explain.Caveat{{Meaning: "some work is not seen",
		Hosts: []string{""}}}), "of this host alone")
	assert.Equal(t, "Mind: 3 were lost (a, b, c, d).\nMind: more (a, b, c, 2 more).\n", caveatLines([]explain.Caveat{
		{Meaning: "3 were lost", Hosts: []string{"a", "b", "c", "d"}},
		{Meaning: "more", Hosts: []string{"a", "b", "c", "d", "e"}}}))
}
