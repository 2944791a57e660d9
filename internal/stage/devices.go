package stage

import (
	"fmt"
	"path/filepath"
	"time"

	"vinescale/core/account"
)

// power is what meters of a staged host tell, and what its packages draw: so much at rest, and so much more for each
// CPU that is busy.
type power struct {
	packages  int  // with a counter each; 0 for none
	memory    bool // beside them
	meter     bool // the power of the whole host
	rest      int64
	busy      int64 // microwatts of a busy CPU
	declared  bool  // its administrator told what it draws at rest
	joules    []int64
	draws     int64 // microwatts now
	worked    int64 // CPU time until now, in microseconds
	failedFan bool
}

// rangeOf is where counters of energy begin again, in microjoules.
const rangeOf = 262_143_328_850

// powerOf is how the hosts of the cooperative are metered: three differently, one not at all.
func powerOf(name string) power {
	switch name {
	case "press-1":
		return power{packages: 2, memory: true, rest: 96e6, busy: 7e6, declared: true, failedFan: true}
	case "terrace-1":
		return power{packages: 1, rest: 70e6, busy: 6e6, declared: true}
	case "cellar-1":
		return power{meter: true, rest: 110e6, busy: 9e6, declared: true}
	}
	return power{}
}

// IdleMicroWatts is what the administrator declared the host draws at rest; 0 for not declared.
func (h *Host) IdleMicroWatts() int64 {
	if h.power.declared {
		return h.power.rest
	}
	return 0
}

// draw lets the host draw what it did for some time: after its CPUs have worked.
func (h *Host) draw(dt time.Duration) {
	p := &h.power
	worked := int64(0)
	for c := range h.CPUs {
		worked += h.user[c] + h.kernel[c]
	}
	busy := worked - p.worked
	p.worked = worked
	if p.packages == 0 && !p.meter || dt <= 0 {
		return
	}
	micro := p.rest/1000*dt.Microseconds()/1000 + p.busy/1000*busy/1000
	p.draws = int64(float64(micro) / dt.Seconds())
	if len(p.joules) == 0 {
		p.joules = make([]int64, p.packages+1)
	}
	if p.memory {
		p.joules[p.packages] += micro / 10
		micro -= micro / 10
	}
	for i := range p.packages {
		part := micro / int64(p.packages-i)
		p.joules[i] += part
		micro -= part
	}
}

// meters is what the meters tell, as the reader is to read it.
func (h *Host) meters() (list []account.Meter) {
	p := &h.power
	if p.meter {
		return []account.Meter{{Name: "power meter", Whole: true, IsPower: true, MicroWatts: p.draws}}
	}
	for i := range p.packages {
		list = append(list, account.Meter{Name: fmt.Sprint("package-", i), MicroJoules: p.counter(i), Range: rangeOf})
		if p.memory && i == 0 {
			list = append(list, account.Meter{Name: "dram of package-0", MicroJoules: p.counter(p.packages),
				Range: rangeOf})
		}
	}
	return list
}

func (p *power) counter(i int) int64 {
	if i < len(p.joules) {
		return p.joules[i] % rangeOf
	}
	return 0
}

// renderDevices writes the files of meters and sensors.
func (h *Host) renderDevices(w *writer, t Tree) {
	p := &h.power
	zone := func(name, title string, joules int64) {
		dir := filepath.Join(t.Sys(), "class/powercap", name)
		w.file(filepath.Join(dir, "name"), title+"\n")
		w.file(filepath.Join(dir, "energy_uj"), fmt.Sprintf("%d\n", joules))
		w.file(filepath.Join(dir, "max_energy_range_uj"), fmt.Sprintf("%d\n", int64(rangeOf)))
	}
	for i := range p.packages {
		name := fmt.Sprintf("intel-rapl:%d", i)
		zone(name, fmt.Sprint("package-", i), p.counter(i))
		zone(name+":0", "core", p.counter(i)*2/3) // which is within its package
		w.file(filepath.Join(t.Sys(), "class/powercap", name, "constraint_0_power_limit_uw"), "205000000\n")
		w.file(filepath.Join(t.Sys(), "class/powercap", name, "constraint_0_max_power_uw"), "205000000\n")
		if p.memory && i == 0 {
			zone(name+":1", "dram", p.counter(p.packages))
		}
	}
	chip := func(n int, name string, files map[string]int64) {
		dir := filepath.Join(t.Sys(), "class/hwmon", fmt.Sprint("hwmon", n))
		w.file(filepath.Join(dir, "name"), name+"\n")
		for file, value := range files {
			w.file(filepath.Join(dir, file), fmt.Sprintf("%d\n", value))
		}
	}
	if p.meter {
		chip(0, "power_meter", map[string]int64{"power1_average": p.draws, "power1_cap": 450e6})
	}
	if p.packages == 0 && !p.meter {
		return
	}
	busy := float64(p.draws-p.rest) / float64(p.busy*int64(h.CPUs)) // 0 to 1
	milli := func(at, more float64) int64 { return int64((at + more*max(busy, 0)) * 1000) }
	for i := range max(p.packages, 1) {
		n := 1 + i
		chip(n, "coretemp", map[string]int64{"temp1_input": milli(38+float64(i), 42), "temp1_max": 84_000,
			"temp1_crit": 100_000, "temp2_input": milli(36+float64(i), 40), "temp3_input": milli(35, 44)})
		w.file(filepath.Join(t.Sys(), "class/hwmon", fmt.Sprint("hwmon", n), "temp1_label"),
			fmt.Sprintf("Package id %d\n", i))
		for core := range 2 {
			w.file(filepath.Join(t.Sys(), "class/hwmon", fmt.Sprint("hwmon", n), fmt.Sprintf("temp%d_label", core+2)),
				fmt.Sprintf("Core %d\n", core))
		}
	}
	chip(4, "nvme", map[string]int64{"temp1_input": milli(33, 12), "temp1_max": 69_850, "temp1_crit": 79_850})
	w.file(filepath.Join(t.Sys(), "class/hwmon/hwmon4/temp1_label"), "Composite\n")
	fans := map[string]int64{"fan1_input": 4200 + int64(3000*max(busy, 0)), "fan1_min": 1000,
		"fan2_input": 4150 + int64(3000*max(busy, 0)), "fan2_min": 1000,
		"in0_input": 12_060, "in0_min": 11_400, "in0_max": 12_600, "in1_input": 5_020, "in1_min": 4_750,
		"in1_max": 5_250, "temp1_input": milli(27, 4), "temp1_max": 45_000}
	if p.failedFan {
		fans["fan2_input"], fans["fan2_fault"] = 0, 1
	}
	chip(5, "board", fans)
	for file, label := range map[string]string{"fan1_label": "front fan", "fan2_label": "rear fan",
		"in0_label": "12 V", "in1_label": "5 V", "temp1_label": "inlet"} {
		w.file(filepath.Join(t.Sys(), "class/hwmon/hwmon5", file), label+"\n")
	}
	for i, supply := range []string{"PSU1", "PSU2"} {
		dir := filepath.Join(t.Sys(), "class/power_supply", supply)
		w.file(filepath.Join(dir, "type"), "Mains\n")
		w.file(filepath.Join(dir, "online"), fmt.Sprintf("%d\n", 1-i*map[bool]int{true: 1}[h.Name == "cellar-1"]))
	}
}
