package store

import (
	"context"
	"database/sql"
	"time"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/pack"

	"gorm.io/gorm"
)

// SetMostNew sets how many workloads of a host may be new in a day.
func (s *Store) SetMostNew(n int) { s.mostNew = n }

// Rows asks the database of a store for one row.
func (s *Store) Rows(ctx context.Context, query string) *sql.Row {
	return s.db.WithContext(ctx).Raw(query).Row()
}

// Begin begins a transaction of its own, as another program might.
func (s *Store) Begin(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx).Begin() }

// Packed is how many bytes a leaf takes.
func Packed(l *leaf.Leaf) (n int) {
	for _, section := range allSections {
		if l.Has(section) || section == hostSection {
			n += len(pack.Encode(l, section))
		}
	}
	return n
}

// OpenAt opens a database with the books of an older version.
func OpenAt(ctx context.Context, databaseURL string, version int64) (*Store, error) {
	return open(ctx, databaseURL, version)
}

// Migrate brings the books of an older version up to date.
func (s *Store) Migrate(ctx context.Context) error { return s.migrate(ctx, newest) }

// PutHours stores the sums of hours of which no interval is kept.
func (s *Store) PutHours(ctx context.Context, hours []*leaf.Leaf) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, l := range hours {
			if err := putHour(tx, question.ByHour.Floor(l.Start(0)), l); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unbind leaves the hours of days that are summed as a program left them that did not bind them.
func (s *Store) Unbind(ctx context.Context) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var days []struct {
			HostID int32
			Start  time.Time
		}
		if err := tx.Raw("SELECT DISTINCT host_id, start FROM day_quires").Scan(&days).Error; err != nil {
			return err
		}
		for _, x := range days {
			if err := unbindDay(tx, x.HostID, x.Start.UTC()); err != nil {
				return err
			}
		}
		return tx.Exec("INSERT INTO unbound_days SELECT DISTINCT host_id, start FROM day_leaves").Error
	})
}

// MinutesOf divides what was used in an interval over minutes, in a book whose rule holds since a time.
func MinutesOf(since, start time.Time, elapsedMillis, units int64) (parts []int64, end time.Time) {
	rule := minuteRule{since}
	minute := start.Truncate(time.Minute)
	rule.each(start, elapsedMillis, units, func(at time.Time, part int64) {
		if !at.Equal(minute) {
			panic("its minutes do not follow each other")
		}
		parts, minute = append(parts, part), minute.Add(time.Minute)
	})
	return parts, rule.end(start, elapsedMillis)
}
