package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"vinescale/core/explain"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"github.com/spf13/cobra"
)

// listing is how a listing is wanted: its form, and which rows and columns in which order.
type listing struct {
	as      *oneOf
	sort    string
	where   string
	columns []string
	first   int
	flat    bool // JSON is of the columns' fields too, where rows hold a list of resources
}

// listFlags adds the flags every listing has. First is how many rows a table shows unless told otherwise; 0 is all.
func listFlags(cmd *cobra.Command, first int) *listing {
	l := &listing{as: asFlag(cmd)}
	f := cmd.Flags()
	f.StringVar(&l.sort, "sort", "", "column to sort by; with a dash before it the other way round")
	f.StringVar(&l.where, "where", "",
		"only rows for which this expression over the columns is true (CEL), such as \"name.startsWith('frost') && "+
			"size > 3\"")
	f.StringSliceVar(&l.columns, "columns", nil, "columns to show, in this order, separated by commas")
	f.IntVar(&l.first, "first", first, "how many rows a table shows; 0 for all")
	return l
}

// arranged tells whether rows are to be sorted, filtered, chosen from or cut, as only a plain listing can be.
func (l *listing) arranged(cmd *cobra.Command) bool {
	return l.sort != "" || l.where != "" || len(l.columns) > 0 || cmd.Flags().Changed("first")
}

// list prints rows as a table, as CSV, as one JSON array or as a JSON object a line, arranged as asked. A table says
// what was left out; the other forms leave out nothing unless --first is given.
func list[T any](cmd *cobra.Command, l *listing, columns []column[T], rows []T) error {
	all := len(rows)
	chosen, err := chooseColumns(columns, l.columns)
	if err != nil {
		return err
	}
	if rows, err = filterRows(columns, rows, l.where); err != nil {
		return err
	}
	if len(l.columns) == 0 && l.as.value == "table" {
		chosen = slices.DeleteFunc(chosen, func(c column[T]) bool {
			return c.ifAny && !slices.ContainsFunc(rows, func(r T) bool { return pointed(c.value(r)) != nil })
		})
	}
	if err := sortRows(columns, rows, l.sort); err != nil {
		return err
	}
	matched := len(rows)
	if l.first < 0 {
		return usagef("--first %d: give the number of rows to show, or 0 for all", l.first)
	}
	if limited := l.as.value == "table" || cmd.Flags().Changed("first"); limited && l.first > 0 && len(rows) > l.first {
		rows = rows[:l.first]
	}
	w := cmd.OutOrStdout()
	if l.as.value == "json" || l.as.value == "jsonl" {
		switch {
		case len(l.columns) > 0:
			return writeJSON(w, l.as.value, named(chosen, rows))
		case l.flat:
			return writeJSON(w, l.as.value, named(columns, rows))
		}
	}
	if err := write(w, l.as.value, chosen, rows); err != nil || l.as.value != "table" {
		return err
	}
	var left []string
	if all == 0 {
		left = append(left, "Nothing to list")
	}
	if n := matched - len(rows); n > 0 {
		left = append(left, fmt.Sprintf("%d more not shown (--first %d)", n, l.first))
	}
	if n := all - matched; n > 0 {
		left = append(left, fmt.Sprintf("%d left out by --where", n))
	}
	if len(left) > 0 {
		_, err = fmt.Fprintf(w, "\n%s.\n", strings.Join(left, "; "))
	}
	return err
}

// sayMissed says what the figures of a listing lack: below a table, or where it does not disturb what a program reads.
func (l *listing) sayMissed(cmd *cobra.Command, m *explain.Missed) {
	if text := missedLines(m); text != "" && l.as.value == "table" {
		fmt.Fprintf(cmd.OutOrStdout(), "\n%s", text)
	} else {
		fmt.Fprint(cmd.ErrOrStderr(), text)
	}
}

func columnNames[T any](columns []column[T]) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.name
	}
	return names
}

func chooseColumns[T any](columns []column[T], names []string) ([]column[T], error) {
	if len(names) == 0 {
		var shown []column[T]
		for _, c := range columns {
			if !c.extra {
				shown = append(shown, c)
			}
		}
		return shown, nil
	}
	var chosen []column[T]
	for _, n := range names {
		i := slices.IndexFunc(columns, func(c column[T]) bool { return c.name == strings.TrimSpace(n) })
		if i < 0 {
			return nil, usagef("there is no column %q: choose from %s", n, strings.Join(columnNames(columns), ", "))
		}
		chosen = append(chosen, columns[i])
	}
	return chosen, nil
}

func sortRows[T any](columns []column[T], rows []T, by string) error {
	if by == "" {
		return nil
	}
	name, turned := strings.CutPrefix(by, "-")
	i := slices.IndexFunc(columns, func(c column[T]) bool { return c.name == name })
	if i < 0 {
		return usagef("cannot sort by %q: choose one of %s", by, strings.Join(columnNames(columns), ", "))
	}
	value := columns[i].value
	slices.SortStableFunc(rows, func(a, b T) int {
		x, y := comparable(value(a)), comparable(value(b))
		if x == nil || y == nil { // what is not available comes last, either way
			return cmp.Compare(bit(x == nil), bit(y == nil))
		}
		c := compareValues(x, y)
		if turned {
			c = -c
		}
		return c
	})
	return nil
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// comparable turns a column's value into nil, a number, a string, or a bool.
func comparable(v any) any {
	switch v := pointed(v).(type) {
	case nil, string, bool, float64:
		return v
	case int:
		return float64(v)
	case int16:
		return float64(v)
	case int32:
		return float64(v)
	case int64:
		return float64(v)
	case time.Time:
		return v.Format(time.RFC3339Nano)
	default:
		return fmt.Sprint(v)
	}
}

// compareValues orders numbers largest first, as one asks for them, and words by the alphabet.
func compareValues(a, b any) int {
	x, ok1 := a.(float64)
	y, ok2 := b.(float64)
	if ok1 && ok2 {
		return cmp.Compare(y, x)
	}
	return cmp.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

func filterRows[T any](columns []column[T], rows []T, where string) ([]T, error) {
	if where == "" {
		return rows, nil
	}
	var options []cel.EnvOption
	for _, c := range columns {
		options = append(options, cel.Variable(c.name, cel.DynType))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(where)
	if issues.Err() != nil {
		return nil, usagef("--where does not compile: %s; it may ask about %s",
			strings.TrimSpace(issues.Errors()[0].Message), strings.Join(columnNames(columns), ", "))
	}
	program, err := env.Program(ast, cel.CostLimit(100_000))
	if err != nil {
		return nil, usagef("--where cannot be run: %w", err)
	}
	var kept []T
	for _, r := range rows {
		row := map[string]any{}
		for _, c := range columns {
			row[c.name] = comparable(c.value(r))
		}
		out, _, err := program.Eval(row)
		if err == nil && out == types.True {
			kept = append(kept, r)
		} else if err == nil && out.Type() != types.BoolType {
			return nil, usagef("--where gives %v, not true or false", out)
		}
	}
	return kept, nil
}

// namedRow is a row as a JSON object of chosen columns, in their order.
type namedRow struct {
	names  []string
	values []any
}

// MarshalJSON keeps the order of the columns.
func (r namedRow) MarshalJSON() ([]byte, error) {
	var b strings.Builder
	b.WriteByte('{')
	for i, n := range r.names {
		if i > 0 {
			b.WriteByte(',')
		}
		key, err := json.Marshal(n)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(r.values[i])
		if err != nil {
			return nil, err
		}
		b.Write(key)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return []byte(b.String()), nil
}

func named[T any](columns []column[T], rows []T) []namedRow {
	names := columnNames(columns)
	out := make([]namedRow, len(rows))
	for i, r := range rows {
		values := make([]any, len(columns))
		for j, c := range columns {
			values[j] = c.value(r)
		}
		out[i] = namedRow{names, values}
	}
	return out
}

func write[T any](w io.Writer, as string, columns []column[T], rows []T) error {
	switch as {
	case "csv":
		return listCSV(w, columns, rows)
	case "json", "jsonl":
		return writeJSON(w, as, rows)
	}
	table := newTable(w)
	columns = slices.Clone(columns)
	heads := make([]cell, len(columns))
	for i, c := range columns {
		columns[i].right = c.right || c.text == nil && c.isNumber(rows)
		heads[i] = cell{c.title(), columns[i].right}
	}
	table.row(heads...)
	for _, r := range rows {
		cells := make([]cell, len(columns))
		for i, c := range columns {
			cells[i] = cell{c.show(r), c.right}
		}
		table.row(cells...)
	}
	return table.flush()
}
