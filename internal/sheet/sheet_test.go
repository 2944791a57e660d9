package sheet_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/sheet"
)

var people = []account.Workload{
	{Key: "container:a", Kind: amount.Container, Name: "must", Owner: "svc-cellar"},
	{Key: "container:b", Kind: amount.Container, Name: "must", Owner: "svc-route"}, // the same name, another workload
	{Key: "loose:2001", Kind: amount.Loose, Name: "processes of m.abt", Owner: "m.abt"},
}

func interval() *account.Interval {
	at := time.Date(2026, 10, 11, 3, 10, 0, 0, time.UTC)
	iv := &account.Interval{From: at, To: at.Add(10 * time.Second), ElapsedMillis: 10_000, CPUCount: 4}
	for i, seconds := range []int64{8, 4, 2} {
		u := account.Usage{Workload: account.WorkloadID(i)}
		for r := range u.Units {
			u.Units[r] = seconds * 1e6
			u.Peak[r] = seconds * 1e5
		}
		u.Programs = []account.ProgramUse{{Program: account.NoProgram}, {Program: 7, Procs: 2}}
		u.Programs[0].Units, u.Programs[1].Units = u.Units, u.Units
		for r := range u.Units {
			u.Programs[0].Units[r] = u.Units[r] / 4
			u.Programs[1].Units[r] = u.Units[r] - u.Units[r]/4
		}
		u.Programs[0].Units[amount.Network], u.Programs[1].Units[amount.Network] = u.Units[amount.Network], 0
		iv.Usages = append(iv.Usages, u)
	}
	iv.Usages[2].Source = [amount.NumResources]amount.Source{amount.Summed, amount.Summed, amount.Unavailable,
		amount.Unavailable}
	iv.Usages[2].Units[amount.Disk], iv.Usages[2].Units[amount.Network] = 0, 0
	for r := range iv.Ledgers {
		l := &iv.Ledgers[r]
		for _, u := range iv.Usages {
			l.Shares += u.Units[r]
		}
		l.Capacity, l.Used = account.Line{Units: 40e6}, account.Line{Units: l.Shares + 3e6}
		l.Idle, l.Kernel, l.Steal = account.Line{Units: 37e6 - l.Shares}, account.Line{Units: 1e6},
			account.Line{Reason: "none"}
	}
	return iv
}

var names = sheet.Namer{
	Workload: func(id account.WorkloadID) account.Workload { return people[id] },
	Program: func(id int32) string {
		if id == account.NoProgram {
			return account.NoProgramName
		}
		return "intake"
	},
}

func TestFromInterval_EveryGroupingAddsUpToTheSameAndBalances(t *testing.T) {
	for _, r := range amount.Resources() {
		for _, by := range sheet.Dimensions {
			l := sheet.FromInterval("cellar-1", interval(), r, by, names)
			sum := 0.0
			for _, s := range l.Shares {
				if s.Amount != nil {
					sum += *s.Amount
				}
			}
			assert.InDelta(t, *l.Capacity, sum+*l.Kernel+*l.Idle+*l.Residual, 1e-6, "%s by %s", r, by)
			assert.Nil(t, l.Steal)
			assert.Equal(t, "none", l.Notes["steal"])
		}
	}
}

func TestFromInterval_WorkloadsOfOneNameStayApart(t *testing.T) {
	l := sheet.FromInterval("cellar-1", interval(), amount.CPU, "workload", names)
	require.Len(t, l.Shares, 3)
	assert.Equal(t, []string{"must", "must"}, []string{l.Shares[0].Name, l.Shares[1].Name})
	assert.InDelta(t, 0.8, *l.Shares[0].Mean, 1e-9, "8 CPU seconds in 10 s")
	assert.Equal(t, "cpu_seconds", l.Unit)
}

func TestFromInterval_ASumIsAsGoodAsItsWeakestPartAndSaysWhatItLacks(t *testing.T) {
	l := sheet.FromInterval("cellar-1", interval(), amount.Network, "kind", names)
	require.Len(t, l.Shares, 2)
	assert.Equal(t, []string{"container", "counted"}, []string{l.Shares[0].Name, l.Shares[0].Source})
	loose := l.Shares[1]
	assert.Nil(t, loose.Amount, "unavailable, never zero")
	assert.Equal(t, "unavailable", loose.Source)
	assert.NotEmpty(t, loose.Reason)

	iv := interval()
	people[2].Owner = "svc-cellar" // one counted and one unavailable in one sum
	defer func() { people[2].Owner = "m.abt" }()
	l = sheet.FromInterval("cellar-1", iv, amount.Network, "user", names)
	assert.Equal(t, []int{2, 1}, []int{l.Shares[0].Parts, l.Shares[0].Missing})
	assert.Equal(t, "counted", l.Shares[0].Source)
	l = sheet.FromInterval("cellar-1", iv, amount.CPU, "user", names)
	assert.Equal(t, "summed", l.Shares[0].Source)
}

func TestFromInterval_TheKernelKeepsNoNetworkCountersByProgram(t *testing.T) {
	l := sheet.FromInterval("cellar-1", interval(), amount.Network, "program", names)
	for _, s := range l.Shares {
		if s.Name == "intake" {
			assert.Nil(t, s.Amount)
		}
	}
}

func TestLedger_SortPutsTheLargestFirstAndSaysWhatItLeftOut(t *testing.T) {
	l := sheet.FromInterval("cellar-1", interval(), amount.CPU, "workload", names)
	l.Sort("")
	l.Keep(1)
	require.Len(t, l.Shares, 1)
	assert.Equal(t, 2, l.LeftOut)
	assert.InDelta(t, 6, l.LeftOutBy, 1e-9)
}

func TestLedger_SortsByAnyColumnBothWays(t *testing.T) {
	v := func(x float64) *float64 { return &x }
	l := sheet.Ledger{Shares: []sheet.Share{
		{Name: "b", Owner: "x", Amount: v(3), Peak: v(1)}, {Name: "a", Owner: "y", Amount: v(5), Peak: v(9)},
		{Name: "none", Owner: "w"},
		{Name: "unassigned", Owner: "z", Amount: v(1), First: true},
	}}
	for by, want := range map[string]string{
		"": "unassigned a b none", "-amount": "none b a unassigned", "name": "a b none unassigned",
		"-name": "unassigned none b a", "owner": "none b a unassigned", "peak": "a b unassigned none",
	} {
		l.Sort(by)
		var got []string
		for _, s := range l.Shares {
			got = append(got, s.Name)
		}
		assert.Equal(t, want, strings.Join(got, " "), by)
	}
}

func TestParseSpan(t *testing.T) {
	for text, want := range map[string]time.Duration{"90m": 90 * time.Minute, "7d": 7 * 24 * time.Hour,
		"1h30m": 90 * time.Minute} {
		d, err := sheet.ParseSpan(text)
		require.NoError(t, err)
		assert.Equal(t, want, d)
	}
	for _, text := range []string{"", "0s", "-1h", "d", "1w", "99999999d", "soon"} {
		_, err := sheet.ParseSpan(text)
		assert.ErrorContains(t, err, "write it as", "%q", text)
	}
}
