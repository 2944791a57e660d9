package whatif_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/whatif"
)

var noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)

// steps are minutes with these means, each with a peak twice as high; nothing was recorded of those below zero.
func steps(means ...float64) (list []whatif.Step) {
	for i, m := range means {
		s := whatif.Step{Start: noon.Add(time.Duration(i) * time.Minute), Mean: m, Peak: 2 * m, Told: time.Minute}
		if m < 0 {
			s = whatif.Step{Start: s.Start}
		}
		list = append(list, s)
	}
	return list
}

func TestLimit_WhatDoesNotFitComesLaterAtLeast(t *testing.T) {
	now := 4.0
	x := whatif.Limit(amount.CPU, 2, &now, steps(1, 3, 3.5, -1, 0.5, 0.9, 3), time.Minute)
	assert.Equal(t, []any{6, 3, 3}, []any{x.Steps, x.Surely, x.Possibly}, "the quiet ones have peaks of at most two")
	assert.InDelta(t, 210, *x.Late, 1e-9, "1 + 1.5 + 1 core-minutes")
	assert.InDelta(t, 75, *x.Delay, 1e-9, "2.5 core-minutes waited after the third minute: 75 s of two cores")
	assert.InDelta(t, 60, *x.Open, 1e-9, "the last minute's")
	assert.Equal(t, []float64{2, 7, 7}, []float64{*x.Freed, x.Highest, x.P95})
	assert.Equal(t, []time.Time{noon.Add(time.Minute), noon.Add(7 * time.Minute), noon.Add(2 * time.Minute)},
		[]time.Time{*x.First, *x.Last, *x.Worst})
	assert.Equal(
		t,
		"A limit of 2 cores would have been touched in 50 % of the time, and in 50 % for sure: at least 210 "+
			"CPU-seconds of work would have come later, and something by 75 seconds at least; 60 CPU-seconds would "+
			"not have been done by the end.",
		x.Sentence,
	)

	flat := whatif.Limit(amount.CPU, 3.5, nil, steps(1, 3, 3.5), time.Minute)
	assert.Equal(
		t,
		[]any{0, 2, 0.0},
		[]any{flat.Surely, flat.Possibly, *flat.Late},
		"a mean at the limit is not above it",
	)
	assert.Contains(t, flat.Sentence, "bursts would have been flattened")
	assert.Nil(t, flat.Freed)
	none := whatif.Limit(amount.CPU, 7, nil, steps(1, 3, 3.5), time.Minute)
	assert.Zero(t, none.Possibly)
	assert.Equal(t, "A limit of 7 cores would have been touched in none of 3 steps: the highest tick was 7 cores.",
		none.Sentence)
	assert.Nil(t, none.First)
	memory := whatif.Limit(amount.Memory, 3<<30, nil, steps(1<<30, 2<<30), time.Minute)
	assert.Equal(t, []any{1, 0}, []any{memory.Possibly, memory.Surely})
	assert.Nil(t, memory.Late)
	assert.Contains(t, memory.Sentence, "its memory is taken back, or it is ended; the highest was 4 GiB")
	assert.Equal(
		t,
		"Nothing was recorded of it in this span.",
		whatif.Limit(amount.CPU, 1, nil, steps(-1), time.Minute).Sentence,
	)
}

// TestLimit_WorkIsNeitherLostNorMade plays random steps second by second beside it.
func TestLimit_WorkIsNeitherLostNorMade(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		means := rapid.SliceOfN(rapid.Float64Range(0, 8), 1, 40).Draw(t, "means")
		limit := rapid.Float64Range(0.5, 9).Draw(t, "limit")
		x := whatif.Limit(amount.CPU, limit, nil, steps(means...), time.Minute)
		// Played second by second with the work of a step arriving evenly.
		queue, longest := 0.0, 0.0
		for _, m := range means {
			for range 60 {
				queue = max(queue+m-limit, 0)
				longest = max(longest, queue)
			}
		}
		require.InDelta(t, longest/limit, *x.Delay, 1e-6)
		require.InDelta(t, queue, *x.Open, 1e-6)
		require.LessOrEqual(t, *x.Open, *x.Late+1e-9)
	})
}

func TestAdvise_RestsOnAPercentileAndTellsItsRisk(t *testing.T) {
	quiet := make([]float64, 100) // peaks of a core, and of three in the last four steps
	for i := range quiet {
		quiet[i] = 0.5
		if i >= 96 {
			quiet[i] = 1.5
		}
	}
	a, is := whatif.UsualMarks.Advise(&whatif.Sized{Resource: amount.CPU, Held: 8, Steps: steps(quiet...)})
	require.True(t, is)
	assert.Equal(t, []any{"less", 1.25, 6.75, 1.0, 3.0, 4, 0}, []any{a.Way, a.Advised, a.Saved, a.At, a.Highest, a.Hit,
		a.HitNow})
	assert.Equal(
		t,
		"It holds 8 cores, and in 95 of 100 steps its highest tick was at most 1 core: 1.25 cores would do, "+
			"and save 6.75 cores; it would have been touched in 4 % of the steps.",
		a.Sentence,
	)
	for held, want := range map[float64]bool{1.5: false, 1.78: false, 1.79: true, 0: false} {
		_, is = whatif.UsualMarks.Advise(&whatif.Sized{Resource: amount.CPU, Held: held, Steps: steps(quiet[:90]...)})
		assert.Equal(t, want, is, held)
	}
	_, is = whatif.UsualMarks.Advise(&whatif.Sized{Resource: amount.CPU, Held: 8, Steps: steps(quiet[:11]...)})
	assert.False(t, is, "too little is known")

	small, is := whatif.UsualMarks.Advise(&whatif.Sized{Resource: amount.Memory, Held: 1 << 30,
		Steps: steps(append(quiet[:90:90], 1<<29, 1<<29, 1<<29, 1<<29, 1<<29)...)})
	require.True(t, is)
	assert.Equal(t, []any{"more", 1.5 * (1 << 30), 5}, []any{small.Way, small.Advised, small.HitNow})
	assert.Contains(t, small.Sentence, "It holds 1 GiB, and was at its limit in 5 % of the steps")
	back := 9
	held, is := whatif.UsualMarks.Advise(
		&whatif.Sized{Resource: amount.CPU, Held: 2, HeldBack: &back, Steps: steps(quiet...)},
	)
	require.True(t, is)
	assert.Equal(t, []any{"more", 4.0, -2.0}, []any{held.Way, held.Advised, held.Saved})
}

func TestAdvise_CPUsThatWorkFillsAreNotTooFew(t *testing.T) {
	full := make([]float64, 20)
	for i := range full {
		full[i] = 2 // with peaks of four
	}
	_, is := whatif.UsualMarks.Advise(
		&whatif.Sized{Resource: amount.CPU, Held: 4, IsFilled: true, Steps: steps(full...)},
	)
	assert.False(t, is)
	a, is := whatif.UsualMarks.Advise(&whatif.Sized{Resource: amount.CPU, Held: 4, Steps: steps(full...)})
	require.True(t, is)
	assert.Equal(t, []any{"more", 8.0, 20}, []any{a.Way, a.Advised, a.HitNow})
}

func TestAmount_IsWrittenForPeople(t *testing.T) {
	for v, want := range map[float64]string{1023 << 20: "1023 MiB", 1 << 30: "1 GiB", 1.5 * (1 << 40): "1.5 TiB",
		2048: "2 KiB"} {
		assert.Equal(t, want, whatif.Amount("memory", v))
	}
	assert.Equal(t, "1234 cores", whatif.Amount("cpu", 1234.4))
	assert.Equal(t, "0.25 cores", whatif.Amount("cpu", 0.25))
}

func TestPercentile_IsTheNearestRank(t *testing.T) {
	of := []float64{15, 20, 35, 40, 50}
	for percent, want := range map[float64]float64{5: 15, 20: 15, 20.1: 20, 40: 20, 50: 35, 95: 50, 100: 50, 0: 15} {
		assert.Equal(t, want, whatif.Percentile(of, percent), percent)
	}
	assert.Zero(t, whatif.Percentile(nil, 95))
}
