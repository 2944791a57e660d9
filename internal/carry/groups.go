package carry

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// group is a cgroup: a directory of one hierarchy.
type group struct {
	dir string // absolute
	v2  bool
}

// errNoGroup is why what acts on cgroups cannot be done.
var errNoGroup = errors.New("it has no group of its own that the kernel could do this to")

// hierarchy is where a controller's tree is mounted; ok is false where it is nowhere.
func (h *Host) hierarchy(controller string) (root string, v2, ok bool) {
	if b, err := os.ReadFile(filepath.Join(h.Cgroup, "cgroup.controllers")); err == nil {
		if controller == "freezer" || slices.Contains(strings.Fields(string(b)), controller) {
			return h.Cgroup, true, true
		}
		return "", true, false
	}
	entries, _ := os.ReadDir(h.Cgroup)
	for _, e := range entries {
		if slices.Contains(strings.Split(e.Name(), ","), controller) {
			return filepath.Join(h.Cgroup, e.Name()), false, true
		}
	}
	return "", false, false
}

// groupFor finds the cgroup that holds a workload and nobody else for a controller. Members are its processes. The
// error says why there is none.
func (h *Host) groupFor(controller string, a *aim) (group, error) {
	root, v2, ok := h.hierarchy(controller)
	if !ok {
		return group{}, fmt.Errorf("this host's cgroups do not have the controller %s", controller)
	}
	if a.workload == nil || a.workload.Path == "" {
		return group{}, errNoGroup
	}
	name := controller
	if v2 {
		name = ""
	}
	path := ""
	for i := range a.members {
		at := h.cgroups(a.members[i].pid)[name]
		if at == "" || at == "/" {
			if !h.isThere(a.members[i].ref()) {
				continue // it ended meanwhile
			}
			return group{}, fmt.Errorf("its processes are in no group of the controller %s", controller)
		}
		path = common(path, at)
	}
	if path == "" {
		path = a.workload.Path
	}
	// It is the innermost that holds all of its processes, but not below the one that its workload is known by.
	if within(path, a.workload.Path) {
		path = a.workload.Path
	}
	if path == "/" {
		return group{}, errNoGroup
	}
	g := group{filepath.Join(root, path), v2}
	if _, err := os.Stat(g.dir); err != nil {
		return group{}, fmt.Errorf("its group of the controller %s is gone", controller)
	}
	return g, nil
}

// common is the innermost directory that holds both; that of the other where one is empty.
func common(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	for !within(b, a) {
		a = filepath.Dir(a)
	}
	return a
}

// within tells whether a path is a directory or below it.
func within(path, dir string) bool {
	return path == dir || dir == "/" || strings.HasPrefix(path, dir+"/")
}

// pids lists the processes of a group and of the groups within it.
func (g *group) pids() (pids []int32, err error) {
	err = filepath.WalkDir(g.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			if errors.Is(err, os.ErrNotExist) && path != g.dir {
				return nil // it went meanwhile
			}
			return err
		}
		b, err := os.ReadFile(filepath.Join(path, "cgroup.procs"))
		if err != nil {
			if errors.Is(err, os.ErrNotExist) {
				return nil
			}
			return err
		}
		for f := range strings.FieldsSeq(string(b)) {
			if pid, err := strconv.ParseInt(f, 10, 32); err == nil {
				pids = append(pids, int32(pid))
			}
		}
		return nil
	})
	slices.Sort(pids)
	return slices.Compact(pids), err
}

// inode tells a group from a later one of the same path.
func (g *group) inode() uint64 {
	info, err := os.Stat(g.dir)
	if err != nil {
		return 0
	}
	return inodeOf(info)
}
