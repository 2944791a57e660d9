package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

// Lines adds the host-wide lines of resources over the hosts of a question's scope: over the whole span, or for each
// step of it. Stretches in which nothing was recorded are left out.
func (s *Store) Lines(ctx context.Context, q question.Question) ([]question.Stretch, error) {
	b := grouping{q: &q}
	stretch := "NULL::timestamptz"
	if q.Step > 0 {
		stretch = b.stretch(hostShelf.start)
	}
	var inner, outer strings.Builder
	lines := len((&question.Lines{}).Each())
	for i, m := range q.Measures {
		for k, l := range (&question.Lines{}).Each() {
			c := columnOf(m, l.Name)
			// A line that is not there is unavailable for the reason that came with it, or else was not told at all.
			fmt.Fprintf(&inner, `, sum(u.%[1]s) AS s%[2]d, max(CASE WHEN u.%[1]s IS NULL THEN
				coalesce(u.notes->%[3]s->>%[4]s, %[5]s) END) || ' (' || h.name || ')' AS y%[2]d`,
				c, i*lines+k, quoted(m.String()), quoted(l.Name), quoted(account.NotRead))
			fmt.Fprintf(&outer, ", coalesce(sum(s%[1]d), 0)::float8, coalesce(max(y%[1]d), '')", i*lines+k)
		}
	}
	query := fmt.Sprintf(`SELECT stretch, max(elapsed), sum(cpus), count(*), min(covered_from), max(covered_to)%s FROM (
			SELECT %s AS stretch, h.name, sum(u.elapsed_ms)::bigint AS elapsed, max(u.cpus) AS cpus,
				min(u.start) AS covered_from, max(u.start + u.elapsed_ms * interval '1 millisecond') AS covered_to%s
			FROM host_minute u JOIN hosts h ON h.id = u.host_id WHERE %s GROUP BY 1, 2) AS by_host
		GROUP BY 1 ORDER BY 1`, outer.String(), stretch, inner.String(), b.within(&q.Scope, hostShelf))
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("add up the lines of %v: %w", q.Measures, err)
	}
	defer rows.Close()
	stretches := []question.Stretch{}
	for rows.Next() {
		x := question.Stretch{Of: make([]question.Lines, len(q.Measures))}
		var start *time.Time
		into := []any{&start, &x.ElapsedMillis, &x.CPUs, &x.Hosts, &x.From, &x.To}
		for i := range x.Of {
			for _, l := range x.Of[i].Each() {
				into = append(into, &l.Line.Units, &l.Line.Reason)
			}
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		if start != nil {
			x.Start = start.UTC()
		}
		x.From, x.To = x.From.UTC(), x.To.UTC()
		for i := range x.Of {
			for _, l := range x.Of[i].Each() {
				if !l.Line.OK() {
					l.Line.Units = 0
				}
			}
		}
		stretches = append(stretches, x)
	}
	return stretches, rows.Err()
}

// NewestDetail is what a host's newest interval says beside the ledger, and when that ended.
type NewestDetail struct {
	To     time.Time
	Detail *wire.Detail
	Raw    []byte // as the collector sent it (wire.Detail as JSON)
}

// NewestDetails finds the newest interval of each host of a scope, by the host's name. Hosts that have sent none in its
// span are not in it.
func (s *Store) NewestDetails(ctx context.Context, scope *question.Scope) (map[string]NewestDetail, error) {
	var b statement
	var rows []struct {
		Name, Detail string
		Upto         time.Time
	}
	err := s.db.WithContext(ctx).Raw(`SELECT DISTINCT ON (h.id) h.name,
			u.start + u.elapsed_ms * interval '1 millisecond' AS upto, u.detail::text AS detail
		FROM host_minute u JOIN hosts h ON h.id = u.host_id WHERE `+b.within(scope, hostShelf)+`
		ORDER BY h.id, u.start DESC`, b.args...).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	byName := make(map[string]NewestDetail, len(rows))
	for _, r := range rows {
		d := &wire.Detail{}
		if err := json.Unmarshal([]byte(r.Detail), d); err != nil {
			return nil, fmt.Errorf("detail of %s: %w", r.Name, err)
		}
		byName[r.Name] = NewestDetail{r.Upto.UTC(), d, []byte(r.Detail)}
	}
	return byName, nil
}
