package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/question"
)

// statement is an SQL query that is being built for one question. Only what is asked for gets into it, so that the
// database plans for that: no parameter is there to say that another one does not count.
type statement struct{ args []any }

// arg adds a parameter and returns its place, such as $3.
func (s *statement) arg(v any) string {
	s.args = append(s.args, v)
	return "$" + strconv.Itoa(len(s.args))
}

// shelf says what of a book's table bounds a scope.
type shelf struct {
	table  string
	start  string // column of the begin of an interval
	tenant bool   // it has a column tenant_id
	work   bool   // it has a column workload_id
}

var shelves = map[question.Book]shelf{
	question.WorkloadMinutes: {"usage_minute", "start", true, true},
	question.TenantMinutes:   {"tenant_minute", "minute", true, false},
	question.ProgramMinutes:  {"program_minute", "start", true, true},
	question.CPUMinutes:      {"cpu_minute", "start", true, true},
	question.PartMinutes:     {"part_minute", "start", true, true},
	question.Messages:        {"figure_minute", "start", false, false},
}

// hostShelf holds the host-wide lines.
var hostShelf = shelf{"host_minute", "start", false, false}

// within is the one place where a scope becomes a predicate: which rows of a table, named u, an answer may be made of.
// What a table has no column for, its reader must hold to by itself.
func (s *statement) within(scope *question.Scope, of shelf) string {
	where := []string{
		fmt.Sprintf("u.%s >= %s AND u.%s < %s", of.start, s.arg(scope.Span.From), of.start, s.arg(scope.Span.To)),
	}
	if scope.Hosts != nil {
		where = append(where, s.oneOf("u.host_id", "int", scope.Hosts))
	}
	if scope.Only != nil && of.work {
		where = append(where, s.oneOf("u.workload_id", "bigint", scope.Only))
	}
	if seen := scope.Seen(); seen != nil && of.tenant {
		in := s.oneOf("u.tenant_id", "int", seen)
		if slices.Contains(seen, 0) { // usage of tenants that were removed is unassigned
			in = "(" + in + " OR u.tenant_id NOT IN (SELECT id FROM tenants))"
		}
		where = append(where, in)
	}
	return strings.Join(where, " AND ")
}

// oneOf holds a column to some values. A lone one is an equation, which the database plans best for.
func (s *statement) oneOf(column, kind string, values any) string {
	switch v := values.(type) {
	case []int32:
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
