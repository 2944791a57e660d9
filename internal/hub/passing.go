package hub

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"strings"
	"sync"
	"time"

	"vinescale/internal/frames"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

// Frames come to whichever instance of the service a collector sends to, and somebody may look by another. Who looks
// has his instance call for the frames over the book's database, every few seconds; the others pass on what comes in
// while they hear that. Nothing of it is stored.

// The channels of the database on which instances call each other.
const (
	wantsChannel  = "vinescale_wants"
	framesChannel = "vinescale_frames"
)

// callEvery is how often an instance repeats what is looked at by it.
const callEvery = 4 * time.Second

// pieceBytes is how much of a frame fits into one call.
const pieceBytes = 5700

// passing is what an instance knows of the others.
type passing struct {
	me    string   // tells its own calls from others'
	turns sync.Map // by host, a *sync.Mutex: whoever has it passes frames of that on, in their order

	mu     sync.Mutex
	ear    string               // another one each time that the others begin to be heard; "" until they are
	called map[string]time.Time // by host ("" for all): when that was called for last
	wanted map[wanting]time.Time
	pieces map[string][]string // of frames that are not here wholly, by instance and host
}

func newPassing() passing {
	return passing{me: rand.Text(), called: map[string]time.Time{}, wanted: map[wanting]time.Time{},
		pieces: map[string][]string{}}
}

// wanting is whoever wants the frames of a host, and until when is noted of each: who could not hear for a while wants
// anew what is held.
type wanting struct{ by, ear, host string }

// want is a call for frames.
type want struct {
	By   string        `json:"by"`
	Ear  string        `json:"ear"`
	Host string        `json:"host"` // "" for all
	Pace time.Duration `json:"pace"`
}

// begin notes that the others are heard from now on: only then is it of use to call.
func (p *passing) begin() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ear = rand.Text()
	clear(p.called)
}

// callFor calls for the frames of a host, or of all (""), unless that was done a moment ago or they would not be heard.
func (h *Hub) callFor(ctx context.Context, host string, pace time.Duration) {
	now := time.Now()
	p := &h.passing
	p.mu.Lock()
	isEarly := p.ear == "" || now.Sub(p.called[host]) < callEvery
	if !isEarly {
		p.called[host] = now
	}
	w := want{p.me, p.ear, host, pace}
	p.mu.Unlock()
	if isEarly {
		return
	}
	text, err := json.Marshal(w)
	if err == nil {
		err = h.store.Call(ctx, wantsChannel, string(text))
	}
	if err != nil && ctx.Err() == nil {
		slog.Warn("could not call for live frames of other instances", "error", err)
	}
}

// Hear takes in what other instances call, until the context ends.
func (h *Hub) Hear(ctx context.Context) {
	h.store.Hear(ctx, []string{wantsChannel, framesChannel, actsChannel}, h.passing.begin, func(channel, text string) {
		var err error
		switch channel {
		case wantsChannel:
			err = h.heardWant(ctx, text)
		case framesChannel:
			err = h.heardPiece(ctx, text)
		case actsChannel:
			h.orders.wake(text)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("could not take in what another instance called", "channel", channel, "error", err)
		}
	})
}

// heardWant notes that another instance wants frames. Of a host that was not wanted before, it is given those that are
// held; of all hosts, the newest of each follow within their next tick.
func (h *Hub) heardWant(ctx context.Context, text string) error {
	var w want
	if err := json.Unmarshal([]byte(text), &w); err != nil {
		return err
	}
	p := &h.passing
	if w.By == p.me || w.Pace < FastestPace || w.Pace > SlowestPace {
		return nil
	}
	h.watched.look(w.Host, w.Pace, h.options.Now())
	if w.Host == "" {
		p.note(&w)
		return nil
	}
	host, err := h.Host(ctx, w.Host)
	if err != nil {
		return err
	}
	defer p.takeTurn(host.ID)() // from when it is wanted on, what comes waits for what is held
	if !p.note(&w) {
		return nil
	}
	for _, f := range h.store.Frames.Of(host.ID) {
		if err := h.pass(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// note notes a want for a while, and tells whether it is new.
func (p *passing) note(w *want) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	maps.DeleteFunc(p.wanted, func(_ wanting, until time.Time) bool { return until.Before(now) })
	who := wanting{w.By, w.Ear, w.Host}
	_, isKnown := p.wanted[who]
	p.wanted[who] = now.Add(wantedFor)
	return !isKnown
}

// isWanted tells whether another instance wants the frames of a host.
func (p *passing) isWanted(host string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	for who, until := range p.wanted {
		if (who.host == host || who.host == "") && until.After(now) {
			return true
		}
	}
	return false
}

// takeTurn waits until nobody else passes frames of a host on, and keeps others from it until it is left: a frame that
// comes before an older one has the other instances leave that out, and the pieces of two are no frame.
func (p *passing) takeTurn(host int32) (leave func()) {
	turn, _ := p.turns.LoadOrStore(host, &sync.Mutex{})
	turn.(*sync.Mutex).Lock()
	return turn.(*sync.Mutex).Unlock
}

// passNew gives a frame that just came to the other instances, where they want it.
func (h *Hub) passNew(ctx context.Context, host *store.Host, f *frames.Frame) error {
	if !h.passing.isWanted(host.Name) {
		return nil
	}
	defer h.passing.takeTurn(host.ID)()
	return h.pass(ctx, f)
}

// pass gives a frame to the other instances, in pieces; it has the turn of its host.
func (h *Hub) pass(ctx context.Context, f *frames.Frame) error {
	n := (len(f.Body) + pieceBytes - 1) / pieceBytes
	for i := range n {
		piece := f.Body[i*pieceBytes : min((i+1)*pieceBytes, len(f.Body))]
		text := fmt.Sprintf("%s %d %d %d %s", h.passing.me, f.Host, i, n, base64.StdEncoding.EncodeToString(piece))
		if err := h.store.Call(ctx, framesChannel, text); err != nil {
			return fmt.Errorf("pass a frame of host %d on: %w", f.Host, err)
		}
	}
	return nil
}

// heardPiece takes in a piece of a frame, and holds the frame when all of it is there. Pieces of one frame come in
// their order; where one is missing, the frame is lost.
func (h *Hub) heardPiece(ctx context.Context, text string) error {
	var by, encoded string
	var hostID int32
	var i, n int
	if _, err := fmt.Sscan(text, &by, &hostID, &i, &n, &encoded); err != nil {
		return err
	}
	p := &h.passing
	if by == p.me {
		return nil
	}
	key := fmt.Sprint(by, " ", hostID)
	p.mu.Lock()
	pieces := p.pieces[key]
	if i == 0 {
		pieces = nil
	}
	if i != len(pieces) {
		delete(p.pieces, key)
		p.mu.Unlock()
		return nil
	}
	pieces = append(pieces, encoded)
	p.pieces[key] = pieces
	if len(pieces) == n {
		delete(p.pieces, key)
	}
	p.mu.Unlock()
	if len(pieces) < n {
		return nil
	}
	var body []byte
	for _, x := range pieces {
		piece, err := base64.StdEncoding.DecodeString(strings.TrimSpace(x))
		if err != nil {
			return err
		}
		body = append(body, piece...)
	}
	b, err := wire.Decode(body, wire.TypeProtobuf, "zstd")
	if err != nil {
		return err
	}
	host, err := h.HostByID(ctx, hostID)
	if err != nil {
		return err
	}
	return h.hold(ctx, host, b, body, false)
}

// lookAt notes that somebody looks at a host, or at all (""), at a pace: here, and at the other instances.
func (h *Hub) lookAt(ctx context.Context, host string, pace time.Duration) {
	h.watched.look(host, pace, h.options.Now())
	h.callFor(ctx, host, pace)
}
