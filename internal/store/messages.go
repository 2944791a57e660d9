package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"time"

	"github.com/klauspost/compress/zstd"
	"google.golang.org/protobuf/proto"
	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
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
	in.figureRows = append(in.figureRows,
		[]any{in.host.ID, start, iv.ElapsedMillis, workloads, packer.EncodeAll(raw, nil)})
	return nil
}

// putInventory keeps what a host is made of, if it is newer than what is kept.
func (in *ingestion) putInventory(tx *gorm.DB, iv *wire.Interval) error {
	if iv.GetInventory() == nil {
		return nil
	}
	return tx.Exec(`INSERT INTO inventories (host_id, at, parts) VALUES ($1, $2, $3)
		ON CONFLICT (host_id) DO UPDATE SET at = excluded.at, parts = excluded.parts
			WHERE inventories.at < excluded.at`,
		in.host.ID, time.UnixMicro(iv.ToUnixMicros).UTC(), []byte(iv.Inventory.Json)).Error
}

// Messages visits what was counted beside the ledger on the hosts of a scope, by host and time. Without detail, the
// figures of each CPU, load and pressure are left out: reading them takes as long again as all else.
func (s *Store) Messages(ctx context.Context, scope *question.Scope, withDetail bool,
	visit func(*explain.Minute) error) error {
	held, err := s.holders(ctx, scope)
	if err != nil {
		return err
	}
	var b statement
	detail, from := "'{}'", "figure_minute u"
	if withDetail {
		detail = "h.detail::text"
		from += fmt.Sprintf(` JOIN host_minute h ON h.host_id = u.host_id AND h.start = u.start
			AND h.start >= %s AND h.start < %s`, b.arg(scope.Span.From), b.arg(scope.Span.To))
	}
	rows, err := s.db.WithContext(ctx).Raw(fmt.Sprintf(`SELECT u.host_id, u.start, u.elapsed_ms,
			array_to_json(u.workloads)::text, u.figures, %s FROM %s WHERE %s ORDER BY u.host_id, u.start`, detail, from,
		b.within(scope, shelves[question.Messages])), b.args...).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		m := explain.Minute{}
		figures, details := &wire.Figures{}, &wire.Detail{}
		var workloads, text string
		var packed []byte
		if err := rows.Scan(&m.Host, &m.Start, &m.ElapsedMillis, &workloads, &packed, &text); err != nil {
			return err
		}
		m.Start = m.Start.UTC()
		if err := json.Unmarshal([]byte(workloads), &m.Workloads); err != nil {
			return err
		}
		raw, err := unpacker.DecodeAll(packed, nil)
		if err == nil {
			err = proto.Unmarshal(raw, figures)
		}
		if err == nil {
			err = json.Unmarshal([]byte(text), details)
		}
		if err != nil {
			return fmt.Errorf("figures of host %d at %s: %w", m.Host, m.Start, err)
		}
		m.Tenants = make([]int32, len(m.Workloads))
		for i, w := range m.Workloads {
			m.Tenants[i] = held.tenantAt(w, m.Start)
			if !scope.HasWorkload(w) || !scope.HasTenant(m.Tenants[i]) {
				m.Workloads[i] = 0
			}
		}
		figures.Unpack(details, &m)
		if err := visit(&m); err != nil {
			return err
		}
	}
	return rows.Err()
}

// holders tell to whom workloads were accounted, by time.
type holders map[int64][]holding

type holding struct {
	from   time.Time
	tenant int32
}

// holders loads to whom the workloads of a scope were accounted. Usage carries its tenant in its own row; what was
// counted beside it is accounted as it was, by the same assignments.
func (s *Store) holders(ctx context.Context, scope *question.Scope) (holders, error) {
	var b statement
	query := `SELECT a.workload_id, a.from_at, coalesce(t.id, 0) AS tenant_id FROM assignments a
		JOIN workloads w ON w.id = a.workload_id LEFT JOIN tenants t ON t.id = a.tenant_id
		WHERE (w.alive OR w.last_at > ` + b.arg(scope.Span.From) + `) AND w.first_at < ` + b.arg(scope.Span.To)
	if scope.Hosts != nil {
		query += " AND " + b.oneOf("w.host_id", "int", scope.Hosts)
	}
	var rows []struct {
		WorkloadID int64
		FromAt     time.Time
		TenantID   int32
	}
	err := s.db.WithContext(ctx).Raw(query+" ORDER BY a.workload_id, a.from_at", b.args...).Scan(&rows).Error
	held := make(holders, len(rows))
	for _, r := range rows {
		held[r.WorkloadID] = append(held[r.WorkloadID], holding{r.FromAt, r.TenantID})
	}
	return held, err
}

// tenantAt is to whom a workload was accounted at a time; before its first assignment, to that one's.
func (h holders) tenantAt(workload int64, at time.Time) int32 {
	list := h[workload]
	if len(list) == 0 {
		return 0
	}
	after := sort.Search(len(list), func(i int) bool { return list[i].from.After(at) })
	return list[max(after-1, 0)].tenant
}

// besideKey is one workload under one tenant in one stretch.
type besideKey struct {
	start time.Time
	user  explain.User
}

// beside adds up what one workload had of measures that have no ledger.
type beside struct {
	host     int32
	sums     []besideSum
	newestAt time.Time
}

type besideSum struct {
	units  amount.Wide
	over   int64 // milliseconds of the intervals that have a figure
	source amount.Source
	known  bool
	lacks  bool // some interval has no figure
}

// askMessages answers for measures that have no ledger: it counts them out of the messages.
func (s *Store) askMessages(ctx context.Context, q *question.Question, read question.Read) ([]question.Row, error) {
	place := map[amount.Measure]int{}
	for i, m := range read.Measures {
		place[m] = i
	}
	byUser := map[besideKey]*beside{}
	newest := map[besideKey]holding{} // the tenant of each workload's newest interval in each stretch
	err := s.Messages(ctx, &q.Scope, false, func(m *explain.Minute) error {
		start := q.Stretch(m.Start)
		at := make([]*beside, len(m.Workloads))
		for row := range m.Workloads {
			user, seen := m.User(uint32(row))
			if !seen {
				continue
			}
			w := besideKey{start, explain.User{Workload: user.Workload}}
			if !m.Start.Before(newest[w].from) {
				newest[w] = holding{m.Start, user.Tenant}
			}
			if !q.Has(question.Tenant) {
				user.Tenant = 0
			}
			k := besideKey{start, user}
			if byUser[k] == nil {
				byUser[k] = &beside{host: m.Host, sums: make([]besideSum, len(read.Measures))}
			}
			at[row] = byUser[k]
		}
		has := make([]bool, len(m.Workloads)*len(read.Measures))
		for c := range m.Columns {
			i, asked := place[m.Columns[c].Measure]
			if !asked {
				continue
			}
			for k, row := range m.Columns[c].Rows {
				if int(row) < len(at) && at[row] != nil {
					has[int(row)*len(read.Measures)+i] = true
					at[row].sums[i].add(&m.Columns[c], k, m.ElapsedMillis)
				}
			}
		}
		for row, x := range at {
			for i := range read.Measures {
				if x != nil && !has[row*len(read.Measures)+i] {
					x.sums[i].lacks = true
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.groupBeside(ctx, q, read, byUser, newest)
}

func (x *besideSum) add(c *explain.Column, k int, elapsedMillis int64) {
	var units amount.Wide
	units.Add(c.Units[k])
	if c.Measure.Manner() == amount.Height {
		x.units.Raise(units)
	} else {
		x.units.Plus(units)
	}
	x.over += elapsedMillis
	x.source, x.known = x.source.Weaker(c.Source(k)), true
}

// groupBeside groups what workloads had by what is asked for.
func (s *Store) groupBeside(ctx context.Context, q *question.Question, read question.Read, byUser map[besideKey]*beside,
	newest map[besideKey]holding) ([]question.Row, error) {
	ids := make([]int64, 0, len(newest))
	for k := range newest {
		ids = append(ids, k.user.Workload)
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	records, err := s.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	tenants, err := s.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	names := map[int32]string{}
	for _, t := range tenants {
		names[t.ID] = t.Name
	}
	type group struct {
		row  question.Row
		sums []groupSum
	}
	groups := map[string]*group{}
	for k, x := range byUser {
		w := records[k.user.Workload]
		row := question.Row{Start: k.start}
		for _, d := range q.By {
			switch d {
			case question.Tenant:
				row.Tenant, row.Names.Tenant, row.Name = k.user.Tenant, names[k.user.Tenant], names[k.user.Tenant]
			case question.User:
				row.Names.Owner, row.Name = w.Owner, w.Owner
			case question.Kind:
				row.Names.Kind, row.Name = w.Kind, w.Kind
			case question.Host:
				row.Host, row.Names.Host, row.Name = w.HostID, w.Host.Name, w.Host.Name
			}
			if fact := d.Fact(); fact != "" {
				row.Name = w.Facts[fact]
			} else if key := d.Label(); key != "" {
				row.Name = w.Labels[key]
			}
		}
		if q.Has(question.Workload) {
			row.Workload, row.Host, row.Name = w.ID, w.HostID, w.Name
			row.Names.Kind, row.Names.Owner, row.Names.Host = w.Kind, w.Owner, w.Host.Name
			if !q.Has(question.Tenant) {
				row.Tenant = newest[besideKey{k.start, explain.User{Workload: w.ID}}].tenant
				row.Names.Tenant = names[row.Tenant]
			}
		}
		key := groupKey(&row)
		g := groups[key]
		if g == nil {
			g = &group{row: row, sums: make([]groupSum, len(read.Measures))}
			groups[key] = g
		}
		g.row.Parts, g.row.Workloads = g.row.Parts+1, g.row.Workloads+1
		for i, m := range read.Measures {
			g.sums[i].add(m, &x.sums[i])
		}
	}
	rows := make([]question.Row, 0, len(groups))
	for _, g := range groups {
		for i := range g.sums {
			g.row.Sums = append(g.row.Sums, g.sums[i].close())
		}
		rows = append(rows, g.row)
	}
	return rows, nil
}

// groupSum adds up what several workloads had of one measure, as its manner allows.
type groupSum struct {
	units   amount.Wide
	source  amount.Source
	known   int
	missing int
	over    int64
	apart   bool // it cannot be combined over workloads
}

func (g *groupSum) add(m amount.Measure, x *besideSum) {
	if x.lacks || !x.known {
		g.missing++
	}
	if !x.known {
		return
	}
	if m.Manner().OverWorkloads() == amount.Highest {
		g.units.Raise(x.units)
	} else {
		g.units.Plus(x.units)
	}
	g.apart = g.apart || g.known > 0 && m.Manner().OverWorkloads() == amount.Apart
	g.known++
	g.source, g.over = g.source.Weaker(x.source), max(g.over, x.over)
}

func (g *groupSum) close() question.Sum {
	if g.known == 0 || g.apart {
		return question.Sum{Source: amount.Unavailable, Missing: g.missing}
	}
	return question.Sum{Units: g.units.Float(), Source: g.source, Missing: g.missing, Over: g.over}
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
