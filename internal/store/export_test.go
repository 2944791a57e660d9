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

// Repeat puts the sums of the first hour of a span in the place of each of its hours and days: as if nothing had
// changed in it.
func (s *Store) Repeat(ctx context.Context, span question.Span) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var hosts []int32
		if err := tx.Raw("SELECT id FROM hosts").Scan(&hosts).Error; err != nil {
			return err
		}
		for _, host := range hosts {
			list, err := leavesOf(tx, hourLeaves, host, span.From, span.From.Add(time.Hour))
			if err != nil {
				return err
			}
			for day := span.From; day.Before(span.To); day = day.Add(24 * time.Hour) {
				var hours []*leaf.Leaf
				for hour := day; hour.Before(day.Add(24 * time.Hour)); hour = hour.Add(time.Hour) {
					l := later(list[0], hour.Sub(span.From))
					if err := putLeaf(tx, hourLeaves, hour, l); err != nil {
						return err
					}
					hours = append(hours, l)
				}
				if err := putLeaf(tx, dayLeaves, day, leaf.Fold(leaf.Join(hours...))); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// later is a sum of the same as another, so much later.
func later(l *leaf.Leaf, by time.Duration) *leaf.Leaf {
	moved := leaf.Join(l)
	for _, t := range moved.Tables {
		for _, column := range []string{"start", "end", "from", "to", leaf.NewestAt} {
			if i := t.Schema.Index(column); i >= 0 {
				for row := range t.Low[i] {
					t.Low[i][row] += by.Microseconds()
				}
			}
		}
	}
	return moved
}
