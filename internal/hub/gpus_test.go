package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// gpuMinutes sends ten minutes of a host of three GPUs and a partition: a is given to scan, which works on it for 20 s,
// and then 50 s of a minute, in turn, and proof uses it a little; b is given to scan and idle; c does not tell how long
// it worked, and proof was given a part of it.
func gpuMinutes(t *testing.T) *fixture {
	f := newFixture(t)
	idle := noon.Add(-2 * time.Hour)
	f.parts = &account.Inventory{NoGPUs: "the library was asked in vain", GPUs: []account.GPUSheet{
		{Name: "a", Title: "Leaf 48", State: account.GPUBusyNow, Bus: "0000:03:00.0", Holders: []account.GPUHolder{
			{Key: "job:scan", By: "the scheduler"}}, Wrong: []string{"2 uncorrected errors"},
			Figures: []account.GPUFigure{{Section: "power", Name: "power"}}},
		{Name: "b", Index: 1, State: account.GPUIdle, Since: &idle, Holders: []account.GPUHolder{
			{Key: "job:scan", Number: 1, By: "the scheduler"}, {Key: "job:gone", By: "the scheduler"}}},
		{Name: "c", Index: 2, State: account.GPUUnknown, NoBusy: "it is not supported", Holders: []account.GPUHolder{
			{Key: "job:scan", Number: 2, By: "the scheduler"},
			{Key: "job:proof", By: "its own environment", Claim: true}}},
		{Name: "c/0", Index: 0, Card: "c", State: account.GPUUnknown, NoBusy: "it is not supported"}}}
	for minute := range 10 {
		busy := int64(20e6 + minute%2*30e6)
		f.dress = func(iv *account.Interval) {
			iv.Detail.GPUs = []account.GPUTotal{
				{Name: "a", Micros: busy + 6e6, Told: 60_000, Units: 40 * 60_000, UnitsTold: 60_000, MemoryTotal: 64},
				{Name: "b", Index: 1, Told: 60_000, By: account.BusyByClients},
				{Name: "c", Index: 2, Units: 7 * 60_000, UnitsTold: 60_000, MemoryTotal: 64},
				{Name: "c/0", Card: "c"}, {Name: "d", Index: 3, Micros: 1e6, Told: 60_000}}
			bands := [account.GPUBands]int64{}
			bands[account.BandOf(busy, 60_000)] = 60_000
			if minute == 9 {
				bands = [account.GPUBands]int64{0: 6_000, 10: 54_000}
			}
			iv.Usages[0].GPUs = []account.GPUUse{{GPU: "a", Micros: busy, Units: 30 * 60_000, Granted: 60_000,
				Bands: bands, Engines: []account.EngineTime{{Engine: "render", Micros: busy},
					{Engine: "copy", Micros: 3e6}}},
				{GPU: "b", Granted: 60_000, Bands: [account.GPUBands]int64{0: 60_000}}}
			iv.Usages[1].GPUs = []account.GPUUse{{GPU: "a", Micros: 4e6, Source: amount.Reported},
				{GPU: "c/0", Units: 5 * 60_000, Granted: 60_000, Source: amount.Unavailable}}
		}
		require.NoError(t, f.send(minute, job("scan", "m.abt"), job("proof", "t.fink")))
	}
	return f
}

func TestGPUs_TellWhoHadThemAndWhatToLookAt(t *testing.T) {
	f := gpuMinutes(t)
	span := question.Span{From: noon, To: noon.Add(10 * time.Minute)}
	g, err := f.GPUs(ctx, "", span)
	require.NoError(t, err)
	assert.Equal(t, []string{"terrace-1: the library was asked in vain"}, g.Notes)
	assert.True(t, g.Trouble)
	require.Len(t, g.GPUs, 5)
	var numbers []string
	for i := range g.GPUs {
		numbers = append(numbers, g.GPUs[i].Number+" "+g.GPUs[i].State)
	}
	assert.Equal(t, []string{"0 busy", "1 idle", "2 unknown", "2.0 unknown", "3 unknown"}, numbers)

	a := &g.GPUs[0]
	assert.InDelta(t, 41.0/60, *a.Busy, 1e-12)
	assert.InDelta(t, 2.0/60, *a.Residual, 1e-12)
	assert.InDelta(t, 40, *a.MemoryUsed, 1e-12)
	assert.EqualValues(t, 64, *a.MemoryBytes)
	require.Len(t, a.Users, 2)
	scan := &a.Users[0]
	assert.Equal(t, []any{"scan", "counted", 30.0, 1.0}, []any{scan.Name, scan.Source, scan.Memory, scan.Granted})
	assert.Equal(t, []explain.EngineBusy{{Engine: "render", Busy: 35.0 / 60}, {Engine: "copy", Busy: 0.05}},
		scan.Engines)
	assert.InDelta(t, 35.0/60, scan.Spread.Mean, 1e-12)
	assert.InDelta(t, 0.49, scan.Spread.Above80, 1e-12, "4 minutes at 50 s, and nine tenths of one")
	assert.InDelta(t, 0.01, scan.Spread.Below5, 1e-12)
	assert.InDelta(t, 0.3+0.1*0.49/0.5, scan.Spread.Median, 1e-12, "half of the time is in the band from 30 % on")
	assert.EqualValues(t, 600, scan.Spread.Seconds)
	assert.Equal(t, []string{"2 uncorrected errors", "used by proof, which it was not given to"}, a.Notices)
	require.Len(t, a.Holders, 1)
	assert.Equal(t, []any{"scan", 0, "the scheduler"}, []any{a.Holders[0].Name, a.Holders[0].Number, a.Holders[0].By})

	assert.True(t, g.GPUs[1].ByClients)
	assert.Equal(t, []string{"given to scan and idle for 2 h 10 min"}, g.GPUs[1].Notices)
	assert.Equal(t, []any{(*float64)(nil), "it is not supported"}, []any{g.GPUs[2].Busy, g.GPUs[2].NoBusy})
	assert.Empty(t, g.GPUs[2].Notices, "a claim is no grant: it is given to one")
	f.parts.GPUs[2].Holders[1].Claim = false
	f.dress = nil
	require.NoError(t, f.send(10, job("scan", "m.abt"), job("proof", "t.fink")))
	twice, err := f.GPU(ctx, "terrace-1", "c", span)
	require.NoError(t, err)
	assert.Equal(t, []string{"it is given to 2 at once: scan and 1 more"}, twice.GPUs[0].Notices)
	part := &g.GPUs[3]
	require.Len(t, part.Users, 1)
	assert.Equal(t, []any{"proof", (*float64)(nil), 5.0, "unavailable"},
		[]any{part.Users[0].Name, part.Users[0].Busy, part.Users[0].Memory, part.Users[0].Source})
	assert.Empty(t, part.Notices)
	require.Len(t, part.Holders, 1)
	assert.Equal(t, []any{-1, 1.0}, []any{part.Holders[0].Number, part.Holders[0].Granted})
	assert.Equal(t, "it is not there any more", g.GPUs[4].Why)

	for name, number := range map[string]string{"0": "0", "a": "0", "0000:03:00.0": "0", "2.0": "2.0", "c": "2"} {
		one, err := f.GPU(ctx, "terrace-1", name, span)
		require.NoError(t, err, name)
		require.Len(t, one.GPUs, 1)
		assert.Equal(t, number, one.GPUs[0].Number, name)
	}
	one, err := f.GPU(ctx, "terrace-1", "a", span)
	require.NoError(t, err)
	assert.Len(t, one.GPUs[0].Figures, 1)
	_, err = f.GPU(ctx, "terrace-1", "9", span)
	assert.ErrorContains(t, err, `terrace-1 has no GPU "9": it has 0, 1, 2, 2.0, 3`)
	_, err = f.GPU(ctx, "", "0", span)
	assert.ErrorContains(t, err, "of which host")
}

func TestAbout_TellsAJobsGPUsByBothNumbersOverItsLife(t *testing.T) {
	f := gpuMinutes(t)
	found, err := f.Find(ctx, "scan", "")
	require.NoError(t, err)
	short := question.Span{From: noon.Add(8 * time.Minute), To: noon.Add(9 * time.Minute)}
	a, err := f.AboutWorkload(ctx, found[0].ID, short)
	require.NoError(t, err)
	require.Len(t, a.GPUs, 3)
	assert.Equal(t, []any{"0", 0, "the scheduler", "1", 1}, []any{a.GPUs[0].Number, a.GPUs[0].Inside, a.GPUs[0].By,
		a.GPUs[1].Number, a.GPUs[1].Inside})
	assert.EqualValues(t, 600, a.GPUs[0].Use.Spread.Seconds, "its life is longer than the span")
	assert.InDelta(t, 1, a.GPUs[1].Use.Spread.Below5, 1e-12)
}
