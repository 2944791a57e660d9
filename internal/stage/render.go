package stage

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vinescale/core/amount"
)

// Tree is a directory in which a staged host shows its kernel's files.
type Tree struct{ Dir string }

// The roots a collector reads.
func (t Tree) Proc() string   { return filepath.Join(t.Dir, "proc") }
func (t Tree) Sys() string    { return filepath.Join(t.Dir, "sys") }
func (t Tree) Cgroup() string { return filepath.Join(t.Dir, "sys/fs/cgroup") }
func (t Tree) Etc() string    { return filepath.Join(t.Dir, "etc") }
func (t Tree) Run() string    { return filepath.Join(t.Dir, "run") }

// writer writes files and keeps the first error.
type writer struct{ err error }

func (w *writer) file(path, content string) {
	if w.err != nil {
		return
	}
	err := overwrite(path, content)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(filepath.Dir(path), 0o755); err == nil {
			err = overwrite(path, content)
		}
	}
	w.err = err
}

// overwrite writes a file in place. Emptying it first, as os.WriteFile does, makes some filesystems write it to disk at
// once: six times slower for a whole fleet.
func overwrite(path, content string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(content)
	if err == nil {
		var info fs.FileInfo
		if info, err = f.Stat(); err == nil && info.Size() > int64(len(content)) {
			err = f.Truncate(int64(len(content)))
		}
	}
	return errors.Join(err, f.Close())
}

func (w *writer) link(target, path string) {
	if w.err != nil {
		return
	}
	if has, err := os.Readlink(path); err == nil && has == target {
		return
	}
	if w.err = os.MkdirAll(filepath.Dir(path), 0o755); w.err == nil {
		w.err = os.Symlink(target, path)
	}
}

func (w *writer) dir(path string) {
	if w.err == nil {
		w.err = os.MkdirAll(path, 0o755)
	}
}

const hostNamespace = "net:[4026531840]"

// Render writes what the kernel of this host would show now. Called again, it brings the files up to date.
func (h *Host) Render(t Tree) error {
	w := &writer{}
	h.renderHost(w, t)
	for _, x := range h.Workloads {
		if x.Link != "" {
			h.renderLink(w, t, x)
		}
		for _, p := range x.Processes {
			h.renderProcess(w, t, x, p)
		}
		if x.Path != "" {
			h.renderGroup(w, t, x)
		}
	}
	for _, p := range h.kthreads {
		h.renderProcess(w, t, nil, p)
	}
	if w.err != nil {
		return fmt.Errorf("stage %s: %w", h.Name, w.err)
	}
	return nil
}

func (h *Host) renderHost(w *writer, t Tree) {
	proc := t.Proc()
	free, cached, slab := h.memory()
	var stat strings.Builder
	stat.WriteString("cpu  0 0 0 0 0 0 0 0 0 0\n")
	for c := range h.CPUs {
		if !h.unplugged[c] {
			fmt.Fprintf(&stat, "cpu%d %d 0 0 %d 0 0 %d 0 0 0\n", c, h.user[c]/tick, h.idle(c)/tick, h.kernel[c]/tick)
		}
	}
	load := h.load()
	fmt.Fprintf(&stat, "btime %d\n", h.Now.Add(-h.Uptime).Unix())
	w.file(filepath.Join(proc, "stat"), stat.String())
	w.file(filepath.Join(proc, "uptime"), fmt.Sprintf("%.2f 0.00\n", h.Uptime.Truncate(10*time.Millisecond).Seconds()))
	w.file(filepath.Join(proc, "meminfo"),
		fmt.Sprintf(
			"MemTotal: %d kB\nMemFree: %d kB\nMemAvailable: %d kB\nBuffers: 0 kB\nCached: %d kB\nShmem: 0 kB\nSlab: "+
				"%d kB\nKernelStack: 0 kB\nPageTables: 0 kB\nSwapTotal: %d kB\nSwapFree: %d kB\n",
			h.MemoryBytes>>10, free>>10, (free+cached/2)>>10, cached>>10, slab>>10, swapSize>>10,
			(swapSize-h.swapped())>>10))
	w.file(filepath.Join(proc, "loadavg"), fmt.Sprintf("%.2f %.2f %.2f 1/200 1\n", load[0], load[1], load[2]))
	h.renderDisks(w, t)
	h.renderDevices(w, t)
	h.renderGPUs(w, t)
	if _, err := os.Stat(filepath.Join(t.Etc(), "os-release")); err != nil { // it does not change
		h.renderMachine(w, t)
	}
	w.file(filepath.Join(proc, "pressure/cpu"), fmt.Sprintf("some avg10=0.00 avg60=0.00 avg300=0.00 total=%d\n",
		h.stall))
	w.file(filepath.Join(proc, "pressure/memory"),
		"some avg10=0.00 avg60=0.00 avg300=0.00 total=0\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=0\n")
	w.file(filepath.Join(proc, "pressure/io"),
		fmt.Sprintf(
			"some avg10=0.00 avg60=0.00 avg300=0.00 total=%d\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=%d\n",
			h.stall/3, h.stall/9))
	w.file(filepath.Join(proc, "sys/kernel/random/boot_id"), h.Boot+"\n")
	w.file(filepath.Join(proc, "1/net/dev"), netDev(h.received(), h.network-h.received())+h.links())
	w.link(hostNamespace, filepath.Join(proc, "1/ns/net"))
	w.dir(filepath.Join(t.Sys(), "class/net", LinkName, "device"))
	w.dir(filepath.Join(t.Sys(), "class/net/lo"))
	w.file(filepath.Join(t.Sys(), "class/net", LinkName, "speed"), fmt.Sprintf("%d\n", h.LinkMbit))
	var passwd strings.Builder
	for name, uid := range h.Users {
		fmt.Fprintf(&passwd, "%s:x:%d:%d::/home/%s:/bin/sh\n", name, uid, uid, name)
	}
	if _, err := os.Stat(filepath.Join(t.Etc(), "passwd")); err != nil {
		w.file(filepath.Join(t.Etc(), "passwd"), passwd.String())
	}
	if h.V1 {
		w.dir(filepath.Join(t.Cgroup(), "cpuacct"))
		w.dir(filepath.Join(t.Cgroup(), "memory"))
		w.dir(filepath.Join(t.Cgroup(), "unified"))
		if h.Counts {
			w.dir(filepath.Join(t.Cgroup(), "blkio"))
		}
	} else {
		w.file(filepath.Join(t.Cgroup(), "cgroup.controllers"), "cpuset cpu io memory pids\n")
	}
}

// loopback is what went over the loopback interface of any network, in bytes: nothing since the host began.
const loopback = 500

func netDev(received, sent int64) string {
	return fmt.Sprintf(
		"Inter-|   Receive                                                |  Transmit\n face |bytes    packets errs "+
			"drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n"+
			"    lo: %d 5 0 0 0 0 0 0 %d 5 0 0 0 0 0 0\n  %s: %d %d 0 0 0 0 0 0 %d %d 0 0 0 0 0 0\n", loopback,
		loopback,
		LinkName, received, received/packet, sent, sent/packet)
}

func (h *Host) renderProcess(w *writer, t Tree, x *Workload, p *Process) {
	dir := filepath.Join(t.Proc(), fmt.Sprint(p.PID))
	flags, comm := 4194560, p.Program
	if p.Kernel {
		flags = 0x00200000 | 69238848
	}
	stat := func(id int32, comm string, running bool, micros int64, cpu int32) string {
		state := 'S'
		if running {
			state = 'R'
		}
		if len(comm) > 15 {
			comm = comm[:15] // as the kernel keeps it
		}
		return fmt.Sprintf(
			"%d (%s) %c %d 1 1 0 -1 %d 0 0 0 0 %d 0 0 0 20 0 %d 0 %d 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 %d 0 0 0 0 0\n",
			id, comm, state, max(p.Parent, 1), flags, micros/tick, p.Threads, p.Start, cpu)
	}
	w.file(filepath.Join(dir, "stat"), stat(p.PID, comm, p.Runnable > 0, p.CPUMicros, p.LastCPU))
	if p.Threads > 1 {
		for i := range int(p.Threads) {
			tid := p.PID + int32(i)
			w.file(filepath.Join(dir, "task", fmt.Sprint(tid), "stat"),
				stat(tid, p.taskName(i), i < int(p.Runnable), p.thread(i).micros, p.thread(i).cpu))
			if on := p.allowed(i); on != "" {
				w.file(filepath.Join(dir, "task", fmt.Sprint(tid), "comm"), p.taskName(i)+"\n")
				w.file(filepath.Join(dir, "task", fmt.Sprint(tid), "status"), "Cpus_allowed_list:\t"+on+"\n")
			}
		}
	}
	w.file(filepath.Join(dir, "io"),
		fmt.Sprintf(
			"rchar: 0\nwchar: 0\nsyscr: 0\nsyscw: 0\nread_bytes: %d\nwrite_bytes: %d\ncancelled_write_bytes: 0\n",
			p.DiskBytes/3, p.DiskBytes-p.DiskBytes/3))
	if p.Kernel {
		return
	}
	w.file(filepath.Join(dir, "statm"), fmt.Sprintf("%d %d 0 0 0 0 0\n", p.AnonBytes/pageSize*2, p.AnonBytes/pageSize))
	w.file(filepath.Join(dir, "status"), fmt.Sprintf("Name:\t%.15s\nUid:\t%d\t%d\t%d\t%d\nCpus_allowed_list:\t%s\n",
		comm, p.UID, p.UID, p.UID, p.UID, x.Allowed))
	path := x.Path
	if path == "" {
		path = "/"
	}
	if h.V1 {
		w.file(filepath.Join(dir, "cgroup"), fmt.Sprintf("3:memory:%s\n2:cpuacct:%s\n1:name=systemd:%s\n0::/\n", path,
			path, path))
	} else {
		w.file(filepath.Join(dir, "cgroup"), "0::"+path+"\n")
	}
	w.link("/usr/bin/"+p.Program, filepath.Join(dir, "exe"))
	x.renderRoot(w, dir)
	if environ := x.environ(); environ != "" {
		w.file(filepath.Join(dir, "environ"), environ)
	}
	if x.Space == 0 {
		w.link(hostNamespace, filepath.Join(dir, "ns/net"))
		return
	}
	w.link(fmt.Sprintf("net:[%d]", x.Space), filepath.Join(dir, "ns/net"))
	w.file(filepath.Join(dir, "net/dev"), netDev(x.received(), x.sent()))
}

// environ is the environment a scheduler gives the processes of a job.
func (x *Workload) environ() string {
	if x.Kind != amount.Job {
		return ""
	}
	return fmt.Sprintf(
		"HOME=/\x00SLURM_JOB_ID=%s\x00SLURM_JOB_ACCOUNT=%s\x00SLURM_JOB_PARTITION=day"+
			"\x00SLURM_JOB_NAME=%s\x00SLURM_CPUS_ON_NODE=%d\x00",
		strings.TrimPrefix(x.Name, "job "), x.Account, x.Processes[0].Program, x.Asked)
}

func (h *Host) renderGroup(w *writer, t Tree, x *Workload) {
	if x.ID != "" {
		h.renderState(w, t, x)
	}
	byDir, _ := x.weights()
	if !h.V1 {
		dir := filepath.Join(t.Cgroup(), x.Path)
		pressure := func(file string, some, full int64) {
			const idle = "avg10=0.00 avg60=0.00 avg300=0.00"
			w.file(filepath.Join(dir, file), fmt.Sprintf("some %s total=%d\nfull %s total=%d\n", idle, some, idle,
				full))
		}
		w.file(filepath.Join(dir, "cpu.stat"),
			fmt.Sprintf(
				"usage_usec %d\nuser_usec %d\nsystem_usec %d\nnr_periods %d\nnr_throttled %d\nthrottled_usec %d\n",
				x.CPUMicros, x.user(), x.CPUMicros-x.user(), x.periods, x.held, x.throttled))
		w.file(filepath.Join(dir, "memory.current"), fmt.Sprintf("%d\n", x.MemoryBytes))
		w.file(filepath.Join(dir, "memory.stat"),
			fmt.Sprintf("anon %d\nfile %d\nkernel %d\nshmem %d\ninactive_file %d\npgsteal %d\npgmajfault %d\n",
				x.anon(), x.fileBytes(), x.kernelBytes(),
				x.shared(), x.inactive(), x.swapped*3/pageSize, x.swapped/pageSize/10))
		w.file(filepath.Join(dir, "memory.swap.current"), fmt.Sprintf("%d\n", x.swapped))
		w.file(filepath.Join(dir, "memory.peak"), fmt.Sprintf("%d\n", x.most))
		w.file(filepath.Join(dir, "memory.events"),
			fmt.Sprintf("low 0\nhigh 0\nmax 0\noom %d\noom_kill %d\n", x.kills, x.kills))
		pressure("cpu.pressure", x.stalled, x.stalled/3)
		pressure("memory.pressure", x.kills*1000, 0)
		pressure("io.pressure", x.DiskBytes/5000, x.DiskBytes/9000)
		var io strings.Builder
		for _, d := range x.devices() {
			fmt.Fprintf(&io, "%d:%d rbytes=%d wbytes=%d rios=%d wios=%d dbytes=0 dios=0\n", d.Major, d.Minor, d.Read,
				d.Written, d.ReadOps, d.WriteOps)
		}
		w.file(filepath.Join(dir, "io.stat"), io.String())
		quota, most := "max", "max"
		if x.Limit > 0 {
			quota = fmt.Sprint(int(x.Limit * 100_000))
		}
		if x.Most > 0 {
			most = fmt.Sprint(x.Most)
		}
		w.file(filepath.Join(dir, "cpu.max"), quota+" 100000\n")
		w.file(filepath.Join(dir, "memory.max"), most+"\n")
		if on := x.cpusetOn(h); on != "" {
			w.file(filepath.Join(dir, "cpuset.cpus.effective"), on+"\n")
			w.file(filepath.Join(filepath.Dir(dir), "cpuset.cpus.effective"), fmt.Sprintf("0-%d\n", h.CPUs-1))
		}
		for of, weight := range byDir {
			w.file(filepath.Join(t.Cgroup(), of, "cpu.weight"), fmt.Sprintf("%d\n", weight))
		}
		return
	}
	var percpu strings.Builder
	total := int64(0)
	for _, micros := range x.PerCPU {
		fmt.Fprintf(&percpu, "%d ", micros*1000)
		total += micros
	}
	if h.Counts { // it is known by these, and what it does is counted beside
		w.dir(filepath.Join(t.Cgroup(), "unified", x.Path))
		w.dir(filepath.Join(t.Cgroup(), "blkio", x.Path))
	}
	dir := filepath.Join(t.Cgroup(), "cpuacct", x.Path)
	w.file(filepath.Join(dir, "cpuacct.stat"), fmt.Sprintf("user %d\nsystem %d\n", x.user()/tick,
		(x.CPUMicros-x.user())/tick))
	w.file(filepath.Join(dir, "cpuacct.usage"), fmt.Sprintf("%d\n", total*1000))
	w.file(filepath.Join(dir, "cpuacct.usage_percpu"), percpu.String()+"\n")
	if on := x.cpusetOn(h); on != "" {
		w.file(filepath.Join(t.Cgroup(), "cpuset", x.Path, "cpuset.effective_cpus"), on+"\n")
	}
	for of, weight := range byDir {
		w.file(filepath.Join(t.Cgroup(), "cpu", of, "cpu.shares"), fmt.Sprintf("%d\n", weight*1024/100))
	}
	dir = filepath.Join(t.Cgroup(), "memory", x.Path)
	if x.Most > 0 {
		w.file(filepath.Join(dir, "memory.limit_in_bytes"), fmt.Sprintf("%d\n", x.Most))
	}
	w.file(filepath.Join(dir, "memory.usage_in_bytes"), fmt.Sprintf("%d\n", x.MemoryBytes))
	w.file(filepath.Join(dir, "memory.stat"),
		fmt.Sprintf(
			"cache 0\ntotal_cache %d\ntotal_rss %d\ntotal_shmem %d\ntotal_swap %d\ntotal_inactive_file "+
				"%d\ntotal_pgmajfault %d\n",
			x.fileBytes(), x.anon(), x.shared(), x.swapped, x.inactive(), x.swapped/pageSize/10))
	w.file(filepath.Join(dir, "memory.max_usage_in_bytes"), fmt.Sprintf("%d\n", x.most))
	w.file(filepath.Join(dir, "memory.oom_control"),
		fmt.Sprintf("oom_kill_disable 0\nunder_oom 0\noom_kill %d\n", x.kills))
	w.file(filepath.Join(dir, "memory.kmem.usage_in_bytes"), fmt.Sprintf("%d\n", x.kernelBytes()))
}

// renderState writes the state file an OCI runtime keeps of a container.
func (h *Host) renderState(w *writer, t Tree, x *Workload) {
	file := filepath.Join(t.Run(), "runc", x.ID, "state.json")
	if _, err := os.Stat(file); err == nil || w.err != nil {
		return
	}
	paths := map[string]string{"": filepath.Join("/sys/fs/cgroup", x.Path)}
	if h.V1 {
		paths = map[string]string{"cpuacct": filepath.Join("/sys/fs/cgroup/cpuacct", x.Path),
			"memory": filepath.Join("/sys/fs/cgroup/memory", x.Path)}
	}
	labels := []string{"bundle=/var/lib/coop/" + x.Name}
	for k, v := range x.Labels {
		labels = append(labels, k+"="+v)
	}
	b, err := json.Marshal(map[string]any{
		"id": x.ID, "init_process_pid": x.Processes[0].PID, "cgroup_paths": paths,
		"config": map[string]any{"labels": labels},
	})
	if err != nil {
		w.err = err
		return
	}
	w.file(file, string(b))
}
