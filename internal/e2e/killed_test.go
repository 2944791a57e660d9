package e2e

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"sync/atomic"
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

// batchesOf is what a staged host's collector sends of some hours until now, an interval every so often, and the CPU
// time in it.
func batchesOf(t *testing.T, h *stage.Host, hours int, every time.Duration) (batches []*wire.Batch, micros int64) {
	tree := stage.Tree{Dir: t.TempDir()}
	require.NoError(t, h.Render(tree))
	registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
		Proc: tree.Proc()}})
	os.RemoveAll(tree.Proc())
	var tracker account.Tracker
	tracker.Step(h.Reading(registry))
	for n := range int(time.Duration(hours) * time.Hour / every) {
		if n%120 == 0 {
			batches = append(batches, &wire.Batch{Version: wire.Version, Host: h.Name})
		}
		h.Advance(every)
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

func sendTo(t *testing.T, r *running, credential string, b *wire.Batch) error {
	to, err := client.New(r.address, credential)
	require.NoError(t, err)
	raw, err := wire.Encode(b)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return to.SendBatch(ctx, raw, nil)
}

// kill ends a service without any warning, and its database too.
func kill(r *running, database bool) {
	if database {
		for _, pid := range children(r.cmd.Process.Pid) { // the database's own processes end with it
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	r.signal(syscall.SIGKILL)
}

// TestServe_KilledWhileItSumsLosesNothingAndCountsNothingTwice kills the service and its database, without any warning,
// while a day of history is taken in, folded and summed. What was acknowledged is there, and every sum holds.
func TestServe_KilledWhileItSumsLosesNothingAndCountsNothingTwice(t *testing.T) {
	t.Parallel()
	const hours = 27
	data := dataDir(t)
	r := serve(t, data)
	from := time.Now().UTC().Add(-hours * time.Hour).Truncate(time.Minute)
	hosts := stage.Cooperative(from)[:2]
	batches, credentials, want := map[string][]*wire.Batch{}, map[string]string{}, int64(0)
	for _, h := range hosts {
		credentials[h.Name] = strings.TrimSpace(r.run("hosts", "enrol", h.Name).stdout)
		sent, micros := batchesOf(t, h, hours, time.Minute)
		batches[h.Name], want = sent, want+micros
	}
	send := func(host string, b *wire.Batch) error { return sendTo(t, r, credentials[host], b) }
	rng := rand.New(rand.NewPCG(11, 26))
	var acknowledged atomic.Int64
	for round := range 6 {
		stop := make(chan struct{})
		sending := make(chan struct{})
		go func() { // sends while the service sums what it has; some of it a second time
			defer close(sending)
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
					acknowledged.Add(1)
				}
			}
		}()
		require.Eventually(t, func() bool { return acknowledged.Load() > 0 }, patience, time.Millisecond)
		time.Sleep(time.Duration(300+rng.IntN(1500)) * time.Millisecond)
		kill(r, round%2 == 0)
		close(stop)
		<-sending
		token := r.token
		r = serve(t, data) // and begins to sum again
		r.token = token
	}
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
	}, patience, time.Second)
	l := runJSON[sheet.Ledger](t, r, "share", "--of", "cpu", "--by", "tenant", "--span", "2d")
	require.Len(t, l.Shares, 1)
	assert.InDelta(t, float64(want)/1e6, *l.Shares[0].Amount, 1e-6)
}

// TestServe_KilledWhileItAccountsHistoryAnewOrDropsItLeavesAllOrNothing kills the service and its database while
// history is accounted to another tenant, and while what is past its keeping is dropped.
func TestServe_KilledWhileItAccountsHistoryAnewOrDropsItLeavesAllOrNothing(t *testing.T) {
	t.Parallel()
	const hours = 54 // more than two days, of which the first is dropped
	data := dataDir(t)
	r := serve(t, data)
	from := time.Now().UTC().Add(-hours * time.Hour).Truncate(time.Hour)
	host := stage.Cooperative(from)[0]
	credential := strings.TrimSpace(r.run("hosts", "enrol", host.Name).stdout)
	batches, micros := batchesOf(t, host, hours, 5*time.Minute)
	machines := 0.0 // CPU seconds of virtual machines
	for _, b := range batches {
		require.NoError(t, sendTo(t, r, credential, b))
		for _, iv := range b.Intervals {
			for i, units := range iv.UsageOf(amount.CPU).Units {
				if iv.Workloads.Kind[i] == "vm" {
					machines += float64(units) / 1e6
				}
			}
		}
	}
	require.Positive(t, machines)
	require.Zero(t, r.run("tenant", "add", "Bottling Line").code)
	span := []string{"--from", from.Format(time.RFC3339), "--to", from.Add(hours * time.Hour).Format(time.RFC3339)}
	held := func() (sum, bottling float64) {
		l := runJSON[sheet.Ledger](t, r, append([]string{"share", "--of", "cpu", "--by", "tenant"}, span...)...)
		for _, s := range l.Shares {
			sum += *s.Amount
			if s.Name == "Bottling Line" {
				bottling = *s.Amount
			}
		}
		return sum, bottling
	}
	sound := func() {
		t.Helper()
		require.Eventually(t, func() bool {
			got := r.run("verify", "--span", "3d")
			require.Zero(t, got.code, got.stdout)
			return strings.Contains(got.stdout, "The book is sound")
		}, patience, time.Second)
		sum, _ := held()
		require.InDelta(t, float64(micros)/1e6, sum, 1e-6)
	}
	rng := rand.New(rand.NewPCG(11, 27))
	outcomes, took := map[bool]int{}, time.Second
	for round := range 6 {
		if round%2 == 0 {
			require.Zero(t, r.run("rule", "add", "Bottling Line", "kind == 'vm'").code)
		} else {
			require.Zero(t, r.run("rule", "remove", "1").code)
		}
		_, before := held()
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			r.run("rule", "reapply", "--from", from.Format(time.RFC3339)) // it is cut off
		}()
		time.Sleep(took * time.Duration(60+rng.IntN(80)) / 100) // some are done by then
		kill(r, round%3 == 0)
		<-ended
		token := r.token
		r = serve(t, data)
		r.token = token
		sound()
		_, after := held()
		outcomes[after != before]++
		require.Truef(t, after == 0 || math.Abs(after-machines) < 1e-6, "%f of 0 or %f", after, machines)
		begin := time.Now()
		require.Zero(t, r.run("rule", "reapply", "--from", from.Format(time.RFC3339)).code)
		took = time.Since(begin)
		sound()
		_, whole := held()
		require.InDelta(t, map[bool]float64{true: machines}[round%2 == 0], whole, 1e-6)
	}
	t.Log("the cut off re-attribution was done:", outcomes[true], "not done:", outcomes[false], "of", took)

	token := r.token
	for range 4 { // dropping begins when the service does
		r.interrupt()
		var m []string
		var err error
		r, m, err = startProgram(program, serveReady, []string{"VINESCALE_KEEP_MINUTES=1d"}, "serve", "--listen",
			"127.0.0.1:0", "--data", data)
		require.NoError(t, err)
		t.Cleanup(r.interrupt)
		r.address, r.token = m[1], token
		time.Sleep(time.Duration(rng.IntN(300)) * time.Millisecond)
		kill(r, true)
	}
	r, m, err := startProgram(program, serveReady, []string{"VINESCALE_KEEP_MINUTES=1d"}, "serve", "--listen",
		"127.0.0.1:0", "--data", data)
	require.NoError(t, err)
	t.Cleanup(r.interrupt)
	r.address, r.token = m[1], token
	require.Eventually(t, func() bool { // all but the days that are kept
		got := r.run("verify", "--span", "3d")
		require.Zero(t, got.code, got.stdout)
		return !strings.Contains(got.stdout, fmt.Sprint(hours*12, " intervals"))
	}, patience, time.Second)
	sound()
}
