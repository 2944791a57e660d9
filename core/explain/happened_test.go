package explain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/account"
	"vinescale/core/amount"
)

func inWords(list []Happening) []string {
	words := []string{}
	for _, x := range list {
		text := x.Kind + ": " + x.Text
		if x.Name != "" {
			text = x.Kind + " " + x.Of + " " + x.Name + ": " + x.Text
		}
		if x.Urgent {
			text += "!"
		}
		words = append(words, text)
	}
	return words
}

func TestHappened_AWorkloadIsToldOtherwise(t *testing.T) {
	type facts = map[string]string
	held := func(more facts) facts {
		all := facts{account.FactWeights: "100", account.FactState: "running"}
		for k, v := range more {
			all[k] = v
		}
		return all
	}
	for name, c := range map[string]struct {
		kind        amount.Kind
		wasOn, isOn string
		was, is     facts
		want        []string
	}{
		"nothing": {amount.Service, "0-3", "0-3", held(nil), held(nil), []string{}},
		"it may run elsewhere": {amount.Job, "0-3", "4-7", nil, nil,
			[]string{"moved: may run on CPUs 4-7 now, before on 0-3"}},
		"it is not known where it might":            {amount.Job, "", "4-7", nil, nil, []string{}},
		"loose work runs wherever its programs may": {amount.Loose, "0-3", "4-7", nil, nil, []string{}},
		"begun anew": {amount.Service, "", "", held(facts{account.FactRestarts: "2"}),
			held(facts{account.FactRestarts: "3"}), []string{"restarted: was begun anew: 3 in all"}},
		"begun anew for the first time": {amount.Service, "", "", held(nil), held(facts{account.FactRestarts: "2"}),
			[]string{"restarted: was begun anew 2 times: 2 in all"}},
		"its system was not asked before": {amount.Service, "", "", facts{},
			held(facts{account.FactRestarts: "2"}), []string{}},
		"its count began anew": {amount.Service, "", "", held(facts{account.FactRestarts: "9"}),
			held(facts{account.FactRestarts: "1"}), []string{}},
		"a lower limit": {amount.Container, "", "", held(facts{account.FactCPULimit: "4"}),
			held(facts{account.FactCPULimit: "1.5"}),
			[]string{"changed: its CPU limit became 1.5 cores, before 4 cores"}},
		"limits set and lifted": {amount.Container, "", "", held(facts{account.FactCPULimit: "4"}),
			held(facts{account.FactMemoryLimit: "2147483648"}),
			[]string{"changed: its CPU limit of 4 cores was lifted", "changed: a memory limit of 2 GiB was set"}},
		"limits that were not read before": {amount.Container, "", "", facts{},
			held(facts{account.FactCPULimit: "4"}), []string{}},
	} {
		was := &account.Workload{Kind: c.kind, Allowed: c.wasOn, Facts: c.was}
		is := &account.Workload{Kind: c.kind, Allowed: c.isOn, Facts: c.is}
		assert.Equal(t, c.want, inWords(WorkloadChanges(was, is, time.Time{})), name)
	}
}

func TestHappened_AHostIsMadeOtherwise(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	inventory := func(change func(*account.Inventory)) *Made {
		inv := &account.Inventory{Devices: []account.Device{
			{Name: "sda", Kind: "drive", SizeBytes: 4 << 40, Model: "Cooper HD 8"},
			{Name: "sda1", Kind: "partition"}, {Name: "loop3", Kind: "loop"}},
			Filesystems: []account.Filesystem{{Mount: "/srv", Device: "sda1"}, {Mount: "/snap", Device: "loop3"}},
			GPUs:        []account.GPUSheet{{Index: 1, Name: "GPU-b", Title: "Cooper G"}},
			Machine: &account.Machine{Failed: []string{"press.service"},
				Links: []account.MachineLink{{Name: "eth0"}, {Name: "veth7", Virtual: true}}}}
		change(inv)
		return MadeBy(inv)
	}
	was := inventory(func(*account.Inventory) {})
	changes := func(change func(*account.Inventory)) []string {
		return inWords(MadeChanges(was, inventory(change), noon))
	}
	assert.Empty(t, changes(func(*account.Inventory) {}))
	assert.Empty(t, changes(func(inv *account.Inventory) {
		inv.Devices, inv.Filesystems = inv.Devices[:2], inv.Filesystems[:1]
		inv.Machine.Links = inv.Machine.Links[:1]
	}), "what containers bring along comes and goes with them")
	assert.Equal(t, []string{"device_gone drive sda: is gone from the host: 4 TiB Cooper HD 8!",
		"device_gone gpu GPU 1 (GPU-b): is gone from the host: Cooper G!",
		"changed filesystem /srv: is not mounted any more: sda1",
		"changed cpu CPUs: CPUs 4-7 are out of use!",
		"device_gone interface eth0: is gone from the host!",
		"back service press.service: the unit is no longer failed"},
		changes(func(inv *account.Inventory) { *inv = account.Inventory{Offline: "4-7", Machine: &account.Machine{}} }))
	assert.Equal(
		t,
		[]string{"device_gone gpu GPU 1 (GPU-b): is gone from the host: Cooper G!"},
		changes(
			func(inv *account.Inventory) { inv.GPUs[0].State = account.GPULost },
		),
		"one that does not answer is gone",
	)
	stuck := account.Unit{Name: "vat.service", State: "stopping", Since: noon.Add(-5 * time.Minute)}
	assert.Equal(t, []string{"failed service lees.mount: the unit failed!",
		"stuck service vat.service: the unit is stopping, for 5 min!"}, changes(func(inv *account.Inventory) {
		inv.Machine.Failed = append(inv.Machine.Failed, "lees.mount")
		inv.Machine.Stuck = []account.Unit{stuck}
	}))
	assert.Empty(
		t,
		changes(func(inv *account.Inventory) { inv.Machine.Failed, inv.Machine.NoFailed = nil, "no answer" }),
		"whose units are not known, nobody knows whether they are in order",
	)
	assert.Empty(t, changes(func(inv *account.Inventory) { inv.Machine = nil }), "of an older collector")
	then := inventory(func(inv *account.Inventory) { inv.Machine.Stuck = []account.Unit{stuck} })
	assert.Equal(t, []string{"back service vat.service: the unit is not stopping any more: it was for 7 min"},
		inWords(MadeChanges(then, was, noon.Add(2*time.Minute))))
	bare := inventory(func(inv *account.Inventory) { inv.Devices = nil })
	assert.Equal(t, []string{"device_came drive sda: came to the host: 4 TiB Cooper HD 8",
		"changed filesystem /srv: is mounted: sda1"},
		inWords(MadeChanges(bare, was, noon)))
}

func TestHappened_BeingHeldBackIsOneEventForAsLongAsItLasts(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(minute int, millis float64) HeldBack {
		return HeldBack{noon.Add(time.Duration(minute) * time.Minute), millis * 1000}
	}
	tell := func(steps ...HeldBack) (list []string) {
		for _, e := range ThrottledEvents(Event{Name: "must"}, steps, time.Minute, noon) {
			text := e.At.Format("15:04:05 ") + e.Kind + " " + e.Name + ": " + e.Text
			if e.Urgent {
				text += "!"
			}
			list = append(list, text)
		}
		return list
	}
	assert.Empty(t, tell())
	assert.Empty(t, tell(at(1, 599)), "less than a hundredth of the time")
	assert.Equal(t, []string{"12:01:00 throttled must: its CPU limit held it back for 0.6 CPU-seconds within 1 min"},
		tell(at(1, 600)))
	assert.Equal(t, []string{
		"12:01:00 throttled must: its CPU limit held it back for 30 CPU-seconds within 2 min!",
		"12:04:00 throttled must: its CPU limit held it back for 14.9 CPU-seconds within 1 min"},
		tell(at(4, 14_900), at(2, 10_000), at(1, 20_000), at(3, 0)))
	assert.Equal(t, []string{"12:00:00 throttled must: its CPU limit held it back for 9 CPU-seconds within 30 s!"},
		tell(HeldBack{noon.Add(-30 * time.Second), 9e6})[:1], "not before the span")
}

func TestHappened_WhatEndedThereAndBeganHereMoved(t *testing.T) {
	noon := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	at := func(seconds int) *time.Time { x := noon.Add(time.Duration(seconds) * time.Second); return &x }
	of := func(kind amount.Kind, name, owner string) account.Workload {
		return account.Workload{Kind: kind, Name: name, Owner: owner}
	}
	vm := of(amount.VM, "cask", "svc")
	move := func(was, is Lived) (list []string) {
		for _, e := range MovedEvents([]Lived{is, was}, noon, noon.Add(time.Hour)) {
			list = append(list, e.Host+" "+e.Text)
		}
		return list
	}
	there := Lived{Workload: vm, Host: "press-1", Ended: at(60)}
	for name, c := range map[string]struct {
		is    Lived
		moved bool
	}{
		"just after":     {Lived{Workload: vm, Host: "press-2", Began: at(70)}, true},
		"just before":    {Lived{Workload: vm, Host: "press-2", Began: at(50)}, true},
		"in time":        {Lived{Workload: vm, Host: "press-2", Began: at(360)}, true},
		"too late":       {Lived{Workload: vm, Host: "press-2", Began: at(361)}, false},
		"on one host":    {Lived{Workload: vm, Host: "press-1", Began: at(70)}, false},
		"there anyway":   {Lived{Workload: vm, Host: "press-2"}, false},
		"before":         {Lived{Workload: vm, Host: "press-2", Began: at(-1)}, false},
		"another name":   {Lived{Workload: of(amount.VM, "vat", "svc"), Host: "press-2", Began: at(70)}, false},
		"of somebody":    {Lived{Workload: of(amount.VM, "cask", "l"), Host: "press-2", Began: at(70)}, false},
		"another kind":   {Lived{Workload: of(amount.Job, "cask", "svc"), Host: "press-2", Began: at(70)}, false},
		"still there":    {Lived{Workload: vm, Host: "press-2", Began: at(70), Ended: at(80)}, true},
		"is at the edge": {Lived{Workload: vm, Host: "press-2", Began: at(0)}, true},
	} {
		want := []string(nil)
		if c.moved {
			want = []string{"press-2 came from press-1"}
		}
		assert.Equal(t, want, move(there, c.is), name)
	}
	service := account.Workload{Kind: amount.Service, Name: "ssh"}
	assert.Empty(t, move(Lived{Workload: service, Host: "press-1", Ended: at(60)},
		Lived{Workload: service, Host: "press-2", Began: at(61)}), "every host has a service of this name")
}
