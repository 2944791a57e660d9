package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Verification says what was recomputed and compared, and in what the book differs.
type Verification struct {
	Intervals   int // that are kept one by one
	Hours, Days int // sums that were recomputed
	Peaks       int // hours whose highest minutes were found again
	Differences []Difference
}

// Difference is one place in which the book does not agree with itself.
type Difference struct {
	Host  string // "" where it is about all of them
	Start time.Time
	What  string // a sentence
}

// mostDifferences bounds those told of one hour or day.
const mostDifferences = 20

// Verify recomputes what is summed in a day from what it is the sum of, and compares. Every interval that was counted
// must be there once; hours must be the sums of their intervals, days of their hours; the sums by tenant and minute and
// their highest must follow from the intervals. It does so for the first hosts by name after one, all where first is 0;
// next is the last of these, "" where no more are left. The highest minutes of all hosts together come with the last.
func (s *Store) Verify(ctx context.Context, day time.Time, first int, after string) (v *Verification, next string,
	err error) {
	hosts, err := s.Hosts(ctx) // by name
	if err != nil {
		return nil, "", err
	}
	hosts = slices.DeleteFunc(hosts, func(h Host) bool { return h.Name <= after })
	if first > 0 && len(hosts) > first {
		hosts = hosts[:first]
		next = hosts[first-1].Name
	}
	span := question.Span{From: question.ByDay.Floor(day)}
	span.To = span.From.Add(question.ByDay.Length())
	v = &Verification{}
	for i := range hosts {
		// All of a host at one moment: it is folded meanwhile.
		err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			c := check{store: s, tx: tx, host: &hosts[i], span: span, into: v}
			return c.day()
		}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return nil, "", fmt.Errorf("verify %s of %s: %w", span.From.Format(time.DateOnly), hosts[i].Name, err)
		}
	}
	if next != "" {
		return v, next, nil
	}
	return v, "", s.verifyPeaks(ctx, span, v)
}

// check verifies one host's day.
type check struct {
	store *Store
	tx    *gorm.DB
	host  *Host
	span  question.Span
	into  *Verification
}

func (c *check) differ(start time.Time, format string, a ...any) {
	c.into.Differences = append(c.into.Differences, Difference{c.host.Name, start, fmt.Sprintf(format, a...)})
}

func (c *check) day() error {
	byHour := map[time.Time]*leaf.Leaf{} // sums that were recomputed
	var starts []time.Time
	minutes := map[tenantKey]*tenantRow{}
	detail := false
	for _, table := range []string{quires, looseLeaves} {
		// An interval of the day before may be counted in minutes of this one.
		list, err := leavesOf(c.tx, table, c.host.ID, c.span.From.Add(-question.ByDay.Length()), c.span.To)
		if err != nil {
			return err
		}
		for _, l := range list {
			for k, sums := range c.store.tenantMinutes(l) {
				if !c.span.Holds(k.minute) {
					continue
				}
				if minutes[k] == nil {
					minutes[k] = &tenantRow{}
				}
				for r := range sums.units {
					minutes[k].units[r].Plus(sums.units[r])
				}
			}
			if l.Start(0).Before(c.span.From) {
				continue
			}
			detail = true
			if table == quires {
				byHour[question.ByHour.Floor(l.Start(0))] = leaf.Fold(l)
			}
			for at := range l.Intervals() {
				starts = append(starts, l.Start(int64(at)))
			}
		}
	}
	hours, err := c.hours()
	if err != nil {
		return err
	}
	for _, l := range hours {
		hour := question.ByHour.Floor(l.Start(0))
		if byHour[hour] == nil {
			continue // its intervals are past their keeping
		}
		c.into.Hours++
		for _, what := range leaf.Differences(l, byHour[hour], mostDifferences) {
			c.differ(hour, "%s", what)
		}
		delete(byHour, hour)
	}
	for hour := range byHour {
		c.differ(hour, "there are intervals of the hour, and no sum of them")
	}
	days, err := leavesOf(c.tx, dayLeaves, c.host.ID, c.span.From, c.span.To)
	if err != nil {
		return err
	}
	if len(days) > 0 && len(hours) > 0 {
		c.into.Days++
		for _, what := range leaf.Differences(days[0], leaf.Fold(leaf.Join(hours...)), mostDifferences) {
			c.differ(c.span.From, "%s", what)
		}
	}
	if !detail {
		return nil
	}
	if err := c.intake(starts); err != nil {
		return err
	}
	return c.minutes(minutes)
}

// hours reads the sums of the day's hours in order, those that are bound too, each once.
func (c *check) hours() ([]*leaf.Leaf, error) {
	hours, err := hoursOf(c.tx, c.host.ID, c.span.From)
	if err != nil {
		return nil, err
	}
	bound, err := leavesOf(c.tx, dayQuires, c.host.ID, c.span.From, c.span.To)
	if err != nil || len(bound) == 0 {
		return hours, err
	}
	alone := map[int]bool{}
	for _, l := range hours {
		alone[l.Start(0).Hour()] = true
	}
	for _, l := range leaf.Split(bound[0]) {
		if hour := l.Start(0); alone[hour.Hour()] {
			c.differ(question.ByHour.Floor(hour),
				"the sum of the hour is there twice: alone, and bound with those of its day")
			continue
		}
		hours = append(hours, l)
	}
	slices.SortFunc(hours, func(a, b *leaf.Leaf) int { return a.Start(0).Compare(b.Start(0)) })
	var said []int32
	err = c.tx.Raw("SELECT DISTINCT hours FROM day_quires WHERE host_id = $1 AND start = $2", c.host.ID,
		c.span.From).Scan(&said).Error
	if err == nil && !slices.Equal(said, []int32{bound[0].Hours()}) {
		c.differ(c.span.From, "the hours that are bound with the day are others than are written down beside them")
	}
	return hours, err
}

// intake holds what was counted to what is there: every interval once.
func (c *check) intake(starts []time.Time) error {
	var counted []time.Time
	err := c.tx.Raw("SELECT start FROM intake WHERE host_id = $1 AND start >= $2 AND start < $3", c.host.ID,
		c.span.From,
		c.span.To).Scan(&counted).Error
	if err != nil {
		return err
	}
	c.into.Intervals += len(starts)
	there := map[int64]int{}
	for _, t := range counted {
		there[t.UnixMicro()]--
	}
	for _, t := range starts {
		there[t.UnixMicro()]++
	}
	for micros, n := range there {
		start := time.UnixMicro(micros).UTC()
		switch {
		case n < 0:
			c.differ(start, "the interval was counted and is not there")
		case n > 0:
			c.differ(start, "the interval is there %d times more than it was counted", n)
		}
	}
	return nil
}

// minutes holds the sums by tenant and minute to the intervals.
func (c *check) minutes(want map[tenantKey]*tenantRow) error {
	rows, err := c.tx.Raw(fmt.Sprintf(`SELECT minute, tenant_id, %s FROM tenant_minute
		WHERE host_id = $1 AND minute >= $2 AND minute < $3`, perResource("coalesce(%s, 0)::text")), c.host.ID,
		c.span.From, c.span.To).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k tenantKey
		kept := make([]string, amount.NumResources)
		into := []any{&k.minute, &k.tenant}
		for i := range kept {
			into = append(into, &kept[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		k.minute = k.minute.UTC()
		found := want[k]
		if found == nil {
			found = &tenantRow{}
		}
		for r, text := range kept {
			if text != found.units[r].String() {
				c.differ(k.minute, "%s of tenant %d in the minute is %s, and its intervals give %s", amount.Resource(r),
					k.tenant, text, found.units[r])
			}
		}
		delete(want, k)
	}
	for k := range want {
		c.differ(k.minute, "there are intervals of tenant %d in the minute, and no sum of them", k.tenant)
	}
	return rows.Err()
}

// verifyPeaks finds the highest minutes of a day's hours again.
func (s *Store) verifyPeaks(ctx context.Context, span question.Span, v *Verification) error {
	query := fmt.Sprintf(`WITH h AS (SELECT hour FROM peak_hours WHERE hour >= $1 AND hour < $2
				AND EXISTS (SELECT 1 FROM tenant_minute WHERE minute >= hour AND minute < hour + interval '1 hour')),
			m AS (SELECT h.hour, u.minute, u.host_id, %[1]s AS tenant_id, %[2]s FROM h JOIN tenant_minute u
				ON u.minute >= h.hour AND u.minute < h.hour + interval '1 hour' AND u.minute >= $1 AND u.minute < $2
				GROUP BY GROUPING SETS ((1, 2, 3, 4), (1, 2, 4))),
			p AS (SELECT hour, coalesce(host_id, %[3]d) AS host_id, tenant_id, %[4]s FROM m GROUP BY 1, 2, 3),
			k AS (SELECT u.hour, u.host_id, %[1]s AS tenant_id, %[4]s FROM tenant_peak u JOIN h USING (hour)
				GROUP BY 1, 2, 3)
		SELECT hour, host_id, tenant_id FROM ((SELECT * FROM p EXCEPT SELECT * FROM k)
			UNION (SELECT * FROM k EXCEPT SELECT * FROM p)) AS d`, tenantThen, perResource("sum(u.%s) AS %s"), fleet,
		perResource("max(%s) AS %s"))
	var off []struct {
		Hour             time.Time
		HostID, TenantID int32
	}
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Raw("SELECT count(*) FROM peak_hours WHERE hour >= $1 AND hour < $2", span.From,
			span.To).Row().Scan(&v.Peaks); err != nil {
			return err
		}
		if err := tx.Raw(query, span.From, span.To).Scan(&off).Error; err != nil {
			return fmt.Errorf("find the highest minutes again: %w", err)
		}
		for _, x := range slices.Compact(off) {
			v.Differences = append(v.Differences, Difference{Start: x.Hour.UTC(),
				What: fmt.Sprintf("the highest minute of tenant %d on host %d (0 is all) is another", x.TenantID,
					x.HostID)})
		}
		return nil
	}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
}
