package store

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/internal/wire"
)

type tenantKey struct {
	minute time.Time
	tenant int32
}

type tenantRow struct {
	units [amount.NumResources]amount.Wide
	told  [amount.NumResources]bool // by some collector
}

// overlapSlack is by how much two intervals of a host may overlap: its clock is set by a little now and then.
const overlapSlack = time.Second

// take counts the intervals of a batch that are new, and what follows from the newest.
func (in *ingestion) take(tx *gorm.DB, b *wire.Batch) error {
	newest := b.Intervals[0]
	for _, iv := range b.Intervals {
		if iv.ToUnixMicros > newest.ToUnixMicros {
			newest = iv
		}
		isNew, err := in.note(tx, iv)
		if err != nil {
			return fmt.Errorf("interval %d: %w", iv.Sequence, err)
		}
		if !isNew {
			in.taken.Known++
			continue
		}
		in.taken.New++
		if err := in.addInterval(tx, iv); err != nil {
			return fmt.Errorf("interval %d: %w", iv.Sequence, err)
		}
	}
	in.taken.NewestTo = time.UnixMicro(newest.ToUnixMicros).UTC()
	if in.taken.New == 0 {
		return nil
	}
	memory := newest.LedgerOf(amount.Memory).GetCapacity().GetUnits() / newest.ElapsedMillis
	err := tx.Exec(`UPDATE hosts SET cpus = $1, memory_bytes = $2, boot = $3, cgroup_mode = $4, last_at = $5
		WHERE id = $6 AND (last_at IS NULL OR last_at < $5)`,
		newest.Cpus, memory, newest.Boot, newest.CgroupMode, in.taken.NewestTo, in.host.ID).Error
	if err != nil {
		return fmt.Errorf("update host: %w", err)
	}
	if err := in.storePresence(tx); err != nil {
		return fmt.Errorf("which workloads are there: %w", err)
	}
	if err := in.putRunning(tx, newest); err != nil {
		return fmt.Errorf("running processes: %w", err)
	}
	if err := in.putInventory(tx, newest); err != nil {
		return fmt.Errorf("what the host is made of: %w", err)
	}
	return addTenants(tx, in.host.ID, in.tenants)
}

// note writes down that an interval was counted; false where it was before. ErrOverlap for one of a time of which the
// host has told already, under another name.
func (in *ingestion) note(tx *gorm.DB, iv *wire.Interval) (isNew bool, err error) {
	start := time.UnixMicro(iv.FromUnixMicros).UTC()
	until := start.Add(time.Duration(iv.ElapsedMillis) * time.Millisecond)
	boot := bootOf(iv.Boot)
	var known, overlaps bool
	err = tx.Raw(`SELECT coalesce(bool_or(boot = $2 AND sequence = $3), false),
			coalesce(bool_or(NOT (boot = $2 AND sequence = $3)
				AND (start = $4 OR start < $6 AND until > $7)), false) FROM intake
		WHERE host_id = $1 AND start > $4::timestamptz - interval '1 day 1 second' AND start < $5`,
		in.host.ID, boot, int64(iv.Sequence), start, until, until.Add(-overlapSlack),
		start.Add(overlapSlack)).Row().Scan(&known, &overlaps)
	switch {
	case err != nil:
		return false, fmt.Errorf("what was counted beside it: %w", err)
	case known:
		return false, nil
	case overlaps:
		return false, fmt.Errorf("it begins at %s: %w", start.Format(time.RFC3339), ErrOverlap)
	}
	err = tx.Exec("INSERT INTO intake (host_id, boot, sequence, start, until) VALUES ($1, $2, $3, $4, $5)", in.host.ID,
		boot, int64(iv.Sequence), start, until).Error
	if err != nil {
		return false, fmt.Errorf("note it: %w", err)
	}
	return true, nil
}

// bootOf is a digest of a boot id. Two boots of one host in a billion have the same one; then only intervals that have
// the same number too would be taken for one, within a day.
func bootOf(boot string) int32 {
	h := fnv.New32a()
	h.Write([]byte(boot))
	return int32(h.Sum32())
}

// addInterval puts an interval's leaf beside those that are loose, and adds to the sums by tenant.
func (in *ingestion) addInterval(tx *gorm.DB, iv *wire.Interval) error {
	start := time.UnixMicro(iv.FromUnixMicros).UTC()
	ids, err := in.workloadsOf(tx, iv, start)
	if err != nil {
		return fmt.Errorf("workloads: %w", err)
	}
	who := make([]leaf.User, len(ids))
	for i, w := range ids {
		who[i] = leaf.User{Workload: w.id, Tenant: w.tenantID}
	}
	in.taken.Rows += len(who)
	in.sumTenants(iv, who, start)
	if err := forgetPeaks(tx, start, in.byMinute.end(start, iv.ElapsedMillis)); err != nil {
		return err
	}
	l := iv.Leaf(in.host.ID, who)
	if in.folds {
		l = leaf.Merge(l)
		in.folds = false
	}
	return putLeaf(tx, looseLeaves, start, l)
}

// sumTenants adds what the workloads of an interval used to the sums by tenant.
func (in *ingestion) sumTenants(iv *wire.Interval, who []leaf.User, start time.Time) {
	for _, r := range amount.Resources() {
		u := iv.UsageOf(r)
		for i, w := range who {
			units := int64(0)
			if u != nil && u.Source[i] != uint32(amount.Unavailable) { // else whatever stands there is no figure
				units = u.Units[i]
			}
			in.byMinute.each(start, iv.ElapsedMillis, units, func(minute time.Time, units int64) {
				k := tenantKey{minute, w.Tenant}
				t := in.tenants[k]
				if t == nil {
					t = &tenantRow{}
					in.tenants[k] = t
				}
				t.told[r] = t.told[r] || u != nil
				t.units[r].Add(units)
			})
		}
	}
}

// putRunning keeps the processes of the newest interval, if it is newer than those kept, as they were sent.
func (in *ingestion) putRunning(tx *gorm.DB, iv *wire.Interval) error {
	p := iv.GetProcesses()
	if p == nil {
		return nil
	}
	keys := iv.GetWorkloads().GetKey()
	if err := in.recall(tx, keys); err != nil { // an interval that was counted before
		return err
	}
	workloads := make([]int64, len(keys))
	for i, key := range keys {
		workloads[i] = in.known[key].id
	}
	packed, err := p.Pack()
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO running (host_id, at, workloads, processes) VALUES ($1, $2, $3, $4)
		ON CONFLICT (host_id) DO UPDATE SET at = excluded.at, workloads = excluded.workloads,
			processes = excluded.processes WHERE running.at < excluded.at`,
		in.host.ID, time.UnixMicro(iv.ToUnixMicros).UTC(), workloads, packed).Error
}

// addTenants adds to the sums by tenant, in key order so that concurrent writers do not deadlock.
func addTenants(tx *gorm.DB, hostID int32, sums map[tenantKey]*tenantRow) error {
	keys := make([]tenantKey, 0, len(sums))
	for k := range sums {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b tenantKey) int {
		if c := a.minute.Compare(b.minute); c != 0 {
			return c
		}
		return int(a.tenant) - int(b.tenant)
	})
	var minutes []time.Time
	var tenants []int32
	var units [amount.NumResources][]*string
	for _, k := range keys {
		minutes, tenants = append(minutes, k.minute), append(tenants, k.tenant)
		for r := range units {
			var sum *string // NULL where no collector tells
			if t := sums[k]; t.told[r] {
				text := t.units[r].String()
				sum = &text
			}
			units[r] = append(units[r], sum)
		}
	}
	var b statement
	var columns, arrays, adds []string
	host, from, who := b.arg(hostID), b.arg(minutes), b.arg(tenants)
	for r, name := range amount.ResourceNames() {
		columns, arrays = append(columns, name), append(arrays, b.arg(units[r])+"::numeric[]")
		adds = append(adds,
			fmt.Sprintf("%[1]s = coalesce(tenant_minute.%[1]s + excluded.%[1]s, tenant_minute.%[1]s, excluded.%[1]s)",
				name))
	}
	return tx.Exec(fmt.Sprintf(`INSERT INTO tenant_minute (minute, host_id, tenant_id, %[1]s)
		SELECT minute, %[2]s, tenant_id, %[1]s
		FROM unnest(%[3]s::timestamptz[], %[4]s::int[], %[5]s) AS u(minute, tenant_id, %[1]s)
		ON CONFLICT (minute, host_id, tenant_id) DO UPDATE SET %[6]s`, strings.Join(columns, ", "), host, from, who,
		strings.Join(arrays, ", "), strings.Join(adds, ", ")), b.args...).Error
}
