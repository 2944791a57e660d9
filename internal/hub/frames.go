package hub

import (
	"context"
	"sync"
	"time"

	"vinescale/core/question"
	"vinescale/internal/frames"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

// The paces at which live figures may be followed.
const (
	FastestPace = time.Second
	SlowestPace = time.Minute
)

// wantedFor is for how long a pace is wanted after somebody asked at it: several of their questions may be lost.
const wantedFor = 12 * time.Second

// mostHurried is on how many hosts at once readings are hurried for somebody who looks at all of them.
const mostHurried = 32

// watched is at what pace hosts are looked at.
type watched struct {
	mu    sync.Mutex
	hosts map[string]wish // by name; "" for all
}

type wish struct {
	pace  time.Duration
	until time.Time
}

// look notes that somebody looks at a host, or at all of them (""), at a pace.
func (w *watched) look(host string, pace time.Duration, now time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if was := w.hosts[host]; was.until.Before(now) || pace <= was.pace {
		w.hosts[host] = wish{pace, now.Add(wantedFor)}
	}
}

// wanted is the pace at which a host is looked at; 0 where nobody looks. Of many hosts, none is hurried by those who
// look at all.
func (w *watched) wanted(host string, isOneOfMany bool, now time.Time) (pace time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, name := range []string{host, ""} {
		x, there := w.hosts[name]
		switch {
		case !there:
		case x.until.Before(now):
			delete(w.hosts, name)
		case name == "" && isOneOfMany:
		case pace == 0 || x.pace < pace:
			pace = x.pace
		}
	}
	return pace
}

// FrameSpan makes a span that live frames answer for: the newest stretch of a length (that of the pace where it is 0)
// of which one host, or all (""), have told. Asking notes that somebody looks at the pace, so that hosts which are read
// more slowly are hurried.
func (h *Hub) FrameSpan(ctx context.Context, hostName string, pace, length time.Duration) (question.Span, error) {
	if pace < FastestPace || pace > SlowestPace {
		return question.Span{}, problem(Invalid, "a pace of %s: figures are followed at %s to %s", pace, FastestPace,
			SlowestPace)
	}
	if length > frames.Held {
		return question.Span{}, problem(Invalid,
			"a live span of %s: frames are held for %s; leave out live to ask the book", length, frames.Held)
	}
	scope, err := h.scope(ctx, question.Span{}, hostName)
	if err != nil {
		return question.Span{}, err
	}
	now := h.options.Now()
	h.lookAt(ctx, hostName, pace)
	m := h.store.Frames.Now(scope.Hosts, now)
	if m.Hosts == 0 {
		m.At, m.Pace = now.Truncate(frames.UsualPace), frames.UsualPace
	}
	// A stretch holds whole ticks of the slowest host, so that all are told of for the same time.
	length = (max(length, pace) + m.Pace - 1) / m.Pace * m.Pace
	return question.Span{From: m.At.Add(-length).UTC(), To: m.At.UTC(), Frames: true}, nil
}

// Pace is how hosts are read while somebody looks at them.
type Pace struct {
	Hosts        int       `json:"hosts" doc:"That tell live frames."`
	TickSeconds  float64   `json:"tick_seconds" doc:"Between readings of the slowest of them."`
	ReadingCores float64   `json:"reading_cores" doc:"CPUs that their readings keep busy, together."`
	UsualCores   float64   `json:"usual_cores" doc:"The same, were they read as often as they are when nobody looks."`
	At           time.Time `json:"at" doc:"Until when all of them have told."`
}

// Pace tells how one host, or all (""), are read now, and what that costs them.
func (h *Hub) Pace(ctx context.Context, hostName string) (Pace, error) {
	scope, err := h.scope(ctx, question.Span{}, hostName)
	if err != nil {
		return Pace{}, err
	}
	m := h.store.Frames.Now(scope.Hosts, h.options.Now())
	return Pace{Hosts: m.Hosts, TickSeconds: m.Pace.Seconds(), ReadingCores: m.Reading, UsualCores: m.Usual, At: m.At},
		nil
}

// Frame takes in a live frame of a host: what one tick counted. It returns how often the host is wanted to be read;
// 0 for as often as it is anyway. Nothing of a frame goes into the book but the names of workloads that it does not
// know yet, which the interval that the tick is part of would bring too.
func (h *Hub) Frame(ctx context.Context, host store.Host, b *wire.Batch, body []byte) (time.Duration, error) {
	if b.Host != host.Name {
		return 0, problem(Denied,
			"this frame is of host %q, and the credential is for %q: give each collector its own host's credential",
			b.Host, host.Name)
	}
	now := h.options.Now()
	for _, iv := range b.Intervals {
		at := time.UnixMicro(iv.ToUnixMicros)
		if at.After(now.Add(clockTolerance)) || at.Before(now.Add(-frames.Held)) {
			return 0, problem(Invalid, "a frame that ends at %s is not of now by this service's clock: set the host's "+
				"clock", at.UTC().Format(time.RFC3339))
		}
	}
	if err := h.hold(ctx, host, b, body, true); err != nil {
		return 0, err
	}
	if err := h.passNew(ctx, &host, &frames.Frame{Host: host.ID, Body: body}); err != nil {
		return 0, err
	}
	return h.watched.wanted(host.Name, h.store.Frames.Hosts() > mostHurried, now), nil
}

// hold puts names to a frame and holds it. Where it makes known, workloads that the book does not know are noted there.
func (h *Hub) hold(ctx context.Context, host store.Host, b *wire.Batch, body []byte, makesKnown bool) error {
	if len(b.Intervals) != 1 {
		return problem(Invalid, "a frame holds one interval, and this one %d", len(b.Intervals))
	}
	iv := b.Intervals[0]
	keys := iv.GetWorkloads().GetKey()
	_, version, err := h.rules(ctx)
	if err != nil {
		return err
	}
	users, unknown, err := h.store.UsersOf(ctx, host.ID, keys, version)
	if err != nil {
		return err
	}
	if len(unknown) > 0 && makesKnown {
		if err := h.Notice(ctx, host, wire.NoticesOf(b.Host, iv, unknown)); err != nil {
			return err
		}
		if users, _, err = h.store.UsersOf(ctx, host.ID, keys, version); err != nil {
			return err
		}
	}
	f, err := frames.NewFrame(host.ID, b, body, users)
	if err != nil {
		return problem(Invalid, "%v", err)
	}
	if h.watched.wanted(host.Name, false, h.options.Now()) > 0 {
		h.store.Frames.PutDecoded(f, iv)
	} else {
		h.store.Frames.Put(f)
	}
	return nil
}
