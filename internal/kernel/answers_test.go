package kernel

import (
	"encoding/binary"
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
	require.Len(t, mounts, 2, "a part of one in another place is not another")
	assert.Equal(t, mount{8<<20 | 2, "/srv/must press", "xfs"}, mounts[1])
	assert.Equal(t, []account.Swap{{Name: "/dev/sda3", Kind: "partition", SizeBytes: 1024 << 10, UsedBytes: 16 << 10}},
		parseSwaps([]byte("Filename Type Size Used Priority\n/dev/sda3 partition 1024 16 -2\nodd\n")))
}

func TestController_IsWhatADeviceIsAttachedTo(t *testing.T) {
	for place, want := range map[string]string{
		"../devices/pci0000:00/0000:00:04.0/nvme/nvme0/nvme0n1":                               "0000:00:04.0",
		"../devices/pci0000:00/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda":         "0000:00:1f.2",
		"../devices/pci0000:00/0000:00:1c.0/0000:01:00.0/host2/target2:0:0/2:0:0:0/block/sdc": "0000:01:00.0",
		"../devices/platform/soc/fe340000.mmc/mmc_host/mmc0/mmc0:0001/block/mmcblk0":          "soc", "../devices/virtual/block/dm-0": "virtual",
	} {
		assert.Equal(t, want, controllerOf(place), place)
	}
}

// FuzzAnswers holds the parsers of what the kernel answers to requests, and of what hosts are made of, to their promise on
// any bytes: no panic, no endless loop, nothing negative.
func FuzzAnswers(f *testing.F) {
	f.Add(taskstats(1, 2, 3, 4, 5))
	f.Add(netlinkRequest(20, 1, make([]byte, 72), netlinkAttribute(2, make([]byte, 140)), netlinkAttribute(21, make([]byte, 8))))
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
		if x, ok := parseTaskstats(b, 1<<50); ok && min(x.sums.run, x.sums.user, x.sums.system, x.sums.read, x.sums.written, x.start) < 0 {
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
		controllerOf(string(b))
		deviceNumber(b)
	})
}
