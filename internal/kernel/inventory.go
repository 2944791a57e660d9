package kernel

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/cpuset"
	"vinescale/internal/devices"
	"vinescale/internal/kernel/text"
)

// Survey reads what the host is made of. What cannot be read is left out; it takes some milliseconds.
func (r *Reader) Survey() *account.Inventory {
	inv := &account.Inventory{Counting: r.Abilities(), Sensors: r.devices.Sensors()}
	inv.GPUs, inv.NoGPUs = r.devices.GPUs()
	r.surveyCPUs(inv)
	inv.Machine = r.surveyMachine(inv)
	r.surveyDevices(inv)
	r.surveyFilesystems(inv)
	if b, err := r.proc.Read(r.proc.At("swaps")); err == nil {
		inv.Swaps = text.ParseSwaps(b)
	}
	return inv
}

// machineEvery is how often it is looked again what a machine is: little of it changes without a new start.
const machineEvery = 15 * time.Minute

// surveyMachine reads what the machine is, now and then; its links, and the units that are in trouble, each time.
func (r *Reader) surveyMachine(inv *account.Inventory) *account.Machine {
	if now, _ := r.options.Clock(); r.machine == nil || !now.Before(r.lookAt) {
		r.lookAt = now.Add(machineEvery)
		r.machine = devices.Machine(devices.Trees{Proc: r.options.Roots.Proc, Sys: r.options.Roots.Sys,
			Etc: r.options.Roots.Etc}, inv.CPUs)
	}
	m := *r.machine
	switch {
	case r.options.Links != nil:
		m.Links = r.options.Links()
	case r.options.Ask && r.net.selfNet == r.net.hostNet:
		m.Links = devices.Links(r.options.Roots.Sys)
	}
	m.NoFailed = "no init system is asked"
	if r.options.Units != nil {
		failed, stuck, err := r.options.Units()
		if m.NoFailed = ""; err != nil {
			m.NoFailed = err.Error()
		}
		m.Failed, m.Stuck = append([]string{}, failed...), append([]account.Unit{}, stuck...)
	}
	return &m
}

// surveyCPUs reads the kernel's "CPU topology" and "CPU Performance Scaling" files, and which CPUs its command line set
// apart.
func (r *Reader) surveyCPUs(inv *account.Inventory) {
	for file, into := range map[string]*string{"isolated": &inv.Isolated, "nohz_full": &inv.NoTick,
		"offline": &inv.Offline} {
		if b, err := r.sys.Read(r.sys.At("devices/system/cpu", file)); err == nil {
			set, _ := cpuset.Parse(string(text.TrimNewline(b))) // "(null)" where there is none
			*into = set.String()
		}
	}
	nodes := map[int]int{}
	entries, _ := os.ReadDir(filepath.Join(r.sys.Root, "devices/system/node"))
	for _, e := range entries {
		n, ok := strings.CutPrefix(e.Name(), "node")
		node, err := strconv.Atoi(n)
		if !ok || err != nil {
			continue
		}
		if b, err := r.sys.Read(r.sys.At("devices/system/node", e.Name(), "cpulist")); err == nil {
			set, _ := cpuset.Parse(string(text.TrimNewline(b)))
			for _, c := range set.CPUs() {
				nodes[c] = node
			}
		}
	}
	for _, cpu := range r.host.cpuNumbers {
		dir := "devices/system/cpu/cpu" + strconv.Itoa(cpu)
		read := func(file string, missing int) int {
			if b, err := r.sys.Read(r.sys.At(dir, file)); err == nil {
				if n, ok := text.Number(text.TrimNewline(b)); ok && n < 1<<31 {
					return int(n)
				}
			}
			return missing
		}
		place := account.CPUPlace{
			CPU: cpu, Core: read("topology/core_id", -1), Package: read("topology/physical_package_id", -1), Node: -1,
			KHz: read("cpufreq/scaling_cur_freq", 0), MostKHz: read("cpufreq/cpuinfo_max_freq", 0),
		}
		if n, ok := nodes[cpu]; ok {
			place.Node = n
		}
		inv.CPUs = append(inv.CPUs, place)
	}
}

// surveyDevices reads the kernel's "Linux block device driver" tree in sysfs (sysfs-block).
func (r *Reader) surveyDevices(inv *account.Inventory) {
	entries, _ := os.ReadDir(filepath.Join(r.sys.Root, "block"))
	for _, e := range entries {
		d, ok := r.device("block/"+e.Name(), e.Name())
		if !ok {
			continue
		}
		switch {
		case r.sys.Exists(r.sys.At("block", d.Name, "device")):
			d.Kind = "drive"
			d.Model = r.line("block/" + d.Name + "/device/model")
			if target, err := r.sys.Readlink(r.sys.At("block", d.Name)); err == nil {
				d.Controller = controllerOf(string(target))
			}
		case r.sys.Exists(r.sys.At("block", d.Name, "loop")):
			d.Kind, d.Label = "loop", r.line("block/"+d.Name+"/loop/backing_file")
		case r.sys.Exists(r.sys.At("block", d.Name, "dm")):
			d.Kind, d.Label = "volume", r.line("block/"+d.Name+"/dm/name")
		case r.sys.Exists(r.sys.At("block", d.Name, "md")):
			d.Kind = "volume"
		default:
			d.Kind = "memory"
		}
		if d.SizeBytes == 0 && d.Kind != "drive" {
			continue // a loop or volume that is not set up
		}
		slaves, _ := os.ReadDir(filepath.Join(r.sys.Root, "block", d.Name, "slaves"))
		for _, s := range slaves {
			d.Parents = append(d.Parents, s.Name())
		}
		inv.Devices = append(inv.Devices, d)
		parts, _ := os.ReadDir(filepath.Join(r.sys.Root, "block", d.Name))
		for _, p := range parts {
			if !r.sys.Exists(r.sys.At("block", d.Name, p.Name(), "partition")) {
				continue
			}
			if part, ok := r.device("block/"+d.Name+"/"+p.Name(), p.Name()); ok {
				part.Kind, part.Parents, part.Rotates = "partition", []string{d.Name}, d.Rotates
				inv.Devices = append(inv.Devices, part)
			}
		}
	}
}

func (r *Reader) line(path string) string {
	b, err := r.sys.Read(r.sys.At(path))
	if err != nil {
		return ""
	}
	return strings.ToValidUTF8(strings.TrimSpace(string(b)), "")
}

func (r *Reader) device(path, name string) (account.Device, bool) {
	d := account.Device{Name: name, Parents: []string{}}
	major, minor, ok := text.DeviceNumber([]byte(r.line(path + "/dev")))
	if !ok {
		return d, false
	}
	d.Number = int32(major<<20 | minor)
	d.Rotates = r.line(path+"/queue/rotational") == "1"
	if n, ok := text.Number([]byte(r.line(path + "/size"))); ok && n < 1<<50 {
		d.SizeBytes = n * 512
	}
	return d, true
}

var pciAddress = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]$`)

// controllerOf finds in the place of a device the controller it is attached to: the last PCI function on the way, else
// the first part of the way.
func controllerOf(place string) string {
	place = strings.TrimLeft(place, "./")
	place = strings.TrimPrefix(place, "devices/")
	parts := strings.Split(place, "/")
	for i := len(parts) - 1; i >= 0; i-- {
		if pciAddress.MatchString(parts[i]) {
			return parts[i]
		}
	}
	if len(parts) > 1 && parts[0] == "platform" {
		return parts[1]
	}
	return parts[0]
}

// surveyFilesystems reads what is mounted from block devices, once each.
func (r *Reader) surveyFilesystems(inv *account.Inventory) {
	b, err := r.proc.Read(r.proc.At("1/mountinfo"))
	if err != nil {
		if b, err = r.proc.Read(r.proc.At("self/mountinfo")); err != nil {
			return
		}
	}
	names := map[int32]string{}
	for _, d := range inv.Devices {
		names[d.Number] = d.Name
	}
	seen := map[int32]bool{}
	for _, m := range text.ParseMounts(b) {
		name, known := names[m.Device]
		if !known || seen[m.Device] || m.Root != "/" {
			continue
		}
		seen[m.Device] = true
		f := account.Filesystem{Mount: m.At, Type: m.Kind, Device: name}
		space, err := r.space(m.At)
		if err != nil {
			f.Unavailable = err.Error()
		}
		f.SizeBytes, f.UsedBytes, f.FreeBytes, f.Inodes, f.UsedInodes = space.Size, space.Used, space.Free,
			space.Inodes, space.UsedInodes
		inv.Filesystems = append(inv.Filesystems, f)
	}
}

// space asks a filesystem what it holds, as the first process of the host sees it.
func (r *Reader) space(mount string) (account.Space, error) {
	if r.options.Space != nil {
		return r.options.Space(mount)
	}
	var fs unix.Statfs_t
	path := r.onHost(mount)
	if err := unix.Statfs(path, &fs); err != nil {
		return account.Space{}, fmt.Errorf("cannot ask %s: %w", path, err)
	}
	unit := int64(fs.Frsize)
	if unit <= 0 {
		unit = int64(fs.Bsize)
	}
	return account.Space{
		Size: int64(fs.Blocks) * unit, Used: int64(fs.Blocks-fs.Bfree) * unit, Free: int64(fs.Bavail) * unit,
		Inodes: int64(fs.Files), UsedInodes: int64(fs.Files - fs.Ffree),
	}, nil
}
