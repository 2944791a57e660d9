package hub

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/internal/store"
)

// How long an act lives: it is not done after that. What was previewed may be confirmed for longer.
const (
	UsualLife   = 2 * time.Minute
	ShortestAct = 5 * time.Second
	LongestAct  = 15 * time.Minute
	previewLife = 10 * time.Minute
)

// Words of the audit trail, by which it is told apart what acts have a record of their own for.
const (
	confirming    = "confirm "
	byHost        = "host "
	stopsStanding = "stop standing rule"
)

// mostPending is how many acts of one host may wait at the same time.
const mostPending = 50

// ActOrder is an act that somebody asks for.
type ActOrder struct {
	Host     string // not needed for a workload, or to undo an act
	Request  act.Request
	Workload int64 // the number of a workload that is the target, in place of its key
	Reason   string
	Origin   string        // the address that it is asked from
	Lives    time.Duration // UsualLife when zero
}

// RequestAct asks a host what an act would do, and waits some seconds for its preview. Nothing is done before it is
// confirmed.
func (h *Hub) RequestAct(ctx context.Context, o *ActOrder) (store.Intervention, error) {
	return h.requestAct(ctx, o, "")
}

// requestAct is RequestAct by a standing rule, or by somebody ("").
func (h *Hub) requestAct(ctx context.Context, o *ActOrder, rule string) (store.Intervention, error) {
	none := store.Intervention{}
	if o.Lives == 0 {
		o.Lives = UsualLife
	}
	if o.Lives < ShortestAct || o.Lives > LongestAct {
		return none, problem(Invalid, "an act lives %s to %s", ShortestAct, LongestAct)
	}
	if len(o.Reason) > longestReason {
		return none, problem(Invalid, "a reason of %d bytes: at most %d", len(o.Reason), longestReason)
	}
	if err := h.aim(ctx, o); err != nil {
		return none, err
	}
	request, err := o.Request.Check()
	if err != nil {
		return none, problem(Invalid, "%v", err)
	}
	host, err := h.Host(ctx, o.Host)
	if err != nil {
		return none, err
	}
	n, err := h.store.PendingActs(ctx, host.ID)
	if err == nil && n >= mostPending {
		err = problem(Busy, "%d acts wait for %s already: wait until they are over", n, host.Name)
	}
	if err != nil {
		return none, err
	}
	whose, err := h.whose(ctx, &host, &request)
	if err != nil {
		return none, err
	}
	token := tokenIn(ctx)
	if err := h.mayAct(ctx, &token.Scope, host.Name, targetTenants(&request, whose)); err != nil {
		return none, err
	}
	now := h.options.Now().UTC()
	x := store.Intervention{ID: newActID(), Rule: rule, HostID: &host.ID, Host: host.Name, Who: who(ctx),
		Origin: o.Origin, Reason: strings.TrimSpace(o.Reason), Verb: request.Verb, Request: request, Whose: whose,
		Scope: token.Scope, State: act.Asked, AskedAt: now, ExpiresAt: now.Add(o.Lives),
		LivesMillis: o.Lives.Milliseconds()}
	if request.Verb == act.Undo {
		x.Undoes = request.Target.Act
	}
	if err := h.store.AddIntervention(ctx, &x); err != nil {
		return none, err
	}
	h.callOrders(ctx, host.ID, "")
	return h.AwaitAct(ctx, x.ID, act.Asked)
}

// newActID is the number of an act: fifty random bits, short enough to be typed.
func newActID() string { return strings.ToLower(rand.Text()[:10]) }

// aim completes what an act is aimed at: a workload's key and host by its number, a host by the act that is undone.
func (h *Hub) aim(ctx context.Context, o *ActOrder) error {
	if o.Workload != 0 {
		w, err := h.workload(ctx, o.Workload)
		if err != nil {
			return err
		}
		if o.Host != "" && o.Host != w.Host.Name {
			return problem(Invalid, "workload %d is on %s, not on %s", o.Workload, w.Host.Name, o.Host)
		}
		o.Host, o.Request.Target = w.Host.Name, act.Target{Form: act.OfWorkload, Key: w.Key}
	}
	if o.Request.Target.Form == act.OfAct {
		before, err := h.Act(ctx, o.Request.Target.Act)
		if err != nil {
			return err
		}
		if before.Outcome == nil || !before.Outcome.CanUndo {
			return problem(Conflict, "act %s changed nothing that could be put back", before.ID)
		}
		o.Host = before.Host
	}
	if o.Host == "" {
		return problem(Invalid, "say on which host")
	}
	return nil
}

// whose tells to which tenants belongs what an act might touch: all workloads of the host by key, and the unit or the
// job that is its target, which need not run.
func (h *Hub) whose(ctx context.Context, host *store.Host, r *act.Request) (map[string]string, error) {
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	list, err := h.store.WorkloadsOn(ctx, host.ID, h.options.Now().Add(-time.Hour))
	if err != nil {
		return nil, err
	}
	whose := map[string]string{}
	for i := range list {
		whose[list[i].Key] = named(names, list[i].TenantID)
	}
	of := func(match func(*store.Workload) bool) string {
		tenant := Unassigned
		for i := range list {
			if match(&list[i]) {
				tenant = named(names, list[i].TenantID)
			}
		}
		return tenant
	}
	switch t := &r.Target; t.Form {
	case act.OfUnit:
		whose["unit:"+t.Unit] = of(func(w *store.Workload) bool { return w.Facts[account.FactUnit] == t.Unit })
	case act.OfGPU:
		whose["gpu:"+t.GPU] = Unassigned // it is the host's, whoever works on it
	case act.OfJob:
		key := "job:" + t.Job
		whose[key] = of(func(w *store.Workload) bool { return w.Key == key || strings.HasPrefix(w.Key, key+":") })
	case act.OfAct:
		before, err := h.Act(ctx, t.Act)
		if err != nil {
			return nil, err
		}
		if before.Preview != nil {
			for _, key := range before.Preview.Workloads {
				if _, is := whose[key]; !is {
					whose[key] = before.Whose[key]
				}
			}
		}
	}
	return whose, nil
}

// targetTenants are the tenants of a target as far as they are known before its host is asked; nil for not known yet.
func targetTenants(r *act.Request, whose map[string]string) []string {
	key := ""
	switch t := &r.Target; t.Form {
	case act.OfWorkload:
		key = t.Key
	case act.OfUnit:
		key = "unit:" + t.Unit
	case act.OfJob:
		key = "job:" + t.Job
	case act.OfGPU:
		key = "gpu:" + t.GPU
	}
	if tenant, is := whose[key]; is {
		return []string{tenant}
	}
	return nil
}

// mayAct says whether somebody's scope holds a host and tenants; nil tenants are asked again when they are known.
func (h *Hub) mayAct(ctx context.Context, scope *act.Scope, host string, tenants []string) error {
	if scope.IsEverywhere() {
		return nil
	}
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return err
	}
	bound := *scope
	if tenants == nil {
		bound.Tenants = nil
	}
	if err := bound.Allows(host, pools[host], tenants); err != nil {
		return problem(Denied, "%v", err)
	}
	return nil
}

// ConfirmAct has an act carried out, and waits some seconds for what comes of it. Identity is that of the preview: it
// names what is hit. A reason may be given here where none was when it was asked for.
func (h *Hub) ConfirmAct(ctx context.Context, id, identity, reason string) (store.Intervention, error) {
	if len(reason) > longestReason {
		return store.Intervention{}, problem(Invalid, "a reason of %d bytes: at most %d", len(reason), longestReason)
	}
	x, err := h.Act(ctx, id)
	if err != nil {
		return x, err
	}
	token := tokenIn(ctx)
	if err := h.mayTouch(ctx, &token.Scope, &x); err != nil {
		return x, err
	}
	now := h.options.Now().UTC()
	x, err = h.store.Advance(ctx, id, []act.State{act.Previewed}, func(x *store.Intervention) error {
		if x.Preview.Identity != identity {
			return problem(
				Conflict,
				"what act %s would hit is not what was confirmed: look at its preview again",
				id,
			)
		}
		x.State, x.ConfirmedAt, x.ConfirmedBy, x.GivenAt = act.Confirmed, &now, who(ctx), nil
		x.ExpiresAt = now.Add(time.Duration(x.LivesMillis) * time.Millisecond)
		if x.Reason == "" {
			x.Reason = strings.TrimSpace(reason)
		}
		return nil
	})
	if errors.Is(err, store.ErrExists) {
		return x, problem(Conflict, "act %s is %s: only one that was previewed can be confirmed, once", id, x.State)
	}
	if err != nil {
		return x, err
	}
	if err := h.store.NoteAct(ctx, who(ctx), confirming+string(x.Verb), x.Host,
		map[string]any{"act": x.ID, "target": x.Preview.Target, "reason": x.Reason}); err != nil {
		return x, err
	}
	h.callOrders(ctx, *x.HostID, "")
	return h.AwaitAct(ctx, id, act.Confirmed, act.Sent)
}

// mayTouch says whether a scope holds all that an act touches.
func (h *Hub) mayTouch(ctx context.Context, scope *act.Scope, x *store.Intervention) error {
	if scope.IsEverywhere() {
		return nil
	}
	tenants := []string{}
	if x.Preview != nil {
		for _, key := range x.Preview.Workloads {
			tenants = append(tenants, x.Whose[key])
		}
	}
	slices.Sort(tenants)
	return h.mayAct(ctx, scope, x.Host, slices.Compact(tenants))
}

// Act finds an act by its number. Whoever may read, may read the record.
func (h *Hub) Act(ctx context.Context, id string) (store.Intervention, error) {
	if _, err := h.store.ExpireActs(ctx, h.options.Now()); err != nil {
		return store.Intervention{}, err
	}
	x, err := h.store.InterventionByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return x, problem(NotFound, "there is no act %q: vinescale acts lists them", id)
	}
	return x, err
}

// Interventions lists acts, the newest first, with those by which they were undone.
func (h *Hub) Interventions(ctx context.Context, of *store.InterventionsOf) (list []store.Intervention,
	undoneBy map[string]string, err error) {
	if of.Host != "" {
		if _, err := h.Host(ctx, of.Host); err != nil {
			return nil, nil, err
		}
	}
	if _, err := h.store.ExpireActs(ctx, h.options.Now()); err != nil {
		return nil, nil, err
	}
	if list, err = h.store.Interventions(ctx, of); err != nil {
		return nil, nil, err
	}
	ids := make([]string, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	undoneBy, err = h.store.UndoneBy(ctx, ids)
	return list, undoneBy, err
}

// AwaitAct waits until an act is in none of some states, and returns it as it is then, or after some seconds.
func (h *Hub) AwaitAct(ctx context.Context, id string, while ...act.State) (store.Intervention, error) {
	over := time.After(h.options.ActsWait)
	for {
		woken, forget := h.orders.listen(actRoom(id))
		x, err := h.Act(ctx, id)
		if err != nil || !slices.Contains(while, x.State) {
			forget()
			return x, err
		}
		select {
		case <-woken:
		case <-time.After(time.Second): // what another instance called may have been lost
		case <-over:
			forget()
			return x, nil
		case <-ctx.Done():
			forget()
			return x, ctx.Err()
		}
		forget()
	}
}

func actRoom(id string) string { return "act " + id }

func hostRoom(id int32) string { return fmt.Sprint("host ", id) }
