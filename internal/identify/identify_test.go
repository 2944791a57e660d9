package identify_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
	"unicode/utf8"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
)

const group = "root:x:0:\nagronomists:x:2001:p.kern\ncellar:x:801:m.abt\nbroken\n"

const passwd = "root:x:0:0::/root:/bin/sh\nm.abt:x:2001:2001::/:/bin/sh\nsvc-cellar:x:801:801::/:/bin/sh\nbroken " +
	"line\ntwin:x:801:801::/:/bin/sh\n"

type place struct{ etc, run, proc string }

func newPlace(t *testing.T) place {
	dir := t.TempDir()
	p := place{filepath.Join(dir, "etc"), filepath.Join(dir, "run"), filepath.Join(dir, "proc")}
	require.NoError(t, os.MkdirAll(p.etc, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.etc, "passwd"), []byte(passwd), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.etc, "group"), []byte(group), 0o644))
	return p
}

func (p place) registry() *identify.Registry {
	return p.with(identify.Options{})
}

func (p place) with(o identify.Options) *identify.Registry {
	o.Roots, o.Boot = identify.Roots{Etc: p.etc, Run: p.run, Proc: p.proc}, "5f3a0000-1111"
	return identify.NewRegistry(o)
}

func (p place) state(t *testing.T, id, content string) {
	p.write(t, filepath.Join(p.run, "runc", id, "state.json"), content)
}

func (p place) write(t *testing.T, file, content string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
}

// TestPaths tells which workload begins at a cgroup path, from examples recorded in testdata.
func TestPaths(t *testing.T) {
	registry := newPlace(t).registry()
	datadriven.RunTest(t, "testdata/paths", func(t *testing.T, d *datadriven.TestData) string {
		var b strings.Builder
		for path := range strings.Lines(d.Input) {
			path = strings.TrimSpace(path)
			id := registry.Begins(path)
			if id == account.Unrecognised {
				fmt.Fprintf(&b, "none\n")
				continue
			}
			w := registry.Workload(id)
			fmt.Fprintf(&b, "%s %q owner=%q uid=%d", w.Kind, w.Name, w.Owner, w.UID)
			if w.Outer != "" {
				fmt.Fprintf(&b, " in=%s", w.Outer)
			}
			b.WriteByte('\n')
		}
		return b.String()
	})
}

func TestContainer_NameAndOwnerComeFromTheRuntimesStateFile(t *testing.T) {
	p := newPlace(t)
	p.state(t, "must-1", `{"id":"must-1","init_process_pid":77,
			"cgroup_paths":{"memory":"/sys/fs/cgroup/memory/coop/must-1",
			"cpuacct":"/sys/fs/cgroup/cpuacct/coop/must-1"},
		"config":{"labels":["bundle=/b","org.vinescale.name=must-intake","org.vinescale.owner=svc-cellar",
			"site=north"]}}`)
	r := p.registry()
	w := r.Workload(r.Begins("/coop/must-1"))
	assert.Equal(t, "must-intake", w.Name)
	assert.Equal(t, "svc-cellar", w.Owner)
	assert.Equal(t, int64(801), w.UID)
	assert.Equal(t, "north", w.Labels["site"])
	assert.Equal(t, account.Unrecognised, r.Begins("/coop"), "the group around it is not the container")

	// Without annotations: the id, and the user its first process runs as.
	require.NoError(t, os.MkdirAll(filepath.Join(p.proc, "78"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.proc, "78/status"),
		[]byte("Name:\tx\nUid:\t2001\t2001\t2001\t2001\n"), 0o644))
	p.state(t, "plain", `{"id":"plain","init_process_pid":78,"cgroup_paths":{"":"/sys/fs/cgroup/plain"}}`)
	w = r.Workload(r.Begins("/plain"))
	assert.Equal(t, "plain", w.Name)
	assert.Equal(t, "m.abt", w.Owner)
}

func TestContainer_UnsoundStateFilesAreLeftOut(t *testing.T) {
	for name, content := range map[string]string{
		"cut short": `{"id":"a","cgroup_paths":{"":"/sys/fs/c`, "empty": "", "not JSON": "<html>",
		"no id": `{"cgroup_paths":{"":"/sys/fs/cgroup/a"}}`,
		"huge":  `{"id":"` + strings.Repeat("a", 5<<20) + `"}`, "wrong types": `{"id":7}`,
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.state(t, "a", content)
			assert.Equal(t, account.Unrecognised, p.registry().Begins("/a"))
		})
	}
}

func TestRegistry_NamesAnyoneCanChooseAreMadeSoundForStoring(t *testing.T) {
	p := newPlace(t)
	name, err := json.Marshal("\x00evil" + strings.Repeat("é", 400))
	require.NoError(t, err)
	p.state(t, "n",
		`{"id":"n","cgroup_paths":{"":"/sys/fs/cgroup/n"},"config":{"labels":["org.vinescale.name=`+strings.Trim(
			string(name), `"`)+`"]}}`)
	r := p.registry()
	w := r.Workload(r.Begins("/n"))
	assert.NotContains(t, w.Name, "\x00")
	assert.Less(t, len(w.Name), 600)
	assert.Equal(t, "caf\uFFFD", r.ProgramName(r.Program([]byte("caf\xff"))))
}

func TestLoose_IsOnePerUserAndProgramAndAUidWithoutANameSaysSo(t *testing.T) {
	r := newPlace(t).registry()
	assert.Equal(t, r.Loose(2001, "rsync"), r.Loose(2001, "rsync"))
	assert.NotEqual(t, r.Loose(2001, "rsync"), r.Loose(2001, "sort"))
	w := r.Workload(r.Loose(2001, "rsync"))
	assert.Equal(t, "rsync of m.abt", w.Name)
	assert.Equal(t, "agronomists,cellar", w.Facts[account.FactGroups],
		"the primary group, and those that list the user")
	assert.Equal(t, "uid 4711", r.Workload(r.Loose(4711, "x")).Owner)
	assert.Equal(t, "svc-cellar", r.Workload(r.Loose(801, "x")).Owner, "the first line of a uid is its name")
}

func TestContainer_ANameUsedAgainIsAnotherWorkload(t *testing.T) {
	p := newPlace(t)
	r := p.registry()
	p.state(t, "must-1",
		`{"id":"must-1","init_process_pid":1,"init_process_start":100,"cgroup_paths":{"":"/sys/fs/cgroup/must-1"}}`)
	first := r.Begins("/must-1")
	assert.Equal(t, first, r.Begins("/must-1"))
	require.NoError(t, os.RemoveAll(filepath.Join(p.run, "runc/must-1")))
	assert.Equal(t, account.Unrecognised, r.Begins("/must-1"), "its state is gone")
	p.state(t, "must-1",
		`{"id":"must-1","init_process_pid":2,"init_process_start":200,"cgroup_paths":{"":"/sys/fs/cgroup/must-1"}}`)
	again := r.Begins("/must-1")
	assert.NotEqual(t, first, again)
	assert.Equal(t, r.Workload(first).Name, r.Workload(again).Name)
}

func TestContainer_TheBundleSaysImageUserLimitsAndCommand(t *testing.T) {
	p := newPlace(t)
	bundle := t.TempDir()
	p.write(t, filepath.Join(bundle, "config.json"), `{"process":{"args":["/bin/intake","--site","north"],
			"user":{"uid":33}},
		"annotations":{"org.vinescale.image":"coop/intake:2026.4","io.kubernetes.cri.sandbox-namespace":"cellar",
			"io.kubernetes.cri.sandbox-name":"must"},
		"linux":{"resources":{"cpu":{"quota":150000,"period":100000},"memory":{"limit":1048576}}}}`)
	// The other runtime's form: a status file in a directory of the container's name.
	p.write(t, filepath.Join(p.run, "crun/must-2/status"),
		`{"pid":7,"cgroup-path":"/coop/must-2","bundle":"`+bundle+`","created":"2026-11-23T03:10:00Z"}`)
	r := p.registry()
	w := r.Workload(r.Begins("/coop/must-2"))
	assert.Equal(t, "container:must-2@2026-11-23T03:10:00Z", w.Key)
	for name, want := range map[string]string{
		account.FactImage: "coop/intake:2026.4", account.FactNamespace: "cellar", account.FactPod: "must",
		account.FactUser:     "33",
		account.FactCPULimit: "1.5", account.FactMemoryLimit: "1048576", account.FactOrder: "/bin/intake --site north",
	} {
		assert.Equal(t, want, w.Facts[name], name)
	}
}

func TestPod_IsAroundItsContainersAndNamedByThem(t *testing.T) {
	p := newPlace(t)
	const pod = "/agent/burst/pod11111111-2222-3333-4444-555555555555"
	id := strings.Repeat("ab", 32)
	p.write(t, filepath.Join(p.run, "containerd/runc/k8s.io", id, "state.json"), `{"id":"`+id+`",
			"cgroup_paths":{"cpuacct":"/sys/fs/cgroup/cpuacct`+pod+`/`+id+`"},
		"config":{"labels":["io.kubernetes.cri.container-name=press","io.kubernetes.cri.sandbox-name=label-press",
			"io.kubernetes.cri.sandbox-namespace=labels"]}}`)
	r := p.registry()
	inner := r.Workload(r.Begins(pod + "/" + id))
	outer := r.Workload(r.Begins(pod))
	assert.Equal(t, []string{"press", outer.Key}, []string{inner.Name, inner.Outer})
	assert.Equal(t, []string{"pod label-press", "labels"}, []string{outer.Name, outer.Facts[account.FactNamespace]})
}

// process is what a test tells of one.
func process(pid int32, uid int64, comm string, environ ...string) *identify.Process {
	return &identify.Process{
		PID: pid, Start: 5, UID: uid, LoginUID: identify.NoUser, Session: -1, Comm: comm,
		Environ: func() []byte { return []byte(strings.Join(environ, "\x00")) }, Cmdline: func() []byte { return nil },
	}
}

func TestJob_TheEnvironmentOfAProcessIsBelievedOnlyForItsOwnUser(t *testing.T) {
	r := newPlace(t).registry()
	byCgroup := r.Begins("/batch/uid_2001/job_7")
	honest := process(10, 2001, "frost-ens", "SLURM_JOB_ID=7", "SLURM_JOB_ACCOUNT=frost", "SLURM_JOB_NAME=ens",
		"SLURM_JOB_GPUS=1,3", "SLURM_MEM_PER_NODE=2048")
	assert.Equal(t, byCgroup, r.OfProcess(honest, account.Unrecognised),
		"the same job, though this process is in none of its cgroups")
	r.Adopt(byCgroup, honest, r.Program([]byte("frost-ens")))
	w := r.Workload(byCgroup)
	assert.Equal(t, []string{"frost", "ens", "1,3", "2147483648"},
		[]string{w.Facts[account.FactAccount], w.Facts[account.FactJobName], w.Facts[account.FactGPUClaim],
			w.Facts[account.FactMemoryAsked]})

	liar := r.OfProcess(process(11, 2003, "mine", "SLURM_JOB_ID=7", "SLURM_JOB_ACCOUNT=frost"), account.Unrecognised)
	assert.NotEqual(t, byCgroup, liar)
	assert.Equal(t, int64(2003), r.Workload(liar).UID, "whoever claims a job pays for it")
	for _, id := range []string{"", "7; x", "-1", strings.Repeat("9", 40)} {
		assert.Equal(t, account.Unrecognised, r.OfProcess(process(12, 2001, "x", "SLURM_JOB_ID="+id),
			account.Unrecognised), "%q", id)
	}
	unreadable := process(13, 2001, "x")
	unreadable.Environ = func() []byte { return nil }
	assert.Equal(t, account.Unrecognised, r.OfProcess(unreadable, account.Unrecognised))
	container := r.Begins("/pods/" + strings.Repeat("01", 32))
	assert.Equal(t, account.Unrecognised, r.OfProcess(honest, container), "what runs in a container is the container's")
}

func TestSession_StaysWithWhoSignedIn(t *testing.T) {
	p := newPlace(t)
	r := p.registry()
	shell := process(20, 2001, "bash")
	shell.LoginUID, shell.Session = 2001, 31
	become := process(21, 0, "bash") // became root since
	become.LoginUID, become.Session = 2001, 31
	id := r.OfProcess(shell, account.Unrecognised)
	assert.Equal(t, id, r.OfProcess(become, account.Unrecognised))
	w := r.Workload(id)
	assert.Equal(t, []string{"sign-in 31 of m.abt", "m.abt", "session:5f3a0000:31"}, []string{w.Name, w.Owner, w.Key})

	assert.Equal(t, account.Unrecognised, r.OfProcess(process(22, 2001, "cron"), account.Unrecognised),
		"no sign-in began it")
	scope := r.Begins("/user.slice/user-2001.slice/session-31.scope")
	assert.Equal(t, id, scope, "the same sign-in by either way")
	assert.Equal(t, account.Unrecognised, r.OfProcess(become, scope))

	// A container begun from a sign-in is a container, and its owner is who signed in.
	p.state(t, "hand", `{"id":"hand","init_process_pid":23,"cgroup_paths":{"":"/sys/fs/cgroup/hand"}}`)
	p.write(t, filepath.Join(p.proc, "23/status"), "Name:\tx\nUid:\t0\t0\t0\t0\n")
	p.write(t, filepath.Join(p.proc, "23/loginuid"), "2001")
	assert.Equal(t, "m.abt", r.Workload(r.Begins("/hand")).Owner)
}

func TestSession_TerminalAndOriginComeFromUtmp(t *testing.T) {
	p := newPlace(t)
	record := make([]byte, 384)
	record[0], record[4] = 7, 77
	copy(record[8:], "pts/3")
	copy(record[44:], "m.abt")
	copy(record[76:], "office.coop\x1b[31m")
	p.write(t, filepath.Join(p.run, "utmp"), string(make([]byte, 384))+string(record)+"cut short")
	p.write(t, filepath.Join(p.proc, "77/sessionid"), "31\n")
	r := p.registry()
	shell := process(20, 2001, "bash")
	shell.LoginUID, shell.Session = 2001, 31
	id := r.OfProcess(shell, account.Unrecognised)
	require.True(t, r.ToAsk())
	assert.Equal(t, []account.WorkloadID{id}, r.Ask(t.Context()))
	w := r.Workload(id)
	assert.Equal(t, "pts/3", w.Facts[account.FactTerminal])
	assert.Equal(t, "office.coop\x1b[31m", w.Facts[account.FactOrigin], "as it is; every face shows it escaped")
	assert.Equal(t, "m.abt", w.Owner)
}

func TestMachine_BegunByHandIsKnownByItsCommandLine(t *testing.T) {
	r := newPlace(t).registry()
	p := process(30, 803, "qemu-system-x86")
	p.Cmdline = func() []byte {
		return []byte(
			"/usr/bin/qemu-system-x86_64\x00-name\x00guest=bottling,debug-threads=on\x00-smp\x004,sockets=1" +
				"\x00-m\x002G\x00-drive\x00file=/var/plc.img,if=virtio\x00-netdev" +
				"\x00tap,id=n,ifname=tap7\x00-uuid\x00abc\x00")
	}
	w := r.Workload(r.OfProcess(p, account.Unrecognised))
	assert.Equal(t, []any{amount.VM, "bottling", "4", "2147483648", "/var/plc.img", "tap7"},
		[]any{w.Kind, w.Name, w.Facts[account.FactCPUAsked], w.Facts[account.FactMemoryAsked],
			w.Facts[account.FactDisks], w.Facts[account.FactTaps]})
	image := process(31, 803, "qemu-img")
	image.Cmdline = func() []byte { return []byte("qemu-img\x00convert\x00") }
	assert.Equal(t, account.Unrecognised, r.OfProcess(image, account.Unrecognised), "not a machine")
	assert.Equal(t, []string{"vCPU 3", "I/O", "emulator", "emulator"},
		[]string{identify.MachinePart("CPU 3/KVM"), identify.MachinePart("IO iothread1"),
			identify.MachinePart("qemu-system-x86"), identify.MachinePart("worker")})
	pid, ok := identify.WorksFor("vhost-30")
	assert.Equal(t, []any{int32(30), true}, []any{pid, ok})
	_, ok = identify.WorksFor("vhost-x")
	assert.False(t, ok)
}

func TestSite_RecognisesJobsTheWayTheSiteSays(t *testing.T) {
	byPath, err := identify.ParseSite(`grid:path:/grid/(?P<user>[^/]+)/(?P<job>[0-9]+)$`)
	require.NoError(t, err)
	byEnv, err := identify.ParseSite(`press queue:env:job=PQ_JOB,user=PQ_USER,account=PQ_PROJECT`)
	require.NoError(t, err)
	r := newPlace(t).with(identify.Options{Sites: []identify.Site{byPath, byEnv}})
	w := r.Workload(r.Begins("/grid/m.abt/41"))
	assert.Equal(t, []any{amount.Job, "job 41", "m.abt", int64(2001)}, []any{w.Kind, w.Name, w.Owner, w.UID})
	w = r.Workload(r.OfProcess(process(40, 2001, "x", "PQ_JOB=9.a", "PQ_USER=svc-cellar", "PQ_PROJECT=leaf"),
		account.Unrecognised))
	assert.Equal(t, []string{"job 9.a", "m.abt", "leaf"}, []string{w.Name, w.Owner, w.Facts[account.FactAccount]},
		"a user can name no other as owner")
	w = r.Workload(r.OfProcess(process(41, 0, "x", "PQ_JOB=9.b", "PQ_USER=svc-cellar"), account.Unrecognised))
	assert.Equal(t, "svc-cellar", w.Owner, "root can")
	for _, bad := range []string{"", "grid", "grid:path:(", "grid:path:/x", "grid:env:user=A", "grid:env:job",
		"grid:file:x", "9x:env:job=A"} {
		_, err := identify.ParseSite(bad)
		assert.ErrorContains(t, err, bad)
	}
}

// told is an informant that a test fills in.
type told struct {
	asked  int
	answer map[string]account.Workload
	err    error
	hang   bool
}

func (f *told) Name() string                  { return "the engine at /run/x" }
func (f *told) Knows(w account.Workload) bool { return w.Kind == amount.Container }
func (f *told) Ask(ctx context.Context, _ []account.Workload) (map[string]account.Workload, error) {
	f.asked++
	if f.hang {
		select {} // not even its time limit is heeded
	}
	return f.answer, f.err
}

func TestAsk_OnlyWhatIsNewIsAskedAboutAndADeadEndpointIsLeftAlone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		id := strings.Repeat("0a", 32)
		f := &told{err: errors.New("connection refused")}
		r := newPlace(t).with(identify.Options{Informants: []identify.Informant{f}})
		assert.False(t, r.ToAsk())
		w := r.Begins("/pods/" + id)
		require.True(t, r.ToAsk())
		r.Ask(t.Context())
		assert.Equal(t, "the engine at /run/x: connection refused", r.Workload(w).Facts[account.FactUnnamed])
		assert.False(t, r.ToAsk(), "it is left alone for a while")
		time.Sleep(16 * time.Second)
		require.True(t, r.ToAsk())
		f.err, f.answer = nil, map[string]account.Workload{"container:" + id: {
			Name: "must-intake", Owner: "svc-cellar", UID: -1, Labels: map[string]string{"site": "north"},
			Facts: map[string]string{account.FactImage: "coop/intake"},
		}}
		r.Ask(t.Context())
		got := r.Workload(w)
		assert.Equal(t, []any{"must-intake", "svc-cellar", int64(801), "north", "coop/intake", ""},
			[]any{got.Name, got.Owner, got.UID, got.Labels["site"], got.Facts[account.FactImage],
				got.Facts[account.FactUnnamed]})
		asked := f.asked
		time.Sleep(time.Hour)
		assert.False(t, r.ToAsk(), "what is known is not asked again")
		assert.Equal(t, asked, f.asked)
		r.Ended([]account.WorkloadID{w})
		assert.True(t, r.ToAsk(), "but how it ended is")

		unknown := r.Begins("/pods/" + strings.Repeat("0b", 32))
		for range 10 {
			r.Ask(t.Context())
			time.Sleep(6 * time.Second)
		}
		assert.False(t, r.ToAsk(), "one it never hears of is given up")
		assert.Equal(t, strings.Repeat("0b", 6), r.Workload(unknown).Name)
	})
}

// knowing is an informant that knows every workload it is asked about.
type knowing struct {
	told
	meanwhile func()
}

func (k *knowing) Ask(_ context.Context, about []account.Workload) (map[string]account.Workload, error) {
	if k.meanwhile != nil {
		k.meanwhile()
	}
	answer := map[string]account.Workload{}
	for _, w := range about {
		answer[w.Key] = account.Workload{UID: -1, Facts: map[string]string{account.FactImage: "coop/intake"}}
	}
	return answer, nil
}

func TestAsk_WhileWorkloadsAppearNeitherHoldsUpTheOther(t *testing.T) {
	const workloads = 3000
	r := newPlace(t).with(identify.Options{Informants: []identify.Informant{&knowing{}}})
	done := make(chan struct{})
	go func() {
		defer close(done)
		var appear sync.WaitGroup
		for part := range 3 {
			appear.Go(func() {
				for i := range workloads / 3 {
					r.Begins(fmt.Sprintf("/pods/%064x", part*workloads+i))
				}
			})
		}
		for r.Count() < workloads {
			r.Ask(t.Context())
		}
		appear.Wait()
		r.Ask(t.Context())
	}()
	select {
	case <-done:
	case <-time.After(3 * time.Minute):
		t.Fatal("a workload that appears and an answer wait for each other")
	}
	for id := range workloads {
		assert.Equal(t, "coop/intake", r.Workload(account.WorkloadID(id)).Facts[account.FactImage])
	}
}

func TestAsk_OneThatEndsWhileItIsAskedAboutIsAskedAboutOnceMore(t *testing.T) {
	k := &knowing{}
	r := newPlace(t).with(identify.Options{Informants: []identify.Informant{k}})
	w := r.Begins("/pods/" + strings.Repeat("0d", 32))
	k.meanwhile = func() { r.Ended([]account.WorkloadID{w}) }
	r.Ask(t.Context())
	assert.Equal(t, "coop/intake", r.Workload(w).Facts[account.FactImage])
	assert.True(t, r.ToAsk(), "how it ended")
	k.meanwhile = nil
	r.Ask(t.Context())
	assert.False(t, r.ToAsk())
}

func TestAsk_AnEndpointThatHangsHoldsNothingUp(t *testing.T) {
	f := &told{hang: true}
	r := newPlace(t).with(identify.Options{Informants: []identify.Informant{f}})
	w := r.Begins("/pods/" + strings.Repeat("0c", 32))
	begin := time.Now()
	r.Ask(t.Context())
	assert.Less(t, time.Since(begin), 10*time.Second)
	assert.Contains(t, r.Workload(w).Facts[account.FactUnnamed], "no answer within 2s")
}

func FuzzStateFiles(f *testing.F) {
	f.Add(
		[]byte(
			`{"id":"a","cgroup_paths":{"":"/sys/fs/cgroup/a"},"config":{
			"labels":["org.vinescale.name=\u202e\u0000<b>"]}}`))
	f.Add([]byte(`{"pid":1,"cgroup-path":"a"}`))
	f.Fuzz(func(t *testing.T, content []byte) {
		p := newPlace(t)
		p.state(t, "a", string(content))
		p.write(t, filepath.Join(p.run, "crun/a/status"), string(content))
		r := p.registry()
		if id := r.Begins("/a"); id != account.Unrecognised {
			w := r.Workload(id)
			assert.True(t, utf8.ValidString(w.Name+w.Owner) && !strings.Contains(w.Name+w.Owner, "\x00") &&
				len(w.Name) < 600)
		}
	})
}
