package hub

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/core/whatif"
)

// WhatLimit asks what another limit would have done to a workload over a span.
type WhatLimit struct {
	Workload int64
	Resource string // cpu or memory
	Limit    float64
	Span     question.Span
}

// stepOf is how long the steps are in which a span is played again: minutes up to a day, else hours, and days where
// hours are many.
func stepOf(span question.Span) time.Duration {
	switch long := span.Length(); {
	case long <= 25*time.Hour: // a day that clocks make longer is one
		return time.Minute
	case long <= 62*24*time.Hour:
		return time.Hour
	}
	return 24 * time.Hour
}

// sizeStepOf is how long the steps are that sizes are judged by. Of all workloads, a day by the minute would be many.
func sizeStepOf(span question.Span) time.Duration {
	if long := span.Length(); long > 6*time.Hour && long <= 25*time.Hour {
		return time.Hour
	}
	return stepOf(span)
}

// WhatIfLimit plays a span again with another limit of a workload.
func (h *Hub) WhatIfLimit(ctx context.Context, q *WhatLimit) (*whatif.Limited, explain.UserRef, error) {
	r, err := sizable(q.Resource)
	if err != nil {
		return nil, explain.UserRef{}, err
	}
	if !(q.Limit > 0) || q.Limit > 1e18 {
		return nil, explain.UserRef{}, problem(Invalid, "a limit of %g: give a number above 0", q.Limit)
	}
	w, err := h.workload(ctx, q.Workload)
	if err != nil {
		return nil, explain.UserRef{}, err
	}
	names, err := h.namesOf(ctx, []explain.User{{Workload: w.ID, Tenant: w.TenantID}})
	if err != nil {
		return nil, explain.UserRef{}, err
	}
	scope := question.Scope{Span: q.Span, Sees: h.sees(ctx), Only: []int64{w.ID}}
	played, err := h.played(ctx, &scope, stepOf(q.Span), r)
	if err != nil {
		return nil, explain.UserRef{}, err
	}
	core := w.Core()
	held := explain.HeldBy(&core, w.Host.CPUs)
	var now *float64
	if of, is := held.Entitled(core.Kind, w.Host.CPUs, w.Host.MemoryBytes)[r.String()]; is {
		now = &of
	}
	return whatif.Limit(r, q.Limit, now, played[w.ID][r], stepOf(q.Span)),
		names(explain.User{Workload: w.ID, Tenant: w.TenantID}), nil
}

// sizable is a resource whose size can be chosen.
func sizable(name string) (amount.Resource, error) {
	r, err := amount.ParseResource(name)
	if err != nil {
		return r, problem(Invalid, "%v", err)
	}
	if r != amount.CPU && r != amount.Memory {
		return r, problem(Invalid, "%s has no limit that is played again: choose cpu or memory", name)
	}
	return r, nil
}

// played is what the workloads of a scope had in each step, by resource.
func (h *Hub) played(ctx context.Context, scope *question.Scope, long time.Duration, of ...amount.Measure) (
	map[int64]map[amount.Resource][]whatif.Step, error) {
	answer, err := h.store.Ask(ctx, question.Question{Scope: *scope, Measures: of, Step: long, State: true,
		By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, err
	}
	return playedIn(answer.Rows, of), nil
}

// playedIn is what workloads had in each step, by rows of them.
func playedIn(rows []question.Row, of []amount.Measure) map[int64]map[amount.Resource][]whatif.Step {
	played := map[int64]map[amount.Resource][]whatif.Step{}
	for i := range rows {
		row := &rows[i]
		if row.State == nil || row.State.ElapsedMillis == 0 {
			continue
		}
		if played[row.Workload] == nil {
			played[row.Workload] = map[amount.Resource][]whatif.Step{}
		}
		for k, r := range of {
			if sum := &row.Sums[k]; sum.Known() {
				played[row.Workload][r] = append(played[row.Workload][r], whatif.Step{Start: row.Start,
					Mean: r.Mean(sum.Units, row.State.ElapsedMillis), Peak: sum.Peak,
					Told: time.Duration(row.State.ElapsedMillis) * time.Millisecond})
			}
		}
	}
	for _, byResource := range played {
		for _, steps := range byResource {
			slices.SortFunc(steps, func(a, b whatif.Step) int { return a.Start.Compare(b.Start) })
		}
	}
	return played
}

// SizeAdvice is an advice on the size of a workload.
type SizeAdvice struct {
	explain.UserRef
	Host string `json:"host"`
	By   string `json:"held_by" enum:"limit,asked" doc:"A limit, or a number that was asked for."`
	whatif.Advice
}

// Sizes advises on the sizes of workloads that are there at the end of a span, on one host or on all (""): those with
// the largest savings first, of either resource, and then those that need more.
func (h *Hub) Sizes(ctx context.Context, span question.Span, hostName string, percent float64) ([]SizeAdvice, error) {
	if !(percent >= 50 && percent <= 100) {
		return nil, problem(Invalid, "a percentile of %g: give 50 to 100", percent)
	}
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.CPU},
		NoPeaks: true, State: true, By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, err
	}
	holdings, _, err := h.stillThere(ctx, answer.Rows)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, usersOf(holdings))
	if err != nil {
		return nil, err
	}
	scope.Only = []int64{}
	for i := range holdings {
		if of := holdings[i].Of; of[amount.CPU.String()] > 0 || of[amount.Memory.String()] > 0 {
			scope.Only = append(scope.Only, holdings[i].User.Workload)
		}
	}
	list := []SizeAdvice{}
	if len(scope.Only) == 0 {
		return list, nil
	}
	played, err := h.played(ctx, &scope, sizeStepOf(span), amount.CPU, amount.Memory)
	if err != nil {
		return nil, err
	}
	back, err := h.heldBack(ctx, &scope)
	if err != nil {
		return nil, err
	}
	marks := whatif.UsualMarks
	marks.Percent = percent
	for i := range holdings {
		x := &holdings[i]
		for _, r := range []amount.Resource{amount.CPU, amount.Memory} {
			s := whatif.Sized{Resource: r, Held: x.Of[r.String()], Steps: played[x.User.Workload][r]}
			if n, is := back[x.User.Workload]; is && r == amount.CPU {
				s.HeldBack = &n
			}
			by := "limit"
			if r == amount.CPU && x.Held.CPULimit == nil || r == amount.Memory && x.Held.MemoryLimit == nil {
				by = "asked"
			}
			s.IsFilled = r == amount.CPU && by == "asked"
			a, is := marks.Advise(&s)
			if !is {
				continue
			}
			list = append(list, SizeAdvice{names(x.User), x.Host, by, a})
		}
	}
	slices.SortStableFunc(list, func(a, b SizeAdvice) int {
		return cmp.Or(cmp.Compare(a.Way, b.Way), cmp.Compare(a.Resource, b.Resource), cmp.Compare(b.Saved, a.Saved),
			cmp.Compare(a.Name, b.Name))
	})
	return list, nil
}

// heldBackFrom is from which part of its limit's periods on a step counts as held back.
const heldBackFrom = 0.05

// heldBack is in how many steps the CPU limits of workloads held them back, where that is counted.
func (h *Hub) heldBack(ctx context.Context, scope *question.Scope) (map[int64]int, error) {
	answer, err := h.store.Ask(ctx, question.Question{Scope: *scope, NoPeaks: true,
		Measures: []amount.Measure{amount.CPUThrottledPeriods, amount.CPUPeriods}, Step: sizeStepOf(scope.Span),
		By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, err
	}
	back := map[int64]int{}
	for i := range answer.Rows {
		held, all := &answer.Rows[i].Sums[0], &answer.Rows[i].Sums[1]
		if !held.Known() || !all.Known() {
			continue
		}
		n := back[answer.Rows[i].Workload]
		if held.Units > 0 && held.Units >= heldBackFrom*all.Units {
			n++
		}
		back[answer.Rows[i].Workload] = n
	}
	return back, nil
}

// WhatQuota asks how a tenant would have stood against another ceiling.
type WhatQuota struct {
	Tenant   string
	Resource string // one of tenancy.QuotaNames
	Ceiling  float64
	Basis    string // used, held or greater; "" for used
	On       tenancy.Scope
	Span     question.Span
}

// WhatIfQuota holds what a tenant had over a span against another ceiling: what it used, and for how long it would have
// exceeded that and who waited meanwhile, or what it held. It changes nothing.
func (h *Hub) WhatIfQuota(ctx context.Context, q *WhatQuota) (*explain.Stand, error) {
	t, err := h.Tenant(ctx, q.Tenant)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(tenancy.QuotaNames(), q.Resource) {
		return nil, problem(Invalid, "%q has no quotas: choose one of %s", q.Resource,
			strings.Join(tenancy.QuotaNames(), ", "))
	}
	if !(q.Ceiling >= 0) || q.Ceiling > 1e18 {
		return nil, problem(Invalid, "a ceiling of %g: give a number from 0", q.Ceiling)
	}
	basis, err := soundBasis(q.Basis, q.Resource)
	if err != nil {
		return nil, err
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	family, _ := familyOf(tenants)
	hosts, err := h.hostsOf(ctx, q.On)
	if err != nil {
		return nil, err
	}
	if hosts != nil && len(hosts) == 0 {
		return nil, problem(NotFound, "no host is %s: \"vinescale hosts\" lists hosts and their pools", q.On)
	}
	limit := tenancy.Limit{Ceiling: &q.Ceiling, Basis: basis}
	set := &quotaSet{
		Quota: explain.Quota{Tenant: t.Name, Tenants: family.WithParts(t.ID), Name: q.Resource, Scope: q.On,
			Changes: []tenancy.LimitChange{{From: q.Span.From, Limit: limit}}},
	}
	b := &explain.Balance{}
	work := &standWork{Hub: h, scope: question.Scope{Span: q.Span, Hosts: hosts, Sees: h.sees(ctx)}}
	if err := work.ceilings(ctx, []*quotaSet{set}, b); err != nil {
		return nil, err
	}
	if len(b.Stands) == 0 {
		return nil, fmt.Errorf("the ceiling of %s was held against nothing", q.Tenant)
	}
	return &b.Stands[0], nil
}
