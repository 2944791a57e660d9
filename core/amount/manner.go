package amount

// Manner is how a measure goes over time, over groups within groups, and over workloads and hosts.
type Manner uint8

// The manners.
const (
	Flow   Manner = iota // accumulates; what inner groups had is taken off the outer's
	Level                // stands at a height, counted times milliseconds; what inner groups had is taken off too
	Stall                // accumulates, but stalls of several overlap: an outer group's is its own figure
	Height               // the highest counts; an outer group's is its own figure
	numManners
)

// Combining is how several figures of a measure become one.
type Combining uint8

// The ways of combining.
const (
	Sum     Combining = iota // added
	Mean                     // the mean over time
	Highest                  // the highest of them
	Apart                    // not combined: each stands for itself
	numCombinings
)

type mannerFacts struct {
	name                  string
	time, workload, hosts Combining
}

var manners = [numManners]mannerFacts{
	Flow:   {"flow", Sum, Sum, Sum},
	Level:  {"level", Mean, Sum, Sum},
	Stall:  {"stall", Sum, Apart, Apart},
	Height: {"height", Highest, Highest, Highest},
}

func (m Manner) String() string { return manners[m].name }

// OverTime is how figures of one workload combine over adjoining intervals.
func (m Manner) OverTime() Combining { return manners[m].time }

// OverWorkloads is how figures of several workloads of one host combine.
func (m Manner) OverWorkloads() Combining { return manners[m].workload }

// OverHosts is how figures of several hosts combine.
func (m Manner) OverHosts() Combining { return manners[m].hosts }

func (c Combining) String() string {
	return [numCombinings]string{"sum", "mean", "highest", "apart"}[c]
}

// Words says in words how figures combine.
func (c Combining) Words() string {
	return [numCombinings]string{"they are added", "their mean over time", "the highest counts",
		"they are not added: each stands for itself"}[c]
}

// Bound is what a measure can be held against.
type Bound uint8

// The bounds.
const (
	Unbounded  Bound = iota // nothing bounds it
	ByCapacity              // what the host has of it
	ByLimit                 // what the workload may have of it
	numBounds
)

func (b Bound) String() string {
	return [numBounds]string{"none", "capacity", "limit"}[b]
}

// Words says in words what bounds a measure.
func (b Bound) Words() string {
	return [numBounds]string{"nothing bounds it", "what the host has of it", "what the workload may have of it"}[b]
}

// Form is how a measure is best drawn over time.
type Form uint8

// The forms.
const (
	Area  Form = iota // parts of a whole, on top of each other, up to what bounds it
	Line              // a line for each: parts do not add up, or nothing bounds them
	Marks             // a mark for each: it happens seldom
	numForms
)

func (f Form) String() string {
	return [numForms]string{"area", "line", "marks"}[f]
}

// Unit is what figures of a measure are told in.
type Unit struct {
	Name string  // of an amount over an interval, as it ends field names: cpu_seconds, bytes, us
	Mean string  // of its mean over an interval: cores, bytes, bytes_per_second
	Per  float64 // account units in one unit; for a level, those that stand for one millisecond
	Step Step    // how people read large ones
	// Spent is in what allowances of the measure are given and told, and SpentPer is how many account units are one of
	// it: of a level those that stand for a byte over an hour.
	Spent    string
	SpentPer float64
	// Priced is in what a price of a resource is given, and PricedPer is how many account units are one of it.
	Priced    string
	PricedPer int64
}

// Step is by which steps a unit grows for people to read it.
type Step uint8

// The steps.
const (
	Plain   Step = iota // it does not
	Binary              // by 1,024: KiB, MiB, GiB
	Decimal             // by 1,000: kB, MB, GB
	Seconds             // microseconds, told in seconds
	Hourly              // what flows in a second, told by the hour: Wh, kWh, MWh
	numSteps
)

func (s Step) String() string {
	return [numSteps]string{"plain", "binary", "decimal", "seconds", "hourly"}[s]
}
