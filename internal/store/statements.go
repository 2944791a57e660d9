package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	statements "vinescale/core/statement"
)

// Tariff is a tariff as it was set.
type Tariff struct {
	Version int64             `gorm:"primaryKey;->"`
	Value   statements.Tariff `gorm:"serializer:json"`
	Reason  string
	MadeBy  string
	MadeAt  time.Time
}

// Statement is a closed statement.
type Statement struct {
	Number     int64 `gorm:"primaryKey;autoIncrement:false"`
	Tenant     string
	WindowName string
	WindowFrom time.Time
	WindowTo   time.Time
	Tariff     *int64 // its version; nil for none
	Hash       string
	Value      statements.Statement `gorm:"serializer:json"`
}

// Correction is a correction of a closed statement.
type Correction struct {
	ID          int64 `gorm:"primaryKey;->"`
	Corrects    int64
	Tenant      string
	InStatement *int64                // nil until it is a line of one
	Value       statements.Correction `gorm:"serializer:json"`
}

// ErrClosed is returned where a window was closed meanwhile.
var ErrClosed = errors.New("the window is closed")

// Tariffs lists those that were set, the newest first.
func (s *Store) Tariffs(ctx context.Context) ([]Tariff, error) {
	var all []Tariff
	return all, s.db.WithContext(ctx).Order("version DESC").Find(&all).Error
}

// AddTariff puts a tariff in force.
func (s *Store) AddTariff(ctx context.Context, t *Tariff) error {
	return s.db.WithContext(ctx).Create(t).Error
}

// StatementsOf chooses closed statements; what is empty chooses all.
type StatementsOf struct {
	Tenant   string
	From     time.Time // of the window
	Window   string    // its name
	ByNumber []int64
	NoLines  bool // without the lines of each
}

// Statements lists closed statements by number.
func (s *Store) Statements(ctx context.Context, of *StatementsOf) ([]Statement, error) {
	q := s.db.WithContext(ctx).Order("number")
	if of.Tenant != "" {
		q = q.Where("tenant = ?", of.Tenant)
	}
	if !of.From.IsZero() {
		q = q.Where("window_from = ?", of.From)
	}
	if of.Window != "" {
		q = q.Where("window_name = ?", of.Window)
	}
	if of.ByNumber != nil {
		q = q.Where("number IN ?", of.ByNumber)
	}
	if of.NoLines {
		q = q.Select("number, tenant, window_name, window_from, window_to, tariff, hash, value - 'lines' AS value")
	}
	var all []Statement
	return all, q.Find(&all).Error
}

// LastClosed is the closed statement with the highest number; false where none is closed.
func (s *Store) LastClosed(ctx context.Context) (Statement, bool, error) {
	var x Statement
	err := s.db.WithContext(ctx).Order("number DESC").Take(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return x, false, nil
	}
	return x, err == nil, err
}

// CloseWindow keeps the statements of a window, which are numbered and sealed from the last one on. ErrClosed where
// another was closed since last was read. The corrections that they have as lines are noted as theirs.
func (s *Store) CloseWindow(ctx context.Context, last int64, all []Statement, corrections []int64) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("LOCK TABLE statements IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
			return err
		}
		var newest int64
		if err := tx.Raw("SELECT coalesce(max(number), 0) FROM statements").Scan(&newest).Error; err != nil {
			return err
		}
		if newest != last {
			return ErrClosed
		}
		if err := tx.Create(&all).Error; err != nil {
			return err
		}
		for i := range all {
			r := tx.Exec("UPDATE corrections SET in_statement = $1 WHERE id = ANY($2) AND tenant = $3", all[i].Number,
				corrections, all[i].Tenant)
			if r.Error != nil {
				return r.Error
			}
		}
		return nil
	})
}

// Corrections lists corrections in the order in which they were made; only those that are no line yet, or all.
func (s *Store) Corrections(ctx context.Context, onlyWaiting bool) ([]Correction, error) {
	q := s.db.WithContext(ctx).Order("id")
	if onlyWaiting {
		q = q.Where("in_statement IS NULL")
	}
	var all []Correction
	return all, q.Find(&all).Error
}

// AddCorrection keeps a correction.
func (s *Store) AddCorrection(ctx context.Context, c *Correction) error {
	return s.db.WithContext(ctx).Create(c).Error
}

// RemoveCorrection takes back a correction that is no line of a statement yet; ErrNotFound for any other.
func (s *Store) RemoveCorrection(ctx context.Context, id int64) error {
	r := s.db.WithContext(ctx).Where("id = ? AND in_statement IS NULL", id).Delete(&Correction{})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
