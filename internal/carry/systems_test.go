package carry_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
)

// initStandIn is an init system of a few units, on a bus of the test's own. It remembers what it was called for.
type initStandIn struct {
	mu     sync.Mutex
	calls  []string
	states map[string]string // by unit
	pids   map[string]uint32
	boots  map[string]string // whether they begin at boot
}

func (s *initStandIn) note(format string, a ...any) {
	s.calls = append(s.calls, fmt.Sprintf(format, a...))
}

func (s *initStandIn) state(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.states[name]
}

func (s *initStandIn) boot(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.boots[name]
}

// called is what it was called for since this was asked before.
func (s *initStandIn) called() (calls []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	calls, s.calls = s.calls, nil
	return calls
}

func unitPath(name string) dbus.ObjectPath {
	return dbus.ObjectPath("/unit/" + strings.NewReplacer(".", "_", "-", "_").Replace(name))
}

func (s *initStandIn) LoadUnit(name string) (dbus.ObjectPath, *dbus.Error) {
	return unitPath(name), nil
}

func (s *initStandIn) become(name, state string) (dbus.ObjectPath, *dbus.Error) {
	go func() { // as the job that the call began
		time.Sleep(20 * time.Millisecond)
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.states[name] = state; state == "active" {
			s.pids[name]++
		}
	}()
	return "/job/1", nil
}

func (s *initStandIn) StartUnit(name, mode string) (dbus.ObjectPath, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("start %s %s", name, mode)
	s.states[name] = "activating"
	if name == "broken.service" {
		return s.become(name, "failed")
	}
	return s.become(name, "active")
}

func (s *initStandIn) StopUnit(name, mode string) (dbus.ObjectPath, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("stop %s %s", name, mode)
	s.states[name] = "deactivating"
	return s.become(name, "inactive")
}

func (s *initStandIn) RestartUnit(name, mode string) (dbus.ObjectPath, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("restart %s %s", name, mode)
	s.states[name] = "activating"
	return s.become(name, "active")
}

func (s *initStandIn) ReloadUnit(name, _ string) (dbus.ObjectPath, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("reload %s", name)
	return "/job/2", nil
}

func (s *initStandIn) KillUnit(name, who string, signal int32) *dbus.Error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("kill %s %s %d", name, who, signal)
	s.states[name] = "failed"
	return nil
}

func (s *initStandIn) ResetFailedUnit(name string) *dbus.Error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note("reset %s", name)
	return nil
}

func (s *initStandIn) GetUnitFileState(name string) (string, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.boots[name], nil
}

func (s *initStandIn) EnableUnitFiles(names []string, _, _ bool) (bool, []string, *dbus.Error) {
	return true, nil, s.atBoot(names, "enabled")
}

func (s *initStandIn) DisableUnitFiles(names []string, _ bool) ([]string, *dbus.Error) {
	return nil, s.atBoot(names, "disabled")
}

func (s *initStandIn) atBoot(names []string, state string) *dbus.Error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, n := range names {
		s.boots[n] = state
	}
	return nil
}

func (s *initStandIn) Reload() *dbus.Error { return nil }

// unitProperties answers for one unit.
type unitProperties struct {
	of   *initStandIn
	name string
}

func (p *unitProperties) Get(_, property string) (dbus.Variant, *dbus.Error) {
	p.of.mu.Lock()
	defer p.of.mu.Unlock()
	switch state, is := p.of.states[p.name]; property {
	case "LoadState":
		if !is {
			return dbus.MakeVariant("not-found"), nil
		}
		return dbus.MakeVariant("loaded"), nil
	case "ActiveState":
		return dbus.MakeVariant(state), nil
	case "MainPID":
		return dbus.MakeVariant(p.of.pids[p.name]), nil
	}
	return dbus.Variant{}, dbus.NewError("org.freedesktop.DBus.Error.UnknownProperty", nil)
}

// startBus starts a bus with the stand-in on it and returns its address.
func startBus(t *testing.T, s *initStandIn, names ...string) string {
	daemon, err := exec.LookPath("dbus-daemon")
	if err != nil {
		if os.Getenv("VINESCALE_REQUIRE_PEERS") != "" {
			require.NoError(t, err, "the package dbus must be there")
		}
		t.Skip("dbus-daemon is not installed: it is in the package dbus, which make test installs")
	}
	dir := shortDir(t)
	address := "unix:path=" + filepath.Join(dir, "bus")
	config := filepath.Join(dir, "bus.conf")
	require.NoError(t, os.WriteFile(config, []byte(`<busconfig><listen>`+address+`</listen><auth>EXTERNAL</auth>
		<policy context="default"><allow own="*"/><allow send_destination="*"/>
			<allow receive_sender="*"/></policy></busconfig>`), 0o644))
	bus := exec.Command(daemon, "--config-file="+config, "--nofork", "--nopidfile")
	require.NoError(t, bus.Start())
	t.Cleanup(func() { bus.Process.Kill(); bus.Wait() })
	var conn *dbus.Conn
	require.Eventually(t, func() bool { conn, err = dbus.Connect(address); return err == nil }, patience,
		20*time.Millisecond)
	t.Cleanup(func() { conn.Close() })
	_, err = conn.RequestName("org.freedesktop.systemd1", dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.NoError(t, conn.Export(s, "/org/freedesktop/systemd1", "org.freedesktop.systemd1.Manager"))
	for _, name := range names {
		require.NoError(t, conn.Export(&unitProperties{s, name}, unitPath(name), "org.freedesktop.DBus.Properties"))
	}
	return address
}

func TestUnits_AreActedOnThroughTheInitSystem(t *testing.T) {
	stand := &initStandIn{states: map[string]string{"press.service": "active", "label.service": "inactive",
		"stuck.service": "deactivating", "broken.service": "inactive"}, pids: map[string]uint32{"stuck.service": 40},
		boots: map[string]string{"press.service": "enabled"}}
	s := newScene(t)
	s.options.Systems.Bus = startBus(t, stand, "press.service", "label.service", "stuck.service", "broken.service",
		"gone.service")
	s.open()
	unit := func(name string) act.Target { return act.Target{Form: act.OfUnit, Unit: name} }
	order := func(v act.Verb, name string, settings map[string]string) *act.Order {
		o := s.order(v, unit(name), settings)
		o.Whose["unit:"+name] = "Label Press"
		return o
	}
	do := func(v act.Verb, name string, settings map[string]string) (*act.Order, *act.Preview, act.Outcome) {
		o := order(v, name, settings)
		p := s.preview(o)
		return o, p, s.carry(o)
	}
	o, p, out := do(act.End, "press.service", nil)
	require.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, "the init system", p.Through)
	assert.Equal(t, "inactive", stand.state("press.service"))
	assert.Equal(t, act.Done, s.undo(o).State)
	assert.Equal(t, "active", stand.state("press.service"), "undone, it is started again")

	_, _, out = do(act.Start, "label.service", nil)
	assert.Equal(t, act.Done, out.State)
	assert.Equal(
		t,
		[]act.Change{{What: "state of the unit", Where: "label.service", Before: "stopped", After: "running"}},
		out.Changes,
	)
	_, _, out = do(act.Start, "broken.service", nil)
	assert.Equal(t, act.Failed, out.State)
	assert.Equal(t, "it failed", out.Left[0].Why)

	o, _, out = do(act.AtBoot, "press.service", map[string]string{"begins": "false"})
	assert.Equal(t, act.Done, out.State)
	assert.Equal(t, "disabled", stand.boot("press.service"))
	assert.Equal(t, act.Done, s.undo(o).State)
	assert.Equal(t, "enabled", stand.boot("press.service"))

	// One that is stuck: its processes are ended and it is started again, in one act.
	stand.called()
	_, p, out = do(act.Restart, "stuck.service", nil)
	require.Equal(t, act.Done, out.State, "%+v", out)
	assert.Contains(t, p.Warnings, "it is stuck: it is stopping")
	assert.Equal(t, []string{"kill stuck.service all 9", "reset stuck.service", "restart stuck.service replace"},
		stand.called())
	assert.Equal(t, "stuck.service is running by process 41; before it was 40", out.Detail)
	stand.called()
	_, _, out = do(act.Restart, "press.service", nil)
	assert.Equal(t, act.Done, out.State)
	assert.Equal(t, []string{"restart press.service replace"}, stand.called(), "what is well is not ended by force")

	refused := func(v act.Verb, name string) string {
		_, err := s.host.Preview(context.Background(), order(v, name, nil))
		require.Error(t, err)
		return err.Error()
	}
	assert.Contains(t, refused(act.Start, "gone.service"), "there is no unit gone.service")
	for _, name := range []string{"ssh.service", "sshd.service", "postgresql@15-main.service",
		"vinescale-collect.service"} {
		assert.Contains(t, refused(act.End, name), "left alone", name)
	}
	s.policy = allowsAll + "\nnever: {units: [press.*]}"
	assert.Contains(t, refused(act.End, "press.service"), "never touched")
	assert.Contains(t, s.refused(act.End, unit("label.service"), nil), "does not say whose")
	s.options.Systems.Bus = ""
	s.open()
	assert.Contains(t, refused(act.End, "label.service"), "not told of an init system")
}

// TestServices_EndThroughTheirUnit: ended behind its back, the init system would start it again.
func TestServices_EndThroughTheirUnit(t *testing.T) {
	stand := &initStandIn{states: map[string]string{"press.service": "active"}, pids: map[string]uint32{}}
	s := newScene(t)
	s.options.Systems.Bus = startBus(t, stand, "press.service")
	s.open()
	const key = "service:/press.service"
	s.known.Workloads[key] = account.Workload{Key: key, Kind: amount.Service, Name: "press",
		Facts: map[string]string{account.FactUnit: "press.service"}}
	s.runOf(key, "READY; exec sleep 80")
	o := s.order(act.End, act.Target{Form: act.OfWorkload, Key: key}, nil)
	o.Whose[key] = "Label Press"
	assert.Equal(t, "the init system", s.preview(o).Through)
	assert.Equal(t, act.Done, s.carry(o).State)
	assert.Equal(t, []string{"stop press.service replace"}, stand.called())
}

// TestManaged_IsNotEndedAsAWholeWhereSomethingInItIsNeverTouched: what is done through another system is done to all.
func TestManaged_IsNotEndedAsAWholeWhereSomethingInItIsNeverTouched(t *testing.T) {
	stand := &initStandIn{states: map[string]string{"press.service": "active"}, pids: map[string]uint32{}}
	s := newScene(t)
	s.options.Systems.Bus = startBus(t, stand, "press.service")
	s.open()
	const key = "service:/press.service"
	s.known.Workloads[key] = account.Workload{Key: key, Kind: amount.Service, Name: "press",
		Facts: map[string]string{account.FactUnit: "press.service"}}
	s.runOf(key, "sleep 82 & READY; wait")
	s.policy = allowsAll + "\nnever: {programs: [sleep]}"
	for _, target := range []act.Target{{Form: act.OfWorkload, Key: key}, {Form: act.OfUnit, Unit: "press.service"}} {
		for _, v := range []act.Verb{act.End, act.Restart} {
			if v == act.Restart && target.Form == act.OfWorkload {
				continue
			}
			o := s.order(v, target, nil)
			o.Whose[key], o.Whose["unit:press.service"] = "Label Press", "Label Press"
			_, err := s.host.Preview(context.Background(), o)
			assert.ErrorContains(t, err, "is in it, and is never touched", "%s %s", v, target.Form)
		}
	}
	assert.Empty(t, stand.called())
	assert.Len(t, s.alive(), 2)
}

// TestJobs_AreActedOnThroughTheirScheduler stands in for the scheduler's commands by scripts that keep a job's state.
func TestJobs_AreActedOnThroughTheirScheduler(t *testing.T) {
	s := newScene(t)
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\ncd "+dir+"\n"+text), 0o755))
	}
	state := func(text string) { require.NoError(t, os.WriteFile(filepath.Join(dir, "state"), []byte(text), 0o600)) }
	put("squeue", "exit 1")
	put("scontrol", `echo "$@" >> calls
case "$1" in
show) echo "JobId=7 JobName=frost UserId=frost(2001) $(cat state) StartTime=2026-10-11T10:00:00" ;;
hold) echo "JobState=PENDING Reason=JobHeldAdmin" > state ;;
release) echo "JobState=PENDING Reason=Resources" > state ;;
suspend) echo "JobState=SUSPENDED Reason=None" > state ;;
resume) echo "JobState=RUNNING Reason=None" > state ;;
esac`)
	put("scancel", `echo cancel "$@" >> calls; echo "JobState=CANCELLED Reason=None" > state`)
	s.options.Systems.Jobs = filepath.Join(dir, "squeue")
	s.open()
	job := act.Target{Form: act.OfJob, Job: "7"}
	do := func(v act.Verb, target act.Target) (*act.Order, *act.Preview, act.Outcome) {
		o := s.order(v, target, nil)
		o.Whose["job:7"] = "Frost Watch"
		p := s.preview(o)
		return o, p, s.carry(o)
	}
	state("JobState=PENDING Reason=Resources")
	o, p, out := do(act.Hold, job)
	require.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, "job 7 of frost, waiting, begun 2026-10-11T10:00:00", p.Target)
	assert.Equal(t, act.Done, s.undo(o).State)
	b, err := os.ReadFile(filepath.Join(dir, "state"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "Reason=Resources", "let go again")

	state("JobState=RUNNING Reason=None")
	refusal := s.order(act.Hold, job, nil)
	refusal.Whose["job:7"] = "Frost Watch"
	_, err = s.host.Preview(context.Background(), refusal)
	assert.ErrorContains(t, err, "job 7 is running: only one that waits can be held")
	s.known.Workloads["job:7"] = account.Workload{Key: "job:7", Kind: amount.Job, Name: "job 7"}
	s.runOf("job:7", "READY; exec sleep 81")
	running := act.Target{Form: act.OfWorkload, Key: "job:7"}
	o, p, out = do(act.Pause, running)
	require.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, "the batch scheduler", p.Through)
	assert.Equal(t, act.Done, s.undo(o).State)
	_, _, out = do(act.End, running)
	assert.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, "job 7 is over, and the scheduler knows it", out.Detail)
	calls, err := os.ReadFile(filepath.Join(dir, "calls"))
	require.NoError(t, err)
	assert.Contains(t, string(calls), "suspend 7")
	assert.Contains(t, string(calls), "resume 7")
	assert.Contains(t, string(calls), "cancel 7")
	state("JobState=RUNNING Reason=None")
	delete(s.known.Workloads, "job:7")
	elsewhere := s.order(act.End, job, nil)
	elsewhere.Whose["job:7"] = "unassigned"
	_, err = s.host.Preview(context.Background(), elsewhere)
	assert.ErrorContains(t, err, "not on this host", "another host's policy and pools count there")
	put("scontrol", "echo 'slurm_load_jobs error: Invalid job id' >&2; exit 1")
	_, err = s.host.Preview(context.Background(), refusal)
	assert.ErrorContains(t, err, "Invalid job id")
}
