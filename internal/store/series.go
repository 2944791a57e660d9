package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// TenantCells tells what tenants had over a span on some hosts (nil for all), in order: in minutes where fine is set,
// else in hours, with minutes at the span's edges and where an hour was not summed yet.
func (s *Store) TenantCells(ctx context.Context, hosts []int32, span question.Span, fine bool) ([]explain.Cell, error) {
	if fine && hosts != nil {
		return s.minuteCells(ctx, hosts, []question.Span{span}, nil)
	}
	whole := question.ReadingOf(span, 0).Hours
	if fine {
		minutes, err := s.MinutesOf(ctx, nil, hoursOf(whole), nil)
		if err != nil {
			return nil, err
		}
		edges, err := s.minuteCells(ctx, nil, span.Less(whole), nil)
		return append(minutes, edges...), err
	}
	cells, err := s.hourCells(ctx, hosts, whole)
	if err != nil {
		return nil, err
	}
	rest, err := s.unsummed(ctx, span, whole)
	if err != nil {
		return nil, err
	}
	minutes, err := s.minuteCells(ctx, hosts, rest, nil)
	return append(cells, minutes...), err
}

// hoursOf lists the hours of a span of whole hours.
func hoursOf(span question.Span) (hours []time.Time) {
	for hour := span.From; hour.Before(span.To); hour = hour.Add(time.Hour) {
		hours = append(hours, hour)
	}
	return hours
}

// spansOf joins hours, in order, to spans.
func spansOf(hours []time.Time) (spans []question.Span) {
	for _, hour := range hours {
		if n := len(spans); n > 0 && spans[n-1].To.Equal(hour) {
			spans[n-1].To = hour.Add(time.Hour)
			continue
		}
		spans = append(spans, question.Span{From: hour, To: hour.Add(time.Hour)})
	}
	return spans
}

// MinutesOf tells what some tenants (nil for all) had in the minutes of some hours, which are in order.
func (s *Store) MinutesOf(ctx context.Context, hosts []int32, hours []time.Time,
	tenants []int32) (cells []explain.Cell, err error) {
	if hosts == nil {
		var known map[int64]bool
		if cells, known, err = s.fleetMinutes(ctx, hours, tenants); err != nil {
			return nil, err
		}
		hours = slices.DeleteFunc(slices.Clone(hours), func(hour time.Time) bool { return known[hour.Unix()] })
	}
	minutes, err := s.minuteCells(ctx, hosts, spansOf(hours), tenants)
	return append(cells, minutes...), err
}

// fleetMinutes reads the minutes of all hosts together that are kept with their hour, and says of which hours they are.
// Minutes of which nothing was recorded are left out.
func (s *Store) fleetMinutes(ctx context.Context, hours []time.Time,
	tenants []int32) (cells []explain.Cell, known map[int64]bool, err error) {
	known = map[int64]bool{}
	if len(hours) == 0 || tenants != nil && len(tenants) == 0 {
		return nil, known, nil
	}
	var b statement
	where := ""
	if tenants != nil {
		where = " AND " + b.oneOf("u.tenant_id", "int", tenants)
	}
	query := fmt.Sprintf(`SELECT u.hour, n, %[1]s AS tenant_id, %[2]s
		FROM tenant_peak u JOIN peak_hours USING (hour), generate_series(1, 60) n
		WHERE u.host_id = %[3]d AND u.hour = ANY (%[4]s::timestamptz[]) AND u.%[5]s[n] IS NOT NULL%[6]s
		GROUP BY 1, 2, 3`, tenantThen, perResource("coalesce(sum(u.%s"+minutesSuffix+"[n]), 0)"), fleet, b.arg(hours),
		amount.ResourceNames()[0]+minutesSuffix, where)
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, nil, fmt.Errorf("what tenants had by the minute on all hosts: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		c := explain.Cell{Minutes: 1}
		n := 0
		into := []any{&c.Start, &n, &c.Tenant}
		for i := range c.Sum {
			into = append(into, &c.Sum[i])
		}
		if err := rows.Scan(into...); err != nil {
			return nil, nil, err
		}
		known[c.Start.Unix()] = true
		c.Start = c.Start.UTC().Add(time.Duration(n-1) * time.Minute)
		c.Most, c.Least = c.Sum, c.Sum
		cells = append(cells, c)
	}
	return cells, known, rows.Err()
}

// minuteCells reads minutes of some spans; of all tenants where none are named.
func (s *Store) minuteCells(ctx context.Context, hosts []int32, spans []question.Span,
	tenants []int32) ([]explain.Cell, error) {
	if len(spans) == 0 || tenants != nil && len(tenants) == 0 {
		return nil, nil
	}
	var b statement
	from, to := bounds(spans)
	where := b.ofHosts("u.host_id", hosts)
	if tenants != nil {
		where += " AND " + b.oneOf("u.tenant_id", "int", tenants)
	}
	// Few stretches of a long time are wanted: each is looked up by itself.
	query := fmt.Sprintf(`SELECT x.minute, %[1]s AS tenant_id, %[2]s FROM (
			SELECT m.minute, m.tenant_id, %[3]s
			FROM unnest(%[4]s::timestamptz[], %[5]s::timestamptz[]) AS w(begin, until) CROSS JOIN LATERAL (
				SELECT * FROM tenant_minute u WHERE u.minute >= w.begin AND u.minute < w.until AND %[6]s OFFSET 0) m
			GROUP BY 1, 2) x
		GROUP BY 1, 2 ORDER BY 1, 2`, "coalesce((SELECT t.id FROM tenants t WHERE t.id = x.tenant_id), 0)",
		perResource("coalesce(sum(x.%s), 0)::float8"), perResource("sum(m.%s) AS %s"), b.arg(from), b.arg(to), where)
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what tenants had by the minute: %w", err)
	}
	defer rows.Close()
	var cells []explain.Cell
	for rows.Next() {
		c := explain.Cell{Minutes: 1}
		into := []any{&c.Start, &c.Tenant}
		for i := range c.Sum {
			into = append(into, &c.Sum[i])
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		c.Start = c.Start.UTC()
		c.Most, c.Least = c.Sum, c.Sum
		cells = append(cells, c)
	}
	return cells, rows.Err()
}

// hourCells reads whole hours that were summed. Of several hosts together the highest and the lowest minute are bounds.
// The lowest is not known of hours that were summed by an older program.
func (s *Store) hourCells(ctx context.Context, hosts []int32, span question.Span) (cells []explain.Cell, err error) {
	if span.IsEmpty() {
		return nil, nil
	}
	var b statement
	place := fmt.Sprintf("u.host_id = %d", fleet)
	if hosts != nil {
		place = b.oneOf("u.host_id", "int", hosts)
	}
	query := fmt.Sprintf(`SELECT u.hour, %[1]s AS tenant_id, %[2]s
		FROM tenant_peak u JOIN peak_hours USING (hour) WHERE u.hour >= %[3]s AND u.hour < %[4]s AND %[5]s
		GROUP BY 1, 2 ORDER BY 1, 2`, tenantThen, perResource("coalesce(sum(u.%s), 0)::float8, coalesce(sum(u.%s"+
		lowSuffix+"), 0)::float8, CASE WHEN count(u.%s) = count(u.%s"+sumSuffix+") THEN coalesce(sum(u.%s"+sumSuffix+
		"), 0) ELSE -1 END::float8"), b.arg(span.From), b.arg(span.To), place)
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what tenants had by the hour: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		c := explain.Cell{Minutes: 60}
		into := []any{&c.Start, &c.Tenant}
		for i := range amount.NumResources {
			into = append(into, &c.Most[i], &c.Least[i], &c.Sum[i])
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		c.Start = c.Start.UTC()
		for i := range c.Sum {
			if c.Sum[i] < 0 { // of an older program
				c.Sum[i] = explain.NotKnown
			}
		}
		cells = append(cells, c)
	}
	return cells, rows.Err()
}
