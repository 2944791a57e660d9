package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"vinescale/core/act"
)

// StandingRule is a rule that has an act done by itself.
type StandingRule struct {
	ID        int32 `gorm:"primaryKey"`
	Name      string
	Rule      act.Standing `gorm:"serializer:json"`
	ForMillis int64
	IsOn      bool
	OnAt      *time.Time
	CheckedAt *time.Time
	Stopped   string
	MadeAt    time.Time
	MadeBy    string
}

// AsRule is the rule itself, with its time.
func (x *StandingRule) AsRule() act.Standing {
	r := x.Rule
	r.Name, r.For = x.Name, time.Duration(x.ForMillis)*time.Millisecond
	return r
}

// StandingRules lists all, by name.
func (s *Store) StandingRules(ctx context.Context) (list []StandingRule, err error) {
	return list, s.db.WithContext(ctx).Order("name").Find(&list).Error
}

// AddStandingRule stores one, which is off; ErrExists when there is one of its name.
func (s *Store) AddStandingRule(ctx context.Context, x *StandingRule) error {
	return knownError(s.db.WithContext(ctx).Create(x).Error)
}

// RemoveStandingRule removes one; ErrNotFound.
func (s *Store) RemoveStandingRule(ctx context.Context, name string) error {
	return removed(s.db.WithContext(ctx).Where("name = ?", name).Delete(&StandingRule{}))
}

// ChangeStandingRule changes one, as change says, alone; ErrNotFound.
func (s *Store) ChangeStandingRule(ctx context.Context, name string, change func(*StandingRule) error) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var x StandingRule
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&x).Error
		if err != nil {
			return knownError(err)
		}
		if err := change(&x); err != nil {
			return err
		}
		return tx.Save(&x).Error
	})
}

// ActsOfRule counts the acts that a rule asked for since a time.
func (s *Store) ActsOfRule(ctx context.Context, rule string, since time.Time) (n int64, err error) {
	return n, s.db.WithContext(ctx).
		Model(&Intervention{}).
		Where("rule = ? AND asked_at > ?", rule, since).
		Count(&n).
		Error
}
