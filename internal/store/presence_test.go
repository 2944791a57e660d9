package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/wire"
)

// TestPresence_WhatComesAndGoesIsWrittenDownOnceAndAnEndThatWasToldStays takes in minutes in which workloads come and
// go, several in one batch, one late, and one that ended within its only minute.
func TestPresence_WhatComesAndGoesIsWrittenDownOnceAndAnEndThatWasToldStays(t *testing.T) {
	s, h := open(t)
	at := func(n int) time.Time { return noon.Add(time.Duration(n) * time.Minute) }
	send := func(minutes ...*wire.Batch) {
		all := &wire.Batch{Version: 1, Host: h.Name}
		for _, b := range minutes {
			all.Intervals = append(all.Intervals, b.Intervals...)
		}
		var err error
		h, err = s.HostByName(ctx, h.Name)
		require.NoError(t, err)
		ingest(t, s, h, all)
	}
	minuteOf := func(n int, names ...string) *wire.Batch {
		seconds := map[string]float64{}
		for _, name := range names {
			seconds[name] = 1
		}
		return minute(h.Name, at(n), uint64(n+1), seconds)
	}
	states := func() map[string]string {
		host, err := s.HostByName(ctx, h.Name)
		require.NoError(t, err)
		workloads, err := s.Workloads(ctx)
		require.NoError(t, err)
		m := map[string]string{}
		for _, w := range workloads {
			state := "gone"
			if w.Alive {
				state = "there"
			}
			if w.EndedAt != nil {
				state += ", ended " + w.EndedAt.UTC().Format("15:04:05")
			}
			m[w.Name] = state + " until " + w.SeenUntil(&host).UTC().Format("15:04")
		}
		return m
	}
	send(minuteOf(0, "must", "barrel"))
	send(minuteOf(1, "must", "barrel"), minuteOf(2, "must", "brief"), minuteOf(3, "must"))
	assert.Equal(t, map[string]string{"must": "there until 12:04", "barrel": "gone until 12:02",
		"brief": "gone until 12:03"}, states())
	send(minuteOf(5, "must", "barrel"))
	send(minuteOf(4, "must", "late")) // its collector caught up
	assert.Equal(t, map[string]string{"must": "there until 12:06", "barrel": "there until 12:06",
		"brief": "gone until 12:03", "late": "gone until 12:05"}, states())

	n := wire.NewNotices(h.Name, "b", at(6).Add(10*time.Second), at(7))
	n.Add(account.Workload{Key: "container:passing", Kind: amount.Container, Name: "passing", Owner: "svc-cellar",
		UID: 801, Path: "/passing", Allowed: "0-3"}, at(6).Add(20*time.Second))
	require.NoError(t, s.Notice(ctx, h, n, version(t, s), nobody))
	send(minuteOf(6, "must", "passing"))
	send(minuteOf(7, "must", "barrel"))
	assert.Equal(t, "gone, ended 12:06:20 until 12:07", states()["passing"],
		"the interval that holds its only usage does not bring it back")
	send(minuteOf(8, "must", "passing"))
	assert.Equal(t, "there until 12:09", states()["passing"], "one that runs again has not ended")
}
