package folio

import (
	"fmt"
	"slices"
	"strings"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Matter is something that a plate may show.
type Matter struct {
	Name      string
	Title     string
	Meaning   string
	Unit      string   // of its figures; empty of a list
	Subjects  []string // whose it may be
	Groupings []string // what it may be grouped by, beside labels; none of a list
	measure   amount.Measure
	isList    bool
	isOfParts bool   // it is told of drives, interfaces and the like, of each by itself
	forms     []Form // of a list, and of what is told of parts
}

// Form is a way to draw a plate.
type Form string

// The forms.
const (
	Number    Form = "number"    // one figure, with a small drawing of how it went
	Filled    Form = "filled"    // a figure against what bounds it: a capacity, a quota, a limit
	Line      Form = "line"      // over time
	Stack     Form = "stack"     // groups on each other over time
	Bars      Form = "bars"      // groups below each other, from zero
	Parts     Form = "parts"     // groups as parts of the capacity
	Table     Form = "table"     // figures in lines
	Placement Form = "placement" // CPUs down, time across
)

// lists are what plates may show beside measures: things that are listed.
var lists = []Matter{
	{Name: "events", Title: "Events", Subjects: []string{Fleet, Host, Tenant}, forms: []Form{Table, Number},
		Meaning: "What happened in the span: work that began, ended or failed, sign-ins, hosts that fell silent, " +
			"changes of quotas."},
	{Name: "signed_in", Title: "Signed in", Subjects: []string{Fleet, Host}, forms: []Form{Table, Number},
		Meaning: "Sessions of people who were signed in within the span, with what they used."},
	{Name: "hosts", Title: "Hosts", Subjects: []string{Fleet}, forms: []Form{Table, Number},
		Meaning: "Every host with its load against its CPUs, and whether it reports."},
	{Name: "drives", Title: "Drives", Subjects: []string{Fleet, Host}, forms: []Form{Bars, Table},
		Meaning: "The busiest drives: what they read and wrote, and for what part of the time an operation was in " +
			"flight."},
	{Name: "filesystems", Title: "Filesystems", Subjects: []string{Fleet, Host}, forms: []Form{Bars, Table},
		Meaning: "Mounted filesystems by how full they are."},
	{Name: "gpu_devices", Title: "GPU devices", Subjects: []string{Fleet, Host}, forms: []Form{Bars, Table},
		Meaning: "Every GPU: for what part of the span it worked, what of its memory was taken, and its state."},
	{Name: "sensors", Title: "Sensors", Subjects: []string{Fleet, Host}, forms: []Form{Table},
		Meaning: "What temperatures, fans and other sensors told last, the most urgent first."},
	{Name: "standing", Title: "Tenants against quotas", Subjects: []string{Fleet, Host, Tenant},
		forms: []Form{Bars, Table},
		Meaning: "What tenants used against what they may have: the span’s mean, its highest minute and the quota, " +
			"of each resource."},
}

// Matters lists what plates may show: every measure of the register, the figures of hosts' parts, and the lists.
func Matters() []Matter {
	var all []Matter
	for _, m := range amount.Measures() {
		all = append(all, ofMeasure(m))
	}
	for i := range leaf.PartFigures() {
		all = append(all, ofParts(&leaf.PartFigures()[i]))
	}
	for _, l := range lists {
		l.isList = true
		all = append(all, l)
	}
	return all
}

func ofMeasure(m amount.Measure) Matter {
	e := m.Entry()
	x := Matter{
		Name:     e.Name,
		Title:    e.Title,
		Meaning:  e.Meaning,
		Unit:     m.MeanUnit(),
		Subjects: Subjects(),
		measure:  m,
	}
	for _, by := range append(question.Dimensions(), question.Divisions()...) {
		if x.canGroup(by) == nil {
			x.Groupings = append(x.Groupings, by)
		}
	}
	return x
}

// ofParts is a figure of drives, interfaces, GPUs, CPUs or sensors: a line for each of them.
func ofParts(f *leaf.PartFigure) Matter {
	return Matter{Name: f.Name, Title: f.Title, Meaning: f.Meaning, Unit: f.Unit.Mean, Subjects: []string{Fleet, Host},
		isOfParts: true, forms: []Form{Line, Bars, Table}}
}

// Find finds what a plate is of. The error says what there is.
func Find(name string) (*Matter, error) {
	if m, err := amount.Parse(name); err == nil {
		x := ofMeasure(m)
		return &x, nil
	}
	for i := range leaf.PartFigures() {
		if f := &leaf.PartFigures()[i]; f.Name == name {
			x := ofParts(f)
			return &x, nil
		}
	}
	var names []string
	for _, l := range lists {
		if l.Name == name {
			l.isList = true
			return &l, nil
		}
		names = append(names, l.Name)
	}
	return nil, fmt.Errorf(
		"there is no measure or list %q: choose a measure (\"vinescale measures\" lists them) or one "+
			"of %s",
		name,
		strings.Join(names, ", "),
	)
}

// canGroup says why a matter cannot be grouped by something.
func (m *Matter) canGroup(by string) error {
	if m.isList {
		return fmt.Errorf("%s are listed: they are not grouped", m.Name)
	}
	if m.isOfParts {
		return fmt.Errorf("%s is told of each part by itself: it is not grouped", m.Name)
	}
	d := question.Dimension(by)
	if !slices.Contains(question.Divisions(), by) {
		var err error
		if d, err = question.ParseDimension(by); err != nil {
			return err
		}
	}
	_, err := question.PlanFor(question.Question{Measures: []amount.Measure{m.measure}, By: []question.Dimension{d}})
	return err
}

// Forms are the forms that make sense, the one that is proposed first: a level against its bound, a flow over time, a
// count as a number, a share as parts. What does not add up is neither stacked nor shown as parts.
func (m *Matter) Forms(isGrouped bool, subject string) []Form {
	if m.isList || m.isOfParts {
		return m.forms
	}
	if isGrouped {
		return m.groupedForms(subject)
	}
	e := m.measure.Entry()
	isCount := e.Unit.Name == "count" || e.Manner == amount.Height
	forms := []Form{Line, Number, Table}
	if isCount {
		forms = []Form{Number, Line, Table}
	}
	switch {
	case m.measure.HasLedger() && slices.Contains([]string{Fleet, Pool, Host, Tenant, Workload}, subject):
		if m.measure.IsLevel() {
			forms = append([]Form{Filled}, forms...)
		} else {
			forms = append(forms, Filled)
		}
	}
	if m.measure == amount.CPU && subject == Host {
		forms = append(forms, Placement)
	}
	return forms
}

func (m *Matter) groupedForms(subject string) []Form {
	e := m.measure.Entry()
	switch {
	case e.Manner.OverWorkloads() != amount.Sum && e.Manner == amount.Stall:
		return []Form{Line, Bars, Table}
	case e.Manner.OverWorkloads() != amount.Sum:
		return []Form{Bars, Line, Table}
	}
	// Parts are of a capacity: of hosts that are shown whole.
	hasWhole := m.measure.HasLedger() && slices.Contains([]string{Fleet, Pool, Host}, subject)
	switch {
	case hasWhole && m.measure.IsLevel():
		return []Form{Parts, Stack, Bars, Table}
	case hasWhole:
		return []Form{Stack, Parts, Bars, Table}
	case m.measure.IsLevel():
		return []Form{Bars, Stack, Table}
	}
	return []Form{Stack, Bars, Table}
}
