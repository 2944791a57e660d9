package store

import (
	"context"
	"fmt"
	"time"

	"vinescale/core/question"
)

// Lived lists the workloads of a scope that began or ended in its span, at most so many, the newest first.
func (s *Store) Lived(ctx context.Context, scope *question.Scope, most int) (list []Workload, err error) {
	var b statement
	from, to := b.arg(scope.Span.From), b.arg(scope.Span.To)
	whose := "true"
	if seen := scope.Seen(); seen != nil {
		whose = b.oneOf("w.tenant_id", "int", seen)
	}
	ended := "coalesce(w.ended_at, w.last_at)"
	query := fmt.Sprintf(`SELECT w.id FROM workloads w
		WHERE %[1]s AND %[2]s AND (w.first_at >= %[3]s AND w.first_at < %[4]s
			OR NOT w.alive AND %[5]s >= %[3]s AND %[5]s < %[4]s)
		ORDER BY greatest(w.first_at, CASE WHEN w.alive THEN NULL ELSE %[5]s END) DESC LIMIT %[6]s`,
		b.ofHosts("w.host_id", scope.Hosts), whose, from, to, ended, b.arg(most))
	var ids []int64
	if err := s.db.WithContext(ctx).Raw(query, b.args...).Scan(&ids).Error; err != nil {
		return nil, fmt.Errorf("what began and ended: %w", err)
	}
	stored, err := s.WorkloadsByID(ctx, ids)
	for _, id := range ids {
		if w, is := stored[id]; is {
			list = append(list, w)
		}
	}
	return list, err
}

// NewOrigins tells which sign-ins, by number, are the first of their owner from where they came.
func (s *Store) NewOrigins(ctx context.Context, signIns []int64) (map[int64]bool, error) {
	found := map[int64]bool{}
	if len(signIns) == 0 {
		return found, nil
	}
	var ids []int64
	err := s.db.WithContext(ctx).Raw(`SELECT w.id FROM workloads w WHERE w.id = ANY ($1::bigint[])
		AND w.facts ->> 'origin' <> '' AND NOT EXISTS (SELECT 1 FROM workloads o WHERE o.kind = w.kind
			AND o.owner = w.owner AND o.facts ->> 'origin' = w.facts ->> 'origin'
			AND (o.first_at, o.id) < (w.first_at, w.id))`, signIns).Scan(&ids).Error
	for _, id := range ids {
		found[id] = true
	}
	return found, err
}

// Boot is when a host began to tell of another boot than before.
type Boot struct {
	HostID int32
	Start  time.Time
}

// Boots lists when hosts of a scope began to tell of another boot in its span.
func (s *Store) Boots(ctx context.Context, scope *question.Scope) (list []Boot, err error) {
	var b statement
	from := b.arg(scope.Span.From)
	query := fmt.Sprintf(`SELECT host_id, start FROM (
			SELECT u.host_id, u.start, u.boot, lag(u.boot) OVER (PARTITION BY u.host_id ORDER BY u.start) AS before
			FROM intake u WHERE u.start >= %[1]s::timestamptz - interval '1 day' AND u.start < %[2]s AND %[3]s) x
		WHERE before <> boot AND start >= %[1]s ORDER BY 2, 1`, from, b.arg(scope.Span.To), b.ofHosts("u.host_id",
		scope.Hosts))
	if err := s.db.WithContext(ctx).Raw(query, b.args...).Scan(&list).Error; err != nil {
		return nil, fmt.Errorf("when hosts were booted: %w", err)
	}
	return list, nil
}

// ActsBetween reads the audit trail of a span, the newest first.
func (s *Store) ActsBetween(ctx context.Context, span question.Span, most int) (acts []Act, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT id, at, who, act, subject, detail::text AS detail FROM audit
		WHERE at >= $1 AND at < $2 ORDER BY id DESC LIMIT $3`, span.From, span.To, most).Scan(&acts).Error
	return acts, err
}
