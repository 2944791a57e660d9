package explain

import (
	"cmp"
	"slices"
)

// ControllerLine is what all drives behind one controller did together: where it is the bottleneck, none of them need
// be busy.
type ControllerLine struct {
	Host       string       `json:"host"`
	Controller string       `json:"controller" doc:"Address of its PCI function, or the name of another kind of bus."`
	Drives     []string     `json:"drives"`
	ReadRate   float64      `json:"read_bytes_per_second"`
	WriteRate  float64      `json:"written_bytes_per_second"`
	Reads      float64      `json:"reads_per_second"`
	Writes     float64      `json:"writes_per_second"`
	Queue      float64      `json:"queue_mean" doc:"Operations waiting or in flight on all of its drives, in the mean."`
	Users      []DeviceUser `json:"users" doc:"Who moved bytes through it, most first."`
	MoreUsers  int          `json:"more_users" doc:"Users that are not listed."`
	NoUsers    string       `json:"users_unavailable,omitempty" doc:"Why those of some of its drives are not known."`
}

// addUpControllers adds up drives by the controller they are attached to. Those whose host has not told it are left
// out.
func (d *Disks) addUpControllers() {
	type place struct{ host, controller string }
	by := map[place]*ControllerLine{}
	for i := range d.Devices {
		x := &d.Devices[i]
		if x.Kind != "drive" || x.Controller == "" {
			continue
		}
		k := place{x.Host, x.Controller}
		c := by[k]
		if c == nil {
			c = &ControllerLine{Host: x.Host, Controller: x.Controller, Users: []DeviceUser{}}
			by[k] = c
		}
		c.Drives = append(c.Drives, x.Name)
		c.ReadRate, c.WriteRate, c.Reads, c.Writes = c.ReadRate+x.ReadRate, c.WriteRate+x.WriteRate, c.Reads+x.Reads,
			c.Writes+x.Writes
		c.Queue, c.NoUsers = c.Queue+x.Queue, cmp.Or(c.NoUsers, x.NoUsers)
		for _, u := range x.Users {
			c.addUser(u)
		}
	}
	for _, c := range by {
		slices.Sort(c.Drives)
		for i := range c.Users {
			u := &c.Users[i]
			u.latency()
			if all := c.ReadRate + c.WriteRate; all > 0 {
				u.Share = min((u.ReadRate+u.WriteRate)/all, 1)
			}
		}
		slices.SortFunc(c.Users, byBytes)
		d.Controllers = append(d.Controllers, *c)
	}
	slices.SortFunc(d.Controllers, func(a, b ControllerLine) int {
		return cmp.Or(cmp.Compare(b.ReadRate+b.WriteRate, a.ReadRate+a.WriteRate), cmp.Compare(a.Host, b.Host),
			cmp.Compare(a.Controller, b.Controller))
	})
}

// addUser adds a drive's user to those of its controller.
func (c *ControllerLine) addUser(u DeviceUser) {
	for i := range c.Users {
		if x := &c.Users[i]; x.ID == u.ID && x.Tenant == u.Tenant {
			x.ReadRate, x.WriteRate, x.Reads, x.Writes = x.ReadRate+u.ReadRate, x.WriteRate+u.WriteRate,
				x.Reads+u.Reads, x.Writes+u.Writes
			x.source = x.source.Weaker(u.source)
			x.Source = x.source.String()
			if x.TimeMean != nil && u.TimeMean != nil {
				sum := *x.TimeMean + *u.TimeMean
				x.TimeMean = &sum
			} else {
				x.TimeMean = nil
			}
			return
		}
	}
	c.Users = append(c.Users, u)
}

// byBytes puts first who moved most.
func byBytes(a, b DeviceUser) int {
	return cmp.Or(cmp.Compare(b.ReadRate+b.WriteRate, a.ReadRate+a.WriteRate), cmp.Compare(a.Name, b.Name),
		cmp.Compare(a.ID, b.ID), cmp.Compare(a.Tenant, b.Tenant))
}
