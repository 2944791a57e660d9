package store

import (
	"context"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"vinescale/core/amount"
)

// resourceColumns are the columns that each table has for every resource of the register, with their types. The one
// without a suffix is the amount, in account units.
var resourceColumns = map[string][]struct{ suffix, kind string }{
	"host_minute": {{"capacity", "bigint"}, {"used", "bigint"}, {"idle", "bigint"}, {"kernel", "bigint"},
		{"steal", "bigint"}},
	"usage_minute":   {{"", "bigint"}, {"peak", "bigint"}, {"source", "smallint"}},
	"program_minute": {{"", "bigint"}},
	"tenant_minute":  {{"", "bigint"}},
}

// columnOf names a resource's column: cpu, cpu_peak, cpu_source.
func columnOf(r amount.Resource, suffix string) string {
	if suffix == "" {
		return r.String()
	}
	return r.String() + "_" + suffix
}

// columnsOf names the columns that a table has for every resource.
func columnsOf(table string) []string {
	var names []string
	for _, r := range amount.Resources() {
		for _, c := range resourceColumns[table] {
			names = append(names, columnOf(r, c.suffix))
		}
	}
	return names
}

// makeColumns gives every table the columns of resources that the register has and the table has not. Rows from before
// hold NULL there: their collectors did not tell.
func (s *Store) makeColumns(ctx context.Context) error {
	var has []string
	err := s.db.WithContext(ctx).Raw(`SELECT table_name || '.' || column_name FROM information_schema.columns
		WHERE table_schema = current_schema()`).Scan(&has).Error
	if err != nil {
		return err
	}
	there := make(map[string]bool, len(has))
	for _, name := range has {
		there[name] = true
	}
	for table, columns := range resourceColumns {
		var add []string
		for _, r := range amount.Resources() {
			for _, c := range columns {
				if name := columnOf(r, c.suffix); !there[table+"."+name] {
					add = append(add, fmt.Sprintf("ADD COLUMN IF NOT EXISTS %s %s", name, c.kind))
				}
			}
		}
		if len(add) == 0 {
			continue
		}
		err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockPartitions).Error; err != nil {
				return err
			}
			return tx.Exec("ALTER TABLE " + table + " " + strings.Join(add, ", ")).Error
		})
		if err != nil {
			return fmt.Errorf("add columns to %s: %w", table, err)
		}
	}
	return nil
}
