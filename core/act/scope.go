package act

import (
	"fmt"
	"slices"
	"strings"
)

// Scope is on whose workloads, and on which hosts, an operator may act. A list that is empty stands for all; both empty
// is everywhere.
type Scope struct {
	Tenants []string `json:"tenants"`
	Pools   []string `json:"pools"`
}

// IsEverywhere tells whether a scope has no bounds.
func (s *Scope) IsEverywhere() bool { return len(s.Tenants) == 0 && len(s.Pools) == 0 }

// Allows says whether the scope holds what is of some tenants, on a host in some pools; the error says what is outside.
func (s *Scope) Allows(host string, pools, tenants []string) error {
	if len(s.Pools) > 0 && !slices.ContainsFunc(pools, func(p string) bool { return slices.Contains(s.Pools, p) }) {
		return fmt.Errorf("%s is in none of the pools that this operator may act in (%s)", host,
			strings.Join(s.Pools, ", "))
	}
	if len(s.Tenants) == 0 {
		return nil
	}
	for _, t := range tenants {
		if !slices.Contains(s.Tenants, t) {
			return fmt.Errorf("it touches what is of %s, and this operator may act for %s only", t,
				strings.Join(s.Tenants, ", "))
		}
	}
	if len(tenants) == 0 {
		return fmt.Errorf("it is not known whose it is, and this operator may act for %s only",
			strings.Join(s.Tenants, ", "))
	}
	return nil
}
