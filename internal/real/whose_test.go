package real

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/bpf"
)

// worker is a process that does what it is told and answers by its own clock.
type worker struct {
	t      *testing.T
	cmd    *exec.Cmd
	orders io.WriteCloser
	said   *bufio.Scanner
}

// hire starts a worker of a user, in a cell, or in the cgroups of this process where that is nil.
func hire(t *testing.T, c *cell, uid uint32, files ...*os.File) *worker {
	program := filepath.Join(open(t), "tally")
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, content, 0o755))
	w := &worker{t: t}
	if w.cmd = exec.Command(program, "obey"); c != nil {
		w.cmd = exec.Command("/bin/sh", "-c", c.entering()+`exec "$@"`, "sh", program, "obey")
	}
	if c == nil {
		w.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	}
	w.cmd.Stderr, w.cmd.ExtraFiles = os.Stderr, files
	w.orders, err = w.cmd.StdinPipe()
	require.NoError(t, err)
	out, err := w.cmd.StdoutPipe()
	require.NoError(t, err)
	w.said = bufio.NewScanner(out)
	require.NoError(t, w.cmd.Start())
	t.Cleanup(func() { w.cmd.Process.Kill(); w.cmd.Wait() })
	if w.do("burn 0"); c != nil {
		w.do("user %d", uid) // only root may enter
	}
	return w
}

// open is a directory that every user may pass.
func open(t *testing.T) string {
	dir, err := os.MkdirTemp("/tmp", "vinescale-real-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// do gives an order and returns what it cost by the own clocks of the worker and of the children that it made for it.
func (w *worker) do(format string, a ...any) time.Duration {
	own, children := w.doApart(format, a...)
	return own + children
}

// doApart gives an order and returns what it cost the worker itself, and its children.
func (w *worker) doApart(format string, a ...any) (own, children time.Duration) {
	_, err := fmt.Fprintf(w.orders, format+"\n", a...)
	require.NoError(w.t, err)
	_, err = fmt.Sscan(line(w.t, w.said), (*int64)(&own), (*int64)(&children))
	require.NoError(w.t, err)
	return own, children
}

func (w *worker) leave() {
	require.NoError(w.t, w.orders.Close())
	require.NoError(w.t, w.cmd.Wait())
}

func (c *cell) entering() (commands string) {
	for _, dir := range c.dirs {
		commands += "echo $$ > " + dir + "/cgroup.procs && "
	}
	return commands
}

// take moves a worker into a cell, or out of it to the roots.
func (c *cell) take(t *testing.T, w *worker, out bool) {
	for _, dir := range c.dirs {
		if out {
			dir = filepath.Dir(dir)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "cgroup.procs"),
			strconv.AppendInt(nil, int64(w.cmd.Process.Pid), 10), 0o644))
	}
}

func (c *cell) remove(t *testing.T) {
	for _, dir := range c.dirs {
		require.Eventually(t, func() bool { return os.Remove(dir) == nil }, patience, 5*time.Millisecond, dir)
	}
}

// assertUsed judges what somebody was charged by their own clocks: within half a percent or 10 ms, and what a
// hypervisor took meanwhile, of which a task's clock knows only in part.
func (w *watcher) assertUsed(own time.Duration, units int64, what string) {
	charged := time.Duration(units) * time.Microsecond
	w.t.Logf("%-32s own clock %8.3f s, charged %8.3f s: %+.3f s", what, own.Seconds(), charged.Seconds(),
		(charged - own).Seconds())
	stolen := time.Duration(w.sum.Ledgers[amount.CPU].Steal.Units) * time.Microsecond
	assert.InDelta(w.t, own, charged, max(0.005*float64(own), 10e6)+0.02*float64(stolen), what)
}

// assertBalance holds the residual of CPU time to half a percent of what was busy.
func (w *watcher) assertBalance() {
	l := w.sum.Ledgers[amount.CPU]
	busy := float64(l.Used.Units)
	w.t.Logf("busy %.3f s, shares %.3f s, kernel %.3f s, steal %.3f s, residual %.3f s", busy/1e6,
		float64(l.Shares)/1e6, float64(l.Kernel.Units)/1e6, float64(l.Steal.Units)/1e6, float64(l.Residual.Units)/1e6)
	// Idle time is told in steps of 10 ms, of each CPU at either end. Steal is too, and may be told in another interval
	// than the idle time that it was.
	steal, steps := float64(l.Steal.Units), float64(2*10_000*runtime.NumCPU())
	assert.InDelta(w.t, 0, l.Residual.Units, 0.005*busy+steps+0.05*steal+min(steal/2, 40_000), "the residual")
}

func TestWhose_ACgroupMadeAndRemovedBetweenReadingsHasWhatItUsed(t *testing.T) {
	name := "vintage"
	w := watch(t)
	var own time.Duration
	for range 4 { // made anew each time, of the same name
		c := newCell(t, name)
		a := hire(t, c, plainUser)
		a.do("burn 420000")
		a.do("children 5 2000")
		own += a.do("life")
		a.leave()
		c.remove(t)
		name = "vintage"
	}
	time.Sleep(200 * time.Millisecond)
	w.read()
	w.assertUsed(own, w.usage(fmt.Sprintf("vinescale-%s-%d", name, os.Getpid())).Units[amount.CPU],
		"four cgroups of one name")
	assert.InDelta(t, 0, w.loose(plainUser).Units[amount.CPU], 30_000, "nothing of it is loose work")
	w.assertBalance()
	w.read()
	w.read()
	assert.Len(t, slices.DeleteFunc(slices.Clone(w.sum.Usages), func(u account.Usage) bool {
		return !strings.HasPrefix(w.registry.Workload(u.Workload).Name, "vinescale-vintage")
	}), 1)
	w.assertBalance()
}

func TestWhose_ACgroupRemovedSinceTheLastReadingHasWhatItUsedUntilThen(t *testing.T) {
	c := newCell(t, "racking")
	a := hire(t, c, plainUser)
	own := a.do("burn 300000")
	w := watch(t)
	time.Sleep(100 * time.Millisecond)
	w.read()
	own = a.do("burn 700000")
	a.leave()
	c.remove(t)
	w.read()
	w.assertUsed(own, w.usage(c.name).Units[amount.CPU], "a cgroup that is gone")
	w.read()
	w.assertUsed(own, w.usage(c.name).Units[amount.CPU], "and is not counted again")
	w.assertBalance()
}

func TestWhose_WhoMovesIsChargedWhereTheyWere(t *testing.T) {
	for name, outwards := range map[string]bool{"from a cgroup to none": true, "from none to a cgroup": false} {
		t.Run(name, func(t *testing.T) {
			c := newCell(t, "moved")
			within := c
			if !outwards {
				within = nil
			}
			a := hire(t, within, plainUser)
			time.Sleep(50 * time.Millisecond)
			w := watch(t)
			first := a.do("burn 1370000")
			c.take(t, a, outwards)
			second := a.do("burn 1120000")
			w.read()
			in, out := first, second
			if !outwards {
				in, out = out, in
			}
			w.assertUsed(in, w.usage(c.name).Units[amount.CPU], "in the cgroup")
			w.assertUsed(out, w.loose(plainUser).Units[amount.CPU], "in none")
			w.assertBalance()
		})
	}
}

func TestWhose_WhoMovesInTheMidstOfWorkIsChargedForEachPart(t *testing.T) {
	c := newCell(t, "midst")
	a := hire(t, nil, plainUser)
	time.Sleep(50 * time.Millisecond)
	w := watch(t)
	before, _ := usageMicros(t, c)
	until := a.do("life")
	done := make(chan time.Duration)
	go func() {
		a.do("burn 1500000")
		done <- a.do("life")
	}()
	counting := &cell{dirs: slices.DeleteFunc(slices.Clone(c.dirs), func(dir string) bool {
		return len(c.dirs) > 1 && !strings.Contains(dir, "/cpuacct/") // one move, and not one after the other in each
	})}
	for i := range 10 {
		time.Sleep(120 * time.Millisecond)
		counting.take(t, a, i%2 == 1)
	}
	own := <-done - until
	w.read()
	within := w.usage(c.name).Units[amount.CPU]
	if now, ok := usageMicros(t, c); ok {
		w.assertUsed(time.Duration(now-before)*time.Microsecond, within, "in the cgroup, by the kernel")
	}
	w.assertUsed(own, within+w.loose(plainUser).Units[amount.CPU], "in both")
	// Each of the ten moves leaves some milliseconds in the residual, more where a hypervisor takes time.
	l := w.sum.Ledgers[amount.CPU]
	t.Logf("residual %.3f s, steal %.3f s", float64(l.Residual.Units)/1e6, float64(l.Steal.Units)/1e6)
	assert.InDelta(t, 0, l.Residual.Units, 100_000+float64(l.Steal.Units), "the residual")
}

func TestWhose_WhoBecomesAnotherUserIsChargedForEachPart(t *testing.T) {
	const other = plainUser + 1
	a := hire(t, nil, plainUser)
	b := hire(t, nil, 0)
	time.Sleep(50 * time.Millisecond)
	w := watch(t)
	plain := a.do("burn 100000")
	first := b.do("burn 1370000")
	b.do("user %d", other)
	second := b.do("burn 1120000") + b.do("children 100 1000")
	w.read()
	w.assertUsed(plain, w.loose(plainUser).Units[amount.CPU], "who stayed who they were")
	w.assertUsed(second, w.loose(other).Units[amount.CPU], "as the other")
	// As root it was begun by this process, which reads, and whose its work is; and beside it this process has its own.
	root := time.Duration(w.usage("vinescale-collector").Units[amount.CPU]) * time.Microsecond
	assert.Greater(t, root, first-10*time.Millisecond)
	assert.Less(t, root, first+w.elapsed()/10)
	w.assertBalance()
}

func (w *watcher) elapsed() time.Duration {
	return time.Duration(w.sum.ElapsedMillis) * time.Millisecond
}

func TestWhose_ManyThatEndInOneIntervalAreAllCharged(t *testing.T) {
	a := hire(t, nil, plainUser)
	time.Sleep(50 * time.Millisecond)
	w := watch(t)
	own := a.do("children 12000 300")
	time.Sleep(100 * time.Millisecond)
	w.read()
	u := w.loose(plainUser)
	w.assertUsed(own, u.Units[amount.CPU], "12,000 children")
	assert.Equal(t, amount.Counted, u.Source[amount.CPU])
	w.assertBalance()
}

func TestWhose_LooseWorkThatHopsBetweenCPUsIsChargedOnEach(t *testing.T) {
	a := hire(t, nil, plainUser)
	time.Sleep(50 * time.Millisecond)
	w := watch(t)
	var own [2]time.Duration
	for i := range 12 {
		a.do("cpu %d", i%2)
		own[i%2] += a.do("burn %d", 300_000-i%2*100_000)
	}
	w.read()
	u := w.loose(plainUser)
	require.Len(t, u.CPUs, 2)
	assert.Equal(t, amount.Counted, u.CPUSource)
	for cpu := range own {
		w.assertUsed(own[cpu], u.CPUs[cpu].Micros, fmt.Sprintf("CPU %d", cpu))
	}
	w.assertBalance()
}

// TestWhose_MemoryThatLooseProcessesShareCountsOnce has 501 processes that hold 32 MiB that all have of the first, of
// which each of 500 has 256 KiB of its own instead, and 64 MiB of shared memory.
func TestWhose_MemoryThatLooseProcessesShareCountsOnce(t *testing.T) {
	for name, off := range map[string][]bpf.Feature{
		"counted": nil, "by files": {bpf.CPU, bpf.Tasks, bpf.Network, bpf.Disk, bpf.Groups},
	} {
		t.Run(name, func(t *testing.T) {
			const count, mib, own, shared = 500, 32, 256, 64
			program := filepath.Join(open(t), "tally")
			content, err := os.ReadFile(built(t, "burner"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(program, content, 0o755))
			time.Sleep(2 * time.Second) // until the kernel has what those before had
			w := watch(t, off...)
			residual := func() int64 {
				time.Sleep(20 * time.Millisecond)
				w.sum = nil
				w.read()
				l := w.sum.Ledgers[amount.Memory]
				return l.Residual.Units / w.sum.ElapsedMillis >> 20
			}
			const truth = float64(mib + shared + count*own/1024)
			try := func() (nobodys float64) {
				before := residual()
				cmd := exec.Command(program, "brood", strconv.Itoa(count), strconv.Itoa(mib), strconv.Itoa(own),
					strconv.Itoa(shared))
				cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
				out, err := cmd.StdoutPipe()
				require.NoError(t, err)
				require.NoError(t, cmd.Start())
				t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
				require.Equal(t, "there", line(t, bufio.NewScanner(out)))
				lowest := before + int64(truth)
				for n := range 7 {
					after := residual()
					u := w.loose(plainUser)
					charged := float64(u.Units[amount.Memory]/w.sum.ElapsedMillis) / (1 << 20)
					t.Logf("reading %d: %.0f MiB, charged %.1f MiB; residual %d, was %d", n, truth, charged, after,
						before)
					if n > 0 {
						assert.InDelta(t, truth, charged, 0.12*truth,
							"with what 501 processes need beside, of about 40 kB")
						lowest = min(lowest, after)
						assert.Greater(t, float64(after), -0.05*truth, "and nothing is counted twice")
					}
				}
				require.NoError(t, cmd.Process.Kill())
				cmd.Wait()
				time.Sleep(2 * time.Second)
				gone := residual()
				t.Logf("with them at least %d, before %d and after %d", lowest, before, gone)
				return float64(lowest - max(before, gone))
			}
			// What others on a busy host take and give back comes and goes; what is nobody's here would come and go
			// with these processes, each time.
			least := try()
			for n := 0; n < 3 && least >= 0.1*truth; n++ {
				least = min(least, try())
			}
			assert.Less(t, least, 0.1*truth, "nothing of it is nobody's")
		})
	}
}

// connected makes both ends of a TCP connection over loopback, in this process and its cgroup.
func connected(t *testing.T) (ends [2]*os.File) {
	l, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer l.Close()
	dialled, err := net.DialTCP("tcp4", nil, l.Addr().(*net.TCPAddr))
	require.NoError(t, err)
	accepted, err := l.AcceptTCP()
	require.NoError(t, err)
	for i, c := range []*net.TCPConn{dialled, accepted} {
		ends[i], err = c.File()
		require.NoError(t, err)
		require.NoError(t, c.Close())
		require.NoError(t, syscall.SetNonblock(int(ends[i].Fd()), false))
		t.Cleanup(func() { ends[i].Close() })
	}
	return ends
}

// TestWhose_ManySocketsAreWhoseWhoUsesThemToTheByte hands over as many connections as make it likely that something
// comes just when a socket is used first.
func TestWhose_ManySocketsAreWhoseWhoUsesThemToTheByte(t *testing.T) {
	if kernel.CgroupV2("/sys/fs/cgroup") == "" {
		t.Skip("no version 2 hierarchy here: the kernel cannot tell sockets apart")
	}
	const count, bytes = 300, 1_000_000
	must, lees := newCell(t, "sends"), newCell(t, "takes")
	var sending, taking []*os.File
	for range count {
		ends := connected(t)
		sending, taking = append(sending, ends[0]), append(taking, ends[1])
	}
	a, b := hire(t, must, plainUser, sending...), hire(t, lees, plainUser, taking...)
	w := watch(t)
	for i := range count {
		done := make(chan struct{})
		go func() { a.do("send %d %d", 3+i, bytes); close(done) }()
		b.do("receive %d %d", 3+i, bytes)
		<-done
	}
	w.read()
	of := func(c *cell, m amount.Measure) int64 {
		u := w.usage(c.name)
		n, ok := u.Figures.Get(m)
		require.True(t, ok, m.String())
		return n
	}
	sent, received := of(must, amount.NetworkLocalSent), of(lees, amount.NetworkLocalReceived)
	t.Logf("sent %d of %d, received %d", sent, count*bytes, received)
	assert.InEpsilon(t, count*bytes, sent, 0.05)
	assert.Equal(t, sent, received, "what one sent the other received, to the byte")
	// Once all was taken, what says so to the sender may still be on its way.
	assert.InDelta(t, of(lees, amount.NetworkLocalSent), of(must, amount.NetworkLocalReceived), 1000)
}

// TestWhose_ASocketsBytesAreWhoUsesIt has two cells use the ends of a connection that neither of them made, and one of
// them move on to a third.
func TestWhose_ASocketsBytesAreWhoUsesIt(t *testing.T) {
	if kernel.CgroupV2("/sys/fs/cgroup") == "" {
		t.Skip("no version 2 hierarchy here: the kernel cannot tell sockets apart")
	}
	const first, second = 60_000_000, 40_000_000
	must, lees, marc := newCell(t, "sends"), newCell(t, "takes"), newCell(t, "takes-later")
	ends := connected(t)
	a, b := hire(t, must, plainUser, ends[0]), hire(t, lees, plainUser, ends[1])
	w := watch(t)
	pass := func(bytes int) {
		done := make(chan struct{})
		go func() { a.do("send 3 %d", bytes); close(done) }()
		b.do("receive 3 %d", bytes)
		<-done
	}
	pass(first)
	w.read()
	marc.take(t, b, false)
	pass(second)
	w.read()
	of := func(c *cell, m amount.Measure) int64 {
		u := w.usage(c.name)
		n, ok := u.Figures.Get(m)
		require.True(t, ok, m.String())
		return n
	}
	sent := of(must, amount.NetworkLocalSent)
	early, late := of(lees, amount.NetworkLocalReceived), of(marc, amount.NetworkLocalReceived)
	t.Logf("sent %d of %d, received %d of %d and %d of %d", sent, first+second, early, first, late, second)
	const headers = 0.05 // and what TCP sends again on a busy machine, which passes the wire too
	assert.InEpsilon(t, first+second, sent, headers)
	assert.Equal(t, sent, early+late, "what one sent the others received, to the byte")
	assert.InEpsilon(t, first, early, headers)
	assert.InEpsilon(t, second, late, headers)
}

// TestWhose_WhatComesFirstOnTwoCPUsAtOnceIsCountedToTheByte has both ends of two connections, each on a CPU of its own,
// go from cell to cell: in each of these something comes first, and often on both CPUs at once.
func TestWhose_WhatComesFirstOnTwoCPUsAtOnceIsCountedToTheByte(t *testing.T) {
	if kernel.CgroupV2("/sys/fs/cgroup") == "" {
		t.Skip("no version 2 hierarchy here: the kernel cannot tell sockets apart")
	}
	const rounds, bytes = 120, 200_000
	must := newCell(t, "sends")
	var sending, taking [2]*worker
	for i := range 2 {
		ends := connected(t)
		sending[i], taking[i] = hire(t, must, plainUser, ends[0]), hire(t, must, plainUser, ends[1])
		cpu := i % runtime.NumCPU()
		sending[i].do("cpu %d", cpu)
		taking[i].do("cpu %d", cpu)
	}
	cells := make([]*cell, rounds)
	for i := range cells {
		cells[i] = newCell(t, fmt.Sprintf("takes-%d", i))
	}
	w := watch(t)
	for _, c := range cells {
		var all sync.WaitGroup
		for i := range 2 {
			c.take(t, taking[i], false)
		}
		for i := range 2 {
			all.Go(func() { sending[i].do("send 3 %d", bytes) })
			all.Go(func() { taking[i].do("receive 3 %d", bytes) })
		}
		all.Wait()
	}
	w.read()
	for i := range 2 {
		must.take(t, taking[i], false)
	}
	of := func(c *cell, m amount.Measure) int64 {
		u := w.usage(c.name)
		n, ok := u.Figures.Get(m)
		require.True(t, ok, m.String())
		return n
	}
	received := int64(0)
	for _, c := range cells {
		received += of(c, amount.NetworkLocalReceived)
	}
	sent := of(must, amount.NetworkLocalSent)
	t.Logf("sent %d of %d, received %d", sent, 2*rounds*bytes, received)
	assert.InEpsilon(t, 2*rounds*bytes, sent, 0.1)
	assert.Equal(t, sent, received, "what two sent the cells received, to the byte")
}

// TestWhose_WhatIsWrittenBackIsWhoMadeItDirty has two cells write to one file in turns, of which one has it written
// down; a third that writes and ends before the kernel writes, and a user outside any that does the same.
func TestWhose_WhatIsWrittenBackIsWhoMadeItDirty(t *testing.T) {
	dir := open(t)
	require.NoError(t, os.Chmod(dir, 0o777))
	both, alone, loose := filepath.Join(dir, "both"), filepath.Join(dir, "alone"), filepath.Join(dir, "loose")
	must, lees, marc := newCell(t, "writes"), newCell(t, "writes-too"), newCell(t, "writes-and-ends")
	a, b, c := hire(t, must, plainUser), hire(t, lees, plainUser), hire(t, marc, plainUser)
	d := hire(t, nil, plainUser)
	unix.Sync()
	w := watch(t)
	const block, blocks = 4 << 20, 8
	for i := range blocks {
		a.do("write %s %d %d", both, 2*i*block, block)
		b.do("write %s %d %d", both, (2*i+1)*block, block/2)
	}
	c.do("write %s 0 %d", alone, 30_000_000)
	c.leave()
	d.do("write %s 0 %d", loose, 20_000_000)
	d.leave()
	w.read()
	b.do("sync %s", both)
	unix.Sync()
	w.read()
	time.Sleep(20 * time.Millisecond)
	w.read()
	written := func(u account.Usage) float64 { return float64(u.Figures.Units[amount.DiskWritten]) }
	for name, x := range map[string]struct {
		u    account.Usage
		want float64
	}{"whose file is written down by the other": {w.usage(must.name), blocks * block},
		"who has it written down": {w.usage(lees.name), blocks * block / 2},
		"who ended before":        {w.usage(marc.name), 30_000_000},
		"loose, and ended":        {w.loose(plainUser), 20_000_000},
	} {
		t.Logf("%-40s wrote %.3f MB, charged %.3f MB (%s)", name, x.want/1e6, written(x.u)/1e6,
			x.u.Source[amount.Disk])
		assert.InEpsilon(t, x.want, written(x.u), 0.01, name)
		assert.InDelta(t, written(x.u), float64(x.u.Units[amount.Disk]), 0.01*x.want, name)
	}
	l := w.sum.Ledgers[amount.Disk]
	t.Logf("used %.3f MB, shares %.3f, kernel %.3f, residual %.3f", float64(l.Used.Units)/1e6, float64(l.Shares)/1e6,
		float64(l.Kernel.Units)/1e6, float64(l.Residual.Units)/1e6)
	// What others are writing while the counters are read, one after the other, is told by some of them.
	others := float64(l.Used.Units) - 1.5*blocks*block - 30_000_000 - 20_000_000
	assert.InDelta(t, 0, l.Residual.Units, 0.005*float64(l.Used.Units)+100_000+max(others, 0)/4, "the residual")
}

// last is the reading that was taken last.
func (w *watcher) last() *account.Reading {
	return &w.readings[(w.turn+len(w.readings)-1)%len(w.readings)]
}

// TestWhose_WhatIsUsedWhileNobodyLooksIsHowMuchTheHostsCountersGrew: of what others on the host began and ended
// meanwhile nothing is known either, and it is in the residual beside the children that are looked for. A witness that
// looked all the time tells how much that was.
func TestWhose_WhatIsUsedWhileNobodyLooksIsHowMuchTheHostsCountersGrew(t *testing.T) {
	c := newCell(t, "unwatched")
	in, out := hire(t, c, plainUser), hire(t, nil, plainUser)
	witness := watch(t)
	before := watch(t)
	before.read()
	witness.read()
	witness.sum = nil
	base, apart := before.last().Lasting(), witness.last().Wall.Sub(before.last().Wall)
	before.reader.Close()
	cell, loose := in.do("burn 910000"), out.do("burn 640000")
	making, children := out.doApart("children 200 2000")
	young := newCell(t, "young") // made and begun while nobody looked
	began := hire(t, young, plainUser)
	began.do("burn 330000")
	late := began.do("life")
	after := watch(t)
	witness.read()
	apart += witness.last().Wall.Sub(after.last().Wall) // on a busy host others run in between
	var err error
	after.sum, err = account.Bridge(base, after.last())
	require.NoError(t, err)
	after.assertUsed(cell, after.usage(c.name).Units[amount.CPU], "in a cgroup")
	after.assertUsed(late, after.usage(young.name).Units[amount.CPU], "in a cgroup made meanwhile")
	l := after.sum.Ledgers[amount.CPU]
	alive := time.Duration(after.loose(plainUser).Units[amount.CPU]) * time.Microsecond
	others := func(w *watcher) time.Duration {
		own := w.usage(c.name).Units[amount.CPU] + w.usage(young.name).Units[amount.CPU] +
			w.loose(plainUser).Units[amount.CPU]
		return time.Duration(w.sum.Ledgers[amount.CPU].Shares-own) * time.Microsecond
	}
	unseen := others(witness) - others(after)
	// What the host's own counters and the tasks' do not agree about is in everybody's residual, the more the more
	// others there are.
	both := time.Duration(witness.sum.Ledgers[amount.CPU].Residual.Units) * time.Microsecond
	ended := time.Duration(l.Residual.Units)*time.Microsecond - unseen - both
	t.Logf("loose %v by its own clock, charged %v; ended children %v, residual %v beside %v of others and %v that "+
		"the witness has too, read %v apart", loose+making, alive, children, ended, unseen, both, apart)
	after.assertUsed(loose+making, alive.Microseconds(), "loose, which made children")
	steal := float64(l.Steal.Units) * 1e3 // all of it may be another counter's too, which nothing tells here
	bound := 100e6 + time.Duration(1.5*steal) + apart*time.Duration(runtime.NumCPU())
	assert.InDelta(t, loose+making+children, alive+ended, float64(bound), "what ended is shown, and nothing beside it")
	assert.Positive(t, after.sum.Detail.Caveats[account.Unwatched])
	for _, w := range []*worker{in, out, began} {
		w.leave()
	}
}
