package devices

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vinescale/core/account"
)

// chip is a chip that the kernel's "hwmon" interface shows.
type chip struct {
	name   string
	device string   // what it is part of
	real   string   // where it is in the tree of devices
	dirs   []string // in which its files may lie
}

func (h *Host) chips() (chips []chip) {
	root := filepath.Join(h.sys, "class/hwmon")
	for _, name := range numbered(root, "hwmon") {
		dir := filepath.Join(root, name)
		c := chip{name: text(filepath.Join(dir, "name")), real: resolved(dir),
			dirs: []string{dir, filepath.Join(dir, "device")}}
		if c.name == "" {
			c.name = text(filepath.Join(dir, "device/name"))
		}
		if device := resolved(filepath.Join(dir, "device")); device != "" {
			c.device = filepath.Base(device)
			if drives := below(filepath.Join(device, "block")); len(drives) > 0 {
				c.device = drives[0]
			}
		}
		chips = append(chips, c)
	}
	return chips
}

// quantity is what files of one form tell (the kernel's "Naming and data format standards for sysfs files").
type quantity struct {
	word string // that file names begin with, before a number
	kind string
	unit string
	per  float64 // of the file's units in one of ours
}

var quantities = []quantity{
	{"temp", account.Temperature, "°C", 1000}, {"fan", account.Fan, "rpm", 1}, {"in", account.Voltage, "V", 1000},
	{"curr", account.Current, "A", 1000}, {"power", account.Power, "W", 1e6}, {"energy", account.Energy, "J", 1e6},
	{"humidity", account.Humidity, "%", 1000}, {"intrusion", account.Intrusion, "", 1},
	{"freq", account.Clock, "Hz", 1},
}

// Sensors reads every sensor once, whatever number of files show it: chips, thermal zones, power supplies, and zones
// whose energy is metered. What cannot be read says why.
func (h *Host) Sensors() []account.Sensor {
	sensors := h.thermalZones()
	shown := map[string]bool{} // where what is listed already is in the tree of devices
	for _, class := range []string{"thermal", "power_supply"} {
		for _, name := range below(filepath.Join(h.sys, "class", class)) {
			if real := resolved(filepath.Join(h.sys, "class", class, name)); real != "" {
				shown[real] = true
			}
		}
	}
	sensors = append(sensors, h.supplies()...)
	for _, c := range h.chips() {
		within := false
		for dir := filepath.Dir(c.real); len(dir) > len(h.sys) && !within; dir = filepath.Dir(dir) {
			within = shown[dir]
		}
		if !within {
			sensors = append(sensors, c.sensors()...)
		}
	}
	for _, z := range h.zones() {
		s := account.Sensor{Chip: "powercap", Device: z.title, Name: "energy", Kind: account.Energy, Unit: "J"}
		if z.within != "" {
			s.Device = z.title + " of " + z.within
		}
		put(&s, filepath.Join(z.dir, "energy_uj"), 1e6)
		limit := func(file string, into **float64) {
			if n, err := number(filepath.Join(z.dir, file)); err == nil && n > 0 {
				w := float64(n) / 1e6
				*into = &w
			}
		}
		cap := account.Sensor{Chip: "powercap", Device: s.Device, Name: "cap", Kind: account.Power, Unit: "W"}
		limit("constraint_0_power_limit_uw", &cap.Value)
		var most *float64
		if limit("constraint_0_max_power_uw", &most); most != nil {
			cap.Says = fmt.Sprintf("of at most %g W", *most)
		}
		sensors = append(sensors, s)
		if cap.Value != nil {
			sensors = append(sensors, cap)
		}
	}
	sensors = append(sensors, h.gpus.librarySensors()...)
	for i := range sensors {
		sensors[i].Judge()
	}
	return sensors
}

// put reads a sensor's value.
func put(s *account.Sensor, file string, per float64) {
	n, err := number(file)
	if err != nil {
		s.Why = whyNot(err)
		return
	}
	v := float64(n) / per
	s.Value = &v
}

// sensors lists what one chip tells.
func (c *chip) sensors() (list []account.Sensor) {
	seen := map[string]bool{}
	for _, dir := range c.dirs {
		names := below(dir)
		for _, q := range quantities {
			for _, sensor := range sensorsIn(names, q.word) {
				if !seen[sensor] {
					seen[sensor] = true
					list = append(list, c.sensor(dir, sensor, &q, names))
				}
			}
		}
	}
	return list
}

// sensorsIn finds the sensors of one quantity by the names of files, such as temp1_input, by their number.
func sensorsIn(names []string, word string) (found []string) {
	for _, name := range names {
		sensor, what, ok := strings.Cut(name, "_")
		n, is := strings.CutPrefix(sensor, word)
		value := what == "input" || what == "average" || word == "intrusion" && what == "alarm"
		if ok && is && isNumber(n) && value && !slices.Contains(found, sensor) {
			found = append(found, sensor)
		}
	}
	slices.SortFunc(found, func(a, b string) int {
		if len(a) != len(b) {
			return len(a) - len(b)
		}
		return strings.Compare(a, b)
	})
	return found
}

func (c *chip) sensor(dir, sensor string, q *quantity, names []string) account.Sensor {
	file := func(what string) string { return filepath.Join(dir, sensor+"_"+what) }
	s := account.Sensor{Chip: c.name, Device: c.device, Name: sensor, Kind: q.kind, Unit: q.unit}
	if label := text(file("label")); label != "" {
		s.Name = label
	}
	value := "input"
	switch {
	case q.kind == account.Intrusion:
		value = "alarm"
	case !slices.Contains(names, sensor+"_input"):
		value = "average"
	}
	put(&s, file(value), q.per)
	for _, x := range []struct {
		what string
		into **float64
	}{{"min", &s.Low}, {"lcrit", &s.LowCritical}, {"max", &s.High}, {"cap", &s.High}, {"crit", &s.Critical}} {
		n, err := number(file(x.what))
		if err != nil || *x.into != nil || n == 0 && x.what != "min" || implausible(q.kind, float64(n)/q.per) {
			continue
		}
		v := float64(n) / q.per
		*x.into = &v
	}
	if n, err := number(file("fault")); err == nil && n != 0 {
		s.Fault = true
	}
	if q.kind == account.Intrusion {
		return s
	}
	for _, what := range []string{"alarm", "crit_alarm", "max_alarm", "min_alarm", "lcrit_alarm"} {
		if n, err := number(file(what)); err == nil && n != 0 {
			s.Alarm = true
		}
	}
	return s
}

// implausible tells thresholds that drivers give where a chip has none: of a temperature 65 K above all that a part
// survives, and the like.
func implausible(kind string, v float64) bool {
	return kind == account.Temperature && (v > 250 || v < -200)
}

// thermalZones reads the kernel's "Generic Thermal Sysfs" zones, with their trip points.
func (h *Host) thermalZones() (list []account.Sensor) {
	root := filepath.Join(h.sys, "class/thermal")
	for _, name := range numbered(root, "thermal_zone") {
		dir := filepath.Join(root, name)
		s := account.Sensor{Chip: text(filepath.Join(dir, "type")), Device: name, Name: "temperature",
			Kind: account.Temperature, Unit: "°C"}
		put(&s, filepath.Join(dir, "temp"), 1000)
		for trip := 0; ; trip++ {
			kind := text(filepath.Join(dir, fmt.Sprintf("trip_point_%d_type", trip)))
			if kind == "" {
				break
			}
			n, err := number(filepath.Join(dir, fmt.Sprintf("trip_point_%d_temp", trip)))
			v := float64(n) / 1000
			if err != nil || n <= 0 || implausible(account.Temperature, v) {
				continue
			}
			switch {
			case kind == "critical":
				s.Critical = &v
			case s.High == nil || v < *s.High: // hot, passive, active: something is done from there on
				s.High = &v
			}
		}
		list = append(list, s)
	}
	return list
}

// supplies reads the kernel's "Power Supply Class": mains and batteries.
func (h *Host) supplies() (list []account.Sensor) {
	root := filepath.Join(h.sys, "class/power_supply")
	for _, name := range below(root) {
		dir := filepath.Join(root, name)
		kind := strings.ToLower(text(filepath.Join(dir, "type")))
		for _, q := range []struct {
			file, name, kind, unit string
			per                    float64
		}{
			{"online", "online", account.Supply, "", 1}, {"capacity", "charge", account.Charge, "%", 1},
			{"voltage_now", "voltage", account.Voltage, "V", 1e6},
			{"current_now", "current", account.Current, "A", 1e6},
			{"power_now", "power", account.Power, "W", 1e6}, {"energy_now", "energy", account.Energy, "J", 1e6 / 3600},
			{"temp", "temperature", account.Temperature, "°C", 10},
		} {
			file := filepath.Join(dir, q.file)
			if _, err := os.Stat(file); err != nil {
				continue
			}
			s := account.Sensor{Chip: kind, Device: name, Name: q.name, Kind: q.kind, Unit: q.unit}
			put(&s, file, q.per)
			if status := text(filepath.Join(dir, "status")); q.kind == account.Charge {
				s.Says = strings.ToLower(status)
			}
			list = append(list, s)
		}
	}
	return list
}
