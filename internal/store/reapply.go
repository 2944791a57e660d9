package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// ErrUnbalanced says that a re-attribution would have changed how much was used, and was undone.
var ErrUnbalanced = errors.New("the sums before and after differ; nothing was changed")

// Reapply accounts the usage of a span anew to the tenants given by workload, with its sums, all or nothing: it changes
// who, never how much. Moves hold from the span's begin until its end, where what held then holds on. Where only sums
// are kept, those that begin in the span are moved whole.
func (s *Store) Reapply(ctx context.Context, span question.Span, moves []Move, who string, detail any) error {
	ids, tenants, rules, texts := make([]int64, len(moves)), make([]int32, len(moves)), make([]int32, len(moves)),
		make([]string, len(moves))
	to := make(map[int64]int32, len(moves))
	for i, m := range moves {
		ids[i], tenants[i], rules[i], texts[i] = m.WorkloadID, m.TenantID, m.RuleID, m.Rule
		to[m.WorkloadID] = m.TenantID
	}
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockBooks).Error; err != nil {
			return err
		}
		var hosts []int32
		err := tx.Raw("SELECT DISTINCT host_id FROM workloads WHERE id = ANY($1) ORDER BY 1", ids).Scan(&hosts).Error
		if err != nil {
			return err
		}
		for _, host := range hosts {
			if err := s.retenant(tx, host, span, to); err != nil {
				return fmt.Errorf("host %d: %w", host, err)
			}
		}
		// The longest interval is a day.
		if err := forgetPeaks(tx, span.From, span.To.Add(question.ByDay.Length())); err != nil {
			return err
		}
		if err := reassign(tx, span, ids, tenants, rules, texts); err != nil {
			return fmt.Errorf("write down who holds what: %w", err)
		}
		return noteAct(tx, who, "reapply rules", fmt.Sprintf("%s to %s", span.From.Format(time.RFC3339),
			span.To.Format(time.RFC3339)), detail)
	})
}

// retenant accounts what one host's workloads used in a span to other tenants, hour by hour.
func (s *Store) retenant(tx *gorm.DB, host int32, span question.Span, to map[int64]int32) error {
	for _, table := range []string{looseLeaves, quires} {
		starts, err := startsOf(tx, table, host, question.ByHour.Floor(span.From), span.To)
		if err != nil {
			return err
		}
		for _, start := range starts {
			if err := s.retenantOne(tx, table, host, start, span, to); err != nil {
				return fmt.Errorf("%s of %s: %w", table, start.Format(time.RFC3339), err)
			}
		}
	}
	return retenantSums(tx, host, span, to)
}

// startsOf lists when the leaves of a host that are stored in a table begin.
func startsOf(tx *gorm.DB, table string, host int32, from, to time.Time) ([]time.Time, error) {
	var starts []time.Time
	err := tx.Raw(fmt.Sprintf(`SELECT start FROM %s WHERE host_id = $1 AND section = $2 AND start >= $3 AND start < $4
		ORDER BY 1`, table), host, hostSection, from, to).Scan(&starts).Error
	for i := range starts {
		starts[i] = starts[i].UTC()
	}
	return starts, err
}

// retenantOne accounts one leaf of intervals anew, with what is summed of it.
func (s *Store) retenantOne(tx *gorm.DB, table string, host int32, start time.Time, span question.Span,
	to map[int64]int32) error {
	list, err := leavesOf(tx, table, host, start, start.Add(time.Microsecond))
	if err != nil || len(list) == 0 {
		return err
	}
	l := list[0]
	before := sumsOf(l)
	minutes := s.tenantMinutes(l)
	if !l.Retenant(span, to) {
		return nil
	}
	if sumsOf(l) != before {
		return ErrUnbalanced
	}
	if err := moveMinutes(tx, host, minutes, s.tenantMinutes(l)); err != nil {
		return err
	}
	if err := putLeaf(tx, table, start, l); err != nil || table == looseLeaves {
		return err
	}
	return putHour(tx, start, l)
}

// retenantSums accounts anew the sums of which the detail is not kept.
func retenantSums(tx *gorm.DB, host int32, span question.Span, to map[int64]int32) error {
	// Hours that are bound and whose intervals are kept were accounted with these, and so have nothing to move here.
	bound, err := startsOf(tx, dayQuires, host, question.ByDay.Floor(span.From), span.To)
	if err != nil {
		return err
	}
	for _, day := range bound {
		list, err := leavesOf(tx, dayQuires, host, day, day.Add(time.Microsecond))
		if err != nil || len(list) == 0 || !list[0].Retenant(span, to) {
			if err != nil {
				return err
			}
			continue
		}
		if err := putLeaf(tx, dayQuires, day, list[0]); err != nil {
			return err
		}
		if err := forgetDay(tx, host, day); err != nil {
			return err
		}
	}
	for _, x := range []struct {
		table string
		finer []string
		grain question.Grain
	}{{hourLeaves, []string{quires}, question.ByHour}, {dayLeaves, []string{hourLeaves, dayQuires}, question.ByDay}} {
		starts, err := startsOf(tx, x.table, host, span.From, span.To)
		if err != nil {
			return err
		}
		for _, start := range starts {
			var finer []time.Time
			for _, table := range x.finer {
				more, err := startsOf(tx, table, host, start, start.Add(x.grain.Length()))
				if err != nil {
					return err
				}
				finer = append(finer, more...)
			}
			list, err := leavesOf(tx, x.table, host, start, start.Add(time.Microsecond))
			if err != nil || len(finer) > 0 || len(list) == 0 || !list[0].Retenant(span, to) {
				if err != nil {
					return err
				}
				continue
			}
			if err := putLeaf(tx, x.table, start, list[0]); err != nil {
				return err
			}
			if x.table == hourLeaves {
				if err := forgetDay(tx, host, start); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// sumsOf is what all workloads of a leaf used, whosever they are.
func sumsOf(l *leaf.Leaf) (sums [amount.NumResources]amount.Wide) {
	t := l.Tables[leaf.Uses]
	for row := range t.Rows() {
		for r := range sums {
			sums[r].Plus(t.Wide(t.Schema.Index(leaf.UseColumn(amount.Resource(r), "")), row))
		}
	}
	return sums
}

// tenantMinutes is what the tenants of a leaf of intervals used, by the minutes that they are counted in.
func (s *Store) tenantMinutes(l *leaf.Leaf) map[tenantKey]*tenantRow {
	sums := map[tenantKey]*tenantRow{}
	everything := question.Scope{Span: question.Span{To: time.Unix(1<<40, 0)}}
	v := l.View(&everything, func(int32) bool { return true })
	t, elapsed := l.Tables[leaf.Uses], l.Tables[leaf.Intervals].Of("elapsed")
	ats := t.Of(leaf.At)
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := v.User(slot, ats[row])
		if !seen {
			continue
		}
		for _, r := range amount.Resources() {
			told := t.Of(leaf.UseColumn(r, "untold"))[row] == 0
			s.byMinute.each(v.Start(ats[row]), elapsed[ats[row]], t.Of(leaf.UseColumn(r, ""))[row],
				func(minute time.Time, units int64) {
					k := tenantKey{minute, user.Tenant}
					if sums[k] == nil {
						sums[k] = &tenantRow{}
					}
					sums[k].told[r] = sums[k].told[r] || told
					sums[k].units[r].Add(units)
				})
		}
	}
	return sums
}

// moveMinutes takes what a leaf had of a host's sums by tenant out of them, and puts what it has now in.
func moveMinutes(tx *gorm.DB, host int32, was, is map[tenantKey]*tenantRow) error {
	for k, row := range was {
		var b statement
		var sets string
		for r, name := range amount.ResourceNames() {
			if sets != "" {
				sets += ", "
			}
			sets += fmt.Sprintf("%[1]s = %[1]s - %[2]s::numeric", name, b.arg(row.units[r].String()))
		}
		err := tx.Exec(fmt.Sprintf("UPDATE tenant_minute SET %s WHERE minute = %s AND host_id = %s AND tenant_id = %s",
			sets,
			b.arg(k.minute), b.arg(host), b.arg(k.tenant)), b.args...).Error
		if err != nil {
			return err
		}
	}
	return addTenants(tx, host, is)
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
