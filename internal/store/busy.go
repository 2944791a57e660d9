package store

import (
	"context"
	"fmt"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// BusyTime is a stretch of time on a host, and what workloads used of its CPUs.
type BusyTime struct {
	Host     int32
	From, To time.Time
	Used     float64 // microseconds
}

// BusiestTimes finds of each host (nil for all) the stretches in which its workloads used most CPU time, at most so
// many: of ten minutes in a span of up to a day, else of hours that were summed.
func (s *Store) BusiestTimes(ctx context.Context, hosts []int32, span question.Span, most int) ([]BusyTime, error) {
	var b statement
	long, cpu := 10*time.Minute, amount.CPU.String()
	where := b.ofHosts("u.host_id", hosts)
	of := ""
	if span.To.Sub(span.From) <= 24*time.Hour {
		of = fmt.Sprintf(`SELECT u.host_id, date_bin('10 minutes', u.minute, 'epoch') AS start,
				sum(u.%s) AS units FROM tenant_minute u WHERE u.minute >= %s AND u.minute < %s AND %s GROUP BY 1, 2`,
			cpu, b.arg(span.From), b.arg(span.To), where)
	} else {
		long = time.Hour
		hours := question.ReadingOf(span, 0).Hours
		of = fmt.Sprintf(`SELECT u.host_id, u.hour AS start, sum(u.%s%s) AS units
				FROM tenant_peak u JOIN peak_hours USING (hour)
				WHERE u.hour >= %s AND u.hour < %s AND u.host_id <> %d AND %s GROUP BY 1, 2`,
			cpu, sumSuffix, b.arg(hours.From), b.arg(hours.To), fleet, where)
	}
	rows, err := s.db.WithContext(ctx).Raw(fmt.Sprintf(`SELECT host_id, start, units FROM (
			SELECT x.*, row_number() OVER (PARTITION BY host_id ORDER BY units DESC, start) AS place FROM (%s) x
			WHERE units > 0) y
		WHERE place <= %s ORDER BY units DESC, host_id, start`, of, b.arg(most)), b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("when hosts were busiest: %w", err)
	}
	defer rows.Close()
	var list []BusyTime
	for rows.Next() {
		var x BusyTime
		if err := rows.Scan(&x.Host, &x.From, &x.Used); err != nil {
			return nil, err
		}
		x.From = x.From.UTC()
		x.To = x.From.Add(long)
		if x.From.Before(span.From) {
			x.From = span.From
		}
		if x.To.After(span.To) {
			x.To = span.To
		}
		list = append(list, x)
	}
	return list, rows.Err()
}
