package real

import (
	"encoding/json"
	"fmt"
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

	"vinescale/core/explain"
	"vinescale/internal/sheet"
)

// TestPins_AreJudgedByWhatRanWhere has containers with cpusets, a stranger whose affinity is one of their CPUs, a
// holder that is kept elsewhere, and one that does nothing: each verdict, and its CPU-seconds by the burners' clocks.
func TestPins_AreJudgedByWhatRanWhere(t *testing.T) {
	require.GreaterOrEqual(t, runtime.NumCPU(), 2, "it takes two CPUs")
	require.Zero(t, os.Geteuid(), "this test starts containers: run it as root")
	dir, err := os.MkdirTemp("", "vinescale-real-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	s := &scene{dir: dir, program: built(t, "vinescale")}
	names := map[string]*burner{}
	for _, b := range []*burner{{name: "held", cores: 0.3, cpus: "0"}, {name: "kept", cores: 0.25, cpus: "1"},
		{name: "astray", cores: 0.2, cpus: "1"}, {name: "idle", cpus: "0"}} {
		names[b.name] = b
		b.name = fmt.Sprintf("vinescale-pins-%d-%s", os.Getpid(), b.name)
		s.container(t, b)
	}
	s.plainOn(t, "0")
	stranger := s.burners[len(s.burners)-1]
	s.parting(t, "1", "0")
	parent, child := s.burners[len(s.burners)-2], s.burners[len(s.burners)-1]
	interrupts := s.interrupts(t, 0)
	for _, b := range s.burners {
		require.Eventually(t, func() bool { info, err := os.Stat(b.record); return err == nil && info.Size() > 0 },
			patience, 20*time.Millisecond, b.name)
	}
	names["parting"] = parent
	service := startService(t, dir, "127.0.0.1:17471")
	time.Sleep(time.Second) // for the service to settle
	credential := strings.TrimSpace(string(service.run(t, "hosts", "enrol", "here")))
	service.collect(t, credential, filepath.Join(dir, "spool"), 20*time.Second)

	var effective []struct{ Workload, CPUs string }
	require.NoError(t, json.Unmarshal(service.run(t, "pins", "effective", "here", "--as", "json"), &effective))
	on := map[string]string{}
	for _, p := range effective {
		on[p.Workload] = p.CPUs
	}
	for name, cpus := range map[string]string{"held": "0", "kept": "1", "astray": "1", "idle": "0"} {
		assert.Equal(t, cpus, on[names[name].name], name)
	}
	assert.Equal(t, "0", on[stranger.name], "an affinity keeps it there")

	for name, args := range map[string][]string{"held": {"0"}, "kept": {"1", "--shared"}, "astray": {"0", "--shared"},
		"idle":    {"0", "--shared"},
		"parting": {"1", "--shared"}} {
		service.run(t, append([]string{"pins", "declare", "here", args[0], "--workload", names[name].name, "--from",
			time.Now().Add(-time.Hour).Format("2006-01-02T15:04")}, args[1:]...)...)
	}
	var l sheet.Ledger
	require.NoError(t, json.Unmarshal(service.run(t, "share", "--by", "workload", "--host", "here", "--span", "10m",
		"--as", "json"), &l))
	var pins []explain.PinAudit
	require.NoError(
		t,
		json.Unmarshal(service.run(t, "pins", "--host", "here", "--span", "10m", "--as", "json"), &pins),
	)
	audit := func(name string) *explain.PinAudit {
		i := slices.IndexFunc(pins, func(p explain.PinAudit) bool { return p.Holder == names[name].name })
		require.GreaterOrEqual(t, i, 0, name)
		t.Logf("%-7s %s: %s", name, pins[i].Verdict, pins[i].Sentence)
		return &pins[i]
	}
	fault := func(p *explain.PinAudit, verdict string) *explain.PinFault {
		i := slices.IndexFunc(p.Verdicts, func(f explain.PinFault) bool { return f.Verdict == verdict })
		require.GreaterOrEqual(t, i, 0, "%s among %+v", verdict, p.Verdicts)
		return &p.Verdicts[i]
	}
	same := func(b *burner, seconds float64) {
		own := b.used(t, *l.CoveredFrom, *l.CoveredTo)
		t.Logf("%-34s own clock %7.3f s, audited %7.3f s", b.name, own, seconds)
		assert.InDelta(t, own, seconds, max(0.01*own, 0.020)+paused(&l), b.name)
	}

	held := audit("held")
	assert.Equal(t, "intruded", held.Verdict)
	intruded := fault(held, "intruded")
	at := slices.IndexFunc(intruded.Culprits, func(c explain.PinRun) bool { return c.Name == stranger.name })
	require.GreaterOrEqual(t, at, 0, "%+v", intruded.Culprits)
	same(stranger, intruded.Culprits[at].CPUSeconds)
	for _, r := range held.Each[0].Ran {
		t.Logf("ran on CPU 0: %-34s %7.3f s %s", r.Name, r.CPUSeconds, r.Source)
		if r.IsHolder || r.Name == stranger.name {
			assert.Equal(t, "counted", r.Source, r.Name)
		}
	}
	same(names["held"], held.Kept)
	fault(held, "overlapping")
	fault(held, "unenforced")
	require.NotNil(t, intruded.When)
	assert.NotNil(t, intruded.When.HolderWaited, "the kernel counts for how long it waited")

	kept := audit("kept")
	fault(kept, "kept") // beside interrupts, where they take more than one per cent of it
	same(names["kept"], kept.Kept)
	assert.Zero(t, kept.Strayed)
	strayed := fault(audit("astray"), "strayed")
	assert.Equal(t, "1", strayed.CPUs)
	same(names["astray"], *strayed.Seconds)
	fault(audit("idle"), "idle")

	parting := audit("parting")
	same(parent, parting.Kept)
	lost := fault(parting, "strayed")
	assert.Equal(t, "0", lost.CPUs)
	same(child, *lost.Seconds)
	assert.Contains(t, fault(parting, "unbound").Sentence,
		"not all of its processes may run on the same: 1; 0 (pruner, child of pruner on 1)")
	assert.Equal(t, "0-1", on[parent.name])

	landed := fault(held, "interrupted")
	same(interrupts, *landed.Seconds)
	assert.Equal(t, "0", landed.CPUs)
	for i := range pins {
		p := &pins[i]
		assert.InDelta(t, p.Capacity, p.Kept+p.Intruded+p.Kernel+p.Steal+p.Idle+p.Residual, 1e-6)
		assert.InDelta(t, 0, p.Residual, 0.03*p.Capacity+*l.Steal, "what the kernel tells of %s adds up", p.CPUs)
	}
}

// parting starts a program on some CPUs whose child was given others: the last two burners.
func (s *scene) parting(t *testing.T, cpus, ofChild string) {
	dir := filepath.Join(s.dir, "plain") // of the user of plainOn
	content, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	program := filepath.Join(dir, "pruner")
	require.NoError(t, os.WriteFile(program, content, 0o755))
	name, record := fmt.Sprintf("pruner of uid %d", plainUser), filepath.Join(dir, "pruned")
	cmd := exec.Command("taskset", "-c", cpus, program, "part", ofChild, strconv.Itoa(burnerSeconds), "0.2", record)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true,
		Credential: &syscall.Credential{Uid: plainUser, Gid: plainUser}}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL); cmd.Wait() })
	s.burners = append(s.burners, &burner{name: name, cores: 0.2, record: record},
		&burner{name: name, cores: 0.2, record: record + "-child"})
}

// interrupts has interrupts land on a CPU, and records what they took of it by the kernel's own count.
func (s *scene) interrupts(t *testing.T, cpu int) *burner {
	cmd := exec.Command("taskset", "-c", strconv.Itoa(cpu), built(t, "burner"), "flood", strconv.Itoa(burnerSeconds))
	require.NoError(t, cmd.Start())
	b := &burner{name: "interrupts", record: filepath.Join(s.dir, "interrupts")}
	f, err := os.Create(b.record)
	require.NoError(t, err)
	done := make(chan struct{})
	t.Cleanup(func() { close(done); cmd.Process.Kill(); cmd.Wait() })
	go func() {
		defer f.Close()
		for {
			took, err := interruptsOf(cpu)
			if err != nil {
				return
			}
			fmt.Fprintln(f, time.Now().UnixNano(), took.Nanoseconds())
			select {
			case <-done:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	return b
}

// interruptsOf is what interrupts took of a CPU so far (proc_stat(5)), in steps of 10 ms.
func interruptsOf(cpu int) (time.Duration, error) {
	raw, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(raw)) {
		var name string
		var times [7]int64
		if n, _ := fmt.Sscan(line, &name, &times[0], &times[1], &times[2], &times[3], &times[4], &times[5],
			&times[6]); n == 8 && name == fmt.Sprint("cpu", cpu) {
			return time.Duration(times[5]+times[6]) * 10 * time.Millisecond, nil
		}
	}
	return 0, fmt.Errorf("CPU %d is not in /proc/stat", cpu)
}
