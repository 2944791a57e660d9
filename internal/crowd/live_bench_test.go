package crowd_test

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/internal/crowd"
)

// BenchmarkLive has 200 consoles follow what 1,000 hosts of 20 workloads tell every 5 seconds: half of them the fleet,
// half a host each; with one question each, or with what a page of the console asks. It tells how much of one CPU the
// service takes for the listeners, and for taking in the frames; the floor of the former is the latter, which nobody
// need listen to.
func BenchmarkLive(b *testing.B) {
	const hosts, listeners, tick, over = 1000, 200, 5 * time.Second, 45 * time.Second
	s := serve(b)
	f, err := crowd.Enrol(ctx, s.address, s.token, hosts, 20)
	require.NoError(b, err)
	tell := func(at time.Time) {
		frames, err := f.Ticks(at.Add(-tick), tick)
		require.NoError(b, err)
		require.NoError(b, f.SendTicks(ctx, frames))
	}
	tell(time.Now().Truncate(tick).Add(20 * time.Millisecond)) // makes the workloads known
	s.rest(b)
	// share is which part of one CPU the service takes while hosts tell.
	share := func() float64 {
		begin, before := time.Now(), s.cpuTime(b)
		for time.Since(begin) < over {
			next := time.Now().Truncate(tick).Add(tick + 20*time.Millisecond)
			time.Sleep(time.Until(next))
			tell(next)
		}
		return (s.cpuTime(b) - before).Seconds() / time.Since(begin).Seconds()
	}
	share() // a quarter of an hour's memory begins to fill
	taking := share()

	for _, x := range []struct {
		name        string
		fleet, host []string
	}{
		{"one-question-each", []string{"/ledger?of=cpu&by=tenant"}, []string{"/ledger?of=cpu&by=workload&host=HOST"}},
		{"a-page-each", []string{"/ledger?of=cpu&by=tenant", "/balance"},
			[]string{"/ledger?of=cpu&by=workload&host=HOST", "/hosts/HOST/cpus", "/balance?host=HOST"}},
	} {
		listening, stop := context.WithCancel(ctx)
		var answers atomic.Int64
		var all sync.WaitGroup
		for i := range listeners {
			asks := slices.Clone(x.fleet)
			if i%2 == 1 {
				asks = slices.Clone(x.host)
			}
			for k := range asks {
				asks[k] = strings.ReplaceAll(asks[k], "HOST", f.Names[i])
			}
			s.listen(b, listening, &all, int(tick.Seconds()), asks, &answers)
		}
		share()
		before, begin := answers.Load(), time.Now()
		both := share()
		b.ReportMetric(float64(answers.Load()-before)/time.Since(begin).Seconds(), "answers/s-"+x.name)
		b.ReportMetric(both-taking, "CPUs-for-listeners-"+x.name)
		b.ReportMetric((both-taking)/taking, "x-floor-"+x.name)
		stop()
		all.Wait()
	}
	b.ReportMetric(taking, "CPUs-for-frames")
	b.ReportMetric(s.megabytes(b), "MB-of-the-service")
	b.ReportMetric(0, "ns/op")
}

// listen follows questions until the context ends, and counts the answers.
func (s *service) listen(b *testing.B, ctx context.Context, all *sync.WaitGroup, pace int, asks []string,
	answers *atomic.Int64) {
	q := url.Values{"ask": asks, "pace": {fmt.Sprint(pace)}}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address+"/api/v1/live?"+q.Encode(), nil)
	require.NoError(b, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(b, err)
	all.Go(func() {
		defer answer.Body.Close()
		lines := bufio.NewReader(answer.Body)
		for {
			line, err := lines.ReadSlice('\n')
			if err != nil && err != bufio.ErrBufferFull {
				return
			}
			if strings.HasPrefix(string(line), "event: answer") {
				answers.Add(1)
			}
		}
	})
}
