package choice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/folio"
)

// Choices are how one person wants figures shown. The zero value is what most want: whatever is not chosen is as usual.
type Choices struct {
	Bytes    string `json:"bytes" enum:",binary,decimal" doc:"Steps of 1,024 or of 1,000; usual is binary for memory."`
	Network  string `json:"network" enum:",bits,bytes" doc:"What network rates are counted in."`
	CPU      string `json:"cpu" enum:",cores,percent,host,limit" doc:"As cores, or a percentage of what."`
	Decimals *int   `json:"decimals" minimum:"0" maximum:"4" doc:"Of figures; null for what suits each."`
	Zone     string `json:"zone" doc:"Time zone of the tz database; empty for the reader's own."`
	Clock    string `json:"clock" enum:",24,12" doc:"Hours of a day, or twice twelve."`
	Theme    string `json:"theme" enum:",light,dark" doc:"Empty for what the reader's system has."`
	Density  string `json:"density" enum:",airy,dense" doc:"How much room tables take."`
	Lines    string `json:"lines" enum:",stepped,smooth" doc:"How figures over time are drawn."`
	Pace     int    `json:"pace" minimum:"0" maximum:"60" doc:"Seconds between live figures; 0 for the usual."`
	First    string `json:"first" doc:"Address of the page that the console begins with, such as /hosts."`

	Strip   []folio.Plate `json:"strip,omitempty" maxItems:"6" doc:"Figures that are always in view."`
	StripAt string        `json:"strip_at,omitempty" enum:",page,away" doc:"Where the strip is."`

	Colours map[string]string `json:"colours,omitempty" doc:"Of tenants, by their names, as #rrggbb."`

	Columns map[string][]string `json:"columns,omitempty" doc:"By table, the columns that are shown, in this order."`

	Widths map[string]map[string]int `json:"widths,omitempty" doc:"By table and column, in pixels."`
}

// mostColumns and mostTables bound what is kept for a person.
const (
	mostColumns = 100
	mostTables  = 100
	longestName = 200
	mostInStrip = 6
	mostColours = 500
	narrowest   = 24
	widest      = 1200
)

// Check says what of the choices cannot be kept, and what could.
func (c *Choices) Check() error {
	for _, x := range []struct {
		name, value string
		words       []string
	}{
		{"bytes", c.Bytes, []string{"binary", "decimal"}},
		{"network", c.Network, []string{"bits", "bytes"}},
		{"cpu", c.CPU, []string{"cores", "percent", "host", "limit"}},
		{"clock", c.Clock, []string{"24", "12"}},
		{"theme", c.Theme, []string{"light", "dark"}},
		{"density", c.Density, []string{"airy", "dense"}},
		{"lines", c.Lines, []string{"stepped", "smooth"}},
		{"strip_at", c.StripAt, []string{"page", "away"}},
	} {
		if x.value != "" && !slices.Contains(x.words, x.value) {
			return fmt.Errorf("%s: %q is not to be had: choose %s, or nothing for the usual", x.name, x.value,
				strings.Join(x.words, " or "))
		}
	}
	if c.Decimals != nil && (*c.Decimals < 0 || *c.Decimals > 4) {
		return fmt.Errorf("decimals: %d is not to be had: choose 0 to 4", *c.Decimals)
	}
	if c.Pace < 0 || c.Pace > 60 {
		return fmt.Errorf("pace: %d is not to be had: choose 1 to 60 seconds, or 0 for the usual", c.Pace)
	}
	if err := CheckZone(c.Zone); err != nil {
		return err
	}
	if c.First != "" &&
		(!strings.HasPrefix(c.First, "/") || strings.HasPrefix(c.First, "//") || len(c.First) > 2000) {
		return fmt.Errorf("first: %q is no page of the console: give its address, such as /hosts", c.First)
	}
	if len(c.Strip) > mostInStrip {
		return fmt.Errorf("strip: %d figures are more than %d", len(c.Strip), mostInStrip)
	}
	for i := range c.Strip {
		p := &c.Strip[i]
		if err := p.Check(); err != nil {
			return fmt.Errorf("strip, figure %d: %w", i+1, err)
		}
		if d := p.Drawn(); d != folio.Number && d != folio.Filled {
			return fmt.Errorf("strip, figure %d: form: %q takes too much room: choose number or filled", i+1, d)
		}
		if p.Subject.Name == "" && p.Subject.Kind != folio.Fleet {
			return fmt.Errorf("strip, figure %d: subject: name: which %s is it of?", i+1, p.Subject.Kind)
		}
	}
	if len(c.Colours) > mostColours {
		return fmt.Errorf("colours: of %d tenants, more than %d", len(c.Colours), mostColours)
	}
	if len(c.Columns) > mostTables {
		return fmt.Errorf("columns: of %d tables, more than %d", len(c.Columns), mostTables)
	}
	for table, columns := range c.Columns {
		if len(columns) > mostColumns || len(table) > longestName ||
			slices.ContainsFunc(columns, func(n string) bool { return n == "" || len(n) > longestName }) {
			return fmt.Errorf("columns: those of %.40q are more than %d, or have no fit name", table, mostColumns)
		}
	}
	if len(c.Widths) > mostTables {
		return fmt.Errorf("widths: of %d tables, more than %d", len(c.Widths), mostTables)
	}
	for table, widths := range c.Widths {
		if len(widths) > mostColumns || len(table) > longestName {
			return fmt.Errorf("widths: those of %.40q are more than %d, or have no fit name", table, mostColumns)
		}
		for column, width := range widths {
			if column == "" || len(column) > longestName || width < narrowest || width > widest {
				return fmt.Errorf(
					"widths: %d for %.40q of %.40q: choose %d to %d pixels",
					width,
					column,
					table,
					narrowest,
					widest,
				)
			}
		}
	}
	return nil
}

// CheckZone says what is wrong with a time zone; nothing is none.
func CheckZone(name string) error {
	if _, err := time.LoadLocation(name); name != "" && (err != nil || name == "Local") {
		return fmt.Errorf("zone: there is no time zone %q: give one such as Europe/Rome, or nothing", name)
	}
	return nil
}

// Parse reads choices as they are written in a line, such as bytes=decimal,cpu=limit,zone=Europe/Rome.
func Parse(line string) (Choices, error) {
	var c Choices
	words := map[string]*string{"bytes": &c.Bytes, "network": &c.Network, "cpu": &c.CPU, "zone": &c.Zone,
		"clock": &c.Clock}
	for _, part := range strings.Split(line, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		name, value, is := strings.Cut(part, "=")
		to := words[name]
		switch {
		case !is:
			return c, fmt.Errorf("%q is no choice: write it as bytes=decimal", part)
		case name == "decimals":
			n, err := strconv.Atoi(value)
			if err != nil {
				return c, fmt.Errorf("decimals: %q is no number: choose 0 to 4", value)
			}
			c.Decimals = &n
		case to == nil:
			return c, fmt.Errorf(
				"there is no choice %q here: choose of bytes, network, cpu, decimals, zone, clock",
				name,
			)
		default:
			*to = value
		}
	}
	return c, c.Check()
}

// Over are the choices with what is not chosen in them taken from others: those that are said in a line, over those
// that are kept.
func (c Choices) Over(kept Choices) Choices {
	all := kept
	for _, x := range []struct{ to, from *string }{{&all.Bytes, &c.Bytes}, {&all.Network, &c.Network},
		{&all.CPU, &c.CPU}, {&all.Zone, &c.Zone}, {&all.Clock, &c.Clock}} {
		if *x.from != "" {
			*x.to = *x.from
		}
	}
	if c.Decimals != nil {
		all.Decimals = c.Decimals
	}
	return all
}
