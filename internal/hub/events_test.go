package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/hub"
)

func TestEvents_WhatHappenedOnAHost(t *testing.T) {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	signIn := func(key, origin string) account.Workload {
		return account.Workload{Key: key, Kind: amount.Session, Name: key, Owner: "l.roth", UID: 2002,
			Facts: map[string]string{account.FactOrigin: origin}}
	}
	steady := job("steady", "m.abt")
	f.now = noon.Add(time.Hour)
	send := func(minute int, all ...account.Workload) {
		var err error
		f.host, err = f.Host(ctx, "terrace-1") // as it is known when a batch comes
		require.NoError(t, err)
		require.NoError(t, f.send(minute, all...))
	}
	send(0, steady)
	send(5, steady, job("ens", "m.abt"), signIn("one", "10.0.0.1"))
	f.dress = func(iv *account.Interval) {
		iv.Usages[0].Figures.Put(amount.MemoryOOMKills, 2, amount.Counted)
	}
	send(6, steady, job("ens", "m.abt"))
	f.dress = nil
	send(7, steady, signIn("two", "10.0.0.1"))
	send(30, steady)
	_, err := f.Declare(ctx, &hub.PinOrder{Host: "terrace-1", CPUs: "2-3", Holder: "Frost Watch"}) // now: past the span
	require.NoError(t, err)

	ask := func(change func(*hub.EventsQuestion)) (list []string) {
		q := hub.EventsQuestion{Asked: hub.Asked{Span: question.Span{From: noon, To: noon.Add(time.Hour)}}}
		change(&q)
		events, inAll, err := f.Events(ctx, &q)
		require.NoError(t, err)
		require.GreaterOrEqual(t, inAll, len(events))
		for _, e := range events {
			list = append(list, e.At.Format("15:04 ")+e.Kind+" "+e.Name+": "+e.Text)
		}
		return list
	}
	everything := ask(func(*hub.EventsQuestion) {})
	for _, want := range []string{
		"12:05 began ens: began", "12:07 ended ens: ended",
		"12:05 signed_in one: signed in from 10.0.0.1, for the first time from there",
		"12:06 signed_out one: signed out",
		"12:07 signed_in two: signed in from 10.0.0.1",
		"12:06 killed steady: 2 processes of it were ended for want of memory",
		"12:08 silent terrace-1: told nothing for 22 min", "12:30 back terrace-1: told of itself again",
	} {
		assert.Contains(t, everything, want)
	}
	for _, e := range everything {
		assert.NotContains(t, e, "began steady", "it was there when its host was first read")
		assert.NotContains(t, e, "declared")
		assert.NotContains(t, e, "12:58", "it is silent still")
	}
	assert.Equal(t, []string{"12:07 ended ens: ended", "12:05 began ens: began"},
		ask(func(q *hub.EventsQuestion) { q.Where = "name == 'ens'" }))
	assert.Equal(t, []string{"12:06 killed steady: 2 processes of it were ended for want of memory"},
		ask(func(q *hub.EventsQuestion) { q.Tenant, q.Kinds = "Frost Watch", []string{"killed", "failed"} }))
	assert.Len(t, ask(func(q *hub.EventsQuestion) { q.First = 3 }), 3)
	changed := ask(func(q *hub.EventsQuestion) {
		q.Span.To, q.Kinds = noon.Add(2*time.Hour), []string{"changed"}
	})
	assert.Contains(t, changed, "13:00 changed Frost Watch: CPUs 2-3 were declared for it")

	_, _, err = f.Events(ctx, &hub.EventsQuestion{Kinds: []string{"exploded"}})
	requireProblem(t, err, hub.Invalid, "choose from began, ended")
}

// TestEvents_WhatIsSeenOnceIsWrittenDown has two hosts whose workloads and parts become others from minute to minute.
func TestEvents_WhatIsSeenOnceIsWrittenDown(t *testing.T) {
	c := newCellar(t)
	c.now = noon.Add(30 * time.Minute)
	send := func(host string, minute int64, all ...had) {
		t.Helper()
		var err error
		c.hosts[host], err = c.Host(ctx, host)
		require.NoError(t, err)
		c.minute(host, minute*60, 60, all...)
	}
	parts := func(devices []string, failed ...string) {
		c.parts = &account.Inventory{Machine: &account.Machine{Failed: failed}}
		for _, d := range devices {
			c.parts.Devices = append(c.parts.Devices, account.Device{Name: d, Kind: "drive", SizeBytes: 1 << 40})
		}
	}
	ran := func(w account.Workload, allowed string, facts map[string]string) had {
		w.Allowed, w.Facts = allowed, facts
		return had{w, 1, 100, 0, 0, 0}
	}
	running := func(limit, restarts string) map[string]string {
		return map[string]string{account.FactState: "running", account.FactWeights: "100", account.FactCPULimit: limit,
			account.FactRestarts: restarts}
	}
	send("cellar-1", 5, ran(must, "0-1", running("2", "")))
	parts([]string{"sda", "sdb"})
	send("press-1", 5, ran(route, "0-7", running("2", "")), ran(label, "0-7", nil))
	parts([]string{"sda"}, "press.service")
	c.dress = func(iv *account.Interval) { iv.Usages[0].Figures.Put(amount.CPUThrottled, 20e6, amount.Counted) }
	send("press-1", 6, ran(route, "4-7", running("3", "1")))
	c.dress = nil
	parts([]string{"sda", "sdc"})
	send("press-1", 7, ran(route, "4-7", running("3", "1")), ran(label, "0-7", nil))
	send("press-1", 8, ran(route, "4-7", running("3", "1")), ran(label, "0-7", nil), ran(must, "0-1", nil))
	c.parts = nil
	send("cellar-1", 6)                                      // must was here, and is there now
	send("press-1", 4, ran(route, "0-1", running("9", "7"))) // comes late, and is no news

	ask := func(change func(*hub.EventsQuestion)) (list []string) {
		q := hub.EventsQuestion{Asked: hub.Asked{Span: question.Span{From: noon.Add(5 * time.Minute),
			To: noon.Add(20 * time.Minute)}}, Kinds: []string{"moved", "changed", "restarted", "throttled", "failed",
			"back", "stuck", "device_came", "device_gone"}}
		change(&q)
		events, _, err := c.Events(ctx, &q)
		require.NoError(t, err)
		for _, e := range events {
			if e.Host != "" && e.Name != e.Host {
				list = append(list, e.At.Format("15:04 ")+e.Host+" "+e.Kind+" "+e.Name+": "+e.Text)
			}
		}
		return list
	}
	assert.Equal(t, []string{
		"12:08 press-1 back press.service: the unit is no longer failed",
		"12:08 press-1 device_came sdc: came to the host: 1 TiB",
		"12:08 press-1 moved must: came from cellar-1",
		"12:07 press-1 device_gone sdb: is gone from the host: 1 TiB",
		"12:07 press-1 failed press.service: the unit failed",
		"12:07 press-1 restarted label: runs again: it was not there for 1 min",
		"12:06 press-1 changed route: its CPU limit became 3 cores, before 2 cores",
		"12:06 press-1 moved route: may run on CPUs 4-7 now, before on 0-7",
		"12:06 press-1 restarted route: was begun anew: 1 in all",
		"12:06 press-1 throttled route: its CPU limit held it back for 20 CPU-seconds within 1 min",
	}, ask(func(*hub.EventsQuestion) {}))
	assert.Equal(t, []string{
		"12:08 press-1 moved must: came from cellar-1",
		"12:06 press-1 changed route: its CPU limit became 3 cores, before 2 cores",
		"12:06 press-1 moved route: may run on CPUs 4-7 now, before on 0-7",
		"12:06 press-1 restarted route: was begun anew: 1 in all",
		"12:06 press-1 throttled route: its CPU limit held it back for 20 CPU-seconds within 1 min",
	}, ask(func(q *hub.EventsQuestion) { q.Tenant = "Harvest Routing" }), "nothing of the host, nor of others")
	assert.Equal(t, []string{"12:07 press-1 restarted label: runs again: it was not there for 1 min"},
		ask(func(q *hub.EventsQuestion) { q.Where = "owner == 'l.roth'" }))
	assert.Len(
		t,
		ask(func(q *hub.EventsQuestion) { q.Span.From, q.Span.To = noon.Add(7*time.Minute), noon.Add(8*time.Minute) }),
		3,
		"what is on the edge of the span begins it and does not end it",
	)
	assert.Empty(t, ask(func(q *hub.EventsQuestion) { q.Host = "cellar-1" }))
}

// TestEvents_WhoIsHeldBackForLongEnoughInOneStep has one that is held back just long enough, one that is more often,
// and never so long, and one that is not and had a process ended.
func TestEvents_WhoIsHeldBackForLongEnoughInOneStep(t *testing.T) {
	c := newCellar(t)
	c.now = noon.Add(40 * time.Minute)
	held, often, killed := amount.CPUThrottled, amount.CPUThrottled, amount.MemoryOOMKills
	for minute := range int64(3) {
		c.dress = func(iv *account.Interval) {
			iv.Usages[0].Figures.Put(held, []int64{0, 600_000, 599_999}[minute], amount.Counted)
			iv.Usages[1].Figures.Put(often, 599_000, amount.Counted)
			iv.Usages[2].Figures.Put(killed, []int64{0, 0, 1}[minute], amount.Counted)
		}
		c.minute("cellar-1", (30+minute)*60, 60, had{must, 1, 100, 0, 0, 0}, had{route, 1, 100, 0, 0, 0},
			had{label, 1, 100, 0, 0, 0})
	}
	list, _, err := c.Events(ctx, &hub.EventsQuestion{Asked: hub.Asked{Span: question.Span{
		From: noon.Add(30 * time.Minute), To: noon.Add(33 * time.Minute)}}, Kinds: []string{"throttled", "killed"}})
	require.NoError(t, err)
	var got []string
	for _, e := range list {
		got = append(got, e.At.Format("15:04 ")+e.Kind+" "+e.Name+": "+e.Text)
	}
	assert.Equal(t, []string{
		"12:32 killed label: 1 process of it was ended for want of memory",
		"12:31 throttled must: its CPU limit held it back for 0.6 CPU-seconds within 1 min",
	}, got)
}
