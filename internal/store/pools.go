package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
)

// Pools gives the pools of each host, by the host's name, sorted.
func (s *Store) Pools(ctx context.Context) (map[string][]string, error) {
	var rows []struct{ Name, Pool string }
	err := s.db.WithContext(ctx).Raw(
		"SELECT h.name, p.pool FROM pools p JOIN hosts h ON h.id = p.host_id ORDER BY 1, 2").Scan(&rows).Error
	pools := map[string][]string{}
	for _, r := range rows {
		pools[r.Name] = append(pools[r.Name], r.Pool)
	}
	return pools, err
}

// PutPools sets the pools a host is in. Rules may ask about them, so the rules count as changed.
func (s *Store) PutPools(ctx context.Context, hostID int32, pools []string) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM pools WHERE host_id = $1", hostID).Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO pools (host_id, pool) SELECT DISTINCT $1::int, p FROM unnest($2::text[]) p", hostID,
			pools).Error
	})
}

// Act is one line of the audit trail.
type Act struct {
	ID      int64
	At      time.Time
	Who     string
	Act     string
	Subject string
	Detail  string // JSON
}

// NoteAct adds a line to the audit trail.
func (s *Store) NoteAct(ctx context.Context, who, act, subject string, detail any) error {
	return noteAct(s.db.WithContext(ctx), who, act, subject, detail)
}

func noteAct(tx *gorm.DB, who, act, subject string, detail any) error {
	raw, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	return tx.Exec("INSERT INTO audit (who, act, subject, detail) VALUES ($1, $2, $3, $4)", who, act, subject,
		raw).Error
}

// Acts lists the audit trail, newest first.
func (s *Store) Acts(ctx context.Context, most int) ([]Act, error) {
	var acts []Act
	return acts,
		s.db.WithContext(ctx).Raw(
			"SELECT id, at, who, act, subject, detail::text AS detail FROM audit ORDER BY id DESC LIMIT $1",
			most).Scan(&acts).Error
}
