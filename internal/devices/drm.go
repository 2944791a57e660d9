package devices

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/account"
)

// card is a GPU that the kernel's "Direct Rendering Manager" shows: one that has a node for rendering. Those that only
// drive a display have none.
type card struct {
	bus    string   // 0000:03:00.0, or what its device is called on another bus
	nodes  []string // below /dev/dri: renderD128, card0
	device string   // its directory in the tree of devices
	driver string
	number int32 // of its node for rendering: 128 is the first
}

// findCards lists the GPUs of the host, by the numbers of their nodes.
func findCards(sys string) (cards []card) {
	class := filepath.Join(sys, "class/drm")
	at := map[string]int{}
	for _, word := range []string{"renderD", "card"} {
		for _, name := range numbered(class, word) {
			device := resolved(filepath.Join(class, name, "device"))
			if device == "" {
				continue
			}
			i, known := at[device]
			if !known {
				if word == "card" { // it renders nothing
					continue
				}
				i = len(cards)
				at[device] = i
				n, _ := strconv.Atoi(strings.TrimPrefix(name, word))
				cards = append(cards, card{bus: filepath.Base(device), device: device, number: int32(n)})
				if driver := resolved(filepath.Join(device, "driver")); driver != "" {
					cards[i].driver = filepath.Base(driver)
				}
			}
			cards[i].nodes = append(cards[i].nodes, name)
		}
	}
	return cards
}

// client is what the kernel tells of one client of a GPU ("DRM client usage stats").
type client struct {
	driver  string
	bus     string // drm-pdev; "" where the GPU is on no bus that tells
	id      uint64
	engines []engine
	bytes   int64 // of the GPU's own memory; -1 where that is not told
}

// engine is one kind of engine of a client.
type engine struct {
	name     string
	nanos    int64 // -1 where only cycles are told
	cycles   int64 // -1 where not told
	all      int64 // cycles of the GPU, at the same moment; -1 where not told
	capacity int64 // how many of its kind the GPU has
}

// mostEngines bounds how many engines of a client are told apart: GPUs have about ten.
const mostEngines = 64

// parseClient reads what the kernel tells of an open file of a GPU; false where it tells of no client.
func parseClient(content string) (c client, ok bool) {
	c.bytes = -1
	regions := map[string]region{}
	for line := range strings.Lines(content) {
		key, value, found := strings.Cut(line, ":")
		if !found || !strings.HasPrefix(key, "drm-") {
			continue
		}
		value = strings.TrimSpace(value)
		switch key {
		case "drm-driver":
			c.driver = value
		case "drm-pdev":
			c.bus = value
		case "drm-client-id":
			c.id, _ = strconv.ParseUint(value, 10, 64)
			ok = value != ""
		default:
			c.put(strings.TrimPrefix(key, "drm-"), value, regions)
		}
	}
	for name, r := range regions {
		if ofSystem(name) {
			continue
		}
		n := r.resident
		if n < 0 {
			n = r.memory
		}
		if n >= 0 {
			c.bytes = max(c.bytes, 0) + n
		}
	}
	return c, ok && len(c.engines) <= mostEngines
}

// region is what a client has of one region of memory, in bytes; -1 where not told.
type region struct{ resident, memory int64 }

// ofSystem tells regions of the host's memory, which is accounted as that.
func ofSystem(name string) bool {
	return name == "system" || name == "gtt" || name == "cpu" || name == "tt" || name == "shmem" ||
		strings.HasPrefix(name, "stolen") || strings.HasPrefix(name, "system")
}

// put puts in one line about an engine or a region.
func (c *client) put(key, value string, regions map[string]region) {
	for _, x := range []struct {
		prefix string
		put    func(e *engine, n int64)
	}{
		{"engine-capacity-", func(e *engine, n int64) { e.capacity = max(n, 1) }},
		{"engine-", func(e *engine, n int64) { e.nanos = n }},
		{"total-cycles-", func(e *engine, n int64) { e.all = n }},
		{"cycles-", func(e *engine, n int64) { e.cycles = n }},
	} {
		name, is := strings.CutPrefix(key, x.prefix)
		if !is {
			continue
		}
		if n, sound := counted(value, ""); sound && name != "" && len(c.engines) <= mostEngines {
			x.put(c.engine(name), n)
		} else if n, sound := counted(value, "ns"); sound && name != "" && len(c.engines) <= mostEngines {
			x.put(c.engine(name), n)
		}
		return
	}
	for prefix, put := range map[string]func(*region, int64){
		"resident-": func(r *region, n int64) { r.resident = n }, "memory-": func(r *region, n int64) { r.memory = n },
	} {
		name, is := strings.CutPrefix(key, prefix)
		if !is || name == "" || len(regions) > mostEngines {
			continue
		}
		r, known := regions[name]
		if !known {
			r = region{-1, -1}
		}
		if n, sound := sized(value); sound {
			put(&r, n)
		}
		regions[name] = r
	}
}

func (c *client) engine(name string) *engine {
	i := slices.IndexFunc(c.engines, func(e engine) bool { return e.name == name })
	if i < 0 {
		i = len(c.engines)
		c.engines = append(c.engines, engine{name: name, nanos: -1, cycles: -1, all: -1, capacity: 1})
	}
	return &c.engines[i]
}

// counted reads a number that is followed by a unit, or by none.
func counted(value, unit string) (int64, bool) {
	number, after, _ := strings.Cut(value, " ")
	n, err := strconv.ParseInt(number, 10, 64)
	return n, err == nil && n >= 0 && strings.TrimSpace(after) == unit
}

// sized reads a size: bytes, KiB or MiB. Zero comes without a unit.
func sized(value string) (int64, bool) {
	for unit, per := range map[string]int64{"": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30} {
		if n, ok := counted(value, unit); ok && n < 1<<62/per {
			return n * per, true
		}
	}
	return 0, false
}

// drmClients looks for clients of GPUs among the open files of processes.
type drmClients struct {
	proc  string
	cards []card
	known map[int32]*opener // processes that were looked at
	state map[clientKey]*clientState
	round int64
}

// opener is what is known of the open files of a process.
type opener struct {
	start  int64
	seen   int64 // reading at which it was last there
	looked int64 // reading at which all its files were looked at
	files  int64 // how many it had open then; -1 where that is not told
	fds    []string
}

type clientKey struct {
	card int
	id   uint64
}

// clientState is what is carried of a client from one reading to the next.
type clientState struct {
	seen    int64
	since   int64 // reading at which it was first seen
	nanos   map[string]int64
	cycles  map[string]int64
	all     map[string]int64
	carried map[string]int64 // microseconds by engine, where only cycles are told
}

// lookEvery is after how many readings all open files of a process are looked at again. A process that opened or shut
// some is looked at sooner, where the kernel (since 6.2) tells how many it has.
const lookEvery = 12

// look finds the clients of all processes. hidden tells how many processes' files may not be read.
func (d *drmClients) look(processes []account.Process, elapsedMicros int64) (clients []account.GPUClient, own bool,
	hidden int) {
	d.round++
	at := map[clientKey]int{}
	for i := range processes {
		p := &processes[i]
		if p.Kernel || p.Ended {
			continue
		}
		o := d.known[p.PID]
		isNew := o == nil || o.start != p.Start
		if isNew {
			o = &opener{start: p.Start, looked: -1}
			d.known[p.PID] = o
		}
		o.seen = d.round
		dir := filepath.Join(d.proc, strconv.Itoa(int(p.PID)), "fd")
		files := int64(-1)
		if info, err := os.Stat(dir); err == nil && info.Size() > 0 {
			files = info.Size()
		}
		turn := (d.round+int64(p.PID))%lookEvery == 0
		if isNew || turn || files != o.files {
			names, err := os.ReadDir(dir)
			if os.IsPermission(err) {
				hidden++
				continue
			}
			o.fds = d.nodesAmong(dir, names, o.fds[:0])
			o.looked, o.files = d.round, files
		}
		for _, fd := range o.fds {
			d.read(p.PID, fd, at, &clients, elapsedMicros, &own)
		}
	}
	for pid, o := range d.known {
		if o.seen != d.round {
			delete(d.known, pid)
		}
	}
	for k, s := range d.state {
		if s.seen != d.round {
			delete(d.state, k)
		}
	}
	return clients, own, hidden
}

// nodesAmong picks the open files that are nodes of GPUs.
func (d *drmClients) nodesAmong(dir string, names []os.DirEntry, fds []string) []string {
	for _, n := range names {
		if target, err := os.Readlink(filepath.Join(dir, n.Name())); err == nil &&
			strings.HasPrefix(target, "/dev/dri/") {
			fds = append(fds, n.Name())
		}
	}
	return fds
}

// read reads what one open file tells of its client. A client that several processes share counts once: it is that of
// the first of them.
func (d *drmClients) read(pid int32, fd string, at map[clientKey]int, clients *[]account.GPUClient,
	elapsedMicros int64, own *bool) {
	dir := filepath.Join(d.proc, strconv.Itoa(int(pid)))
	content, err := os.ReadFile(filepath.Join(dir, "fdinfo", fd))
	if err != nil || len(content) > 1<<20 {
		return
	}
	c, ok := parseClient(string(content))
	if !ok {
		return
	}
	i := slices.IndexFunc(d.cards, func(x card) bool { return c.bus != "" && x.bus == c.bus })
	if i < 0 && c.bus == "" {
		target, _ := os.Readlink(filepath.Join(dir, "fd", fd))
		i = slices.IndexFunc(d.cards, func(x card) bool { return slices.Contains(x.nodes, filepath.Base(target)) })
	}
	if i < 0 {
		return
	}
	k := clientKey{i, c.id}
	s := d.state[k]
	if s == nil {
		s = &clientState{since: d.round, nanos: map[string]int64{}, cycles: map[string]int64{},
			all: map[string]int64{}, carried: map[string]int64{}}
		d.state[k] = s
	}
	x := account.GPUClient{GPU: int32(i), ID: c.id, PID: pid, Born: s.since > 1, Bytes: c.bytes}
	if s.seen != d.round {
		s.seen = d.round
		*own = s.advance(&c, elapsedMicros) || *own
	}
	if _, twice := at[k]; twice {
		return
	}
	for _, e := range c.engines {
		if micros, told := s.micros(&e); told {
			x.Engines = append(x.Engines, account.EngineTime{Engine: e.name, Micros: micros})
		}
	}
	slices.SortFunc(x.Engines, func(a, b account.EngineTime) int { return strings.Compare(a.Engine, b.Engine) })
	at[k] = len(*clients)
	*clients = append(*clients, x)
}

// advance takes over what a client's engines count. A counter that steps back keeps its larger value. Where only cycles
// are told, the engine worked for that part of the time in which the GPU's cycles are the client's; own says that this
// was worked out here.
func (s *clientState) advance(c *client, elapsedMicros int64) (own bool) {
	for _, e := range c.engines {
		if e.nanos >= 0 {
			s.nanos[e.name] = max(s.nanos[e.name], e.nanos)
			continue
		}
		if e.cycles < 0 || e.all < 0 {
			continue
		}
		own = true
		was, known := s.all[e.name]
		if mine, all := e.cycles-s.cycles[e.name], e.all-was; known && mine > 0 && all > 0 {
			s.carried[e.name] += int64(float64(min(mine, all*e.capacity)) / float64(all) * float64(elapsedMicros))
		}
		s.cycles[e.name] = max(s.cycles[e.name], e.cycles)
		s.all[e.name] = max(was, e.all)
	}
	return own
}

// micros is how long an engine worked for a client: of several of its kind, the mean.
func (s *clientState) micros(e *engine) (int64, bool) {
	if nanos, told := s.nanos[e.name]; told {
		return nanos / 1000 / e.capacity, true
	}
	if e.cycles < 0 || e.all < 0 {
		return 0, false
	}
	return s.carried[e.name] / e.capacity, true
}
