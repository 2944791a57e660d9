package explain

import (
	"time"

	"vinescale/core/leaf"
)

// Load is how many tasks of a host ran, were ready to run, or waited for storage: the kernel's own damped means, to be
// held against the host's CPUs (proc_loadavg(5)).
type Load struct {
	At      time.Time `json:"at" doc:"End of the interval it was read at."`
	One     float64   `json:"load_1m"`
	Five    float64   `json:"load_5m"`
	Fifteen float64   `json:"load_15m"`
}

// Pressure is the part of the time in which tasks of a host waited for a resource (the kernel's "PSI - Pressure Stall
// Information").
type Pressure struct {
	Resource string   `json:"resource" doc:"cpu, memory or io."`
	Some     float64  `json:"some" doc:"Part of the time in which at least one task waited, 0 to 1."`
	Full     *float64 `json:"full" doc:"Part of the time in which all waited that could run; null for the CPU."`
}

// LoadOf is the load that an interval tells, which ended at a time; nil where it tells none.
func LoadOf(load []float64, at time.Time) *Load {
	if len(load) < 3 {
		return nil
	}
	return &Load{At: at.UTC(), One: load[0], Five: load[1], Fifteen: load[2]}
}

// stalls adds up for how long tasks waited for a resource, in microseconds.
type stalls struct {
	some, full int64
	over       int64 // milliseconds of the intervals that tell
}

// addLoad takes over the newest interval's load.
func (g *Gathering) addLoad(v *leaf.View, at int64) {
	t := v.Tables[leaf.Intervals]
	if g.isNewer(linkKey{v.Host, "load"}, t.Of(leaf.NewestAt)[at]) {
		g.loads[v.Host] = LoadOf(v.Loads(at), time.UnixMicro(t.Of("end")[at]))
	}
}

// addPressure adds for how long tasks waited.
func (g *Gathering) addPressure(v *leaf.View) {
	t := v.Tables[leaf.Pressure]
	ats, some, full, over := t.Of(leaf.At), t.Of("some"), t.Of("full"), t.Of("over")
	for row, of := range t.Of("of") {
		if !v.Within[ats[row]] {
			continue
		}
		k := linkKey{v.Host, v.Words[of]}
		s := g.stalls[k]
		if s == nil {
			s = &stalls{}
			g.stalls[k] = s
		}
		s.some, s.full, s.over = s.some+some[row], s.full+full[row], s.over+over[row]
	}
}

// pressures lists for what tasks of a host waited; empty where its kernel does not tell.
func (g *Gathering) pressures(host int32) []Pressure {
	list := []Pressure{}
	for _, name := range []string{"cpu", "memory", "io"} {
		s := g.stalls[linkKey{host, name}]
		if s == nil || s.over == 0 {
			continue
		}
		part := func(micros int64) float64 { return min(float64(micros)/1000/float64(s.over), 1) }
		p := Pressure{Resource: name, Some: part(s.some)}
		if name != "cpu" {
			full := part(s.full)
			p.Full = &full
		}
		list = append(list, p)
	}
	return list
}
