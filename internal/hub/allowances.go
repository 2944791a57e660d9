package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// allowances tells how the allowances stand that are in force at the end of the span, in the window that this is in.
func (w *standWork) allowances(ctx context.Context, sets []*quotaSet, b *explain.Balance) error {
	at := w.scope.Span.To.UTC()
	if now := w.options.Now().UTC(); at.After(now) {
		at = now.Truncate(time.Minute)
	}
	type spentIn struct {
		rows       []question.Row
		isRecorded bool
	}
	var measures []amount.Measure
	for _, set := range sets {
		r, err := amount.ParseResource(set.Name)
		if err == nil && !set.window.IsNone() && !slices.Contains(measures, r) {
			measures = append(measures, r)
		}
	}
	windows := map[question.Span]spentIn{}
	var days map[int32]map[amount.Resource][]tenancy.Day
	for _, set := range sets {
		limit := tenancy.InForce(set.Changes, at.Add(-time.Nanosecond))
		if set.window.IsNone() || limit.None() {
			continue
		}
		zone, err := time.LoadLocation(limit.Zone)
		if err != nil {
			return err
		}
		from, to := set.window.Bounds(at.Add(-time.Nanosecond), zone)
		window := question.Span{From: from, To: at}
		spent, there := windows[window]
		if !there {
			scope := w.scope
			scope.Span = window
			answer, lines, err := w.store.AskWithLines(ctx, question.Question{Scope: scope, NoPeaks: true,
				Measures: measures, By: []question.Dimension{question.Tenant}})
			if err != nil {
				return err
			}
			spent = spentIn{answer.Rows, lines.Whole.ElapsedMillis > 0}
			windows[window] = spent
		}
		if days == nil {
			if days, err = w.days(ctx, at, measures); err != nil {
				return err
			}
		}
		r, err := amount.ParseResource(set.Name)
		if err != nil {
			continue
		}
		sum := sumOf(spent.rows, set.Tenants, slices.Index(measures, r))
		a := explain.Allowance{Tenant: set.Tenant, Name: set.Name, Scope: set.Scope, Window: set.window, Limit: limit,
			From: from, To: to}
		s := explain.StandOfAllowance(&a, at, &sum, spent.isRecorded, sumDays(days, set.Tenants, r))
		s.Parts = set.parts
		b.Allowances = append(b.Allowances, *s)
	}
	return nil
}

// days is what tenants spent on each of the last whole days, in UTC, in account units. The day of none (-1) tells which
// days are known.
func (w *standWork) days(ctx context.Context, at time.Time,
	measures []amount.Measure) (map[int32]map[amount.Resource][]tenancy.Day, error) {
	const day = 24 * time.Hour
	scope := w.scope
	scope.Span = question.Span{From: at.Truncate(day).AddDate(0, 0, -28), To: at.Truncate(day)}
	q := question.Question{Scope: scope, Measures: measures, By: []question.Dimension{question.Tenant}, Step: day,
		NoPeaks: true}
	answer, err := w.store.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	stretches, err := w.store.Lines(ctx, question.Question{Scope: scope, Step: day})
	if err != nil {
		return nil, err
	}
	days := map[int32]map[amount.Resource][]tenancy.Day{everyDay: {0: {}}}
	for _, s := range stretches {
		// A day with less than nine tenths of it recorded says little of what a day is like.
		if s.ElapsedMillis >= day.Milliseconds()*9/10 {
			days[everyDay][0] = append(days[everyDay][0], tenancy.Day{From: s.Start, IsKnown: true})
		}
	}
	for _, row := range answer.Rows {
		of := days[row.Tenant]
		if of == nil {
			of = map[amount.Resource][]tenancy.Day{}
			days[row.Tenant] = of
		}
		for i, r := range q.Measures {
			of[r] = append(of[r], tenancy.Day{From: row.Start, Spent: row.Sums[i].Units})
		}
	}
	return days, nil
}

// everyDay stands where a tenant's number stands.
const everyDay = -1

// sumDays adds up what some tenants spent on the days that are known.
func sumDays(days map[int32]map[amount.Resource][]tenancy.Day, tenants []int32, r amount.Resource) []tenancy.Day {
	list := slices.Clone(days[everyDay][0])
	for i := range list {
		for _, t := range tenants {
			for _, d := range days[t][r] {
				if d.From.Equal(list[i].From) {
					list[i].Spent += d.Spent
				}
			}
		}
	}
	return list
}
