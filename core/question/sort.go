package question

import (
	"cmp"
	"fmt"
	"slices"

	"vinescale/core/amount"
)

// KeyOf is where a row stands in a list of an order, of rows that a question groups. What is unassigned comes first
// where tenants are sorted by amount; a row without a figure comes after those that have one.
func (q *Question) KeyOf(r *Row) Key {
	n := &r.Names
	k := Key{Units: -1, Rest: fmt.Sprintf("%s\x01%s\x01%s\x01%s\x01%s\x01%s\x01%s\x01%020d\x01%010d\x01%010d\x01%010d",
		r.Name, n.Host, n.Workload, r.Family, n.Kind, n.Owner, n.Tenant, r.Workload, r.Tenant, r.Host, r.CPU)}
	var first Sum
	if len(r.Sums) > 0 {
		first = r.Sums[0]
	}
	if first.Known() {
		k.Units = first.Units
	}
	switch q.Order.By {
	case "name":
		k.Text = r.Name
	case "kind":
		k.Text = r.Names.Kind
	case "owner":
		k.Text = r.Names.Owner
	case "tenant":
		k.Text = r.Names.Tenant
	case "host":
		k.Text = r.Names.Host
	case "source":
		k.Text = first.Source.String()
	case "parts":
		k.Number = float64(r.Parts)
	case "peak":
		k.Number = -1
		if first.Known() {
			k.Number = first.Peak
		}
	default:
		k.Number = k.Units
		if slices.Equal(q.By, []Dimension{Tenant}) && r.Tenant == 0 {
			k.Number = FirstOfAll
		}
	}
	return k
}

// FirstOfAll is a number that is larger than any amount, for what comes first.
const FirstOfAll = 1e300

// Compare puts two rows into order by their keys: negative where a comes first.
func (o Order) Compare(a, b *Key) int {
	by := cmp.Compare(b.Number, a.Number)
	if o.IsText() {
		by = cmp.Compare(a.Text, b.Text)
	}
	if o.Turned {
		by = -by
	}
	return cmp.Or(by, cmp.Compare(b.Units, a.Units), cmp.Compare(a.Rest, b.Rest))
}

// Arrange sorts rows and cuts the page that a question asks for out of them, for answers that were not sorted where
// they are stored.
func (q *Question) Arrange(rows []Row) *Answer {
	a := &Answer{Rows: rows, Total: Total{Rows: len(rows), Units: make([]float64, len(q.Measures))}}
	keys := make(map[*Row]Key, len(rows))
	order := make([]*Row, len(rows))
	for i := range rows {
		order[i], keys[&rows[i]] = &rows[i], q.KeyOf(&rows[i])
	}
	slices.SortFunc(order, func(x, y *Row) int {
		kx, ky := keys[x], keys[y]
		return cmp.Or(x.Start.Compare(y.Start), q.Order.Compare(&kx, &ky))
	})
	for _, r := range order { // in one order whatever page is asked for, so that all of them tell the same
		for m := range r.Sums {
			a.Total.Units[m] += r.Sums[m].Units
		}
	}
	a.Rows = make([]Row, 0, len(rows))
	for _, r := range order {
		k := keys[r]
		if q.Step > 0 {
			a.Rows = append(a.Rows, *r)
			continue
		}
		if q.Page.After != nil && q.Order.Compare(&k, q.Page.After) <= 0 {
			continue
		}
		if q.Page.First > 0 && len(a.Rows) == q.Page.First {
			last := q.KeyOf(&a.Rows[len(a.Rows)-1])
			a.Next = &last
			break
		}
		a.Rows = append(a.Rows, *r)
	}
	return a
}

// NoFigure is a sum of which nothing is known.
func NoFigure(parts int) Sum { return Sum{Source: amount.Unavailable, Missing: parts, Untold: parts} }
