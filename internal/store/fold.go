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
	return hours, days, s.bindDays(ctx)
}

// mostBound is how many days of a book from before are bound at a time.
const mostBound = 200

// bindDays binds the hours of days that a program before this one summed and left unbound, the newest first.
func (s *Store) bindDays(ctx context.Context) error {
	var unbound []struct {
		HostID int32
		Day    time.Time
	}
	err := s.db.WithContext(ctx).Raw("SELECT host_id, day FROM unbound_days ORDER BY day DESC, host_id LIMIT $1",
		mostBound).Scan(&unbound).Error
	if err != nil {
		return fmt.Errorf("which days are to be bound: %w", err)
	}
	for _, x := range unbound {
		day := x.Day.UTC()
		err := s.aloneOf(ctx, x.HostID, func(tx *gorm.DB) error {
			var due bool
			err := tx.Raw(`WITH gone AS (DELETE FROM unbound_days WHERE host_id = $1 AND day = $2)
				SELECT EXISTS (SELECT 1 FROM due_days WHERE host_id = $1 AND day = $2)`, x.HostID, day).Row().Scan(&due)
			if err != nil || due {
				return err
			}
			hours, err := hoursOf(tx, x.HostID, day)
			if err != nil || len(hours) == 0 {
				return err
			}
			return bindDay(tx, day, leaf.Join(hours...))
		})
		if err != nil {
			return fmt.Errorf("bind the hours of %s of host %d: %w", day.Format(time.DateOnly), x.HostID, err)
		}
	}
	return nil
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
	if err := forgetDay(tx, quire.Host, hour); err != nil {
		return err
	}
	return putLeaf(tx, hourLeaves, hour, leaf.Fold(quire))
}

// forgetDay says that the sum of the day that holds a time no longer holds, and is to be found again. The hours of the
// day stand alone until then.
func forgetDay(tx *gorm.DB, hostID int32, t time.Time) error {
	day := question.ByDay.Floor(t)
	if err := unbindDay(tx, hostID, day); err != nil {
		return err
	}
	return tx.Exec(`WITH gone AS (DELETE FROM day_leaves WHERE host_id = $1 AND start = $2)
		INSERT INTO due_days (host_id, day) VALUES ($1, $2) ON CONFLICT DO NOTHING`, hostID, day).Error
}

// unbindDay takes the hours of a day apart.
func unbindDay(tx *gorm.DB, hostID int32, day time.Time) error {
	bound, err := leavesOf(tx, dayQuires, hostID, day, day.Add(time.Microsecond))
	if err != nil || len(bound) == 0 {
		return err
	}
	for _, hour := range leaf.Split(bound[0]) {
		if err := putLeaf(tx, hourLeaves, question.ByHour.Floor(hour.Start(0)), hour); err != nil {
			return err
		}
	}
	return tx.Exec("DELETE FROM day_quires WHERE host_id = $1 AND start = $2", hostID, day).Error
}

// foldDay sums a host's hours of a day, and binds them.
func (s *Store) foldDay(ctx context.Context, hostID int32, day time.Time) error {
	return s.aloneOf(ctx, hostID, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM due_days WHERE host_id = $1 AND day = $2", hostID, day).Error; err != nil {
			return err
		}
		hours, err := hoursOf(tx, hostID, day)
		if err != nil || len(hours) == 0 {
			return err
		}
		bound := leaf.Join(hours...)
		if err := putLeaf(tx, dayLeaves, day, leaf.Fold(bound)); err != nil {
			return err
		}
		return bindDay(tx, day, bound)
	})
}

// hoursOf reads the sums of a host's hours of a day that stand alone.
func hoursOf(tx *gorm.DB, hostID int32, day time.Time) ([]*leaf.Leaf, error) {
	return leavesOf(tx, hourLeaves, hostID, day, day.Add(question.ByDay.Length()))
}

// bindDay puts the hours of a day into one quire: a week of a hundred hosts is 700 leaves so, and not 17,000.
func bindDay(tx *gorm.DB, day time.Time, hours *leaf.Leaf) error {
	if err := putLeaf(tx, dayQuires, day, hours); err != nil {
		return err
	}
	return tx.Exec("DELETE FROM hour_leaves WHERE host_id = $1 AND start >= $2 AND start < $3", hours.Host, day,
		day.Add(question.ByDay.Length())).Error
}

// leavesOf reads a host's whole leaves that begin in a span, in order.
func leavesOf(tx *gorm.DB, table string, hostID int32, from, to time.Time) ([]*leaf.Leaf, error) {
	return leavesThat(tx, table, "host_id = $1 AND start >= $2 AND start < $3", hostID, from, to)
}

// leavesThat reads the whole leaves that meet a condition, in order.
func leavesThat(tx *gorm.DB, table, condition string, args ...any) ([]*leaf.Leaf, error) {
	var list []*leaf.Leaf
	err := eachPiece(tx, fmt.Sprintf(`SELECT 0, false, host_id, start, section, body, 0 FROM %s WHERE %s
		ORDER BY host_id, start`, table, condition), args, nil, false,
		func(p *piece) error {
			p.Fill()
			list = append(list, p.Leaf)
			return nil
		})
	return list, err
}
