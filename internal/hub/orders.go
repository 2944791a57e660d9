package hub

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"vinescale/core/act"
	"vinescale/internal/store"
)

// Orders go to hosts over connections that these open themselves: a collector asks for orders and is answered when
// there are some. An act may be asked for at one instance of the service while the host asks at another: who waits is
// woken by a call over the book's database, and looks there.

// actsChannel is the channel of the database on which instances tell each other of acts.
const actsChannel = "vinescale_acts"

// waiting wakes who waits in a room: a host for orders, or whoever asked for what comes of an act.
type waiting struct {
	mu    sync.Mutex
	rooms map[string]map[chan struct{}]struct{}
}

// listen returns a channel that is closed when the room is woken; forget ends it.
func (w *waiting) listen(room string) (woken <-chan struct{}, forget func()) {
	c := make(chan struct{})
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.rooms == nil {
		w.rooms = map[string]map[chan struct{}]struct{}{}
	}
	if w.rooms[room] == nil {
		w.rooms[room] = map[chan struct{}]struct{}{}
	}
	w.rooms[room][c] = struct{}{}
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.rooms[room], c)
		if len(w.rooms[room]) == 0 {
			delete(w.rooms, room)
		}
	}
}

func (w *waiting) wake(room string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.rooms[room] {
		close(c)
	}
	delete(w.rooms, room)
}

// callOrders wakes a host that waits for orders (0 for none) and who waits for an act ("" for none), here and at the
// other instances.
func (h *Hub) callOrders(ctx context.Context, host int32, actID string) {
	room := actRoom(actID)
	if actID == "" {
		room = hostRoom(host)
	}
	h.orders.wake(room)
	if err := h.store.Call(ctx, actsChannel, room); err != nil && ctx.Err() == nil {
		slog.Warn("other instances could not be told of an act; they look by themselves", "error", err)
	}
}

// lookForOrders is how often an instance looks for acts that it was not told of.
const lookForOrders = 3 * time.Second

// WatchActs ends acts that were not done in time and wakes the hosts that have something to be told, until the context
// ends.
func (h *Hub) WatchActs(ctx context.Context) {
	for {
		hosts, err := h.store.ExpireActs(ctx, h.options.Now())
		h.duty(ctx, "look for acts", err)
		for _, id := range hosts {
			h.orders.wake(hostRoom(id))
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookForOrders):
		}
	}
}

// Orders answers a host that asks for orders: when there are some, or with none after a time. Nonce is the host's own,
// which each order is signed with.
func (h *Hub) Orders(ctx context.Context, host store.Host, nonce string, wait time.Duration) ([]act.Signed, error) {
	if len(nonce) < 16 || len(nonce) > 64 {
		return nil, problem(Invalid, "a nonce has 16 to 64 characters, chosen at random for each request")
	}
	over := time.After(wait)
	for {
		woken, forget := h.orders.listen(hostRoom(host.ID))
		list, err := h.store.TakeOrders(ctx, host.ID, h.options.Now().UTC())
		if err != nil || len(list) > 0 {
			forget()
			if err != nil {
				return nil, err
			}
			return h.sign(ctx, host.Name, nonce, list)
		}
		select {
		case <-woken:
		case <-over:
			forget()
			return []act.Signed{}, nil
		case <-ctx.Done():
			forget()
			return nil, ctx.Err()
		}
		forget()
	}
}

func (h *Hub) sign(ctx context.Context, host, nonce string, list []store.Intervention) ([]act.Signed, error) {
	key, err := h.store.OrderKey(ctx)
	if err != nil {
		return nil, err
	}
	var signed []act.Signed
	for i := range list {
		x := &list[i]
		o := act.Order{
			ID:      x.ID,
			Host:    host,
			Errand:  act.ToPreview,
			Request: x.Request,
			Whose:   x.Whose,
			Nonce:   nonce,
			Lives:   x.ExpiresAt.Sub(h.options.Now()),
		}
		switch x.State {
		case act.Sent:
			o.Errand, o.Identity = act.ToCarry, x.Preview.Identity
		case act.Unknown:
			o.Errand, o.Lives = act.ToRecall, 0
		}
		s, err := act.Sign(key, &o)
		if err != nil {
			return nil, err
		}
		signed = append(signed, s)
	}
	return signed, nil
}

// Report is what a host says of an order: its preview, why it refuses, or what came of it.
type Report struct {
	Preview *act.Preview `json:"preview,omitempty"`
	Refusal string       `json:"refusal,omitempty"`
	Outcome *act.Outcome `json:"outcome,omitempty"`
}

// TakeReport takes in what a host says of an order of its own. What comes again changes nothing.
func (h *Hub) TakeReport(ctx context.Context, host store.Host, id string, r *Report) error {
	now := h.options.Now().UTC()
	from, change := []act.State{act.Asked}, h.previewed(ctx, r, now)
	if r.Outcome != nil {
		from = []act.State{act.Confirmed, act.Sent, act.Unknown, act.Expired}
		change = func(x *store.Intervention) error {
			if x.ConfirmedAt == nil {
				return problem(Conflict, "act %s was not confirmed", id)
			}
			if x.State, x.Outcome = r.Outcome.State, r.Outcome; x.State.IsOver() && x.State != act.Unknown {
				x.OverAt = &now
			}
			x.Detail = ""
			return nil
		}
		if !slices.Contains([]act.State{act.Done, act.Partly, act.Failed, act.Refused, act.Expired, act.Unknown},
			r.Outcome.State) {
			return problem(Invalid, "an outcome cannot be %q", r.Outcome.State)
		}
	} else if r.Preview == nil && r.Refusal == "" {
		return problem(Invalid, "a report has a preview, a refusal or an outcome")
	}
	x, err := h.store.Advance(ctx, id, from, func(x *store.Intervention) error {
		if x.HostID == nil || *x.HostID != host.ID {
			return problem(Denied, "act %s is not of %s", id, host.Name)
		}
		return change(x)
	})
	switch {
	case errors.Is(err, store.ErrNotFound):
		return problem(NotFound, "there is no act %q", id)
	case errors.Is(err, store.ErrExists):
		return nil // it was reported before, or came too late to matter
	case err != nil:
		return err
	}
	h.callOrders(ctx, 0, id)
	if r.Outcome != nil {
		return h.store.NoteAct(ctx, byHost+host.Name, string(x.State)+" "+string(x.Verb), host.Name,
			map[string]any{"act": id, "detail": r.Outcome.Detail})
	}
	return nil
}

// previewed takes in a preview. One that touches what its asker may not act on is refused, and not shown.
func (h *Hub) previewed(ctx context.Context, r *Report, now time.Time) func(*store.Intervention) error {
	return func(x *store.Intervention) error {
		if r.Preview == nil {
			x.State, x.Detail, x.OverAt = act.Refused, longestOf(r.Refusal), &now
			return nil
		}
		x.Preview, x.PreviewedAt = r.Preview, &now
		var denied *Problem
		if err := h.mayTouch(ctx, &x.Scope, x); errors.As(err, &denied) {
			x.State, x.Detail, x.Preview, x.OverAt = act.Refused, denied.Detail, nil, &now
			return nil
		} else if err != nil {
			return err
		}
		x.State, x.ExpiresAt = act.Previewed, now.Add(previewLife)
		return nil
	}
}

// longestOf keeps what a host says to a length that is sound to keep.
func longestOf(s string) string {
	const most = 2000
	return strings.ToValidUTF8(s[:min(len(s), most)], "")
}
