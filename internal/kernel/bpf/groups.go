package bpf

import (
	"fmt"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
)

func (c *Counters) openGroups(Options) error {
	if err := loadGroupsObjects(&c.groups, nil); err != nil {
		return err
	}
	c.keep(&c.groups)
	for _, program := range []*ebpf.Program{c.groups.OnMkdir, c.groups.OnRmdir, c.groups.OnRename} {
		l, err := link.AttachTracing(link.TracingOptions{Program: program})
		if err != nil {
			return fmt.Errorf("attach to changes of cgroups: %w", err)
		}
		c.keep(l)
	}
	return nil
}

// GroupChanges rises with every cgroup that is made, removed or renamed, in any hierarchy.
func (c *Counters) GroupChanges() (n uint64, err error) {
	err = c.groups.Changes.Lookup(uint32(0), &n)
	return n, err
}
