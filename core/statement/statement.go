package statement

import (
	"time"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
)

// The names of the two statements that are no tenant's.
const (
	Shared     = "shared"     // what is not split over tenants
	Unassigned = "unassigned" // what no rule assigns
)

// What says what a line is of.
type What string

// What lines are of. Those of a window add up to its ledger: used + kernel + steal + residual is what hosts used, and
// with idle it is what they could have.
const (
	Used     What = "used"
	Kernel   What = "kernel"
	Idle     What = "idle"
	Steal    What = "steal"
	Residual What = "residual"
	Manual   What = "manual" // a correction that somebody made; of no ledger
)

// Line is an amount of one resource within a part of a window that has one price.
type Line struct {
	From     time.Time        `json:"from"`
	To       time.Time        `json:"to"`
	What     What             `json:"what" enum:"used,kernel,idle,steal,residual,manual"`
	Resource string           `json:"resource"`
	Host     string           `json:"host"`
	Pools    string           `json:"pools" doc:"The pools that the host is in when the statement is made."`
	Kind     string           `json:"kind"`
	Owner    string           `json:"owner"`
	Label    string           `json:"label" doc:"The value of the tariff's label."`
	Units    decimal.Decimal  `json:"units" doc:"Exact, in the units that the ledger counts in: whole numbers."`
	Unit     string           `json:"unit" doc:"That of quantity and price, such as core_hours."`
	Quantity decimal.Decimal  `json:"quantity" doc:"Rounded to nine digits behind the point."`
	Price    *decimal.Decimal `json:"price" doc:"Of a unit; null where it has none."`
	Cost     decimal.Decimal  `json:"cost" doc:"Quantity times price, exact; 0 where it has no price."`
	Missing  int              `json:"missing" doc:"Workloads that lack a figure: the amount lacks theirs."`
	Corrects int64            `json:"corrects" doc:"The number of the statement that it corrects; 0 for none."`
	Reason   string           `json:"reason" doc:"Of a correction."`
}

// Statement is a tenant's account for a window, or that of what is shared.
type Statement struct {
	Number   int64     `json:"number" doc:"0 for a draft."`
	Tenant   string    `json:"tenant" doc:"Or shared, or unassigned."`
	Window   string    `json:"window" doc:"Such as 2026-10, or its first day."`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Zone     string    `json:"zone"`
	Currency string    `json:"currency" doc:"Empty where nothing has a price."`
	Split    Key       `json:"split" enum:"none,use,equal,shares"`
	KeepIdle bool      `json:"keep_idle" doc:"What stood idle is not split."`
	LabelKey string    `json:"label_key"`

	Lines    []Line          `json:"lines"`
	Totals   []Total         `json:"totals" doc:"By resource, corrections included."`
	Cost     decimal.Decimal `json:"cost" doc:"The sum of all lines, exact."`
	Held     []Holding       `json:"held" doc:"What it was entitled to, and did not use."`
	Limits   []Limit         `json:"limits" doc:"Its quotas."`
	Coverage []Coverage      `json:"coverage" doc:"Hosts that did not tell of the whole window."`
	Notes    []string        `json:"notes"`

	ClosedAt *time.Time `json:"closed_at" doc:"Null for a draft."`
	ClosedBy string     `json:"closed_by"`
	Hash     string     `json:"hash" doc:"SHA-256 over its lines and the hash of the statement before; hexadecimal."`
	Follows  string     `json:"follows" doc:"The hash of the statement with the number before; empty for the first."`
}

// Total is the sum of a statement's lines of one resource.
type Total struct {
	Resource  string          `json:"resource"`
	Unit      string          `json:"unit"`
	Used      decimal.Decimal `json:"used"      doc:"In unit; without corrections."`
	Borne     decimal.Decimal `json:"borne"     doc:"Its part of what the kernel had and what stood idle."`
	Corrected decimal.Decimal `json:"corrected"`
	Missing   int             `json:"missing" doc:"Workloads that lack a figure: the amounts lack theirs."`
	Cost      decimal.Decimal `json:"cost"`
}

// Holding is what a tenant was entitled to of a resource, as means over the window.
type Holding struct {
	Resource string   `json:"resource"`
	Unit     string   `json:"unit" doc:"Of the means, such as cores."`
	Held     *float64 `json:"held_mean"   doc:"Null where nothing limits its workloads below their host."`
	Used     float64  `json:"used_mean"`
	Unused   *float64 `json:"unused_mean"`
	Unheld   int      `json:"held_without_limit" doc:"Workloads that nothing limits below their whole host."`
}

// Limit is how a tenant stood against one of its quotas.
type Limit struct {
	Resource string   `json:"resource"`
	Unit     string   `json:"unit"`
	On       string   `json:"scope" doc:"A pool or host; empty for the fleet."`
	Window   string   `json:"window" doc:"Of an allowance; empty for a ceiling."`
	Limit    *float64 `json:"limit"`
	Used     *float64 `json:"used" doc:"The mean held against a ceiling; what was spent of an allowance."`
	Overrun  *float64 `json:"overrun" doc:"How much more was spent than an allowance; null for a ceiling."`
	Over     *float64 `json:"over_seconds" doc:"For how long a ceiling was exceeded, by the minute."`
}

// Coverage is a host that did not tell of the whole window.
type Coverage struct {
	Host string  `json:"host"`
	Told float64 `json:"told_hours"`
	Of   float64 `json:"of_hours"`
}

// Account is all statements of a window, and the proof that they are its ledger.
type Account struct {
	Window     string      `json:"window"`
	From       time.Time   `json:"from"`
	To         time.Time   `json:"to"`
	Statements []Statement `json:"statements"`
	Proof      []Proof     `json:"proof" doc:"By resource that has any amount."`
}

// Proof holds the sum of all statements of a window against the ledger of its hosts, in the ledger's whole units.
// Corrections of windows before are no part of it.
type Proof struct {
	Resource   string          `json:"resource"`
	Ledger     decimal.Decimal `json:"ledger" doc:"What hosts used, and what stood idle where that is known."`
	Statements decimal.Decimal `json:"statements"`
	Note       string          `json:"note" doc:"What of the ledger is not known, and why."`
}

// Holds tells whether the sums are the same, to the last unit.
func (p *Proof) Holds() bool { return p.Ledger.Equal(p.Statements) }

// quantityDigits is how many digits behind the point quantities have: a microsecond is 3 in the tenth digit of an hour.
const quantityDigits = 9

// put completes a line: its quantity and its cost follow from its units and its price.
func (l *Line) put(tariff *Tariff) {
	r, err := amount.ParseResource(l.Resource)
	if err != nil {
		return
	}
	unit, per := r.Priced()
	l.Unit = unit
	l.Quantity = l.Units.DivRound(decimal.NewFromInt(per), quantityDigits)
	l.Price = tariff.PriceOf(l.Resource, l.From)
	l.Cost = decimal.Zero
	if l.Price != nil {
		l.Cost = l.Price.Mul(l.Quantity)
	}
}

// sum fills in the totals of a statement from its lines.
func (s *Statement) sum() {
	s.Totals, s.Cost = []Total{}, decimal.Zero
	for _, r := range amount.Resources() {
		t := Total{Resource: r.String()}
		is := false
		for i := range s.Lines {
			l := &s.Lines[i]
			if l.Resource != t.Resource {
				continue
			}
			is = true
			t.Unit, t.Cost, t.Missing = l.Unit, t.Cost.Add(l.Cost), t.Missing+l.Missing
			switch {
			case l.Corrects != 0:
				t.Corrected = t.Corrected.Add(l.Quantity)
			case l.What == Used:
				t.Used = t.Used.Add(l.Quantity)
			default:
				t.Borne = t.Borne.Add(l.Quantity)
			}
		}
		if is {
			s.Totals = append(s.Totals, t)
			s.Cost = s.Cost.Add(t.Cost)
		}
	}
}
