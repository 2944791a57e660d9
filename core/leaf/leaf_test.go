package leaf_test

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

var noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)

// drawLeaf draws a leaf of one interval in which every table has some rows.
func drawLeaf(t *rapid.T, start time.Time) *leaf.Leaf {
	l := leaf.New(3)
	words := []string{"", "must", "press", "intake"}
	slots := rapid.IntRange(1, 4).Draw(t, "slots")
	for slot := range slots {
		l.Table(leaf.Who).Append(int64(slot), 0, int64(11+(slot*3+start.Minute())%5),
			rapid.Int64Range(0, 2).Draw(t, "tenant"))
	}
	elapsed := rapid.Int64Range(1, 60_000).Draw(t, "elapsed")
	for _, name := range leaf.Tables() {
		if name == leaf.Who {
			continue
		}
		rows := 1
		if name != leaf.Intervals {
			rows = rapid.IntRange(0, slots).Draw(t, "rows")
		}
		s := leaf.SchemaOf(name)
		for row := range rows {
			var values []int64
			for i, c := range s.Columns {
				switch {
				case c.Fill != leaf.Stored:
				case c.Name == leaf.At:
					values = append(values, 0)
				case i == 0: // so that each key is there once
					values = append(values, l.Word(words[row])*truth(c.Word)+int64(row)*(1-truth(c.Word)))
				case c.Word:
					values = append(values, l.Word(rapid.SampledFrom(words).Draw(t, "word")))
				case c.Combine == leaf.Weakest:
					values = append(values, rapid.Int64Range(0, 4).Draw(t, "source"))
				case c.Name == "start":
					values = append(values, start.UnixMicro())
				case c.Name == "elapsed":
					values = append(values, elapsed)
				case c.Combine == leaf.Key:
					values = append(values, rapid.Int64Range(0, 1).Draw(t, "key"))
				default:
					values = append(values, rapid.OneOf(rapid.Int64Range(0, 9), rapid.Int64Range(-1<<62, 1<<62)).Draw(t,
						"value"))
				}
			}
			l.Table(name).Append(values...)
		}
	}
	return leaf.Join(l)
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// told is all that a leaf tells, whatever its words and slots are numbered.
func told(l *leaf.Leaf) []string {
	var list []string
	who := map[[2]int64]string{}
	for row := range l.Tables[leaf.Who].Rows() {
		t := l.Tables[leaf.Who]
		who[[2]int64{t.Of(leaf.Slot)[row], t.Of(leaf.At)[row]}] = fmt.Sprint(t.Of("workload")[row], "/",
			t.Of("tenant")[row])
	}
	for name, t := range l.Tables {
		for row := range t.Rows() {
			line := name
			for i, c := range t.Schema.Columns {
				switch {
				case c.Name == leaf.Slot:
					line += " " + who[[2]int64{t.Low[i][row], t.Of(leaf.At)[row]}]
				case c.Word:
					line += fmt.Sprintf(" %s=%q", c.Name, l.Words[t.Low[i][row]])
				default:
					line += fmt.Sprintf(" %s=%s", c.Name, t.Wide(i, row))
				}
			}
			list = append(list, line)
		}
	}
	slices.Sort(list)
	return list
}

// TestFold_SumsOfSumsAreTheSumOfAll adds up the intervals of a day at once, and by the hour first: every column of
// every table tells the same.
func TestFold_SumsOfSumsAreTheSumOfAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all, hours []*leaf.Leaf
		at := noon
		for range rapid.IntRange(1, 4).Draw(t, "hours") {
			var hour []*leaf.Leaf
			for range rapid.IntRange(1, 4).Draw(t, "intervals") {
				hour = append(hour, drawLeaf(t, at))
				at = at.Add(time.Minute)
			}
			all = append(all, hour...)
			hours = append(hours, leaf.Fold(leaf.Join(hour...)))
		}
		once := leaf.Fold(leaf.Join(all...))
		require.Equal(t, told(once), told(leaf.Fold(leaf.Join(hours...))))
		require.Equal(t, told(once), told(leaf.Fold(once)), "a sum of one is itself")
		slices.Reverse(hours)
		require.Equal(t, told(once), told(leaf.Fold(leaf.Join(hours...))), "in whatever order they come")
		require.True(t, once.Summed)
		require.Equal(t, 1, once.Intervals())
		for name, table := range once.Tables {
			for row := 1; row < table.Rows(); row++ {
				require.NotEqual(t, 0, compare(table, row-1, row), "%s has a key twice", name)
			}
		}
	})
}

// TestSplit_UndoesJoin joins sums whose workloads, words and wide figures are others in each, and takes them apart.
func TestSplit_UndoesJoin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var hours []*leaf.Leaf
		for n := range rapid.IntRange(1, 5).Draw(t, "hours") {
			at := noon.Add(time.Duration(n) * 61 * time.Minute)
			hours = append(hours, leaf.Fold(leaf.Join(drawLeaf(t, at), drawLeaf(t, at.Add(time.Minute)))))
		}
		joined := leaf.Join(hours...)
		before := told(joined)
		parts := leaf.Split(joined)
		require.Len(t, parts, len(hours))
		bits := int32(0)
		for n, p := range parts {
			require.Equal(t, told(hours[n]), told(p))
			require.Empty(t, leaf.Differences(hours[n], p, 9))
			require.True(t, p.Summed)
			require.Equal(t, 1, p.Intervals())
			require.Equal(t, int32(3), p.Host)
			bits |= p.Hours()
		}
		require.Equal(t, before, told(joined), "what is taken apart stays as it is")
		require.Equal(t, before, told(leaf.Join(parts...)))
		require.Equal(t, bits, joined.Hours())
	})
}

// TestWithin_OnlyTheHoursThatAnswerCount has three hours, of which the first and the last are to count.
func TestWithin_OnlyTheHoursThatAnswerCount(t *testing.T) {
	var hours []*leaf.Leaf
	for n := range 3 {
		hours = append(hours, leaf.Fold(one(noon.Add(time.Duration(n)*time.Hour), 11, 1, 60e6, amount.Counted)))
	}
	l := leaf.Join(hours...)
	require.Equal(t, int32(7<<12), l.Hours())
	span := question.Span{From: noon, To: noon.Add(2 * time.Hour)}
	require.Equal(t, []bool{true, true, false}, l.Within(span))
	l.OnlyHours(1<<12 | 1<<14)
	require.Equal(t, []bool{true, false, false}, l.Within(span))
	span.To = span.To.Add(time.Microsecond)
	require.Equal(t, []bool{true, false, true}, l.Within(span))
}

func compare(t *leaf.Table, a, b int) int {
	for i := range t.Schema.Keys() {
		if t.Low[i][a] != t.Low[i][b] {
			return 1
		}
	}
	return 0
}

// one is a leaf of one workload's interval.
func one(start time.Time, workload int64, tenant int32, cpu int64, source amount.Source) *leaf.Leaf {
	l := leaf.New(3)
	in := l.Table(leaf.Intervals)
	for i, c := range in.Schema.Columns {
		if c.Fill == leaf.Stored {
			in.Low[i] = []int64{0}
		}
	}
	in.Of("start")[0], in.Of("end")[0] = start.UnixMicro(), start.Add(time.Minute).UnixMicro()
	in.Of("elapsed")[0] = 60_000
	l.Table(leaf.Who).Append(0, 0, workload, int64(tenant))
	row := []int64{0, 0, 4, 2, 9, 3}
	for _, r := range amount.Resources() {
		if r == amount.CPU {
			row = append(row, cpu, cpu/60, int64(source), 0)
		} else {
			row = append(row, 0, 0, int64(amount.Unavailable), 1)
		}
	}
	l.Table(leaf.Uses).Append(row...)
	return l
}

func TestFold_EveryColumnCombinesInItsWay(t *testing.T) {
	next := noon.Add(time.Minute)
	sum := leaf.Fold(leaf.Join(one(noon, 11, 1, 600, amount.Split), one(next, 11, 1, 60, amount.Counted),
		one(next.Add(time.Minute), 11, 1, 0, amount.Unavailable)))
	uses := sum.Tables[leaf.Uses]
	require.Equal(t, 1, uses.Rows())
	for column, want := range map[string]int64{"cpu": 660, "cpu.peak": 10, "cpu.source": int64(amount.Split),
		"cpu.lacks": 1, "cpu.untold": 0, "cpu.now": 0, "memory.untold": 1, "memory.source": int64(amount.Unavailable),
		"elapsed": 180_000, "count": 3, "threads": 4, "runnable_millis": 27, "runnable_peak": 3, "now_elapsed": 60_000,
		"from": noon.UnixMicro(), "to": next.Add(2 * time.Minute).UnixMicro(),
		leaf.NewestAt: next.Add(time.Minute).UnixMicro()} {
		assert.Equal(t, want, uses.Of(column)[0], column)
	}
	in := sum.Tables[leaf.Intervals]
	assert.Equal(t, []int64{noon.UnixMicro(), 180_000, 3}, []int64{in.Of("start")[0], in.Of("elapsed")[0],
		in.Of("count")[0]})
}

func TestFold_SumsBeyond64BitsHold(t *testing.T) {
	most := int64(math.MaxInt64)
	l := leaf.Join(one(noon, 11, 1, most, amount.Counted), one(noon.Add(time.Minute), 11, 1, most, amount.Counted),
		one(noon.Add(2*time.Minute), 11, 1, 5, amount.Counted))
	hour := leaf.Fold(l)
	day := leaf.Fold(leaf.Join(hour, leaf.Fold(one(noon.Add(time.Hour), 11, 1, 1, amount.Counted))))
	uses := day.Tables[leaf.Uses]
	assert.Equal(t, "18446744073709551620", uses.Wide(uses.Schema.Index("cpu"), 0).String())
}

// TestRetenant_MovesWhoAndNotHowMuch accounts a workload anew from the middle of an hour on.
func TestRetenant_MovesWhoAndNotHowMuch(t *testing.T) {
	quire := leaf.Join(one(noon, 11, 1, 600, amount.Counted), one(noon.Add(time.Minute), 11, 1, 60, amount.Counted),
		one(noon.Add(2*time.Minute), 12, 1, 6, amount.Counted))
	quire.Table(leaf.Links).Append(quire.Word("veth3"), 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 11, 1, 0)
	quire.Fill()
	span := question.Span{From: noon.Add(time.Minute), To: noon.Add(2 * time.Minute)}
	assert.False(t, quire.Retenant(span, map[int64]int32{12: 5}), "it was not there then")
	assert.False(t, quire.Retenant(span, map[int64]int32{11: 1}), "it is theirs already")
	require.True(t, quire.Retenant(span, map[int64]int32{11: 5}))
	assert.Equal(t, int64(5), quire.Tables[leaf.Links].Of("end_tenant")[0])
	scope := question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour)}}
	of := func(l *leaf.Leaf, exists func(int32) bool) map[leaf.User]int64 {
		v := l.View(&scope, exists)
		sums := map[leaf.User]int64{}
		uses := v.Tables[leaf.Uses]
		for row, slot := range uses.Of(leaf.Slot) {
			if u, seen := v.User(slot, uses.Of(leaf.At)[row]); seen {
				sums[u] += uses.Of("cpu")[row]
			}
		}
		return sums
	}
	all := func(int32) bool { return true }
	want := map[leaf.User]int64{{Workload: 11, Tenant: 1}: 600, {Workload: 11, Tenant: 5}: 60,
		{Workload: 12, Tenant: 1}: 6}
	assert.Equal(t, want, of(quire, all))
	sum := leaf.Fold(quire)
	assert.Equal(t, want, of(sum, all))

	scope.Only = []int64{11}
	assert.Len(t, of(sum, all), 2)
	scope.Only, scope.Tenants = nil, []int32{5}
	assert.Equal(t, map[leaf.User]int64{{Workload: 11, Tenant: 5}: 60}, of(sum, all))
	scope.Tenants = []int32{0}
	assert.Equal(t, map[leaf.User]int64{{Workload: 11}: 60},
		of(sum, func(tenant int32) bool { return tenant != 5 }), "a tenant that was removed is nobody")
	v := sum.View(&scope, func(tenant int32) bool { return tenant != 5 })
	assert.Equal(t, leaf.User{Workload: 11}, v.MaySee(leaf.User{Workload: 11, Tenant: 5}))
	assert.Zero(t, v.MaySee(leaf.User{Workload: 11, Tenant: 1}))
	scope.Span.From = noon.Add(time.Second)
	assert.Empty(t, of(sum, all), "a sum belongs to the span in which it begins")
	assert.False(t, sum.Retenant(scope.Span, map[int64]int32{12: 9}))
}

func TestLoads_AreHeldInThousandths(t *testing.T) {
	l := one(noon, 11, 1, 1, amount.Counted)
	in := l.Tables[leaf.Intervals]
	in.Of("loads")[0], in.Of("load_1")[0], in.Of("load_5")[0] = 2, leaf.Load(0.37), leaf.Load(12.5)
	assert.Equal(t, []float64{0.37, 12.5}, l.Loads(0))
	in.Of("loads")[0] = 0
	assert.Empty(t, l.Loads(0))
}

func TestSchema_EveryTableHasItsKeysAndASection(t *testing.T) {
	for _, name := range leaf.Tables() {
		s := leaf.SchemaOf(name)
		assert.NotEmpty(t, s.Section)
		assert.Equal(t, leaf.At, s.Columns[s.Keys()-1].Name, name)
		assert.Equal(t, -1, s.Index("vintage"))
		for _, c := range s.Columns {
			if c.From != "" {
				assert.Less(t, s.Index(c.From), s.Index(c.Name), "it is filled in order")
			}
		}
	}
	assert.Equal(t, []string{"host", "who"}, leaf.SectionsOf(leaf.Who, leaf.Intervals, leaf.Who, "vintage"))
	assert.Nil(t, leaf.SchemaOf("vintage"))
}
