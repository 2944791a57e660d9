// Package real tests attribution on this machine's own kernel, with real containers and burners that know what they
// used.
//
// It needs root (it starts containers) and a machine that does nothing else meanwhile, so "make test" runs it on its
// own, after the other tests: see the target test-root.
package real

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// patience is how long what takes a moment may take: others may hold the machine's CPUs most of the time. It ends what
// hangs, and judges nothing.
const patience = 3 * time.Minute

const plainUser = 61234

// scene is what runs: three containers, a container whose work is all short-lived children, a plain user's process.
type scene struct {
	dir     string
	program string
	burners []*burner
	labels  map[string]string // of containers
	limit   int64             // microseconds of CPU in each 100 ms; 0 for none
	runtime []string          // the command of the OCI runtime; runc when empty
}

type burner struct {
	name   string
	cores  float64
	swarm  bool
	cpus   string // that its container is kept on; all when empty
	record string
}

func TestMain(m *testing.M) {
	if os.Getenv("VINESCALE_REQUIRE_ROOT") == "" {
		fmt.Println("not run here: it needs root and a quiet machine; make test runs it on its own (target test-root)")
		return
	}
	os.Exit(m.Run())
}

// burnerSeconds is longer than any test takes: burners are ended with theirs.
const burnerSeconds = 1800

// stage starts everything and waits until it burns.
func stage(t *testing.T) *scene {
	require.Zero(t, os.Geteuid(), "this test starts containers: run it as root")
	dir, err := os.MkdirTemp("", "vinescale-real-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	s := &scene{dir: dir, program: built(t, "vinescale")}
	for i, b := range []burner{{cores: 0.2}, {cores: 0.5}, {cores: 0}, {cores: 0.25, swarm: true}} {
		b.name = fmt.Sprintf("vinescale-test-%d-%d", os.Getpid(), i)
		s.container(t, &b)
	}
	s.plainOn(t, "")
	for _, b := range s.burners {
		require.Eventually(t, func() bool { info, err := os.Stat(b.record); return err == nil && info.Size() > 0 },
			patience, 20*time.Millisecond, b.name)
	}
	return s
}

// built is a program that "make test-root" built.
func built(t *testing.T, name string) string {
	path, err := filepath.Abs(filepath.Join("../../bin", name))
	require.NoError(t, err)
	require.FileExists(t, path, "make test-root builds it")
	return path
}

// container starts a burner in an OCI container whose root is a static busybox.
func (s *scene) container(t *testing.T, b *burner) {
	bundle := filepath.Join(s.dir, b.name)
	root := filepath.Join(bundle, "rootfs")
	for _, d := range []string{"bin", "proc", "dev", "out"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	for from, to := range map[string]string{"/bin/busybox": "bin/busybox", built(t, "burner"): "bin/burner"} {
		content, err := os.ReadFile(from)
		require.NoError(t, err, "make test installs busybox-static")
		require.NoError(t, os.WriteFile(filepath.Join(root, to), content, 0o755))
	}
	b.record = filepath.Join(root, "out/record")
	args := fmt.Sprintf("exec /bin/burner %d %g /out/record", burnerSeconds, b.cores)
	if b.swarm {
		args += " swarm"
	}
	namespaces := []map[string]string{{"type": "pid"}, {"type": "mount"}, {"type": "ipc"}, {"type": "uts"},
		{"type": "network"}}
	config := map[string]any{
		"ociVersion": "1.0.2", "hostname": "must", "root": map[string]any{"path": "rootfs"},
		"process": map[string]any{"cwd": "/", "args": []string{"/bin/busybox", "sh", "-c", args},
			"user": map[string]int{"uid": 0, "gid": 0}, "env": []string{"PATH=/bin"}},
		"mounts":      []map[string]any{{"destination": "/proc", "type": "proc", "source": "proc"}},
		"annotations": map[string]string{"org.vinescale.owner": "root"},
		"linux":       map[string]any{"namespaces": namespaces, "cgroupsPath": "/" + b.name},
	}
	if s.labels != nil {
		config["annotations"] = s.labels
	}
	cpu := map[string]any{}
	if s.limit > 0 {
		cpu["quota"], cpu["period"] = s.limit, 100_000
	}
	if b.cpus != "" {
		cpu["cpus"] = b.cpus
	}
	if len(cpu) > 0 {
		config["linux"].(map[string]any)["resources"] = map[string]any{"cpu": cpu}
	}
	raw, err := json.Marshal(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(bundle, "config.json"), raw, 0o644))
	runtime := s.runtime
	if len(runtime) == 0 {
		runtime = []string{"runc"}
	}
	call := func(args ...string) *exec.Cmd {
		return exec.Command(runtime[0], append(runtime[1:len(runtime):len(runtime)], args...)...)
	}
	cmd := call("run", "--detach", "--bundle", bundle, b.name)
	log, err := os.Create(filepath.Join(bundle, "log"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = log, log
	err = cmd.Run()
	text, _ := os.ReadFile(log.Name())
	require.NoError(t, err, "%v: %s", runtime, text)
	t.Cleanup(func() { call("delete", "--force", b.name).Run() })
	s.burners = append(s.burners, b)
}

// plainOn starts a burner as a user of no other standing, on one CPU by its affinity; on all when that is empty.
func (s *scene) plainOn(t *testing.T, cpu string) {
	out := filepath.Join(s.dir, "plain")
	require.NoError(t, os.Mkdir(out, 0o755))
	require.NoError(t, os.Chown(out, plainUser, plainUser))
	b := &burner{name: fmt.Sprintf("burner of uid %d", plainUser), cores: 0.3, record: filepath.Join(out, "record")}
	reachable := filepath.Join(out, "burner") // where it was built another user may not go
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(reachable, content, 0o755))
	args := []string{reachable, strconv.Itoa(burnerSeconds), "0.3", b.record}
	if cpu != "" {
		args = append([]string{"taskset", "-c", cpu}, args...)
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	s.burners = append(s.burners, b)
}

// used is what a burner's own clock says it used between two moments. Where others keep it from its CPU its record may
// take a while to go beyond the second.
func (b *burner) used(t *testing.T, from, to time.Time) float64 {
	var walls, clocks []float64
	read := func() bool {
		raw, err := os.ReadFile(b.record)
		require.NoError(t, err)
		walls, clocks = walls[:0], clocks[:0]
		for line := range strings.Lines(string(raw)) {
			var wall, clock int64
			if n, _ := fmt.Sscan(line, &wall, &clock); n == 2 {
				walls, clocks = append(walls, float64(wall)/1e9), append(clocks, float64(clock)/1e9)
			}
		}
		return len(walls) > 0 && walls[len(walls)-1] > float64(to.UnixNano())/1e9
	}
	for end := time.Now().Add(patience); !read() && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	at := func(when time.Time) float64 {
		x := float64(when.UnixNano()) / 1e9
		i := sort.SearchFloat64s(walls, x)
		require.True(t, i > 0 && i < len(walls), "%s: its record covers %s", b.name, when)
		return clocks[i-1] + (clocks[i]-clocks[i-1])*(x-walls[i-1])/(walls[i]-walls[i-1])
	}
	return at(to) - at(from)
}

// paused is by how many seconds a charge may differ from a burner's record on a machine that is halted now and then, by
// its steal: one that is halted between reading the clock and the counters reads these later than it says, and a record
// has no line for that time.
func paused(l *sheet.Ledger) float64 { return 0.1 * *l.Steal }

// requireTrue compares a ledger with every burner's own clock: within 2 % or 20 ms, and the whole with /proc/stat.
func (s *scene) requireTrue(t *testing.T, l *sheet.Ledger) {
	require.NotNil(t, l.CoveredFrom)
	require.NotNil(t, l.Steal)
	for _, b := range s.burners {
		own := b.used(t, *l.CoveredFrom, *l.CoveredTo)
		var share *sheet.Share
		for i := range l.Shares {
			if l.Shares[i].Name == b.name {
				share = &l.Shares[i]
			}
		}
		require.NotNil(t, share, "%s is in the ledger", b.name)
		require.NotNil(t, share.Amount, share.Reason)
		t.Logf("%-34s own clock %7.3f s, charged %7.3f s (%s)", b.name, own, *share.Amount, share.Source)
		assert.InDelta(t, own, *share.Amount, max(0.02*own, 0.020)+paused(l), b.name)
		if strings.HasPrefix(b.name, "burner of") {
			assert.Equal(t, "loose", share.Kind)
			assert.Equal(t, "counted", share.Source)
		} else {
			assert.Equal(t, []string{"container", "root", "counted"}, []string{share.Kind, share.Owner, share.Source},
				b.name)
		}
	}
	t.Logf("in use by /proc/stat %.3f s, steal %.3f s, kernel %.3f s, residual %.3f s", *l.Used, *l.Steal, *l.Kernel,
		*l.Residual)
	// Time a hypervisor takes while a CPU is being woken is in /proc/stat twice, as idle and as steal; on a virtual
	// machine with a busy neighbour the counters themselves disagree by up to the steal.
	assert.InDelta(t, 0, *l.Residual, 0.03**l.Used+*l.Steal, "the sum agrees with /proc/stat")
}

func TestWeigh_AgreesWithEveryBurnersOwnClock(t *testing.T) {
	s := stage(t)
	cmd := exec.Command(s.program, "weigh", "--over", "10s", "--as", "json")
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	require.NoError(t, err, stderr.String())
	var l sheet.Ledger
	require.NoError(t, json.Unmarshal(out, &l))
	time.Sleep(100 * time.Millisecond) // the records go a little beyond the interval
	s.requireTrue(t, &l)
}

func TestShare_ThroughCollectorAndServiceAgreesToo(t *testing.T) {
	s := stage(t)
	service := startService(t, s.dir, "127.0.0.1:17470")
	time.Sleep(time.Second) // for the service to settle
	credential := strings.TrimSpace(string(service.run(t, "hosts", "enrol", "here")))
	service.collect(t, credential, filepath.Join(s.dir, "spool"), 20*time.Second)
	var l sheet.Ledger
	require.NoError(t,
		json.Unmarshal(service.run(t, "share", "--by", "workload", "--host", "here", "--span", "10m", "--as", "json"),
			&l))
	s.requireTrue(t, &l)
	for _, share := range l.Shares {
		if share.Name != s.burners[0].name {
			continue
		}
		var about hub.AboutWorkload
		require.NoError(t,
			json.Unmarshal(service.run(t, "about", fmt.Sprint("workload/", share.WorkloadID), "--span", "10m", "--as",
				"json"), &about))
		i := slices.IndexFunc(about.Figures, func(m explain.Figure) bool { return m.Name == "space_used_bytes" })
		require.GreaterOrEqual(t, i, 0, about.Space)
		out, err := exec.Command("du", "-s", "--block-size=1", filepath.Join(s.dir, share.Name, "rootfs")).Output()
		require.NoError(t, err)
		want, err := strconv.ParseFloat(strings.Fields(string(out))[0], 64)
		require.NoError(t, err)
		t.Logf("files of %s: %.0f bytes, walked as %.0f (%s)", share.Name, want, about.Figures[i].Value,
			about.Figures[i].Source)
		assert.InDelta(t, want, about.Figures[i].Value, 256<<10, "its record grew meanwhile")
	}
}

// served is a service that runs with its own books.
type served struct {
	program      string
	environment  []string
	data, listen string
	cmd          *exec.Cmd
	log          bytes.Buffer
}

func startService(t *testing.T, dir, listen string) *served {
	s := &served{program: built(t, "vinescale"), data: filepath.Join(dir, "data"), listen: listen}
	t.Cleanup(func() {
		s.cmd.Process.Signal(syscall.SIGINT)
		s.cmd.Wait()
		if t.Failed() {
			t.Logf("serve:\n%s", s.log.String())
		}
	})
	s.begin(t)
	return s
}

// collect has a collector read this host for some time, and tell the service of it. The time begins with its second
// reading: on a host that others take the CPU from, the first takes long to come.
func (s *served) collect(t *testing.T, credential, spool string, over time.Duration, more ...string) {
	cmd := exec.Command(s.program, append([]string{"collect", "--host", "here", "--spool", spool, "--tick", "2s"},
		more...)...)
	cmd.Env = append(s.environment, "VINESCALE_CREDENTIAL="+credential)
	var log bytes.Buffer
	cmd.Stderr = &log
	require.NoError(t, cmd.Start())
	hasRead(t, spool)
	time.Sleep(over)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, cmd.Wait(), "%s", &log)
}

// hasRead waits until a collector has taken two readings.
func hasRead(t *testing.T, spool string) {
	t.Helper()
	require.Eventually(t, func() bool { return exists(filepath.Join(spool, "open")) }, patience,
		100*time.Millisecond, "the collector reads")
}

// begin starts the service on its books and waits until it answers.
func (s *served) begin(t *testing.T) {
	s.cmd = exec.Command(s.program, "serve", "--data", s.data, "--listen", s.listen)
	s.cmd.Stderr = &s.log
	require.NoError(t, s.cmd.Start())
	var token []byte
	require.Eventually(t, func() bool {
		token, _ = os.ReadFile(filepath.Join(s.data, "administrator-token"))
		return len(token) > 0
	}, patience, 100*time.Millisecond, "the service is up")
	s.environment = append(os.Environ(), "VINESCALE_SERVICE=http://"+s.listen,
		"VINESCALE_TOKEN="+strings.TrimSpace(string(token)))
	require.Eventually(t, func() bool {
		ready := exec.Command(s.program, "hosts")
		ready.Env = s.environment
		return ready.Run() == nil
	}, patience, 100*time.Millisecond, "the service answers")
}

// kill ends it by force.
func (s *served) kill() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
}

// run calls the service by its client.
func (s *served) run(t *testing.T, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(s.program, args...)
	cmd.Env = s.environment
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	require.NoError(t, err, "%v: %s", args, stderr.String())
	return out
}
