package wire

import "vinescale/core/amount"

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
