package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// fleet stands for all hosts together where a host's number stands.
const fleet = 0

// forgetPeaks says that the highest minutes of the hours in a span no longer hold, and are to be found again.
func forgetPeaks(tx *gorm.DB, from, to time.Time) error {
	return tx.Exec(`WITH gone AS (DELETE FROM peak_hours WHERE hour >= $1 AND hour < $2)
		INSERT INTO due_peaks
		SELECT generate_series($1::timestamptz, $2::timestamptz - interval '1 microsecond', '1 hour')
		ON CONFLICT DO NOTHING`, question.ByHour.Floor(from), to).Error
}

// perResource is a list of expressions, one for each resource's column: %s is its name.
func perResource(format string) string { return perEach(amount.Resources(), format) }

// perEach is perResource of some.
func perEach(of []amount.Resource, format string) string {
	var list []string
	for _, r := range of {
		list = append(list, strings.ReplaceAll(format, "%s", r.String()))
	}
	return strings.Join(list, ", ")
}

// hourOfMinutes makes the highest minute of an hour, the lowest, and the sum. A minute in which a tenant had nothing
// has no row, and is the lowest.
const hourOfMinutes = "max(%s), CASE WHEN count(*) = 60 THEN min(%s) WHEN max(%s) IS NOT NULL THEN 0 END, " +
	"sum(%s)"

// tenantThen is the tenant of a row of sums; usage of one that was removed is unassigned.
const tenantThen = "coalesce((SELECT t.id FROM tenants t WHERE t.id = u.tenant_id), 0)"

// SumPeaks finds the highest minutes of each tenant in the hours that ended before a time, where they are not known. It
// keeps intake waiting for one hour's sums at a time.
func (s *Store) SumPeaks(ctx context.Context, before time.Time) error {
	var hours []time.Time
	err := s.db.WithContext(ctx).Raw("SELECT hour FROM due_peaks WHERE hour < $1 ORDER BY 1",
		question.ByHour.Floor(before)).Scan(&hours).Error
	if err != nil {
		return fmt.Errorf("which hours lack their highest minutes: %w", err)
	}
	for _, hour := range hours {
		if err := s.sumPeaksOf(ctx, hour.UTC()); err != nil {
			return fmt.Errorf("the highest minutes of %s: %w", hour.UTC().Format(time.RFC3339), err)
		}
	}
	return nil
}

func (s *Store) sumPeaksOf(ctx context.Context, hour time.Time) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockBooks).Error; err != nil {
			return err
		}
		for _, table := range []string{"tenant_peak", "due_peaks"} {
			if err := tx.Exec("DELETE FROM "+table+" WHERE hour = $1", hour).Error; err != nil {
				return err
			}
		}
		err := tx.Exec(fmt.Sprintf(`WITH m AS (SELECT minute, host_id, %[1]s AS tenant_id, %[2]s FROM tenant_minute u
				WHERE minute >= $1 AND minute < $2 GROUP BY GROUPING SETS ((1, 2, 3), (1, 3)))
			INSERT INTO tenant_peak (hour, host_id, tenant_id, %[3]s)
			SELECT $1, coalesce(host_id, %[4]d), tenant_id, %[5]s FROM m GROUP BY 2, 3`, tenantThen,
			perResource("sum(%s) AS %s"), perResource("%s, %s"+lowSuffix+", %s"+sumSuffix), fleet,
			perResource(hourOfMinutes)), hour, hour.Add(time.Hour)).Error
		if err != nil {
			return err
		}
		// The minutes of all hosts together. A tenant without a row had nothing; a minute without any was not
		// recorded.
		err = tx.Exec(fmt.Sprintf(`WITH m AS (SELECT minute, %[1]s AS tenant_id, %[2]s FROM tenant_minute u
				WHERE minute >= $1 AND minute < $2 GROUP BY 1, 2),
			a AS (SELECT t.tenant_id, %[3]s FROM (SELECT DISTINCT tenant_id FROM m) t
				CROSS JOIN generate_series($1::timestamptz, $2::timestamptz - interval '1 minute',
					'1 minute') AS g(minute)
				LEFT JOIN (SELECT DISTINCT minute AS recorded FROM m) r ON recorded = minute
				LEFT JOIN m USING (minute, tenant_id) GROUP BY 1)
			UPDATE tenant_peak p SET %[4]s FROM a
			WHERE p.hour = $1 AND p.host_id = %[5]d AND p.tenant_id = a.tenant_id`, tenantThen,
			perResource("sum(%s) AS %s"),
			perResource("array_agg(CASE WHEN recorded IS NOT NULL THEN coalesce(m.%s, 0)::float8 END "+
				"ORDER BY minute) AS %s"),
			perResource("%s"+minutesSuffix+" = a.%s"), fleet), hour, hour.Add(time.Hour)).Error
		if err != nil {
			return err
		}
		return tx.Exec(
			`INSERT INTO peak_hours (hour) SELECT $1 WHERE EXISTS (SELECT 1 FROM tenant_peak WHERE hour = $1)
			ON CONFLICT DO NOTHING`,
			hour,
		).Error
	})
}

// highestMinutes puts into rows of tenants the highest minute that all workloads of each had together.
func (s *Store) highestMinutes(ctx context.Context, q *question.Question, rows []question.Row) error {
	peaks, err := s.peaks(ctx, &q.Scope, false)
	if err == nil {
		putPeaks(q.Measures, rows, func(r *question.Row) peakOf { return peakOf{fleet, r.Tenant} }, peaks)
	}
	return err
}

// HighestByHost is highestMinutes for rows by host and tenant: on each host by itself.
func (s *Store) HighestByHost(ctx context.Context, q *question.Question, rows []question.Row) error {
	peaks, err := s.peaks(ctx, &q.Scope, true)
	if err == nil {
		putPeaks(q.Measures, rows, func(r *question.Row) peakOf { return peakOf{r.Host, r.Tenant} }, peaks)
	}
	return err
}

// peakOf is a tenant on a host, or on all hosts of a scope together (fleet).
type peakOf struct{ host, tenant int32 }

// putPeaks puts peaks, in account units of a minute, into the rows that they are of.
func putPeaks(measures []amount.Measure, rows []question.Row, of func(*question.Row) peakOf,
	peaks map[peakOf][]float64) {
	for i := range rows {
		units, there := peaks[of(&rows[i])]
		for k, m := range measures {
			if m.HasLedger() {
				rows[i].Sums[k].Peak = 0
			}
			if there && m.HasLedger() {
				rows[i].Sums[k].Peak = m.Mean(units[m], time.Minute.Milliseconds())
			}
		}
	}
}

// unsummed lists the parts of a span whose minutes are not in the sums of hours: its edges beside whole hours, and
// hours that were not summed yet.
func (s *Store) unsummed(ctx context.Context, span, hours question.Span) ([]question.Span, error) {
	var summed []time.Time
	err := s.db.WithContext(ctx).Raw("SELECT hour FROM peak_hours WHERE hour >= $1 AND hour < $2", hours.From,
		hours.To).Scan(&summed).Error
	if err != nil {
		return nil, err
	}
	known := make(map[int64]bool, len(summed))
	for _, hour := range summed {
		known[hour.Unix()] = true
	}
	list := span.Less(hours)
	for hour := hours.From; hour.Before(hours.To); hour = hour.Add(time.Hour) {
		switch n := len(list); {
		case known[hour.Unix()]:
		case n > 0 && list[n-1].To.Equal(hour):
			list[n-1].To = hour.Add(time.Hour)
		default:
			list = append(list, question.Span{From: hour, To: hour.Add(time.Hour)})
		}
	}
	return list, nil
}

// bounds are the begins and the ends of spans.
func bounds(spans []question.Span) (from, to []time.Time) {
	from, to = make([]time.Time, len(spans)), make([]time.Time, len(spans))
	for i, x := range spans {
		from[i], to[i] = x.From, x.To
	}
	return from, to
}

// peaks finds the highest minutes of tenants in a scope, by resource: on each host, or on all of them together. Those
// of whole hours are kept for each host and for all together; others are found among the minutes.
func (s *Store) peaks(ctx context.Context, scope *question.Scope, byHost bool) (map[peakOf][]float64, error) {
	var b statement
	hours, place := question.ReadingOf(scope.Span, 0).Hours, fmt.Sprintf("u.host_id = %d", fleet)
	host := fmt.Sprint(fleet)
	switch {
	case byHost:
		host, place = "u.host_id", fmt.Sprintf("u.host_id <> %d", fleet)
		if scope.Hosts != nil {
			place = b.oneOf("u.host_id", "int", scope.Hosts)
		}
	case len(scope.Hosts) == 1:
		place = b.oneOf("u.host_id", "int", scope.Hosts)
	case scope.Hosts != nil: // some together: of these nothing is kept
		hours = question.Span{From: scope.Span.From, To: scope.Span.From}
	}
	unsummed, err := s.unsummed(ctx, scope.Span, hours)
	if err != nil {
		return nil, err
	}
	begins, ends := bounds(unsummed)
	windows := fmt.Sprintf(
		"unnest(%s::timestamptz[], %s::timestamptz[]) AS w(begin, until)",
		b.arg(begins),
		b.arg(ends),
	)
	from, to := b.arg(hours.From), b.arg(hours.To)
	// There are many minutes and few tenants: which of these are still there is looked up for the sums. Most hours are
	// summed, and the minutes of the others are looked up by themselves.
	query := fmt.Sprintf(`WITH s AS (SELECT u.minute, %[8]s AS host_id, u.tenant_id, %[2]s
				FROM %[3]s CROSS JOIN LATERAL (SELECT * FROM tenant_minute u
					WHERE u.minute >= w.begin AND u.minute < w.until AND %[9]s OFFSET 0) u GROUP BY 1, 2, 3),
			m AS (SELECT u.minute, u.host_id, %[1]s AS tenant_id, %[2]s FROM s u GROUP BY 1, 2, 3),
			p AS (SELECT host_id, tenant_id, %[6]s FROM m GROUP BY 1, 2
				UNION ALL SELECT %[8]s, %[1]s, %[6]s FROM tenant_peak u JOIN peak_hours USING (hour)
				WHERE u.hour >= %[4]s AND u.hour < %[5]s AND %[7]s GROUP BY 1, 2)
		SELECT host_id, tenant_id, %[10]s FROM p GROUP BY 1, 2`, tenantThen, perResource("sum(u.%s) AS %s"), windows,
		from, to, perResource("max(%s) AS %s"), place, host, b.ofHosts("u.host_id", scope.Hosts),
		perResource("coalesce(max(%s), 0)::float8"))
	found, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, err
	}
	defer found.Close()
	peaks := map[peakOf][]float64{}
	for found.Next() {
		var k peakOf
		units := make([]float64, amount.NumResources)
		into := []any{&k.host, &k.tenant}
		for i := range units {
			into = append(into, &units[i])
		}
		if err := found.Scan(into...); err != nil {
			return nil, err
		}
		peaks[k] = units
	}
	return peaks, found.Err()
}
