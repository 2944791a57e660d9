package hub

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"vinescale/core/cpuset"
	"vinescale/core/explain"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// PinOrder is a declaration of CPUs that is to be put in force.
type PinOrder struct {
	Host, CPUs string
	Kind       string // of the holder: tenant, workload or rule
	Holder     string
	IsShared   bool      // others may run there too
	IsComing   bool      // a workload that is named need not have been seen yet
	From       time.Time // from the minute that it is in; the zero time is now
	Until      time.Time // until the minute that it is in; the zero time is without an end
	Reason     string
}

// DeclaredPin is a declaration with the names of host and holder.
type DeclaredPin struct {
	store.Pin
	HostName, Kind, Holder string
}

func declared(p *store.Pin) DeclaredPin {
	d := DeclaredPin{Pin: *p, HostName: p.Host.Name, Kind: explain.HolderTenant, Holder: p.Tenant.Name}
	switch {
	case p.Workload != "":
		d.Kind, d.Holder = explain.HolderWorkload, p.Workload
	case p.Expression != "":
		d.Kind, d.Holder = explain.HolderRule, p.Expression
	}
	return d
}

// Declare puts a declaration of CPUs in force. What was in force for the same holder on the same host ends where it
// begins; where it says the same, nothing is changed.
func (h *Hub) Declare(ctx context.Context, order *PinOrder) (DeclaredPin, error) {
	p, err := h.soundPin(ctx, order)
	if err != nil {
		return DeclaredPin{}, err
	}
	stands, err := h.store.DeclarePin(ctx, p)
	stands.Host, stands.Tenant = p.Host, p.Tenant
	if errors.Is(err, store.ErrPinOverlap) {
		until := "without an end"
		if stands.Until != nil {
			until = "until " + stands.Until.UTC().Format(time.RFC3339)
		}
		return DeclaredPin{}, problem(
			Conflict,
			"CPUs %s of %s are declared for %s from %s, %s: the times overlap. End that "+
				"declaration first, or give other times",
			stands.CPUs,
			order.Host,
			order.Holder,
			stands.From.UTC().Format(time.RFC3339),
			until,
		)
	}
	return declared(&stands), err
}

// soundPin checks an order, and looks up what it names.
func (h *Hub) soundPin(ctx context.Context, order *PinOrder) (p store.Pin, err error) {
	if p.Host, err = h.Host(ctx, order.Host); err != nil {
		return p, err
	}
	switch order.Kind {
	case explain.HolderTenant, "":
		if p.Tenant, err = h.Tenant(ctx, order.Holder); err != nil {
			return p, err
		}
		p.TenantID = &p.Tenant.ID
	case explain.HolderWorkload:
		isThere, err := h.store.HasWorkloadNamed(ctx, p.Host.ID, order.Holder)
		if err != nil {
			return p, err
		}
		if !isThere && !order.IsComing {
			return p, problem(NotFound, "no workload %q was seen on %s; where it is to come, say so (--coming)",
				order.Holder, order.Host)
		}
		p.Workload = order.Holder
	case explain.HolderRule:
		if _, err := tenancy.Compile(0, 0, order.Holder); err != nil {
			return p, problem(Invalid, "%v", err)
		}
		p.Expression = strings.TrimSpace(order.Holder)
	default:
		return p, problem(Invalid, "a holder of kind %q: choose tenant, workload or rule", order.Kind)
	}
	set, err := soundCPUs(&p.Host, order.CPUs)
	if err != nil {
		return p, err
	}
	if len(order.Reason) > longestReason {
		return p, problem(Invalid, "a reason of %d bytes: give at most %d", len(order.Reason), longestReason)
	}
	if p.From, err = h.soundMoment(order.From, "a declaration"); err != nil {
		return p, err
	}
	if !order.Until.IsZero() {
		until, err := h.soundMoment(order.Until, "a declaration's end")
		if err != nil {
			return p, err
		}
		if !until.After(p.From) {
			return p, problem(Invalid, "a declaration from %s until %s: the end must be after the begin",
				p.From.Format(time.RFC3339), until.Format(time.RFC3339))
		}
		p.Until = &until
	}
	p.HostID, p.CPUs, p.Exclusive, p.Reason, p.MadeBy = p.Host.ID, set.String(), !order.IsShared, order.Reason, who(
		ctx,
	)
	return p, nil
}

// soundCPUs reads a list or mask of CPUs that are to be a host's.
func soundCPUs(host *store.Host, text string) (cpuset.Set, error) {
	set, err := cpuset.Read(text)
	if err != nil {
		return set, problem(Invalid, "%v", err)
	}
	if set.IsEmpty() {
		return set, problem(Invalid, "no CPU was named: write numbers and ranges such as 0-3,8")
	}
	if list := set.CPUs(); host.CPUs > 0 && list[len(list)-1] >= host.CPUs {
		return set, problem(Invalid, "CPU %d: %s has CPUs 0 to %d", list[len(list)-1], host.Name, host.CPUs-1)
	}
	return set, nil
}

// soundMoment is the minute that a moment is in; now for the zero time.
func (h *Hub) soundMoment(at time.Time, what string) (time.Time, error) {
	if at.IsZero() {
		at = h.options.Now()
	}
	at = at.UTC().Truncate(time.Minute)
	if y := at.Year(); y < 1970 || y > 9999 {
		return at, problem(
			Invalid,
			"%s at %s: give a moment in the years 1970 to 9999",
			what,
			at.Format(time.RFC3339),
		)
	}
	return at, nil
}

// EndPin ends a declaration from a minute on; the zero time is now.
func (h *Hub) EndPin(ctx context.Context, id int64, at time.Time, reason string) (DeclaredPin, error) {
	at, err := h.soundMoment(at, "a declaration's end")
	if err != nil {
		return DeclaredPin{}, err
	}
	if len(reason) > longestReason {
		return DeclaredPin{}, problem(Invalid, "a reason of %d bytes: give at most %d", len(reason), longestReason)
	}
	p, err := h.store.EndPin(ctx, id, at, who(ctx), reason)
	if errors.Is(err, store.ErrNotFound) {
		return DeclaredPin{}, problem(NotFound, "no declaration %d is in force at that time or comes later", id)
	}
	return declared(&p), err
}

// Declared lists declarations of a host, or of all (""): all that ever were, by host, the first first.
func (h *Hub) Declared(ctx context.Context, hostName string) ([]DeclaredPin, error) {
	if hostName != "" {
		if _, err := h.Host(ctx, hostName); err != nil {
			return nil, err
		}
	}
	pins, err := h.store.Pins(ctx)
	list := []DeclaredPin{}
	for i := range pins {
		if hostName == "" || pins[i].Host.Name == hostName {
			list = append(list, declared(&pins[i]))
		}
	}
	return list, err
}

// holds makes the test whether a workload, under the tenant of the time, is a declaration's holder.
func (h *Hub) holds(
	ctx context.Context,
	p *store.Pin,
	present map[int64]store.Workload,
) (func(explain.User) bool, error) {
	switch {
	case p.TenantID != nil:
		return func(u explain.User) bool { return u.Tenant == *p.TenantID }, nil
	case p.Workload != "":
		return func(u explain.User) bool { return present[u.Workload].Name == p.Workload }, nil
	}
	rule, err := tenancy.Compile(0, 0, p.Expression)
	if err != nil {
		return nil, err
	}
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	matches := map[int64]bool{}
	for id, w := range present {
		matches[id] = w.HostID == p.HostID && rule.Matches(book.subject(p.Host.Name, w.Core()))
	}
	return func(u explain.User) bool { return matches[u.Workload] }, nil
}

// EffectiveHost is where the workloads of a host may run, and what is left for everybody.
type EffectiveHost struct {
	CPUs, Isolated, NoTick, Left string // kernel list format; empty where they are not known
	Pins                         []explain.EffectivePin
}

// Effective lists the workloads of a host's newest interval that are kept on a part of its CPUs, or are meant to be, by
// name.
func (h *Hub) Effective(ctx context.Context, hostName string) (*EffectiveHost, error) {
	host, err := h.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	alive, err := h.store.Alive(ctx, host.ID)
	if err != nil {
		return nil, err
	}
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	inventories, err := h.store.Inventories(ctx, []int32{host.ID})
	if err != nil {
		return nil, err
	}
	byID := map[int64]store.Workload{}
	for i := range alive {
		byID[alive[i].ID] = alive[i]
	}
	now := h.options.Now()
	inForce := slices.DeleteFunc(pins, func(p store.Pin) bool {
		return p.HostID != host.ID || p.Ends(now) || p.From.After(now)
	})
	tests := make([]func(explain.User) bool, len(inForce))
	var declaredAlone cpuset.Set
	for i := range inForce {
		if tests[i], err = h.holds(ctx, &inForce[i], byID); err != nil {
			return nil, err
		}
		if inForce[i].Exclusive {
			declaredAlone = declaredAlone.Union(declaredCPUs(inForce[i].CPUs))
		}
	}
	about := explain.EffectiveHost{CPUs: host.CPUs, Places: explain.CPUPlaces(inventories[host.ID])}
	e := &EffectiveHost{Pins: []explain.EffectivePin{}}
	var alone cpuset.Set
	for i := range alive {
		w := &alive[i]
		core := w.Core()
		pin, ofIt, is := explain.EffectiveOn(&core, &about)
		alone = alone.Union(ofIt)
		if !is {
			continue
		}
		var own cpuset.Set
		for k := range inForce {
			if tests[k](explain.User{Workload: w.ID, Tenant: w.TenantID}) {
				own = own.Union(declaredCPUs(inForce[k].CPUs))
			}
		}
		pin.ID, pin.Tenant, pin.Declared = w.ID, named(names, w.TenantID), own.String()
		e.Pins = append(e.Pins, pin)
	}
	if inv := inventories[host.ID]; inv != nil {
		e.Isolated, e.NoTick = inv.Isolated, inv.NoTick
	}
	e.CPUs = explain.LeftForAll(&about, "", cpuset.Set{}, cpuset.Set{}).String()
	e.Left = explain.LeftForAll(&about, e.Isolated, alone, declaredAlone).String()
	return e, nil
}

// declaredCPUs reads a list that was checked when it was declared.
func declaredCPUs(list string) cpuset.Set {
	set, _ := cpuset.Parse(list) // no CPUs where somebody wrote something else into the book
	return set
}
