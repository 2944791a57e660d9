package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// names is what rows of an answer are called by.
type names struct {
	workloads map[int64]Workload
	tenants   map[int32]string
}

// namesOf loads what is known of the workloads that were counted. Rows by tenant and host are not called by any.
func (s *Store) namesOf(ctx context.Context, c *count) (names, error) {
	if !slices.ContainsFunc(c.q.By, func(d question.Dimension) bool {
		return d != question.Tenant && d != question.Host
	}) {
		return s.namesOfHosts(ctx, c)
	}
	seen := map[int64]bool{}
	ids := []int64{}
	for k := range c.parts {
		if !seen[k.workload] {
			seen[k.workload] = true
			ids = append(ids, k.workload)
		}
	}
	workloads, err := s.WorkloadsByID(ctx, ids)
	return names{workloads: workloads}, err
}

// namesOfHosts knows of the workloads that were counted what host they are on, and no more.
func (s *Store) namesOfHosts(ctx context.Context, c *count) (names, error) {
	of := names{workloads: map[int64]Workload{}}
	if !c.q.Has(question.Host) {
		return of, nil
	}
	hosts, err := s.Hosts(ctx)
	byID := make(map[int32]Host, len(hosts))
	for _, h := range hosts {
		byID[h.ID] = h
	}
	for k, p := range c.parts {
		of.workloads[k.workload] = Workload{ID: k.workload, Host: byID[p.host]}
	}
	return of, err
}

// group is the parts that make one row of an answer.
type group struct {
	row       question.Row
	workloads map[int64]bool
	sums      []groupSum
}

// rows groups what was counted by what is asked for.
func (c *count) rows(of names) []question.Row {
	type groupOf struct {
		step   int64
		number int
	}
	groups := map[groupOf]*group{}
	numbers, known := map[string]int{}, map[partKey]int{} // of groups, whatever their step
	for k, p := range c.parts {
		plain := k
		plain.step = 0
		number, there := known[plain]
		if !there {
			row := c.rowOf(plain, p, of)
			if !c.byTenant { // that of its newest interval, which is another in another step
				row.Tenant, row.Names.Tenant = 0, ""
			}
			key := groupKey(&row)
			if number, there = numbers[key]; !there {
				number = len(numbers)
				numbers[key] = number
			}
			known[plain] = number
		}
		g := groups[groupOf{k.step, number}]
		if g == nil {
			row := c.rowOf(k, p, of)
			g = &group{row: row, workloads: map[int64]bool{}, sums: make([]groupSum, len(c.q.Measures))}
			groups[groupOf{k.step, number}] = g
		}
		n := 1
		if c.plan.Division == question.ByProgram {
			n = int(p.processes)
		}
		g.row.Parts += n
		g.workloads[k.workload] = true
		for i, m := range c.q.Measures {
			g.sums[i].add(m, &p.sums[i], n, c.plan.Division == question.ByProgram)
		}
	}
	rows := make([]question.Row, 0, len(groups))
	for _, g := range groups {
		g.row.Workloads = len(g.workloads)
		for i, m := range c.q.Measures {
			g.row.Sums = append(g.row.Sums, g.sums[i].close(m))
		}
		rows = append(rows, g.row)
	}
	return rows
}

// groupKey tells a row's group from all others of its step.
func groupKey(r *question.Row) string {
	return fmt.Sprintf("%d/%d/%d/%d/%q/%q/%q", r.Workload, r.Tenant, r.Host, r.CPU, r.Name,
		r.Family, r.Names)
}

// rowOf says which group a part belongs to. Of several dimensions, what is more particular has the name.
func (c *count) rowOf(k partKey, p *part, of names) question.Row {
	w := of.workloads[k.workload]
	var row question.Row
	if c.step > 0 {
		row.Start = time.UnixMicro(k.step).UTC()
	}
	for _, d := range c.q.By {
		switch d {
		case question.Tenant:
			row.Tenant, row.Names.Tenant, row.Name = k.tenant, of.tenants[k.tenant], of.tenants[k.tenant]
		case question.User:
			row.Names.Owner, row.Name = w.Owner, w.Owner
		case question.Kind:
			row.Names.Kind, row.Name = w.Kind, w.Kind
		case question.Host:
			row.Host, row.Names.Host, row.Name = p.host, w.Host.Name, w.Host.Name
		case question.CPU:
			row.CPU = k.cpu
		case question.Part:
			row.Name = c.words[k.words].part
		}
		if fact := d.Fact(); fact != "" {
			row.Name = w.Facts[fact]
		} else if key := d.Label(); key != "" {
			row.Name = w.Labels[key]
		}
	}
	if c.q.Has(question.Workload) {
		row.Workload, row.Host, row.Name = w.ID, p.host, w.Name
		row.Names.Kind, row.Names.Owner, row.Names.Host = w.Kind, w.Owner, w.Host.Name
		if !c.byTenant && c.plan.Division == question.ByWorkload { // the tenant of its newest interval
			row.Tenant, row.Names.Tenant = p.tenant, of.tenants[p.tenant]
		}
	}
	switch {
	case c.q.Has(question.Program):
		row.Name = c.words[k.words].program
		if c.q.Has(question.Family) {
			row.Family = c.words[k.words].family
		}
	case c.q.Has(question.Family): // one family a workload, by its name: what ran before under it is the same
		row.Name, row.Names.Workload, row.Names.Owner = c.words[k.words].family, w.Name, w.Owner
		row.Names.Host, row.Names.Kind = w.Host.Name, w.Kind
	}
	if c.q.State && c.plan.Division == question.ByWorkload {
		state := p.state
		row.State = &state
	}
	return row
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
	if !x.known {
		return
	}
	if m.Manner().OverWorkloads() == amount.Highest {
		g.units.Raise(x.units)
	} else {
		g.units.Plus(x.units)
	}
	g.apart = g.apart || g.known > 0 && m.Manner().OverWorkloads() == amount.Apart
	g.known++
	g.source, g.over = g.source.Weaker(x.source), max(g.over, x.over)
}

func (g *groupSum) close(m amount.Measure) question.Sum {
	s := question.Sum{Source: amount.Unavailable, Missing: g.missing, Untold: g.untold, Now: g.now}
	if m.HasLedger() {
		s.Peak = m.PeakMean(float64(g.peak))
	}
	if g.known == 0 || g.apart {
		return s
	}
	s.Units, s.Source = g.units.Float(), g.source
	if !m.HasLedger() {
		s.Over = g.over
	}
	return s
}
