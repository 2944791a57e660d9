package store

import (
	"context"
	"slices"
	"time"

	"vinescale/core/explain"
	"vinescale/core/question"
)

// WorkloadByID finds a workload with its host; ErrNotFound.
func (s *Store) WorkloadByID(ctx context.Context, id int64) (Workload, error) {
	var w Workload
	return w, knownError(s.db.WithContext(ctx).Preload("Host").Where("id = ?", id).Take(&w).Error)
}

// Around lists the workloads of a host that are inside one, by its key.
func (s *Store) Around(ctx context.Context, hostID int32, key string) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).Preload("Host").Where("host_id = ? AND outer_key = ?", hostID,
		key).Order("id").Find(&w).Error
}

// WorkloadByKey finds a host's workload by its key; ErrNotFound.
func (s *Store) WorkloadByKey(ctx context.Context, hostID int32, key string) (Workload, error) {
	var w Workload
	return w, knownError(s.db.WithContext(ctx).Preload("Host").Where("host_id = ? AND key = ?", hostID,
		key).Take(&w).Error)
}

// FindWorkloads lists workloads in whose name, key, owner, labels or facts all words are found, newest first, up to
// most. Words are taken literally, in any case.
func (s *Store) FindWorkloads(ctx context.Context, words []string, hostID int32, most int) ([]Workload, error) {
	q := s.db.WithContext(ctx).Preload("Host")
	if hostID != 0 {
		q = q.Where("host_id = ?", hostID)
	}
	for _, word := range words {
		// Labels and facts are searched by their values and as key=value.
		q = q.Where(`(strpos(lower(name), lower(?)) > 0
			OR strpos(lower(key), lower(?)) > 0 OR strpos(lower(owner), lower(?)) > 0
			OR EXISTS (SELECT 1 FROM jsonb_each_text(labels) l WHERE strpos(lower(l.key || '=' || l.value),
			lower(?)) > 0)
			OR EXISTS (SELECT 1 FROM jsonb_each_text(facts) f
			WHERE f.key NOT IN ('evidence', 'command', 'groups', 'names_unavailable') AND strpos(lower(f.value),
			lower(?)) > 0))`,
			word, word, word, word, word)
	}
	var w []Workload
	return w, q.Order("alive DESC, coalesce(last_at, first_at) DESC, id DESC").Limit(most).Find(&w).Error
}

// Owners lists the owners of workloads whose name holds a text, with how many workloads each has.
func (s *Store) Owners(ctx context.Context, part string) (owners []OwnerCount, err error) {
	return owners, s.db.WithContext(ctx).Raw(`SELECT owner, count(*) AS workloads FROM workloads WHERE owner <> ''
			AND strpos(lower(owner), lower($1)) > 0
		GROUP BY 1 ORDER BY 1`, part).Scan(&owners).Error
}

// OwnerCount is an owner with how many workloads are theirs.
type OwnerCount struct {
	Owner     string
	Workloads int
}

// OwnedBy lists the ids of an owner's workloads.
func (s *Store) OwnedBy(ctx context.Context, owner string) ([]int64, error) {
	ids := []int64{}
	return ids, s.db.WithContext(ctx).Raw("SELECT id FROM workloads WHERE owner = $1", owner).Scan(&ids).Error
}

// Running lists a host's processes at its newest interval's end, with when that was and over how long they were read.
// It is empty where the collector sends none.
func (s *Store) Running(ctx context.Context, hostID int32) (p []explain.Running, at time.Time, over time.Duration,
	err error) {
	var rows []struct {
		At                     time.Time
		OverMs                 int64
		Workload               int64
		PID                    int32 `gorm:"column:pid"`
		Parent                 int32
		Program                string
		UID                    int64 `gorm:"column:uid"`
		Threads, Runnable      int32
		LastCPU                int32 `gorm:"column:last_cpu"`
		CPUMicros              int64 `gorm:"column:cpu_micros"`
		MemoryBytes, DiskBytes int64
	}
	err = s.db.WithContext(ctx).Raw(`SELECT at, over_ms, x.* FROM running LEFT JOIN LATERAL unnest(workloads, pids,
			parents,
			programs, uids, threads, runnable, last_cpus, cpu, memory, disk)
		AS x(workload, pid, parent, program, uid, threads, runnable, last_cpu, cpu_micros, memory_bytes,
		disk_bytes) ON true
		WHERE host_id = $1`, hostID).Scan(&rows).Error
	for _, r := range rows {
		at, over = r.At.UTC(), time.Duration(r.OverMs)*time.Millisecond
		if r.PID == 0 {
			continue // it tells of none
		}
		p = append(p, explain.Running{Workload: r.Workload, PID: r.PID, Parent: r.Parent, Program: r.Program,
			UID:     r.UID,
			Threads: r.Threads, Runnable: r.Runnable, LastCPU: r.LastCPU, CPUMicros: r.CPUMicros,
			MemoryBytes: r.MemoryBytes, DiskBytes: r.DiskBytes})
	}
	return p, at, over, err
}

// present is which workloads had usage in a scope.
func (b *statement) present(scope *question.Scope) string {
	return "SELECT DISTINCT u.workload_id FROM usage_minute u WHERE " +
		b.within(scope, shelves[question.WorkloadMinutes])
}

// Present lists the workloads that had usage in a scope, with their hosts.
func (s *Store) Present(ctx context.Context, scope *question.Scope) ([]Workload, error) {
	var b statement
	var ids []int64
	if err := s.db.WithContext(ctx).Raw(b.present(scope), b.args...).Scan(&ids).Error; err != nil {
		return nil, err
	}
	byID, err := s.WorkloadsByID(ctx, ids)
	list := make([]Workload, 0, len(byID))
	for _, id := range ids {
		list = append(list, byID[id])
	}
	return list, err
}

// CountPresent counts the workloads that had usage in a scope.
func (s *Store) CountPresent(ctx context.Context, scope *question.Scope) (n int, err error) {
	var b statement
	err = s.db.WithContext(ctx).Raw("SELECT count(*) FROM ("+b.present(scope)+") AS p", b.args...).Row().Scan(&n)
	return n, err
}

// WorkloadsByID finds workloads by their numbers.
func (s *Store) WorkloadsByID(ctx context.Context, ids []int64) (map[int64]Workload, error) {
	byID := make(map[int64]Workload, len(ids))
	for some := range slices.Chunk(ids, 10_000) { // a statement takes 65,535 parameters
		var list []Workload
		if err := s.db.WithContext(ctx).Preload("Host").Where("id IN ?", some).Find(&list).Error; err != nil {
			return nil, err
		}
		for _, w := range list {
			byID[w.ID] = w
		}
	}
	return byID, nil
}
