package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
)

// ErrUnbalanced says that a re-attribution would have changed how much was used, and was undone.
var ErrUnbalanced = errors.New("the sums before and after differ; nothing was changed")

// Reassignment is what a re-attribution of history moves from one tenant to another, in account units.
type Reassignment struct {
	FromID, ToID               int32
	Workloads                  int
	CPU, Memory, Disk, Network float64
}

// Used is what a workload used over a span under one tenant, in account units.
type Used struct {
	WorkloadID                 int64
	TenantID                   int32
	CPU, Memory, Disk, Network float64
}

// UsesByTenant lists what each workload used over a span under each tenant it was accounted to.
func (s *Store) UsesByTenant(ctx context.Context, span Span) ([]Used, error) {
	var uses []Used
	return uses, s.db.WithContext(ctx).Raw(`SELECT workload_id, tenant_id, sum(cpu)::float8 AS cpu, sum(memory)::float8 AS memory, sum(disk)::float8 AS disk,
		sum(network)::float8 AS network FROM usage_minute WHERE start >= $1 AND start < $2 GROUP BY 1, 2`, span.From, span.To).Scan(&uses).Error
}

// Reapply accounts the usage of a span anew to the tenants given by workload, with its sums by tenant, all or nothing:
// it changes who, never how much. Moves hold from the span's begin until its end, where what held then holds on.
func (s *Store) Reapply(ctx context.Context, span Span, moves []Move, who string, detail any) error {
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
		for _, table := range []string{"usage_minute", "cpu_minute"} {
			err := tx.Exec(
				"UPDATE "+table+" SET tenant_id = tenant FROM "+moved+" WHERE workload_id = m.id AND tenant_id <> tenant AND start >= $3 AND start < $4",
				ids, tenants, span.From, span.To).Error
			if err != nil {
				return fmt.Errorf("account %s anew: %w", table, err)
			}
		}
		if err := tx.Exec("DELETE FROM tenant_minute WHERE minute >= $1 AND minute < $2", span.From,
			span.To).Error; err != nil {
			return err
		}
		err = tx.Exec(fmt.Sprintf(`INSERT INTO tenant_minute (minute, host_id, tenant_id, workloads, cpu, memory, disk, network,
				cpu_missing, memory_missing, disk_missing, network_missing)
			SELECT date_trunc('minute', start), host_id, tenant_id, count(DISTINCT workload_id), sum(cpu), sum(memory), sum(disk), sum(network),
				count(*) FILTER (WHERE cpu_source = %[1]d), count(*) FILTER (WHERE memory_source = %[1]d),
				count(*) FILTER (WHERE disk_source = %[1]d), count(*) FILTER (WHERE network_source = %[1]d)
			FROM usage_minute WHERE start >= $1 AND start < $2 GROUP BY 1, 2, 3`, amount.Unavailable), span.From, span.To).Error
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
func reassign(tx *gorm.DB, span Span, ids []int64, tenants, rules []int32, texts []string) error {
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
		SELECT m.id, greatest($5::timestamptz, least(w.first_at, $6::timestamptz - interval '1 microsecond')), tenant, rule, text FROM unnest($1::bigint[], $2::int[], $3::int[], $4::text[]) AS m(id, tenant, rule, text)
		JOIN workloads w ON w.id = m.id
		ON CONFLICT (workload_id, from_at) DO UPDATE SET tenant_id = excluded.tenant_id, rule_id = excluded.rule_id, rule = excluded.rule`,
		ids, tenants, rules, texts, span.From, span.To).Error
}

// sumOf is what all tenants used over a span, by the minutes and by the sums.
func sumOf(tx *gorm.DB, span Span) (sum [2 * amount.NumResources]string, err error) {
	for i, from := range []string{"usage_minute WHERE start", "tenant_minute WHERE minute"} {
		column := map[bool]string{true: "start", false: "minute"}[i == 0]
		err = tx.Raw(
			"SELECT coalesce(sum(cpu), 0)::text, coalesce(sum(memory), 0)::text, coalesce(sum(disk), 0)::text, coalesce(sum(network), 0)::text FROM "+
				from+" >= $1 AND "+column+" < $2", span.From, span.To).Row().
			Scan(&sum[4*i], &sum[4*i+1], &sum[4*i+2], &sum[4*i+3])
		if err != nil {
			return sum, err
		}
	}
	return sum, nil
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
