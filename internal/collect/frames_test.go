package collect_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/wire"
)

// audience is a service that also takes frames, and asks for them at a pace.
type audience struct {
	service
	frames []*wire.Batch
	pace   func(time.Time) time.Duration // 0 for as the host is read anyway
	status int                           // of an answer to a frame; 0 for 200
	asked  int
}

func (a *audience) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Path != "/api/v1/frames" {
		return a.service.RoundTrip(r)
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	b, err := wire.Decode(body, r.Header.Get("Content-Type"), r.Header.Get("Content-Encoding"))
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked++
	w := httptest.NewRecorder()
	if a.status != 0 {
		w.WriteHeader(a.status)
		return w.Result(), nil
	}
	a.frames = append(a.frames, b)
	tick := time.Duration(0)
	if a.pace != nil {
		tick = a.pace(time.Now())
	}
	if err := json.NewEncoder(w).Encode(map[string]any{"tick_millis": tick.Milliseconds()}); err != nil {
		return nil, err
	}
	return w.Result(), nil
}

// uneven is a source whose workload uses more from second to second, so that a peak depends on how long a tick is.
type uneven struct{ *source }

func (u *uneven) Read(r *account.Reading) error {
	if err := u.source.Read(r); err != nil {
		return err
	}
	s := r.Mono.Seconds()
	r.Groups[0].CPUMicros = int64(s * s * 1e4)
	return nil
}

// TestFrames_AMinutesAddUpToTheMinuteHoweverFastTheyAreRead has somebody look for a while: the book must not tell.
func TestFrames_AMinutesAddUpToTheMinuteHoweverFastTheyAreRead(t *testing.T) {
	minutes := func(pace func(time.Time) time.Duration) (*audience, map[int64]*wire.Interval) {
		a := &audience{service: service{intervals: map[uint64]*wire.Interval{}}, pace: pace}
		synctest.Test(t, func(t *testing.T) {
			c, spool := newCollector(t, newSource(), &a.service, t.TempDir())
			c.Source = &uneven{c.Source.(*source)}
			c.Client.Transport(a)
			run(t, c, spool, 4*time.Minute+7*time.Second)
		})
		byBegin := map[int64]*wire.Interval{}
		for _, iv := range a.intervals {
			byBegin[iv.FromUnixMicros] = iv
		}
		return a, byBegin
	}
	begin := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC) // where synctest's clock begins
	watched, fast := minutes(func(now time.Time) time.Duration {
		if at := now.Sub(begin); at > 70*time.Second && at < 150*time.Second {
			return time.Second
		}
		return 0
	})
	_, plain := minutes(nil)
	require.Len(t, fast, len(plain))
	for from, iv := range plain {
		got := fast[from]
		require.NotNil(t, got)
		assert.Equal(t, []int64{iv.ElapsedMillis, iv.Usages[amount.CPU].Units[0], iv.Usages[amount.CPU].Peak[0]},
			[]int64{got.ElapsedMillis, got.Usages[amount.CPU].Units[0], got.Usages[amount.CPU].Peak[0]},
			"the peak is that of the usual tick")
		assert.Equal(t, iv.Ticks, got.Ticks)
	}
	paces, sums, over := map[uint32]int{}, map[int64]int64{}, map[int64]int64{}
	for _, b := range watched.frames {
		iv := b.Intervals[0]
		paces[b.Pace.TickMillis]++
		minute := iv.FromUnixMicros / 60e6
		sums[minute] += iv.Usages[amount.CPU].Units[0]
		over[minute] += iv.ElapsedMillis
		assert.Nil(t, iv.Processes)
	}
	assert.Greater(t, paces[1000], 60)
	assert.Greater(t, paces[5000], 20)
	whole := 0
	for from, iv := range fast {
		if iv.Ticks == 12 && from%60e6 < 1e6 {
			whole++
			assert.Equal(t, []int64{iv.Usages[amount.CPU].Units[0], iv.ElapsedMillis},
				[]int64{sums[from/60e6], over[from/60e6]})
		}
	}
	assert.GreaterOrEqual(t, whole, 3)
}

// TestFrames_AServiceThatTakesNoneIsLeftAlone: intervals are told all the same.
func TestFrames_AServiceThatTakesNoneIsLeftAlone(t *testing.T) {
	for status, most := range map[int]int{http.StatusNotFound: 1, http.StatusServiceUnavailable: 16} {
		a := &audience{service: service{intervals: map[uint64]*wire.Interval{}}, status: status}
		synctest.Test(t, func(t *testing.T) {
			c, spool := newCollector(t, newSource(), &a.service, t.TempDir())
			c.Client.Transport(a)
			run(t, c, spool, 5*time.Minute)
		})
		assert.GreaterOrEqual(t, len(a.intervals), 5)
		assert.LessOrEqual(t, a.asked, most, status)
		assert.Positive(t, a.asked)
	}
}

// TestFrames_OneThatHangsHoldsNothingUp: the reading goes on, and what was not sent in time is dropped.
func TestFrames_OneThatHangsHoldsNothingUp(t *testing.T) {
	a := &audience{service: service{intervals: map[uint64]*wire.Interval{}}}
	hang := hanging{a, &sync.Mutex{}}
	synctest.Test(t, func(t *testing.T) {
		c, spool := newCollector(t, newSource(), &a.service, t.TempDir())
		c.Client.Transport(hang)
		run(t, c, spool, 3*time.Minute)
	})
	ticks := uint32(0)
	for _, iv := range a.intervals {
		ticks += iv.Ticks
	}
	assert.GreaterOrEqual(t, ticks, uint32(35))
}

type hanging struct {
	*audience
	mu *sync.Mutex
}

func (h hanging) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Path == "/api/v1/frames" {
		<-r.Context().Done()
		return nil, r.Context().Err()
	}
	return h.audience.RoundTrip(r)
}
