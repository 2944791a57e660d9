package collect_test

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/internal/carry"
	"vinescale/internal/client"
	"vinescale/internal/collect"
	"vinescale/internal/identify"
)

// orderer stands in for a service that gives out orders: each answer is made by the next of its answers.
type orderer struct {
	mu      sync.Mutex
	answers []func(nonce string) []act.Signed
	nonces  []string
	reports map[string]string // by act
	refuses int               // so many reports first
}

func (o *orderer) RoundTrip(r *http.Request) (*http.Response, error) {
	w := httptest.NewRecorder()
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case r.URL.Path == "/api/v1/orders":
		nonce := r.URL.Query().Get("nonce")
		o.nonces = append(o.nonces, nonce)
		var list []act.Signed
		if len(o.answers) > 0 {
			list, o.answers = o.answers[0](nonce), o.answers[1:]
		} else {
			o.mu.Unlock()
			time.Sleep(20 * time.Millisecond) // as one that waits for something to give out
			o.mu.Lock()
		}
		json.NewEncoder(w).Encode(map[string]any{"orders": list})
	case strings.HasPrefix(r.URL.Path, "/api/v1/orders/"):
		if o.refuses > 0 {
			o.refuses--
			w.WriteHeader(http.StatusServiceUnavailable)
			break
		}
		b, _ := io.ReadAll(r.Body)
		o.reports[strings.TrimPrefix(r.URL.Path, "/api/v1/orders/")] = string(b)
	default:
		w.WriteHeader(http.StatusNotFound)
	}
	return w.Result(), nil
}

func (o *orderer) report(id string) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.reports[id]
}

// TestOrders_OnlyThoseThatAreTheServicesAndFreshAreFollowed has orders of every wrong kind beside a right one.
func TestOrders_OnlyThoseThatAreTheServicesAndFreshAreFollowed(t *testing.T) {
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	_, foreign, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	order := func(id, host, nonce string, by ed25519.PrivateKey) act.Signed {
		s, err := act.Sign(
			by,
			&act.Order{ID: id, Host: host, Errand: act.ToPreview, Nonce: nonce, Lives: time.Minute,
				Request: act.Request{Verb: act.Pause, Target: act.Target{Form: act.OfProcess, PID: 1 << 30}}},
		)
		require.NoError(t, err)
		return s
	}
	var earlier act.Signed
	o := &orderer{reports: map[string]string{}, refuses: 1}
	o.answers = []func(string) []act.Signed{
		func(nonce string) []act.Signed {
			earlier = order("earlier", "cellar-1", nonce, key)
			return nil // it is held back, and given out when another is asked for
		},
		func(nonce string) []act.Signed {
			altered := order("altered", "cellar-1", nonce, key)
			altered.Order = []byte(strings.Replace(string(altered.Order), "1073741824", "1", 1))
			return []act.Signed{earlier, altered, order("foreign", "cellar-1", nonce, foreign),
				order("elsewhere", "press-1", nonce, key), order("right", "cellar-1", nonce, key)}
		},
	}
	to, err := client.New("http://books.test", "vs_secret")
	require.NoError(t, err)
	to.Transport(o)
	spool, err := collect.OpenSpool(t.TempDir())
	require.NoError(t, err)
	c := collect.New(
		collect.Options{Host: "cellar-1", Source: newSource(), Names: names{}, Client: to, Spool: spool,
			Tick: 100 * time.Millisecond, Log: slog.New(slog.DiscardHandler), OrderKey: public,
			Acts: &carry.Options{Users: identify.NewUsers("/etc"), Journal: t.TempDir(), Self: int32(os.Getpid()),
				Policy: func() (*act.Policy, error) { return act.ParsePolicy([]byte("allow: [{acts: [all]}]")) }}},
	)
	running, stop := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- c.Run(running) }()
	assert.Eventually(t, func() bool { return o.report("right") != "" }, 3*time.Minute, 10*time.Millisecond,
		"though the service did not take the report at first")
	stop()
	require.NoError(t, <-done)
	require.NoError(t, spool.Close())
	assert.Contains(t, o.report("right"), "there is no process 1073741824 on this host")
	for _, id := range []string{"earlier", "altered", "foreign", "elsewhere"} {
		assert.Empty(t, o.report(id), id)
	}
	seen := map[string]bool{}
	for _, n := range o.nonces {
		assert.False(t, seen[n], "each request has a nonce of its own")
		assert.GreaterOrEqual(t, len(n), 16)
		seen[n] = true
	}
}

func TestOrders_NoneAreAskedForByACollectorThatOnlyObserves(t *testing.T) {
	o := &orderer{reports: map[string]string{}}
	to, err := client.New("http://books.test", "vs_secret")
	require.NoError(t, err)
	to.Transport(o)
	spool, err := collect.OpenSpool(t.TempDir())
	require.NoError(t, err)
	c := collect.New(
		collect.Options{Host: "cellar-1", Source: newSource(), Names: names{}, Client: to, Spool: spool,
			Tick: 100 * time.Millisecond, Log: slog.New(slog.DiscardHandler)},
	)
	run(t, c, spool, 300*time.Millisecond)
	assert.Empty(t, o.nonces)
}
