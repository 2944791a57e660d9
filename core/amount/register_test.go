package amount_test

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
)

func TestRegister_EveryEntrySaysAllThatThePartsOfTheProductNeed(t *testing.T) {
	seen := map[string]bool{}
	for _, m := range amount.Measures() {
		e := m.Entry()
		assert.Regexp(t, `^[a-z][a-z0-9_]*$`, e.Name, "it names columns and fields")
		assert.False(t, seen[e.Name], "%s is there twice", e.Name)
		seen[e.Name] = true
		assert.NotEmpty(t, e.Title, e.Name)
		assert.Regexp(t, `^[A-Z].*\.$`, e.Meaning, "%s: a whole sentence", e.Name)
		assert.Positive(t, e.Unit.Per, e.Name)
		assert.NotEmpty(t, e.Unit.Name, e.Name)
		assert.NotEmpty(t, e.Unit.Mean, e.Name)
		assert.True(t, e.Of.HasLedger(), "%s belongs to a resource", e.Name)
		if m.HasLedger() {
			assert.Equal(t, m, e.Of, e.Name)
			assert.NotEmpty(t, e.NeverOf, "%s: why a workload may lack it", e.Name)
			assert.Equal(t, amount.ByCapacity, e.Bound, e.Name)
			continue
		}
		if e.Unit.Name == "us" || e.Unit.Name == "bytes" {
			assert.True(t, strings.HasSuffix(e.Name, "_"+e.Unit.Name), "%s ends in its unit", e.Name)
		}
		if e.IsSlow {
			assert.Equal(t, amount.Level, e.Manner, "%s: only levels are read seldom", e.Name)
		}
	}
	assert.Len(t, seen, amount.NumMeasures)
	assert.Equal(t, amount.Measures(), slices.Concat(amount.Resources(), amount.Beside()))
	assert.Equal(t, []string{"cpu", "memory", "disk", "network", "gpu", "gpu_memory", "energy"}, amount.ResourceNames())
}

func TestMeasure_AmountsAndMeansGoByItsManner(t *testing.T) {
	for _, c := range []struct {
		of                   amount.Measure
		units, amount, mean  float64
		unit, meanUnit       string
		amountField, average string
	}{
		{amount.CPU, 30e6, 30, 0.5, "cpu_seconds", "cores", "cpu_seconds", "cpu_cores_mean"},
		{amount.Memory, 4096 * 60_000, 4096, 4096, "bytes", "bytes", "memory_bytes_mean", "memory_bytes_mean"},
		{amount.Disk, 1200, 1200, 20, "bytes", "bytes_per_second", "disk_bytes", "disk_bytes_per_second_mean"},
		{amount.CPUThrottled, 6e6, 6e6, 1e5, "us", "us_per_second", "cpu_throttled_us",
			"cpu_throttled_us_us_per_second_mean"},
		{amount.MemoryHigh, 77, 77, 77, "bytes", "bytes", "memory_high_bytes", "memory_high_bytes_bytes_mean"},
		{amount.SpaceFiles, 5 * 60_000, 5, 5, "count", "count", "space_files", "space_files_count_mean"},
	} {
		name := c.of.String()
		assert.InDelta(t, c.amount, c.of.Amount(c.units, 60_000), 1e-9, name)
		assert.InDelta(t, c.mean, c.of.Mean(c.units, 60_000), 1e-9, name)
		assert.Equal(t, []string{c.unit, c.meanUnit, c.amountField, c.average},
			[]string{c.of.Unit(), c.of.MeanUnit(), c.of.AmountField(), c.of.MeanField()}, name)
		if c.of.Manner() == amount.Height {
			assert.Equal(t, c.units, c.of.Mean(c.units, 0), "%s: the highest is told as it is", name)
		} else {
			assert.Zero(t, c.of.Mean(c.units, 0), "%s: over no time there is no mean", name)
			assert.Zero(t, c.of.Mean(c.units, -1), name)
		}
	}
	assert.Zero(t, amount.Memory.Amount(4096, 0))
	assert.InDelta(t, 30.0, amount.CPU.Amount(30e6, 0), 1e-9, "what accumulates needs no time")
	assert.InDelta(t, 1.5, amount.CPU.PeakMean(1.5e6), 1e-12)
	assert.InDelta(t, 4096.0, amount.Memory.PeakMean(4096), 1e-12)
}

func TestMeasure_NamesAreReadBackAndOthersRefused(t *testing.T) {
	for _, m := range amount.Measures() {
		got, err := amount.Parse(m.String())
		require.NoError(t, err)
		assert.Equal(t, m, got)
		_, err = amount.ParseResource(m.String())
		assert.Equal(t, m.HasLedger(), err == nil, m.String())
	}
	_, err := amount.Parse("wine")
	assert.ErrorContains(t, err, `unknown measure "wine": choose one of cpu, memory`)
	_, err = amount.ParseResource("cpu_user_us")
	assert.ErrorContains(t, err, `unknown resource "cpu_user_us": choose one of cpu, memory, disk, network`)
	assert.Equal(t, fmt.Sprintf("measure(%d)", amount.NumMeasures), amount.Measure(amount.NumMeasures).String())
	assert.Equal(t, "space_limit_bytes", amount.Measure(amount.NumMeasures-1).String())
	for text, k := range map[string]amount.Kind{"loose": amount.Loose, "kernel": amount.Kernel, "job": amount.Job} {
		got, err := amount.ParseKind(text)
		require.NoError(t, err)
		assert.Equal(t, []any{k, text}, []any{got, k.String()})
	}
	_, err = amount.ParseKind("pet")
	assert.ErrorContains(t, err, "container")
	assert.Equal(t, "kind(7)", (amount.Kernel + 1).String())
	for s := amount.Counted; s <= amount.Unavailable; s++ {
		got, err := amount.ParseSource(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, got)
	}
	_, err = amount.ParseSource("guessed")
	assert.ErrorContains(t, err, "split")
	assert.Equal(t, "source(5)", (amount.Unavailable + 1).String())
	assert.Equal(t, amount.Split, amount.Summed.Weaker(amount.Split))
	assert.Equal(t, amount.Split, amount.Split.Weaker(amount.Counted))
}

func TestManner_SaysHowFiguresCombine(t *testing.T) {
	got := map[string]string{}
	for _, m := range []amount.Manner{amount.Flow, amount.Level, amount.Stall, amount.Height} {
		got[m.String()] = fmt.Sprint(m.OverTime(), " ", m.OverWorkloads(), " ", m.OverHosts())
	}
	assert.Equal(t, map[string]string{"flow": "sum sum sum", "level": "mean sum sum", "stall": "sum apart apart",
		"height": "highest highest highest"}, got)
	assert.Equal(t, []string{"none", "capacity", "limit"},
		[]string{amount.Unbounded.String(), amount.ByCapacity.String(), amount.ByLimit.String()})
	assert.Equal(t, []string{"area", "line", "marks"},
		[]string{amount.Area.String(), amount.Line.String(), amount.Marks.String()})
	assert.Equal(t, []string{"plain", "binary", "decimal", "seconds"}, []string{amount.Plain.String(),
		amount.Binary.String(), amount.Decimal.String(), amount.Seconds.String()})
}

func TestMeasureSet_HoldsWhatWasPutIntoIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := rapid.SliceOfDistinct(rapid.IntRange(0, amount.NumMeasures-1), func(i int) int { return i })
		one, other := draw.Draw(t, "one"), draw.Draw(t, "other")
		var a, b amount.MeasureSet
		for _, i := range one {
			a.Put(amount.Measure(i))
		}
		for _, i := range other {
			b.Put(amount.Measure(i))
		}
		require.Equal(t, len(one) == 0, a.IsEmpty())
		slices.Sort(one)
		var got []int
		for m := range a.All() {
			got = append(got, int(m))
		}
		require.Equal(t, len(one), len(got))
		for i := range one {
			require.Equal(t, one[i], got[i])
		}
		a.Keep(&b)
		for _, m := range amount.Measures() {
			require.Equal(t, slices.Contains(one, int(m)) && slices.Contains(other, int(m)), a.Has(m), m.String())
		}
	})
	var s amount.MeasureSet
	s.Put(amount.CPU)
	s.Put(amount.Disk)
	for m := range s.All() { // one may stop at any
		assert.Equal(t, amount.CPU, m)
		break
	}
}

func TestWide_AddsExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all, part amount.Wide
		sum := new(big.Int)
		for _, n := range rapid.SliceOf(rapid.Int64Range(0, 1<<62)).Draw(t, "units") {
			var one amount.Wide
			one.Add(n)
			part.Add(n)
			all.Plus(one)
			sum.Add(sum, big.NewInt(n))
			var highest amount.Wide
			highest.Raise(one)
			highest.Raise(amount.Wide{})
			require.Equal(t, one, highest)
			highest.Raise(all)
			require.Equal(t, all, highest, "the sum is at least its last part")
		}
		want, _ := new(big.Float).SetInt(sum).Float64()
		require.Equal(t, want, all.Float())
		require.Equal(t, all, part)
	})
}

// A resource is a measure with a ledger; its entry says all there is to say of it.
func ExampleMeasure_Entry() {
	m, _ := amount.Parse("memory_anon_bytes")
	e := m.Entry()
	fmt.Println(e.Title, "of", e.Of, "is a", e.Manner, "in", m.MeanUnit())
	fmt.Println("over workloads:", e.Manner.OverWorkloads(), "- over time:", e.Manner.OverTime())
	fmt.Println("has a ledger:", m.HasLedger(), "- its resource:", e.Of.HasLedger())
	// Output:
	// Memory, anonymous of memory is a level in bytes
	// over workloads: sum - over time: mean
	// has a ledger: false - its resource: true
}

// A ledger counts CPU time in whole microseconds; people read it in cores.
func ExampleMeasure_Mean() {
	fmt.Println(amount.CPU.Mean(90e6, 60_000), amount.CPU.MeanUnit())
	fmt.Println(amount.CPU.Amount(90e6, 60_000), amount.CPU.Unit())
	// Output:
	// 1.5 cores
	// 90 cpu_seconds
}
