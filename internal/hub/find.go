package hub

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/internal/store"
)

// Found is one thing that a search found.
type Found struct {
	What     string `json:"what" enum:"workload,host,user,tenant"`
	Name     string `json:"name"`
	ID       int64  `json:"id,omitempty" doc:"Of a workload."`
	Kind     string `json:"kind,omitempty"`
	Owner    string `json:"owner,omitempty"`
	Tenant   string `json:"tenant,omitempty"`
	Host     string `json:"host,omitempty"`
	State    string `json:"state,omitempty"`
	By       string `json:"by" doc:"What of it matches: its name, key, owner, a label, a fact, or a pid."`
	Exact    bool   `json:"exact" doc:"The name, the number or the pid is exactly what was asked for."`
	LastSeen string `json:"last_seen,omitempty" doc:"RFC 3339."`
}

// mostFound bounds what one search lists.
const mostFound = 50

// Find looks for workloads, hosts, users and tenants by name, by the beginning of an id, by pid, by user or by label
// (KEY=VALUE): every word must be found in the same thing. Exact matches come first, then what was seen last.
func (h *Hub) Find(ctx context.Context, question, hostName string) ([]Found, error) {
	words := strings.Fields(question)
	if len(words) == 0 || len(question) > 200 {
		return nil,
			problem(Invalid,
				"look for what? Give a name, the beginning of an id, a pid, a user, or a label such as project=cellar")
	}
	hostID := int32(0)
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		hostID = host.ID
	}
	out := []Found{}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	hosts, err := h.store.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	if hostID == 0 {
		for i := range hosts {
			if hasAll(hosts[i].Name, words) {
				out = append(out, Found{What: "host", Name: hosts[i].Name, By: "name",
					Exact: strings.EqualFold(hosts[i].Name, question)})
			}
		}
		for id, name := range names {
			if (id != 0 || strings.EqualFold(name, question)) && hasAll(name, words) {
				out = append(out, Found{What: "tenant", Name: name, By: "name",
					Exact: strings.EqualFold(name, question)})
			}
		}
		owners, err := h.store.Owners(ctx, question)
		if err != nil {
			return nil, err
		}
		for _, o := range owners {
			out = append(out, Found{What: "user", Name: o.Owner, By: "name",
				Exact: strings.EqualFold(o.Owner, question)})
		}
	}
	workloads, err := h.store.FindWorkloads(ctx, words, hostID, mostFound)
	if err != nil {
		return nil, err
	}
	byID := map[int32]*store.Host{}
	for i := range hosts {
		byID[hosts[i].ID] = &hosts[i]
	}
	now := h.options.Now()
	for i := range workloads {
		out = append(out, foundWorkload(&workloads[i], byID[workloads[i].HostID], names, question, words, now))
	}
	byPID, err := h.findPID(ctx, question, hostID, hosts, names, now)
	if err != nil {
		return nil, err
	}
	out = append(out, byPID...)
	slices.SortStableFunc(out, func(a, b Found) int {
		return cmp.Or(cmp.Compare(order(a), order(b)), cmp.Compare(b.LastSeen, a.LastSeen), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Host, b.Host))
	})
	return out[:min(len(out), mostFound)], nil
}

func order(f Found) int {
	n := 0
	if !f.Exact {
		n = 10
	}
	return n + slices.Index([]string{"host", "tenant", "user", "workload"}, f.What)
}

func hasAll(s string, words []string) bool {
	for _, w := range words {
		if !strings.Contains(strings.ToLower(s), strings.ToLower(w)) {
			return false
		}
	}
	return true
}

func foundWorkload(w *store.Workload, host *store.Host, names map[int32]string, question string, words []string,
	now time.Time) Found {
	f := Found{
		What: "workload", Name: w.Name, ID: w.ID, Kind: w.Kind, Owner: w.Owner, Tenant: named(names, w.TenantID),
		Host: host.Name, State: stateOf(w, host, now),
	}
	_, id, _ := strings.Cut(w.Key, ":")
	f.Exact = strings.EqualFold(w.Name, question) || id == question || w.Key == question
	f.By = "several of its attributes"
	switch {
	case hasAll(w.Name, words):
		f.By = "name"
	case hasAll(w.Key, words):
		f.By = "id"
	case hasAll(w.Owner, words):
		f.By = "owner"
	default:
		for k, v := range w.Labels {
			if hasAll(k+"="+v, words) {
				f.By = "label " + k + "=" + v
			}
		}
		for k, v := range w.Facts {
			if hasAll(v, words) && k != "evidence" && k != "command" && k != "groups" && k != "names_unavailable" {
				f.By = k + " " + v
			}
		}
	}
	if at := w.SeenUntil(host); at != nil {
		f.LastSeen = at.UTC().Format(time.RFC3339)
	}
	return f
}

// findPID finds the workloads of a process by its number, on each host that has one.
func (h *Hub) findPID(ctx context.Context, question string, hostID int32, hosts []store.Host, names map[int32]string,
	now time.Time) ([]Found, error) {
	pid, err := strconv.ParseInt(question, 10, 32)
	if err != nil || pid < 1 {
		return nil, nil
	}
	var out []Found
	for i := range hosts {
		host := &hosts[i]
		if hostID != 0 && host.ID != hostID {
			continue
		}
		running, _, _, err := h.store.Running(ctx, host.ID)
		if err != nil {
			return nil, err
		}
		for _, p := range running {
			if int64(p.PID) != pid {
				continue
			}
			w, err := h.store.WorkloadByID(ctx, p.Workload)
			if err != nil {
				return nil, err
			}
			f := foundWorkload(&w, host, names, question, []string{question}, now)
			f.By, f.Exact = fmt.Sprintf("pid %d, %s", pid, p.Program), true
			out = append(out, f)
		}
	}
	return out, nil
}

func hostFacts(host *store.Host, pools []string) map[string]string {
	facts := map[string]string{
		"cpus": strconv.Itoa(host.CPUs), "memory_bytes": strconv.FormatInt(host.MemoryBytes, 10),
		"cgroups": host.CgroupMode, "boot": host.Boot,
		"pools": strings.Join(pools, ", "),
	}
	if host.LastAt != nil {
		facts["last_at"] = host.LastAt.UTC().Format(time.RFC3339)
	}
	for k, v := range facts {
		if v == "" {
			delete(facts, k)
		}
	}
	return facts
}
