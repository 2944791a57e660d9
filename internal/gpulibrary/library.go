package gpulibrary

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/internal/devices"
)

// Names are the names under which the library is found on a host that has it.
var Names = []string{"libnvidia-ml.so.1", "/usr/lib/x86_64-linux-gnu/nvidia/current/libnvidia-ml.so.1",
	"/usr/lib64/libnvidia-ml.so.1", "/usr/lib/wsl/lib/libnvidia-ml.so.1"}

// Library is a library that is loaded and has begun.
type Library struct {
	calls   *calls
	version string
	driver  string
	sampled map[handle]*sampled
	known   map[int32]devices.LibraryGPU // what GPUs were called when they were last there
	now     func() time.Time
}

// sampled is what was added up of the samples of one GPU.
type sampled struct {
	at        time.Time // of the last samples
	stamp     uint64    // of the newest that was taken
	busy      int64     // microseconds
	processes map[uint32]*[3]int64
	noBusy    string
	noTimes   string
}

// Engines are the engines of which samples tell how long they worked for a process.
var engines = [3]string{devices.MainEngine, "decoder", "encoder"}

// Open loads the library at a path; where that is "", the first of Names that is there. The error says what it lacks,
// or why it does not begin.
func Open(path string) (*Library, error) {
	names := Names
	if path != "" {
		names = []string{path}
	}
	var c *calls
	var err error
	for _, name := range names {
		if c, err = bind(name); err == nil || !errors.Is(err, errNoLibrary) {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	l := &Library{calls: c, version: words(c.Version), sampled: map[handle]*sampled{},
		known: map[int32]devices.LibraryGPU{}, now: time.Now}
	if r := c.Init(); r != success {
		return nil, fmt.Errorf("the library does not begin: %s", l.why(r))
	}
	l.driver = words(c.DriverVersion)
	return l, nil
}

// Close ends the use of the library.
func (l *Library) Close() {
	if l.calls.Shutdown != nil {
		l.calls.Shutdown()
	}
}

// words is a text of the library.
func words(call func(*byte, uint32) result) string {
	if call == nil {
		return ""
	}
	b := make([]byte, 96)
	if call(&b[0], uint32(len(b))) != success {
		return ""
	}
	return clean(b)
}

// clean is a text of the library up to its end.
func clean(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return strings.ToValidUTF8(strings.TrimSpace(s), "\uFFFD")
}

// why says in words why a call has no figure.
func (l *Library) why(r result) string {
	switch r {
	case notSupported:
		return devices.NotSupported
	case noPermission, notPrivileged:
		return "the library does not permit it: run the collector as root"
	case deviceLost:
		return "the GPU is lost: it does not answer on its bus any more"
	case noSymbol:
		return notKnown
	}
	text := ""
	if l.calls.ErrorText != nil {
		text = strings.ToValidUTF8(l.calls.ErrorText(r), "\uFFFD")
	}
	return strings.TrimSpace(fmt.Sprintf("the library answers %q (%d)", text, r))
}

// notKnown is why there is no figure of a call that the library lacks.
const notKnown = "the library does not know how to tell it"

// figure asks for one number.
func figure[T uint32 | int32 | uint64](l *Library, call func(handle, *T) result, h handle) devices.Figure {
	if call == nil {
		return devices.Figure{Why: notKnown}
	}
	var v T
	if r := call(h, &v); r != success {
		return devices.Figure{Why: l.why(r)}
	}
	if cannotBe(v) {
		return devices.Figure{Why: impossible}
	}
	return devices.Figure{N: int64(v)}
}

// impossible is why there is no figure of a number that cannot be.
const impossible = "the library tells a number that cannot be"

// cannotBe tells numbers that stand for none, or are below zero: all ones are "not available" in the library's header.
func cannotBe[T uint32 | int32 | uint64](v T) bool {
	switch n := any(v).(type) {
	case uint32:
		return n >= 1<<31
	case int32:
		return n < 0
	case uint64:
		return n >= 1<<63
	}
	return false
}

// at is a call that has a number of its own to say what is asked for.
func at[T any](call func(handle, int32, *T) result, which int32) func(handle, *T) result {
	if call == nil {
		return nil
	}
	return func(h handle, v *T) result { return call(h, which, v) }
}

// list asks for a list: with room to spare, and again while it does not suffice, for processes come and go.
func list[T any](call func(n *uint32, first *T) result) ([]T, result) {
	for room := uint32(64); room <= 1<<16; {
		b, n := make([]T, room), room
		switch r := call(&n, &b[0]); r {
		case success:
			return b[:min(n, room)], success
		case tooSmall:
			room = max(min(n, 1<<15), room) * 2
		case notFound:
			return nil, success
		default:
			return nil, r
		}
	}
	return nil, tooSmall
}

// Read asks for everything.
func (l *Library) Read() *devices.LibraryAnswer {
	a := &devices.LibraryAnswer{Version: l.version, Driver: l.driver, Missing: l.calls.missing}
	var n uint32
	if r := l.calls.Count(&n); r != success {
		a.Why = "the GPUs cannot be listed: " + l.why(r)
		return a
	}
	l.Sample()
	for i := range min(n, mostGPUs) {
		var h handle
		if r := l.calls.ByIndex(i, &h); r != success {
			a.GPUs = append(a.GPUs, l.lost(int32(i), l.why(r)))
			continue
		}
		g := l.device(int32(i), h)
		if g.Lost == "" {
			l.known[int32(i)] = devices.LibraryGPU{Title: g.Title, UUID: g.UUID, Bus: g.Bus, Minor: g.Minor}
		}
		a.GPUs = append(a.GPUs, g)
	}
	return a
}

// mostGPUs bounds how many GPUs of a host are asked.
const mostGPUs = 256

// lost is a GPU of which nothing is told any more but what it was called.
func (l *Library) lost(index int32, why string) devices.LibraryGPU {
	no := devices.Figure{Why: why}
	g, known := l.known[index]
	if !known {
		g.Minor = no
	}
	g.Index, g.Lost, g.NoUsers, g.NoTimes = index, why, why, why
	g.BusyMicros, g.MemoryTotal, g.MemoryUsed, g.MicroJoules, g.MicroWatts = no, no, no, no, no
	return g
}

// device asks for all of one GPU.
func (l *Library) device(index int32, h handle) devices.LibraryGPU {
	g := l.one(index, h)
	if g.Lost != "" {
		return g
	}
	c := l.calls
	var current, pending, most uint32
	if c.Divided == nil || c.Part == nil || c.PartsAtMost == nil || c.Divided(h, &current, &pending) != success ||
		current != 1 || c.PartsAtMost(h, &most) != success {
		return g
	}
	for k := range min(most, mostGPUs) {
		var p handle
		if c.Part(h, k, &p) != success {
			continue
		}
		part := l.one(int32(k), p)
		if instance := figure(l, c.Instance, p); instance.OK() && len(part.Users) == 0 {
			// Some libraries tell of a partition's processes at its card alone.
			for _, u := range l.usersOf(h, func(x *process) bool { return int64(x.Instance) == instance.N }) {
				part.Users = append(part.Users, u)
			}
		}
		g.Parts = append(g.Parts, part)
	}
	return g
}

// one asks for a GPU or a partition by itself.
func (l *Library) one(index int32, h handle) devices.LibraryGPU {
	c := l.calls
	g := devices.LibraryGPU{Index: index, Minor: figure(l, c.Minor, h)}
	text := func(call func(handle, *byte, uint32) result) string {
		if call == nil {
			return ""
		}
		return words(func(b *byte, n uint32) result { return call(h, b, n) })
	}
	g.Title, g.UUID = text(c.Name), text(c.UUID)
	var bus busInfo
	if c.Bus != nil && c.Bus(h, &bus) == success {
		g.Bus = clean(bus.Address[:])
	}
	var m memory
	if c.Memory == nil {
		g.MemoryTotal.Why = notKnown
	} else if r := c.Memory(h, &m); r == deviceLost {
		x := l.lost(index, l.why(r))
		x.Title, x.UUID, x.Bus = or(x.Title, g.Title), or(x.UUID, g.UUID), or(x.Bus, g.Bus)
		return x
	} else if r != success {
		g.MemoryTotal.Why = l.why(r)
	}
	g.MemoryUsed.Why = g.MemoryTotal.Why
	g.MemoryTotal.N, g.MemoryUsed.N = plausible(m.Total), plausible(m.Used)
	if milli := figure(l, c.Energy, h); milli.OK() && milli.N < math.MaxInt64/1000 {
		g.MicroJoules.N = milli.N * 1000
	} else {
		g.MicroJoules.Why = or(milli.Why, impossible)
	}
	g.MicroWatts = figure(l, c.Power, h)
	g.MicroWatts.N *= 1000
	g.Users = l.usersOf(h, func(*process) bool { return true })
	if c.Compute == nil && c.Graphics == nil {
		g.NoUsers = notKnown
	}
	s := l.sampled[h]
	if s == nil {
		s = &sampled{noBusy: notKnown, noTimes: notKnown}
		s.noBusy = figure(l, l.busyCall(), h).Why // of a partition: most libraries do not tell it
		if s.noBusy == "" {
			s.noBusy = "it is told of its card alone"
		}
		s.noTimes = s.noBusy
	}
	g.BusyMicros, g.NoTimes = devices.Figure{N: s.busy, Why: s.noBusy}, s.noTimes
	putTimes(&g, s)
	g.Figures = l.figures(h, &m, g.MemoryTotal.Why)
	return g
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// plausible is an amount of memory that can be.
func plausible(n uint64) int64 { return int64(min(n, 1<<50)) }

// busyCall asks which part of the time of late a GPU had work, in percent.
func (l *Library) busyCall() func(handle, *uint32) result {
	if l.calls.Utilisation == nil {
		return nil
	}
	return func(h handle, v *uint32) result {
		var u utilisation
		r := l.calls.Utilisation(h, &u)
		if *v = u.GPU; u.GPU > 100 {
			*v = math.MaxUint32
		}
		return r
	}
}

// usersOf lists the processes of a GPU or partition that are wanted. One that has both kinds of context is one, and
// has its memory once.
func (l *Library) usersOf(h handle, wanted func(*process) bool) []devices.LibraryUser {
	users := []devices.LibraryUser{}
	for _, x := range []struct {
		call func(handle, *uint32, *process) result
		kind string
	}{{l.calls.Compute, "compute"}, {l.calls.Graphics, "graphics"}} {
		if x.call == nil {
			continue
		}
		found, _ := list(func(n *uint32, first *process) result { return x.call(h, n, first) })
		for i := range found {
			p := &found[i]
			if p.PID == 0 || p.PID > mostPID || !wanted(p) {
				continue
			}
			k := slices.IndexFunc(users, func(u devices.LibraryUser) bool { return u.PID == int32(p.PID) })
			if k < 0 {
				u := devices.LibraryUser{PID: int32(p.PID), Bytes: devices.Figure{N: plausible(p.Used)}}
				if p.Used == math.MaxUint64 {
					u.Bytes = devices.Figure{Why: "the library does not tell it of this process"}
				}
				k = len(users)
				users = append(users, u)
			}
			users[k].Kinds = append(users[k].Kinds, x.kind)
		}
	}
	return users
}

// mostPID is the largest pid that there can be: an entry with a larger one is of another layout.
const mostPID = 4 << 20

// putTimes says of the users how long the engines worked for them, as far as that was sampled. A process that ended has
// no memory, and its time stays.
func putTimes(g *devices.LibraryGPU, s *sampled) {
	for pid, micros := range s.processes {
		k := slices.IndexFunc(g.Users, func(u devices.LibraryUser) bool { return u.PID == int32(pid) })
		if k < 0 {
			k = len(g.Users)
			g.Users = append(g.Users, devices.LibraryUser{PID: int32(pid), Kinds: []string{},
				Bytes: devices.Figure{Why: "it has no context any more"}})
		}
		for e, name := range engines {
			g.Users[k].Engines = append(g.Users[k].Engines, account.EngineTime{Engine: name, Micros: micros[e]})
		}
	}
	slices.SortFunc(g.Users, func(a, b devices.LibraryUser) int { return int(a.PID - b.PID) })
}
