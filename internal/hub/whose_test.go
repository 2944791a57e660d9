package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

func of(w account.Workload, facts map[string]string) account.Workload {
	w.Facts = facts
	return w
}

// TestReapply_ChangesWhoAndNeverHowMuch re-attributes part of history and compares every sum before and after.
func TestReapply_ChangesWhoAndNeverHowMuch(t *testing.T) {
	f := newFixture(t)
	for minute := range 4 {
		require.NoError(t, f.send(minute, job("a", "m.abt"), job("b", "t.fink")))
	}
	f.now = noon.Add(4 * time.Minute)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	require.NoError(t, f.send(4, job("a", "m.abt"), job("b", "t.fink")))
	assert.Equal(t, map[string]float64{"unassigned": 540, "Frost Watch": 60}, f.byTenant())
	totals := func() (sums []float64) {
		for _, by := range []string{"tenant", "workload", "user", "program", "family"} {
			for _, r := range amount.Resources() {
				l, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span()}, Measure: r, By: by})
				require.NoError(t, err)
				sum := 0.0
				for _, s := range l.Shares {
					if s.Amount != nil {
						sum += *s.Amount
					}
				}
				sums = append(sums, sum)
			}
		}
		return sums
	}
	before := totals()
	span, err := f.Span(noon.Add(2*time.Minute), noon.Add(4*time.Minute), 0)
	require.NoError(t, err)
	preview, err := f.Reapply(ctx, span, true)
	require.NoError(t, err)
	require.Len(t, preview.Moves, 1)
	assert.Equal(t, []any{"a", "unassigned", "Frost Watch", 120.0, true},
		[]any{preview.Moves[0].Workload, preview.Moves[0].From, preview.Moves[0].To, preview.Moves[0].CPUSeconds(),
			preview.Preview})
	assert.Equal(
		t,
		map[string]float64{"unassigned": 540, "Frost Watch": 60},
		f.byTenant(),
		"a preview changes nothing",
	)

	done, err := f.Reapply(hub.As(ctx, store.Token{Name: "k.lang"}), span, false)
	require.NoError(t, err)
	assert.Equal(t, preview.Moves, done.Moves)
	assert.Equal(t, map[string]float64{"unassigned": 420, "Frost Watch": 180}, f.byTenant())
	assert.Equal(t, before, totals())
	b, err := f.Balance(ctx, f.span(), "")
	require.NoError(t, err)
	assert.InDelta(t, 180, *b.Tenants[1].Uses[amount.CPU].Amount, 1e-9, "the sums by tenant were made anew too")
	acts, err := f.Acts(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"k.lang", "reapply rules"}, []string{acts[0].Who, acts[0].Act})
	again, err := f.Reapply(ctx, span, false)
	require.NoError(t, err)
	assert.Empty(t, again.Moves, "there is nothing left to move")

	// An interval of the first minutes that comes late is accounted as then, of the re-attributed ones as now.
	found, err := f.Find(ctx, "a", "")
	require.NoError(t, err)
	about, err := f.AboutWorkload(ctx, found[0].ID, f.span())
	require.NoError(t, err)
	var history []string
	for _, x := range about.History {
		history = append(history, x.From.Format("15:04 ")+x.Tenant)
	}
	assert.Equal(t, []string{"12:00 unassigned", "12:02 Frost Watch", "12:04 Frost Watch"}, history)
}

func TestIngest_AnIntervalThatComesLateIsAccountedByTheRulesOfItsTime(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	f.now = noon.Add(10 * time.Minute)
	f.tenant("Frost Watch", "true")
	require.NoError(t, f.send(5, job("a", "m.abt")))
	require.NoError(t, f.send(11, job("a", "m.abt")))
	assert.Equal(t, map[string]float64{"unassigned": 120, "Frost Watch": 60}, f.byTenant())
}

func TestMoveRule_ReordersOnlyTheListThatWasSeen(t *testing.T) {
	f := newFixture(t)
	for _, name := range []string{"A", "B", "C", "D"} {
		f.tenant(name, "kind == 'job'")
	}
	require.NoError(t, f.send(0, job("a", "m.abt")))
	order := func() (s string, version int64) {
		rules, version, err := f.Rules(ctx)
		require.NoError(t, err)
		for i, r := range rules {
			assert.Equal(t, i+1, r.Position)
			s += r.Tenant.Name
		}
		return s, version
	}
	_, version := order()
	moved, err := f.MoveRule(ctx, 4, 1, version)
	require.NoError(t, err)
	assert.Equal(t, 1, moved)
	for _, c := range []struct {
		from, to int
		want     string
	}{{1, 3, "ABDC"}, {4, 2, "ACBD"}, {2, 2, "ACBD"}, {1, 99, "CBDA"}} {
		_, err := f.MoveRule(ctx, c.from, c.to, 0)
		require.NoError(t, err)
		got, _ := order()
		assert.Equal(t, c.want, got, "%d to %d", c.from, c.to)
	}
	_, err = f.MoveRule(ctx, 1, 2, version)
	requireProblem(t, err, hub.Conflict, "list them again")
	_, err = f.MoveRule(ctx, 9, 1, 0)
	requireProblem(t, err, hub.NotFound, "no rule 9")
	_, err = f.MoveRule(ctx, 1, 0, 0)
	requireProblem(t, err, hub.Invalid, "count from 1")
}

func TestImport_TheSameAgainChangesNothing(t *testing.T) {
	f := newFixture(t)
	f.tenant("Leaf Vision", "owner == 'svc-vision'")
	f.tenant("Frost Watch", "kind == 'job'")
	require.NoError(t, f.send(0, job("a", "m.abt")))
	has, err := f.Export(ctx)
	require.NoError(t, err)
	same, err := f.Import(ctx, f.span(), has, false, false)
	require.NoError(t, err)
	assert.False(t, same.Changed)
	_, version, err := f.Rules(ctx)
	require.NoError(t, err)

	file := &hub.Tenancy{Tenants: []string{"Agronomy Desk", "Frost Watch"}, Rules: []hub.RuleText{
		{Tenant: "Agronomy Desk", When: "owner == 'm.abt'"}, {Tenant: "Frost Watch", When: "kind == 'job'"},
	}, Quotas: []hub.QuotaText{}, Pins: []hub.PinText{}}
	preview, err := f.Import(ctx, f.span(), file, false, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"Agronomy Desk"}, preview.TenantsAdded)
	assert.Equal(t, []string{"Leaf Vision"}, preview.TenantsKept)
	assert.Len(t, preview.RulesAdded, 1)
	assert.Len(t, preview.RulesRemoved, 1)
	require.Len(t, preview.Moves, 1)
	assert.Equal(t, "Agronomy Desk", preview.Moves[0].To)
	_, now, err := f.Rules(ctx)
	require.NoError(t, err)
	assert.Equal(t, version, now, "a preview changes nothing")

	done, err := f.Import(ctx, f.span(), file, true, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"Leaf Vision"}, done.TenantsRemoved)
	after, err := f.Export(ctx)
	require.NoError(t, err)
	assert.Equal(t, file, after)
	_, version, err = f.Rules(ctx)
	require.NoError(t, err)
	again, err := f.Import(ctx, f.span(), after, true, false)
	require.NoError(t, err)
	assert.False(t, again.Changed)
	_, now, err = f.Rules(ctx)
	require.NoError(t, err)
	assert.Equal(t, version, now)

	for _, bad := range []*hub.Tenancy{
		{Tenants: []string{"x/y"}}, {Tenants: []string{"unassigned"}},
		{Tenants: []string{"X"}, Rules: []hub.RuleText{{Tenant: "Y", When: "true"}}},
		{Tenants: []string{"X"}, Rules: []hub.RuleText{{Tenant: "X", When: "ownr"}}},
	} {
		_, err := f.Import(ctx, f.span(), bad, false, false)
		var p *hub.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, hub.Invalid, p.Class)
	}
}

func TestSuggest_ItsRuleLeavesNothingOfTheGroupUnassigned(t *testing.T) {
	f := newFixture(t)
	frost := func(name, owner string) account.Workload {
		return of(job(name, owner), map[string]string{account.FactAccount: "frost"})
	}
	require.NoError(t, f.send(0, frost("a", "m.abt"), frost("b", "t.fink"), job("c", "l.roth")))
	all, err := f.Suggest(ctx, f.span())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []any{2, 120.0, "jobs of the account frost"},
		[]any{all[0].Workloads, *all[0].Uses[0].Amount, all[0].About})
	f.tenant("Frost Watch", all[0].Expression)
	left, err := f.Suggest(ctx, f.span())
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

func TestPools_AreAskedAboutByRules(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "'terraces' in pools")
	require.NoError(t, f.send(0, job("a", "m.abt")))
	moved, err := f.SetPools(ctx, "terrace-1", []string{"terraces", "north"})
	require.NoError(t, err)
	assert.Equal(t, 1, moved)
	_, err = f.SetPools(ctx, "terrace-1", []string{"a,b"})
	requireProblem(t, err, hub.Invalid, "letters")
}

// TestNotice_AWorkloadThatWasJustSeenSaysWhenItsUsageIsDue follows one from its first sight to its end.
func TestNotice_AWorkloadThatWasJustSeenSaysWhenItsUsageIsDue(t *testing.T) {
	f := newFixture(t)
	f.now = noon.Add(20 * time.Second)
	f.tenant("Frost Watch", "kind == 'job'")
	tell := func(ended time.Time, w account.Workload) {
		n := wire.NewNotices("terrace-1", "b", f.now, noon.Add(time.Minute))
		n.Add(w, ended)
		require.NoError(t, f.Notice(ctx, f.host, n))
	}
	tell(time.Time{}, job("a", "m.abt"))
	ask := func() (warming int, state, reason string) {
		l, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span()}, Measure: amount.CPU, By: "workload"})
		require.NoError(t, err)
		lines, _, err := f.Workloads(ctx, hub.Asked{Span: f.span(), Host: "terrace-1", Where: "kind == 'job'"},
			hub.Page{})
		require.NoError(t, err)
		if len(lines) == 0 {
			return len(l.Warming), "", ""
		}
		about, err := f.AboutWorkload(ctx, lines[0].ID, f.span())
		require.NoError(t, err)
		assert.Equal(t, lines[0].State, about.State)
		return len(l.Warming), about.State, about.Uses[amount.CPU].Reason
	}
	warming, state, reason := ask()
	assert.Equal(t, []any{1, "first reading, usage in 40 s", "first reading, usage in 40 s"},
		[]any{warming, state, reason}, "never a zero, and never an error")
	_, due, err := f.AboutHosts(ctx)
	require.NoError(t, err)
	assert.NotNil(t, due["terrace-1"])

	f.now = noon.Add(62 * time.Second)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	warming, state, reason = ask()
	assert.Equal(t, []any{0, "running", ""}, []any{warming, state, reason})

	f.now = noon.Add(70 * time.Second)
	tell(noon.Add(65*time.Second), of(job("a", "m.abt"), map[string]string{account.FactExit: "exit code 3"}))
	_, state, _ = ask()
	assert.Equal(t, "ended", state)
	found, err := f.Find(ctx, "a", "terrace-1")
	require.NoError(t, err)
	about, err := f.AboutWorkload(ctx, found[0].ID, f.span())
	require.NoError(t, err)
	assert.Equal(t, []any{noon.Add(65 * time.Second), "exit code 3"}, []any{*about.EndedAt, about.Exit},
		"it stays in history with how it ended")
	for _, at := range []time.Time{time.Unix(0, 0), noon.AddDate(-1, 0, 0), noon.AddDate(0, 0, 2)} {
		requireProblem(t, f.Notice(ctx, f.host, wire.NewNotices("terrace-1", "b", at, f.now)), hub.Invalid,
			"set the host's clock")
	}
	n := wire.NewNotices("press-1", "b", f.now, f.now)
	requireProblem(t, f.Notice(ctx, f.host, n), hub.Denied, "press-1")
}

func TestFind_ByNameIdOwnerLabelPidAndItListsExactOnesFirst(t *testing.T) {
	f := newFixture(t)
	f.tenant("Must Watch", "false")
	container := account.Workload{
		Key: "container:0a1b2c", Kind: amount.Container, Name: "must-intake", Owner: "svc-cellar", UID: 801,
		Labels: map[string]string{"coop.project": "cellar"},
		Facts:  map[string]string{account.FactImage: "coop/intake:2026", account.FactGroups: "secret"},
	}
	require.NoError(t, f.send(0, container, job("must", "m.abt")))
	for words, want := range map[string]string{
		"must": "workload must", "must-in": "workload must-intake", "0a1b": "workload must-intake",
		"svc-cellar": "user svc-cellar", "coop.project=cellar": "workload must-intake",
		"coop/intake": "workload must-intake", "MUST intake": "workload must-intake", "terrace": "host terrace-1",
		"must watch": "tenant Must Watch", "%": "", "secret": "", "unassigned": "tenant unassigned",
	} {
		found, err := f.Find(ctx, words, "")
		require.NoError(t, err)
		got := ""
		if len(found) > 0 {
			got = found[0].What + " " + found[0].Name
		}
		assert.Equal(t, want, got, words)
	}
	_, err := f.Find(ctx, "  ", "")
	requireProblem(t, err, hub.Invalid, "look for what")
	_, err = f.AboutWorkload(ctx, 4711, f.span())
	requireProblem(t, err, hub.NotFound, "4711")
	_, err = f.AboutUser(ctx, "nobody", f.span(), 0)
	requireProblem(t, err, hub.NotFound, "nobody")
}

func TestAbout_FamiliesHoldAllDescendantsHoweverDeep(t *testing.T) {
	f := newFixture(t)
	w := of(job("a", "m.abt"), map[string]string{account.FactCPUAsked: "1"})
	iv := &account.Interval{Boot: "b", From: noon, To: noon.Add(time.Minute), ElapsedMillis: 60_000, Ticks: 12,
		CPUCount: 8, Usages: []account.Usage{{
			Workload: 0, Threads: 13, Procs: 5, RunnableMillis: 8 * 60_000, RunnablePeak: 11,
			Parts: []account.PartUse{{Part: 1, Micros: 3e6}},
		}}}
	var processes []account.ProcessUse
	for _, p := range []struct{ pid, parent, threads, cpu int32 }{{10, 1, 1, 0}, {11, 10, 8, 3}, {12, 11, 1, 3},
		{13, 12, 2, 5}, {20, 7, 1, 1}} {
		processes = append(processes, account.ProcessUse{
			Process: account.Process{
				PID:       p.pid,
				Parent:    p.parent,
				Threads:   p.threads,
				LastCPU:   p.cpu,
				AnonBytes: 100,
				Runnable:  1,
			}, Micros: 2_500_000, Bytes: -1,
		})
	}
	m := wire.FromInterval(iv, 1, "v2", describer{w})
	m.AddProcesses(iv, processes, 5*time.Second, describer{w})
	_, err := f.Ingest(ctx, f.host, &wire.Batch{Version: 1, Host: "terrace-1", Intervals: []*wire.Interval{m}})
	require.NoError(t, err)
	byPID, err := f.Find(ctx, "13", "terrace-1")
	require.NoError(t, err)
	require.Len(t, byPID, 1)
	assert.Equal(t, "pid 13, frost-ens", byPID[0].By)
	about, err := f.AboutWorkload(ctx, byPID[0].ID, f.span())
	require.NoError(t, err)
	require.Len(t, about.Families, 2)
	family := about.Families[0]
	assert.Equal(t, []any{int32(10), 4, 12, 4, 2.0, "0,3,5"},
		[]any{family.Head.PID, family.Processes, family.Threads, family.Runnable, family.Cores, family.CPUs})
	assert.Equal(t, 3, family.Members[3].Depth)
	assert.Nil(t, family.Head.DiskRate, "not known is not zero")
	assert.Equal(t, []hub.Part{{Name: "frost-ens", CPUSeconds: 3}}, about.Parts)

	crowded, err := f.Threads(ctx, hub.Asked{Span: f.span()})
	require.NoError(t, err)
	assert.Equal(t, []any{1.0, "asked", 8.0, int64(11), 8.0},
		[]any{crowded[0].MayUseCPUs, crowded[0].MayUseBy, crowded[0].RunnableMean, crowded[0].RunnablePeak,
			*crowded[0].Crowding},
		"8 threads where 1 was asked for is seen at once")
}

func TestLedger_GroupsByWhatIsKnownAndTakesOnlyWhatMatches(t *testing.T) {
	f := newFixture(t)
	frost := of(job("a", "m.abt"), map[string]string{account.FactAccount: "frost", account.FactPartition: "day"})
	labelled := job("b", "t.fink")
	labelled.Labels = map[string]string{"site": "north"}
	require.NoError(t, f.send(0, frost, labelled))
	shares := func(q hub.Question) map[string]float64 {
		q.Span, q.Measure = f.span(), amount.CPU
		l, err := f.Ledger(ctx, q)
		require.NoError(t, err)
		m := map[string]float64{}
		for _, s := range l.Shares {
			m[s.Name] += *s.Amount
		}
		return m
	}
	assert.Equal(t, map[string]float64{"frost": 60, "(none)": 60}, shares(hub.Question{By: "account"}))
	assert.Equal(t, map[string]float64{"north": 60, "(none)": 60}, shares(hub.Question{By: "label:site"}))
	assert.Equal(t, map[string]float64{"a": 60},
		shares(hub.Question{Asked: hub.Asked{Where: "account == 'frost'"}, By: "workload"}))
	assert.Equal(t, map[string]float64{}, shares(hub.Question{Asked: hub.Asked{Where: "false"}, By: "workload"}))
	_, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span(), Where: "acount == 'x'"}, By: "workload"})
	requireProblem(t, err, hub.Invalid, "the filter does not compile")
	_, err = f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span()}, By: "workload", Sort: "size"})
	requireProblem(t, err, hub.Invalid, "cannot sort")
	programs, _, err := f.Programs(ctx, hub.Asked{Span: f.span(), Host: "terrace-1"}, hub.Page{})
	require.NoError(t, err)
	require.Len(t, programs, 1)
	assert.Equal(t, []any{"frost-ens", 4, 2, 120.0},
		[]any{programs[0].Program, programs[0].Processes, programs[0].Workloads, *programs[0].Uses[0].Amount},
		"added over workloads")
	programs, _, err = f.Programs(ctx, hub.Asked{Span: f.span(), Where: "account == 'frost'"}, hub.Page{})
	require.NoError(t, err)
	assert.InDelta(t, 60, *programs[0].Uses[0].Amount, 1e-9)
	group, err := f.AboutUser(ctx, "m.abt", f.span(), 0)
	require.NoError(t, err)
	assert.InDelta(t, 60, *group.Uses[amount.CPU].Amount, 1e-9)
	assert.Equal(t, 1, group.Uses[amount.Network].Missing)
	assert.Nil(t, group.Uses[amount.Network].Amount, "no figure is no zero")
	tenant, err := f.AboutTenant(ctx, hub.Unassigned, f.span(), 0)
	require.NoError(t, err)
	assert.Len(t, tenant.Workloads, 2)
	host, err := f.AboutHost(ctx, "terrace-1", f.span(), 0)
	require.NoError(t, err)
	assert.Equal(t, []hub.Count{{Name: "job", Workloads: 2}}, host.Kinds)
}

func TestFind_TheSameNameOnTwoHostsIsTwoWorkloads(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	_, err := f.Enrol(ctx, "terrace-2")
	require.NoError(t, err)
	f.host, err = f.Host(ctx, "terrace-2")
	require.NoError(t, err)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	found, err := f.Find(ctx, "a", "")
	require.NoError(t, err)
	var hosts []string
	for _, x := range found {
		if x.What == "workload" && x.Exact {
			hosts = append(hosts, x.Host)
		}
	}
	assert.ElementsMatch(t, []string{"terrace-1", "terrace-2"}, hosts)
	one, err := f.Find(ctx, "a", "terrace-2")
	require.NoError(t, err)
	assert.Len(t, one, 1)
}
