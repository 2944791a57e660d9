package account

import "time"

// MostBridged is how long a collector may have been away for what was used meanwhile to be told as one interval.
const MostBridged = 24 * time.Hour

// Bridge returns what was used on a host while no collector read it: by how much the host's own counters grew from a
// base, which is the last reading of a collector that ended, to the first reading of the next. The interval says so by
// the caveat Unwatched, whose amount is its length.
//
// What a collector counts by itself began anew with it, so it is left out; what the host adds up for processes stands
// in its place, with the source "summed". A cgroup that was made meanwhile is told by its processes. Levels, such as
// memory, are those of the end. Neither reading is changed, and base needs nothing but what Lasting keeps.
//
// The error is one of those of Tracker.Step: where the host started anew, nothing is known of the time between.
func Bridge(base, now *Reading) (*Interval, error) {
	from := base.Lasting()
	to := now.Lasting()
	from.Mono = now.Mono - (now.Uptime - base.Uptime) // each collector has a monotonic clock of its own
	for i := range from.Processes {
		from.Processes[i].Workload = Unrecognised // and numbers its workloads by itself
	}
	to.keepGroups(func(g *Group) bool {
		for i := range from.Groups {
			if from.Groups[i].ID == g.ID {
				return true
			}
		}
		return false
	})
	var t Tracker
	if _, err := t.Step(from); err != ErrFirstReading {
		return nil, err
	}
	iv, err := t.Step(to)
	if err != nil {
		return nil, err
	}
	iv.Detail.Caveats[Unwatched] = iv.ElapsedMillis
	return iv, nil
}

// Lasting returns what of a reading a later collector can compare with its own: what the host counts. Slices that
// nothing is left out of are shared with r.
func (r *Reading) Lasting() *Reading {
	l := *r
	l.RanMicros, l.IdleTaskMicros, l.NoGroup, l.KernelIO, l.Latencies, l.Threads = nil, nil, nil, nil, nil, nil
	l.SplitsDisk = false
	l.Caveats = [NumCaveats]int64{}
	l.Processes = append([]Process(nil), r.Processes...)
	for i := range l.Processes {
		l.Processes[i].Grouped = false
		l.Processes[i].LastCPU = -1 // where else it ran is not known
	}
	l.Namespaces = append([]Namespace(nil), r.Namespaces...)
	for i := range l.Namespaces {
		l.Namespaces[i].Born = false
	}
	l.keepGPUs()
	l.Groups = append([]Group(nil), r.Groups...)
	l.keepGroups(func(g *Group) bool {
		g.Has &^= g.Own
		g.Born = false
		return g.Has != 0
	})
	return &l
}

// keepGPUs leaves out what a collector counts by itself of GPUs. How busy one was of late says nothing of a long time,
// so only what its clients had of it is known.
func (r *Reading) keepGPUs() {
	gpus, clients := r.GPUs, r.GPUClients
	r.GPUs, r.GPUClients, r.GPUGrants = append([]GPU(nil), gpus...), nil, nil
	for i := range r.GPUs {
		if g := &r.GPUs[i]; g.Own || g.By == BusyUntold {
			g.By = BusyUntold
		} else {
			g.By = BusyByClients
		}
	}
	for _, c := range clients {
		if !gpus[c.GPU].Own {
			c.Born = false
			r.GPUClients = append(r.GPUClients, c)
		}
	}
}

// keepGroups leaves out groups. Their processes are given up by the group around them, which counts them too.
func (r *Reading) keepGroups(keep func(*Group) bool) {
	const gone = -1
	place := make([]int32, len(r.Groups)) // where each is now, or the nearest one around it that is kept
	within := map[WorkloadID]WorkloadID{} // workloads that are told by their processes, and whose group counts those
	kept := map[WorkloadID]bool{}
	var groups []Group
	for i := range r.Groups {
		g := r.Groups[i]
		around := int32(gone)
		if g.Outer >= 0 {
			around = place[g.Outer]
		}
		if g.Outer = around; keep(&g) {
			place[i], kept[g.Workload] = int32(len(groups)), true
			groups = append(groups, g)
			continue
		}
		if place[i] = around; around != gone {
			within[g.Workload] = groups[around].Workload
		}
	}
	r.Groups = groups
	for i := range r.Processes {
		p := &r.Processes[i]
		if outer, found := within[p.Workload]; found && !kept[p.Workload] && !p.Inside {
			p.Within, p.Inside = outer, true
		}
	}
}
