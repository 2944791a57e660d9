package explain

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// Memory explains the memory of a host: what is charged, to whom and of which kind, what is the kernel's, and who holds
// it asleep.
type Memory struct {
	Over
	Capacity  *float64       `json:"capacity_bytes"`
	Charged   *float64       `json:"charged_bytes" doc:"To workloads; null where nothing was recorded."`
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
	Charged  float64  `json:"charged_bytes" doc:"In the mean."`
	Source   string   `json:"source"`
	Figures  []Figure `json:"figures" doc:"By kind, and what became of it: memory_ measures."`
	SwapOn   []SwapOn `json:"swap_on" doc:"Where its swapped pages are, most first."`
	CPUCores float64  `json:"cores" doc:"In the mean."`
	Asleep   *Sleep   `json:"asleep,omitempty" doc:"It holds much and has done next to nothing for a while."`
}

// Sleep is how long a workload has held memory without doing anything.
type Sleep struct {
	Since   time.Time `json:"since" doc:"End of the last interval in which it used more than half a percent of a CPU."`
	Minutes float64   `json:"minutes" doc:"Since then, as far as it is recorded."`
	Longer  bool      `json:"longer" doc:"It was asleep in all that was looked at."`
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

// Sleepers are what counts as holding memory asleep: a workload has at least Bytes, and used at most Cores in every
// interval for at least Time. For how long is found out as far back as Back.
var Sleepers = struct {
	Bytes, Cores float64
	Time, Back   time.Duration
}{sleeperBytes, sleeperCores, sleeperTime, sleeperBack}

// Rest says since when a workload has done next to nothing.
type Rest struct {
	Since  time.Time     // end of its last interval in which it did more; begin of its first where it never did
	Slept  time.Duration // recorded since then
	Longer bool          // in all that was looked at
}

// MemoryUse is what one workload was charged and did over a span, in account units.
type MemoryUse struct {
	User
	Memory, CPU question.Sum
	Rest        *Rest // where it holds much and its CPU time is known
}

// ExplainMemory tells of a host's memory over a span. Lines are those of the memory ledger.
func ExplainMemory(
	over Over,
	g *Gathering,
	host *Host,
	lines *question.Lines,
	uses []MemoryUse,
	names Names,
) *Memory {
	m := &Memory{Over: over, Swaps: []account.Swap{}, Workloads: []MemoryUser{}, Notes: []string{}}
	if host.Inventory != nil && host.Inventory.Swaps != nil {
		m.Swaps = host.Inventory.Swaps
	}
	elapsed := g.elapsed[host.ID]
	if k := g.memory[host.ID]; k != nil && elapsed > 0 {
		mean := func(w amount.Wide) *float64 { v := w.Float() / float64(elapsed); return &v }
		m.Own, m.Cache, m.Huge = mean(k[0]), mean(k[1]), mean(k[2])
	}
	shares := 0.0
	for _, u := range uses {
		if !u.Memory.Known() || elapsed == 0 {
			continue
		}
		shares += u.Memory.Units
		x := MemoryUser{
			UserRef: names(u.User), Charged: u.Memory.Units / float64(elapsed), Source: u.Memory.Source.String(),
			Figures: []Figure{}, CPUCores: u.CPU.Units / 1000 / float64(elapsed),
			SwapOn: swapOn(g, u.Workload, m.Swaps, float64(elapsed)),
		}
		for _, f := range g.Figures(u.Workload, elapsed) {
			if strings.HasPrefix(f.Name, amount.Memory.String()+"_") {
				x.Figures = append(x.Figures, f)
			}
		}
		if r := u.Rest; r != nil && r.Slept >= sleeperTime {
			x.Asleep = &Sleep{Since: r.Since.UTC(), Minutes: r.Slept.Minutes(), Longer: r.Longer}
		}
		m.Workloads = append(m.Workloads, x)
	}
	slices.SortFunc(m.Workloads, func(a, b MemoryUser) int {
		return cmp.Or(cmp.Compare(b.Charged, a.Charged), cmp.Compare(a.ID, b.ID))
	})
	m.close(lines, shares, elapsed, len(g.swapped) > 0)
	return m
}

// close fills in the host-wide lines, and says what cannot be told.
func (m *Memory) close(lines *question.Lines, shares float64, elapsed int64, knowsSwaps bool) {
	mean := func(l question.Line) *float64 {
		if !l.OK() || elapsed == 0 {
			return nil
		}
		v := amount.Memory.Mean(l.Units, elapsed)
		return &v
	}
	m.Capacity, m.Free = mean(lines.Capacity), mean(lines.Idle)
	m.Residual = mean(lines.Residual(shares))
	if elapsed > 0 {
		charged := shares / float64(elapsed)
		m.Charged = &charged
	}
	switch {
	case elapsed == 0:
		m.Notes = append(m.Notes, NothingRecorded)
	case len(m.Swaps) == 0:
		m.Notes = append(m.Notes, "this host has no swap")
	case len(m.Swaps) > 1 && !knowsSwaps:
		m.Notes = append(
			m.Notes,
			"on which of its swaps a workload's pages are is not known: its collector may not "+
				"read page tables (it needs to be root, or to have CAP_SYS_ADMIN), or none are swapped",
		)
	}
}

// swapOn tells where a workload's swapped pages are: where there is one swap they are on it.
func swapOn(g *Gathering, workload int64, swaps []account.Swap, elapsed float64) []SwapOn {
	list := []SwapOn{}
	var f workloadFigures
	on := map[string]amount.Wide{}
	for user, x := range g.measures {
		if user.Workload == workload {
			f.join(x)
		}
	}
	for user, swapped := range g.swapped {
		for name, units := range swapped {
			if user.Workload == workload {
				sum := on[name]
				sum.Plus(*units)
				on[name] = sum
			}
		}
	}
	if swapped := f.units[amount.MemorySwap].Float(); len(swaps) == 1 && swapped > 0 {
		return append(list, SwapOn{swaps[0].Name, swapped / elapsed, f.source[amount.MemorySwap].String()})
	}
	for name, units := range on {
		list = append(list, SwapOn{name, units.Float() / elapsed, amount.Summed.String()})
	}
	slices.SortFunc(list, func(a, b SwapOn) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Swap, b.Swap))
	})
	return list
}
