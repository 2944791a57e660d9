package real

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/bpf"
)

// cell is a cgroup in every hierarchy of this host, which is recognised as a unit of the init system.
type cell struct {
	name string
	dirs []string
}

func newCell(t *testing.T, name string) *cell {
	c := &cell{name: fmt.Sprintf("vinescale-%s-%d", name, os.Getpid())}
	trees := []string{"/sys/fs/cgroup"}
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err != nil {
		trees, _ = filepath.Glob("/sys/fs/cgroup/*/cgroup.procs")
		for i := range trees {
			trees[i] = filepath.Dir(trees[i])
		}
	}
	for _, tree := range trees {
		if strings.Contains(tree, "cpuset") {
			continue // a new one takes no task until it is given CPUs
		}
		dir := filepath.Join(tree, c.name+".service")
		require.NoError(t, os.Mkdir(dir, 0o755))
		c.dirs = append(c.dirs, dir)
	}
	t.Cleanup(func() {
		for _, dir := range c.dirs {
			assert.Eventually(t, func() bool {
				err := os.Remove(dir)
				return err == nil || os.IsNotExist(err)
			}, patience, 20*time.Millisecond, dir)
		}
	})
	return c
}

// start runs a burner in the cell and returns what it prints.
func (c *cell) start(t *testing.T, args ...string) *bufio.Scanner {
	enter := ""
	for _, dir := range c.dirs {
		enter += "echo $$ > " + dir + "/cgroup.procs && "
	}
	cmd := exec.Command("/bin/sh", append([]string{"-c", enter + `exec "$@"`, "sh", built(t, "burner")}, args...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	return bufio.NewScanner(out)
}

func line(t *testing.T, s *bufio.Scanner) string {
	require.True(t, s.Scan(), "%v", s.Err())
	return s.Text()
}

// watcher reads this host with all that this kernel can count.
type watcher struct {
	t        *testing.T
	reader   *kernel.Reader
	registry *identify.Registry
	counters *bpf.Counters
	tracker  account.Tracker
	readings [3]account.Reading
	turn     int
	sum      *account.Interval
}

func watch(t *testing.T, off ...bpf.Feature) *watcher {
	w := &watcher{t: t}
	w.counters = bpf.Open(bpf.Options{CgroupV2: kernel.CgroupV2("/sys/fs/cgroup"), Off: off})
	for f := range bpf.NumFeatures {
		if !slices.Contains(off, f) {
			require.NoError(t, w.counters.Missing(f), f.String())
		}
	}
	w.registry = identify.NewRegistry(identify.Options{Self: int32(os.Getpid())})
	var err error
	w.reader, err = kernel.Open(w.registry, kernel.Options{Counters: w.counters, Ask: true})
	require.NoError(t, err)
	t.Cleanup(w.reader.Close)
	require.NoError(t, w.reader.Read(&w.readings[2]))
	w.read()
	return w
}

// read takes a reading and adds the interval since the one before.
func (w *watcher) read() {
	time.Sleep(2 * time.Millisecond) // two readings of one millisecond make no interval
	r := &w.readings[w.turn]
	w.turn = (w.turn + 1) % len(w.readings)
	require.NoError(w.t, w.reader.Read(r))
	iv, err := w.tracker.Step(r)
	switch {
	case err != nil:
		require.ErrorIs(w.t, err, account.ErrFirstReading)
	case w.sum == nil:
		w.sum = iv
	default:
		w.sum = w.sum.Add(iv)
	}
}

func (w *watcher) usage(name string) account.Usage {
	for _, u := range w.sum.Usages {
		if w.registry.Workload(u.Workload).Name == name {
			return u
		}
	}
	require.Fail(w.t, "not in the ledger", name)
	return account.Usage{}
}

// loose is what a user's processes used that are in no cgroup of a workload, brief ones and those that lived on.
func (w *watcher) loose(uid int64) (sum account.Usage) {
	for _, u := range w.sum.Usages {
		x := w.registry.Workload(u.Workload)
		if x.Kind != amount.Loose || x.UID != uid {
			continue
		}
		for r := range sum.Units {
			sum.Units[r] += u.Units[r]
			sum.Source[r] = u.Source[r]
		}
		for _, c := range u.CPUs {
			for int(c.CPU) >= len(sum.CPUs) {
				sum.CPUs = append(sum.CPUs, account.CPUUse{CPU: int32(len(sum.CPUs))})
			}
			sum.CPUs[c.CPU].Micros += c.Micros
		}
		sum.CPUSource = u.CPUSource
		sum.Devices = append(sum.Devices, u.Devices...)
		for m := range u.Figures.Set.All() {
			sum.Figures.Put(m, sum.Figures.Units[m]+u.Figures.Units[m], u.Figures.Source[m])
		}
	}
	return sum
}

// usedIn is what the swarm whose record this is used: with its spawner, and its children alone.
func usedIn(t *testing.T, record string) (total, children time.Duration) {
	raw, err := os.ReadFile(record)
	require.NoError(t, err)
	var a, b int64
	_, err = fmt.Sscan(string(raw), &a, &b)
	require.NoError(t, err)
	return time.Duration(a), time.Duration(b)
}

// TestExact_WorkThatLivesForAMillisecondIsChargedToWhoeverRanIt runs 500 processes a second over two cells, and 100
// more of a plain user's outside any, for 20 s.
func TestExact_WorkThatLivesForAMillisecondIsChargedToWhoeverRanIt(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "vinescale-real-") // which a plain user may pass
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	begin := filepath.Join(dir, "go")
	var cells []*cell
	record := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{"must", "lees"} {
		c := newCell(t, name)
		c.start(t, "shorts", "5000", "250", "1000", begin, record(c.name))
		cells = append(cells, c)
	}
	reachable := filepath.Join(dir, "tally")
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(reachable, content, 0o755))
	plain := exec.Command(reachable, "shorts", "2000", "100", "1000", begin, record("plain"))
	plain.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
	plain.Stderr = os.Stderr
	require.NoError(t, plain.Start())
	t.Cleanup(func() { plain.Process.Kill(); plain.Wait() })
	time.Sleep(time.Second)
	w := watch(t)
	before := map[*cell]int64{}
	for _, c := range cells {
		before[c], _ = usageMicros(t, c)
	}
	require.NoError(t, os.WriteFile(begin, nil, 0o644))
	for range 5 {
		time.Sleep(5 * time.Second)
		w.read()
	}
	require.Eventually(t, func() bool {
		_, err := os.Stat(record("plain"))
		_, err2 := os.Stat(record(cells[0].name))
		_, err3 := os.Stat(record(cells[1].name))
		return err == nil && err2 == nil && err3 == nil
	}, patience, 100*time.Millisecond)
	time.Sleep(100 * time.Millisecond)
	w.read()

	// A hypervisor that takes CPUs away tells of it late: what a process ran is known to some percent of that, and at
	// times it is told of after it was asked, or after the last reading.
	l := w.sum.Ledgers[amount.CPU]
	stolen := float64(l.Steal.Units)
	check := func(own time.Duration, u account.Usage, name string) {
		charged := time.Duration(u.Units[amount.CPU]) * time.Microsecond
		t.Logf("%-24s own clocks %8.3f s, charged %8.3f s (%s): %+.3f %%", name, own.Seconds(), charged.Seconds(),
			u.Source[amount.CPU], 100*(charged.Seconds()/own.Seconds()-1))
		assert.InDelta(t, own.Microseconds(), charged.Microseconds(), 0.005*float64(own.Microseconds())+0.02*stolen,
			name)
	}
	for _, c := range cells {
		own, _ := usedIn(t, record(c.name))
		u := w.usage(c.name)
		check(own, u, c.name)
		if now, ok := usageMicros(t, c); ok {
			t.Logf("%-24s the kernel's counter %.3f s", c.name, float64(now-before[c])/1e6)
			assert.InDelta(t, now-before[c], u.Units[amount.CPU], 10_000, "as the kernel has it")
		}
	}
	own, _ := usedIn(t, record("plain"))
	loose := w.loose(plainUser)
	check(own, loose, "plain")
	placed := int64(0)
	for _, c := range loose.CPUs {
		placed += c.Micros
		assert.Greater(t, c.Micros, loose.Units[amount.CPU]/20, "what ended is put down to the CPU it was on: CPU %d",
			c.CPU)
	}
	assert.Equal(t, runtime.NumCPU(), len(loose.CPUs))
	assert.InEpsilon(t, loose.Units[amount.CPU], placed, 0.01)
	busy := float64(l.Used.Units)
	t.Logf("busy %.3f s, shares %.3f s, kernel %.3f s, steal %.3f s, residual %.3f s: %.2f %% of busy", busy/1e6,
		float64(l.Shares)/1e6,
		float64(l.Kernel.Units)/1e6, float64(l.Steal.Units)/1e6, float64(l.Residual.Units)/1e6,
		100*float64(l.Residual.Units)/busy)
	assert.InDelta(t, 0, l.Residual.Units, 0.005*busy+0.05*stolen, "the residual of a busy host is a rounding error")
	assert.Zero(t, w.sum.Detail.Caveats, "nothing was missed")
	self := w.usage("vinescale-collector")
	assert.Positive(t, self.Units[amount.CPU], "what reads is in the ledger, by itself")
}

// TestExact_SharedMemoryOfLooseProcessesIsCountedOnce has two processes of one user that map the same file.
func TestExact_SharedMemoryOfLooseProcessesIsCountedOnce(t *testing.T) {
	const size = 64 << 20
	dir, err := os.MkdirTemp("/tmp", "vinescale-real-") // which a plain user may pass
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	program, shared := filepath.Join(dir, "sharer"), filepath.Join(dir, "shared")
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, content, 0o755))
	require.NoError(t, os.WriteFile(shared, nil, 0o644))
	require.NoError(t, os.Truncate(shared, size))
	require.NoError(t, os.Chown(shared, plainUser, plainUser))
	for range 2 {
		cmd := exec.Command(program, "share", shared)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		require.Equal(t, "shared", line(t, bufio.NewScanner(out)))
	}
	w := watch(t)
	time.Sleep(time.Second)
	w.read()
	u := w.loose(plainUser)
	units, ok := u.Figures.Get(amount.MemoryProportional)
	require.True(t, ok)
	bytes := units / w.sum.ElapsedMillis
	t.Logf("%d bytes of memory, %d shared: %s", bytes, size, u.Figures.Source[amount.MemoryProportional])
	assert.InDelta(t, size, bytes, 0.3*size, "what both map counts once")
	assert.Equal(t, amount.Summed, u.Figures.Source[amount.MemoryProportional])
}

// usageMicros is what a cell used by the counter of version 1, which is exact; none where there is only version 2.
func usageMicros(t *testing.T, c *cell) (int64, bool) {
	for _, dir := range c.dirs {
		if b, err := os.ReadFile(filepath.Join(dir, "cpuacct.usage")); err == nil {
			n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
			require.NoError(t, err)
			return n / 1000, true
		}
	}
	return 0, false
}

// TestExact_EveryCPUKnowsWhoRanOnIt compares, CPU by CPU, what was counted at switches with the kernel's own counter.
func TestExact_EveryCPUKnowsWhoRanOnIt(t *testing.T) {
	w := watch(t)
	var cells []*cell
	var burning []*bufio.Scanner
	for cpu := range 2 {
		c := newCell(t, "pinned"+strconv.Itoa(cpu))
		cells = append(cells, c)
		burning = append(burning, c.start(t, "pinned", strconv.Itoa(cpu), "3"))
	}
	for _, b := range burning {
		line(t, b)
	}
	time.Sleep(200 * time.Millisecond) // until they sleep
	w.read()
	require.NoError(t, w.counters.Settle())
	for _, c := range cells {
		for _, dir := range c.dirs {
			if !strings.Contains(dir, "/cpuacct/") {
				continue
			}
			info, err := os.Stat(dir)
			require.NoError(t, err)
			id := info.Sys().(*syscall.Stat_t).Ino
			counted := make([]time.Duration, 64)
			require.NoError(t, w.counters.CPU(func(g bpf.Who, by []bpf.Spent) {
				if g.Cpuacct == id {
					for i := range by {
						counted[i] += time.Duration(by[i].Run)
					}
				}
			}))
			raw, err := os.ReadFile(filepath.Join(dir, "cpuacct.usage_percpu"))
			require.NoError(t, err)
			for i, field := range strings.Fields(string(raw)) {
				own, _ := strconv.ParseInt(field, 10, 64)
				t.Logf("%s CPU %d: kernel %v, counted %v", filepath.Base(dir), i, time.Duration(own), counted[i])
				assert.InDelta(t, own, counted[i], 10e6, "%s on CPU %d", filepath.Base(dir), i)
			}
		}
	}
}

// TestExact_ACgroupThatIsGoneLeavesItsTimeWhereItRan runs work in a version 2 cgroup within a cell that version 1
// counts, and removes it: its place among the counts is freed, and the cell has lost nothing and got nothing twice.
func TestExact_ACgroupThatIsGoneLeavesItsTimeWhereItRan(t *testing.T) {
	unified := kernel.CgroupV2("/sys/fs/cgroup")
	if unified == "" || unified == "/sys/fs/cgroup" {
		t.Skip("no version 2 hierarchy beside version 1 here")
	}
	must := newCell(t, "inner")
	inner := filepath.Join(unified, must.name+".service", "inner")
	require.NoError(t, os.Mkdir(inner, 0o755))
	t.Cleanup(func() { os.Remove(inner) })
	info, err := os.Stat(inner)
	require.NoError(t, err)
	id := info.Sys().(*syscall.Stat_t).Ino
	places := func(w *watcher) (n int) {
		require.NoError(t, w.counters.CPU(func(p bpf.Who, _ []bpf.Spent) {
			if p.V2 == id {
				n++
			}
		}))
		return n
	}
	w := watch(t)
	within := &cell{name: must.name, dirs: append(slices.Clone(must.dirs), inner)}
	record := filepath.Join(t.TempDir(), "record")
	within.start(t, "0.5", "1", record)
	require.Eventually(t, func() bool { return len(childrenIn(inner)) == 0 && exists(record) }, patience,
		50*time.Millisecond)
	w.read()
	before := w.usage(must.name).Units[amount.CPU]
	require.Positive(t, places(w))
	require.NoError(t, os.Remove(inner))
	w.read()
	require.Positive(t, places(w), "kept for one reading longer")
	time.Sleep(5 * time.Millisecond)
	w.read()
	assert.Zero(t, places(w))
	time.Sleep(5 * time.Millisecond)
	w.read()
	assert.InDelta(t, before, w.usage(must.name).Units[amount.CPU], 2000, "what it used stays its own")
	raw, err := os.ReadFile(record)
	require.NoError(t, err)
	clocks := strings.Fields(string(raw))
	own, err := strconv.ParseInt(clocks[len(clocks)-1], 10, 64)
	require.NoError(t, err)
	// What a hypervisor took in its last turn, after it last told its clock, is in its time too.
	steal := float64(w.sum.Ledgers[amount.CPU].Steal.Units)
	assert.InDelta(t, own/1000, before, 50_000+steal,
		"as much as its own clock says, but for its beginning and its last turn")
}

// childrenIn are the processes in a cgroup.
func childrenIn(dir string) []string {
	b, _ := os.ReadFile(dir + "/cgroup.procs")
	return strings.Fields(string(b))
}

// TestExact_HostNetworkWorkloadsAreToldApart sends between two cells that share the host's network.
func TestExact_HostNetworkWorkloadsAreToldApart(t *testing.T) {
	if kernel.CgroupV2("/sys/fs/cgroup") == "" {
		t.Skip("no version 2 hierarchy here: the kernel cannot tell sockets apart")
	}
	// opens and each are the headers of the packet that opens a stream, and of each other packet: IP and TCP with its
	// time stamps.
	for _, x := range []struct {
		protocol    string
		bytes       int64
		opens, each int64
	}{{"tcp4", 100_000_000, 60, 52}, {"tcp6", 100_000_000, 80, 72}, {"udp4", 20_000_000, 28, 28}} {
		t.Run(x.protocol, func(t *testing.T) {
			if l, err := net.Listen("tcp6", "[::1]:0"); x.protocol == "tcp6" && err != nil {
				t.Skip("this machine has no IPv6: ", err)
			} else if err == nil {
				l.Close()
			}
			must, lees := newCell(t, "from"), newCell(t, "into")
			w := watch(t)
			in := lees.start(t, "receive", x.protocol, strconv.FormatInt(x.bytes, 10))
			out := must.start(t, "send", x.protocol, strconv.FormatInt(x.bytes, 10), line(t, in), "keep")
			require.Equal(t, strconv.FormatInt(x.bytes, 10), line(t, out))
			again, err := strconv.ParseInt(line(t, out), 10, 64)
			require.NoError(t, err)
			line(t, in)
			time.Sleep(200 * time.Millisecond)
			w.read()
			from, into := w.usage(must.name), w.usage(lees.name)
			figure := func(u account.Usage, m amount.Measure) int64 {
				n, ok := u.Figures.Get(m)
				require.True(t, ok, m.String())
				require.Equal(t, amount.Counted, u.Figures.Source[m])
				return n
			}
			sent, received := figure(from, amount.NetworkLocalSent), figure(into, amount.NetworkLocalReceived)
			back, backReceived := figure(into, amount.NetworkLocalSent), figure(from, amount.NetworkLocalReceived)
			headers := sent - x.bytes - again
			t.Logf("sent %d of %d (headers %d, sent again %d), received %d; back %d, received %d", sent, x.bytes,
				headers, again, received, back, backReceived)
			assert.Equal(t, sent, received, "what one sent over loopback the other received, to the byte")
			assert.Equal(t, back, backReceived)
			assert.EqualValues(t, x.opens%x.each, headers%x.each, "beyond the payload there are headers alone")
			if x.protocol == "udp4" {
				assert.EqualValues(t, x.bytes/1000*28, headers)
			} else {
				assert.GreaterOrEqual(t, headers, x.each*x.bytes/65536)
				assert.Less(t, headers, x.bytes/200)
			}
			assert.Zero(t, from.Units[amount.Network], "loopback leaves no host")
		})
	}
}

// TestExact_WithoutCountingTheRestIsStillTold reads by files, exit records and sockets alone: less exact, never
// nothing, and said by its sources.
func TestExact_WithoutCountingTheRestIsStillTold(t *testing.T) {
	for name, off := range map[string][]bpf.Feature{
		"nothing counted": {bpf.CPU, bpf.Tasks, bpf.Network, bpf.Disk}, "tasks alone": {bpf.CPU, bpf.Network, bpf.Disk},
		"ended tasks alone": {bpf.Tasks, bpf.Network, bpf.Disk},
	} {
		t.Run(name, func(t *testing.T) { withoutCounting(t, off) })
	}
}

func withoutCounting(t *testing.T, off []bpf.Feature) {
	dir, err := os.MkdirTemp("/tmp", "vinescale-real-") // which a plain user may pass
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	program, begin, record := filepath.Join(dir, "tally"), filepath.Join(dir, "go"), filepath.Join(dir, "record")
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, content, 0o755))
	plain := exec.Command(program, "shorts", "500", "100", "3000", begin, record)
	plain.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
	require.NoError(t, plain.Start())
	t.Cleanup(func() { plain.Process.Kill(); plain.Wait() })
	time.Sleep(500 * time.Millisecond)
	must, lees := newCell(t, "from"), newCell(t, "into")
	w := watch(t, off...)
	require.NoError(t, os.WriteFile(begin, nil, 0o644))
	in := lees.start(t, "receive", "tcp4", "30000000")
	out := must.start(t, "send", "tcp4", "30000000", line(t, in), "keep")
	line(t, out)
	line(t, in)
	w.read()
	require.Eventually(t, func() bool { _, err := os.Stat(record); return err == nil }, patience,
		100*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	w.read()

	own, _ := usedIn(t, record)
	u := w.loose(plainUser)
	charged := time.Duration(u.Units[amount.CPU]) * time.Microsecond
	t.Logf("by exit records: own clocks %v, charged %v (%s)", own, charged, u.Source[amount.CPU])
	assert.InEpsilon(t, own.Seconds(), charged.Seconds(), 0.35,
		"the kernel's figure in an exit record is of its last clock tick")
	assert.Equal(t, amount.Summed, u.Source[amount.CPU])

	said := w.sum.Detail.Caveats
	assert.Equal(t, slices.Contains(off, bpf.CPU), said[account.EndsByTicks]+said[account.EndsUnseen] > 0,
		"what that misses is said")

	from := w.usage(must.name)
	sent, ok := from.Figures.Get(amount.NetworkLocalSent)
	require.True(t, ok)
	assert.InDelta(t, 30_000_000, sent, 10, "payload of a socket that is open at the reading")
	assert.Equal(t, amount.Summed, from.Figures.Source[amount.NetworkLocalSent])
}

// TestExact_BySkewNobodyIsShort has a process that always runs, read by files one after another among a thousand more:
// what it is charged with is the time between its own two readings, and that is the interval's length.
func TestExact_BySkewNobodyIsShort(t *testing.T) {
	nowhere := t.TempDir() // in no cgroup of their own
	require.NoError(t, os.Mkdir(filepath.Join(nowhere, "shed"), 0o755))
	crowd := exec.Command(built(t, "burner"), "crowd", "1000", nowhere)
	crowd.Stderr = os.Stderr
	out, err := crowd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, crowd.Start())
	t.Cleanup(func() { crowd.Process.Signal(syscall.SIGTERM); crowd.Wait() })
	line(t, bufio.NewScanner(out))
	steady := hire(t, nil, plainUser)
	w := watch(t, bpf.CPU, bpf.Tasks, bpf.Network, bpf.Disk)
	fmt.Fprintln(steady.orders, "burn 20000000")
	// ran is the process's own clock in the middle of a reading, and how long that took by it.
	ran := func() (middle, took time.Duration) {
		before := onCPU(t, steady.cmd.Process.Pid)
		w.read()
		after := onCPU(t, steady.cmd.Process.Pid)
		return (before + after) / 2, after - before
	}
	time.Sleep(300 * time.Millisecond)
	was, took := ran()
	for range 3 {
		w.sum = nil
		time.Sleep(time.Second)
		before, now := took, time.Duration(0)
		now, took = ran()
		charged := time.Duration(w.loose(plainUser).Units[amount.CPU]) * time.Microsecond
		t.Logf("ran for %v, charged %v; the reading took %v of it", now-was, charged, took)
		assert.InDelta(t, now-was, charged, 25e6+float64(before+took)/2, "each end is somewhere within its reading")
		was = now
	}
}

// onCPU is how long the first thread of a process has run (/proc/PID/schedstat).
func onCPU(t *testing.T, pid int) time.Duration {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/schedstat", pid, pid))
	require.NoError(t, err)
	var nanos int64
	_, err = fmt.Sscan(string(raw), &nanos)
	require.NoError(t, err)
	return time.Duration(nanos)
}
