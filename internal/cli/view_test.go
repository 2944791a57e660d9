package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/internal/hub"
	"vinescale/internal/screen"
	"vinescale/internal/sheet"
)

// barrels are rows of a listing, uneven.
type barrelLine struct {
	name  string
	held  float64
	moved *float64
}

func barrelSheet(usual ...string) *screen.Sheet {
	v := 2.5e6
	return sheetOf("disks", []column[barrelLine]{
		{name: "name", head: "barrel", value: func(b barrelLine) any { return b.name }},
		{name: "size_bytes", value: func(b barrelLine) any { return b.held }},
		{name: "written_bytes_per_second", value: func(b barrelLine) any { return b.moved }, ifAny: true},
		{name: "numa_node", value: func(barrelLine) any { return 1 }, extra: true},
		{name: "mount", value: func(barrelLine) any { return nil }, ifAny: true},
	}, usual, []barrelLine{{"north", 1 << 30, nil}, {"so\x1bth", 3 << 20, &v}}, func(b barrelLine, r *screen.Row) {
		r.Key = b.name
	})
}

func TestSheetOf_LaysAListingOutForAScreen(t *testing.T) {
	s := barrelSheet()
	var heads []string
	for _, c := range s.Columns {
		heads = append(heads, map[bool]string{true: "(" + c.Head + ")", false: c.Head}[c.Extra])
	}
	assert.Equal(t, []string{"barrel", "size", "written", "(numa node)", "(mounted)"}, heads,
		"a head without one is that of its explanation; what no row has is put aside")
	assert.True(t, s.Columns[1].Right)
	assert.False(t, s.Columns[0].Right)
	assert.Equal(t, screen.Cell{Text: "1.00 GiB", Order: float64(1 << 30)}, s.Rows[0].Cells[1])
	assert.Equal(t, screen.Cell{Text: "–"}, s.Rows[0].Cells[2], "what is not known comes last")
	assert.Equal(t, screen.Cell{Text: "2.50 MB/s", Order: 2.5e6}, s.Rows[1].Cells[2])
	assert.Equal(t, `so\u001bth`, s.Rows[1].Cells[0].Text, "a name writes nothing else to the terminal")

	s = barrelSheet("numa_node", "name")
	assert.Equal(t, "numa_node", s.Columns[0].Name)
	assert.False(t, s.Columns[0].Extra)
	assert.True(t, s.Columns[2].Extra)
	leaveOut(s, "name")
	assert.True(t, s.Columns[1].Extra)
}

func TestLedgerLine_TellsTheWholeSum(t *testing.T) {
	n := func(v float64) *float64 { return &v }
	l := &sheet.Ledger{
		Host:      "cellar-1",
		Resource:  "cpu",
		Unit:      "cpu_seconds",
		ElapsedS:  10,
		Capacity:  n(160),
		Used:      n(70),
		Kernel:    n(5),
		Idle:      n(90),
		Residual:  n(-0.5),
		LeftOutBy: 5.5,
		Shares:    []sheet.Share{{Amount: n(60)}, {Amount: nil}},
	}
	assert.Equal(t, "CPU of cellar-1, cores: 16.00 capacity = 6.55 shares + 0.50 kernel + 9.00 idle - 0.05 residual",
		ledgerLine(l))
	l.Steal, l.Residual = n(20), n(-0.001)
	assert.Contains(t, ledgerLine(l), "9.00 idle + 2.00 steal + 0.00 residual", "less than shows has no sign")
	l.Capacity, l.Idle, l.Steal = nil, nil, nil
	assert.Contains(t, ledgerLine(l), "7.00 in use = 6.55 shares + 0.50 kernel + 0.00 residual")
}

func TestLoadLine_ComparesLoadWithCPUs(t *testing.T) {
	l := &explain.Load{One: 12, Five: 6, Fifteen: 3}
	assert.Equal(t, "load 12.00 over 1 minute, 6.00 over 5, 3.00 over 15, on 8 CPUs: 1.50 a CPU", loadLine(l, 8))
	assert.Empty(t, loadLine(nil, 8))
	assert.Empty(t, loadLine(l, 0))
	assert.Equal(t, "███·······", bar(0.26, 10))
	assert.Equal(t, "██████████", bar(1.7, 10))
}

func TestByMeasure_TheMostFirstAndWhatIsNotKnownLast(t *testing.T) {
	s := &screen.Sheet{Columns: []screen.Column{{Name: "name"}, {Name: "gpu_gpus_mean", Extra: true}}}
	for _, x := range []struct {
		name string
		used any
	}{{"a", nil}, {"b", 1.0}, {"c", 7.0}} {
		s.Rows = append(s.Rows, screen.Row{Key: x.name, Cells: []screen.Cell{{}, {Order: x.used}}})
	}
	byMeasure(s, "gpu")
	require.False(t, s.Columns[1].Extra, "what lines are ordered by is seen")
	assert.Equal(t, []string{"c", "b", "a"}, []string{s.Rows[0].Key, s.Rows[1].Key, s.Rows[2].Key})
	byMeasure(s, "must") // which is none: lines are ordered by CPU, of which there is no column here
	assert.Equal(t, "c", s.Rows[0].Key)
}

func TestWorkloadHead_SaysWhatItMayUseAndUses(t *testing.T) {
	n := func(v float64) *float64 { return &v }
	a := &hub.AboutWorkload{Path: "/must", Held: explain.Held{MemoryLimit: n(4 << 30)},
		WorkloadLine: hub.WorkloadLine{Kind: "job", Name: "frost\u202e", Owner: "m.abt", Tenant: "Frost Watch",
			State: "running", MayUseCPUs: 2.5, MayUseBy: "limit", Processes: 1, Threads: 7, RunnableMean: 3,
			Uses: []hub.WorkloadUse{{Resource: "cpu", Mean: n(2), Now: n(1.5), Source: "counted"},
				{Resource: "gpu_memory", Mean: n(1 << 30), Source: "reported"},
				{Resource: "disk", Source: "unavailable"}, {Resource: "must", Mean: n(1), Source: "counted"}}}}
	assert.Equal(t, []string{`job frost\u202e, owner m.abt, running, tenant Frost Watch`,
		"may use 2.5 CPUs (by its limit), has 1 process with 7 threads, 3.0 of them runnable, memory up to 4.00 GiB",
		"CPU 1.50 cores (counted), GPU memory 1.00 GiB (reported)", "group /must"}, workloadHead(a))
	a.Tenant, a.Held.MemoryLimit, a.Path = "", nil, ""
	head := workloadHead(a)
	assert.Len(t, head, 3)
	assert.NotContains(t, head[0], "tenant")
	assert.NotContains(t, head[1], "memory")
}

func TestInUnits_GoesByTheUnitThatANameEndsIn(t *testing.T) {
	for want, x := range map[string]struct {
		name string
		v    float64
	}{
		"1.50 GiB":  {"memory_bytes", 1.5 * (1 << 30)},
		"2.00 MB/s": {"read_bytes_per_second", 2e6},
		"3.29 GiB":  {"memory_used_bytes_mean", 3535798272},
		"25.0 %":    {"busy", 0.25},
		"7":         {"threads", 7},
		"7.00":      {"cores", 7},
		"0.13":      {"queue_mean", 0.126},
		"2.00":      {"gpu_cores_peak", 2},
	} {
		assert.Equal(t, want, inUnits(x.name, x.v), x.name)
	}
}
