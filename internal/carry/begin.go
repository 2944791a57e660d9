package carry

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/cpuset"
	"vinescale/internal/identify"
)

// Work is what is to be begun in a group of its own.
type Work struct {
	identify.Begun
	CPUs   cpuset.Set // empty for all that there are
	Weight int        // for CPU time against its siblings, 100 is usual; 0 for that
}

// Room is the group of some work, in each hierarchy that this host has.
type Room struct {
	h     *Host
	work  *Work
	dirs  []string
	where map[string]string // this process's own groups, by hierarchy's directory
	// Missing says what could not be done by the group, and was left out.
	Missing []string
}

// controllers are those of version 1 that work gets groups of. It is known by the first two.
var controllers = []string{"cpuacct", "cpu", "memory", "cpuset", "pids", "freezer", "blkio", "unified"}

// MakeRoom makes the groups of some work. Nothing runs in them yet. What was made is taken back where it fails.
func MakeRoom(o Options, w *Work) (r *Room, err error) {
	h := &Host{Options: o}
	r = &Room{h: h, work: w, where: map[string]string{}}
	w.Mark = time.Now().UnixMicro()
	if online, err := h.online(); err != nil || !w.CPUs.Within(online) {
		return nil, errors.Join(err, fmt.Errorf("CPUs %s: this host has %s", w.CPUs.String(), online.String()))
	}
	if err := w.Write(o.Run); err != nil {
		if errors.Is(err, os.ErrExist) {
			return nil, fmt.Errorf(
				"there is work called %s on this host already: choose another name with --name",
				w.Name,
			)
		}
		return nil, fmt.Errorf("write down what is begun: %w", err)
	}
	defer func() {
		if err != nil {
			r.Clear()
		}
	}()
	for _, c := range controllers {
		root, _, ok := h.hierarchy(c)
		if !ok {
			continue
		}
		dir := filepath.Join(root, identify.BegunGroup(w.Name))
		if slices.Contains(r.dirs, dir) {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
			return nil, fmt.Errorf("make a group of its own: %w", err)
		}
		if err := h.delegate(filepath.Dir(dir)); err != nil {
			return nil, err
		}
		if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
			return nil, fmt.Errorf("make a group of its own: %w", err)
		}
		r.dirs = append(r.dirs, dir)
	}
	if len(r.dirs) == 0 {
		return nil, errors.New("this host has no cgroups that work could be begun in")
	}
	return r, r.furnish()
}

// delegate lets the groups of work have the controllers that the group around them has (version 2; "Control Group v2",
// "Enabling and Disabling"), and gives it the CPUs and memory nodes of its own parent (version 1, where it has none).
func (h *Host) delegate(dir string) error {
	if b, err := os.ReadFile(filepath.Join(dir, "cgroup.controllers")); err == nil {
		for _, c := range strings.Fields(string(b)) {
			_ = writeFile(
				filepath.Join(dir, "cgroup.subtree_control"),
				"+"+c,
			) // what cannot be had is told of by furnish
		}
		return nil
	}
	return inheritCPUs(dir)
}

// inheritCPUs gives a group of version 1 its parent's CPUs and memory nodes where it has none: nothing may be in it
// before.
func inheritCPUs(dir string) error {
	for _, name := range []string{"cpuset.cpus", "cpuset.mems"} {
		now, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil || strings.TrimSpace(string(now)) != "" {
			continue
		}
		of, err := os.ReadFile(filepath.Join(filepath.Dir(dir), name))
		if err != nil {
			return err
		}
		if err := writeFile(filepath.Join(dir, name), strings.TrimSpace(string(of))); err != nil {
			return fmt.Errorf("give its group CPUs: %w", err)
		}
	}
	return nil
}

// furnish sets the CPUs and the weight of the groups.
func (r *Room) furnish() error {
	for _, dir := range r.dirs {
		if err := inheritCPUs(dir); err != nil {
			return err
		}
	}
	set := func(value string, files ...string) bool {
		for _, dir := range r.dirs {
			for _, f := range files {
				if writeFile(filepath.Join(dir, f), value) == nil {
					return true
				}
			}
		}
		return false
	}
	if !r.work.CPUs.IsEmpty() && !set(r.work.CPUs.String(), "cpuset.cpus") {
		r.Missing = append(
			r.Missing,
			"its group cannot be kept on CPUs here: its threads are, by their affinity, which they "+
				"may change",
		)
	}
	if w := r.work.Weight; w > 0 && !set(strconv.Itoa(w), "cpu.weight") &&
		!set(strconv.Itoa(max(2, w*usualShares/100)), "cpu.shares") {
		return errors.New("the kernel does not weigh groups here: leave out --weight")
	}
	return nil
}

// Enter puts this process into the groups: what it starts meanwhile is in them from its first instant. Leave takes it
// out again.
func (r *Room) Enter() error {
	own := r.h.cgroups(int32(os.Getpid()))
	for _, dir := range r.dirs {
		root := strings.TrimSuffix(dir, identify.BegunGroup(r.work.Name))
		path := own[""]
		for c := range strings.SplitSeq(filepath.Base(root), ",") {
			if at, is := own[c]; is && root != r.h.Cgroup {
				path = at
			}
		}
		if err := writeFile(filepath.Join(dir, "cgroup.procs"), strconv.Itoa(os.Getpid())); err != nil {
			return errors.Join(fmt.Errorf("enter its group %s: %w", dir, err), r.Leave())
		}
		r.where[dir] = filepath.Join(root, path)
	}
	return nil
}

// Leave puts this process back where it was.
func (r *Room) Leave() (err error) {
	for _, from := range r.where {
		err = errors.Join(err, writeFile(filepath.Join(from, "cgroup.procs"), strconv.Itoa(os.Getpid())))
	}
	clear(r.where)
	return err
}

// Clear forgets the work and removes its groups, as far as nothing runs in them any more.
func (r *Room) Clear() {
	empty := true
	for _, dir := range r.dirs {
		g := group{dir: dir}
		if pids, err := g.pids(); err == nil && len(pids) > 0 {
			empty = false // what it left behind is still its own
		}
	}
	if !empty {
		return
	}
	for _, dir := range r.dirs {
		for range 50 { // a group is busy for a moment after its last task
			if err := os.Remove(dir); err == nil || errors.Is(err, os.ErrNotExist) {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	for _, dir := range r.dirs {
		_ = os.Remove(filepath.Dir(dir)) // others' work may be in it
	}
	_ = r.work.Remove(r.h.Run) // where it stays, the name cannot be used again until the host starts anew
}
