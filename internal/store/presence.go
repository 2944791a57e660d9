package store

import (
	"encoding/binary"
	"hash/maphash"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
)

// presence is which workloads the intervals of a batch hold. What is kept of it changes only when a workload comes or
// goes: a row written for each workload each minute would cost more than its usage.
type presence struct {
	begin, end time.Time // of the newest interval
	newest     []int64   // workloads in it
	seen       map[int64]time.Time
}

func (p *presence) note(ids []int64, begin, end time.Time) {
	if p.seen == nil {
		p.seen = map[int64]time.Time{}
	}
	for _, id := range ids {
		if end.After(p.seen[id]) {
			p.seen[id] = end
		}
	}
	if end.After(p.end) {
		p.begin, p.end, p.newest = begin, end, ids
	}
}

// storePresence writes down which workloads came and went since the host's newest interval that was stored.
func (in *ingestion) storePresence(tx *gorm.DB) error {
	p, host := &in.presence, in.host
	var alive []int64
	if err := tx.Raw("SELECT id FROM workloads WHERE host_id = $1 AND alive", host.ID).Scan(&alive).Error; err != nil {
		return err
	}
	was := make(map[int64]bool, len(alive))
	for _, id := range alive {
		was[id] = true
	}
	var came, went []int64
	var until []time.Time
	if host.LastAt == nil || p.end.After(*host.LastAt) {
		is := make(map[int64]bool, len(p.newest))
		for _, id := range p.newest {
			if is[id] = true; !was[id] {
				came = append(came, id)
			}
		}
		for _, id := range alive {
			if is[id] {
				continue
			}
			last, ok := p.seen[id]
			if !ok && host.LastAt != nil {
				last = *host.LastAt
			}
			went, until = append(went, id), append(until, last)
		}
		for id, last := range p.seen {
			if !is[id] && !was[id] {
				went, until = append(went, id), append(until, last)
			}
		}
	} else { // intervals that come late
		for id, last := range p.seen {
			if !was[id] {
				went, until = append(went, id), append(until, last)
			}
		}
	}
	if len(came) > 0 {
		if err := in.cameBack(tx, came, p.begin); err != nil {
			return err
		}
		err := tx.Exec(`UPDATE workloads SET alive = true, last_at = $1, due_at = NULL,
				ended_at = CASE WHEN ended_at >= $2 THEN ended_at END
			WHERE id = ANY($3)`, p.end, p.begin, came).Error
		if err != nil {
			return err
		}
	}
	if len(went) == 0 {
		return nil
	}
	return tx.Exec(`UPDATE workloads SET alive = false, due_at = NULL, last_at = greatest(CASE WHEN NOT alive
			THEN last_at END, u.until)
		FROM unnest($1::bigint[], $2::timestamptz[]) AS u(id, until) WHERE workloads.id = u.id`, went, until).Error
}

var markSeed = maphash.MakeSeed()

// markOf is a mark that changes when anything that is kept of a workload does. It holds within this process only.
func markOf(w *account.Workload) (mark [2]uint64) {
	var h maphash.Hash
	h.SetSeed(markSeed)
	for _, s := range []string{w.Name, w.Owner, w.Path, w.Allowed, w.Outer, w.Recogniser} {
		h.WriteString(s)
		h.WriteByte(0)
	}
	var numbers [16]byte
	binary.LittleEndian.PutUint64(numbers[:8], uint64(w.Kind))
	binary.LittleEndian.PutUint64(numbers[8:], uint64(w.UID))
	h.Write(numbers[:])
	mark[0] = h.Sum64()
	for i, m := range []map[string]string{w.Labels, w.Facts} {
		for k, v := range m { // a sum does not depend on the order
			h.Reset()
			h.WriteByte(byte(i))
			h.WriteString(k)
			h.WriteByte(0)
			h.WriteString(v)
			mark[1] += h.Sum64()
		}
	}
	return mark
}
