package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Ask answers a question about usage from what is kept. There is no other way to read sums of usage.
func (s *Store) Ask(ctx context.Context, q question.Question) (*question.Answer, error) {
	a, _, err := s.ask(ctx, q, false)
	return a, err
}

// ask answers a question, with what it was worked out from: the lines too, where they are wanted.
func (s *Store) ask(ctx context.Context, q question.Question, withLines bool) (*question.Answer, *remembered, error) {
	plan, err := question.PlanFor(q)
	if err != nil {
		return nil, nil, err
	}
	exists, tenants, err := s.tenantsThere(ctx)
	if err != nil {
		return nil, nil, err
	}
	r, err := s.recall(ctx, plan, exists, tenants, withLines)
	if err != nil {
		return nil, nil, fmt.Errorf("ask for %v by %v: %w", q.Measures, q.By, err)
	}
	a, err := s.finish(ctx, plan, r, exists, tenants)
	return a, r, err
}

// finish puts the highest minutes and names to what was added up.
func (s *Store) finish(ctx context.Context, plan *question.Plan, r *remembered, exists func(int32) bool,
	tenants map[int32]string) (*question.Answer, error) {
	q := &plan.Question
	near, total := r.rows(), r.total
	if plan.Peaks {
		if err := s.highestMinutes(ctx, q, near); err != nil {
			return nil, fmt.Errorf("the highest minutes: %w", err)
		}
		near, total = q.Near(near)
	}
	c := newCount(plan, exists)
	if c.isNamedLast() {
		if err := s.nameLast(ctx, c, near, tenants); err != nil {
			return nil, err
		}
	}
	a := q.ArrangeNear(near, total)
	a.Grain = r.grain
	for _, n := range r.workloads {
		a.Workloads += n
	}
	return a, nil
}

// AskBySteps answers questions about the steps of one span on the same hosts, and tells the lines of the steps as Lines
// does of those of the first question's measures that have them, in one reading.
func (s *Store) AskBySteps(ctx context.Context, all ...question.Question) (answers []*question.Answer,
	lines []question.Stretch, err error) {
	var stretches map[time.Time]map[int32]*hostStretch
	if len(all) == 1 {
		a, r, err := s.ask(ctx, all[0], true)
		if err != nil {
			return nil, nil, err
		}
		answers, stretches = []*question.Answer{a}, r.stretches
	} else {
		exists, tenants, err := s.tenantsThere(ctx)
		if err != nil {
			return nil, nil, err
		}
		plans := make([]*question.Plan, len(all))
		for i := range all {
			if plans[i], err = question.PlanFor(all[i]); err != nil {
				return nil, nil, err
			}
		}
		lining := newLining(&all[0])
		counts, err := s.count(ctx, plans, exists, lining)
		if err != nil {
			return nil, nil, fmt.Errorf("ask for %v by steps: %w", all[0].Measures, err)
		}
		stretches = lining.stretches
		for i, c := range counts {
			r, err := s.sums(ctx, c, tenants)
			if err != nil {
				return nil, nil, err
			}
			a, err := s.finish(ctx, plans[i], r, exists, tenants)
			if err != nil {
				return nil, nil, err
			}
			answers = append(answers, a)
		}
	}
	lines, err = s.inOrder(ctx, stretches, withLedger(all[0].Measures))
	return answers, lines, err
}

// workOut reads what answers a question, and adds it up.
func (s *Store) workOut(ctx context.Context, plan *question.Plan, exists func(int32) bool, tenants map[int32]string,
	withLines bool) (*remembered, error) {
	var lines *lining
	if withLines {
		lines = newLining(&plan.Question)
	}
	counts, err := s.count(ctx, []*question.Plan{plan}, exists, lines)
	if err != nil {
		return nil, err
	}
	r, err := s.sums(ctx, counts[0], tenants)
	if err == nil && lines != nil {
		r.stretches = lines.stretches
	}
	return r, err
}

// sums are what was counted, in rows.
func (s *Store) sums(ctx context.Context, c *count, tenants map[int32]string) (r *remembered, err error) {
	of, plan := names{tenants: tenants}, c.plan
	if !c.isNamedLast() {
		if of.workloads, err = s.WorkloadsByID(ctx, c.workloads()); err != nil {
			return nil, err
		}
	}
	r = &remembered{near: c.rows(of), grain: c.grain, workloads: c.counted}
	if !plan.Peaks { // else the page follows from the highest minutes
		r.near, r.total = plan.Question.Near(r.near)
	}
	return r, nil
}

// count adds up what plans of one span on the same hosts ask for, and lines where they are wanted, in one reading. Of
// many hosts, it reads some beside others.
func (s *Store) count(ctx context.Context, plans []*question.Plan, exists func(int32) bool, lines *lining) ([]*count,
	error) {
	some, err := s.someOf(ctx, plans[0].Question.Scope.Hosts)
	if err != nil {
		return nil, err
	}
	counts, linings := make([][]*count, len(some)), make([]*lining, len(some))
	group, ctx := errgroup.WithContext(ctx)
	for i, hosts := range some {
		want, adds := wanted{}, []func(*piece) error{}
		for _, plan := range plans {
			c := newCount(plan, exists)
			counts[i] = append(counts[i], c)
			want.merge(c.wanted())
			adds = append(adds, c.add)
		}
		if lines != nil {
			x := newLining(lines.q)
			linings[i] = x
			want.merge(x.wanted())
			adds = append(adds, x.add)
		}
		group.Go(func() error {
			return s.eachLeaf(ctx, hosts, plans[0].Reading, want, func(p *piece) (err error) {
				for _, add := range adds {
					err = errors.Join(err, add(p))
				}
				return err
			})
		})
	}
	err = group.Wait()
	for _, some := range counts {
		for _, c := range some {
			if c.isNamedLast() {
				c.settle(names{})
			}
		}
	}
	for _, more := range counts[1:] {
		for k, c := range more {
			counts[0][k].join(c)
		}
	}
	if lines != nil {
		for _, x := range linings {
			lines.join(x)
		}
		lines.settle()
	}
	return counts[0], err
}

// join adds what another count found on other hosts.
func (c *count) join(other *count) {
	for k, x := range other.courses {
		k.words = c.wordsOf(other.words[k.words])
		c.courses[k] = x
	}
	for key, number := range other.numbers {
		at, to := 0, c.number(key)
		for _, g := range other.groups[number] {
			mine := c.groupAt(to, &at, g.step)
			if *mine == nil {
				*mine = g
			} else {
				(*mine).join(c, g)
			}
		}
	}
	for host, n := range other.counted {
		c.counted[host] += n
	}
	c.grain = max(c.grain, other.grain)
}

// count adds up what a plan asks for, leaf by leaf.
type count struct {
	plan     *question.Plan
	q        *question.Question
	viewer   *leaf.Viewer
	host     int32                 // of the leaf that is added
	courses  map[courseKey]*course // of what is not grouped yet
	numbers  map[groupKey]int      // of groups, whatever their step
	groups   [][]*group            // by number, in the order of their steps
	counted  map[int32]int         // workloads in them, by host
	words    []words
	wordsAt  map[words]int32
	byTenant bool
	step     int64
	grain    question.Grain
	last     *course // that was found last, and its key
	lastKey  courseKey
	spare    spare
}

func newCount(p *question.Plan, exists func(int32) bool) *count {
	return &count{plan: p, q: &p.Question, viewer: leaf.NewViewer(&p.Question.Scope, exists),
		courses: map[courseKey]*course{}, numbers: map[groupKey]int{}, counted: map[int32]int{},
		words: []words{{}}, wordsAt: map[words]int32{{}: 0}, byTenant: p.Question.Has(question.Tenant),
		step: p.Question.Step.Microseconds()}
}

// isLess tells that a part reaches nothing that was asked for.
func (c *count) isLess(p *part) bool {
	for i, least := range c.q.Least {
		if p.sums[i].known && p.sums[i].units.Float() >= least {
			return false
		}
	}
	return true
}

// wanted says which columns answer.
func (c *count) wanted() wanted {
	w := wanted{}
	switch c.plan.Division {
	case question.ByCPU:
		w[leaf.Ran] = nil
		return w
	case question.ByPart:
		w[leaf.Parts] = nil
		return w
	case question.ByProgram:
		w[leaf.Programs] = []string{"processes"}
		for _, m := range c.q.Measures {
			for _, what := range []string{"", "told", "untold"} {
				w[leaf.Programs] = append(w[leaf.Programs], leaf.UseColumn(m, what))
			}
		}
		return w
	}
	w[leaf.Uses] = []string{leaf.NewestAt, "count"}
	if c.q.State {
		w[leaf.Uses] = append(w[leaf.Uses], "from", "to", "elapsed", "now_elapsed", "threads", "processes",
			"runnable_millis", "runnable_peak")
	}
	for _, m := range c.q.Measures {
		if !m.HasLedger() {
			w[leaf.OfMeasure(m)] = nil
			continue
		}
		for _, what := range []string{"", "source", "untold", "lacks"} {
			w[leaf.Uses] = append(w[leaf.Uses], leaf.UseColumn(m, what))
		}
		if c.plan.Ticks {
			w[leaf.Uses] = append(w[leaf.Uses], leaf.UseColumn(m, "peak"))
		}
		if c.q.State {
			w[leaf.Uses] = append(w[leaf.Uses], leaf.UseColumn(m, "now"))
		}
	}
	return w
}

// add adds what a leaf has. Those of one host follow each other, but for live frames.
func (c *count) add(p *piece) error {
	if p.Host != c.host && !c.q.Scope.Span.Frames && c.isNamedLast() {
		c.settle(names{})
	}
	c.host = p.Host
	v := c.viewer.View(p.Leaf)
	steps := make([]int64, len(v.Within))
	for at, within := range v.Within {
		if within && !c.plan.Reading.IsWithin(p.Grain, v.Start(int64(at))) {
			c.grain = max(c.grain, p.Grain)
		}
		if c.step > 0 {
			steps[at] = c.q.Stretch(v.Start(int64(at))).UnixMicro()
		}
	}
	rows := rowsOf{v, steps}
	switch c.plan.Division {
	case question.ByCPU:
		c.addRan(&rows)
	case question.ByPart:
		c.addParts(&rows)
	case question.ByProgram:
		c.addPrograms(&rows)
	default:
		c.addUses(&rows)
		for i, m := range c.q.Measures {
			if !m.HasLedger() {
				c.addBeside(&rows, i, m)
			}
		}
	}
	return nil
}

// rowsOf is a leaf with the step that each of its intervals falls into.
type rowsOf struct {
	*leaf.View
	steps []int64
}

// wordsOf is the number of some words.
func (c *count) wordsOf(w words) int32 {
	n, there := c.wordsAt[w]
	if !there {
		n = int32(len(c.words))
		c.wordsAt[w] = n
		c.words = append(c.words, w)
	}
	return n
}

// find is the part that a workload's row belongs to, made if it is not there; it is used until the next is found. Most
// rows are of the same course as the row before, and of the step after.
func (c *count) find(rows *rowsOf, at int64, user leaf.User, k courseKey) *part {
	k.workload = user.Workload
	if c.byTenant {
		k.tenant = user.Tenant
	}
	if k != c.lastKey || c.last == nil {
		x := c.courses[k]
		if x == nil {
			x = &course{host: rows.Host, parts: c.spare.partsOf()}
			c.courses[k] = x
		}
		c.last, c.lastKey = x, k
	}
	x, step := c.last, rows.steps[at]
	i := len(x.parts)
	if i > 0 && step <= x.parts[i-1].step {
		var there bool
		if i, there = slices.BinarySearchFunc(x.parts, step, func(p part, step int64) int {
			return cmp.Compare(p.step, step)
		}); there {
			return &x.parts[i]
		}
	}
	made := part{step: step, sums: c.spare.tallies(len(c.q.Measures))}
	if c.q.State {
		made.state = &question.State{}
	}
	x.parts = slices.Insert(x.parts, i, made)
	return &x.parts[i]
}

func (c *count) addUses(rows *rowsOf) {
	t := rows.Tables[leaf.Uses]
	if t == nil {
		return // a host on which nothing ran in these intervals
	}
	ats, newest := t.Of(leaf.At), t.Of(leaf.NewestAt)
	type columns struct {
		units                              int
		peaks, sources, untold, lacks, now []int64
	}
	of := make([]columns, len(c.q.Measures))
	for i, m := range c.q.Measures {
		if m.HasLedger() {
			column := func(what string) []int64 { return t.Of(leaf.UseColumn(m, what)) }
			of[i] = columns{t.Schema.Index(leaf.UseColumn(m, "")), column("peak"), column("source"), column("untold"),
				column("lacks"), column("now")}
			if !c.plan.Ticks {
				of[i].peaks = nil
			}
		}
	}
	var state stateColumns
	if c.q.State {
		state = stateOf(t)
	}
	counts := t.Of("count")
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := rows.User(slot, ats[row])
		if !seen {
			continue
		}
		p := c.find(rows, ats[row], user, courseKey{})
		isNewest := newest[row] >= p.newest
		if isNewest {
			p.newest, p.tenant = newest[row], user.Tenant
		}
		for i, m := range c.q.Measures {
			x := &p.sums[i]
			if !m.HasLedger() {
				x.count -= counts[row]
				continue
			}
			x.add(t.Wide(of[i].units, row), amount.Source(of[i].sources[row]))
			if of[i].peaks != nil {
				x.peak = max(x.peak, of[i].peaks[row])
			}
			x.lacks, x.untold = x.lacks || of[i].lacks[row] != 0, x.untold || of[i].untold[row] != 0
			if c.q.State && isNewest {
				x.now = of[i].now[row]
			}
		}
		if c.q.State {
			p.addState(&state, row, isNewest)
		}
	}
}

// addBeside adds what workloads had of a measure without a ledger.
func (c *count) addBeside(rows *rowsOf, i int, m amount.Measure) {
	t := rows.Tables[leaf.OfMeasure(m)]
	if t.Rows() == 0 {
		return
	}
	ats, sources, over, counts, units := t.Of(leaf.At), t.Of("source"), t.Of("over"), t.Of("count"),
		t.Schema.Index("units")
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := rows.User(slot, ats[row])
		if !seen {
			continue
		}
		x := &c.find(rows, ats[row], user, courseKey{}).sums[i]
		if m.Manner() == amount.Height {
			x.units.Raise(t.Wide(units, row))
		} else {
			x.units.Plus(t.Wide(units, row))
		}
		x.over, x.count = x.over+over[row], x.count+counts[row]
		x.source, x.known = x.source.Weaker(amount.Source(sources[row])), true
	}
}

// addPrograms adds what programs used. The counters of processes do not tell of everything.
func (c *count) addPrograms(rows *rowsOf) {
	t := rows.Tables[leaf.Programs]
	ats, programs, families, processes := t.Of(leaf.At), t.Of("program"), t.Of("family"), t.Of("processes")
	for row, slot := range t.Of(leaf.Slot) {
		user, seen := rows.User(slot, ats[row])
		if !seen {
			continue
		}
		program := rows.Words[programs[row]]
		p := c.find(rows, ats[row], user, courseKey{words: c.wordsOf(words{program: program,
			family: rows.Words[families[row]]})})
		p.processes = max(p.processes, processes[row])
		for i, m := range c.q.Measures {
			x := &p.sums[i]
			x.untold = x.untold || t.Of(leaf.UseColumn(m, "untold"))[row] != 0
			if t.Of(leaf.UseColumn(m, "told"))[row] == 0 {
				continue
			}
			source := amount.Summed
			switch {
			case program == "": // what no living process explains
				source = amount.Counted
			case !m.Entry().ByProcess:
				source = amount.Unavailable
			}
			x.add(t.Wide(t.Schema.Index(leaf.UseColumn(m, "")), row), source)
		}
	}
}

func (c *count) addRan(rows *rowsOf) {
	t := rows.Tables[leaf.Ran]
	ats, cpus, sources := t.Of(leaf.At), t.Of("cpu"), t.Of("source")
	for row, slot := range t.Of(leaf.Slot) {
		if user, seen := rows.User(slot, ats[row]); seen {
			x := &c.find(rows, ats[row], user, courseKey{cpu: int32(cpus[row])}).sums[0]
			x.units.Plus(t.Wide(t.Schema.Index("micros"), row))
			x.source, x.known = x.source.Weaker(amount.Source(sources[row])), true
		}
	}
}

func (c *count) addParts(rows *rowsOf) {
	t := rows.Tables[leaf.Parts]
	ats, parts := t.Of(leaf.At), t.Of("part")
	for row, slot := range t.Of(leaf.Slot) {
		if user, seen := rows.User(slot, ats[row]); seen {
			x := &c.find(rows, ats[row], user, courseKey{words: c.wordsOf(words{
				part: rows.Words[parts[row]]})}).sums[0]
			x.add(t.Wide(t.Schema.Index("micros"), row), amount.Summed)
		}
	}
}
