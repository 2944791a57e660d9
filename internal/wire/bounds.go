package wire

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// The bounds of what one interval may hold. They are far beyond what a host has: what exceeds one is a mistake or an
// attack, and would be every tenant's harm, since figures of all hosts are added up. A collector cuts its texts to
// them.
const (
	mostWorkloads = 20_000
	mostRows      = 400_000 // of a table that tells of workloads' parts, such as programs or CPUs
	mostDevices   = 20_000  // disks, interfaces, buckets of latency
	mostCPUs      = 8192    // as the kernel has them
	mostLabels    = 256     // of one workload

	mostName      = 1024  // bytes of a name, a key or an owner
	mostText      = 8192  // bytes of a path, a label's value, a fact or a reason
	mostCPUList   = 32768 // bytes of a list of CPUs: every second one of 8192 takes 20,000
	mostInventory = 1 << 20
	mostMilli     = 1e15 // thousandths that a sensor tells, in either direction

	mostElapsed = 86_400_000 // milliseconds: a day

	// Levels in bytes, and flows in bytes or counts a second, of a whole host. In 64 bits, sums of flows over three
	// months then hold; of levels they hold over a day, and longer ones are added in 128 bits.
	heldBound = 1 << 46 // 64 TiB
	rateBound = 1 << 40
	// A CPU cannot be busier than all the time. Counters of one reading may lag behind another's, so four times as much
	// is believed.
	mostOften = 4
)

// faults finds the first mistake in a message, and the field that has it.
type faults struct{ err error }

// at notes a mistake in a field, unless one was found before.
func (f *faults) at(field, why string, a ...any) {
	if f.err == nil {
		f.err = fmt.Errorf("%s: %s", field, fmt.Sprintf(why, a...))
	}
}

// number holds a figure to what it may be.
func (f *faults) number(field string, n, least, most int64) {
	if n < least || n > most {
		f.at(field, "%d is not from %d to %d", n, least, most)
	}
}

// numbers holds the figures of a column to what they may be, and their sum too.
func numbers[T int32 | int64 | uint32](f *faults, field string, column []T, least, most int64) {
	sum := int64(0)
	for i, n := range column {
		if int64(n) < least || int64(n) > most {
			f.at(fmt.Sprintf("%s[%d]", field, i), "%d is not from %d to %d", n, least, most)
			return
		}
		if int64(n) > math.MaxInt64-sum {
			f.at(field, "the sum of its %d figures is beyond what can be counted", len(column))
			return
		}
		sum += max(int64(n), 0)
	}
}

// total holds the sum of a column to what a host can have.
func (f *faults) total(field string, column []int64, most int64) {
	numbers(f, field, column, 0, most)
	if f.err != nil {
		return
	}
	sum := int64(0)
	for _, n := range column {
		if sum += n; sum > most {
			f.at(field, "all together are more than %d, which is more than a host has", most)
			return
		}
	}
}

// text holds a text to what can be stored: UTF-8 without NUL, of so many bytes.
func (f *faults) text(field, s string, most int) {
	switch {
	case len(s) > most:
		f.at(field, "%d bytes are more than %d", len(s), most)
	case strings.IndexByte(s, 0) >= 0:
		f.at(field, "holds a NUL, which cannot be stored")
	case !utf8.ValidString(s):
		f.at(field, "is not UTF-8")
	}
}

func (f *faults) texts(field string, column []string, most int) {
	for i, s := range column {
		if len(s) > most || strings.IndexByte(s, 0) >= 0 || !utf8.ValidString(s) {
			f.text(fmt.Sprintf("%s[%d]", field, i), s, most)
			return
		}
	}
}

func (f *faults) labels(field string, column []*Labels) {
	for i, l := range column {
		if len(l.GetValues()) > mostLabels {
			f.at(fmt.Sprintf("%s[%d]", field, i), "%d are more than %d", len(l.Values), mostLabels)
		}
		for k, v := range l.GetValues() {
			f.text(fmt.Sprintf("%s[%d], a key", field, i), k, mostName)
			f.text(fmt.Sprintf("%s[%d].%.60q", field, i, k), v, mostText)
		}
		if f.err != nil {
			return
		}
	}
}

// rows holds a table's columns to one length and bounds it.
func (f *faults) rows(table string, rows, most int, columns ...int) {
	if rows > most {
		f.at(table, "%d rows are more than %d", rows, most)
	}
	for _, n := range columns {
		if n != rows {
			f.at(table, "a column has %d elements, another %d", rows, n)
		}
	}
}

// optional is rows for columns that an older sender leaves out.
func (f *faults) optional(table string, rows int, columns ...int) {
	for _, n := range columns {
		if n != 0 && n != rows {
			f.at(table, "a column has %d elements, another %d", rows, n)
		}
	}
}

// index holds a column's numbers to the table they stand for.
func index[T int32 | uint32](f *faults, field string, column []T, least, length int, of string) {
	for i, n := range column {
		if int64(n) < int64(least) || int64(n) >= int64(length) {
			f.at(fmt.Sprintf("%s[%d]", field, i), "names %s that is not in the interval", of)
			return
		}
	}
}

// once holds names to be there and to differ.
func (f *faults) once(field string, names []string) {
	seen := make(map[string]bool, len(names))
	for i, n := range names {
		if n == "" || seen[n] {
			f.at(fmt.Sprintf("%s[%d]", field, i), "%.60q is empty, or there twice", n)
			return
		}
		seen[n] = true
	}
}

// clip makes a text fit to be sent: UTF-8 without NUL, of at most so many bytes. The kernel lets names be of any bytes.
func clip(s string, most int) string {
	if len(s) <= most && utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 {
		return s
	}
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "\ufffd")
	if len(s) <= most {
		return s
	}
	cut := most
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut]
}

// clipAll makes labels or facts fit to be sent: the first so many by their keys.
func clipAll(values map[string]string) map[string]string {
	fits := len(values) <= mostLabels
	for k, v := range values {
		fits = fits && clip(k, mostName) == k && clip(v, mostText) == v
	}
	if fits {
		return values
	}
	clipped := make(map[string]string, len(values))
	for _, k := range slices.Sorted(maps.Keys(values)) {
		if len(clipped) < mostLabels {
			clipped[clip(k, mostName)] = clip(values[k], mostText)
		}
	}
	return clipped
}
