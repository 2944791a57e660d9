package act

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"vinescale/core/amount"
)

// Policy is what a host's administrator allows to be done there, whatever the service is asked for. Its zero value
// allows nothing.
type Policy struct {
	Allow []Allowance `yaml:"allow"`
	Never Never       `yaml:"never"`
}

// Allowance allows some acts on some workloads. A list that is left out stands for all, but for acts.
type Allowance struct {
	Acts    []string `yaml:"acts"`    // by name, or "all"
	Kinds   []string `yaml:"kinds"`   // of workloads
	Tenants []string `yaml:"tenants"` // by name; "unassigned" is what is nobody's
}

// Never lists what is never touched, by patterns such as "press-*".
type Never struct {
	Programs  []string `yaml:"programs"`
	Users     []string `yaml:"users"`
	Workloads []string `yaml:"workloads"` // by name or by key
	Units     []string `yaml:"units"`
}

// AllActs stands for every act in a policy.
const AllActs = "all"

// ParsePolicy reads a policy, in YAML. A word that is not known is an error, so that one misspelt allows nothing and
// forbids nothing by accident.
func ParsePolicy(text []byte) (*Policy, error) {
	var p Policy
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(&p); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	for i, a := range p.Allow {
		if len(a.Acts) == 0 {
			return nil, fmt.Errorf("allow %d names no acts: list them, or write [all]", i+1)
		}
		for _, name := range a.Acts {
			if _, err := Verb(name).check(); err != nil && name != AllActs {
				return nil, fmt.Errorf("allow %d: %w", i+1, err)
			}
		}
		for _, kind := range a.Kinds {
			if _, err := amount.ParseKind(kind); err != nil {
				return nil, fmt.Errorf("allow %d: %w", i+1, err)
			}
		}
	}
	for _, patterns := range [][]string{p.Never.Programs, p.Never.Users, p.Never.Workloads, p.Never.Units} {
		for _, x := range patterns {
			if _, err := path.Match(x, ""); err != nil {
				return nil, fmt.Errorf("never: the pattern %q cannot be read: %w", x, err)
			}
		}
	}
	return &p, nil
}

// Touched is a workload that an act would touch.
type Touched struct {
	Key, Name, Kind, Tenant, Unit string
}

// Decide says whether an act on a workload is allowed; the error says why not.
func (p *Policy) Decide(v Verb, w *Touched) error {
	if hits(p.Never.Workloads, w.Name) || hits(p.Never.Workloads, w.Key) {
		return fmt.Errorf("this host's policy says that %s is never touched", w.Name)
	}
	if w.Unit != "" && hits(p.Never.Units, w.Unit) {
		return fmt.Errorf("this host's policy says that the unit %s is never touched", w.Unit)
	}
	has := func(list []string, word string) bool { return list == nil || slices.Contains(list, word) }
	for _, a := range p.Allow {
		if (slices.Contains(a.Acts, AllActs) || slices.Contains(a.Acts, string(v))) && has(a.Kinds, w.Kind) &&
			has(a.Tenants, w.Tenant) {
			return nil
		}
	}
	return fmt.Errorf("this host's policy does not allow %s on a %s of %s", v, w.Kind, w.Tenant)
}

// Spares tells why a process is never touched; empty where it may be. More is how it is also known.
func (p *Policy) Spares(user string, programs ...string) string {
	if hits(p.Never.Users, user) {
		return "this host's policy says that processes of " + user + " are never touched"
	}
	for _, program := range programs {
		if program != "" && hits(p.Never.Programs, program) {
			return "this host's policy says that the program " + program + " is never touched"
		}
	}
	return ""
}

func hits(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		is, _ := path.Match(strings.ReplaceAll(p, "/", "\x00"), strings.ReplaceAll(name, "/", "\x00"))
		return is
	})
}
