package collect_test

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/client"
	"vinescale/internal/collect"
	"vinescale/internal/wire"
)

// source is a host of one workload that uses one CPU second a second.
type source struct {
	boot   string
	wall   func() time.Time
	begin  time.Time
	broken func(since time.Duration) error // nil when it never is
	apart  []bool                          // what it was told of programs
}

func (s *source) Read(r *account.Reading) error {
	now := time.Now() // the monotonic clock
	if s.broken != nil {
		if err := s.broken(now.Sub(s.begin)); err != nil {
			return err
		}
	}
	*r = account.Reading{Boot: s.boot, Wall: s.wall().UTC(), Mono: now.Sub(s.begin), Uptime: now.Sub(s.begin),
		CPUs: make([]account.CPUTimes, 1),
		Groups: []account.Group{{ID: 1, Workload: 0, Outer: -1, Has: account.HasCPU,
			CPUMicros: now.Sub(s.begin).Microseconds()}}}
	return nil
}
func (s *source) ProgramsApart(apart bool)  { s.apart = append(s.apart, apart) }
func (s *source) Mode() string              { return "v2" }
func (s *source) Trouble() map[string]error { return nil }

type names struct{}

func (names) Workload(account.WorkloadID) account.Workload {
	return account.Workload{Key: "service:must", Kind: amount.Service, Name: "must"}
}
func (names) ProgramName(int32) string { return "must" }

// service stands in for the real one: it remembers what it was sent and answers as told.
type service struct {
	mu        sync.Mutex
	intervals map[uint64]*wire.Interval
	calls     int
	answer    func(b *wire.Batch) int // status; nil for 200
	detail    string                  // of a refusal; "as told" where there is none
	programs  bool                    // rules ask for them
}

func (s *service) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Path == "/api/v1/frames" { // it is too old to know of these
		w := httptest.NewRecorder()
		w.WriteHeader(http.StatusNotFound)
		return w.Result(), nil
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	b, err := wire.Decode(body, r.Header.Get("Content-Type"), r.Header.Get("Content-Encoding"))
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	status := 200
	if s.answer != nil {
		status = s.answer(b)
	}
	if status == 200 {
		for _, iv := range b.Intervals {
			s.intervals[iv.Sequence] = iv
		}
	}
	w := httptest.NewRecorder()
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"status": status, "detail": cmp.Or(s.detail, "as told"),
		"programs_apart": s.programs})
	return w.Result(), nil
}

func newCollector(t *testing.T, src *source, svc *service, dir string) (*collect.Collector, *collect.Spool) {
	spool, err := collect.OpenSpool(dir)
	require.NoError(t, err)
	to, err := client.New("http://books.test", "vs_secret")
	require.NoError(t, err)
	to.Transport(svc)
	return collect.New(collect.Options{
		Host: "cellar-1", Source: src, Names: names{}, Client: to, Spool: spool, Log: slog.New(slog.DiscardHandler),
	}), spool
}

// run runs a collector for a time, on a clock that the test moves.
func run(t *testing.T, c *collect.Collector, spool *collect.Spool, over time.Duration) {
	ctx, cancel := context.WithTimeout(context.Background(), over)
	defer cancel()
	require.NoError(t, c.Run(ctx))
	require.NoError(t, spool.Close())
}

func newSource() *source {
	return &source{boot: "b", wall: func() time.Time { return time.Now().AddDate(26, 0, 0) }, begin: time.Now()}
}

func TestRun_ClosesAnIntervalAMinuteThatAddsUpItsTicks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		svc := &service{intervals: map[uint64]*wire.Interval{}}
		c, spool := newCollector(t, newSource(), svc, t.TempDir())
		run(t, c, spool, 5*time.Minute+30*time.Second)
		require.Len(t, svc.intervals, 6)
		whole, total, ends := 0, int64(0), map[int64]bool{}
		for _, iv := range svc.intervals {
			total += iv.Usages[amount.CPU].Units[0]
			ends[iv.FromUnixMicros] = true
			if iv.Ticks == 12 {
				whole++
				assert.InDelta(t, 60_000, iv.ElapsedMillis, 25)
				assert.Equal(t, iv.ElapsedMillis*1000, iv.Usages[amount.CPU].Units[0])
			}
		}
		assert.GreaterOrEqual(t, whole, 4)
		assert.InDelta(t, 330e6, total, 6e6, "from the first reading to the last, without a gap or an overlap")
		joined := 0
		for _, iv := range svc.intervals {
			if ends[iv.ToUnixMicros] {
				joined++
			}
		}
		assert.Equal(t, 5, joined, "each begins where the one before ended")
	})
}

func TestRun_KeepsWhatTheServiceDoesNotTakeAndSendsItLater(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		begin := time.Now()
		svc := &service{intervals: map[uint64]*wire.Interval{}}
		svc.answer = func(*wire.Batch) int {
			if time.Since(begin) > 10*time.Minute {
				return 200
			}
			return 503
		}
		c, spool := newCollector(t, newSource(), svc, t.TempDir())
		run(t, c, spool, 12*time.Minute)
		assert.GreaterOrEqual(t, len(svc.intervals), 12)
		assert.Less(t, svc.calls, 60, "it gives the service time between tries")
	})
}

// TestRun_CatchesUpInCallsOfABoundedSize: what is sent at once is all in memory at once.
func TestRun_CatchesUpInCallsOfABoundedSize(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		svc := &service{intervals: map[uint64]*wire.Interval{}, answer: func(*wire.Batch) int { return 503 }}
		src := newSource()
		c, spool := newCollector(t, src, svc, dir)
		run(t, c, spool, 9*time.Minute)
		kept, err := filepath.Glob(filepath.Join(dir, "*.batch"))
		require.NoError(t, err)
		require.Greater(t, len(kept), 8)
		for _, file := range kept { // as of a host of many workloads
			raw, err := os.ReadFile(file)
			require.NoError(t, err)
			b, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
			require.NoError(t, err)
			labels := map[string]string{}
			for n := range 60 {
				text := ""
				for len(text) < 2000 {
					text += rand.Text()
				}
				labels[fmt.Sprint("label-", n)] = text
			}
			b.Intervals[0].Workloads.Labels[0] = &wire.Labels{Values: labels}
			raw, err = wire.Encode(b)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, raw, 0o600))
		}
		most := 0
		svc.answer = func(b *wire.Batch) int {
			most = max(most, len(b.Intervals))
			return 200
		}
		c, spool = newCollector(t, src, svc, dir)
		run(t, c, spool, 30*time.Second)
		assert.GreaterOrEqual(t, len(svc.intervals), len(kept))
		assert.LessOrEqual(t, most, 5, "of 75 to 120 kB each")
		assert.GreaterOrEqual(t, most, 2)
	})
}

func TestRun_SetsAsideOnlyWhatTheServiceWillNeverTake(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		svc := &service{intervals: map[uint64]*wire.Interval{}, answer: func(*wire.Batch) int { return 500 }}
		src := newSource()
		c, spool := newCollector(t, src, svc, dir)
		run(t, c, spool, 4*time.Minute) // several are kept
		kept, err := filepath.Glob(filepath.Join(dir, "*.batch"))
		require.NoError(t, err)
		require.Greater(t, len(kept), 3)
		bad := uint64(0)
		svc.answer = func(b *wire.Batch) int {
			for _, iv := range b.Intervals {
				if bad == 0 {
					bad = iv.Sequence
				}
				if iv.Sequence == bad {
					return 422
				}
			}
			return 200
		}
		c, spool = newCollector(t, src, svc, dir)
		run(t, c, spool, time.Minute)
		for _, file := range kept {
			var sequence uint64
			fmt.Sscanf(filepath.Base(file), "%d.batch", &sequence)
			assert.Equal(t, sequence != bad, svc.intervals[sequence] != nil, "all but the refused one were taken")
		}
		refused, err := filepath.Glob(filepath.Join(dir, "refused", "*.batch"))
		require.NoError(t, err)
		assert.Len(t, refused, 1)
		left, err := filepath.Glob(filepath.Join(dir, "*.batch"))
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

// TestRun_ABatchOfAnotherVersionWaits: neither a service that is older than its collector nor a collector that is older
// than what it finds in its spool loses anything.
func TestRun_ABatchOfAnotherVersionWaits(t *testing.T) {
	for name, refusal := range map[string]struct {
		status int
		detail string
	}{
		"by a service that says so":             {501, "as told"},
		"by one from before there was a second": {422, "version 2 of the format is not known here"},
	} {
		synctest.Test(t, func(t *testing.T) {
			dir := t.TempDir()
			svc := &service{intervals: map[uint64]*wire.Interval{}, detail: refusal.detail,
				answer: func(*wire.Batch) int { return refusal.status }}
			src := newSource()
			c, spool := newCollector(t, src, svc, dir)
			run(t, c, spool, 4*time.Minute)
			kept, err := filepath.Glob(filepath.Join(dir, "*.batch"))
			require.NoError(t, err)
			require.Greater(t, len(kept), 3, name)

			// One of them turns out to be of a collector that is newer still.
			raw, err := os.ReadFile(kept[1])
			require.NoError(t, err)
			b, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
			require.NoError(t, err)
			b.Version = wire.Version + 1
			raw, err = wire.Encode(b)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(kept[1], raw, 0o600))

			svc.answer = nil
			c, spool = newCollector(t, src, svc, dir)
			run(t, c, spool, 2*time.Minute)
			for i, file := range kept {
				var sequence uint64
				fmt.Sscanf(filepath.Base(file), "%d.batch", &sequence)
				assert.Equal(t, i != 1, svc.intervals[sequence] != nil, "%s: interval %d", name, sequence)
			}
			left, err := filepath.Glob(filepath.Join(dir, "*.batch"))
			require.NoError(t, err)
			assert.Equal(t, kept[1:2], left, name)
			refused, err := filepath.Glob(filepath.Join(dir, "refused", "*.batch"))
			require.NoError(t, err)
			assert.Empty(t, refused, name)
		})
	}
}

func TestRun_AWrongCredentialLosesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		svc := &service{intervals: map[uint64]*wire.Interval{}, answer: func(*wire.Batch) int { return 401 }}
		c, spool := newCollector(t, newSource(), svc, dir)
		run(t, c, spool, 3*time.Minute)
		kept, err := filepath.Glob(filepath.Join(dir, "*.batch"))
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(kept), 3)
	})
}

func TestRun_AWallClockSetBackNeitherStretchesNorRepeatsAnInterval(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		svc := &service{intervals: map[uint64]*wire.Interval{}}
		src := newSource()
		src.wall = func() time.Time {
			now := time.Now()
			wall := now.AddDate(26, 0, 0)
			if now.Sub(src.begin) > 150*time.Second {
				wall = wall.Add(-time.Hour)
			}
			return wall
		}
		c, spool := newCollector(t, src, svc, t.TempDir())
		run(t, c, spool, 5*time.Minute)
		total := int64(0)
		for _, iv := range svc.intervals {
			total += iv.Usages[amount.CPU].Units[0]
			assert.LessOrEqual(t, iv.ElapsedMillis, int64(65_000))
			assert.GreaterOrEqual(t, iv.ToUnixMicros, iv.FromUnixMicros)
		}
		assert.InDelta(t, 300e6, total, 6e6)
	})
}

func TestRun_AHostThatCannotBeReadIsTriedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		svc := &service{intervals: map[uint64]*wire.Interval{}}
		src := newSource()
		src.broken = func(since time.Duration) error {
			if since > 70*time.Second && since < 190*time.Second {
				return errors.New("no more files")
			}
			return nil
		}
		c, spool := newCollector(t, src, svc, t.TempDir())
		run(t, c, spool, 6*time.Minute)
		total := int64(0)
		for _, iv := range svc.intervals {
			total += iv.Usages[amount.CPU].Units[0]
		}
		assert.InDelta(t, 360e6, total, 6e6, "counters went on meanwhile: nothing is missing")
	})
}

func TestRun_TellsItsSourceWhetherRulesAskForPrograms(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		src, svc := newSource(), &service{intervals: map[uint64]*wire.Interval{}, programs: true}
		c, spool := newCollector(t, src, svc, t.TempDir())
		run(t, c, spool, 90*time.Second)
		require.NotEmpty(t, src.apart)
		assert.NotContains(t, src.apart, false)
	})
}

// TestRun_ACollectorThatIsKilledLosesNothingThatItHadRead looks at the spool as it was before each reading of two and a
// half minutes, as a kill leaves it: another collector sends what had been read until then, once.
func TestRun_ACollectorThatIsKilledLosesNothingThatItHadRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, src := t.TempDir(), newSource()
		type moment struct {
			spool string
			until time.Duration // of the reading before
		}
		var moments []moment
		var first, last time.Duration
		src.broken = func(since time.Duration) error {
			m := moment{filepath.Join(t.TempDir(), "spool"), last - first}
			require.NoError(t, os.CopyFS(m.spool, os.DirFS(dir)))
			if moments = append(moments, m); len(moments) <= 2 { // of the first one nothing is compared
				first = since
			}
			last = since
			return nil
		}
		away := &service{answer: func(*wire.Batch) int { return 503 }}
		c, spool := newCollector(t, src, away, dir)
		run(t, c, spool, 150*time.Second)
		require.Greater(t, len(moments), 30)
		for _, m := range moments {
			svc := &service{intervals: map[uint64]*wire.Interval{}}
			heir, spool := newCollector(t, newSource(), svc, m.spool)
			run(t, heir, spool, time.Millisecond)
			total := int64(0)
			for _, iv := range svc.intervals {
				total += iv.Usages[amount.CPU].Units[0]
			}
			assert.InDelta(t, m.until.Microseconds(), total, 2000, "%v", m.until)
			assert.NoFileExists(t, filepath.Join(m.spool, "open"))
		}
	})
}

// TestRun_WhatIsUsedWhileNoCollectorRunsIsOneMarkedInterval kills a collector before each of its readings and during
// its writing, and starts another half a minute later: all time until then is told once.
func TestRun_WhatIsUsedWhileNoCollectorRunsIsOneMarkedInterval(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, src := t.TempDir(), newSource()
		var spools []string
		var first time.Duration
		src.broken = func(since time.Duration) error {
			spools = append(spools, filepath.Join(t.TempDir(), "spool"))
			if len(spools) == 2 {
				first = since
			}
			return os.CopyFS(spools[len(spools)-1], os.DirFS(dir))
		}
		c, spool := newCollector(t, src, &service{answer: func(*wire.Batch) int { return 503 }}, dir)
		run(t, c, spool, 80*time.Second)
		src.broken = nil
		between := filepath.Join(t.TempDir(), "spool") // killed after the interval was kept, and before its reading was
		require.NoError(t, os.CopyFS(between, os.DirFS(spools[8])))
		was, err := os.ReadFile(filepath.Join(spools[7], "base"))
		require.NoError(t, err)
		require.NoError(t, os.Rename(filepath.Join(between, "base"), filepath.Join(between, "base.next")))
		require.NoError(t, os.WriteFile(filepath.Join(between, "base"), was, 0o600))
		early := filepath.Join(t.TempDir(), "spool") // and before the interval was
		require.NoError(t, os.CopyFS(early, os.DirFS(spools[7])))
		next, err := os.ReadFile(filepath.Join(spools[8], "base"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(early, "base.next"), next, 0o600))
		for i, dir := range append(spools[2:], between, early) {
			time.Sleep(30 * time.Second)
			svc := &service{intervals: map[uint64]*wire.Interval{}}
			heir, spool := newCollector(t, src, svc, dir)
			begun := time.Since(src.begin)
			run(t, heir, spool, time.Millisecond)
			total, marked := int64(0), 0
			for _, iv := range svc.intervals {
				total += iv.Usages[amount.CPU].Units[0]
				if len(iv.Detail.Caveat) > 0 {
					assert.Equal(t, []string{"unwatched"}, iv.Detail.Caveat)
					assert.Equal(t, []int64{iv.ElapsedMillis}, iv.Detail.CaveatAmount)
					assert.Equal(t, iv.ElapsedMillis*1000, iv.Usages[amount.CPU].Units[0])
					marked++
				}
			}
			assert.InDelta(t, (begun - first).Microseconds(), total, 3000, "%d", i)
			assert.Equal(t, 1, marked, "%d", i)

			svc = &service{intervals: map[uint64]*wire.Interval{}} // and what is restarted is told no second time
			again, spool := newCollector(t, src, svc, dir)
			time.Sleep(time.Second)
			run(t, again, spool, time.Millisecond)
			require.Len(t, svc.intervals, 1, "%d", i)
			for _, iv := range svc.intervals {
				assert.InDelta(t, 1000, iv.ElapsedMillis, 5)
			}
		}
	})
}

func TestRun_WhatIsUsedWhileAHostIsDownOrForOverADayIsNotMadeUp(t *testing.T) {
	for what, change := range map[string]func(*source){
		"another boot": func(s *source) { s.boot = "c" },
		"over a day":   func(*source) { time.Sleep(24*time.Hour + time.Second) },
		"damaged":      nil,
	} {
		synctest.Test(t, func(t *testing.T) {
			dir, src := t.TempDir(), newSource()
			svc := &service{intervals: map[uint64]*wire.Interval{}}
			c, spool := newCollector(t, src, svc, dir)
			run(t, c, spool, 30*time.Second)
			before := len(svc.intervals)
			if change == nil {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "base"), []byte("cut short"), 0o600))
			} else {
				change(src)
			}
			c, spool = newCollector(t, src, svc, dir)
			run(t, c, spool, time.Millisecond)
			assert.Len(t, svc.intervals, before, what)
		})
	}
}

func TestRun_WhatIsDamagedOfAnUnfinishedIntervalHoldsUpNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "open"), []byte("cut short"), 0o600))
		svc := &service{intervals: map[uint64]*wire.Interval{}}
		c, spool := newCollector(t, newSource(), svc, dir)
		run(t, c, spool, 90*time.Second)
		assert.NotEmpty(t, svc.intervals)
		assert.NoFileExists(t, filepath.Join(dir, "open"))
	})
}

func TestSpool_AFileIsThereWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	s, err := collect.OpenSpool(dir)
	require.NoError(t, err)
	require.NoError(t, s.Put(7, []byte("seven")))
	require.NoError(t, s.Put(3, []byte("three")))
	_, err = collect.OpenSpool(dir)
	assert.ErrorContains(t, err, "in use by another collector")
	require.NoError(t, s.Close())
	// a crash while writing
	require.NoError(t, os.WriteFile(filepath.Join(dir, "00000000000000000009.batch.part"), []byte("ni"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), nil, 0o600))
	s, err = collect.OpenSpool(dir)
	require.NoError(t, err)
	kept, err := s.List()
	require.NoError(t, err)
	assert.Equal(t, []uint64{3, 7}, kept)
	seven, err := s.Get(7)
	require.NoError(t, err)
	assert.Equal(t, "seven", string(seven))
	require.NoError(t, s.Remove(3))
	kept, err = s.List()
	require.NoError(t, err)
	assert.Equal(t, []uint64{7}, kept)
}

// registry is names that learn: of the workloads of readings, and of one that an outside system tells more of later.
type registry struct {
	names
	mu     sync.Mutex
	toAsk  bool
	ended  []account.WorkloadID
	exited bool
}

func (r *registry) Workload(id account.WorkloadID) account.Workload {
	r.mu.Lock()
	defer r.mu.Unlock()
	w := account.Workload{Key: fmt.Sprintf("service:%d", id), Kind: amount.Service, Name: fmt.Sprintf("must-%d", id)}
	if r.exited {
		w.Facts = map[string]string{account.FactExit: "exit code 3"}
	}
	return w
}
func (r *registry) ToAsk() bool { r.mu.Lock(); defer r.mu.Unlock(); return r.toAsk }
func (r *registry) Ask(context.Context) []account.WorkloadID {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.toAsk, r.exited = false, len(r.ended) > 0
	return []account.WorkloadID{0}
}
func (r *registry) Ended(ids []account.WorkloadID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ended = append(r.ended, ids...)
	r.toAsk = r.toAsk || len(ids) > 0
}

// passing is a host on which a second workload runs from ten seconds on and is gone after thirty.
type passing struct{ source }

func (s *passing) Read(r *account.Reading) error {
	if err := s.source.Read(r); err != nil {
		return err
	}
	if since := time.Since(s.begin); since > 10*time.Second && since < 30*time.Second {
		r.Groups = append(r.Groups, account.Group{ID: 2, Workload: 1, Outer: -1, Has: account.HasCPU,
			CPUMicros: since.Microseconds()})
	}
	return nil
}

func TestCollector_TellsOfWorkloadsThatComeAndGoAtOnceAndHowTheyEnded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		var told []string
		to, err := client.New("http://books.example", "credential")
		require.NoError(t, err)
		begin := time.Now()
		to.Transport(roundTrip(func(r *http.Request) (*http.Response, error) {
			body, err := io.ReadAll(r.Body)
			if err != nil {
				return nil, err
			}
			answer := httptest.NewRecorder()
			if r.URL.Path == "/api/v1/notices" {
				n, err := wire.DecodeNotices(body)
				if err != nil {
					return nil, err
				}
				mu.Lock()
				for i, key := range n.Workloads.Key {
					told = append(told, fmt.Sprintf("%.0fs %s ended=%t exit=%q due in %.0fs",
						time.Since(begin).Seconds(), key, n.EndedMicros[i] != 0,
						n.Workloads.At(i).Facts[account.FactExit],
						time.UnixMicro(n.DueUnixMicros).Sub(time.UnixMicro(n.AtUnixMicros)).Seconds()))
				}
				mu.Unlock()
			}
			return answer.Result(), nil
		}))
		spool, err := collect.OpenSpool(t.TempDir())
		require.NoError(t, err)
		defer spool.Close()
		ctx, cancel := context.WithCancel(t.Context())
		s := &passing{source{boot: "b", wall: time.Now, begin: begin}}
		c := collect.New(collect.Options{Host: "cellar-1", Source: s, Names: &registry{}, Client: to, Spool: spool,
			Log: slog.New(slog.DiscardHandler)})
		done := make(chan error)
		go func() { done <- c.Run(ctx) }()
		time.Sleep(50 * time.Second)
		cancel()
		require.NoError(t, <-done)
		require.Len(t, told, 4, "%q", told)
		assert.Regexp(t, `^0s service:0 ended=false exit="" due in \d+s$`, told[0])
		assert.Regexp(t, `^10s service:1 ended=false exit="" due in`, told[1])
		assert.Regexp(t, `^30s service:1 ended=true exit="exit code 3"`, told[2])
		assert.Regexp(t, `^30s service:0 ended=false`, told[3], "what was learned of another meanwhile is told too")
	})
}

type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }
