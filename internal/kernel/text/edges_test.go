package text

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"vinescale/core/account"
)

// These tests give every field a figure of its own and put figures on the bounds of what is believed.

func TestParse_EveryFieldIsTakenFromItsPlace(t *testing.T) {
	cpus, ok := ParseCPUs([]byte("cpu  9 9 9 9 9 9 9 9\ncpu3 1 2 3 4 5 6 7 8 9 10\nintr 5\n"), nil)
	assert.True(t, ok)
	assert.Equal(t,
		[]account.CPUTimes{{CPU: 3, User: 10_000, Nice: 20_000, System: 30_000, Idle: 40_000, IOWait: 50_000,
			IRQ: 60_000, SoftIRQ: 70_000, Steal: 80_000}}, cpus)

	d, name, ok := DiskLine([]byte("   8      16 sdb 3 4 5 6 7 8 9 10 11 12 13"))
	assert.True(t, ok)
	assert.Equal(t, "sdb", string(name))
	assert.Equal(t, account.Disk{Major: 8, Minor: 16, ReadOps: 3, ReadMerged: 4, ReadBytes: 5 * 512, ReadMillis: 6,
		WriteOps: 7, WriteMerged: 8, WrittenBytes: 9 * 512, WriteMillis: 10, InFlight: 11, BusyMillis: 12,
		QueueMillis: 13}, d)

	d, _, ok = DiskLine([]byte("8 16 sdb 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20"))
	assert.True(t, ok)
	assert.Equal(t, account.Disk{Major: 8, Minor: 16, ReadOps: 3, ReadMerged: 4, ReadBytes: 5 * 512, ReadMillis: 6,
		WriteOps: 7, WriteMerged: 8, WrittenBytes: 9 * 512, WriteMillis: 10, InFlight: 11, BusyMillis: 12,
		QueueMillis: 13, Discards: 14, DiscardedBytes: 16 * 512, DiscardMillis: 17, Flushes: 18, FlushMillis: 19}, d)
	d, _, ok = DiskLine([]byte("8 16 sdb 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17"))
	assert.True(t, ok, "a kernel that tells of discards and not yet of flushes")
	assert.EqualValues(t, []int64{14, 16 * 512, 17, 0},
		[]int64{d.Discards, d.DiscardedBytes, d.DiscardMillis, d.Flushes})

	visited := 0
	assert.True(t,
		InterfaceLines([]byte("Inter-| Receive\nuplink0: 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16\nshort: 1 2\n"),
			func(name []byte, n *account.Interface) {
				visited++
				assert.Equal(t, "uplink0", string(name))
				assert.Equal(t, account.Interface{Received: 1, ReceivedPackets: 2, ReceivedErrors: 3,
					ReceivedDropped: 4,
					Sent:            9, SentPackets: 10, SentErrors: 11, SentDropped: 12}, *n)
			}))
	assert.Equal(t, 1, visited)

	some, full, ok := ParsePressure([]byte("some avg10=0.00 avg60=0.00 total=12\nfull avg10=0.00 total=34\n"))
	assert.True(t, ok)
	assert.Equal(t, []int64{12, 34}, []int64{some, full})

	load, ok := ParseLoad([]byte("0.10 2.25 13.50 1/2 3\n"))
	assert.True(t, ok)
	assert.Equal(t, [3]float64{0.1, 2.25, 13.5}, load)

	pages, ok := ParseStatm([]byte("900 70 30 1 0 2 0\n"))
	assert.True(t, ok)
	assert.Equal(t, int64(40), pages)

	read, written, ok := ParseIO([]byte("rchar: 9\nread_bytes: 100\nwrite_bytes: 70\ncancelled_write_bytes: 30\n"))
	assert.True(t, ok)
	assert.Equal(t, []int64{100, 40}, []int64{read, written}, "what was dropped before it was written is taken off")

	uid, allowed, ok := ParseStatus([]byte("Name:\tpress\nUid:\t2001\t0\t0\t0\nCpus_allowed_list:\t2-5,9\nMems:\t0\n"))
	assert.True(t, ok)
	assert.Equal(t, int64(2001), uid)
	assert.Equal(t, "2-5,9", string(allowed))

	mounts := ParseMounts([]byte("27 26 8:2 /a\\134 /b - xfs /dev/sda2 rw,noquota\n28 26 8:3 / /c - xfs /dev/sda3\n" +
		"29 26 8:4 / /d rw - xfs /dev/sda4 rw\n30 26 8:5 / /e rw shared:1 master:2 odd\n"))
	var got []string
	for _, m := range mounts {
		got = append(got, fmt.Sprint(m.ID, m.Device, m.Root, m.At, m.Kind, m.Options))
	}
	assert.Contains(t, got, fmt.Sprint(int64(29), int32(8<<20|4), "/", "/d", "xfs", "rw"))
	assert.NotContains(t, fmt.Sprint(got), "/e", "a line without what is mounted is none")
}

func TestParse_BelievesUpToABound(t *testing.T) {
	for n, want := range map[int64]bool{1 << 48: true, 1<<48 + 1: false} {
		_, ok := ParseCPUs(fmt.Appendf(nil, "cpu0 %d 1 1 1 1 1 1 1\n", n), nil)
		assert.Equal(t, want, ok)
		_,
			ok = ParseStat(fmt.Appendf(nil,
			"4 (a) S 1 1 1 0 -1 0 0 0 0 0 %d 5 7 7 20 0 3 0 47 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 17 5\n",
			n))
		assert.Equal(t, want, ok)
	}
	for n, want := range map[int64]bool{1 << 61: true, 1<<61 + 1: false} {
		_, _, ok := ParseIO(fmt.Appendf(nil, "read_bytes: %d\nwrite_bytes: 1\ncancelled_write_bytes: 0\n", n))
		assert.Equal(t, want, ok)
		_, _, ok = ParseIO(fmt.Appendf(nil, "read_bytes: 1\nwrite_bytes: %d\ncancelled_write_bytes: 0\n", n))
		assert.Equal(t, want, ok)
	}
	for n, want := range map[int64]bool{1 << 50: true, 1<<50 + 1: false} {
		_, ok := ParseStatm(fmt.Appendf(nil, "1 %d 1\n", n))
		assert.Equal(t, want, ok)
		assert.Equal(t, want, len(ParseSwaps(fmt.Appendf(nil, "Filename\n/dev/sda3 partition %d 1 -2\n", n))) == 1)
		assert.Equal(t, want, len(ParseSwaps(fmt.Appendf(nil, "Filename\n/dev/sda3 partition 1 %d\n", n))) == 1)
	}
	for device, want := range map[string]bool{"4096:1048576": true, "4097:0": false, "0:1048577": false, "8": false} {
		_, _, ok := DeviceNumber([]byte(device))
		assert.Equal(t, want, ok, device)
	}
	for part, want := range map[string]bool{"1.123456": true, "1.1234567": false, "1": true, "1.": false} {
		_, ok := Hundredths([]byte(part))
		assert.Equal(t, want, ok, part)
	}
	_, ok := ParseCPUs(nil, nil)
	assert.False(t, ok)
	_, ok = ParseMeminfo([]byte("MemTotal: 0 kB\n"))
	assert.False(t, ok)
}

func TestParse_BelievesDevicesUpToABound(t *testing.T) {
	for n, want := range map[int64]bool{1 << 53: true, 1<<53 + 1: false} {
		_, _, ok := DiskLine(fmt.Appendf(nil, "8 0 sda %d 1 1 1 1 1 1 1 1 1 1", n))
		assert.Equal(t, want, ok)
	}
	for line, want := range map[string]bool{
		"4096:1 rbytes=1": true, "4097:1 rbytes=1": false, "8:1048576 rbytes=1": true, "8:1048577 rbytes=1": false,
		"8:0 wios=1152921504606846976": true, "8:0 wios=1152921504606846977": false,
	} {
		_, ok := IOStat([]byte(line+"\n"), nil)
		assert.Equal(t, want, ok, line)
	}
	for cpu, want := range map[string]bool{"cpu65536": true, "cpu65537": false, "cpux": false} {
		_, ok := ParseCPUs([]byte(cpu+" 1 1 1 1 1 1 1 1\n"), nil)
		assert.Equal(t, want, ok, cpu)
	}
}

func TestParse_ALineThatEndsEarlyIsNone(t *testing.T) {
	mounts := ParseMounts(
		[]byte("26 1 8:1 / /a rw - ext4 /dev/sda1\n27 1 8:1 / /b rw x y -\n28 1 8:1 / /c rw - ext4\n" +
			"29 1 8:1 / /d rw x y ext4 -"))
	if assert.Len(t, mounts, 1, "without options of the filesystem, or with nothing behind the dash") {
		assert.Equal(t, Mount{ID: 26, Device: 8<<20 | 1, Root: "/", At: "/a", Kind: "ext4"}, mounts[0])
	}
	for escaped, plain := range map[string]string{`a\054`: "a,", `\054b`: ",b", `vintage\05`: `vintage\05`, `\`: `\`,
		`a\999`: `a\999`} {
		assert.Equal(t, plain, UnescapeOctal(escaped))
	}
	n, ok := Keyed([]byte("Uid\nUidx 3\nUid:\t7\n"), "Uid")
	assert.True(t, ok)
	assert.Equal(t, int64(7), n)
	n, ok = Keyed([]byte("populated 1\n"), "populated")
	assert.True(t, ok)
	assert.Equal(t, int64(1), n)
	assert.Empty(t, TrimNewline([]byte(" \n")))
	got := map[string]int64{}
	assert.True(t, EachKeyed([]byte("usage_usec 7\n\nnr_periods 8\n"),
		func(key []byte, value int64) { got[string(key)] = value }))
	assert.Equal(t, map[string]int64{"usage_usec": 7, "nr_periods": 8}, got, "an empty line tells nothing")
	assert.False(t, EachKeyed([]byte("usage_usec many\n"), func([]byte, int64) {}))
	visited := 0
	assert.False(t, InterfaceLines([]byte(":\n"), func([]byte, *account.Interface) { visited++ }))
	some, _, ok := ParsePressure([]byte("total=5\nsome total=6\n"))
	assert.True(t, ok)
	assert.Equal(t, int64(6), some)
}

func TestMappings_AreReadByTheirHeads(t *testing.T) {
	var got []Mapping
	EachMapping([]byte("1000-3000 r- 0 8:1 7 /lib/a\nAnonymous: 4 kB\n3000-3000 rw-p 0 0:0 0\n4000-5000 r\n"+
		"Swap: none\n5000-6000 -w 0 8:1 7 /b\n"), func(m Mapping) { got = append(got, m) })
	assert.Equal(t, []Mapping{{Start: 0x1000, Size: 0x2000, file: "/lib/a", anonymousKiB: 4},
		{Start: 0x4000, Size: 0x1000, SwappedKiB: -1}, {Start: 0x5000, Size: 0x1000, file: "/b", writable: true}}, got,
		"an empty one is none; what is no number is not known")
}

func TestLocalAddresses_AreThoseANamespaceHasItself(t *testing.T) {
	var got []string
	add := func(a netip.Addr) { got = append(got, a.String()) }
	LocalIPv4([]byte(`Main:
  +-- 0.0.0.0/0 3 0 5
     |-- 0.0.0.0
        /0 universe UNICAST
     +-- 10.9.0.0/24 2 0 2
        |-- 10.9.0.0
           /24 link UNICAST
        |-- 10.9.0.2
           /32 host LOCAL
        |-- 10.9.0.7
           /32 link UNICAST
           /32 host LOCAL
        |-- 10.9.0.255
           /32 link BROADCAST
        |-- no address
           /32 host LOCAL
`), add)
	LocalIPv6([]byte("fe8000000000000000fc00fffe000001 04 40 20 80     eth0\n"+
		"fd000000000000000000000000000002 04 40 00 82     eth0\nshort\nzz000000000000000000000000000002 04\n"), add)
	assert.Equal(t, []string{"10.9.0.2", "10.9.0.7", "fd00::2"}, got)
}
