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
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// EventsQuestion asks what happened.
type EventsQuestion struct {
	Asked             // workloads are chosen by its expression
	Kinds    []string // nil for all
	First    int      // at most so many, the newest first; 0 for as many as are ever told
	Workload int64    // 0 for all
	Urgent   bool     // only what somebody should look at
}

// mostEvents is how many of each kind of source are told.
const mostEvents = 5000

// Events answers what happened in a span, the newest first, and how many there were.
func (h *Hub) Events(ctx context.Context, q *EventsQuestion) (list []explain.Event, inAll int, err error) {
	for _, k := range q.Kinds {
		if !slices.Contains(explain.EventKinds(), k) {
			return nil, 0, problem(Invalid, "no event is of the kind %q: choose from %s", k,
				strings.Join(explain.EventKinds(), ", "))
		}
	}
	scope, err := h.filtered(ctx, &q.Asked)
	if err != nil {
		return nil, 0, err
	}
	if q.Workload != 0 {
		scope.Only = []int64{q.Workload}
	}
	w := &eventsWork{Hub: h, scope: scope}
	sources := []func(context.Context) error{w.lived, w.heldAndKilled, w.happened}
	if scope.IsWhole() {
		sources = append(sources, w.hosts, w.changed, w.acted)
	}
	for _, source := range sources {
		if err := source(ctx); err != nil {
			return nil, 0, err
		}
	}
	list = slices.DeleteFunc(w.list, func(e explain.Event) bool {
		return len(q.Kinds) > 0 && !slices.Contains(q.Kinds, e.Kind) || q.Urgent && !e.Urgent
	})
	explain.SortEvents(list)
	inAll = len(list)
	if q.First > 0 {
		list = list[:min(len(list), q.First)]
	}
	return list, inAll, nil
}

// eventsWork gathers what happened in a scope.
type eventsWork struct {
	*Hub
	scope question.Scope
	list  []explain.Event
}

func (w *eventsWork) add(e ...explain.Event) { w.list = append(w.list, e...) }

// lived adds what began and what ended.
func (w *eventsWork) lived(ctx context.Context) error {
	stored, err := w.store.Lived(ctx, &w.scope, mostEvents)
	if err != nil {
		return err
	}
	var signIns []int64
	hosts := map[int32]bool{}
	for i := range stored {
		hosts[stored[i].HostID] = true
		if stored[i].Kind == amount.Session.String() {
			signIns = append(signIns, stored[i].ID)
		}
	}
	isNew, err := w.store.NewOrigins(ctx, signIns)
	if err != nil {
		return err
	}
	var ids []int32
	for id := range hosts {
		ids = append(ids, id)
	}
	first, err := w.store.FirstTold(ctx, ids)
	if err != nil {
		return err
	}
	names, err := w.tenantNames(ctx)
	if err != nil {
		return err
	}
	var all []explain.Lived
	for i := range stored {
		x := &stored[i]
		if !w.scope.HasWorkload(x.ID) {
			continue
		}
		lived := explain.Lived{Workload: x.Core(), ID: x.ID, Host: x.Host.Name, Tenant: named(names, x.TenantID),
			IsNewOrigin: isNew[x.ID]}
		if began := x.FirstAt.UTC(); began.After(first[x.HostID].Add(reportsWithin)) {
			lived.Began = &began
		}
		if !x.Alive {
			lived.Ended = x.EndedAt
			if x.EndedAt == nil {
				lived.Ended = x.LastAt
			}
			if lived.Ended != nil {
				at := lived.Ended.UTC()
				lived.Ended = &at
			}
		}
		all = append(all, lived)
		w.add(explain.EventsOf(&lived, w.scope.Span.From, w.scope.Span.To)...)
	}
	w.add(explain.MovedEvents(all, w.scope.Span.From, w.scope.Span.To)...)
	return nil
}

// happened adds what was written down when it was seen.
func (w *eventsWork) happened(ctx context.Context) error {
	list, err := w.store.Happenings(ctx, &w.scope, mostEvents)
	if err != nil || len(list) == 0 {
		return err
	}
	var ids []int64
	for i := range list {
		if id := list[i].WorkloadID; id != 0 {
			ids = append(ids, id)
		}
	}
	workloads, err := w.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return err
	}
	names, err := w.tenantNames(ctx)
	if err != nil {
		return err
	}
	hosts, err := w.store.Hosts(ctx)
	if err != nil {
		return err
	}
	failed := map[string][]time.Time{} // workloads that failed, by host and name
	for _, e := range w.list {
		if e.Kind == explain.EventFailed {
			failed[e.Host+" "+e.Name] = append(failed[e.Host+" "+e.Name], e.At)
		}
	}
	for i := range list {
		x := &list[i]
		e := explain.Event{At: x.At, Kind: x.Kind, Name: x.Name, Of: x.Of, Urgent: x.Urgent, Text: x.Text}
		if at := slices.IndexFunc(hosts, func(h store.Host) bool { return h.ID == x.HostID }); at >= 0 {
			e.Host = hosts[at].Name
		}
		if of, is := workloads[x.WorkloadID]; is {
			e.ID, e.Name, e.Of, e.Owner, e.Tenant = of.ID, of.Name, of.Kind, of.Owner, named(names, of.TenantID)
		}
		// The workload of a unit says better how it failed.
		said := append(failed[e.Host+" "+e.Name], failed[e.Host+" "+strings.TrimSuffix(e.Name, ".service")]...)
		if e.Kind == explain.EventFailed && slices.ContainsFunc(said, func(at time.Time) bool {
			return at.Sub(e.At).Abs() <= 2*reportsWithin
		}) {
			continue
		}
		w.add(e)
	}
	return nil
}

// heldAndKilled adds where processes were ended for want of memory, and where CPU limits held workloads back, by steps.
func (w *eventsWork) heldAndKilled(ctx context.Context) error {
	step := stepFor(w.scope.Span)
	least := []float64{1, explain.LeastHeld(step)}
	answer, err := w.store.Ask(ctx, question.Question{Scope: w.scope, NoPeaks: true, Step: step, Least: least,
		By:       []question.Dimension{question.Workload, question.Tenant},
		Measures: []amount.Measure{amount.MemoryOOMKills, amount.CPUThrottled}})
	if err != nil {
		return err
	}
	had := func(r *question.Row, i int) bool { return r.Sums[i].Known() && r.Sums[i].Units >= least[i] }
	var users []explain.User
	for i := range answer.Rows {
		users = append(users, explain.User{Workload: answer.Rows[i].Workload, Tenant: answer.Rows[i].Tenant})
	}
	names, err := w.namesOf(ctx, users)
	if err != nil {
		return err
	}
	held, about := map[int64][]explain.HeldBack{}, map[int64]explain.Event{}
	for i := range answer.Rows {
		r := &answer.Rows[i]
		at := r.Start
		if at.Before(w.scope.Span.From) {
			at = w.scope.Span.From
		}
		who := names(users[i])
		if had(r, 0) {
			w.add(explain.KilledEvent(at, r.Names.Host, who, r.Sums[0].Units))
		}
		if had(r, 1) {
			held[r.Workload] = append(held[r.Workload], explain.HeldBack{Start: r.Start, Micros: r.Sums[1].Units})
			about[r.Workload] = explain.Event{Host: r.Names.Host, ID: who.ID, Name: who.Name, Of: who.Kind,
				Owner: who.Owner, Tenant: who.Tenant}
		}
	}
	for id, steps := range held {
		w.add(explain.ThrottledEvents(about[id], steps, step, w.scope.Span.From)...)
	}
	return nil
}

// hosts adds when hosts were booted, told nothing, and were back.
func (w *eventsWork) hosts(ctx context.Context) error {
	boots, err := w.store.Boots(ctx, &w.scope)
	if err != nil {
		return err
	}
	all, err := w.store.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, b := range boots {
		at := slices.IndexFunc(all, func(x store.Host) bool { return x.ID == b.HostID })
		if at >= 0 {
			w.add(explain.BootedEvent(b.Start.UTC(), all[at].Name))
		}
	}
	stretch, err := w.stretch(ctx, question.Question{Scope: w.scope})
	if err != nil {
		return err
	}
	missed, err := w.missed(ctx, &w.scope, stretch)
	if err != nil || missed.Uncovered == nil {
		return err
	}
	for i := range missed.Uncovered.Parts {
		p := &missed.Uncovered.Parts[i]
		last := time.Time{}
		if at := slices.IndexFunc(all, func(x store.Host) bool { return x.Name == p.Host }); all[at].LastAt != nil {
			last = *all[at].LastAt
		}
		w.add(explain.SilentEvents(p, w.scope.Span.From, w.scope.Span.To, last)...)
	}
	return nil
}

// changed adds who changed rules, quotas and declarations. Of one host only its declarations are.
func (w *eventsWork) changed(ctx context.Context) error {
	span := w.scope.Span
	within := func(at time.Time) bool { return !at.Before(span.From) && at.Before(span.To) }
	pins, err := w.store.Pins(ctx)
	if err != nil {
		return err
	}
	for i := range pins {
		d := declared(&pins[i])
		if !w.scope.HasHost(d.HostID) {
			continue
		}
		e := explain.Event{
			At:   d.From.UTC(),
			Kind: explain.EventChanged,
			Host: d.HostName,
			Name: d.Holder,
			Who:  d.MadeBy,
			Text: "CPUs " + d.CPUs + " were declared for it",
		}
		if within(d.From) {
			w.add(e)
		}
		if d.Until != nil && within(*d.Until) {
			e.At, e.Text, e.Who = d.Until.UTC(), "CPUs "+d.CPUs+" are no longer declared for it", d.EndedBy
			w.add(e)
		}
	}
	if w.scope.Hosts != nil {
		return nil
	}
	changes, err := w.store.QuotaChanges(ctx)
	if err != nil {
		return err
	}
	tenants, err := w.tenantNames(ctx)
	if err != nil {
		return err
	}
	for i := range changes {
		c := &changes[i]
		if !within(c.MadeAt) {
			continue
		}
		w.add(
			explain.Event{
				At:   c.MadeAt.UTC(),
				Kind: explain.EventChanged,
				Name: named(tenants, c.TenantID),
				Who:  c.MadeBy,
				Text: quotaWords(c),
			},
		)
	}
	acts, err := w.store.ActsBetween(ctx, span, mostEvents)
	for _, a := range acts {
		if strings.HasPrefix(a.Act, confirming) || strings.HasPrefix(a.Who, byHost) {
			continue // acted tells of it
		}
		w.add(explain.Event{At: a.At.UTC(), Kind: explain.EventChanged, Name: a.Subject, Who: a.Who, Text: a.Act,
			Urgent: a.Act == stopsStanding})
	}
	return err
}

// acted adds what was done on hosts by acts, and what was refused when it was to be.
func (w *eventsWork) acted(ctx context.Context) error {
	list, err := w.store.InterventionsBetween(ctx, w.scope.Span, mostEvents)
	for i := range list {
		x := &list[i]
		if x.HostID == nil || !w.scope.HasHost(*x.HostID) || x.OverAt == nil {
			continue
		}
		name, text := x.Request.Target.String(), fmt.Sprintf("%s: %s", x.Verb, x.State)
		if x.Preview != nil {
			name = x.Preview.Target
		}
		if x.Detail != "" {
			text += ", " + x.Detail
		} else if x.Outcome != nil {
			text += ", " + x.Outcome.Detail
		}
		w.add(
			explain.Event{
				At:   x.OverAt.UTC(),
				Kind: explain.EventActed,
				Host: x.Host,
				Name: name,
				Who:  x.Who,
				Text: text,
			},
		)
	}
	return err
}

// quotaWords says what a change of a quota does.
func quotaWords(c *store.QuotaChange) string {
	where := "all hosts"
	if c.Scope != "" {
		where = c.ScopeKind + " " + c.Scope
	}
	what := fmt.Sprintf("the quota of %s on %s", c.Resource, where)
	if c.WindowBy != "" {
		what += " for each " + c.WindowBy
	}
	unit, _ := tenancy.QuotaUnit(c.Resource, c.WindowBy != "")
	switch {
	case c.Ceiling != nil:
		return fmt.Sprintf("%s was set to %s", what, explain.LimitInWords(*c.Ceiling, unit))
	case c.Soft != nil:
		return fmt.Sprintf("%s is watched from %s on", what, explain.LimitInWords(*c.Soft, unit))
	}
	return what + " has ended"
}
