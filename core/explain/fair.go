package explain

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/cpuset"
)

// Contender is a workload that wanted CPU time in a stretch of time, on its host.
type Contender struct {
	User
	Path    string  // its cgroup's; empty for a loose one
	Weights string  // of that path, as account.FactWeights tells
	Allowed string  // CPUs that it may run on, kernel list format; empty where not known
	Ran     float64 // CPU-seconds
	Waited  float64 // seconds in which threads of it were ready and waited for a CPU, added over threads
	IsTold  bool    // for how long it waited is known; else it counts as one that did not
	Limit   float64 // cores its cgroup may use; 0 for no limit. Time in which it holds it back is waited too
}

// usualWeight is that of a cgroup where nobody set another, and of a task that competes beside cgroups
// (sched-design-CFS in the kernel's documentation: both 1024 of its own units).
const usualWeight = 100

// FairShares divides the CPU time that all of some contenders had on a host, in a stretch of so many seconds, as their
// weights would have had it, in CPU-seconds by their order: at each level of the tree of cgroups in proportion to the
// weights, and what one does not want goes to the others in the same way (max-min fairness by weights). What each
// wanted is what it had and what it waited for, up to its limit. Tasks that compete beside cgroups weigh as much as
// there were of them on an average, and at least as one. All are taken to run on the same CPUs.
func FairShares(contenders []Contender, seconds float64) []float64 {
	root := &fairNode{}
	leaves := make([]*fairNode, len(contenders))
	total := 0.0
	for i := range contenders {
		c := &contenders[i]
		wants := c.Ran + max(c.Waited, 0)
		if c.Limit > 0 {
			wants = min(wants, max(c.Limit*seconds, c.Ran))
		}
		leaves[i] = &fairNode{wants: wants, weight: usualWeight * max(wants/seconds, 1)}
		at := root.within(c.Path, c.Weights)
		at.inner = append(at.inner, leaves[i])
		total += c.Ran
	}
	root.sum()
	root.divide(total)
	shares := make([]float64, len(contenders))
	for i, l := range leaves {
		shares[i] = l.has
	}
	return shares
}

// fairNode is a cgroup, or the tasks of a workload in one.
type fairNode struct {
	weight, wants, has float64
	inner              []*fairNode
	byPath             map[string]*fairNode
}

// within finds the node in which the tasks of a path compete, and makes what is missing. A level that is not weighed
// is passed over.
func (n *fairNode) within(path, weights string) *fairNode {
	names, of := strings.Split(strings.Trim(path, "/"), "/"), strings.Split(weights, "/")
	if len(names) != len(of) {
		return n
	}
	for i := range names {
		name := strings.Join(names[:i+1], "/")
		weight, err := strconv.ParseFloat(of[i], 64)
		if err != nil || weight <= 0 || math.IsInf(weight, 0) {
			continue
		}
		next := n.byPath[name]
		if next == nil {
			next = &fairNode{weight: weight}
			if n.byPath == nil {
				n.byPath = map[string]*fairNode{}
			}
			n.byPath[name] = next
			n.inner = append(n.inner, next)
		}
		n = next
	}
	return n
}

func (n *fairNode) sum() float64 {
	for _, x := range n.inner {
		n.wants += x.sum()
	}
	return n.wants
}

// divide gives a node so much. Those who want least for their weight are served first: each gets what it wants, or its
// part of what is left.
func (n *fairNode) divide(amount float64) {
	n.has = amount
	weights := 0.0
	order := slices.Clone(n.inner)
	for _, x := range order {
		weights += x.weight
	}
	slices.SortStableFunc(
		order,
		func(a, b *fairNode) int { return cmp.Compare(a.wants*b.weight, b.wants*a.weight) },
	)
	for _, x := range order {
		part := 0.0
		if weights > 0 {
			part = min(x.wants, amount*x.weight/weights)
		}
		x.divide(part)
		amount, weights = max(amount-part, 0), weights-x.weight
	}
}

// Shortage is how the CPU time of some CPUs of a host was divided in stretches in which they were short: workloads used
// three quarters of it or more, and waited for a twentieth of the time in which they ran, or longer.
type Shortage struct {
	Host   string      `json:"host"`
	CPUs   string      `json:"cpus" doc:"That these workloads alone run on; empty for all of the host's."`
	From   time.Time   `json:"from" doc:"Begin of the first of these stretches."`
	To     time.Time   `json:"to" doc:"End of the last."`
	Long   float64     `json:"short_seconds" doc:"How long they are together."`
	Looked float64     `json:"looked_seconds" doc:"How long the host's busiest stretches are: these were looked into."`
	Ran    float64     `json:"ran_cpu_seconds" doc:"What all of them had."`
	Waited float64     `json:"waited_seconds"`
	Of     []FairShare `json:"tenants" doc:"Who had most above what its weight gives first."`
	// Where it is not counted for how long somebody waited, these are taken for content with what they had.
	Untold int `json:"untold" doc:"Workloads that do not tell for how long they waited."`
}

// FairShare is what a tenant had of CPUs that were short, and what its weights would have given it.
type FairShare struct {
	Tenant string   `json:"tenant"`
	Ran    float64  `json:"ran_cpu_seconds"`
	Waited float64  `json:"waited_seconds" doc:"Added over threads."`
	Fair   float64  `json:"fair_cpu_seconds"`
	More   float64  `json:"more_cpu_seconds" doc:"Ran less fair: below zero for who had less."`
	Most   *FairRow `json:"most,omitempty" doc:"Its workload that is furthest from its fair share."`
}

// FairRow is what a workload had, and what its weights would have given it.
type FairRow struct {
	UserRef
	Ran  float64 `json:"ran_cpu_seconds"`
	Fair float64 `json:"fair_cpu_seconds"`
}

// Contest is a stretch of time on a host, and who wanted its CPUs.
type Contest struct {
	Host       string
	HostCPUs   int
	From, To   time.Time
	Contenders []Contender
}

// shortMarks say when CPUs are short: workloads use this part of their time, and wait for this part of the time in
// which they run. Who wants less than Small of one CPU joins no others together.
var shortMarks = struct{ Used, Waited, Small float64 }{0.75, 0.05, 0.02}

// Field is some CPUs of a host, and those who contend for them.
type Field struct {
	CPUs       cpuset.Set
	Contenders []Contender
}

// IsShort tells whether these CPUs were short in a stretch of so many seconds.
func (f *Field) IsShort(seconds float64) bool {
	ran, waited := f.wanted()
	return ran >= shortMarks.Used*float64(f.CPUs.Len())*seconds && waited >= shortMarks.Waited*ran && waited > 0
}

// wanted is for how long all of them ran, and waited.
func (f *Field) wanted() (ran, waited float64) {
	for i := range f.Contenders {
		ran, waited = ran+f.Contenders[i].Ran, waited+f.Contenders[i].Waited
	}
	return ran, waited
}

// FieldOf is the CPUs that a workload contended for; nil where it did not.
func (c *Contest) FieldOf(workload int64) *Field {
	for _, f := range c.fields() {
		if slices.ContainsFunc(f.Contenders, func(x Contender) bool { return x.Workload == workload }) {
			return &f
		}
	}
	return nil
}

// fields divides a contest: who may run on some CPU together contends for the same ones.
func (c *Contest) fields() []Field {
	var whole cpuset.Set
	for cpu := range c.HostCPUs {
		whole = whole.With(cpu)
	}
	mask := func(x *Contender) cpuset.Set {
		if set, err := cpuset.Parse(x.Allowed); err == nil && !set.IsEmpty() {
			return set
		}
		return whole
	}
	small := shortMarks.Small * c.To.Sub(c.From).Seconds()
	var list []Field
	for _, x := range c.Contenders {
		if x.Ran+x.Waited < small {
			continue
		}
		at := Field{mask(&x), []Contender{x}}
		apart := list[:0:0]
		for _, f := range list {
			if f.CPUs.Overlaps(at.CPUs) {
				at = Field{at.CPUs.Union(f.CPUs), append(f.Contenders, at.Contenders...)}
			} else {
				apart = append(apart, f)
			}
		}
		list = append(apart, at)
	}
	for _, x := range c.Contenders { // who wants little is put where it may run most
		if x.Ran+x.Waited >= small || len(list) == 0 {
			continue
		}
		of := mask(&x)
		shared := func(f Field) int { return f.CPUs.Intersect(of).Len() }
		best := slices.MaxFunc(list, func(a, b Field) int { return cmp.Compare(shared(a), shared(b)) })
		at := slices.IndexFunc(list, func(f Field) bool { return f.CPUs.Equal(best.CPUs) })
		if shared(best) > 0 {
			list[at].Contenders = append(list[at].Contenders, x)
		}
	}
	return list
}

// AddShortages says of CPUs that were short who had more of their time, and who less, than by weight.
func AddShortages(contests []Contest, names Names) []Shortage {
	type place struct{ host, cpus string }
	found, looked := map[place]*Shortage{}, map[string]float64{}
	tenants := map[place]map[string]*FairShare{}
	for i := range contests {
		c := &contests[i]
		seconds := c.To.Sub(c.From).Seconds()
		looked[c.Host] += seconds
		for _, f := range c.fields() {
			if !f.IsShort(seconds) {
				continue
			}
			ran, waited := f.wanted()
			untold := 0
			for i := range f.Contenders {
				if !f.Contenders[i].IsTold {
					untold++
				}
			}
			at := place{c.Host, f.CPUs.String()}
			if f.CPUs.Len() >= c.HostCPUs {
				at.cpus = ""
			}
			s := found[at]
			if s == nil {
				s = &Shortage{Host: c.Host, CPUs: at.cpus, From: c.From, To: c.To}
				found[at], tenants[at] = s, map[string]*FairShare{}
			}
			if c.From.Before(s.From) {
				s.From = c.From
			}
			if c.To.After(s.To) {
				s.To = c.To
			}
			s.Long, s.Ran, s.Waited, s.Untold = s.Long+seconds, s.Ran+ran, s.Waited+waited, max(s.Untold, untold)
			addShares(tenants[at], f.Contenders, seconds, names)
		}
	}
	list := []Shortage{}
	for at, s := range found {
		s.Looked = looked[at.host]
		for _, f := range tenants[at] {
			f.More = f.Ran - f.Fair
			s.Of = append(s.Of, *f)
		}
		slices.SortFunc(s.Of, func(a, b FairShare) int {
			return cmp.Or(cmp.Compare(b.More, a.More), cmp.Compare(a.Tenant, b.Tenant))
		})
		list = append(list, *s)
	}
	slices.SortFunc(list, func(a, b Shortage) int {
		return cmp.Or(cmp.Compare(b.Waited, a.Waited), cmp.Compare(a.Host, b.Host), cmp.Compare(a.CPUs, b.CPUs))
	})
	return list
}

// addShares adds to what tenants had and would have had what they did in one stretch.
func addShares(tenants map[string]*FairShare, contenders []Contender, seconds float64, names Names) {
	fair := FairShares(contenders, seconds)
	for k, x := range contenders {
		who := names(x.User)
		f := tenants[who.Tenant]
		if f == nil {
			f = &FairShare{Tenant: who.Tenant}
			tenants[who.Tenant] = f
		}
		f.Ran, f.Waited, f.Fair = f.Ran+x.Ran, f.Waited+x.Waited, f.Fair+fair[k]
		if f.Most == nil || math.Abs(x.Ran-fair[k]) > math.Abs(f.Most.Ran-f.Most.Fair) {
			f.Most = &FairRow{who, x.Ran, fair[k]}
		}
	}
}
