package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// ErrUnbalanced says that a re-attribution would have changed how much was used, and was undone.
var ErrUnbalanced = errors.New("the sums before and after differ; nothing was changed")

// Reapply accounts the usage of a span anew to the tenants given by workload, with its sums by tenant, all or nothing:
// it changes who, never how much. Moves hold from the span's begin until its end, where what held then holds on.
func (s *Store) Reapply(ctx context.Context, span question.Span, moves []Move, who string, detail any) error {
	ids, tenants, rules, texts := make([]int64, len(moves)), make([]int32, len(moves)), make([]int32, len(moves)),
		make([]string, len(moves))
	for i, m := range moves {
		ids[i], tenants[i], rules[i], texts[i] = m.WorkloadID, m.TenantID, m.RuleID, m.Rule
	}
	const moved = "unnest($1::bigint[], $2::int[]) AS m(id, tenant)"
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockBooks).Error; err != nil {
			return err
		}
		before, err := sumOf(tx, span)
		if err != nil {
			return err
		}
		for _, table := range []string{"usage_minute", "cpu_minute", "program_minute", "part_minute"} {
			err := tx.Exec(
				"UPDATE "+table+" SET tenant_id = tenant FROM "+moved+" WHERE workload_id = m.id AND tenant_id <> "+
					"tenant AND start >= $3 AND start < $4",
				ids, tenants, span.From, span.To).Error
			if err != nil {
				return fmt.Errorf("account %s anew: %w", table, err)
			}
		}
		if err := tx.Exec("DELETE FROM tenant_minute WHERE minute >= $1 AND minute < $2", span.From,
			span.To).Error; err != nil {
			return err
		}
		var sums []string
		for _, r := range amount.ResourceNames() {
			sums = append(sums, "sum("+r+")")
		}
		err = tx.Exec(fmt.Sprintf(`INSERT INTO tenant_minute (minute, host_id, tenant_id, %s)
			SELECT date_trunc('minute', start), host_id, tenant_id, %s FROM usage_minute
			WHERE start >= $1 AND start < $2 GROUP BY 1, 2, 3`, strings.Join(amount.ResourceNames(), ", "),
			strings.Join(sums, ", ")), span.From, span.To).Error
		if err != nil {
			return fmt.Errorf("sum up anew: %w", err)
		}
		after, err := sumOf(tx, span)
		if err != nil {
			return err
		}
		if before != after {
			return ErrUnbalanced
		}
		if err := reassign(tx, span, ids, tenants, rules, texts); err != nil {
			return fmt.Errorf("write down who holds what: %w", err)
		}
		return noteAct(tx, who, "reapply rules", fmt.Sprintf("%s to %s", span.From.Format(time.RFC3339),
			span.To.Format(time.RFC3339)), detail)
	})
}

// reassign puts the moves in place of what was assigned within a span; what held at its end holds on from there.
func reassign(tx *gorm.DB, span question.Span, ids []int64, tenants, rules []int32, texts []string) error {
	const after = `INSERT INTO assignments (workload_id, from_at, tenant_id, rule_id, rule)
		SELECT DISTINCT ON (workload_id) workload_id, $2::timestamptz, tenant_id, rule_id, rule FROM assignments
		WHERE workload_id = ANY($1) AND from_at < $2 ORDER BY workload_id, from_at DESC ON CONFLICT DO NOTHING`
	if err := tx.Exec(after, ids, span.To).Error; err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM assignments WHERE workload_id = ANY($1) AND from_at >= $2 AND from_at < $3", ids,
		span.From, span.To).Error; err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO assignments (workload_id, from_at, tenant_id, rule_id, rule)
		SELECT m.id, greatest($5::timestamptz, least(w.first_at, $6::timestamptz - interval '1 microsecond')),
		tenant, rule, text FROM unnest($1::bigint[], $2::int[], $3::int[], $4::text[]) AS m(id, tenant, rule, text)
		JOIN workloads w ON w.id = m.id
		ON CONFLICT (workload_id, from_at) DO UPDATE SET tenant_id = excluded.tenant_id, rule_id = excluded.rule_id,
		rule = excluded.rule`,
		ids, tenants, rules, texts, span.From, span.To).Error
}

// sumOf is what all tenants used over a span, by the minutes and by the sums: exact numbers as text.
func sumOf(tx *gorm.DB, span question.Span) (sums [2]string, err error) {
	for i, of := range []question.Book{question.WorkloadMinutes, question.TenantMinutes} {
		var b statement
		columns := []string{}
		for _, r := range amount.ResourceNames() {
			columns = append(columns, "coalesce(sum(u."+r+"), 0)::text")
		}
		scope := question.Scope{Span: span}
		err := tx.Raw(fmt.Sprintf("SELECT %s FROM %s u WHERE %s", strings.Join(columns, " || ' ' || "),
			shelves[of].table, b.within(&scope, shelves[of])), b.args...).Row().Scan(&sums[i])
		if err != nil {
			return sums, err
		}
	}
	return sums, nil
}

// Assignments lists to whom a workload was accounted, oldest first.
func (s *Store) Assignments(ctx context.Context, workloadID int64) ([]Assignment, error) {
	var a []Assignment
	return a, s.db.WithContext(ctx).Where("workload_id = ?", workloadID).Order("from_at").Find(&a).Error
}

// Assignment says to whom a workload is accounted from a time on.
type Assignment struct {
	WorkloadID int64
	FromAt     time.Time
	TenantID   int32
	RuleID     int32
	Rule       string
}
