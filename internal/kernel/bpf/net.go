package bpf

import (
	"fmt"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
)

// Flow says whose bytes, through which interface (its index within the network namespace they passed) and in which
// direction, seen from whom they belong to. Group is of version 2: that in which the socket was made. 1 is the root's.
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
