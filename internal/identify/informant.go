package identify

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"vinescale/core/account"
)

// Informant is another system that knows what the kernel's files do not tell of some workloads: names, labels, owners,
// limits, how they ended. It is asked only when something new appears that it may know, or when that ended.
type Informant interface {
	// Name says who is asked, with its address, for messages.
	Name() string
	// Knows tells whether it may know a workload. It does not ask.
	Knows(w account.Workload) bool
	// Ask returns, by key, what it knows of workloads: fields that are set, and a UID of 0 or more, replace what was
	// known; labels and facts are added. A workload it does not know is left out.
	Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error)
}

// Untrue is the value by which an informant takes a fact back that a process had claimed.
const Untrue = "\x00"

const (
	askFor      = 2 * time.Second  // the longest one question may take
	askAgain    = 5 * time.Second  // when it did not know a workload: the engine may tell of it a moment later
	askStarting = 30 * time.Second // while a service is starting
	tries       = 3                // how often it is asked about one workload
	firstPause  = 15 * time.Second // after it could not be asked; doubled each time
	longPause   = 5 * time.Minute
)

// asking is what is to be asked of informants.
type asking struct {
	informants []*informing
	busy       sync.Mutex // one asks at a time
}

type informing struct {
	Informant
	mu      sync.Mutex
	waiting map[account.WorkloadID]question
	posed   int       // questions so far
	resting time.Time // not asked before
	pause   time.Duration
}

type question struct {
	number int       // another of the same workload, posed while this one is asked, is another question
	at     time.Time // not before
	tries  int
}

func newAsking(informants []Informant) *asking {
	a := &asking{}
	for _, x := range informants {
		a.informants = append(a.informants, &informing{Informant: x, waiting: map[account.WorkloadID]question{},
			pause: firstPause})
	}
	return a
}

func (a *asking) add(id account.WorkloadID, w account.Workload) {
	for _, x := range a.informants {
		if x.Knows(w) {
			x.mu.Lock()
			x.posed++
			x.waiting[id] = question{number: x.posed}
			x.mu.Unlock()
		}
	}
}

// Ended asks once more about workloads that are no more: how they ended.
func (r *Registry) Ended(ids []account.WorkloadID) {
	for _, id := range ids {
		r.asking.add(id, r.Workload(id))
	}
}

// ToAsk tells whether there is something to ask now.
func (r *Registry) ToAsk() bool {
	now := time.Now()
	for _, x := range r.asking.informants {
		if len(x.due(now)) > 0 {
			return true
		}
	}
	return false
}

// Ask asks the informants what they know of workloads that appeared or ended, for a few seconds at most. One that does
// not answer is left alone for a while, and what it could not tell says so. It returns the workloads that changed.
func (r *Registry) Ask(ctx context.Context) []account.WorkloadID {
	r.asking.busy.Lock()
	defer r.asking.busy.Unlock()
	changed := map[account.WorkloadID]bool{}
	for _, x := range r.asking.informants {
		due := x.due(time.Now())
		if len(due) == 0 {
			continue
		}
		ids := slices.Collect(maps.Keys(due))
		about := make([]account.Workload, len(ids))
		for i, id := range ids {
			about[i] = r.Workload(id)
		}
		limited, cancel := context.WithTimeout(ctx, askFor)
		answer, err := x.askSafely(limited, about)
		cancel()
		for _, id := range r.note(x, due, ids, about, answer, err) {
			changed[id] = true
		}
	}
	var out []account.WorkloadID
	for id := range changed {
		out = append(out, id)
	}
	return out
}

// askSafely asks, and comes back at the end of its time even when the informant does not.
func (x *informing) askSafely(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	type reply struct {
		answer map[string]account.Workload
		err    error
	}
	done := make(chan reply, 1)
	go func() {
		answer, err := x.Ask(ctx, about)
		done <- reply{answer, err}
	}()
	select {
	case r := <-done:
		return r.answer, r.err
	case <-ctx.Done():
		return nil, fmt.Errorf("no answer within %s", askFor)
	}
}

func (x *informing) due(now time.Time) map[account.WorkloadID]question {
	x.mu.Lock()
	defer x.mu.Unlock()
	if now.Before(x.resting) {
		return nil
	}
	due := map[account.WorkloadID]question{}
	for id, q := range x.waiting {
		if !now.Before(q.at) {
			due[id] = q
		}
	}
	return due
}

// note takes in an answer and returns the workloads it changed.
func (r *Registry) note(x *informing, asked map[account.WorkloadID]question, ids []account.WorkloadID,
	about []account.Workload, answer map[string]account.Workload, err error) []account.WorkloadID {
	x.mu.Lock()
	defer x.mu.Unlock()
	now := time.Now()
	if err != nil {
		x.resting = now.Add(x.pause)
		x.pause = min(2*x.pause, longPause)
		for _, id := range ids {
			r.SetFact(id, account.FactUnnamed, fmt.Sprintf("%s: %v", x.Name(), err))
		}
		return ids
	}
	x.pause = firstPause
	var changed []account.WorkloadID
	for i, id := range ids {
		a, ok := answer[about[i].Key]
		q := asked[id]
		starting := ok && strings.HasPrefix(a.Facts[account.FactState], "starting")
		if q.tries++; x.waiting[id].number != q.number {
			// it ended meanwhile: how is still to be asked
		} else if starting {
			x.waiting[id] = question{number: q.number, at: now.Add(askStarting)} // until it has started, or failed to
		} else if ok || q.tries >= tries {
			delete(x.waiting, id)
		} else {
			q.at = now.Add(askAgain)
			x.waiting[id] = q
		}
		if ok && r.learn(id, a) {
			changed = append(changed, id)
		}
	}
	return changed
}

// learn adds what an informant said of a workload.
func (r *Registry) learn(id account.WorkloadID, a account.Workload) bool {
	var untrue []string
	for name, value := range a.Facts {
		if value == Untrue {
			untrue = append(untrue, name)
		}
	}
	a = soundWorkload(a)
	r.mu.Lock()
	defer r.mu.Unlock()
	w := &r.workloads[id]
	before := *w
	w.Name, w.Owner, w.Outer = or(a.Name, w.Name), or(a.Owner, w.Owner), or(a.Outer, w.Outer)
	if a.UID >= 0 {
		w.UID = a.UID
	}
	if a.Owner != "" && a.UID < 0 {
		if uid, ok := r.users.UID(a.Owner); ok {
			w.UID = uid
		}
	}
	if a.Owner == "" && a.UID >= 0 {
		w.Owner = r.users.Name(a.UID)
	}
	if len(a.Labels) > 0 {
		w.Labels = maps.Clone(w.Labels)
		maps.Copy(w.Labels, a.Labels)
	}
	w.Facts = maps.Clone(w.Facts)
	maps.Copy(w.Facts, a.Facts)
	for _, name := range append(untrue, account.FactUnnamed) {
		delete(w.Facts, name)
	}
	return before.Name != w.Name || before.Owner != w.Owner || before.UID != w.UID || before.Outer != w.Outer ||
		!maps.Equal(before.Labels, w.Labels) || !maps.Equal(before.Facts, w.Facts)
}
