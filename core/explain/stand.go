package explain

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// Cell is what a tenant had in a minute, or in an hour, of each resource, in account units: the highest and the lowest
// minute of it, and all of it. Of an hour on several hosts, the highest minute is at most Most, and the lowest at least
// Least.
type Cell struct {
	Start            time.Time
	Tenant           int32
	Minutes          int
	Most, Least, Sum [amount.NumResources]float64
}

// NotKnown stands for the sum of an hour that is not known.
var NotKnown = math.Inf(-1)

// Quota is a ceiling of a tenant, with all of its parts, on the hosts of a scope; with all changes of it.
type Quota struct {
	Tenant  string
	Tenants []int32 // it and its parts
	Name    string  // of a resource, or of what is counted
	Scope   tenancy.Scope
	Changes []tenancy.LimitChange
}

// Stand is how a tenant stands against one ceiling over a span.
type Stand struct {
	Tenant   string   `json:"tenant"`
	Parts    []string `json:"parts,omitempty" doc:"Tenants that are parts of it, and are counted in it."`
	Resource string   `json:"resource" doc:"Or processes, threads, gpu_devices, space_used_bytes."`
	Unit     string   `json:"unit"`
	Scope    string   `json:"scope_kind" enum:"fleet,pool,host"`
	On       string   `json:"scope" doc:"The pool or host; empty for the fleet."`
	Basis    string   `json:"basis" enum:"used,held,greater"`

	// At the end of the span; nil where only a soft mark is set, or none any more.
	Ceiling *float64 `json:"ceiling"`
	Soft    *float64 `json:"soft"`
	Used    *float64 `json:"used_mean"`
	// What its workloads were entitled to; nil where nothing limits them, or that is not told.
	Held     *float64 `json:"held_mean"`
	Unheld   int      `json:"held_without_limit" doc:"Workloads that nothing limits below their whole host."`
	Against  *float64 `json:"against_mean" doc:"What is held against the quota, by its basis."`
	Headroom *float64 `json:"headroom" doc:"The ceiling less that: below zero where it is exceeded."`
	Now      *float64 `json:"now" doc:"Of the newest interval of each host in the span."`
	// The highest minute; of several hosts over more than a day it is at most this.
	Peak *float64 `json:"peak_minute"`
	// What 95 of 100 minutes did not exceed, or hours where the span is longer than a day.
	P95      *float64 `json:"p95" doc:"So much was not exceeded in 95 of 100 minutes or hours."`
	P95Of    string   `json:"p95_of" enum:"minute,hour,none"`
	Over     bool     `json:"over" doc:"What is held against it is above the ceiling, in the mean."`
	SoftOver bool     `json:"soft_over"`

	// For how long single minutes were above the ceiling, or the soft mark where there is no ceiling; nil where that is
	// not told by the minute.
	Exceeded *Exceeded `json:"exceeded"`
	Hurt     []Hurt    `json:"hurt" doc:"Whose work waited meanwhile on hosts where the tenant used it."`
	HurtBy   string    `json:"hurt_told_by" doc:"How that is told; empty where it cannot be."`
	Trend    []Moment  `json:"trend" doc:"Means over parts of the span, in order."`
	Reason   string    `json:"reason,omitempty" doc:"Why figures are null."`
}

// Exceeded is for how long a mark was exceeded.
type Exceeded struct {
	Minutes int         `json:"minutes"`
	Times   int         `json:"times" doc:"Stretches of minutes in a row."`
	Unsure  int         `json:"unsure_minutes" doc:"Of hours with some above, whose minutes are not kept."`
	First   *time.Time  `json:"first" doc:"Begin of the first stretch."`
	Last    *time.Time  `json:"last" doc:"End of the last."`
	Longest []Stretched `json:"longest" doc:"The longest stretches: at most five, in order of time."`
	all     []Stretched
}

// Stretched is a stretch of minutes in a row.
type Stretched struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Most float64   `json:"most" doc:"The highest minute of it, in the quota's unit."`
}

// Moment is a mean over a part of a span.
type Moment struct {
	At   time.Time `json:"at"`
	Mean float64   `json:"mean"`
}

// Cells are the cells of a scope over a span, in order.
type Cells struct {
	slots []slot
	at    map[int64]int // places of slots, by the second in which they start
}

// slot is what tenants had in a minute or an hour.
type slot struct {
	start   time.Time
	minutes int
	of      map[int32]*Cell
	fine    [amount.NumResources]*fineHour // where it is an hour that is known by the minute
}

// fineHour is what tenants had of a resource in each minute of an hour.
type fineHour struct {
	of         map[int32][]float64
	isRecorded [60]bool // of any tenant
}

// HourMinutes is what a tenant had of a resource in each minute of an hour, in account units: sixty of them, NaN where
// nothing was recorded of any tenant.
type HourMinutes struct {
	Hour   time.Time
	Tenant int32
	Units  []float64
}

// NewCells puts cells together. Hours whose minutes are there too are left out.
func NewCells(cells []Cell) *Cells {
	c := &Cells{at: map[int64]int{}}
	byMinute := map[int64]bool{}
	for i := range cells {
		if cells[i].Minutes == 1 {
			byMinute[cells[i].Start.Truncate(time.Hour).Unix()] = true
		}
	}
	byStart := map[int64]*slot{}
	for i := range cells {
		x := &cells[i]
		second := x.Start.Unix()
		if x.Minutes > 1 && byMinute[second] {
			continue
		}
		if byStart[second] == nil {
			byStart[second] = &slot{start: x.Start, minutes: x.Minutes, of: map[int32]*Cell{}}
		}
		byStart[second].of[x.Tenant] = x
	}
	for _, second := range slices.Sorted(maps.Keys(byStart)) {
		c.at[second] = len(c.slots)
		c.slots = append(c.slots, *byStart[second])
	}
	return c
}

// sum adds up what some tenants had of a resource, in account units.
func (x *slot) sum(tenants []int32, r amount.Resource) (most, least, sum float64) {
	for _, t := range tenants {
		if of := x.of[t]; of != nil {
			most, least, sum = most+of.Most[r], least+of.Least[r], sum+of.Sum[r]
		}
	}
	return most, least, sum
}

// Unsure lists the hours of which it takes their minutes to say for how long a quota was exceeded in them.
func (q *Quota) Unsure(c *Cells, from, to time.Time) (hours []time.Time) {
	r, err := amount.ParseResource(q.Name)
	if err != nil {
		return nil
	}
	marked := newMarks(tenancy.Terms(q.Changes, from, to), r)
	for i := range c.slots {
		x := &c.slots[i]
		units, isSet := marked.at(x.start)
		if !isSet || x.minutes == 1 {
			continue
		}
		most, least, _ := x.sum(q.Tenants, r)
		if most > units && least <= units || q.changesWithin(x.start) {
			hours = append(hours, x.start)
		}
	}
	return hours
}

// changesWithin tells whether the quota changes within an hour.
func (q *Quota) changesWithin(hour time.Time) bool {
	return slices.ContainsFunc(q.Changes, func(x tenancy.LimitChange) bool {
		return x.From.After(hour) && x.From.Before(hour.Add(time.Hour))
	})
}

// marks are what minutes are held against, by the moment: the ceiling, or the soft mark where there is none.
type marks struct {
	terms []tenancy.Term // from that of the last moment on
	r     amount.Resource
	units float64 // of the first of them, in account units of a minute
	isSet bool
}

func newMarks(terms []tenancy.Term, r amount.Resource) *marks {
	m := &marks{terms: terms, r: r}
	m.begin()
	return m
}

// begin takes the first term.
func (m *marks) begin() {
	m.units, m.isSet = 0, false
	if len(m.terms) > 0 {
		limit, isSet := mark(m.terms[0].Limit)
		m.units, m.isSet = perMinute(m.r, limit), isSet
	}
}

// at is the mark at a moment, which is none before the last one that was asked for.
func (m *marks) at(moment time.Time) (float64, bool) {
	for len(m.terms) > 0 && !moment.Before(m.terms[0].To) {
		m.terms = m.terms[1:]
		m.begin()
	}
	return m.units, m.isSet
}

func mark(l tenancy.Limit) (float64, bool) {
	switch {
	case l.Ceiling != nil:
		return *l.Ceiling, true
	case l.Soft != nil:
		return *l.Soft, true
	}
	return 0, false
}

// perMinute is a mean in account units of a minute.
func perMinute(r amount.Resource, mean float64) float64 {
	return mean / r.Mean(1, time.Minute.Milliseconds())
}

// StandAgainst says how a tenant stands against a quota of a resource over a span: by what it used in all, whose sum is
// given with the time that was recorded, and by its cells.
func StandAgainst(q *Quota, from, to time.Time, used *question.Sum, elapsedMillis int64, cells *Cells) *Stand {
	r, err := amount.ParseResource(q.Name)
	if err != nil {
		return nil
	}
	terms := tenancy.Terms(q.Changes, from, to)
	limit := terms[len(terms)-1].Limit
	s := &Stand{
		Tenant:   q.Tenant,
		Resource: q.Name,
		Unit:     r.MeanUnit(),
		Scope:    string(q.Scope.Kind),
		On:       q.Scope.Name,
		Basis:    string(cmp.Or(limit.Basis, tenancy.Used)),
		Ceiling:  limit.Ceiling,
		Soft:     limit.Soft,
		Hurt:     []Hurt{},
		Trend:    []Moment{},
		P95Of:    "none",
	}
	switch {
	case elapsedMillis == 0:
		s.Reason = NothingRecorded
		return s
	case !used.Known():
		s.Reason = Reason(r, used)
		return s
	}
	mean := r.Mean(used.Units, elapsedMillis)
	s.Used = &mean
	s.walk(q, r, from, to, cells)
	return s
}

// Judge holds what is to be held against the quota against it, by its basis: held is what the tenant's workloads were
// entitled to, and greater what is the greater of each workload's, both nil where that is not known.
func (s *Stand) Judge(held, greater *float64, unheld int) {
	s.Held, s.Unheld = held, unheld
	switch tenancy.Basis(s.Basis) {
	case tenancy.Held:
		s.Against = held
	case tenancy.Greater:
		s.Against = greater
	default:
		s.Against = s.Used
	}
	if s.Against == nil {
		return
	}
	if s.Ceiling != nil {
		left := *s.Ceiling - *s.Against
		s.Headroom, s.Over = &left, left < 0
	}
	s.SoftOver = s.Soft != nil && *s.Against > *s.Soft
}

// trendPoints is how many parts a trend has at most.
const trendPoints = 60

// walk goes over the cells of a span: for how long was the mark exceeded, what was the highest minute, what the trend.
func (s *Stand) walk(q *Quota, r amount.Resource, from, to time.Time, cells *Cells) {
	e := &Exceeded{Longest: []Stretched{}}
	peak := 0.0
	var means []float64
	isHourly := to.Sub(from) > 24*time.Hour
	step := max(to.Sub(from)/trendPoints, time.Minute)
	trend := make([]float64, int(to.Sub(from)/step)+1)
	lengths := make([]int, len(trend))
	var hour, units, length float64 // the hour that is added up, what was had in it, and its minutes
	hourEnds := func() {
		if length > 0 {
			means = append(means, r.Mean(units, int64(length*60_000)))
		}
		units, length = 0, 0
	}
	marked := newMarks(tenancy.Terms(q.Changes, from, to), r)
	visit := func(start time.Time, minutes int, most, least, sum float64) {
		peak = max(peak, most)
		if mark, isSet := marked.at(start); isSet {
			switch {
			case least > mark:
				e.add(start, minutes, r.Mean(most, time.Minute.Milliseconds()))
			case most > mark:
				e.Unsure += minutes
			}
		}
		if math.IsInf(sum, 0) {
			return
		}
		if at := int(start.Sub(from) / step); at >= 0 && at < len(trend) {
			trend[at] += sum
			lengths[at] += minutes
		}
		if isHourly { // cells are in order
			if at := math.Floor(float64(start.Unix()) / 3600); at != hour {
				hourEnds()
				hour = at
			}
			units, length = units+sum, length+float64(minutes)
		} else {
			means = append(means, r.Mean(sum, time.Minute.Milliseconds()))
		}
	}
	for i := range cells.slots {
		x := &cells.slots[i]
		if x.fine[r] == nil {
			most, least, sum := x.sum(q.Tenants, r)
			visit(x.start, x.minutes, most, least, sum)
			continue
		}
		for minute, isRecorded := range x.fine[r].isRecorded {
			if isRecorded {
				sum := x.fine[r].sum(minute, q.Tenants)
				visit(x.start.Add(time.Duration(minute)*time.Minute), 1, sum, sum, sum)
			}
		}
	}
	hourEnds()
	if len(means) == 0 {
		return
	}
	e.close()
	s.Exceeded = e
	highest := r.Mean(peak, time.Minute.Milliseconds())
	s.Peak = &highest
	s.P95Of = "minute"
	if isHourly {
		s.P95Of = "hour"
	}
	slices.Sort(means)
	p95 := means[min(int(math.Ceil(0.95*float64(len(means))))-1, len(means)-1)]
	s.P95 = &p95
	for at := range trend {
		if n := lengths[at]; n > 0 {
			s.Trend = append(
				s.Trend,
				Moment{from.Add(time.Duration(at) * step), r.Mean(trend[at], int64(n)*60_000)},
			)
		}
	}
}

// add adds minutes that were above the mark.
func (e *Exceeded) add(start time.Time, minutes int, most float64) {
	e.Minutes += minutes
	end := start.Add(time.Duration(minutes) * time.Minute)
	if n := len(e.all); n > 0 && e.all[n-1].To.Equal(start) {
		e.all[n-1].To, e.all[n-1].Most = end, max(e.all[n-1].Most, most)
		return
	}
	e.all = append(e.all, Stretched{start, end, most})
}

func (e *Exceeded) close() {
	e.Times = len(e.all)
	if e.Times == 0 {
		return
	}
	e.First, e.Last = &e.all[0].From, &e.all[e.Times-1].To
	e.Longest = slices.Clone(e.all)
	slices.SortStableFunc(
		e.Longest,
		func(a, b Stretched) int { return cmp.Compare(b.To.Sub(b.From), a.To.Sub(a.From)) },
	)
	e.Longest = e.Longest[:min(len(e.Longest), 5)]
	slices.SortFunc(e.Longest, func(a, b Stretched) int { return a.From.Compare(b.From) })
}

// Refine tells the minutes of hours, of one resource, in place of these.
func (c *Cells) Refine(r amount.Resource, hours []HourMinutes) {
	for _, h := range hours {
		at, is := c.at[h.Hour.Unix()]
		if !is {
			continue
		}
		x := &c.slots[at]
		if x.fine[r] == nil {
			x.fine[r] = &fineHour{of: map[int32][]float64{}}
		}
		x.fine[r].of[h.Tenant] = h.Units
		for minute, units := range h.Units {
			x.fine[r].isRecorded[minute] = x.fine[r].isRecorded[minute] || !math.IsNaN(units)
		}
	}
}

// sum adds up what some tenants had in a minute.
func (h *fineHour) sum(minute int, tenants []int32) (sum float64) {
	for _, t := range tenants {
		if units := h.of[t]; units != nil && !math.IsNaN(units[minute]) {
			sum += units[minute]
		}
	}
	return sum
}

// StandCounted says how a tenant stands against a ceiling of something that is counted as it is now, or that is known
// as a mean alone; value is nil where that is not known, for a reason.
func StandCounted(q *Quota, from, to time.Time, value *float64, reason string) *Stand {
	terms := tenancy.Terms(q.Changes, from, to)
	limit := terms[len(terms)-1].Limit
	unit, _ := tenancy.QuotaUnit(q.Name, false) // it was checked when it was set
	return &Stand{Tenant: q.Tenant, Resource: q.Name, Unit: unit, Scope: string(q.Scope.Kind), On: q.Scope.Name,
		Basis: string(
			tenancy.Used,
		), Ceiling: limit.Ceiling, Soft: limit.Soft, Used: value, Now: value, Hurt: []Hurt{},
		Trend: []Moment{}, P95Of: "none", Reason: reason}
}

// HeldUse is what a workload used and is entitled to, in mean units by resource, and what it has at the end of the
// span.
type HeldUse struct {
	Host               int32
	Part               float64 // of the span in which it was there
	Entitled, Used     map[string]float64
	Now                map[string]float64 // in its newest interval; empty where it was not there at the end
	Processes, Threads int64
	GPUs               int
}

// SumHeld adds up what the workloads of some tenants were entitled to of a resource, weighed by how long they were
// there; the greater of that and what each used; and how many are entitled to no part of their host in particular.
func SumHeld(of map[int32][]HeldUse, tenants []int32, r amount.Resource) (held, greater *float64, unheld int) {
	sum, most, n := 0.0, 0.0, 0
	for _, t := range tenants {
		for _, u := range of[t] {
			used := u.Used[r.String()]
			entitled, is := u.Entitled[r.String()]
			if !is {
				unheld++
				most += used
				continue
			}
			n++
			sum += entitled * u.Part
			most += max(entitled*u.Part, used)
		}
	}
	if !tenancy.Basable(r.String()) {
		return nil, nil, 0
	}
	if n > 0 || unheld == 0 {
		held = &sum
	}
	return held, &most, unheld
}

// SumNow adds up what the workloads of some tenants used of a resource at the end of the span.
func SumNow(of map[int32][]HeldUse, tenants []int32, r amount.Resource) float64 {
	sum := 0.0
	for _, t := range tenants {
		for _, u := range of[t] {
			sum += u.Now[r.String()]
		}
	}
	return sum
}

// SumCounted adds up what is counted of the workloads of some tenants at the end of the span.
func SumCounted(of map[int32][]HeldUse, tenants []int32, c tenancy.Counted) float64 {
	sum := 0.0
	for _, t := range tenants {
		for _, u := range of[t] {
			switch c {
			case tenancy.Processes:
				sum += float64(u.Processes)
			case tenancy.Threads:
				sum += float64(u.Threads)
			case tenancy.GPUDevices:
				sum += float64(u.GPUs)
			}
		}
	}
	return sum
}
