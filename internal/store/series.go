package store

import (
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// TenantCells tells what tenants had of some resources over a span on some hosts (nil for all), in order: in minutes
// where fine is set, else in hours, with minutes at the span's edges and where an hour was not summed yet.
func (s *Store) TenantCells(ctx context.Context, hosts []int32, span question.Span, fine bool,
	of ...amount.Resource) ([]explain.Cell, error) {
	if fine {
		return s.minuteCells(ctx, hosts, []question.Span{span}, of)
	}
	whole := question.ReadingOf(span, 0).Hours
	cells, err := s.hourCells(ctx, hosts, whole, of)
	if err != nil {
		return nil, err
	}
	rest, err := s.unsummed(ctx, span, whole)
	if err != nil {
		return nil, err
	}
	minutes, err := s.minuteCells(ctx, hosts, rest, of)
	return append(cells, minutes...), err
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

// MinutesOf tells what some tenants had of a resource in the minutes of some hours, which are in order.
func (s *Store) MinutesOf(ctx context.Context, hosts []int32, of amount.Resource, hours []time.Time,
	tenants []int32) (list []explain.HourMinutes, err error) {
	if hosts == nil {
		var known map[int64]bool
		if list, known, err = s.fleetMinutes(ctx, of, hours, tenants); err != nil {
			return nil, err
		}
		hours = slices.DeleteFunc(slices.Clone(hours), func(hour time.Time) bool { return known[hour.Unix()] })
	}
	more, err := s.addedMinutes(ctx, hosts, of, hours, tenants)
	return append(list, more...), err
}

// fleetMinutes reads the minutes of all hosts together that are kept with their hour, and says of which hours they are.
func (s *Store) fleetMinutes(ctx context.Context, of amount.Resource, hours []time.Time,
	tenants []int32) (list []explain.HourMinutes, known map[int64]bool, err error) {
	known = map[int64]bool{}
	if len(hours) == 0 || len(tenants) == 0 {
		return nil, known, nil
	}
	var b statement
	query := fmt.Sprintf(`SELECT u.hour, u.tenant_id, array_send(u.%[1]s)
		FROM tenant_peak u JOIN peak_hours USING (hour)
		WHERE u.host_id = %[2]d AND u.hour = ANY (%[3]s::timestamptz[]) AND u.%[1]s IS NOT NULL AND %[4]s`,
		of.String()+minutesSuffix, fleet, b.arg(hours), b.oneOf("u.tenant_id", "int", tenants))
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, nil, fmt.Errorf("what tenants had by the minute on all hosts: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var h explain.HourMinutes
		var sent []byte
		if err := rows.Scan(&h.Hour, &h.Tenant, &sent); err != nil {
			return nil, nil, err
		}
		h.Hour = h.Hour.UTC()
		if h.Units = sentFloats(sent); len(h.Units) != 60 {
			return nil, nil, fmt.Errorf("%s has %d minutes", h.Hour.Format(time.RFC3339), len(h.Units))
		}
		known[h.Hour.Unix()] = true
		list = append(list, h)
	}
	return list, known, rows.Err()
}

// sentFloats reads an array of double precision as PostgreSQL sends it in binary (array_send of its arrayfuncs.c): the
// number of dimensions, whether there are nulls, the type, the length and the first index of the dimension, and then
// each value behind its length, which is -1 for null. Null is NaN. What is no such array has no values.
func sentFloats(b []byte) []float64 {
	const head = 5 * 4
	if len(b) < head || binary.BigEndian.Uint32(b) != 1 {
		return nil
	}
	values := make([]float64, 0, min(binary.BigEndian.Uint32(b[12:]), uint32(len(b))/4))
	for b = b[head:]; len(b) >= 4; {
		switch length := int32(binary.BigEndian.Uint32(b)); {
		case length == -1:
			values, b = append(values, math.NaN()), b[4:]
		case length == 8 && len(b) >= 12:
			values, b = append(values, math.Float64frombits(binary.BigEndian.Uint64(b[4:]))), b[12:]
		default:
			return nil
		}
	}
	return values
}

// addedMinutes adds up the minutes of some hours over hosts. A minute in which no tenant has anything was not recorded.
func (s *Store) addedMinutes(ctx context.Context, hosts []int32, of amount.Resource, hours []time.Time,
	tenants []int32) (list []explain.HourMinutes, err error) {
	if len(hours) == 0 || len(tenants) == 0 {
		return nil, nil
	}
	var b statement
	begins, ends := bounds(spansOf(hours))
	query := fmt.Sprintf(`SELECT m.minute, m.tenant_id, sum(m.units)::float8
		FROM unnest(%[1]s::timestamptz[], %[2]s::timestamptz[]) AS w(begin, until) CROSS JOIN LATERAL (
			SELECT u.minute, u.tenant_id, u.%[3]s AS units FROM tenant_minute u
			WHERE u.minute >= w.begin AND u.minute < w.until AND %[4]s OFFSET 0) m
		GROUP BY 1, 2`, b.arg(begins), b.arg(ends), of.String(), b.ofHosts("u.host_id", hosts))
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what tenants had by the minute: %w", err)
	}
	defer rows.Close()
	type key struct {
		hour   int64
		tenant int32
	}
	found, recorded := map[key][]float64{}, map[int64]bool{}
	for rows.Next() {
		var minute time.Time
		var k key
		var units sql.NullFloat64
		if err := rows.Scan(&minute, &k.tenant, &units); err != nil {
			return nil, err
		}
		hour := minute.UTC().Truncate(time.Hour)
		k.hour = hour.Unix()
		recorded[minute.Unix()] = true
		if !slices.Contains(tenants, k.tenant) {
			continue
		}
		if found[k] == nil {
			found[k] = make([]float64, 60)
			list = append(list, explain.HourMinutes{Hour: hour, Tenant: k.tenant, Units: found[k]})
		}
		found[k][minute.UTC().Minute()] = units.Float64
	}
	for _, h := range list {
		for i := range h.Units {
			if !recorded[h.Hour.Unix()+int64(i)*60] {
				h.Units[i] = math.NaN()
			}
		}
	}
	return list, rows.Err()
}

// minuteCells reads minutes of some spans.
func (s *Store) minuteCells(ctx context.Context, hosts []int32, spans []question.Span,
	of []amount.Resource) ([]explain.Cell, error) {
	if len(spans) == 0 || len(of) == 0 {
		return nil, nil
	}
	var b statement
	from, to := bounds(spans)
	where := b.ofHosts("u.host_id", hosts)
	// Few stretches of a long time are wanted: each is looked up by itself.
	query := fmt.Sprintf(`SELECT x.minute, %[1]s AS tenant_id, %[2]s FROM (
			SELECT m.minute, m.tenant_id, %[3]s
			FROM unnest(%[4]s::timestamptz[], %[5]s::timestamptz[]) AS w(begin, until) CROSS JOIN LATERAL (
				SELECT * FROM tenant_minute u WHERE u.minute >= w.begin AND u.minute < w.until AND %[6]s OFFSET 0) m
			GROUP BY 1, 2) x
		GROUP BY 1, 2 ORDER BY 1, 2`, "coalesce((SELECT t.id FROM tenants t WHERE t.id = x.tenant_id), 0)",
		perEach(of, "coalesce(sum(x.%s), 0)::float8"), perEach(of, "sum(m.%s) AS %s"), b.arg(from), b.arg(to), where)
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("what tenants had by the minute: %w", err)
	}
	defer rows.Close()
	var cells []explain.Cell
	for rows.Next() {
		c := explain.Cell{Minutes: 1}
		into := []any{&c.Start, &c.Tenant}
		for _, r := range of {
			into = append(into, &c.Sum[r])
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
func (s *Store) hourCells(ctx context.Context, hosts []int32, span question.Span,
	of []amount.Resource) (cells []explain.Cell, err error) {
	if span.IsEmpty() || len(of) == 0 {
		return nil, nil
	}
	var b statement
	place := fmt.Sprintf("u.host_id = %d", fleet)
	if hosts != nil {
		place = b.oneOf("u.host_id", "int", hosts)
	}
	query := fmt.Sprintf(`SELECT u.hour, %[1]s AS tenant_id, %[2]s
		FROM tenant_peak u JOIN peak_hours USING (hour) WHERE u.hour >= %[3]s AND u.hour < %[4]s AND %[5]s
		GROUP BY 1, 2 ORDER BY 1, 2`, tenantThen, perEach(of, "coalesce(sum(u.%s), 0)::float8, coalesce(sum(u.%s"+
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
		for _, r := range of {
			into = append(into, &c.Most[r], &c.Least[r], &c.Sum[r])
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
