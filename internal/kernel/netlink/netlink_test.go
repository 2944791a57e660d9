package netlink

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
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
	assert.Equal(t, []int32{77, 77, 5}, []int32{x.PID, x.TGID, x.Parent})
	assert.Equal(t, int64(9_800), x.Start, "it began two seconds ago, in ticks since boot")
	assert.Equal(t, int64(1_500_000), x.Run)
	assert.Equal(t, int64(4096), x.Written)
	assert.Equal(t, "tally", string(x.Comm[:5]))
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
	b := append(append(socket, newAttribute(2, info)...), newAttribute(21, group)...)
	x, ok := parseSocket(b)
	require.True(t, ok)
	assert.Equal(t, tcpSocket{group: 4711, sent: 500, received: 700}, x)
	copy(b[24:], []byte{10, 0, 0, 1})
	x, _ = parseSocket(b)
	assert.True(t, x.local, "to its own address: it leaves no host")
}

// FuzzAnswers holds the parsers of what the kernel answers to requests to their promise on any bytes: no panic, no
// endless loop, nothing negative.
func FuzzAnswers(f *testing.F) {
	f.Add(taskstats(1, 2, 3, 4, 5))
	f.Add(append(make([]byte, unix.SizeofIfInfomsg),
		append(newAttribute(unix.IFLA_IFNAME, []byte("veth3\x00")),
			newAttribute(unix.IFLA_LINK_NETNSID, make([]byte, 4))...)...))
	f.Add(newRequest(20, 1, make([]byte, 72), newAttribute(2, make([]byte, 140)),
		newAttribute(21, make([]byte, 8))))
	f.Add([]byte{3, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		eachMessage(b, func(_ uint16, payload []byte) {
			eachAttribute(payload, func(uint16, []byte) {})
			if err := errorIn(payload); len(payload) < 4 && err == nil {
				t.Fatal("an answer that is too short is no acknowledgement")
			}
		})
		if x, ok := parseTaskstats(b, 1<<50); ok && min(x.Run, x.User, x.System, x.Read, x.Written, x.Start) < 0 {
			t.Fatalf("negative: %+v", x)
		}
		if x, ok := parseSocket(b); ok && min(x.sent, x.received) < 0 {
			t.Fatalf("negative: %+v", x)
		}
		if l, ok := parseLink(b); ok && (l.index <= 0 || l.name == "") {
			t.Fatalf("%+v", l)
		}
		namespaceNumber(b)
	})
}
