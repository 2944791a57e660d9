package hub_test

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/frames"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

// patience is how long what takes a moment may take: others may hold the machine's CPUs most of the time. It ends what
// hangs, and judges nothing.
const patience = 3 * time.Minute

// TestFrames_AnswerAsTheBookDoes asks the same of frames and of the book, which were told the same. Only what the book
// alone knows is different: the highest minutes of tenants.
func TestFrames_AnswerAsTheBookDoes(t *testing.T) {
	c := cellarTold(t, true)
	book := c.two()
	live := book
	live.Frames = true
	same := func(what string, ask func(question.Span) (any, error)) {
		t.Helper()
		want, err := ask(book)
		require.NoError(t, err, what)
		got, err := ask(live)
		require.NoError(t, err, what)
		assert.JSONEq(t, asJSON(t, want), asJSON(t, got), what)
	}
	for _, m := range amount.Measures() {
		for _, by := range []string{"tenant", "workload", "user", "host", "account", "program", "family"} {
			if !m.HasLedger() && (by == "program" || by == "family") {
				continue
			}
			for _, host := range []string{"", "cellar-1"} {
				same(m.String()+" by "+by+" of "+host, func(s question.Span) (any, error) {
					return c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: s, Host: host}, Measure: m, By: by})
				})
			}
		}
	}
	same("of a tenant, filtered", func(s question.Span) (any, error) {
		asked := hub.Asked{Span: s, Where: "kind == 'container'", Tenant: "Harvest Routing"}
		return c.Ledger(ctx, hub.Question{Asked: asked, Measure: amount.CPU, By: "workload"})
	})
	same("groups", func(s question.Span) (any, error) { return c.Groups(ctx, hub.Asked{Span: s}, "tenant") })
	same("workloads", func(s question.Span) (any, error) {
		lines, next, err := c.Workloads(ctx, hub.Asked{Span: s}, hub.Page{First: 3, Sort: "-name"})
		return []any{lines, next}, err
	})
	for _, name := range []string{"cellar-1", "press-1"} {
		same("the CPUs of "+name, func(s question.Span) (any, error) { return c.CPUs(ctx, name, s) })
		same("the memory of "+name, func(s question.Span) (any, error) { return c.Memory(ctx, name, s) })
		for _, by := range []string{"tenant", "workload"} {
			same("placement on "+name+" by "+by, func(s question.Span) (any, error) {
				return c.Placement(ctx, name, s, by, "1m")
			})
		}
		same("about "+name, func(s question.Span) (any, error) { return c.AboutHost(ctx, name, s, 0) })
	}
	same("what each tenant uses", func(s question.Span) (any, error) {
		b, err := c.Balance(ctx, s, "")
		if err == nil {
			b.OfFrames()
		}
		return b, err
	})
	same("what each tenant uses of each host", func(s question.Span) (any, error) {
		list, _, err := c.Balances(ctx, s, 0, "")
		for i := range list {
			list[i].OfFrames()
		}
		return list, err
	})
	same("disks", func(s question.Span) (any, error) { return c.Disks(ctx, "", s) })
	same("interfaces", func(s question.Span) (any, error) { return c.Links(ctx, "", s) })
	same("a workload", func(s question.Span) (any, error) { return c.AboutWorkload(ctx, c.ids["must"], s) })
	for _, by := range []string{"", "workload", "cpu", "host"} {
		same("a series by "+by, func(s question.Span) (any, error) {
			return c.Series(
				ctx,
				&hub.SeriesQuestion{Asked: hub.Asked{Span: s}, Measure: amount.CPU, By: by, First: 2,
					Step: "1m"},
			)
		})
	}
}

// asJSON is a value as it travels, with its numbers to twelve digits: sums are added up in any order.
func asJSON(t *testing.T, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return digits.ReplaceAllStringFunc(string(text), func(number string) string {
		x, err := strconv.ParseFloat(number, 64)
		require.NoError(t, err)
		return strconv.FormatFloat(x, 'g', 12, 64)
	})
}

var digits = regexp.MustCompile(`\b\d+\.\d+`)

func TestFrameSpan_IsTheNewestThatAllWhoStillTellHaveTold(t *testing.T) {
	c := newCellar(t)
	c.now = noon.Add(time.Hour)
	at := func(s int) time.Time { return c.now.Add(time.Duration(s)*time.Second + 20*time.Millisecond) }
	for s := -20; s < 0; s += 5 {
		c.tick("cellar-1", at(s), 5, 1)
		if s < -5 { // whose newest has not come yet
			c.tick("press-1", at(s), 5, 2)
		}
	}
	span := func(host string, pace, length time.Duration) (from, to int) {
		s, err := c.FrameSpan(ctx, host, pace, length)
		require.NoError(t, err)
		require.True(t, s.Frames)
		return int(s.From.Sub(c.now).Seconds()), int(s.To.Sub(c.now).Seconds())
	}
	check := func(wantFrom, wantTo int, host string, pace, length time.Duration) {
		t.Helper()
		from, to := span(host, pace, length)
		assert.Equal(t, []int{wantFrom, wantTo}, []int{from, to})
	}
	check(-10, -5, "", 5*time.Second, 0)
	check(-5, 0, "cellar-1", 5*time.Second, 0)
	check(-5, 0, "cellar-1", time.Second, 0)     // no shorter than its ticks
	check(-15, 0, "cellar-1", 12*time.Second, 0) // whole ticks
	check(-15, 0, "cellar-1", time.Second, 11*time.Second)

	l, err := c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.frames("", time.Second)}, Measure: amount.CPU,
		By: "host"})
	require.NoError(t, err)
	assert.Equal(t, map[string]float64{"cellar-1": 1, "press-1": 2},
		map[string]float64{l.Shares[0].Name: *l.Shares[0].Amount, l.Shares[1].Name: *l.Shares[1].Amount})
	assert.InDelta(t, 5.0, l.ElapsedS, 1e-9)

	// A host that fell silent is no longer waited for, and is said to lack.
	c.now = c.now.Add(40 * time.Second)
	for s := -40; s < 0; s += 5 {
		c.tick("cellar-1", at(s), 5, 1)
	}
	check(-5, 0, "", 5*time.Second, 0)
	l, err = c.Ledger(ctx, hub.Question{Asked: hub.Asked{Span: c.frames("", 10*time.Second)}, Measure: amount.CPU,
		By: "host"})
	require.NoError(t, err)
	require.NotNil(t, l.Uncovered)
	assert.Equal(t, []any{1, "press-1"}, []any{len(l.Uncovered.Parts), l.Uncovered.Parts[0].Host})

	for _, pace := range []time.Duration{0, 999 * time.Millisecond, 61 * time.Second} {
		_, err := c.FrameSpan(ctx, "", pace, 0)
		requireProblem(t, err, hub.Invalid, "1s to 1m")
	}
	_, err = c.FrameSpan(ctx, "", time.Second, 15*time.Minute+time.Second)
	requireProblem(t, err, hub.Invalid, "held for 15m")
	_, err = c.FrameSpan(ctx, "cellar-9", time.Second, 0)
	requireProblem(t, err, hub.NotFound, "cellar-9")
}

// TestFrame_IsReadAsFastAsSomebodyLooks: and no faster once nobody does.
func TestFrame_IsReadAsFastAsSomebodyLooks(t *testing.T) {
	c := newCellar(t)
	wanted := func(host string) time.Duration {
		c.now = c.now.Add(time.Second)
		return c.tick(host, c.now.Add(-time.Second), 1, 1)
	}
	assert.Zero(t, wanted("cellar-1"))
	c.frames("", 20*time.Second)
	c.frames("cellar-1", 2*time.Second)
	assert.Equal(t, 2*time.Second, wanted("cellar-1"))
	assert.Equal(t, 20*time.Second, wanted("press-1"))
	c.frames("cellar-1", 7*time.Second)
	assert.Equal(t, 2*time.Second, wanted("cellar-1"), "the faster of two who look")
	c.now = c.now.Add(13 * time.Second)
	c.frames("cellar-1", 7*time.Second)
	assert.Equal(t, 7*time.Second, wanted("cellar-1"), "who looked faster has gone")
	c.now = c.now.Add(13 * time.Second)
	assert.Zero(t, wanted("cellar-1"))

	p, err := c.Pace(ctx, "cellar-1")
	require.NoError(t, err)
	assert.Equal(t, []any{1, 1.0}, []any{p.Hosts, p.TickSeconds})
	assert.InDelta(t, 0.003, p.ReadingCores, 1e-9)
	assert.InDelta(t, 0.003/5, p.UsualCores, 1e-9)
}

func TestFrame_OnlyOfItsOwnHostAndOfNow(t *testing.T) {
	c := newCellar(t)
	b := c.batch("cellar-1", c.now.Add(-5*time.Second), 5)
	b.Pace = &wire.Pace{TickMillis: 5000}
	_, err := c.Frame(ctx, c.hosts["press-1"], b, nil)
	requireProblem(t, err, hub.Denied, "credential")
	b.Pace = nil
	_, err = c.Frame(ctx, c.hosts["cellar-1"], b, nil)
	requireProblem(t, err, hub.Invalid, "its pace")
	b.Pace = &wire.Pace{TickMillis: 999}
	_, err = c.Frame(ctx, c.hosts["cellar-1"], b, nil)
	requireProblem(t, err, hub.Invalid, "tick_millis")
	for _, away := range []time.Duration{-20 * time.Minute, 20 * time.Minute} {
		b := c.batch("cellar-1", c.now.Add(away), 5)
		b.Pace = &wire.Pace{TickMillis: 5000}
		_, err = c.Frame(ctx, c.hosts["cellar-1"], b, nil)
		requireProblem(t, err, hub.Invalid, "clock")
	}
}

// TestFrames_ArePassedOnToWhomeverLooksByAnotherInstance: a host sends to one instance, and somebody looks by another.
func TestFrames_ArePassedOnToWhomeverLooksByAnotherInstance(t *testing.T) {
	database := testdb.New(t)
	hearing, stop := context.WithCancel(ctx)
	var ears sync.WaitGroup
	defer ears.Wait()
	defer stop()
	now := time.Now().Truncate(5 * time.Second).Add(20 * time.Millisecond)
	held := map[*cellar]*frames.Hold{}
	instance := func() *cellar {
		s, err := store.Open(ctx, database)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		c := &cellar{&fixture{t: t}, map[string]store.Host{}, map[string]int64{}, nil, false}
		c.Hub = hub.New(s, hub.Options{})
		held[c] = s.Frames
		return c
	}
	hear := func(c *cellar) { ears.Go(func() { c.Hear(hearing) }) }
	a, b, third := instance(), instance(), instance()
	hear(a)
	for _, name := range []string{"cellar-1", "press-1", "terrace-1"} {
		_, err := a.Enrol(ctx, name)
		require.NoError(t, err)
		a.hosts[name], err = a.Host(ctx, name)
		require.NoError(t, err)
	}
	large := make([]had, 18) // takes several pieces
	for i := range large {
		path := ""
		for range 30 {
			path += rand.Text()
		}
		large[i] = had{
			account.Workload{Key: fmt.Sprint("loose:", i), Kind: amount.Loose, Name: fmt.Sprint("loose-", i),
				Path: path},
			1,
			100,
			int64(i),
			0,
			0,
		}
	}
	tell := func(at int) time.Duration {
		from := now.Add(time.Duration(at) * time.Second)
		wanted := a.frame(a.batch("cellar-1", from, 5, large...))
		a.frame(a.batch("press-1", from, 5, had{route, 4, 100, 0, 0, 1}))
		return wanted
	}
	used := func(c *cellar, host string, length time.Duration) (cpu float64) {
		span, err := c.FrameSpan(ctx, host, 2*time.Second, length)
		require.NoError(t, err)
		l, err := c.Ledger(
			ctx,
			hub.Question{Asked: hub.Asked{Span: span, Host: host}, Measure: amount.CPU, By: "kind"},
		)
		require.NoError(t, err)
		for _, s := range l.Shares {
			cpu += *s.Amount
		}
		return cpu
	}
	whole := float64(len(large))
	assert.Zero(t, tell(-15))
	tell(-10)
	assert.Zero(t, used(b, "cellar-1", 10*time.Second))
	time.Sleep(300 * time.Millisecond) // whatever was called meanwhile is lost
	hear(b)
	require.Eventually(t, func() bool { return used(b, "cellar-1", 10*time.Second) == 2*whole }, patience,
		100*time.Millisecond, "what was held before somebody looked comes too")
	assert.Empty(t, held[b].Of(a.hosts["press-1"].ID), "nobody looked at it yet")
	used(b, "press-1", 0)
	assert.Equal(t, 2*time.Second, tell(-5), "who looks by another instance hurries the host too")
	require.Eventually(
		t,
		func() bool { return used(b, "cellar-1", 0) == whole && used(b, "cellar-1", 15*time.Second) == 3*whole },
		patience,
		100*time.Millisecond,
	)
	require.Eventually(t, func() bool { return used(b, "press-1", 15*time.Second) == 12 }, patience,
		100*time.Millisecond)
	assert.InDelta(t, 3*whole, used(a, "cellar-1", 15*time.Second), 1e-9, "its own calls are no news to it")
	hear(third)
	require.Eventually(t, func() bool { return used(third, "cellar-1", 15*time.Second) == 3*whole }, patience,
		100*time.Millisecond, "what is held comes to another that looks, too")

	more := func(at int) {
		a.frame(a.batch("terrace-1", now.Add(time.Duration(at)*time.Second), 5, large...))
	}
	for at := -90; at < 0; at += 5 {
		more(at)
	}
	of := func(c *cellar) int { return len(held[c].Of(a.hosts["terrace-1"].ID)) }
	used(b, "terrace-1", 0)
	require.Eventually(t, func() bool { return of(b) > 0 }, patience, time.Millisecond)
	more(0) // while those that are held are passed on
	require.Eventually(t, func() bool { return of(b) == of(a) }, patience, 10*time.Millisecond,
		"its pieces and theirs are told apart")
}
