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
	k := q.figureKeyOf(r)
	k.Rest = fmt.Sprintf("%s\x01%s\x01%s\x01%s\x01%s\x01%s\x01%s\x01%020d\x01%010d\x01%010d\x01%010d",
		r.Name, n.Host, n.Workload, r.Family, n.Kind, n.Owner, n.Tenant, r.Workload, r.Tenant, r.Host, r.CPU)
	switch q.Order.By {
	case "name":
		k.Text = r.Name
	case "kind":
		k.Text = n.Kind
	case "owner":
		k.Text = n.Owner
	case "tenant":
		k.Text = n.Tenant
	case "host":
		k.Text = n.Host
	}
	return k
}

// ordersByName are those that go by what rows are called.
var ordersByName = []string{"name", "kind", "owner", "tenant", "host"}

// figureKeyOf is what of a row's key needs no names.
func (q *Question) figureKeyOf(r *Row) Key {
	k := Key{Units: -1}
	var first Sum
	if len(r.Sums) > 0 {
		first = r.Sums[0]
	}
	if first.Known() {
		k.Units = first.Units
	}
	switch q.Order.By {
	case "source":
		k.Text = first.Source.String()
	case "parts":
		k.Number = float64(r.Parts)
	case "peak":
		k.Number = -1
		if first.Known() {
			k.Number = first.Peak
		}
	case "", "amount":
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
	if by != 0 { // as it mostly is
		return by
	}
	return cmp.Or(cmp.Compare(b.Units, a.Units), cmp.Compare(a.Rest, b.Rest))
}

// Near keeps those of many rows that may be on the page asked for, whatever they are called, with the total of all. All
// are near where the order goes by names, or all are asked for.
func (q *Question) Near(rows []Row) ([]Row, Total) {
	t := Total{Rows: len(rows), Units: make([]float64, len(q.Measures))}
	keys, order := make([]Key, len(rows)), make([]int, len(rows))
	for i := range rows {
		keys[i], order[i] = q.figureKeyOf(&rows[i]), i
	}
	slices.SortFunc(order, func(x, y int) int { return q.Order.Compare(&keys[x], &keys[y]) })
	for _, i := range order { // in one order whatever page is asked for, so that all of them tell the same
		for m := range rows[i].Sums {
			t.Units[m] += rows[i].Sums[m].Units
		}
	}
	if q.Step > 0 || q.Page.First == 0 || slices.Contains(ordersByName, q.Order.By) {
		return rows, t
	}
	var near []Row
	var last Key
	counted := 0
	for _, i := range order {
		if q.Page.After != nil {
			after := Key{Number: q.Page.After.Number, Text: q.Page.After.Text, Units: q.Page.After.Units}
			switch c := q.Order.Compare(&keys[i], &after); {
			case c < 0:
				continue
			case c == 0: // it may have been on the page before
				near = append(near, rows[i])
				continue
			}
		}
		// One more than the page tells that there is another. Rows of equal figures go by their names.
		if counted > q.Page.First && q.Order.Compare(&keys[i], &last) > 0 {
			break
		}
		near, last = append(near, rows[i]), keys[i]
		counted++
	}
	return near, t
}

// Arrange sorts rows and cuts the page that a question asks for out of them.
func (q *Question) Arrange(rows []Row) *Answer {
	near, total := q.Near(rows)
	return q.ArrangeNear(near, total)
}

// ArrangeNear is Arrange of the rows that Near found, which have their names by now.
func (q *Question) ArrangeNear(rows []Row, total Total) *Answer {
	a := &Answer{Rows: rows, Total: total}
	keys, order := make([]Key, len(rows)), make([]int, len(rows))
	for i := range rows {
		keys[i], order[i] = q.KeyOf(&rows[i]), i
	}
	slices.SortFunc(order, func(x, y int) int {
		if c := rows[x].Start.Compare(rows[y].Start); c != 0 {
			return c
		}
		return q.Order.Compare(&keys[x], &keys[y])
	})
	a.Rows = make([]Row, 0, len(rows))
	for _, i := range order {
		r, k := &rows[i], keys[i]
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
