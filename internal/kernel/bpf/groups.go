package bpf

import (
	"encoding/binary"
	"fmt"

	"github.com/cilium/ebpf/link"
)

// Made is a cgroup that was made: its number and that of the one around it, its name in there, and its hierarchy, as
// /proc/cgroups numbers them; 0 is version 2.
type Made struct {
	ID, Parent uint64
	Hierarchy  uint32
	Name       string
}

func (c *Counters) openGroups(Options) error {
	if err := loadGroupsObjects(&c.groups, c.loading); err != nil {
		return err
	}
	c.keep(&c.groups)
	l, err := link.AttachTracing(link.TracingOptions{Program: c.groups.OnMaking})
	if err != nil {
		return fmt.Errorf("attach to the making of cgroups: %w", err)
	}
	c.keep(l)
	if c.made, err = openRing(c.groups.MadeGroups); err != nil {
		return err
	}
	c.keep(c.made)
	return nil
}

// Made visits the cgroups that were made since the last call, in the order they were. It returns how many records
// found no room since Open.
func (c *Counters) Made(visit func(Made)) (lost uint64, err error) {
	err = c.made.each(func(b []byte) {
		if m, ok := decodeMade(b); ok {
			visit(m)
		}
	})
	if err == nil {
		err = c.groups.Lost.Get(&lost)
	}
	return lost, err
}

// madeSize is the length of a record: the C struct made of groups.bpf.c.
const madeSize = 24 + 256

// decodeMade reads a record of the ring. False for one that is too short.
func decodeMade(b []byte) (Made, bool) {
	if len(b) < madeSize {
		return Made{}, false
	}
	name := b[24:madeSize]
	for i, x := range name {
		if x == 0 {
			name = name[:i]
			break
		}
	}
	return Made{ID: binary.NativeEndian.Uint64(b), Parent: binary.NativeEndian.Uint64(b[8:]),
		Hierarchy: binary.NativeEndian.Uint32(b[16:]), Name: string(name)}, true
}
