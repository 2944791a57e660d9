package devices

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// gpus is what is known of the host's GPUs.
type gpus struct {
	drm     drmClients
	library Library
	answer  *LibraryAnswer // the last
	cards   []card
	chips   map[string]string // of their sensors, by their addresses
	tells   []bool            // by cards: clients of its driver tell how long its engines work
	looked  bool
	gone    map[string]account.GPUSheet // by name: what was there once
	sheets  []account.GPUSheet          // as of the last reading
	numbers [][2]uint32                 // of nodes, by the last reading's GPUs; 0 where none is known
	metered []string                    // names of meters of GPUs
	readAt  time.Duration
	nodes   func(path string) (major, minor uint32)
	hidden  int
}

// ReadGPUs reads the host's GPUs, and who uses them, into a reading whose processes are there already.
func (h *Host) ReadGPUs(dst *account.Reading) {
	g := &h.gpus
	dst.GPUs, dst.GPUClients, dst.GPUGrants = dst.GPUs[:0], dst.GPUClients[:0], dst.GPUGrants[:0]
	before := g.sheets
	g.sheets, g.numbers = nil, g.numbers[:0]
	g.answer = nil
	if g.library != nil {
		g.answer = g.library.Ask()
	}
	if g.answer != nil {
		for i := range g.answer.GPUs {
			h.putLibraryGPU(dst, &g.answer.GPUs[i])
		}
	}
	h.readCards(dst)
	g.readAt = dst.Mono
	g.keepLost(before)
	h.putMeters(dst)
}

// putMeters adds the meters of GPUs to those of the host.
func (h *Host) putMeters(dst *account.Reading) {
	g := &h.gpus
	had := len(dst.Meters)
	for i := range dst.GPUs {
		x := &dst.GPUs[i]
		m := account.Meter{Name: "GPU " + x.Name, GPU: x.Name}
		if x.Source == amount.Reported {
			told := g.told(x.Name)
			switch {
			case told == nil || x.Card != "":
				continue
			case told.MicroJoules.OK():
				m.MicroJoules = told.MicroJoules.N
			case told.MicroWatts.OK():
				m.IsPower, m.MicroWatts = true, told.MicroWatts.N
			default:
				continue
			}
		} else if !h.meterOf(g.sheets[i].Bus, &m) {
			continue
		}
		dst.Meters = append(dst.Meters, m)
	}
	g.metered = g.metered[:0]
	for i := range dst.Meters[had:] {
		g.metered = append(g.metered, dst.Meters[had+i].Name)
	}
	if had == 0 && len(dst.Meters) > 0 {
		dst.Unavailable[amount.Energy] = ""
	}
}

// GPUMeters names the meters of GPUs, as of the last reading.
func (h *Host) GPUMeters() []string { return h.gpus.metered }

// told is what the library tells of a GPU; nil for nothing.
func (g *gpus) told(name string) *LibraryGPU {
	if g.answer == nil {
		return nil
	}
	for i := range g.answer.GPUs {
		if x := &g.answer.GPUs[i]; x.UUID == name || x.UUID == "" && x.Bus == name {
			return x
		}
	}
	return nil
}

// meterOf reads the meter of a card: the counter of its chip where it has one, else the power that it draws.
func (h *Host) meterOf(bus string, m *account.Meter) bool {
	dir := h.gpus.chips[bus]
	if dir == "" {
		return false
	}
	if n, err := number(filepath.Join(dir, "energy1_input")); err == nil && n >= 0 {
		m.MicroJoules = n
		return true
	}
	for _, file := range []string{"power1_average", "power1_input"} {
		if n, err := number(filepath.Join(dir, file)); err == nil && n >= 0 {
			m.IsPower, m.MicroWatts = true, n
			return true
		}
	}
	return false
}

// readCards reads what the kernel tells of GPUs, but of those that the library has told of.
func (h *Host) readCards(dst *account.Reading) {
	g := &h.gpus
	if !g.looked || g.drm.round%lookEvery == 0 {
		g.looked = true
		same := func(a, b card) bool { return a.bus == b.bus }
		if cards := findCards(h.sys); !slices.EqualFunc(cards, g.cards, same) {
			g.cards, g.tells = cards, make([]bool, len(cards))
			g.drm.cards = cards
			clear(g.drm.state) // the cards have other places now
			g.chips = map[string]string{}
			for _, chip := range h.chips() {
				if device := resolved(filepath.Join(chip.dirs[0], "device")); device != "" {
					g.chips[filepath.Base(device)] = chip.dirs[0]
				}
			}
		}
	}
	if len(g.cards) == 0 {
		g.drm.round++
		return
	}
	told := func(c card) bool { // by the library
		return slices.ContainsFunc(g.sheets, func(s account.GPUSheet) bool { return s.Bus == c.bus })
	}
	if !slices.ContainsFunc(g.cards, func(c card) bool { return !told(c) }) {
		g.drm.round++
		return
	}
	clients, own, hidden := g.drm.look(dst.Processes, (dst.Mono - g.readAt).Microseconds())
	clients = h.addCompute(clients)
	if hidden > 0 {
		dst.Caveats[account.GPUHidden] = 1
	}
	g.hidden = hidden
	place := make([]int32, len(g.cards))
	for i := range g.cards {
		c := &g.cards[i]
		place[i] = -1
		if told(*c) {
			continue
		}
		for _, x := range clients {
			g.tells[i] = g.tells[i] || int(x.GPU) == i && len(x.Engines) > 0
		}
		place[i] = int32(len(dst.GPUs))
		h.putCard(dst, c, g.tells[i], own)
	}
	for _, x := range clients {
		if x.GPU = place[x.GPU]; x.GPU >= 0 {
			dst.GPUClients = append(dst.GPUClients, x)
		}
	}
}

// ByKernel is what the sheet of a GPU says that the kernel tells of.
const ByKernel = "the kernel"

// putCard puts in a GPU that the kernel tells of: by the files of its driver ("amdgpu", "i915", "xe" and others), and
// by its clients.
func (h *Host) putCard(dst *account.Reading, c *card, tells, own bool) {
	x := account.GPU{Name: c.bus, Index: c.number - 128, MemoryTotal: -1, MemoryUsed: -1, Own: own}
	s := account.GPUSheet{Bus: c.bus, Driver: c.driver, Told: ByKernel, Nodes: []string{}, Users: []account.GPUUser{},
		Holders: []account.GPUHolder{}, Wrong: []string{}}
	if id := text(filepath.Join(c.device, "unique_id")); id != "" {
		x.Name, s.UUID = id, id
	}
	for _, n := range c.nodes {
		s.Nodes = append(s.Nodes, "/dev/dri/"+n)
	}
	s.Title = cardTitle(c)
	switch part, err := number(filepath.Join(c.device, "gpu_busy_percent")); {
	case err == nil && part >= 0 && part <= 100:
		x.By, x.BusyPart = account.BusyByPart, part*10
	case tells:
		x.By = account.BusyByClients
	default:
		s.NoBusy = "neither its driver's files nor its clients tell how long it works"
	}
	total, err := number(filepath.Join(c.device, "mem_info_vram_total"))
	used, failed := number(filepath.Join(c.device, "mem_info_vram_used"))
	if err == nil && failed == nil && total > 0 && used >= 0 {
		x.MemoryTotal, x.MemoryUsed = total, used
		s.MemoryBytes, s.MemoryUsed = &total, &used
	} else {
		s.NoMemory = "its driver does not tell of memory of its own"
	}
	if h.gpus.hidden > 0 {
		s.NoUsers = "the open files of other users' processes may not be read: run the collector as root"
	}
	s.Name, s.Index = x.Name, x.Index
	s.Figures = h.cardFigures(c)
	dst.GPUs = append(dst.GPUs, x)
	h.gpus.put(s, numberOf(h.gpus.nodes, s.Nodes))
}

func (g *gpus) put(s account.GPUSheet, node [2]uint32) {
	g.sheets = append(g.sheets, s)
	g.numbers = append(g.numbers, node)
}

// numberOf is the device number of the first of several nodes.
func numberOf(ask func(string) (major, minor uint32), nodes []string) [2]uint32 {
	for _, n := range nodes {
		if major, minor := ask(n); major != 0 {
			return [2]uint32{major, minor}
		}
	}
	return [2]uint32{}
}

// cardTitle is what a card is called: by its driver where that tells, else by the numbers of its maker.
func cardTitle(c *card) string {
	for _, file := range []string{"product_name", "device_name", "label"} {
		if s := text(filepath.Join(c.device, file)); s != "" {
			return s
		}
	}
	vendor, device := text(filepath.Join(c.device, "vendor")), text(filepath.Join(c.device, "device"))
	if vendor == "" || device == "" {
		return c.driver
	}
	return strings.TrimSpace(makers[vendor] + " " + strings.TrimPrefix(device, "0x"))
}

// makers of GPUs, by their numbers (PCI-SIG).
var makers = map[string]string{"0x1002": "AMD", "0x8086": "Intel", "0x10de": "NVIDIA"}

// cardFigures is what a driver's files tell of a card, and what the chip of its sensors tells.
func (h *Host) cardFigures(c *card) (list []account.GPUFigure) {
	file := func(section, name, file, unit string, per float64) {
		n, err := number(filepath.Join(c.device, file))
		if err == nil {
			v := float64(n) / per
			list = append(list, account.GPUFigure{Section: section, Name: name, Unit: unit, Value: &v})
		}
	}
	say := func(section, name, text string) {
		if text != "" {
			list = append(list, account.GPUFigure{Section: section, Name: name, Text: text})
		}
	}
	say("device", "firmware", text(filepath.Join(c.device, "vbios_version")))
	say("device", "power state", text(filepath.Join(c.device, "power/runtime_status")))
	file("use", "busy", "gpu_busy_percent", "%", 1)
	file("use", "memory busy", "mem_busy_percent", "%", 1)
	file("memory", "total", "mem_info_vram_total", "B", 1)
	file("memory", "used", "mem_info_vram_used", "B", 1)
	file("memory", "visible, total", "mem_info_vis_vram_total", "B", 1)
	file("memory", "system memory used", "mem_info_gtt_used", "B", 1)
	say("mode", "performance level", text(filepath.Join(c.device, "power_dpm_force_performance_level")))
	say("link", "speed", text(filepath.Join(c.device, "current_link_speed")))
	say("link", "most speed", text(filepath.Join(c.device, "max_link_speed")))
	file("link", "width", "current_link_width", "lanes", 1)
	file("link", "most width", "max_link_width", "lanes", 1)
	for _, chip := range h.chips() {
		if filepath.Base(resolved(filepath.Join(chip.dirs[0], "device"))) != c.bus {
			continue
		}
		for _, s := range chip.sensors() {
			list = append(list, figureOf(&s))
			for name, at := range map[string]*float64{"critical": s.Critical, "at most": s.High} {
				if at != nil {
					list = append(list, account.GPUFigure{Section: sectionOf(s.Kind), Name: s.Name + ", " + name,
						Unit: s.Unit, Value: at})
				}
			}
		}
		for _, x := range [][2]string{{"power1_cap_min", "least cap"}, {"power1_cap_max", "most cap"},
			{"power1_cap_default", "usual cap"}} {
			if n, err := number(filepath.Join(chip.dirs[0], x[0])); err == nil {
				v := float64(n) / 1e6
				list = append(list, account.GPUFigure{Section: "power", Name: x[1], Unit: "W", Value: &v})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b account.GPUFigure) int {
		return slices.Index(account.GPUSections, a.Section) - slices.Index(account.GPUSections, b.Section)
	})
	return list
}

func sectionOf(kind string) string {
	switch kind {
	case account.Temperature, account.Fan:
		return "temperature"
	case account.Clock:
		return "clocks"
	}
	return "power"
}

// figureOf is what a sensor of a GPU tells, as a figure of the GPU.
func figureOf(s *account.Sensor) account.GPUFigure {
	return account.GPUFigure{Section: sectionOf(s.Kind), Name: s.Name, Unit: s.Unit, Value: s.Value, Why: s.Why}
}

// putLibraryGPU puts in a GPU that the library tells of, and its partitions.
func (h *Host) putLibraryGPU(dst *account.Reading, g *LibraryGPU) {
	card := h.putReported(dst, g, "")
	users := g.Users
	parts := map[int32]bool{}
	for i := range g.Parts {
		h.putReported(dst, &g.Parts[i], dst.GPUs[card].Name)
		for _, u := range g.Parts[i].Users {
			parts[u.PID] = true
		}
		h.putUsers(dst, int32(len(dst.GPUs)-1), g.Parts[i].Users)
	}
	// What uses a partition is told of its card too: it counts once.
	h.putUsers(dst, card, slices.DeleteFunc(slices.Clone(users), func(u LibraryUser) bool { return parts[u.PID] }))
}

func (h *Host) putUsers(dst *account.Reading, gpu int32, users []LibraryUser) {
	for _, u := range users {
		x := account.GPUClient{GPU: gpu, ID: uint64(u.PID), PID: u.PID, Born: true, Engines: u.Engines, Kinds: u.Kinds,
			Bytes: -1}
		if u.Bytes.OK() {
			x.Bytes = u.Bytes.N
		}
		dst.GPUClients = append(dst.GPUClients, x)
	}
}

// putReported puts in one GPU or partition; gpu is its place in the reading.
func (h *Host) putReported(dst *account.Reading, g *LibraryGPU, card string) (gpu int32) {
	x := account.GPU{Name: g.UUID, Index: g.Index, Card: card, Source: amount.Reported, Own: true, Engine: MainEngine,
		MemoryTotal: -1, MemoryUsed: -1}
	if x.Name == "" {
		x.Name = strings.TrimPrefix(fmt.Sprintf("%s/%d", card, g.Index), "/")
		if card == "" && g.Bus != "" {
			x.Name = g.Bus
		}
	}
	s := account.GPUSheet{Name: x.Name, Index: g.Index, Card: card, Title: g.Title, UUID: g.UUID,
		Bus: BusAddress(g.Bus), Nodes: []string{}, Driver: "nvidia " + h.gpus.answer.Driver,
		Told: "the vendor's library " + h.gpus.answer.Version, Users: []account.GPUUser{},
		Holders: []account.GPUHolder{}, Wrong: wrongWith(g), Figures: g.Figures, NoUsers: g.NoUsers}
	if s.Figures == nil {
		s.Figures = []account.GPUFigure{}
	}
	if g.Minor.OK() && card == "" {
		s.Nodes = append(s.Nodes, "/dev/nvidia"+strconv.FormatInt(g.Minor.N, 10))
	}
	if x.By = account.BusyByCounter; !g.BusyMicros.OK() {
		x.By, s.NoBusy = account.BusyUntold, g.BusyMicros.Why
	}
	x.BusyMicros = g.BusyMicros.N
	if g.MemoryTotal.OK() && g.MemoryUsed.OK() {
		x.MemoryTotal, x.MemoryUsed = g.MemoryTotal.N, g.MemoryUsed.N
		s.MemoryBytes, s.MemoryUsed = &x.MemoryTotal, &x.MemoryUsed
	} else {
		s.NoMemory = strings.TrimSpace(g.MemoryTotal.Why + g.MemoryUsed.Why)
	}
	if g.Lost != "" {
		s.State, s.Why = account.GPULost, g.Lost
		s.Wrong = append(s.Wrong, g.Lost)
	}
	dst.GPUs = append(dst.GPUs, x)
	node := numberOf(h.gpus.nodes, s.Nodes)
	if node == [2]uint32{} && g.Minor.OK() && card == "" {
		node = [2]uint32{nvidiaMajor, uint32(g.Minor.N)}
	}
	h.gpus.put(s, node)
	return int32(len(dst.GPUs) - 1)
}

// nvidiaMajor is the number of the vendor's character devices (the kernel's "Linux allocated devices").
const nvidiaMajor = 195

// BusAddress is an address on the PCI bus as the kernel writes it; the library writes a longer domain, and capitals.
func BusAddress(s string) string {
	s = strings.ToLower(s)
	if domain, rest, ok := strings.Cut(s, ":"); ok && len(domain) > 4 && strings.Contains(rest, ":") {
		return domain[len(domain)-4:] + ":" + rest
	}
	return s
}

// wrongWith tells in words what is wrong with a GPU by what the library tells of it.
func wrongWith(g *LibraryGPU) []string {
	wrong := []string{}
	for _, f := range g.Figures {
		if f.Section == "errors" && f.Value != nil && *f.Value > 0 && strings.Contains(f.Name, "uncorrected") {
			wrong = append(wrong, fmt.Sprintf("%g %s", *f.Value, f.Name))
		}
		if f.Section == "clocks" && f.Name == "held back by" && strings.Contains(f.Text, "heat") {
			wrong = append(wrong, "its clocks are held back by "+f.Text)
		}
	}
	return wrong
}

// keepLost keeps the sheets of GPUs that were there and are not told of any more.
func (g *gpus) keepLost(before []account.GPUSheet) {
	if g.gone == nil {
		g.gone = map[string]account.GPUSheet{}
	}
	there := map[string]bool{}
	for _, s := range g.sheets {
		there[s.Name] = true
		delete(g.gone, s.Name)
	}
	for _, s := range before {
		if there[s.Name] || s.Card != "" { // a card is divided anew without harm
			continue
		}
		if _, known := g.gone[s.Name]; known {
			continue
		}
		s.State, s.Why = account.GPULost, "it was there and is not told of any more"
		if g.answer != nil && g.answer.Why != "" && strings.HasPrefix(s.Told, "the vendor") {
			s.State, s.Why = account.GPUUnknown, g.answer.Why
		} else {
			s.Wrong = append(s.Wrong, s.Why)
		}
		s.Busy, s.MemoryUsed, s.Since = nil, nil, nil
		s.NoBusy, s.NoMemory = s.Why, s.Why
		s.Users, s.Holders, s.Figures = []account.GPUUser{}, []account.GPUHolder{}, []account.GPUFigure{}
		g.gone[s.Name] = s
	}
}

// GPUs are the sheets of the GPUs as of the last reading, lost ones too. Why says why a library tells nothing.
func (h *Host) GPUs() (sheets []account.GPUSheet, why string) {
	for _, s := range h.gpus.sheets {
		s.Nodes, s.Users, s.Holders = slices.Clone(s.Nodes), []account.GPUUser{}, []account.GPUHolder{}
		sheets = append(sheets, s)
	}
	for _, name := range slices.Sorted(maps.Keys(h.gpus.gone)) {
		sheets = append(sheets, h.gpus.gone[name])
	}
	if h.gpus.answer != nil {
		why = h.gpus.answer.Why
	}
	return sheets, why
}

// nodeNumber is the device number of a file of the host; 0 where there is none.
func nodeNumber(path string) (major, minor uint32) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, 0
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && info.Mode()&os.ModeCharDevice != 0 {
		return unix.Major(st.Rdev), unix.Minor(st.Rdev)
	}
	return 0, 0
}
