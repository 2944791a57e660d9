package real

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/core/account"
	"vinescale/core/cpuset"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// inside marks the test process that runs in a mount namespace of its own.
const inside = "VINESCALE_PEERS_INSIDE"

// peerPrograms are those of the systems that the test runs, with the package each is in.
var peerPrograms = map[string]string{
	"runc": "runc", "crun": "crun", "containerd": "containerd", "ctr": "containerd", "podman": "podman",
	"libvirtd": "libvirt-daemon-system", "virsh": "libvirt-clients",
	"qemu-system-x86_64": "qemu-system-x86", "slurmctld": "slurmctld", "slurmd": "slurmd", "squeue": "slurm-client",
	"munged": "munge", "sshd": "openssh-server",
	"ssh": "openssh-client", "dbus-daemon": "dbus",
}

// TestPeers_EveryKindOfWorkloadIsRecognisedOwnedAssignedAndCharged runs real containers of three engines, two virtual
// machines, a batch scheduler's array job, two users' sign-ins and a plain user's process side by side, each with a
// known burner, and compares what the collector and the service make of them with each one's own clock.
//
// It runs in a mount namespace of its own, with its own /run and its own users, and ends all it started.
func TestPeers_EveryKindOfWorkloadIsRecognisedOwnedAssignedAndCharged(t *testing.T) {
	require.Zero(t, os.Geteuid(), "this test starts daemons: run it as root")
	for program, name := range peerPrograms {
		if _, err := exec.LookPath(program); err != nil {
			if os.Getenv("VINESCALE_REQUIRE_PEERS") != "" {
				require.NoError(t, err, "the package %s must be there", name)
			}
			t.Skipf("%s is not installed: it is in the package %s, which make test installs", program, name)
		}
	}
	if os.Getenv(inside) != "" {
		runPeers(t)
		return
	}
	t.Parallel() // it waits more than it works
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "-test.run", "^"+t.Name()+"$", "-test.v", "-test.timeout", "30m")
	cmd.Env = append(os.Environ(), inside+"=1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	t.Logf("%s", out)
	require.NoError(t, err)
}

// peers is the stage of the test.
type peers struct {
	t     *testing.T
	dir   string
	begin time.Time
	mu    sync.Mutex
	want  []peer
}

// peer is one workload that runs, and what must be found out about it.
type peer struct {
	name, kind, owner, tenant string
	facts                     map[string]string
	// the workload around it, and a part its CPU time is all in
	around, part string
	used         func(t *testing.T, from, to time.Time) float64 // by its own clock
	// uuids of the GPUs that it was given, by their numbers inside
	gpus []string
	// bytes its files take at least; 0 where that is not known here
	space int64
}

var peerUsers = map[string]int{"svc-cellar": 801, "svc-bottle": 803, "svc-label": 804, "svc-vision": 805, "m.abt": 2001,
	"i.sauer": 2004, "p.kern": 2005}

const peerTenancy = `
tenants: [Agronomy Desk, Bottling Line, Cellar Intake, Frost Watch, Label Press, Leaf Vision]
rules:
  - {tenant: Bottling Line, when: "kind == 'vm' && owner in ['svc-bottle', 'root']"}
  - {tenant: Frost Watch, when: "kind == 'job' && account == 'frost' && partition == 'day'"}
  - {tenant: Leaf Vision, when: "pod_namespace == 'leaf' && labels['coop.team'] == 'vision'"}
  - {tenant: Cellar Intake, when: "labels['coop.project'] == 'cellar'"}
  - {tenant: Label Press, when: "kind == 'container' && labels['coop.project'] == 'labels'"}
  - {tenant: Agronomy Desk, when: "kind == 'session' && 'agronomists' in groups || program == 'plainburner'"}
`

func runPeers(t *testing.T) {
	dir, err := os.MkdirTemp("", "vinescale-peers-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	// What the daemons leave behind comes to this process, which ends it at the end.
	require.NoError(t, unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0))
	groups := topGroups()
	t.Cleanup(func() {
		endDescendants()
		removeGroups(groups)
	})
	go reapAdopted()
	p := &peers{t: t, dir: dir, begin: time.Now()}
	p.furnish()
	for _, f := range []func(){p.containers, p.criPod, p.enginePod, p.managedMachine, p.machineByHand, p.batch,
		p.signIns, p.plain} {
		f()
		t.Logf("%5.1f s  %d workloads", time.Since(p.begin).Seconds(), len(p.want))
	}
	p.compare()
}

// furnish gives this namespace its own /run, users and groups.
func (p *peers) furnish() {
	t := p.t
	require.NoError(t, unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""))
	require.NoError(t, unix.Mount("tmpfs", "/run", "tmpfs", 0, "mode=755"))
	for _, d := range []string{"lock", "munge", "sshd", "libvirt"} {
		require.NoError(t, os.MkdirAll("/run/"+d, 0o755))
	}
	require.NoError(t, os.WriteFile("/run/utmp", nil, 0o664))
	passwd, group, shadow := "", "", ""
	for name, uid := range peerUsers {
		home := filepath.Join(p.dir, "home", name)
		require.NoError(t, os.MkdirAll(home, 0o755))
		require.NoError(t, os.Chown(home, uid, uid))
		passwd += fmt.Sprintf("%s:x:%d:%d::%s:/bin/sh\n", name, uid, uid, home)
		group += fmt.Sprintf("%s:x:%d:\n", name, uid)
		shadow += name + ":*:19000:0:99999:7:::\n"
	}
	group += "agronomists:x:3000:m.abt,i.sauer\n"
	for file, more := range map[string]string{"passwd": passwd, "group": group, "shadow": shadow} {
		have, err := os.ReadFile("/etc/" + file)
		require.NoError(t, err)
		p.overlay("/etc/"+file, append(have, more...))
	}
	burner, err := os.ReadFile(built(t, "burner"))
	require.NoError(t, err)
	p.put("burner", burner, 0o755)
	p.put("plainburner", burner, 0o755)
}

// overlay shows content in place of a file, in this namespace only.
func (p *peers) overlay(file string, content []byte) {
	own := p.put("overlay/"+filepath.Base(file), content, 0o644)
	require.NoError(p.t, unix.Mount(own, file, "", unix.MS_BIND, ""))
}

func (p *peers) put(name string, content []byte, mode os.FileMode) string {
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, content, mode))
	require.NoError(p.t, os.Chmod(path, mode))
	return path
}

func (p *peers) folder(name string, mode os.FileMode) string {
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(path, mode))
	require.NoError(p.t, os.Chmod(path, mode))
	return path
}

// run runs a command to its end and returns what it printed.
func (p *peers) run(name string, args ...string) string {
	p.t.Helper()
	var out bytes.Buffer
	log := p.log(name)
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = &out, log // a file: a daemon that stays may keep it open
	err := cmd.Run()
	text, _ := os.ReadFile(log.Name())
	require.NoError(p.t, err, "%s %v\n%s%s", name, args, text, out.String())
	return strings.TrimSpace(out.String())
}

// daemon starts a command that stays.
func (p *peers) daemon(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	log := p.log(name)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(p.t, cmd.Start(), "%s %v", name, args)
	return cmd
}

func (p *peers) log(name string) *os.File {
	f, err := os.CreateTemp(p.folder("log", 0o755), filepath.Base(name)+"-*")
	require.NoError(p.t, err)
	p.t.Cleanup(func() {
		if text, _ := os.ReadFile(f.Name()); p.t.Failed() && len(text) > 0 {
			p.t.Logf("%s:\n%s", name, text[max(0, len(text)-2000):])
		}
		f.Close()
	})
	return f
}

func (p *peers) eventually(what string, ok func() bool) {
	p.t.Helper()
	require.Eventually(p.t, ok, patience, 50*time.Millisecond, what)
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

// expect adds a peer whose burner keeps a record, and waits until it burns.
func (p *peers) expect(record string, x peer) {
	p.t.Helper()
	b := &burner{name: x.name, record: record}
	p.eventually(x.name+" burns", func() bool { info, err := os.Stat(record); return err == nil && info.Size() > 0 })
	x.used = b.used
	p.want = append(p.want, x)
}

// containers starts containers of the bare runtimes: two of one, one of another, which is shown no version 2 tree
// beside those of version 1, since it refuses such a host.
func (p *peers) containers() {
	other := []string{"unshare", "--mount", "sh", "-c",
		`umount /sys/fs/cgroup/unified 2>/dev/null; exec crun --cgroup-manager cgroupfs "$@"`, "sh"}
	for i, runtime := range [][]string{nil, nil, other} {
		cores := []float64{0.1, 0.15, 0.1}[i]
		name := fmt.Sprintf("must-intake-%d", i+1)
		s := &scene{dir: p.dir, program: built(p.t, "vinescale"), runtime: runtime, labels: map[string]string{
			"org.vinescale.name": name, "org.vinescale.owner": "svc-cellar", "coop.project": "cellar",
			"org.vinescale.image": "coop/intake:2026.4",
		}, limit: 50_000}
		b := &burner{name: fmt.Sprintf("vinescale-peer-%d-%d", os.Getpid(), i), cores: cores}
		s.container(p.t, b)
		p.expect(b.record, peer{name: name, kind: "container", owner: "svc-cellar", tenant: "Cellar Intake",
			facts: map[string]string{
				account.FactImage: "coop/intake:2026.4", account.FactCPULimit: "0.5", account.FactProgram: "burner",
			}, space: 2 << 20}) // the shell and the burner in its root
	}
}

// podSocket is where the runtime of pods is asked.
const podSocket = "/run/containerd/containerd.sock"

// podState is the state of a container as the runtime of pods tells it.
func (p *peers) podState(name string) string {
	conn, err := grpc.NewClient("unix://"+podSocket, grpc.WithTransportCredentials(insecure.NewCredentials()))
	require.NoError(p.t, err)
	defer conn.Close()
	all, err := cri.NewRuntimeServiceClient(conn).ListContainers(context.Background(), &cri.ListContainersRequest{})
	require.NoError(p.t, err)
	for _, x := range all.GetContainers() {
		if x.GetMetadata().GetName() == name {
			return x.GetState().String()
		}
	}
	return ""
}

// criPod starts a pod of one container through a runtime's CRI.
func (p *peers) criPod() {
	t := p.t
	const socket = podSocket
	config := p.put("containerd/config.toml", []byte(fmt.Sprintf(`version = 2
root = "%s/containerd/root"
state = "/run/containerd"
oom_score = 0
[grpc]
  address = "%s"
[plugins."io.containerd.grpc.v1.cri"]
  sandbox_image = "docker.io/coop/leafscan:1"
  restrict_oom_score_adj = true
  [plugins."io.containerd.grpc.v1.cri".containerd]
    snapshotter = "native"
`, p.dir, socket)), 0o644)
	p.daemon("containerd", "--config", config)
	p.eventually("containerd answers", func() bool { return exec.Command("ctr", "-a", socket, "version").Run() == nil })
	p.run("ctr", "-a", socket, "-n", "k8s.io", "images", "import", "--snapshotter", "native",
		p.image("docker.io/coop/leafscan:1"))

	conn, err := grpc.NewClient("unix://"+socket, grpc.WithTransportCredentials(insecure.NewCredentials()))
	require.NoError(t, err)
	defer conn.Close()
	runtime := cri.NewRuntimeServiceClient(conn)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	const uid = "0f1e2d3c-1111-2222-3333-444455556666"
	sandbox := &cri.PodSandboxConfig{
		Metadata:     &cri.PodSandboxMetadata{Name: "leafscan", Uid: uid, Namespace: "leaf"},
		LogDirectory: p.folder("podlogs", 0o755),
		Labels:       map[string]string{"coop.team": "vision"},
		Linux: &cri.LinuxPodSandboxConfig{CgroupParent: fmt.Sprintf("/vinescale-peer-%d/pod%s", os.Getpid(), uid),
			SecurityContext: &cri.LinuxSandboxSecurityContext{
				NamespaceOptions: &cri.NamespaceOption{Network: cri.NamespaceMode_NODE},
			}},
	}
	pod, err := runtime.RunPodSandbox(ctx, &cri.RunPodSandboxRequest{Config: sandbox})
	require.NoError(t, err)
	t.Cleanup(func() {
		again, _ := grpc.NewClient("unix://"+socket, grpc.WithTransportCredentials(insecure.NewCredentials()))
		defer again.Close()
		_, _ = cri.NewRuntimeServiceClient(again).RemovePodSandbox(context.Background(),
			&cri.RemovePodSandboxRequest{PodSandboxId: pod.PodSandboxId})
	})
	out := p.folder("leafscan-out", 0o777)
	made, err := runtime.CreateContainer(ctx, &cri.CreateContainerRequest{PodSandboxId: pod.PodSandboxId,
		SandboxConfig: sandbox, Config: &cri.ContainerConfig{
			Metadata: &cri.ContainerMetadata{Name: "scanner", Attempt: 2},
			Image:    &cri.ImageSpec{Image: "docker.io/coop/leafscan:1"}, LogPath: "scanner.log",
			Command: []string{"/bin/burner", strconv.Itoa(burnerSeconds), "0.15", "/out/record"},
			Labels:  map[string]string{"org.vinescale.owner": "svc-vision"},
			Mounts:  []*cri.Mount{{HostPath: out, ContainerPath: "/out"}},
			Linux: &cri.LinuxContainerConfig{SecurityContext: &cri.LinuxContainerSecurityContext{
				NamespaceOptions: &cri.NamespaceOption{Network: cri.NamespaceMode_NODE}}},
		}})
	require.NoError(t, err)
	_, err = runtime.StartContainer(ctx, &cri.StartContainerRequest{ContainerId: made.ContainerId})
	require.NoError(t, err)
	p.expect(filepath.Join(out, "record"), peer{name: "scanner", kind: "container", owner: "svc-vision",
		tenant: "Leaf Vision", facts: map[string]string{
			account.FactPod: "leafscan", account.FactNamespace: "leaf", account.FactImage: "docker.io/coop/leafscan:1",
			account.FactRestarts: "2",
		}, around: "pod leafscan"})
}

// image makes an image of the burner by hand, in the form engines export.
func (p *peers) image(name string) string {
	var layer bytes.Buffer
	out := tar.NewWriter(&layer)
	for file, from := range map[string]string{"bin/burner": built(p.t, "burner"), "bin/busybox": "/bin/busybox"} {
		content, err := os.ReadFile(from)
		require.NoError(p.t, err)
		require.NoError(p.t,
			out.WriteHeader(&tar.Header{Name: file, Mode: 0o755, Size: int64(len(content)), Typeflag: tar.TypeReg}))
		_, err = out.Write(content)
		require.NoError(p.t, err)
	}
	require.NoError(p.t, out.Close())
	config, err := json.Marshal(map[string]any{
		"architecture": "amd64", "os": "linux",
		"config": map[string]any{"Entrypoint": []string{"/bin/busybox", "sleep", "1000"}},
		"rootfs": map[string]any{"type": "layers",
			"diff_ids": []string{fmt.Sprintf("sha256:%x", sha256.Sum256(layer.Bytes()))}},
	})
	require.NoError(p.t, err)
	manifest, err := json.Marshal([]map[string]any{{"Config": "config.json", "RepoTags": []string{name},
		"Layers": []string{"layer.tar"}}})
	require.NoError(p.t, err)
	var archive bytes.Buffer
	out = tar.NewWriter(&archive)
	for _, f := range []struct {
		name    string
		content []byte
	}{{"layer.tar", layer.Bytes()}, {"config.json", config}, {"manifest.json", manifest}} {
		require.NoError(p.t,
			out.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.content)), Typeflag: tar.TypeReg}))
		_, err = out.Write(f.content)
		require.NoError(p.t, err)
	}
	require.NoError(p.t, out.Close())
	return p.put("image.tar", archive.Bytes(), 0o644)
}

// enginePod starts a pod of an engine that keeps labels behind its own API.
func (p *peers) enginePod() {
	conf := p.put("engine/containers.conf",
		[]byte(
			"[containers]\ndefault_ulimits = [\"nofile=1024:1024\", \"nproc=4096:4096\"]\n[engine]\nruntime = "+
				"\"runc\"\ncgroup_manager = \"cgroupfs\"\nevents_logger = \"none\"\n"), 0o644)
	p.t.Setenv("CONTAINERS_CONF", conf)
	podman := func(args ...string) []string {
		return append([]string{"--root", filepath.Join(p.dir, "engine/root"), "--runroot", "/run/engine",
			"--storage-driver", "vfs", "--runtime", "runc",
			"--cgroup-manager", "cgroupfs", "--tmpdir", "/run/engine-tmp"}, args...)
	}
	root := p.folder("engine/rootfs", 0o755)
	for _, d := range []string{"bin", "proc", "dev", "sys", "etc", "tmp", "run", "out"} {
		p.folder("engine/rootfs/"+d, 0o755)
	}
	burner, err := os.ReadFile(built(p.t, "burner"))
	require.NoError(p.t, err)
	p.put("engine/rootfs/bin/burner", burner, 0o755)
	out := p.folder("engine/out", 0o777)
	p.run("podman", podman("pod", "create", "--infra=false", "--name", "press")...)
	p.run("podman", podman("run", "--detach", "--pod", "press", "--name", "label-press", "--label",
		"org.vinescale.owner=svc-label", "--label", "coop.project=labels",
		"--network", "host", "--volume", out+":/out", "--rootfs", root, "/bin/burner", strconv.Itoa(burnerSeconds),
		"0.1", "/out/record")...)
	p.t.Cleanup(func() { exec.Command("podman", podman("rm", "--force", "--time", "0", "label-press")...).Run() })
	p.daemon("podman", podman("system", "service", "--time=0", "unix:///run/engine.sock")...)
	p.eventually("the engine answers", func() bool { return exists("/run/engine.sock") })
	p.expect(filepath.Join(out, "record"), peer{name: "label-press", kind: "container", owner: "svc-label",
		tenant: "Label Press", facts: map[string]string{
			account.FactPod: "press", account.FactState: "running",
		}})
}

// boot is a boot sector that counts down and then halts until the next tick of the clock, over and over: a machine that
// is busy for part of the time.
func (p *peers) boot() string {
	// sti; again: mov eax, n; down: dec eax; jnz down; hlt; jmp again
	code := []byte{0xfb, 0x66, 0xb8, 0x60, 0xe3, 0x16, 0x00, 0x66, 0x48, 0x75, 0xfc, 0xf4, 0xeb, 0xf3}
	disk := make([]byte, 1474560)
	copy(disk, code)
	disk[510], disk[511] = 0x55, 0xaa
	return p.put("boot.img", disk, 0o644)
}

// managedMachine starts a virtual machine of a machine manager, under emulation.
func (p *peers) managedMachine() {
	t := p.t
	boot := p.boot()
	conf := p.put("manager/libvirtd.conf",
		[]byte("unix_sock_dir = \"/run/libvirt\"\nauth_unix_ro = \"none\"\nauth_unix_rw = \"none\"\n"), 0o644)
	for _, d := range []string{"lib", "cache", "log"} {
		own := p.folder("manager/"+d, 0o755)
		require.NoError(t, unix.Mount(own, "/var/"+d+"/libvirt", "", unix.MS_BIND, ""))
	}
	for _, d := range []string{"lib/qemu", "lib/dnsmasq"} {
		p.folder("manager/"+d, 0o755)
	}
	etc := p.folder("manager/etc", 0o755)
	p.put("manager/etc/qemu.conf",
		[]byte("user = \"root\"\ngroup = \"root\"\nsecurity_driver = \"none\"\nstdio_handler = \"file\"\n"), 0o644)
	require.NoError(t, unix.Mount(etc, "/etc/libvirt", "", unix.MS_BIND, ""))
	p.daemon("unshare", "-n", "libvirtd", "-f", conf) // its network is its own
	p.eventually("the machine manager answers", func() bool {
		return exec.Command("virsh", "-c", "qemu:///system", "list").Run() == nil
	})
	xml := p.put("manager/machine.xml", []byte(fmt.Sprintf(`<domain type='qemu'><name>bottling-plc</name>
<uuid>11111111-2222-3333-4444-555555555555</uuid>
<metadata><coop:workload xmlns:coop="https://coop.example/schema"><coop:owner>svc-bottle</coop:owner>
<coop:project>bottling</coop:project></coop:workload></metadata>
<memory unit='MiB'>32</memory><vcpu>1</vcpu><cputune><vcpupin vcpu='0' cpuset='1'/></cputune>
<os><type arch='x86_64' machine='pc'>hvm</type><boot dev='fd'/></os>
<devices><emulator>/usr/bin/qemu-system-x86_64</emulator>
<disk type='file' device='floppy'><driver name='qemu' type='raw'/><source file='%s'/>
<target dev='fda'/><readonly/></disk>
<controller type='usb' model='none'/><memballoon model='none'/></devices></domain>`, boot)), 0o644)
	p.run("virsh", "-c", "qemu:///system", "create", xml)
	t.Cleanup(func() { exec.Command("virsh", "-c", "qemu:///system", "destroy", "bottling-plc").Run() })
	var pid int
	p.eventually("the machine runs", func() bool { pid = pidIn("/run/libvirt/qemu/bottling-plc.pid"); return pid > 0 })
	p.watch(pid, peer{name: "bottling-plc", kind: "vm", owner: "svc-bottle", tenant: "Bottling Line",
		facts: map[string]string{
			account.FactUUID: "11111111-2222-3333-4444-555555555555", account.FactCPUAsked: "1",
			account.FactMemoryAsked: "33554432", account.FactDisks: boot,
			account.FactVCPUPins: "0: 1",
		}})
}

func (p *peers) machineByHand() {
	pidFile := filepath.Join(p.dir, "hand.pid")
	image := p.put("crusher.img", make([]byte, 3<<20), 0o600)
	p.run("qemu-system-x86_64", "-accel", "tcg,thread=multi", "-smp", "2", "-m", "32",
		"-name", "guest=crusher,debug-threads=on", "-display", "none", "-nodefaults",
		"-drive", "file="+p.boot()+",if=floppy,format=raw,readonly=on", "-drive", "file="+image+",if=ide,format=raw",
		"-daemonize", "-pidfile", pidFile)
	var second int
	p.eventually("the machine has its second virtual CPU", func() bool {
		second = threadOf(pidIn(pidFile), "CPU 1/TCG")
		return second > 0
	})
	one := unix.CPUSet{}
	one.Set(1)
	require.NoError(p.t, unix.SchedSetaffinity(second, &one))
	p.watch(pidIn(pidFile), peer{name: "crusher", kind: "vm", owner: "root", tenant: "Bottling Line",
		facts: map[string]string{
			account.FactMemoryAsked: "33554432", account.FactDisks: p.boot() + ", " + image,
			account.FactVCPUMasks: fmt.Sprintf("0: 0-%d; 1: 1", runtime.NumCPU()-1),
		}, space: 3 << 20})
}

// threadOf finds a thread of a process by its name; 0 where there is none.
func threadOf(pid int, name string) int {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/comm", pid))
	for _, file := range tasks {
		if b, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(b)) == name {
			tid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			return tid
		}
	}
	return 0
}

func pidIn(file string) int {
	b, _ := os.ReadFile(file)
	n, _ := strconv.Atoi(strings.TrimSpace(string(b)))
	return n
}

// watch adds a peer that keeps no record itself: its CPU clock is read from outside (clock_getcpuclockid(3)).
func (p *peers) watch(pid int, x peer) {
	require.Positive(p.t, pid, x.name)
	record := filepath.Join(p.dir, "record-"+x.name)
	f, err := os.Create(record)
	require.NoError(p.t, err)
	done := make(chan struct{})
	var end sync.Once
	stop := func() { end.Do(func() { close(done) }) }
	p.t.Cleanup(stop)
	go func() {
		defer f.Close()
		for {
			before := time.Now()
			var ts unix.Timespec
			if unix.ClockGettime(int32(^pid<<3|2), &ts) != nil {
				return
			}
			fmt.Fprintln(f, (before.UnixNano()+time.Now().UnixNano())/2, ts.Nano())
			select {
			case <-done:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	p.expect(record, x)
}

// gpusOfPeers is how many GPUs the scheduler has. Their nodes are numbered the other way round than the library of the
// collector numbers them.
const gpusOfPeers = 4

// gpuLibrary makes a library that tells of the GPUs, and says where it is.
func (p *peers) gpuLibrary() string {
	library := filepath.Join(p.dir, "libgpus.so")
	p.run("cc", "-shared", "-fPIC", "-o", library, "../gpulibrary/simulated/gpus.c", "-ldl")
	state := "driver 1\n"
	for i := range gpusOfPeers {
		state += fmt.Sprintf("gpu %d\nname Leaf 48\nuuid GPU-%d\nminor %d\nbusy 0\nmemory.total 64\nmemory.used 1\n",
			i, i, gpusOfPeers-1-i)
	}
	p.put("libgpus.state", []byte(state), 0o644)
	return library
}

// gpusOf asks the scheduler, apart from the collector, which GPUs a job has: by the numbers of their nodes.
func (p *peers) gpusOf(job string) (list string, uuids []string) {
	detail := p.run("scontrol", "--details", "show", "job", job)
	_, list, ok := strings.Cut(detail, "(IDX:")
	require.True(p.t, ok, detail)
	list, _, _ = strings.Cut(list, ")")
	set, err := cpuset.Parse(list)
	require.NoError(p.t, err)
	var numbers []string
	for _, n := range set.CPUs() {
		numbers = append(numbers, strconv.Itoa(n))
		uuids = append([]string{fmt.Sprintf("GPU-%d", gpusOfPeers-1-n)}, uuids...) // in the order of the library
	}
	return strings.Join(numbers, ","), uuids
}

// cpusOf asks the scheduler, apart from the collector, which CPUs a job has.
func (p *peers) cpusOf(job string) string {
	_, list, ok := strings.Cut(p.run("scontrol", "--details", "show", "job", job), "CPU_IDs=")
	require.True(p.t, ok)
	list, _, _ = strings.Cut(list, " ")
	return list
}

// batch starts an array job of two tasks with a GPU each, and a job that has two, under a real scheduler. The GPUs are
// device nodes only.
func (p *peers) batch() {
	t := p.t
	key := make([]byte, 1024)
	_, err := rand.Read(key)
	require.NoError(t, err)
	p.folder("munge", 0o700)
	keyFile := p.put("munge/key", key, 0o600)
	const socket = "/run/munge/peers.socket"
	p.run("munged", "--force", "--key-file="+keyFile, "--socket="+socket, "--pid-file=/run/munge/pid",
		"--log-file="+filepath.Join(p.dir, "munge/log"),
		"--seed-file="+filepath.Join(p.dir, "munge/seed"))
	host, err := os.Hostname()
	require.NoError(t, err)
	host, _, _ = strings.Cut(host, ".")
	for i := range gpusOfPeers {
		require.NoError(t, unix.Mknod(filepath.Join(p.dir, fmt.Sprint("gpu", i)), unix.S_IFCHR|0o666,
			int(unix.Mkdev(195, uint32(i)))))
	}
	dir := p.folder("batch", 0o755)
	p.folder("batch/state", 0o755)
	p.folder("batch/spool", 0o755)
	conf := p.put("batch/slurm.conf", []byte(strings.NewReplacer("$H", host, "$D", dir,
		"$S", socket).Replace(`ClusterName=coop
SlurmctldHost=$H(127.0.0.1)
SlurmUser=root
SlurmctldPort=16817
SlurmdPort=16818
AuthType=auth/munge
AuthInfo=socket=$S
StateSaveLocation=$D/state
SlurmdSpoolDir=$D/spool
SlurmctldPidFile=/run/slurmctld.pid
SlurmdPidFile=/run/slurmd.pid
SlurmctldLogFile=$D/slurmctld.log
SlurmdLogFile=$D/slurmd.log
ProctrackType=proctrack/cgroup
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
SchedulerParameters=sched_interval=1,sched_min_interval=0,batch_sched_delay=0
GresTypes=gpu
ReturnToService=2
MpiDefault=none
SlurmdParameters=config_overrides
NodeName=$H NodeAddr=127.0.0.1 CPUs=4 Gres=gpu:4 State=UNKNOWN
PartitionName=day Nodes=$H Default=YES MaxTime=60 State=UP OverSubscribe=YES
`)), 0o644)
	p.put("batch/gres.conf", []byte(fmt.Sprintf("NodeName=%s Name=gpu File=%s/gpu[0-3]\n", host, p.dir)), 0o644)
	p.put("batch/cgroup.conf", []byte("CgroupPlugin=cgroup/v1\nCgroupMountpoint=/sys/fs/cgroup\nConstrainDevices=no\n"),
		0o644)
	t.Setenv("SLURM_CONF", conf)
	p.run("slurmctld", "-f", conf)
	p.run("slurmd", "-f", conf, "-N", host)
	p.eventually("the scheduler has its node", func() bool {
		out, _ := exec.Command("sinfo", "--noheader", "--format=%T").Output()
		return strings.HasPrefix(string(out), "idle")
	})
	out := p.folder("batch/out", 0o777)
	script := p.put("batch/job.sh",
		[]byte(fmt.Sprintf("#!/bin/sh\nexec %s/burner %d 0.15 %s/record-$SLURM_ARRAY_TASK_ID\n", p.dir, burnerSeconds,
			out)), 0o755)
	submit := func(args ...string) string {
		cmd := exec.Command("sbatch", append([]string{"--parsable", "--account=frost", "--job-name=frost-ens",
			"--cpus-per-task=1", "--time=7", "--output=/dev/null"}, args...)...)
		cmd.Dir = "/tmp"
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 2001, Gid: 2001}}
		id, err := cmd.Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(id))
	}
	array := submit("--array=0-1", "--gres=gpu:1", script)
	t.Cleanup(func() { exec.Command("scancel", "--user=m.abt").Run() })
	for task := range 2 {
		record := filepath.Join(out, fmt.Sprint("record-", task))
		p.eventually("the task burns", func() bool { return exists(record) })
		job := p.run("squeue", "--noheader", "--array", "--format=%A", "--jobs="+array+"_"+fmt.Sprint(task))
		gpu, uuids := p.gpusOf(job)
		p.expect(record, peer{name: "job " + job, kind: "job", owner: "m.abt", tenant: "Frost Watch",
			facts: map[string]string{
				account.FactAccount: "frost", account.FactPartition: "day", account.FactJobName: "frost-ens",
				account.FactArray: fmt.Sprintf("%s_%d", array, task),
				account.FactGPUs:  gpu, account.FactRunFor: "420", account.FactCPUAsked: "1",
				account.FactCPUsGiven: p.cpusOf(job),
			}, part: "step batch", gpus: uuids})
	}
	record := filepath.Join(out, "record-two")
	script = p.put("batch/two.sh", []byte(fmt.Sprintf("#!/bin/sh\nexec %s/burner %d 0.1 %s\n", p.dir, burnerSeconds,
		record)), 0o755)
	job := submit("--gres=gpu:2", script)
	p.eventually("the job of two GPUs burns", func() bool { return exists(record) })
	numbers, uuids := p.gpusOf(job)
	require.Len(t, uuids, 2)
	p.expect(record, peer{name: "job " + job, kind: "job", owner: "m.abt", tenant: "Frost Watch",
		facts: map[string]string{account.FactGPUs: numbers, account.FactCPUsGiven: p.cpusOf(job)},
		part:  "step batch", gpus: uuids})
}

// signIns has two users sign in over the network; one has a terminal.
func (p *peers) signIns() {
	key := filepath.Join(p.dir, "key")
	p.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
	hostKey := filepath.Join(p.dir, "hostkey")
	p.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", hostKey)
	public, err := os.ReadFile(key + ".pub")
	require.NoError(p.t, err)
	p.put("authorized", public, 0o644)
	conf := p.put("sshd_config",
		[]byte(
			fmt.Sprintf(
				"Port 16822\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s/authorized\nStrictModes "+
					"no\nUsePAM yes\nPidFile /run/sshd.pid\nPermitRootLogin no\n", hostKey, p.dir)), 0o644)
	p.run("/usr/sbin/sshd", "-f", conf)
	for i, user := range []string{"m.abt", "i.sauer"} {
		record := filepath.Join(p.dir, "home", user, "record")
		args := []string{"-i", key, "-p", "16822", "-o", "StrictHostKeyChecking=no", "-o",
			"UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", user + "@127.0.0.1",
			fmt.Sprintf("%s/burner %d 0.1 %s", p.dir, burnerSeconds, record)}
		facts := map[string]string{account.FactGroups: "agronomists," + user}
		if i == 1 {
			args = append([]string{"-tt"}, args...)
			facts[account.FactOrigin] = "127.0.0.1"
		}
		p.daemon("ssh", args...)
		p.eventually(user+" is signed in", func() bool { return exists(record) })
		p.expect(record, peer{kind: "session", owner: user, tenant: "Agronomy Desk", facts: facts})
	}
}

// plain starts a process of a user who is in nothing.
func (p *peers) plain() {
	record := filepath.Join(p.dir, "home/p.kern/record")
	cmd := exec.Command(filepath.Join(p.dir, "plainburner"), strconv.Itoa(burnerSeconds), "0.1", record)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 2005, Gid: 2005}}
	require.NoError(p.t, cmd.Start())
	p.expect(record, peer{name: "plainburner of p.kern", kind: "loose", owner: "p.kern", tenant: "Agronomy Desk",
		facts: map[string]string{account.FactProgram: "plainburner"}})
}

// compare runs the service and the collector for a while and looks at what they say of every peer.
func (p *peers) compare() {
	t := p.t
	tenancy := p.put("tenancy.yaml", []byte(peerTenancy), 0o644)
	service := startService(t, p.dir, "127.0.0.1:17471")
	service.run(t, "rule", "import", tenancy)
	credential := strings.TrimSpace(string(service.run(t, "hosts", "enrol", "here")))
	service.collect(t, credential, filepath.Join(p.dir, "spool"), 25*time.Second,
		"--ask", "cri=/run/containerd/containerd.sock", "--ask", "engine=/run/engine.sock", "--ask",
		"libvirt=/run/libvirt/libvirt-sock-ro", "--ask", "slurm", "--gpu-library", p.gpuLibrary())
	var l sheet.Ledger
	require.NoError(t,
		json.Unmarshal(service.run(t, "share", "--by", "workload", "--host", "here", "--span", "10m", "--as", "json"),
			&l))
	require.NotNil(t, l.CoveredFrom)
	require.NotNil(t, l.Steal)
	for _, x := range p.want {
		share := shareOf(&l, x)
		if !assert.NotNil(t, share, "%s of %s is in the ledger", x.name, x.owner) {
			continue
		}
		require.NotNil(t, share.Amount, share.Reason)
		own := x.used(t, *l.CoveredFrom, *l.CoveredTo)
		t.Logf("%-22s %-9s %-10s %-14s own clock %6.3f s, charged %6.3f s (%s)", share.Name, share.Kind, share.Owner,
			share.Tenant, own, *share.Amount, share.Source)
		allowed := 0.03*own + 0.010 + paused(&l)
		if x.kind == "session" {
			allowed += 0.15 // the daemon's own work for the sign-in is the sign-in's too, and has no record
		}
		assert.InDelta(t, own, *share.Amount, allowed, x.name)
		assert.Equal(t, []string{x.kind, x.owner, x.tenant}, []string{share.Kind, share.Owner, share.Tenant},
			share.Name)
		var about hub.AboutWorkload
		require.NoError(t,
			json.Unmarshal(service.run(t, "about", fmt.Sprint("workload/", share.WorkloadID), "--span", "10m", "--as",
				"json"), &about))
		for name, want := range x.facts {
			assert.Equal(t, want, about.Facts[name], "%s: %s %s", share.Name, name, about.Unnamed)
		}
		var gpus []string
		for i, g := range about.GPUs {
			assert.Equal(t, []any{i, "the scheduler"}, []any{g.Inside, g.By}, "%s: %s", share.Name, g.Name)
			gpus = append(gpus, g.Name)
		}
		assert.Equal(t, x.gpus, gpus, "%s: GPUs by their numbers inside", share.Name)
		if x.around != "" && assert.NotNil(t, about.Around, share.Name) {
			assert.Equal(t, x.around, about.Around.Name)
		}
		if x.part != "" && assert.Len(t, about.Parts, 1, share.Name) {
			assert.Equal(t, x.part, about.Parts[0].Name)
			assert.InDelta(t, own, about.Parts[0].CPUSeconds, allowed, "%s: %s", share.Name, x.part)
		}
		for _, m := range about.Figures {
			if m.Name == "space_used_bytes" {
				t.Logf("%-22s its files take %.0f bytes (%s)", share.Name, m.Value, m.Source)
				assert.GreaterOrEqual(t, m.Value, float64(x.space), share.Name)
				assert.Less(t, m.Value, float64(x.space)+64<<20, share.Name)
				x.space = 0
			}
		}
		if _, err := os.ReadDir("/proc/1/root"); x.kind == "container" && err != nil {
			x.space = 0 // from these mounts, which are not the host's, its root cannot be found
		}
		assert.Zero(t, x.space, "%s: %s", share.Name, about.Space)
		if x.kind == "vm" {
			virtual, sum := 0.0, 0.0
			for _, part := range about.Parts {
				if part.Name == "vCPU 0" || part.Name == "all vCPUs" { // the second where one thread emulates all
					virtual += part.CPUSeconds
				}
				sum += part.CPUSeconds
			}
			assert.Greater(t, virtual, 0.5*own, "%s: %v", share.Name, about.Parts)
			assert.InDelta(t, own, sum, 0.05*own+0.05+paused(&l), "%s: its threads add up", share.Name)
		}
	}
	p.act(service, credential)
	residual := *l.Residual
	t.Logf("%.1f s in all; in use %.3f s, residual %.3f s", time.Since(p.begin).Seconds(), *l.Used, residual)
}

func shareOf(l *sheet.Ledger, x peer) *sheet.Share {
	for i := range l.Shares {
		if s := &l.Shares[i]; s.Name == x.name || x.name == "" && s.Kind == x.kind && s.Owner == x.owner {
			return s
		}
	}
	return nil
}

// endDescendants ends every process that descends from this one, and waits for them.
func endDescendants() {
	for range 50 {
		children := childrenOf(os.Getpid())
		if len(children) == 0 {
			return
		}
		for _, pid := range children {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(20 * time.Millisecond)
		for {
			var status syscall.WaitStatus
			if pid, err := syscall.Wait4(-1, &status, syscall.WNOHANG, nil); err != nil || pid <= 0 {
				break
			}
		}
	}
}

// reapAdopted waits for what was left to this process, as an init would: a daemon may wait for its end to be seen. What
// this process began itself is waited for where it was begun, at once; so only one that stays ended is taken.
func reapAdopted() {
	ended := map[int]bool{}
	for {
		time.Sleep(100 * time.Millisecond)
		now := map[int]bool{}
		for _, pid := range childrenOf(os.Getpid()) {
			b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
			if i := bytes.LastIndexByte(b, ')'); i < 0 || !bytes.HasPrefix(b[i:], []byte(") Z")) {
				continue
			}
			now[pid] = true
			if ended[pid] {
				// not a child of this process itself: then its parent's to do
				_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
			}
		}
		ended = now
	}
}

// topGroups lists the topmost directories of every cgroup tree.
func topGroups() map[string]bool {
	paths, _ := filepath.Glob("/sys/fs/cgroup/*/*")
	all := map[string]bool{}
	for _, d := range paths {
		if info, err := os.Lstat(d); err == nil && info.IsDir() {
			all[d] = true
		}
	}
	return all
}

// removeGroups removes those that were not there before, with what is below them; none has a process left.
func removeGroups(before map[string]bool) {
	for dir := range topGroups() {
		if before[dir] {
			continue
		}
		var below []string
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				below = append(below, path)
			}
			return nil
		})
		for i := len(below) - 1; i >= 0; i-- {
			_ = syscall.Rmdir(below[i]) // one that a process is still in stays
		}
	}
}

func childrenOf(pid int) []int {
	var all []int
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, file := range tasks {
		b, _ := os.ReadFile(file)
		for _, f := range strings.Fields(string(b)) {
			if child, err := strconv.Atoi(f); err == nil {
				all = append(append(all, child), childrenOf(child)...)
			}
		}
	}
	return all
}
