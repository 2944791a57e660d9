package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/wire"
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
	var found []struct {
		At        time.Time
		Workloads string
		Processes []byte
	}
	err = s.db.WithContext(ctx).Raw(`SELECT at, array_to_json(workloads)::text AS workloads, processes FROM running
		WHERE host_id = $1`, hostID).Scan(&found).Error
	if err != nil || len(found) == 0 {
		return nil, at, over, err
	}
	var workloads []int64
	if err := json.Unmarshal([]byte(found[0].Workloads), &workloads); err != nil {
		return nil, at, over, err
	}
	t, err := wire.UnpackProcesses(found[0].Processes)
	if err != nil {
		return nil, at, over, fmt.Errorf("processes of host %d: %w", hostID, err)
	}
	for i, pid := range t.Pid {
		p = append(p, explain.Running{Workload: workloads[t.Workload[i]], PID: pid, Parent: t.Parent[i],
			Program: t.Names[t.Program[i]], UID: t.Uid[i], Threads: t.Threads[i], Runnable: t.Runnable[i],
			LastCPU: t.LastCpu[i], CPUMicros: t.CpuMicros[i], MemoryBytes: t.MemoryBytes[i],
			DiskBytes: t.DiskBytes[i]})
	}
	return p, found[0].At.UTC(), time.Duration(t.OverMillis) * time.Millisecond, nil
}

// present is which workloads had usage in a scope, as far as it may be seen.
func (s *Store) present(ctx context.Context, scope *question.Scope) ([]int64, error) {
	exists, _, err := s.tenantsThere(ctx)
	if err != nil {
		return nil, err
	}
	there := map[int64]bool{}
	viewer := leaf.NewViewer(scope, exists)
	err = s.eachLeaf(ctx, scope.Hosts, question.ReadingOf(scope.Span, 0), wanted{}, func(p *piece) error {
		viewer.View(p.Leaf).EachUser(func(u leaf.User) { there[u.Workload] = true })
		return nil
	})
	return slices.Sorted(maps.Keys(there)), err
}

// Present lists the workloads that had usage in a scope, with their hosts.
func (s *Store) Present(ctx context.Context, scope *question.Scope) ([]Workload, error) {
	ids, err := s.present(ctx, scope)
	if err != nil {
		return nil, err
	}
	byID, err := s.WorkloadsByID(ctx, ids)
	list := make([]Workload, 0, len(byID))
	for _, id := range ids {
		list = append(list, byID[id])
	}
	return list, err
}

// Awake says when a workload last used CPU time.
type Awake struct {
	From     time.Time  // begin of the first of its intervals
	AwakeAt  *time.Time // end of the last in which it used more than was asked for; nil for none
	AsleepMs int64      // recorded since then; since From where AwakeAt is nil
	Known    bool       // its CPU time is known in all of them
}

// LastAwake finds when the workloads of a scope last used more than some part of a CPU in one interval, by workload. It
// goes by intervals: a sum does not tell when within it something happened.
func (s *Store) LastAwake(ctx context.Context, scope *question.Scope, cores float64) (map[int64]Awake, error) {
	exists, _, err := s.tenantsThere(ctx)
	if err != nil {
		return nil, err
	}
	type interval struct{ start, elapsed int64 }
	awake, seen := map[int64]*Awake{}, map[int64][]interval{}
	cpu := leaf.UseColumn(amount.CPU, "")
	want := wanted{leaf.Uses: {cpu, leaf.UseColumn(amount.CPU, "source"), leaf.UseColumn(amount.CPU, "lacks"),
		"elapsed"}}
	viewer := leaf.NewViewer(scope, exists)
	err = s.eachLeaf(ctx, scope.Hosts, question.Reading{Span: scope.Span}, want, func(p *piece) error {
		v := viewer.View(p.Leaf)
		t := v.Tables[leaf.Uses]
		ats, units, lacks, elapsed := t.Of(leaf.At), t.Of(cpu), t.Of(leaf.UseColumn(amount.CPU, "lacks")),
			t.Of("elapsed")
		for row, slot := range t.Of(leaf.Slot) {
			user, is := v.User(slot, ats[row])
			if !is {
				continue
			}
			start := v.Start(ats[row])
			a := awake[user.Workload]
			if a == nil {
				a = &Awake{From: start, Known: true}
				awake[user.Workload] = a
			}
			if start.Before(a.From) {
				a.From = start
			}
			a.Known = a.Known && lacks[row] == 0
			seen[user.Workload] = append(seen[user.Workload], interval{start.UnixMicro(), elapsed[row]})
			if float64(units[row]) <= cores*1000*float64(elapsed[row]) {
				continue
			}
			if a.AwakeAt == nil {
				a.AwakeAt = &time.Time{}
			}
			if end := start.Add(time.Duration(elapsed[row]) * time.Millisecond); end.After(*a.AwakeAt) {
				*a.AwakeAt = end
			}
		}
		return nil
	})
	found := make(map[int64]Awake, len(awake))
	for id, a := range awake {
		for _, x := range seen[id] {
			if a.AwakeAt == nil || x.start >= a.AwakeAt.UnixMicro() {
				a.AsleepMs += x.elapsed
			}
		}
		found[id] = *a
	}
	return found, err
}

// Alive lists the workloads that are in a host's newest interval, by name.
func (s *Store) Alive(ctx context.Context, hostID int32) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).
		Preload("Host").
		Where("host_id = ? AND alive", hostID).
		Order("name, id").
		Find(&w).
		Error
}

// HasWorkloadNamed tells whether a workload of that name was ever seen on a host, as far as the book goes back.
func (s *Store) HasWorkloadNamed(ctx context.Context, hostID int32, name string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).
		Model(&Workload{}).
		Where("host_id = ? AND name = ?", hostID, name).
		Limit(1).
		Count(&n).
		Error
	return n > 0, err
}

// WorkloadsByID finds workloads by their numbers; what is in the context's notes is not read again.
func (s *Store) WorkloadsByID(ctx context.Context, ids []int64) (map[int64]Workload, error) {
	byID, missing := notedWorkloads(ctx, ids)
	for some := range slices.Chunk(missing, 10_000) { // a statement takes 65,535 parameters
		var list []Workload
		if err := s.db.WithContext(ctx).Preload("Host").Where("id IN ?", some).Find(&list).Error; err != nil {
			return nil, err
		}
		noteWorkloads(ctx, list)
		for _, w := range list {
			byID[w.ID] = w
		}
	}
	return byID, nil
}

// Unheld lists the workloads that are no tenant's and may have been there after a time.
func (s *Store) Unheld(ctx context.Context, after time.Time) ([]int64, error) {
	ids := []int64{}
	err := s.db.WithContext(ctx).Raw("SELECT id FROM workloads WHERE tenant_id = 0 AND (alive OR last_at > $1)",
		after).Scan(&ids).Error
	return ids, err
}

// FirstTold is when the first interval of each of some hosts began: of those that told of any workload.
func (s *Store) FirstTold(ctx context.Context, hosts []int32) (map[int32]time.Time, error) {
	first := map[int32]time.Time{}
	if len(hosts) == 0 {
		return first, nil
	}
	rows, err := s.db.WithContext(ctx).Raw(`SELECT h.id, w.first FROM unnest($1::int[]) AS h (id)
		CROSS JOIN LATERAL (SELECT min(first_at) AS first FROM workloads
			WHERE host_id = h.id AND last_at IS NOT NULL) AS w
		WHERE w.first IS NOT NULL`, hosts).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var host int32
		var at time.Time
		if err := rows.Scan(&host, &at); err != nil {
			return nil, err
		}
		first[host] = at.UTC()
	}
	return first, rows.Err()
}

// Calling is what a workload is called by.
type Calling struct {
	ID                int64
	Name, Kind, Owner string
}

// Callings finds what workloads are called by, by their numbers.
func (s *Store) Callings(ctx context.Context, ids []int64) (map[int64]Calling, error) {
	byID := make(map[int64]Calling, len(ids))
	rows, err := s.db.WithContext(ctx).Raw("SELECT id, name, kind, owner FROM workloads WHERE id = ANY($1::bigint[])",
		ids).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c Calling
		if err := rows.Scan(&c.ID, &c.Name, &c.Kind, &c.Owner); err != nil {
			return nil, err
		}
		byID[c.ID] = c
	}
	return byID, rows.Err()
}
