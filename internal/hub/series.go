package hub

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/internal/sheet"
)

// SeriesQuestion asks how a measure went.
type SeriesQuestion struct {
	Asked
	Measure  amount.Measure
	By       string // a dimension; "" for all in one
	Workload int64  // 0 for all
	First    int    // groups told apart: the largest; the rest is told as one. 0 for all
	Step     string // one of Steps; "" or auto for one that suits the span
}

// mostSteps is how many steps a series may have.
const mostSteps = 3000

// AutoStep stands for the step that suits a span.
const AutoStep = "auto"

// frameSteps are those of live frames: the shortest that is asked for by itself is the usual tick.
var frameSteps = []time.Duration{5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute,
	time.Second, 2 * time.Second}

// Steps lists the steps that can be asked for.
func Steps() []string { return stepNames(steps) }

func stepNames(of []time.Duration) []string {
	names := []string{AutoStep}
	for _, s := range of {
		names = append(names, sheet.SpanText(s))
	}
	return names
}

// seriesStep reads a step.
func seriesStep(text string, span question.Span) (time.Duration, error) {
	of := steps
	if span.Frames {
		of = frameSteps
	}
	step := shortest(of, span)
	if text != "" && text != AutoStep {
		var err error
		if step, err = sheet.ParseSpan(text); err != nil || !slices.Contains(of, step) {
			return 0, problem(Invalid, "a step of %q: choose one of %s", text, strings.Join(stepNames(of), ", "))
		}
	}
	if n := span.Length() / step; n > mostSteps {
		return 0, problem(Invalid, "%d steps of %s: choose a longer step, or a shorter span (at most %d)", n,
			sheet.SpanText(step), mostSteps)
	}
	return step, nil
}

// Series answers how a measure went over a span: of its largest groups, and of the rest of them.
func (h *Hub) Series(ctx context.Context, q *SeriesQuestion) (*explain.Series, error) {
	w := &seriesWork{Hub: h, q: q}
	if err := w.prepare(ctx); err != nil {
		return nil, err
	}
	g := &explain.SeriesGround{Measure: q.Measure, Step: w.step, PeakOf: explain.PeakOfNone,
		IsWhole: w.scope.IsWhole()}
	switch {
	case w.by == question.Workload && q.Measure.HasLedger():
		g.PeakOf = explain.PeakOfTick
	case w.by == question.Tenant && q.Measure.HasLedger() && w.scope.Only == nil && !q.Span.Frames:
		g.PeakOf = explain.PeakOfMinute
	}
	measures := []amount.Measure{q.Measure}
	if !q.Measure.HasLedger() {
		measures = nil
	}
	about := q.about()
	whole, err := h.stretch(ctx, question.Question{Scope: w.scope, Measures: measures})
	if err != nil {
		return nil, err
	}
	if about.Missed, err = h.missed(ctx, &w.scope, whole, q.Measure); err != nil {
		return nil, err
	}
	if err := w.ask(ctx, g); err != nil {
		return nil, err
	}
	s := explain.NewSeries(about, g, q.By)
	return s, w.fill(ctx, s, g, whole.ElapsedMillis)
}

// seriesWork is the work on one answer.
type seriesWork struct {
	*Hub
	q     *SeriesQuestion
	scope question.Scope
	by    question.Dimension // "" for all in one
	step  time.Duration

	largest *question.Answer // who had most over the span
	rows    []question.Row   // what these had by step, or what all had
	all     []question.Row   // what all had by step, divided in whatever way adds up to that
}

func (w *seriesWork) prepare(ctx context.Context) (err error) {
	if w.q.By != "" {
		if w.by = question.Dimension(w.q.By); !slices.Contains(question.Divisions(), w.q.By) {
			if w.by, err = question.ParseDimension(w.q.By); err != nil {
				return problem(
					Invalid,
					"%v, or for CPU time one of %s",
					err,
					strings.Join(question.Divisions(), ", "),
				)
			}
		}
	}
	if w.step, err = seriesStep(w.q.Step, w.q.Span); err != nil {
		return err
	}
	if w.scope, err = w.filtered(ctx, &w.q.Asked); err != nil {
		return err
	}
	if w.q.Workload != 0 {
		if w.scope.Only != nil && !slices.Contains(w.scope.Only, w.q.Workload) {
			w.scope.Only = []int64{}
		} else {
			w.scope.Only = []int64{w.q.Workload}
		}
	}
	if _, err := question.PlanFor(w.question(w.dimensions(), 0)); err != nil {
		return problem(Invalid, "%v", err)
	}
	return nil
}

func (w *seriesWork) dimensions() []question.Dimension {
	if w.by == "" {
		return nil
	}
	return []question.Dimension{w.by}
}

func (w *seriesWork) question(by []question.Dimension, step time.Duration) question.Question {
	return question.Question{Scope: w.scope, Measures: []amount.Measure{w.q.Measure}, By: by, Step: step}
}

// groupKey tells groups apart, over steps too.
func (w *seriesWork) groupKey(r *question.Row) string {
	switch w.by {
	case question.Workload:
		return fmt.Sprint(r.Workload)
	case question.Tenant:
		return fmt.Sprint(r.Tenant)
	case question.Host:
		return fmt.Sprint(r.Host)
	}
	return fmt.Sprint(r.Name, "\x00", r.Family, "\x00", r.CPU)
}

// ask asks who had most over the span, and for what was had by step, with the lines of the hosts.
func (w *seriesWork) ask(ctx context.Context, g *explain.SeriesGround) error {
	top := w.question(w.dimensions(), 0)
	top.Page.First, top.NoPeaks = w.q.First, true
	var err error
	if w.largest, err = w.store.Ask(ctx, top); err != nil {
		return err
	}
	byStep := w.question(w.dimensions(), w.step)
	plan, err := question.PlanFor(byStep)
	if err != nil {
		return err
	}
	asked := []question.Question{byStep}
	if plan.Division != question.ByWorkload || w.by == question.Workload {
		asked[0].Scope.Only = w.onlyLargest()
		byHost := w.question([]question.Dimension{question.Host}, w.step)
		byHost.NoPeaks = true
		asked = append(asked, byHost)
	}
	answers, stretches, err := w.store.AskBySteps(ctx, asked...)
	if err != nil {
		return err
	}
	g.Stretches, w.rows, w.all = stretches, answers[0].Rows, answers[len(answers)-1].Rows
	return nil
}

// onlyLargest are the workloads that a series tells apart; of other groups all are asked about that it is of.
func (w *seriesWork) onlyLargest() []int64 {
	if w.by != question.Workload {
		return w.scope.Only
	}
	only := []int64{}
	for i := range w.largest.Rows {
		only = append(only, w.largest.Rows[i].Workload)
	}
	return only
}

// fill tells how it went with the largest groups, and with the rest.
func (w *seriesWork) fill(ctx context.Context, s *explain.Series, g *explain.SeriesGround, elapsed int64) error {
	largest, all := w.largest, w.all
	s.Note = question.PastKeeping(largest.Grain)
	told, err := w.toldByHost(ctx, s, all)
	if err != nil {
		return err
	}
	minutes, err := w.highestMinutes(ctx, g)
	if err != nil {
		return err
	}
	rows := map[string][]explain.SeriesRow{}
	for i := range w.rows {
		r := &w.rows[i]
		key := w.groupKey(r)
		row := explain.SeriesRow{Start: r.Start, Sum: r.Sums[0]}
		switch g.PeakOf {
		case explain.PeakOfTick:
			row.Peak = &r.Sums[0].Peak
		case explain.PeakOfMinute:
			if most, is := minutes[tenantStep{r.Tenant, r.Start.Unix()}]; is {
				row.Peak = &most
			}
		}
		rows[key] = append(rows[key], row)
	}
	for i := range largest.Rows {
		r := &largest.Rows[i]
		share := shareOf(r, w.by, w.q.Measure, elapsed)
		who := explain.SeriesGroup{ID: share.WorkloadID, Name: share.Name, Kind: share.Kind, Owner: share.Owner,
			Tenant: share.Tenant, Host: share.Host, Whole: share.Mean, Source: share.Source, Missing: share.Missing}
		switch w.by {
		case "":
			who.Name = "all"
		case question.CPU:
			who.Name = fmt.Sprint("CPU ", r.CPU)
		}
		host := r.Host
		s.Groups = append(
			s.Groups,
			s.Group(g, &who, rows[w.groupKey(r)], func(k int) bool { return told(host, k) }),
		)
	}
	return w.fillRest(ctx, s, g, largest, all, elapsed)
}

// fillRest tells what all groups had that are not told apart, and the lines of the hosts.
func (w *seriesWork) fillRest(ctx context.Context, s *explain.Series, g *explain.SeriesGround,
	largest *question.Answer, all []question.Row, elapsed int64) error {
	s.InRest = largest.Total.Rows - len(largest.Rows)
	if s.InRest == 0 && !(g.IsWhole && w.q.Measure.HasLedger()) {
		return nil
	}
	sums := map[time.Time]float64{}
	at := map[time.Time]int{}
	var rows []explain.SeriesRow
	for i := range all {
		r := &all[i]
		sums[r.Start] += r.Sums[0].Units
		if k, there := at[r.Start]; there {
			rows[k].Sum.Join(&r.Sums[0])
			rows[k].Sum.Over = max(rows[k].Sum.Over, r.Sums[0].Over)
			if w.q.Measure.Manner().
				OverWorkloads() ==
				amount.Apart { // what one waited does not add to what another did
				rows[k].Sum.Units, rows[k].Sum.Source = 0, amount.Unavailable
			}
			continue
		}
		at[r.Start] = len(rows)
		rows = append(rows, explain.SeriesRow{Start: r.Start, Sum: r.Sums[0]})
	}
	if s.InRest > 0 && w.q.Measure.Manner() != amount.Height {
		rest := s.RestOf(g, rows)
		whole := largest.Total.Units[0]
		for i := range largest.Rows {
			whole -= largest.Rows[i].Sums[0].Units
		}
		if w.q.Measure.HasLedger() && elapsed > 0 {
			mean := w.q.Measure.Mean(max(whole, 0), elapsed)
			rest.Whole = &mean
		}
		s.Rest = &rest
	}
	s.AddLines(g, sums)
	return nil
}

// toldByHost says of which steps each host told, where groups are of one host each; of others all is told that any host
// told.
func (w *seriesWork) toldByHost(
	ctx context.Context,
	s *explain.Series,
	all []question.Row,
) (func(host int32, step int) bool,
	error) {
	isOfOneHost := w.by == question.Workload || w.by == question.Host
	if !isOfOneHost || len(w.scope.Hosts) == 1 {
		return func(int32, int) bool { return true }, nil
	}
	if !w.scope.IsWhole() { // a host may tell of a step in which those who are asked about had nothing
		byHost := w.question([]question.Dimension{question.Host}, w.step)
		byHost.NoPeaks, byHost.Scope.Tenants, byHost.Scope.Only = true, nil, nil
		answer, err := w.store.Ask(ctx, byHost)
		if err != nil {
			return nil, err
		}
		all = answer.Rows
	}
	type hostStep struct {
		host  int32
		start int64
	}
	told := map[hostStep]bool{}
	for i := range all {
		told[hostStep{all[i].Host, all[i].Start.Unix()}] = true
	}
	return func(host int32, k int) bool { return told[hostStep{host, s.Starts[k].Unix()}] }, nil
}

// tenantStep is a tenant in the step that starts at a second.
type tenantStep struct {
	tenant int32
	start  int64
}

// highestMinutes finds the highest minute of each tenant in each step, in the measure's mean unit, where peaks are
// these.
func (w *seriesWork) highestMinutes(ctx context.Context, g *explain.SeriesGround) (map[tenantStep]float64, error) {
	most := map[tenantStep]float64{}
	if g.PeakOf != explain.PeakOfMinute {
		return most, nil
	}
	cells, err := w.store.TenantCells(ctx, w.scope.Hosts, w.q.Span, w.step < time.Hour, w.q.Measure)
	q := question.Question{Step: w.step}
	for i := range cells {
		c := &cells[i]
		at := tenantStep{c.Tenant, q.Stretch(c.Start).Unix()}
		most[at] = max(most[at], w.q.Measure.Mean(c.Most[w.q.Measure], time.Minute.Milliseconds()))
	}
	return most, err
}
