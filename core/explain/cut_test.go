package explain_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vinescale/core/explain"
)

func TestCut_LeavesTheBusiestDrivesWithWhatIsOnThemAndTellsTheRestByNumbers(t *testing.T) {
	user := func(id int64, rate float64) explain.DeviceUser {
		u := explain.DeviceUser{ReadRate: rate, WriteRate: rate}
		u.ID = id
		return u
	}
	disks := func() *explain.Disks {
		users := []explain.DeviceUser{user(1, 9), user(2, 5), user(3, 0.5)}
		return &explain.Disks{Drives: 3, Devices: []explain.DeviceLine{{Name: "a", Users: users},
			{Name: "a1", Depth: 1},
			{Name: "b"}, {Name: "b1", Depth: 1}, {Name: "c"}},
			Controllers: []explain.ControllerLine{{Controller: "x", Users: users}, {Controller: "y"},
				{Controller: "z"}}}
	}
	d := disks()
	d.Cut(2, 1)
	var names []string
	for _, x := range d.Devices {
		names = append(names, x.Name)
	}
	assert.Equal(t, []string{"a", "a1", "b", "b1"}, names)
	assert.Equal(t, 3, d.Drives)
	assert.Equal(t, []explain.DeviceUser{user(1, 9)}, d.Devices[0].Users)
	assert.Equal(t, 2, d.Devices[0].MoreUsers)
	assert.Equal(t, 11.0, d.Devices[0].MoreBytes)
	assert.Len(t, d.Controllers, 2)
	assert.Equal(t, 2, d.Controllers[0].MoreUsers)
	assert.Len(t, d.Controllers[0].Users, 1)
	whole, cut := disks(), disks()
	cut.Cut(0, 0)
	assert.Equal(t, whole, cut, "0 leaves all")
	cut.Cut(3, 3)
	assert.Equal(t, whole, cut, "as many as there are")
}

func TestCut_LeavesTheInterfacesOfTheHostsThatMovedMost(t *testing.T) {
	link := func(host, name string, leadsOff bool, received, sent float64) explain.LinkLine {
		return explain.LinkLine{Host: host, Name: name, LeadsOff: leadsOff, Received: received, Sent: sent}
	}
	links := func() *explain.Links {
		return &explain.Links{Interfaces: []explain.LinkLine{link("press-1", "ens1", true, 40, 40),
			link("cellar-1", "ens1", true, 30, 30), link("cellar-1", "ens2", true, 1, 30),
			link("terrace-1", "ens1", true, 5, 5), link("press-1", "veth1", false, 90, 0),
			link("cellar-1", "veth1", false, 60, 0), link("press-1", "veth2", false, 0, 9),
			link("terrace-1", "veth1", false, 8, 0), link("press-1", "veth3", false, 0, 0)},
			Workloads: make([]explain.LinkUser, 3), Missing: make([]explain.MissingLink, 4)}
	}
	called := func(l *explain.Links) (names []string) {
		for _, x := range l.Interfaces {
			names = append(names, x.Host+" "+x.Name)
		}
		return names
	}
	l := links()
	l.Cut(2, 1, 2)
	assert.Equal(t, []string{"press-1 ens1", "cellar-1 ens1", "cellar-1 ens2", "press-1 veth1", "cellar-1 veth1"},
		called(l), "cellar-1 moved most over both that lead off it")
	assert.Equal(t, explain.LinkCounts{Hosts: 3, Workloads: 3, NotCounted: 4,
		Interfaces: map[string]int{"press-1": 3, "cellar-1": 3}}, l.InAll, "one of press-1 moved nothing")
	assert.Len(t, l.Workloads, 2)
	assert.Len(t, l.Missing, 2)
	l = links()
	l.Cut(1, 0, 0)
	assert.Equal(t, []string{"cellar-1 ens1", "cellar-1 ens2", "cellar-1 veth1"}, called(l))
	l = links()
	l.Cut(0, 0, 0)
	assert.Equal(t, called(links()), called(l))
	assert.Equal(t, map[string]int{"press-1": 4, "cellar-1": 3, "terrace-1": 2}, l.InAll.Interfaces)
	assert.Len(t, l.Workloads, 3)
	assert.Len(t, l.Missing, 4)
}
