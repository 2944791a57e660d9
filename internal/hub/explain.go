package hub

import (
	"context"
	"encoding/json"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/store"
)

// gathered is what an explanation is made of: the figures of a scope's span, and its hosts.
type gathered struct {
	*explain.Gathering
	scope question.Scope
	over  explain.Over
	hosts []explain.Host
	names explain.Names
}

// gather adds up what was counted of a resource on one host, or on all (""), over a span: what the tables named hold.
func (h *Hub) gather(ctx context.Context, of amount.Resource, hostName string, span question.Span,
	tables ...string) (*gathered, error) {
	scope, err := h.scope(ctx, span, hostName)
	if err != nil {
		return nil, err
	}
	g := &gathered{scope: scope, over: over(span, hostName)}
	if g.Gathering, err = h.gatherIn(ctx, &scope, tables); err != nil {
		return nil, err
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: scope})
	if err != nil {
		return nil, err
	}
	if g.over.Missed, err = h.missed(ctx, &scope, stretch, of); err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	inventories, err := h.store.Inventories(ctx, scope.Hosts)
	for i := range hosts {
		if scope.HasHost(hosts[i].ID) {
			g.hosts = append(g.hosts, explain.Host{ID: hosts[i].ID, Name: hosts[i].Name, CPUs: hosts[i].CPUs,
				Inventory: inventories[hosts[i].ID]})
		}
	}
	return g, err
}

// gatherIn adds up what was counted in a scope: what the tables named hold of it.
func (h *Hub) gatherIn(ctx context.Context, scope *question.Scope, tables []string) (*explain.Gathering, error) {
	var parts []*explain.Gathering
	err := h.store.Leaves(ctx, scope, tables, func() func(*leaf.View) {
		parts = append(parts, explain.NewGathering())
		return parts[len(parts)-1].Add
	})
	if err != nil {
		return nil, err
	}
	for _, more := range parts[1:] {
		parts[0].Join(more)
	}
	return parts[0], nil
}

// Disks tells of the devices of a host, or of all, over a span.
func (h *Hub) Disks(ctx context.Context, hostName string, span question.Span) (*explain.Disks, error) {
	g, err := h.gather(ctx, amount.Disk, hostName, span, leaf.Devices, leaf.Disks, leaf.Latencies)
	if err != nil {
		return nil, err
	}
	users := g.Users()
	units := map[int32][]explain.HostUse{}
	scope, counts := g.scope, g.CountByDevice()
	scope.Hosts = []int32{}
	for _, host := range g.hosts {
		if g.ElapsedMillis(host.ID) > 0 && !counts[host.ID] {
			scope.Hosts = append(scope.Hosts, host.ID)
		}
	}
	if len(scope.Hosts) > 0 {
		answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.Disk},
			By: []question.Dimension{question.Workload, question.Tenant}})
		if err != nil {
			return nil, err
		}
		for _, r := range answer.Rows {
			u := explain.User{Workload: r.Workload, Tenant: r.Tenant}
			users = append(users, u)
			units[r.Host] = append(units[r.Host], explain.HostUse{User: u, Units: r.Sums[0].Units,
				Source: r.Sums[0].Source})
		}
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	return explain.ExplainDisks(g.over, g.Gathering, g.hosts, units, names), nil
}

// Links tells of the network of a host, or of all, over a span.
func (h *Hub) Links(ctx context.Context, hostName string, span question.Span) (*explain.Links, error) {
	g, err := h.gather(ctx, amount.Network, hostName, span,
		append(leaf.OfResource(amount.Network), leaf.Links)...)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, g.Users())
	if err != nil {
		return nil, err
	}
	return explain.ExplainLinks(g.over, g.Gathering, g.hosts, names), nil
}

// ranWhere is who ran on which CPU of a scope's hosts, by host, under the tenant of the time.
func (h *Hub) ranWhere(ctx context.Context, scope question.Scope) (ran map[int32][]explain.CPUUse,
	users []explain.User, err error) {
	ran = map[int32][]explain.CPUUse{}
	answer, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: []amount.Measure{amount.CPU},
		By: []question.Dimension{question.CPU, question.Workload, question.Tenant}})
	if err != nil {
		return nil, nil, err
	}
	for _, r := range answer.Rows {
		u := explain.User{Workload: r.Workload, Tenant: r.Tenant}
		users = append(users, u)
		ran[r.Host] = append(ran[r.Host], explain.CPUUse{User: u, CPU: int(r.CPU), Micros: r.Sums[0].Units,
			Source: r.Sums[0].Source})
	}
	return ran, users, nil
}

// CPUs tells of each CPU of a host over a span.
func (h *Hub) CPUs(ctx context.Context, hostName string, span question.Span) (*explain.CPUs, error) {
	g, err := h.gather(ctx, amount.CPU, hostName, span, leaf.States, leaf.Pressure)
	if err != nil {
		return nil, err
	}
	ran, users, err := h.ranWhere(ctx, g.scope)
	if err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	return explain.ExplainCPUs(g.over, g.Gathering, &g.hosts[0], ran[g.hosts[0].ID], names), nil
}

// Memory tells of a host's memory over a span.
func (h *Hub) Memory(ctx context.Context, hostName string, span question.Span) (*explain.Memory, error) {
	g, err := h.gather(ctx, amount.Memory, hostName, span,
		append(leaf.OfResource(amount.Memory), leaf.Swapped)...)
	if err != nil {
		return nil, err
	}
	stretch, err := h.stretch(ctx, question.Question{Scope: g.scope, Measures: []amount.Measure{amount.Memory}})
	if err != nil {
		return nil, err
	}
	answer, err := h.store.Ask(ctx, question.Question{Scope: g.scope, By: []question.Dimension{question.Workload},
		Measures: []amount.Measure{amount.Memory, amount.CPU}})
	if err != nil {
		return nil, err
	}
	users := make([]explain.User, len(answer.Rows))
	uses := make([]explain.MemoryUse, len(answer.Rows))
	large := g.scope
	large.Only = []int64{}
	for i, r := range answer.Rows {
		users[i] = explain.User{Workload: r.Workload, Tenant: r.Tenant}
		uses[i] = explain.MemoryUse{User: users[i], Memory: r.Sums[0], CPU: r.Sums[1]}
		if amount.Memory.Mean(r.Sums[0].Units, g.ElapsedMillis(g.hosts[0].ID)) >= explain.Sleepers.Bytes {
			large.Only = append(large.Only, r.Workload)
		}
	}
	if err := h.findSleepers(ctx, large, uses); err != nil {
		return nil, err
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	return explain.ExplainMemory(g.over, g.Gathering, &g.hosts[0], &stretch.Of[0], uses, names), nil
}

// findSleepers says of the workloads of a scope since when they have done next to nothing.
func (h *Hub) findSleepers(ctx context.Context, scope question.Scope, uses []explain.MemoryUse) error {
	scope.Span.Frames = false // sleep is longer than frames are held for
	if from := scope.Span.To.Add(-explain.Sleepers.Back); from.Before(scope.Span.From) {
		scope.Span.From = from
	}
	if len(scope.Only) == 0 {
		return nil
	}
	awake, err := h.store.LastAwake(ctx, &scope, explain.Sleepers.Cores)
	for i := range uses {
		a, ok := awake[uses[i].Workload]
		if !ok || !a.Known {
			continue
		}
		rest := &explain.Rest{Since: a.From, Slept: time.Duration(a.AsleepMs) * time.Millisecond,
			Longer: a.AwakeAt == nil}
		if a.AwakeAt != nil {
			rest.Since = *a.AwakeAt
		}
		uses[i].Rest = rest
	}
	return err
}

// loadAge is for how long a load is told: what a host that fell silent had before says nothing of it.
const loadAge = 10 * time.Minute

// Loads are the newest loads of those hosts that tell theirs, by name.
func (h *Hub) Loads(ctx context.Context, hosts []store.Host) (map[string]*explain.Load, error) {
	now := h.options.Now()
	scope, err := h.scope(ctx, question.Span{From: now.Add(-loadAge), To: now.Add(24 * time.Hour)}, "")
	if err != nil {
		return nil, err
	}
	scope.Hosts = make([]int32, len(hosts))
	for i := range hosts {
		scope.Hosts[i] = hosts[i].ID
	}
	newest, err := h.store.NewestDetails(ctx, &scope)
	loads := map[string]*explain.Load{}
	for name, d := range newest {
		if l := explain.LoadOf(d.Detail.GetLoad(), d.To); l != nil {
			loads[name] = l
		}
	}
	return loads, err
}

// Detail returns what a host's newest interval of a span says beside the ledger, as JSON of the wire schema, and its
// loads; nil where there is none.
func (h *Hub) Detail(ctx context.Context, host *store.Host, span question.Span) ([]byte, *explain.Load, error) {
	newest, err := h.store.NewestDetails(ctx, &question.Scope{Span: span, Hosts: []int32{host.ID}, Sees: h.sees(ctx)})
	d, there := newest[host.Name]
	if err != nil || !there {
		return nil, nil, err
	}
	detail, err := json.Marshal(d.Detail)
	return detail, explain.LoadOf(d.Detail.GetLoad(), d.To), err
}
