package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"vinescale/core/question"
	"vinescale/internal/wire"
)

// Notice takes in news of a host's workloads: those that are new get a row that says when their first usage is due.
// RulesVersion is the version assign was made of; ErrRulesChanged when another is in force.
func (s *Store) Notice(ctx context.Context, host Host, n *wire.Notices, rulesVersion int64, assign Assigner) error {
	s.useRules(rulesVersion)
	in := &ingestion{Store: s, host: host, assign: assign, known: map[string]known{}}
	at, due := time.UnixMicro(n.AtUnixMicros).UTC(), time.UnixMicro(n.DueUnixMicros).UTC()
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := enter(tx, host.ID); err != nil {
			return err
		}
		if err := inForce(tx, rulesVersion); err != nil {
			return err
		}
		if err := in.recall(tx, n.GetWorkloads().GetKey()); err != nil {
			return fmt.Errorf("recall: %w", err)
		}
		for i, key := range n.GetWorkloads().GetKey() {
			v, err := in.keep(tx, in.known[key], n.Workloads.At(i), at)
			if err != nil {
				return fmt.Errorf("store %q: %w", n.Workloads.Key[i], err)
			}
			var ended *time.Time
			if n.EndedMicros[i] != 0 {
				t := time.UnixMicro(n.EndedMicros[i]).UTC()
				ended = &t
			}
			err = tx.Exec(`UPDATE workloads SET due_at = CASE WHEN last_at IS NULL AND $2::timestamptz IS NULL
					THEN $3::timestamptz END,
				ended_at = coalesce($2::timestamptz, ended_at) WHERE id = $1`, v.id, ended, due).Error
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Warming lists the workloads of a scope's hosts and tenants that have no usage yet, and when their first is due: those
// due after since.
func (s *Store) Warming(ctx context.Context, scope *question.Scope, since time.Time) ([]Workload, error) {
	q := s.db.WithContext(ctx).Preload("Host").Where("due_at > ? AND last_at IS NULL", since)
	if scope.Hosts != nil {
		q = q.Where("host_id IN ?", scope.Hosts)
	}
	var w []Workload
	if err := q.Order("due_at, id").Find(&w).Error; err != nil {
		return nil, err
	}
	return slices.DeleteFunc(w, func(w Workload) bool {
		return !scope.HasTenant(w.TenantID) || !scope.HasWorkload(w.ID)
	}), nil
}
