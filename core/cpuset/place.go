package cpuset

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
