package text

import (
	"fmt"
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

	d, name, ok := DiskLine([]byte("   8      16 sdb 3 4 5 6 7 8 9 10 11 12 13 99"))
	assert.True(t, ok)
	assert.Equal(t, "sdb", string(name))
	assert.Equal(t, account.Disk{Major: 8, Minor: 16, ReadOps: 3, ReadMerged: 4, ReadBytes: 5 * 512, ReadMillis: 6,
		WriteOps: 7, WriteMerged: 8, WrittenBytes: 9 * 512, WriteMillis: 10, InFlight: 11, BusyMillis: 12,
		QueueMillis: 13}, d)

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
