package explain

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Disks answers whether storage is the problem, on which device, and who causes it.
type Disks struct {
	Over
	Verdict string       `json:"verdict" doc:"In a sentence: the busiest device and who had most of it."`
	Trouble bool         `json:"trouble" doc:"A device was busy most of the time, or its operations waited long."`
	Devices []DeviceLine `json:"devices" doc:"Drives, the busiest first, each followed by what is on it."`
	Drives  int          `json:"drives_in_all" doc:"How many there are, listed or not."`

	Controllers []ControllerLine `json:"controllers" doc:"What the drives behind each did together, most bytes first."`
	Silent      []string         `json:"hosts_not_recorded" doc:"Hosts of whose devices nothing is known."`
}

// DeviceLine is one block device over the span.
type DeviceLine struct {
	Host        string   `json:"host"`
	Name        string   `json:"name"`
	Kind        string   `json:"kind" doc:"drive, partition, volume, loop or memory; empty where not told."`
	Depth       int      `json:"depth" doc:"0 for a drive, 1 for what is on it, and so on."`
	On          []string `json:"on" doc:"The devices it is a part of or made of."`
	Controller  string   `json:"controller"`
	Model       string   `json:"model"`
	SizeBytes   int64    `json:"size_bytes"`
	Mount       string   `json:"mount" doc:"Where its filesystem is mounted; empty for none."`
	MountState  string   `json:"mount_state" doc:"mounted; not mounted; not mountable (divided); in use by …; swap."`
	Filesystem  string   `json:"filesystem"`
	SpaceBytes  *int64   `json:"space_bytes" doc:"Of its filesystem."`
	UsedBytes   *int64   `json:"used_bytes"`
	Inodes      *int64   `json:"inodes"`
	UsedInodes  *int64   `json:"used_inodes"`
	NoSpace     string   `json:"space_unavailable,omitempty"`
	ReadRate    float64  `json:"read_bytes_per_second"`
	WriteRate   float64  `json:"written_bytes_per_second"`
	Reads       float64  `json:"reads_per_second"`
	Writes      float64  `json:"writes_per_second"`
	Merged      float64  `json:"merged_per_second" doc:"Operations that were joined to another before."`
	Discarded   float64  `json:"discarded_bytes_per_second" doc:"That it was told to forget: not among those written."`
	Discards    float64  `json:"discards_per_second"`
	Flushes     float64  `json:"flushes_per_second" doc:"Times it was told to write its own cache down."`
	Busy        float64  `json:"busy" doc:"Part of the time with an operation in flight. At 1 it need not be full."`
	Queue       float64  `json:"queue_mean" doc:"Operations waiting or in flight, in the mean."`
	InFlight    int64    `json:"in_flight" doc:"At the span's end."`
	LatencyMean *float64 `json:"latency_ms_mean" doc:"From being queued to done; null without operations."`
	LatencyP99  *float64 `json:"latency_ms_p99" doc:"99 % took at most this, to a quarter; null where not counted."`
	NoP99       string   `json:"latency_p99_unavailable,omitempty"`

	IsAll      bool         `json:"all_of_its_device" doc:"All that its device moved was moved on it: same users."`
	Users      []DeviceUser `json:"users" doc:"Who moved bytes on it, most first."`
	MoreUsers  int          `json:"more_users" doc:"Users that are not listed."`
	MoreBytes  float64      `json:"more_users_bytes_per_second" doc:"What those moved."`
	OtherBytes float64      `json:"other_bytes_per_second" doc:"Of no workload: the kernel's, or not told apart."`
	NoUsers    string       `json:"users_unavailable,omitempty"`
}

// DeviceUser is one workload's part of a device.
type DeviceUser struct {
	UserRef
	ReadRate  float64  `json:"read_bytes_per_second"`
	WriteRate float64  `json:"written_bytes_per_second"`
	Reads     float64  `json:"reads_per_second"`
	Writes    float64  `json:"writes_per_second"`
	Discarded float64  `json:"discarded_bytes_per_second"`
	Share     float64  `json:"share" doc:"Of the bytes of the device, 0 to 1."`
	TimeMean  *float64 `json:"device_time" doc:"Operations in the device, in the mean; null where not counted."`
	Latency   *float64 `json:"latency_ms_mean" doc:"From being issued to done; null where not counted."`
	Source    string   `json:"source"`

	source amount.Source
}

// From these on a device is said to be in trouble: how busy, and how long an operation takes with how many queued.
const (
	troubleBusy   = 0.85
	troubleMillis = 20
	troubleQueue  = 4
)

// ExplainDisks tells of the devices of hosts over a span. DiskUnits are what each workload moved by its own count, in
// bytes: a drive is split by them on hosts that do not count by workload and device.
func ExplainDisks(over Over, g *Gathering, hosts []Host, diskUnits map[int32][]HostUse, names Names) *Disks {
	d := &Disks{Over: over, Devices: []DeviceLine{}, Controllers: []ControllerLine{}, Silent: g.Silent(hosts)}
	by := byHost(g)
	for i := range hosts {
		host := &hosts[i]
		if g.elapsed[host.ID] == 0 {
			continue
		}
		lines := devicesOf(host, g, by[host.ID], names)
		if by[host.ID] == nil || len(by[host.ID].uses) == 0 {
			divide(lines, diskUnits[host.ID], names)
		}
		d.Devices = append(d.Devices, lines...)
	}
	d.order()
	d.addUpControllers()
	d.judge(len(hosts))
	return d
}

// onHost is what was gathered of one host's devices.
type onHost struct {
	disks map[deviceKey]account.Disk
	uses  map[deviceKey]map[User]*use
}

// byHost divides what was gathered of devices by host.
func byHost(g *Gathering) map[int32]*onHost {
	by := map[int32]*onHost{}
	of := func(host int32) *onHost {
		if by[host] == nil {
			by[host] = &onHost{map[deviceKey]account.Disk{}, map[deviceKey]map[User]*use{}}
		}
		return by[host]
	}
	for k, stats := range g.disks {
		of(k.host).disks[k] = stats
	}
	for k, u := range g.uses {
		uses := of(k.host).uses
		if uses[k.deviceKey] == nil {
			uses[k.deviceKey] = map[User]*use{}
		}
		uses[k.deviceKey][k.user] = u
	}
	return by
}

// CountByDevice are the hosts that tell by which workload a device was used.
func (g *Gathering) CountByDevice() map[int32]bool {
	hosts := map[int32]bool{}
	for k := range g.uses {
		hosts[k.host] = true
	}
	return hosts
}

// HostUse is what one workload had of a resource on its host, in account units.
type HostUse struct {
	User
	Units  float64
	Source amount.Source
}

func devicesOf(host *Host, g *Gathering, on *onHost, names Names) []DeviceLine {
	disks, byNumber := map[deviceKey]account.Disk{}, map[int32]*account.Device{}
	there := map[string]bool{}
	var uses map[deviceKey]map[User]*use
	if on != nil {
		uses = on.uses
		for key, stats := range on.disks {
			disks[key], there[stats.Name] = stats, true
		}
	}
	inv := host.Inventory
	if inv != nil {
		for i := range inv.Devices {
			byNumber[inv.Devices[i].Number] = &inv.Devices[i]
		}
	}
	// Nothing is sent of parts that were never used: they moved nothing. A drive of which nothing was sent was not
	// there.
	for more := true; more; {
		more = false
		for number, d := range byNumber {
			key := deviceKey{host.ID, number}
			if _, sent := disks[key]; !sent &&
				slices.ContainsFunc(d.Parents, func(on string) bool { return there[on] }) {
				disks[key], there[d.Name], more = account.Disk{Name: d.Name}, true, true
			}
		}
	}
	var lines []DeviceLine
	for key, stats := range disks {
		x := DeviceLine{Host: host.Name, Name: stats.Name, On: []string{}, Users: []DeviceUser{}}
		if d := byNumber[key.device]; d != nil {
			x.Name, x.Kind, x.Controller, x.Model, x.SizeBytes = d.Name, d.Kind, d.Controller, d.Model, d.SizeBytes
			x.On = append(x.On, d.Parents...)
			x.mounted(d, inv)
		}
		seconds := float64(g.elapsed[host.ID]) / 1000
		x.rates(&stats, seconds)
		x.latency(&stats, g.latencies[key])
		x.usedBy(uses[key], &stats, seconds, names)
		lines = append(lines, x)
	}
	return lines
}

// mounted says what of a device is mounted. A drive that is divided is not mountable; its parts are, or are not,
// mounted.
func (x *DeviceLine) mounted(d *account.Device, inv *account.Inventory) {
	x.MountState = "not mounted"
	for _, other := range inv.Devices {
		if !slices.Contains(other.Parents, d.Name) {
			continue
		}
		if other.Kind == "partition" {
			x.MountState = "not mountable (divided)"
			return
		}
		x.MountState = "in use by " + cmp.Or(other.Label, other.Name)
	}
	for _, s := range inv.Swaps {
		if strings.TrimPrefix(s.Name, "/dev/") == d.Name {
			x.MountState = "swap"
		}
	}
	for _, f := range inv.Filesystems {
		if f.Device != d.Name {
			continue
		}
		x.MountState, x.Mount, x.Filesystem, x.NoSpace = "mounted", f.Mount, f.Type, f.Unavailable
		if f.Unavailable == "" {
			x.SpaceBytes, x.UsedBytes = &f.SizeBytes, &f.UsedBytes
			if f.Inodes > 0 {
				x.Inodes, x.UsedInodes = &f.Inodes, &f.UsedInodes
			}
		}
	}
}

func (x *DeviceLine) rates(d *account.Disk, seconds float64) {
	per := func(n int64) float64 { return float64(n) / seconds }
	x.ReadRate, x.WriteRate, x.Reads, x.Writes = per(
		d.ReadBytes,
	), per(
		d.WrittenBytes,
	), per(
		d.ReadOps,
	), per(
		d.WriteOps,
	)
	x.Merged = per(d.ReadMerged + d.WriteMerged)
	x.Discarded, x.Discards, x.Flushes = per(d.DiscardedBytes), per(d.Discards), per(d.Flushes)
	x.Busy, x.Queue, x.InFlight = min(per(d.BusyMillis)/1000, 1), per(d.QueueMillis)/1000, d.InFlight
}

func (x *DeviceLine) latency(d *account.Disk, buckets map[[2]int64]int64) {
	if n := d.ReadOps + d.WriteOps; n > 0 {
		mean := float64(d.ReadMillis+d.WriteMillis) / float64(n)
		x.LatencyMean = &mean
	}
	p99, ok := quantile(buckets, 0.99)
	switch {
	case ok:
		x.LatencyP99 = &p99
	case x.Kind == "partition":
		x.NoP99 = "operations are counted one by one for the whole drive only"
	default:
		x.NoP99 = "this host does not count operations one by one, or there were none"
	}
}

// quantile is the upper bound of the bucket in which a part of all operations is reached, in milliseconds.
func quantile(buckets map[[2]int64]int64, part float64) (float64, bool) {
	total := int64(0)
	for _, n := range buckets {
		total += n
	}
	if total == 0 {
		return 0, false
	}
	bounds := slices.SortedFunc(maps.Keys(buckets), func(a, b [2]int64) int { return cmp.Compare(a[0], b[0]) })
	seen, reached := int64(0), bounds[0]
	for _, reached = range bounds {
		if seen += buckets[reached]; float64(seen) >= part*float64(total) {
			break
		}
	}
	return float64(reached[1]) / 1000, true
}

func (x *DeviceLine) usedBy(uses map[User]*use, d *account.Disk, seconds float64, names Names) {
	all := float64(d.ReadBytes + d.WrittenBytes)
	charged := 0.0
	for who, u := range uses {
		bytes := float64(u.read + u.written)
		charged += bytes
		user := DeviceUser{
			UserRef: names(who), ReadRate: float64(u.read) / seconds, WriteRate: float64(u.written) / seconds,
			Reads:  float64(u.reads) / seconds,
			Writes: float64(u.writes) / seconds, Discarded: float64(u.discarded) / seconds,
			Source: u.source.String(), source: u.source,
		}
		if u.micros > 0 {
			mean := float64(u.micros) / 1e6 / seconds
			user.TimeMean = &mean
		}
		user.latency()
		if all > 0 {
			user.Share = min(bytes/all, 1)
		}
		x.Users = append(x.Users, user)
	}
	slices.SortFunc(x.Users, byBytes)
	if len(x.Users) == 0 && all > 0 {
		x.NoUsers = "this host does not count I/O by workload and device"
		return
	}
	x.OtherBytes = max(all-charged, 0) / seconds
}

// latency works out how long an operation took in the mean, from how many were in the device at once and how many came
// in a second (Little's law: the mean number is the rate times the mean time).
func (u *DeviceUser) latency() {
	u.Latency = nil
	if ops := u.Reads + u.Writes; u.TimeMean != nil && ops > 0 {
		millis := 1000 * *u.TimeMean / ops
		u.Latency = &millis
	}
}

// divide splits what each drive of a host moved by what its workloads' processes read and dirtied, where the host does
// not count by workload and device.
func divide(lines []DeviceLine, uses []HostUse, names Names) {
	all := 0.0
	for _, u := range uses {
		all += u.Units
	}
	for i := range lines {
		x := &lines[i]
		if all == 0 || len(x.On) > 0 || x.ReadRate+x.WriteRate == 0 {
			continue
		}
		x.NoUsers, x.OtherBytes = "", 0
		for _, u := range uses {
			share := u.Units / all
			if share == 0 {
				continue
			}
			x.Users = append(x.Users, DeviceUser{
				UserRef: names(u.User), ReadRate: x.ReadRate * share, WriteRate: x.WriteRate * share,
				Reads: x.Reads * share, Writes: x.Writes * share, Share: share, Source: amount.Split.String(),
				source: amount.Split,
			})
		}
		slices.SortFunc(x.Users, func(a, b DeviceUser) int {
			return cmp.Or(cmp.Compare(b.Share, a.Share), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
		})
	}
}

// order puts the busiest drives first, each followed by what is on it.
func (d *Disks) order() {
	children := map[string][]DeviceLine{} // by host and parent
	var roots []DeviceLine
	names := map[string]bool{}
	for _, x := range d.Devices {
		names[x.Host+"/"+x.Name] = true
	}
	for _, x := range d.Devices {
		if len(x.On) > 0 && names[x.Host+"/"+x.On[0]] {
			children[x.Host+"/"+x.On[0]] = append(children[x.Host+"/"+x.On[0]], x)
		} else {
			roots = append(roots, x)
		}
	}
	slices.SortFunc(roots, func(a, b DeviceLine) int {
		return cmp.Or(cmp.Compare(b.Busy, a.Busy), cmp.Compare(a.Host, b.Host), cmp.Compare(a.Name, b.Name))
	})
	d.Devices = d.Devices[:0]
	var add func(x DeviceLine, depth int, on *DeviceLine)
	add = func(x DeviceLine, depth int, on *DeviceLine) {
		x.Depth = depth
		if on != nil && len(x.On) == 1 {
			all := on.ReadRate + on.WriteRate
			x.IsAll = math.Abs(x.ReadRate+x.WriteRate-all) <= 0.001*all
		}
		d.Devices = append(d.Devices, x)
		if depth > 8 {
			return
		}
		below := children[x.Host+"/"+x.Name]
		slices.SortFunc(below, func(a, b DeviceLine) int { return cmp.Compare(a.Name, b.Name) })
		for _, c := range below {
			add(c, depth+1, &x)
		}
	}
	for _, x := range roots {
		add(x, 0, nil)
	}
	d.Drives = len(roots)
}

// judge says in a sentence whether storage is the problem, and of which hosts that is not known.
func (d *Disks) judge(hosts int) {
	var worst *DeviceLine
	for i := range d.Devices {
		x := &d.Devices[i]
		if x.Depth > 0 {
			continue
		}
		if worst == nil || x.Busy > worst.Busy {
			worst = x
		}
	}
	switch {
	case len(d.Silent) == hosts:
		d.Verdict = "Whether storage is the problem is not known: " + NothingRecorded + "."
		return
	case worst == nil:
		d.Verdict = "No host has told of any device in this span."
		return
	}
	slow := worst.LatencyMean != nil && *worst.LatencyMean >= troubleMillis && worst.Queue >= troubleQueue
	d.Trouble = worst.Busy >= troubleBusy || slow
	busy := fmt.Sprintf("was busy %.0f %% of the time", 100*worst.Busy)
	if worst.LatencyMean != nil {
		busy += fmt.Sprintf(", an operation took %.3g ms in the mean", *worst.LatencyMean)
	}
	who := ""
	if len(worst.Users) > 0 {
		u := worst.Users[0]
		who = fmt.Sprintf("; %s had %.0f %% of its bytes", u.Whose(), 100*u.Share)
	}
	if d.Trouble {
		d.Verdict = fmt.Sprintf("Storage is a bottleneck: %s on %s %s%s.", worst.Name, worst.Host, busy, who)
	} else {
		d.Verdict = fmt.Sprintf("Storage is not the problem: the busiest device, %s on %s, %s%s.", worst.Name,
			worst.Host, busy, who)
	}
	if n := len(d.Silent); n > 3 {
		d.Verdict += fmt.Sprintf(" Of %d hosts nothing was recorded.", n)
	} else if n > 0 {
		d.Verdict += " Of " + strings.Join(d.Silent, " and ") + " nothing was recorded."
	}
}
