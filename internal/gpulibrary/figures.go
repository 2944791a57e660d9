package gpulibrary

import (
	"fmt"
	"strings"

	"vinescale/core/account"
	"vinescale/internal/devices"
)

// sheet gathers figures of one GPU.
type sheet struct {
	list []account.GPUFigure
}

func (s *sheet) number(section, name, unit string, f devices.Figure, per float64) {
	x := account.GPUFigure{Section: section, Name: name, Unit: unit, Why: f.Why}
	if f.OK() {
		v := float64(f.N) / per
		x.Value = &v
	}
	s.list = append(s.list, x)
}

// text puts in what a number stands for, by a list of names.
func (s *sheet) text(section, name string, f devices.Figure, names ...string) {
	x := account.GPUFigure{Section: section, Name: name, Why: f.Why}
	switch {
	case !f.OK():
	case f.N < int64(len(names)):
		x.Text = names[f.N]
	default:
		x.Text = fmt.Sprint(f.N)
	}
	s.list = append(s.list, x)
}

// clockNames are the clocks, by the library's numbers.
var clockNames = [4]string{"graphics", "multiprocessors", "memory", "video"}

// figures asks for all that is told of a GPU or partition.
func (l *Library) figures(h handle, m *memory, noMemory string) []account.GPUFigure {
	c, s := l.calls, &sheet{}
	f32 := func(call func(handle, *uint32) result) devices.Figure { return figure(l, call, h) }
	i32 := func(call func(handle, *int32) result) devices.Figure { return figure(l, call, h) }

	s.said("device", "firmware", c.Firmware, h)
	s.text("device", "kept ready", i32(c.Persistence), "no", "yes")
	instance := f32(c.Instance)
	if instance.OK() {
		s.number("device", "instance", "", instance, 1)
		var a attributes
		if c.Attributes != nil && c.Attributes(h, &a) == success {
			s.number("device", "multiprocessors", "", devices.Figure{N: int64(a.Multiprocessors)}, 1)
			s.number("device", "slices", "", devices.Figure{N: int64(a.Slices)}, 1)
		}
	}

	var u utilisation
	busy := figure(l, l.busyCall(), h)
	s.number("use", "busy", "%", busy, 1)
	memoryBusy := devices.Figure{Why: busy.Why}
	if busy.OK() && c.Utilisation(h, &u) == success {
		memoryBusy.N = int64(min(u.Memory, 100))
	}
	s.number("use", "memory busy", "%", memoryBusy, 1)
	first := func(call func(handle, *uint32, *uint32) result) func(handle, *uint32) result {
		if call == nil {
			return nil
		}
		return func(h handle, v *uint32) result { var period uint32; return call(h, v, &period) }
	}
	s.number("use", "encoder busy", "%", f32(first(c.Encoder)), 1)
	s.number("use", "decoder busy", "%", f32(first(c.Decoder)), 1)

	for _, x := range []struct {
		name string
		n    uint64
	}{{"total", m.Total}, {"used", m.Used}, {"free", m.Free}} {
		s.number("memory", x.name, "B", devices.Figure{N: plausible(x.n), Why: noMemory}, 1)
	}

	s.number("power", "power", "W", f32(c.Power), 1000)
	s.number("power", "cap", "W", f32(c.Cap), 1000)
	s.number("power", "cap in force", "W", f32(c.Enforced), 1000)
	s.number("power", "usual cap", "W", f32(c.CapUsual), 1000)
	least, most := l.bounds(h)
	s.number("power", "least cap", "W", least, 1000)
	s.number("power", "most cap", "W", most, 1000)
	s.number("power", "energy since the driver was loaded", "J", figure(l, c.Energy, h), 1000)

	s.number("temperature", "temperature", "°C", f32(at(c.Temperature, 0)), 1)
	s.number("temperature", "slowed down from", "°C", f32(at(c.Threshold, 1)), 1)
	s.number("temperature", "shut down from", "°C", f32(at(c.Threshold, 0)), 1)
	s.number("temperature", "fan", "%", f32(c.FanSpeed), 1)

	for k, name := range clockNames {
		s.number("clocks", name, "MHz", f32(at(c.Clock, int32(k))), 1)
		s.number("clocks", name+", at most", "MHz", f32(at(c.MostClock, int32(k))), 1)
	}
	held := figure(l, c.HeldBack, h)
	s.list = append(s.list, account.GPUFigure{Section: "clocks", Name: "held back by", Why: held.Why,
		Text: heldBack(held)})

	l.errors(h, s)

	s.text("mode", "performance state", i32(c.State), states()...)
	s.text("mode", "compute mode", i32(c.ComputeMode), devices.ComputeModes...)
	s.text("mode", "display attached", i32(c.Display), "no", "yes")
	s.text("mode", "display in use", i32(c.DisplayActive), "no", "yes")
	s.text("mode", "divided", figure(l, first(c.Divided), h), "no", "yes")

	s.number("link", "generation", "", f32(c.LinkGeneration), 1)
	s.number("link", "most generation", "", f32(c.MostGeneration), 1)
	s.number("link", "width", "lanes", f32(c.LinkWidth), 1)
	s.number("link", "most width", "lanes", f32(c.MostWidth), 1)
	return s.list
}

func (s *sheet) said(section, name string, call func(handle, *byte, uint32) result, h handle) {
	x := account.GPUFigure{Section: section, Name: name, Why: notKnown}
	if call != nil {
		if x.Text = words(func(b *byte, n uint32) result { return call(h, b, n) }); x.Text != "" {
			x.Why = ""
		} else {
			x.Why = "it is not told"
		}
	}
	s.list = append(s.list, x)
}

// states are the names of the performance states: the fastest first.
func states() []string {
	names := make([]string, 16)
	for i := range names {
		names[i] = fmt.Sprintf("P%d", i)
	}
	names[0] += ", the fastest"
	return names
}

// bounds are between what the cap of power may be set.
func (l *Library) bounds(h handle) (least, most devices.Figure) {
	if l.calls.CapBounds == nil {
		return devices.Figure{Why: notKnown}, devices.Figure{Why: notKnown}
	}
	var lo, hi uint32
	if r := l.calls.CapBounds(h, &lo, &hi); r != success {
		return devices.Figure{Why: l.why(r)}, devices.Figure{Why: l.why(r)}
	}
	return devices.Figure{N: int64(lo)}, devices.Figure{N: int64(hi)}
}

// reasons are why clocks are held back, by the library's bits.
var reasons = [9]string{"having no work", "the clocks that were set", "its cap of power", "its hardware",
	"the GPU it is joined with", "heat", "heat, by its hardware", "its supply of power", "its display"}

// heldBack says by what clocks are held back.
func heldBack(bits devices.Figure) string {
	if !bits.OK() {
		return ""
	}
	var by []string
	for i, reason := range reasons {
		if bits.N&(1<<i) != 0 {
			by = append(by, reason)
		}
	}
	if bits.N>>len(reasons) != 0 {
		by = append(by, "something that has no name here")
	}
	if by == nil {
		return "nothing"
	}
	return strings.Join(by, ", ")
}

// errors asks for the errors of the memory, and for the pages that were retired for them.
func (l *Library) errors(h handle, s *sheet) {
	c := l.calls
	var mode func(handle, *int32) result
	if c.ECCMode != nil {
		mode = func(h handle, v *int32) result { var pending int32; return c.ECCMode(h, v, &pending) }
	}
	s.text("errors", "memory errors are corrected", figure(l, mode, h), "no", "yes")
	for kind, what := range [2]string{"corrected", "uncorrected"} {
		for since, when := range [2]string{"since the driver was loaded", "ever"} {
			call := func(h handle, v *uint64) result { return c.ECCErrors(h, int32(kind), int32(since), v) }
			f := devices.Figure{Why: notKnown}
			if c.ECCErrors != nil {
				f = figure(l, call, h)
			}
			s.number("errors", what+" errors of memory, "+when, "", f, 1)
		}
	}
	for cause, why := range [2]string{"corrected errors", "uncorrected errors"} {
		f := devices.Figure{Why: notKnown}
		if c.RetiredPages != nil {
			f = figure(l, func(h handle, n *uint32) result {
				*n = 0
				if r := c.RetiredPages(h, int32(cause), n, nil); r != tooSmall {
					return r
				}
				return success // what is asked for is how many there are
			}, h)
		}
		s.number("errors", "pages retired for "+why, "", f, 1)
	}
}
