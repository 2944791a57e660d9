package amount

import (
	"fmt"
	"strings"
)

// Resource is one thing a host has a limited amount of. The zero value is CPU.
type Resource uint8

// The resources of this ledger, in the order they are shown.
const (
	CPU Resource = iota
	Memory
	Disk
	Network
	NumResources int = iota
)

// Resources lists every resource in display order.
func Resources() []Resource { return []Resource{CPU, Memory, Disk, Network} }

type resourceFacts struct {
	name, unit, meanUnit string
	perUnit              float64 // account units in one unit of the amount
}

// A ledger counts in whole account units, so that sums are exact:
// CPU in microseconds, memory in byte-milliseconds, disk and network in bytes.
var resources = [NumResources]resourceFacts{
	CPU:     {"cpu", "cpu_seconds", "cores", 1e6},
	Memory:  {"memory", "bytes", "bytes", 1},
	Disk:    {"disk", "bytes", "bytes_per_second", 1},
	Network: {"network", "bytes", "bytes_per_second", 1},
}

func (r Resource) String() string { return resources[r].name }

// Unit names the unit of an amount over an interval: cpu_seconds or bytes.
func (r Resource) Unit() string { return resources[r].unit }

// MeanUnit names the unit of the mean over an interval: cores, bytes or bytes_per_second.
func (r Resource) MeanUnit() string { return resources[r].meanUnit }

// IsLevel tells a level (stands at a height) from a flow (accumulates).
func (r Resource) IsLevel() bool { return r == Memory }

// Amount converts account units gathered over an interval into Unit.
// A level's amount is its time-weighted mean over the interval, so a level over no time is 0.
func (r Resource) Amount(units float64, elapsedMillis int64) float64 {
	if r.IsLevel() {
		return r.Mean(units, elapsedMillis)
	}
	return units / resources[r].perUnit
}

// Mean converts account units gathered over an interval into MeanUnit. Over no time it is 0.
func (r Resource) Mean(units float64, elapsedMillis int64) float64 {
	if elapsedMillis <= 0 {
		return 0
	}
	if r.IsLevel() {
		return units / float64(elapsedMillis)
	}
	return units / resources[r].perUnit / (float64(elapsedMillis) / 1e3)
}

// ParseResource reads a resource's name. The error names the resources there are.
func ParseResource(s string) (Resource, error) {
	for _, r := range Resources() {
		if resources[r].name == s {
			return r, nil
		}
	}
	return 0, fmt.Errorf("unknown resource %q: choose one of %s", s, strings.Join(ResourceNames(), ", "))
}

// ResourceNames lists what ParseResource accepts.
func ResourceNames() []string {
	names := make([]string, 0, NumResources)
	for _, r := range Resources() {
		names = append(names, r.String())
	}
	return names
}
