package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/frames"
	"vinescale/internal/store"
)

// Pins audits all declarations that were in force in a span, on one host or on all (""): by host, and there in the
// order in which they apply. One that is to come after the span is listed too, as not known.
func (h *Hub) Pins(ctx context.Context, span question.Span, hostName string) ([]explain.PinAudit, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	pins = slices.DeleteFunc(pins, func(p store.Pin) bool {
		return !scope.HasHost(p.HostID) || p.Ends(span.From)
	})
	audits := make([]explain.PinAudit, len(pins))
	groups := map[question.Span][]int{} // the places of those that were in force at the same time
	for i := range pins {
		clip := inForce(&pins[i], span)
		groups[clip] = append(groups[clip], i)
	}
	for clip, places := range groups {
		if clip.IsEmpty() {
			for _, i := range places {
				audits[i] = notYet(&pins[i], span)
			}
			continue
		}
		if err := h.auditPins(ctx, scope, clip, pins, places, audits); err != nil {
			return nil, err
		}
	}
	return audits, nil
}

// inForce is the part of a span in which a declaration was in force; empty where it begins after the span.
func inForce(p *store.Pin, span question.Span) question.Span {
	if p.From.After(span.From) {
		span.From = p.From.UTC()
	}
	if p.Until != nil && p.Until.Before(span.To) {
		span.To = p.Until.UTC()
	}
	if !span.From.Before(span.To) {
		return question.Span{}
	}
	return span
}

// notYet tells of a declaration that is to come.
func notYet(p *store.Pin, span question.Span) explain.PinAudit {
	d := declared(p)
	pin := explain.Pin{
		ID:        p.ID,
		Host:      &explain.Host{ID: p.HostID, Name: p.Host.Name},
		CPUs:      declaredCPUs(p.CPUs),
		Kind:      d.Kind,
		Holder:    d.Holder,
		Exclusive: p.Exclusive,
		Reason:    p.Reason,
		MadeBy:    p.MadeBy,
		From:      p.From.UTC(),
		Until:     p.Until,
	}
	a := explain.AuditPin(span.To, span.To, &pin, &explain.PinGround{Gathering: explain.NewGathering()})
	a.Sentence = "It applies from a moment after this span on: before that nothing is judged."
	return *a
}

// auditPins audits some of the declarations over a span in which all of them were in force.
func (h *Hub) auditPins(ctx context.Context, scope question.Scope, span question.Span, all []store.Pin, places []int,
	audits []explain.PinAudit) error {
	scope.Span, scope.Hosts = span, []int32{}
	for _, i := range places {
		if !slices.Contains(scope.Hosts, all[i].HostID) {
			scope.Hosts = append(scope.Hosts, all[i].HostID)
		}
	}
	grounds, err := h.pinGrounds(ctx, &scope, all)
	if err != nil {
		return err
	}
	dated := scope
	dated.Hosts, dated.Only = []int32{}, []int64{}
	for _, i := range places {
		ground := grounds[all[i].HostID]
		at := slices.IndexFunc(ground.Pins, func(p *explain.Pin) bool { return p.ID == all[i].ID })
		a := explain.AuditPin(span.From, span.To, ground.Pins[at], ground)
		if only := a.Suspects(); len(only) > 0 {
			dated.Only = append(dated.Only, only...)
			if !slices.Contains(dated.Hosts, all[i].HostID) {
				dated.Hosts = append(dated.Hosts, all[i].HostID)
			}
		}
		audits[i] = *a
	}
	if len(dated.Only) == 0 {
		return nil
	}
	step := stretchFor(span)
	stretches, err := h.pinStretches(ctx, dated, step)
	for _, i := range places {
		audits[i].Date(stretches[all[i].HostID], step)
	}
	return err
}

// stretchFor is how long the stretches are by which it is told when something was.
func stretchFor(span question.Span) time.Duration {
	switch long := span.To.Sub(span.From); {
	case span.Frames:
		return frames.UsualPace
	case long <= 6*time.Hour:
		return time.Minute
	case long <= 8*24*time.Hour:
		return time.Hour
	}
	return 24 * time.Hour
}

// pinGrounds gathers what is known of the hosts of a scope, each with its declarations.
func (h *Hub) pinGrounds(ctx context.Context, scope *question.Scope,
	all []store.Pin) (map[int32]*explain.PinGround, error) {
	gathering, err := h.gatherIn(ctx, scope, []string{leaf.States, leaf.OfMeasure(amount.CPUWait)})
	if err != nil {
		return nil, err
	}
	ran, users, err := h.ranWhere(ctx, *scope)
	if err != nil {
		return nil, err
	}
	// Who was there, under the tenant of its newest interval.
	answer, err := h.store.Ask(ctx, question.Question{Scope: *scope, Measures: []amount.Measure{amount.CPU},
		By: []question.Dimension{question.Workload}, NoPeaks: true})
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(answer.Rows))
	for i, r := range answer.Rows {
		ids[i] = r.Workload
		users = append(users, explain.User{Workload: r.Workload, Tenant: r.Tenant})
	}
	stored, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	inventories, err := h.store.Inventories(ctx, scope.Hosts)
	if err != nil {
		return nil, err
	}
	hosts, grounds := map[int32]*explain.Host{}, map[int32]*explain.PinGround{}
	for _, id := range scope.Hosts {
		hosts[id] = &explain.Host{ID: id, Inventory: inventories[id]}
		grounds[id] = &explain.PinGround{Gathering: gathering, Names: names}
	}
	for i := range all {
		p := &all[i]
		ground := grounds[p.HostID]
		if ground == nil || inForce(p, scope.Span).IsEmpty() {
			continue
		}
		d := declared(p)
		hosts[p.HostID].Name, hosts[p.HostID].CPUs = p.Host.Name, p.Host.CPUs
		pin := &explain.Pin{
			ID:        p.ID,
			Host:      hosts[p.HostID],
			CPUs:      declaredCPUs(p.CPUs),
			Kind:      d.Kind,
			Holder:    d.Holder,
			Exclusive: p.Exclusive,
			Reason:    p.Reason,
			MadeBy:    p.MadeBy,
			From:      p.From.UTC(),
			Until:     p.Until,
		}
		if pin.Holds, err = h.holds(ctx, p, stored); err != nil {
			return nil, err
		}
		ground.Pins = append(ground.Pins, pin)
	}
	for _, r := range answer.Rows {
		grounds[r.Host].Present = append(grounds[r.Host].Present, explain.Present{
			User: explain.User{Workload: r.Workload, Tenant: r.Tenant}, Allowed: stored[r.Workload].Allowed,
			Masks: stored[r.Workload].Facts[account.FactMasks]})
	}
	for host, uses := range ran {
		grounds[host].Ran = uses
	}
	return grounds, nil
}

// pinStretches asks when the workloads of a scope ran on which CPU, and waited for any, on each host.
func (h *Hub) pinStretches(ctx context.Context, scope question.Scope,
	step time.Duration) (map[int32][]explain.PinStretch, error) {
	stretches := map[int32][]explain.PinStretch{}
	for _, x := range []struct {
		of amount.Measure
		by []question.Dimension
	}{
		{amount.CPU, []question.Dimension{question.CPU, question.Workload, question.Tenant}},
		{amount.CPUWait, []question.Dimension{question.Workload, question.Tenant}},
	} {
		answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{x.of}, By: x.by,
			Step: step, NoPeaks: true})
		if err != nil {
			return nil, err
		}
		for _, r := range answer.Rows {
			if !r.Sums[0].Known() {
				continue
			}
			use := explain.CPUUse{User: explain.User{Workload: r.Workload, Tenant: r.Tenant}, CPU: int(r.CPU),
				Micros: r.Sums[0].Units}
			if x.of != amount.CPU {
				use.CPU = -1
			}
			stretches[r.Host] = append(stretches[r.Host], explain.PinStretch{Start: r.Start, CPUUse: use})
		}
	}
	return stretches, nil
}
