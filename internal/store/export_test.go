package store

import (
	"context"
	"database/sql"

	"gorm.io/gorm"
)

// Rows asks the database of a store for one row.
func (s *Store) Rows(ctx context.Context, query string) *sql.Row {
	return s.db.WithContext(ctx).Raw(query).Row()
}

// Begin begins a transaction of its own, as another program might.
func (s *Store) Begin(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx).Begin() }
