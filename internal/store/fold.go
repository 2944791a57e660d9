package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Intervals stay loose until their hour has ended and a while has passed. So many of them are bound together meanwhile:
// a question about the last hour of a thousand hosts would else have 60,000 leaves to read.
const (
	mostSingle = 10
	foldAfter  = 2 * time.Minute
)

// Fold puts loose intervals into the quires of their hours, sums the hours and then the days that ended. Each is one
// transaction, so that whoever asks meanwhile, and whatever breaks off, finds every interval once. It returns how many
// hours and days were summed.
func (s *Store) Fold(ctx context.Context, now time.Time) (hours, days int, err error) {
	var due []struct {
		HostID int32
		Start  time.Time
		Ended  bool
	}
	err = s.db.WithContext(ctx).Raw(`SELECT host_id, date_trunc('hour', start, 'UTC') AS start,
			date_trunc('hour', min(start), 'UTC') < $3 AS ended FROM loose_leaves
		WHERE section = $1 GROUP BY 1, 2
		HAVING count(*) FILTER (WHERE single) >= $2 OR date_trunc('hour', min(start), 'UTC') < $3
		ORDER BY 2, 1`, hostSection, mostSingle, now.Add(-time.Hour-foldAfter)).Scan(&due).Error
	if err != nil {
		return 0, 0, fmt.Errorf("which intervals are loose: %w", err)
	}
	for _, x := range due {
		if !x.Ended {
			if err := s.bind(ctx, x.HostID, x.Start.UTC()); err != nil {
				return hours, 0, fmt.Errorf("bind intervals of host %d: %w", x.HostID, err)
			}
			continue
		}
		if err := s.foldHour(ctx, x.HostID, x.Start.UTC()); err != nil {
			return hours, 0, fmt.Errorf("fold %s of host %d: %w", x.Start.UTC().Format(time.RFC3339), x.HostID, err)
		}
		hours++
	}
	var ended []struct {
		HostID int32
		Day    time.Time
	}
	err = s.db.WithContext(ctx).Raw("SELECT host_id, day FROM due_days WHERE day < $1 ORDER BY 2, 1",
		question.ByDay.Floor(now.Add(-foldAfter))).Scan(&ended).Error
	if err != nil {
		return hours, 0, fmt.Errorf("which days are to be summed: %w", err)
	}
	for _, x := range ended {
		if err := s.foldDay(ctx, x.HostID, x.Day.UTC()); err != nil {
			return hours, days, fmt.Errorf("sum %s of host %d: %w", x.Day.UTC().Format(time.DateOnly), x.HostID, err)
		}
		days++
	}
	return hours, days, nil
}

// aloneOf runs a change of a host's leaves, while no other transaction writes of it.
func (s *Store) aloneOf(ctx context.Context, hostID int32, change func(tx *gorm.DB) error) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := enter(tx, hostID); err != nil {
			return err
		}
		return change(tx)
	})
}

// bind puts the intervals of an hour that are loose one by one into one leaf, which is loose in their stead.
func (s *Store) bind(ctx context.Context, hostID int32, hour time.Time) error {
	return s.aloneOf(ctx, hostID, func(tx *gorm.DB) error {
		const these = "host_id = $1 AND start >= $2 AND start < $3 AND single"
		loose, err := leavesThat(tx, looseLeaves, these, hostID, hour, hour.Add(time.Hour))
		if err != nil || len(loose) < 2 {
			return err
		}
		if err := tx.Exec("DELETE FROM loose_leaves WHERE "+these, hostID, hour,
			hour.Add(time.Hour)).Error; err != nil {
			return err
		}
		bound := leaf.Join(loose...)
		return putLeaf(tx, looseLeaves, bound.Start(0), bound)
	})
}

// foldHour puts a host's loose intervals of an hour into its quire and sums it anew.
func (s *Store) foldHour(ctx context.Context, hostID int32, hour time.Time) error {
	return s.aloneOf(ctx, hostID, func(tx *gorm.DB) error {
		next := hour.Add(time.Hour)
		loose, err := leavesOf(tx, looseLeaves, hostID, hour, next)
		if err != nil || len(loose) == 0 {
			return err
		}
		quire, err := leavesOf(tx, quires, hostID, hour, next)
		if err != nil {
			return err
		}
		whole := leaf.Join(append(quire, loose...)...)
		if err := putLeaf(tx, quires, hour, whole); err != nil {
			return err
		}
		if err := putHour(tx, hour, whole); err != nil {
			return err
		}
		return tx.Exec("DELETE FROM loose_leaves WHERE host_id = $1 AND start >= $2 AND start < $3", hostID, hour,
			next).Error
	})
}

// putHour stores the sum of a quire. The sum of its day no longer holds.
func putHour(tx *gorm.DB, hour time.Time, quire *leaf.Leaf) error {
	if err := putLeaf(tx, hourLeaves, hour, leaf.Fold(quire)); err != nil {
		return err
	}
	return forgetDay(tx, quire.Host, hour)
}

// forgetDay says that the sum of the day that holds a time no longer holds, and is to be found again.
func forgetDay(tx *gorm.DB, hostID int32, t time.Time) error {
	return tx.Exec(`WITH gone AS (DELETE FROM day_leaves WHERE host_id = $1 AND start = $2)
		INSERT INTO due_days (host_id, day) VALUES ($1, $2) ON CONFLICT DO NOTHING`, hostID,
		question.ByDay.Floor(t)).Error
}

// foldDay sums a host's hours of a day.
func (s *Store) foldDay(ctx context.Context, hostID int32, day time.Time) error {
	return s.aloneOf(ctx, hostID, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM due_days WHERE host_id = $1 AND day = $2", hostID, day).Error; err != nil {
			return err
		}
		hours, err := leavesOf(tx, hourLeaves, hostID, day, day.Add(question.ByDay.Length()))
		if err != nil || len(hours) == 0 {
			return err
		}
		return putLeaf(tx, dayLeaves, day, leaf.Fold(leaf.Join(hours...)))
	})
}

// leavesOf reads a host's whole leaves that begin in a span, in order.
func leavesOf(tx *gorm.DB, table string, hostID int32, from, to time.Time) ([]*leaf.Leaf, error) {
	return leavesThat(tx, table, "host_id = $1 AND start >= $2 AND start < $3", hostID, from, to)
}

// leavesThat reads the whole leaves that meet a condition, in order.
func leavesThat(tx *gorm.DB, table, condition string, args ...any) ([]*leaf.Leaf, error) {
	var list []*leaf.Leaf
	err := eachPiece(tx, fmt.Sprintf(`SELECT 0, false, host_id, start, section, body FROM %s WHERE %s
		ORDER BY host_id, start`, table, condition), args, nil, false,
		func(p *piece) error {
			p.Fill()
			list = append(list, p.Leaf)
			return nil
		})
	return list, err
}
