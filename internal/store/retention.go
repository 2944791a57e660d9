package store

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// Keeping is for how long what was counted is kept, by how finely. Zero is for ever.
type Keeping struct {
	Minutes time.Duration // intervals one by one
	Hours   time.Duration // sums by the hour
	Days    time.Duration // sums by the day
}

// Drop removes what is past its keeping. Nobody waits for it: what others hold is left for the next time. It runs on
// one instance at a time; where another is at it, it does nothing.
func (s *Store) Drop(ctx context.Context, now time.Time, keep Keeping) error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var mine bool
	if err := conn.QueryRowContext(ctx, "SELECT pg_try_advisory_lock($1)", lockRetention).Scan(&mine); err != nil ||
		!mine {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", lockRetention)
	before := func(kept time.Duration) time.Time { return question.ByDay.Floor(now.Add(-kept)) }
	if keep.Minutes > 0 {
		limit := before(keep.Minutes)
		// Nothing goes before it is summed.
		var loose sql.NullTime
		if err := conn.QueryRowContext(ctx, "SELECT min(start) FROM loose_leaves").Scan(&loose); err != nil {
			return fmt.Errorf("what is loose: %w", err)
		}
		if oldest := question.ByDay.Floor(loose.Time); loose.Valid && oldest.Before(limit) {
			limit = oldest
		}
		if err := s.dropPartitions(ctx, conn, limit); err != nil {
			return err
		}
		err := s.db.WithContext(ctx).
			Exec(fmt.Sprintf("UPDATE tenant_peak SET %s WHERE host_id = %d AND hour < $1 AND %s IS "+
				"NOT NULL", perResource("%s"+minutesSuffix+" = NULL"), fleet, amount.ResourceNames()[0]+minutesSuffix),
				limit).
			Error
		if err != nil {
			return fmt.Errorf("drop old minutes of the fleet: %w", err)
		}
		if err := s.dropOf(ctx, "intake", limit); err != nil {
			return fmt.Errorf("drop what is known of old intervals: %w", err)
		}
	}
	if keep.Hours > 0 {
		for _, table := range []string{hourLeaves, dayQuires, "happenings"} {
			if err := s.dropOf(ctx, table, before(keep.Hours)); err != nil {
				return fmt.Errorf("drop old hours: %w", err)
			}
		}
	}
	if keep.Days > 0 {
		if err := s.dropOf(ctx, dayLeaves, before(keep.Days)); err != nil {
			return fmt.Errorf("drop old days: %w", err)
		}
	}
	return s.dropWorkloads(ctx, conn, now, keep)
}

// dropOf removes the rows of a table that begin before a time, host by host: their keys begin with the host.
func (s *Store) dropOf(ctx context.Context, table string, limit time.Time) error {
	hosts, err := s.Hosts(ctx)
	if err != nil {
		return err
	}
	for i := range hosts {
		err := s.db.WithContext(ctx).Exec("DELETE FROM "+table+" WHERE host_id = $1 AND start < $2", hosts[i].ID,
			limit).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// dropPartitions drops the days of intervals that ended before a time. A partition is first detached, which waits for
// those who read it without holding up anyone else, and is given up when it takes too long.
func (s *Store) dropPartitions(ctx context.Context, conn *sql.Conn, limit time.Time) error {
	rows, err := conn.QueryContext(ctx, `SELECT p.relname, c.relname, i.inhdetachpending FROM pg_inherits i
			JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE i.inhparent = ANY ($1::regclass[]) ORDER BY 2`, partitioned)
	if err != nil {
		return fmt.Errorf("which partitions there are: %w", err)
	}
	type partition struct {
		table, name string
		pending     bool
	}
	var old []partition
	for rows.Next() {
		var p partition
		if err := rows.Scan(&p.table, &p.name, &p.pending); err != nil {
			return err
		}
		day, err := time.Parse(partitionDay, p.name[len(p.name)-len(partitionDay):])
		if err == nil && day.Before(limit) {
			old = append(old, p)
		}
	}
	if err := rows.Err(); err != nil || len(old) == 0 {
		return err
	}
	if _, err := conn.ExecContext(ctx, "SET lock_timeout = '2s'"); err != nil {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "RESET lock_timeout")
	for _, p := range old {
		how := "CONCURRENTLY"
		if p.pending {
			how = "FINALIZE"
		}
		_, err := conn.ExecContext(ctx, fmt.Sprintf("ALTER TABLE %s DETACH PARTITION %s %s", p.table, p.name, how))
		if err == nil {
			_, err = conn.ExecContext(ctx, "DROP TABLE "+p.name)
		}
		if err != nil {
			slog.Info("a day past its keeping is in use; it is dropped later", "partition", p.name, "reason", err)
		}
	}
	s.mu.Lock()
	clear(s.partitions)
	s.mu.Unlock()
	return nil
}

// dropWorkloads forgets workloads that nothing which is kept tells of: those that ended before the first day that is
// kept, and those that were announced and never seen.
func (s *Store) dropWorkloads(ctx context.Context, conn *sql.Conn, now time.Time, keep Keeping) error {
	_, err := conn.ExecContext(ctx, `DELETE FROM workloads WHERE NOT alive AND last_at IS NULL AND due_at < $1`,
		now.Add(-question.ByDay.Length()))
	if err == nil && keep.Days > 0 {
		_, err = conn.ExecContext(ctx, `DELETE FROM workloads WHERE NOT alive AND last_at < $1`,
			question.ByDay.Floor(now.Add(-max(keep.Days, keep.Hours, keep.Minutes))))
	}
	if err != nil {
		return fmt.Errorf("forget workloads of which nothing is kept: %w", err)
	}
	return nil
}
