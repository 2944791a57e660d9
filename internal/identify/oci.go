package identify

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// runtimes recognises containers of OCI runtimes by the file the runtime keeps for each: state.json of one common
// runtime, status and config.json of another. Both name the cgroup; the bundle's config.json says the rest.
type runtimes struct {
	run, proc string
	users     *Users

	mu     sync.Mutex
	byPath map[string]container // cgroup path -> container
	known  map[string]fileMark  // state files read

	round    int // reading; 0 where whoever asks does not say when one begins
	searched int // reading of the last search
}

type fileMark struct {
	inode   uint64
	modTime int64
}

func newRuntimes(run, proc string, users *Users) *runtimes {
	return &runtimes{
		run:    run,
		proc:   proc,
		users:  users,
		byPath: map[string]container{},
		known:  map[string]fileMark{},
	}
}

// maxState bounds a state file; a real one is 20-60 kB.
const maxState = 4 << 20

// container is what the files of a runtime say of one container.
type container struct {
	file    string // whose absence means it is gone
	id      string
	pid     int
	begun   string // tells this instance from an earlier one of the same id
	labels  map[string]string
	bundle  string
	cgroups []string
}

// Annotations that name a container and its owner, in order of preference. The CRI's and the Kubernetes ones are those
// that several engines write.
var (
	nameLabels  = []string{"org.vinescale.name", "io.kubernetes.cri.container-name", "io.kubernetes.container.name"}
	ownerLabels = []string{"org.vinescale.owner"}
	imageLabels = []string{"org.vinescale.image", "io.kubernetes.cri.image-name",
		"org.opencontainers.image.ref.name"}
	podLabels       = []string{"io.kubernetes.cri.sandbox-name", "io.kubernetes.pod.name"}
	namespaceLabels = []string{"io.kubernetes.cri.sandbox-namespace", "io.kubernetes.pod.namespace"}
	typeLabels      = []string{"io.kubernetes.cri.container-type"}
)

func (r *runtimes) recognise(p string) (account.Workload, bool) {
	c, ok := r.at(p)
	if !ok {
		return account.Workload{}, false
	}
	return r.workload(c), true
}

// patterns of state files below /run: of root's containers, and of users' own.
var patterns = []string{
	"runc/*/state.json", "runc/*/*/state.json", "*/runc/*/state.json", "*/runc/*/*/state.json",
	"user/*/runc/*/state.json",
	"crun/*/status", "user/*/crun/*/status",
}

// StateOf finds the file that an OCI runtime keeps of a container, below /run, and the name of the runtime.
func StateOf(run, id string) (file, runtime string, ok bool) {
	for _, pattern := range patterns {
		files, _ := filepath.Glob(filepath.Join(run, pattern))
		for _, file := range files {
			if filepath.Base(filepath.Dir(file)) != id {
				continue
			}
			if filepath.Base(file) == "status" {
				return file, "crun", true
			}
			return file, "runc", true
		}
	}
	return "", "", false
}

// at finds the container whose cgroup is p. State directories are searched again where one is not known yet: once a
// reading, since a search takes half a millisecond and a host may have a thousand cgroups of other kinds.
func (r *runtimes) at(p string) (container, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c, ok := r.byPath[p]; ok && r.known[c.file] == markOf(c.file) {
		return c, true
	}
	if r.round == 0 || r.searched != r.round {
		r.search()
		r.searched = r.round
	}
	c, ok := r.byPath[p]
	return c, ok
}

// next begins a reading, in which state directories are searched once: what is written after that is found by the next.
func (r *runtimes) next() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.round++
}

func markOf(file string) fileMark {
	info, err := os.Stat(file)
	if err != nil {
		return fileMark{}
	}
	return fileMark{inodeOf(info), info.ModTime().UnixNano()}
}

// search reads the state files that are new or changed, and forgets those that are gone.
func (r *runtimes) search() {
	for p, c := range r.byPath {
		if r.known[c.file] != markOf(c.file) {
			delete(r.byPath, p)
			delete(r.known, c.file)
		}
	}
	for _, pattern := range patterns {
		files, _ := filepath.Glob(filepath.Join(r.run, pattern))
		for _, file := range files {
			mark := markOf(file)
			if r.known[file] == mark {
				continue
			}
			c, err := readContainer(file)
			if err != nil {
				continue // cut short while it is written: read again for the next directory
			}
			r.known[file] = mark
			for _, dir := range c.cgroups {
				if p := hierarchyPath(dir); p != "/" {
					r.byPath[p] = c
				}
			}
		}
	}
}

func readContainer(file string) (container, error) {
	if path.Base(file) == "status" {
		return readStatus(file)
	}
	return readState(file)
}

// readState reads a state.json (runc's libcontainer state: id, init process, cgroup paths, labels).
func readState(file string) (container, error) {
	var st struct {
		ID          string            `json:"id"`
		InitPID     int               `json:"init_process_pid"`
		InitStart   uint64            `json:"init_process_start"`
		Created     string            `json:"created"`
		CgroupPaths map[string]string `json:"cgroup_paths"`
		Config      struct {
			Labels []string `json:"labels"` // key=value: the annotations, and bundle=
		} `json:"config"`
	}
	if err := readJSON(file, &st); err != nil {
		return container{}, err
	}
	c := container{file: file, id: st.ID, pid: st.InitPID, begun: st.Created, labels: map[string]string{}}
	if st.InitStart > 0 {
		c.begun = strconv.FormatUint(st.InitStart, 10)
	}
	for _, l := range st.Config.Labels {
		k, v, ok := strings.Cut(l, "=")
		switch {
		case ok && k == "bundle":
			c.bundle = v
		case ok:
			c.labels[k] = v
		}
	}
	for _, dir := range st.CgroupPaths {
		c.cgroups = append(c.cgroups, dir)
	}
	return c, c.sound()
}

// readStatus reads a status file (crun's: pid, cgroup-path, bundle, created), whose directory is named after the
// container.
func readStatus(file string) (container, error) {
	var st struct {
		PID    int    `json:"pid"`
		Start  uint64 `json:"process-start-time"`
		Cgroup string `json:"cgroup-path"`
		Bundle string `json:"bundle"`
		Begun  string `json:"created"`
	}
	if err := readJSON(file, &st); err != nil {
		return container{}, err
	}
	c := container{file: file, id: path.Base(path.Dir(file)), pid: st.PID, begun: st.Begun, bundle: st.Bundle,
		labels: map[string]string{}}
	if st.Start > 0 {
		c.begun = strconv.FormatUint(st.Start, 10)
	}
	if st.Cgroup != "" {
		c.cgroups = []string{path.Join("/", st.Cgroup)}
	}
	return c, c.sound()
}

func (c *container) sound() error {
	if c.id == "" {
		return fmt.Errorf("%s names no container", c.file)
	}
	return nil
}

func readJSON(file string, into any) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() || info.Size() > maxState {
		return fmt.Errorf("%s is not a container's: %d bytes", file, info.Size())
	}
	if err := json.NewDecoder(f).Decode(into); err != nil {
		return fmt.Errorf("read %s: %w", file, err)
	}
	return nil
}

// bundleConfig is what is used of a bundle's config.json (OCI Runtime Specification, "Configuration").
type bundleConfig struct {
	Annotations map[string]string `json:"annotations"`
	Process     struct {
		Args []string `json:"args"`
		Env  []string `json:"env"`
		User struct {
			UID      int64  `json:"uid"`
			Username string `json:"username"`
		} `json:"user"`
	} `json:"process"`
	Linux struct {
		Devices []struct {
			Path  string `json:"path"`
			Major int64  `json:"major"`
			Minor int64  `json:"minor"`
		} `json:"devices"`
		Resources struct {
			CPU struct {
				Quota  int64  `json:"quota"`
				Period int64  `json:"period"`
				CPUs   string `json:"cpus"`
			} `json:"cpu"`
			Memory struct {
				Limit int64 `json:"limit"`
			} `json:"memory"`
		} `json:"resources"`
	} `json:"linux"`
}

func (r *runtimes) workload(c container) account.Workload {
	facts := map[string]string{account.FactWhy: "state file of container " + c.id}
	if c.bundle != "" {
		var b bundleConfig
		if err := readJSON(filepath.Join(c.bundle, "config.json"), &b); err == nil {
			for k, v := range b.Annotations {
				if c.labels[k] == "" {
					c.labels[k] = v
				}
			}
			facts[account.FactOrder] = strings.Join(b.Process.Args, " ")
			facts[account.FactUser] = strconv.FormatInt(b.Process.User.UID, 10)
			if q, p := b.Linux.Resources.CPU.Quota, b.Linux.Resources.CPU.Period; q > 0 && p > 0 {
				facts[account.FactCPULimit] = strconv.FormatFloat(float64(q)/float64(p), 'g', 6, 64)
			}
			b.putGPUs(facts)
			if l := b.Linux.Resources.Memory.Limit; l > 0 {
				facts[account.FactMemoryLimit] = strconv.FormatInt(l, 10)
			}
		}
	}
	if names := namedGPUs(c.labels); names != "" {
		facts[account.FactGPUNames] = names
	}
	w := account.Workload{Key: "container:" + c.id, Kind: amount.Container, Name: c.id, UID: -1, Labels: c.labels,
		Facts: facts}
	if c.begun != "" {
		w.Key += "@" + c.begun
	}
	if isID(c.id) {
		w.Name = c.id[:12]
	}
	if name := firstLabel(c.labels, nameLabels); name != "" {
		w.Name = name
	}
	facts[account.FactImage] = firstLabel(c.labels, imageLabels)
	facts[account.FactPod] = firstLabel(c.labels, podLabels)
	facts[account.FactNamespace] = firstLabel(c.labels, namespaceLabels)
	if firstLabel(c.labels, typeLabels) == "sandbox" {
		w.Name = "sandbox of " + or(facts[account.FactPod], "a pod")
	}
	if owner := firstLabel(c.labels, ownerLabels); owner != "" {
		w.Owner = owner
		if uid, ok := r.users.UID(owner); ok {
			w.UID = uid
		}
	} else if uid, ok := person(r.proc, c.pid); ok {
		w.Owner, w.UID = r.users.Name(uid), uid
	}
	for _, dir := range c.cgroups {
		if id, ok := podOf(path.Dir(hierarchyPath(dir))); ok {
			w.Outer = "pod:" + id
		}
	}
	return w
}

// pod recognises the directory around a pod's containers, and names it by what its containers' files say of it.
func (r *runtimes) pod(p string) (account.Workload, bool) {
	id, ok := podOf(p)
	if !ok {
		return account.Workload{}, false
	}
	w := account.Workload{
		Key: "pod:" + id, Kind: amount.Container, Name: "pod " + id[:min(len(id), 12)], UID: -1,
		Facts: map[string]string{account.FactUUID: id}, Labels: map[string]string{},
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for dir, c := range r.byPath {
		name := firstLabel(c.labels, podLabels)
		if path.Dir(dir) != p || name == "" {
			continue
		}
		w.Name = "pod " + name
		w.Facts[account.FactPod], w.Facts[account.FactNamespace] = name, firstLabel(c.labels, namespaceLabels)
		w.Owner = firstLabel(c.labels, ownerLabels)
		if uid, ok := r.users.UID(w.Owner); ok && w.Owner != "" {
			w.UID = uid
		}
	}
	return w, true
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
		case "cpu",
			"cpuacct",
			"cpuset",
			"memory",
			"devices",
			"freezer",
			"net_cls",
			"net_prio",
			"blkio",
			"perf_event",
			"hugetlb",
			"pids",
			"rdma",
			"misc",
			"unified",
			"systemd":
		default:
			return false
		}
	}
	return true
}

func firstLabel(labels map[string]string, keys []string) string {
	for _, k := range keys {
		if v := labels[k]; v != "" {
			return v
		}
	}
	return ""
}

// person is who stands behind a process as the host sees it: who signed in and began it as root, else its real uid.
func person(proc string, pid int) (int64, bool) {
	b, err := fs.ReadFile(os.DirFS(proc), fmt.Sprintf("%d/status", pid))
	if err != nil {
		return 0, false
	}
	p := Process{LoginUID: NoUser, UID: -1}
	for l := range strings.SplitSeq(string(b), "\n") {
		if n, _ := fmt.Sscanf(l, "Uid:\t%d", &p.UID); n == 1 {
			break
		}
	}
	if b, err := os.ReadFile(fmt.Sprintf("%s/%d/loginuid", proc, pid)); err == nil {
		p.LoginUID = parseLoginUID(b)
	}
	return p.Person(), p.UID >= 0
}
