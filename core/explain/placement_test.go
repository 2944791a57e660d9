package explain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// TestPlacement_TellsWhoHadMostOfEachCPUInEachStep of four minutes: the second was told for half of it, the third not
// at all, and the last for a third.
func TestPlacement_TellsWhoHadMostOfEachCPUInEachStep(t *testing.T) {
	noon := time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
	minute := func(n int) time.Time { return noon.Add(time.Duration(n) * time.Minute) }
	s := explain.NewSeries(explain.Over{From: noon, To: minute(4), Host: "cellar-1"}, &explain.SeriesGround{
		Measure: amount.CPU, Step: time.Minute, PeakOf: explain.PeakOfNone, Stretches: []question.Stretch{
			{Start: minute(0), ElapsedMillis: 60_000}, {Start: minute(1), ElapsedMillis: 30_000},
			{Start: minute(3), ElapsedMillis: 20_000}}}, "workload")
	at := func(n, cpu int) explain.PlacedAt { return explain.PlacedAt{Start: minute(n), CPU: cpu} }
	run := func(n, cpu int, key int64, name string, seconds float64) explain.PlacedRun {
		return explain.PlacedRun{PlacedAt: at(n, cpu), Key: key, Micros: seconds * 1e6,
			Who: explain.PlacedWho{ID: key, Name: name, Tenant: "Cellar Intake"}}
	}
	p := explain.NewPlacement(s, &explain.PlacementGround{
		Times: map[explain.PlacedAt]explain.PlacedTime{
			at(0, 0): {User: 30e6, System: 15e6, Idle: 15e6}, at(0, 2): {Idle: 60e6},
			at(1, 0): {User: 15e6, Idle: 7e6, Steal: 8e6}, at(1, 2): {User: 3e6, System: 12e6, Idle: 15e6},
			at(3, 2): {},
		},
		Ran: []explain.PlacedRun{run(0, 0, 7, "must", 21), run(0, 0, 9, "probe", 24), run(1, 0, 9, "probe", 6),
			run(1, 0, 7, "must", 6), run(1, 2, 7, "must", 12), run(1, 2, 8, "cron", 1), run(3, 2, 9, "probe", 5),
			run(0, 2, 8, "cron", 0)},
	})
	require.Len(t, p.CPUs, 2)
	names := []string{}
	for _, w := range p.Who {
		names = append(names, w.Name)
	}
	assert.Equal(t, []string{"must", "probe"}, names, "by how much they ran in all; cron never had most")
	assert.Equal(t, []float64{39, 35}, []float64{p.Who[0].CPUSeconds, p.Who[1].CPUSeconds})
	assert.Equal(t, []float64{60, 30, 0, 20}, p.Seconds)

	part := func(x []*float64) []any {
		list := make([]any, len(x))
		for i := range x {
			if x[i] != nil {
				list[i] = *x[i]
			}
		}
		return list
	}
	zero, two := p.CPUs[0], p.CPUs[1]
	assert.Equal(t, []int{0, 2}, []int{zero.CPU, two.CPU})
	assert.Equal(t, []any{0.75, 0.5, nil, nil}, part(zero.Busy), "what a hypervisor takes is not busy")
	assert.Equal(t, []any{0.5, 0.5, nil, nil}, part(zero.User))
	assert.Equal(t, []any{0.25, 0.0, nil, nil}, part(zero.System))
	assert.Equal(t, []int{1, 0, -1, -1}, zero.Top, "of two that had as much, the same one always")
	assert.Equal(t, []any{0.4, 0.2, nil, nil}, part(zero.Part))
	assert.Equal(t, []any{0.0, 0.5, nil, nil}, part(two.Busy), "no time that grew is no figure")
	assert.Equal(t, []int{-1, 0, -1, 1}, two.Top, "who ran for nothing had nothing")
	assert.Equal(t, []any{nil, 0.4, nil, 0.25}, part(two.Part))
	assert.Empty(t, p.Notes)

	p = explain.NewPlacement(s, &explain.PlacementGround{Ran: []explain.PlacedRun{run(0, 5, 7, "must", 21)}})
	assert.Len(t, p.Notes, 1)
	assert.Equal(t, []any{5, 0}, []any{p.CPUs[0].CPU, p.CPUs[0].Top[0]})
}
