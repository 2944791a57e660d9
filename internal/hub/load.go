package hub

import (
	"context"
	"time"

	"vinescale/internal/store"
	"vinescale/internal/wire"
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
	Full     *float64 `json:"full" doc:"Part of the time in which all that could have run waited, 0 to 1; null for the CPU, of which a host as a whole has none."`
}

// loadAge is for how long a load is told: what a host that fell silent had before says nothing of it.
const loadAge = 10 * time.Minute

// Loads are the newest loads of all hosts that tell theirs, by name.
func (h *Hub) Loads(ctx context.Context) (map[string]*Load, error) {
	newest, err := h.store.NewestDetails(ctx, h.options.Now().Add(-loadAge))
	if err != nil {
		return nil, err
	}
	loads := map[string]*Load{}
	for name, d := range newest {
		if l := loadOf(d.Detail, d.To); l != nil {
			loads[name] = l
		}
	}
	return loads, nil
}

// loadOf is nil where an interval tells no load.
func loadOf(d *wire.Detail, at time.Time) *Load {
	l := d.GetLoad()
	if len(l) < 3 {
		return nil
	}
	return &Load{At: at.UTC(), One: l[0], Five: l[1], Fifteen: l[2]}
}

// stalls adds up for how long tasks waited for a resource, in microseconds.
type stalls struct {
	some, full int64
	over       int64 // milliseconds of the intervals that tell
}

// addLoad takes over the newest interval's load, and adds what waited.
func (g *gathered) addLoad(r *store.FigureRow) {
	g.loads[r.HostID] = loadOf(r.Detail, r.Start.Add(time.Duration(r.ElapsedMillis)*time.Millisecond))
	d := r.Detail
	for i, name := range d.GetPressure() {
		if min(len(d.PressureSomeMicros), len(d.PressureFullMicros)) <= i {
			break
		}
		k := linkKey{r.HostID, name}
		s := g.stalls[k]
		if s == nil {
			s = &stalls{}
			g.stalls[k] = s
		}
		s.some, s.full, s.over = s.some+d.PressureSomeMicros[i], s.full+d.PressureFullMicros[i], s.over+r.ElapsedMillis
	}
}

// pressures lists for what tasks of a host waited; empty where its kernel does not tell.
func (g *gathered) pressures(host int32) []Pressure {
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
