package identify

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"sync"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// containers recognises containers of OCI runtimes: by the state file the runtime keeps for each, which says its cgroup
// paths, and where that cannot be read by the 64-digit id that engines name cgroups after.
type containers struct {
	run, proc string
	users     *Users

	mu     sync.Mutex
	byPath map[string]string // cgroup path -> state file
	known  map[string]bool   // state files read
}

func newContainers(run, proc string, users *Users) *containers {
	return &containers{run: run, proc: proc, users: users, byPath: map[string]string{}, known: map[string]bool{}}
}

// maxState bounds a state file; a real one is 20-60 kB.
const maxState = 4 << 20

// ociState is what is used of an OCI runtime's state.json.
type ociState struct {
	ID          string            `json:"id"`
	InitPID     int               `json:"init_process_pid"`
	CgroupPaths map[string]string `json:"cgroup_paths"`
	Config      struct {
		Labels []string `json:"labels"` // key=value: the annotations, and bundle=
	} `json:"config"`
}

// Annotations that name a container and its owner, in order of preference.
var (
	nameLabels  = []string{"org.vinescale.name", "io.kubernetes.cri.container-name", "io.kubernetes.container.name"}
	ownerLabels = []string{"org.vinescale.owner"}
)

// engineDir matches the directory an engine names after a container: the id alone, or in a scope with the engine's prefix.
var engineDir = regexp.MustCompile(`^(?:[a-z][a-z-]*-)?([0-9a-f]{64})(?:\.scope)?$`)

func (c *containers) recognise(p string) (account.Workload, bool) {
	if p == "/" {
		return account.Workload{}, false
	}
	if file, ok := c.stateFor(p); ok {
		if st, err := readState(file); err == nil {
			return c.fromState(st), true
		}
	}
	if m := engineDir.FindStringSubmatch(path.Base(p)); m != nil {
		return account.Workload{Key: "container:" + m[1], Kind: amount.Container, Name: m[1][:12], UID: -1}, true
	}
	return account.Workload{}, false
}

// stateFor finds the state file of the container whose cgroup is p. State directories are searched again for each
// directory not known yet, which happens once per new directory.
func (c *containers) stateFor(p string) (string, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if file, ok := c.byPath[p]; ok {
		if _, err := os.Stat(file); err == nil {
			return file, true
		}
		delete(c.byPath, p)
	}
	for _, pattern := range []string{"runc/*/state.json", "runc/*/*/state.json", "*/runc/*/state.json", "*/runc/*/*/state.json"} {
		files, _ := filepath.Glob(filepath.Join(c.run, pattern))
		for _, file := range files {
			if c.known[file] {
				continue
			}
			st, err := readState(file)
			if err != nil {
				continue // cut short while it is written: read again for the next directory
			}
			c.known[file] = true
			for _, dir := range st.CgroupPaths {
				c.byPath[hierarchyPath(dir)] = file
			}
		}
	}
	file, ok := c.byPath[p]
	return file, ok
}

// hierarchyPath turns an absolute cgroup directory into its path within its hierarchy. It takes the usual mount point,
// with or without a controller's name (cgroups(7)), or a staged one.
func hierarchyPath(dir string) string {
	_, rest, found := strings.Cut(dir, "/cgroup/")
	if !found {
		return dir
	}
	first, tail, _ := strings.Cut(rest, "/")
	if isController(first) {
		return "/" + tail
	}
	return "/" + rest
}

func isController(s string) bool {
	for c := range strings.SplitSeq(s, ",") {
		switch c {
		case "cpu", "cpuacct", "cpuset", "memory", "devices", "freezer", "net_cls", "net_prio", "blkio", "perf_event",
			"hugetlb", "pids", "rdma", "misc", "unified", "systemd":
		default:
			return false
		}
	}
	return true
}

func readState(file string) (ociState, error) {
	var st ociState
	f, err := os.Open(file)
	if err != nil {
		return st, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return st, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxState {
		return st, fmt.Errorf("%s is not a container's state: %d bytes", file, info.Size())
	}
	if err := json.NewDecoder(f).Decode(&st); err != nil {
		return st, fmt.Errorf("read %s: %w", file, err)
	}
	if st.ID == "" {
		return st, fmt.Errorf("%s names no container", file)
	}
	return st, nil
}

func (c *containers) fromState(st ociState) account.Workload {
	labels := map[string]string{}
	for _, l := range st.Config.Labels {
		if k, v, ok := strings.Cut(l, "="); ok && k != "bundle" {
			labels[k] = v
		}
	}
	w := account.Workload{Key: "container:" + st.ID, Kind: amount.Container, Name: st.ID, UID: -1, Labels: labels}
	if name := firstLabel(labels, nameLabels); name != "" {
		w.Name = name
	}
	if owner := firstLabel(labels, ownerLabels); owner != "" {
		w.Owner = owner
		if uid, ok := c.users.UID(owner); ok {
			w.UID = uid
		}
	} else if uid, ok := realUID(c.proc, st.InitPID); ok {
		w.Owner, w.UID = c.users.Name(uid), uid
	}
	return w
}

func firstLabel(labels map[string]string, keys []string) string {
	for _, k := range keys {
		if v := labels[k]; v != "" {
			return v
		}
	}
	return ""
}

// realUID is the real uid of a process as the host sees it.
func realUID(proc string, pid int) (int64, bool) {
	b, err := os.ReadFile(fmt.Sprintf("%s/%d/status", proc, pid))
	if err != nil {
		return 0, false
	}
	for l := range strings.SplitSeq(string(b), "\n") {
		var uid int64
		if n, _ := fmt.Sscanf(l, "Uid:\t%d", &uid); n == 1 {
			return uid, true
		}
	}
	return 0, false
}
