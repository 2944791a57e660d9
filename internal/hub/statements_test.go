package hub_test

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/statement"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

// quarter is a book of three months on two hosts, told a minute here and there: on the edges of months in Vienna, on
// both sides of a change of price and of one of the clock. The press told of October when that was closed already.
type quarter struct {
	*cellar
	database string
}

func newQuarter(t *testing.T) *quarter {
	url := testdb.New(t)
	s, err := store.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	q := &quarter{&cellar{&fixture{t: t}, map[string]store.Host{}, map[string]int64{}, nil, false}, url}
	q.Hub = hub.New(s, hub.Options{Now: func() time.Time { return q.now }})
	q.at("2026-09-30T20:00:00Z")
	for _, name := range []string{"cellar-1", "press-1"} {
		_, err := q.Enrol(ctx, name)
		require.NoError(t, err)
		q.hosts[name], err = q.Host(ctx, name)
		require.NoError(t, err)
	}
	q.tenant("Harvest Routing", "owner == 'svc-route'")
	q.tenant("Cellar Intake", "owner == 'svc-cellar'")
	return q
}

// at sets the clock.
func (q *quarter) at(moment string) time.Time {
	at, err := time.Parse(time.RFC3339, moment)
	require.NoError(q.t, err)
	if at.After(q.now) {
		q.now = at.Add(2 * time.Minute)
	}
	return at
}

// tell sends the minute of a host that begins at a moment.
func (q *quarter) tell(host, moment string, all ...had) {
	q.t.Helper()
	_, err := q.Ingest(ctx, q.hosts[host], q.batch(host, q.at(moment), 60, all...))
	require.NoError(q.t, err)
}

func (q *quarter) close(window string) *statement.Account {
	q.t.Helper()
	a, err := q.CloseWindow(ctx, window)
	require.NoError(q.t, err)
	require.NoError(q.t, a.Check())
	return a
}

// cores are the CPU seconds of a statement's lines by what they are; those of corrections are marked.
func cores(a *statement.Account, tenant string) map[string]float64 {
	sums := map[string]float64{}
	for i := range a.Statements {
		for _, l := range a.Statements[i].Lines {
			if a.Statements[i].Tenant == tenant && l.Resource == "cpu" && l.What != statement.Manual {
				name := string(l.What)
				if l.Corrects != 0 {
					name += " corrected"
				}
				sums[name] += l.Units.InexactFloat64() / 1e6
			}
		}
	}
	return sums
}

func TestStatements_OfAQuarterAreItsLedgerToTheLastUnit(t *testing.T) {
	q := newQuarter(t)
	cpu := func(price, from, until string) statement.Price {
		return statement.Price{Of: "cpu", Price: decimal.RequireFromString(price), From: from, Until: until}
	}
	tariff := statement.Tariff{
		Currency: "EUR",
		Zone:     "Europe/Vienna",
		Split:    statement.ByUse,
		Prices: []statement.Price{
			cpu("36", "2026-01-01", "2026-10-15"), cpu("72", "2026-10-15", "")},
	} // a cent, and two, a second
	isSet, err := q.SetTariff(ctx, &tariff, "for the test")
	require.NoError(t, err)
	require.True(t, isSet)
	isSet, err = q.SetTariff(ctx, &tariff, "again")
	require.NoError(t, err)
	require.False(t, isSet, "it says what is in force")

	kept := tariff
	kept.KeepIdle = true
	for _, x := range []*statement.Tariff{&kept, &tariff} {
		isSet, err = q.SetTariff(ctx, x, "what stood idle")
		require.NoError(t, err)
		require.True(t, isSet, "any difference is one")
	}

	q.tell("cellar-1", "2026-09-30T21:59:00Z", had{must, 10, 100, 7, 11, 0}, had{probe, 5, 10, 2, -1, 1})
	q.tell("cellar-1", "2026-09-30T22:00:00Z", had{must, 20, 100, 7, 11, 0}) // October in Vienna
	_, err = q.CloseWindow(ctx, "2026-10")
	require.ErrorContains(t, err, "is open until 2026-10-31T23:00:00Z")
	september := q.close("last")
	assert.Equal(
		t,
		map[string]float64{"used": 10, "kernel": 0.000080, "idle": 149.9998},
		cores(september, "Cellar Intake"),
		"two thirds of what is shared: of 240 seconds 225 stood idle, less what is nobody's",
	)
	assert.Equal(t, map[string]float64{"used": 5, "kernel": 0.000040, "idle": 74.9999}, cores(september, "unassigned"))
	assert.Equal(t, map[string]float64{"residual": 0.000180}, cores(september, "shared"))

	q.tell("cellar-1", "2026-10-14T21:59:00Z", had{must, 1, 100, 7, 11, 0})
	q.tell("cellar-1", "2026-10-14T22:00:00Z", had{must, 2, 100, 7, 11, 0}) // the dearer day has begun in Vienna
	_, _, err = q.AddRule(ctx, 1, "Harvest Routing", "name == 'must'")
	require.NoError(t, err)
	q.tell("cellar-1", "2026-10-25T00:59:00Z", had{must, 4, 100, 7, 11, 0}) // the clock is put back
	q.tell("cellar-1", "2026-10-25T01:00:00Z", had{must, 8, 100, 7, 11, 0})
	q.tell("cellar-1", "2026-10-31T22:59:00Z", had{must, 16, 100, 7, 11, 0})
	q.tell("cellar-1", "2026-10-31T23:00:00Z", had{must, 32, 100, 7, 11, 0}) // November
	october := q.close("2026-10")
	assert.Equal(t, 23.0, cores(october, "Cellar Intake")["used"])
	assert.Equal(t, 28.0, cores(october, "Harvest Routing")["used"])
	for i := range october.Statements {
		if s := &october.Statements[i]; s.Tenant == "Cellar Intake" {
			used := decimal.Zero
			for _, l := range s.Lines {
				if l.What == statement.Used {
					used = used.Add(l.Cost)
				}
			}
			assert.Equal(t, "0.25", used.Round(6).String(), "21 s at a cent, and 2 at two")
			assert.Greater(t, s.Coverage[0].Of, 24.0*31, "an hour more than 31 days")
		}
	}
	_, err = q.CloseWindow(ctx, "2026-10-15")
	require.ErrorContains(t, err, "2026-10 is closed")
	_, err = q.CloseWindow(ctx, "2027-03")
	require.ErrorContains(t, err, "is open until")

	// What came late, and what was corrected by hand, is in November's.
	q.tell("press-1", "2026-10-14T21:59:00Z", had{route, 100, 1000, 37, 41, 2}, had{label, 50, 50, 9, 12, 3})
	q.tell("press-1", "2026-10-31T22:59:00Z", had{route, 200, 1000, 37, 41, 2})
	q.tell("press-1", "2026-11-12T10:00:00Z", had{route, 7, 1000, 37, 41, 2})
	number := september.Statements[0].Number
	_, err = q.Correct(ctx, &statement.Correction{Corrects: number, Resource: "cpu",
		Quantity: decimal.RequireFromString("-0.5"), Reason: "a trial"})
	require.NoError(t, err)
	waits, err := q.Correct(ctx, &statement.Correction{Corrects: number, Resource: "cpu",
		Quantity: decimal.RequireFromString("9"), Reason: "a mistake"})
	require.NoError(t, err)
	require.NoError(t, q.RemoveCorrection(ctx, waits.ID))
	q.at("2026-12-01T08:00:00Z")
	draft, err := q.Account(ctx, "last")
	require.NoError(t, err)
	november := q.close("2026-11")
	require.Len(t, draft.Statements, len(november.Statements), "a draft is what is closed then")
	for i := range draft.Statements {
		assert.Equal(t, draft.Statements[i].Lines, november.Statements[i].Lines)
	}
	assert.Equal(t, []float64{39, 300}, []float64{cores(november, "Harvest Routing")["used"],
		cores(november, "Harvest Routing")["used corrected"]})
	assert.Equal(t, 50.0, cores(november, "unassigned")["used corrected"])
	list, err := q.Corrections(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(
		t,
		[]any{"Cellar Intake", "-18", "core_hours"},
		[]any{list[0].Tenant, list[0].Cost.String(), list[0].Unit},
	)
	require.ErrorContains(t, q.RemoveCorrection(ctx, list[0].ID), "what is in one stays")

	all := []*statement.Account{september, october, november}
	span, err := q.Span(q.at("2026-08-31T22:00:00Z"), q.at("2026-11-30T23:00:00Z"), 0)
	require.NoError(t, err)
	for _, r := range amount.Resources() {
		l, err := q.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: span}, Measure: r, By: "tenant"})
		require.NoError(t, err)
		stated, used := decimal.Zero, map[string]decimal.Decimal{}
		for _, a := range all {
			for i := range a.Statements {
				for _, x := range a.Statements[i].Lines {
					if x.Resource != r.String() || x.What == statement.Manual {
						continue
					}
					stated = stated.Add(x.Units)
					if x.What == statement.Used {
						used[a.Statements[i].Tenant] = used[a.Statements[i].Tenant].Add(x.Units)
					}
				}
			}
		}
		require.NotNil(t, l.Capacity, r)
		// Eight minutes of a host with four CPUs and three of one with eight; of levels byte-milliseconds.
		second := []int64{0, 1 << 20 * 1000, 1e6, 1e6, 2e6, 1 << 19 * 1000, 1e9}[r]
		capacity := 11 * 60 * second
		if r == amount.CPU {
			capacity = (8*4 + 3*8) * 60e6
		}
		assert.Equal(t, decimal.NewFromInt(capacity).String(), stated.String(), r)
		for _, share := range l.Shares {
			if share.Amount != nil && !r.IsLevel() {
				assert.InDelta(
					t,
					*share.Amount,
					used[share.Name].InexactFloat64()/r.Entry().Unit.Per,
					1e-9,
					"%s of %s",
					r,
					share.Name,
				)
			}
		}
	}

	daily := tariff
	daily.Window = "day"
	_, err = q.SetTariff(ctx, &daily, "by the day from now on")
	require.NoError(t, err)
	again, err := q.Account(ctx, "2026-10")
	require.NoError(t, err)
	assert.Equal(t, october.Statements[0].Hash, again.Statements[0].Hash, "what was closed is found by its name")

	n, err := q.VerifyStatements(ctx)
	require.NoError(t, err)
	assert.Equal(t, len(september.Statements)+len(october.Statements)+len(november.Statements), n)
	conn, err := pgx.Connect(ctx, q.database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	for _, change := range []string{"UPDATE statements SET tenant = 'x' WHERE number = 1", "DELETE FROM statements"} {
		_, err = conn.Exec(ctx, change)
		require.ErrorContains(t, err, "a closed statement never changes")
	}
	_, err = conn.Exec(ctx, "ALTER TABLE statements DISABLE TRIGGER ALL")
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE statements SET value = jsonb_set(value, '{lines,0,cost}', '"0"') WHERE number = 2`)
	require.NoError(t, err)
	_, err = q.VerifyStatements(ctx)
	require.ErrorContains(t, err, "statement 2 of")
	require.ErrorContains(t, err, "was changed since it was closed")

	grown, growth, err := q.StatementOf(ctx, "Harvest Routing", "2026-11")
	require.NoError(t, err)
	assert.Equal(t, "2026-11", grown.Window)
	require.Len(t, growth[0].Whose, 2)
	assert.Equal(
		t,
		[]string{"svc-route", "0.001944444", "svc-cellar", "0.001111111"},
		[]string{growth[0].Whose[0].Owner,
			growth[0].Whose[0].More.String(), growth[0].Whose[1].Owner, growth[0].Whose[1].More.String()},
		"7 s, and 32 for 28",
	)
}

func TestStatements_SayWhatIsWrong(t *testing.T) {
	q := newQuarter(t)
	_, err := q.CloseWindow(ctx, "2026-08")
	require.ErrorContains(t, err, "nothing was recorded in 2026-08")
	q.tell("cellar-1", "2026-09-30T21:59:00Z", had{must, 10, 100, 7, 11, 0})
	q.at("2026-12-01T08:00:00Z")
	for window, want := range map[string]string{"": "say which window", "this": "say which window",
		"May": "a window \"May\"", "2026-13": "a window", "1066-10": "a window"} {
		_, err := q.CloseWindow(ctx, window)
		require.ErrorContains(t, err, want, window)
	}
	_, err = q.Account(ctx, "2027-02")
	require.ErrorContains(t, err, "has not begun")
	q.close("2026-09")
	_, err = q.CloseWindow(ctx, "2026-11")
	require.ErrorContains(t, err, "2026-10 is the next: close it first")
	_, err = q.SetTariff(ctx, &statement.Tariff{Zone: "Europe/Vienna"}, "")
	require.ErrorContains(t, err, "windows must follow each other")
	_, err = q.SetTariff(ctx, &statement.Tariff{Split: statement.ByShares, Shares: statement.Shares{"Nobody": 1}}, "")
	require.ErrorContains(t, err, `shares of "Nobody": there is no such tenant`)
	cost := decimal.New(1, 0)
	for _, x := range []struct {
		c    statement.Correction
		want string
	}{
		{statement.Correction{Corrects: 1, Resource: "wine", Quantity: cost, Reason: "x"}, "wine"},
		{statement.Correction{Corrects: 1, Resource: "cpu", Quantity: cost}, "say why"},
		{statement.Correction{Corrects: 1, Resource: "cpu", Reason: "x"}, "a correction of nothing"},
		{statement.Correction{Corrects: 99, Resource: "cpu", Quantity: cost, Reason: "x"}, "no closed statement 99"},
		{statement.Correction{Corrects: 1, Resource: "cpu", Cost: &cost, Reason: "x"}, "has no currency"},
		{statement.Correction{Corrects: 1, Resource: "cpu", Quantity: decimal.New(1, 16), Reason: "x"}, "10^15"},
		{statement.Correction{Corrects: 1, Resource: "cpu", Quantity: decimal.New(1, 1e9), Reason: "x"}, "10^15"},
	} {
		_, err := q.Correct(ctx, &x.c)
		require.ErrorContains(t, err, x.want)
	}
	_, _, err = q.Statement(ctx, 99)
	require.ErrorContains(t, err, "there is no statement 99")
	_, _, err = q.StatementOf(ctx, "Nobody", "2026-09")
	require.ErrorContains(t, err, `no tenant "Nobody"`)
	_, _, err = q.StatementOf(ctx, "Harvest Routing", "2026-09")
	require.ErrorContains(t, err, "has no statement for 2026-09")
}
