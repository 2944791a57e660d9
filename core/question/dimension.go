package question

import (
	"fmt"
	"slices"
	"strings"

	"vinescale/core/account"
)

// Dimension is what sums are grouped by.
type Dimension string

// The dimensions that are not a fact or a label of workloads.
const (
	Tenant   Dimension = "tenant" // to whom usage was accounted at its time
	User     Dimension = "user"   // the owner of the workload
	Workload Dimension = "workload"
	Kind     Dimension = "kind"
	Host     Dimension = "host"
	Program  Dimension = "program" // what processes run
	Family   Dimension = "family"  // the program at the head of a family of processes
	CPU      Dimension = "cpu"     // the logical CPU that time was spent on
	Part     Dimension = "part"    // a virtual CPU of a machine, or a step of a job
)

// facts are the dimensions that are a fact of the workload.
var facts = []struct {
	by   Dimension
	fact string
}{
	{"pod", account.FactPod}, {"pod_namespace", account.FactNamespace}, {"image", account.FactImage},
	{"account", account.FactAccount}, {"partition", account.FactPartition},
}

// labelPrefix begins a dimension that groups by the value of a label: "label:KEY".
const labelPrefix = "label:"

// Fact is the name of the workload's fact that the dimension groups by; "" where it is none.
func (d Dimension) Fact() string {
	for _, f := range facts {
		if f.by == d {
			return f.fact
		}
	}
	return ""
}

// Label is the key of the label that the dimension groups by; "" where it is none.
func (d Dimension) Label() string {
	key, _ := strings.CutPrefix(string(d), labelPrefix)
	if key == string(d) {
		return ""
	}
	return key
}

// Dimensions lists what shares can be grouped by, beside labels.
func Dimensions() []string {
	names := []string{}
	for _, d := range []Dimension{Tenant, User, Workload, Kind, Host, Program, Family} {
		names = append(names, string(d))
	}
	for _, f := range facts {
		names = append(names, string(f.by))
	}
	return names
}

// Divisions lists what the CPU time of workloads can be divided by, beside what shares can be grouped by.
func Divisions() []string { return []string{string(CPU), string(Part)} }

// ParseDimension reads a word that shares can be grouped by: one of Dimensions, or label:KEY.
func ParseDimension(word string) (Dimension, error) {
	if slices.Contains(Dimensions(), word) || Dimension(word).Label() != "" {
		return Dimension(word), nil
	}
	return "", fmt.Errorf("cannot group by %q: choose one of %s, or label:KEY", word, strings.Join(Dimensions(), ", "))
}
