package kernel

import (
	"fmt"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// iface is what seldom changes of a network interface.
type iface struct {
	leadsOff bool // it has a device behind it: bytes on it leave the host
	speed    int64
}

// readHost reads the host's own totals, and the clocks beside the CPU counters.
func (r *Reader) readHost(dst *account.Reading) error {
	if r.count%r.options.RecheckEvery == 1 {
		clear(r.disks)
		clear(r.ifaces)
	}
	dst.Wall, dst.Mono = r.options.Clock()
	b, err := r.proc.read(r.proc.at("stat"))
	if err != nil {
		return fmt.Errorf("read %s/stat: %w", r.proc.root, err)
	}
	var ok bool
	if dst.CPUs, ok = parseCPUs(b, dst.CPUs[:0]); !ok {
		return fmt.Errorf("read %s/stat: %w", r.proc.root, errGarbage)
	}
	if b, err = r.proc.read(r.proc.at("uptime")); err != nil {
		return fmt.Errorf("read %s/uptime: %w", r.proc.root, err)
	}
	seconds, _ := field(b)
	up, ok := hundredths(seconds)
	if !ok {
		return fmt.Errorf("read %s/uptime: %w", r.proc.root, errGarbage)
	}
	dst.Uptime = time.Duration(up*100+0.5) * 10 * time.Millisecond
	if b, err = r.proc.read(r.proc.at("meminfo")); err != nil {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.root, err)
	}
	if dst.Memory, ok = parseMeminfo(b); !ok {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.root, errGarbage)
	}
	r.cpus, r.memory = len(dst.CPUs), dst.Memory.Total
	if b, err = r.proc.read(r.proc.at("loadavg")); err == nil {
		dst.Load, _ = parseLoad(b)
	}
	r.readPressure(dst)
	r.readDisks(dst)
	r.readInterfaces(dst)
	return nil
}

func (r *Reader) readPressure(dst *account.Reading) {
	dst.Pressure = dst.Pressure[:0]
	for _, name := range []string{"cpu", "memory", "io"} {
		b, err := r.proc.read(r.proc.at("pressure", name))
		if err != nil {
			continue // kernels without pressure information have no such file
		}
		if some, full, ok := parsePressure(b); ok {
			dst.Pressure = append(dst.Pressure, account.Pressure{Resource: name, Some: some, Full: full})
		}
	}
}

func (r *Reader) readDisks(dst *account.Reading) {
	dst.Disks = dst.Disks[:0]
	r.diskNumbers = r.diskNumbers[:0]
	b, err := r.proc.read(r.proc.at("diskstats"))
	if err != nil {
		dst.Unavailable[amount.Disk] = fmt.Sprintf("cannot read %s/diskstats: %v", r.proc.root, err)
		return
	}
	// The visit below reads other files of /sys, which has a buffer of its own: b stays valid.
	for len(b) > 0 {
		var l []byte
		l, b = line(b)
		d, name, ok := diskLine(l)
		if !ok || !r.isDisk(name) {
			continue
		}
		d.Name = r.intern(name)
		d.RateBytesPerSecond = r.options.DiskRates[d.Name]
		dst.Disks = append(dst.Disks, d)
		r.diskNumbers = append(r.diskNumbers, [2]uint32{d.Major, d.Minor})
	}
}

// isDisk tells a whole device with hardware (or a hypervisor) behind it from partitions, loops and stacked devices,
// whose bytes would count twice.
func (r *Reader) isDisk(name []byte) bool {
	is, known := r.disks[string(name)]
	if !known {
		is = r.sys.exists(r.sys.at("block", string(name), "device"))
		r.disks[string(name)] = is
	}
	return is
}

// isDiskNumber is isDisk for a device number, as cgroup files name devices.
func (r *Reader) isDiskNumber(major, minor uint32) bool {
	for i := range r.diskNumbers {
		if r.diskNumbers[i] == [2]uint32{major, minor} {
			return true
		}
	}
	return false
}

func (r *Reader) readInterfaces(dst *account.Reading) {
	dst.Interfaces = dst.Interfaces[:0]
	b, err := r.proc.read(r.proc.at("1/net/dev"))
	if err != nil {
		if b, err = r.proc.read(r.proc.at("net/dev")); err != nil {
			dst.Unavailable[amount.Network] = fmt.Sprintf("cannot read %s/1/net/dev: %v", r.proc.root, err)
			return
		}
	}
	ifaceBytes(b, func(name []byte, received, sent int64) {
		n := r.iface(name)
		if !n.leadsOff {
			return
		}
		dst.Interfaces = append(dst.Interfaces, account.Interface{
			Name: r.intern(name), Received: received, Sent: sent, SpeedBitPerSecond: n.speed,
		})
	})
}

func (r *Reader) iface(name []byte) *iface {
	n := r.ifaces[string(name)]
	if n != nil {
		return n
	}
	n = &iface{leadsOff: r.sys.exists(r.sys.at("class/net", string(name), "device"))}
	if n.leadsOff {
		// Mbit/s, -1 or an error where the driver does not know (the kernel's sysfs-class-net)
		if b, err := r.sys.read(r.sys.at("class/net", string(name), "speed")); err == nil {
			if mbit, ok := number(trimNewline(b)); ok {
				n.speed = mbit * 1e6
			}
		}
	}
	r.ifaces[string(name)] = n
	return n
}

// intern returns a kept string for a device's name.
func (r *Reader) intern(name []byte) string {
	if s, ok := r.names[string(name)]; ok {
		return s
	}
	s := string(name)
	r.names[s] = s
	return s
}
