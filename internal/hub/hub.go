package hub

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"vinescale/core/account"
	"vinescale/core/explain"
	"vinescale/core/tenancy"
	"vinescale/internal/identify"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

// Class says what kind of mistake a Problem is; the API maps it to a status and a problem type.
type Class string

// The classes of problem.
const (
	Invalid  Class = "invalid"   // what was asked makes no sense
	NotFound Class = "not-found" // what was named does not exist
	Conflict Class = "conflict"  // it exists already, or changed meanwhile
	Denied   Class = "denied"    // not allowed to this token
	NoToken  Class = "no-token"  // no token, or one that is not known
	// sound, but of a version newer than this service: keep it until the service is newer too
	NotYet Class = "not-yet"
	Early  Class = "too-early" // of a time that has not come by this service's clock: keep it until then
	Busy   Class = "busy"      // the service has too much to do: ask again later
)

// Problem is a mistake the caller can mend. Its text says what, why, and what to do.
type Problem struct {
	Class  Class
	Detail string
}

func (p *Problem) Error() string { return p.Detail }

func problem(c Class, format string, a ...any) error { return &Problem{c, fmt.Sprintf(format, a...)} }

// Unassigned is the name under which usage of no tenant is shown.
const Unassigned = explain.Unassigned

// DefaultKeeping keeps intervals for a month, hours for over a year, and days for ever.
var DefaultKeeping = store.Keeping{Minutes: 31 * 24 * time.Hour, Hours: 400 * 24 * time.Hour}

// Options for New.
type Options struct {
	Keep store.Keeping // of minutes, hours and days; DefaultKeeping where it is zero
	Now  func() time.Time
	// ActsWait is how long an answer about an act waits for its host; 20 s where it is zero.
	ActsWait time.Duration
	// Zone is the site's time zone; "" for none.
	Zone string
}

// Hub is the service.
type Hub struct {
	store   *store.Store
	options Options

	mu      sync.Mutex
	book    tenancy.Book
	pools   map[string][]string // by host
	tenants map[string]int32    // by name
	version int64               // of book, pools and tenants
	watch   map[chan Committed]struct{}
	watched watched
	passing passing
	orders  waiting
}

// Committed tells that a host's figures up to To are in the books.
type Committed struct {
	Host string    `json:"host"`
	To   time.Time `json:"to"`
}

// New makes a Hub on an open store.
func New(s *store.Store, o Options) *Hub {
	if o.Keep == (store.Keeping{}) {
		o.Keep = DefaultKeeping
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.ActsWait == 0 {
		o.ActsWait = 20 * time.Second
	}
	return &Hub{store: s, options: o, watch: map[chan Committed]struct{}{},
		watched: watched{hosts: map[string]wish{}}, passing: newPassing()}
}

// Ready tells whether the service can answer.
func (h *Hub) Ready(ctx context.Context) error { return h.store.Ping(ctx) }

// How often the duties are done.
const (
	foldEvery = 20 * time.Second
	dropEvery = time.Hour
)

// Run does the periodic duties until the context ends: making room for the next day, folding what was taken in and
// summing it, dropping what is past its keeping.
func (h *Hub) Run(ctx context.Context) {
	var dropped time.Time
	for {
		now := h.options.Now()
		h.duty(ctx, "fold what was taken in", h.Fold(ctx))
		if now.Sub(dropped) >= dropEvery {
			dropped = now
			h.duty(ctx, "make tomorrow's partitions", h.store.EnsureDay(ctx, now.AddDate(0, 0, 1)))
			h.duty(ctx, "drop what is past its keeping", h.store.Drop(ctx, now, h.options.Keep))
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(foldEvery):
		}
	}
}

// duty tells of one that could not be done.
func (h *Hub) duty(ctx context.Context, what string, err error) {
	if err != nil && ctx.Err() == nil {
		slog.Error("could not "+what+"; trying again later", "error", err)
	}
}

// Fold folds loose intervals into their hours and sums what has ended.
func (h *Hub) Fold(ctx context.Context) error {
	now := h.options.Now()
	if _, _, err := h.store.Fold(ctx, now); err != nil {
		return err
	}
	return h.store.SumPeaks(ctx, now.Add(-clockTolerance))
}

// clockTolerance is how far a host's clock may be ahead of the service's.
const clockTolerance = 10 * time.Minute

// isKept tells whether intervals of a time are still kept one by one, so that one more can be counted.
func (h *Hub) isKept(t time.Time) bool {
	return h.options.Keep.Minutes == 0 || !t.Before(h.options.Now().Add(-h.options.Keep.Minutes))
}

func (h *Hub) keptDays() int { return int(h.options.Keep.Minutes.Hours() / 24) }

// Ingest takes in a batch from the collector of a host. A batch that came before is answered as taken.
func (h *Hub) Ingest(ctx context.Context, host store.Host, b *wire.Batch) (store.Taken, error) {
	if b.Host != host.Name {
		return store.Taken{},
			problem(
				Denied,
				"this batch is of host %q, and the credential is for %q: give each collector its own host's credential",
				b.Host,
				host.Name,
			)
	}
	now := h.options.Now()
	for _, iv := range b.Intervals {
		from := time.UnixMicro(iv.FromUnixMicros)
		if time.UnixMicro(iv.ToUnixMicros).After(now.Add(clockTolerance)) {
			return store.Taken{}, problem(Early,
				"interval %d ends at %s, more than %s ahead of this service's clock: set the host's clock; the "+
					"interval is taken when its time has come", iv.Sequence,
				time.UnixMicro(iv.ToUnixMicros).UTC().Format(time.RFC3339), clockTolerance)
		}
		if !h.isKept(from) {
			return store.Taken{}, problem(
				Invalid,
				"interval %d began at %s, longer ago than the %d days that are kept",
				iv.Sequence,
				from.UTC().Format(time.RFC3339),
				h.keptDays(),
			)
		}
	}
	var taken store.Taken
	err := h.byRulesInForce(ctx, func(book *judge, version int64) (err error) {
		taken, err = h.store.Ingest(ctx, host, b, version, book.assign)
		taken.Programs = book.AsksFor("program")
		return err
	})
	if errors.Is(err, store.ErrOverlap) {
		return taken, problem(
			Invalid,
			"%v: a host's time is counted once; is another collector sending for it?",
			err,
		)
	}
	if err == nil && taken.New > 0 {
		h.tell(Committed{host.Name, taken.NewestTo})
	}
	return taken, err
}

// Notice takes in news of a host's workloads: they are known at once, and faces say when their first usage is due.
func (h *Hub) Notice(ctx context.Context, host store.Host, n *wire.Notices) error {
	if n.Host != host.Name {
		return problem(
			Denied,
			"these notices are of host %q, and the credential is for %q: give each collector its own host's credential",
			n.Host,
			host.Name,
		)
	}
	now := h.options.Now()
	for _, micros := range append([]int64{n.AtUnixMicros}, n.EndedMicros...) {
		if at := time.UnixMicro(micros); micros != 0 &&
			(at.After(now.Add(clockTolerance)) || !h.isKept(at)) ||
			n.AtUnixMicros == 0 {
			return problem(
				Invalid,
				"news of %s is 10 minutes ahead of this service's clock, or older than the %d days that are kept: set "+
					"the host's clock",
				at.UTC().Format(time.RFC3339),
				h.keptDays(),
			)
		}
	}
	if due := time.UnixMicro(n.DueUnixMicros); due.After(now.Add(time.Hour)) {
		return problem(Invalid,
			"usage due at %s, more than an hour ahead of this service's clock: set the host's clock",
			due.UTC().Format(time.RFC3339))
	}
	err := h.byRulesInForce(ctx, func(book *judge, version int64) error {
		return h.store.Notice(ctx, host, n, version, book.assign)
	})
	if err == nil {
		h.tell(Committed{host.Name, time.UnixMicro(n.AtUnixMicros).UTC()})
	}
	return err
}

// byRulesInForce stores something by the rules in force: where they changed meanwhile, on another instance, it is tried
// again by those of now.
func (h *Hub) byRulesInForce(ctx context.Context, put func(book *judge, version int64) error) error {
	for range 5 {
		book, version, err := h.rules(ctx)
		if err != nil {
			return err
		}
		if err := put(book, version); !errors.Is(err, store.ErrRulesChanged) {
			return err
		}
		h.forgetRules()
	}
	return errors.New("the rules keep changing; send it again")
}

// judge is a list of rules with what they may ask about hosts.
type judge struct {
	tenancy.Book
	pools   map[string][]string
	tenants map[string]int32 // by name
}

func (j *judge) subject(host string, w account.Workload) tenancy.Subject {
	return tenancy.Subject{Host: host, Pools: j.pools[host], Workload: w}
}

// assign says whose a workload is: by the first rule that matches, and where none does, by what it was begun for.
func (j *judge) assign(host string, w account.Workload) tenancy.Rule {
	rule := j.Assign(j.subject(host, w))
	if rule.TenantID == 0 && w.Recogniser == identify.BegunRecogniser {
		rule.TenantID = j.tenants[w.Labels[identify.TenantLabel]]
	}
	return rule
}

// with is the same judge by another list of rules.
func (j *judge) with(book tenancy.Book) *judge { return &judge{book, j.pools, j.tenants} }

// rules returns the compiled rules and their version.
func (h *Hub) rules(ctx context.Context) (*judge, int64, error) {
	h.mu.Lock()
	known, version := &judge{h.book, h.pools, h.tenants}, h.version
	h.mu.Unlock()
	if version != 0 {
		return known, version, nil
	}
	records, version, err := h.store.Rules(ctx)
	if err != nil {
		return nil, 0, err
	}
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return nil, 0, err
	}
	list, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, 0, err
	}
	tenants := map[string]int32{}
	for i := range list {
		tenants[list[i].Name] = list[i].ID
	}
	var book tenancy.Book
	for _, r := range records {
		rule, err := tenancy.Compile(r.ID, r.TenantID, r.Expression)
		if err != nil {
			return nil, 0, fmt.Errorf("stored rule %d: %w", r.Position, err)
		}
		book = append(book, rule)
	}
	h.mu.Lock()
	h.book, h.pools, h.tenants, h.version = book, pools, tenants, version
	h.mu.Unlock()
	return &judge{book, pools, tenants}, version, nil
}

func (h *Hub) forgetRules() {
	h.mu.Lock()
	h.book, h.pools, h.tenants, h.version = nil, nil, nil, 0
	h.mu.Unlock()
}

// lately is for how long after its last interval a workload is judged by rules that change: what ended before is past.
// Should it come again, it is judged then.
const lately = 24 * time.Hour

// reassign moves every workload that is there to the tenant the rules now give it, from now on, and returns how many
// moved.
func (h *Hub) reassign(ctx context.Context) (int, error) {
	h.forgetRules()
	book, _, err := h.rules(ctx)
	if err != nil {
		return 0, err
	}
	workloads, err := h.store.WorkloadsSince(ctx, h.options.Now().Add(-lately))
	if err != nil {
		return 0, err
	}
	var moves []store.Move
	moved := 0
	for i := range workloads {
		w := &workloads[i]
		rule := book.assign(w.Host.Name, w.Core())
		if rule.TenantID != w.TenantID {
			moved++
		}
		if rule.TenantID != w.TenantID || rule.ID != w.RuleID {
			moves = append(moves, store.Move{WorkloadID: w.ID, TenantID: rule.TenantID, RuleID: rule.ID,
				Rule: rule.Expression})
		}
	}
	return moved, h.store.Assign(ctx, moves, h.options.Now().UTC())
}

// Watch returns a channel of commits until the context ends. A watcher that is slow misses some: each says all that
// is needed to ask again.
func (h *Hub) Watch(ctx context.Context) <-chan Committed {
	c := make(chan Committed, 16)
	h.mu.Lock()
	h.watch[c] = struct{}{}
	h.mu.Unlock()
	context.AfterFunc(ctx, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watch, c)
		close(c)
	})
	return c
}

func (h *Hub) tell(m Committed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.watch {
		select {
		case c <- m:
		default:
		}
	}
}
