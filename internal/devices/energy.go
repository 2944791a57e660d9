package devices

import (
	"path/filepath"
	"slices"
	"strings"

	"vinescale/core/account"
)

// meter is where one meter of energy is read.
type meter struct {
	name  string
	file  string
	power bool // the file tells microwatts, not microjoules
	whole bool // it meters the whole host
	span  int64
}

// Meters reads the host's meters of energy: the zones of the kernel's "Power Capping Framework", and power meters of
// ACPI. Zones that are within others, and second ways to the same, are left out. The reason says why there are none,
// or cannot be read.
func (h *Host) Meters(dst []account.Meter) (meters []account.Meter, reason string) {
	dst = dst[:0]
	if len(h.meters) == 0 {
		if h.FindMeters(); len(h.meters) == 0 {
			return dst, h.reason
		}
	}
	for _, m := range h.meters {
		n, err := number(m.file)
		if err != nil || n < 0 {
			if err == nil {
				err = errGarbage
			}
			return dst[:0], "the energy of " + m.name + " cannot be read: " + whyNot(err)
		}
		a := account.Meter{Name: m.name, Whole: m.whole, MicroJoules: n, Range: m.span}
		if m.power {
			a.MicroJoules, a.IsPower, a.MicroWatts = 0, true, n
		}
		dst = append(dst, a)
	}
	return dst, ""
}

// NoMeter is why a host has no figures of energy.
const NoMeter = "this host has no meter of energy: neither zones that the kernel can cap nor a power meter"

// FindMeters looks for meters again. It is called now and then: they seldom change.
func (h *Host) FindMeters() {
	h.meters, h.reason = h.meters[:0], NoMeter
	zones := h.zones()
	named := map[string]bool{}
	for _, z := range zones {
		name := z.title
		if z.within != "" {
			if z.title != "dram" { // memory is metered beside its package, all else within it
				continue
			}
			name = "dram of " + z.within
		}
		if named[name] {
			continue // another way to the same registers
		}
		named[name] = true
		h.meters = append(h.meters, meter{name: name, file: filepath.Join(z.dir, "energy_uj"), span: z.span,
			whole: z.title == "psys"})
	}
	for _, chip := range h.chips() {
		if chip.name != "power_meter" {
			continue
		}
		for _, dir := range chip.dirs {
			if file := filepath.Join(dir, "power1_average"); text(file) != "" {
				h.meters = append(h.meters, meter{name: "power meter", file: file, power: true, whole: true})
				break
			}
		}
	}
	// What meters the whole host has all others in it. Of two such, one that counts is better than one that samples.
	best := slices.IndexFunc(h.meters, func(m meter) bool { return m.whole && !m.power })
	if best < 0 {
		best = slices.IndexFunc(h.meters, func(m meter) bool { return m.whole })
	}
	if best >= 0 {
		h.meters = []meter{h.meters[best]}
	}
}

// zone is a zone of the power capping framework.
type zone struct {
	dir    string
	title  string // package-0, dram, core, psys
	within string // the title of the zone around it
	span   int64  // microjoules at which its counter begins again
}

// zones lists the zones, in order of their names.
func (h *Host) zones() (zones []zone) {
	root := filepath.Join(h.sys, "class/powercap")
	titles := map[string]string{}
	names := below(root)
	slices.SortFunc(names, func(a, b string) int { // registers of the processor before the same ones by memory
		if x, y := strings.Contains(a, "-mmio"), strings.Contains(b, "-mmio"); x != y {
			return map[bool]int{true: 1, false: -1}[x]
		}
		return strings.Compare(a, b)
	})
	for _, name := range names {
		dir := filepath.Join(root, name)
		title := text(filepath.Join(dir, "name"))
		if title == "" || !strings.Contains(name, ":") { // the control type itself
			continue
		}
		titles[name] = title
		z := zone{dir: dir, title: title}
		if i := strings.LastIndexByte(name, ':'); strings.Count(name, ":") > 1 {
			z.within = titles[name[:i]]
		}
		z.span, _ = number(filepath.Join(dir, "max_energy_range_uj"))
		zones = append(zones, z)
	}
	return zones
}
