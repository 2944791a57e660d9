package explain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/core/question"
)

func TestExplainUncovered_NamesHostsAndPartsOfWhichNothingIsKnown(t *testing.T) {
	at := func(minutes int) time.Time { return time.Date(2026, 10, 11, 12, minutes, 0, 0, time.UTC) }
	span := question.Span{From: at(0), To: at(60)}
	hosts := []explain.Expected{{ID: 1, Name: "cellar-1", From: at(-600)}, {ID: 2, Name: "press-1", From: at(20)},
		{ID: 3, Name: "terrace-1", From: at(-5)}, {ID: 4, Name: "terrace-2", From: at(90)}}
	told := []question.HostTold{
		{Host: 1, From: at(0), To: at(58)},
		{
			Host: 2,
			From: at(25),
			To:   at(60),
			Gaps: []question.Gap{{From: at(30), To: at(60), Lacking: 7 * time.Minute}},
		},
	}
	u := explain.ExplainUncovered(span, at(58), hosts, told)
	require.NotNil(t, u)
	part := func(host string, from, to, minutes int) explain.UncoveredPart {
		return explain.UncoveredPart{Host: host, From: at(from), To: at(to), Seconds: float64(minutes * 60)}
	}
	assert.Equal(t, []explain.UncoveredPart{part("terrace-1", 0, 58, 58), part("press-1", 30, 60, 7),
		part("press-1", 20, 25, 5)}, u.Parts,
		"what is not due yet is not missed, nor what was before a host's first figures")
	assert.Equal(t, 2, u.Hosts)
	assert.InDelta(t, 70*60, u.Seconds, 0)
	assert.False(t, u.OfLive)
	assert.Nil(t, explain.ExplainUncovered(span, at(58), hosts[:1], told))
	ofFrames := span
	ofFrames.Frames = true
	assert.True(t, explain.ExplainUncovered(ofFrames, at(58), hosts, told).OfLive)
	u = explain.ExplainUncovered(span, at(90), hosts[:1], told)
	assert.Equal(t, []explain.UncoveredPart{part("cellar-1", 58, 60, 2)}, u.Parts, "the span ends before now")

	told[1].Gaps = nil
	for n := range 30 {
		told[1].Gaps = append(told[1].Gaps, question.Gap{From: at(26 + n), To: at(27 + n),
			Lacking: time.Duration(6+n) * time.Second})
	}
	u = explain.ExplainUncovered(span, at(58), hosts[1:2], told)
	assert.Len(t, u.Parts, 20)
	assert.InDelta(t, 5*60, u.Parts[0].Seconds, 0, "the longest first")
	assert.InDelta(t, 5*60+30*6+29*30/2, u.Seconds, 0, "all are counted")
}
