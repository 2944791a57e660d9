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
	if err := in.recall(tx, t.GetKey()); err != nil {
		return nil, fmt.Errorf("recall: %w", err)
	}
	beyond, err := in.bound(tx, iv, start)
	if err != nil {
		return nil, fmt.Errorf("how many are new: %w", err)
	}
	seen := make([]int64, len(ids))
	for i, key := range t.GetKey() {
		if beyond != nil && beyond[i] {
			if ids[i], err = in.beyond(tx, start); err != nil {
				return nil, fmt.Errorf("those beyond the bound: %w", err)
			}
			seen[i] = ids[i].id
			in.folds = true
			continue
		}
		v, err := in.keep(tx, in.known[key], t.At(i), start)
		if err != nil {
			return nil, fmt.Errorf("store %q: %w", key, err)
		}
		if start.Before(v.first) { // an interval that comes late
			if err := tx.Exec("UPDATE workloads SET first_at = $1 WHERE id = $2", start, v.id).Error; err != nil {
				return nil, err
			}
			v.first = start
		}
		in.known[key] = v
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

// recall finds what is known of workloads by their keys: what is remembered, and what is stored of the others. So after
// a restart, or a change of rules, only what did change is written.
func (in *ingestion) recall(tx *gorm.DB, keys []string) error {
	var missing []string
	in.mu.Lock()
	remembered := in.workloads[in.host.ID]
	for _, key := range keys {
		if _, there := in.known[key]; there {
			continue
		}
		if v, there := remembered[key]; there {
			in.known[key] = v
		} else {
			missing = append(missing, key)
		}
	}
	in.mu.Unlock()
	if len(missing) == 0 {
		return nil
	}
	var stored []struct {
		Workload
		Since time.Time
	}
	err := tx.Raw(`SELECT w.*, coalesce(a.from_at, w.first_at) AS since FROM workloads w LEFT JOIN LATERAL (
			SELECT from_at FROM assignments WHERE workload_id = w.id ORDER BY from_at DESC LIMIT 1) a ON true
		WHERE w.host_id = $1 AND w.key = ANY($2)`, in.host.ID, missing).Scan(&stored).Error
	for i := range stored {
		w := &stored[i]
		core := w.Core()
		in.known[w.Key] = known{id: w.ID, tenantID: w.TenantID, ruleID: w.RuleID, since: w.Since, first: w.FirstAt,
			mark: markOf(&core), stale: true}
	}
	return err
}

// keep stores a workload if it is new or what is known of it changed, and returns it as it is known now.
func (in *ingestion) keep(tx *gorm.DB, v known, w account.Workload, at time.Time) (known, error) {
	mark := markOf(&w)
	if v.id != 0 && v.mark == mark && !v.stale {
		return v, nil
	}
	rule := in.assign(in.host.Name, w)
	if v.id != 0 && v.mark == mark && v.tenantID == rule.TenantID && v.ruleID == rule.ID {
		v.stale = false
		return v, nil
	}
	if v.id != 0 && v.mark != mark {
		if err := in.workloadHappened(tx, v.id, &w, at); err != nil {
			return v, err
		}
	}
	labels, err := json.Marshal(orEmpty(w.Labels))
	if err != nil {
		return v, err
	}
	facts, err := json.Marshal(orEmpty(w.Facts))
	if err != nil {
		return v, err
	}
	now := known{tenantID: rule.TenantID, ruleID: rule.ID, mark: mark}
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
