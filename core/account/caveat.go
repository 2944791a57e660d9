package account

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"vinescale/core/amount"
)

// Caveat is something that was missed on a host, or cannot be seen there, so that a resource's shares lack it. It comes
// with an amount, in a unit of its own.
type Caveat uint8

// The caveats. An amount is of what was missed in an interval; of what a host never sees it is the number of readings.
const (
	EndsLost     Caveat = iota // records of ended tasks that found no room
	TimeUnplaced               // microseconds of CPU time for which there was no room to say whose they are
	GroupsMissed               // records of cgroups that were made, which found no room
	EndsUnseen                 // readings: work that ended between two is not seen
	EndsByTicks                // readings: work that ended between two is known in steps of a clock tick
	IOHidden                   // readings: the storage counters of other users' processes may not be read
	GPUUntold                  // milliseconds of GPUs that do not tell how long they worked
	GPUUnchecked               // milliseconds of GPUs of which only the clients tell how long they worked
	GPUUnplaced                // microseconds that GPUs worked for processes that are not known
	GPUHidden                  // readings: who has GPUs open may not be read of other users' processes
	Unwatched                  // milliseconds in which no collector read the host; of every resource
	NumCaveats
)

// everyResource stands for all of them.
const everyResource = amount.Resource(amount.NumResources)

var caveats = [NumCaveats]struct {
	name    string
	of      amount.Resource
	meaning string // "%s" stands for the amount
}{
	EndsLost: {"ends_lost", amount.CPU,
		"%s records of ended tasks found no room: what they used is counted, which programs they ran is not known"},
	TimeUnplaced: {"time_unplaced", amount.CPU,
		"of %s of CPU time it is not known whose it was, for too many users and families ran at once: it is in the " +
			"residual"},
	GroupsMissed: {"groups_missed", amount.CPU,
		"%s cgroups were made unrecorded: what ran in those that were removed before they were met is their users'"},
	EndsUnseen: {"ends_unseen", amount.CPU,
		"processes outside cgroups that ended between two readings are not seen, and of one that came out of a " +
			"cgroup not what it used until the next: shares are at least what is shown, and the rest is in the " +
			"residual"},
	EndsByTicks: {"ends_by_ticks", amount.CPU,
		"of processes outside cgroups that ended between two readings the time until their last clock tick is known " +
			"alone, and of one that came out of a cgroup not what it used until the next: shares are at least what " +
			"is shown"},
	IOHidden: {"io_hidden", amount.Disk,
		"what other users' processes outside cgroups read and wrote may not be read without more rights: shares are " +
			"at least what is shown"},
	GPUUntold: {"gpu_untold", amount.GPU,
		"for %s of GPU time the GPUs did not tell how long they worked: they are in no line"},
	GPUUnchecked: {"gpu_unchecked", amount.GPU,
		"for %s of GPU time only the clients of the GPUs were counted: what one did last before it ended is not " +
			"seen, and is in idle"},
	GPUUnplaced: {"gpu_unplaced", amount.GPU,
		"GPUs worked %s for processes that are not known: it is in the residual"},
	GPUHidden: {"gpu_hidden", amount.GPU,
		"which GPUs other users' processes have open may not be read without more rights: shares are at least what " +
			"is shown"},
	Unwatched: {"unwatched", everyResource,
		"for %s no collector ran: shares are by how much the host's own counters grew meanwhile, all put to the time " +
			"it stopped; what ended within it is in the residual"},
}

func (c Caveat) String() string { return caveats[c].name }

// Limits tells whether it limits the shares of a resource, or what a measure tells beside them.
func (c Caveat) Limits(m amount.Measure) bool {
	return caveats[c].of == m.Entry().Of || caveats[c].of == everyResource
}

// Meaning says in a sentence what was missed, of an amount.
func (c Caveat) Meaning(units int64) string {
	switch c {
	case EndsUnseen, EndsByTicks, IOHidden, GPUHidden:
		return caveats[c].meaning
	case TimeUnplaced, GPUUnplaced:
		return fmt.Sprintf(caveats[c].meaning, (time.Duration(units) * time.Microsecond).Round(time.Millisecond))
	case Unwatched, GPUUntold, GPUUnchecked:
		return fmt.Sprintf(caveats[c].meaning, (time.Duration(units) * time.Millisecond).Round(time.Second))
	}
	return fmt.Sprintf(caveats[c].meaning, strconv.FormatInt(units, 10))
}

// InGeneral says in a sentence what is missed, with three dots for the amount.
func (c Caveat) InGeneral() string {
	text := strings.ReplaceAll(caveats[c].meaning, "%s", "…")
	first, size := utf8.DecodeRuneInString(text)
	return string(unicode.ToUpper(first)) + text[size:] + "."
}
