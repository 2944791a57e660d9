package explain

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/cpuset"
)

// Running is one process at its host's newest reading, with what it used over that reading.
type Running struct {
	Workload          int64
	PID, Parent       int32
	Program           string
	UID               int64
	Threads, Runnable int32
	LastCPU           int32
	CPUMicros         int64
	MemoryBytes       int64
	DiskBytes         int64 // -1 where it is not known
}

// Family is a process with all its descendants within a workload.
type Family struct {
	Head        Process   `json:"head"`
	Processes   int       `json:"processes"`
	Threads     int       `json:"threads"`
	Runnable    int       `json:"runnable_threads"`
	Cores       float64   `json:"cores"`
	MemoryBytes float64   `json:"memory_bytes"`
	CPUs        string    `json:"cpus" doc:"CPUs they last ran on."`
	Members     []Process `json:"members" doc:"Parents before children, the head first; at most 200."`
}

// Process is one process at its host's newest reading.
type Process struct {
	PID         int32    `json:"pid"`
	Parent      int32    `json:"parent"`
	Depth       int      `json:"depth" doc:"0 for the head of a family."`
	Program     string   `json:"program"`
	UID         int64    `json:"uid"`
	Threads     int32    `json:"threads"`
	Runnable    int32    `json:"runnable_threads"`
	CPU         int32    `json:"cpu" doc:"That it last ran on."`
	Cores       float64  `json:"cores"`
	MemoryBytes float64  `json:"memory_bytes"`
	DiskRate    *float64 `json:"disk_bytes_per_second"`
}

// mostMembers bounds how many members of a family are listed.
const mostMembers = 200

// Families puts processes under the topmost process above each, however deep: most CPU time first. Over is how long
// their use was read.
func Families(processes []Running, over time.Duration) []Family {
	byPID := map[int32]*Running{}
	children := map[int32][]*Running{}
	for i := range processes {
		byPID[processes[i].PID] = &processes[i]
	}
	out := []Family{}
	var heads []*Running
	for i := range processes {
		p := &processes[i]
		if byPID[p.Parent] == nil || p.Parent == p.PID {
			heads = append(heads, p)
		} else {
			children[p.Parent] = append(children[p.Parent], p)
		}
	}
	for _, head := range heads {
		var f Family
		var ran cpuset.Set
		var visit func(p *Running, depth int)
		visit = func(p *Running, depth int) {
			x := processOf(p, depth, over)
			f.Processes++
			f.Threads, f.Runnable = f.Threads+int(p.Threads), f.Runnable+int(p.Runnable)
			f.Cores, f.MemoryBytes = f.Cores+x.Cores, f.MemoryBytes+x.MemoryBytes
			ran = ran.Union(cpuset.Of(int(p.LastCPU)))
			if len(f.Members) < mostMembers {
				f.Members = append(f.Members, x)
			}
			for _, c := range children[p.PID] {
				visit(c, depth+1)
			}
		}
		visit(head, 0)
		f.Head, f.CPUs = f.Members[0], ran.String()
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b Family) int {
		return cmp.Or(cmp.Compare(b.Cores, a.Cores), cmp.Compare(b.MemoryBytes, a.MemoryBytes),
			cmp.Compare(a.Head.PID, b.Head.PID))
	})
	return out
}

func processOf(p *Running, depth int, over time.Duration) Process {
	x := Process{
		PID: p.PID, Parent: p.Parent, Depth: depth, Program: p.Program, UID: p.UID, Threads: p.Threads,
		Runnable: p.Runnable, CPU: p.LastCPU, MemoryBytes: float64(p.MemoryBytes),
	}
	if over > 0 {
		x.Cores = float64(p.CPUMicros) / float64(over.Microseconds())
		if p.DiskBytes >= 0 {
			rate := float64(p.DiskBytes) / over.Seconds()
			x.DiskRate = &rate
		}
	}
	return x
}
