package cli

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/internal/sheet"
)

func number(v float64) *float64 { return &v }

func sample() *sheet.Ledger {
	at := time.Date(2026, 10, 11, 14, 20, 35, 0, time.Local)
	return &sheet.Ledger{
		Host: "terrace-2", From: at.Add(-5 * time.Second), To: at, CoveredTo: &at, ElapsedS: 5, Resource: "cpu",
		Unit: "cpu_seconds", MeanUnit: "cores", CPUs: 64,
		Capacity: number(320), Used: number(188.55), Idle: number(131.45), Kernel: number(6), Steal: number(0),
		Residual: number(0.05),
		Shares: []sheet.Share{
			{Name: "frost-ens-0412[3]", Kind: "job", Owner: "m.abt", Amount: number(79), Mean: number(15.8),
				Source: "counted", Parts: 1},
			{Name: "frost-ens-0412[4]", Kind: "job", Owner: "m.abt", Amount: number(28), Mean: number(5.6),
				Source: "counted", Parts: 1},
			{Name: "evil \x1b[31m\u202egnp.exe\nrow", Kind: "container", Owner: "svc-cellar", Amount: number(19.5),
				Mean: number(3.9), Source: "summed", Parts: 1},
			{Name: "葡萄", Kind: "loose", Owner: "uid 4711", Amount: number(50), Mean: number(10), Source: "summed",
				Parts: 1},
			{Name: "late", Kind: "loose", Owner: "x", Source: "unavailable", Reason: "nothing tells it apart",
				Parts: 1},
			{Name: "least", Kind: "loose", Owner: "y", Amount: number(6), Mean: number(1.2), Source: "summed",
				Parts: 1},
		},
		Notes: map[string]string{},
	}
}

// TestBook_ReadsAsAPageOfTheAccountBook compares with a page a person has read. UPDATE=1 writes it anew.
func TestBook_ReadsAsAPageOfTheAccountBook(t *testing.T) {
	var b bytes.Buffer
	l := sample()
	l.Sort("")
	require.NoError(t, writeBook(&b, l, "workload", 4))
	const file = "testdata/book.golden"
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), b.String())
}

func TestTable_ColumnsAlignAndHostileNamesCannotWriteOnTheTerminal(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, writeBook(&b, sample(), "workload", 0))
	assert.NotContains(t, b.String(), "\x1b")
	assert.NotContains(t, b.String(), "\u202e")
	assert.Contains(t, b.String(), `evil \u001b[31m\u202egnp.exe\u000arow`)
	column := -1
	for _, line := range strings.Split(b.String(), "\n") {
		if i := strings.Index(line, " %"); i >= 0 {
			at := runewidth.StringWidth(line[:i])
			if column < 0 {
				column = at
			}
			assert.Equal(t, column, at, "%q", line)
		}
	}
	assert.Positive(t, column)
	assert.Less(t, runewidth.StringWidth(visible(strings.Repeat("x", 10_000))), 130)
}

func TestBar_IsFromZeroAndNeverHidesWhatIsThere(t *testing.T) {
	for part, want := range map[float64]int{0: 0, -1: 0, 1: barWidth, 2: barWidth, 0.5: barWidth / 2} {
		assert.Equal(t, want, len([]rune(barText(part))), "%g", part)
	}
	assert.NotEmpty(t, barText(0.000001))
}

func TestCeiling_TakesUnitsThatSuitTheResource(t *testing.T) {
	for _, c := range []struct {
		resource, text string
		want           float64
	}{{"cpu", "1.5", 1.5}, {"memory", "64GiB", 64 << 30}, {"memory", "1e9", 1e9}, {"disk", "500MB", 5e8},
		{"network", "2.5 GB/s", 2.5e9}, {"disk", "0", 0}} {
		got, err := parseCeiling(c.resource, c.text)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%s %s", c.resource, c.text)
	}
	for _, c := range [][2]string{{"cpu", "4GiB"}, {"cpu", ""}, {"cpu", "NaN"}, {"cpu", "Inf"}, {"memory", "-1GiB"},
		{"disk", "fast"}} {
		_, err := parseCeiling(c[0], c[1])
		assert.Error(t, err, "%v", c)
	}
}

func TestTimes_LocalOrWithAZone(t *testing.T) {
	want := time.Date(2026, 11, 22, 3, 10, 0, 0, time.UTC)
	for _, text := range []string{"2026-11-22T03:10:00Z", "2026-11-22T04:10:00+01:00"} {
		got, err := parseTime(text)
		require.NoError(t, err)
		assert.True(t, want.Equal(got), text)
	}
	got, err := parseTime("2026-11-22 03:10")
	require.NoError(t, err)
	assert.Equal(t, time.Local, got.Location())
	_, err = parseTime("3 o'clock")
	assert.ErrorContains(t, err, "write 2026-11-22T03:10")
}

func TestFolded_LinesBreakBetweenWordsAndNothingIsLost(t *testing.T) {
	long := strings.Repeat("must and lees ", 30) + "end"
	got := folded(long)
	for line := range strings.Lines(got) {
		assert.LessOrEqual(t, len(strings.TrimRight(line, "\n")), 100)
	}
	assert.Equal(t, strings.Fields(long), strings.Fields(got))
	assert.NotContains(t, folded("sour\x1b[2Jmash"), "\x1b")
}

func TestDisks_WhoUsedADeviceIsToldOrWhyNot(t *testing.T) {
	space, used := int64(1000), int64(250)
	d := &explain.Disks{Over: explain.Over{Host: "cellar-1"}, Verdict: "Storage is fine.",
		Devices: []explain.DeviceLine{
			{Host: "cellar-1", Name: "sda", Kind: "disk", MountState: "not mountable (divided)", ReadRate: 30e6,
				WriteRate: 10e6, Busy: 0.5, SpaceBytes: &space, UsedBytes: &used,
				Users: []explain.DeviceUser{{UserRef: explain.UserRef{
					WorkloadRef: explain.WorkloadRef{Name: "barrel-sense"},
					Tenant:      "Cellar Intake"}, ReadRate: 24e6, WriteRate: 8e6, Share: 0.8, Source: "counted"},
					{UserRef: explain.UserRef{WorkloadRef: explain.WorkloadRef{Name: "sulphite-watch"}}}}},
			{Host: "press-1", Name: "sdb", Kind: "disk", ReadRate: 1e6,
				NoUsers: "this host does not count I/O by workload and device"},
		}}
	var out strings.Builder
	require.NoError(t, printDisks(&out, 1, d))
	at := func(what string) string {
		for line := range strings.Lines(out.String()) {
			if strings.Contains(line, what) {
				return strings.Join(strings.Fields(line), " ")
			}
		}
		return ""
	}
	assert.Contains(t, at("sda on cellar-1"), "25.0 % 30.00 10.00 0.0 – – 0.00 50.0 %", "busy is of the device")
	assert.Equal(t, "· barrel-sense Cellar Intake 24.00 8.00 0.0 counted 80.0 % of its bytes", at("barrel-sense"),
		"a share is no busy time")
	assert.Equal(t, "· 1 more", at("1 more"))
	assert.Equal(t,
		"Who used sdb on press-1: not available, because this host does not count I/O by workload and device.",
		at("not available"))
}

func TestCSV_WhatIsPointedToIsWrittenAndWhatIsMissingIsEmpty(t *testing.T) {
	space, speed, at := int64(4_000_000_000_000), 9.54304325954305e+09, time.Date(2026, 10, 11, 14, 20, 0, 0, time.UTC)
	for want, v := range map[string]any{
		"4000000000000": &space, "9543043259.54305": &speed, "2026-10-11T14:20:00Z": &at, "true": true, "12": 12,
		"must": "must",
	} {
		assert.Equal(t, want, plain(v))
	}
	for _, v := range []any{nil, (*int64)(nil), (*float64)(nil), (*time.Time)(nil)} {
		assert.Empty(t, plain(v))
		assert.Nil(t, comparable(v))
	}
	assert.Equal(t, 4e12, comparable(&space))
}
