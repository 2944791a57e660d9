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
