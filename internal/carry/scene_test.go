package carry_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/carry"
	"vinescale/internal/identify"
)

// patience is how long what takes a moment may take: others may hold the machine's CPUs most of the time. It ends what
// hangs, and judges nothing.
const patience = 3 * time.Minute

const (
	workKey   = "loose:0:must"
	otherKey  = "loose:0:other"
	allowsAll = "allow: [{acts: [all]}]"
)

// scene is a host, which is this one, with processes made for a test.
type scene struct {
	t       *testing.T
	host    *carry.Host
	options carry.Options
	policy  string
	mark    string // in the environment of all its processes
	known   carry.Known
	orders  int
}

func newScene(t *testing.T) *scene {
	s := &scene{t: t, policy: allowsAll, mark: fmt.Sprintf("MUST_%d_%d", os.Getpid(), time.Now().UnixNano())}
	s.known = carry.Known{Boot: "boot", Of: map[carry.Process]string{}, Workloads: map[string]account.Workload{
		workKey:  {Key: workKey, Kind: amount.Loose, Name: "must"},
		otherKey: {Key: otherKey, Kind: amount.Loose, Name: "other"}}}
	s.options = carry.Options{
		Counts:  true,
		Users:   identify.NewUsers("/etc"),
		Journal: t.TempDir(),
		Self:    int32(os.Getpid()),
		Known:   func(context.Context) (*carry.Known, error) { return &s.known, nil },
		Policy:  func() (*act.Policy, error) { return act.ParsePolicy([]byte(s.policy)) },
	}
	s.open()
	t.Cleanup(func() {
		for _, pid := range s.alive() {
			if p, err := os.FindProcess(pid); err == nil {
				_ = p.Kill()
			}
		}
	})
	return s
}

// shortDir is a directory with a path that the address of a socket has room for, whatever the test is called.
func shortDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "s")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// open begins the host anew, as a collector that was started again does.
func (s *scene) open() {
	host, err := carry.New(s.options)
	require.NoError(s.t, err)
	s.host = host
}

// run starts a shell that is of the workload; its children are by descent.
func (s *scene) run(script string) *exec.Cmd { return s.runOf(workKey, script) }

func (s *scene) runOf(key, script string) *exec.Cmd {
	ready := filepath.Join(s.t.TempDir(), "ready")
	cmd := exec.Command("sh", "-c", strings.ReplaceAll(script, "READY", "echo > "+ready))
	cmd.Env = append(os.Environ(), s.mark+"=1")
	require.NoError(s.t, cmd.Start())
	done := make(chan struct{})
	go func() { defer close(done); _ = cmd.Wait() }()
	s.t.Cleanup(func() { _ = cmd.Process.Kill(); <-done })
	if strings.Contains(script, "READY") {
		require.Eventually(s.t, func() bool { _, err := os.Stat(ready); return err == nil }, patience,
			5*time.Millisecond)
	}
	if strings.Contains(script, "READY; exec sleep") {
		require.Eventually(s.t, func() bool {
			stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", cmd.Process.Pid))
			return strings.Contains(string(stat), " (sleep) S ")
		}, patience, time.Millisecond)
	}
	s.known.Of[carry.Process{PID: int32(cmd.Process.Pid), Start: startOf(s.t, cmd.Process.Pid)}] = key
	return cmd
}

func startOf(t *testing.T, pid int) int64 {
	start, err := strconv.ParseInt(stat(t, pid)[19], 10, 64)
	require.NoError(t, err)
	return start
}

// stat is what /proc/PID/stat has after the name: the state first.
func stat(t *testing.T, pid int) []string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(t, err)
	return strings.Fields(string(b)[strings.LastIndexByte(string(b), ')')+1:])
}

// alive lists the scene's processes that have not ended.
func (s *scene) alive() (pids []int) {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, f := range files {
		b, err := os.ReadFile(f)
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
		if err == nil && strings.Contains(string(b), s.mark) {
			if st, err := os.ReadFile(filepath.Join(filepath.Dir(f), "stat")); err == nil &&
				!strings.Contains(string(st), ") Z ") {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// order makes an order of an act.
func (s *scene) order(v act.Verb, target act.Target, settings map[string]string) *act.Order {
	s.orders++
	return &act.Order{
		ID:      fmt.Sprint("a", s.orders),
		Request: act.Request{Verb: v, Target: target, Settings: settings},
		Whose:   map[string]string{workKey: "Frost Watch", otherKey: "Leaf Vision"},
	}
}

func family(cmd *exec.Cmd) act.Target {
	return act.Target{Form: act.OfFamily, PID: int32(cmd.Process.Pid)}
}

func process(cmd *exec.Cmd) act.Target {
	return act.Target{Form: act.OfProcess, PID: int32(cmd.Process.Pid)}
}

// preview previews an order, and has it confirm what it saw.
func (s *scene) preview(o *act.Order) *act.Preview {
	p, err := s.host.Preview(context.Background(), o)
	require.NoError(s.t, err)
	o.Identity = p.Identity
	return p
}

func (s *scene) carry(o *act.Order) act.Outcome {
	return s.host.Carry(context.Background(), o, time.Minute)
}

// act previews and carries out.
func (s *scene) act(
	v act.Verb,
	target act.Target,
	settings map[string]string,
) (*act.Order, *act.Preview, act.Outcome) {
	o := s.order(v, target, settings)
	p := s.preview(o)
	return o, p, s.carry(o)
}

func (s *scene) undo(of *act.Order) act.Outcome {
	o := s.order(act.Undo, act.Target{Form: act.OfAct, Act: of.ID}, nil)
	s.preview(o)
	return s.carry(o)
}

// refused is why an act is refused at its preview.
func (s *scene) refused(v act.Verb, target act.Target, settings map[string]string) string {
	_, err := s.host.Preview(context.Background(), s.order(v, target, settings))
	require.Error(s.t, err)
	return err.Error()
}
