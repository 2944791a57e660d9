package statement

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
)

// Dimensions are what the lines of a statement can be added up by, beside their resource.
var Dimensions = []string{"host", "pools", "kind", "owner", "label", "what"}

// Group is what those lines of a statement add up to that have a resource and a value of a dimension alike.
type Group struct {
	Resource string          `json:"resource"`
	Value    string          `json:"value"`
	Unit     string          `json:"unit"`
	Quantity decimal.Decimal `json:"quantity"`
	Cost     decimal.Decimal `json:"cost"`
}

// By adds up the lines of a statement by one of Dimensions: in the order of resources, the largest first.
func (s *Statement) By(dimension string) ([]Group, error) {
	if !slices.Contains(Dimensions, dimension) {
		return nil, fmt.Errorf("lines cannot be added up by %q: choose one of %s", dimension,
			strings.Join(Dimensions, ", "))
	}
	at := map[[2]string]int{}
	groups := []Group{}
	for i := range s.Lines {
		l := &s.Lines[i]
		value := map[string]string{"host": l.Host, "pools": l.Pools, "kind": l.Kind, "owner": l.Owner, "label": l.Label,
			"what": string(l.What)}[dimension]
		k := [2]string{l.Resource, value}
		n, is := at[k]
		if !is {
			n = len(groups)
			at[k], groups = n, append(groups, Group{Resource: l.Resource, Value: value, Unit: l.Unit})
		}
		groups[n].Quantity, groups[n].Cost = groups[n].Quantity.Add(l.Quantity), groups[n].Cost.Add(l.Cost)
	}
	slices.SortStableFunc(groups, func(a, b Group) int {
		x, _ := amount.ParseResource(a.Resource) // of the register
		y, _ := amount.ParseResource(b.Resource)
		return cmp.Or(int(x)-int(y), b.Quantity.Cmp(a.Quantity), strings.Compare(a.Value, b.Value))
	})
	return groups, nil
}
