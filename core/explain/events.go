package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Event is something that happened at a moment.
type Event struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" doc:"Words explain it."`
	Host   string    `json:"host" doc:"Empty for what is of no host."`
	ID     int64     `json:"workload_id" doc:"Of the workload that it is about; 0 for none."`
	Name   string    `json:"name" doc:"Of the workload, or of what was changed."`
	Of     string    `json:"workload_kind" doc:"Of what is no workload, what it is: drive, gpu, interface, service, …"`
	Owner  string    `json:"owner"`
	Tenant string    `json:"tenant" doc:"Whose it is; unassigned for nobody's, empty for what is no workload."`
	Who    string    `json:"who" doc:"Who changed it; empty for what nobody did."`
	Urgent bool      `json:"urgent" doc:"Somebody should look."`
	Text   string    `json:"text"`
}

// The kinds of events.
const (
	EventBegan     = "began"
	EventEnded     = "ended"
	EventFailed    = "failed"
	EventSignedIn  = "signed_in"
	EventSignedOut = "signed_out"
	EventKilled    = "killed"
	EventBooted    = "booted"
	EventSilent    = "silent"
	EventBack      = "back"
	EventChanged   = "changed"
	EventActed     = "acted" // something was done on a host by an act

	EventThrottled  = "throttled"
	EventMoved      = "moved"
	EventRestarted  = "restarted"
	EventStuck      = "stuck"
	EventDeviceCame = "device_came"
	EventDeviceGone = "device_gone"
)

// EventKinds lists the kinds of events.
func EventKinds() []string {
	return []string{EventBegan, EventEnded, EventFailed, EventSignedIn, EventSignedOut, EventKilled,
		EventThrottled, EventMoved, EventRestarted, EventStuck, EventDeviceCame, EventDeviceGone, EventBooted,
		EventSilent, EventBack, EventChanged, EventActed}
}

// Lived is a workload that began or ended in a span.
type Lived struct {
	account.Workload
	ID           int64
	Host, Tenant string
	Began        *time.Time // nil where it was there before its host was first read
	Ended        *time.Time // nil while it is there
	IsNewOrigin  bool       // of a sign-in: nobody of that name came from there before
}

// EventsOf tells when a workload began and how it ended, as far as that was within a span.
func EventsOf(w *Lived, from, to time.Time) []Event {
	about := Event{Host: w.Host, ID: w.ID, Name: w.Name, Of: w.Kind.String(), Owner: w.Owner, Tenant: w.Tenant}
	within := func(at *time.Time) bool { return at != nil && !at.Before(from) && at.Before(to) }
	var list []Event
	if within(w.Began) {
		e := about
		e.At, e.Kind, e.Text = *w.Began, EventBegan, "began"
		if w.Kind == amount.Session {
			e.Kind, e.Text = EventSignedIn, "signed in"
			if origin := w.Facts[account.FactOrigin]; origin != "" {
				e.Text += " from " + origin
				if w.IsNewOrigin {
					e.Text, e.Urgent = e.Text+", for the first time from there", true
				}
			}
		}
		list = append(list, e)
	}
	if within(w.Ended) {
		e := about
		e.At, e.Kind, e.Text = *w.Ended, EventEnded, "ended"
		exit := w.Facts[account.FactExit]
		switch {
		case w.Kind == amount.Session:
			e.Kind, e.Text = EventSignedOut, "signed out"
		case exit != "" && !endedWell(exit):
			e.Kind, e.Urgent, e.Text = EventFailed, true, "ended: "+exit
		case exit != "":
			e.Text += ": " + exit
		}
		list = append(list, e)
	}
	return list
}

// endedWell tells of an ending, as informants word it ("exit code 0 (success)"), whether somebody meant it: a code of 0
// with no reason that says otherwise, or that somebody cancelled it.
func endedWell(exit string) bool {
	code, reason, _ := strings.Cut(exit, " (")
	reason = strings.ToLower(strings.TrimSuffix(reason, ")"))
	return reason == "cancelled" || code == "exit code 0" &&
		slices.Contains([]string{"", "completed", "success"}, reason)
}

// KilledEvent tells that processes of a workload were ended for want of memory, in a step that begins at a moment.
func KilledEvent(at time.Time, host string, who UserRef, count float64) Event {
	n := int(count + 0.5)
	return Event{At: at, Kind: EventKilled, Host: host, ID: who.ID, Name: who.Name, Of: who.Kind, Owner: who.Owner,
		Tenant: who.Tenant, Urgent: true,
		Text: fmt.Sprintf("%d %s of it %s ended for want of memory", n, plural(n, "process", "processes"),
			plural(n, "was", "were"))}
}

// SilentEvents tell when a host told nothing, and when it was back within the span. Last is until when it has told.
func SilentEvents(p *UncoveredPart, from, to, last time.Time) []Event {
	var list []Event
	if p.From.After(from) {
		list = append(list, Event{At: p.From, Kind: EventSilent, Host: p.Host, Name: p.Host, Urgent: true,
			Text: "told nothing for " + Lasted(time.Duration(p.Seconds)*time.Second)})
	}
	if p.To.Before(to) && p.To.Before(last) {
		list = append(
			list,
			Event{At: p.To, Kind: EventBack, Host: p.Host, Name: p.Host, Text: "told of itself again"},
		)
	}
	return list
}

// BootedEvent tells that a host was booted.
func BootedEvent(at time.Time, host string) Event {
	return Event{At: at, Kind: EventBooted, Host: host, Name: host, Text: "was booted: its counters begin anew"}
}

// LimitInWords is a limit in its unit, as a sentence has it.
func LimitInWords(v float64, unit string) string {
	scales := map[string][]struct {
		per  float64
		name string
	}{
		"bytes":            {{1 << 40, "TiB"}, {1 << 30, "GiB"}, {1 << 20, "MiB"}, {1, "bytes"}},
		"bytes_per_second": {{1e9, "GB/s"}, {1e6, "MB/s"}, {1, "bytes/s"}},
		"count":            {{1, ""}},
		"kwh":              {{1, "kWh"}},
	}[unit]
	for _, x := range scales {
		if v >= x.per || x.per == 1 {
			return strings.TrimSpace(round(v/x.per) + " " + x.name)
		}
	}
	return round(v) + " " + strings.ReplaceAll(unit, "_", "-")
}

// SortEvents puts events in order, the newest first.
func SortEvents(list []Event) {
	slices.SortStableFunc(list, func(a, b Event) int {
		return cmp.Or(b.At.Compare(a.At), cmp.Compare(a.Host, b.Host), cmp.Compare(a.Kind, b.Kind),
			cmp.Compare(a.Name, b.Name))
	})
}
