package wire

import (
	"fmt"

	"vinescale/core/amount"
)

// versionOne are the resources of version 1, which named none: their order told which is which.
var versionOne = []string{"cpu", "memory", "disk", "network"}

// upgrade brings an interval of an older version into the form of this one, so that nothing behind Decode needs to know
// of the others.
func (iv *Interval) upgrade() {
	for i, l := range iv.Ledgers {
		if l != nil && l.Resource == "" && i < len(versionOne) {
			l.Resource = versionOne[i]
		}
	}
	for i, u := range iv.Usages {
		if u != nil && u.Resource == "" && i < len(versionOne) {
			u.Resource = versionOne[i]
		}
	}
	p := iv.Programs
	if p == nil || len(p.Columns) > 0 {
		return
	}
	for i, units := range [][]int64{p.Cpu, p.Memory, p.Disk, p.Network} {
		if len(units) > 0 {
			p.Columns = append(p.Columns, &ProgramUse{Resource: versionOne[i], Units: units})
		}
	}
	p.Cpu, p.Memory, p.Disk, p.Network = nil, nil, nil, nil
}

// LedgerOf is the ledger of a resource; nil where the collector does not tell of it.
func (iv *Interval) LedgerOf(r amount.Resource) *Ledger {
	for _, l := range iv.GetLedgers() {
		if l.GetResource() == r.String() {
			return l
		}
	}
	return nil
}

// LineOf is one of a ledger's lines by its name; nil where there is none.
func (l *Ledger) LineOf(name string) *Line {
	switch name {
	case "capacity":
		return l.GetCapacity()
	case "used":
		return l.GetUsed()
	case "idle":
		return l.GetIdle()
	case "kernel":
		return l.GetKernel()
	case "steal":
		return l.GetSteal()
	}
	return nil
}

// UsageOf is the workloads' usage of a resource; nil where the collector does not tell of it.
func (iv *Interval) UsageOf(r amount.Resource) *Usage {
	for _, u := range iv.GetUsages() {
		if u.GetResource() == r.String() {
			return u
		}
	}
	return nil
}

// UnitsOf is the programs' column of a resource; nil where the collector does not tell of it.
func (p *Programs) UnitsOf(r amount.Resource) []int64 {
	for _, c := range p.GetColumns() {
		if c.GetResource() == r.String() {
			return c.GetUnits()
		}
	}
	return nil
}

// checkResources holds the columns of every resource to the workloads, those of resources that are not known here too:
// a newer collector may tell of more, and what is known of its batch is taken.
func (iv *Interval) checkResources(workloads int) error {
	if len(iv.Ledgers) == 0 || len(iv.Usages) == 0 {
		return fmt.Errorf("ledgers and usages must each hold at least one resource")
	}
	seen := map[string]bool{}
	for i, l := range iv.Ledgers {
		if l.GetResource() == "" || seen[l.Resource] {
			return fmt.Errorf("ledger %d names no resource, or one that is there twice", i)
		}
		seen[l.Resource] = true
	}
	clear(seen)
	for i, u := range iv.Usages {
		if u.GetResource() == "" || seen[u.Resource] {
			return fmt.Errorf("usages %d name no resource, or one that is there twice", i)
		}
		seen[u.Resource] = true
		if err := sameLength("usages of "+u.Resource, workloads, len(u.Units), len(u.Peak), len(u.Source)); err != nil {
			return err
		}
		for w := range u.Units {
			if u.Units[w] < 0 || u.Peak[w] < 0 || u.Source[w] > uint32(amount.Unavailable) {
				return fmt.Errorf("usages of %s, workload %d: negative, or of no known source", u.Resource, w)
			}
		}
	}
	clear(seen)
	rows := len(iv.GetPrograms().GetWorkload())
	for i, c := range iv.GetPrograms().GetColumns() {
		if c.GetResource() == "" || seen[c.Resource] {
			return fmt.Errorf("column %d of programs names no resource, or one that is there twice", i)
		}
		seen[c.Resource] = true
		if err := sameLength("programs, "+c.Resource, rows, len(c.Units)); err != nil {
			return err
		}
	}
	return nil
}
