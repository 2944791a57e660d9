package explain

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// Mate is another workload that uses the same resource.
type Mate struct {
	WorkloadRef
	Tenant string  `json:"tenant"`
	Amount float64 `json:"amount" doc:"CPU seconds on the same CPUs, or bytes."`
	Source string  `json:"source"`

	source amount.Source
}

// mostMates bounds how many mates are listed.
const mostMates = 8

// CPUMates finds what ran on the CPUs that a workload ran on: most CPU time there first.
func CPUMates(workload int64, ran []CPUUse, names Names) []Mate {
	mine := map[int]bool{}
	for _, r := range ran {
		if r.Workload == workload && r.Micros > 0 {
			mine[r.CPU] = true
		}
	}
	there := map[User]*Mate{}
	for _, r := range ran {
		if r.Workload == workload || !mine[r.CPU] || r.Micros == 0 {
			continue
		}
		m := there[r.User]
		if m == nil {
			m = mateOf(r.User, names)
			there[r.User] = m
		}
		m.Amount, m.source = m.Amount+r.Micros/1e6, m.source.Weaker(r.Source)
	}
	return largest(there)
}

// DiskMates lists what else used the disks of a host, in bytes: most first.
func DiskMates(workload int64, uses []HostUse, names Names) []Mate {
	there := map[User]*Mate{}
	for _, u := range uses {
		if u.Workload != workload && u.Units > 0 {
			m := mateOf(u.User, names)
			m.Amount, m.source = u.Units, u.Source
			there[u.User] = m
		}
	}
	return largest(there)
}

func mateOf(u User, names Names) *Mate {
	who := names(u)
	return &Mate{WorkloadRef: who.WorkloadRef, Tenant: who.Tenant}
}

func largest(there map[User]*Mate) []Mate {
	mates := make([]Mate, 0, len(there))
	for _, m := range there {
		m.Source = m.source.String()
		mates = append(mates, *m)
	}
	slices.SortFunc(mates, func(a, b Mate) int {
		return cmp.Or(cmp.Compare(b.Amount, a.Amount), cmp.Compare(a.ID, b.ID), cmp.Compare(a.Tenant, b.Tenant))
	})
	return mates[:min(len(mates), mostMates)]
}
