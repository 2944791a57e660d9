package question_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/question"
)

func TestGaps_AreWhereNothingWasTold(t *testing.T) {
	at := func(seconds int) time.Time { return time.Date(2026, 10, 11, 12, 0, seconds, 0, time.UTC) }
	told := func(from, to, elapsed int) question.Told {
		return question.Told{Start: at(from), End: at(to), Elapsed: time.Duration(elapsed) * time.Second}
	}
	gap := func(from, to, lacking int) question.Gap {
		return question.Gap{From: at(from), To: at(to), Lacking: time.Duration(lacking) * time.Second}
	}
	for name, c := range map[string]struct {
		told []question.Told
		want []question.Gap
	}{
		"nothing at all":   {nil, []question.Gap{gap(0, 600, 600)}},
		"all of it":        {[]question.Told{told(0, 300, 300), told(300, 600, 300)}, nil},
		"in another order": {[]question.Told{told(300, 600, 300), told(0, 300, 300)}, nil},
		"four seconds":     {[]question.Told{told(4, 300, 296), told(304, 596, 292)}, nil},
		"five seconds": {[]question.Told{told(5, 300, 295), told(305, 595, 290)},
			[]question.Gap{gap(0, 5, 5), gap(300, 305, 5), gap(595, 600, 5)}},
		"beyond both ends": {[]question.Told{told(-60, 660, 720)}, nil},
		"one within another": {[]question.Told{told(0, 500, 500), told(100, 200, 100)},
			[]question.Gap{gap(500, 600, 100)}},
		"what came late": {[]question.Told{told(0, 600, 540), told(200, 260, 60)}, nil},
		"some of it came late": {[]question.Told{told(0, 600, 480), told(200, 260, 60)},
			[]question.Gap{gap(0, 600, 60)}},
		"a sum that lacks some": {[]question.Told{told(0, 600, 540)}, []question.Gap{gap(0, 600, 60)}},
	} {
		assert.Equal(t, c.want, question.Gaps(c.told, at(0), at(600)), name)
	}
}
