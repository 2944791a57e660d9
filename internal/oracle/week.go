package oracle

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
	"vinescale/internal/identify"
	"vinescale/internal/stage"
	"vinescale/internal/store"
	"vinescale/internal/wire"
)

// Sent is one interval of a host.
type Sent struct {
	Host     string
	Interval *wire.Interval
}

// Week plays the cooperative's twelve hosts for a week from a time on, and returns what their collectors send: runs of
// intervals of uneven lengths, some of them two in a minute, with gaps between; one host starts anew in the middle, and
// the collector of one is older than the book and does not tell of its disk at first. Dir is a directory for the files
// by which users are known.
func Week(rng *rand.Rand, from time.Time, dir string) ([]Sent, error) {
	var sent []Sent
	for n, h := range stage.Fleet(from) {
		tree := stage.Tree{Dir: fmt.Sprintf("%s/%s", dir, h.Name)}
		if err := h.Render(tree); err != nil {
			return nil, err
		}
		registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
			Proc: tree.Proc()}})
		os.RemoveAll(tree.Proc())
		sequence, silent := uint64(0), false
		for h.Now.Before(from.Add(7 * 24 * time.Hour)) {
			gap := time.Duration(rng.IntN(20*3600)) * time.Second
			if n == 5 && !silent && h.Now.After(from.Add(3*24*time.Hour)) {
				silent = true
				h.FallSilent(gap)
			}
			h.Advance(gap)
			var tracker account.Tracker
			tracker.Step(h.Reading(registry))
			for range 1 + rng.IntN(6) {
				h.Advance([]time.Duration{20 * time.Second, 20 * time.Second, time.Minute, time.Minute,
					75 * time.Second, 7 * time.Minute, 3 * time.Hour}[rng.IntN(7)])
				iv, err := tracker.Step(h.Reading(registry))
				if err != nil {
					return nil, err
				}
				sequence++
				m := wire.FromInterval(iv, sequence, "v2", registry)
				if n == 6 && h.Now.Before(from.Add(4*24*time.Hour)) {
					forget(m, amount.Disk)
				}
				sent = append(sent, Sent{h.Name, m})
			}
		}
	}
	return sent, nil
}

// forget takes a resource out of an interval, as a collector that does not know it sends none.
func forget(m *wire.Interval, r amount.Resource) {
	for i, l := range m.Ledgers {
		if l.Resource == r.String() {
			m.Ledgers = append(m.Ledgers[:i:i], m.Ledgers[i+1:]...)
			break
		}
	}
	for i, u := range m.Usages {
		if u.Resource == r.String() {
			m.Usages = append(m.Usages[:i:i], m.Usages[i+1:]...)
			break
		}
	}
	for i, c := range m.Programs.Columns {
		if c.Resource == r.String() {
			m.Programs.Columns = append(m.Programs.Columns[:i:i], m.Programs.Columns[i+1:]...)
			break
		}
	}
}

// rule gives workloads to the tenants of the cooperative. After the change, every tenant's are the next one's.
func rule(tenants []store.Tenant, changed bool) store.Assigner {
	return func(host string, w account.Workload) tenancy.Rule {
		for i, t := range stage.Tenants {
			compiled, err := tenancy.Compile(int32(i+1), tenants[i].ID, t.Rule)
			if err != nil || !compiled.Matches(tenancy.Subject{Host: host, Workload: w}) {
				continue
			}
			if changed {
				return tenancy.Rule{ID: int32(i + 1), TenantID: tenants[(i+1)%len(tenants)].ID}
			}
			return tenancy.Rule{ID: int32(i + 1), TenantID: tenants[i].ID}
		}
		return tenancy.Rule{}
	}
}

// Fill puts intervals into a store, out of order, and returns the book that its answers must agree with. At the change,
// what came until then is folded and summed, so that what comes late falls into hours and days that are summed, and
// each tenant's workloads become another's, from then on; at the end one tenant is removed.
func Fill(ctx context.Context, rng *rand.Rand, s *store.Store, sent []Sent, change time.Time) (*Book, error) {
	b := &Book{Hosts: map[int32]string{}, Tenants: map[int32]string{}, Workloads: map[int64]Workload{}}
	var tenants []store.Tenant
	for _, t := range stage.Tenants {
		x, err := s.AddTenant(ctx, t.Name)
		if err != nil {
			return nil, err
		}
		tenants = append(tenants, x)
		b.Tenants[x.ID] = x.Name
	}
	hosts := map[string]store.Host{}
	for _, x := range sent {
		if _, there := hosts[x.Host]; there {
			continue
		}
		if err := s.Enrol(ctx, x.Host, "secret of "+x.Host); err != nil {
			return nil, err
		}
		h, err := s.HostByName(ctx, x.Host)
		if err != nil {
			return nil, err
		}
		hosts[x.Host], b.Hosts[h.ID] = h, h.Name
	}
	begun := func(x Sent) bool { return time.UnixMicro(x.Interval.FromUnixMicros).Before(change) }
	var before, after []Sent
	for _, x := range sent {
		if begun(x) && rng.IntN(20) > 0 { // some of what was before comes late
			before = append(before, x)
		} else {
			after = append(after, x)
		}
	}
	_, version, err := s.Rules(ctx)
	if err != nil {
		return nil, err
	}
	type key struct {
		host int32
		key  string
	}
	early := map[key]bool{}
	old, now := rule(tenants, false), rule(tenants, true)
	for phase, list := range [][]Sent{before, after} {
		rng.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		assign := old
		if phase == 1 {
			if err := Settle(ctx, s, change); err != nil {
				return nil, err
			}
			assign = now
			if err := moveAll(ctx, s, now, change); err != nil {
				return nil, err
			}
		}
		for _, x := range list {
			h := hosts[x.Host]
			batch := &wire.Batch{Version: wire.Version, Host: x.Host, Intervals: []*wire.Interval{x.Interval}}
			if _, err := s.Ingest(ctx, h, batch, version, assign); err != nil {
				return nil, err
			}
			m := Minute{Host: h.ID, Start: time.UnixMicro(x.Interval.FromUnixMicros).UTC(), Interval: x.Interval}
			for i := range x.Interval.Workloads.Key {
				w := x.Interval.Workloads.At(i)
				if phase == 0 {
					early[key{h.ID, w.Key}] = true
				}
				by := now
				if begun(x) && early[key{h.ID, w.Key}] {
					by = old
				}
				m.Tenants = append(m.Tenants, by(x.Host, w).TenantID)
			}
			b.Minutes = append(b.Minutes, m)
		}
	}
	if err := s.RemoveTenant(ctx, tenants[2].Name); err != nil {
		return nil, err
	}
	delete(b.Tenants, tenants[2].ID)
	stored, err := s.Workloads(ctx)
	if err != nil {
		return nil, err
	}
	ids := map[key]int64{}
	for i := range stored {
		w := &stored[i]
		ids[key{w.HostID, w.Key}] = w.ID
		b.Workloads[w.ID] = Workload{Host: w.HostID, Name: w.Name, Kind: w.Kind, Owner: w.Owner, Labels: w.Labels,
			Facts: w.Facts}
	}
	for i := range b.Minutes {
		m := &b.Minutes[i]
		for _, k := range m.Interval.Workloads.Key {
			m.IDs = append(m.IDs, ids[key{m.Host, k}])
		}
	}
	return b, nil
}

// Settle folds what is loose and sums what has ended at a time.
func Settle(ctx context.Context, s *store.Store, at time.Time) error {
	if _, _, err := s.Fold(ctx, at); err != nil {
		return err
	}
	return s.SumPeaks(ctx, at)
}

// moveAll assigns every workload anew from a time on, as a change of rules does.
func moveAll(ctx context.Context, s *store.Store, assign store.Assigner, from time.Time) error {
	stored, err := s.Workloads(ctx)
	if err != nil {
		return err
	}
	var moves []store.Move
	for i := range stored {
		r := assign(stored[i].Host.Name, stored[i].Core())
		if r.TenantID != stored[i].TenantID {
			moves = append(moves, store.Move{WorkloadID: stored[i].ID, TenantID: r.TenantID, RuleID: r.ID})
		}
	}
	return s.Assign(ctx, moves, from)
}
