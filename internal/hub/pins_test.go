package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

// declare declares CPUs as a tenant's, from long ago on.
func (f *fixture) declare(host, cpus, tenant string) hub.DeclaredPin {
	f.t.Helper()
	p, err := f.Declare(ctx, &hub.PinOrder{Host: host, CPUs: cpus, Holder: tenant, From: noon.AddDate(0, 0, -9)})
	require.NoError(f.t, err)
	return p
}

func (f *fixture) audit(from, to time.Time) map[string]explain.PinAudit {
	f.t.Helper()
	span, err := f.Span(from, to, 0)
	require.NoError(f.t, err)
	pins, err := f.Pins(ctx, span, "")
	require.NoError(f.t, err)
	by := map[string]explain.PinAudit{}
	for _, p := range pins {
		by[p.Host+" "+p.CPUs+" "+p.Holder] = p
	}
	require.Len(f.t, by, len(pins))
	return by
}

// TestPins_AreJudgedWhileInForceOnTheirHost: on two hosts, by each kind of holder, over parts of a span.
func TestPins_AreJudgedWhileInForceOnTheirHost(t *testing.T) {
	c := newCellar(t)
	c.declare("cellar-1", "1", "Harvest Routing")
	c.declare("press-1", "2-3", "Harvest Routing")
	order := func(host, cpus, kind, holder string, from, until time.Duration) {
		o := hub.PinOrder{Host: host, CPUs: cpus, Kind: kind, Holder: holder, From: noon.Add(from)}
		if until != 0 {
			o.Until = noon.Add(until)
		}
		_, err := c.Declare(ctx, &o)
		require.NoError(t, err)
	}
	order("cellar-1", "0", "workload", "must", 0, time.Minute)
	order("press-1", "3", "rule", "owner == 'l.roth'", 2*time.Minute, 0)
	order("cellar-1", "2", "workload", "probe", time.Hour, 0)

	by := c.audit(noon, noon.Add(3*time.Minute))
	must := by["cellar-1 0 must"]
	assert.Equal(t, []any{8.0, 0.0, 0.0, "unbound", noon, noon.Add(time.Minute)},
		[]any{must.Kept, must.Intruded, must.Strayed, must.Verdict, must.From, must.To}, "the first minute alone")
	first := by["cellar-1 1 Harvest Routing"]
	assert.Equal(
		t,
		[]any{19.0, 7.0, 0.0, "intruded"},
		[]any{first.Kept, first.Intruded, first.Strayed, first.Verdict},
		"what the must did as Cellar Intake's was no stray",
	)
	assert.Equal(t, "0-1", first.Effective)
	assert.Equal(t, 1, first.Others, "the probe may run there")
	press := by["press-1 2-3 Harvest Routing"]
	assert.Equal(t, []any{74.0, 14.0, "intruded"}, []any{press.Kept, press.Intruded, press.Verdict})
	assert.Equal(t, "label", press.Verdicts[0].Culprits[0].Name)
	assert.Equal(t, "overlapping", press.Verdicts[1].Verdict, "a rule holds one of them")
	label := by["press-1 3 owner == 'l.roth'"]
	assert.Equal(t, []any{8.0, 0.0, "overlapping"}, []any{label.Kept, label.Intruded, label.Verdict})
	coming := by["cellar-1 2 probe"]
	assert.Equal(
		t,
		[]string{"unknown", "It applies from a moment after this span on: before that nothing is judged."},
		[]string{coming.Verdict, coming.Sentence},
	)
	for _, p := range by {
		assert.InDelta(t, p.Capacity, p.Kept+p.Intruded+p.Kernel+p.Steal+p.Idle+p.Residual, 1e-9)
	}

	when := first.Verdicts[0].When
	require.NotNil(t, when)
	assert.Equal(t, []any{noon, noon.Add(2 * time.Minute), 2, noon.Add(time.Minute), 4.0, (*float64)(nil)},
		[]any{when.From, when.To, when.Stretches, when.WorstFrom, when.WorstSeconds, when.HolderWaited})
	_, isThere := c.audit(noon.Add(2*time.Minute), noon.Add(3*time.Minute))["cellar-1 0 must"]
	assert.False(t, isThere, "it ended before the span")
}

// TestPins_TellWhetherTheHolderWaitedMeanwhile: of two minutes with an intruder in the second.
func TestPins_TellWhetherTheHolderWaitedMeanwhile(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	f.declare("terrace-1", "0-1", "Frost Watch")
	waits := int64(2e6)
	f.dress = func(iv *account.Interval) {
		for i := range iv.Usages {
			iv.Usages[i].Figures.Put(amount.CPUWait, waits*int64(i+1), amount.Counted)
		}
		waits *= 10
	}
	require.NoError(t, f.send(0, job("a", "m.abt")))
	require.NoError(t, f.send(1, job("a", "m.abt"), job("b", "t.fink")))
	p := f.audit(noon, noon.Add(2*time.Minute))["terrace-1 0-1 Frost Watch"]
	assert.Equal(t, "intruded", p.Verdict)
	assert.Equal(
		t,
		"b (unassigned) ran for 60 CPU-seconds on CPU 1, declared for Frost Watch alone; threads of Frost "+
			"Watch waited 22 s for a CPU in this span.",
		p.Sentence,
	)
	assert.Equal(t, 22.0, *p.Waited)
	assert.Equal(t, 20.0, *p.Verdicts[0].When.HolderWaited, "in the minute in which it was there")
}

func TestDeclare_KeepsHistoryAndRefusesWhatWouldLoseSome(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink")))
	day := 24 * time.Hour
	declare := func(cpus string, from, until time.Duration) (hub.DeclaredPin, error) {
		o := hub.PinOrder{Host: "terrace-1", CPUs: cpus, Holder: "Frost Watch", From: noon.Add(from), Reason: "frost"}
		if until != 0 {
			o.Until = noon.Add(until)
		}
		return f.Declare(ctx, &o)
	}
	first, err := declare("0-1", 0, 0)
	require.NoError(t, err)
	again, err := declare("0x3", day, 0)
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID, "the same CPUs as a mask, later: they are its already")
	_, err = declare("2", day, 2*day)
	requireProblem(
		t,
		err,
		hub.Conflict,
		"CPUs 0-1 of terrace-1 are declared for Frost Watch from 2026-10-11T12:00:00Z, "+
			"without an end: the times overlap",
	)
	second, err := declare("2", 2*day, 0)
	require.NoError(t, err)
	_, err = declare("3", day, 0)
	requireProblem(t, err, hub.Conflict, "CPUs 2 of terrace-1 are declared for Frost Watch from 2026-10-13T12:00:00Z")
	other, err := f.Declare(
		ctx,
		&hub.PinOrder{Host: "terrace-1", CPUs: "2", Kind: "workload", Holder: "a", IsShared: true,
			From: noon.Add(day), Until: noon.Add(3 * day)},
	)
	require.NoError(t, err, "of another holder")
	ended, err := f.EndPin(ctx, second.ID, noon.Add(day), "not needed")
	require.NoError(t, err)
	assert.Equal(t, second.From, ended.Until.UTC(), "it is taken back before it begins")
	_, err = f.EndPin(ctx, second.ID, noon.Add(day), "")
	requireProblem(t, err, hub.NotFound, "no declaration")
	third, err := declare("3", 2*day, 0)
	require.NoError(t, err, "what was taken back is in nobody's way")

	all, err := f.Declared(ctx, "terrace-1")
	require.NoError(t, err)
	type line struct {
		ID               int64
		CPUs, Holder     string
		Exclusive        bool
		From, Until      string
		EndedBy, EndedAs string
	}
	lines := []line{}
	for _, p := range all {
		until := "–"
		if p.Until != nil {
			until = p.Until.UTC().Format("02")
		}
		lines = append(
			lines,
			line{p.ID, p.CPUs, p.Kind + " " + p.Holder, p.Exclusive, p.From.UTC().Format("02"), until,
				p.EndedBy, p.EndReason},
		)
	}
	assert.Equal(t, []line{
		{first.ID, "0-1", "tenant Frost Watch", true, "11", "13", "the service", "frost"},
		{other.ID, "2", "workload a", false, "12", "14", "", ""},
		{second.ID, "2", "tenant Frost Watch", true, "13", "13", "the service", "not needed"},
		{third.ID, "3", "tenant Frost Watch", true, "13", "–", "", ""},
	}, lines)
}

func TestDeclare_SaysWhatIsWrong(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	require.NoError(t, f.send(0, job("a", "m.abt")))
	sound := hub.PinOrder{Host: "terrace-1", CPUs: "0", Holder: "Frost Watch"}
	for _, c := range []struct {
		change func(o *hub.PinOrder)
		class  hub.Class
		why    string
	}{
		{func(o *hub.PinOrder) { o.CPUs = "" }, hub.Invalid, "no CPU was named"},
		{func(o *hub.PinOrder) { o.CPUs = "0x0" }, hub.Invalid, "no CPU was named"},
		{func(o *hub.PinOrder) { o.CPUs = "3-1" }, hub.Invalid, "runs backwards"},
		{func(o *hub.PinOrder) { o.CPUs = "7-8" }, hub.Invalid, "CPU 8: terrace-1 has CPUs 0 to 7"},
		{func(o *hub.PinOrder) { o.CPUs = "0x100" }, hub.Invalid, "CPU 8: terrace-1 has CPUs 0 to 7"},
		{func(o *hub.PinOrder) { o.CPUs = "all" }, hub.Invalid, "not a CPU number"},
		{func(o *hub.PinOrder) { o.Host = "terrace-9" }, hub.NotFound, "terrace-9"},
		{func(o *hub.PinOrder) { o.Holder = "Frost Wach" }, hub.NotFound, "Frost Wach"},
		{func(o *hub.PinOrder) { o.Kind, o.Holder = "workload", "z" }, hub.NotFound, `no workload "z" was seen`},
		{func(o *hub.PinOrder) { o.Kind, o.Holder = "rule", "kid == 'vm'" }, hub.Invalid, "does not compile"},
		{func(o *hub.PinOrder) { o.Kind = "user" }, hub.Invalid, "choose tenant, workload or rule"},
		{func(o *hub.PinOrder) { o.From, o.Until = noon, noon }, hub.Invalid, "the end must be after the begin"},
		{func(o *hub.PinOrder) { o.Until = f.now.Add(-time.Minute) }, hub.Invalid, "the end must be after the begin"},
		{func(o *hub.PinOrder) { o.From = noon.AddDate(9000, 0, 0) }, hub.Invalid, "years 1970 to 9999"},
	} {
		order := sound
		c.change(&order)
		_, err := f.Declare(ctx, &order)
		requireProblem(t, err, c.class, c.why)
	}
	all, err := f.Declared(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was half-written")
}

func TestEffective_ListsWhatIsKeptOnSomeCPUs(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	whole := job("c", "t.fink")
	whole.Allowed = "0-7"
	require.NoError(t, f.send(0, job("a", "m.abt"), job("b", "t.fink"), whole))
	f.declare("terrace-1", "5", "Frost Watch")
	require.NoError(t, f.send(1, job("b", "t.fink"), job("a", "m.abt"), whole))
	e, err := f.Effective(ctx, "terrace-1")
	require.NoError(t, err)
	var told [][]string
	for _, p := range e.Pins {
		told = append(told, []string{p.Workload, p.Tenant, p.CPUs, p.KeptBy, p.Declared})
	}
	assert.Equal(
		t,
		[][]string{{"a", "Frost Watch", "0-3", "affinity", "5"}, {"b", "unassigned", "0-3", "affinity", ""}},
		told,
	)
	assert.Equal(t, []string{"0-7", "0-4,6-7"}, []string{e.CPUs, e.Left}, "what is declared for one alone is not")
}
