package cli

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/tenancy"
)

// unit is a unit people read: one for a whole table, so that its figures compare.
type unit struct {
	name   string
	per    float64
	digits int
}

func (u unit) text(v float64) string {
	s := fmt.Sprintf("%.*f", decimals(u.digits), v/u.per)
	if strings.Trim(s, "-0.") == "" {
		s = strings.TrimPrefix(s, "-")
	}
	return s
}

var (
	binaryUnits = []unit{{"bytes", 1, 0}, {"KiB", 1 << 10, 1}, {"MiB", 1 << 20, 1}, {"GiB", 1 << 30, 2},
		{"TiB", 1 << 40, 2}}
	decimalUnits = []unit{{"B", 1, 0}, {"kB", 1e3, 1}, {"MB", 1e6, 1}, {"GB", 1e9, 2}, {"TB", 1e12, 2}}
	bitUnits     = []unit{{"bit/s", 1. / 8, 0}, {"kbit/s", 1e3 / 8, 1}, {"Mbit/s", 1e6 / 8, 2}, {"Gbit/s", 1e9 / 8, 3}}
	hourUnits    = []unit{{"Wh", 3600, 1}, {"kWh", 3.6e6, 2}, {"MWh", 3.6e9, 3}}
)

// bytesUnits are those of what is held in memory: by powers of two, unless another choice was made.
func bytesUnits() []unit {
	if chosen.Bytes == "decimal" {
		return decimalUnits
	}
	return binaryUnits
}

// amountUnits are those of bytes that were moved: by powers of ten, unless another choice was made.
func amountUnits() []unit {
	if chosen.Bytes == "binary" {
		return binaryUnits
	}
	return decimalUnits
}

// rateUnits are those of bytes that are moved in a second.
func rateUnits() []unit {
	if chosen.Bytes == "binary" {
		return []unit{{"B/s", 1, 0}, {"KiB/s", 1 << 10, 1}, {"MiB/s", 1 << 20, 2}, {"GiB/s", 1 << 30, 3}}
	}
	return []unit{{"B/s", 1, 0}, {"kB/s", 1e3, 1}, {"MB/s", 1e6, 2}, {"GB/s", 1e9, 3}}
}

// entryOf is what the register says of a measure. One that is not in it is of a newer service: its figures are told as
// they come.
func entryOf(name string) *amount.Entry {
	m, err := amount.Parse(name)
	if f := leaf.PartFigureNamed(name); f != nil {
		return f.Entry()
	}
	if err != nil {
		return &amount.Entry{Name: name, Title: name, Unit: amount.Unit{Name: name, Mean: "", Per: 1}}
	}
	return m.Entry()
}

// meanUnits are the units in which people read means of a measure, smallest first.
func meanUnits(e *amount.Entry) []unit {
	if isCPU(e) {
		return []unit{cpuUnit()}
	}
	switch e.Unit.Step {
	case amount.Binary:
		return bytesUnits()
	case amount.Decimal:
		if e.InBits && chosen.Network == "bits" {
			return bitUnits
		}
		return rateUnits()
	case amount.Seconds:
		return []unit{{"s a second", 1e6, 3}}
	case amount.Hourly:
		return []unit{{"W", 1, 1}, {"kW", 1e3, 2}}
	}
	if many := e.Title + "s"; strings.EqualFold(many, e.Unit.Mean) { // a number of what its title names
		return []unit{{many, 1, 2}}
	}
	if e.Unit.Mean == "percent" {
		return []unit{{"%", 1, 1}}
	}
	return []unit{{strings.ReplaceAll(e.Unit.Mean, "_", " "), 1, 2}}
}

// pick is the unit that suits the largest of several figures.
func pick(units []unit, top float64) unit {
	u := units[0]
	for _, v := range units {
		if top >= v.per {
			u = v
		}
	}
	return u
}

// human writes a mean of a measure with the unit that suits it.
func human(name string, v float64) string {
	u := pick(meanUnits(entryOf(name)), math.Abs(v))
	return strings.TrimSpace(significant(v/u.per) + " " + u.name)
}

// amountText writes an amount of a measure over a span with the unit that suits it.
func amountText(name string, v float64) string {
	e := entryOf(name)
	switch {
	case e.Manner == amount.Level || e.Manner == amount.Height:
		if e.Unit.Step == amount.Binary {
			u := pick(bytesUnits(), v)
			return u.text(v) + " " + u.name
		}
	case e.Unit.Step == amount.Decimal:
		u := pick(amountUnits(), v)
		return u.text(v) + " " + u.name
	case e.Unit.Step == amount.Hourly:
		u := pick(hourUnits, v)
		return u.text(v) + " " + u.name
	case e.Unit.Step == amount.Seconds:
		return fmt.Sprintf("%.3f s", v/1e6)
	case strings.HasSuffix(e.Unit.Name, "_seconds"):
		return fmt.Sprintf("%.1f %s s", v, e.Title)
	}
	return fmt.Sprintf("%.0f", v)
}

// columnUnit is the unit of a column of means of a resource: one for all of its figures.
func columnUnit(r amount.Resource) unit {
	e := r.Entry()
	switch e.Unit.Step {
	case amount.Binary:
		return bytesUnits()[3]
	case amount.Decimal:
		return meanUnits(e)[2]
	case amount.Hourly:
		return unit{"W", 1, 2}
	}
	return meanUnits(e)[0]
}

// meanHead heads a column of means of a resource, in the unit that meanText writes.
func meanHead(r amount.Resource) string {
	e, u := r.Entry(), columnUnit(r)
	if e.Unit.Step == amount.Plain {
		return u.name
	}
	return strings.ToLower(e.Title) + " " + u.name
}

// meanText writes a mean of a resource in the unit of meanHead.
func meanText(r amount.Resource, v float64) string {
	u := columnUnit(r)
	if u.name != cpuPercent {
		u.digits = 2
	}
	return u.text(v)
}

// amountUnit is the unit of a column of amounts of a resource that accumulates.
func amountUnit(r amount.Resource) unit {
	e := r.Entry()
	switch {
	case e.Unit.Step == amount.Decimal:
		return unit{amountUnits()[3].name, amountUnits()[3].per, 2}
	case e.Unit.Step == amount.Hourly:
		return unit{"kWh", 3.6e6, 3}
	}
	return unit{"s", 1, 1}
}

// amountHead heads a column of amounts of a resource, in the unit that amountIn writes.
func amountHead(r amount.Resource) string {
	e := r.Entry()
	switch {
	case e.Manner == amount.Level:
		return meanHead(r)
	case e.Unit.Step == amount.Decimal, e.Unit.Step == amount.Hourly:
		return strings.ToLower(e.Title) + " " + amountUnit(r).name
	case strings.HasSuffix(e.Unit.Name, "_seconds"):
		return e.Title + " s"
	}
	return strings.ToLower(e.Title)
}

// amountIn writes an amount of a resource in the unit of amountHead.
func amountIn(r amount.Resource, v float64) string {
	if r.IsLevel() {
		return meanText(r, v)
	}
	return amountUnit(r).text(v)
}

var suffixes = []struct {
	text string
	per  float64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9},
	{"TB", 1e12}}

// parseCeiling reads a mean of a resource, with a unit of bytes where it is counted in bytes.
func parseCeiling(resource, s string) (float64, error) {
	e := entryOf(resource)
	if slices.Contains(tenancy.AllCounted, tenancy.Counted(resource)) {
		e = &amount.Entry{Unit: amount.Unit{Mean: "a number", Step: amount.Plain}}
	}
	number, per := s, 1.0
	if e.Unit.Step == amount.Hourly {
		if rest, ok := strings.CutSuffix(number, "kW"); ok {
			number, per = strings.TrimSpace(rest), 1e3
		}
		number = strings.TrimSpace(strings.TrimSuffix(number, "W"))
	} else if e.Unit.Step != amount.Plain {
		number = strings.TrimSuffix(number, "/s")
		for _, x := range suffixes {
			if rest, ok := strings.CutSuffix(number, x.text); ok {
				number, per = strings.TrimSpace(rest), x.per
				break
			}
		}
	}
	v, err := strconv.ParseFloat(number, 64)
	if err != nil || v*per-v*per != 0 {
		if e.Unit.Step == amount.Plain {
			return 0, usagef("quota %q: give %s, such as 48 or 1.5", s, e.Unit.Mean)
		}
		if e.Unit.Step == amount.Hourly {
			return 0, usagef("quota %q: give watts, such as 800, 800W or 1.2kW", s)
		}
		return 0, usagef("quota %q: give bytes, or a number with KiB, MiB, GiB, TiB, kB, MB, GB or TB", s)
	}
	if v < 0 {
		return 0, usagef("quota %q: a quota is zero or more", s)
	}
	return v * per, nil
}
