package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// Ask answers a question about usage from what is kept. There is no other way to read sums of usage.
func (s *Store) Ask(ctx context.Context, q question.Question) (*question.Answer, error) {
	plan, err := question.PlanFor(q)
	if err != nil {
		return nil, err
	}
	if len(plan.Reads) == 1 && plan.Reads[0].Book != question.Messages {
		return s.askRows(ctx, &q, plan.Reads[0], true)
	}
	// What is read from several books, or counted out of messages, is sorted and cut here.
	var rows []question.Row
	at := map[string]int{}
	for _, read := range plan.Reads {
		var part []question.Row
		if read.Book == question.Messages {
			part, err = s.askMessages(ctx, &q, read)
		} else {
			var a *question.Answer
			if a, err = s.askRows(ctx, &q, read, false); err == nil {
				part = a.Rows
			}
		}
		if err != nil {
			return nil, err
		}
		for _, r := range part {
			key := groupKey(&r)
			k, there := at[key]
			if !there {
				k = len(rows)
				at[key] = k
				whole := r
				whole.Sums = slices.Repeat([]question.Sum{question.NoFigure(r.Parts)}, len(q.Measures))
				rows = append(rows, whole)
			}
			for i, place := range read.At {
				rows[k].Sums[place] = r.Sums[i]
			}
			if r.State != nil {
				rows[k].State = r.State
			}
		}
	}
	return q.Arrange(rows), nil
}

// groupKey tells a row's group from all others.
func groupKey(r *question.Row) string {
	return fmt.Sprintf("%d/%d/%d/%d/%d/%q/%q/%q", r.Start.UnixMicro(), r.Workload, r.Tenant, r.Host, r.CPU, r.Name,
		r.Family, r.Names)
}

// askRows answers from a book of rows. With arrange, the database sorts the groups and cuts the page.
func (s *Store) askRows(ctx context.Context, q *question.Question, read question.Read, arrange bool) (
	*question.Answer, error) {
	b := grouping{q: q, read: read}
	query := b.build(arrange)
	rows, err := s.db.WithContext(ctx).Raw(query, b.args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("ask for %v by %v: %w", read.Measures, q.By, err)
	}
	defer rows.Close()
	a := &question.Answer{Rows: []question.Row{}, Total: question.Total{Units: make([]float64, len(read.Measures))}}
	for rows.Next() {
		r := question.Row{Sums: make([]question.Sum, len(read.Measures))}
		var start *time.Time
		into := []any{&start, &r.Workload, &r.Tenant, &r.Host, &r.CPU, &r.Name, &r.Family, &r.Names.Kind,
			&r.Names.Owner, &r.Names.Tenant, &r.Names.Host, &r.Names.Workload, &r.Parts, &r.Workloads}
		sources := make([]int16, len(read.Measures))
		for i := range r.Sums {
			x := &r.Sums[i]
			into = append(into, &x.Units, &x.Peak, &sources[i], &x.Missing, &x.Untold, &x.Now)
		}
		var state question.State
		if b.hasState() {
			into = append(into, &state.ElapsedMillis, &state.NowMillis, &state.From, &state.To, &state.Threads,
				&state.Processes, &state.RunnableMillis, &state.RunnablePeak)
			r.State = &state
		}
		if arrange {
			into = append(into, &a.Total.Rows)
			for i := range a.Total.Units {
				into = append(into, &a.Total.Units[i])
			}
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		if start != nil {
			r.Start = start.UTC()
		}
		if r.State != nil {
			state.From, state.To = state.From.UTC(), state.To.UTC()
		}
		for i, m := range read.Measures {
			x := &r.Sums[i]
			x.Source = amount.Source(sources[i])
			if read.Book == question.TenantMinutes {
				x.Peak = m.Mean(x.Peak, time.Minute.Milliseconds())
			} else {
				x.Peak = m.PeakMean(x.Peak)
			}
		}
		a.Rows = append(a.Rows, r)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if first := q.Page.First; arrange && q.Step == 0 && first > 0 && len(a.Rows) > first {
		a.Rows = a.Rows[:first]
		last := q.KeyOf(&a.Rows[first-1])
		a.Next = &last
	}
	return a, nil
}

// Awake says when a workload last used CPU time.
type Awake struct {
	WorkloadID int64
	From       time.Time  // begin of the first of its intervals
	AwakeAt    *time.Time // end of the last in which it used more than was asked for; nil for none
	AsleepMs   int64      // recorded since then; since From where AwakeAt is nil
	Known      bool       // its CPU time is known in all of them
}

// LastAwake finds when the workloads of a scope last used more than some part of a CPU in one interval, by workload.
func (s *Store) LastAwake(ctx context.Context, scope *question.Scope, cores float64) (map[int64]Awake, error) {
	var b statement
	var rows []Awake
	err := s.db.WithContext(ctx).Raw(fmt.Sprintf(`WITH u AS (
			SELECT workload_id, start, elapsed_ms, coalesce(cpu_source, %[1]d) < %[1]d AS known,
				max(start + elapsed_ms * interval '1 millisecond')
					FILTER (WHERE cpu > %[2]s::float8 * 1000 * elapsed_ms)
					OVER (PARTITION BY workload_id) AS awake_at
			FROM usage_minute u WHERE %[3]s)
		SELECT workload_id, min(start) AS "from", awake_at,
			coalesce(sum(elapsed_ms) FILTER (WHERE awake_at IS NULL OR start >= awake_at), 0)::bigint AS asleep_ms,
			bool_and(known) AS known
		FROM u GROUP BY workload_id, awake_at`, amount.Unavailable, b.arg(cores),
		b.within(scope, shelves[question.WorkloadMinutes])), b.args...).Scan(&rows).Error
	awake := map[int64]Awake{}
	for _, r := range rows {
		awake[r.WorkloadID] = r
	}
	return awake, err
}

// quoted is a text as an SQL literal.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
