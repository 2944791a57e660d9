package hub

import (
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// Unused tells what tenants hold and do not use over a span, on one host or on all (""): limits and requests above all
// that was used, memory of what sleeps, idle GPUs, and declared CPUs that stood idle.
func (h *Hub) Unused(ctx context.Context, span question.Span, hostName string) (*explain.Unused, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	about := over(span, hostName)
	stretch, err := h.stretch(ctx, question.Question{Scope: scope, Measures: amount.Resources()})
	if err != nil {
		return nil, err
	}
	if about.Missed, err = h.missed(ctx, &scope, stretch, amount.Resources()...); err != nil {
		return nil, err
	}
	holdings, users, err := h.holdings(ctx, scope)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	pins, err := h.Pins(ctx, span, hostName)
	return explain.FindUnused(about, holdings, pins, names), err
}

// holdings are what the workloads of a scope that are there at the end of its span hold, and had.
func (h *Hub) holdings(ctx context.Context, scope question.Scope) ([]explain.Holding, []explain.User, error) {
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: amount.Resources(), State: true,
		By: []question.Dimension{question.Workload}})
	if err != nil {
		return nil, nil, err
	}
	list, rows, err := h.stillThere(ctx, answer.Rows)
	if err != nil {
		return nil, nil, err
	}
	large := scope
	large.Only = []int64{}
	for i, r := range rows {
		x := &list[i]
		for i, m := range amount.Resources() {
			if sum := &r.Sums[i]; sum.Known() && sum.Missing == 0 {
				x.Most[m.String()], x.Mean[m.String()] = sum.Peak, m.Mean(sum.Units, r.State.ElapsedMillis)
				x.IsGPU = x.IsGPU || m == amount.GPU
			}
		}
		if x.Mean[amount.Memory.String()] >= explain.Sleepers.Bytes {
			large.Only = append(large.Only, r.Workload)
		}
	}
	users := usersOf(list)
	if len(large.Only) == 0 {
		return list, users, nil
	}
	uses := make([]explain.MemoryUse, len(list))
	for i := range list {
		uses[i].User = list[i].User
	}
	err = h.findSleepers(ctx, large, uses)
	for i := range list {
		if rest := uses[i].Rest; rest != nil && rest.Slept >= explain.Sleepers.Time {
			list[i].Rest = rest
		}
	}
	return list, users, err
}

// stillThere is which workloads of some rows are there when their host told last, with what they hold, and of each the
// row that ends last.
func (h *Hub) stillThere(ctx context.Context, rows []question.Row) (list []explain.Holding,
	of []*question.Row, err error) {
	newest, last := map[int32]time.Time{}, map[int64]*question.Row{}
	var ids []int64
	for i := range rows {
		r := &rows[i]
		if r.State == nil || r.State.ElapsedMillis == 0 {
			continue
		}
		if r.State.To.After(newest[r.Host]) {
			newest[r.Host] = r.State.To
		}
		if was := last[r.Workload]; was == nil {
			ids = append(ids, r.Workload)
			last[r.Workload] = r
		} else if r.State.To.After(was.State.To) {
			last[r.Workload] = r
		}
	}
	ids = slices.DeleteFunc(ids, func(id int64) bool {
		r := last[id]
		return newest[r.Host].Sub(r.State.To) >= 90*time.Second
	})
	stored, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		w, there := stored[id]
		if !there {
			continue
		}
		core, r := w.Core(), last[id]
		x := explain.Holding{User: explain.User{Workload: id, Tenant: r.Tenant}, Host: w.Host.Name, Kind: core.Kind,
			Held: explain.HeldBy(&core, w.Host.CPUs), Most: map[string]float64{}, Mean: map[string]float64{}}
		x.Of = x.Held.Entitled(core.Kind, w.Host.CPUs, w.Host.MemoryBytes)
		list, of = append(list, x), append(of, r)
	}
	return list, of, nil
}

// usersOf are whose some holdings are.
func usersOf(holdings []explain.Holding) []explain.User {
	users := make([]explain.User, len(holdings))
	for i := range holdings {
		users[i] = holdings[i].User
	}
	return users
}
