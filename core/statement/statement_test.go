package statement_test

import (
	"encoding/json"
	"math/big"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/amount"
	"vinescale/core/statement"
)

var (
	october  = time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	november = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
)

func price(of, price, from, until string) statement.Price {
	return statement.Price{Of: of, Price: decimal.RequireFromString(price), From: from, Until: until}
}

func tariff(t *testing.T, split statement.Key, prices ...statement.Price) statement.Tariff {
	x := statement.Tariff{Currency: "EUR", Split: split, Prices: prices}
	if split == statement.ByShares {
		x.Shares = statement.Shares{"Leaf Vision": 1, "Frost Watch": 2, "Label Press": 0}
	}
	clean, err := x.Check()
	require.NoError(t, err)
	return clean
}

func wide(n int64) (w amount.Wide) { w.Add(n); return w }

// hour is an hour of a core, in the ledger's units.
const hour = 3_600_000_000

// use is CPU time in core-hours.
func use(tenant, host, kind, owner string, hours float64) statement.Use {
	u := statement.Use{Tenant: tenant, Host: host, Kind: kind, Owner: owner,
		Of: make([]statement.Amount, amount.NumResources)}
	u.Of[amount.CPU] = statement.Amount{Units: wide(int64(hours * hour)), IsKnown: true}
	return u
}

func host(name string, used, idle, kernel, steal float64) statement.HostLedgers {
	h := statement.HostLedgers{Host: name, Of: make([]statement.Ledger, amount.NumResources)}
	for r := range h.Of {
		h.Of[r].NoUsed = "not counted"
	}
	h.Of[amount.CPU] = statement.Ledger{Used: wide(int64(used * hour)), Idle: wide(int64(idle * hour)),
		Kernel: wide(int64(kernel * hour)), Steal: wide(int64(steal * hour))}
	return h
}

// twoHosts is a window of which two hosts told: 100 core-hours each, of which the first used 60 and the second 20.
func twoHosts(x statement.Tariff) *statement.Ground {
	return &statement.Ground{From: october, To: november, Tariff: x, Stretches: []statement.Part{{
		Stretch: statement.Stretch{From: october, To: november},
		Uses: []statement.Use{
			use("Frost Watch", "press-1", "job", "m.ahlers", 30),
			use("Leaf Vision", "press-1", "job", "a", 10),
			use(
				"Frost Watch",
				"cellar-1",
				"container",
				"m.ahlers",
				12,
			),
			use("unassigned", "press-1", "loose", "root", 10),
		},
		Hosts: []statement.HostLedgers{host("cellar-1", 20, 80, 5, 1), host("press-1", 60, 40, 8, 0)},
	}}}
}

func of(t *testing.T, a *statement.Account, tenant string) *statement.Statement {
	for i := range a.Statements {
		if a.Statements[i].Tenant == tenant {
			return &a.Statements[i]
		}
	}
	require.Fail(t, "no statement of "+tenant)
	return nil
}

// quantities are the sums of a statement's lines by what they are of.
func quantities(s *statement.Statement) map[statement.What]string {
	sums := map[statement.What]decimal.Decimal{}
	for _, l := range s.Lines {
		sums[l.What] = sums[l.What].Add(l.Quantity)
	}
	texts := map[statement.What]string{}
	for what, sum := range sums {
		texts[what] = sum.String()
	}
	return texts
}

type amounts = map[statement.What]string

func TestDraw_WhatIsNobodysIsSharedOrSplitHostByHost(t *testing.T) {
	cpu := price("cpu", "0.02", "2026-01-01", "")
	for _, x := range []struct {
		split statement.Key
		want  map[string]amounts
		costs map[string]string
	}{
		{statement.NotSplit, map[string]amounts{
			"Frost Watch": {"used": "42"}, "Leaf Vision": {"used": "10"}, "unassigned": {"used": "10"},
			"shared": {"kernel": "13", "idle": "120", "steal": "1", "residual": "4"}},
			map[string]string{"Frost Watch": "0.84", "shared": "2.76"}},
		// On press-1 three fifths of kernel and idle time are Frost Watch's, on cellar-1 all.
		{statement.ByUse, map[string]amounts{
			"Frost Watch": {"used": "42", "kernel": "9.8", "idle": "104"}, "Leaf Vision": {"used": "10",
				"kernel": "1.6", "idle": "8"}, "unassigned": {"used": "10", "kernel": "1.6", "idle": "8"},
			"shared": {"steal": "1", "residual": "4"}}, map[string]string{"Frost Watch": "3.116", "shared": "0.1"}},
		{statement.Equally, map[string]amounts{
			"Frost Watch": {"used": "42", "kernel": "4.333333334", "idle": "40"},
			"Leaf Vision": {"used": "10", "kernel": "4.333333334", "idle": "40"},
			"unassigned":  {"used": "10", "kernel": "4.333333333", "idle": "40"},
			"shared":      {"steal": "1", "residual": "4"}}, nil},
		{statement.ByShares, map[string]amounts{
			"Frost Watch": {"used": "42", "kernel": "8.666666667", "idle": "80"},
			"Leaf Vision": {"used": "10", "kernel": "4.333333334", "idle": "40"}, "unassigned": {"used": "10"},
			"shared": {"steal": "1", "residual": "4"}}, nil},
	} {
		a := statement.Draw(twoHosts(tariff(t, x.split, cpu)))
		require.NoError(t, a.Check(), x.split)
		require.Len(t, a.Statements, len(x.want), x.split)
		for tenant, want := range x.want {
			got := quantities(of(t, a, tenant))
			for what := range got { // thirds of an hour, whose last digit is of no matter here
				if len(got[what]) > 6 {
					got[what], want[what] = got[what][:6], want[what][:6]
				}
			}
			assert.Equal(t, want, got, "%s of %s", x.split, tenant)
		}
		for tenant, cost := range x.costs {
			assert.Equal(t, cost, of(t, a, tenant).Cost.String(), "%s of %s", x.split, tenant)
		}
		var order []string
		for _, s := range a.Statements {
			order = append(order, s.Tenant)
		}
		assert.Equal(t, []string{"Frost Watch", "Leaf Vision", "unassigned", "shared"}, order)
		assert.Equal(t, decimal.NewFromInt(200*hour).String(), a.Proof[0].Ledger.String(), "capacity of both hosts")
	}
	kept := tariff(t, statement.ByUse, cpu)
	kept.KeepIdle = true
	a := statement.Draw(twoHosts(kept))
	require.NoError(t, a.Check())
	assert.Equal(t, amounts{"steal": "1", "residual": "4", "idle": "120"}, quantities(of(t, a, "shared")))
}

func TestDraw_EachStretchHasItsPriceAndWhatIsNotKnownIsSaid(t *testing.T) {
	x := tariff(t, statement.NotSplit, price("cpu", "0.02", "2026-01-01", "2026-10-11"),
		price("cpu", "0.03", "2026-10-11", "2026-10-21"), price("memory", "1", "2026-10-11", ""))
	parts := x.Stretches(october, november)
	day := func(d int) time.Time { return time.Date(2026, 10, d, 0, 0, 0, 0, time.UTC) }
	require.Equal(t, []statement.Stretch{{october, day(11)}, {day(11), day(21)}, {day(21), november}}, parts)
	g := &statement.Ground{From: october, To: november, Tariff: x}
	for i, part := range parts {
		p := statement.Part{
			Stretch: part,
			Uses:    []statement.Use{use("Frost Watch", "press-1", "job", "a", float64(i+1))},
			Hosts:   []statement.HostLedgers{host("press-1", 4, 6, 0, 0)},
		}
		p.Uses[0].Of[amount.Network] = statement.Amount{Missing: 2}
		p.Uses[0].Of[amount.GPU] = statement.Amount{Missing: 2} // its host has none
		p.Uses[0].Of[amount.Disk] = statement.Amount{Units: wide(7), IsKnown: true}
		p.Hosts[0].Of[amount.Disk] = statement.Ledger{Used: wide(9), NoIdle: "no capacity is declared"}
		p.Hosts[0].Of[amount.GPU] = statement.Ledger{NoUsed: "it has no GPU", NoIdle: "it has no GPU"}
		g.Stretches = append(g.Stretches, p)
	}
	a := statement.Draw(g)
	require.NoError(t, a.Check())
	s := of(t, a, "Frost Watch")
	assert.Equal(t, "0.08", s.Cost.String(), "1 at 0.02, 2 at 0.03, and 3 that have no price")
	var prices []string
	for _, l := range s.Lines {
		if l.Resource == "cpu" && l.Price != nil {
			prices = append(prices, l.Price.String())
		}
	}
	assert.Equal(t, []string{"0.02", "0.03"}, prices)
	require.Equal(t, []string{"cpu", "disk", "network"}, resources(s))
	assert.Equal(t, []int{0, 0, 6}, []int{s.Totals[0].Missing, s.Totals[1].Missing, s.Totals[2].Missing})
	require.Len(t, a.Proof, 2)
	assert.Equal(t, "", a.Proof[0].Note)
	assert.Equal(t, []string{"27", "what stood idle is not known, no capacity is declared (press-1)"},
		[]string{a.Proof[1].Ledger.String(), a.Proof[1].Note})
}

func resources(s *statement.Statement) (names []string) {
	for _, x := range s.Totals {
		names = append(names, x.Resource)
	}
	return names
}

// TestDivide_PartsAddUp splits random numbers by random weights.
func TestDivide_PartsAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(-1<<40, 1<<40).Draw(t, "n")
		var by []statement.Weight
		sum := int64(0)
		for range rapid.IntRange(1, 6).Draw(t, "parts") {
			w := rapid.Int64Range(1, 1000).Draw(t, "weight")
			by, sum = append(by, statement.Weight{Of: big.NewInt(w)}), sum+w
		}
		total := int64(0)
		for i, part := range statement.Divide(big.NewInt(n), by) {
			total += part.Int64()
			exact := float64(n) * float64(by[i].Of.Int64()) / float64(sum)
			require.InDelta(t, exact, float64(part.Int64()), 1.001)
		}
		require.Equal(t, n, total)
	})
	parts := statement.Divide(
		big.NewInt(10),
		[]statement.Weight{{"a", big.NewInt(1)}, {"b", big.NewInt(1)}, {"c", big.NewInt(1)}},
	)
	assert.Equal(
		t,
		"4 3 3",
		parts[0].String()+" "+parts[1].String()+" "+parts[2].String(),
		"what is left is the first's",
	)
}

func TestCorrect_WhatChangedIsALineOfTheNextOnceAndNoMore(t *testing.T) {
	x := tariff(t, statement.NotSplit, price("cpu", "0.02", "2026-01-01", ""))
	then := statement.Draw(twoHosts(x))
	closed := func(a *statement.Account) (all []statement.Statement) {
		for i := range a.Statements {
			a.Statements[i].Seal(int64(i+1), november, "x", "")
			all = append(all, a.Statements[i])
		}
		return all
	}(then)
	// Ten core-hours came late, and five went from Leaf Vision to somebody who had none.
	now := twoHosts(x)
	now.Stretches[0].Uses[0] = use("Frost Watch", "press-1", "job", "m.ahlers", 40)
	now.Stretches[0].Uses[1] = use("Leaf Vision", "press-1", "job", "a", 5)
	now.Stretches[0].Uses = append(now.Stretches[0].Uses, use("Label Press", "press-1", "job", "a", 5))
	now.Stretches[0].Hosts[1] = host("press-1", 70, 30, 8, 0)
	before := statement.Before{Closed: closed, Tariff: x, Now: statement.Draw(now)}

	next := func() *statement.Account {
		g := twoHosts(x)
		g.From, g.To = november, november.AddDate(0, 1, 0)
		g.Stretches[0].Stretch = statement.Stretch{From: g.From, To: g.To}
		return statement.Draw(g)
	}
	cost := decimal.RequireFromString("-1.25")
	by := []statement.Correction{{Corrects: 2, Tenant: "Leaf Vision", Resource: "cpu", Reason: "goodwill", Cost: &cost}}
	a := next()
	a.Correct([]statement.Before{before}, by)
	require.NoError(t, a.Check(), "corrections are no part of the proof")
	lines := map[string][]string{}
	var all []statement.Later
	for _, s := range a.Statements {
		for _, l := range s.Lines {
			if l.Corrects != 0 {
				all = append(all, statement.Later{Tenant: s.Tenant, Line: l})
				lines[s.Tenant] = append(lines[s.Tenant], string(l.What)+" "+l.Quantity.String()+" "+l.Cost.String())
			}
		}
	}
	assert.Equal(t, map[string][]string{"Frost Watch": {"used 10 0.2"}, "Label Press": {"used 5 0.1"},
		"Leaf Vision": {"used -5 -0.1", "manual 0 -1.25"}, "shared": {"idle -10 -0.2"}}, lines)
	assert.Equal(t, "-1.15", of(t, a, "Leaf Vision").Cost.String(), "0.2 of its own, less 0.1 and 1.25")
	assert.Equal(t, int64(4), of(t, a, "Label Press").Lines[0].Corrects, "it had none: that of what is shared")
	assert.Equal(t, "-5", of(t, a, "Leaf Vision").Totals[0].Corrected.String())

	before.Later = all
	again := next()
	again.Correct([]statement.Before{before}, nil)
	for _, s := range again.Statements {
		for _, l := range s.Lines {
			assert.Zero(t, l.Corrects, "it was corrected before: %s %s", s.Tenant, l.Units)
		}
	}
}

func TestCompare_TellsWhatGrewAndWhose(t *testing.T) {
	x := tariff(t, statement.NotSplit, price("cpu", "0.02", "2026-01-01", ""))
	before := statement.Draw(twoHosts(x))
	g := twoHosts(x)
	g.Stretches[0].Uses[0] = use("Frost Watch", "press-1", "job", "m.ahlers", 21)
	g.Stretches[0].Uses = append(g.Stretches[0].Uses, use("Frost Watch", "press-1", "session", "t.fink", 4))
	now := statement.Draw(g)
	growth := statement.Compare(of(t, now, "Frost Watch"), of(t, before, "Frost Watch"))
	require.Len(t, growth, 1)
	assert.Equal(t, []string{"42", "37", "0.84", "0.74"}, []string{growth[0].Before.String(), growth[0].Now.String(),
		growth[0].CostWas.String(), growth[0].CostIs.String()})
	require.Len(t, growth[0].Whose, 2, "who used the same is not named")
	assert.Equal(t, []string{"m.ahlers", "-9", "t.fink", "4"}, []string{growth[0].Whose[0].Owner,
		growth[0].Whose[0].More.String(), growth[0].Whose[1].Owner, growth[0].Whose[1].More.String()})
	assert.Equal(t, "0", statement.Compare(of(t, now, "Frost Watch"), nil)[0].Before.String())
}

func TestBy_GroupsAddUpToTheStatement(t *testing.T) {
	x := tariff(t, statement.ByUse, price("cpu", "0.02", "2026-01-01", ""))
	s := of(t, statement.Draw(twoHosts(x)), "Frost Watch")
	byHost, err := s.By("host")
	require.NoError(t, err)
	require.Len(t, byHost, 2)
	// 30 of its own on press-1, and of 48 shared three fifths; on cellar-1 12 and all of 85.
	assert.Equal(t, []string{"cellar-1", "97", "1.94", "press-1", "58.8", "1.176"}, []string{byHost[0].Value,
		byHost[0].Quantity.String(), byHost[0].Cost.String(), byHost[1].Value, byHost[1].Quantity.String(),
		byHost[1].Cost.String()})
	for _, by := range statement.Dimensions {
		groups, err := s.By(by)
		require.NoError(t, err)
		sum := decimal.Zero
		for _, g := range groups {
			sum = sum.Add(g.Cost)
		}
		assert.True(t, sum.Equal(s.Cost), by)
	}
	_, err = s.By("wine")
	require.ErrorContains(t, err, "choose one of host, pools, kind, owner, label, what")
}

func TestSeal_AnyChangeIsSeen(t *testing.T) {
	x := tariff(t, statement.NotSplit, price("cpu", "0.02", "2026-01-01", ""))
	a := statement.Draw(twoHosts(x))
	s := of(t, a, "Frost Watch")
	s.Seal(7, november.Add(1234567), "l.roth", "abc")
	require.NoError(t, s.Verify("abc"))
	require.ErrorContains(t, s.Verify("abd"), "does not follow the one before it")
	kept, err := json.Marshal(s)
	require.NoError(t, err)
	for name, change := range map[string]func(*statement.Statement){
		"nothing":  func(*statement.Statement) {},
		"tenant":   func(s *statement.Statement) { s.Tenant = "Leaf Vision" },
		"number":   func(s *statement.Statement) { s.Number++ },
		"by":       func(s *statement.Statement) { s.ClosedBy = "nobody" },
		"units":    func(s *statement.Statement) { s.Lines[0].Units = s.Lines[0].Units.Add(decimal.New(1, 0)) },
		"cost":     func(s *statement.Statement) { s.Lines[1].Cost = decimal.Zero },
		"owner":    func(s *statement.Statement) { s.Lines[1].Owner = "root" },
		"price":    func(s *statement.Statement) { s.Lines[0].Price = nil },
		"one less": func(s *statement.Statement) { s.Lines = s.Lines[1:] },
		"turned":   func(s *statement.Statement) { s.Lines[0], s.Lines[1] = s.Lines[1], s.Lines[0] },
		"open":     func(s *statement.Statement) { s.ClosedAt = nil },
	} {
		var read statement.Statement
		require.NoError(t, json.Unmarshal(kept, &read))
		change(&read)
		if name == "nothing" {
			require.NoError(t, read.Verify("abc"), "as it is kept")
			continue
		}
		require.Error(t, read.Verify("abc"), name)
	}
}

func inEuros(prices ...statement.Price) statement.Tariff {
	return statement.Tariff{Currency: "EUR", Prices: prices}
}

func TestTariff_SaysWhatIsWrongWithIt(t *testing.T) {
	cpu := price("cpu", "0.02", "2026-01-01", "2026-06-01")
	for _, x := range []struct {
		of   statement.Tariff
		want string
	}{
		{statement.Tariff{Window: "year"}, `a window of "year"`},
		{statement.Tariff{Zone: "Atlantis"}, "Europe/Vienna"},
		{statement.Tariff{Zone: "Local"}, "Europe/Vienna"},
		{statement.Tariff{Split: "fairly"}, "none, use, equal or shares"},
		{statement.Tariff{Split: statement.ByShares}, "it needs some"},
		{statement.Tariff{Shares: statement.Shares{"a": 1}}, "give both, or neither"},
		{statement.Tariff{Split: statement.ByShares, Shares: statement.Shares{"a": 0}}, "all shares are 0"},
		{statement.Tariff{Split: statement.ByShares, Shares: statement.Shares{"a": -1}}, "0 to 1000000"},
		{statement.Tariff{Prices: []statement.Price{cpu}}, "three letters"},
		{statement.Tariff{Currency: "euro", Prices: []statement.Price{cpu}}, "three letters"},
		{inEuros(price("wine", "1", "2026-01-01", "")), "wine"},
		{inEuros(price("cpu", "-1", "2026-01-01", "")), "0 or more"},
		{inEuros(price("cpu", "1e-13", "2026-01-01", "")), "12 digits"},
		{inEuros(price("cpu", "1e9999", "2026-01-01", "")), "at most 10^12"},
		{inEuros(price("cpu", "1000000000000.1", "2026-01-01", "")), "at most 10^12"},
		{inEuros(price("cpu", "1", "in spring", "")), "2026-01-01"},
		{inEuros(price("cpu", "1", "2026-02-30", "")), "2026-01-01"},
		{inEuros(price("cpu", "1", "2026-01-01", "2026-01-01")),
			"end after it begins"},
		{inEuros(price("cpu", "1", "2026-05-31", ""), cpu),
			"two prices of cpu from 2026-05-31 on"},
		{inEuros(cpu, price("cpu", "1", "2026-06-02", "")),
			"no price of cpu from 2026-06-01 until 2026-06-02"},
	} {
		_, err := x.of.Check()
		assert.ErrorContains(t, err, x.want)
	}
	x := statement.Tariff{Currency: "EUR", Zone: "Europe/Vienna", Prices: []statement.Price{
		price("memory", "1", "2026-01-01", ""), price("cpu", "0.03", "2026-06-01", ""), cpu}}
	clean, err := x.Check()
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{"cpu", "cpu", "memory"},
		[]string{clean.Prices[0].Of, clean.Prices[1].Of, clean.Prices[2].Of},
	)
	first := time.Date(2026, 5, 31, 22, 0, 0, 0, time.UTC) // midnight in Vienna, in summer
	assert.Equal(t, "0.02", clean.PriceOf("cpu", first.Add(-1)).String())
	assert.Equal(t, "0.03", clean.PriceOf("cpu", first).String())
	assert.Nil(t, clean.PriceOf("cpu", time.Date(2025, 12, 31, 22, 59, 0, 0, time.UTC)))
	from, to := clean.Bounds(time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC))
	assert.Equal(t, 31*24*time.Hour-time.Hour, to.Sub(from), "clocks are put forward in March")
	assert.Equal(t, "2026-03", clean.Name(from))
	week, err := (&statement.Tariff{Window: "week"}).Check()
	require.NoError(t, err)
	from, _ = week.At(time.Date(2026, 10, 4, 23, 59, 0, 0, time.UTC))
	assert.Equal(t, "2026-09-28", week.Name(from))
}
