package explain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// figuresOf shows what is null as -1.
func figuresOf(list []*float64) []float64 {
	out := make([]float64, len(list))
	for i, v := range list {
		out[i] = -1
		if v != nil {
			out[i] = *v
		}
	}
	return out
}

func TestSeries_GapsAreGapsAndAbsenceIsNothing(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return noon.Add(time.Duration(minutes) * time.Minute) }
	line := func(units float64) question.Line { return question.Line{Units: units} }
	lines := func(capacity, used, kernel float64) []question.Lines {
		return []question.Lines{{Capacity: line(capacity), Used: line(used), Kernel: line(kernel),
			Steal: question.Line{Reason: "none"}}}
	}
	g := &SeriesGround{Measure: amount.CPU, Step: 10 * time.Minute, IsWhole: true, PeakOf: PeakOfTick,
		Stretches: []question.Stretch{
			{Start: at(0), ElapsedMillis: 300_000, Of: lines(1200e6, 700e6, 60e6)}, // half of it is before the span
			{Start: at(10), ElapsedMillis: 600_000, Of: []question.Lines{{Capacity: line(2400e6), Used: line(1000e6),
				Kernel: line(40e6), Steal: line(20e6)}}},
			// nothing was told from 12:20 to 12:30
			{Start: at(30), ElapsedMillis: 60_000, Of: lines(240e6, 100e6, 4e6)},
		}}
	s := NewSeries(Over{From: at(5), To: at(31), Host: "press-1"}, g, "workload")
	assert.Equal(t, []time.Time{at(0), at(10), at(20), at(30)}, s.Starts)
	assert.Equal(t, []float64{300, 600, 0, 60}, s.Seconds)

	sum := func(units float64) question.Sum { return question.Sum{Units: units, Source: amount.Counted} }
	peak := 3.5
	must := s.Group(g, &SeriesGroup{ID: 7, Name: "must"}, []SeriesRow{{at(0), sum(600e6), &peak},
		{at(30), sum(60e6), nil}}, func(int) bool { return true })
	assert.Equal(t, []float64{2, 0, -1, 1}, figuresOf(must.Mean))
	assert.Equal(t, []float64{3.5, -1, -1, -1}, figuresOf(must.Peak))
	assert.Equal(t, []float64{0, 3.5}, figuresOf([]*float64{must.Least, must.Most}))
	s.Groups = append(s.Groups, must)

	silent := s.Group(g, &SeriesGroup{Name: "of a host that was silent"},
		[]SeriesRow{{at(0), sum(30e6), nil}, {at(30), question.Sum{Source: amount.Unavailable}, nil}},
		func(k int) bool { return k != 1 })
	assert.Equal(
		t,
		[]float64{0.1, -1, -1, -1},
		figuresOf(silent.Mean),
		"neither its host's silence nor a lack is nothing",
	)

	rest := s.RestOf(g, []SeriesRow{{at(0), sum(630e6), nil}, {at(10), sum(900e6), nil}, {at(30), sum(90e6), nil}})
	assert.InDeltaSlice(t, []float64{0.1, 1.5, -1, 0.5}, figuresOf(rest.Mean), 1e-9)
	assert.InDeltaSlice(t, []float64{0.1, 1.5}, figuresOf([]*float64{rest.Least, rest.Most}), 1e-9)

	s.AddLines(g, map[time.Time]float64{at(0): 630e6, at(10): 900e6, at(30): 90e6})
	assert.Equal(t, []float64{4, 4, -1, 4}, figuresOf(s.Capacity))
	assert.InDeltaSlice(t, []float64{0.2, 0.1, -1, 1. / 15}, figuresOf(s.Kernel), 1e-9)
	assert.InDeltaSlice(t, []float64{10. / 300, 0.1 - 20./600, -1, 0.1}, figuresOf(s.Residual), 1e-9)

	g.IsWhole = false
	part := NewSeries(Over{From: at(5), To: at(31)}, g, "")
	part.AddLines(g, nil)
	assert.Nil(t, part.Capacity, "what is of some only has no residual")
}

func TestSeries_AnIntervalLongerThanAStepStandsInAllThatItCovers(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return noon.Add(time.Duration(minutes) * time.Minute) }
	line := func(units float64) question.Line { return question.Line{Units: units} }
	of := func(units float64) []question.Lines {
		return []question.Lines{{Capacity: line(units), Used: line(units)}}
	}
	g := &SeriesGround{Measure: amount.CPU, Step: 10 * time.Minute, IsWhole: true, PeakOf: PeakOfTick,
		Stretches: []question.Stretch{
			{Start: at(0), ElapsedMillis: 25 * 60_000, Of: of(3000e6)},
			{Start: at(40), ElapsedMillis: 11 * 60_000, Of: of(660e6)}, // the next began before its end
			{Start: at(50), ElapsedMillis: 9 * 60_000, Of: of(540e6)},
		}}
	s := NewSeries(Over{From: at(0), To: at(60)}, g, "")
	assert.Equal(t, []float64{600, 600, 300, 0, 660, 540}, s.Seconds, "nothing is added, and nothing is lost")
	peak := 4.0
	x := s.Group(g, &SeriesGroup{}, []SeriesRow{{at(0), question.Sum{Units: 1500e6, Source: amount.Counted}, &peak},
		{at(50), question.Sum{Units: 540e6, Source: amount.Counted}, nil}}, func(int) bool { return true })
	assert.Equal(t, []float64{1, 1, 1, -1, 0, 1}, figuresOf(x.Mean))
	assert.Equal(t, []float64{4, 4, 4, -1, -1, -1}, figuresOf(x.Peak))
	s.AddLines(g, nil)
	assert.Equal(t, []float64{2, 2, 2, -1, 1, 1}, figuresOf(s.Used))
}

func TestSeries_AMeasureWithoutALedgerIsOverTheTimeOfItsFigures(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	g := &SeriesGround{Measure: amount.CPUWait, Step: time.Hour, PeakOf: PeakOfNone,
		Stretches: []question.Stretch{{Start: noon, ElapsedMillis: 3_600_000}, {Start: noon.Add(time.Hour),
			ElapsedMillis: 3_600_000}}}
	s := NewSeries(Over{From: noon, To: noon.Add(2 * time.Hour)}, g, "workload")
	x := s.Group(g, &SeriesGroup{}, []SeriesRow{{noon, question.Sum{Units: 60e6, Over: 600_000,
		Source: amount.Counted}, nil}}, func(int) bool { return true })
	require.NotNil(t, x.Mean[0])
	assert.InDelta(t, amount.CPUWait.Mean(60e6, 600_000), *x.Mean[0], 1e-9)
	assert.Nil(t, x.Mean[1], "where it is not told it is not nothing")
}

// TestSeries_TheRestIsOfTheTimeOfAll has a group that was told for half a step: the others are what is left of the
// whole by units, and not the mean of all less its mean.
func TestSeries_TheRestIsOfTheTimeOfAll(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	g := &SeriesGround{Measure: amount.SpaceUsed, Step: time.Hour, PeakOf: PeakOfNone,
		Stretches: []question.Stretch{{Start: noon, ElapsedMillis: 3_600_000}, {Start: noon.Add(time.Hour),
			ElapsedMillis: 3_600_000}}}
	s := NewSeries(Over{From: noon, To: noon.Add(2 * time.Hour)}, g, "tenant")
	row := func(start time.Time, gib, minutes float64) SeriesRow {
		millis := minutes * 60_000
		return SeriesRow{Start: start, Sum: question.Sum{Units: gib * (1 << 30) * millis, Over: int64(millis),
			Source: amount.Counted}}
	}
	s.Groups = append(s.Groups,
		s.Group(g, &SeriesGroup{}, []SeriesRow{row(noon, 10, 60), row(noon.Add(time.Hour), 10, 60)}, nil),
		s.Group(g, &SeriesGroup{}, []SeriesRow{row(noon, 4, 30)}, nil))
	assert.Equal(t, []float64{4 << 30, -1}, figuresOf(s.Groups[1].Mean))
	rest := s.RestOf(g, []SeriesRow{row(noon, 12.5, 60), row(noon.Add(time.Hour), 11, 60)})
	assert.InDeltaSlice(t, []float64{1 << 29, 1 << 30}, figuresOf(rest.Mean), 1, "12.5 less 10 and half of 4")
	assert.InDeltaSlice(t, []float64{1 << 29, 1 << 30}, figuresOf([]*float64{rest.Least, rest.Most}), 1)

	rest = s.RestOf(g, []SeriesRow{row(noon, 12-1e-13, 60), row(noon.Add(time.Hour), 9, 60)})
	assert.Equal(t, 0.0, *rest.Mean[0], "what floating point leaves is nothing")
	assert.InDelta(t, -(1 << 30), *rest.Mean[1], 1, "and what cannot be is not hidden")
}
