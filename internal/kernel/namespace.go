package kernel

import (
	"bytes"
	"net/netip"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// namespace is what is remembered of one network namespace.
type namespace struct {
	seen  int64
	index int   // in the reading of that count
	pid   int32 // a process in it
	asked bool  // for which interface its other half is
	born  bool
	since int64 // reading it was first in
}

// netns is the identity of a process's network namespace, 0 when it may not be known.
func (r *Reader) netns(pid int32) uint64 {
	target, err := r.proc.Readlink(r.proc.AtPID(pid, "ns/net"))
	if err != nil {
		return 0
	}
	digits := bytes.TrimSuffix(bytes.TrimPrefix(target, []byte("net:[")), []byte("]"))
	n, ok := text.Number(digits)
	if !ok {
		return 0
	}
	return uint64(n)
}

// readNamespaces reads the interfaces of each network namespace but the host's, through one process that is in it.
func (r *Reader) readNamespaces(dst *account.Reading) {
	dst.Namespaces = dst.Namespaces[:0]
	for i := range dst.Interfaces {
		n := &dst.Interfaces[i]
		if machine, ok := r.net.taps[n.Name]; ok { // what goes out to a tap the machine receives
			dst.Namespaces = append(dst.Namespaces, account.Namespace{
				ID: tapID(n.Name), Workload: machine, Received: n.Sent, Sent: n.Received, Local: -1,
				Born: r.count > 1 && r.net.ifaces[n.Name].first == r.count,
			})
		}
	}
	if r.net.hostNet == 0 {
		return
	}
	for i := range dst.Processes {
		p := &dst.Processes[i]
		if p.Ended {
			continue
		}
		ns := r.tasks.procs[p.PID].netns
		if ns == 0 || ns == r.net.hostNet || p.Kernel {
			continue
		}
		known := r.net.spaces[ns]
		if known != nil && known.seen == r.count {
			if a := &dst.Namespaces[known.index]; a.Workload != p.Workload {
				a.Workload = account.Unrecognised
			}
			continue
		}
		b, err := r.proc.Read(r.proc.AtPID(p.PID, "net/dev"))
		if err != nil {
			continue
		}
		a := account.Namespace{ID: ns, Workload: p.Workload}
		if !text.InterfaceLines(b, func(name []byte, n *account.Interface) {
			if string(name) == "lo" {
				a.Local = n.Sent
				return
			}
			a.Received += n.Received
			a.Sent += n.Sent
		}) {
			continue
		}
		if known == nil {
			known = &namespace{born: r.count > 1 && p.StartUptime() >= r.uptime, since: r.count}
			r.net.spaces[ns] = known
		} else {
			known.born = false
		}
		known.seen, known.index, known.pid = r.count, len(dst.Namespaces), p.PID
		a.Born = known.born
		dst.Namespaces = append(dst.Namespaces, a)
	}
	changed := false
	for id, n := range r.net.spaces {
		if n.seen < r.count {
			delete(r.net.spaces, id)
			changed = true
		}
		changed = changed || r.count-n.since < youngSpace
	}
	if changed || r.count%r.options.RecheckEvery == 1 {
		r.tellAddresses()
	}
}

// youngSpace is for how many readings a network namespace is asked each time for its addresses, which are given to it
// after it was made.
const youngSpace = 3

// tellAddresses tells the kernel's counters which addresses this host has in all its network namespaces: what is sent
// to them never leaves it.
func (r *Reader) tellAddresses() {
	if !r.counters.Has(bpf.Network) {
		return
	}
	clear(r.net.addresses)
	add := func(a netip.Addr) { r.net.addresses[a] = true }
	of := func(pid int32) {
		if b, err := r.proc.Read(r.proc.AtPID(pid, "net/fib_trie")); err == nil {
			text.LocalIPv4(b, add)
		}
		if b, err := r.proc.Read(r.proc.AtPID(pid, "net/if_inet6")); err == nil {
			text.LocalIPv6(b, add)
		}
	}
	of(1)
	for _, n := range r.net.spaces {
		of(n.pid)
	}
	if err := r.counters.Here(r.net.addresses); err != nil {
		r.note("addresses of this host", err)
	}
}

// inHostsNetwork tells whether this process is in the network namespace of the host's first one, where the link that
// names that may not be read: then both are shown the same netlink sockets, of which the kernel has some of its own in
// each namespace. One may come or go between the two looks.
func (r *Reader) inHostsNetwork() bool {
	for range 3 {
		first, err := r.proc.Read(r.proc.At("1/net/netlink"))
		if err != nil {
			return false
		}
		first = bytes.Clone(first)
		own, err := r.proc.Read(r.proc.At("self/net/netlink"))
		if err != nil {
			return false
		}
		if _, sockets := text.Line(first); len(sockets) > 0 && bytes.Equal(first, own) {
			return true
		}
	}
	return false
}
