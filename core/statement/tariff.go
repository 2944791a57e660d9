package statement

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
	"vinescale/core/tenancy"
)

// Tariff says for which windows statements are made, and what things cost. The zero value is one by calendar months of
// UTC, without prices.
type Tariff struct {
	Window string `json:"window,omitempty" yaml:"window,omitempty" doc:"As of an allowance; month when left out."`
	// Whose midnights bound windows and prices.
	Zone string `json:"zone,omitempty" yaml:"zone,omitempty" doc:"A time zone; UTC when left out."`
	// By its three letters (ISO 4217), where something has a price.
	Currency string `json:"currency,omitempty" yaml:"currency,omitempty" doc:"Its three letters (ISO 4217)."`
	// How what the kernel had and what stood idle is split over tenants.
	Split    Key    `json:"split,omitempty" yaml:"split,omitempty" enum:"none,use,equal,shares"`
	KeepIdle bool   `json:"keep_idle,omitempty" yaml:"keep_idle,omitempty" doc:"What stood idle is not split."`
	Shares   Shares `json:"shares,omitempty" yaml:"shares,omitempty" doc:"Of a split by shares, by tenant."`
	// Lines are told apart by the values of this label of workloads too.
	Label  string  `json:"label,omitempty" yaml:"label,omitempty" doc:"Lines are told apart by this label."`
	Prices []Price `json:"prices,omitempty" yaml:"prices,omitempty"`
}

// Shares are by which parts tenants bear what is shared.
type Shares map[string]int64

// Key says how what is shared is split.
type Key string

// The keys.
const (
	NotSplit Key = "none"   // it stays in the statement of what is shared
	ByUse    Key = "use"    // as each used the resource in the window
	Equally  Key = "equal"  // over all tenants that used anything
	ByShares Key = "shares" // by whole numbers that are set
)

// Price is what a unit of a resource costs, from a day on until another.
type Price struct {
	Of string `json:"of" yaml:"of" doc:"A resource."`
	// Of a core-hour, a GPU-hour, a kilowatt-hour, of 10^9 bytes for an hour, or of 10^12 bytes moved.
	Price decimal.Decimal `json:"price" yaml:"price" doc:"Of a core-hour, GPU-hour, kWh, GB-hour or TB."`
	From  string          `json:"from" yaml:"from" doc:"A day, such as 2026-01-01: from its first moment."`
	Until string          `json:"until,omitempty" yaml:"until,omitempty" doc:"Until this day; open when left out."`
}

// mostPrices is how many prices a tariff may have.
const mostPrices = 1000

// mostDigits is how many digits a price may have behind the point.
const mostDigits = 12

// Check returns the tariff with what was left out put in. The error says what is wrong with it, and what to do.
func (t *Tariff) Check() (Tariff, error) {
	clean := *t
	clean.Window, clean.Zone = cmp.Or(t.Window, "month"), cmp.Or(t.Zone, "UTC")
	clean.Split = cmp.Or(t.Split, NotSplit)
	if _, err := tenancy.ParseWindow(clean.Window); err != nil {
		return clean, err
	}
	zone, err := time.LoadLocation(clean.Zone)
	if err != nil || clean.Zone == "Local" {
		return clean, fmt.Errorf("there is no time zone %q: give a name such as Europe/Vienna", t.Zone)
	}
	switch clean.Split {
	case NotSplit, ByUse, Equally, ByShares:
	default:
		return clean, fmt.Errorf("a split by %q: choose none, use, equal or shares", t.Split)
	}
	if err := clean.checkShares(); err != nil {
		return clean, err
	}
	if len(t.Prices) > mostPrices {
		return clean, fmt.Errorf("%d prices: give at most %d", len(t.Prices), mostPrices)
	}
	if len(t.Prices) > 0 && (len(t.Currency) != 3 || strings.Trim(t.Currency, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != "") {
		return clean, fmt.Errorf("a currency of %q: give its three letters, such as EUR", t.Currency)
	}
	clean.Prices = slices.Clone(t.Prices)
	for i := range clean.Prices {
		if err := clean.Prices[i].check(zone); err != nil {
			return clean, err
		}
	}
	slices.SortStableFunc(clean.Prices, func(a, b Price) int {
		x, _ := amount.ParseResource(a.Of) // checked above
		y, _ := amount.ParseResource(b.Of)
		return cmp.Or(int(x)-int(y), strings.Compare(a.From, b.From))
	})
	for i := range clean.Prices[:max(len(clean.Prices)-1, 0)] {
		if err := clean.Prices[i].joins(&clean.Prices[i+1]); err != nil {
			return clean, err
		}
	}
	return clean, nil
}

func (t *Tariff) checkShares() error {
	if (t.Split == ByShares) != (len(t.Shares) > 0) {
		return errors.New("shares are of a split by shares, and it needs some: give both, or neither")
	}
	for tenant, n := range t.Shares {
		if n < 0 || n > 1_000_000 {
			return fmt.Errorf("a share of %d for %s: give a whole number from 0 to 1000000", n, tenant)
		}
	}
	sum := int64(0)
	for _, n := range t.Shares {
		sum += n
	}
	if len(t.Shares) > 0 && sum == 0 {
		return errors.New("all shares are 0: nobody would bear anything")
	}
	return nil
}

func (p *Price) check(zone *time.Location) error {
	if _, err := amount.ParseResource(p.Of); err != nil {
		return err
	}
	if !Sound(p.Price) || p.Price.IsNegative() || p.Price.GreaterThan(decimal.New(1, mostDigits)) {
		return fmt.Errorf("the price of %s: give 0 or more, at most 10^%d, up to %d digits behind the point", p.Of,
			mostDigits, mostDigits)
	}
	from, err := dayOf(p.From, zone)
	if err != nil {
		return fmt.Errorf("the price of %s from %q on: %w", p.Of, p.From, err)
	}
	if p.Until == "" {
		return nil
	}
	until, err := dayOf(p.Until, zone)
	if err != nil {
		return fmt.Errorf("the price of %s until %q: %w", p.Of, p.Until, err)
	}
	if !until.After(from) {
		return fmt.Errorf("the price of %s from %s until %s: it must end after it begins", p.Of, p.From, p.Until)
	}
	return nil
}

// Sound tells whether a number that somebody wrote is one to reckon with: a few letters such as 1e9999 stand for
// thousands of digits.
func Sound(d decimal.Decimal) bool {
	return d.Exponent() >= -mostDigits && d.Exponent() <= 2*mostDigits && d.NumDigits() <= 4*mostDigits
}

// joins tells whether the next price follows without a gap, where it is of the same resource.
func (p *Price) joins(next *Price) error {
	switch {
	case p.Of != next.Of || p.Until == next.From:
		return nil
	case p.Until == "" || p.Until > next.From:
		return fmt.Errorf("two prices of %s from %s on: the one from %s on must end with %s", p.Of, next.From, p.From,
			next.From)
	}
	return fmt.Errorf("no price of %s from %s until %s: let one end where the next begins; a price of 0 makes it free",
		p.Of, p.Until, next.From)
}

// dayOf is the first moment of a day.
func dayOf(text string, zone *time.Location) (time.Time, error) {
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return day, errors.New("give a day such as 2026-01-01")
	}
	noon := time.Date(day.Year(), day.Month(), day.Day(), 12, 0, 0, 0, zone)
	from, _ := tenancy.Window{By: tenancy.ByDay}.Bounds(noon, zone)
	return from, nil
}

// Bounds are those of the window that a day is in. The tariff is one that Check returned.
func (t *Tariff) Bounds(day time.Time) (from, to time.Time) {
	window, zone := t.parsed()
	return window.Bounds(time.Date(day.Year(), day.Month(), day.Day(), 12, 0, 0, 0, zone), zone)
}

// At is the window that a moment is in.
func (t *Tariff) At(moment time.Time) (from, to time.Time) {
	window, zone := t.parsed()
	return window.Bounds(moment, zone)
}

// Name is how a window that begins at a moment is called: 2026-10, or by its first day.
func (t *Tariff) Name(from time.Time) string {
	window, zone := t.parsed()
	if window.By == tenancy.ByMonth {
		return from.In(zone).Format("2006-01")
	}
	return from.In(zone).Format(time.DateOnly)
}

// parsed are window and zone as Check has found them to be sound.
func (t *Tariff) parsed() (tenancy.Window, *time.Location) {
	window, err := tenancy.ParseWindow(cmp.Or(t.Window, "month"))
	if err != nil {
		window = tenancy.Window{By: tenancy.ByMonth}
	}
	zone, err := time.LoadLocation(cmp.Or(t.Zone, "UTC"))
	if err != nil {
		zone = time.UTC
	}
	return window, zone
}

// Stretch is a part of a window in which no price changes.
type Stretch struct{ From, To time.Time }

// Stretches cuts a window where prices change.
func (t *Tariff) Stretches(from, to time.Time) []Stretch {
	_, zone := t.parsed()
	cuts := []time.Time{from, to}
	for i := range t.Prices {
		for _, day := range []string{t.Prices[i].From, t.Prices[i].Until} {
			if at, err := dayOf(day, zone); err == nil && at.After(from) && at.Before(to) {
				cuts = append(cuts, at)
			}
		}
	}
	slices.SortFunc(cuts, time.Time.Compare)
	cuts = slices.CompactFunc(cuts, time.Time.Equal)
	var parts []Stretch
	for i := range cuts[1:] {
		parts = append(parts, Stretch{cuts[i], cuts[i+1]})
	}
	return parts
}

// PriceOf is what a resource costs at a moment; nil where it has no price then.
func (t *Tariff) PriceOf(resource string, at time.Time) *decimal.Decimal {
	_, zone := t.parsed()
	for i := range t.Prices {
		p := &t.Prices[i]
		if p.Of != resource {
			continue
		}
		from, err := dayOf(p.From, zone)
		if err != nil || at.Before(from) {
			continue
		}
		if until, err := dayOf(p.Until, zone); err == nil && !at.Before(until) {
			continue
		}
		return &p.Price
	}
	return nil
}
