package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"
	"google.golang.org/protobuf/proto"
	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/internal/wire"
)

// A pair that is made once: both keep what they need between calls, and are safe for use at the same time.
var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(wire.MaxBody))
)

func (in *ingestion) addFigures(iv *wire.Interval, ids []known, start time.Time) error {
	f := iv.GetFigures()
	if f == nil {
		return nil
	}
	raw, err := proto.Marshal(f)
	if err != nil {
		return fmt.Errorf("keep figures: %w", err)
	}
	workloads := make([]int64, len(ids))
	for i := range ids {
		workloads[i] = ids[i].id
	}
	in.figureRows = append(in.figureRows, []any{in.host.ID, start, iv.ElapsedMillis, workloads,
		packer.EncodeAll(raw, nil)})
	return nil
}

// putInventory keeps what a host is made of, if it is newer than what is kept.
func (in *ingestion) putInventory(tx *gorm.DB, iv *wire.Interval) error {
	if iv.GetInventory() == nil {
		return nil
	}
	return tx.Exec(`INSERT INTO inventories (host_id, at, parts) VALUES ($1, $2, $3)
		ON CONFLICT (host_id) DO UPDATE SET at = excluded.at, parts = excluded.parts WHERE inventories.at < excluded.at`,
		in.host.ID, time.UnixMicro(iv.ToUnixMicros).UTC(), []byte(iv.Inventory.Json)).Error
}

// FigureRow is what was counted on one host in one interval beside the ledger. Rows of Figures name workloads by their
// place in Workloads.
type FigureRow struct {
	HostID        int32
	Start         time.Time
	ElapsedMillis int64
	Workloads     []int64
	Figures       *wire.Figures
	Detail        *wire.Detail
}

// EachFigures visits the figures of a host (all for 0) over a span, by host and time. Without detail, Detail is empty:
// reading it takes as long again as the figures.
func (s *Store) EachFigures(ctx context.Context, hostID int32, span Span, withDetail bool,
	visit func(*FigureRow) error) error {
	detail := "'{}'"
	if withDetail {
		detail = "h.detail::text"
	}
	rows, err := s.db.WithContext(ctx).Raw(`SELECT f.host_id, f.start, f.elapsed_ms, array_to_json(f.workloads)::text, f.figures, `+detail+`
		FROM figure_minute f JOIN host_minute h ON h.host_id = f.host_id AND h.start = f.start
		WHERE ($1 = 0 OR f.host_id = $1) AND f.start >= $2 AND f.start < $3 AND h.start >= $2 AND h.start < $3 ORDER BY f.host_id, f.start`, hostID, span.From, span.To).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		r := FigureRow{Figures: &wire.Figures{}, Detail: &wire.Detail{}}
		var workloads, detail string
		var packed []byte
		if err := rows.Scan(&r.HostID, &r.Start, &r.ElapsedMillis, &workloads, &packed, &detail); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(workloads), &r.Workloads); err != nil {
			return err
		}
		raw, err := unpacker.DecodeAll(packed, nil)
		if err != nil {
			return fmt.Errorf("figures of host %d at %s: %w", r.HostID, r.Start, err)
		}
		if err := proto.Unmarshal(raw, r.Figures); err != nil {
			return fmt.Errorf("figures of host %d at %s: %w", r.HostID, r.Start, err)
		}
		if err := json.Unmarshal([]byte(detail), r.Detail); err != nil {
			return fmt.Errorf("detail of host %d at %s: %w", r.HostID, r.Start, err)
		}
		if err := visit(&r); err != nil {
			return err
		}
	}
	return rows.Err()
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

// WorkloadsByID finds workloads by their numbers.
func (s *Store) WorkloadsByID(ctx context.Context, ids []int64) (map[int64]Workload, error) {
	var list []Workload
	if err := s.db.WithContext(ctx).Preload("Host").Where("id IN ?", ids).Find(&list).Error; err != nil {
		return nil, err
	}
	byID := make(map[int64]Workload, len(list))
	for _, w := range list {
		byID[w.ID] = w
	}
	return byID, nil
}
