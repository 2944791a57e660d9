package text

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
)

func TestMounts_AreReadWithTheirNames(t *testing.T) {
	const file = "26 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw\n" +
		"27 26 8:2 / /srv/must\\040press rw shared:1 master:2 - xfs /dev/sda2 rw\n" +
		"28 26 8:1 /srv/sub /mnt rw - ext4 /dev/sda1 rw\n" + "garbage\n"
	mounts := ParseMounts([]byte(file))
	require.Len(t, mounts, 3)
	assert.Equal(t, Mount{ID: 27, Device: 8<<20 | 2, Root: "/", At: "/srv/must press", Kind: "xfs", Options: "rw"},
		mounts[1])
	assert.Equal(t, "/srv/sub", mounts[2].Root, "a part of one in another place")
	assert.Equal(t, []account.Swap{{Name: "/dev/sda3", Kind: "partition", SizeBytes: 1024 << 10, UsedBytes: 16 << 10}},
		ParseSwaps([]byte("Filename Type Size Used Priority\n/dev/sda3 partition 1024 16 -2\nodd\n")))
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
	for _, m := range UnwrittenMappings([]byte(smaps), "/usr/bin/book keeper") {
		found = append(found, [2]uintptr{m.Start, m.Size})
	}
	assert.Equal(t, [][2]uintptr{{0x400000, 0x2000}, {0x406000, 0x3000}}, found)
}

// FuzzFiles holds the parsers of the files that are read seldom to their promise on any bytes: no panic, no endless
// loop, nothing negative.
func FuzzFiles(f *testing.F) {
	f.Add([]byte("400000-402000 r-xp 0 fe:00 7 /usr/bin/press\nAnonymous: 4 kB\nSwap: 8 kB\nffffffffffffffff-0 rw-p\n"))
	f.Add([]byte("pos:\t0\nflags:\t0100002\nmnt_id:\t2\niff:\ttap3\n"))
	f.Add([]byte("26 1 8:1 / /a\\040b rw - ext4 /dev/sda1 rw\n"))
	f.Add([]byte("Filename Type\n/dev/sda3 partition 1024 16 -2\n"))
	f.Add([]byte("8:0"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, m := range ParseMounts(b) {
			if m.Device < 0 {
				t.Fatalf("negative: %+v", m)
			}
		}
		for _, s := range ParseSwaps(b) {
			if min(s.SizeBytes, s.UsedBytes) < 0 {
				t.Fatalf("negative: %+v", s)
			}
		}
		EachMapping(b, func(m Mapping) {
			if m.Size == 0 {
				t.Fatal("an area of nothing")
			}
		})
		Writable(b)
		MountOf(b)
		DeviceNumber(b)
	})
}

func TestFdinfo_TellsHowAndWhereADescriptorWasOpened(t *testing.T) {
	for fdinfo, want := range map[string]struct {
		writable bool
		mount    int64
	}{
		"pos:\t0\nflags:\t0100002\nmnt_id:\t29\nino:\t7\n": {true, 29}, // O_RDWR
		"pos:\t0\nflags:\t0100001\nmnt_id:\t2\n":           {true, 2},  // O_WRONLY
		"pos:\t2\nflags:\t0100000\nmnt_id:\t2\n":           {false, 2},
		"flags:\todd\nmnt_id:\todd\n":                      {false, 0},
		"":                                                 {false, 0},
	} {
		assert.Equal(t, want.writable, Writable([]byte(fdinfo)), "%q", fdinfo)
		assert.Equal(t, want.mount, MountOf([]byte(fdinfo)), "%q", fdinfo)
	}
}
