package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/internal/sheet"
	"vinescale/internal/wire"
)

// Span is from (inclusive) to (exclusive), by the start of intervals.
type Span struct{ From, To time.Time }

// Totals adds the host-wide lines of one resource over a span: of one host, or of all for hostID 0.
//
// The time covered is the longest of any host, so that means add up over hosts. A line that one host lacks is
// unavailable for all, with the reason.
func (s *Store) Totals(ctx context.Context, hostID int32, span Span, r amount.Resource) (sheet.Totals, error) {
	t := sheet.Totals{Resource: r}
	lines := []struct {
		name string
		into *sheet.Line
	}{{"capacity", &t.Capacity}, {"used", &t.Used}, {"idle", &t.Idle}, {"kernel", &t.Kernel}, {"steal", &t.Steal}}
	var sums, outer strings.Builder
	for _, l := range lines {
		c := r.String() + "_" + l.name
		fmt.Fprintf(&sums,
			", sum(%s)::float8 AS %s, bool_and(%s IS NOT NULL) AS %s_ok, max(notes->'%s'->>'%s') || ' (' || h.name || ')' AS %s_why",
			c, l.name, c, l.name, r, l.name, l.name)
		fmt.Fprintf(&outer, ", coalesce(sum(%s), 0), coalesce(bool_and(%s_ok), false), coalesce(max(%s_why), '')",
			l.name, l.name, l.name)
	}
	query := `SELECT coalesce(max(elapsed), 0), coalesce(sum(cpus), 0), min(covered_from), max(covered_to)` + outer.String() + ` FROM (
		SELECT sum(elapsed_ms) AS elapsed, max(m.cpus) AS cpus, min(start) AS covered_from, max(start + elapsed_ms * interval '1 millisecond') AS covered_to` + sums.String() + `
		FROM host_minute m JOIN hosts h ON h.id = m.host_id WHERE start >= $1 AND start < $2 AND ($3 = 0 OR host_id = $3) GROUP BY h.name) AS by_host`
	var from, to *time.Time
	into := []any{&t.ElapsedMillis, &t.CPUs, &from, &to}
	ok, why := make([]bool, len(lines)), make([]string, len(lines))
	for i, l := range lines {
		into = append(into, &l.into.Units, &ok[i], &why[i])
	}
	if err := s.db.WithContext(ctx).Raw(query, span.From, span.To, hostID).Row().Scan(into...); err != nil {
		return t, fmt.Errorf("add up %s: %w", r, err)
	}
	if from != nil && to != nil {
		t.From, t.To = from.UTC(), to.UTC()
	}
	for i, l := range lines {
		switch {
		case t.ElapsedMillis == 0:
			*l.into = sheet.Line{Reason: sheet.NothingRecorded}
		case !ok[i]:
			*l.into = sheet.Line{Reason: why[i]}
		}
	}
	return t, nil
}

// Point is the fleet's or a host's use in one stretch of a timeline.
type Point struct {
	Start    time.Time
	Capacity float64 // account units; 0 where nothing was recorded
	Used     float64
	Hosts    int
}

// Timeline cuts a span into stretches and adds each one's use of a resource. Stretches without records are left out.
func (s *Store) Timeline(ctx context.Context, hostID int32, span Span, r amount.Resource,
	stretch time.Duration) ([]Point, error) {
	query := fmt.Sprintf(`SELECT to_timestamp(floor(extract(epoch FROM start) / $1) * $1) AS start, coalesce(sum(%[1]s_capacity), 0)::float8 AS capacity,
			coalesce(sum(%[1]s_used), 0)::float8 AS used, count(DISTINCT host_id) AS hosts
		FROM host_minute WHERE start >= $2 AND start < $3 AND ($4 = 0 OR host_id = $4) GROUP BY 1 ORDER BY 1`, r)
	var points []Point
	err := s.db.WithContext(ctx).Raw(query, stretch.Seconds(), span.From, span.To, hostID).Scan(&points).Error
	return points, err
}

// Detail returns a host's newest detail of a span as the collector sent it (wire.Detail as JSON); nil when there is
// none.
func (s *Store) Detail(ctx context.Context, hostID int32, span Span) ([]byte, error) {
	var detail []string
	err := s.db.WithContext(ctx).Raw(
		`SELECT detail::text FROM host_minute WHERE host_id = $1 AND start >= $2 AND start < $3 ORDER BY start DESC LIMIT 1`,
		hostID, span.From, span.To).Scan(&detail).Error
	if err != nil || len(detail) == 0 {
		return nil, err
	}
	return []byte(detail[0]), nil
}

// NewestDetail is what a host's newest interval says beside the ledger, and when that ended.
type NewestDetail struct {
	To     time.Time
	Detail *wire.Detail
}

// NewestDetails finds the newest interval of each host by name. Hosts that have sent none since a time are not in it.
func (s *Store) NewestDetails(ctx context.Context, since time.Time) (map[string]NewestDetail, error) {
	var rows []struct {
		Name, Detail string
		Upto         time.Time
	}
	if err := s.db.WithContext(ctx).Raw(`SELECT DISTINCT ON (h.id) h.name, m.start + m.elapsed_ms * interval '1 millisecond' AS upto, m.detail::text AS detail
		FROM host_minute m JOIN hosts h ON h.id = m.host_id WHERE m.start >= $1 ORDER BY h.id, m.start DESC`, since).Scan(&rows).Error; err != nil {
		return nil, err
	}
	byName := make(map[string]NewestDetail, len(rows))
	for _, r := range rows {
		d := &wire.Detail{}
		if err := json.Unmarshal([]byte(r.Detail), d); err != nil {
			return nil, fmt.Errorf("detail of %s: %w", r.Name, err)
		}
		byName[r.Name] = NewestDetail{r.Upto.UTC(), d}
	}
	return byName, nil
}
