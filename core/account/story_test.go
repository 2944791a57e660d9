package account_test

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// TestStories runs the stories in testdata/stories: readings in, ledger out.
//
// A story is a series of "read" commands. Each has the time on the monotonic clock and, line by line, what was counted
// by then; times are in Go's form, bytes plain. "of" names a workload; the names stand for themselves.
func TestStories(t *testing.T) {
	datadriven.Walk(t, "testdata/stories", func(t *testing.T, path string) {
		s := &story{t: t, ids: map[string]account.WorkloadID{}}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			require.Equal(t, "read", d.Cmd)
			return s.read(d)
		})
	})
}

type story struct {
	t       *testing.T
	tracker account.Tracker
	ids     map[string]account.WorkloadID
	names   []string
}

func (s *story) id(name string) account.WorkloadID {
	id, ok := s.ids[name]
	if !ok {
		id = account.WorkloadID(len(s.names))
		s.ids[name] = id
		s.names = append(s.names, name)
	}
	return id
}

var epoch = time.Date(2026, 10, 11, 3, 0, 0, 0, time.UTC)

func (s *story) read(d *datadriven.TestData) string {
	at := s.duration(argument(d, "at"))
	r := &account.Reading{Boot: "first", Mono: at, Uptime: at, Wall: epoch.Add(at)}
	if d.HasArg("boot") {
		r.Boot = argument(d, "boot")
	}
	if d.HasArg("wall") {
		r.Wall = epoch.Add(s.duration(argument(d, "wall")))
	}
	groups := map[string]int32{}
	for line := range strings.Lines(d.Input) {
		words := strings.Fields(line)
		if len(words) == 0 || words[0] == "#" {
			continue
		}
		v := values{s, words[1:]}
		switch words[0] {
		case "cpus":
			n := int(v.number("count"))
			for c := range n {
				r.CPUs = append(r.CPUs, account.CPUTimes{CPU: c})
			}
			r.CPUs[0].Idle, r.CPUs[0].SoftIRQ, r.CPUs[0].Steal = v.micros("idle"), v.micros("softirq"),
				v.micros("steal")
		case "memory":
			r.Memory = account.HostMemory{Total: v.number("total"), Free: v.number("free"), Slab: v.number("slab"),
				Cached: v.number("cached")}
		case "disk":
			r.Disks = append(r.Disks, account.Disk{Name: words[1], ReadBytes: v.number("read"),
				WrittenBytes: v.number("written"), RateBytesPerSecond: v.number("rate")})
		case "interface":
			r.Interfaces = append(r.Interfaces, account.Interface{Name: words[1], Received: v.number("in"),
				Sent: v.number("out"), SpeedBitPerSecond: v.number("speed")})
		case "group":
			g := account.Group{ID: uint64(v.number("id")), Workload: s.id(v.text("of")), Outer: -1, Born: v.has("born")}
			if v.has("in") {
				g.Outer = groups[v.text("in")]
			}
			if v.has("cpu") {
				g.CPUMicros, g.Has = v.micros("cpu"), g.Has|account.HasCPU
			}
			if v.has("memory") {
				g.MemoryBytes, g.FileBytes, g.Has = v.number("memory"), v.number("file"), g.Has|account.HasMemory
			}
			groups[v.text("of")] = int32(len(r.Groups))
			r.Groups = append(r.Groups, g)
		case "process":
			p := account.Process{PID: int32(v.number("pid")),
				Start:    int64(s.duration(v.text("start")) / (10 * time.Millisecond)),
				Workload: account.Unrecognised, Kernel: v.has("kernel"), Threads: 1,
				CPUMicros: v.micros("cpu"), AnonBytes: v.number("memory"), DiskBytes: v.number("disk")}
			if v.has("hidden") {
				p.DiskBytes = -1
			}
			if v.has("of") {
				p.Workload = s.id(v.text("of"))
			}
			if v.has("inside") {
				p.Inside, p.Within = true, s.id(v.text("inside"))
			}
			p.Ended = v.has("ended")
			p.Runnable = int32(v.number("runnable"))
			r.Processes = append(r.Processes, p)
		case "thread":
			r.Threads = append(r.Threads, account.Thread{PID: int32(v.number("pid")), TID: int32(v.number("tid")),
				Workload: s.id(v.text("of")),
				Start:    int64(s.duration(v.text("start")) / (10 * time.Millisecond)), Part: int32(v.number("part")),
				CPUMicros: v.micros("cpu")})
		case "namespace":
			r.Namespaces = append(r.Namespaces, account.Namespace{ID: uint64(v.number("id")),
				Workload: s.id(v.text("of")), Received: v.number("bytes")})
		case "meter":
			m := account.Meter{Name: words[1], Whole: v.has("whole"), GPU: v.text("gpu"),
				MicroJoules: v.number("joules") * 1e6, Range: v.number("range") * 1e6}
			if v.has("watts") {
				m.IsPower, m.MicroWatts = true, v.number("watts")*1e6
			}
			r.Meters = append(r.Meters, m)
		case "gpu":
			r.GPUs = append(r.GPUs, v.gpu())
		case "client":
			g := slices.IndexFunc(r.GPUs, func(g account.GPU) bool { return g.Name == words[1] })
			require.GreaterOrEqual(s.t, g, 0, words[1])
			c := account.GPUClient{GPU: int32(g), ID: uint64(v.number("id")), PID: int32(v.number("pid")),
				Born: v.has("born"), Bytes: -1}
			if v.has("memory") {
				c.Bytes = v.number("memory")
			}
			for _, engine := range []string{"render", "copy", "video"} {
				if v.has(engine) {
					c.Engines = append(c.Engines, account.EngineTime{Engine: engine, Micros: v.micros(engine)})
				}
			}
			r.GPUClients = append(r.GPUClients, c)
		case "grant":
			g := slices.IndexFunc(r.GPUs, func(g account.GPU) bool { return g.Name == words[1] })
			r.GPUGrants = append(r.GPUGrants, account.GPUGrant{Workload: s.id(v.text("of")), GPU: int32(g),
				IsClaim: v.has("claimed")})
		case "rest":
			r.IdleMicroWatts = v.number("watts") * 1e6
		default:
			s.t.Fatalf("%s: unknown line %q", d.Pos, line)
		}
	}
	iv, err := s.tracker.Step(r)
	if err != nil {
		return err.Error() + "\n"
	}
	return s.tell(iv, r)
}

func (s *story) tell(iv *account.Interval, r *account.Reading) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s to %s, %d ms\n", iv.From.Format("15:04:05"), iv.To.Format("15:04:05"), iv.ElapsedMillis)
	shown := []bool{len(r.CPUs) > 0, r.Memory.Total > 0, len(r.Disks) > 0, len(r.Interfaces) > 0,
		len(r.GPUs) > 0, len(r.GPUs) > 0, len(r.Meters) > 0}
	for _, res := range amount.Resources() {
		if !shown[res] {
			continue
		}
		fmt.Fprintf(&b, "%s, %s\n", res, res.Unit())
		for _, u := range iv.Usages {
			if u.Source[res] == amount.Unavailable {
				fmt.Fprintf(&b, "  %-10s unavailable\n", s.names[u.Workload])
			} else {
				fmt.Fprintf(&b, "  %-10s %s %s\n", s.names[u.Workload], units(res, u.Units[res], iv), u.Source[res])
			}
		}
		for _, u := range iv.Usages {
			if res == amount.CPU && u.RunnableMillis > 0 {
				fmt.Fprintf(&b, "  %-10s %g threads runnable in the mean, %d at most\n", s.names[u.Workload],
					float64(u.RunnableMillis)/float64(iv.ElapsedMillis), u.RunnablePeak)
			}
			for _, p := range u.Parts {
				if res == amount.CPU {
					fmt.Fprintf(&b, "  %-10s part %d %g\n", s.names[u.Workload], p.Part, float64(p.Micros)/1e6)
				}
			}
		}
		l := iv.Ledgers[res]
		for _, x := range []struct {
			name string
			line account.Line
		}{{"kernel", l.Kernel}, {"steal", l.Steal}, {"idle", l.Idle}, {"residual", l.Residual},
			{"capacity", l.Capacity}} {
			switch {
			case x.line.OK():
				fmt.Fprintf(&b, "  = %-8s %s\n", x.name, units(res, x.line.Units, iv))
			case x.name != "steal" && (x.name != "kernel" || res == amount.Disk):
				fmt.Fprintf(&b, "  = %-8s not available: %s\n", x.name, x.line.Reason)
			}
		}
	}
	s.tellGPUs(&b, iv)
	return b.String()
}

// tellGPUs tells what each GPU did, and for whom.
func (s *story) tellGPUs(b *strings.Builder, iv *account.Interval) {
	for _, x := range iv.Detail.GPUs {
		fmt.Fprintf(b, "%s worked %g s of %g told, memory %d\n", x.Name, float64(x.Micros)/1e6, float64(x.Told)/1e3,
			x.Units/iv.ElapsedMillis)
		for i := range iv.Usages {
			for _, u := range iv.Usages[i].GPUs {
				if u.GPU != x.Name {
					continue
				}
				fmt.Fprintf(b, "  %-10s %g s %s, memory %d", s.names[iv.Usages[i].Workload], float64(u.Micros)/1e6,
					u.Source, u.Units/iv.ElapsedMillis)
				for _, e := range u.Engines {
					fmt.Fprintf(b, ", %s %g s", e.Engine, float64(e.Micros)/1e6)
				}
				if u.Granted > 0 {
					fmt.Fprintf(b, ", granted %g s", float64(u.Granted)/1e3)
				}
				for band, millis := range u.Bands {
					if millis > 0 {
						fmt.Fprintf(b, ", from %g on for %g s", account.BandFrom(band), float64(millis)/1e3)
					}
				}
				fmt.Fprintln(b)
			}
		}
	}
	for c, n := range iv.Detail.Caveats {
		if n > 0 {
			fmt.Fprintf(b, "! %s\n", account.Caveat(c).Meaning(n))
		}
	}
}

func units(r amount.Resource, n int64, iv *account.Interval) string {
	return strconv.FormatFloat(r.Amount(float64(n), iv.ElapsedMillis), 'f', -1, 64)
}

func argument(d *datadriven.TestData, name string) string {
	for _, a := range d.CmdArgs {
		if a.Key == name {
			return a.Vals[0]
		}
	}
	return ""
}

func (s *story) duration(text string) time.Duration {
	if text == "" {
		return 0
	}
	d, err := time.ParseDuration(text)
	require.NoError(s.t, err)
	return d
}

// values are the key=value words of a line.
type values struct {
	s     *story
	words []string
}

func (v values) text(key string) string {
	for _, w := range v.words {
		if k, value, _ := strings.Cut(w, "="); k == key {
			return value
		}
	}
	return ""
}

func (v values) gpu() account.GPU {
	g := account.GPU{Name: v.words[0], Card: v.text("in"), MemoryTotal: -1, MemoryUsed: -1, Engine: v.text("engine")}
	switch {
	case v.has("busy"):
		g.By, g.BusyMicros = account.BusyByCounter, v.micros("busy")
	case v.has("part"):
		g.By, g.BusyPart = account.BusyByPart, v.number("part")
	case v.has("by-clients"):
		g.By = account.BusyByClients
	}
	if v.has("total") {
		g.MemoryTotal, g.MemoryUsed = v.number("total"), v.number("used")
	}
	if v.has("reported") {
		g.Source = amount.Reported
	}
	return g
}

func (v values) has(key string) bool {
	for _, w := range v.words {
		if k, _, _ := strings.Cut(w, "="); k == key {
			return true
		}
	}
	return false
}

func (v values) number(key string) int64 {
	if !v.has(key) {
		return 0
	}
	n, err := strconv.ParseInt(v.text(key), 10, 64)
	require.NoError(v.s.t, err)
	return n
}

func (v values) micros(key string) int64 { return v.s.duration(v.text(key)).Microseconds() }
