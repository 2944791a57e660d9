package hub_test

import (
	"context"
	"crypto/ed25519"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/identify"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

const someNonce = "0123456789abcdef"

// actsFixture is a hub with two hosts, on the first of which work is of two tenants and of nobody.
type actsFixture struct {
	*fixture
	key   ed25519.PublicKey
	other store.Host
}

func newActs(t *testing.T) *actsFixture {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	f := &actsFixture{fixture: &fixture{t: t, now: noon.Add(time.Hour)}}
	f.Hub = hub.New(s, hub.Options{Now: func() time.Time { return f.now }, ActsWait: 50 * time.Millisecond})
	credential, err := f.Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	_, f.key, err = act.ParseCredential(credential)
	require.NoError(t, err)
	_, err = f.Enrol(ctx, "press-1")
	require.NoError(t, err)
	f.host, err = f.Host(ctx, "terrace-1")
	require.NoError(t, err)
	f.other, err = f.Host(ctx, "press-1")
	require.NoError(t, err)
	f.tenant("Frost Watch", "owner == 'frost'")
	f.tenant("Leaf Vision", "owner == 'leaf'")
	require.NoError(t, f.send(50, job("frost-ens", "frost"), job("leaf-train", "leaf"), job("stray", "nobody")))
	_, err = f.SetPools(ctx, "terrace-1", []string{"terraces"})
	require.NoError(t, err)
	_, err = f.SetPools(ctx, "press-1", []string{"presses"})
	require.NoError(t, err)
	return f
}

// take is what a host is told when it asks for orders; none where nothing waits for it.
func (f *actsFixture) take(host store.Host) (orders []act.Order) {
	list, err := f.Orders(ctx, host, someNonce, 10*time.Millisecond)
	require.NoError(f.t, err)
	for i := range list {
		o, err := act.Open(f.key, &list[i], host.Name, someNonce)
		require.NoError(f.t, err)
		orders = append(orders, *o)
	}
	return orders
}

func (f *actsFixture) report(host store.Host, id string, r hub.Report) error {
	return f.TakeReport(ctx, host, id, &r)
}

func shows(keys ...string) hub.Report {
	return hub.Report{Preview: &act.Preview{Target: "what was meant", Identity: "the same", Workloads: keys}}
}

func came(state act.State) hub.Report {
	return hub.Report{Outcome: &act.Outcome{State: state, Detail: "read back", CanUndo: state == act.Done}}
}

func theJob(key string) act.Target { return act.Target{Form: act.OfWorkload, Key: "job:" + key} }

func (f *actsFixture) pause(ctx context.Context, target act.Target) (store.Intervention, error) {
	return f.RequestAct(
		ctx,
		&hub.ActOrder{Host: "terrace-1", Request: act.Request{Verb: act.Pause, Target: target}},
	)
}

// previewed has an act previewed.
func (f *actsFixture) previewed(ctx context.Context, target act.Target, keys ...string) store.Intervention {
	x, err := f.pause(ctx, target)
	require.NoError(f.t, err)
	require.Len(f.t, f.take(f.host), 1)
	require.NoError(f.t, f.report(f.host, x.ID, shows(keys...)))
	x, err = f.Act(ctx, x.ID)
	require.NoError(f.t, err)
	return x
}

func classOf(err error) hub.Class {
	var p *hub.Problem
	if errors.As(err, &p) {
		return p.Class
	}
	return ""
}

func TestActs_FromTheRequestToTheOutcome(t *testing.T) {
	f := newActs(t)
	x, err := f.pause(ctx, theJob("frost-ens"))
	require.NoError(t, err)
	assert.Equal(t, act.Asked, x.State)
	assert.Empty(t, f.take(f.other), "another host is told nothing of it")
	orders := f.take(f.host)
	require.Len(t, orders, 1)
	assert.Equal(t, act.ToPreview, orders[0].Errand)
	assert.Equal(t, 2*time.Minute, orders[0].Lives)
	assert.Equal(t, "Frost Watch", orders[0].Whose["job:frost-ens"])
	assert.Equal(t, "Leaf Vision", orders[0].Whose["job:leaf-train"])
	assert.Equal(t, hub.Unassigned, orders[0].Whose["job:stray"])
	assert.Empty(t, f.take(f.host), "not a second time at once")

	assert.Equal(t, hub.Denied, classOf(f.report(f.other, x.ID, shows("job:frost-ens"))), "another's report")
	assert.Equal(t, hub.Invalid, classOf(f.report(f.host, x.ID, hub.Report{})))
	require.NoError(t, f.report(f.host, x.ID, came(act.Done)), "of what nobody confirmed")
	x, err = f.Act(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, act.Asked, x.State, "changes nothing")
	require.NoError(t, f.report(f.host, x.ID, shows("job:frost-ens")))

	winemaker := hub.As(ctx, store.Token{Name: "winemaker"})
	_, err = f.ConfirmAct(winemaker, x.ID, "another", "")
	assert.Equal(t, hub.Conflict, classOf(err))
	x, err = f.ConfirmAct(winemaker, x.ID, "the same", " because ")
	require.NoError(t, err)
	assert.Equal(t, "because", x.Reason)
	assert.Equal(t, act.Confirmed, x.State)
	_, err = f.ConfirmAct(winemaker, x.ID, "the same", "")
	assert.Equal(t, hub.Conflict, classOf(err), "once")
	orders = f.take(f.host)
	require.Len(t, orders, 1)
	assert.Equal(t, act.ToCarry, orders[0].Errand)
	assert.Equal(t, "the same", orders[0].Identity)
	require.NoError(t, f.report(f.host, x.ID, came(act.Done)))
	require.NoError(t, f.report(f.host, x.ID, came(act.Failed)), "what comes again changes nothing")
	x, err = f.Act(ctx, x.ID)
	require.NoError(t, err)
	assert.Equal(t, act.Done, x.State)
	assert.Equal(t, "winemaker", x.ConfirmedBy)
	assert.Empty(t, f.take(f.host))
	trail, err := f.Acts(ctx, 2)
	require.NoError(t, err)
	assert.Equal(t, "done pause", trail[0].Act)
	assert.Equal(t, "host terrace-1", trail[0].Who)
	assert.Equal(t, "confirm pause", trail[1].Act)

	f.now = f.now.Add(time.Minute)
	undo, err := f.RequestAct(ctx, &hub.ActOrder{Request: act.Request{Verb: act.Undo,
		Target: act.Target{Form: act.OfAct, Act: x.ID}}})
	require.NoError(t, err)
	assert.Equal(t, "terrace-1", undo.Host, "where it was done")
	require.Len(t, f.take(f.host), 1)
	require.NoError(t, f.report(f.host, undo.ID, shows("job:frost-ens")))
	_, err = f.ConfirmAct(ctx, undo.ID, "the same", "")
	require.NoError(t, err)
	f.take(f.host)
	require.NoError(t, f.report(f.host, undo.ID, came(act.Partly)))
	told, _, err := f.Events(
		ctx,
		&hub.EventsQuestion{Asked: hub.Asked{Span: question.Span{From: f.now.Add(-time.Hour),
			To: f.now.Add(time.Hour)}, Host: "terrace-1"}, Kinds: []string{explain.EventActed}},
	)
	require.NoError(t, err)
	require.Len(t, told, 2)
	assert.Equal(
		t,
		[]string{"what was meant", "pause: done, read back", "terrace-1"},
		[]string{told[1].Name, told[1].Text,
			told[1].Host},
		"and is an event",
	)
	_, undone, err := f.Interventions(ctx, &store.InterventionsOf{First: 10})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{x.ID: undo.ID}, undone)
	_, err = f.RequestAct(ctx, &hub.ActOrder{Request: act.Request{Verb: act.Undo,
		Target: act.Target{Form: act.OfAct, Act: undo.ID}}})
	assert.Equal(t, hub.Conflict, classOf(err), "it left nothing that could be put back")
}

// TestActs_EachScopeHoldsAtEveryStep is each operator's scope by target: at the request, at the preview and at the
// confirmation, which another may try.
func TestActs_EachScopeHoldsAtEveryStep(t *testing.T) {
	f := newActs(t)
	scopes := map[string]act.Scope{"everywhere": {}, "frost": {Tenants: []string{"Frost Watch"}},
		"terraces": {Pools: []string{"terraces"}}, "presses": {Pools: []string{"presses"}},
		"frost in presses": {Tenants: []string{"Frost Watch"}, Pools: []string{"presses"}},
		"nobody's":         {Tenants: []string{hub.Unassigned}}}
	owner := map[string]string{"frost-ens": "frost", "leaf-train": "", "stray": "nobody's"}
	process := act.Target{Form: act.OfProcess, PID: 7}
	for name, scope := range scopes {
		operator := hub.As(ctx, store.Token{Name: name, Role: hub.Operator, Scope: scope})
		for job, by := range owner {
			may := name == "everywhere" || name == "terraces" || name == by
			x, err := f.pause(operator, theJob(job))
			assert.Equal(t, may, err == nil, "%s asks for %s: %v", name, job, err)
			if err == nil {
				f.take(f.host)
				require.NoError(t, f.report(f.host, x.ID, shows("job:"+job)))
			} else {
				assert.Equal(t, hub.Denied, classOf(err))
			}

			// Whose a process is, only its host knows: what it shows is not told to who may not act on it.
			x, err = f.pause(operator, process)
			inPool := name != "presses" && name != "frost in presses"
			require.Equal(t, inPool, err == nil, "%s asks for a process: %v", name, err)
			if inPool {
				f.take(f.host)
				require.NoError(t, f.report(f.host, x.ID, shows("job:"+job)))
				x, err = f.Act(ctx, x.ID)
				require.NoError(t, err)
				assert.Equal(
					t,
					may,
					x.State == act.Previewed,
					"%s is shown a process of %s: %s",
					name,
					job,
					x.Detail,
				)
				assert.Equal(t, may, x.Preview != nil)
			}

			// What an administrator asked for is not an operator's to confirm where it is not his.
			asked := f.previewed(ctx, theJob(job), "job:"+job)
			_, err = f.ConfirmAct(operator, asked.ID, "the same", "")
			assert.Equal(t, may, err == nil, "%s confirms %s: %v", name, job, err)
			f.take(f.host)
		}
	}
	several := f.previewed(ctx, process, "job:frost-ens", "job:leaf-train")
	frost := hub.As(ctx, store.Token{Name: "frost", Role: hub.Operator, Scope: scopes["frost"]})
	_, err := f.ConfirmAct(frost, several.ID, "the same", "")
	assert.Equal(t, hub.Denied, classOf(err), "all that is touched must be in it")
	nothing := f.previewed(ctx, process)
	_, err = f.ConfirmAct(frost, nothing.ID, "the same", "")
	assert.Equal(t, hub.Denied, classOf(err), "a host that does not say what it touches opens nothing")
}

// TestActs_WhatIsNotDoneInTimeIsNotDone moves the service's clock: a host that comes back later is told nothing.
func TestActs_WhatIsNotDoneInTimeIsNotDone(t *testing.T) {
	f := newActs(t)
	is := func(id string, want act.State) {
		x, err := f.Act(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, want, x.State, x.Detail)
	}
	silent, err := f.pause(ctx, theJob("frost-ens"))
	require.NoError(t, err)
	f.now = f.now.Add(2 * time.Minute)
	assert.Empty(t, f.take(f.host))
	is(silent.ID, act.Expired)
	require.NoError(t, f.report(f.host, silent.ID, shows("job:frost-ens")))
	is(silent.ID, act.Expired)

	left := f.previewed(ctx, theJob("frost-ens"), "job:frost-ens")
	f.now = f.now.Add(10 * time.Minute)
	_, err = f.ConfirmAct(ctx, left.ID, "the same", "")
	assert.Equal(t, hub.Conflict, classOf(err))
	is(left.ID, act.Expired)

	late := f.previewed(ctx, theJob("frost-ens"), "job:frost-ens")
	f.now = f.now.Add(5 * time.Minute)
	_, err = f.ConfirmAct(ctx, late.ID, "the same", "")
	require.NoError(t, err, "its life begins anew when it is confirmed")
	f.now = f.now.Add(2*time.Minute - time.Second)
	orders := f.take(f.host)
	require.Len(t, orders, 1)
	assert.Equal(t, time.Second, orders[0].Lives)
	assert.Empty(t, f.take(f.host))

	// The host has it, and is not heard: it is given the order again while that lives, and asked afterwards.
	f.now = f.now.Add(time.Second)
	assert.Empty(t, f.take(f.host))
	is(late.ID, act.Sent)
	f.now = f.now.Add(44 * time.Second)
	is(late.ID, act.Sent)
	f.now = f.now.Add(time.Second)
	is(late.ID, act.Unknown)
	orders = f.take(f.host)
	require.Len(t, orders, 1)
	assert.Equal(t, act.ToRecall, orders[0].Errand, "it is asked, and never told to do it")
	assert.Zero(t, orders[0].Lives)
	require.NoError(t, f.report(f.host, late.ID, came(act.Done)))
	is(late.ID, act.Done)

	cut := f.previewed(ctx, theJob("frost-ens"), "job:frost-ens")
	_, err = f.ConfirmAct(ctx, cut.ID, "the same", "")
	require.NoError(t, err)
	require.Len(t, f.take(f.host), 1)
	f.now = f.now.Add(10 * time.Second)
	again := f.take(f.host)
	require.Len(t, again, 1, "the line may have been cut")
	assert.Equal(t, act.ToCarry, again[0].Errand)
	f.now = f.now.Add(26 * time.Hour)
	is(cut.ID, act.Unknown)
	assert.Empty(t, f.take(f.host), "after a day it is not asked any more")
	for _, lives := range []time.Duration{time.Second, time.Hour} {
		_, err = f.RequestAct(ctx, &hub.ActOrder{Host: "terrace-1", Lives: lives,
			Request: act.Request{Verb: act.Pause, Target: theJob("frost-ens")}})
		assert.Equal(t, hub.Invalid, classOf(err))
	}
}

func TestActs_WhatMakesNoSenseIsSaid(t *testing.T) {
	f := newActs(t)
	frost := act.Request{Verb: act.Pause, Target: theJob("frost-ens")}
	for what, x := range map[string]struct {
		order hub.ActOrder
		want  hub.Class
	}{
		"no host":      {hub.ActOrder{Request: frost}, hub.Invalid},
		"unknown host": {hub.ActOrder{Host: "x", Request: frost}, hub.NotFound},
		"unknown act": {hub.ActOrder{Host: "press-1", Request: act.Request{Verb: "sing", Target: theJob("frost-ens")}},
			hub.Invalid},
		"no such work": {hub.ActOrder{Workload: 999, Request: act.Request{Verb: act.Pause}}, hub.NotFound},
		"undoes no act": {hub.ActOrder{Request: act.Request{Verb: act.Undo,
			Target: act.Target{Form: act.OfAct, Act: "x"}}}, hub.NotFound},
		"work elsewhere": {hub.ActOrder{Host: "press-1", Workload: 1, Request: act.Request{Verb: act.Pause}},
			hub.Invalid},
	} {
		_, err := f.RequestAct(ctx, &x.order)
		assert.Equal(t, x.want, classOf(err), "%s: %v", what, err)
	}
	for range 50 {
		_, err := f.pause(ctx, theJob("frost-ens"))
		require.NoError(t, err)
	}
	_, err := f.pause(ctx, theJob("frost-ens"))
	assert.Equal(t, hub.Busy, classOf(err), "what waits is bounded")
	f.now = f.now.Add(time.Hour)
	_, err = f.ConfirmAct(ctx, "nothing", "", "")
	assert.Equal(t, hub.NotFound, classOf(err))
	_, err = f.Orders(ctx, f.host, "short", 0)
	assert.Equal(t, hub.Invalid, classOf(err))
	_, err = f.AddToken(ctx, "op", hub.Operator, act.Scope{})
	assert.Equal(t, hub.Invalid, classOf(err), "an operator's scope is never all by accident")
	_, err = f.AddToken(ctx, "op", hub.Operator, act.Scope{Tenants: []string{"Nobody"}})
	assert.Equal(t, hub.NotFound, classOf(err))
	_, err = f.AddToken(ctx, "op", hub.Operator, act.Scope{Pools: []string{"nowhere"}})
	assert.Equal(t, hub.NotFound, classOf(err))
	_, err = f.AddToken(ctx, "op", hub.Reader, act.Scope{Pools: []string{"presses"}})
	assert.Equal(t, hub.Invalid, classOf(err))
	token, err := f.AddToken(ctx, "op", hub.Operator, act.Scope{Pools: []string{"presses"}})
	require.NoError(t, err)
	signed, err := f.SignIn(ctx, token)
	require.NoError(t, err)
	assert.Equal(t, []string{"presses"}, signed.Scope.Pools)
}

// TestActs_ReachAHostAtAnotherInstance has an act asked for at one instance of the service while its host asks for
// orders at another.
func TestActs_ReachAHostAtAnotherInstance(t *testing.T) {
	database := testdb.New(t)
	var hubs [2]*hub.Hub
	running, stop := context.WithCancel(ctx)
	var duties sync.WaitGroup
	for i := range hubs {
		s, err := store.Open(ctx, database)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		hubs[i] = hub.New(s, hub.Options{})
		duties.Go(func() { hubs[i].Hear(running) })
	}
	t.Cleanup(func() { stop(); duties.Wait() })
	listen(t, database, len(hubs))
	credential, err := hubs[0].Enrol(ctx, "terrace-1")
	require.NoError(t, err)
	_, key, err := act.ParseCredential(credential)
	require.NoError(t, err)
	host, err := hubs[1].Host(ctx, "terrace-1")
	require.NoError(t, err)
	again, err := hubs[1].Enrol(ctx, "press-1")
	require.NoError(t, err)
	_, other, err := act.ParseCredential(again)
	require.NoError(t, err)
	assert.True(t, key.Equal(other), "all instances sign alike")
	var follows sync.WaitGroup
	follows.Go(func() {
		for running.Err() == nil {
			list, err := hubs[1].Orders(running, host, someNonce, 20*time.Second)
			if err != nil {
				return
			}
			for i := range list {
				o, err := act.Open(key, &list[i], host.Name, someNonce)
				if assert.NoError(t, err) {
					r := shows()
					if o.Errand == act.ToCarry {
						r = came(act.Done)
					}
					assert.NoError(t, hubs[1].TakeReport(ctx, host, o.ID, &r))
				}
			}
		}
	})
	t.Cleanup(func() { stop(); follows.Wait() })
	x, err := hubs[0].RequestAct(ctx, &hub.ActOrder{Host: "terrace-1", Request: act.Request{Verb: act.Pause,
		Target: act.Target{Form: act.OfProcess, PID: 7}}})
	require.NoError(t, err)
	require.Equal(t, act.Previewed, x.State)
	x, err = hubs[0].ConfirmAct(ctx, x.ID, "the same", "")
	require.NoError(t, err)
	assert.Equal(t, act.Done, x.State)
}

// listen waits until so many instances hear what others call.
func listen(t *testing.T, database string, instances int) {
	conn, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	require.Eventually(t, func() bool {
		var n int
		err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() "+
			"AND state = 'idle' AND query LIKE 'LISTEN%vinescale_acts%'").Scan(&n)
		return err == nil && n == instances
	}, patience, 20*time.Millisecond)
}

// TestBegun_IsOfTheTenantThatItWasBegunForUnlessARuleSaysOtherwise: a label is anybody's to set, so it counts only
// where the host recognised the work as begun by this program.
func TestBegun_IsOfTheTenantThatItWasBegunForUnlessARuleSaysOtherwise(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "name == 'ruled'")
	_, err := f.AddTenant(ctx, "Leaf Vision")
	require.NoError(t, err)
	begun := func(name, tenant, recogniser string) account.Workload {
		w := job(name, "root")
		w.Recogniser, w.Labels = recogniser, map[string]string{identify.TenantLabel: tenant}
		return w
	}
	require.NoError(t, f.send(1, begun("plain", "Leaf Vision", identify.BegunRecogniser),
		begun("ruled", "Leaf Vision", identify.BegunRecogniser), begun("claimed", "Leaf Vision", "OCI runtime"),
		begun("unknown", "Nobody", identify.BegunRecogniser)))
	lines, _, err := f.Workloads(
		ctx,
		hub.Asked{Span: question.Span{From: noon, To: noon.Add(time.Hour)}},
		hub.Page{},
	)
	require.NoError(t, err)
	got := map[string]string{}
	for _, l := range lines {
		got[l.Name] = l.Tenant
	}
	assert.Equal(t, map[string]string{"plain": "Leaf Vision", "ruled": "Frost Watch", "claimed": hub.Unassigned,
		"unknown": hub.Unassigned}, got)
}
