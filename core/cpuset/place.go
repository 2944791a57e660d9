package cpuset

import (
	"cmp"
	"slices"
)

// Place is where a logical CPU is: its core within its package, and its node. Core, package and node are -1 where they
// are not known.
type Place struct{ CPU, Core, Package, Node int }

// Places are those of all CPUs of a host, in any order.
type Places []Place

// Siblings are the CPUs that share a core with one of a set, without the set itself.
func (p Places) Siblings(of Set) Set {
	type core struct{ core, pack int }
	cores := map[core]bool{}
	for _, x := range p {
		if of.Has(x.CPU) && x.Core >= 0 {
			cores[core{x.Core, x.Package}] = true
		}
	}
	var siblings Set
	for _, x := range p {
		if cores[core{x.Core, x.Package}] && !of.Has(x.CPU) {
			siblings = siblings.With(x.CPU)
		}
	}
	return siblings
}

// Nodes lists the nodes that a set has CPUs of, in order. CPUs whose node is not known are passed over.
func (p Places) Nodes(of Set) []int {
	var nodes Set
	for _, x := range p {
		if of.Has(x.CPU) {
			nodes = nodes.With(x.Node) // -1 is no member
		}
	}
	return nodes.CPUs()
}

// All is the set of all CPUs of the host.
func (p Places) All() Set {
	var all Set
	for _, x := range p {
		all = all.With(x.CPU)
	}
	return all
}

// Numbered are the CPUs that stand at some places when all of a host's are ordered by package, core and thread, from 0,
// as batch schedulers number them. Cores of a package are in the order of their first CPUs. Where a place is beyond the
// last CPU, or where some core is is not known, the numbers are taken to be the kernel's.
func (p Places) Numbered(at Set) Set {
	type core struct{ pack, core int }
	first := map[core]int{}
	for _, x := range p {
		if x.Core < 0 || x.Package < 0 {
			return at
		}
		of := core{x.Package, x.Core}
		if cpu, is := first[of]; !is || x.CPU < cpu {
			first[of] = x.CPU
		}
	}
	order := slices.SortedFunc(slices.Values(p), func(a, b Place) int {
		return cmp.Or(a.Package-b.Package, first[core{a.Package, a.Core}]-first[core{b.Package, b.Core}], a.CPU-b.CPU)
	})
	var cpus Set
	for _, n := range at.CPUs() {
		if n >= len(order) {
			return at
		}
		cpus = cpus.With(order[n].CPU)
	}
	return cpus
}
