package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/core/tenancy"
	"vinescale/internal/wire"
)

// Assigner says by which rule, and so to which tenant, a workload of a host is accounted; the zero rule for none.
type Assigner func(host string, w account.Workload) tenancy.Rule

// ErrRulesChanged asks the caller to come again with an Assigner of the rules now in force.
var ErrRulesChanged = errors.New("the rules changed")

// ErrOverlap says that an interval is of a time of which its host has told already.
var ErrOverlap = errors.New("it overlaps an interval that was counted")

// Taken says what became of a batch.
type Taken struct {
	New      int       // intervals counted now
	Known    int       // intervals that had been counted before
	Rows     int       // workloads' usage, by interval
	NewestTo time.Time // end of the newest interval in the batch
	Programs bool      // rules ask for programs
}

// known is what is remembered of a stored workload, to write it only when something changed.
type known struct {
	id       int64
	tenantID int32
	ruleID   int32
	since    time.Time // from when on it is accounted to that tenant by that rule
	first    time.Time // begin of the first interval it was in
	mark     [2]uint64 // of all that is known of it
	stale    bool      // it was stored by rules that may not be those in force
}

func (s *Store) forgetAll() {
	s.partitions = map[string]bool{}
	s.workloads = map[int32]map[string]known{}
}

// Ingest counts the intervals of a batch that have not been counted, all or none of them.
//
// An interval is known by its host, boot and sequence: a row in intake decides whether it is new; only then do its leaf
// and its sums by tenant follow, in the same transaction. ErrOverlap tells of an interval of a time that was counted
// already. rulesVersion is the version assign was made of; ErrRulesChanged when another is in force.
func (s *Store) Ingest(ctx context.Context, host Host, b *wire.Batch, rulesVersion int64, assign Assigner) (Taken,
	error) {
	for _, iv := range b.Intervals {
		for _, micros := range []int64{iv.FromUnixMicros, iv.FromUnixMicros + iv.ElapsedMillis*1000 + 60_000_000} {
			if err := s.EnsureDay(ctx, time.UnixMicro(micros)); err != nil {
				return Taken{}, err
			}
		}
	}
	s.useRules(rulesVersion)
	in := &ingestion{Store: s, host: host, assign: assign, known: map[string]known{},
		tenants: map[tenantKey]*tenantRow{}}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := enter(tx, host.ID); err != nil {
			return err
		}
		if err := inForce(tx, rulesVersion); err != nil {
			return err
		}
		return in.take(tx, b)
	})
	if err != nil {
		return Taken{}, err
	}
	if in.taken.New > 0 {
		s.learn(in, rulesVersion)
	}
	return in.taken, nil
}

// enter waits until a transaction may write the figures of a host, by two locks that PostgreSQL holds until its end.
//
// The first is shared by all intake, and is taken alone by a change of whose past usage is, so that such a change never
// sees half an interval. The second is the host's: two batches of one host would wait for each other's rows, and might
// each hold what the other needs.
func enter(tx *gorm.DB, hostID int32) error {
	if err := tx.Exec("SELECT pg_advisory_xact_lock_shared($1)", lockBooks).Error; err != nil {
		return err
	}
	return tx.Exec("SELECT pg_advisory_xact_lock($1::int, $2::int)", lockHost, hostID).Error
}

// inForce tells by ErrRulesChanged that the rules of a version are no longer those in force.
func inForce(tx *gorm.DB, rulesVersion int64) error {
	var version int64
	if err := tx.Raw("SELECT rules_version FROM vinescale_book").Row().Scan(&version); err != nil {
		return err
	}
	if version != rulesVersion {
		return ErrRulesChanged
	}
	return nil
}

// useRules forgets which tenants workloads had by other rules than those in force.
func (s *Store) useRules(version int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rules != version {
		clear(s.workloads)
		s.rules = version
	}
}

// learn remembers the workloads of a host's newest interval, as a committed ingestion found them: no others, so that
// what is remembered does not grow with every workload that ever was.
func (s *Store) learn(in *ingestion, rulesVersion int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rules != rulesVersion { // they changed meanwhile, and what was learned is of the rules before
		return
	}
	alive := make(map[int64]bool, len(in.presence.newest))
	for _, id := range in.presence.newest {
		alive[id] = true
	}
	remembered := make(map[string]known, len(alive))
	for key, v := range in.known {
		if alive[v.id] {
			remembered[key] = v
		}
	}
	s.workloads[in.host.ID] = remembered
}

// ingestion is one batch on its way into the tables.
type ingestion struct {
	*Store
	host     Host
	assign   Assigner
	taken    Taken
	known    map[string]known // workloads by key, as this batch finds them
	presence presence
	tenants  map[tenantKey]*tenantRow
	folds    bool // several rows of an interval are of the workload that stands for those beyond the bound
}
