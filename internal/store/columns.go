package store

import (
	"context"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"vinescale/core/amount"
)

// resourceTables have a column for every resource of the register, which bears its name and holds account units.
// Sums of levels over many workloads are more than 64 bits hold. Of an hour there are more, for its lowest minute and
// for all of it: by these it is known of most hours, without their minutes, whether something was exceeded.
var resourceTables = []struct {
	name     string
	suffixes []string
}{{"tenant_minute", []string{""}}, {"tenant_peak", []string{"", lowSuffix, sumSuffix, minutesSuffix}}}

// What a column of an hour holds beside its highest minute. The minutes themselves, sixty of them, are held of all
// hosts together alone, for as long as the minutes of each host are kept: who asks of the fleet need not add these up.
const (
	lowSuffix     = "_low"
	sumSuffix     = "_sum"
	minutesSuffix = "_minutes"
)

// columnType is the type of a column by its suffix.
func columnType(suffix string) string {
	if suffix == minutesSuffix {
		return "float8[]"
	}
	return "numeric"
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
	for _, table := range resourceTables {
		var add []string
		for _, name := range amount.ResourceNames() {
			for _, suffix := range table.suffixes {
				if !there[table.name+"."+name+suffix] {
					add = append(add, fmt.Sprintf("ADD COLUMN IF NOT EXISTS %s%s %s", name, suffix, columnType(suffix)))
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
			return tx.Exec("ALTER TABLE " + table.name + " " + strings.Join(add, ", ")).Error
		})
		if err != nil {
			return fmt.Errorf("add columns to %s: %w", table.name, err)
		}
	}
	return nil
}
