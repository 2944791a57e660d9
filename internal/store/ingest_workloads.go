package store

import (
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/internal/wire"
)

// workloadsOf returns the stored id and tenant of each workload of an interval, storing those that are new or changed.
func (in *ingestion) workloadsOf(tx *gorm.DB, iv *wire.Interval, start time.Time) ([]known, error) {
	t := iv.GetWorkloads()
	ids := make([]known, len(t.GetKey()))
	in.mu.Lock()
	for i, key := range t.GetKey() {
		k := workloadKey{in.host.ID, key}
		v, ok := in.learned[k]
		if !ok {
			v = in.workloads[k]
		}
		ids[i] = v
	}
	in.mu.Unlock()
	seen := make([]int64, len(ids))
	for i := range ids {
		v, err := in.keep(tx, ids[i], t.At(i), start)
		if err != nil {
			return nil, fmt.Errorf("store %q: %w", t.Key[i], err)
		}
		if start.Before(v.first) { // an interval that comes late
			if err := tx.Exec("UPDATE workloads SET first_at = $1 WHERE id = $2", start, v.id).Error; err != nil {
				return nil, err
			}
			v.first = start
			in.learned[workloadKey{in.host.ID, t.Key[i]}] = v
		}
		seen[i] = v.id
		if start.Before(v.since) { // an interval from before the rules that are in force now: whose it was then
			if v.tenantID, err = tenantAt(tx, v.id, start); err != nil {
				return nil, err
			}
		}
		ids[i] = v
	}
	in.presence.note(seen, start, time.UnixMicro(iv.ToUnixMicros).UTC())
	return ids, nil
}

// keep stores a workload if it is new or what is known of it changed, and returns it as it is known now.
func (in *ingestion) keep(tx *gorm.DB, v known, w account.Workload, at time.Time) (known, error) {
	mark := markOf(&w)
	if v.id != 0 && v.mark == mark {
		return v, nil
	}
	labels, err := json.Marshal(orEmpty(w.Labels))
	if err != nil {
		return v, err
	}
	facts, err := json.Marshal(orEmpty(w.Facts))
	if err != nil {
		return v, err
	}
	rule := in.assign(in.host.Name, w)
	now := known{tenantID: rule.TenantID, mark: mark}
	err = tx.Raw(`INSERT INTO workloads (host_id, key, kind, name, owner, uid, path, allowed, labels, tenant_id,
			rule_id, first_at, outer_key, recogniser, facts)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
		ON CONFLICT (host_id, key) DO UPDATE SET kind = $3, name = $4, owner = $5, uid = $6, path = $7, allowed = $8,
		labels = $9, tenant_id = $10, rule_id = $11,
			first_at = least(workloads.first_at, $12), outer_key = $13, recogniser = $14, facts = $15
		RETURNING id, first_at`,
		in.host.ID, w.Key, w.Kind.String(), w.Name, w.Owner, w.UID, w.Path, w.Allowed, labels, rule.TenantID, rule.ID,
		at, w.Outer, w.Recogniser, facts).Row().Scan(&now.id, &now.first)
	if err != nil {
		return v, err
	}
	// A new tenant or rule holds from now on; the same one from when it began.
	err = tx.Raw(`WITH last AS (SELECT * FROM assignments WHERE workload_id = $1
			ORDER BY from_at DESC LIMIT 1),
		put AS (INSERT INTO assignments (workload_id, from_at, tenant_id, rule_id, rule)
			SELECT $1, $2, $3, $4, $5 WHERE NOT EXISTS (SELECT 1 FROM last WHERE tenant_id = $3 AND rule_id = $4)
			ON CONFLICT (workload_id, from_at) DO UPDATE SET tenant_id = $3, rule_id = $4, rule = $5 RETURNING from_at)
		SELECT coalesce((SELECT from_at FROM put), (SELECT from_at FROM last), $2)`,
		now.id, at, rule.TenantID, rule.ID, rule.Expression).Row().Scan(&now.since)
	if err != nil {
		return v, fmt.Errorf("assign: %w", err)
	}
	in.learned[workloadKey{in.host.ID, w.Key}] = now
	return now, nil
}

// tenantAt is the tenant a workload was accounted to at a time; before its first assignment, that one's.
func tenantAt(tx *gorm.DB, workloadID int64, at time.Time) (tenantID int32, err error) {
	err = tx.Raw(
		`SELECT tenant_id FROM assignments WHERE workload_id = $1
			ORDER BY from_at <= $2 DESC,
			CASE WHEN from_at <= $2 THEN $2 - from_at ELSE from_at - $2 END LIMIT 1`,
		workloadID, at).Row().Scan(&tenantID)
	return tenantID, err
}

func orEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}
