package leaf

import (
	"fmt"
	"slices"
	"strconv"

	"vinescale/core/amount"
)

// PartFigure is something that a host tells of one of its parts over time: of a drive, an interface, a GPU, a CPU or a
// sensor. It is a quotient of sums, so that figures of intervals make those of any step.
type PartFigure struct {
	Name    string // stable; it ends in its unit
	Title   string // for people
	Meaning string // in whole sentences
	Of      string // one of PartKinds
	Unit    amount.Unit
	InBits  bool    // as of amount.Entry
	Most    float64 // the most that it can be; 0 for no such bound

	SensorKind string // of a figure of sensors: of which kind of them

	table string
	over  []string // what is added up
	per   []string // what that is divided by; none for the time that the host told of, in milliseconds
	scale float64
}

// The kinds of parts that figures are told of.
const (
	DrivePart     = "drive"
	InterfacePart = "interface"
	GPUPart       = "gpu"
	CPUPart       = "cpu"
	SensorPart    = "sensor"
)

// PartKinds lists the kinds of parts.
func PartKinds() []string { return []string{DrivePart, InterfacePart, GPUPart, CPUPart, SensorPart} }

// The units of parts' figures. Only how means are told matters: there are no amounts.
var (
	moved   = amount.Unit{Name: "bytes", Mean: "bytes_per_second", Per: 1, Step: amount.Decimal}
	held    = amount.Unit{Name: "bytes", Mean: "bytes", Per: 1, Step: amount.Binary}
	counted = amount.Unit{Name: "count", Mean: "per_second", Per: 1}
	perCent = amount.Unit{Name: "percent", Mean: "percent", Per: 1}
	millis  = amount.Unit{Name: "ms", Mean: "ms", Per: 1}
	waiting = amount.Unit{Name: "operations", Mean: "operations", Per: 1}
	celsius = amount.Unit{Name: "celsius", Mean: "°C", Per: 1}
	turns   = amount.Unit{Name: "rpm", Mean: "rpm", Per: 1}
	volts   = amount.Unit{Name: "volts", Mean: "V", Per: 1}
	amperes = amount.Unit{Name: "amperes", Mean: "A", Per: 1}
	watts   = amount.Unit{Name: "watts", Mean: "watts", Per: 1, Step: amount.Hourly}
	hertz   = amount.Unit{Name: "hertz", Mean: "Hz", Per: 1}
)

// perSecond makes a sum over milliseconds one over seconds, and inPercent a part of the time a percentage.
const (
	perSecond = 1000
	inPercent = 100
)

var partFigures = []PartFigure{
	{Name: "drive_busy_percent", Title: "Drive, busy", Of: DrivePart, Unit: perCent, Most: inPercent, table: Disks,
		over: []string{"busy_millis"}, scale: inPercent, Meaning: "Part of the time in which the device had at least " +
			"one operation in flight. Busy all the time, it need not be full: many work on several at once."},
	{Name: "drive_queue", Title: "Drive, queue", Of: DrivePart, Unit: waiting, table: Disks,
		over: []string{"queue_millis"}, scale: 1, Meaning: "Operations that waited for the device or were in flight, " +
			"in the mean."},
	{Name: "drive_latency_ms", Title: "Drive, latency", Of: DrivePart, Unit: millis, table: Disks,
		over: []string{"read_millis", "write_millis"}, per: []string{"reads", "writes"}, scale: 1,
		Meaning: "How long a read or a write took from being queued to being done, in the mean. Nothing where there " +
			"was none."},
	{Name: "drive_read_bytes", Title: "Drive, read", Of: DrivePart, Unit: moved, table: Disks,
		over: []string{"read_bytes"}, scale: perSecond, Meaning: "Bytes read from the device, by its own counters."},
	{Name: "drive_written_bytes", Title: "Drive, written", Of: DrivePart, Unit: moved, table: Disks,
		over: []string{
			"written_bytes",
		}, scale: perSecond, Meaning: "Bytes written to the device, by its own counters."},
	{Name: "drive_reads", Title: "Drive, reads", Of: DrivePart, Unit: counted, table: Disks,
		over: []string{"reads"}, scale: perSecond, Meaning: "Read operations that the device completed."},
	{Name: "drive_writes", Title: "Drive, writes", Of: DrivePart, Unit: counted, table: Disks,
		over: []string{"writes"}, scale: perSecond, Meaning: "Write operations that the device completed."},
	{Name: "drive_discarded_bytes", Title: "Drive, discarded", Of: DrivePart, Unit: moved, table: Disks,
		over: []string{"discarded_bytes"}, scale: perSecond,
		Meaning: "Bytes that the device was told to forget. They are not among those written."},
	{Name: "drive_flushes", Title: "Drive, flushes", Of: DrivePart, Unit: counted, table: Disks,
		over: []string{"flushes"}, scale: perSecond,
		Meaning: "How often the device was told to write its own cache down."},
	{Name: "interface_received_bytes", Title: "Interface, received", Of: InterfacePart, Unit: moved, InBits: true,
		table: Links, over: []string{"received_bytes"}, scale: perSecond,
		Meaning: "Bytes that came in over the interface, seen from the host."},
	{Name: "interface_sent_bytes", Title: "Interface, sent", Of: InterfacePart, Unit: moved, InBits: true,
		table: Links, over: []string{"sent_bytes"}, scale: perSecond,
		Meaning: "Bytes that left over the interface, seen from the host."},
	{Name: "interface_received_packets", Title: "Interface, packets received", Of: InterfacePart, Unit: counted,
		table: Links, over: []string{"received_packets"}, scale: perSecond,
		Meaning: "Packets that came in over the interface."},
	{Name: "interface_sent_packets", Title: "Interface, packets sent", Of: InterfacePart, Unit: counted,
		table: Links, over: []string{"sent_packets"}, scale: perSecond,
		Meaning: "Packets that left over the interface."},
	{Name: "interface_dropped_packets", Title: "Interface, packets dropped", Of: InterfacePart, Unit: counted,
		table: Links, over: []string{"received_dropped", "sent_dropped"}, scale: perSecond,
		Meaning: "Packets that the interface or the kernel dropped there, in both directions."},
	{Name: "interface_errors", Title: "Interface, errors", Of: InterfacePart, Unit: counted,
		table: Links, over: []string{"received_errors", "sent_errors"}, scale: perSecond,
		Meaning: "Errors that the interface counted, in both directions."},
	{Name: "gpu_busy_percent", Title: "GPU, busy", Of: GPUPart, Unit: perCent, Most: inPercent, table: GPUs,
		over: []string{"micros"}, per: []string{"told"}, scale: inPercent / 1000.,
		Meaning: "Part of the time in which the GPU had any work, over the time for which it told that."},
	{Name: "gpu_taken_bytes", Title: "GPU, memory taken", Of: GPUPart, Unit: held, table: GPUs,
		over: []string{"units"}, per: []string{"units_told"}, scale: 1,
		Meaning: "Memory of the GPU that is taken, in the mean over the time for which it told that."},
	{Name: "cpu_busy_percent", Title: "Logical CPU, busy", Of: CPUPart, Unit: perCent, Most: inPercent, table: States,
		over: busyStates, per: CPUStates, scale: inPercent,
		Meaning: "Part of the time in which the logical CPU was not idle, by the host's own count of its states. " +
			"Waiting for drives counts as idle."},
	{Name: "cpu_kernel_percent", Title: "Logical CPU, in the kernel", Of: CPUPart, Unit: perCent, Most: inPercent,
		table: States, over: []string{"system"}, per: CPUStates, scale: inPercent,
		Meaning: "Part of the time that the logical CPU spent in the kernel for tasks, interrupts apart."},
	{Name: "cpu_interrupts_percent", Title: "Logical CPU, interrupts", Of: CPUPart, Unit: perCent, Most: inPercent,
		table: States, over: []string{"irq", "softirq"}, per: CPUStates, scale: inPercent,
		Meaning: "Part of the time that the logical CPU spent with interrupts and what they left to be done."},
	{Name: "cpu_waiting_percent", Title: "Logical CPU, waiting for drives", Of: CPUPart, Unit: perCent, Most: inPercent,
		table: States, over: []string{"iowait"}, per: CPUStates, scale: inPercent,
		Meaning: "Part of the time in which the logical CPU was idle while a task that ran there last waited for a " +
			"drive."},
	{Name: "cpu_taken_percent", Title: "Logical CPU, taken", Of: CPUPart, Unit: perCent, Most: inPercent,
		table: States, over: []string{"steal"}, per: CPUStates, scale: inPercent,
		Meaning: "Part of the time that the hypervisor below took from the logical CPU."},
	sensorFigure("sensor_celsius", "Temperature", celsius, "temperature"),
	sensorFigure("sensor_rpm", "Fan", turns, "fan"),
	sensorFigure("sensor_volts", "Voltage", volts, "voltage"),
	sensorFigure("sensor_amperes", "Current", amperes, "current"),
	sensorFigure("sensor_watts", "Power by sensor", watts, "power"),
	sensorFigure("sensor_humidity_percent", "Humidity", perCent, "humidity"),
	sensorFigure("sensor_charge_percent", "Charge", perCent, "charge"),
	sensorFigure("sensor_hertz", "Clock by sensor", hertz, "clock"),
}

// busyStates are those of CPUStates in which a CPU is not idle.
var busyStates = []string{"user", "nice", "system", "irq", "softirq", "steal"}

func sensorFigure(name, title string, unit amount.Unit, kind string) PartFigure {
	return PartFigure{Name: name, Title: title, Of: SensorPart, Unit: unit, table: Sensors, SensorKind: kind,
		over: []string{"milli"}, per: []string{"count"}, scale: 1. / SensorScale,
		Meaning: "What sensors of this kind told, looked at once an interval: the mean of what was read, with the " +
			"highest as the peak."}
}

// SensorKinds lists the kinds of sensors whose readings are kept over time.
func SensorKinds() (kinds []string) {
	for i := range partFigures {
		if k := partFigures[i].SensorKind; k != "" {
			kinds = append(kinds, k)
		}
	}
	return kinds
}

// PartFigures lists what can be asked for of parts, by the kind of part.
func PartFigures() []PartFigure { return partFigures }

// PartFigureNamed finds a figure of parts; nil for none of that name.
func PartFigureNamed(name string) *PartFigure {
	i := slices.IndexFunc(partFigures, func(f PartFigure) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	return &partFigures[i]
}

// Entry is what a figure is as an entry of the register of measures: a mean that is not added up.
func (f *PartFigure) Entry() *amount.Entry {
	return &amount.Entry{Name: f.Name, Title: f.Title, Meaning: f.Meaning, Unit: f.Unit, Manner: amount.Stall,
		Form: amount.Line, InBits: f.InBits}
}

// Columns are what the figure is made of, by table: keys of tables aside.
func (f *PartFigure) Columns() map[string][]string {
	of, schema := append(slices.Clone(f.over), f.per...), SchemaOf(f.table)
	for _, c := range []string{"name", "inner", "kind", "most", "index", "card"} {
		if schema.Index(c) >= 0 {
			of = append(of, c)
		}
	}
	if f.Of == SensorPart { // they tell of their peaks themselves
		return map[string][]string{f.table: of}
	}
	return map[string][]string{f.table: of, PartPeaks: {"most"}}
}

// PartCell is what one part adds to a figure in one interval of a leaf.
type PartCell struct {
	At      int64
	Name    string // what people call it
	IsInner bool   // a part of another part, whose figures are these too
	Over    float64
	Per     float64 // 0 where Over is divided by the host's time
	Peak    *float64
}

// IsOfTime tells figures that are divided by the time that the host told of.
func (f *PartFigure) IsOfTime() bool { return len(f.per) == 0 }

// Value is the figure over some cells that were added up: nil where nothing is known. Millis is the time that the host
// told of.
func (f *PartFigure) Value(over, per float64, millis int64) *float64 {
	if f.IsOfTime() {
		per = float64(millis)
	}
	if per <= 0 {
		return nil
	}
	v := f.scale * over / per
	if f.Most > 0 {
		v = min(v, f.Most) // two clocks
	}
	return &v
}

// Each visits what every part of a view adds to the figure, in the span. A cell is another's once visit returns.
func (f *PartFigure) Each(v *View, visit func(*PartCell)) {
	t := v.Tables[f.table]
	if t == nil {
		return
	}
	sum := func(places []int, row int) (s float64) {
		for _, c := range places {
			if t.High[c] == nil {
				s += float64(t.Low[c][row])
			} else {
				s += t.Wide(c, row).Float()
			}
		}
		return s
	}
	over, per := t.places(f.over), t.places(f.per)
	inner, kinds, most := t.maybe("inner"), t.maybe("kind"), t.maybe("most")
	names, peaks := partNames(v, t), f.peaks(v, t)
	var c PartCell
	for row, at := range t.Of(At) {
		if !v.Within[at] || f.SensorKind != "" && v.Words[kinds[row]] != f.SensorKind {
			continue
		}
		c = PartCell{At: at, Name: names[row], Over: sum(over, row), Per: sum(per, row),
			IsInner: inner != nil && inner[row] != 0}
		switch {
		case most != nil:
			peak := f.scale * float64(most[row])
			c.Peak = &peak
		case f.IsOfTime() || c.Per > 0:
			c.Peak = peaks(row)
		}
		visit(&c)
	}
}

// peaks tells of the rows of a table the highest tick of the figure. Who tells of ticks, and of none of a part, says
// that there was nothing in any; who tells of none at all does not know: an older collector.
func (f *PartFigure) peaks(v *View, t *Table) func(row int) *float64 {
	p, count := v.Tables[PartPeaks], int64(len(v.Within))
	if p == nil {
		return func(int) *float64 { return nil }
	}
	figures, parts, ats, milli := p.Of("figure"), p.Of("part"), p.Of(At), p.Of("most")
	tells, figure := make([]bool, count), v.numberOf(f.Name)
	first, last := int64(len(v.Words)), int64(-1) // of the words of its parts, which stand together
	for row, x := range figures {
		tells[ats[row]] = true
		if x == figure {
			first, last = min(first, parts[row]), max(last, parts[row])
		}
	}
	most := make([]float64, max(0, last-first+1)*count) // by part and interval
	for row, x := range figures {
		if x == figure {
			most[(parts[row]-first)*count+ats[row]] = float64(milli[row]) / 1000
		}
	}
	keys := t.Low[0]
	switch f.Of {
	case DrivePart:
		keys = t.Of("name")
	case CPUPart:
		keys = v.numbers(keys, first, last)
	}
	ats = t.Of(At)
	return func(row int) *float64 {
		switch at, key := ats[row], keys[row]; {
		case !tells[at]:
			return nil
		case key < first || key > last:
			return new(float64)
		default:
			return &most[(key-first)*count+at]
		}
	}
}

// numbers are the words of some numbers among those from a first to a last, -1 for those that have none there.
func (v *View) numbers(of []int64, first, last int64) []int64 {
	words := make(map[int64]int64, max(0, last-first+1))
	for i := first; i <= last; i++ {
		if n, err := strconv.ParseInt(v.Words[i], 10, 64); err == nil {
			words[n] = i
		}
	}
	found := make([]int64, len(of))
	for i, n := range of {
		word, is := words[n]
		if !is {
			word = -1
		}
		found[i] = word
	}
	return found
}

// places are where columns are.
func (t *Table) places(columns []string) []int {
	places := make([]int, len(columns))
	for i, c := range columns {
		places[i] = t.Schema.Index(c)
	}
	return places
}

// maybe is a column's lower halves; nil where the table has no such column.
func (t *Table) maybe(column string) []int64 {
	if t.Schema.Index(column) < 0 {
		return nil
	}
	return t.Of(column)
}

// firstCPUs are the names of most CPUs there are: they are needed very often.
var firstCPUs = func() (names [512]string) {
	for i := range names {
		names[i] = fmt.Sprint("CPU ", i)
	}
	return names
}()

func cpuName(cpu int64) string {
	if cpu >= 0 && cpu < int64(len(firstCPUs)) {
		return firstCPUs[cpu]
	}
	return fmt.Sprint("CPU ", cpu)
}

// partNames is what the part of each row of a table is called.
func partNames(v *View, t *Table) []string {
	names := make([]string, t.Rows())
	switch t.Schema.Name {
	case States:
		for row, cpu := range t.Of("cpu") {
			names[row] = cpuName(cpu)
		}
	case GPUs:
		index, cards := t.Of("index"), t.Of("card")
		of := map[int64]int64{}
		for row, gpu := range t.Of("gpu") {
			of[gpu] = index[row]
		}
		for row := range names {
			names[row] = fmt.Sprint("GPU ", index[row])
			if v.Words[cards[row]] != "" {
				names[row] = fmt.Sprintf("GPU %d.%d", of[cards[row]], index[row])
			}
		}
	default: // they have names of their own: what a device is called now, or the key
		words := t.maybe("name")
		if words == nil {
			words = t.Low[0]
		}
		for row := range names {
			names[row] = v.Words[words[row]]
		}
	}
	return names
}
