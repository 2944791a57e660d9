package statement

import (
	"slices"
	"time"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
)

// Correction is a change of a closed statement that somebody made: of an amount, of a cost, or of both. It becomes a
// line of the tenant's next statement.
type Correction struct {
	ID       int64            `json:"id"`
	Corrects int64            `json:"corrects" doc:"The number of the statement."`
	Tenant   string           `json:"tenant"`
	Resource string           `json:"resource"`
	Quantity decimal.Decimal  `json:"quantity" doc:"In unit: what is added, below zero for what is taken off."`
	Unit     string           `json:"unit"`
	Cost     *decimal.Decimal `json:"cost" doc:"What is added to the cost; null where the price of then gives it."`
	Reason   string           `json:"reason"`
	MadeBy   string           `json:"made_by"`
	MadeAt   time.Time        `json:"made_at"`
	In       int64            `json:"in_statement" doc:"The number of the statement that has it; 0 until then."`
}

// Before is a closed window that an account may have to correct: its statements, and what the book has of it now.
type Before struct {
	Closed []Statement
	Later  []Later // lines of statements since then that correct one of these
	Tariff Tariff  // that it was closed with
	Now    *Account
}

// Later is a line of a later statement, with whose it is.
type Later struct {
	Tenant string
	Line   Line
}

// Correct adds to an account what the book has of windows before and their statements have not, such as intervals that
// came late or usage that a changed rule gave to another; and what somebody corrected by hand.
func (a *Account) Correct(before []Before, by []Correction) {
	of := map[string]*Statement{}
	for i := range a.Statements {
		of[a.Statements[i].Tenant] = &a.Statements[i]
	}
	var more []Statement
	add := func(tenant string, l Line) {
		s := of[tenant]
		if s == nil { // it had nothing in this window
			first := a.Statements[0]
			s = &Statement{Tenant: tenant, Window: first.Window, From: first.From, To: first.To, Zone: first.Zone,
				Currency: first.Currency, Split: first.Split,
				KeepIdle: first.KeepIdle, LabelKey: first.LabelKey, Held: []Holding{},
				Limits: []Limit{}, Coverage: first.Coverage, Notes: []string{}}
			of[tenant] = s
		}
		s.Lines = append(s.Lines, l)
	}
	for i := range before {
		for tenant, lines := range before[i].changes() {
			for k := range lines {
				add(tenant, lines[k])
			}
		}
	}
	for i := range by {
		c := &by[i]
		r, err := amount.ParseResource(c.Resource)
		if err != nil {
			continue // it was checked when it was made
		}
		unit, per := r.Priced()
		l := Line{From: a.From, To: a.To, What: Manual, Resource: c.Resource, Corrects: c.Corrects, Reason: c.Reason,
			Unit: unit, Quantity: c.Quantity, Units: c.Quantity.Mul(decimal.NewFromInt(per)).Round(0)}
		if c.Cost != nil {
			l.Cost = *c.Cost
		}
		add(c.Tenant, l)
	}
	for name, s := range of {
		slices.SortStableFunc(s.Lines, compareLines)
		s.sum()
		if !slices.ContainsFunc(a.Statements, func(x Statement) bool { return x.Tenant == name }) {
			more = append(more, *s)
		}
	}
	a.Statements = append(a.Statements, more...)
	slices.SortFunc(a.Statements, func(x, y Statement) int { return compareTenants(x.Tenant, y.Tenant) })
}

// stated is what lines of a closed window are summed by to see what has changed since.
type stated struct {
	tenant   string
	what     What
	resource string
	host     string
	from, to int64
}

// changes are the lines, by tenant, that make the statements of a closed window agree with the book as it is now.
func (b *Before) changes() map[string][]Line {
	type sum struct {
		then, now decimal.Decimal
		line      Line
	}
	sums := map[stated]*sum{}
	at := func(tenant string, l *Line) *sum {
		k := stated{tenant, l.What, l.Resource, l.Host, l.From.UnixMicro(), l.To.UnixMicro()}
		if sums[k] == nil {
			sums[k] = &sum{line: Line{From: l.From, To: l.To, What: l.What, Resource: l.Resource, Host: l.Host,
				Pools: l.Pools}}
		}
		return sums[k]
	}
	numbers := map[string]int64{}
	for i := range b.Closed {
		s := &b.Closed[i]
		numbers[s.Tenant] = s.Number
		for k := range s.Lines {
			if l := &s.Lines[k]; l.Corrects == 0 {
				x := at(s.Tenant, l)
				x.then = x.then.Add(l.Units)
			}
		}
	}
	for i := range b.Later {
		if l := &b.Later[i].Line; l.What != Manual {
			x := at(b.Later[i].Tenant, l)
			x.then = x.then.Add(l.Units)
		}
	}
	for i := range b.Now.Statements {
		s := &b.Now.Statements[i]
		for k := range s.Lines {
			x := at(s.Tenant, &s.Lines[k])
			x.now = x.now.Add(s.Lines[k].Units)
		}
	}
	changes := map[string][]Line{}
	for k, x := range sums {
		if x.now.Equal(x.then) {
			continue
		}
		l := x.line
		l.Units, l.Reason = x.now.Sub(x.then), "the book has it otherwise than when "+b.Now.Window+" was closed"
		l.put(&b.Tariff)
		if l.Corrects = numbers[k.tenant]; l.Corrects == 0 { // it had none then: that of what is shared is named
			l.Corrects = numbers[Shared]
		}
		changes[k.tenant] = append(changes[k.tenant], l)
	}
	return changes
}
