package explain

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// Hurt is a workload that waited while a tenant was over its quota, on a host where that tenant used the same.
type Hurt struct {
	UserRef
	Host string `json:"host"`
	// Added over threads where that is counted for a CPU; else the time in which some thread waited.
	Waited float64 `json:"waited_seconds"`
	// Of the time in which its threads ran or wanted to, for a CPU; else of the time that was looked at.
	Part float64 `json:"part"`
}

// hurtMarks says from where on waiting is told as hurt.
var hurtMarks = struct{ CPU, Pressure, Seconds float64 }{0.1, 0.05, 1}

// WaitFor lists the measures that tell whether workloads waited for a resource, the more telling first; none where none
// does. The last is for how long some thread waited, the one before it for how long threads did, added up.
func WaitFor(resource string) []amount.Measure {
	return map[string][]amount.Measure{amount.CPU.String(): {amount.CPUWait, amount.CPUPressureSome},
		amount.Memory.String(): {amount.MemoryPressureSome}, amount.Disk.String(): {amount.DiskPressureSome}}[resource]
}

// hurtTold says how it is told.
func hurtTold(resource string) string {
	text := "workloads that waited for a CPU for a tenth of the time in which they ran or wanted to, or longer"
	switch resource {
	case amount.Memory.String():
		text = "workloads some of whose threads waited for memory for a twentieth of the time or longer"
	case amount.Disk.String():
		text = "workloads some of whose threads waited for storage for a twentieth of the time or longer"
	}
	return text + ", in the longest stretches in which the quota was exceeded"
}

// Waiting is what a workload did in a stretch of time, on its host: it used a resource, and waited for it.
type Waiting struct {
	Host    int32
	Used    float64 // of the resource, in account units
	Waited  float64 // microseconds
	IsStall bool    // some thread waited for so long, and not threads added up
	User
}

// Looked is a stretch in which a quota was exceeded, and what all workloads of its scope did in it.
type Looked struct {
	Stretched
	Rows []Waiting
}

// JudgeHurt tells who else waited while the quota was exceeded, on hosts where the tenant used the resource: rows are
// of the measures that WaitFor names, and hosts are named by number.
func (s *Stand) JudgeHurt(q *Quota, looked []Looked, hosts map[int32]string, names Names) {
	if len(WaitFor(q.Name)) == 0 || s.Exceeded == nil {
		return
	}
	s.HurtBy = hurtTold(q.Name)
	type victim struct {
		user User
		host int32
	}
	long := map[int32]float64{} // seconds looked at, by host
	waited, ran, isStall := map[victim]float64{}, map[victim]float64{}, map[victim]bool{}
	for _, l := range looked {
		used := map[int32]bool{}
		for _, r := range l.Rows {
			if r.Used > 0 && !used[r.Host] && slices.Contains(q.Tenants, r.Tenant) {
				used[r.Host] = true
				long[r.Host] += l.To.Sub(l.From).Seconds()
			}
		}
		for _, r := range l.Rows {
			if v := (victim{r.User, r.Host}); used[r.Host] && !slices.Contains(q.Tenants, r.Tenant) {
				waited[v] += r.Waited / 1e6
				ran[v] += r.Used / 1e6
				isStall[v] = isStall[v] || r.IsStall
			}
		}
	}
	for v, seconds := range waited {
		part, least := seconds/long[v.host], hurtMarks.Pressure
		switch {
		case !isStall[v]:
			part, least = seconds/(seconds+ran[v]), hurtMarks.CPU
		case q.Name == amount.CPU.String():
			least = hurtMarks.CPU
		}
		if seconds >= hurtMarks.Seconds && part >= least {
			s.Hurt = append(s.Hurt, Hurt{names(v.user), hosts[v.host], seconds, part})
		}
	}
	slices.SortFunc(s.Hurt, func(a, b Hurt) int {
		return cmp.Or(cmp.Compare(b.Waited, a.Waited), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID),
			cmp.Compare(a.Tenant, b.Tenant))
	})
}
