package store

import (
	"fmt"
	"strconv"
	"strings"
)

// statement is an SQL query that is being built for one question. Only what is asked for gets into it, so that the
// database plans for that: no parameter is there to say that another one does not count.
type statement struct{ args []any }

// arg adds a parameter and returns its place, such as $3.
func (s *statement) arg(v any) string {
	s.args = append(s.args, v)
	return "$" + strconv.Itoa(len(s.args))
}

// oneOf holds a column to some values. A lone one is an equation, which the database plans best for.
func (s *statement) oneOf(column, kind string, values any) string {
	switch v := values.(type) {
	case []int32:
		if len(v) == 1 {
			return column + " = " + s.arg(v[0])
		}
	case []string:
		if len(v) == 1 {
			return column + " = " + s.arg(v[0])
		}
	case []int64:
		if len(v) == 1 {
			return column + " = " + s.arg(v[0])
		}
	}
	return fmt.Sprintf("%s = ANY(%s::%s[])", column, s.arg(values), kind)
}

// quoted is a text as an SQL literal.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
