package hub

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Memory explains the memory of a host: what is charged, to whom and of which kind, what is the kernel's, and who holds
// it asleep.
type Memory struct {
	From      time.Time      `json:"from"`
	To        time.Time      `json:"to"`
	Host      string         `json:"host"`
	Capacity  *float64       `json:"capacity_bytes"`
	Charged   *float64       `json:"charged_bytes" doc:"To workloads, in the mean. Null, like the other lines, where nothing was recorded."`
	Own       *float64       `json:"kernel_bytes" doc:"The kernel's own structures, charged to nobody."`
	Cache     *float64       `json:"cache_bytes" doc:"Page cache charged to nobody."`
	Huge      *float64       `json:"huge_pages_bytes" doc:"Set aside in pools of huge pages, taken or not."`
	Free      *float64       `json:"free_bytes"`
	Residual  *float64       `json:"residual_bytes"`
	Swaps     []account.Swap `json:"swaps" doc:"As they stand now."`
	Workloads []MemoryUser   `json:"workloads" doc:"Most charged first."`
	Notes     []string       `json:"notes"`
}

// MemoryUser is what one workload holds of a host's memory.
type MemoryUser struct {
	UserRef
	Charged  float64   `json:"charged_bytes" doc:"In the mean."`
	Source   string    `json:"source"`
	Figures  []Measure `json:"figures" doc:"By kind, and what became of it: memory_ measures."`
	SwapOn   []SwapOn  `json:"swap_on" doc:"Where its swapped pages are, most first: as counted where there is one swap, else added up over its processes' page tables."`
	CPUCores float64   `json:"cores" doc:"In the mean."`
	Asleep   *Sleep    `json:"asleep,omitempty" doc:"It holds much and has done next to nothing for a while; left out where it is awake, holds little, or its CPU time is not known."`
}

// Sleep is how long a workload has held memory without doing anything.
type Sleep struct {
	Since   time.Time `json:"since" doc:"End of the last interval in which it used more than half a percent of a CPU."`
	Minutes float64   `json:"minutes" doc:"Since then, as far as it is recorded: what a host did in the dark is not known."`
	Longer  bool      `json:"longer" doc:"It was asleep in all that was looked at: a day, or the span where that is longer."`
}

// SwapOn is what a workload has on one swap, in the mean.
type SwapOn struct {
	Swap   string  `json:"swap"`
	Bytes  float64 `json:"bytes"`
	Source string  `json:"source"`
}

// A workload holds memory asleep when it has at least this much, and used at most this part of a CPU in every interval
// for at least so long. For how long is found out as far back as this.
const (
	sleeperBytes = 1 << 30
	sleeperCores = 0.005
	sleeperTime  = 10 * time.Minute
	sleeperBack  = 24 * time.Hour
)

// Memory tells of a host's memory over a span.
func (h *Hub) Memory(ctx context.Context, hostName string, span store.Span) (*Memory, error) {
	host, err := h.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	m := &Memory{From: span.From, To: span.To, Host: host.Name, Swaps: []account.Swap{}, Workloads: []MemoryUser{},
		Notes: []string{}}
	t, err := h.store.Totals(ctx, host.ID, span, amount.Memory)
	if err != nil {
		return nil, err
	}
	g, err := h.gather(ctx, host.ID, span, !withCPUs)
	if err != nil {
		return nil, err
	}
	uses, err := h.store.WorkloadUses(ctx, store.UseQuestion{Span: span, HostID: host.ID})
	if err != nil {
		return nil, err
	}
	refs, err := h.refs(ctx, slices.Collect(maps.Keys(g.measures)))
	if err != nil {
		return nil, err
	}
	inv, _, err := h.store.Inventory(ctx, host.ID)
	if err != nil {
		return nil, err
	}
	if inv != nil && inv.Swaps != nil {
		m.Swaps = inv.Swaps
	}
	elapsed := g.elapsed[host.ID]
	if k := g.memory[host.ID]; k != nil && elapsed > 0 {
		own, cache, huge := k[0]/float64(elapsed), k[1]/float64(elapsed), k[2]/float64(elapsed)
		m.Own, m.Cache, m.Huge = &own, &cache, &huge
	}
	shares := 0.0
	for i := range uses {
		u := &uses[i]
		if amount.Source(u.MemorySource) == amount.Unavailable || elapsed == 0 {
			continue
		}
		shares += u.Memory
		x := MemoryUser{
			UserRef: refs[u.ID], Charged: u.Memory / float64(elapsed), Source: amount.Source(u.MemorySource).String(),
			Figures:  []Measure{},
			CPUCores: u.CPU / 1000 / float64(elapsed), SwapOn: swapOn(g, u.ID, m.Swaps, float64(elapsed)),
		}
		if x.ID == 0 {
			x.UserRef = UserRef{WorkloadRef{u.ID, u.Name, u.Kind}, u.Owner, ""}
		}
		if f := g.measures[u.ID]; f != nil {
			for _, figure := range f.list(elapsed) {
				if len(figure.Name) > 7 && figure.Name[:7] == "memory_" {
					x.Figures = append(x.Figures, figure)
				}
			}
		}
		m.Workloads = append(m.Workloads, x)
	}
	slices.SortFunc(m.Workloads, func(a, b MemoryUser) int {
		return cmp.Or(cmp.Compare(b.Charged, a.Charged), cmp.Compare(a.ID, b.ID))
	})
	if err := h.findSleepers(ctx, host.ID, span, m.Workloads); err != nil {
		return nil, err
	}
	b := resourceBalance(t, shares)
	m.Capacity, m.Free, m.Residual = b.Capacity, b.Idle, b.Residual
	if elapsed > 0 {
		charged := shares / float64(elapsed)
		m.Charged = &charged
	}
	switch {
	case elapsed == 0:
		m.Notes = append(m.Notes, sheet.NothingRecorded)
	case len(m.Swaps) == 0:
		m.Notes = append(m.Notes, "this host has no swap")
	case len(m.Swaps) > 1 && len(g.swapped) == 0:
		m.Notes = append(m.Notes,
			"on which of its swaps a workload's pages are is not known: its collector may not read page tables (it needs to be root, or to have CAP_SYS_ADMIN), or none are swapped")
	}
	return m, nil
}

// swapOn tells where a workload's swapped pages are: where there is one swap they are on it.
func swapOn(g *gathered, id int64, swaps []account.Swap, elapsed float64) []SwapOn {
	list := []SwapOn{}
	if f := g.measures[id]; len(swaps) == 1 && f != nil && f.units[amount.MemorySwap] > 0 {
		return append(list, SwapOn{swaps[0].Name, f.units[amount.MemorySwap] / elapsed,
			f.source[amount.MemorySwap].String()})
	}
	for name, units := range g.swapped[id] {
		list = append(list, SwapOn{name, units / elapsed, amount.Summed.String()})
	}
	slices.SortFunc(list, func(a, b SwapOn) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Swap, b.Swap))
	})
	return list
}

// findSleepers says which of the workloads that hold much have been asleep, and since when.
func (h *Hub) findSleepers(ctx context.Context, hostID int32, span store.Span, users []MemoryUser) error {
	var large []int64
	for i := range users {
		if users[i].Charged >= sleeperBytes {
			large = append(large, users[i].ID)
		}
	}
	back := store.Span{From: span.From, To: span.To}
	if from := span.To.Add(-sleeperBack); from.Before(back.From) {
		back.From = from
	}
	awake, err := h.store.LastAwake(ctx, hostID, back, sleeperCores, large)
	if err != nil {
		return err
	}
	for i := range users {
		a, ok := awake[users[i].ID]
		if !ok || !a.Known {
			continue
		}
		since := a.From
		if a.AwakeAt != nil {
			since = *a.AwakeAt
		}
		if slept := time.Duration(a.AsleepMs) * time.Millisecond; slept >= sleeperTime {
			users[i].Asleep = &Sleep{Since: since.UTC(), Minutes: slept.Minutes(), Longer: a.AwakeAt == nil}
		}
	}
	return nil
}
