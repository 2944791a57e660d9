package hub

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

// PinQuery asks where CPUs for a holder would best be.
type PinQuery struct {
	Kind, Holder string // as of a declaration
	CPUs         int
	Host, Pool   string // one host, or those of a pool; all where both are empty
	IsShared     bool   // others may run there too
	Keep         int    // how many CPUs have to be left for everybody
	Span         question.Span
}

// mostLooked is how many hosts a plan looks at: those with the most CPUs, where there are more.
const mostLooked = 100

// PlanPins plans CPUs for a holder on the best host, by what was recorded in a span. It changes nothing.
func (h *Hub) PlanPins(ctx context.Context, q *PinQuery) (*explain.PinPlan, error) {
	if q.CPUs < 1 {
		return nil, problem(Invalid, "%d CPUs: give how many are wanted, at least 1", q.CPUs)
	}
	if q.Keep < 1 {
		return nil, problem(Invalid, "keep %d CPUs for everybody: at least 1 has to be left for the system", q.Keep)
	}
	if q.Host != "" && q.Pool != "" {
		return nil, problem(Invalid, "a host and a pool were given: choose one")
	}
	holder, err := h.planHolder(ctx, q)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, q.Span, q.Host)
	if err == nil && q.Pool != "" {
		err = h.within(ctx, &scope, q.Pool)
	}
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	hosts = slices.DeleteFunc(hosts, func(x store.Host) bool { return !scope.HasHost(x.ID) })
	most := 0
	for i := range hosts {
		most = max(most, hosts[i].CPUs)
	}
	switch {
	case len(hosts) == 0:
		return nil, problem(NotFound, "no host is enrolled: \"vinescale host add NAME\" enrols one")
	case q.CPUs > most && most > 0:
		return nil, problem(Invalid, "%d CPUs: %s", q.CPUs, mostText(hosts, most))
	}
	slices.SortStableFunc(hosts, func(a, b store.Host) int { return b.CPUs - a.CPUs })
	looked := hosts[:min(len(hosts), mostLooked)]
	known, err := h.planHosts(ctx, scope, looked, &holder)
	if err != nil {
		return nil, err
	}
	plan := explain.PlanPins(q.Span.From, q.Span.To, &explain.PinAsk{Holder: holder.Holder, Kind: holder.Kind,
		CPUs: q.CPUs, Alone: !q.IsShared, Keep: q.Keep}, known)
	if n := len(hosts) - len(looked); n > 0 {
		plan.Notes = append(plan.Notes, countOf(n, "host with fewer CPUs was not looked at",
			"hosts with fewer CPUs were not looked at"))
	}
	return plan, nil
}

func mostText(hosts []store.Host, most int) string {
	if len(hosts) == 1 {
		return hosts[0].Name + " has " + countOf(most, "CPU", "CPUs")
	}
	return "the largest of " + countOf(len(hosts), "host", "hosts") + " has " + countOf(most, "CPU", "CPUs")
}

// planHolder looks up who is to have the CPUs, as a declaration that is in force nowhere.
func (h *Hub) planHolder(ctx context.Context, q *PinQuery) (DeclaredPin, error) {
	p := store.Pin{}
	switch q.Kind {
	case explain.HolderTenant, "":
		t, err := h.Tenant(ctx, q.Holder)
		if err != nil {
			return DeclaredPin{}, err
		}
		p.TenantID, p.Tenant = &t.ID, t
	case explain.HolderWorkload:
		if q.Holder == "" {
			return DeclaredPin{}, problem(Invalid, "say which workload is to have the CPUs")
		}
		p.Workload = q.Holder
	case explain.HolderRule:
		if _, err := tenancy.Compile(0, 0, q.Holder); err != nil {
			return DeclaredPin{}, problem(Invalid, "%v", err)
		}
		p.Expression = strings.TrimSpace(q.Holder)
	default:
		return DeclaredPin{}, problem(Invalid, "a holder of kind %q: choose tenant, workload or rule", q.Kind)
	}
	return declared(&p), nil
}

// planHosts gathers what is known of hosts that CPUs may be planned on: what was recorded in the span, who is there
// now, and what is declared and kept.
func (h *Hub) planHosts(ctx context.Context, scope question.Scope, hosts []store.Host, holder *DeclaredPin) (
	[]*explain.PlanHost, error) {
	scope.Hosts = []int32{}
	for i := range hosts {
		scope.Hosts = append(scope.Hosts, hosts[i].ID)
	}
	pins, err := h.store.Pins(ctx)
	if err != nil {
		return nil, err
	}
	now := h.options.Now()
	pins = slices.DeleteFunc(pins, func(p store.Pin) bool { return p.Ends(now) || p.From.After(now) })
	inForce := slices.Clone(pins)
	for i := range inForce { // what is declared now counts as it is, whenever it began
		inForce[i].From, inForce[i].Until = scope.Span.From, nil
	}
	grounds, err := h.pinGrounds(ctx, &scope, inForce)
	if err != nil {
		return nil, err
	}
	inventories, err := h.store.Inventories(ctx, scope.Hosts)
	if err != nil {
		return nil, err
	}
	isWorkloadSeen := holder.Kind != explain.HolderWorkload
	var list []*explain.PlanHost
	for i := range hosts {
		host := &hosts[i]
		x := &explain.PlanHost{PinGround: *grounds[host.ID], CgroupMode: host.CgroupMode,
			Host: &explain.Host{ID: host.ID, Name: host.Name, CPUs: host.CPUs, Inventory: inventories[host.ID]}}
		alive, err := h.store.Alive(ctx, host.ID)
		if err != nil {
			return nil, err
		}
		present := map[int64]store.Workload{}
		about := explain.EffectiveHost{CPUs: host.CPUs, Places: explain.CPUPlaces(x.Host.Inventory)}
		for k := range alive {
			present[alive[k].ID] = alive[k]
			core := alive[k].Core()
			user := explain.User{Workload: alive[k].ID, Tenant: alive[k].TenantID}
			if alone := explain.AloneOf(&core, &about); !alone.IsEmpty() {
				x.Effective = append(x.Effective, explain.EffectiveUser{User: user, Alone: alone})
			}
			isWorkloadSeen = isWorkloadSeen || alive[k].Name == holder.Holder
		}
		x.Present = slices.DeleteFunc(x.Present, func(w explain.Present) bool {
			_, is := present[w.Workload]
			return !is
		})
		of := holder.Pin
		of.HostID, of.Host = host.ID, *host
		if x.Holds, err = h.holds(ctx, &of, present); err != nil {
			return nil, err
		}
		list = append(list, x)
	}
	if !isWorkloadSeen {
		return nil, problem(NotFound, "no workload %q is there now on %s: \"vinescale workloads\" lists those that are",
			holder.Holder, countOf(len(hosts), "host", "hosts"))
	}
	return list, nil
}

// countOf is a number of things in words.
func countOf(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + more
}
