package act

import (
	"fmt"
	"slices"
	"strings"
)

// Verb is what an act does.
type Verb string

// The acts.
const (
	End      Verb = "end"
	Pause    Verb = "pause"
	Continue Verb = "continue"
	Weigh    Verb = "weigh"
	Cap      Verb = "cap"
	Place    Verb = "place"
	Start    Verb = "start"
	Restart  Verb = "restart"
	Reload   Verb = "reload"
	AtBoot   Verb = "at-boot"
	Hold     Verb = "hold"
	Release  Verb = "release"
	Message  Verb = "message"
	Look     Verb = "look"
	Read     Verb = "read"
	Power    Verb = "power"
	Admit    Verb = "admit"
	Undo     Verb = "undo"
)

// Form is the form of what an act is aimed at.
type Form string

// The forms of target.
const (
	OfProcess  Form = "process"  // one process
	OfFamily   Form = "family"   // a process and all its descendants
	OfProgram  Form = "program"  // all processes of one program that one user runs
	OfWorkload Form = "workload" // all of a workload
	OfUnit     Form = "unit"     // a unit of the init system, whether it runs or not
	OfJob      Form = "job"      // a job of the batch scheduler, whether it runs or waits
	OfGPU      Form = "gpu"      // a GPU, by its address on the bus
	OfAct      Form = "act"      // an act before, which is to be undone
)

// Entry is what the register says of an act.
type Entry struct {
	Verb     Verb
	Meaning  string // in a sentence
	Forms    []Form
	Settings []string // that it takes, by name
	IsAny    bool     // at least one of its settings must be given
	Undo     string   // what undoes it; empty where nothing does
}

var onProcesses = []Form{OfProcess, OfFamily, OfProgram, OfWorkload}

var entries = []Entry{
	{End, "Ends what it is aimed at: asks it to end and waits, or ends it by force.",
		append(slices.Clone(onProcesses), OfUnit, OfJob), []string{"force", "wait"}, false, ""},
	{Pause, "Stops it where it is, so that it uses no CPU time; its memory stays.",
		onProcesses, nil, false, "it continues"},
	{Continue, "Lets it go on after a pause.",
		onProcesses, nil, false, "it is paused again"},
	{Weigh, "Changes how much of a CPU or a device it is given when others want it too.",
		onProcesses, []string{"nice", "io-priority", "cpu-weight", "io-weight"}, true, "the weights from before"},
	{Cap, "Limits what it may use; the value none lifts a limit.",
		[]Form{OfFamily, OfWorkload}, []string{"cpu", "memory", "processes", "read", "write"}, true,
		"the limits from before"},
	{Place, "Says on which CPUs it may run.",
		onProcesses, []string{"cpus", "vcpu", "cpuset", "alone"}, true, "the CPUs from before"},
	{Start, "Starts a unit of the init system.",
		[]Form{OfUnit}, nil, false, "it is stopped"},
	{Restart, "Ends a unit of the init system with all its processes, also where it is stuck, and starts it again.",
		[]Form{OfUnit}, []string{"force"}, false, ""},
	{Reload, "Has a unit read its configuration again.",
		[]Form{OfUnit}, nil, false, ""},
	{AtBoot, "Says whether a unit is started when the host starts.",
		[]Form{OfUnit}, []string{"begins"}, true, "as it was"},
	{Hold, "Keeps a job that waits from being started.",
		[]Form{OfJob}, nil, false, "it is let go"},
	{Release, "Lets a job that is held be started.",
		[]Form{OfJob}, nil, false, "it is held"},
	{Message, "Writes a line to the terminal of a sign-in.",
		[]Form{OfWorkload}, []string{"text"}, true, ""},
	{Look, "Looks closer at a process for a moment: its files, connections, threads and where they wait.",
		[]Form{OfProcess}, []string{"seconds"}, false, ""},
	{Read, "Reads the last lines that a container, a unit of the init system or a job wrote.",
		[]Form{OfWorkload, OfUnit, OfJob}, []string{"lines"}, false, ""},
	{Power, "Limits the power that a GPU may draw.",
		[]Form{OfGPU}, []string{"watts"}, true, "the limit from before"},
	{Admit, "Says who may compute on a GPU: any process, one at a time, or nobody more.",
		[]Form{OfGPU}, []string{"compute"}, true, "the mode from before"},
	{Undo, "Puts back what an act changed, where the value is still the one that it set.",
		[]Form{OfAct}, nil, false, ""},
}

// Entries lists all acts.
func Entries() []Entry { return entries }

// Entry is what the register says of an act; false for one that is not in it.
func (v Verb) Entry() (Entry, bool) {
	i := slices.IndexFunc(entries, func(e Entry) bool { return e.Verb == v })
	if i < 0 {
		return Entry{}, false
	}
	return entries[i], true
}

// Verbs lists the names of all acts.
func Verbs() []string {
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = string(e.Verb)
	}
	return names
}

func (v Verb) check() (Entry, error) {
	e, is := v.Entry()
	if !is {
		return e, fmt.Errorf("%q is no act: choose one of %s", v, strings.Join(Verbs(), ", "))
	}
	return e, nil
}
