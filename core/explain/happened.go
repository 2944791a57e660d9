package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Happening is what the newest news of a host or a workload show beside those before: what nothing tells of later, so
// that it is written down when it is seen.
type Happening struct {
	At     time.Time
	Kind   string // one of EventKinds
	Name   string // of what it is about, where that is no workload
	Of     string // what that is, such as drive or service
	Text   string
	Urgent bool
}

// StuckAfter is for how long something may be between two states before it is said to be stuck there.
const StuckAfter = 2 * time.Minute

// WorkloadChanges tells what is to be known of a workload that is told otherwise than before.
func WorkloadChanges(was, is *account.Workload, at time.Time) (list []Happening) {
	add := func(kind, text string, a ...any) {
		list = append(list, Happening{At: at, Kind: kind, Text: fmt.Sprintf(text, a...)})
	}
	// The CPUs of loose work are those of whichever of its programs run.
	if is.Kind != amount.Loose && was.Allowed != is.Allowed && was.Allowed != "" && is.Allowed != "" {
		add(EventMoved, "may run on CPUs %s now, before on %s", is.Allowed, was.Allowed)
	}
	both := func(fact string) bool { return was.Facts[fact] != "" && is.Facts[fact] != "" }
	before, _ := strconv.Atoi(was.Facts[account.FactRestarts])
	now, _ := strconv.Atoi(is.Facts[account.FactRestarts])
	if both(account.FactState) && now > before { // else nobody may have been asked before
		add(EventRestarted, "was begun anew%s: %d in all", times(now-before), now)
	}
	if !both(account.FactWeights) { // which are read with limits
		return list
	}
	for _, limit := range []struct{ fact, name, unit string }{{account.FactCPULimit, "CPU limit", "cores"},
		{account.FactMemoryLimit, "memory limit", "bytes"}} {
		before, now := limitOf(was, limit.fact), limitOf(is, limit.fact)
		switch {
		case before == now:
		case now == 0:
			add(EventChanged, "its %s of %s was lifted", limit.name, LimitInWords(before, limit.unit))
		case before == 0:
			add(EventChanged, "a %s of %s was set", limit.name, LimitInWords(now, limit.unit))
		default:
			add(EventChanged, "its %s became %s, before %s", limit.name, LimitInWords(now, limit.unit),
				LimitInWords(before, limit.unit))
		}
	}
	return list
}

func limitOf(w *account.Workload, fact string) float64 {
	v, err := strconv.ParseFloat(w.Facts[fact], 64)
	if err != nil {
		return 0
	}
	return v
}

func times(n int) string {
	if n == 1 {
		return ""
	}
	return fmt.Sprintf(" %d times", n)
}

// CameBack tells that a workload runs again that was not there for a while; nothing of kinds that come and go anyway.
func CameBack(kind amount.Kind, at time.Time, away time.Duration) (Happening, bool) {
	if kind == amount.Loose || kind == amount.Session || kind == amount.Kernel {
		return Happening{}, false
	}
	return Happening{At: at, Kind: EventRestarted, Text: "runs again: it was not there for " + lasted(away)}, true
}

// Made is what a host is made of, as far as it is an event when that changes.
type Made struct {
	Devices []MadeOf     `json:"devices"`
	Mounts  []MadeOf     `json:"mounts"`
	GPUs    []MadeOf     `json:"gpus"`
	Offline string       `json:"offline,omitempty"`
	Machine *MadeMachine `json:"machine,omitempty"` // nil where its collector does not tell
}

// MadeOf is one part of a host: its name, and what is said of it.
type MadeOf struct {
	Name string `json:"name"`
	Text string `json:"text,omitempty"`
}

// MadeMachine is what a host's machine is made of, and how its units are.
type MadeMachine struct {
	Links  []MadeOf       `json:"links"`
	Failed []string       `json:"failed"`
	Stuck  []account.Unit `json:"stuck"`
	Blind  bool           `json:"blind,omitempty"` // units are not known
}

// MadeBy is what a host is made of by its inventory.
func MadeBy(inv *account.Inventory) *Made {
	m := &Made{Devices: []MadeOf{}, Mounts: []MadeOf{}, GPUs: []MadeOf{}, Offline: inv.Offline}
	stays := map[string]bool{}
	for i := range inv.Devices {
		d := &inv.Devices[i]
		stays[d.Name] = d.Kind == "drive" || d.Kind == "partition" || d.Kind == "volume"
		if d.Kind == "drive" {
			m.Devices = append(m.Devices, MadeOf{d.Name, strings.TrimSpace(LimitInWords(float64(d.SizeBytes), "bytes") +
				" " + d.Model)})
		}
	}
	for _, f := range inv.Filesystems {
		if stays[f.Device] { // what containers bring along comes and goes with them
			m.Mounts = append(m.Mounts, MadeOf{f.Mount, f.Device})
		}
	}
	for i := range inv.GPUs {
		g := &inv.GPUs[i]
		if g.State == account.GPULost { // its driver lists it still
			continue
		}
		m.GPUs = append(m.GPUs, MadeOf{fmt.Sprintf("GPU %d (%s)", g.Index, g.Name), g.Title})
	}
	if inv.Machine != nil {
		x := &MadeMachine{Links: []MadeOf{}, Failed: append([]string{}, inv.Machine.Failed...),
			Stuck: append([]account.Unit{}, inv.Machine.Stuck...), Blind: inv.Machine.NoFailed != ""}
		for _, l := range inv.Machine.Links {
			if !l.Virtual {
				x.Links = append(x.Links, MadeOf{Name: l.Name})
			}
		}
		m.Machine = x
	}
	for _, list := range [][]MadeOf{m.Devices, m.Mounts, m.GPUs} {
		slices.SortFunc(list, func(a, b MadeOf) int { return cmp.Compare(a.Name, b.Name) })
	}
	return m
}

// MadeChanges tells in what a host is made otherwise than before.
func MadeChanges(was, is *Made, at time.Time) (list []Happening) {
	parts := func(was, is []MadeOf, of string, came, gone string, kinds [2]string, urgent bool) {
		for _, x := range is {
			if !slices.ContainsFunc(was, func(y MadeOf) bool { return y.Name == x.Name }) {
				list = append(list, Happening{At: at, Kind: kinds[0], Name: x.Name, Of: of, Text: with(came, x.Text)})
			}
		}
		for _, x := range was {
			if !slices.ContainsFunc(is, func(y MadeOf) bool { return y.Name == x.Name }) {
				list = append(list, Happening{At: at, Kind: kinds[1], Name: x.Name, Of: of, Text: with(gone, x.Text),
					Urgent: urgent})
			}
		}
	}
	device := [2]string{EventDeviceCame, EventDeviceGone}
	parts(was.Devices, is.Devices, "drive", "came to the host", "is gone from the host", device, true)
	parts(was.GPUs, is.GPUs, "gpu", "came to the host", "is gone from the host", device, true)
	parts(was.Mounts, is.Mounts, "filesystem", "is mounted", "is not mounted any more",
		[2]string{EventChanged, EventChanged}, false)
	if was.Offline != is.Offline {
		text := "all CPUs are in use again"
		if is.Offline != "" {
			text = "CPUs " + is.Offline + " are out of use"
		}
		list = append(list, Happening{At: at, Kind: EventChanged, Name: "CPUs", Of: "cpu", Text: text,
			Urgent: is.Offline != ""})
	}
	if was.Machine == nil || is.Machine == nil {
		return list
	}
	parts(was.Machine.Links, is.Machine.Links, "interface", "came to the host", "is gone from the host", device, true)
	if was.Machine.Blind || is.Machine.Blind {
		return list
	}
	return append(list, unitChanges(was.Machine, is.Machine, at)...)
}

func with(text, more string) string {
	if more == "" {
		return text
	}
	return text + ": " + more
}

// lasted is Lasted of what may be short.
func lasted(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return Lasted(d)
}

// unitChanges tells which units failed, were stuck, and are in order again.
func unitChanges(was, is *MadeMachine, at time.Time) (list []Happening) {
	for _, u := range is.Failed {
		if !slices.Contains(was.Failed, u) {
			list = append(list, Happening{At: at, Kind: EventFailed, Name: u, Of: "service", Text: "the unit failed",
				Urgent: true})
		}
	}
	for _, u := range was.Failed {
		if !slices.Contains(is.Failed, u) {
			list = append(list, Happening{At: at, Kind: EventBack, Name: u, Of: "service",
				Text: "the unit is no longer failed"})
		}
	}
	for _, u := range is.Stuck {
		if !slices.Contains(was.Stuck, u) {
			list = append(list, Happening{At: at, Kind: EventStuck, Name: u.Name, Of: "service", Urgent: true,
				Text: fmt.Sprintf("the unit is %s, for %s", u.State, Lasted(at.Sub(u.Since)))})
		}
	}
	for _, u := range was.Stuck {
		if !slices.Contains(is.Stuck, u) {
			list = append(list, Happening{At: at, Kind: EventBack, Name: u.Name, Of: "service",
				Text: fmt.Sprintf("the unit is not %s any more: it was for %s", u.State, Lasted(at.Sub(u.Since)))})
		}
	}
	return list
}

// HeldBack is for how long a workload's limit held it back in a step of a span.
type HeldBack struct {
	Start  time.Time
	Micros float64
}

// heldBack is from which part of a step on being held back is an event, and longHeld from which on somebody should
// look.
const (
	heldBack = 0.01
	longHeld = 0.25
)

// LeastHeld is for how many microseconds a CPU limit must hold a workload back in a step, for that to be told.
func LeastHeld(step time.Duration) float64 { return heldBack * float64(step.Microseconds()) }

// ThrottledEvents tell when the CPU limit of a workload held it back: one event for all steps that follow each other.
// Its time is added over CPUs.
func ThrottledEvents(about Event, steps []HeldBack, step time.Duration, from time.Time) (list []Event) {
	slices.SortFunc(steps, func(a, b HeldBack) int { return a.Start.Compare(b.Start) })
	micros, until := 0.0, time.Time{}
	flush := func() {
		if len(list) == 0 || until.IsZero() {
			return
		}
		e := &list[len(list)-1]
		length := until.Sub(e.At)
		lost := micros / 1e6
		e.Urgent = lost >= longHeld*length.Seconds()
		e.Text = fmt.Sprintf("its CPU limit held it back for %s within %s", seconds(lost), lasted(length))
	}
	for _, s := range steps {
		if s.Micros < LeastHeld(step) {
			continue
		}
		if until.IsZero() || s.Start.After(until) {
			flush()
			e := about
			e.Kind, e.At = EventThrottled, s.Start
			if e.At.Before(from) {
				e.At = from
			}
			list, micros = append(list, e), 0
		}
		micros, until = micros+s.Micros, s.Start.Add(step)
	}
	flush()
	return list
}

// movedWithin is how far apart the end of a workload on one host and its begin on another may be.
const movedWithin = 5 * time.Minute

// MovedEvents tell which workloads that began were on another host just before: those of the same kind, name and owner,
// of kinds that systems move between hosts.
func MovedEvents(all []Lived, from, to time.Time) (list []Event) {
	type who struct {
		kind        amount.Kind
		name, owner string
	}
	ended := map[who][]*Lived{}
	for i := range all {
		if w := &all[i]; w.Ended != nil && w.Kind.Moves() {
			k := who{w.Kind, w.Name, w.Owner}
			ended[k] = append(ended[k], w)
		}
	}
	for i := range all {
		w := &all[i]
		if w.Began == nil || w.Began.Before(from) || !w.Began.Before(to) || !w.Kind.Moves() {
			continue
		}
		for _, was := range ended[who{w.Kind, w.Name, w.Owner}] {
			if apart := was.Ended.Sub(*w.Began).Abs(); was.Host != w.Host && apart <= movedWithin {
				list = append(list, Event{At: *w.Began, Kind: EventMoved, Host: w.Host, ID: w.ID, Name: w.Name,
					Of: w.Kind.String(), Owner: w.Owner, Tenant: w.Tenant, Text: "came from " + was.Host})
				break
			}
		}
	}
	return list
}
