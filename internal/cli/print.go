package cli

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"vinescale/core/explain"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
)

var formats = []string{"table", "csv", "json", "jsonl"}

// oneOf is a flag that takes one of a few words.
type oneOf struct {
	value   string
	allowed []string
}

func (c *oneOf) String() string { return c.value }
func (c *oneOf) Type() string   { return strings.Join(c.allowed, "|") }
func (c *oneOf) Set(s string) error {
	for _, a := range c.allowed {
		if a == s {
			c.value = s
			return nil
		}
	}
	return fmt.Errorf("choose one of %s", strings.Join(c.allowed, ", "))
}

func asFlag(cmd *cobra.Command) *oneOf {
	c := &oneOf{"table", formats}
	cmd.Flags().Var(c, "as", "output form")
	return c
}

// column is one column of a listing. Value is what programs get (nil for not available); Text, if set, is what people
// get.
type column[T any] struct {
	name  string // field name for programs, with its unit
	head  string // head of the column for people
	right bool
	value func(T) any
	text  func(T) string
	heads func() string // in place of head, where it depends on what was chosen
	extra bool          // shown only where --columns names it
	ifAny bool          // left out of a table in which no row has a value, unless --columns names it
}

func (c column[T]) show(r T) string {
	if c.text != nil {
		return c.text(r)
	}
	switch v := pointed(c.value(r)).(type) {
	case nil:
		return "–"
	case float64:
		text := strings.TrimSuffix(strconv.FormatFloat(v, 'f', 3, 64), ".000")
		if text == "-0" { // it rounds to nothing
			return "0"
		}
		return text
	default:
		return plain(v)
	}
}

// title is the head of the column: its name where it has no other.
func (c column[T]) title() string {
	if c.heads != nil {
		return c.heads()
	}
	return cmp.Or(c.head, strings.ReplaceAll(c.name, "_", " "))
}

// isNumber tells whether the column holds numbers, by the first row that has a value.
func (c column[T]) isNumber(rows []T) bool {
	for _, r := range rows {
		switch comparable(c.value(r)).(type) {
		case nil:
		case float64:
			return true
		default:
			return false
		}
	}
	return false
}

func listCSV[T any](w io.Writer, columns []column[T], rows []T) error {
	out := csv.NewWriter(w)
	record := make([]string, len(columns))
	for i, c := range columns {
		record[i] = c.name
	}
	if err := out.Write(record); err != nil {
		return err
	}
	for _, r := range rows {
		for i, c := range columns {
			record[i] = plain(c.value(r))
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// writeJSON prints rows as an array, or each on its own line.
func writeJSON[T any](w io.Writer, as string, rows []T) error {
	out := json.NewEncoder(w)
	if as == "jsonl" {
		for _, r := range rows {
			if err := out.Encode(r); err != nil {
				return err
			}
		}
		return nil
	}
	if rows == nil {
		rows = []T{}
	}
	out.SetIndent("", "  ")
	return out.Encode(rows)
}

// plain is a value as a program reads it: nothing where there is none, numbers without exponent, times by RFC 3339.
func plain(v any) string {
	switch v := pointed(v).(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case time.Time:
		return v.Format(time.RFC3339Nano)
	default:
		return fmt.Sprint(v)
	}
}

// pointed is what a pointer leads to, nil for one that leads nowhere, and any other value itself.
func pointed(v any) any {
	x := reflect.ValueOf(v)
	if x.Kind() != reflect.Pointer {
		return v
	}
	if x.IsNil() {
		return nil
	}
	return x.Elem().Interface()
}

// cell is one text of a table row.
type cell struct {
	text  string
	right bool
}

// table aligns rows of cells in columns two spaces apart. Widths are those of a terminal's characters.
type table struct {
	w    io.Writer
	rows [][]cell // a nil row is a rule
}

func newTable(w io.Writer) *table { return &table{w: w} }

func (t *table) row(cells ...cell) {
	for i := range cells {
		cells[i].text = visible(cells[i].text)
	}
	t.rows = append(t.rows, cells)
}

func (t *table) rule() { t.rows = append(t.rows, nil) }

func (t *table) flush() error {
	var widths []int
	for _, r := range t.rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], runewidth.StringWidth(c.text))
		}
	}
	total := 2 * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	var b strings.Builder
	for _, r := range t.rows {
		if r == nil {
			b.WriteString(strings.Repeat("─", max(total, 0)) + "\n")
			continue
		}
		var l strings.Builder
		for i, c := range r {
			pad := strings.Repeat(" ", widths[i]-runewidth.StringWidth(c.text))
			if c.right {
				l.WriteString(pad + c.text)
			} else {
				l.WriteString(c.text + pad)
			}
			l.WriteString("  ")
		}
		b.WriteString(strings.TrimRight(l.String(), " ") + "\n")
	}
	_, err := io.WriteString(t.w, b.String())
	return err
}

// visible makes a name safe to print: control characters, terminal escapes and marks that turn the writing direction
// are shown as their code, and very long names are cut.
func visible(s string) string {
	var b strings.Builder
	n := 0
	for _, r := range s {
		if n++; n > 120 {
			return b.String() + "…"
		}
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func writeIndented(w io.Writer, v any) error {
	out := json.NewEncoder(w)
	out.SetIndent("", "  ")
	return out.Encode(v)
}

// writeOne prints an answer as JSON, on one line as jsonl.
func writeOne(w io.Writer, as string, v any) error {
	if as == "jsonl" {
		return json.NewEncoder(w).Encode(v)
	}
	return writeIndented(w, v)
}

// folded makes a text safe to print, in lines of up to 100 characters.
func folded(s string) string {
	var b strings.Builder
	column := 0
	for _, word := range strings.Fields(s) {
		word = visible(word)
		n := runewidth.StringWidth(word)
		switch {
		case column == 0:
		case column+1+n > 100:
			b.WriteByte('\n')
			column = 0
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return b.String()
}

// partsNamed is how many parts of a span that were not recorded are named in a line, and of how many hosts each.
const partsNamed = 3

// missedLines say what figures lack; "" for nothing.
func missedLines(m *explain.Missed) string {
	return uncoveredLine(m.Uncovered) + caveatLines(m.Caveats)
}

// caveatLines say what was missed, so that shares lack it, and on which hosts; "" for nothing.
func caveatLines(list []explain.Caveat) (text string) {
	for _, c := range list {
		of := ""
		if hosts := slices.Clone(c.Hosts); len(hosts) > 0 && hosts[0] != "" {
			if more := len(hosts) - partsNamed; more > 1 {
				hosts = append(hosts[:partsNamed], fmt.Sprintf("%d more", more))
			}
			of = " (" + visible(strings.Join(hosts, ", ")) + ")"
		}
		text += folded("Mind: "+c.Meaning+of+".") + "\n"
	}
	return text
}

// uncoveredLine says in which parts of a span some host told nothing; "" for none.
func uncoveredLine(u *explain.Uncovered) string {
	if u == nil {
		return ""
	}
	var named []string
	left := u.Parts
	for len(left) > 0 && len(named) < partsNamed {
		first, hosts := left[0], []string{}
		for len(left) > 0 && sameSecond(left[0].From, first.From) && sameSecond(left[0].To, first.To) &&
			math.Abs(left[0].Seconds-first.Seconds) < 1 {
			hosts, left = append(hosts, left[0].Host), left[1:]
		}
		named = append(named, uncoveredPart(first, hosts))
	}
	text := "Nothing was recorded "
	if u.OfLive {
		text = "No live frames came "
	}
	text += strings.Join(named, ", ")
	if len(left) > 0 || len(u.Parts) < u.Hosts {
		hosts := "one host"
		if u.Hosts > 1 {
			hosts = fmt.Sprintf("%d hosts", u.Hosts)
		}
		text += fmt.Sprintf(", and more of %s: %s in all", hosts, lackingText(u.Seconds))
	}
	return folded(text+".") + "\n"
}

func sameSecond(a, b time.Time) bool { return a.Truncate(time.Second).Equal(b.Truncate(time.Second)) }

// uncoveredPart tells a part that is the same for some hosts.
func uncoveredPart(p explain.UncoveredPart, hosts []string) string {
	if more := len(hosts) - partsNamed; more > 1 {
		hosts = append(hosts[:partsNamed:partsNamed], fmt.Sprintf("%d more", more))
	}
	from, to := p.From.Local(), p.To.Local()
	layout := time.DateTime
	if from.Format(time.DateOnly) == to.Format(time.DateOnly) {
		layout = time.TimeOnly
	}
	text := fmt.Sprintf("of %s from %s until %s", listed(hosts), untilText(from), shownAt(to, layout))
	if p.To.Sub(p.From).Seconds()-p.Seconds >= 1 {
		text += " for " + lackingText(p.Seconds)
	}
	return text
}

// lackingText is how long nothing was recorded: to the second, as readings are not closer.
func lackingText(s float64) string {
	if s < 120 {
		return fmt.Sprintf("%.0f s", s)
	}
	return seconds(s)
}

// listed is a list in a sentence.
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
