package text

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
)

func TestParseStat_TheNameMayHoldAnything(t *testing.T) {
	const rest = " S 1 1 1 0 -1 4194560 0 0 0 0 150 50 7 7 20 0 3 0 4711 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 5 0 0 0 0 0\n"
	for _, name := range []string{"intake", "a b", ") R 9 (", "((", "\x1b[31m", ""} {
		s, ok := ParseStat([]byte("42 (" + name + ")" + rest))
		require.True(t, ok, "%q", name)
		assert.Equal(t, name, string(s.Comm))
		assert.Equal(t, int64(150*TickMicros), s.User)
		assert.Equal(t, int64(50*TickMicros), s.System)
		assert.Equal(t, int64(4711), s.Start)
		assert.Equal(t, int32(5), s.CPU)
		assert.Equal(t, int32(3), s.Threads)
		assert.False(t, s.Kernel)
	}
}

func TestParse_TheRealFilesOfThisKernel(t *testing.T) {
	read := func(name string) []byte {
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		return b
	}
	s, ok := ParseStat(read("/proc/self/stat"))
	require.True(t, ok)
	assert.Positive(t, s.Threads)
	cpus, ok := ParseCPUs(read("/proc/stat"), nil)
	require.True(t, ok)
	assert.NotEmpty(t, cpus)
	memory, ok := ParseMeminfo(read("/proc/meminfo"))
	require.True(t, ok)
	assert.Greater(t, memory.Total, memory.Free)
	_, ok = ParseStatm(read("/proc/self/statm"))
	assert.True(t, ok)
	uid, allowed, ok := ParseStatus(read("/proc/self/status"))
	assert.True(t, ok)
	assert.Equal(t, int64(os.Getuid()), uid)
	assert.NotEmpty(t, allowed)
	_, ok = ParseLoad(read("/proc/loadavg"))
	assert.True(t, ok)
	assert.True(t, InterfaceLines(read("/proc/self/net/dev"), func([]byte, *account.Interface) {}))
}

func TestIOStat_TellsDevicesApart(t *testing.T) {
	const file = "8:0 rbytes=100 wbytes=20 rios=3 wios=1 dbytes=5 dios=1\n253:0 rbytes=100 wbytes=20 rios=1 " +
		"wios=1\n(unknown) rbytes=0 wbytes=20 rios=3 wios=1\n8:16 \n"
	devices, ok := IOStat([]byte(file), nil)
	require.True(t, ok)
	assert.Equal(t, []account.DeviceIO{
		{Major: 8, Read: 100, Written: 20, ReadOps: 3, WriteOps: 1, Discarded: 5, Discards: 1},
		{Major: 253, Read: 100, Written: 20, ReadOps: 1, WriteOps: 1}, {Major: 8, Minor: 16},
	}, devices)
}

func TestMeminfo_HugePagesAreOfAllSizesWhereThatIsTold(t *testing.T) {
	const usual = "MemTotal: 1000000 kB\nHugePages_Total: 10\nHugePages_Free: 4\nHugepagesize: 2048 kB\n"
	for text, want := range map[string]int64{"MemTotal: 10 kB\n": 0, usual: 20 << 20,
		usual + "Hugetlb: 1069056 kB\n": 1069056 << 10} {
		m, ok := ParseMeminfo([]byte(text))
		require.True(t, ok)
		assert.Equal(t, want, m.HugePages)
	}
}

// FuzzParsers holds every parser to its promise on any input: no panic, no endless loop, nothing negative.
func FuzzParsers(f *testing.F) {
	for _, seed := range []string{
		"42 (a) S 1 1 1 0 -1 4194560 0 0 0 0 150 50 7 7 20 0 3 0 4711 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 5 0 0 0 0 0\n",
		"cpu  1 2 3\ncpu0 1 2 3 4 5 6 7 8 9 10\n", "MemTotal: 10 kB\n",
		"MemTotal: 10 kB\nHugePages_Total: 999999999999\nHugepagesize: 999999999999 kB\n",
		"some avg10=0.00 total=12\nfull total=3\n", "0.10 0.20 0.30 1/2 3\n",
		"eth0: 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16\n", " 8 0 sda 1 2 3 4 5 6 7 8 9 10 11\n",
		"8:0 rbytes=1 wbytes=2\n", "usage_usec 12\n",
		"read_bytes: 1\nwrite_bytes: 2\ncancelled_write_bytes: 3\n", "10 20 30\n",
		"Uid:\t1\t1\n\nCpus_allowed_list:\t0-3\n",
		"99999999999999999999", "\x00\xff", "-1 (", "cpu0 9223372036854775807 9223372036854775807 1 1 1 1 1 1",
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, ok := ParseStat(b); ok && (s.User < 0 || s.System < 0 || s.Start < 0) {
			t.Fatalf("negative: %+v", s)
		}
		if n, ok := ParseStatm(b); ok && n < 0 {
			t.Fatal(n)
		}
		if read, written, ok := ParseIO(b); ok && (read < 0 || written < 0 || read+written < 0) {
			t.Fatal(read, written)
		}
		if cpus, ok := ParseCPUs(b, nil); ok {
			for _, c := range cpus {
				if min(c.User, c.Idle, c.Steal) < 0 {
					t.Fatalf("negative: %+v", c)
				}
			}
		}
		if devices, ok := IOStat(b, nil); ok {
			for _, d := range devices {
				if min(d.Read, d.Written, d.ReadOps, d.WriteOps) < 0 {
					t.Fatalf("negative: %+v", d)
				}
			}
		}
		if m, ok := ParseMeminfo(b); ok && min(m.Total, m.Free, m.HugePages, m.SwapFree) < 0 {
			t.Fatalf("negative: %+v", m)
		}
		ParsePressure(b)
		ParseLoad(b)
		ParseStatus(b)
		InterfaceLines(b, func(_ []byte, n *account.Interface) {
			if min(n.Received, n.Sent, n.ReceivedPackets, n.SentDropped) < 0 {
				t.Fatalf("negative: %+v", n)
			}
		})
		EachKeyed(b, func(_ []byte, n int64) {
			if n < 0 {
				t.Fatal(n)
			}
		})
		DiskLine(b)
		for _, key := range []string{"usage_usec", ""} {
			if n, ok := Keyed(b, key); ok && n < 0 {
				t.Fatal(n)
			}
		}
	})
}
