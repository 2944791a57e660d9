package store

import (
	"context"
	"sync"
)

// Notes keep what was read of the lists that nearly every answer needs, such as all hosts, so that whoever answers many
// questions at one moment reads them once. They are of that moment, and are let go with it.
type Notes struct {
	mu  sync.Mutex
	all map[string]*note

	workloads map[int64]Workload
}

type note struct {
	once  sync.Once
	value any
	err   error
}

type notesKey struct{}

// WithNotes has everything that is read with a context use some notes.
func WithNotes(ctx context.Context, n *Notes) context.Context {
	return context.WithValue(ctx, notesKey{}, n)
}

// noted reads something, unless it is in the context's notes. What is returned may be another's too: it must not be
// changed. What could not be read is read again by the next who needs it.
func noted[T any](ctx context.Context, key string, read func() (T, error)) (T, error) {
	n, there := ctx.Value(notesKey{}).(*Notes)
	if !there {
		return read()
	}
	n.mu.Lock()
	if n.all == nil {
		n.all = map[string]*note{}
	}
	x := n.all[key]
	if x == nil {
		x = &note{}
		n.all[key] = x
	}
	n.mu.Unlock()
	x.once.Do(func() {
		if x.value, x.err = read(); x.err != nil {
			n.mu.Lock()
			delete(n.all, key)
			n.mu.Unlock()
		}
	})
	if x.err != nil {
		var none T
		return none, x.err
	}
	return x.value.(T), nil
}

// notedWorkloads takes the workloads that are in a context's notes, and lists those that are not.
func notedWorkloads(ctx context.Context, ids []int64) (found map[int64]Workload, missing []int64) {
	found = make(map[int64]Workload, len(ids))
	n, there := ctx.Value(notesKey{}).(*Notes)
	if !there {
		return found, ids
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, id := range ids {
		if w, there := n.workloads[id]; there {
			found[id] = w
		} else {
			missing = append(missing, id)
		}
	}
	return found, missing
}

// noteWorkloads puts workloads into a context's notes.
func noteWorkloads(ctx context.Context, list []Workload) {
	n, there := ctx.Value(notesKey{}).(*Notes)
	if !there {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.workloads == nil {
		n.workloads = map[int64]Workload{}
	}
	for i := range list {
		n.workloads[list[i].ID] = list[i]
	}
}
