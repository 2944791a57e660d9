package carry

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"vinescale/core/amount"
)

// Loose programs are in no group of their own, and a family is a part of one: to be limited they are given one, and are
// put back where they were when that is undone.

// capGroup is the group that a limit is set on: the workload's own, or one that is made for what has none.
func (h *Host) capGroup(p *plan, controller string) (group, error) {
	if w := p.aim.workload; w != nil && (w.Path != "" || w.Kind != amount.Loose) {
		return h.ownGroup(controller, p.aim)
	}
	return h.roomFor(p, controller)
}

// roomName is the group that is made for an aim: the same each time, so that a second limit finds it.
func roomName(a *aim) string { return "/vinescale/act-" + digest(a.identity) }

// roomFor plans to make a group for what is touched, and to move it there.
func (h *Host) roomFor(p *plan, controller string) (group, error) {
	root, v2, ok := h.hierarchy(controller)
	if !ok {
		return group{}, fmt.Errorf("this host's cgroups do not have the controller %s", controller)
	}
	name := controller
	if v2 {
		name = ""
	}
	path := roomName(p.aim)
	g := group{filepath.Join(root, path), v2}
	was := ""
	for i := range p.aim.hit {
		at := h.cgroups(p.aim.hit[i].pid)[name]
		if at == "" {
			continue // it ended meanwhile
		}
		if was = at; at != path {
			break
		}
	}
	if was == "" {
		return g, fmt.Errorf("its processes are in no group of the controller %s", controller)
	}
	room := change{
		Kind:   aRoom,
		What:   "a group of its own",
		File:   g.dir,
		Device: filepath.Join(root, was),
		After:  "made",
	}
	if p.plans(&room) {
		return g, nil // version 2 has one for all controllers
	}
	if err := p.set(h, room); err != nil {
		return g, err
	}
	member := func(x *process) change {
		return change{
			Kind:   aMember,
			What:   "its group of the controller " + controller,
			File:   root,
			Device: name,
			PID:    x.pid,
			TID:    x.pid,
			Start:  x.start,
			After:  path,
		}
	}
	for i := range p.aim.hit {
		if err := p.set(h, member(&p.aim.hit[i])); err != nil {
			return g, err
		}
	}
	before := p.again
	p.again = func() (values []change) {
		if before != nil {
			values = before()
		}
		return append(values, h.newOnes(p, member)...)
	}
	p.Warnings = append(
		p.Warnings,
		"it is in no group of its own: it is moved into one, "+path+", and what it makes later "+
			"is in that too",
	)
	return g, nil
}

// plans tells whether a value is among those that are planned to be set.
func (p *plan) plans(c *change) bool {
	for i := range p.values {
		if v := &p.values[i]; v.Kind == c.Kind && v.File == c.File {
			return true
		}
	}
	return false
}

func (c *change) readRoom() (string, error) {
	if _, err := os.Stat(c.File); err == nil {
		return "made", nil
	}
	return "none", nil
}

// writeRoom makes a group, or takes it away again after putting back where it was what is still in it.
func (c *change) writeRoom(h *Host, value string) error {
	if value == "made" {
		around := filepath.Dir(c.File)
		if err := os.MkdirAll(around, 0o755); err != nil {
			return err
		}
		if err := h.delegate(around); err != nil {
			return err
		}
		if err := os.Mkdir(c.File, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
		return inheritCPUs(c.File)
	}
	var err error
	for range 100 { // a group is busy for a moment after its last task
		g := group{dir: c.File}
		pids, failed := g.pids()
		if failed != nil {
			return gone(failed)
		}
		for _, pid := range pids {
			_ = writeFile(
				filepath.Join(c.Device, "cgroup.procs"),
				strconv.Itoa(int(pid)),
			) // who is left keeps the group
		}
		if err = os.Remove(c.File); err == nil {
			_ = os.Remove(filepath.Dir(c.File)) // others may be in it
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return err
}

func (c *change) readMember(h *Host) (string, error) {
	x, err := h.look(c.PID)
	if err != nil || x.start != c.Start || x.isEnded() {
		return "", errGone
	}
	return h.cgroups(c.PID)[c.Device], nil
}

func (c *change) writeMember(h *Host, value string) error {
	if _, err := c.readMember(h); err != nil {
		return err
	}
	err := writeFile(filepath.Join(c.File, value, "cgroup.procs"), strconv.Itoa(int(c.PID)))
	if err != nil && strings.Contains(err.Error(), "no such process") {
		return errGone
	}
	return err
}

// makes tells whether a file is in a group that is planned to be made.
func (p *plan) makes(file string) bool {
	for i := range p.values {
		if v := &p.values[i]; v.Kind == aRoom && filepath.Dir(file) == v.File {
			return true
		}
	}
	return false
}

// noneYet is what a limit is in a group that is new.
func noneYet(c *change) string {
	switch filepath.Base(c.File) {
	case "cpu.max":
		return "max " + strconv.Itoa(usualPeriod)
	case "cpu.cfs_quota_us":
		return "-1"
	case "memory.limit_in_bytes":
		return strconv.FormatInt(int64(^uint64(0)>>1)&^int64(os.Getpagesize()-1), 10)
	}
	if c.Kind == aDevice && c.deviceKey() == "" {
		return "0"
	}
	return "max"
}
