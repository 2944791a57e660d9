package explain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/account"
	"vinescale/core/amount"
)

func TestEvents_HowThingsBeganAndEnded(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(minutes int) *time.Time { x := noon.Add(time.Duration(minutes) * time.Minute); return &x }
	type facts = map[string]string
	exited := func(how string) account.Workload {
		return account.Workload{Facts: facts{account.FactExit: how}}
	}
	for name, c := range map[string]struct {
		lived Lived
		want  [][2]string
		looks bool
	}{
		"there before and after": {Lived{}, nil, false},
		"began on the edge, ended after the span": {Lived{Began: at(0), Ended: at(60)},
			[][2]string{{EventBegan, "began"}}, false},
		"ended on the edge": {Lived{Began: at(-5), Ended: at(0)}, [][2]string{{EventEnded, "ended"}}, false},
		"both": {Lived{Began: at(1), Ended: at(2), Workload: exited("exit code 0")},
			[][2]string{{EventBegan, "began"}, {EventEnded, "ended: exit code 0"}}, false},
		"failed": {Lived{Ended: at(2), Workload: exited("exit code 3 (failed)")},
			[][2]string{{EventFailed, "ended: exit code 3 (failed)"}}, true},
		"a sign-in from a new place": {Lived{Began: at(1), Ended: at(2), IsNewOrigin: true, Workload: account.Workload{
			Kind: amount.Session, Facts: facts{account.FactOrigin: "10.9.8.7"}}},
			[][2]string{{EventSignedIn, "signed in from 10.9.8.7, for the first time from there"},
				{EventSignedOut, "signed out"}}, true},
		"a sign-in at the console": {Lived{Began: at(1), IsNewOrigin: false, Workload: account.Workload{
			Kind: amount.Session}}, [][2]string{{EventSignedIn, "signed in"}}, false},
	} {
		var got [][2]string
		looks := false
		for _, e := range EventsOf(&c.lived, noon, *at(60)) {
			got = append(got, [2]string{e.Kind, e.Text})
			looks = looks || e.Urgent
		}
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.looks, looks, name)
	}
}

func TestEvents_AnEndingIsAsItsSystemWordsIt(t *testing.T) {
	for exit, isWell := range map[string]bool{
		"exit code 0": true, "exit code 0 (Completed)": true, "exit code 0 (success)": true,
		"exit code 0 (completed)": true, "exit code 0 (cancelled)": true, "exit code 143 (cancelled)": true,
		"exit code 0 (timeout)": false, "exit code 137 (OOMKilled)": false, "exit code 3": false,
		"exit code 1 (success)": false,
	} {
		assert.Equal(t, isWell, endedWell(exit), exit)
	}
}

func TestEvents_OfHosts(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	part := UncoveredPart{Host: "press-1", From: noon, To: noon.Add(10 * time.Minute), Seconds: 600}
	kinds := func(from, to time.Time) (list []string) {
		for _, e := range SilentEvents(&part, from, to, noon.Add(2*time.Hour)) {
			list = append(list, e.Kind+" "+e.Text)
		}
		return list
	}
	assert.Equal(t, []string{"silent told nothing for 10 min", "back told of itself again"},
		kinds(noon.Add(-time.Hour), noon.Add(time.Hour)))
	assert.Empty(
		t,
		kinds(noon, noon.Add(10*time.Minute)),
		"what is silent throughout neither fell silent nor is back",
	)
	still := SilentEvents(&part, noon.Add(-time.Hour), noon.Add(time.Hour), noon)
	assert.Len(t, still, 1, "it is not back")
	one := KilledEvent(noon, "press-1", UserRef{Tenant: "Leaf Vision"}, 1)
	assert.Equal(t, "1 process of it was ended for want of memory", one.Text)
	list := []Event{{At: noon, Host: "b"}, {At: noon.Add(time.Minute)}, {At: noon, Host: "a"}}
	SortEvents(list)
	assert.Equal(t, []string{"", "a", "b"}, []string{list[0].Host, list[1].Host, list[2].Host})
	for want, of := range map[string]struct {
		v    float64
		unit string
	}{"12 GiB": {12 << 30, "bytes"}, "900 MB/s": {9e8, "bytes_per_second"}, "40": {40, "count"}, "40 kWh": {40, "kwh"},
		"6.5 cores": {6.5, "cores"}, "5452 core-hours": {5452, "core_hours"}, "512 bytes": {512, "bytes"}} {
		assert.Equal(t, want, LimitInWords(of.v, of.unit))
	}
}
