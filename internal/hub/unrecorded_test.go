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

// TestUnrecorded_IsNeverZero asks of a span before the first reading: no figure, no verdict, but the reason.
func TestUnrecorded_IsNeverZero(t *testing.T) {
	const why = "nothing was recorded in this span"
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	require.NoError(t, f.send(0, job("a", "m.abt")))
	f.declare("terrace-1", "0", "Frost Watch")
	dark, err := f.Span(noon.Add(-2*time.Hour), noon.Add(-time.Hour), 0)
	require.NoError(t, err)

	b, err := f.Balance(ctx, dark, "")
	require.NoError(t, err)
	for _, tenant := range b.Tenants {
		for _, u := range tenant.Uses {
			assert.Nil(t, u.Used, tenant.Tenant)
			assert.Nil(t, u.Peak)
			assert.Nil(t, u.Amount)
			assert.Equal(t, why, u.Reason)
		}
	}
	d, err := f.Disks(ctx, "", dark)
	require.NoError(t, err)
	assert.Equal(t, "Whether storage is the problem is not known: "+why+".", d.Verdict)
	assert.Equal(t, []string{"terrace-1"}, d.Silent)
	l, err := f.Links(ctx, "", dark)
	require.NoError(t, err)
	assert.Nil(t, l.Wire)
	assert.Nil(t, l.IP)
	assert.Nil(t, l.Residual)
	m, err := f.Memory(ctx, "terrace-1", dark)
	require.NoError(t, err)
	assert.Equal(t, []*float64{nil, nil, nil, nil, nil, nil, nil},
		[]*float64{m.Capacity, m.Charged, m.Own, m.Cache, m.Huge, m.Free, m.Residual})
	assert.Equal(t, []string{why}, m.Notes)
	pins, err := f.Pins(ctx, dark, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"unknown", "Nothing was recorded in this span."},
		[]string{pins[0].Verdict, pins[0].Sentence})
	g, err := f.AboutHost(ctx, "terrace-1", dark, 0)
	require.NoError(t, err)
	assert.Equal(t, why, g.Reason)

	pins, err = f.Pins(ctx, f.span(), "")
	require.NoError(t, err)
	assert.Equal(t, "kept", pins[0].Verdict)
	g, err = f.AboutHost(ctx, "terrace-1", f.span(), 0)
	require.NoError(t, err)
	assert.Empty(t, g.Reason)
	assert.InDelta(t, 1, *g.Uses[0].Mean, 1e-9)
}

// TestUnrecorded_OfOneHostIsSaidBesideWhatOthersTell has two hosts, one of them silent.
func TestUnrecorded_OfOneHostIsSaidBesideWhatOthersTell(t *testing.T) {
	f := newFixture(t)
	_, err := f.Enrol(ctx, "orchard-1")
	require.NoError(t, err)
	f.dress = func(iv *account.Interval) {
		iv.Detail.Disks = []account.Disk{{Name: "sda", Major: 8, BusyMillis: 6000}}
		iv.Detail.Interfaces = []account.Interface{{Name: "eth0", Received: 6000}}
	}
	require.NoError(t, f.send(0, job("a", "m.abt")))
	d, err := f.Disks(ctx, "", f.span())
	require.NoError(t, err)
	assert.Equal(t,
		"Storage is not the problem: the busiest device, sda on terrace-1, was busy 10 % of the time. Of orchard-1 "+
			"nothing was recorded.", d.Verdict)
	l, err := f.Links(ctx, "", f.span())
	require.NoError(t, err)
	assert.Equal(t, []string{"orchard-1"}, l.Silent)
	require.NotNil(t, l.Wire)
	assert.InDelta(t, 100, l.Wire.Received, 1e-9)
	l, err = f.Links(ctx, "orchard-1", f.span())
	require.NoError(t, err)
	assert.Nil(t, l.Wire)
}

// TestUnrecorded_EveryAnswerSaysWhichPartsAreNotCovered has a host that told of three minutes: the first two, and one
// after three of which nothing is known.
func TestUnrecorded_EveryAnswerSaysWhichPartsAreNotCovered(t *testing.T) {
	f := newFixture(t)
	_, err := f.Enrol(ctx, "orchard-1") // which has told nothing yet, and so misses nothing
	require.NoError(t, err)
	for _, minute := range []int{0, 1, 5} {
		require.NoError(t, f.send(minute, job("a", "m.abt")))
	}
	span, err := f.Span(noon.Add(-5*time.Minute), noon.Add(10*time.Minute), 0)
	require.NoError(t, err)
	part := func(from, to, seconds int) explain.UncoveredPart {
		return explain.UncoveredPart{Host: "terrace-1", From: noon.Add(time.Duration(from) * time.Minute),
			To: noon.Add(time.Duration(to) * time.Minute), Seconds: float64(seconds)}
	}
	want := &explain.Uncovered{Hosts: 1, Seconds: 420,
		Parts: []explain.UncoveredPart{part(6, 10, 240), part(2, 5, 180)}}
	b, err := f.Balance(ctx, span, "")
	require.NoError(t, err)
	assert.Equal(t, want, b.Uncovered)
	b, err = f.Balance(ctx, span, "orchard-1")
	require.NoError(t, err)
	assert.Nil(t, b.Uncovered)
	list, _, err := f.Balances(ctx, span, 0, "")
	require.NoError(t, err)
	assert.Equal(t, []*explain.Uncovered{nil, want}, []*explain.Uncovered{list[0].Uncovered, list[1].Uncovered})
	l, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: span}, Measure: amount.CPU, By: "tenant"})
	require.NoError(t, err)
	assert.Equal(t, want, l.Uncovered)
	d, err := f.Disks(ctx, "", span)
	require.NoError(t, err)
	assert.Equal(t, want, d.Uncovered)
	links, err := f.Links(ctx, "terrace-1", span)
	require.NoError(t, err)
	assert.Equal(t, want, links.Uncovered)
	m, err := f.Memory(ctx, "terrace-1", span)
	require.NoError(t, err)
	assert.Equal(t, want, m.Uncovered)
	c, err := f.CPUs(ctx, "terrace-1", span)
	require.NoError(t, err)
	assert.Equal(t, want, c.Uncovered)
	g, err := f.AboutUser(ctx, "m.abt", span, 0)
	require.NoError(t, err)
	assert.Equal(t, want, g.Uncovered)
	line, err := f.Timeline(ctx, span, "", amount.CPU)
	require.NoError(t, err)
	assert.Equal(t, want, line.Uncovered)
	missed, err := f.Missed(ctx, span, "terrace-1")
	require.NoError(t, err)
	assert.Equal(t, explain.Missed{Uncovered: want}, missed)
	missed, err = f.Missed(ctx, span, "orchard-1")
	require.NoError(t, err)
	assert.True(t, missed.Nothing())
	w, err := f.AboutWorkload(ctx, g.Workloads[0].ID, span)
	require.NoError(t, err)
	assert.Equal(t, want, w.Uncovered)

	// Of an hour that is summed it is known how much it lacks, and where it ends.
	f.now = noon.Add(3 * time.Hour)
	require.NoError(t, f.Fold(ctx))
	span, err = f.Span(noon, noon.Add(time.Hour), 0)
	require.NoError(t, err)
	b, err = f.Balance(ctx, span, "")
	require.NoError(t, err)
	assert.Equal(t, &explain.Uncovered{Hosts: 1, Seconds: 57 * 60, Parts: []explain.UncoveredPart{part(6, 60, 54*60),
		part(0, 6, 180)}}, b.Uncovered)

	// What is not due yet is not missed.
	f.now = noon.Add(7 * time.Minute)
	span, err = f.Span(noon.Add(5*time.Minute), noon.Add(7*time.Minute), 0)
	require.NoError(t, err)
	b, err = f.Balance(ctx, span, "")
	require.NoError(t, err)
	assert.Nil(t, b.Uncovered)
}

// TestCaveats_AreSaidWithTheSharesThatTheyLimit has a host that missed uneven amounts over two hours, of which the
// first is summed when it is asked again.
func TestCaveats_AreSaidWithTheSharesThatTheyLimit(t *testing.T) {
	f := newFixture(t)
	f.now = noon.Add(3 * time.Hour)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	missed := func(minute int, caveats [account.NumCaveats]int64) {
		f.dress = func(iv *account.Interval) { iv.Detail.Caveats = caveats }
		require.NoError(t, f.send(minute, job("a", "m.abt")))
	}
	missed(1, [account.NumCaveats]int64{account.EndsLost: 700, account.TimeUnplaced: 1_500_000})
	missed(2, [account.NumCaveats]int64{account.EndsLost: 41, account.IOHidden: 12})
	missed(4, [account.NumCaveats]int64{account.Unwatched: 61_400})
	missed(70, [account.NumCaveats]int64{account.EndsLost: 5000})
	span, err := f.Span(noon.Add(-5*time.Minute), noon.Add(10*time.Minute), 0)
	require.NoError(t, err)
	hosts := []string{"terrace-1"}
	lost := explain.Caveat{What: "ends_lost", Amount: 741, Hosts: hosts, Meaning: "741 records of ended tasks found " +
		"no room: what they used is counted, which programs they ran is not known"}
	unplaced := explain.Caveat{What: "time_unplaced", Amount: 1_500_000, Hosts: hosts, Meaning: "of 1.5s of CPU " +
		"time it is not known whose it was, for too many users and families ran at once: it is in the residual"}
	hidden := explain.Caveat{What: "io_hidden", Amount: 12, Hosts: hosts, Meaning: "what other users' processes " +
		"outside cgroups read and wrote may not be read without more rights: shares are at least what is shown"}
	unwatched := explain.Caveat{What: "unwatched", Amount: 61_400, Hosts: hosts, Meaning: "for 1m1s no collector " +
		"ran: shares are by how much the host's own counters grew meanwhile, all put to the time it stopped; what " +
		"ended within it is in the residual"}
	check := func() {
		of := func(m amount.Measure) []explain.Caveat {
			l, err := f.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: span}, Measure: m, By: "tenant"})
			require.NoError(t, err)
			return l.Caveats
		}
		assert.Equal(t, []explain.Caveat{lost, unplaced, unwatched}, of(amount.CPU))
		assert.Equal(t, []explain.Caveat{hidden, unwatched}, of(amount.Disk))
		assert.Equal(t, []explain.Caveat{hidden, unwatched}, of(amount.DiskWritten))
		assert.Equal(t, []explain.Caveat{unwatched}, of(amount.Memory))
		b, err := f.Balance(ctx, span, "")
		require.NoError(t, err)
		assert.Equal(t, []explain.Caveat{lost, unplaced, hidden, unwatched}, b.Caveats)
		m, err := f.Memory(ctx, "terrace-1", span)
		require.NoError(t, err)
		assert.Equal(t, []explain.Caveat{unwatched}, m.Caveats)
		d, err := f.Disks(ctx, "", span)
		require.NoError(t, err)
		assert.Equal(t, []explain.Caveat{hidden, unwatched}, d.Caveats)
	}
	check()
	span, err = f.Span(noon, noon.Add(time.Hour), 0)
	require.NoError(t, err)
	require.NoError(t, f.Fold(ctx))
	check()
}
