package explain

import (
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// HowGood says how a figure is got, how finely it is told, what it can miss, and why it is not better.
func HowGood(a *account.Ability) string {
	var parts []string
	for _, part := range []struct{ before, text string }{
		{"", a.How}, {"told to ", a.Resolution}, {"can miss ", a.Misses},
		{map[bool]string{true: "because ", false: "not better: "}[a.Source == amount.Unavailable.String()], a.Why},
	} {
		if part.text != "" {
			parts = append(parts, part.before+part.text)
		}
	}
	return strings.Join(parts, "; ")
}

// MeansOf are the ways in which a host counts what workloads use of a resource.
func MeansOf(inv *account.Inventory, r amount.Resource) (means []account.Ability) {
	if inv == nil {
		return nil
	}
	for _, a := range inv.Counting {
		if a.Of == r.String() && a.Whose != "" {
			means = append(means, a)
		}
	}
	return means
}

// MeansFor are those of them that tell what a workload of a kind uses.
func MeansFor(inv *account.Inventory, r amount.Resource, kind amount.Kind) []account.Ability {
	whose := account.OfCgroups
	if kind == amount.Loose {
		whose = account.OfOthers
	}
	return slices.DeleteFunc(MeansOf(inv, r), func(a account.Ability) bool { return a.Whose != whose })
}

// WhyNegative says why a residual may be below zero: what there is on these hosts that counts the same use twice, or at
// another time than the host's own count; "" where the residual is none such.
func WhyNegative(r amount.Resource, lines *question.Lines, shares float64, hosts []*account.Inventory) string {
	residual := lines.Residual(shares)
	if !residual.OK() || residual.Units >= 0 {
		return ""
	}
	source := map[string]bool{} // of any host
	for _, inv := range hosts {
		for _, a := range MeansOf(inv, r) {
			source[a.Source] = true
		}
	}
	switch r {
	case amount.CPU:
		for _, inv := range hosts {
			if steal := lines.Steal; steal.OK() && steal.Units > 0 && !countsTimeOnCPUs(inv) {
				return "what the hypervisor took is in two of the kernel's counters where the time on each CPU is " +
					"not counted: the residual is too low by up to that much"
			}
		}
		return "hosts tell idle time, steal and interrupts in steps of 10 ms, and what workloads ran by the microsecond"
	case amount.Memory:
		return "the kernel charges cgroups some pages ahead on each CPU, and their figures are read one after another"
	case amount.Disk:
		if source[amount.Summed.String()] {
			return "of some workloads writes count when pages are made dirty: they reach a disk later, or never"
		}
		return "requests count when they are issued, and on the device when they are done"
	case amount.Network:
		return "packets count where workloads hand them over: what is dropped before it leaves the host is in no " +
			"interface"
	case amount.GPU:
		return "a GPU tells how busy it is by samples, and its clients' work is counted apart"
	case amount.GPUMemory:
		return "what clients of a GPU share is told of each of them"
	}
	return ""
}

func countsTimeOnCPUs(inv *account.Inventory) bool {
	return inv != nil && slices.ContainsFunc(inv.Counting, func(a account.Ability) bool {
		return a.What == account.TimeOnCPUs && a.Source == amount.Counted.String()
	})
}
