package statement

import (
	"cmp"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
)

// Ground is what the book has of a window.
type Ground struct {
	From, To  time.Time
	Tariff    Tariff // as Check returned it
	Stretches []Part
	Hosts     []Coverage
}

// Part is what the book has of a part of a window in which no price changes.
type Part struct {
	Stretch
	Uses  []Use
	Hosts []HostLedgers
}

// HostLedgers are the ledgers of a host, in the order of resources.
type HostLedgers struct {
	Host, Pools string
	Of          []Ledger
}

// Use is what those workloads of a tenant had that agree in all else.
type Use struct {
	Tenant, Host, Pools, Kind, Owner, Label string
	Of                                      []Amount // in the order of resources
}

// Amount is a figure; one that is not known lacks that of all its workloads.
type Amount struct {
	Units   amount.Wide
	IsKnown bool
	Missing int // workloads without a figure
}

// Ledger is the host-wide lines of a resource. One that is not known has the reason.
type Ledger struct {
	Used, Idle, Kernel, Steal amount.Wide
	NoUsed, NoIdle            string // why these are not known
}

// Draw makes the account of a window: a statement for each tenant that used anything or bears a share, and one of what
// is shared. Its lines add up to the ledger.
func Draw(g *Ground) *Account {
	a := &Account{Window: g.Tariff.Name(g.From), From: g.From, To: g.To, Proof: []Proof{}}
	d := drawing{ground: g, of: map[string]*Statement{}}
	for _, tenant := range d.bearers() {
		d.statement(tenant)
	}
	for i := range g.Stretches {
		d.use(&g.Stretches[i])
		d.share(&g.Stretches[i])
	}
	names := make([]string, 0, len(d.of))
	for name := range d.of {
		names = append(names, name)
	}
	slices.SortFunc(names, compareTenants)
	for _, name := range names {
		s := d.of[name]
		slices.SortStableFunc(s.Lines, compareLines)
		s.sum()
		a.Statements = append(a.Statements, *s)
	}
	a.prove(g)
	return a
}

// compareTenants puts what is no tenant's last.
func compareTenants(a, b string) int {
	rank := func(name string) int { return slices.Index([]string{Unassigned, Shared}, name) }
	return cmp.Or(rank(a)-rank(b), strings.Compare(a, b))
}

func compareLines(a, b Line) int {
	x, _ := amount.ParseResource(a.Resource) // of the register
	y, _ := amount.ParseResource(b.Resource)
	return cmp.Or(int(x)-int(y), a.From.Compare(b.From), cmp.Compare(a.Corrects, b.Corrects),
		slices.Index(order, a.What)-slices.Index(order, b.What), strings.Compare(a.Host, b.Host),
		strings.Compare(a.Kind, b.Kind), strings.Compare(a.Owner, b.Owner), strings.Compare(a.Label, b.Label),
		strings.Compare(a.Reason, b.Reason))
}

var order = []What{Used, Kernel, Idle, Steal, Residual, Manual}

// drawing is the work on one account.
type drawing struct {
	ground *Ground
	of     map[string]*Statement // by tenant
}

func (d *drawing) statement(tenant string) *Statement {
	s := d.of[tenant]
	if s == nil {
		g := d.ground
		s = &Statement{Tenant: tenant, Window: g.Tariff.Name(g.From), From: g.From, To: g.To, Zone: g.Tariff.Zone,
			Currency: g.Tariff.Currency, Split: g.Tariff.Split,
			KeepIdle: g.Tariff.KeepIdle, LabelKey: g.Tariff.Label, Lines: []Line{},
			Held: []Holding{}, Limits: []Limit{}, Coverage: []Coverage{}, Notes: []string{}}
		s.Coverage = append(s.Coverage, g.Hosts...)
		d.of[tenant] = s
	}
	return s
}

// bearers are the tenants that have a statement whatever they used.
func (d *drawing) bearers() []string {
	list := []string{Shared}
	for tenant, n := range d.ground.Tariff.Shares {
		if n > 0 {
			list = append(list, tenant)
		}
	}
	return list
}

// use writes what tenants used.
func (d *drawing) use(u *Part) {
	for i := range u.Uses {
		x := &u.Uses[i]
		for _, r := range amount.Resources() {
			of := &x.Of[r]
			isNothing := of.Units == (amount.Wide{}) && of.Missing == 0
			isNotThere := !of.IsKnown && r.Entry().IsOptional // the host has none of it
			if isNothing || isNotThere {
				continue
			}
			d.add(x.Tenant, u, Line{What: Used, Resource: r.String(), Host: x.Host, Pools: x.Pools, Kind: x.Kind,
				Owner: x.Owner, Label: x.Label, Units: whole(of.Units), Missing: of.Missing})
		}
	}
}

func (d *drawing) add(tenant string, u *Part, l Line) {
	l.From, l.To = u.From, u.To
	l.put(&d.ground.Tariff)
	s := d.statement(tenant)
	s.Lines = append(s.Lines, l)
}

// whole is an amount as a decimal.
func whole(w amount.Wide) decimal.Decimal { return decimal.NewFromBigInt(w.Big(), 0) }

// share writes what is nobody's, host by host: into the statement of what is shared, or what the kernel had and what
// stood idle split over tenants.
func (d *drawing) share(u *Part) {
	for h := range u.Hosts {
		host := &u.Hosts[h]
		for _, r := range amount.Resources() {
			l := &host.Of[r]
			rest := whole(l.Used).Sub(whole(l.Kernel)).Sub(whole(l.Steal)).Sub(used(u, host.Host, r))
			weights := d.weights(u, host.Host, r)
			for _, x := range []struct {
				what  What
				units decimal.Decimal
			}{
				{Kernel, whole(l.Kernel)}, {Idle, whole(l.Idle)}, {Steal, whole(l.Steal)}, {Residual, rest},
			} {
				isKnown := l.NoUsed == "" && (x.what != Idle || l.NoIdle == "")
				if !isKnown || x.units.IsZero() {
					continue
				}
				line := Line{What: x.what, Resource: r.String(), Host: host.Host, Pools: host.Pools, Units: x.units}
				isSplit := x.what == Kernel || x.what == Idle && !d.ground.Tariff.KeepIdle
				if len(weights) == 0 || !isSplit {
					d.add(Shared, u, line)
					continue
				}
				for i, part := range Divide(x.units.BigInt(), weights) {
					if line.Units = decimal.NewFromBigInt(part, 0); part.Sign() != 0 {
						d.add(weights[i].Who, u, line)
					}
				}
			}
		}
	}
}

// used is what all tenants used of a resource on a host.
func used(u *Part, host string, r amount.Resource) decimal.Decimal {
	var sum amount.Wide
	for i := range u.Uses {
		if u.Uses[i].Host == host {
			sum.Plus(u.Uses[i].Of[r].Units)
		}
	}
	return whole(sum)
}

// Weight is by what part somebody bears of what is split.
type Weight struct {
	Who string
	Of  *big.Int
}

// weights are the parts that tenants bear of a resource of a host in a stretch, by name; none where it is not split, or
// where nobody used it there.
func (d *drawing) weights(u *Part, host string, r amount.Resource) []Weight {
	of := map[string]*big.Int{}
	switch d.ground.Tariff.Split {
	case ByUse:
		for i := range u.Uses {
			x := &u.Uses[i]
			if x.Host != host {
				continue
			}
			if of[x.Tenant] == nil {
				of[x.Tenant] = new(big.Int)
			}
			of[x.Tenant].Add(of[x.Tenant], x.Of[r].Units.Big())
		}
	case Equally:
		for i := range d.ground.Stretches {
			for k := range d.ground.Stretches[i].Uses {
				of[d.ground.Stretches[i].Uses[k].Tenant] = big.NewInt(1)
			}
		}
	case ByShares:
		for tenant, n := range d.ground.Tariff.Shares {
			of[tenant] = big.NewInt(n)
		}
	}
	var list []Weight
	for who, n := range of {
		if n.Sign() > 0 {
			list = append(list, Weight{who, n})
		}
	}
	slices.SortFunc(list, func(a, b Weight) int { return compareTenants(a.Who, b.Who) })
	return list
}

// Divide splits a whole number by weights, each above zero, such that the parts add up to it: each has its share
// rounded towards zero, and what is left goes unit by unit to those whose rest is the largest, of equals to the first.
func Divide(n *big.Int, by []Weight) []*big.Int {
	sum := new(big.Int)
	for _, w := range by {
		sum.Add(sum, w.Of)
	}
	left := new(big.Int).Abs(n)
	parts, rests := make([]*big.Int, len(by)), make([]*big.Int, len(by))
	places := make([]int, len(by))
	size := new(big.Int).Abs(n)
	for i, w := range by {
		parts[i], rests[i] = new(big.Int).QuoRem(new(big.Int).Mul(size, w.Of), sum, new(big.Int))
		left.Sub(left, parts[i])
		places[i] = i
	}
	slices.SortStableFunc(places, func(a, b int) int { return rests[b].Cmp(rests[a]) })
	for _, i := range places[:left.Int64()] { // fewer than there are parts
		parts[i].Add(parts[i], big.NewInt(1))
	}
	if n.Sign() < 0 {
		for _, p := range parts {
			p.Neg(p)
		}
	}
	return parts
}

// prove holds the lines against the ledger.
func (a *Account) prove(g *Ground) {
	for _, r := range amount.Resources() {
		p := Proof{Resource: r.String()}
		why := map[string][]string{}
		for i := range g.Stretches {
			u := &g.Stretches[i]
			for h := range u.Hosts {
				host := &u.Hosts[h]
				l := &host.Of[r]
				note := func(text string) { why[text] = append(why[text], host.Host) }
				switch {
				case l.NoUsed != "" && r.Entry().IsOptional: // it has none
					p.Ledger = p.Ledger.Add(used(u, host.Host, r))
				case l.NoUsed != "": // then only what tenants used is stated
					p.Ledger = p.Ledger.Add(used(u, host.Host, r))
					note("what was used is not known, " + l.NoUsed)
				case l.NoIdle != "":
					note("what stood idle is not known, " + l.NoIdle)
					p.Ledger = p.Ledger.Add(whole(l.Used))
				default:
					p.Ledger = p.Ledger.Add(whole(l.Used)).Add(whole(l.Idle))
				}
			}
		}
		for i := range a.Statements {
			for k := range a.Statements[i].Lines {
				l := &a.Statements[i].Lines[k]
				if l.Resource == p.Resource && l.Corrects == 0 {
					p.Statements = p.Statements.Add(l.Units)
				}
			}
		}
		var notes []string
		for text, hosts := range why {
			slices.Sort(hosts)
			notes = append(notes, text+" ("+strings.Join(slices.Compact(hosts), ", ")+")")
		}
		slices.Sort(notes)
		p.Note = strings.Join(notes, "; ")
		if !p.Ledger.IsZero() || !p.Statements.IsZero() {
			a.Proof = append(a.Proof, p)
		}
	}
}

// Check tells whether the account is the ledger of its window: the error names the first resource of which it is not.
func (a *Account) Check() error {
	for i := range a.Proof {
		if p := &a.Proof[i]; !p.Holds() {
			return fmt.Errorf("the statements of %s have %s units of %s, and the ledger has %s", a.Window, p.Statements,
				p.Resource, p.Ledger)
		}
	}
	return nil
}
