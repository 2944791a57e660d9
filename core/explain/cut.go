package explain

import "slices"

// Cut leaves the busiest drives with what is on them, as many controllers, and the users that moved most of each; 0
// leaves all of a kind. What is left out is told by numbers.
func (d *Disks) Cut(drives, users int) {
	seen := 0
	end := slices.IndexFunc(d.Devices, func(x DeviceLine) bool {
		if x.Depth == 0 {
			seen++
		}
		return drives > 0 && seen > drives
	})
	if end >= 0 {
		d.Devices = d.Devices[:end]
	}
	if drives > 0 && len(d.Controllers) > drives {
		d.Controllers = d.Controllers[:drives]
	}
	for i := range d.Devices {
		x := &d.Devices[i]
		if users == 0 || len(x.Users) <= users {
			continue
		}
		for _, u := range x.Users[users:] {
			x.MoreUsers++
			x.MoreBytes += u.ReadRate + u.WriteRate
		}
		x.Users = x.Users[:users]
	}
	for i := range d.Controllers {
		c := &d.Controllers[i]
		if users > 0 && len(c.Users) > users {
			c.MoreUsers, c.Users = len(c.Users)-users, c.Users[:users]
		}
	}
}

// Cut leaves the interfaces of the hosts that moved most, of those within a host the busiest, and the workloads that
// moved most; 0 leaves all of a kind.
func (l *Links) Cut(hosts, within, workloads int) {
	l.InAll = LinkCounts{Workloads: len(l.Workloads), NotCounted: len(l.Missing), Interfaces: map[string]int{}}
	moved := map[string]float64{} // by host, over what leads off it
	for i := range l.Interfaces {
		x := &l.Interfaces[i]
		moved[x.Host] += 0
		if x.LeadsOff {
			moved[x.Host] += x.Received + x.Sent
		}
	}
	l.InAll.Hosts = len(moved)
	listed := make([]string, 0, len(moved))
	for host := range moved {
		listed = append(listed, host)
	}
	slices.SortFunc(listed, func(a, b string) int {
		if moved[a] != moved[b] {
			return map[bool]int{true: -1, false: 1}[moved[a] > moved[b]]
		}
		return map[bool]int{true: -1, false: 1}[a < b]
	})
	if hosts > 0 && len(listed) > hosts {
		listed = listed[:hosts]
	}
	there := map[string]bool{}
	for _, host := range listed {
		there[host] = true
	}
	inner := map[string]int{}
	l.Interfaces = slices.DeleteFunc(l.Interfaces, func(x LinkLine) bool {
		if !there[x.Host] {
			return true
		}
		if x.LeadsOff {
			l.InAll.Interfaces[x.Host]++
			return false
		}
		if within > 0 && x.Received+x.Sent == 0 {
			return true
		}
		l.InAll.Interfaces[x.Host]++
		inner[x.Host]++
		return within > 0 && inner[x.Host] > within
	})
	if workloads > 0 {
		l.Workloads = l.Workloads[:min(workloads, len(l.Workloads))]
		l.Missing = l.Missing[:min(workloads, len(l.Missing))]
	}
}

// Cut leaves out what is told of one GPU alone.
func (x *GPUs) Cut() {
	for i := range x.GPUs {
		x.GPUs[i].Figures = nil
	}
}
