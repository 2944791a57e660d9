package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/client"
	"vinescale/internal/identify"
	"vinescale/internal/sheet"
	"vinescale/internal/stage"
	"vinescale/internal/wire"
)

// batchesOf is what a staged host's collector sends of some hours until now, by the minute, and the CPU time in it.
func batchesOf(t *testing.T, h *stage.Host, hours int) (batches []*wire.Batch, micros int64) {
	tree := stage.Tree{Dir: t.TempDir()}
	require.NoError(t, h.Render(tree))
	registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
		Proc: tree.Proc()}})
	os.RemoveAll(tree.Proc())
	var tracker account.Tracker
	tracker.Step(h.Reading(registry))
	for n := range hours * 60 {
		if n%120 == 0 {
			batches = append(batches, &wire.Batch{Version: wire.Version, Host: h.Name})
		}
		h.Advance(time.Minute)
		iv, err := tracker.Step(h.Reading(registry))
		require.NoError(t, err)
		m := wire.FromInterval(iv, uint64(n+1), "v2", registry)
		for _, units := range m.UsageOf(amount.CPU).Units {
			micros += units
		}
		b := batches[len(batches)-1]
		b.Intervals = append(b.Intervals, m)
	}
	return batches, micros
}

// TestServe_KilledWhileItSumsLosesNothingAndCountsNothingTwice kills the service and its database, without any warning,
// while a day of history is taken in, folded and summed. What was acknowledged is there, and every sum holds.
func TestServe_KilledWhileItSumsLosesNothingAndCountsNothingTwice(t *testing.T) {
	const hours = 27
	data := dataDir(t)
	r := serve(t, data)
	from := time.Now().UTC().Add(-hours * time.Hour).Truncate(time.Minute)
	hosts := stage.Cooperative(from)[:2]
	batches, credentials, want := map[string][]*wire.Batch{}, map[string]string{}, int64(0)
	for _, h := range hosts {
		credentials[h.Name] = strings.TrimSpace(r.run("hosts", "enrol", h.Name).stdout)
		sent, micros := batchesOf(t, h, hours)
		batches[h.Name], want = sent, want+micros
	}
	send := func(host string, b *wire.Batch) error {
		to, err := client.New(r.address, credentials[host])
		require.NoError(t, err)
		raw, err := wire.Encode(b)
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		return to.SendBatch(ctx, raw, nil)
	}
	rng := rand.New(rand.NewPCG(11, 26))
	acknowledged := 0
	for round := range 6 {
		stop := make(chan struct{})
		sending := make(chan int)
		go func() { // sends while the service sums what it has; some of it a second time
			n := 0
			defer func() { sending <- n }()
			for _, h := range hosts {
				for k := range 3 * (round + 1) {
					if k >= len(batches[h.Name]) {
						break
					}
					select {
					case <-stop:
						return
					default:
					}
					if send(h.Name, batches[h.Name][k]) != nil {
						return
					}
					n++
				}
			}
		}()
		time.Sleep(time.Duration(300+rng.IntN(1500)) * time.Millisecond)
		if round%2 == 0 {
			for _, pid := range children(r.cmd.Process.Pid) { // the database's own processes end with it
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		r.signal(syscall.SIGKILL)
		close(stop)
		acknowledged += <-sending
		token := r.token
		r = serve(t, data) // and begins to sum again
		r.token = token
	}
	require.Positive(t, acknowledged)
	for _, h := range hosts {
		for _, b := range batches[h.Name] {
			require.NoError(t, send(h.Name, b))
		}
	}
	require.Eventually(t, func() bool { // the service folds what it has every 20 seconds
		got := r.run("verify", "--span", "2d")
		require.Zero(t, got.code, got.stdout)
		const day = 24 * time.Hour
		ended := int(time.Now().UTC().Add(-5*time.Minute).Truncate(day).Sub(from.Truncate(day)) / day)
		return strings.Contains(got.stdout, "The book is sound: 3240 intervals") &&
			strings.Contains(got.stdout, fmt.Sprintf(" %d days", ended*len(hosts)))
	}, 2*time.Minute, time.Second)
	l := runJSON[sheet.Ledger](t, r, "share", "--of", "cpu", "--by", "tenant", "--span", "2d")
	require.Len(t, l.Shares, 1)
	assert.InDelta(t, float64(want)/1e6, *l.Shares[0].Amount, 1e-6)
}
