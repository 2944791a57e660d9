package collect

import (
	"context"
	"errors"
	"net/http"
	"runtime"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/client"
	"vinescale/internal/wire"
)

// Frames are what each tick counted, told at once to whoever looks. They are told once and kept nowhere: one that
// cannot be sent in time is dropped, since the minute holds what it told.

const (
	mostFrames = 2                // that wait to be sent; a newer one that finds no room is dropped
	asWanted   = 15 * time.Second // for how long a host is read at the pace that the service asked for last
	fastest    = time.Second      // no host is read more often
	longestOff = 30 * time.Second // between two attempts at a service that takes no frames for now
	unknownOff = 10 * time.Minute // the same, at a service that is too old to know of frames
)

// framing is what a collector knows of those who look at its host.
type framing struct {
	waiting chan []byte
	wanted  *atomic.Int64 // milliseconds between readings; 0 for as the host is read anyway
	until   *atomic.Int64 // when that was asked for long ago, by Unix milliseconds
}

func newFraming() framing {
	return framing{make(chan []byte, mostFrames), &atomic.Int64{}, &atomic.Int64{}}
}

// pace is how long it is until the next reading.
func (f *framing) pace(now time.Time, tick time.Duration) time.Duration {
	wanted := time.Duration(f.wanted.Load()) * time.Millisecond
	if wanted == 0 || now.UnixMilli() > f.until.Load() {
		return tick
	}
	return min(max(wanted, fastest), tick)
}

// frame hands a frame to its sender. It never waits.
func (c *Collector) frame(iv *account.Interval, took time.Duration) {
	if len(c.framing.waiting) == mostFrames {
		return
	}
	pace := &wire.Pace{TickMillis: uint32(c.framing.pace(time.Now(), c.Tick).Milliseconds()),
		ReadingMicros: took.Microseconds()}
	m := wire.FromInterval(iv, uint64(iv.To.UnixMicro()), c.Source.Mode(), c.Names)
	body, err := wire.Encode(&wire.Batch{Version: wire.Version, Host: c.Host, Intervals: []*wire.Interval{m},
		Pace: pace})
	if err != nil {
		c.Log.Warn("could not encode a frame", "host", c.Host, "error", err)
		return
	}
	select {
	case c.framing.waiting <- body:
	default:
	}
}

// sendFrames sends frames until the context ends.
func (c *Collector) sendFrames(ctx context.Context) {
	var off time.Duration
	for {
		select {
		case <-ctx.Done():
			return
		case body := <-c.framing.waiting:
			var answer struct {
				Tick int64 `json:"tick_millis"`
			}
			inTime, cancel := context.WithTimeout(ctx, c.Tick)
			err := c.Client.SendFrame(inTime, body, &answer)
			cancel()
			if err == nil {
				off = 0
				c.framing.until.Store(time.Now().Add(asWanted).UnixMilli())
				c.framing.wanted.Store(answer.Tick)
				continue
			}
			off = min(max(2*off, time.Second), longestOff)
			var p *client.Problem
			if errors.As(err, &p) && p.Status == http.StatusNotFound {
				off = unknownOff
			}
			c.Log.Debug("a live frame was not taken", "host", c.Host, "trying_again_in", off, "error", err)
			if !c.rest(ctx, off) {
				return
			}
		}
	}
}

// rest lets frames go for some time; false where the context ended meanwhile.
func (c *Collector) rest(ctx context.Context, off time.Duration) bool {
	over := time.After(off)
	for {
		select {
		case <-ctx.Done():
			return false
		case <-over:
			return true
		case <-c.framing.waiting:
		}
	}
}

// readingClock measures the CPU time of one thread, which the reading keeps for itself meanwhile.
type readingClock struct{ began time.Duration }

func beginReading() readingClock {
	runtime.LockOSThread()
	return readingClock{threadTime()}
}

func (r readingClock) took() time.Duration { return threadTime() - r.began }

func (r readingClock) end() { runtime.UnlockOSThread() }

// threadTime is the CPU time that this thread has had; 0 where the kernel does not tell.
func threadTime() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
