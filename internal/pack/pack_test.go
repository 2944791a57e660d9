package pack_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/internal/pack"
)

// drawLeaf draws a leaf with one table of workloads and one of links, in any figures.
func drawLeaf(t *rapid.T) *leaf.Leaf {
	l := leaf.New(7)
	l.Summed = rapid.Bool().Draw(t, "summed")
	n := rapid.IntRange(1, 40).Draw(t, "intervals")
	number := rapid.OneOf(rapid.Int64Range(0, 5), rapid.Int64Range(-1<<62, 1<<62), rapid.Int64(),
		rapid.Just(int64(math.MinInt64)), rapid.Map(rapid.Int64Range(0, 1000), func(n int64) int64 { return 4096 * n }))
	fill := func(name string, rows int, words ...string) {
		table := l.Table(name)
		for i, c := range table.Schema.Columns {
			for range rows {
				v := number.Draw(t, "value")
				if c.Word {
					v = l.Word(rapid.SampledFrom(words).Draw(t, "word"))
				}
				if len(table.Low[i]) > 0 && rapid.IntRange(0, 3).Draw(t, "again") > 0 {
					v = table.Low[i][len(table.Low[i])-1]
				}
				table.Low[i] = append(table.Low[i], v)
			}
		}
		if rapid.Bool().Draw(t, "wide") && rows > 0 {
			i := len(table.Schema.Columns) - 1
			table.High[i] = make([]int64, rows)
			table.High[i][0] = number.Draw(t, "high")
		}
	}
	fill(leaf.Intervals, n, "", "not told")
	fill(leaf.Ran, rapid.IntRange(0, 200).Draw(t, "rows"))
	fill(leaf.Links, rapid.IntRange(0, 20).Draw(t, "links"), "", "eth0", "veth3")
	return l
}

// TestEncode_IsUndoneByDecode packs any figures and unpacks them, all of them and one column alone.
func TestEncode_IsUndoneByDecode(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := drawLeaf(t)
		got := leaf.New(7)
		for _, section := range leaf.SectionsOf(leaf.Intervals, leaf.Ran, leaf.Links) {
			require.NoError(t, pack.Decode(pack.Encode(l, section), got, nil))
		}
		require.Equal(t, l.Summed, got.Summed)
		for name, table := range l.Tables {
			for i, c := range table.Schema.Columns {
				if !l.Summed && c.Fill != leaf.Stored || table.Rows() == 0 {
					continue
				}
				want := append([]int64{}, table.Low[i]...)
				if c.Word {
					for row, v := range want {
						want[row] = got.Word(l.Words[v])
					}
				}
				require.Equal(t, want, got.Tables[name].Low[i], "%s, %s", name, c.Name)
				require.Equal(t, table.High[i], got.Tables[name].High[i], "%s, %s", name, c.Name)
			}
		}
		if l.Tables[leaf.Ran].Rows() == 0 {
			return
		}
		one := leaf.New(7)
		require.NoError(t, pack.Decode(pack.Encode(l, "ran"), one, leaf.WantOf(func(_, column string) bool {
			return column == "source"
		})))
		require.Equal(t, l.Tables[leaf.Ran].Of("source"), one.Tables[leaf.Ran].Of("source"))
		require.Equal(t, l.Tables[leaf.Ran].Of("cpu"), one.Tables[leaf.Ran].Of("cpu"), "keys are always read")
		require.Empty(t, one.Tables[leaf.Ran].Of("micros"))
	})
}

// TestEncode_ASeriesThatHardlyMovesTakesNextToNothing holds what the encoding is for: an hour of twenty workloads.
func TestEncode_ASeriesThatHardlyMovesTakesNextToNothing(t *testing.T) {
	l := leaf.New(1)
	for at := range int64(60) {
		l.Table(leaf.Intervals).Low[0] = append(l.Table(leaf.Intervals).Low[0], at)
	}
	ran := l.Table(leaf.Ran)
	for slot := range int64(20) {
		for at := range int64(60) {
			ran.Append(slot, 3, at, slot*1_000_000+at%7*10_000, 0)
		}
	}
	assert.Less(t, len(pack.Encode(l, "ran")), 400, "of 1,200 rows")
}

// TestEncode_WhatFollowsFromOtherFiguresTakesNextToNothing has programs that add up to their workload's time but for a
// little, a drive and its partition with the same bytes, and a workload of which the whole is not known.
func TestEncode_WhatFollowsFromOtherFiguresTakesNextToNothing(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	l := leaf.New(1)
	in := l.Table(leaf.Intervals)
	for at := range int64(60) {
		for i, c := range in.Schema.Columns {
			if c.Fill == leaf.Stored {
				in.Low[i] = append(in.Low[i], map[bool]int64{false: at}[c.Word])
			}
		}
	}
	uses := l.Table(leaf.Uses)
	for slot := range int64(10) {
		for at := range int64(60) {
			cpu, read := rng.Int64N(1<<40), rng.Int64N(1<<40)
			if slot < 9 {
				row := []int64{slot, at, 0, 0, 0, 0}
				for r := range amount.NumResources {
					row = append(row, map[int]int64{int(amount.CPU): cpu}[r], 0, 0, 0)
				}
				uses.Append(row...)
			}
			for n, word := range []string{"must", "press"} {
				part := []int64{cpu / 3, cpu - cpu/3 - at%2}[n]
				row := []int64{slot, l.Word(word), 0, at, 1}
				for r := range amount.NumResources {
					row = append(row, map[int]int64{int(amount.CPU): part}[r], 1, 0)
				}
				l.Table(leaf.Programs).Append(row...)
				l.Table(leaf.Devices).Append(slot, int64(8<<20+n), at, read, 0, 0, 0, 0, 0, 0, 0)
			}
			l.Table(leaf.OfMeasure(amount.DiskRead)).Append(slot, at, read, 0)
		}
	}
	l.Sort()
	got := leaf.New(1)
	size := map[string]int{}
	for _, section := range leaf.SectionsOf(leaf.Tables()...) {
		packed := pack.Encode(l, section)
		size[section] = len(packed)
		require.NoError(t, pack.Decode(packed, got, nil))
	}
	got.Fill()
	for name, table := range l.Tables {
		for i, c := range table.Schema.Columns {
			if c.Fill == leaf.Stored && !c.Word && name != leaf.Intervals {
				require.Equal(t, table.Low[i], got.Tables[name].Low[i], "%s, %s", name, c.Name)
			}
		}
	}
	assert.Less(t, size["programs"], 600*5+600*5/10+1500, "one of the two programs, and what has no whole")
	assert.Less(t, size["devices"], 1500, "a drive's bytes and its partition's are the workload's")
}

func TestDecode_DamagedBytesAreAnError(t *testing.T) {
	l := leaf.New(1)
	l.Table(leaf.Intervals).Low[0] = []int64{0}
	l.Table(leaf.Ran).Append(0, 1, 0, 99, 0)
	sound := pack.Encode(l, "ran")
	assert.NoError(t, pack.Decode(sound, leaf.New(1), nil))
	assert.ErrorContains(t, pack.Decode(nil, leaf.New(1), nil), "version")
	assert.ErrorContains(t, pack.Decode([]byte{2, 0}, leaf.New(1), nil), "newer")
	for n := 1; n < len(sound); n++ {
		assert.Error(t, pack.Decode(sound[:n], leaf.New(1), nil), "cut to %d", n)
	}
}

// FuzzDecode: whatever the bytes, Decode returns, and every column it read has its rows.
func FuzzDecode(f *testing.F) {
	l := leaf.New(1)
	l.Table(leaf.Intervals).Low[0] = []int64{0, 1}
	for at := range int64(2) {
		l.Table(leaf.Ran).Append(0, 1, at, 99, 0)
	}
	f.Add(pack.Encode(l, "ran"))
	f.Fuzz(func(t *testing.T, b []byte) {
		into := leaf.New(1)
		if pack.Decode(b, into, nil) != nil {
			return
		}
		for _, table := range into.Tables {
			for i := range table.Low {
				if n := len(table.Low[i]); n != 0 && n != len(table.Low[0]) && table.Low[0] != nil {
					t.Fatalf("%s has columns of %d and %d rows", table.Schema.Name, n, len(table.Low[0]))
				}
			}
		}
	})
}
