package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// grouping builds the query that answers from one book of rows, in three steps: usage added up by workload (inner),
// those grouped by what is asked for (outer), and the groups sorted and cut (arranged). Adding up by workload first is
// what makes counting them cheap: names are joined to a row a workload, not to a row a minute.
type grouping struct {
	statement
	q    *question.Question
	read question.Read
}

func (b *grouping) by(d question.Dimension) bool { return b.q.Has(d) }

// hasState tells whether rows carry what is known of a workload beside its sums.
func (b *grouping) hasState() bool { return b.q.State && b.read.Book == question.WorkloadMinutes }

// tenantExpr is the tenant of a row; usage of one that was removed is unassigned.
const tenantExpr = "coalesce((SELECT t.id FROM tenants t WHERE t.id = u.tenant_id), 0)"

// inner adds up by workload, and by what else groups are told apart by.
func (b *grouping) inner() string {
	of := shelves[b.read.Book]
	columns := []string{"u.workload_id", "u.host_id"}
	group := []string{"1", "2"} // by the places of columns
	put := func(expression, name string) {
		columns = append(columns, expression+" AS "+name)
		group = append(group, strconv.Itoa(len(columns)))
	}
	from := of.table + " u"
	if b.q.Step > 0 {
		put(b.stretch(of.start), "stretch")
	}
	if b.by(question.Tenant) {
		from += " LEFT JOIN tenants t ON t.id = u.tenant_id"
		put("coalesce(t.id, 0)", "tenant_of")
	}
	switch b.read.Book {
	case question.ProgramMinutes:
		put("u.program_id", "program_id")
		put("u.family_id", "family_id")
	case question.CPUMinutes:
		from += ", unnest(u.cpus, u.micros) AS x(cpu, spent)"
		put("x.cpu", "cpu")
	case question.PartMinutes:
		from += ", unnest(u.names, u.micros) AS x(part, spent)"
		put("x.part", "part")
	}
	if b.read.Book == question.ProgramMinutes {
		columns = append(columns, "max(u.processes) AS processes")
	}
	for i, m := range b.read.Measures {
		columns = append(columns, b.sum(i, m))
	}
	if b.hasState() {
		columns = append(columns, `sum(u.elapsed_ms)::bigint AS elapsed`,
			`(array_agg(u.elapsed_ms ORDER BY u.start DESC))[1] AS now_ms`, `min(u.start) AS used_from`,
			`max(u.start + u.elapsed_ms * interval '1 millisecond') AS used_to`,
			`coalesce((array_agg(u.threads ORDER BY u.start DESC))[1], 0) AS threads`,
			`coalesce((array_agg(u.processes ORDER BY u.start DESC))[1], 0) AS procs`,
			`coalesce(sum(u.runnable_ms), 0)::float8 AS runnable`, `coalesce(max(u.runnable_peak), 0) AS runnable_peak`)
	}
	if b.ofNewest() {
		columns = append(columns, `(array_agg(u.tenant_id ORDER BY u.start DESC))[1] AS tenant_then`)
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s GROUP BY %s", strings.Join(columns, ", "), from,
		b.within(&b.q.Scope, of), strings.Join(group, ", "))
}

// ofNewest tells whether a row names the tenant of the workload's newest interval.
func (b *grouping) ofNewest() bool {
	return b.by(question.Workload) && !b.by(question.Tenant) && b.read.Book == question.WorkloadMinutes
}

// stretch is the begin of the step that a row falls into, as Question.Stretch has it.
func (b *grouping) stretch(start string) string {
	return fmt.Sprintf("date_bin(%s::float8 * interval '1 second', u.%s, 'epoch'::timestamptz)",
		b.arg(b.q.Step.Seconds()), start)
}

// sum is what the inner query holds of the i-th measure: its units, peak and weakest source, whether some interval
// lacks a figure, whether a collector did not tell of it, and the newest interval's units.
func (b *grouping) sum(i int, m amount.Measure) string {
	c := m.String()
	const columns = "%s AS s%[2]d, %[3]s AS p%[2]d, %[4]s AS q%[2]d, %[5]s AS m%[2]d, %[6]s AS n%[2]d, %[7]s AS w%[2]d"
	switch b.read.Book {
	case question.CPUMinutes:
		return fmt.Sprintf(columns, "sum(x.spent)", i, "0", "max(u.source)", "false", "false", "0")
	case question.PartMinutes:
		return fmt.Sprintf(columns, "sum(x.spent)", i, "0", fmt.Sprint(int(amount.Summed)), "false", "false", "0")
	case question.ProgramMinutes:
		source := fmt.Sprintf("CASE WHEN u.program_id = 0 THEN %d ELSE %d END", amount.Counted, amount.Summed)
		if !m.Entry().ByProcess {
			source = fmt.Sprintf("CASE WHEN u.program_id = 0 THEN %d ELSE %d END", amount.Counted, amount.Unavailable)
		}
		source = fmt.Sprintf("CASE WHEN count(u.%s) = 0 THEN %d ELSE %s END", c, amount.Unavailable, source)
		return fmt.Sprintf(columns, "sum(u."+c+")", i, "0", source, source+fmt.Sprintf(" = %d", amount.Unavailable),
			"bool_or(u."+c+" IS NULL)", "0")
	}
	now := "0"
	if b.hasState() {
		now = fmt.Sprintf("coalesce((array_agg(u.%s ORDER BY u.start DESC))[1], 0)", c)
	}
	return fmt.Sprintf(columns, "sum(u."+c+")", i, "max(u."+c+"_peak)",
		fmt.Sprintf("max(u.%s_source) FILTER (WHERE u.%[1]s_source < %d)", c, amount.Unavailable),
		fmt.Sprintf("bool_or(coalesce(u.%s_source, %d) = %[2]d)", c, amount.Unavailable),
		"bool_or(u."+c+"_source IS NULL)", now)
}

// column is one column of the outer query; those that tell groups apart are grouped by.
type column struct {
	expression, name string
	groups           bool
}

// names are the columns that say which group a row is, in the order in which they are read.
func (b *grouping) names() []column {
	c := map[string]column{}
	for name, none := range map[string]string{"stretch": "NULL::timestamptz", "workload": "0::bigint", "tenant": "0",
		"host": "0", "cpu": "0", "name": "''", "family": "''", "kind": "''", "owner": "''", "tenant_name": "''",
		"host_name": "''", "workload_name": "''"} {
		c[name] = column{none, name, false}
	}
	put := func(name, expression string) { c[name] = column{expression, name, true} }
	if b.q.Step > 0 {
		put("stretch", "i.stretch")
	}
	for _, d := range b.q.By {
		switch d {
		case question.Tenant:
			put("tenant", "i.tenant_of")
			put("tenant_name", "coalesce(t.name, '')")
			put("name", "coalesce(t.name, '')")
		case question.User:
			put("owner", "w.owner")
			put("name", "w.owner")
		case question.Kind:
			put("kind", "w.kind")
			put("name", "w.kind")
		case question.Host:
			put("host", "i.host_id")
			put("host_name", "h.name")
			put("name", "h.name")
		case question.CPU:
			put("cpu", "i.cpu")
		case question.Part:
			put("name", "i.part")
		}
		if fact := d.Fact(); fact != "" {
			put("name", "coalesce(w.facts->>"+b.arg(fact)+"::text, '')")
		} else if key := d.Label(); key != "" {
			put("name", "coalesce(w.labels->>"+b.arg(key)+"::text, '')")
		}
	}
	// What is more particular has the name.
	if b.by(question.Workload) {
		put("workload", "i.workload_id")
		put("host", "i.host_id")
		put("name", "w.name")
		put("kind", "w.kind")
		put("owner", "w.owner")
		put("host_name", "h.name")
		if b.ofNewest() {
			put("tenant", "coalesce(t.id, 0)")
			put("tenant_name", "coalesce(t.name, '')")
		}
	}
	switch {
	case b.by(question.Program):
		put("name", "coalesce(p.name, '')")
		if b.by(question.Family) {
			put("family", "coalesce(f.name, '')")
		}
	case b.by(question.Family): // one family a workload, by its name: what ran before under it is the same
		put("name", "coalesce(f.name, '')")
		put("workload_name", "w.name")
		put("owner", "w.owner")
		put("host_name", "h.name")
		put("kind", "w.kind")
	}
	order := []string{"stretch", "workload", "tenant", "host", "cpu", "name", "family", "kind", "owner", "tenant_name",
		"host_name", "workload_name"}
	columns := make([]column, len(order))
	for i, name := range order {
		columns[i] = c[name]
	}
	return columns
}

// outer groups what the workloads had by what is asked for.
func (b *grouping) outer() string {
	names := b.names()
	var columns, group []string
	for _, c := range names {
		columns = append(columns, c.expression+" AS "+c.name)
		if c.groups {
			group = append(group, strconv.Itoa(len(columns))) // by its place
		}
	}
	parts, workloads, missing := "count(*)", "count(*)", "count(*) FILTER (WHERE i.m%d)"
	untold := "count(*) FILTER (WHERE i.n%d)"
	if b.read.Book != question.WorkloadMinutes {
		workloads = "count(DISTINCT i.workload_id)"
	}
	if b.read.Book == question.ProgramMinutes {
		parts, missing = "sum(i.processes)", "coalesce(sum(i.processes) FILTER (WHERE i.m%d), 0)"
		untold = "coalesce(sum(i.processes) FILTER (WHERE i.n%d), 0)"
	}
	columns = append(columns, parts+" AS parts", workloads+" AS workloads")
	for i := range b.read.Measures {
		source := fmt.Sprintf("coalesce(max(i.q%d) FILTER (WHERE i.q%[1]d < %d), %[2]d)", i, amount.Unavailable)
		columns = append(columns, fmt.Sprintf(`coalesce(sum(i.s%d), 0)::float8 AS s%[1]d,
			coalesce(max(i.p%[1]d), 0)::float8 AS p%[1]d, %s AS q%[1]d`, i, source),
			fmt.Sprintf(missing, i)+fmt.Sprintf(" AS m%d", i), fmt.Sprintf(untold, i)+fmt.Sprintf(" AS n%d", i),
			fmt.Sprintf("coalesce(sum(i.w%d), 0)::float8 AS w%[1]d", i))
	}
	if b.hasState() {
		columns = append(columns, "sum(i.elapsed)::bigint AS elapsed", "max(i.now_ms) AS now_ms",
			"min(i.used_from) AS used_from", "max(i.used_to) AS used_to", "sum(i.threads) AS threads",
			"sum(i.procs) AS procs", "sum(i.runnable) AS runnable", "max(i.runnable_peak) AS runnable_peak")
	}
	query := fmt.Sprintf(
		"SELECT %s FROM (%s) AS i JOIN workloads w ON w.id = i.workload_id JOIN hosts h ON h.id = i.host_id",
		strings.Join(columns, ", "), b.inner())
	switch {
	case b.by(question.Tenant):
		query += " LEFT JOIN tenants t ON t.id = i.tenant_of"
	case b.ofNewest():
		query += " LEFT JOIN tenants t ON t.id = i.tenant_then"
	}
	if b.read.Book == question.ProgramMinutes {
		query += " LEFT JOIN programs p ON p.id = i.program_id LEFT JOIN programs f ON f.id = i.family_id"
	}
	if len(group) > 0 {
		return query + " GROUP BY " + strings.Join(group, ", ")
	}
	return query + " HAVING count(*) > 0"
}

// byTenant answers from the sums by tenant and minute, which tell the highest minute of all its workloads together. How
// many workloads it had, and what of them is known, is counted from the minutes of the workloads.
func (b *grouping) byTenant() string {
	of := shelves[question.TenantMinutes]
	var minute, sums, columns []string
	for i, m := range b.read.Measures {
		minute = append(minute, fmt.Sprintf("sum(u.%s) AS s%d", m, i))
		sums = append(sums, fmt.Sprintf("sum(s%d) AS s%[1]d, max(s%[1]d) AS p%[1]d", i))
		columns = append(columns, fmt.Sprintf(`coalesce(s.s%d, 0)::float8 AS s%[1]d,
				coalesce(s.p%[1]d, 0)::float8 AS p%[1]d,
			k.q%[1]d, k.m%[1]d, k.n%[1]d, 0::float8 AS w%[1]d`, i))
	}
	workloads := *b.q
	known := grouping{q: &workloads, statement: b.statement,
		read: question.Read{Book: question.WorkloadMinutes, Measures: b.read.Measures}}
	counted := known.outer()
	b.args = known.args
	return fmt.Sprintf(`WITH s AS (SELECT tenant_of, %s FROM
			(SELECT %s AS tenant_of, u.minute, %s FROM tenant_minute u WHERE %s GROUP BY 1, 2) AS m GROUP BY 1),
		k AS (%s)
		SELECT k.stretch, k.workload, k.tenant, k.host, k.cpu, k.name, k.family, k.kind, k.owner, k.tenant_name,
			k.host_name, k.workload_name, k.parts, k.workloads, %s FROM k LEFT JOIN s ON s.tenant_of = k.tenant`,
		strings.Join(sums, ", "), tenantExpr, strings.Join(minute, ", "), b.within(&b.q.Scope, of), counted,
		strings.Join(columns, ", "))
}

// build is the whole query.
func (b *grouping) build(arrange bool) string {
	var query string
	if b.read.Book == question.TenantMinutes {
		query = b.byTenant()
	} else {
		query = b.outer()
	}
	if !arrange {
		return query
	}
	return b.arranged(query)
}

// arranged sorts the groups and cuts the page, with what all of them add up to. It orders as question.Order does.
func (b *grouping) arranged(query string) string {
	const rest = `concat_ws(chr(1), g.name, g.host_name, g.workload_name, g.family, g.kind, g.owner, g.tenant_name,
		lpad(g.workload::text, 20, '0'), lpad(g.tenant::text, 10, '0'), lpad(g.host::text, 10, '0'),
		lpad(g.cpu::text, 10, '0'))`
	unavailable := amount.Unavailable
	units := fmt.Sprintf("CASE WHEN g.q0 < %d THEN g.s0 ELSE -1 END", unavailable)
	number, text := units, "''"
	order := b.q.Order
	switch order.By {
	case "name", "kind", "owner":
		number, text = "0", "g."+order.By
	case "tenant", "host":
		number, text = "0", "g."+order.By+"_name"
	case "source":
		names := "CASE g.q0"
		for s := amount.Counted; s <= amount.Unavailable; s++ {
			names += fmt.Sprintf(" WHEN %d THEN %s", s, quoted(s.String()))
		}
		number, text = "0", names+" END"
	case "parts":
		number = "g.parts::float8"
	case "peak":
		number = fmt.Sprintf("CASE WHEN g.q0 < %d THEN %s ELSE -1 END", unavailable, b.peakMean("g.p0"))
	default:
		if slices.Equal(b.q.By, []question.Dimension{question.Tenant}) {
			number = fmt.Sprintf("CASE WHEN g.tenant = 0 THEN %g ELSE %s END", question.FirstOfAll, units)
		}
	}
	turn := map[bool]string{false: "", true: " DESC"}
	if !order.IsText() {
		turn = map[bool]string{false: " DESC", true: ""}
	}
	sorted := "o.number" + turn[order.Turned]
	if order.IsText() {
		sorted = `o.words COLLATE "C"` + turn[order.Turned]
	}
	where := ""
	if after := b.q.Page.After; after != nil && b.q.Step == 0 {
		where = " WHERE " + b.after(order, after)
	}
	limit := ""
	if b.q.Page.First > 0 && b.q.Step == 0 {
		limit = " LIMIT " + b.arg(b.q.Page.First+1)
	}
	totals := "(SELECT count(*) FROM g)"
	for i := range b.read.Measures {
		totals += fmt.Sprintf(", (SELECT coalesce(sum(s%d), 0)::float8 FROM g)", i)
	}
	columns := []string{"o.stretch, o.workload, o.tenant, o.host, o.cpu, o.name, o.family, o.kind, o.owner, " +
		"o.tenant_name",
		"o.host_name, o.workload_name, o.parts, o.workloads"}
	for i := range b.read.Measures {
		columns = append(columns, fmt.Sprintf("o.s%d, o.p%[1]d, o.q%[1]d, o.m%[1]d, o.n%[1]d, o.w%[1]d", i))
	}
	if b.hasState() {
		columns = append(columns,
			"o.elapsed, o.now_ms, o.used_from, o.used_to, o.threads, o.procs, o.runnable, o.runnable_peak")
	}
	return fmt.Sprintf(`WITH g AS (%s)
		SELECT %s, %s FROM (SELECT g.*, %s AS number, %s AS words, %s AS units, %s AS rest FROM g) AS o%s
		ORDER BY o.stretch, %s, o.units DESC, o.rest COLLATE "C"%s`,
		query, strings.Join(columns, ", "), totals, number, text, units, rest, where, sorted, limit)
}

// peakMean is the first measure's peak in its mean unit, worked out as Measure.PeakMean and Measure.Mean do.
func (b *grouping) peakMean(peak string) string {
	m := b.read.Measures[0]
	mean := fmt.Sprintf("%s / %g::float8", peak, m.Entry().Unit.Per)
	switch {
	case b.read.Book != question.TenantMinutes:
		return mean
	case m.IsLevel():
		return mean + " / 60000::float8"
	}
	return mean + " / 60::float8"
}

// after holds rows to those that come after a key.
func (b *grouping) after(order question.Order, k *question.Key) string {
	less := !order.IsText() == !order.Turned // numbers go largest first, words by the alphabet
	var column, key string
	if order.IsText() {
		column, key = `o.words COLLATE "C"`, b.arg(k.Text)+"::text"
	} else {
		column, key = "o.number", b.arg(k.Number)+"::float8"
	}
	beyond := map[bool]string{true: "<", false: ">"}[less]
	units, rest := b.arg(k.Units)+"::float8", b.arg(k.Rest)+"::text"
	return fmt.Sprintf(
		`(%[1]s %[2]s %[3]s OR %[1]s = %[3]s AND (o.units < %[4]s OR o.units = %[4]s AND o.rest COLLATE "C" > %[5]s))`,
		column, beyond, key, units, rest)
}
