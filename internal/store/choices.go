package store

import (
	"context"
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"vinescale/core/choice"
)

// personChoices are how one person, by the name of their token, wants figures shown.
type personChoices struct {
	Name  string         `gorm:"primaryKey"`
	Value choice.Choices `gorm:"serializer:json"`
}

func (personChoices) TableName() string { return "choices" }

// Choices are a person's; the usual ones where they have chosen nothing.
func (s *Store) Choices(ctx context.Context, name string) (choice.Choices, error) {
	var x personChoices
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return choice.Choices{}, nil
	}
	return x.Value, err
}

// SetChoices keeps a person's choices in place of those before.
func (s *Store) SetChoices(ctx context.Context, name string, c choice.Choices) error {
	return knownError(s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).
		Create(&personChoices{name, c}).Error)
}
