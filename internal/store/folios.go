package store

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"vinescale/core/folio"
)

// Folio is a page that a person composed.
type Folio struct {
	Name      string  `gorm:"primaryKey"`
	Owner     *string // by the name of their token; nil where that is gone
	IsShared  bool    // with everybody
	Version   int64   `gorm:"default:1"`
	ChangedAt time.Time
	ChangedBy string
	Value     folio.Folio `gorm:"serializer:json"`
}

// Folios lists those that a person may see, by title: their own, and those that are shared.
func (s *Store) Folios(ctx context.Context, person string) ([]Folio, error) {
	var all []Folio
	return all, s.db.WithContext(ctx).Where("is_shared OR owner = ?", person).Order("value->>'title', name").
		Find(&all).Error
}

// Folio finds one that a person may see; ErrNotFound for others too.
func (s *Store) Folio(ctx context.Context, person, name string) (Folio, error) {
	var f Folio
	return f, knownError(s.db.WithContext(ctx).Where("name = ? AND (is_shared OR owner = ?)", name, person).
		Take(&f).Error)
}

// mostSameTitles is how many folios of one title there may be.
const mostSameTitles = 1000

// AddFolio keeps a new folio under the first name that is free of those made of its own: press-night, press-night-2.
// Of a person's folios there may be so many at most; ErrExists for one more.
func (s *Store) AddFolio(ctx context.Context, f Folio, most int) (Folio, error) {
	base := f.Name
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// What a person has is counted while nobody else adds to it.
		if err := tx.Exec("SELECT 1 FROM tokens WHERE name = $1 FOR UPDATE", f.Owner).Error; err != nil {
			return err
		}
		var has int64
		if err := tx.Model(&Folio{}).Where("owner = ?", f.Owner).Count(&has).Error; err != nil || has >= int64(most) {
			return cmp.Or(err, ErrExists)
		}
		for n := 2; n <= mostSameTitles; n++ {
			r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&f)
			if r.Error != nil || r.RowsAffected == 1 {
				return r.Error
			}
			f.Name = fmt.Sprintf("%s-%d", base, n)
		}
		return ErrExists
	})
	return f, knownError(err)
}

// ChangeFolio keeps a folio in place of the version that was seen; ErrExists where it was changed since, ErrNotFound
// where it is gone.
func (s *Store) ChangeFolio(ctx context.Context, f Folio, seen int64) (Folio, error) {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var is Folio
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", f.Name).Take(&is).Error; err != nil {
			return err
		}
		if seen != 0 && is.Version != seen {
			return ErrExists
		}
		f.Version, f.Owner = is.Version+1, is.Owner
		return tx.Save(&f).Error
	})
	return f, knownError(err)
}

// RemoveFolio forgets a folio; ErrNotFound.
func (s *Store) RemoveFolio(ctx context.Context, name string) error {
	return removed(s.db.WithContext(ctx).Where("name = ?", name).Delete(&Folio{}))
}
