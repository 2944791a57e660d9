package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/internal/wire"
)

// putInventory keeps what a host is made of, if it is newer than what is kept.
func (in *ingestion) putInventory(tx *gorm.DB, iv *wire.Interval) error {
	if iv.GetInventory() == nil {
		return nil
	}
	made, err := in.madeOtherwise(tx, iv)
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO inventories (host_id, at, parts, made) VALUES ($1, $2, $3, $4)
		ON CONFLICT (host_id) DO UPDATE SET at = excluded.at, parts = excluded.parts, made = excluded.made
			WHERE inventories.at < excluded.at`,
		in.host.ID, time.UnixMicro(iv.ToUnixMicros).UTC(), []byte(iv.Inventory.Json), made).Error
}

// Inventories is what hosts are made of, by host, of some (nil for all). Those whose collectors tell nothing are not in
// it.
func (s *Store) Inventories(ctx context.Context, hosts []int32) (map[int32]*account.Inventory, error) {
	var b statement
	where := ""
	if hosts != nil {
		where = " WHERE " + b.oneOf("host_id", "int", hosts)
	}
	var found []struct {
		HostID int32
		Parts  string
	}
	err := s.db.WithContext(ctx).Raw("SELECT host_id, parts::text AS parts FROM inventories"+where,
		b.args...).Scan(&found).Error
	all := make(map[int32]*account.Inventory, len(found))
	for _, x := range found {
		inv, err := (&wire.Inventory{Json: x.Parts}).Read()
		if err != nil {
			return nil, err
		}
		all[x.HostID] = inv
	}
	return all, err
}

// Inventory is what a host is made of, and when it told. Nil where its collector tells nothing.
func (s *Store) Inventory(ctx context.Context, hostID int32) (*account.Inventory, time.Time, error) {
	var found []struct {
		At    time.Time
		Parts string
	}
	if err := s.db.WithContext(ctx).Raw("SELECT at, parts::text AS parts FROM inventories WHERE host_id = $1",
		hostID).Scan(&found).Error; err != nil || len(found) == 0 {
		return nil, time.Time{}, err
	}
	inv, err := (&wire.Inventory{Json: found[0].Parts}).Read()
	return inv, found[0].At.UTC(), err
}
