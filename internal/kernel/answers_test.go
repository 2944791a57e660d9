package kernel

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
)

// taskstats is a record of a task that ended, as the kernel lays it out.
func taskstats(pid, parent, uid uint32, elapsedMicros, runNanos uint64) []byte {
	b := make([]byte, 376)
	put := func(at int, n uint64) { binary.NativeEndian.PutUint64(b[at:], n) }
	put(72, runNanos)
	copy(b[80:], "tally")
	binary.NativeEndian.PutUint32(b[120:], uid)
	binary.NativeEndian.PutUint32(b[128:], pid)
	binary.NativeEndian.PutUint32(b[132:], parent)
	put(144, elapsedMicros)
	put(256, 4096)
	binary.NativeEndian.PutUint32(b[368:], pid)
	return b
}

func TestTaskstats_TellWhoEndedAndWhatItUsed(t *testing.T) {
	const now = 100_000_000_000
	x, ok := parseTaskstats(taskstats(77, 5, 2001, 2_000_000, 1_500_000), now)
	require.True(t, ok)
	assert.Equal(t, []int32{77, 77, 5}, []int32{x.pid, x.tgid, x.parent})
	assert.Equal(t, int64(9_800), x.start, "it began two seconds ago, in ticks since boot")
	assert.Equal(t, int64(1_500_000), x.sums.run)
	assert.Equal(t, int64(4096), x.sums.written)
	assert.Equal(t, "tally", string(x.comm[:5]))
	_, ok = parseTaskstats(make([]byte, 100), now)
	assert.False(t, ok)
}

func TestSockets_TellWhoseBytesTheyAre(t *testing.T) {
	info := make([]byte, 140)
	binary.NativeEndian.PutUint64(info[120:], 500)
	binary.NativeEndian.PutUint64(info[128:], 700)
	group := binary.NativeEndian.AppendUint64(nil, 4711)
	socket := make([]byte, 72)
	socket[0] = unix.AF_INET
	copy(socket[8:], []byte{10, 0, 0, 1})
	copy(socket[24:], []byte{10, 0, 0, 2})
	b := append(append(socket, netlinkAttribute(2, info)...), netlinkAttribute(21, group)...)
	x, ok := parseSocket(b)
	require.True(t, ok)
	assert.Equal(t, tcpSocket{group: 4711, sent: 500, received: 700}, x)
	copy(b[24:], []byte{10, 0, 0, 1})
	x, _ = parseSocket(b)
	assert.True(t, x.local, "to its own address: it leaves no host")
}

func TestMounts_AreReadWithTheirNames(t *testing.T) {
	const file = "26 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw\n" +
		"27 26 8:2 / /srv/must\\040press rw shared:1 master:2 - xfs /dev/sda2 rw\n" +
		"28 26 8:1 /srv/sub /mnt rw - ext4 /dev/sda1 rw\n" + "garbage\n"
	mounts := parseMounts([]byte(file))
	require.Len(t, mounts, 3)
	assert.Equal(t, mount{id: 27, device: 8<<20 | 2, root: "/", at: "/srv/must press", kind: "xfs", options: "rw"},
		mounts[1])
	assert.Equal(t, "/srv/sub", mounts[2].root, "a part of one in another place")
	assert.Equal(t, []account.Swap{{Name: "/dev/sda3", Kind: "partition", SizeBytes: 1024 << 10, UsedBytes: 16 << 10}},
		parseSwaps([]byte("Filename Type Size Used Priority\n/dev/sda3 partition 1024 16 -2\nodd\n")))
}

func TestController_IsWhatADeviceIsAttachedTo(t *testing.T) {
	for place, want := range map[string]string{
		"../devices/pci0000:00/0000:00:04.0/nvme/nvme0/nvme0n1":                               "0000:00:04.0",
		"../devices/pci0000:00/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda":         "0000:00:1f.2",
		"../devices/pci0000:00/0000:00:1c.0/0000:01:00.0/host2/target2:0:0/2:0:0:0/block/sdc": "0000:01:00.0",
		"../devices/platform/soc/fe340000.mmc/mmc_host/mmc0/mmc0:0001/block/mmcblk0":          "soc",
		"../devices/virtual/block/dm-0":                                                       "virtual",
	} {
		assert.Equal(t, want, controllerOf(place), place)
	}
}

// FuzzAnswers holds the parsers of what the kernel answers to requests, and of what hosts are made of, to their promise
// on any bytes: no panic, no endless loop, nothing negative.
func FuzzAnswers(f *testing.F) {
	f.Add(taskstats(1, 2, 3, 4, 5))
	f.Add([]byte("400000-402000 r-xp 0 fe:00 7 /usr/bin/press\nAnonymous: 4 kB\nSwap: 8 kB\nffffffffffffffff-0 rw-p\n"))
	f.Add(
		[]byte(
			"900 800 0:99 / / rw - overlay overlay rw,lowerdir=/a,upperdir=/b/c\\054d,workdir=/w\n901 900 8:1 /x / " +
				"rw - ext4 /dev/sda1 rw\n"))
	f.Add(append(make([]byte, unix.SizeofIfInfomsg),
		append(netlinkAttribute(unix.IFLA_IFNAME, []byte("veth3\x00")),
			netlinkAttribute(unix.IFLA_LINK_NETNSID, make([]byte, 4))...)...))
	f.Add([]byte("pos:\t0\nflags:\t0100002\nmnt_id:\t2\niff:\ttap3\n"))
	f.Add(netlinkRequest(20, 1, make([]byte, 72), netlinkAttribute(2, make([]byte, 140)),
		netlinkAttribute(21, make([]byte, 8))))
	f.Add([]byte("26 1 8:1 / /a\\040b rw - ext4 /dev/sda1 rw\n"))
	f.Add([]byte("Filename Type\n/dev/sda3 partition 1024 16 -2\n"))
	f.Add([]byte{3, 0, 0, 0, 1})
	f.Add([]byte("8:0"))
	f.Fuzz(func(t *testing.T, b []byte) {
		netlinkMessages(b, func(_ uint16, payload []byte) {
			netlinkAttributes(payload, func(uint16, []byte) {})
			if err := netlinkError(payload); len(payload) < 4 && err == nil {
				t.Fatal("an answer that is too short is no acknowledgement")
			}
		})
		if x, ok := parseTaskstats(b, 1<<50); ok &&
			min(x.sums.run, x.sums.user, x.sums.system, x.sums.read, x.sums.written, x.start) < 0 {
			t.Fatalf("negative: %+v", x)
		}
		if x, ok := parseSocket(b); ok && min(x.sent, x.received) < 0 {
			t.Fatalf("negative: %+v", x)
		}
		tellsChange(b)
		for _, m := range parseMounts(b) {
			if m.device < 0 {
				t.Fatalf("negative: %+v", m)
			}
		}
		for _, s := range parseSwaps(b) {
			if min(s.SizeBytes, s.UsedBytes) < 0 {
				t.Fatalf("negative: %+v", s)
			}
		}
		for _, m := range parseMounts(b) {
			if dir := ownFiles(b, []mount{m}); dir != "" && dir[0] != '/' {
				t.Fatal(dir)
			}
		}
		eachMapping(b, func(m mapping) {
			if m.size == 0 {
				t.Fatal("an area of nothing")
			}
		})
		if l, ok := parseLink(b); ok && (l.index <= 0 || l.name == "") {
			t.Fatalf("%+v", l)
		}
		namespaceNumber(b)
		writable(b)
		controllerOf(string(b))
		deviceNumber(b)
	})
}

func TestOwnMappings_AreGivenBackOnlyWhereNothingWasWritten(t *testing.T) {
	const smaps = "00400000-00402000 r-xp 00000000 fe:00 7 /usr/bin/book keeper\nRss: 8 kB\nPrivate_Dirty: 8 " +
		"kB\nAnonymous: 0 kB\nSwap: 0 kB\n" +
		// relocated, then protected
		"00402000-00403000 r--p 00002000 fe:00 7 /usr/bin/book keeper\nAnonymous: 4 kB\nSwap: 0 kB\n" +
		"00403000-00404000 rw-p 00003000 fe:00 7 /usr/bin/book keeper\nAnonymous: 0 kB\nSwap: 0 kB\n" +
		"00404000-00406000 r--p 00000000 fe:00 9 /usr/lib/other.so\nAnonymous: 0 kB\nSwap: 0 kB\n" +
		"00406000-00409000 r--p 00004000 fe:00 7 /usr/bin/book keeper\nAnonymous: 0 kB\nSwap: 0 kB\n"
	var found [][2]uintptr
	for _, m := range unwrittenMappings([]byte(smaps), "/usr/bin/book keeper") {
		found = append(found, [2]uintptr{m.start, m.size})
	}
	assert.Equal(t, [][2]uintptr{{0x400000, 0x2000}, {0x406000, 0x3000}}, found)
}

func TestOwnFiles_AreWhereAContainersRootComesFrom(t *testing.T) {
	host := parseMounts(
		[]byte(
			"26 1 8:1 / / rw - ext4 /dev/sda1 rw\n27 26 8:2 / /var/lib rw - xfs /dev/sda2 rw\n28 26 8:2 /pool " +
				"/srv/pool rw - xfs /dev/sda2 rw\n29 1 0:33 /@ / rw - btrfs /dev/sda4 rw\n"))
	for name, x := range map[string]struct{ mountinfo, want string }{
		"an overlay's upper directory": {"9 8 0:40 / / rw - overlay overlay " +
			"rw,lowerdir=/l1:/l2,upperdir=/var/lib/coop/must\\054press/diff,workdir=/w\n",
			"/var/lib/coop/must,press/diff"},
		"read only, without any": {"9 8 0:40 / / ro - overlay overlay ro,lowerdir=/l1:/l2\n", ""},
		"named from where it was made": {"9 8 0:40 / / rw - overlay overlay rw,upperdir=diff,workdir=work\n",
			""},
		"a directory of a filesystem": {"9 8 8:2 /coop/root / rw - xfs /dev/sda2 rw\n", "/var/lib/coop/root"},
		"seen by the nearest mount":   {"9 8 8:2 /pool/root / rw - xfs /dev/sda2 rw\n", "/srv/pool/root"},
		"the last mount covers": {"9 8 8:1 / / rw - ext4 /dev/sda1 rw\n10 9 8:2 /coop/root / rw - xfs " +
			"/dev/sda2 rw\n", "/var/lib/coop/root"},
		"one that the host sees too":          {"9 8 8:2 /pool / rw - xfs /dev/sda2 rw\n", "/srv/pool"},
		"a subvolume that is the host's root": {"9 8 0:33 /@ / rw - btrfs /dev/sda4 rw\n", ""},
		"served by another machine":           {"9 8 8:2 /coop/root / rw - nfs4 books:/coop rw\n", ""},
		"the host's own root":                 {"9 8 8:1 / / rw - ext4 /dev/sda1 rw\n", ""},
		"one mounted nowhere else":            {"9 8 8:7 /coop/root / rw - xfs /dev/sdb rw\n", ""},
	} {
		assert.Equal(t, x.want, ownFiles([]byte(x.mountinfo), host), name)
	}
}

func TestWalk_CountsEachFileOnceAndGoesNowhereElse(t *testing.T) {
	dir := t.TempDir()
	outside := t.TempDir()
	put := func(name string, size int) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, make([]byte, size), 0o600))
	}
	put("etc/press.conf", 10)
	put("var/log/must", 100_000)
	require.NoError(t, os.Link(filepath.Join(dir, "var/log/must"), filepath.Join(dir, "again")))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "much"), make([]byte, 1<<20), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "elsewhere")))
	want := int64(0) // of what is there, asked for one by one
	for _, name := range []string{"", "etc", "etc/press.conf", "var", "var/log", "var/log/must", "elsewhere"} {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(filepath.Join(dir, name), &st))
		want += st.Blocks * 512
	}
	w := openWalk(dir)
	steps := 1
	for _, done := w.step(2); !done; _, done = w.step(2) {
		steps++
	}
	require.NoError(t, w.err)
	assert.Equal(t, []int64{7, want}, []int64{w.files, w.bytes})
	assert.Greater(t, steps, 3, "a little at a time")

	w = openWalk(filepath.Join(dir, "elsewhere"))
	_, done := w.step(2)
	assert.True(t, done)
	assert.Error(t, w.err, "a link is no layer")
}

func TestSwappedPages_NameTheirSwap(t *testing.T) {
	for entry, want := range map[uint64]int{1 << 62: 0, 1<<62 | 3 | 77<<5: 3, 1<<63 | 5: -1, 0: -1, 1<<62 | 1<<63: -1} {
		swap, ok := swappedPage(entry)
		if !ok {
			swap = -1
		}
		assert.Equal(t, want, swap, "%#x", entry)
	}
}
