package stage

import (
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"
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

// powerOf is how the hosts of the cooperative are metered: differently, and one not at all.
func powerOf(name string) power {
	switch name {
	case "press-1":
		return power{packages: 2, memory: true, rest: 96e6, busy: 7e6, declared: true, failedFan: true}
	case "terrace-1":
		return power{packages: 1, rest: 70e6, busy: 6e6, declared: true}
	case "cellar-1":
		return power{meter: true, rest: 110e6, busy: 9e6, declared: true}
	}
	if name == "terrace-2" {
		return power{} // a virtual machine
	}
	// The others, each differently: with one package or two, or by a meter of all.
	n := int64(len(name)) + int64(name[len(name)-1])
	p := power{rest: 60e6 + n%5*9e6, busy: 5e6 + n%3*1e6, declared: n%2 == 0}
	if n%3 == 0 {
		p.meter = true
	} else {
		p.packages, p.memory = int(n%3), n%4 == 1
	}
	return p
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

// renderMachine writes what the firmware, the kernel and the system say of the machine: each host other things. The one
// of no meter is a virtual machine, whose firmware states little.
func (h *Host) renderMachine(w *writer, t Tree) {
	dmi := func(file, content string) { w.file(filepath.Join(t.Sys(), "class/dmi/id", file), content+"\n") }
	model, flags := "Cooper Grape 7", "fpu vmx aes avx2 avx512f constant_tsc nx smep smap"
	if h.power.packages == 0 && !h.power.meter {
		dmi("sys_vendor", "QEMU")
		dmi("product_name", "To Be Filled By O.E.M.")
		model, flags = "Cooper Grape 7 (virtual)", "fpu aes avx2 hypervisor constant_tsc nx"
	} else {
		dmi("sys_vendor", "Cooper")
		dmi("product_name", map[bool]string{true: "Cask 24", false: "Cask 16"}[h.CPUs == 24])
		dmi("bios_vendor", "Cooper")
		dmi("bios_version", "2.14")
		dmi("bios_date", "03/11/2025")
		dmi("chassis_type", "23")
		w.file(filepath.Join(t.Sys(), "firmware/dmi/tables/DMI"), string(h.memoryTables()))
	}
	w.file(filepath.Join(t.Etc(), "os-release"), "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\n")
	w.file(filepath.Join(t.Proc(), "sys/kernel/osrelease"), "6.12.48-amd64\n")
	w.file(filepath.Join(t.Proc(), "sys/kernel/arch"), "x86_64\n")
	var cpus strings.Builder
	for c := range h.CPUs {
		fmt.Fprintf(&cpus, "processor\t: %d\nmodel name\t: %s\ncpu MHz\t\t: %d.000\nflags\t\t: %s\n\n", c, model,
			2400+c%3*300, flags)
	}
	w.file(filepath.Join(t.Proc(), "cpuinfo"), cpus.String())
	for i, cache := range []string{"1 Data 48K 0", "1 Instruction 32K 0", "2 Unified 2048K 0",
		"3 Unified 36864K 0-11"} {
		words := strings.Fields(cache)
		for k, file := range []string{"level", "type", "size", "shared_cpu_list"} {
			w.file(filepath.Join(t.Sys(), "devices/system/cpu/cpu0/cache", fmt.Sprint("index", i), file), words[k]+"\n")
		}
	}
	for _, unit := range []string{"ssh.service", "time-keeper.service", "label-spool.service"} {
		w.file(filepath.Join(t.Etc(), "systemd/system/multi-user.target.wants", unit), "")
	}
	w.file(filepath.Join(t.Etc(), "systemd/system/timers.target.wants/rack-check.timer"), "")
	w.file(filepath.Join(t.Etc(), "cron.d/ledger"), "15 3 * * * root /usr/local/bin/close-the-day\n")
}

// memoryTables are the firmware's tables (SMBIOS, "Memory Device") of eight slots for memory, of which half are filled.
func (h *Host) memoryTables() (tables []byte) {
	each := uint16(h.MemoryBytes / 4 >> 20)
	for slot := range 8 {
		formatted := make([]byte, 0x22-4)
		texts := fmt.Sprintf("DIMM %c%d\x00Cooper\x00CM-4800\x00\x00", 'A'+slot%4, slot/4+1)
		if slot < 4 {
			binary.LittleEndian.PutUint16(formatted[0x0C-4:], each)
			binary.LittleEndian.PutUint16(formatted[0x15-4:], 4800) // megatransfers a second
			binary.LittleEndian.PutUint16(formatted[0x20-4:], 4400) // as it is set up
			formatted[0x12-4] = 0x22                                // DDR5
		}
		formatted[0x0E-4], formatted[0x10-4], formatted[0x17-4], formatted[0x1A-4] = 9, 1, 2, 3
		tables = append(tables, 17, byte(len(formatted)+4), byte(slot), 0x11)
		tables = append(append(tables, formatted...), texts...)
	}
	return append(tables, 127, 4, 0, 0x7F, 0, 0)
}

// Links are the host's interfaces with their addresses.
func (h *Host) Links() []account.MachineLink {
	n := byte(0)
	for _, c := range []byte(h.Name) {
		n = n*31 + c
	}
	return []account.MachineLink{{Name: LinkName, Addresses: []string{fmt.Sprintf("192.0.2.%d/24", 10+n%200)},
		Mbit: h.LinkMbit, State: "up", Hardware: fmt.Sprintf("02:00:5e:00:53:%02x", n)}}
}

// Units are those that failed, and those that are stuck: of the host whose fan did, one that watches it.
func (h *Host) Units() (failed []string, stuck []account.Unit, err error) {
	if h.power.failedFan {
		return []string{"rack-check.service"}, nil, nil
	}
	return nil, nil, nil
}

// RenderSensors writes the files of meters and sensors alone, which is less than all of Render.
func (h *Host) RenderSensors(t Tree) error {
	w := &writer{}
	h.renderDevices(w, t)
	return w.err
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
	if p.packages == 0 && !p.meter { // what the machine shows that it is emulated by
		zone := filepath.Join(t.Sys(), "class/thermal/thermal_zone0")
		for file, content := range map[string]string{"type": "acpitz", "temp": "27800", "trip_point_0_type": "critical",
			"trip_point_0_temp": "105000"} {
			w.file(filepath.Join(zone, file), content+"\n")
		}
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
