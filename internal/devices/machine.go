package devices

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/siderolabs/go-smbios/smbios"

	"vinescale/core/account"
	"vinescale/core/cpuset"
)

// Trees are where a machine's files lie.
type Trees struct{ Proc, Sys, Etc string }

// Machine reads what a host is made of: by its firmware, its processor, its system, and what begins by itself. It takes
// some milliseconds, and is not to be read at every reading. What is not stated, and what may not be read, is told
// apart. Links, and what failed, are asked elsewhere.
func Machine(t Trees, places []account.CPUPlace) *account.Machine {
	m := &machine{Trees: t, Machine: &account.Machine{Facts: []account.MachineFact{}, Modules: []account.MemoryModule{},
		Links: []account.MachineLink{}, Failed: []string{}, Starts: []account.Start{}}}
	m.readFirmware()
	m.readSystem()
	m.readProcessors(places)
	m.readModules()
	m.readUnits()
	m.readRunLevels()
	m.readTimed()
	slices.SortStableFunc(m.Starts, func(a, b account.Start) int {
		return strings.Compare(a.Kind+"\x00"+a.Name, b.Kind+"\x00"+b.Name)
	})
	return m.Machine
}

type machine struct {
	Trees
	*account.Machine
}

// put adds a fact; where there is no text, why.
func (m *machine) put(what, text string, err error) {
	f := account.MachineFact{What: what, Text: strings.Join(strings.Fields(text), " ")}
	if f.Text == "" {
		f.Why = notKnown(err)
	}
	m.Facts = append(m.Facts, f)
}

// notKnown tells what is not stated from what may not be read.
func notKnown(err error) string {
	if errors.Is(err, os.ErrPermission) {
		return whyNot(err)
	}
	return account.NotStated
}

// placeholders are what makers leave where they state nothing.
var placeholders = []string{"to be filled", "default string", "not specified", "system product name", "o.e.m", "none",
	"unknown", "not applicable", "system manufacturer", "system version", "0123456789", "n/a"}

// stated is a text of the firmware; "" where it says nothing.
func stated(s string) string {
	low := strings.ToLower(s)
	for _, p := range placeholders {
		if low == p || len(p) > 5 && strings.Contains(low, p) {
			return ""
		}
	}
	return s
}

// readFirmware reads what the firmware says of the machine (the kernel's /sys/class/dmi).
func (m *machine) readFirmware() {
	first := func(files ...string) (texts []string, err error) {
		for _, f := range files {
			s, failed := read(filepath.Join(m.Sys, "class/dmi/id", f))
			if s = stated(s); s != "" {
				texts = append(texts, s)
			}
			err = errors.Join(err, failed)
		}
		return texts, err
	}
	for _, x := range []struct {
		what  string
		files []string
	}{
		{"vendor", []string{"sys_vendor"}}, {"model", []string{"product_name", "product_version"}},
		{"board", []string{"board_vendor", "board_name", "board_version"}},
		{"firmware", []string{"bios_vendor", "bios_version", "bios_date"}},
	} {
		texts, err := first(x.files...)
		m.put(x.what, strings.Join(texts, " "), err)
	}
	kind, err := read(filepath.Join(m.Sys, "class/dmi/id/chassis_type"))
	m.put("enclosure", chassis[kind], err)
}

// chassis are enclosures by number (SMBIOS, "System Enclosure or Chassis Types"): those that are met.
var chassis = map[string]string{"3": "desktop", "4": "low profile desktop", "6": "mini tower", "7": "tower",
	"8": "portable", "9": "laptop", "10": "notebook", "13": "all in one", "17": "main server chassis",
	"23": "rack mount", "25": "multi-system chassis", "28": "blade", "29": "blade enclosure", "30": "tablet",
	"31": "convertible", "34": "embedded", "35": "mini PC"}

func (m *machine) readSystem() {
	release, err := os.ReadFile(filepath.Join(m.Etc, "os-release"))
	m.put("system", assigned(release, "PRETTY_NAME"), err)
	kernel, err := read(filepath.Join(m.Proc, "sys/kernel/osrelease"))
	if arch := text(filepath.Join(m.Proc, "sys/kernel/arch")); arch != "" && kernel != "" {
		kernel += ", " + arch
	}
	m.put("kernel", kernel, err)
	stat, err := os.ReadFile(filepath.Join(m.Proc, "stat"))
	up := ""
	for line := range strings.Lines(string(stat)) {
		if s, ok := strings.CutPrefix(strings.TrimSpace(line), "btime "); ok {
			if n, failed := strconv.ParseInt(s, 10, 64); failed == nil && n > 0 && n < 1<<35 {
				up = time.Unix(n, 0).UTC().Format(time.RFC3339)
			}
		}
	}
	m.put("up since", up, err)
}

// assigned is the value of a variable in a file of assignments, as os-release(5) has them.
func assigned(content []byte, name string) string {
	for line := range strings.Lines(string(content)) {
		if v, ok := strings.CutPrefix(strings.TrimSpace(line), name+"="); ok {
			return strings.ToValidUTF8(strings.Trim(v, `"'`), "\uFFFD")
		}
	}
	return ""
}

// matter are flags of processors that say what a machine is good for.
var matter = []string{"vmx", "svm", "hypervisor", "aes", "sha_ni", "avx", "avx2", "avx512f", "avx512_vnni", "amx_tile",
	"asimd", "sve", "sve2", "constant_tsc", "nonstop_tsc", "nx", "smep", "smap", "sme", "sev", "tdx_guest"}

func (m *machine) readProcessors(places []account.CPUPlace) {
	raw, err := os.ReadFile(filepath.Join(m.Proc, "cpuinfo"))
	fields := map[string][]string{} // without what was said before
	for line := range strings.Lines(string(raw)) {
		name, value, ok := strings.Cut(line, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if ok && !slices.Contains(fields[name], value) {
			fields[name] = append(fields[name], value)
		}
	}
	model := strings.Join(fields["model name"], "; ")
	if model == "" && len(fields["CPU part"]) > 0 {
		model = "implementer " + strings.Join(fields["CPU implementer"], ", ") + ", part " +
			strings.Join(fields["CPU part"], ", ")
	}
	m.put("processor", strings.ToValidUTF8(model, "\uFFFD"), err)
	m.put("processors", layout(places), nil)
	m.put("clocks", clocks(places, fields["cpu MHz"]), err)
	m.put("caches", m.caches(), nil)
	var flags []string
	has := strings.Fields(strings.Join(append(fields["flags"], fields["Features"]...), " "))
	for _, f := range matter {
		if slices.Contains(has, f) {
			flags = append(flags, f)
		}
	}
	m.put("flags", strings.Join(flags, " "), err)
}

// layout is how logical CPUs are packed.
func layout(places []account.CPUPlace) string {
	packages, cores, nodes := map[int]bool{}, map[[2]int]bool{}, map[int]bool{}
	for _, p := range places {
		packages[p.Package], cores[[2]int{p.Package, p.Core}], nodes[p.Node] = true, true, true
	}
	if len(places) == 0 {
		return ""
	}
	each := strconv.FormatFloat(float64(len(places))/float64(len(cores)), 'g', 3, 64)
	return fmt.Sprintf("%s, %s, %s (%s a core), %s", many(len(packages), "package"), many(len(cores), "core"),
		many(len(places), "CPU"), each, many(len(nodes), "node"))
}

func many(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprint(n, " ", what)
}

func clocks(places []account.CPUPlace, now []string) string {
	most := 0
	for _, p := range places {
		most = max(most, p.MostKHz)
	}
	least, highest := 0.0, 0.0
	for _, s := range now {
		if mhz, err := strconv.ParseFloat(s, 64); err == nil && mhz > 0 && mhz < 1e6 {
			if least == 0 || mhz < least {
				least = mhz
			}
			highest = max(highest, mhz)
		}
	}
	var parts []string
	switch {
	case highest == 0:
	case highest-least < 1:
		parts = append(parts, fmt.Sprintf("%.0f MHz now", highest))
	default:
		parts = append(parts, fmt.Sprintf("%.0f to %.0f MHz now", least, highest))
	}
	if most > 0 {
		parts = append(parts, fmt.Sprintf("%.0f MHz at most", float64(most)/1000))
	}
	return strings.Join(parts, ", ")
}

// caches are those of the first CPU (the kernel's "CPU cache" files).
func (m *machine) caches() string {
	var parts []string
	root := filepath.Join(m.Sys, "devices/system/cpu/cpu0/cache")
	for _, index := range numbered(root, "index") {
		file := func(name string) string { return text(filepath.Join(root, index, name)) }
		level, size := file("level"), file("size")
		if level == "" || size == "" {
			continue
		}
		part := "L" + level
		if kind := strings.ToLower(file("type")); kind != "" && kind != "unified" {
			part += " " + kind
		}
		part += " " + cacheSize(size)
		if shared, err := cpuset.Parse(file("shared_cpu_list")); err == nil && shared.Len() > 1 {
			part += fmt.Sprintf(" for %d CPUs", shared.Len())
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}

// cacheSize is a size of a cache for people: the kernel tells KiB, whatever their number.
func cacheSize(size string) string {
	n, err := strconv.Atoi(strings.TrimSuffix(size, "K"))
	switch {
	case err != nil:
		return strings.Replace(size, "M", " MiB", 1)
	case n >= 1024 && n%256 == 0:
		return strconv.FormatFloat(float64(n)/1024, 'f', -1, 64) + " MiB"
	}
	return strconv.Itoa(n) + " KiB"
}

// memoryTypes and memoryForms are those that are met, by number (SMBIOS, "Memory Device - Type" and "- Form Factor").
var (
	memoryTypes = map[uint8]string{0x07: "RAM", 0x0F: "SDRAM", 0x12: "DDR", 0x13: "DDR2", 0x18: "DDR3", 0x1A: "DDR4",
		0x1B: "LPDDR", 0x1C: "LPDDR2", 0x1D: "LPDDR3", 0x1E: "LPDDR4", 0x1F: "logical non-volatile", 0x20: "HBM",
		0x21: "HBM2", 0x22: "DDR5", 0x23: "LPDDR5", 0x24: "HBM3"}
	memoryForms = map[uint8]string{0x03: "SIMM", 0x05: "chip", 0x09: "DIMM", 0x0B: "row of chips", 0x0C: "RIMM",
		0x0D: "SODIMM", 0x0F: "FB-DIMM", 0x10: "die", 0x11: "CAMM"}
)

// readModules reads the slots for memory from the firmware's tables, which root alone may read.
func (m *machine) readModules() {
	raw, err := os.ReadFile(filepath.Join(m.Sys, "firmware/dmi/tables/DMI"))
	if err != nil {
		m.NoModules = notKnown(err)
		return
	}
	tables, err := decodeTables(raw)
	if err != nil {
		m.NoModules = "the firmware's tables are damaged: " + err.Error()
		return
	}
	const memoryDevice = 17
	for _, raw := range tables.Structures {
		if raw.Header.Type != memoryDevice {
			continue
		}
		d := smbios.NewMemoryDevice(raw)
		slot := account.MemoryModule{Slot: firstOf(stated(d.DeviceLocator), stated(d.BankLocator)),
			SizeBytes: int64(d.Size.Megabytes()) << 20}
		switch d.Size {
		case 0xFFFF:
			slot.SizeBytes = 0
		case 0x7FFF: // the field is too small: it stands in another
			slot.SizeBytes = int64(smbios.GetDWord(raw, 0x1C)&0x7FFFFFFF) << 20
		}
		if slot.SizeBytes > 0 {
			slot.Type, slot.Form = memoryTypes[uint8(d.MemoryType)], memoryForms[uint8(d.FormFactor)]
			slot.Maker, slot.Part = stated(strings.TrimSpace(d.Manufacturer)), stated(strings.TrimSpace(d.PartNumber))
			slot.MostTransfers, slot.MegaTransfers = int(d.Speed), int(d.ConfiguredMemorySpeed)
		}
		m.Modules = append(m.Modules, slot)
	}
	if len(m.Modules) == 0 {
		m.NoModules = account.NotStated
	}
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// decodeTables reads SMBIOS tables. Whatever they hold, it ends with them or an error.
func decodeTables(raw []byte) (tables *smbios.SMBIOS, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return smbios.Decode(bytes.NewReader(raw), smbios.Version{Major: 3})
}

// readUnits finds the units that an init system begins by itself: those that others want or need.
func (m *machine) readUnits() {
	root := filepath.Join(m.Etc, "systemd/system")
	by := map[string][]string{}
	for _, dir := range below(root) {
		whose, wanted := strings.CutSuffix(dir, ".wants")
		if !wanted {
			if whose, wanted = strings.CutSuffix(dir, ".requires"); !wanted {
				continue
			}
		}
		for _, unit := range below(filepath.Join(root, dir)) {
			by[unit] = append(by[unit], strings.TrimSuffix(whose, ".target"))
		}
	}
	for unit, whose := range by {
		kind := strings.TrimPrefix(filepath.Ext(unit), ".")
		if kind == "" {
			kind = "unit"
		}
		slices.Sort(whose)
		m.Starts = append(m.Starts, account.Start{Name: unit, Kind: kind, When: strings.Join(whose, ", ")})
	}
}

// readRunLevels finds start-up entries of run levels.
func (m *machine) readRunLevels() {
	levels := map[string][]string{}
	for _, level := range []string{"2", "3", "4", "5", "S"} {
		for _, entry := range below(filepath.Join(m.Etc, "rc"+level+".d")) {
			if len(entry) > 3 && entry[0] == 'S' && isNumber(entry[1:3]) {
				levels[entry[3:]] = append(levels[entry[3:]], level)
			}
		}
	}
	for name, at := range levels {
		m.Starts = append(m.Starts, account.Start{Name: name, Kind: "start-up entry",
			When: "run level " + strings.Join(at, ", ")})
	}
	if text(filepath.Join(m.Etc, "rc.local")) != "" {
		m.Starts = append(m.Starts, account.Start{Name: "rc.local", Kind: "start-up entry",
			When: "at the end of start-up"})
	}
}

// readTimed finds commands that run at times: of a line no more than its times and its program is told.
func (m *machine) readTimed() {
	const kind = "timed command"
	for _, often := range []string{"hourly", "daily", "weekly", "monthly"} {
		for _, name := range below(filepath.Join(m.Etc, "cron."+often)) {
			if !strings.HasPrefix(name, ".") {
				m.Starts = append(m.Starts, account.Start{Name: name, Kind: kind, When: often})
			}
		}
	}
	files := []string{"crontab"}
	for _, name := range below(filepath.Join(m.Etc, "cron.d")) {
		if !strings.HasPrefix(name, ".") {
			files = append(files, "cron.d/"+name)
		}
	}
	for _, file := range files {
		raw, err := os.ReadFile(filepath.Join(m.Etc, file))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(raw)) {
			if when, user, program, ok := timed(strings.ToValidUTF8(line, "\uFFFD")); ok {
				m.Starts = append(m.Starts, account.Start{Name: program, Kind: kind,
					When: when + " as " + user + ", by " + file})
			}
		}
	}
}

// timed reads a line of a system's table of timed commands (crontab(5)).
func timed(line string) (when, user, program string, ok bool) {
	words := strings.Fields(line)
	if len(words) == 0 || strings.HasPrefix(words[0], "#") {
		return "", "", "", false
	}
	times := 5
	if strings.HasPrefix(words[0], "@") {
		times = 1
	}
	if len(words) < times+2 || strings.Contains(words[0], "=") {
		return "", "", "", false
	}
	return strings.Join(words[:times], " "), words[times], filepath.Base(words[times+1]), true
}
