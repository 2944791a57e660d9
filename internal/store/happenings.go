package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

// Happening is something that was seen to happen on a host. WorkloadID is 0 where it is about the host.
type Happening struct {
	HostID     int32
	WorkloadID int64
	explain.Happening
}

// mostHappenings is how many are written down of a host in a day. More are of one that flutters, and fill the book.
const mostHappenings = 5000

// happened writes down what was seen to happen on the host, or to one of its workloads.
func (in *ingestion) happened(tx *gorm.DB, workload int64, list []explain.Happening) error {
	for i := range list {
		x := &list[i]
		var of *int64
		if workload != 0 {
			of = &workload
		}
		if err := tx.Exec(`INSERT INTO happenings (host_id, start, workload_id, kind, name, what, said, urgent)
			SELECT $1, $2, $3, $4, $5, $6, $7, $8 WHERE (SELECT count(*) FROM happenings
				WHERE host_id = $1 AND start > $2::timestamptz - interval '1 day') < $9`, in.host.ID, x.At, of,
			x.Kind, x.Name, x.Of, x.Text, x.Urgent, mostHappenings).Error; err != nil {
			return fmt.Errorf("what happened: %w", err)
		}
	}
	return nil
}

// Happenings lists what was seen to happen in a scope's span, at most so many, the newest first: of workloads that may
// be seen, and, where all may, of the hosts.
func (s *Store) Happenings(ctx context.Context, scope *question.Scope, most int) (list []Happening, err error) {
	var b statement
	from, to := b.arg(scope.Span.From), b.arg(scope.Span.To)
	whose := "true"
	if seen := scope.Seen(); seen != nil {
		whose = b.oneOf("w.tenant_id", "int", seen)
	}
	if scope.Only != nil {
		whose += " AND " + b.oneOf("w.id", "bigint", scope.Only)
	}
	rows, err := s.db.WithContext(ctx).Raw(fmt.Sprintf(`SELECT h.host_id, coalesce(h.workload_id, 0), h.start, h.kind,
			h.name, h.what, h.said, h.urgent
		FROM happenings h LEFT JOIN workloads w ON w.id = h.workload_id
		WHERE %s AND h.start >= %s AND h.start < %s AND (h.workload_id IS NULL AND %t OR w.id IS NOT NULL AND %s)
		ORDER BY h.start DESC, h.id LIMIT %s`, b.ofHosts("h.host_id", scope.Hosts), from, to, scope.IsWhole(), whose,
		b.arg(most)), b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what happened: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var x Happening
		if err := rows.Scan(&x.HostID, &x.WorkloadID, &x.At, &x.Kind, &x.Name, &x.Of, &x.Text, &x.Urgent); err != nil {
			return nil, err
		}
		x.At = x.At.UTC()
		list = append(list, x)
	}
	return list, rows.Err()
}

// workloadHappened writes down in what a workload that is known is told otherwise than before. What an interval tells
// that comes late is no news.
func (in *ingestion) workloadHappened(tx *gorm.DB, id int64, is *account.Workload, at time.Time) error {
	if in.host.LastAt != nil && at.Before(in.host.LastAt.Add(-lateBy)) {
		return nil
	}
	var was Workload
	found := tx.Raw("SELECT * FROM workloads WHERE id = $1", id).Scan(&was)
	if found.Error != nil || found.RowsAffected == 0 {
		return found.Error
	}
	before := was.Core()
	return in.happened(tx, id, explain.WorkloadChanges(&before, is, at))
}

// lateBy is by how much an interval may begin before the newest that is known and be no late one.
const lateBy = 5 * time.Second

// cameBack writes down which of some workloads run again at a time, and were not there for a while.
func (in *ingestion) cameBack(tx *gorm.DB, ids []int64, at time.Time) error {
	var back []struct {
		ID     int64
		Kind   string
		LastAt time.Time
	}
	if err := tx.Raw(`SELECT id, kind, last_at FROM workloads WHERE id = ANY($1) AND NOT alive AND last_at < $2
		ORDER BY id`, ids, at).Scan(&back).Error; err != nil {
		return err
	}
	for _, w := range back {
		kind, err := amount.ParseKind(w.Kind)
		if err != nil {
			continue
		}
		if x, is := explain.CameBack(kind, at, at.Sub(w.LastAt)); is {
			if err := in.happened(tx, w.ID, []explain.Happening{x}); err != nil {
				return err
			}
		}
	}
	return nil
}

// madeOtherwise writes down in what a host is made otherwise than when it told last, and returns what it is made of.
func (in *ingestion) madeOtherwise(tx *gorm.DB, iv *wire.Interval) ([]byte, error) {
	inv, err := iv.Inventory.Read()
	if err != nil {
		return nil, err
	}
	is := explain.MadeBy(inv)
	raw, err := json.Marshal(is)
	if err != nil {
		return nil, err
	}
	at := time.UnixMicro(iv.ToUnixMicros).UTC()
	var stored string
	found := tx.Raw("SELECT made::text FROM inventories WHERE host_id = $1 AND at < $2 AND made <> $3", in.host.ID, at,
		raw).Scan(&stored)
	if found.Error != nil || found.RowsAffected == 0 {
		return raw, found.Error
	}
	var was explain.Made
	if err := json.Unmarshal([]byte(stored), &was); err != nil { // by a program that knows more
		return raw, nil
	}
	return raw, in.happened(tx, 0, explain.MadeChanges(&was, is, at))
}
