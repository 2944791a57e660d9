package informants

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/grpc"
	runtime "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
)

var id = strings.Repeat("0a", 32)

func container(key string) account.Workload {
	return account.Workload{Key: key, Kind: amount.Container, UID: -1}
}

// ask asks with time enough for whoever answers at all.
func ask(t *testing.T, x identify.Informant, about ...account.Workload) (map[string]account.Workload, error) {
	return within(t, time.Minute, x, about...)
}

func within(t *testing.T, limit time.Duration, x identify.Informant, about ...account.Workload) (
	map[string]account.Workload, error) {
	for _, w := range about {
		require.True(t, x.Knows(w), w.Key)
	}
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	return x.Ask(ctx, about)
}

func TestParse_NamesWhatIsWrong(t *testing.T) {
	for _, good := range []string{"cri=/run/c.sock", "cri=unix:///run/c.sock", "engine=/run/e.sock",
		"libvirt=/run/l.sock", "slurm", "slurm=/opt/bin/squeue", "units", "units=unix:path=/run/bus"} {
		x, err := Parse(good)
		require.NoError(t, err, good)
		assert.NotEmpty(t, x.Name())
	}
	for _, bad := range []string{"", "cri", "cri=", "cri=run/c.sock", "cri=tcp://1.2.3.4", "oracle=/run/x"} {
		_, err := Parse(bad)
		assert.ErrorContains(t, err, fmt.Sprintf("%q", bad))
	}
}

// silent is a socket that takes calls and never answers.
func silent(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			if _, err := l.Accept(); err != nil {
				return
			}
		}
	}()
	return path
}

func TestAsk_EndpointsThatHangOrAreNotThereFailWithinTheirTime(t *testing.T) {
	dir := t.TempDir()
	hang := filepath.Join(dir, "hang")
	require.NoError(t, os.WriteFile(hang, []byte("#!/bin/sh\nsleep 60\n"), 0o755))
	wordy := filepath.Join(dir, "wordy")
	require.NoError(t,
		os.WriteFile(wordy,
			[]byte(
				"#!/bin/sh\necho 'slurm_load_jobs error: Unable to contact controller' >&2; echo more >&2; exit 1\n"),
			0o755))
	of := map[string]account.Workload{
		"cri": container("container:" + id), "engine": container("container:" + id),
		"libvirt": {Key: "vm:1", Kind: amount.VM, Facts: map[string]string{identify.FactMachine: "1"}},
		"slurm":   {Key: "job:7", Kind: amount.Job},
		"units": {Key: "service:/x.service", Kind: amount.Service,
			Facts: map[string]string{account.FactUnit: "x.service"}},
	}
	for _, setting := range []string{
		"cri=" + silent(t), "cri=/nonexistent/s", "engine=" + silent(t), "engine=/nonexistent/s",
		"libvirt=" + silent(t), "libvirt=/nonexistent/s",
		"slurm=" + hang, "slurm=/nonexistent/squeue", "slurm=" + wordy, "units=unix:path=" + silent(t),
		"units=unix:path=/nonexistent",
	} {
		kind, _, _ := strings.Cut(setting, "=")
		x, err := Parse(setting)
		require.NoError(t, err)
		begin := time.Now()
		_, err = within(t, 2*time.Second, x, of[kind])
		require.Error(t, err, setting)
		assert.Less(t, time.Since(begin), 45*time.Second, "%s: not as long as it hangs", setting)
		assert.NotContains(t, err.Error(), "\n", setting)
	}
}

// fakeRuntime answers like a container runtime.
type fakeRuntime struct {
	runtime.UnimplementedRuntimeServiceServer
}

func (fakeRuntime) ListPodSandbox(context.Context, *runtime.ListPodSandboxRequest) (*runtime.ListPodSandboxResponse,
	error) {
	return &runtime.ListPodSandboxResponse{Items: []*runtime.PodSandbox{{
		Id: "sandbox", Metadata: &runtime.PodSandboxMetadata{Name: "leafscan", Namespace: "leaf", Uid: "u-1"},
		Labels: map[string]string{"team": "vision", "tier": "pod"},
	}}}, nil
}

func (fakeRuntime) ListContainers(context.Context, *runtime.ListContainersRequest) (*runtime.ListContainersResponse,
	error) {
	return &runtime.ListContainersResponse{Containers: []*runtime.Container{{
		Id: id, PodSandboxId: "sandbox", Metadata: &runtime.ContainerMetadata{Name: "scanner", Attempt: 4},
		Image: &runtime.ImageSpec{Image: "sha256:1"},
		State: runtime.ContainerState_CONTAINER_EXITED, Labels: map[string]string{"tier": "inner"},
		Annotations: map[string]string{"org.vinescale.owner": "svc-vision"},
	}}}, nil
}

func (fakeRuntime) ContainerStatus(context.Context, *runtime.ContainerStatusRequest) (*runtime.ContainerStatusResponse,
	error) {
	return &runtime.ContainerStatusResponse{Status: &runtime.ContainerStatus{
		Image: &runtime.ImageSpec{Image: "coop/leafscan:2"}, State: runtime.ContainerState_CONTAINER_EXITED,
		ExitCode: 137, Reason: "OOMKilled",
		Resources: &runtime.ContainerResources{Linux: &runtime.LinuxContainerResources{MemoryLimitInBytes: 1 << 30}},
	}}, nil
}

func TestCRI_TellsNamesPodLabelsLimitsAndHowItEnded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	server := grpc.NewServer()
	runtime.RegisterRuntimeServiceServer(server, fakeRuntime{})
	go server.Serve(l)
	t.Cleanup(server.Stop)
	x, err := Parse("cri=" + path)
	require.NoError(t, err)
	found, err := ask(t, x, container("container:"+id+"@5"), container("pod:u-1"), container("container:sandbox"),
		container("container:unknown"))
	require.NoError(t, err)
	assert.Len(t, found, 3, "one it does not know is left out")
	w := found["container:"+id+"@5"]
	assert.Equal(t, []string{"scanner", "svc-vision", "pod:u-1"}, []string{w.Name, w.Owner, w.Outer})
	assert.Equal(t, map[string]string{"team": "vision", "tier": "inner", "org.vinescale.owner": "svc-vision"}, w.Labels,
		"the pod's too, its own before them")
	for name, want := range map[string]string{
		account.FactImage: "coop/leafscan:2", account.FactRestarts: "4", account.FactPod: "leafscan",
		account.FactNamespace:   "leaf",
		account.FactMemoryLimit: "1073741824", account.FactExit: "exit code 137 (OOMKilled)",
		account.FactState: "exited",
	} {
		assert.Equal(t, want, w.Facts[name], name)
	}
	assert.Equal(t, []string{"pod leafscan", "sandbox of leafscan"},
		[]string{found["pod:u-1"].Name, found["container:sandbox"].Name})
}

func TestEngine_TakesTheWiderFormOfTheListAndElseTheCommonOne(t *testing.T) {
	for _, wide := range []bool{true, false} {
		path := filepath.Join(t.TempDir(), "s")
		l, err := net.Listen("unix", path)
		require.NoError(t, err)
		code := 3
		mux := http.NewServeMux()
		answer := func(w http.ResponseWriter, _ *http.Request) {
			c := engineContainer{ID: id, Names: []string{"/label-press"}, Image: "coop/press:1",
				Labels: map[string]string{"org.vinescale.owner": "svc-label"}, State: "Exited"}
			if wide {
				c.State, c.ExitCode, c.Pod, c.PodName, c.Restarts = "exited", &code, "p1", "press", 2
			}
			json.NewEncoder(w).Encode([]engineContainer{c})
		}
		if wide {
			mux.HandleFunc("/v4.0.0/libpod/containers/json", answer)
		} else {
			mux.HandleFunc("/containers/json", answer)
		}
		server := &http.Server{Handler: mux}
		go server.Serve(l)
		t.Cleanup(func() { server.Close() })
		x, err := Parse("engine=" + path)
		require.NoError(t, err)
		found, err := ask(t, x, container("container:"+id), container("pod:p1"))
		require.NoError(t, err)
		w := found["container:"+id]
		assert.Equal(t, []string{"label-press", "svc-label", "coop/press:1", "exited"},
			[]string{w.Name, w.Owner, w.Facts[account.FactImage], w.Facts[account.FactState]})
		if wide {
			assert.Equal(t, []string{"pod:p1", "press", "exit code 3", "2", "pod press"},
				[]string{w.Outer, w.Facts[account.FactPod], w.Facts[account.FactExit], w.Facts[account.FactRestarts],
					found["pod:p1"].Name})
		}
	}
}

func TestMachine_ItsDescriptionTellsOwnerPinsDisksAndTaps(t *testing.T) {
	w, err := ofDomain(`<domain type='kvm' id='3'><name>plc</name><uuid>u</uuid><title>x</title>
		<metadata><c:w xmlns:c="urn:coop"><c:owner> svc-bottle </c:owner>
			<c:site><c:row>7</c:row></c:site></c:w></metadata>
		<memory unit='GiB'>2</memory><vcpu placement='static'>4</vcpu>
		<cputune><vcpupin vcpu='0' cpuset='12'/><vcpupin vcpu='1' cpuset='13-14'/></cputune>
		<devices><disk><source file='/a.img'/></disk><disk><source dev='/dev/sdb'/></disk><disk/>
			<interface><target dev='vnet3'/></interface></devices></domain>`)
	require.NoError(t, err)
	assert.Equal(t, []string{"plc", "svc-bottle", "7"}, []string{w.Name, w.Owner, w.Labels["row"]})
	for name, want := range map[string]string{
		account.FactUUID: "u", account.FactCPUAsked: "4", account.FactMemoryAsked: "2147483648",
		account.FactVCPUPins: "0: 12; 1: 13-14",
		account.FactDisks:    "/a.img, /dev/sdb", account.FactTaps: "vnet3",
	} {
		assert.Equal(t, want, w.Facts[name], name)
	}
	_, err = ofDomain("<domain><name>cut sh")
	assert.Error(t, err)
}

func TestScheduler_GPUsAreThoseOfThisHostOfEveryKind(t *testing.T) {
	for _, c := range []struct {
		name, nodes string
		detail      []string
		want        string
		known       bool
	}{
		{"one host", "terrace-2", []string{"gpu:a100:2(IDX:0-1)"}, "0,1", true},
		{"one host of another name", "node7", []string{"gpu:1(IDX:3)"}, "3", true},
		{"two kinds", "terrace-2", []string{"gpu:a100:2(IDX:0-1),gpu:v100:1(IDX:4)"}, "0,1,4", true},
		{"none by number", "terrace-2", []string{"gpu:a100:2(IDX:N/A)"}, "", true},
		{"one kind by number", "terrace-2", []string{"gpu:a100:0(IDX:N/A),gpu:v100:1(IDX:4)"}, "4", true},
		{"other resources", "terrace-2", []string{"nic:2(IDX:5-6),gpu:1(IDX:0),mpsgpu:1(IDX:9)"}, "0", true},
		{"two hosts, the second", "terrace-[1-2]", []string{"gpu:2(IDX:0-1)", "gpu:1(IDX:3)"}, "3", true},
		{"two hosts by name", "press-1,terrace-2", []string{"gpu:2(IDX:0-1)", "gpu:2(IDX:2,5)"}, "2,5", true},
		{"not among them", "terrace-[3-4]", []string{"gpu:2(IDX:0-1)", "gpu:1(IDX:3)"}, "", false},
		{"more hosts than are told of", "terrace-[1-3]", []string{"gpu:2(IDX:0-1)", "gpu:1(IDX:3)"}, "", false},
		{"no GPU", "terrace-[1-2]", nil, "", true},
	} {
		j := slurmJob{Nodes: c.nodes, GresDetail: c.detail}
		got, known := j.gpusOn("terrace-2")
		assert.Equal(t, []any{c.want, c.known}, []any{got, known}, c.name)
	}
	for list, want := range map[string][]string{
		"": nil, "a": {"a"}, "a,b": {"a", "b"}, "n[08-10]": {"n08", "n09", "n10"},
		"n[1,3-4]x,m": {"n1x", "n3x", "n4x", "m"},
		"n[1-":        nil, "n]1[": nil, "n[3-1]": nil, "n[1-9999999]": nil, "n[a]": nil, "r[1-2]n[1-2]": nil,
	} {
		assert.Equal(t, want, expandNodes(list), list)
	}
}

func TestScheduler_BothFormsOfItsAnswerAndTheHostsOwnGPUNumbers(t *testing.T) {
	for name, text := range map[string]string{
		"plain": `{"jobs":[{"job_id":7,"name":"ens","account":"frost","partition":"day","user_id":2001,
				"user_name":"m.abt","array_job_id":5,"array_task_id":2,
			"time_limit":5,"cpus":4,"memory_per_node":2048,"job_state":"FAILED","gres_detail":["gpu:a100:2(IDX:1,3)"],
			"exit_code":768}]}`,
		"wrapped": `{"jobs":[{"job_id":7,"name":"ens","account":"frost","partition":"day","user_id":2001,
				"user_name":"m.abt","array_job_id":{"set":true,"number":5},
			"array_task_id":{"set":true,"number":2},"time_limit":{"set":true,"infinite":false,"number":5},
			"cpus":{"set":true,"number":4},
			"memory_per_node":{"set":true,"number":2048},"job_state":["FAILED"],"gres_detail":["gpu:a100:2(IDX:1,3)"],
			"exit_code":768}]}`,
	} {
		script := filepath.Join(t.TempDir(), "squeue")
		require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\ncat <<'X'\n"+text+"\nX\n"), 0o755))
		x, err := Parse("slurm=" + script)
		require.NoError(t, err)
		found, err := ask(t, x, account.Workload{Key: "job:7", Kind: amount.Job, UID: 2001},
			account.Workload{Key: "job:8", Kind: amount.Job, UID: -1},
			account.Workload{Key: "job:7:uid2003", Kind: amount.Job, UID: 2003, Name: "job 7 (not the submitter's)"})
		require.NoError(t, err, name)
		w := found["job:7"]
		assert.Equal(t, []any{"m.abt", int64(2001)}, []any{w.Owner, w.UID}, name)
		for fact, want := range map[string]string{
			account.FactAccount: "frost", account.FactArray: "5_2", account.FactRunFor: "300",
			account.FactCPUAsked: "4", account.FactMemoryAsked: "2147483648",
			account.FactGPUs: "1,3", account.FactExit: "exit code 3 (failed)", account.FactState: "failed",
		} {
			assert.Equal(t, want, w.Facts[fact], "%s: %s", name, fact)
		}
		assert.Equal(t, identify.Untrue, found["job:7:uid2003"].Facts[account.FactAccount],
			"who claims another's job loses what was claimed")
		assert.Equal(t, "job 7 (not the submitter's)", found["job:7:uid2003"].Name,
			"marked once, however often it is asked about")
		assert.NotContains(t, found, "job:8")
	}
	assert.False(t, (&slurm{}).Knows(account.Workload{Key: "job:grid:4", Kind: amount.Job}),
		"a site's own jobs are not its")
}

func TestScheduler_WhichCPUsAJobWasGivenIsAskedOnceAJob(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+text), 0o755))
	}
	put("squeue", `cat <<'X'
{"jobs":[{"job_id":7,"job_state":"RUNNING","start_time":100},{"job_id":8,"job_state":"PENDING","start_time":900},
{"job_id":9,"job_state":["RUNNING"],"start_time":{"set":true,"number":100}}]}
X`)
	put("scontrol", `echo "$@" >> `+dir+`/asked
[ "$4" = 9 ] && exit 1
cat <<X
JobId=7 JobName=x
   Comment=     Nodes=`+nodeName()+` CPU_IDs=9
     Nodes=else CPU_IDs=5 Mem=0 GRES=
     Nodes=`+nodeName()+` CPU_IDs=0-1,4 Mem=0 GRES=
X`)
	x, err := Parse("slurm=" + filepath.Join(dir, "squeue"))
	require.NoError(t, err)
	for range 2 {
		found, err := ask(t, x, account.Workload{Key: "job:7", Kind: amount.Job, UID: -1},
			account.Workload{Key: "job:8", Kind: amount.Job, UID: -1},
			account.Workload{Key: "job:9", Kind: amount.Job, UID: -1})
		require.NoError(t, err)
		assert.Equal(t, []string{"0-1,4", "", ""}, []string{found["job:7"].Facts[account.FactCPUsGiven],
			found["job:8"].Facts[account.FactCPUsGiven], found["job:9"].Facts[account.FactCPUsGiven]})
	}
	asked, err := os.ReadFile(filepath.Join(dir, "asked"))
	require.NoError(t, err)
	assert.Equal(t, []string{"7", "9", "9"}, regexp.MustCompile(`\d+`).FindAllString(string(asked), -1),
		"what failed is asked again, and what waits is not asked")
	put("squeue", `echo '{"jobs":[{"job_id":7,"job_state":"RUNNING","start_time":200}]}'`)
	put("scontrol", `echo "     Nodes=elsewhere CPU_IDs=3 Mem=0"`)
	found, err := ask(t, x, account.Workload{Key: "job:7", Kind: amount.Job, UID: -1})
	require.NoError(t, err)
	assert.Equal(t, "3", found["job:7"].Facts[account.FactCPUsGiven], "begun anew; of a single node, whatever its name")
}

func FuzzSchedulerAnswers(f *testing.F) {
	f.Add([]byte(`{"jobs":[{"job_id":7,"exit_code":{"set":1}}]}`))
	f.Add([]byte(`[]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if jobs, err := parseJobs(b, "terrace-1"); err == nil {
			for key := range jobs {
				assert.NotEmpty(t, key)
			}
		}
	})
}

// initSystem1 is an init system of two units, on a bus of the test's own.
type initSystem1 struct{}

func (initSystem1) ListUnitsByNames(names []string) ([]unitStatus, *dbus.Error) {
	var list []unitStatus
	for i, n := range names {
		st := unitStatus{Name: n, Description: "Prints " + n, Load: "loaded", Active: "active", Sub: "running",
			Path: dbus.ObjectPath(fmt.Sprintf("/unit/%d", i)), JobPath: "/"}
		switch n {
		case "stuck.service":
			st.Active, st.Sub = "activating", "start"
		case "failed.service":
			st.Active, st.Sub = "failed", "failed"
		case "gone.service":
			st.Load = "not-found"
		}
		list = append(list, st)
	}
	return list, nil
}

func (initSystem1) ListUnitsFiltered(states []string) ([]unitStatus, *dbus.Error) {
	all := []unitStatus{{Name: "press.service", Active: "failed", Path: "/unit/1", JobPath: "/"},
		{Name: "lees.mount", Active: "failed", Path: "/unit/2", JobPath: "/"},
		{Name: "vat.service", Active: "deactivating", Path: "/unit/3", JobPath: "/"},
		{Name: "again.service", Active: "activating", Sub: "auto-restart", Path: "/unit/3", JobPath: "/"},
		{Name: "must.service", Active: "activating", Sub: "start", Path: "/unit/3", JobPath: "/"},
		{Name: "backup.service", Active: "activating", Sub: "start", Path: "/unit/0", JobPath: "/"},
		{Name: "idle.service", Active: "active", Path: "/unit/3", JobPath: "/"}}
	return slices.DeleteFunc(all, func(u unitStatus) bool { return !slices.Contains(states, u.Active) }), nil
}

// properties answers for the units, by their number; the first runs once.
type properties int

func (p properties) Get(of, name string) (dbus.Variant, *dbus.Error) {
	values := map[string]any{"Type": map[bool]string{true: "oneshot", false: "notify"}[p == 0],
		"StateChangeTimestamp": uint64(1_700_000_000_000_000), "NRestarts": uint32(2),
		"Result": "exit-code", "ExecMainStatus": int32(3)}
	v, ok := values[name]
	if !ok {
		return dbus.Variant{}, dbus.NewError("org.freedesktop.DBus.Error.UnknownProperty", nil)
	}
	return dbus.MakeVariant(v), nil
}

func TestUnits_TellTheirStateOverDBus(t *testing.T) {
	daemon, err := exec.LookPath("dbus-daemon")
	if err != nil {
		if os.Getenv("VINESCALE_REQUIRE_PEERS") != "" {
			require.NoError(t, err, "the package dbus must be there")
		}
		t.Skip("dbus-daemon is not installed: it is in the package dbus, which make test installs")
	}
	dir := t.TempDir()
	address := "unix:path=" + filepath.Join(dir, "bus")
	config := filepath.Join(dir, "bus.conf")
	require.NoError(t, os.WriteFile(config, []byte(`<busconfig><listen>`+address+`</listen><auth>EXTERNAL</auth>
		<policy context="default"><allow own="*"/><allow send_destination="*"/>
			<allow receive_sender="*"/></policy></busconfig>`), 0o644))
	bus := exec.Command(daemon, "--config-file="+config, "--nofork", "--nopidfile")
	require.NoError(t, bus.Start())
	t.Cleanup(func() { bus.Process.Kill(); bus.Wait() })
	var conn *dbus.Conn
	require.Eventually(t, func() bool { conn, err = dbus.Connect(address); return err == nil }, 3*time.Minute,
		20*time.Millisecond)
	t.Cleanup(func() { conn.Close() })
	_, err = conn.RequestName(initSystem, dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.NoError(t, conn.Export(initSystem1{}, "/org/freedesktop/systemd1", initSystem+".Manager"))
	for i := range 4 {
		require.NoError(t, conn.Export(properties(i), dbus.ObjectPath(fmt.Sprintf("/unit/%d", i)),
			"org.freedesktop.DBus.Properties"))
	}
	x, err := Parse("units=" + address)
	require.NoError(t, err)
	unit := func(name string) account.Workload {
		return account.Workload{Key: name, Kind: amount.Service,
			Facts: map[string]string{account.FactUnit: name + ".service"}}
	}
	found, err := ask(t, x, unit("press"), unit("stuck"), unit("failed"), unit("gone"))
	require.NoError(t, err)
	assert.Equal(t, "running", found["press"].Facts[account.FactState])
	assert.Equal(t, "2", found["press"].Facts[account.FactRestarts])
	assert.Equal(t, "starting since 2023-11-14T22:13:20Z", found["stuck"].Facts[account.FactState])
	assert.Equal(t, []string{"failed", "exit code 3 (exit-code)"},
		[]string{found["failed"].Facts[account.FactState], found["failed"].Facts[account.FactExit]})
	assert.NotContains(t, found, "gone")

	since := time.Unix(1_700_000_000, 0).UTC()
	failed, stuck, err := UnitsInTrouble(t.Context(), address, since.Add(time.Second))
	require.NoError(t, err)
	assert.Equal(t, []string{"lees.mount", "press.service"}, failed)
	assert.Equal(t, []account.Unit{{Name: "must.service", State: "starting", Since: since},
		{Name: "vat.service", State: "stopping", Since: since}}, stuck,
		"what runs once, and what waits to be begun anew, is not stuck")
	_, stuck, err = UnitsInTrouble(t.Context(), address, since)
	require.NoError(t, err)
	assert.Empty(t, stuck, "not yet for so long")
	_, _, err = UnitsInTrouble(t.Context(), "unix:path=/nonexistent", since)
	assert.Error(t, err)
}
