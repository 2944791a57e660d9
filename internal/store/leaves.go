package store

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/frames"
	"vinescale/internal/pack"
)

// The tables that hold leaves. Each has a row for a section of a leaf, by the leaf's host and begin.
const (
	looseLeaves = "loose_leaves"
	quires      = "quires"
	hourLeaves  = "hour_leaves"
	dayQuires   = "day_quires"
	dayLeaves   = "day_leaves"
)

// hostSection is the section that every leaf has, with Who beside it: who reads any other needs both.
var hostSection = leaf.SectionOf(leaf.Intervals)

// allSections are the sections of a whole leaf.
var allSections = leaf.SectionsOf(leaf.Tables()...)

// putLeaf stores a leaf in one of the tables, in place of what is there.
func putLeaf(tx *gorm.DB, table string, start time.Time, l *leaf.Leaf) error {
	columns, values, sets := "host_id, start, section, body", "$1, $2, section, body", "body = excluded.body"
	switch table {
	case looseLeaves:
		columns, values = columns+", single", fmt.Sprintf("%s, %t", values, l.Intervals() == 1)
	case dayQuires:
		columns, values = columns+", hours", fmt.Sprintf("%s, %d", values, l.Hours())
		sets += ", hours = excluded.hours"
	}
	var sections []string
	var bodies [][]byte
	for _, s := range allSections {
		if l.Has(s) || s == hostSection {
			sections, bodies = append(sections, s), append(bodies, pack.Encode(l, s))
		}
	}
	err := tx.Exec(fmt.Sprintf(`INSERT INTO %s (%s) SELECT %s
			FROM unnest($3::text[], $4::bytea[]) AS u(section, body)
		ON CONFLICT (host_id, start, section) DO UPDATE SET %s`, table, columns, values, sets), l.Host, start,
		sections, bodies).Error
	if err != nil {
		return fmt.Errorf("store the leaf of host %d at %s in %s: %w", l.Host, start.Format(time.RFC3339), table, err)
	}
	return nil
}

// piece is a leaf as it is stored.
type piece struct {
	Grain question.Grain // of each of its intervals
	Loose bool           // an interval that is in no quire yet
	Host  int32
	Start time.Time
	*leaf.Leaf
}

// stored is the query that finds the leaves that answer for a reading: of days and hours their sums, of the rest the
// intervals. Detail that is past its keeping is answered for by the sum that begins in the span.
func (b *statement) stored(hosts []int32, r question.Reading, sections []string) string {
	return b.storedColumns(hosts, r, sections, "u.host_id, u.start, u.section, u.body")
}

// storedColumns is stored with other columns, after grain and loose, and before hours: those of a day's quire that
// answer (Leaf.OnlyHours), 0 for any other leaf.
func (b *statement) storedColumns(hosts []int32, r question.Reading, sections []string, columns string) string {
	var parts []string
	find := func(grain question.Grain, isLoose bool, table string, span question.Span, more string) {
		parts = append(parts, fmt.Sprintf("SELECT %d AS grain, %t AS loose, %s, 0 AS hours FROM %s u WHERE %s AND %s%s",
			grain, isLoose, columns, table, b.ofHosts("u.host_id", hosts), b.begun(sections, span), more))
	}
	// without tells that a finer table has nothing of a sum.
	without := func(table, length string) string {
		return fmt.Sprintf(` AND NOT EXISTS (SELECT 1 FROM %s d WHERE d.host_id = u.host_id AND d.section = %s
			AND d.start >= u.start AND d.start < u.start + interval '%s')`, table, quoted(hostSection), length)
	}
	find(question.ByInterval, true, looseLeaves,
		question.Span{From: question.ByHour.Floor(r.Span.From), To: r.Span.To}, "")
	for _, edge := range r.Span.Less(r.Hours) {
		from := edge
		from.From = question.ByHour.Floor(edge.From)
		find(question.ByInterval, false, quires, from, "")
		find(question.ByHour, false, hourLeaves, edge, without(quires, "1 hour")) // whose intervals are not kept
	}
	for _, rest := range r.Hours.Less(r.Days) {
		find(question.ByHour, false, hourLeaves, rest, "")
	}
	for _, rest := range r.Span.Less(r.Days) {
		rest.From = question.ByDay.Floor(rest.From)
		parts = append(parts, fmt.Sprintf(`SELECT %d AS grain, false AS loose, %s, answer.hours FROM %s u
			CROSS JOIN LATERAL (SELECT u.hours & %s AS hours OFFSET 0) answer
			WHERE %s AND %s AND answer.hours <> 0`, question.ByHour, columns, dayQuires, b.hoursThatAnswer(r),
			b.ofHosts("u.host_id", hosts), b.begun(sections, rest)))
	}
	if !r.Days.IsEmpty() {
		find(question.ByDay, false, dayLeaves, r.Days, "")
		// Days that have no sum are those that are due for one. They are few, and so are looked up first. Their hours
		// stand alone.
		parts = append(parts, fmt.Sprintf(`SELECT %d AS grain, false AS loose, x.*, 0 AS hours
			FROM due_days d CROSS JOIN LATERAL (
				SELECT %s FROM %s u WHERE u.host_id = d.host_id AND u.start >= d.day
					AND u.start < d.day + interval '1 day' AND %s OFFSET 0) x
			WHERE %s AND d.day >= %s AND d.day < %s`, question.ByHour, columns, hourLeaves,
			b.oneOf("u.section", "text", sections), b.ofHosts("d.host_id", hosts), b.arg(r.Days.From),
			b.arg(r.Days.To)))
	}
	for _, edge := range r.Span.Less(r.Days) { // days whose hours are not kept
		find(question.ByDay, false, dayLeaves, edge, without(hourLeaves, "1 day")+without(dayQuires, "1 day"))
	}
	return strings.Join(parts, " UNION ALL ")
}

// allHours are the hours of a day, as the bits of Leaf.OnlyHours.
const allHours = 1<<24 - 1

// hoursThatAnswer tells which hours of the quire of a day u answer for a reading: those that it takes by the hour, and
// at its edges those whose intervals are not kept.
func (b *statement) hoursThatAnswer(r question.Reading) string {
	within := func(column string, less time.Duration, spans []question.Span) string {
		one := "false"
		for _, span := range spans {
			one += fmt.Sprintf(" OR %s >= %s AND %s < %s", column, b.arg(span.From), column, b.arg(span.To.Add(-less)))
		}
		return one
	}
	const lessThanADay = 24*time.Hour - time.Microsecond
	byHour, edges := r.Hours.Less(r.Days), r.Span.Less(r.Hours)
	return fmt.Sprintf(`CASE WHEN %s THEN %d ELSE (SELECT coalesce(bit_or(1 << n), 0) FROM generate_series(0, 23) n
			CROSS JOIN LATERAL (SELECT u.start + n * interval '1 hour' AS hour) h
			WHERE %s OR (%s) AND NOT EXISTS (SELECT 1 FROM %s d
				WHERE d.host_id = u.host_id AND d.section = %s AND d.start = h.hour)) END`,
		within("u.start", lessThanADay, byHour), allHours, within("h.hour", 0, byHour), within("h.hour", 0, edges),
		quires, quoted(hostSection))
}

// ofHosts tells that a host's number in a column is one of some; nil for all. The keys begin with the host, and so do
// not help without it.
func (b *statement) ofHosts(column string, hosts []int32) string {
	if hosts == nil {
		return column + " = ANY (ARRAY(SELECT id FROM hosts))"
	}
	return b.oneOf(column, "int", hosts)
}

// begun tells that a row of u is of some sections of a leaf that begins in a span.
func (b *statement) begun(sections []string, span question.Span) string {
	return fmt.Sprintf("%s AND u.start >= %s AND u.start < %s", b.oneOf("u.section", "text", sections),
		b.arg(span.From),
		b.arg(span.To))
}

// eachLeaf visits the leaves that answer for a reading, of some hosts (nil for all), with the tables named. A leaf may
// be used until the next is visited, and no longer.
func (s *Store) eachLeaf(ctx context.Context, hosts []int32, r question.Reading, want wanted,
	visit func(*piece) error) error {
	if r.Span.Frames {
		tables := slices.Collect(maps.Keys(want.withNeeds()))
		return s.Frames.Each(hosts, r.Span, tables, func(f *frames.Frame, l *leaf.Leaf) error {
			return visit(&piece{Loose: true, Host: f.Host, Start: f.From, Leaf: l})
		})
	}
	var b statement
	want = want.withNeeds()
	query := b.stored(hosts, r, want.sections())
	return eachPiece(s.db.WithContext(ctx), query+" ORDER BY host_id, start, grain, loose", b.args, want, true, visit)
}

// From how many hosts on their leaves are read beside each other, in two parts or in four: what takes long is to unpack
// them. Every part takes a connection to the database while it reads.
const (
	someHosts = 8
	manyHosts = 64
)

// someOf divides hosts (nil for all) into as many parts as are read beside each other: one, unless they are many.
func (s *Store) someOf(ctx context.Context, hosts []int32) ([][]int32, error) {
	if hosts == nil {
		all, err := s.Hosts(ctx)
		if err != nil {
			return nil, err
		}
		if len(all) < someHosts {
			return [][]int32{nil}, nil
		}
		for _, h := range all {
			hosts = append(hosts, h.ID)
		}
	}
	parts := 1
	switch {
	case len(hosts) >= manyHosts:
		parts = 4
	case len(hosts) >= someHosts:
		parts = 2
	}
	if n := min(runtime.GOMAXPROCS(0), parts); n > 1 {
		return slices.Collect(slices.Chunk(hosts, (len(hosts)+n-1)/n)), nil
	}
	return [][]int32{hosts}, nil
}

// wanted says which tables, and which columns of them, are to be read. A table without columns is wanted whole.
type wanted map[string][]string

// sections are those that hold the tables, with those that every reading needs.
func (w wanted) sections() []string {
	tables := []string{leaf.Intervals}
	isHosts := len(w) > 0
	for t := range w {
		tables = append(tables, t)
		isHosts = isHosts && slices.Contains(hostTables, t)
	}
	if !isHosts {
		tables = append(tables, leaf.Who)
	}
	return leaf.SectionsOf(tables...)
}

// hostTables hold figures that are of the host alone: whoever reads no others needs no users.
var hostTables = []string{leaf.Intervals, leaf.States, leaf.Pressure, leaf.Disks, leaf.Links, leaf.GPUs, leaf.Sensors,
	leaf.PartPeaks}

// withNeeds is what is wanted, with what its columns follow from in other tables.
func (w wanted) withNeeds() wanted {
	all := wanted{}
	for t, columns := range w {
		all[t] = append([]string(nil), columns...)
	}
	for t := range w {
		for needed, columns := range leaf.Needs(t) {
			if was, there := all[needed]; !there || len(was) > 0 { // else it is wanted whole
				all[needed] = append(was, columns...)
			}
		}
	}
	return all
}

// merge adds what another wants of tables of which neither wants all.
func (w wanted) merge(other wanted) {
	for t, columns := range other {
		w[t] = append(w[t], columns...)
	}
}

// column tells whether a column is wanted.
func (w wanted) column(table, column string) bool {
	columns, there := w[table]
	switch {
	case table == leaf.Who:
		return true
	case table == leaf.Intervals && (column == "start" || column == "elapsed"):
		return true
	case !there:
		return false
	}
	return len(columns) == 0 || slices.Contains(columns, column)
}

// eachPiece runs a query whose columns are grain, loose, host_id, start, section, body and hours, in the order of
// leaves. While passing, a leaf may be used until the next is visited, and no longer.
func eachPiece(db *gorm.DB, query string, args []any, want wanted, passing bool, visit func(*piece) error) error {
	rows, err := db.Raw(query, args...).Rows()
	if err != nil {
		return fmt.Errorf("read what was counted: %w", err)
	}
	defer rows.Close()
	var columns leaf.Want
	if want != nil {
		columns = leaf.WantOf(want.column)
	}
	var desk leaf.Desk
	lay := leaf.New
	if passing {
		lay = desk.On
	}
	var p *piece
	for rows.Next() {
		var next piece
		var section string
		var body sql.RawBytes
		var hours int32
		if err := rows.Scan(&next.Grain, &next.Loose, &next.Host, &next.Start, &section, &body, &hours); err != nil {
			return err
		}
		next.Start = next.Start.UTC()
		if p == nil || p.Grain != next.Grain || p.Loose != next.Loose || p.Host != next.Host ||
			!p.Start.Equal(next.Start) {
			if p != nil {
				if err := visit(p); err != nil {
					return err
				}
			}
			p = &next
			p.Leaf = lay(p.Host)
			if hours != 0 {
				p.OnlyHours(hours)
			}
		}
		if err := pack.Decode(body, p.Leaf, columns); err != nil {
			return fmt.Errorf("the section %q of host %d at %s: %w", section, p.Host, p.Start.Format(time.RFC3339), err)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if p == nil {
		return nil
	}
	return visit(p)
}

// tenantsThere tells which tenants there are. Usage of one that was removed is unassigned.
func (s *Store) tenantsThere(ctx context.Context) (exists func(int32) bool, names map[int32]string, err error) {
	tenants, err := s.Tenants(ctx)
	names = make(map[int32]string, len(tenants))
	for _, t := range tenants {
		names[t.ID] = t.Name
	}
	return func(id int32) bool { _, there := names[id]; return there }, names, err
}

// Leaves visits what was counted in a scope, as far as it may be seen, with all of the tables named. Of many hosts it
// visits some beside others: begin makes the visitor of some of them, and visitors share no host.
func (s *Store) Leaves(ctx context.Context, scope *question.Scope, tables []string,
	begin func() (visit func(*leaf.View))) error {
	want := wanted{leaf.Intervals: nil, leaf.Uses: {"count"}}
	for _, t := range tables {
		want[t] = nil
	}
	exists, _, err := s.tenantsThere(ctx)
	if err != nil {
		return err
	}
	some, err := s.someOf(ctx, scope.Hosts)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	for _, hosts := range some {
		visit, viewer := begin(), leaf.NewViewer(scope, exists)
		group.Go(func() error {
			return s.eachLeaf(ctx, hosts, question.ReadingOf(scope.Span, 0), want, func(p *piece) error {
				visit(viewer.View(p.Leaf))
				return nil
			})
		})
	}
	return group.Wait()
}
