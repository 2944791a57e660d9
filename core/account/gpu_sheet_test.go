package account_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// TestGPUSheets_TellWorkUsersAndHoldersOfTheInterval has a card that works for two jobs and a process of nobody's, one
// that begins to idle and works again, one that tells nothing, one that is lost, and one of a collector's next reading.
func TestGPUSheets_TellWorkUsersAndHoldersOfTheInterval(t *testing.T) {
	from := time.Date(2026, 10, 11, 3, 0, 0, 0, time.UTC)
	names := func(w account.WorkloadID) account.Workload {
		return account.Workload{Key: []string{"job:scan", "job:proof"}[w]}
	}
	r := &account.Reading{
		Processes: []account.Process{{PID: 10, Workload: 0}, {PID: 11, Workload: 0}, {PID: 20, Workload: 1},
			{PID: 30, Workload: account.Unrecognised}},
		GPUs: []account.GPU{{Name: "a"}, {Name: "b"}, {Name: "c"}, {Name: "lost"}},
		GPUClients: []account.GPUClient{{GPU: 0, PID: 11, Kinds: []string{"graphics"}},
			{GPU: 0, PID: 10, Kinds: []string{"compute"}}, {GPU: 0, PID: 10, Kinds: []string{"compute"}},
			{GPU: 0, PID: 20}, {GPU: 0, PID: 30}, {GPU: 2, PID: 20}, {GPU: 2}},
		GPUGrants: []account.GPUGrant{{Workload: 0, GPU: 1, Number: 1, By: "the scheduler"},
			{Workload: 1, GPU: 0, By: "its own environment", IsClaim: true}},
	}
	interval := func(minute int, busyB int64) *account.Interval {
		iv := &account.Interval{From: from.Add(time.Duration(minute) * time.Minute), ElapsedMillis: 60_000}
		iv.Detail.GPUs = []account.GPUTotal{{Name: "a", Micros: 30e6, Told: 60_000},
			{Name: "b", Micros: busyB, Told: 60_000}, {Name: "c"}}
		iv.Usages = []account.Usage{{Workload: 0, GPUs: []account.GPUUse{{GPU: "a", Micros: 24e6, Units: 60_000 * 500,
			Engines: []account.EngineTime{{Engine: "render", Micros: 24e6}, {Engine: "copy"}}}, {GPU: "b"}}},
			{Workload: 1, GPUs: []account.GPUUse{{GPU: "a", Units: 60_000 * 9, Source: amount.Unavailable}}}}
		return iv
	}
	idle := map[string]time.Time{"lost": from}
	tell := func(iv *account.Interval) *account.Inventory {
		inv := &account.Inventory{GPUs: []account.GPUSheet{{Name: "a", NoBusy: "not yet"}, {Name: "b"},
			{Name: "c", NoBusy: "it is not supported"}, {Name: "lost", State: account.GPULost, Why: "no answer"},
			{Name: "new"}}}
		inv.TellGPUs(iv, r, names, idle)
		return inv
	}
	sheets := tell(interval(0, 599_999)).GPUs
	half, part := 0.5, 0.4
	memory := []int64{500, 9}
	assert.Equal(t, account.GPUSheet{Name: "a", State: account.GPUBusyNow, Busy: &half,
		Holders: []account.GPUHolder{{Key: "job:proof", By: "its own environment", Claim: true}},
		Users: []account.GPUUser{
			{Key: "job:scan", PIDs: []int32{11, 10}, Busy: &part, Memory: &memory[0],
				Kinds: []string{"render", "graphics", "compute"}},
			{Key: "job:proof", PIDs: []int32{20}, Memory: &memory[1], Kinds: []string{}},
			{PIDs: []int32{30}, Kinds: []string{}}}}, sheets[0])
	assert.Equal(t, []any{account.GPUIdle, from}, []any{sheets[1].State, *sheets[1].Since}, "1 % and more is work")
	assert.Equal(t, []account.GPUHolder{{Key: "job:scan", Number: 1, By: "the scheduler"}}, sheets[1].Holders)
	assert.Equal(t, []any{account.GPUUnknown, "it is not supported"}, []any{sheets[2].State, sheets[2].Why})
	assert.Equal(t, []account.GPUUser{{Key: "job:proof", PIDs: []int32{20}, Kinds: []string{}},
		{PIDs: []int32{}, Kinds: []string{}}}, sheets[2].Users, "one client of nobody that is known")
	assert.Equal(t, []any{account.GPULost, "no answer"}, []any{sheets[3].State, sheets[3].Why})
	assert.Equal(t, account.GPUUnknown, sheets[4].State)
	assert.Equal(t, map[string]time.Time{"b": from}, idle)

	require.NotNil(t, tell(interval(1, 0)).GPUs[1].Since)
	assert.Equal(t, from, *tell(interval(2, 0)).GPUs[1].Since, "it has idled since then")
	busy := tell(interval(3, 600_000)).GPUs[1]
	assert.Equal(t, account.GPUBusyNow, busy.State)
	assert.Nil(t, busy.Since)
	assert.Equal(t, from.Add(4*time.Minute), *tell(interval(4, 0)).GPUs[1].Since)
}

func TestGPUBands_BeginAtRoundParts(t *testing.T) {
	for band := range account.GPUBands {
		at := int64(account.BandFrom(band)*1e6 + 0.5)
		assert.Equal(t, band, account.BandOf(at, 1000), "at its begin")
		if band > 0 {
			assert.Equal(t, band-1, account.BandOf(at-1, 1000), "just below it")
		}
	}
	assert.Equal(t, account.GPUBands-1, account.BandOf(3e6, 1000), "more than all of the time")
	assert.InDelta(t, 1, account.BandFrom(account.GPUBands), 1e-12)
	assert.Equal(t, 1, account.BandOf(60, 0), "over no time it is as over a millisecond")
}
