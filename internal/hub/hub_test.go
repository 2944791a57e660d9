package hub_test

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

var (
	ctx  = context.Background()
	noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
)

// fixture is a hub whose clock stands at one o'clock unless moved, with one host that sends.
type fixture struct {
	*hub.Hub
	now      time.Time
	t        *testing.T
	host     store.Host
	sequence uint64
	dress    func(*account.Interval) // puts more into what is sent
	parts    *account.Inventory      // what the host says it is made of
	taken    store.Taken             // of the batch that was sent last
}

func newFixture(t *testing.T) *fixture {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	f := &fixture{t: t, now: noon.Add(time.Hour)}
	f.Hub = hub.New(s, hub.Options{Now: func() time.Time { return f.now }})
	_, err = f.Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	f.host, err = f.Host(ctx, "terrace-1")
	require.NoError(t, err)
	return f
}

type describer []account.Workload

func (d describer) Workload(id account.WorkloadID) account.Workload { return d[id] }
func (d describer) ProgramName(int32) string                        { return "frost-ens" }

// send sends one minute, in which each job used one core and one GiB, and its network cannot be told apart.
func (f *fixture) send(minute int, jobs ...account.Workload) error {
	f.sequence++
	from := noon.Add(time.Duration(minute) * time.Minute)
	iv := &account.Interval{Boot: "b", From: from, To: from.Add(time.Minute), ElapsedMillis: 60_000, Ticks: 12,
		CPUCount: 8}
	for i := range jobs {
		u := account.Usage{Workload: account.WorkloadID(i), CPUs: []account.CPUUse{{CPU: int32(i), Micros: 60e6}},
			Programs: []account.ProgramUse{{Program: 1, Procs: 2}}}
		u.Units = [amount.NumResources]int64{60e6, 60_000 << 30, 1e6, 0}
		u.Peak = [amount.NumResources]int64{1e6, 1 << 30, 2e4, 0}
		u.Source[amount.Network] = amount.Unavailable
		u.Programs[0].Units = u.Units
		iv.Usages = append(iv.Usages, u)
	}
	n := int64(len(jobs))
	if f.dress != nil {
		f.dress(iv)
	}
	iv.Ledgers[amount.CPU] = account.Ledger{Capacity: account.Line{Units: 480e6},
		Used: account.Line{Units: n*60e6 + 3e6}, Idle: account.Line{Units: 477e6 - n*60e6},
		Kernel: account.Line{Units: 1e6}}
	b := &wire.Batch{Version: 1, Host: f.host.Name,
		Intervals: []*wire.Interval{wire.FromInterval(iv, f.sequence, "v2", describer(jobs))}}
	if f.parts != nil {
		require.NoError(f.t, b.Intervals[0].AddInventory(f.parts))
	}
	taken, err := f.Ingest(ctx, f.host, b)
	f.taken = taken
	return err
}

func job(name, owner string) account.Workload {
	return account.Workload{
		Key:     "job:" + name,
		Kind:    amount.Job,
		Name:    name,
		Owner:   owner,
		UID:     2001,
		Allowed: "0-3",
	}
}

func (f *fixture) tenant(name, rule string) {
	_, err := f.AddTenant(ctx, name)
	require.NoError(f.t, err)
	_, _, err = f.AddRule(ctx, 0, name, rule)
	require.NoError(f.t, err)
}

func (f *fixture) span() question.Span {
	s, err := f.Span(noon, noon.Add(30*time.Minute), 0)
	require.NoError(f.t, err)
	return s
}

func (f *fixture) byTenant() map[string]float64 {
	l, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span()}, Measure: amount.CPU, By: "tenant"})
	require.NoError(f.t, err)
	m := map[string]float64{}
	for _, s := range l.Shares {
		m[s.Name] = *s.Amount
	}
	return m
}

func requireProblem(t *testing.T, err error, class hub.Class, text string) {
	t.Helper()
	var p *hub.Problem
	require.True(t, errors.As(err, &p), "%v", err)
	assert.Equal(t, class, p.Class)
	assert.Contains(t, p.Detail, text)
}

func TestRules_AccountUsageFromTheirMakingAndNeverRewriteHistory(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	assert.Equal(t, map[string]float64{"unassigned": 120}, f.byTenant())

	f.now = noon.Add(time.Minute)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	assert.Equal(t, map[string]float64{"unassigned": 120}, f.byTenant(), "what was is as it was")
	require.NoError(t, f.send(1, job("a", "m.abt"), job("b", "t.fink")))
	assert.Equal(t, map[string]float64{"unassigned": 180, "Frost Watch": 60}, f.byTenant())

	// A rule put before takes over, from now on; the total stays what was used.
	f.now = noon.Add(2 * time.Minute)
	_, err := f.AddTenant(ctx, "Leaf Vision")
	require.NoError(t, err)
	_, moved, err := f.AddRule(ctx, 1, "Leaf Vision", "kind == 'job'")
	require.NoError(t, err)
	assert.Equal(t, 2, moved)
	require.NoError(t, f.send(2, job("a", "m.abt"), job("b", "t.fink")))
	assert.Equal(t, map[string]float64{"unassigned": 180, "Frost Watch": 60, "Leaf Vision": 120}, f.byTenant())

	moved, err = f.RemoveRule(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, 2, moved)
	rules, _, err := f.Rules(ctx)
	require.NoError(t, err)
	require.Len(t, rules, 1)
	assert.Equal(t, 1, rules[0].Position, "numbers close up")

	_, err = f.RemoveTenant(ctx, "Leaf Vision")
	require.NoError(t, err)
	assert.Equal(t, map[string]float64{"unassigned": 300, "Frost Watch": 60}, f.byTenant(),
		"its usage is still in the books")
}

func TestTryRule_TellsWhatWouldMoveAndChangesNothing(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	_, err := f.AddTenant(ctx, "Leaf Vision")
	require.NoError(t, err)
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink"), job("c", "t.fink")))

	last, err := f.TryRule(ctx, f.span(), 0, "Leaf Vision", "kind == 'job'")
	require.NoError(t, err)
	assert.Equal(t, []int{3, 3, 2}, []int{last.Seen, last.Matched, len(last.Moves)},
		"a is Frost Watch's by a rule before")
	moved := last.Moves[0]
	assert.Equal(t, []any{"b", "job", "t.fink", "terrace-1", "unassigned", "Leaf Vision"},
		[]any{moved.Workload, moved.Kind, moved.Owner, moved.Host, moved.From, moved.To})
	assert.Equal(t, []float64{60, 1 << 30, 1e6},
		[]float64{*moved.Uses[0].Amount, *moved.Uses[1].Amount, *moved.Uses[2].Amount})
	assert.Nil(t, moved.Uses[3].Amount, "no figure is no zero")
	first, err := f.TryRule(ctx, f.span(), 1, "Leaf Vision", "kind == 'job'")
	require.NoError(t, err)
	assert.Len(t, first.Moves, 3)
	assert.Equal(t, "Frost Watch", first.Moves[0].From)

	_, err = f.TryRule(ctx, f.span(), 1, "Leaf Vision", "kid == 'job'")
	requireProblem(t, err, hub.Invalid, "does not compile")
	rules, _, err := f.Rules(ctx)
	require.NoError(t, err)
	assert.Len(t, rules, 1)
	_, changed, err := f.AddRule(ctx, 1, "Leaf Vision", "kind == 'job'")
	require.NoError(t, err)
	assert.Equal(t, len(first.Moves), changed, "and adding it does what the trial told")
}

// instances are two of the service on the same books, with a host enrolled.
func instances(t *testing.T) (one, other *fixture) {
	database := testdb.New(t)
	open := func() *fixture {
		s, err := store.Open(ctx, database)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return &fixture{Hub: hub.New(s, hub.Options{Now: func() time.Time { return noon.Add(time.Minute) }}), t: t}
	}
	one, other = open(), open()
	_, err := one.Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	for _, f := range []*fixture{one, other} {
		f.host, err = f.Host(ctx, "terrace-1")
		require.NoError(t, err)
	}
	return one, other
}

func TestRules_ChangedByAnotherInstanceAreSeen(t *testing.T) {
	one, other := instances(t)
	other.sequence = 100
	require.NoError(t, other.send(0, job("a", "m.abt"))) // other knows the rules of now: none
	one.tenant("Frost Watch", "true")
	require.NoError(t, other.send(1, job("a", "m.abt")))
	assert.Equal(t, map[string]float64{"unassigned": 60, "Frost Watch": 60}, other.byTenant())
}

// TestNotice_IsTakenByTheRulesInForce: news of a workload is accounted by a rule that another instance has just made.
func TestNotice_IsTakenByTheRulesInForce(t *testing.T) {
	one, other := instances(t)
	notice := func(key string) {
		n := wire.NewNotices("terrace-1", "b", noon, noon.Add(time.Minute))
		n.Add(account.Workload{Key: key, Kind: amount.Job, Name: key}, time.Time{})
		require.NoError(t, other.Notice(ctx, other.host, n))
	}
	notice("job:before") // by the rules that the other instance remembers from now on: none
	one.tenant("Frost Watch", "kind == 'job'")
	notice("job:after")
	workloads, _, err := one.Workloads(ctx, hub.Asked{Span: question.Span{From: noon.Add(-time.Hour),
		To: noon.Add(time.Hour)}}, hub.Page{})
	require.NoError(t, err)
	tenants := map[string]string{}
	for _, w := range workloads {
		tenants[w.Name] = w.Tenant
	}
	assert.Equal(t, map[string]string{"job:before": "Frost Watch", "job:after": "Frost Watch"}, tenants,
		"a rule takes what is there when it is made, and what comes after it")
}

func TestIngest_IsTakenFromTheHostOfTheCredentialAndOfATimeThatIsKept(t *testing.T) {
	f := newFixture(t)
	other := f.host
	other.Name = "press-1"
	b := &wire.Batch{Version: 1, Host: "terrace-1"}
	_, err := f.Ingest(ctx, other, b)
	requireProblem(t, err, hub.Denied, `"press-1"`)
	requireProblem(t, f.send(60+10, job("a", "m.abt")), hub.Early, "set the host's clock")
	requireProblem(t, f.send(-60*24*60, job("a", "m.abt")), hub.Invalid, "31 days")
	assert.Empty(t, f.byTenant())
}

func TestLedger_BalancesWhateverItIsGroupedBy(t *testing.T) {
	f := newFixture(t)
	for n := range 3 {
		require.NoError(t, f.send(n, job("a", "m.abt"), job("b", "t.fink")))
	}
	for _, by := range question.Dimensions() {
		l, err := f.Ledger(
			ctx,
			hub.Question{Asked: hub.Asked{Span: f.span()}, Measure: amount.CPU, By: by, First: 1},
		)
		require.NoError(t, err)
		sum := l.LeftOutBy
		for _, s := range l.Shares {
			sum += *s.Amount
		}
		assert.InDelta(t, *l.Capacity, sum+*l.Kernel+*l.Steal+*l.Idle+*l.Residual, 1e-9, by)
		assert.InDelta(t, 6, *l.Residual, 1e-9, by)
		assert.Equal(t, noon, *l.CoveredFrom)
		assert.Equal(t, noon.Add(3*time.Minute), *l.CoveredTo)
	}
	_, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span()}, By: "vintage"})
	requireProblem(t, err, hub.Invalid, "choose one of tenant")
	_, err = f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span(), Host: "cellar-7"}, By: "tenant"})
	requireProblem(t, err, hub.NotFound, "cellar-7")
	one, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: f.span(), Tenant: hub.Unassigned},
		By: "workload"})
	require.NoError(t, err)
	assert.Nil(t, one.Residual, "of one tenant's shares alone nothing balances, and it says so")
	assert.Contains(t, one.Notes["residual"], "only some shares")
}

func TestBalance_ComparesWithQuotasAndNeverShowsMissingAsZero(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "true")
	require.NoError(t, quota(f.Hub, "Frost Watch", "cpu", 1.5, noon))
	require.NoError(t, quota(f.Hub, "Frost Watch", "memory", 3<<30, noon))
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	require.NoError(t, f.send(1, job("a", "m.abt"), job("b", "t.fink"), job("c", "t.fink"), job("d", "t.fink")))
	b, err := f.Balance(ctx, f.span(), "")
	require.NoError(t, err)
	assert.Equal(t, hub.Unassigned, b.Tenants[0].Tenant, "what nobody is charged with comes first")
	uses := b.Tenants[1].Uses
	assert.Equal(t, 4, b.Tenants[1].Workloads)
	assert.InDelta(t, 3, *uses[amount.CPU].Used, 1e-9)
	assert.InDelta(t, 4, *uses[amount.CPU].Peak, 1e-9)
	assert.True(t, uses[amount.CPU].Over)
	assert.False(t, uses[amount.Memory].Over, "the mean is at the quota, not above it")
	assert.True(t, uses[amount.Memory].PeakOver)
	assert.Nil(t, uses[amount.Network].Used)
	assert.NotEmpty(t, uses[amount.Network].Reason)

	for _, bad := range []float64{-1, nan()} {
		requireProblem(t, quota(f.Hub, "Frost Watch", "cpu", bad, noon), hub.Invalid, "zero or more")
	}
	requireProblem(t, quota(f.Hub, "Frost Watch", "wine", 1, noon), hub.Invalid, "choose one of")
	requireProblem(t, quota(f.Hub, "Vineyard", "cpu", 1, noon), hub.NotFound, "no tenant")
}

// quota puts a ceiling in force from a moment on.
func quota(h *hub.Hub, tenant, resource string, ceiling float64, from time.Time) error {
	_, err := h.SetQuota(ctx, &hub.QuotaOrder{Tenant: tenant, Resource: resource, From: from,
		Limit: tenancy.Limit{Ceiling: &ceiling}})
	return err
}

func TestQuotas_HaveAHistoryAndJudgeWhatWasUsedInTheirTime(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "true")
	f.tenant("Label Press", "false")
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	require.NoError(t, f.send(1, job("a", "m.abt"), job("b", "t.fink"), job("c", "t.fink"), job("d", "t.fink")))
	winemaker := hub.As(ctx, store.Token{Name: "winemaker"})
	three, five, four := 3.0, 5.0, 4.0
	order := hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu", Limit: tenancy.Limit{Ceiling: &three},
		From: noon.Add(-72*time.Hour + 40*time.Second), Reason: "agreed for the season"}
	first, err := f.SetQuota(winemaker, &order)
	require.NoError(t, err)
	assert.Equal(t, []any{noon.Add(-72 * time.Hour), "winemaker", "agreed for the season"},
		[]any{first.AppliesAt, first.MadeBy, first.Reason}, "it applies from a whole minute")
	again, err := f.SetQuota(ctx, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu", Limit: order.Limit,
		From: noon})
	require.NoError(t, err)
	assert.Equal(
		t,
		first.MadeAt.Truncate(time.Microsecond),
		again.MadeAt,
		"the same is in force: nothing was changed",
	)

	use := func(span question.Span) explain.ResourceUse {
		b, err := f.Balance(ctx, span, "")
		require.NoError(t, err)
		return b.Tenants[1].Uses[amount.CPU]
	}
	before := use(f.span())
	assert.Equal(
		t,
		[]any{3.0, 3.0, false, true, 0},
		[]any{*before.Quota, *before.Used, before.Over, before.PeakOver,
			len(before.Terms)},
	)

	// From the second minute on five may be used: in the first two of three were, in the second four of five.
	order.Limit, order.From = tenancy.Limit{Ceiling: &five, Soft: &four}, noon.Add(time.Minute)
	_, err = f.SetQuota(winemaker, &order)
	require.NoError(t, err)
	raised := use(f.span())
	require.Len(t, raised.Terms, 2)
	assert.Equal(t, []any{5.0, 4.0, false, false, false}, []any{*raised.Quota, *raised.Soft, raised.Over,
		raised.PeakOver, raised.SoftOver}, "a mean at the soft mark is not above it")
	assert.Equal(t, []any{2.0, 3.0, 4.0, 5.0}, []any{*raised.Terms[0].Used, *raised.Terms[0].Quota,
		*raised.Terms[1].Used, *raised.Terms[1].Quota})
	assert.Equal(t, before.Amount, raised.Amount, "a quota never changes what was used")
	perHost, _, err := f.Balances(ctx, f.span(), 10, "")
	require.NoError(t, err)
	assert.Nil(
		t,
		perHost[0].Tenants[1].Uses[amount.CPU].Quota,
		"what all hosts together may have is no host's quota",
	)
	early := use(question.Span{From: noon, To: noon.Add(time.Minute)})
	assert.Equal(
		t,
		[]any{3.0, 5.0, noon.Add(time.Minute)},
		[]any{*early.Quota, *early.Coming.Quota, early.Coming.From},
	)

	// It ends, and stands in the history.
	require.NoError(t, f.RemoveQuota(winemaker, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu",
		From: noon.Add(time.Hour), Reason: "over"}))
	require.NoError(t, quota(f.Hub, "Label Press", "memory", 7, noon))
	require.NoError(t, quota(f.Hub, "Label Press", "cpu", 7, noon))
	changes, err := f.QuotaChanges(ctx, "Frost Watch", "cpu")
	require.NoError(t, err)
	require.Len(t, changes, 3)
	assert.True(t, changes[0].Limit.None())
	assert.Equal(t, "over", changes[0].Reason)
	all, err := f.QuotaChanges(ctx, "", "")
	require.NoError(t, err)
	assert.Len(t, all, 5)
	standing, err := f.Quotas(ctx)
	require.NoError(t, err)
	require.Len(t, standing, 2, "what ended is not in force")
	assert.Equal(t, []any{"Label Press", "cpu", "memory"}, []any{standing[0].Tenant, standing[0].Resource,
		standing[1].Resource})
	require.NoError(t, quota(f.Hub, "Label Press", "disk", 7, time.Now().Add(time.Hour)))
	standing, err = f.Quotas(ctx)
	require.NoError(t, err)
	assert.Len(t, standing, 2, "what is still to come is not either")

	for _, end := range []time.Time{noon.Add(2 * time.Hour), noon.AddDate(0, 0, -5)} {
		requireProblem(t, f.RemoveQuota(ctx, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu", From: end}),
			hub.NotFound, "no quota")
	}
	_, err = f.SetQuota(ctx, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu",
		Limit: tenancy.Limit{Ceiling: &three, Soft: &five}})
	requireProblem(t, err, hub.Invalid, "at most the ceiling")
	_, err = f.SetQuota(ctx, &hub.QuotaOrder{Tenant: "Frost Watch", Resource: "cpu",
		Limit: tenancy.Limit{Ceiling: &three}, Reason: strings.Repeat("a", 1001)})
	requireProblem(t, err, hub.Invalid, "reason of 1001 bytes")
	requireProblem(
		t,
		quota(f.Hub, "Frost Watch", "cpu", 1, time.Date(12000, 1, 1, 0, 0, 0, 0, time.UTC)),
		hub.Invalid,
		"years 1970 to 9999",
	)
}

func nan() float64 { zero := 0.0; return zero / zero }

func TestSpan_HoldsWholeMinutesAndRefusesNonsense(t *testing.T) {
	f := newFixture(t)
	s, err := f.Span(noon.Add(20*time.Second), noon.Add(100*time.Second), 0)
	require.NoError(t, err)
	assert.Equal(t, question.Span{From: noon, To: noon.Add(2 * time.Minute)}, s)
	s, err = f.Span(time.Time{}, time.Time{}, 0)
	require.NoError(t, err)
	assert.Equal(t, question.Span{From: noon, To: noon.Add(time.Hour)}, s, "the last hour")
	for _, c := range []struct {
		from, to time.Time
		length   time.Duration
		why      string
	}{
		{noon, noon, 0, "before it begins"}, {noon, noon.AddDate(2, 0, 0), 0, "at most 400"},
		{time.Time{}, time.Time{}, time.Second, "at least one"},
	} {
		_, err := f.Span(c.from, c.to, c.length)
		requireProblem(t, err, hub.Invalid, c.why)
	}
}

func TestTimeline_LeavesOutWhatWasNotRecorded(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	require.NoError(t, f.send(20, job("a", "m.abt")))
	line, err := f.Timeline(ctx, f.span(), "", amount.CPU)
	require.NoError(t, err)
	require.Len(t, line.Points, 2)
	assert.InDelta(t, 63.0/480, *line.Points[0].Busy, 1e-9)
	line, err = f.Timeline(ctx, f.span(), "terrace-1", amount.Disk)
	require.NoError(t, err)
	assert.Nil(t, line.Points[0].Busy, "without a capacity there is no share of it")
}

func TestWatch_TellsOfCommitsAndEndsWithItsContext(t *testing.T) {
	f := newFixture(t)
	watching, cancel := context.WithCancel(ctx)
	commits := f.Watch(watching)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	assert.Equal(t, hub.Committed{Host: "terrace-1", To: noon.Add(time.Minute)}, <-commits)
	cancel()
	var wg sync.WaitGroup
	for range 50 { // telling and leaving at once
		wg.Go(func() { short, end := context.WithCancel(ctx); f.Watch(short); end() })
	}
	require.NoError(t, f.send(1, job("a", "m.abt")))
	wg.Wait()
	for range commits { // closed once the context ended
	}
}

func TestTokens_AreKnownByHashAndRole(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.SetToken(ctx, "reader", hub.Reader, "vs_one"))
	token, err := f.SignIn(ctx, "vs_one")
	require.NoError(t, err)
	assert.Equal(t, hub.Reader, token.Role)
	require.NoError(t, f.SetToken(ctx, "reader", hub.Reader, "vs_two"))
	_, err = f.SignIn(ctx, "vs_one")
	requireProblem(t, err, hub.NoToken, "replaced")
	_, err = f.SignIn(ctx, "")
	requireProblem(t, err, hub.NoToken, "no token was given")
	requireProblem(t, f.SetToken(ctx, "x", "king", "y"), hub.Invalid, "choose administrator or reader")
	first, err := f.Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	_, err = f.Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	_, err = f.SignIn(ctx, first)
	requireProblem(t, err, hub.NoToken, "not known")
}

func TestIngest_SaysWhetherRulesAskForPrograms(t *testing.T) {
	f := newFixture(t)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	assert.False(t, f.taken.Programs)
	f.tenant("Frost Watch", "owner == 'm.abt' && program == 'frost-ens'")
	require.NoError(t, f.send(1, job("a", "m.abt")))
	assert.True(t, f.taken.Programs)
}
