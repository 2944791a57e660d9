package real

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/internal/api"
	"vinescale/internal/sheet"
)

// acting is a service with a collector of this host that carries out what it is ordered, over a line that can be cut.
type acting struct {
	*scene
	t          *testing.T
	service    *served
	line       *wire
	credential string
	policy     string
	collector  *exec.Cmd
	more       []string // arguments of the collector
}

// newActing starts both. More are arguments of the collector.
func newActing(t *testing.T, listen string, more ...string) *acting {
	require.Zero(t, os.Geteuid(), "this test acts on what it starts: run it as root")
	dir, err := os.MkdirTemp("", "vinescale-real-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	a := &acting{
		scene:  &scene{dir: dir, program: built(t, "vinescale")},
		t:      t,
		policy: filepath.Join(dir, "acts.yaml"),
		more:   more,
	}
	require.NoError(t, os.WriteFile(a.policy, []byte("allow: [{acts: [all]}]"), 0o600))
	a.service = startService(t, dir, listen)
	a.line = newWire(t, listen)
	a.credential = strings.TrimSpace(string(a.service.run(t, "hosts", "enrol", "here")))
	a.collect()
	t.Cleanup(func() { a.collector.Process.Kill(); a.collector.Wait() })
	return a
}

func (a *acting) collect() {
	args := []string{
		"collect",
		"--host",
		"here",
		"--spool",
		filepath.Join(a.dir, "spool"),
		"--tick",
		"500ms",
		"--acts",
		a.policy,
		"--service",
		"http://" + a.line.address,
	}
	a.collector = exec.Command(a.program, append(args, a.more...)...)
	a.collector.Env = append(a.service.environment, "VINESCALE_CREDENTIAL="+a.credential)
	log, err := os.OpenFile(filepath.Join(a.dir, "collector.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(a.t, err)
	a.collector.Stdout, a.collector.Stderr = log, log
	require.NoError(a.t, a.collector.Start())
}

// act has something done and returns what came of it, which may be a failure.
func (a *acting) act(args ...string) (x api.Intervention) {
	a.t.Helper()
	cmd := exec.Command(a.program, append(append([]string{"act"}, args...), "--yes", "--as", "json")...)
	cmd.Env = a.service.environment
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NotEmpty(a.t, out, "%v: %v", args, err)
	require.NoError(a.t, json.Unmarshal(out, &x), "%s", out)
	return x
}

func (a *acting) done(args ...string) api.Intervention {
	a.t.Helper()
	x := a.act(args...)
	require.Equal(a.t, string(act.Done), x.State, "%v: %s %+v", args, x.Detail, x.Outcome)
	a.t.Logf("%v: %s", args, x.Detail)
	return x
}

// known waits until the service knows a workload.
func (a *acting) known(name string) {
	require.Eventually(a.t, func() bool {
		cmd := exec.Command(a.program, "find", name, "--as", "json")
		cmd.Env = a.service.environment
		out, err := cmd.Output()
		return err == nil && strings.Contains(string(out), name)
	}, patience, 200*time.Millisecond, "%s is known", name)
}

// knows waits until the collector can be asked for a process, or for a family.
func (a *acting) knows(what string, pid any) {
	require.Eventually(a.t, func() bool {
		cmd := exec.Command(a.program, "act", "end", what, fmt.Sprint(pid), "--host", "here", "--preview")
		cmd.Env = a.service.environment
		return cmd.Run() == nil
	}, patience, 200*time.Millisecond, "%s %v is known", what, pid)
}

// wire is a way to a service that can be cut.
type wire struct {
	address string
	mu      sync.Mutex
	isCut   bool
	open    map[net.Conn]bool
}

func newWire(t *testing.T, to string) *wire {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &wire{address: listener.Addr().String(), open: map[net.Conn]bool{}}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			go l.join(near, to)
		}
	}()
	return l
}

func (l *wire) join(near net.Conn, to string) {
	far, err := net.Dial("tcp", to)
	l.mu.Lock()
	if err != nil || l.isCut {
		l.mu.Unlock()
		near.Close()
		if err == nil {
			far.Close()
		}
		return
	}
	l.open[near], l.open[far] = true, true
	l.mu.Unlock()
	go func() { io.Copy(far, near); far.Close() }()
	io.Copy(near, far)
	near.Close()
}

func (l *wire) cut(isCut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.isCut = isCut; isCut {
		for c := range l.open {
			c.Close()
		}
		clear(l.open)
	}
}

// marked lists the processes that have a word in their environment and have not ended.
func marked(word string) (pids []int) {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, f := range files {
		if b, err := os.ReadFile(f); err == nil && strings.Contains(string(b), word) {
			if st, err := os.ReadFile(filepath.Join(filepath.Dir(f), "stat")); err == nil &&
				!strings.Contains(string(st), ") Z ") {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// began is when a process began, since boot.
func began(t *testing.T, pid int) time.Duration {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(t, err)
	ticks, err := strconv.Atoi(strings.Fields(string(b)[strings.LastIndexByte(string(b), ')')+1:])[19])
	require.NoError(t, err)
	return time.Duration(ticks) * 10 * time.Millisecond
}

// uptime is for how long the host has been up.
func uptime(t *testing.T) time.Duration {
	var seconds float64
	_, err := fmt.Sscan(trimmed(t, "/proc/uptime"), &seconds)
	require.NoError(t, err)
	return time.Duration(seconds * float64(time.Second))
}

// shell starts a shell whose processes are marked.
func (a *acting) shell(mark, script string) int {
	cmd := exec.Command("sh", "-c", script)
	cmd.Env = append(os.Environ(), mark+"=1")
	cmd.Dir = a.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	require.NoError(a.t, cmd.Start())
	done := make(chan struct{})
	go func() { defer close(done); cmd.Wait() }()
	a.t.Cleanup(func() {
		cmd.Process.Kill()
		<-done
		files, _ := filepath.Glob("/proc/[0-9]*/environ")
		for _, f := range files { // only what this test made has the mark
			if b, err := os.ReadFile(f); err == nil && strings.Contains(string(b), mark) {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	return cmd.Process.Pid
}

func trimmed(t *testing.T, file string) string {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return strings.TrimSpace(string(b))
}

// TestActs_OnRealGroupsAndProcesses has every act of this kernel done on containers and processes made for it, read
// back from the kernel, and undone.
func TestActs_OnRealGroupsAndProcesses(t *testing.T) {
	t.Parallel() // it waits more than it works
	a := newActing(t, "127.0.0.1:17475", "--ebpf=false")
	grid := &burner{name: fmt.Sprintf("vinescale-acts-%d-grid", os.Getpid()), cores: 0.2}
	swarm := &burner{name: fmt.Sprintf("vinescale-acts-%d-swarm", os.Getpid()), cores: 0.2, swarm: true}
	a.container(t, grid)
	a.container(t, swarm)
	a.known(grid.name)
	a.known(swarm.name)

	for _, x := range []struct {
		args  []string
		files map[string]string // by file of the group: what it is meanwhile
	}{
		{[]string{"cap", grid.name, "--cpu", "0.25", "--memory", "64MiB", "--processes", "50"}, map[string]string{
			"cpu/cpu.cfs_quota_us": "25000", "memory/memory.limit_in_bytes": "67108864", "pids/pids.max": "50"}},
		{[]string{"weigh", grid.name, "--cpu-weight", "50"}, map[string]string{"cpu/cpu.shares": "512"}},
		{[]string{"place", grid.name, "--cpuset", "1"}, map[string]string{"cpuset/cpuset.cpus": "1"}},
		{[]string{"pause", grid.name}, map[string]string{"freezer/freezer.state": "FROZEN"}},
	} {
		before := map[string]string{}
		path := func(file string) string {
			controller, name, _ := strings.Cut(file, "/")
			return filepath.Join("/sys/fs/cgroup", controller, grid.name, name)
		}
		for file := range x.files {
			before[file] = trimmed(t, path(file))
		}
		done := a.done(x.args...)
		for file, want := range x.files {
			assert.Equal(t, want, trimmed(t, path(file)), "%v", x.args)
			assert.NotEqual(t, want, before[file], "%v: it was another before", x.args)
		}
		if x.args[0] == "pause" {
			assert.Equal(t, "the runtime runc", done.Preview.Through)
		}
		a.done("undo", done.ID)
		for file := range x.files {
			assert.Equal(t, before[file], trimmed(t, path(file)), "%v undone", x.args)
		}
	}
	ended := a.done("end", swarm.name, "--force")
	assert.Equal(t, "the runtime runc", ended.Preview.Through)
	pids, err := os.ReadFile(filepath.Join("/sys/fs/cgroup/pids", swarm.name, "cgroup.procs"))
	assert.True(t, err != nil || len(pids) == 0, "none of it is left: %q", pids)

	mark := fmt.Sprintf("VINESCALE_ACTS_%d", os.Getpid())
	a.limitLoose(mark)
	// Each child leaves a grandchild behind, which the first process of the host adopts.
	storm := a.shell(mark, "while :; do (sleep 300 &); sleep 0.01; done")
	require.Eventually(t, func() bool { return len(marked(mark)) > 20 }, patience, 5*time.Millisecond)
	a.knows("--family", storm)
	end := a.done("end", "--family", strconv.Itoa(storm), "--host", "here", "--force")
	assert.Greater(t, end.Outcome.Hit, 20)
	assert.Empty(t, marked(mark), "none of the family is left, those without a parent neither")

	// A grandchild that begins a session of its own too is of the family only as far as the kernel tells of its birth:
	// from when the act is carried out.
	escaping := a.shell(mark, "while :; do (setsid sleep 300 &); sleep 0.01; done")
	require.Eventually(t, func() bool { return len(marked(mark)) > 20 }, patience, 5*time.Millisecond)
	a.knows("--family", escaping)
	a.done("end", "--family", strconv.Itoa(escaping), "--host", "here", "--force")
	over := uptime(t)
	time.Sleep(200 * time.Millisecond)
	for _, pid := range marked(mark) {
		began := began(t, pid)
		assert.Less(t, began, over-100*time.Millisecond, "process %d", pid)
	}
	a.carriesOutPlan(t, grid)
}

// carriesOutPlan has a plan of CPUs carried out step by step, and taken back by the commands that it prints. Others may
// run there too, so that no process of this machine has to move.
func (a *acting) carriesOutPlan(t *testing.T, b *burner) {
	allowed := func() string {
		pid := strings.Fields(trimmed(t, filepath.Join("/sys/fs/cgroup/pids", b.name, "cgroup.procs")))[0]
		_, after, _ := strings.Cut(trimmed(t, filepath.Join("/proc", pid, "status")), "Cpus_allowed_list:")
		return strings.Fields(after)[0]
	}
	try := func(line ...string) (string, error) {
		cmd := exec.Command(a.program, line...)
		cmd.Env = a.service.environment
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	run := func(line ...string) string {
		out, err := try(line...)
		require.NoError(t, err, "%v: %s", line, out)
		return out
	}
	require.Eventually(t, func() bool { // its first whole minute says where it may run
		said, _ := try("pins", "plan", "1", "--workload", b.name, "--shared")
		return strings.Contains(said, "Place "+b.name)
	}, patience, time.Second)
	before := allowed()
	said := run("pins", "plan", "1", "--workload", b.name, "--shared", "--carry-out", "--yes")
	require.Contains(t, said, "The plan is carried out.")
	require.Contains(t, said, "Checked: its host reads back its mask.")
	require.NotEqual(t, before, allowed())
	require.Len(t, allowed(), 1)
	require.Contains(t, run("pins", "history", "here"), b.name)
	_, undo, _ := strings.Cut(said, "To take it back, in this order:\n")
	undo, _, _ = strings.Cut(undo, "\n\n")
	lines := strings.Split(strings.TrimSpace(undo), "\n")
	require.Len(t, lines, 2, undo)
	for _, line := range lines {
		words := strings.Fields(line)[1:]
		if words[0] == "act" {
			words = append(words, "--yes")
		}
		run(words...)
	}
	require.Equal(t, before, allowed())
}

// limitLoose has a family limited that is in no group of its own: it is given one, and put back by undoing that.
func (a *acting) limitLoose(mark string) {
	t := a.t
	pid := a.shell(mark+"_LOOSE", "sleep 300 & while :; do sleep 0.1; done")
	group := func(controller string) string {
		for line := range strings.Lines(trimmed(t, fmt.Sprintf("/proc/%d/cgroup", pid))) {
			if f := strings.SplitN(strings.TrimSpace(line), ":", 3); f[1] == controller {
				return f[2]
			}
		}
		return ""
	}
	before := group("cpu")
	a.knows("--family", pid)
	family := []string{"--family", strconv.Itoa(pid), "--host", "here"}
	capped := a.done(append([]string{"cap", "--cpu", "0.2", "--processes", "20"}, family...)...)
	own := group("cpu")
	assert.True(t, strings.HasPrefix(own, "/vinescale/act-"), own)
	dir := "/sys/fs/cgroup/cpu" + own
	assert.Equal(t, "20000", trimmed(t, dir+"/cpu.cfs_quota_us"))
	assert.Equal(t, "20", trimmed(t, "/sys/fs/cgroup/pids"+own+"/pids.max"))
	assert.GreaterOrEqual(
		t,
		len(strings.Fields(trimmed(t, dir+"/cgroup.procs"))),
		2,
		"its descendants are in it too",
	)
	again := a.done(append([]string{"cap", "--cpu", "0.3"}, family...)...)
	assert.Equal(t, own, group("cpu"), "a second limit finds the group")
	assert.Equal(t, "30000", trimmed(t, dir+"/cpu.cfs_quota_us"))
	a.done("undo", again.ID)
	assert.Equal(t, "20000", trimmed(t, dir+"/cpu.cfs_quota_us"))
	a.done("undo", capped.ID)
	assert.Equal(t, before, group("cpu"))
	assert.NoDirExists(t, dir)
	a.done(append([]string{"end", "--force"}, family...)...)
}

// TestActs_OnceWhateverBreaks cuts the line before, while and after an act is carried out, and ends the collector in
// the middle of one. The target counts how often it was asked to end.
func TestActs_OnceWhateverBreaks(t *testing.T) {
	t.Parallel() // it waits more than it works
	a := newActing(t, "127.0.0.1:17476", "--ebpf=false")
	asked := filepath.Join(a.dir, "asked")
	mark := fmt.Sprintf("VINESCALE_FAULTS_%d", os.Getpid())
	pid := strconv.Itoa(
		a.shell(mark, "trap 'echo x >> "+asked+"' TERM; touch "+asked+"; while :; do sleep 0.05; done"),
	)
	require.Eventually(
		t,
		func() bool { _, err := os.Stat(asked); return err == nil },
		patience,
		time.Millisecond,
	)
	times := func() int {
		b, err := os.ReadFile(asked)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(asked, nil, 0o600))
		return strings.Count(string(b), "x")
	}
	require.Eventually(t, func() bool {
		cmd := exec.Command(a.program, "act", "end", "--process", pid, "--host", "here", "--preview")
		cmd.Env = a.service.environment
		return cmd.Run() == nil
	}, patience, 500*time.Millisecond, "the host knows whose it is")

	end := func(more ...string) <-chan api.Intervention {
		came := make(chan api.Intervention, 1)
		go func() {
			came <- a.act(append([]string{"end", "--process", pid, "--host", "here", "--wait", "2s"}, more...)...)
		}()
		return came
	}
	state := func(id string) (x api.Intervention) {
		require.NoError(t, json.Unmarshal(a.service.run(t, "act", "show", id, "--as", "json"), &x))
		return x
	}

	x := <-end()
	assert.Equal(t, string(act.Failed), x.State, "it does not listen: %s", x.Detail)
	assert.Equal(t, 1, times())

	// While it is carried out: the order is there, and what came of it cannot be told for a while.
	came := end()
	require.Eventually(
		t,
		func() bool { b, _ := os.ReadFile(asked); return len(b) > 0 },
		patience,
		time.Millisecond,
	)
	a.line.cut(true)
	time.Sleep(4 * time.Second)
	a.line.cut(false)
	x = <-came
	assert.Equal(t, string(act.Failed), x.State, x.Detail)
	time.Sleep(12 * time.Second) // an order is given out again after ten
	assert.Equal(t, 1, times(), "once")

	// Before: the host cannot ask for orders until the act has expired.
	preview := func(more ...string) (shown api.Intervention) {
		require.NoError(t, json.Unmarshal(a.service.run(t, append([]string{"act", "end", "--process", pid, "--host",
			"here", "--preview", "--as", "json"}, more...)...), &shown))
		return shown
	}
	confirmed := func(x *api.Intervention) *exec.Cmd {
		body := fmt.Sprintf(`{"identity":%q}`, x.Preview.Identity)
		confirm := exec.Command("sh", "-c", `curl -s -o /dev/null -X POST -H "Authorization: Bearer $VINESCALE_TOKEN" `+
			`-H "Content-Type: application/json" -d '`+body+`' "$VINESCALE_SERVICE/api/v1/acts/`+x.ID+`/confirm"`)
		confirm.Env = a.service.environment
		require.NoError(t, confirm.Start())
		return confirm
	}
	shown := preview("--lives", "5s")
	a.line.cut(true)
	confirm := confirmed(&shown)
	time.Sleep(7 * time.Second)
	a.line.cut(false)
	confirm.Wait()
	require.Eventually(t, func() bool { return state(shown.ID).State == string(act.Expired) }, patience,
		200*time.Millisecond)
	time.Sleep(2 * time.Second)
	assert.Equal(t, 0, times(), "not at all")

	// The collector ends in the middle, and another is started.
	came = end()
	require.Eventually(
		t,
		func() bool { b, _ := os.ReadFile(asked); return len(b) > 0 },
		patience,
		time.Millisecond,
	)
	require.NoError(t, a.collector.Process.Kill())
	a.collector.Wait()
	a.collect()
	x = <-came
	assert.Equal(t, string(act.Unknown), x.State, x.Detail)
	assert.Contains(t, x.Detail, "the collector ended while it carried this out")
	time.Sleep(2 * time.Second)
	assert.Equal(t, 1, times(), "once")

	// The service is killed in the middle, and another is started on its books: it is told what came of it.
	a.knows("--process", pid) // the collector that was started
	shown = preview("--wait", "2s")
	confirm = confirmed(&shown)
	require.Eventually(
		t,
		func() bool { b, _ := os.ReadFile(asked); return len(b) > 0 },
		patience,
		time.Millisecond,
	)
	a.service.kill()
	confirm.Wait()
	time.Sleep(3 * time.Second) // it is over meanwhile
	a.service.begin(t)
	require.Eventually(t, func() bool { x = state(shown.ID); return x.State == string(act.Failed) }, patience,
		200*time.Millisecond, "what came of it is told once there is somebody to tell")
	time.Sleep(12 * time.Second) // an order is given out again after ten
	assert.Equal(t, 1, times(), "once")
}

// TestStart_IsKnownFromItsFirstInstant begins work in a group of its own, on one CPU: the book has all of its time, by
// its name and for the tenant that it was begun for.
func TestStart_IsKnownFromItsFirstInstant(t *testing.T) {
	a := newActing(t, "127.0.0.1:17477")
	a.service.run(t, "tenant", "add", "Frost Watch")
	name := fmt.Sprintf("vinescale-begun-%d", os.Getpid())
	record := filepath.Join(a.dir, "record")
	hasRead(t, filepath.Join(a.dir, "spool"))
	start := exec.Command(
		a.program,
		"start",
		"--name",
		name,
		"--cpus",
		"1",
		"--weight",
		"200",
		"--tenant",
		"Frost Watch",
		"--",
		"sh",
		"-c",
		`cd /sys/fs/cgroup; cat cpuset/$0/cpuset.cpus cpu/$0/cpu.shares; exec "$@"`,
		"vinescale/begun-"+name,
		built(t, "burner"),
		"4",
		"0.6",
		record,
	)
	out, err := start.CombinedOutput()
	require.NoError(t, err, "%s", out)
	lines := strings.Split(string(out), "\n")
	require.Greater(t, len(lines), 2, "%s", out)
	assert.Equal(t, []string{"1", "2048"}, lines[:2], "what its groups are held to as it begins")
	left, _ := filepath.Glob("/sys/fs/cgroup/*/vinescale/begun-" + name)
	assert.Empty(t, left, "its groups went with it")
	time.Sleep(time.Second)
	require.NoError(t, a.collector.Process.Signal(syscall.SIGINT))
	a.collector.Wait()
	var l sheet.Ledger
	require.NoError(
		t,
		json.Unmarshal(a.service.run(t, "share", "--by", "workload", "--host", "here", "--span", "10m",
			"--as", "json"), &l),
	)
	for _, s := range l.Shares {
		if s.Name != name {
			continue
		}
		assert.Equal(
			t,
			[]string{"job", "root", "Frost Watch", "counted"},
			[]string{s.Kind, s.Owner, s.Tenant, s.Source},
		)
		lines := strings.Split(strings.TrimSpace(string(read(t, record))), "\n")
		var wall, last int64
		_, err := fmt.Sscan(lines[len(lines)-1], &wall, &last)
		require.NoError(t, err)
		t.Logf("own clock %.3f s, charged %.3f s", float64(last)/1e9, *s.Amount)
		// The program that began it is in its group for a moment, before and after.
		assert.InDelta(t, float64(last)/1e9, *s.Amount, 0.06+paused(&l))
		return
	}
	t.Errorf("%s is not in the ledger", name)
}

func read(t *testing.T, file string) []byte {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return b
}
