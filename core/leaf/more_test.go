package leaf_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/leaf"
)

func TestFold_WordsCombineByTheAlphabetAndHeightsByTheHighest(t *testing.T) {
	why := leaf.WhyColumn(amount.Disk, "idle")
	high := leaf.OfMeasure(amount.MemoryHigh)
	var all []*leaf.Leaf
	for i, reason := range []string{"not told", "", "the counters may not be read"} {
		l := one(noon.Add(time.Duration(i)*time.Minute), 11, 1, 60, amount.Counted)
		l.Tables[leaf.Intervals].Of(why)[0] = l.Word(reason)
		l.Table(high).Append(0, 0, []int64{7, 9, 8}[i], int64(amount.Counted))
		l.Table(leaf.OfMeasure(amount.CPUWait)).Append(0, 0, []int64{7, 9, 8}[i], int64(i))
		all = append(all, l)
	}
	sum := leaf.Fold(leaf.Join(all...))
	assert.Equal(t, "the counters may not be read", sum.Words[sum.Tables[leaf.Intervals].Of(why)[0]])
	assert.Equal(t, int64(9), sum.Tables[high].Of("units")[0])
	wait := sum.Tables[leaf.OfMeasure(amount.CPUWait)]
	assert.Equal(t, []int64{24, 2, 180_000, 3}, []int64{wait.Of("units")[0], wait.Of("source")[0], wait.Of("over")[0],
		wait.Of("count")[0]})
	assert.Zero(t, sum.Tables[leaf.Uses].Of("cpu.lacks")[0], "it has a figure in all of them")
	assert.Equal(t, int64(1), sum.Tables[leaf.Uses].Of("memory.lacks")[0])
}

func TestFold_TheNewestCountsWhicheverComesLast(t *testing.T) {
	older := one(noon, 11, 1, 60, amount.Counted)
	older.Tables[leaf.Uses].Of("threads")[0] = 3
	newer := one(noon.Add(time.Minute), 11, 1, 70, amount.Counted)
	for _, order := range [][]*leaf.Leaf{{older, newer}, {newer, older}} {
		uses := leaf.Fold(leaf.Join(order...)).Tables[leaf.Uses]
		assert.Equal(t, []int64{4, 70}, []int64{uses.Of("threads")[0], uses.Of("cpu.now")[0]})
	}
}

func TestSort_RowsGoByTheirKeys(t *testing.T) {
	l := leaf.New(1)
	rng := rand.New(rand.NewPCG(1, 1))
	for _, n := range rng.Perm(60) {
		l.Table(leaf.Ran).Append(int64(n/20), int64(n/4%5), int64(n%4), int64(n), 0)
	}
	l.Sort()
	for row, micros := range l.Tables[leaf.Ran].Of("micros") {
		assert.Equal(t, int64(row), micros)
	}
}

// TestMerge_RowsOfOneWorkloadAreOne has two slots of the same workload in one interval.
func TestMerge_RowsOfOneWorkloadAreOne(t *testing.T) {
	l := one(noon, 11, 1, 600, amount.Counted)
	twice := one(noon, 11, 1, 60, amount.Split).Tables[leaf.Uses]
	l.Table(leaf.Who).Append(1, 0, 11, 1)
	uses := l.Table(leaf.Uses)
	row := []int64{1, 0}
	for i, c := range uses.Schema.Columns[2:] {
		if c.Fill == leaf.Stored {
			row = append(row, twice.Low[i+2][0])
		}
	}
	uses.Append(row...)
	m := leaf.Merge(l)
	m.Fill()
	assert.False(t, m.Summed, "it is an interval as any")
	got := m.Tables[leaf.Uses]
	require.Equal(t, 1, got.Rows())
	assert.Equal(t, []int64{660, int64(amount.Split), 60_000, 1, 660, noon.UnixMicro()}, []int64{got.Of("cpu")[0],
		got.Of("cpu.source")[0], got.Of("elapsed")[0], got.Of("count")[0], got.Of("cpu.now")[0], got.Of("from")[0]})
}

// TestDifferences_TellEachFigureThatIsAnother compares sums whose words and slots have other numbers.
func TestDifferences_TellEachFigureThatIsAnother(t *testing.T) {
	make := func(first, second int64, program string, cpu int64) *leaf.Leaf {
		a, b := one(noon, first, 1, cpu, amount.Counted), one(noon.Add(time.Minute), second, 2, 5, amount.Counted)
		for _, l := range []*leaf.Leaf{a, b} {
			l.Word("a word that is not used")
			l.Table(leaf.Parts).Append(0, l.Word(program), 0, 7)
		}
		return leaf.Fold(leaf.Join(a, b))
	}
	kept := make(11, 12, "CPU 0", 600)
	assert.Empty(t, leaf.Differences(kept, make(11, 12, "CPU 0", 600), 5))
	assert.Contains(t, leaf.Differences(kept, make(11, 12, "CPU 0", 601), 50),
		"uses, workload 11 of tenant 1: cpu is 600, and what it is the sum of gives 601")
	other := leaf.Differences(kept, make(11, 12, "CPU 1", 600), 50)
	assert.Contains(t, other,
		`parts, workload 11 of tenant 1, part "CPU 0": micros is 7, and what it is the sum of gives `+
			"nothing")
	assert.Contains(t, other,
		`parts, workload 11 of tenant 1, part "CPU 1": micros is not kept, and what it is the sum `+
			"of gives 7")
	assert.Len(t, leaf.Differences(kept, make(13, 12, "CPU 0", 600), 3), 3, "as many as are wanted")
}

// related has two programs of a workload that add up to its CPU time less 3, and devices that each have all its bytes.
func related(t *testing.T) *leaf.Leaf {
	l := one(noon, 11, 1, 600, amount.Counted)
	program := func(name string, cpu int64) {
		row := []int64{0, l.Word(name), 0, 0, 1}
		for _, r := range amount.Resources() {
			row = append(row, map[bool]int64{true: cpu}[r == amount.CPU], 1, 0)
		}
		l.Table(leaf.Programs).Append(row...)
	}
	program("must", 200)
	program("press", 397)
	for device := range int64(2) {
		l.Table(leaf.Devices).Append(0, device, 0, 50, 0, 0, 0, 0, 0, 0, 0)
	}
	l.Table(leaf.OfMeasure(amount.DiskRead)).Append(0, 0, 50, 0)
	l.Table(leaf.OfMeasure(amount.CPUUser)).Append(0, 0, 400, 0)
	l.Table(leaf.OfMeasure(amount.CPUSystem)).Append(0, 0, 150, 0)
	require.NotNil(t, l)
	return l
}

func TestRelate_TellsHowFarFiguresAreFromWhatTheyFollowFrom(t *testing.T) {
	l := related(t)
	at := func(table, column string) int { return l.Tables[table].Schema.Index(column) }
	system := leaf.OfMeasure(amount.CPUSystem)
	for _, c := range []struct {
		table, column string
		way           leaf.Way
		want          []int64
	}{
		{leaf.Programs, "cpu", leaf.AsParts, []int64{200, -3}},
		{leaf.Programs, "cpu", leaf.AsWhole, []int64{-400, -203}},
		{leaf.Devices, "read_bytes", leaf.AsWhole, []int64{0, 0}},
		{leaf.Devices, "read_bytes", leaf.AsParts, []int64{50, 50}},
		{system, "units", leaf.AsParts, []int64{-50}}, // of 600 less 400
		{leaf.Devices, "written_bytes", leaf.AsWhole, nil},
		{leaf.Uses, "cpu", leaf.AsParts, nil},
	} {
		column := at(c.table, c.column)
		was := append([]int64(nil), l.Tables[c.table].Low[column]...)
		got := l.Relate(c.table, column, c.way)
		assert.Equal(t, c.want, got, "%+v", c)
		assert.Equal(t, was, l.Tables[c.table].Low[column], "the leaf is not changed")
		if got == nil {
			continue
		}
		l.Tables[c.table].Low[column] = got
		l.MarkRelated(c.table, c.column, c.way)
		l.Fill()
		assert.Equal(t, was, l.Tables[c.table].Low[column], "and Fill undoes it")
		l.Fill()
		assert.Equal(t, was, l.Tables[c.table].Low[column], "once")
	}
	uses := l.Tables[leaf.Uses]
	uses.High[uses.Schema.Index("cpu")] = []int64{1}
	assert.Nil(t, l.Relate(leaf.Programs, at(leaf.Programs, "cpu"), leaf.AsParts), "not of what 64 bits do not hold")
	assert.Equal(t, map[string][]string{leaf.Uses: {"disk"}, leaf.OfMeasure(amount.DiskRead): {"units"}},
		leaf.Needs(leaf.OfMeasure(amount.DiskWritten)))
	assert.Contains(t, leaf.Needs(leaf.Devices), leaf.Uses, "what that follows from, too")
	assert.Empty(t, leaf.Needs(leaf.Uses))
	assert.True(t, l.Has("devices"))
	assert.False(t, l.Has("links"))
	assert.Equal(t, "devices", leaf.SectionOf(leaf.Disks))
	assert.Contains(t, leaf.OfResource(amount.Disk), leaf.OfMeasure(amount.DiskRead))
}

// TestRelate_EveryWorkloadAndIntervalHasAWholeOfItsOwn has two workloads in three intervals, each with two CPUs that
// add up to its time: of the first CPU the time is stored, of the last nothing is left to tell.
func TestRelate_EveryWorkloadAndIntervalHasAWholeOfItsOwn(t *testing.T) {
	var all []*leaf.Leaf
	for at := range int64(3) {
		l := one(noon.Add(time.Duration(at)*time.Minute), 11, 1, 100+at, amount.Counted)
		other := one(noon, 12, 1, 1000+10*at, amount.Counted)
		l.Table(leaf.Who).Append(1, 0, 12, 1)
		row := []int64{1, 0}
		for i, c := range other.Tables[leaf.Uses].Schema.Columns[2:] {
			if c.Fill == leaf.Stored {
				row = append(row, other.Tables[leaf.Uses].Low[i+2][0])
			}
		}
		l.Table(leaf.Uses).Append(row...)
		for slot, cpu := range []int64{100 + at, 1000 + 10*at} {
			l.Table(leaf.Ran).Append(int64(slot), 3, 0, cpu/4, 0)
			l.Table(leaf.Ran).Append(int64(slot), 5, 0, cpu-cpu/4, 0)
		}
		all = append(all, l)
	}
	quire := leaf.Join(all...)
	ran := quire.Tables[leaf.Ran]
	column := ran.Schema.Index("micros")
	was := append([]int64(nil), ran.Low[column]...)
	assert.Equal(t, []int64{25, 25, 25, 75, 76, 77, 250, 252, 255, 750, 758, 765}, was)
	got := quire.Relate(leaf.Ran, column, leaf.AsParts)
	assert.Equal(t, []int64{25, 25, 25, 0, 0, 0, 250, 252, 255, 0, 0, 0}, got)
	whole := quire.Relate(leaf.Ran, column, leaf.AsWhole)
	assert.Equal(t, []int64{-75, -76, -77, -25, -25, -25, -750, -758, -765, -250, -252, -255}, whole)
	for way, values := range map[leaf.Way][]int64{leaf.AsParts: got, leaf.AsWhole: whole} {
		ran.Low[column] = values
		quire.MarkRelated(leaf.Ran, "micros", way)
		quire.Fill()
		assert.Equal(t, was, ran.Low[column])
	}
}
