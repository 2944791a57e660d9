package kernel_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// history is a host of version 2 with a kernel that counts, on which processes are born, run, move, become other
// users, become machines and end as a test says. Who ran what is written down as it happens: that is what a book must
// say.
type history struct {
	t       *testing.T
	dir     string
	now     time.Duration
	tasks   map[int32]*task
	groups  map[string]uint64 // number by path; "" is the root
	used    map[string]int64  // microseconds of each group, as its file has it
	last    int32
	removed int
	cpus    int

	by    map[bpf.Who][]bpf.Spent
	ran   []uint64
	ended []bpf.Ended
	mute  bool // who ran is not told

	unplaced uint64
	made     []bpf.Made

	truth  map[string]int64 // microseconds by workload
	total  int64
	spoken map[int32]bool // machines that the book has met
}

type task struct {
	bpf.Task
	group   string
	machine bool
}

var paths = []string{"/system.slice/press.service", "/system.slice/press.service/inner", "/system.slice/must.service",
	"/user.slice/user-2004.slice/session-3.scope", "/loose"}

// workloadOf is what a book should call who runs in a group as a user.
func (h *history) workloadOf(t *task) string {
	switch {
	case strings.HasPrefix(t.group, "/system.slice/press"):
		return "press"
	case strings.HasPrefix(t.group, "/system.slice/must"):
		return "must"
	case strings.HasPrefix(t.group, "/user.slice"):
		return "sign-in"
	case t.machine:
		return "machine"
	}
	return fmt.Sprintf("loose %d", t.Uid)
}

func newHistory(t *testing.T) *history {
	h := &history{t: t, dir: t.TempDir(), now: time.Hour, tasks: map[int32]*task{}, groups: map[string]uint64{},
		used: map[string]int64{}, by: map[bpf.Who][]bpf.Spent{}, ran: make([]uint64, 2), truth: map[string]int64{},
		cpus: 2, last: 100, spoken: map[int32]bool{}}
	h.write("proc/sys/kernel/random/boot_id", "b\n")
	h.write("sys/fs/cgroup/cgroup.controllers", "cpu memory\n")
	h.write("sys/devices/system/cpu/possible", "0-1\n")
	h.write("proc/self/cgroup", "0::/\n")
	h.groups[""] = 1 // as in the kernel
	h.tasks[1] = &task{Task: bpf.Task{Pid: 1, Tgid: 1, Threads: 1}}
	h.tasks[1].Family = bpf.FamilyOf(1, 0)
	h.tasks[1].Groups.V2, h.tasks[1].Groups.Cpuacct = h.groups[""], h.groups[""]
	return h
}

func (h *history) write(name, content string) {
	path := filepath.Join(h.dir, name)
	require.NoError(h.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(h.t, os.WriteFile(path, []byte(content), 0o644))
}

func (h *history) number(path string) uint64 {
	info, err := os.Stat(filepath.Join(h.dir, "sys/fs/cgroup", path))
	require.NoError(h.t, err)
	return info.Sys().(*syscall.Stat_t).Ino
}

// born is a child of a process, of its group, user and family.
func (h *history) born(parent *task) *task {
	h.last++
	h.now += 10 * time.Millisecond // no two begin in the same tick
	c := &task{group: parent.group, machine: parent.machine}
	c.Task = bpf.Task{Pid: h.last, Tgid: h.last, Parent: parent.Tgid, Uid: parent.Uid, Groups: parent.Groups,
		Start: uint64(h.now), Family: parent.Family, Threads: 1, Mask: 3}
	if parent.Tgid == 1 {
		c.Family = bpf.FamilyOf(c.Pid, c.startTicks())
	}
	c.name("prog" + string(rune('a'+h.last%5)))
	h.tasks[c.Pid] = c
	return c
}

func (t *task) who() bpf.Who {
	return bpf.Who{V2: t.Groups.V2, Cpuacct: t.Groups.V2, Family: t.Family, Uid: t.Uid}
}

func (t *task) startTicks() int64 { return int64(t.Start / text.NanosPerTick) }

func (t *task) name(comm string) {
	t.Comm = [16]int8{}
	for i, b := range []byte(comm) {
		t.Comm[i] = int8(b)
	}
}

// thread is another thread of a process: its own time is the process's.
func (h *history) thread(of *task) *task {
	h.last++
	c := &task{group: of.group, machine: of.machine, Task: of.Task}
	c.Pid, c.Run, c.User, c.System, c.Start = h.last, 0, 0, 0, uint64(h.now)
	h.tasks[c.Pid] = c
	of.Threads++
	return c
}

func (h *history) run(t *task, cpu int, micros int64) {
	t.Run += uint64(micros) * 1000
	t.Cpu = uint32(cpu)
	who := t.who()
	if h.by[who] == nil {
		h.by[who] = make([]bpf.Spent, h.cpus)
	}
	h.by[who][cpu].Run += uint64(micros) * 1000
	h.ran[cpu] += uint64(micros) * 1000
	for path := t.group; path != ""; path = path[:strings.LastIndexByte(path, '/')] {
		h.used[path] += micros
	}
	h.truth[h.workloadOf(t)] += micros
	h.total += micros
}

func (h *history) end(t *task) {
	if t.Pid == t.Tgid {
		for _, x := range h.threadsOf(t) {
			if x != t {
				h.end(x)
			}
		}
		delete(h.spoken, t.Pid)
	} else if leader := h.tasks[t.Tgid]; leader != nil {
		leader.Threads--
		leader.GoneRun += t.Run
	}
	delete(h.tasks, t.Pid)
	require.NoError(h.t, os.RemoveAll(filepath.Join(h.dir, "proc", fmt.Sprint(t.Pid))))
	for _, x := range h.tasks {
		if x.Parent == t.Pid {
			x.Parent = 1
		}
	}
	h.ended = append(h.ended, bpf.Ended{Who: t.who(), Start: t.Start, Run: t.Run, Pid: t.Pid, Tgid: t.Tgid,
		Parent: t.Parent, Comm: t.Comm})
}

func (h *history) threadsOf(t *task) (all []*task) {
	for _, x := range h.sorted() {
		if x.Tgid == t.Tgid {
			all = append(all, x)
		}
	}
	return all
}

func (h *history) move(t *task, path string) {
	h.makeGroup(path)
	for _, x := range h.threadsOf(t) {
		x.group, x.Groups.V2, x.Groups.Cpuacct = path, h.groups[path], h.groups[path]
	}
}

func (h *history) become(t *task, uid uint32) {
	if uid == t.Uid {
		return
	}
	for _, x := range h.threadsOf(t) {
		x.Uid, x.Family = uid, bpf.FamilyOf(t.Tgid, h.tasks[t.Tgid].startTicks())
	}
}

func (h *history) makeGroup(path string) {
	if _, ok := h.groups[path]; ok {
		return
	}
	outer := path[:strings.LastIndexByte(path, '/')]
	h.makeGroup(outer)
	require.NoError(h.t, os.MkdirAll(filepath.Join(h.dir, "sys/fs/cgroup", path), 0o755))
	h.groups[path], h.used[path] = h.number(path), 0
	parent := h.groups[outer]
	if outer == "" {
		parent = h.number("")
	}
	h.made = append(h.made, bpf.Made{ID: h.groups[path], Parent: parent, Name: filepath.Base(path)})
}

// removeGroup removes one that is empty. Its directory is kept elsewhere, so that its number is not given again.
func (h *history) removeGroup(path string) {
	for other := range h.groups {
		if strings.HasPrefix(other, path+"/") {
			return
		}
	}
	for _, t := range h.tasks {
		if t.group == path {
			return
		}
	}
	if _, ok := h.groups[path]; !ok || path == "" {
		return
	}
	h.removed++
	require.NoError(h.t, os.MkdirAll(filepath.Join(h.dir, "removed"), 0o755))
	require.NoError(h.t, os.Rename(filepath.Join(h.dir, "sys/fs/cgroup", path),
		filepath.Join(h.dir, "removed", fmt.Sprint(h.removed))))
	delete(h.groups, path)
	delete(h.used, path)
}

func (h *history) sorted() []*task {
	return slices.SortedFunc(maps.Values(h.tasks), func(a, b *task) int { return int(a.Pid - b.Pid) })
}

// show writes the files that a reader looks into beside what is counted.
func (h *history) show() {
	idle := h.now.Milliseconds()/10 - int64(h.ran[0]+h.ran[1])/2e7
	h.write("proc/stat", fmt.Sprintf("cpu0 %[1]d 0 0 %[2]d 0 0 0 0 0 0\ncpu1 %[1]d 0 0 %[2]d 0 0 0 0 0 0\n",
		int64(h.ran[0]+h.ran[1])/2e7, idle))
	h.write("proc/meminfo", "MemTotal: 8000000 kB\nMemFree: 4000000 kB\nMemAvailable: 4000000 kB\n")
	h.write("proc/uptime", fmt.Sprintf("%.2f 1.00\n", h.now.Seconds()))
	for path := range h.groups {
		if path != "" {
			h.write("sys/fs/cgroup"+path+"/cpu.stat", fmt.Sprintf("usage_usec %d\n", h.used[path]))
		}
	}
	for pid, t := range h.tasks {
		if pid != t.Tgid {
			continue
		}
		dir := fmt.Sprintf("proc/%d/", pid)
		h.write(dir+"status", fmt.Sprintf("Uid:\t%[1]d\t%[1]d\t%[1]d\t%[1]d\nCpus_allowed_list:\t0-1\n", t.Uid))
		h.write(dir+"cgroup", "0::"+t.group+"\n")
		if t.machine {
			h.write(dir+"cmdline", fmt.Sprintf("qemu-system-x86_64\x00-name\x00guest=plc%d\x00", pid))
		}
	}
}

var errNotCounted = errors.New("not counted")

func (h *history) Missing(f bpf.Feature) error {
	if f == bpf.CPU || f == bpf.Tasks || f == bpf.Groups {
		return nil
	}
	return errNotCounted
}
func (h *history) Has(f bpf.Feature) bool { return h.Missing(f) == nil }
func (h *history) Settle() error          { return nil }

func (h *history) CPU(visit func(bpf.Who, []bpf.Spent)) error {
	if h.mute {
		return errNotCounted
	}
	for who, by := range maps.Clone(h.by) {
		visit(who, by)
	}
	return nil
}

func (h *history) Totals() (bpf.CPUTotals, error) {
	return bpf.CPUTotals{Ran: slices.Clone(h.ran),
		IdleTask: []uint64{uint64(h.now) - h.ran[0], uint64(h.now) - h.ran[1]}, Unplaced: h.unplaced}, nil
}

func (h *history) ForgetCPU(gone []bpf.Who) {
	for _, who := range gone {
		delete(h.by, who)
	}
}

func (h *history) Adopt(families map[int32]uint64) error {
	for pid, family := range families {
		if t := h.tasks[pid]; t != nil {
			for _, x := range h.threadsOf(t) {
				x.Family = family
			}
		}
	}
	return nil
}

func (h *history) Ended(visit func(*bpf.Ended)) error {
	for i := range h.ended {
		visit(&h.ended[i])
	}
	h.ended = nil
	return nil
}

func (h *history) Tasks() (list []bpf.Task, err error) {
	for _, t := range h.sorted() {
		list = append(list, t.Task)
	}
	return list, nil
}

func (h *history) Made(visit func(bpf.Made)) (uint64, error) {
	for _, m := range h.made {
		visit(m)
	}
	h.made = nil
	return 0, nil
}

func (h *history) Flows(func(bpf.Flow, bpf.Moved)) error        { return errNotCounted }
func (h *history) ForgetFlows([]bpf.Flow)                       {}
func (h *history) Transfers(func(bpf.Transfer, bpf.Done)) error { return errNotCounted }
func (h *history) Latencies(func(bpf.Slot, uint64)) error       { return errNotCounted }
func (h *history) ForgetTransfers([]bpf.Transfer)               {}
func (h *history) Here(map[netip.Addr]bool) error               { return errNotCounted }
func (h *history) Close() error                                 { return nil }

// act does something at random.
func (h *history) act(r *rand.Rand) {
	all := h.sorted()
	any := all[r.IntN(len(all))]
	leader := h.tasks[any.Tgid]
	switch r.IntN(14) {
	case 0, 1, 2:
		c := h.born(leader)
		if r.IntN(2) == 0 {
			h.run(c, r.IntN(2), int64(r.IntN(9000)))
		}
	case 3: // of the first process, of a user
		c := h.born(h.tasks[1])
		h.become(c, uint32(2000+r.IntN(3)))
		h.run(c, r.IntN(2), int64(r.IntN(300_000)))
	case 4:
		if any.Tgid != 1 && !leader.machine {
			h.move(leader, paths[r.IntN(len(paths))])
		}
	case 5:
		if any.Tgid != 1 && !leader.machine {
			h.move(leader, "")
		}
	case 6:
		if any.Tgid != 1 && !leader.machine {
			h.become(leader, uint32(2000+r.IntN(3)))
		}
	case 7: // a swarm that begins and ends
		for range r.IntN(40) {
			c := h.born(leader)
			h.run(c, r.IntN(2), int64(r.IntN(900)))
			h.end(c)
		}
	case 8: // a group that begins and ends, with what ran in it
		path := paths[r.IntN(len(paths))]
		c := h.born(h.tasks[1])
		h.become(c, uint32(2000+r.IntN(3)))
		h.move(c, path)
		h.run(c, r.IntN(2), int64(r.IntN(90_000)))
		h.end(c)
		h.removeGroup(path)
	case 9:
		h.removeGroup(paths[r.IntN(len(paths))])
	case 10:
		if any.Tgid != 1 && (!leader.machine || h.spoken[leader.Pid]) {
			h.end(any)
		}
	case 11: // a storm of threads
		if !leader.machine && any.Tgid != 1 {
			for range r.IntN(30) {
				x := h.thread(leader)
				h.run(x, r.IntN(2), int64(r.IntN(500)))
				if r.IntN(3) > 0 {
					h.end(x)
				}
			}
		}
	case 12: // it becomes a machine, which runs until the book has met it
		if leader.group == "" && !leader.machine && any.Tgid != 1 && r.IntN(3) == 0 {
			c := h.born(leader)
			c.machine = true
			c.name("qemu-system-x86")
		}
	}
	for range 3 {
		x := all[r.IntN(len(all))]
		if h.tasks[x.Pid] == x {
			h.run(x, r.IntN(2), int64(r.IntN(40_000)))
		}
	}
	h.now += time.Duration(r.IntN(400)) * time.Millisecond
}

// reader reads what a history shows.
func (h *history) reader(t *testing.T, recheckEvery int64) *kernel.Reader {
	reader, err := kernel.Open(identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: h.dir, Run: h.dir,
		Proc: filepath.Join(h.dir, "proc")}}), kernel.Options{
		Roots: kernel.Roots{Proc: filepath.Join(h.dir, "proc"), Sys: filepath.Join(h.dir, "sys"),
			Cgroup: filepath.Join(h.dir, "sys/fs/cgroup")},
		Counters: h, RecheckEvery: recheckEvery,
		Clock: func() (time.Time, time.Duration) { return time.Unix(1e9, 0).Add(h.now), h.now }})
	require.NoError(t, err)
	t.Cleanup(reader.Close)
	return reader
}

// TestHistories_EveryShareIsWhoRan holds a reader to what happened, over random histories.
func TestHistories_EveryShareIsWhoRan(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 12))
			h := newHistory(t)
			for range 30 {
				h.act(random)
			}
			h.show()
			reader := h.reader(t, 3)
			registry := reader.Registry()
			var tracker account.Tracker
			var readings [3]account.Reading
			charged := map[string]int64{}
			for n := range 14 {
				h.show()
				for pid, x := range h.tasks {
					h.spoken[pid] = x.machine
				}
				require.NoError(t, reader.Read(&readings[n%3]))
				iv, err := tracker.Step(&readings[n%3])
				if n == 0 {
					h.truth, h.total = map[string]int64{}, 0
				} else {
					require.NoError(t, err)
					for _, u := range iv.Usages {
						charged[nameIn(registry.Workload(u.Workload))] += u.Units[amount.CPU]
						byCPU := int64(0)
						for _, c := range u.CPUs {
							byCPU += c.Micros
						}
						if u.Source[amount.CPU] == amount.Counted {
							require.InDelta(t, u.Units[amount.CPU], byCPU, 2, "reading %d: %s by CPU", n,
								nameIn(registry.Workload(u.Workload)))
						}
					}
				}
				sum := int64(0)
				for name := range h.truth {
					require.InDelta(t, h.truth[name], charged[name], 20, "reading %d: %s", n, name)
				}
				for _, units := range charged {
					sum += units
				}
				require.InDelta(t, h.total, sum, 50, "reading %d", n)
				for range 12 {
					h.act(random)
				}
			}
		})
	}
}

func nameIn(w account.Workload) string {
	switch w.Kind {
	case amount.Loose:
		return fmt.Sprintf("loose %d", w.UID)
	case amount.Session:
		return "sign-in"
	case amount.VM:
		return "machine"
	}
	return w.Name
}
