package bpf

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
)

// Flow says whose bytes, through which interface (its index within the network namespace they passed) and in which
// direction, seen from whom they belong to. Group is of version 2: that of who used the socket last, or before that
// where it was made. 1 is the root's.
type Flow = netFlow

// Moved is bytes at IP level, and packets.
type Moved = netMoved

// Loopback is the index of the interface that leads back into its own namespace, in every namespace.
const Loopback = 1

func (c *Counters) openNetwork(o Options) error {
	if o.CgroupV2 == "" {
		return fmt.Errorf("no version 2 hierarchy of cgroups is mounted, which the kernel needs to tell sockets apart")
	}
	if err := loadNetObjects(&c.net, c.loading); err != nil {
		return err
	}
	c.keep(&c.net)
	for attach, program := range map[ebpf.AttachType]*ebpf.Program{ebpf.AttachCGroupInetIngress: c.net.Received,
		ebpf.AttachCGroupInetEgress: c.net.Sent} {
		l, err := link.AttachCgroup(link.CgroupOptions{Path: o.CgroupV2, Attach: attach, Program: program})
		if err != nil {
			return fmt.Errorf("attach to the root cgroup %s: %w", o.CgroupV2, err)
		}
		c.keep(l)
	}
	for _, program := range []*ebpf.Program{c.net.OnSend, c.net.OnReceive, c.net.OnTaken} {
		l, err := link.AttachTracing(link.TracingOptions{Program: program})
		if err != nil {
			return fmt.Errorf("attach to the use of sockets: %w", err)
		}
		c.keep(l)
	}
	return nil
}

// Flows visits what each cgroup moved since Open.
func (c *Counters) Flows(visit func(Flow, Moved)) error {
	return c.flows.each(c.net.Flows, c.cpus, func(f Flow, by []Moved) {
		var sum Moved
		for i := range by {
			sum.Bytes += by[i].Bytes
			sum.Packets += by[i].Packets
		}
		visit(f, sum)
	})
}

// ForgetFlows drops cgroups that are no more.
func (c *Counters) ForgetFlows(gone []Flow) {
	for _, f := range gone {
		_ = c.net.Flows.Delete(&f)
	}
}

// Here tells which addresses the host has, in all its network namespaces: what is exchanged with them is counted as of
// Loopback. Those told before that are not among them are its no more.
func (c *Counters) Here(addresses map[netip.Addr]bool) error {
	for a := range c.here {
		if !addresses[a] {
			key := addressOf(a)
			_ = c.net.Here.Delete(&key) // not there: as wanted
			delete(c.here, a)
		}
	}
	for a := range addresses {
		if c.here[a] {
			continue
		}
		key, there := addressOf(a), uint8(1)
		if err := c.net.Here.Put(&key, &there); err != nil {
			return fmt.Errorf("tell of the host's address %s: %w", a, err)
		}
		c.here[a] = true
	}
	return nil
}

func addressOf(a netip.Addr) (key netAddress) {
	b := a.As16()
	for i := range key.Part {
		key.Part[i] = binary.NativeEndian.Uint32(b[4*i:])
	}
	return key
}
