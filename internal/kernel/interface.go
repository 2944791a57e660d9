package kernel

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"strconv"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/text"
)

// iface is what seldom changes of a network interface.
type iface struct {
	leadsOff bool // it has a device behind it: bytes on it leave the host
	kind     string
	speed    int64

	first, seen int64 // readings
}

func (r *Reader) readInterfaces(dst *account.Reading) {
	dst.Interfaces = dst.Interfaces[:0]
	b, err := r.proc.Read(r.proc.At("1/net/dev"))
	if err != nil {
		if b, err = r.proc.Read(r.proc.At("net/dev")); err != nil {
			dst.Unavailable[amount.Network] = fmt.Sprintf("cannot read %s/1/net/dev: %v", r.proc.Root, err)
			return
		}
	}
	text.InterfaceLines(b, func(name []byte, n *account.Interface) {
		i := r.iface(name)
		n.Name, n.Inner, n.Kind, n.SpeedBitPerSecond = r.intern(name), !i.leadsOff, i.kind, i.speed
		dst.Interfaces = append(dst.Interfaces, *n)
	})
	for name, i := range r.net.ifaces {
		if i.seen < r.count {
			delete(r.net.ifaces, name)
		}
	}
}

// tapID tells a tap from others and from network namespaces, whose numbers are inodes.
func tapID(name string) uint64 {
	f := fnv.New64a()
	f.Write([]byte(name))
	return f.Sum64() | 1<<63
}

// lookTaps finds the taps that a virtual machine's process holds open: the network interfaces of its other end, by the
// kernel's "Universal TUN/TAP device driver" (the line iff of the descriptor's information).
func (r *Reader) lookTaps(pid int32, machine account.WorkloadID) {
	entries, err := os.ReadDir(filepath.Join(r.proc.Root, strconv.Itoa(int(pid)), "fdinfo"))
	if err != nil {
		return
	}
	r.forgetTaps(machine)
	for _, e := range entries {
		b, err := r.proc.Read(r.proc.AtPID(pid, "fdinfo/"+e.Name()))
		if err != nil {
			continue
		}
		if i := bytes.Index(b, []byte("iff:")); i >= 0 {
			l, _ := text.Line(b[i+len("iff:"):])
			if name := bytes.TrimSpace(l); len(name) > 0 && len(name) < 16 {
				r.net.taps[string(name)] = machine
			}
		}
	}
}

func (r *Reader) forgetTaps(machine account.WorkloadID) {
	for name, w := range r.net.taps {
		if w == machine {
			delete(r.net.taps, name)
		}
	}
}

func (r *Reader) iface(name []byte) *iface {
	n := r.net.ifaces[string(name)]
	if n != nil {
		n.seen = r.count
		return n
	}
	s := string(name)
	n = &iface{first: r.count, seen: r.count, leadsOff: r.sys.Exists(r.sys.At("class/net", s, "device"))}
	switch {
	case n.leadsOff:
		n.kind = "physical"
		// Mbit/s, -1 or an error where the driver does not know (the kernel's sysfs-class-net)
		if b, err := r.sys.Read(r.sys.At("class/net", s, "speed")); err == nil {
			if mbit, ok := text.Number(text.TrimNewline(b)); ok {
				n.speed = mbit * 1e6
			}
		}
	case s == "lo":
		n.kind = "loopback"
	case r.sys.Exists(r.sys.At("class/net", s, "tun_flags")):
		n.kind = "tap"
	case r.sys.Exists(r.sys.At("class/net", s, "bridge")):
		n.kind = "bridge"
	default:
		n.kind = r.deviceType(s)
	}
	r.net.ifaces[s] = n
	return n
}

// unknownKind is an interface of which sysfs does not tell what drives it.
const unknownKind = "virtual"

// deviceType is what an interface's driver calls it: DEVTYPE of its uevent, such as vlan or vxlan. A veth has none, but
// another interface's number as its link, unless that is by chance its own, in the other's namespace.
func (r *Reader) deviceType(name string) string {
	if b, err := r.sys.Read(r.sys.At("class/net", name, "uevent")); err == nil {
		for len(b) > 0 {
			var l []byte
			l, b = text.Line(b)
			if kind, ok := bytes.CutPrefix(l, []byte("DEVTYPE=")); ok {
				return string(kind)
			}
		}
	}
	own, link := []byte(nil), []byte(nil)
	if b, err := r.sys.Read(r.sys.At("class/net", name, "ifindex")); err == nil {
		own = bytes.Clone(b)
	}
	if b, err := r.sys.Read(r.sys.At("class/net", name, "iflink")); err == nil {
		link = bytes.Clone(b)
	}
	if !bytes.Equal(own, link) {
		return "veth"
	}
	return unknownKind
}

// intern returns a kept string, of which many processes or devices have the same. Those of long ago are let go in time.
func (r *Reader) intern(name []byte) string {
	if s, ok := r.names[string(name)]; ok {
		return s
	}
	if len(r.names) > 20_000 {
		clear(r.names)
	}
	s := string(name)
	r.names[s] = s
	return s
}
