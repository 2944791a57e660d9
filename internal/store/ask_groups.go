package store

import (
	"context"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// names is what rows of an answer are called by.
type names struct {
	workloads map[int64]Workload
	hosts     map[int32]Host
	tenants   map[int32]string
}

// numbered are the dimensions whose groups have numbers.
var numbered = []question.Dimension{question.Tenant, question.Host, question.Workload, question.CPU}

// isNamedLast tells that rows are told apart by numbers alone: only those that are listed need names.
func (c *count) isNamedLast() bool {
	return !slices.ContainsFunc(c.q.By, func(d question.Dimension) bool { return !slices.Contains(numbered, d) })
}

// workloads are those that were counted.
func (c *count) workloads() []int64 {
	seen := map[int64]bool{}
	ids := []int64{}
	for k := range c.courses {
		if !seen[k.workload] {
			seen[k.workload] = true
			ids = append(ids, k.workload)
		}
	}
	return ids
}

// nameLast puts names to rows that were told apart by numbers.
func (s *Store) nameLast(ctx context.Context, c *count, rows []question.Row, tenants map[int32]string) error {
	of := names{tenants: tenants}
	if c.q.Has(question.Workload) {
		ids := make([]int64, len(rows))
		for i := range rows {
			ids[i] = rows[i].Workload
		}
		slices.Sort(ids)
		var err error
		if of.workloads, err = s.WorkloadsByID(ctx, slices.Compact(ids)); err != nil {
			return err
		}
	} else if c.q.Has(question.Host) {
		hosts, err := s.Hosts(ctx)
		if err != nil {
			return err
		}
		of.hosts = make(map[int32]Host, len(hosts))
		for _, h := range hosts {
			of.hosts[h.ID] = h
		}
	}
	for i := range rows {
		w := of.workloads[rows[i].Workload]
		if !c.q.Has(question.Workload) {
			w.Host = of.hosts[rows[i].Host]
		}
		c.name(&rows[i], &w, of.tenants)
	}
	return nil
}

// group is the parts that make one row of an answer.
type group struct {
	step      int64
	row       question.Row
	workloads map[int64]bool // where usage is divided: else every part is of another
	sums      []groupSum
}

// settle groups what was counted by what is asked for.
func (c *count) settle(of names) {
	seen := map[int64]bool{}
	for k, x := range c.courses {
		if !seen[k.workload] {
			seen[k.workload] = true
			c.counted[x.host]++
		}
		number, at := -1, 0
		for i := range x.parts {
			p := &x.parts[i]
			if c.q.Least != nil && c.isLess(p) {
				continue
			}
			if number < 0 {
				row := c.rowOf(k, x.host, p, of)
				if !c.byTenant { // that of its newest interval, which is another in another step
					row.Tenant, row.Names.Tenant = 0, ""
				}
				number = c.number(groupOf(&row))
			}
			g := c.groupAt(number, &at, p.step)
			if *g == nil {
				*g = &group{step: p.step, row: c.rowOf(k, x.host, p, of), sums: make([]groupSum, len(c.q.Measures))}
				if c.plan.Division != question.ByWorkload {
					(*g).workloads = map[int64]bool{}
				}
			}
			(*g).add(c, k, p)
		}
	}
	c.spare.takeBack(c.courses)
	clear(c.courses)
	c.last = nil
}

// number is that of a group, whatever its step.
func (c *count) number(key groupKey) int {
	number, there := c.numbers[key]
	if !there {
		number = len(c.groups)
		c.numbers[key], c.groups = number, append(c.groups, nil)
	}
	return number
}

// groupAt is where a group with some number has its step, looked for from a place on: nil there if it is new.
func (c *count) groupAt(number int, at *int, step int64) **group {
	list := c.groups[number]
	for *at < len(list) && list[*at].step < step {
		*at++
	}
	if *at == len(list) || list[*at].step > step {
		c.groups[number] = slices.Insert(list, *at, nil)
	}
	return &c.groups[number][*at]
}

// rows are the groups of all that was counted.
func (c *count) rows(of names) []question.Row {
	c.settle(of)
	rows := []question.Row{}
	for _, list := range c.groups {
		for _, g := range list {
			for i, m := range c.q.Measures {
				g.row.Sums = append(g.row.Sums, g.sums[i].close(m))
			}
			rows = append(rows, g.row)
		}
	}
	return rows
}

// join adds a group of other workloads.
func (g *group) join(c *count, other *group) {
	g.row.Parts += other.row.Parts
	g.row.Workloads += other.row.Workloads
	for i, m := range c.q.Measures {
		g.sums[i].join(m, &other.sums[i])
	}
}

// add adds a part.
func (g *group) add(c *count, k courseKey, p *part) {
	isByProgram, n := c.plan.Division == question.ByProgram, 1
	if isByProgram {
		n = int(p.processes)
	}
	g.row.Parts += n
	if g.workloads == nil {
		g.row.Workloads++
	} else if !g.workloads[k.workload] {
		g.workloads[k.workload] = true
		g.row.Workloads++
	}
	for i, m := range c.q.Measures {
		g.sums[i].add(m, &p.sums[i], n, isByProgram)
	}
}

// groupKey tells a row's group from all others of its step.
type groupKey struct {
	workload          int64
	tenant, host, cpu int32
	name, family      string
	names             question.Names
}

func groupOf(r *question.Row) groupKey {
	return groupKey{r.Workload, r.Tenant, r.Host, r.CPU, r.Name, r.Family, r.Names}
}

// rowOf says which group a part belongs to.
func (c *count) rowOf(k courseKey, host int32, p *part, of names) question.Row {
	var row question.Row
	if c.step > 0 {
		row.Start = time.UnixMicro(p.step).UTC()
	}
	for _, d := range c.q.By {
		switch d {
		case question.Tenant:
			row.Tenant = k.tenant
		case question.Host:
			row.Host = host
		case question.CPU:
			row.CPU = k.cpu
		case question.Part:
			row.Name = c.words[k.words].part
		}
	}
	if c.q.Has(question.Workload) {
		row.Workload, row.Host = k.workload, host
		if !c.byTenant && c.plan.Division == question.ByWorkload { // the tenant of its newest interval
			row.Tenant = p.tenant
		}
	}
	if !c.isNamedLast() {
		w := of.workloads[k.workload]
		c.name(&row, &w, of.tenants)
	}
	switch {
	case c.q.Has(question.Program):
		row.Name = c.words[k.words].program
		if c.q.Has(question.Family) {
			row.Family = c.words[k.words].family
		}
	case c.q.Has(question.Family): // one family a workload, by its name: what ran before under it is the same
		w := of.workloads[k.workload]
		row.Name, row.Names.Workload, row.Names.Owner = c.words[k.words].family, w.Name, w.Owner
		row.Names.Host, row.Names.Kind = w.Host.Name, w.Kind
	}
	if c.q.State && c.plan.Division == question.ByWorkload {
		state := *p.state
		row.State = &state
	}
	return row
}

// name puts names to a row of a workload. Of several dimensions, what is more particular has the name.
func (c *count) name(row *question.Row, w *Workload, tenants map[int32]string) {
	for _, d := range c.q.By {
		switch d {
		case question.Tenant:
			row.Names.Tenant, row.Name = tenants[row.Tenant], tenants[row.Tenant]
		case question.User:
			row.Names.Owner, row.Name = w.Owner, w.Owner
		case question.Kind:
			row.Names.Kind, row.Name = w.Kind, w.Kind
		case question.Host:
			row.Names.Host, row.Name = w.Host.Name, w.Host.Name
		}
		if fact := d.Fact(); fact != "" {
			row.Name = w.Facts[fact]
		} else if key := d.Label(); key != "" {
			row.Name = w.Labels[key]
		}
	}
	if c.q.Has(question.Workload) {
		row.Name, row.Names.Kind, row.Names.Owner, row.Names.Host = w.Name, w.Kind, w.Owner, w.Host.Name
		if !c.byTenant && c.plan.Division == question.ByWorkload {
			row.Names.Tenant = tenants[row.Tenant]
		}
	}
}

// groupSum adds up what several parts had of one measure, as its manner allows.
type groupSum struct {
	units   amount.Wide
	peak    int64
	now     float64
	source  amount.Source
	known   int
	missing int
	untold  int
	over    int64
	apart   bool // it cannot be combined over workloads
}

// add adds a part, which stands for so many.
func (g *groupSum) add(m amount.Measure, x *tally, n int, isProgram bool) {
	switch {
	case isProgram: // what a program lacks in one interval it may have in the next
		x.lacks = !x.known
	case !m.HasLedger():
		x.lacks = !x.known || x.count < 0
	}
	if x.lacks {
		g.missing += n
	}
	if x.untold {
		g.untold += n
	}
	g.peak, g.now = max(g.peak, x.peak), g.now+float64(x.now)
	if x.known {
		g.plus(m, x.units, x.source, x.over)
		g.known++
	}
}

// plus adds units that are known.
func (g *groupSum) plus(m amount.Measure, units amount.Wide, source amount.Source, over int64) {
	if m.Manner().OverWorkloads() == amount.Highest {
		g.units.Raise(units)
	} else {
		g.units.Plus(units)
	}
	g.apart = g.apart || g.known > 0 && m.Manner().OverWorkloads() == amount.Apart
	g.source, g.over = g.source.Weaker(source), max(g.over, over)
}

// join adds what other workloads had.
func (g *groupSum) join(m amount.Measure, other *groupSum) {
	g.missing, g.untold = g.missing+other.missing, g.untold+other.untold
	g.peak, g.now = max(g.peak, other.peak), g.now+other.now
	if other.known > 0 {
		g.plus(m, other.units, other.source, other.over)
		g.known, g.apart = g.known+other.known, g.apart || other.apart
	}
}

func (g *groupSum) close(m amount.Measure) question.Sum {
	s := question.Sum{Source: amount.Unavailable, Missing: g.missing, Untold: g.untold, Now: g.now}
	if m.HasLedger() {
		s.Peak = m.PeakMean(float64(g.peak))
	}
	if g.known == 0 || g.apart {
		return s
	}
	s.Units, s.Exact, s.Source = g.units.Float(), g.units, g.source
	if !m.HasLedger() {
		s.Over = g.over
	}
	return s
}
