package hub

import (
	"context"
	"errors"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/whatif"
	"vinescale/internal/store"
)

// WhatPins asks what other CPUs for a holder would have done on a host over a span.
type WhatPins struct {
	Kind, Holder string // as of a declaration
	Host, CPUs   string
	IsShared     bool // others may run there too
	Span         question.Span
}

// WhatIfPins plays a span again with a holder on other CPUs. What is declared for it on that host now is left out, and
// what is declared for others alone stays theirs.
func (h *Hub) WhatIfPins(ctx context.Context, q *WhatPins) (*whatif.Pinned, error) {
	holder, err := h.planHolder(ctx, &PinQuery{Kind: q.Kind, Holder: q.Holder})
	if err != nil {
		return nil, err
	}
	host, err := h.Host(ctx, q.Host)
	if err != nil {
		return nil, err
	}
	try := &whatif.PinTry{Host: host.Name, Holder: holder.Holder, IsAlone: !q.IsShared, Long: stretchFor(q.Span)}
	if try.CPUs, err = cpuset.Parse(q.CPUs); err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	for cpu := range host.CPUs {
		try.All = try.All.With(cpu)
	}
	switch beyond := try.CPUs.Minus(try.All); {
	case try.CPUs.IsEmpty():
		return nil, problem(Invalid, "no CPUs were given: say which, such as 2-4")
	case !beyond.IsEmpty():
		return nil, problem(Invalid, "CPU %s is not there: %s has CPUs %s", beyond, host.Name, try.All)
	}
	if try.Others, err = h.aloneToOthers(ctx, host.ID, &holder); err != nil {
		return nil, err
	}
	if taken := try.CPUs.Intersect(try.Others); !taken.IsEmpty() {
		return nil, problem(Conflict, "CPU %s of %s is declared for another alone: choose others, or ask without that "+
			"declaration once it has ended", taken, host.Name)
	}
	if try.IsAlone && try.All.Minus(try.CPUs).Minus(try.Others).IsEmpty() {
		return nil, problem(
			Invalid,
			"CPUs %s would leave none of %s for all others: at least 1 has to be left for the "+
				"system",
			try.CPUs,
			host.Name,
		)
	}
	return h.tryPins(ctx, host.ID, &holder, try, q.Span)
}

// aloneToOthers are the CPUs of a host that are declared now for other holders alone.
func (h *Hub) aloneToOthers(ctx context.Context, host int32, holder *DeclaredPin) (alone cpuset.Set, err error) {
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return alone, err
	}
	now := h.options.Now()
	for i := range pins {
		p := &pins[i]
		d := declared(p)
		if p.HostID == host && p.Exclusive && !p.Ends(now) && !p.From.After(now) &&
			(d.Kind != holder.Kind || d.Holder != holder.Holder) {
			alone = alone.Union(declaredCPUs(p.CPUs))
		}
	}
	return alone, nil
}

// tryPins gathers what ran on a host, and tries the CPUs on it.
func (h *Hub) tryPins(ctx context.Context, host int32, holder *DeclaredPin, try *whatif.PinTry, span question.Span) (
	*whatif.Pinned, error) {
	ask := question.Question{Scope: question.Scope{Span: span, Hosts: []int32{host}, Sees: h.sees(ctx)},
		Step: try.Long, NoPeaks: true}
	told, err := h.store.Lines(ctx, ask)
	if err != nil {
		return nil, err
	}
	try.Told = map[time.Time]time.Duration{}
	for i := range told {
		if t := told[i].ElapsedMillis; t > 0 {
			try.Told[told[i].Start] = time.Duration(t) * time.Millisecond
		}
	}
	ran := ask
	ran.Measures = []amount.Measure{amount.CPU}
	ran.By = []question.Dimension{question.CPU, question.Workload, question.Tenant}
	byCPU, err := h.store.Ask(ctx, ran)
	if err != nil {
		return nil, err
	}
	had := ask
	had.NoPeaks = false
	had.Measures = []amount.Measure{amount.CPU, amount.CPUWait}
	had.By = []question.Dimension{question.Workload, question.Tenant}
	whole, err := h.store.Ask(ctx, had)
	if err != nil {
		return nil, err
	}
	stored, names, err := h.thoseIn(ctx, byCPU.Rows, whole.Rows)
	if err != nil {
		return nil, err
	}
	pin := holder.Pin
	pin.HostID, pin.Host = host, store.Host{ID: host, Name: try.Host}
	holds, err := h.holds(ctx, &pin, stored)
	if err != nil {
		return nil, err
	}
	userOf := func(r *question.Row) explain.User { return explain.User{Workload: r.Workload, Tenant: r.Tenant} }
	for i := range byCPU.Rows {
		r := &byCPU.Rows[i]
		if !r.Sums[0].Known() {
			continue
		}
		who := names(userOf(r))
		try.Ran = append(try.Ran, whatif.PinRun{Start: r.Start, CPU: int(r.CPU), IsTheir: holds(userOf(r)),
			Who: whatif.Runner{ID: who.ID, Name: who.Name, Tenant: who.Tenant}, Seconds: r.Sums[0].Units / 1e6})
	}
	try.Peaks = map[time.Time]float64{}
	isThere, isWaitTold := false, true
	waited := map[time.Time]float64{}
	for i := range whole.Rows {
		r := &whole.Rows[i]
		if !holds(userOf(r)) {
			continue
		}
		isThere = true
		try.Peaks[r.Start] += r.Sums[0].Peak // as if they came at once
		if r.Sums[1].Known() {
			waited[r.Start] += r.Sums[1].Units / 1e6
		} else {
			isWaitTold = false
		}
	}
	if !isThere && len(try.Told) > 0 {
		return nil, problem(
			NotFound,
			"nothing of %s ran on %s in this span: choose another span or host, or plan with "+
				"\"vinescale pins plan\"",
			holder.Holder,
			try.Host,
		)
	}
	if isWaitTold {
		try.Waited = waited
	}
	return whatif.Pins(try), nil
}

// thoseIn looks up the workloads in rows of answers.
func (h *Hub) thoseIn(ctx context.Context, answers ...[]question.Row) (map[int64]store.Workload, explain.Names, error) {
	var users []explain.User
	var ids []int64
	for _, rows := range answers {
		for i := range rows {
			users = append(users, explain.User{Workload: rows[i].Workload, Tenant: rows[i].Tenant})
			ids = append(ids, rows[i].Workload)
		}
	}
	slices.Sort(ids)
	stored, err := h.store.WorkloadsByID(ctx, slices.Compact(ids))
	if err != nil {
		return nil, nil, err
	}
	names, err := h.namesOf(ctx, users)
	return stored, names, err
}

// WhatWeight asks what another weight of a workload's cgroup would have done over a span.
type WhatWeight struct {
	Workload int64
	Weight   float64 // 100 is usual
	Span     question.Span
}

// WhatIfWeight divides the CPU time of a workload's host again, where it was short, with another weight for it.
func (h *Hub) WhatIfWeight(ctx context.Context, q *WhatWeight) (*whatif.Weighed, error) {
	if !(q.Weight >= 1 && q.Weight <= 10_000) {
		return nil, problem(
			Invalid,
			"a weight of %g: give 1 to 10000, as the kernel takes them; 100 is usual",
			q.Weight,
		)
	}
	w, err := h.workload(ctx, q.Workload)
	if err != nil {
		return nil, err
	}
	step := stretchFor(q.Span)
	answer, err := h.store.Ask(ctx, question.Question{
		Scope:    question.Scope{Span: q.Span, Hosts: []int32{w.HostID}, Sees: h.sees(ctx)},
		Measures: []amount.Measure{amount.CPU, amount.CPUWait}, Step: step, State: true,
		By: []question.Dimension{question.Workload, question.Tenant}, NoPeaks: true})
	if err != nil {
		return nil, err
	}
	stored, names, err := h.thoseIn(ctx, answer.Rows)
	if err != nil {
		return nil, err
	}
	at := map[time.Time]*explain.Contest{}
	var contests []*explain.Contest
	for i := range answer.Rows {
		r := &answer.Rows[i]
		c := contenderOf(r, stored[r.Workload], &w.Host)
		if c == nil || r.State == nil || r.State.ElapsedMillis <= 0 {
			continue
		}
		x := at[r.Start]
		if x == nil {
			x = &explain.Contest{Host: w.Host.Name, HostCPUs: w.Host.CPUs, From: r.Start, To: r.Start}
			at[r.Start], contests = x, append(contests, x)
		}
		// So long as anybody was there: all of it, but where the host was silent for a part.
		if to := r.Start.Add(time.Duration(r.State.ElapsedMillis) * time.Millisecond); to.After(x.To) {
			x.To = to
		}
		x.Contenders = append(x.Contenders, *c)
	}
	list := make([]explain.Contest, len(contests))
	for i, c := range contests {
		list[i] = *c
	}
	x, err := whatif.Weigh(explain.User{Workload: w.ID, Tenant: w.TenantID}, q.Weight, list, names)
	var none whatif.ErrWeighsNothing
	if errors.As(err, &none) {
		return nil, problem(Invalid, "%v", err)
	}
	if x != nil {
		x.Host = w.Host.Name
		x.Step = step.Seconds()
	}
	return x, err
}

// contenderOf is what somebody wanted of the CPUs in a row of CPU time and waiting; nil for the kernel, and where
// nothing is known.
func contenderOf(r *question.Row, w store.Workload, host *store.Host) *explain.Contender {
	if w.Kind == amount.Kernel.String() || !r.Sums[0].Known() {
		return nil
	}
	core := w.Core()
	x := &explain.Contender{User: explain.User{Workload: r.Workload, Tenant: r.Tenant}, Path: w.Path,
		Allowed: w.Allowed, Weights: w.Facts[account.FactWeights], Ran: r.Sums[0].Units / 1e6}
	if limit := explain.HeldBy(&core, host.CPUs).CPULimit; limit != nil {
		x.Limit = *limit
	}
	if x.IsTold = r.Sums[1].Known(); x.IsTold {
		x.Waited = r.Sums[1].Units / 1e6
	}
	return x
}
