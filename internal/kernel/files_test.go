package kernel_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel"
)

// container lays out a container with one process whose root is an overlay with an upper directory.
func (f *following) container(pid int, name, upper string) {
	f.write("sys/fs/cgroup/"+name+"/cpu.stat", "usage_usec 5\n")
	f.write("run/runc/"+name+"/state.json", fmt.Sprintf(`{"id":%q,"cgroup_paths":{"":"/sys/fs/cgroup/%s"}}`, name,
		name))
	f.process(pid, 100, "intake", "/"+name)
	f.write(fmt.Sprintf("proc/%d/mountinfo", pid),
		"9 8 0:40 / / rw - overlay overlay rw,lowerdir=/image,upperdir="+upper+",workdir=/w\n")
}

// space is what the next reading tells of the space of containers, by their identity.
func (f *following) space() map[string]account.Standing {
	var r account.Reading
	require.NoError(f.t, f.Read(&r))
	told := map[string]account.Standing{}
	for _, l := range r.Levels {
		if key := f.Registry().Workload(l.Workload).Key; l.Measure == amount.SpaceUsed {
			l.Workload = 0
			told[key] = l
		}
	}
	return told
}

func TestFiles_AreCountedByProjectElseWalkedAndNeverToldOfWhatTwoShare(t *testing.T) {
	projects := map[string]account.Files{}
	f := follow(t, func(o *kernel.Options) {
		o.SlowPace = -1
		o.Quota = func(dir string) (account.Files, error) {
			if q, ok := projects[dir]; ok {
				return q, nil
			}
			return account.Files{}, errors.New("in no project")
		}
	})
	f.container(9001, "must-1", "/layers/must-1")
	projects["/layers/must-1"] = account.Files{Bytes: 5000, Count: 2, LimitBytes: 9000}
	told := f.space()
	assert.Equal(t, account.Standing{Measure: amount.SpaceUsed, Units: 5000, Source: amount.Counted},
		told["container:must-1"])

	f.write("proc/1/root/layers/must-1/etc/press", string(make([]byte, 40_000)))
	delete(projects, "/layers/must-1")
	told = f.space()
	assert.Equal(t, amount.Summed, told["container:must-1"].Source, "it is in no project any more: its layer is walked")
	assert.InDelta(t, 45_000, told["container:must-1"].Units, 15_000)
	f.write("proc/1/root/layers/must-1/more", string(make([]byte, 400_000)))
	assert.Equal(t, told, f.space(), "and not walked again at once")
	f.host.Advance(61 * 60 * 1e9)
	assert.Greater(t, f.space()["container:must-1"].Units, int64(400_000), "but after an hour")

	f.container(9002, "must-2", "/layers/must-1")
	assert.NotContains(t, f.space(), "container:must-1", "another has the same: neither is told")
	assert.NotContains(t, f.space(), "container:must-2")

	f.container(9003, "must-3", "/layers/none")
	assert.NotContains(t, f.space(), "container:must-3", "a layer that cannot be looked at is no empty one")
}

func TestFiles_OfAMachineAreWhatItHasOpenForWriting(t *testing.T) {
	f := follow(t, func(o *kernel.Options) { o.SlowPace = -1 })
	f.process(9003, 100, "qemu-system-x86", "/")
	f.write("proc/9003/cmdline", "/usr/bin/qemu-system-x86_64\x00-name\x00guest=plc\x00")
	f.write("proc/9003/mountinfo", "24 1 8:1 / / rw - ext4 /dev/sda1 rw\n25 24 0:5 / /run rw - tmpfs tmpfs rw\n")
	image := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, make([]byte, 80_000), 0o600))
	for fd, flags := range map[int]string{1: "02", 7: "0100002", 8: "0100002", 9: "0100000", 10: "02"} {
		mount := map[bool]int{true: 25, false: 24}[fd == 10]
		f.write(fmt.Sprintf("proc/9003/fdinfo/%d", fd), fmt.Sprintf("pos:\t0\nflags:\t%s\nmnt_id:\t%d\n", flags, mount))
		target := image // 7 and 8 are the same
		if fd == 1 || fd > 8 {
			target = fmt.Sprint(image, fd) // its messages, what it only reads, what is in memory
			require.NoError(t, os.WriteFile(target, make([]byte, 900_000), 0o600))
		}
		require.NoError(t, os.MkdirAll(filepath.Join(f.tree.Dir, "proc/9003/fd"), 0o755))
		require.NoError(t, os.Symlink(target, filepath.Join(f.tree.Dir, fmt.Sprintf("proc/9003/fd/%d", fd))))
	}
	f.space()
	for key, x := range f.space() {
		if f.name(key) == "plc" {
			assert.InDelta(t, 80_000, x.Units, 8_192)
			assert.Equal(t, amount.Summed, x.Source)
			return
		}
	}
	require.Fail(t, "the machine's files are known")
}

// name is what the workload of an identity is called.
func (f *following) name(key string) string {
	for id := range account.WorkloadID(f.Registry().Count()) {
		if w := f.Registry().Workload(id); w.Key == key {
			return w.Name
		}
	}
	return ""
}

func TestLinks_AreJoinedToWhoAloneIsAtTheOtherEnd(t *testing.T) {
	asked := 0
	ends := account.LinkEnds{Spaces: map[string]uint64{"veth71": 4711, "veth72": 4712},
		Peers: map[string]string{"veth73": "veth74"}, Kinds: map[string]string{"odd0": "veth"}}
	f := follow(t, func(o *kernel.Options) {
		o.Ends = func() (account.LinkEnds, error) { asked++; return ends, nil }
	})
	lines := ""
	for i, name := range []string{"veth71", "veth72", "veth73", "odd0"} {
		lines += name + ": 9 1 0 0 0 0 0 0 9 1 0 0 0 0 0 0\n"
		f.write("sys/class/net/"+name+"/ifindex", fmt.Sprintf("%d\n", 50+i))
		f.write("sys/class/net/"+name+"/iflink", map[bool]string{true: "53\n", false: "2\n"}[name == "odd0"])
	}
	f.write("proc/1/net/dev", lines)
	for pid, space := range map[int]int{9001: 4711, 9002: 4712, 9003: 4712} {
		f.container(pid, fmt.Sprintf("must-%d", pid), "/l")
		require.NoError(t, os.MkdirAll(filepath.Join(f.tree.Dir, fmt.Sprintf("proc/%d/ns", pid)), 0o755))
		require.NoError(t, os.Symlink(fmt.Sprintf("net:[%d]", space),
			filepath.Join(f.tree.Dir, fmt.Sprintf("proc/%d/ns/net", pid))))
		f.write(fmt.Sprintf("proc/%d/net/dev", pid),
			"lo: 70 1 0 0 0 0 0 0 70 1 0 0 0 0 0 0\neth0: 9 1 0 0 0 0 0 0 9 1 0 0 0 0 0 0\n")
	}
	var r account.Reading
	for range 3 {
		require.NoError(t, f.Read(&r))
	}
	i := slices.IndexFunc(r.Namespaces, func(n account.Namespace) bool { return n.ID == 4711 })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, []int64{9, 9, 70}, []int64{r.Namespaces[i].Received, r.Namespaces[i].Sent, r.Namespaces[i].Local},
		"loopback apart")
	found := map[string]string{}
	for _, n := range r.Interfaces {
		found[n.Name] = n.Kind + " " + n.Peer
		if n.Workload != account.Unrecognised {
			found[n.Name] += f.Registry().Workload(n.Workload).Key
		}
	}
	assert.Equal(t, map[string]string{
		"veth71": "veth container:must-9001", "veth72": "veth ", "veth73": "veth veth74", "odd0": "veth ",
	}, found, "whose network two share is at nobody's other end alone")
	assert.Equal(t, 1, asked, "once, while nothing is new")
}

func TestTap_OfAMachineThatIsGoneIsNobodys(t *testing.T) {
	f := follow(t, func(o *kernel.Options) { o.SlowPace = -1 })
	f.process(9003, 100, "qemu-system-x86", "/")
	f.write("proc/9003/cmdline", "/usr/bin/qemu-system-x86_64\x00-name\x00guest=plc\x00")
	f.write("proc/9003/fdinfo/20", "pos:\t0\nflags:\t0104002\niff:\tvnet7\n")
	f.write("sys/class/net/vnet7/tun_flags", "0x1002\n")
	f.write("proc/1/net/dev", "vnet7: 9 1 0 0 0 0 0 0 9 1 0 0 0 0 0 0\n")
	owner := func() account.WorkloadID {
		var r account.Reading
		require.NoError(t, f.Read(&r))
		for _, n := range r.Interfaces {
			if n.Name == "vnet7" {
				return n.Workload
			}
		}
		require.Fail(t, "the tap is there")
		return 0
	}
	owner()
	assert.Equal(t, "plc", f.Registry().Workload(owner()).Name)
	require.NoError(t, os.RemoveAll(filepath.Join(f.tree.Dir, "proc/9003")))
	owner()
	assert.Equal(t, account.Unrecognised, owner(), "another may be given its name")
}
