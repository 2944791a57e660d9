package store

import (
	"context"
	"time"

	"vinescale/core/amount"
)

// WorkloadByID finds a workload with its host; ErrNotFound.
func (s *Store) WorkloadByID(ctx context.Context, id int64) (Workload, error) {
	var w Workload
	return w, explain(s.db.WithContext(ctx).Preload("Host").Where("id = ?", id).Take(&w).Error)
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
	return w, explain(s.db.WithContext(ctx).Preload("Host").Where("host_id = ? AND key = ?", hostID,
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
		q = q.Where(`(strpos(lower(name), lower(?)) > 0 OR strpos(lower(key), lower(?)) > 0 OR strpos(lower(owner), lower(?)) > 0
			OR EXISTS (SELECT 1 FROM jsonb_each_text(labels) l WHERE strpos(lower(l.key || '=' || l.value), lower(?)) > 0)
			OR EXISTS (SELECT 1 FROM jsonb_each_text(facts) f WHERE f.key NOT IN ('evidence', 'command', 'groups', 'names_unavailable') AND strpos(lower(f.value), lower(?)) > 0))`,
			word, word, word, word, word)
	}
	var w []Workload
	return w, q.Order("alive DESC, coalesce(last_at, first_at) DESC, id DESC").Limit(most).Find(&w).Error
}

// Owners lists the owners of workloads whose name holds a text, with how many workloads each has.
func (s *Store) Owners(ctx context.Context, part string) (owners []OwnerCount, err error) {
	return owners, s.db.WithContext(ctx).Raw(`SELECT owner, count(*) AS workloads FROM workloads WHERE owner <> '' AND strpos(lower(owner), lower($1)) > 0
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

// RunningProcess is one process of a host's newest interval.
type RunningProcess struct {
	WorkloadID        int64
	PID               int32 `gorm:"column:pid"`
	Parent            int32
	Program           string
	UID               int64 `gorm:"column:uid"`
	Threads, Runnable int32
	LastCPU           int32 `gorm:"column:last_cpu"`
	CPU, Memory, Disk int64 // microseconds and bytes over the last reading; bytes
}

// Running lists a host's processes at its newest interval's end, with when that was and over how long they were read.
// It is empty where the collector sends none.
func (s *Store) Running(ctx context.Context, hostID int32) (p []RunningProcess, at time.Time, over time.Duration,
	err error) {
	var head []struct {
		At     time.Time
		OverMs int64
	}
	if err := s.db.WithContext(ctx).Raw("SELECT at, over_ms FROM running WHERE host_id = $1",
		hostID).Scan(&head).Error; err != nil || len(head) == 0 {
		return nil, at, 0, err
	}
	err = s.db.WithContext(ctx).Raw(`SELECT x.* FROM running, unnest(workloads, pids, parents, programs, uids, threads, runnable, last_cpus, cpu, memory, disk)
		AS x(workload_id, pid, parent, program, uid, threads, runnable, last_cpu, cpu, memory, disk) WHERE host_id = $1 AND at = $2`, hostID, head[0].At).Scan(&p).Error
	return p, head[0].At.UTC(), time.Duration(head[0].OverMs) * time.Millisecond, err
}

// PartUse is CPU time of one part of a workload.
type PartUse struct {
	Name   string
	Micros int64
}

// Parts adds up the parts of a workload over a span, by name.
func (s *Store) Parts(ctx context.Context, hostID int32, workloadID int64, span Span) ([]PartUse, error) {
	var p []PartUse
	return p, s.db.WithContext(ctx).Raw(`SELECT name, sum(spent)::bigint AS micros FROM part_minute, unnest(names, micros) AS x(name, spent)
		WHERE host_id = $1 AND workload_id = $2 AND start >= $3 AND start < $4 GROUP BY 1 ORDER BY 1`, hostID, workloadID, span.From, span.To).Scan(&p).Error
}

// ProgramUse is what one program of a workload used over a span, in account units.
type ProgramUse struct {
	Family, Program            string
	CPU, Memory, Disk, Network float64
	Processes                  int
}

// Programs adds up the programs of workloads over a span.
func (s *Store) Programs(ctx context.Context, workloads []int64, span Span) ([]ProgramUse, error) {
	var p []ProgramUse
	return p, s.db.WithContext(ctx).Raw(`SELECT coalesce(f.name, '') AS family, coalesce(p.name, '') AS program, sum(cpu)::float8 AS cpu, sum(memory)::float8 AS memory,
			sum(disk)::float8 AS disk, sum(network)::float8 AS network, max(processes) AS processes
		FROM program_minute u LEFT JOIN programs p ON p.id = u.program_id LEFT JOIN programs f ON f.id = u.family_id
		WHERE workload_id = ANY($1) AND start >= $2 AND start < $3 GROUP BY 1, 2 ORDER BY 3 DESC, 2`, workloads, span.From, span.To).Scan(&p).Error
}

// ProgramTotal is what all processes of one program used over a span, in account units.
type ProgramTotal struct {
	Program           string // "" for what no living process explains
	Workloads         int
	Processes         int // at the end of an interval, the most of each workload, added
	CPU, Memory, Disk float64
}

// ProgramTotals adds up every program of a span, most CPU time first.
func (s *Store) ProgramTotals(ctx context.Context, q UseQuestion) ([]ProgramTotal, error) {
	var p []ProgramTotal
	return p, s.db.WithContext(ctx).Raw(`SELECT coalesce(p.name, '') AS program, count(DISTINCT workload_id) AS workloads, sum(processes) AS processes,
			sum(cpu)::float8 AS cpu, sum(memory)::float8 AS memory, sum(disk)::float8 AS disk
		FROM (SELECT workload_id, program_id, max(processes) AS processes, sum(cpu) AS cpu, sum(memory) AS memory, sum(disk) AS disk
			FROM program_minute WHERE start >= $1 AND start < $2 AND ($3 = 0 OR host_id = $3) AND ($4::bigint[] IS NULL OR workload_id = ANY($4))
			GROUP BY workload_id, program_id, family_id) AS u
		LEFT JOIN programs p ON p.id = u.program_id GROUP BY 1 ORDER BY 4 DESC, 1`, q.Span.From, q.Span.To, q.HostID, q.Only).Scan(&p).Error
}

// Awake says when a workload last used CPU time.
type Awake struct {
	WorkloadID int64
	From       time.Time  // begin of the first of its intervals
	AwakeAt    *time.Time // end of the last in which it used more than was asked for; nil for none
	AsleepMs   int64      // recorded since then; since From where AwakeAt is nil
	Known      bool       // its CPU time is known in all of them
}

// LastAwake finds when workloads of a host last used more than some part of a CPU in one interval, by workload.
func (s *Store) LastAwake(ctx context.Context, hostID int32, span Span, cores float64,
	workloads []int64) (map[int64]Awake, error) {
	awake := map[int64]Awake{}
	if len(workloads) == 0 {
		return awake, nil
	}
	var rows []Awake
	err := s.db.WithContext(ctx).Raw(`WITH u AS (
			SELECT workload_id, start, elapsed_ms, cpu_source < $6 AS known,
				max(start + elapsed_ms * interval '1 millisecond') FILTER (WHERE cpu > $4::float8 * 1000 * elapsed_ms) OVER (PARTITION BY workload_id) AS awake_at
			FROM usage_minute WHERE host_id = $1 AND start >= $2 AND start < $3 AND workload_id = ANY($5))
		SELECT workload_id, min(start) AS "from", awake_at, coalesce(sum(elapsed_ms) FILTER (WHERE awake_at IS NULL OR start >= awake_at), 0)::bigint AS asleep_ms,
			bool_and(known) AS known
		FROM u GROUP BY workload_id, awake_at`,
		hostID, span.From, span.To, cores, workloads, int16(amount.Unavailable)).Scan(&rows).Error
	for _, r := range rows {
		awake[r.WorkloadID] = r
	}
	return awake, err
}
