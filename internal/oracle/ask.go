package oracle

import (
	"fmt"
	"math"
	"math/big"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// tally is what one part of a group, such as one workload, had of one measure.
type tally struct {
	units   big.Int
	highest int64
	peak    int64
	source  amount.Source // the weakest of those that are known
	known   bool
	lacks   bool
	untold  bool
	over    int64
	newest  time.Time
	now     int64
}

func (t *tally) add(m *Minute, of amount.Measure, f figure) {
	if !m.Start.Before(t.newest) {
		t.newest, t.now = m.Start, f.units
	}
	t.untold = t.untold || !f.told
	t.peak = max(t.peak, f.peak)
	if f.source == amount.Unavailable {
		t.lacks = true
		return
	}
	t.units.Add(&t.units, big.NewInt(f.units))
	t.highest = max(t.highest, f.units)
	t.source, t.known = max(t.source, f.source), true
	t.over += m.Interval.ElapsedMillis
}

// part is one workload, or one program of one, within a group.
type part struct {
	workload  int64
	processes int
	sums      []tally
	state     question.State
	newest    time.Time
	tenant    int32
}

type group struct {
	row    question.Row
	parts  map[string]*part
	minute map[time.Time][]*big.Int // sums of each minute, by measure, where they are asked for
}

// Ask answers a question: a row a group, in no order.
func (b *Book) Ask(q question.Question) []question.Row {
	groups := map[string]*group{}
	programs := q.Has(question.Program) || q.Has(question.Family)
	b.each(&q.Scope, func(m *Minute, i int) {
		switch {
		case programs:
			b.eachProgram(m, i, func(program, family string, processes int, units func(amount.Measure) figure) {
				p := b.part(groups, &q, m, i, program, family, 0, "")
				p.processes = max(p.processes, processes)
				p.add(&q, m, units)
			})
		case q.Has(question.CPU):
			c := m.Interval.GetCpuUse()
			for k, w := range c.GetWorkload() {
				if int(w) == i {
					source := amount.Source(c.Source[i])
					p := b.part(groups, &q, m, i, "", "", int32(c.Cpu[k]), "")
					p.add(&q, m, func(amount.Measure) figure { return figure{c.Micros[k], 0, source, true} })
				}
			}
		case q.Has(question.Part):
			c := m.Interval.GetParts()
			for k, w := range c.GetWorkload() {
				if int(w) == i {
					p := b.part(groups, &q, m, i, "", "", 0, c.Name[k])
					p.add(&q, m, func(amount.Measure) figure { return figure{c.Micros[k], 0, amount.Summed, true} })
				}
			}
		default:
			p := b.part(groups, &q, m, i, "", "", 0, "")
			p.add(&q, m, func(of amount.Measure) figure { return figureOf(m, i, of) })
			p.stateAt(m, i)
		}
	})
	rows := []question.Row{}
	for _, g := range groups {
		if byMinute(&q) {
			g.minute = b.minutes(&q, g.row.Tenant)
		}
		rows = append(rows, b.close(&q, g, programs))
	}
	return rows
}

func (p *part) add(q *question.Question, m *Minute, of func(amount.Measure) figure) {
	for k, measure := range q.Measures {
		p.sums[k].add(m, measure, of(measure))
	}
}

// stateAt takes over what the newest interval says, and adds what goes on.
func (p *part) stateAt(m *Minute, i int) {
	w, s := m.Interval.Workloads, &p.state
	end := m.Start.Add(time.Duration(m.Interval.ElapsedMillis) * time.Millisecond)
	if s.From.IsZero() || m.Start.Before(s.From) {
		s.From = m.Start
	}
	if end.After(s.To) {
		s.To = end
	}
	s.ElapsedMillis += m.Interval.ElapsedMillis
	s.RunnableMillis += float64(w.RunnableMillis[i])
	s.RunnablePeak = max(s.RunnablePeak, int64(w.RunnablePeak[i]))
	if !m.Start.Before(p.newest) {
		p.newest = m.Start
		s.NowMillis, s.Threads, s.Processes = m.Interval.ElapsedMillis, int64(w.Threads[i]), int64(w.Processes[i])
	}
}

// minutes are what the workloads of a tenant had together in each minute of a span, by measure. An interval that is
// more than a second longer than a minute is cut into minutes from its begin on, and the rest of it is counted in one
// more; each has of what was used as much as it has of the time.
func (b *Book) minutes(q *question.Question, tenant int32) map[time.Time][]*big.Int {
	sums := map[time.Time][]*big.Int{}
	for n := range b.Minutes {
		m := &b.Minutes[n]
		if !in(q.Scope.Hosts, m.Host) {
			continue
		}
		elapsed := m.Interval.ElapsedMillis
		ends := []int64{} // of its minutes, in milliseconds from its begin
		for at := int64(60_000); at < elapsed-1000; at += 60_000 {
			ends = append(ends, at)
		}
		ends = append(ends, elapsed)
		for i := range m.IDs {
			if b.tenant(m, i) != tenant {
				continue
			}
			for k, of := range q.Measures {
				f := figureOf(m, i, of)
				if f.source == amount.Unavailable {
					continue
				}
				before := new(big.Int)
				for nth, end := range ends {
					until := new(big.Int).Mul(big.NewInt(f.units), big.NewInt(end))
					until.Div(until, big.NewInt(elapsed))
					part := new(big.Int).Sub(until, before)
					before = until
					at := m.Start.Truncate(time.Minute).Add(time.Duration(nth) * time.Minute)
					if !q.Scope.Span.Holds(at) {
						continue
					}
					if sums[at] == nil {
						for range q.Measures {
							sums[at] = append(sums[at], new(big.Int))
						}
					}
					sums[at][k].Add(sums[at][k], part)
				}
			}
		}
	}
	return sums
}

// eachProgram visits the programs of a workload in an interval, by the names of the program and the head of its family.
func (b *Book) eachProgram(m *Minute, i int,
	visit func(program, family string, processes int, units func(amount.Measure) figure)) {
	p := m.Interval.GetPrograms()
	for k, w := range p.GetWorkload() {
		if int(w) != i {
			continue
		}
		program, family := "", ""
		if p.Program[k] >= 0 {
			program = p.Names[p.Program[k]]
		}
		if p.Family[k] >= 0 {
			family = p.Names[p.Family[k]]
		}
		visit(program, family, int(p.Processes[k]), func(of amount.Measure) figure {
			for _, c := range p.Columns {
				if c.Resource != of.String() {
					continue
				}
				switch {
				case program == "":
					return figure{c.Units[k], 0, amount.Counted, true}
				case !of.Entry().ByProcess: // processes are not counted for it
					return figure{0, 0, amount.Unavailable, true}
				}
				return figure{c.Units[k], 0, amount.Summed, true}
			}
			return figure{source: amount.Unavailable}
		})
	}
}

// part finds, or makes, the part of a group that a figure belongs to.
func (b *Book) part(groups map[string]*group, q *question.Question, m *Minute, i int, program, family string, cpu int32,
	name string) *part {
	key := b.key(q, m, i, program, family, cpu, name)
	g := groups[key]
	if g == nil {
		g = &group{row: b.row(q, m, i, program, family, cpu, name), parts: map[string]*part{}}
		groups[key] = g
	}
	k := fmt.Sprintf("%d/%q/%q", m.IDs[i], program, family)
	p := g.parts[k]
	if p == nil {
		p = &part{workload: m.IDs[i], sums: make([]tally, len(q.Measures))}
		g.parts[k] = p
	}
	if !m.Start.Before(p.newest) {
		p.tenant = b.tenant(m, i)
	}
	return p
}

// key tells groups apart.
func (b *Book) key(q *question.Question, m *Minute, i int, program, family string, cpu int32, name string) string {
	r := b.row(q, m, i, program, family, cpu, name)
	if !q.Has(question.Tenant) {
		r.Tenant, r.Names.Tenant = 0, "" // a workload's row names the tenant of its newest interval, but is one
	}
	return fmt.Sprint(r.Start, r.Workload, r.Tenant, r.Host, r.CPU, r.Name, r.Family, r.Names)
}

// row says which group a figure belongs to.
func (b *Book) row(q *question.Question, m *Minute, i int, program, family string, cpu int32,
	part string) question.Row {
	var r question.Row
	w := b.Workloads[m.IDs[i]]
	if q.Step > 0 {
		r.Start = stretch(m.Start, q.Step)
	}
	for _, d := range q.By {
		switch d {
		case question.Tenant:
			r.Tenant = b.tenant(m, i)
			r.Names.Tenant, r.Name = b.Tenants[r.Tenant], b.Tenants[r.Tenant]
		case question.User:
			r.Names.Owner, r.Name = w.Owner, w.Owner
		case question.Kind:
			r.Names.Kind, r.Name = w.Kind, w.Kind
		case question.Host:
			r.Host, r.Names.Host, r.Name = m.Host, b.Hosts[m.Host], b.Hosts[m.Host]
		case question.CPU:
			r.CPU = cpu
		case question.Part:
			r.Name = part
		}
		if d.Fact() != "" {
			r.Name = w.Facts[d.Fact()]
		}
		if d.Label() != "" {
			r.Name = w.Labels[d.Label()]
		}
	}
	if q.Has(question.Workload) {
		r.Workload, r.Host, r.Name = m.IDs[i], m.Host, w.Name
		r.Names.Kind, r.Names.Owner, r.Names.Host = w.Kind, w.Owner, b.Hosts[m.Host]
	}
	switch {
	case q.Has(question.Program):
		r.Name = program
		if q.Has(question.Family) {
			r.Family = family
		}
	case q.Has(question.Family):
		r.Name, r.Names.Workload, r.Names.Owner = family, w.Name, w.Owner
		r.Names.Host, r.Names.Kind = b.Hosts[m.Host], w.Kind
	}
	return r
}

// close turns what was gathered of a group into its row.
func (b *Book) close(q *question.Question, g *group, programs bool) question.Row {
	row := g.row
	workloads := map[int64]bool{}
	for _, p := range g.parts {
		workloads[p.workload] = true
		if programs {
			row.Parts += p.processes
		} else {
			row.Parts++
		}
	}
	row.Workloads = len(workloads)
	whole := q.Has(question.Workload) && !q.Has(question.CPU) && !programs
	for _, p := range g.parts {
		if whole && !q.Has(question.Tenant) { // a row a workload: its newest interval says whose it is
			row.Tenant, row.Names.Tenant = p.tenant, b.Tenants[p.tenant]
		}
		if whole && q.State {
			state := p.state
			row.State = &state
		}
	}
	for k, of := range q.Measures {
		row.Sums = append(row.Sums, sumOf(q, g, k, of, programs))
	}
	return row
}

func sumOf(q *question.Question, g *group, k int, of amount.Measure, programs bool) question.Sum {
	s := question.Sum{Source: amount.Unavailable}
	total, highest, peak, known := new(big.Int), int64(0), int64(0), 0
	for _, p := range g.parts {
		t := &p.sums[k]
		n := 1
		if programs {
			n = p.processes
		}
		if t.lacks && (!programs || !t.known) {
			s.Missing += n
		}
		if t.untold {
			s.Untold += n
		}
		peak = max(peak, t.peak)
		if q.State && of.HasLedger() {
			s.Now += float64(t.now)
		}
		if !t.known {
			continue
		}
		if known == 0 {
			s.Source = t.source
		}
		known++
		s.Source = max(s.Source, t.source)
		total.Add(total, &t.units)
		highest = max(highest, t.highest)
		s.Over = max(s.Over, t.over)
	}
	s.Units, s.Exact = nearest(total), exact(total)
	switch {
	case !of.HasLedger():
		if of.Manner() == amount.Height {
			s.Units, s.Exact = float64(highest), exact(big.NewInt(highest))
		}
		if of.Manner() == amount.Stall && known > 1 {
			s.Source = amount.Unavailable
		}
		if s.Source == amount.Unavailable {
			s.Units, s.Exact, s.Over = 0, amount.Wide{}, 0
		}
		s.Untold = 0
		return s
	case byMinute(q):
		most := new(big.Int)
		for _, sums := range g.minute {
			if sums[k].Cmp(most) > 0 {
				most = sums[k]
			}
		}
		s.Peak = of.Mean(nearest(most), time.Minute.Milliseconds())
	default:
		s.Peak = of.PeakMean(float64(peak))
	}
	s.Over = 0
	return s
}

// byMinute tells whether a question is about tenants' highest minutes: of whole minutes, and of all their workloads.
func byMinute(q *question.Question) bool {
	whole := func(t time.Time) bool { return t.Truncate(time.Minute).Equal(t) }
	return len(q.By) == 1 && q.By[0] == question.Tenant && q.Scope.Only == nil && q.Step == 0 && !q.State &&
		whole(q.Scope.Span.From) && whole(q.Scope.Span.To)
}

// nearest is the floating-point number nearest to an exact one.
// exact is a number in 128 bits.
func exact(n *big.Int) amount.Wide {
	low := new(big.Int).And(n, new(big.Int).SetUint64(math.MaxUint64))
	return amount.WideOf(new(big.Int).Rsh(n, 64).Int64(), int64(low.Uint64()))
}

func nearest(n *big.Int) float64 {
	f, _ := new(big.Float).SetInt(n).Float64()
	return f
}
