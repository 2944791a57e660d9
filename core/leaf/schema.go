package leaf

import (
	"slices"
	"strings"

	"vinescale/core/amount"
)

// Combine is how the values of a column become one when rows of the same key are added up.
type Combine uint8

// The ways of combining.
const (
	Key     Combine = iota // rows of other values are other rows
	Sum                    // added, in 128 bits
	Most                   // the largest; of words, the last by the alphabet
	Least                  // the smallest
	Weakest                // of sources: the weakest of those that are a figure at all
	Newest                 // that of the row with the largest value in the column NewestAt
)

// Fill says what a column holds in a leaf of intervals, where it is not stored because it follows from the rest.
type Fill uint8

// What columns follow from.
const (
	Stored     Fill = iota
	ByStart         // the begin of the row's interval
	ByEnd           // its end
	ByElapsed       // its length
	ByOne           // 1
	BySame          // the same as the column From
	ByUnlacked      // 1 where the source in the column From says that there is no figure, else 0
)

// Column is one column of a table.
type Column struct {
	Name    string
	Combine Combine
	Word    bool // its values stand for words of the leaf
	Fill    Fill
	From    string // for Fill: another column
}

// NewestAt is the column that tells which of several rows is the newest: the begin of an interval.
const NewestAt = "newest"

// Schema is the columns of a table. The column At, which interval of the leaf a row is of, is the last of its keys.
type Schema struct {
	Name    string
	Section string // tables of one section are stored together
	Columns []Column
	keys    int
	at      map[string]int
}

// The tables with names of their own. Measures without a ledger have a table each: see OfMeasure.
const (
	Intervals = "intervals"  // the host's own figures: a row an interval
	Who       = "who"        // the workload and tenant of a slot
	Uses      = "uses"       // what each workload used of the resources
	Programs  = "programs"   // how that divides over programs
	Ran       = "ran"        // CPU time of workloads by CPU
	Parts     = "parts"      // CPU time of parts of workloads
	Devices   = "devices"    // what workloads moved on block devices
	Swapped   = "swapped"    // what workloads had on each of several swaps
	States    = "states"     // of the host's CPUs
	Pressure  = "pressure"   // for what the host's tasks waited
	Disks     = "disks"      // what block devices did
	Latencies = "latencies"  // how long their operations took
	Links     = "links"      // what network interfaces did
	Caveats   = "caveats"    // what was missed
	Sensors   = "sensors"    // what sensors told
	PartPeaks = "part_peaks" // the highest ticks of drives, interfaces, GPUs and CPUs

	GPUs       = "gpus"        // what GPUs did
	GPUUses    = "gpu_uses"    // for which workloads
	GPUEngines = "gpu_engines" // and with which of their engines
	GPUBands   = "gpu_bands"   // and for how long they were how busy
)

// The key columns.
const (
	At   = "at"
	Slot = "slot"
)

// OfMeasure is the table of a measure without a ledger.
func OfMeasure(m amount.Measure) string { return measurePrefix + m.String() }

// OfResource lists the tables of the measures that belong to a resource.
func OfResource(r amount.Resource) []string {
	tables := []string{}
	for _, m := range amount.Beside() {
		if m.Entry().Of == r {
			tables = append(tables, OfMeasure(m))
		}
	}
	return tables
}

const measurePrefix = "of "

// Lines are the host-wide lines of a resource's ledger, in the order they are shown.
var Lines = []string{"capacity", "used", "idle", "kernel", "steal"}

// UsedLine is the place of used among them.
const UsedLine = 1

// LineColumn and its kin name columns of one resource or line.
func LineColumn(r amount.Resource, line string) string { return r.String() + "." + line }

// WhyColumn holds the reason why a line has no figure, as a word.
func WhyColumn(r amount.Resource, line string) string { return LineColumn(r, line) + ".why" }

// UseColumn holds something of a resource: "" is the amount.
func UseColumn(r amount.Resource, what string) string {
	if what == "" {
		return r.String()
	}
	return r.String() + "." + what
}

// DiskFlows and LinkFlows are what accumulates on a device or an interface.
var (
	DiskFlows = []string{"read_bytes", "written_bytes", "reads", "writes", "read_merged", "write_merged", "read_millis",
		"write_millis", "busy_millis", "queue_millis", "discarded_bytes", "discards", "discard_millis", "flushes",
		"flush_millis"}
	LinkFlows = []string{"received_bytes", "sent_bytes", "received_packets", "sent_packets", "received_dropped",
		"sent_dropped", "received_errors", "sent_errors"}
	DeviceFlows = []string{"read_bytes", "written_bytes", "reads", "writes", "micros", "discarded_bytes", "discards"}
	CPUStates   = []string{"user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal"}
)

func key(names ...string) []Column {
	var columns []Column
	for _, n := range names {
		name, word := strings.CutSuffix(n, "*")
		columns = append(columns, Column{Name: name, Word: word})
	}
	return columns
}

func sums(names ...string) []Column {
	var columns []Column
	for _, n := range names {
		columns = append(columns, Column{Name: n, Combine: Sum})
	}
	return columns
}

var newest = Column{Name: NewestAt, Combine: Most, Fill: ByStart}

func intervals() []Column {
	columns := append(key(At), Column{Name: "start", Combine: Least}, Column{Name: "end", Combine: Most},
		Column{Name: "elapsed", Combine: Sum}, Column{Name: "count", Combine: Sum, Fill: ByOne},
		Column{Name: "cpus", Combine: Most}, Column{Name: NewestAt, Combine: Most, Fill: BySame, From: "start"})
	columns = append(columns, sums("memory_own", "memory_cache", "memory_huge")...)
	for _, n := range []string{"swap_total", "swap_used", "memory_available", "loads", "load_1", "load_5", "load_15"} {
		columns = append(columns, Column{Name: n, Combine: Newest})
	}
	for _, r := range amount.Resources() {
		for _, line := range Lines {
			columns = append(columns, Column{Name: LineColumn(r, line), Combine: Sum},
				Column{Name: WhyColumn(r, line), Combine: Most, Word: true})
		}
	}
	return columns
}

func uses() []Column {
	columns := append(key(Slot, At), newest, Column{Name: "from", Combine: Least, Fill: ByStart},
		Column{Name: "to", Combine: Most, Fill: ByEnd}, Column{Name: "elapsed", Combine: Sum, Fill: ByElapsed},
		Column{Name: "now_elapsed", Combine: Newest, Fill: ByElapsed}, Column{Name: "count", Combine: Sum, Fill: ByOne},
		Column{Name: "threads", Combine: Newest}, Column{Name: "processes", Combine: Newest},
		Column{Name: "runnable_millis", Combine: Sum}, Column{Name: "runnable_peak", Combine: Most})
	for _, r := range amount.Resources() {
		source := UseColumn(r, "source")
		columns = append(columns, Column{Name: UseColumn(r, ""), Combine: Sum},
			Column{Name: UseColumn(r, "peak"), Combine: Most}, Column{Name: source, Combine: Weakest},
			Column{Name: UseColumn(r, "untold"), Combine: Most},
			Column{Name: UseColumn(r, "lacks"), Combine: Most, Fill: ByUnlacked, From: source},
			Column{Name: UseColumn(r, "now"), Combine: Newest, Fill: BySame, From: UseColumn(r, "")})
	}
	return columns
}

func programs() []Column {
	columns := append(key(Slot, "program*", "family*", At), Column{Name: "processes", Combine: Most})
	for _, r := range amount.Resources() {
		columns = append(columns, Column{Name: UseColumn(r, ""), Combine: Sum},
			Column{Name: UseColumn(r, "told"), Combine: Most}, Column{Name: UseColumn(r, "untold"), Combine: Most})
	}
	return columns
}

func measure(m amount.Measure) []Column {
	units := Column{Name: "units", Combine: Sum}
	if m.Manner() == amount.Height {
		units.Combine = Most
	}
	return append(key(Slot, At), units, Column{Name: "source", Combine: Most},
		Column{Name: "over", Combine: Sum, Fill: ByElapsed}, Column{Name: "count", Combine: Sum, Fill: ByOne})
}

func disks() []Column {
	columns := append(key("device", At), newest, Column{Name: "name", Combine: Newest, Word: true},
		Column{Name: "inner", Combine: Newest})
	columns = append(columns, sums(DiskFlows...)...)
	return append(columns, Column{Name: "in_flight", Combine: Newest}, Column{Name: "rate", Combine: Newest})
}

func links() []Column {
	columns := append(key("name*", At), newest, Column{Name: "kind", Combine: Newest, Word: true},
		Column{Name: "inner", Combine: Newest})
	columns = append(columns, sums(LinkFlows...)...)
	return append(columns, Column{Name: "bits_per_second", Combine: Newest},
		Column{Name: "end_workload", Combine: Newest}, Column{Name: "end_tenant", Combine: Newest},
		Column{Name: "peer", Combine: Newest, Word: true})
}

// SensorScale is how many of a sensor's stored units are one of its own: they are stored in thousandths.
const SensorScale = 1000

func sensors() []Column {
	columns := append(key("sensor*", At), newest, Column{Name: "kind", Combine: Newest, Word: true},
		Column{Name: "milli", Combine: Sum}, Column{Name: "count", Combine: Sum, Fill: ByOne})
	return append(columns, Column{Name: "most", Combine: Most, Fill: BySame, From: "milli"},
		Column{Name: "least", Combine: Least, Fill: BySame, From: "milli"})
}

func gpus() []Column {
	columns := append(key("gpu*", At), newest, Column{Name: "index", Combine: Newest},
		Column{Name: "card", Combine: Newest, Word: true})
	return append(append(columns, sums("micros", "told", "units", "units_told")...),
		Column{Name: "memory_bytes", Combine: Newest}, Column{Name: "by_clients", Combine: Most})
}

var schemas, order = func() (map[string]*Schema, []string) {
	list := []*Schema{
		{Name: Intervals, Section: "host", Columns: intervals()},
		{Name: Who, Section: "who", Columns: append(key(Slot, At), Column{Name: "workload", Combine: Newest},
			Column{Name: "tenant", Combine: Newest})},
		{Name: Uses, Section: "uses", Columns: uses()},
		{Name: Programs, Section: "programs", Columns: programs()},
		{Name: Ran, Section: "ran", Columns: append(key(Slot, "cpu", At), Column{Name: "micros", Combine: Sum},
			Column{Name: "source", Combine: Most})},
		{Name: Parts, Section: "parts", Columns: append(key(Slot, "part*", At), sums("micros")...)},
		{Name: Devices, Section: "devices", Columns: append(append(key(Slot, "device", At), sums(DeviceFlows...)...),
			Column{Name: "source", Combine: Most})},
		{Name: Swapped, Section: "devices", Columns: append(key(Slot, "swap*", At), sums("units")...)},
		{Name: Disks, Section: "devices", Columns: disks()},
		{Name: Latencies, Section: "devices", Columns: append(key("device", "written", "low", "high", At),
			sums("count")...)},
		{Name: Links, Section: "links", Columns: links()},
		{Name: States, Section: "states", Columns: append(append(key("cpu", At), sums(CPUStates...)...),
			Column{Name: "ran", Combine: Sum}, Column{Name: "uncounted", Combine: Most})},
		{Name: Pressure, Section: "states", Columns: append(append(key("of*", At), sums("some", "full")...),
			Column{Name: "over", Combine: Sum, Fill: ByElapsed})},
	}
	list = append(list,
		&Schema{Name: GPUs, Section: "gpus", Columns: gpus()},
		&Schema{Name: GPUUses, Section: "gpus", Columns: append(append(key(Slot, "gpu*", At),
			sums("micros", "units", "granted")...), Column{Name: "source", Combine: Most})},
		&Schema{Name: GPUEngines, Section: "gpus", Columns: append(key(Slot, "gpu*", "engine*", At),
			sums("micros")...)},
		&Schema{Name: GPUBands, Section: "gpus", Columns: append(key(Slot, "gpu*", "band", At), sums("millis")...)})
	list = append(list, &Schema{Name: Sensors, Section: "sensors", Columns: sensors()})
	list = append(list, &Schema{Name: PartPeaks, Section: "part peaks", Columns: append(key("figure*", "part*", At),
		Column{Name: "most", Combine: Most})})
	list = append(list, &Schema{Name: Caveats, Section: "host", Columns: append(key("what*", At), sums("amount")...)})
	for _, m := range amount.Beside() {
		list = append(list, &Schema{Name: OfMeasure(m), Section: "of " + m.Entry().Of.String(), Columns: measure(m)})
	}
	byName, names := map[string]*Schema{}, []string{}
	for _, s := range list {
		s.at = map[string]int{}
		for i, c := range s.Columns {
			s.at[c.Name] = i
			if c.Combine == Key {
				s.keys = i + 1
			}
		}
		byName[s.Name] = s
		names = append(names, s.Name)
	}
	return byName, names
}()

// SchemaOf is the schema of a table; nil for none that is known here, as of a newer program.
func SchemaOf(table string) *Schema { return schemas[table] }

// Tables lists all tables.
func Tables() []string { return order }

// SectionsOf lists the sections that hold tables, each once. Who and Intervals are needed to read any other.
func SectionsOf(tables ...string) []string {
	sections := []string{}
	for _, t := range tables {
		if s := schemas[t]; s != nil {
			sections = append(sections, s.Section)
		}
	}
	slices.Sort(sections)
	return slices.Compact(sections)
}

// Keys is how many of the first columns are keys.
func (s *Schema) Keys() int { return s.keys }

// Index is the place of a column; -1 for none.
func (s *Schema) Index(column string) int {
	if i, ok := s.at[column]; ok {
		return i
	}
	return -1
}

// Place is Index of a name in bytes.
func (s *Schema) Place(column []byte) int {
	if i, ok := s.at[string(column)]; ok {
		return i
	}
	return -1
}

// SectionOf is the section that holds a table.
func SectionOf(table string) string { return schemas[table].Section }
