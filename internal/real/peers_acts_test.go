package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/internal/api"
	"vinescale/internal/identify"
)

// act has what runs ended, paused and placed, each through the system that manages it, and undone.
func (p *peers) act(service *served, credential string) {
	t := p.t
	policy := p.put("acts.yaml", []byte("allow: [{acts: [all]}]"), 0o600)
	a := &acting{scene: &scene{dir: p.dir, program: service.program}, t: t, service: service}
	collector := exec.Command(
		service.program,
		"collect",
		"--host",
		"here",
		"--spool",
		filepath.Join(p.dir, "spool"),
		"--tick",
		"1s",
		"--acts",
		policy,
		"--ask",
		"engine=/run/engine.sock",
		"--ask",
		"libvirt=/run/libvirt/libvirt-sock",
		"--ask",
		"slurm",
		"--ask",
		"cri="+podSocket,
	)
	collector.Env = append(service.environment, "VINESCALE_CREDENTIAL="+credential)
	collector.Stderr = p.log("collect")
	require.NoError(t, collector.Start())
	defer func() { collector.Process.Kill(); collector.Wait() }()
	require.Eventually(t, func() bool { // each try waits for the host for 20 s
		cmd := exec.Command(service.program, "act", "look", "--process", fmt.Sprint(os.Getpid()), "--host", "here",
			"--preview")
		cmd.Env = service.environment
		return cmd.Run() == nil
	}, patience, 50*time.Millisecond, "the host takes orders")
	through := func(system string, x api.Intervention) api.Intervention {
		t.Helper()
		require.NotNil(t, x.Preview)
		assert.Equal(t, system, x.Preview.Through, "%s %s", x.Verb, x.Preview.Target)
		return x
	}
	undone := func(x api.Intervention) { a.done("undo", x.ID) }
	output := func(name string, args ...string) string {
		out, _ := exec.Command(name, args...).Output()
		return strings.TrimSpace(string(out))
	}

	// As those tell them that are asked of them.
	for _, name := range []string{"label-press", "bottling-plc", "must-intake-1", "scanner"} {
		a.known(name)
	}
	// A container of an engine, and one of a bare runtime.
	state := func() string {
		return output("podman", "--root", filepath.Join(p.dir, "engine/root"), "--runroot", "/run/engine",
			"--storage-driver", "vfs", "--tmpdir", "/run/engine-tmp", "ps", "--all", "--filter", "name=label-press",
			"--format", "{{.State}}")
	}
	for name, system := range map[string]string{
		"label-press": "the container engine", "must-intake-1": "the runtime runc", "scanner": "the container runtime",
	} {
		for _, x := range []struct {
			args      []string
			knows, is string
		}{
			{[]string{"cap", name, "--cpu", "0.7"}, `"cpu_quota":70000,`, "70000"},
			{[]string{"cap", name, "--memory", "256MiB"}, `"memory":268435456,`, "268435456"},
			{[]string{"weigh", name, "--cpu-weight", "300"}, `"cpu_shares":3072,`, "3072"},
			{[]string{"place", name, "--cpuset", "1"}, `"cpuset_cpus":"1",`, "1"},
		} {
			limited := through(system, a.done(x.args...))
			require.Len(t, limited.Outcome.Changes, 1)
			change := limited.Outcome.Changes[0]
			assert.Equal(t, x.is, strings.TrimSpace(string(read(t, change.Where))))
			id := strings.TrimPrefix(filepath.Base(filepath.Dir(change.Where)), "libpod-")
			record, _, is := identify.StateOf("/run", id)
			require.True(t, is, "the runtime's record of %s", id)
			assert.Contains(t, string(read(t, record)), x.knows, "%v: %s knows of it", x.args, system)
			undone(limited)
			assert.Equal(t, change.Before, strings.TrimSpace(string(read(t, change.Where))))
			assert.NotContains(t, string(read(t, record)), x.knows)
		}
	}
	paused := through("the container engine", a.done("pause", "label-press"))
	assert.Equal(t, "Paused", state())
	undone(paused)
	assert.Contains(t, state(), "Up ")
	through("the container engine", a.done("read", "label-press", "--lines", "5"))
	through("the container engine", a.done("end", "label-press", "--wait", "2s"))
	assert.Contains(t, state(), "Exited")
	through("the runtime runc", a.done("end", "must-intake-1", "--force"))

	// A container of a pod: its runtime stops it, which tells so whoever manages the pod.
	through("the container runtime", a.done("read", "scanner"))
	ended := through("the container runtime", a.done("end", "scanner", "--wait", "2s"))
	assert.Contains(t, strings.Join(ended.Preview.Warnings, "; "), "what manages that begins it anew")
	assert.Equal(t, "CONTAINER_EXITED", p.podState("scanner"))

	// A machine of its manager.
	machine := func(args ...string) string {
		return output("virsh", append([]string{"-c", "qemu:///system"}, args...)...)
	}
	paused = through("the machine manager", a.done("pause", "bottling-plc"))
	assert.Equal(t, "paused", machine("domstate", "bottling-plc"))
	undone(paused)
	assert.Equal(t, "running", machine("domstate", "bottling-plc"))
	pinned := func() string {
		return strings.Fields(machine("vcpupin", "bottling-plc", "--vcpu", "0", "--live") + " x x x x x")[4]
	}
	before := pinned()
	placed := through("the machine manager", a.done("place", "bottling-plc", "--vcpu", "0", "--cpus", "0"))
	assert.Equal(t, "0", pinned())
	undone(placed)
	assert.Equal(t, before, pinned())
	through("the machine manager", a.done("end", "bottling-plc", "--force"))
	assert.Empty(t, machine("list", "--name"))

	// A job that waits, and one that runs.
	script := p.put("batch/wait.sh", []byte("#!/bin/sh\nexec sleep 1800\n"), 0o755)
	job := p.run("sbatch", "--parsable", "--begin=now+1hour", "--account=frost", "--output=/dev/null", script)
	shown := func(id string) string { return output("squeue", "--noheader", "--format=%T %r", "--jobs="+id) }
	held := through("the batch scheduler", a.done("hold", "--job", job, "--host", "here"))
	assert.Contains(t, shown(job), "JobHeldAdmin")
	undone(held)
	assert.NotContains(t, shown(job), "JobHeld")
	a.done("end", "--job", job, "--host", "here")
	assert.Empty(t, shown(job))
	running := ""
	for i := range p.want {
		if p.want[i].kind == "job" {
			running = p.want[i].name
		}
	}
	number := strings.TrimPrefix(running, "job ")
	paused = through("the batch scheduler", a.done("pause", running))
	assert.Contains(t, shown(number), "SUSPENDED")
	undone(paused)
	assert.Contains(t, shown(number), "RUNNING")
	through("the batch scheduler", a.done("end", running))
	assert.NotContains(t, shown(number), "RUNNING")
	// What a job wrote: only its user's own file is read.
	script = p.put("batch/write.sh", []byte("#!/bin/sh\necho the frost is near\nexec sleep 1800\n"), 0o755)
	wrote := filepath.Join(p.dir, "batch/frost.out")
	job = p.run("sbatch", "--parsable", "--account=frost", "--output="+wrote, script)
	p.eventually("the job wrote", func() bool {
		b, err := os.ReadFile(wrote)
		return err == nil && strings.Contains(string(b), "near")
	})
	lines := through("the batch scheduler", a.done("read", "--job", job, "--host", "here"))
	require.Len(t, lines.Outcome.Found, 1)
	assert.Equal(t, "the frost is near", lines.Outcome.Found[0].Text)
	p.run("scancel", job)

	// Who is signed in: a line to the terminal, and out.
	var signIns []api.Intervention
	for _, user := range []string{"i.sauer", "m.abt"} {
		cmd := exec.Command("sh", "-c", `"$0" workloads --where "kind == 'session' && owner == '`+user+
			`'" --as csv --columns id | tail -1`, service.program)
		cmd.Env = service.environment
		id, err := cmd.Output()
		require.NoError(t, err)
		session := "workload/" + strings.TrimSpace(string(id))
		if user == "i.sauer" {
			x := a.done("message", session, "--text", "back up your work by noon")
			assert.Contains(t, x.Detail, "written to 1 terminals")
		}
		signIns = append(signIns, a.done("end", session, "--force"))
	}
	for _, x := range signIns {
		assert.Equal(t, string(act.Done), x.State)
	}
	p.eventually("what they ran is over", func() bool {
		return output("pgrep", "-u", "2001,2004", "-f", "/burner .* [^ ]*/home/") == ""
	})
}
