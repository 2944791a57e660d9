package statement

import (
	"cmp"
	"slices"
	"strings"

	"github.com/shopspring/decimal"
)

// Growth is how a statement's amount of a resource compares with that of the window before, corrections left out.
type Growth struct {
	Resource string          `json:"resource"`
	Unit     string          `json:"unit"`
	Before   decimal.Decimal `json:"before"`
	Now      decimal.Decimal `json:"now"`
	CostWas  decimal.Decimal `json:"cost_before"`
	CostIs   decimal.Decimal `json:"cost_now"`
	Whose    []Grew          `json:"whose" doc:"Whose use changed most, at most three."`
}

// Grew is how much more somebody used of a resource on one host than in the window before.
type Grew struct {
	Host  string          `json:"host"`
	Kind  string          `json:"kind"`
	Owner string          `json:"owner"`
	More  decimal.Decimal `json:"more" doc:"Below zero for less."`
}

// mostGrew is how many users a growth names.
const mostGrew = 3

// Compare tells what grew, and whose: the tenant's statement of a window against that of the window before, which may
// be nil where there was none.
func Compare(now, before *Statement) []Growth {
	type user struct{ host, kind, owner string }
	type sums struct {
		g     Growth
		users map[user]decimal.Decimal
	}
	of := map[string]*sums{}
	var names []string
	add := func(s *Statement, isNow bool) {
		for i := range s.Lines {
			l := &s.Lines[i]
			if l.Corrects != 0 {
				continue
			}
			x := of[l.Resource]
			if x == nil {
				x = &sums{Growth{Resource: l.Resource, Unit: l.Unit, Whose: []Grew{}}, map[user]decimal.Decimal{}}
				of[l.Resource] = x
				names = append(names, l.Resource)
			}
			quantity := l.Quantity
			if isNow {
				x.g.Now, x.g.CostIs = x.g.Now.Add(quantity), x.g.CostIs.Add(l.Cost)
			} else {
				x.g.Before, x.g.CostWas = x.g.Before.Add(quantity), x.g.CostWas.Add(l.Cost)
				quantity = quantity.Neg()
			}
			if l.What == Used {
				u := user{l.Host, l.Kind, l.Owner}
				x.users[u] = x.users[u].Add(quantity)
			}
		}
	}
	add(now, true)
	if before != nil {
		add(before, false)
	}
	list := make([]Growth, 0, len(names))
	for _, name := range names {
		x := of[name]
		for u, more := range x.users {
			if !more.IsZero() {
				x.g.Whose = append(x.g.Whose, Grew{u.host, u.kind, u.owner, more})
			}
		}
		slices.SortFunc(x.g.Whose, func(a, b Grew) int {
			return cmp.Or(b.More.Abs().Cmp(a.More.Abs()), strings.Compare(a.Host+a.Kind+a.Owner, b.Host+b.Kind+b.Owner))
		})
		x.g.Whose = x.g.Whose[:min(len(x.g.Whose), mostGrew)]
		list = append(list, x.g)
	}
	return list
}
