package account

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/amount"
)

// GPUSheet is what one GPU, or a partition of one, told of itself when it was last looked at.
type GPUSheet struct {
	Name   string   `json:"name" doc:"What stays the same: its uuid where it has one, else its bus address."`
	Index  int32    `json:"index" doc:"The host's own number of it; of a partition, its number on its card."`
	Card   string   `json:"card,omitempty" doc:"Of a partition: the name of the GPU that it is a part of."`
	Title  string   `json:"title" doc:"Its model; empty where it is not told."`
	UUID   string   `json:"uuid,omitempty"`
	Bus    string   `json:"bus,omitempty" doc:"Its address on the bus."`
	Nodes  []string `json:"nodes" doc:"The files by which programs open it."`
	Driver string   `json:"driver,omitempty" doc:"The driver, with its version where that is told."`
	Told   string   `json:"told_by" doc:"What tells of it: the kernel, or a vendor's library."`

	State  string     `json:"state" enum:"busy,idle,lost,unknown"`
	Why    string     `json:"why,omitempty" doc:"Why it is lost, or why its state is not known."`
	Since  *time.Time `json:"idle_since,omitempty" doc:"Since when it has had no work, as far as it was watched."`
	Busy   *float64   `json:"busy" doc:"Part of the last interval in which its engine had work; null where not told."`
	NoBusy string     `json:"busy_unavailable,omitempty" doc:"Why that is not told."`

	MemoryBytes *int64 `json:"memory_bytes" doc:"That it has; null where it is not told."`
	MemoryUsed  *int64 `json:"memory_used_bytes"`
	NoMemory    string `json:"memory_unavailable,omitempty"`

	NoUsers string      `json:"users_unavailable,omitempty" doc:"Why it is not told who uses it."`
	Users   []GPUUser   `json:"users" doc:"Who used it in the last interval, or has its memory."`
	Holders []GPUHolder `json:"holders" doc:"Whom it was given to."`

	Wrong   []string    `json:"wrong" doc:"What is wrong with it, in words."`
	Figures []GPUFigure `json:"figures" doc:"All that it tells, section by section."`
}

// GPUUser is a workload that uses a GPU.
type GPUUser struct {
	Key    string   `json:"key" doc:"The workload's key on its host; empty for processes that are none's."`
	PIDs   []int32  `json:"pids"`
	Busy   *float64 `json:"busy" doc:"Part of the last interval in which the engine worked for it."`
	Memory *int64   `json:"memory_bytes"`
	Kinds  []string `json:"kinds" doc:"What its processes use: engines, or what a library calls their contexts."`
}

// GPUHolder is a workload that a GPU was given to.
type GPUHolder struct {
	Key    string `json:"key"`
	Number int    `json:"number_inside" doc:"Its number among the workload's GPUs: inside a job, they begin at 0."`
	By     string `json:"by" doc:"What says so."`
	Claim  bool   `json:"claim,omitempty" doc:"Only the workload's own environment says so."`
}

// GPUFigure is one figure or fact of a GPU.
type GPUFigure struct {
	Section string   `json:"section" enum:"device,use,memory,power,temperature,clocks,errors,mode,link"`
	Name    string   `json:"name"`
	Unit    string   `json:"unit,omitempty"`
	Value   *float64 `json:"value,omitempty"`
	Text    string   `json:"text,omitempty" doc:"What is no number."`
	Why     string   `json:"unavailable,omitempty" doc:"Why there is neither."`
}

// The states of a GPU.
const (
	GPUBusyNow = "busy"
	GPUIdle    = "idle"
	GPULost    = "lost"
	GPUUnknown = "unknown"
)

// GPUSections are the sections of a GPU's figures, in the order they are shown.
var GPUSections = []string{"device", "use", "memory", "power", "temperature", "clocks", "errors", "mode", "link"}

// gpuWork is from which part of the time on a GPU counts as busy.
const gpuWork = 0.01

// SheetsOf makes empty sheets of the GPUs of an interval.
func SheetsOf(iv *Interval) []GPUSheet {
	sheets := make([]GPUSheet, len(iv.Detail.GPUs))
	for i := range sheets {
		sheets[i].Name = iv.Detail.GPUs[i].Name
	}
	return sheets
}

// TellGPUs says on the sheets of GPUs what they did in an interval, for whom, and who holds them, as of the reading
// that the interval ends with. Idle holds since when each GPU has had no work; it is brought up to date.
func (inv *Inventory) TellGPUs(iv *Interval, r *Reading, d func(WorkloadID) Workload, idle map[string]time.Time) {
	for i := range inv.GPUs {
		s := &inv.GPUs[i]
		k := slices.IndexFunc(r.GPUs, func(g GPU) bool { return g.Name == s.Name })
		if k < 0 || s.State == GPULost {
			s.State = cmp.Or(s.State, GPUUnknown)
			delete(idle, s.Name)
			continue
		}
		s.tellWork(iv, idle)
		s.tellHolders(r, k, d)
		s.tellUsers(iv, r, k, d)
	}
}

// tellWork says how busy the GPU was.
func (s *GPUSheet) tellWork(iv *Interval, idle map[string]time.Time) {
	s.State = GPUUnknown
	j := slices.IndexFunc(iv.Detail.GPUs, func(x GPUTotal) bool { return x.Name == s.Name })
	if j < 0 || iv.Detail.GPUs[j].Told == 0 {
		s.Why = cmp.Or(s.Why, s.NoBusy)
		return
	}
	x := &iv.Detail.GPUs[j]
	busy := float64(x.Micros) / 1000 / float64(x.Told)
	s.Busy, s.NoBusy, s.State = &busy, "", GPUBusyNow
	if busy >= gpuWork {
		delete(idle, s.Name)
		return
	}
	s.State = GPUIdle
	since, known := idle[s.Name]
	if !known {
		since = iv.From
		idle[s.Name] = since
	}
	s.Since = &since
}

func (s *GPUSheet) tellHolders(r *Reading, gpu int, d func(WorkloadID) Workload) {
	for _, g := range r.GPUGrants {
		if int(g.GPU) == gpu {
			s.Holders = append(s.Holders, GPUHolder{Key: d(g.Workload).Key, Number: g.Number, By: g.By,
				Claim: g.IsClaim})
		}
	}
}

func (s *GPUSheet) tellUsers(iv *Interval, r *Reading, gpu int, d func(WorkloadID) Workload) {
	at := map[WorkloadID]int{}
	user := func(w WorkloadID) *GPUUser {
		i, known := at[w]
		if !known {
			i = len(s.Users)
			at[w] = i
			s.Users = append(s.Users, GPUUser{PIDs: []int32{}, Kinds: []string{}})
			if w != Unrecognised {
				s.Users[i].Key = d(w).Key
			}
		}
		return &s.Users[i]
	}
	for i := range iv.Usages {
		for _, x := range iv.Usages[i].GPUs {
			if x.GPU != s.Name || x.Micros == 0 && x.Units == 0 {
				continue
			}
			u := user(iv.Usages[i].Workload)
			if x.Source != amount.Unavailable {
				busy := float64(x.Micros) / 1000 / float64(iv.ElapsedMillis)
				u.Busy = &busy
			}
			memory := x.Units / iv.ElapsedMillis
			u.Memory = &memory
			for _, e := range x.Engines {
				if e.Micros > 0 && e.Engine != "" {
					u.Kinds = append(u.Kinds, e.Engine)
				}
			}
		}
	}
	for i := range r.GPUClients {
		c := &r.GPUClients[i]
		if int(c.GPU) != gpu {
			continue
		}
		w := Unrecognised
		if p := processAt(r.Processes, c.PID); p != nil {
			w = p.Workload
		}
		u := user(w)
		if !slices.Contains(u.PIDs, c.PID) && c.PID > 0 {
			u.PIDs = append(u.PIDs, c.PID)
		}
		for _, k := range c.Kinds {
			if !slices.Contains(u.Kinds, k) {
				u.Kinds = append(u.Kinds, k)
			}
		}
	}
}
