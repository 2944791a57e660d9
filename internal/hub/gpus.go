package hub

import (
	"context"
	"errors"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/store"
)

// gpuTables are what is asked for of GPUs.
var gpuTables = []string{leaf.GPUs, leaf.GPUUses, leaf.GPUEngines, leaf.GPUBands}

// GPUs tells of the GPUs of a host, or of all, over a span.
func (h *Hub) GPUs(ctx context.Context, hostName string, span question.Span) (*explain.GPUs, error) {
	g, err := h.gather(ctx, amount.GPU, hostName, span, gpuTables...)
	if err != nil {
		return nil, err
	}
	return h.explainGPUs(ctx, g)
}

// explainGPUs puts names to who used GPUs, and to whom they are given.
func (h *Hub) explainGPUs(ctx context.Context, g *gathered) (*explain.GPUs, error) {
	users := g.Users()
	keys := map[explain.HostKey]explain.User{}
	for _, host := range g.hosts {
		if host.Inventory == nil {
			continue
		}
		for i := range host.Inventory.GPUs {
			for _, held := range host.Inventory.GPUs[i].Holders {
				k := explain.HostKey{Host: host.ID, Key: held.Key}
				if _, known := keys[k]; known {
					continue
				}
				w, err := h.store.WorkloadByKey(ctx, host.ID, held.Key)
				if errors.Is(err, store.ErrNotFound) || err == nil && !g.scope.HasTenant(w.TenantID) {
					continue
				}
				if err != nil {
					return nil, err
				}
				keys[k] = explain.User{Workload: w.ID, Tenant: w.TenantID}
				users = append(users, keys[k])
			}
		}
	}
	names, err := h.namesOf(ctx, users)
	if err != nil {
		return nil, err
	}
	return explain.ExplainGPUs(g.over, g.Gathering, g.hosts, keys, names), nil
}

// GPU tells everything about one GPU of a host: by its number, its uuid, or its address on the bus.
func (h *Hub) GPU(ctx context.Context, hostName, name string, span question.Span) (*explain.GPUs, error) {
	if hostName == "" {
		return nil, problem(Invalid, "GPU %s of which host? Give its name", name)
	}
	all, err := h.GPUs(ctx, hostName, span)
	if err != nil {
		return nil, err
	}
	if found := all.Find(hostName, name); found != nil {
		all.GPUs, all.Trouble = []explain.GPULine{*found}, len(found.Notices) > 0
		return all, nil
	}
	var there []string
	for i := range all.GPUs {
		there = append(there, all.GPUs[i].Number)
	}
	if len(there) == 0 {
		return nil, problem(NotFound, "%s has no GPU that its collector can tell of", hostName)
	}
	return nil, problem(NotFound, "%s has no GPU %q: it has %s", hostName, name, strings.Join(there, ", "))
}

// fillGPUs tells which GPUs a workload was given or used, over its life.
func (h *Hub) fillGPUs(ctx context.Context, a *AboutWorkload, w *store.Workload, scope question.Scope) error {
	inventories, err := h.store.Inventories(ctx, []int32{w.HostID})
	if err != nil {
		return err
	}
	inv := inventories[w.HostID]
	if inv == nil || len(inv.GPUs) == 0 {
		return nil
	}
	life := question.Span{From: w.FirstAt, To: h.options.Now()}
	if w.EndedAt != nil {
		life.To = *w.EndedAt
	}
	scope.Span, scope.Only = life, []int64{w.ID}
	g := &gathered{scope: scope, hosts: []explain.Host{{ID: w.HostID, Name: w.Host.Name, Inventory: inv}},
		over: explain.Over{From: life.From, To: life.To, Host: w.Host.Name}}
	if g.Gathering, err = h.gatherIn(ctx, &scope, gpuTables); err != nil {
		return err
	}
	told, err := h.explainGPUs(ctx, g)
	if err == nil {
		a.GPUs = told.Of(w.ID)
	}
	return err
}
