package tenancy

import (
	"fmt"
	"slices"
	"strings"

	"vinescale/core/amount"
)

// Scope is on which hosts a quota holds. The zero value is all of them.
type Scope struct {
	Kind ScopeKind
	Name string // of the pool or host; empty for the fleet
}

// ScopeKind tells what a scope names.
type ScopeKind string

// The kinds of scopes.
const (
	Fleet    ScopeKind = "fleet"
	HostPool ScopeKind = "pool"
	OneHost  ScopeKind = "host"
)

// ScopeOf makes a scope of a kind and a name.
func ScopeOf(kind, name string) (Scope, error) {
	s := Scope{Kind: ScopeKind(kind), Name: name}
	switch {
	case kind == "" && name == "":
		s.Kind = Fleet
	case !slices.Contains([]ScopeKind{Fleet, HostPool, OneHost}, s.Kind):
		return Scope{}, fmt.Errorf("a scope of kind %q: choose fleet, pool or host", kind)
	case (s.Kind == Fleet) != (name == ""):
		return Scope{}, fmt.Errorf(
			"a scope of %s %q: a pool or a host has a name, and the fleet has none",
			kind,
			name,
		)
	}
	return s, nil
}

// String is the scope in words: the fleet, pool presses, host press-1.
func (s Scope) String() string {
	if s.Kind == Fleet || s.Kind == "" {
		return "the fleet"
	}
	return string(s.Kind) + " " + s.Name
}

// Basis is what of a tenant's a quota is held against.
type Basis string

// The bases.
const (
	Used    Basis = "used"    // what it used
	Held    Basis = "held"    // what it is entitled to: limits, reservations, allotments
	Greater Basis = "greater" // of each workload, the greater of both
)

// ParseBasis reads a basis; used for an empty word.
func ParseBasis(word string) (Basis, error) {
	if word == "" {
		return Used, nil
	}
	if b := Basis(word); slices.Contains([]Basis{Used, Held, Greater}, b) {
		return b, nil
	}
	return "", fmt.Errorf("a quota of what is %q: choose used, held or greater", word)
}

// Counted is something beside the register that a ceiling may be set on: what is there is counted at the end of the
// newest interval.
type Counted string

// What is counted.
const (
	Processes  Counted = "processes"
	Threads    Counted = "threads"
	GPUDevices Counted = "gpu_devices" // allotted to its workloads
)

// AllCounted lists what is counted.
var AllCounted = []Counted{Processes, Threads, GPUDevices}

// QuotaNames lists what quotas may be set on.
func QuotaNames() []string {
	names := append(amount.ResourceNames(), amount.SpaceUsed.String())
	for _, c := range AllCounted {
		names = append(names, string(c))
	}
	return names
}

// QuotaUnit is in what a ceiling, or an allowance, of something is given. It fails for a name that is none, and for an
// allowance of what does not add up over time.
func QuotaUnit(name string, isAllowance bool) (string, error) {
	if !slices.Contains(QuotaNames(), name) {
		return "", fmt.Errorf("a quota of %q: choose one of %s", name, strings.Join(QuotaNames(), ", "))
	}
	m, err := amount.Parse(name)
	switch {
	case err != nil && isAllowance || err == nil && isAllowance && !m.HasLedger():
		return "", fmt.Errorf(
			"an allowance of %s: what is only counted at a moment can have a ceiling, and no allowance; "+
				"allowances are of %s",
			name,
			strings.Join(amount.ResourceNames(), ", "),
		)
	case err != nil:
		return "count", nil
	case isAllowance:
		return m.Entry().Unit.Spent, nil
	}
	return m.MeanUnit(), nil
}

// Basable tells whether something of a name can be held: what has limits, reservations or allotments.
func Basable(name string) bool {
	return slices.Contains([]string{amount.CPU.String(), amount.Memory.String(), amount.GPU.String()}, name)
}

// Family is a tree of tenants: parents by tenant, 0 for one that is part of no other.
type Family map[int32]int32

// WithParts lists a tenant and all that are parts of it, itself first and the rest by number.
func (f Family) WithParts(tenant int32) []int32 {
	list := []int32{tenant}
	for t := range f {
		if t != tenant && f.isWithin(t, tenant) {
			list = append(list, t)
		}
	}
	slices.Sort(list[1:])
	return list
}

// Parts lists the tenants that are parts of one directly, by number.
func (f Family) Parts(tenant int32) (parts []int32) {
	for t, parent := range f {
		if parent == tenant {
			parts = append(parts, t)
		}
	}
	slices.Sort(parts)
	return parts
}

// isWithin tells whether a tenant is a part of another, or a part of a part.
func (f Family) isWithin(tenant, whole int32) bool {
	for range f { // no chain is longer than there are tenants
		if tenant = f[tenant]; tenant == whole || tenant == 0 {
			return tenant == whole
		}
	}
	return false
}

// WouldTurn tells whether a tenant, made a part of another, would come to be a part of itself.
func (f Family) WouldTurn(tenant, parent int32) bool {
	return parent != 0 && (parent == tenant || f.isWithin(parent, tenant))
}
