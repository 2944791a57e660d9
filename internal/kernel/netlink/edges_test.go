package netlink

import (
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// u32 and u64 are numbers as they stand in a message.
func u32(n uint32) []byte { return binary.NativeEndian.AppendUint32(nil, n) }
func u64(n uint64) []byte { return binary.NativeEndian.AppendUint64(nil, n) }

// join puts the parts of a message together.
func join(parts ...[]byte) (b []byte) {
	for _, p := range parts {
		b = append(b, p...)
	}
	return b
}

func TestMessages_AreVisitedOneAfterAnother(t *testing.T) {
	type message struct {
		kind uint16
		size int
	}
	read := func(b []byte) (got []message, sound bool) {
		sound = eachMessage(b, func(kind uint16, payload []byte) { got = append(got, message{kind, len(payload)}) })
		return got, sound
	}
	odd := newRequest(7, 0, []byte{1, 2, 3, 4, 5}) // is padded to a whole multiple of four
	got, sound := read(join(odd, []byte{0, 0, 0}, newRequest(8, 0, nil)))
	assert.True(t, sound)
	assert.Equal(t, []message{{7, 5}, {8, 0}}, got)
	got, sound = read(odd)
	assert.True(t, sound, "the last need not be padded")
	assert.Equal(t, []message{{7, 5}}, got)
	for _, n := range []uint32{0, unix.SizeofNlMsghdr - 1, unix.SizeofNlMsghdr + 1} {
		b := newRequest(7, 0, nil)
		copy(b, u32(n))
		got, sound = read(b)
		assert.False(t, sound, "a length of %d", n)
		assert.Empty(t, got)
	}
	got, sound = read(newRequest(7, 0, nil)[:unix.SizeofNlMsghdr-1])
	assert.True(t, sound)
	assert.Empty(t, got, "less than a header is no message")
}

func TestAttributes_AreVisitedOneAfterAnother(t *testing.T) {
	type attribute struct {
		kind  uint16
		value string
	}
	read := func(b []byte) (got []attribute, sound bool) {
		sound = eachAttribute(b, func(kind uint16, value []byte) { got = append(got, attribute{kind, string(value)}) })
		return got, sound
	}
	assert.Equal(t, []byte{9, 0, 3, 0, 'p', 'r', 'e', 's', 's', 0, 0, 0}, newAttribute(3, []byte("press")))
	got, sound := read(join(newAttribute(3, []byte("press")), newAttribute(4|0x8000, nil)))
	assert.True(t, sound)
	assert.Equal(t, []attribute{{3, "press"}, {4, ""}}, got, "flags are no part of the type")
	for _, n := range []byte{0, 3, 5} {
		got, sound = read([]byte{n, 0, 3, 0})
		assert.False(t, sound, "a length of %d", n)
		assert.Empty(t, got)
	}
}

func TestErrorIn_TellsARefusalFromAnAcknowledgement(t *testing.T) {
	assert.ErrorIs(t, errorIn(u32(1)[:3]), text.ErrGarbage)
	assert.NoError(t, errorIn(u32(0)))
	refused := -int32(unix.EPERM)
	assert.ErrorIs(t, errorIn(u32(uint32(refused))), syscall.EPERM)
}

// wholeTaskstats has another number in each field.
func wholeTaskstats() []byte {
	b := make([]byte, 372)
	for at, n := range map[int]uint64{24: 11, 72: 12, 144: 3_000_000, 152: 13, 160: 14, 248: 15, 256: 16, 264: 17} {
		copy(b[at:], u64(n))
	}
	for at, n := range map[int]uint32{120: 2001, 128: 77, 132: 5, 368: 70} {
		copy(b[at:], u32(n))
	}
	copy(b[80:], "tally")
	return b
}

func TestTaskstats_EveryFieldIsWhereTheKernelPutsIt(t *testing.T) {
	want := Exit{PID: 77, TGID: 70, Parent: 5, UID: 2001, Start: 700, Run: 12, User: 13_000, System: 14_000, Waited: 11,
		Read: 15, Written: 16, Cancelled: 17}
	copy(want.Comm[:], "tally")
	const now = 10_000_000_000
	got, ok := parseTaskstats(wholeTaskstats(), now)
	require.True(t, ok)
	assert.Equal(t, want, got)

	want.TGID = 77 // an older kernel's record ends before it
	for _, size := range []int{371, 272} {
		got, ok = parseTaskstats(wholeTaskstats()[:size], now)
		require.True(t, ok)
		assert.Equal(t, want, got)
	}
	_, ok = parseTaskstats(wholeTaskstats()[:271], now)
	assert.False(t, ok, "too short")

	idle := wholeTaskstats()
	copy(idle[72:], u64(0))
	got, _ = parseTaskstats(idle, now)
	assert.Equal(t, int64(27_000), got.Run, "where run time is not counted, user and system time are")
	copy(idle[128:], u32(0))
	_, ok = parseTaskstats(idle, now)
	assert.False(t, ok, "no task has the number 0")
	copy(idle[144:], u64(1<<63))
	got, _ = parseTaskstats(idle, now)
	assert.Zero(t, got.Start, "nothing began before the boot")
}

func TestLink_EveryFieldIsRead(t *testing.T) {
	head := make([]byte, unix.SizeofIfInfomsg)
	copy(head[4:], u32(9))
	name := newAttribute(unix.IFLA_IFNAME, []byte("veth3\x00"))
	whole := join(head, name, newAttribute(unix.IFLA_LINK, u32(4)), newAttribute(unix.IFLA_LINK_NETNSID, u32(6)),
		newAttribute(unix.IFLA_LINKINFO, newAttribute(unix.IFLA_INFO_KIND, []byte("veth\x00"))))
	l, ok := parseLink(whole)
	require.True(t, ok)
	assert.Equal(t, link{index: 9, peer: 4, space: 6, name: "veth3", kind: "veth"}, l)
	l, ok = parseLink(join(head, name))
	require.True(t, ok)
	assert.Equal(t, link{index: 9, space: -1, name: "veth3"}, l, "its other end is in this namespace")
	l, ok = parseLink(join(head, name, newAttribute(unix.IFLA_LINK, u32(4)[:3]),
		newAttribute(unix.IFLA_LINK_NETNSID, u32(6)[:3]),
		newAttribute(unix.IFLA_LINKINFO, newAttribute(unix.IFLA_INFO_KIND, []byte{0}))))
	require.True(t, ok)
	assert.Equal(t, link{index: 9, space: -1, name: "veth3"}, l, "what is of no such size is not read")
	for why, b := range map[string][]byte{
		"too short": head[:unix.SizeofIfInfomsg-1], "no name": head,
		"an empty name":          join(head, newAttribute(unix.IFLA_IFNAME, []byte{0})),
		"no number":              join(make([]byte, unix.SizeofIfInfomsg), name),
		"an attribute cut short": whole[:len(whole)-3],
	} {
		_, ok := parseLink(b)
		assert.False(t, ok, why)
	}
}

func TestNamespace_HasANumberOrNone(t *testing.T) {
	number, ok := namespaceNumber(join(make([]byte, 4), newAttribute(unix.NETNSA_NSID, u32(3))))
	assert.True(t, ok)
	assert.Equal(t, int32(3), number)
	_, ok = namespaceNumber([]byte{0, 0, 0})
	assert.False(t, ok)
	for _, other := range [][]byte{newAttribute(unix.NETNSA_PID, u32(3)), newAttribute(unix.NETNSA_NSID, u32(3)[:2])} {
		_, ok = namespaceNumber(join(make([]byte, 4), other))
		assert.False(t, ok)
	}
}

func TestSocket_EveryFieldIsWhereTheKernelPutsIt(t *testing.T) {
	head := make([]byte, 72)
	copy(head[44:], u64(1<<40+1))
	copy(head[68:], u32(99))
	info := make([]byte, 136)
	copy(info[120:], u64(500))
	copy(info[128:], u64(700))
	six := func(to byte) []byte {
		b := join(head)
		b[0], b[8+15], b[24+15] = unix.AF_INET6, 1, to
		copy(b[8:], []byte{0x20, 1, 0xd, 0xb8})
		copy(b[24:], []byte{0x20, 1, 0xd, 0xb8})
		return b
	}
	x, ok := parseSocket(join(six(2), newAttribute(2, info), newAttribute(21, u64(4711))))
	require.True(t, ok)
	assert.Equal(t, tcpSocket{id: socketID{1<<40 + 1, 99}, group: 4711, sent: 500, received: 700}, x)
	x, _ = parseSocket(six(1))
	assert.True(t, x.local, "to its own address")
	loop := join(head)
	loop[0], loop[8], loop[24] = unix.AF_INET, 10, 127
	x, _ = parseSocket(loop)
	assert.True(t, x.local, "to loopback")
	x, ok = parseSocket(join(six(2), newAttribute(2, info[:135]), newAttribute(21, u64(4711)[:7])))
	assert.True(t, ok)
	assert.Equal(t, tcpSocket{id: socketID{1<<40 + 1, 99}}, x, "what is cut short is not read")
	_, ok = parseSocket(six(2)[:71])
	assert.False(t, ok)
	copy(info[120:], u64(1<<63))
	x, _ = parseSocket(join(six(2), newAttribute(2, info)))
	assert.Positive(t, x.sent, "no count is negative")
}

// TestExits_AreToldByThisKernel ends a process and finds its record.
func TestExits_AreToldByThisKernel(t *testing.T) {
	e := ListenExits()
	defer e.Close()
	if e.Missing() != "" {
		require.NotZero(t, os.Geteuid(), "root may listen, but %s", e.Missing())
		return
	}
	c := exec.Command("/bin/sh", "-c", "i=0; while [ $i -lt 30000 ]; do i=$((i+1)); done")
	require.NoError(t, c.Run())
	var found *Exit
	require.Eventually(t, func() bool {
		ended, lost := e.Take()
		require.Zero(t, lost)
		for i := range ended {
			if int(ended[i].PID) == c.ProcessState.Pid() {
				found = &ended[i]
			}
		}
		return found != nil
	}, 3*time.Minute, 10*time.Millisecond)
	assert.Equal(t, int32(os.Getpid()), found.Parent)
	assert.Equal(t, found.PID, found.TGID)
	assert.Positive(t, found.Run)
	assert.Equal(t, "sh", string(found.Comm[:2]))
	assert.Equal(t, "not asked for", (*Exits)(nil).Missing())
	(*Exits)(nil).Close()
}

// alone has a test run by a process of its own, in a network namespace where nothing else moves. It is true there.
func alone(t *testing.T) bool {
	const mark = "VINESCALE_ALONE"
	if os.Getenv(mark) == "" {
		again := exec.Command(os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v")
		again.Env = append(os.Environ(), mark+"=yes")
		again.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWNET}
		if os.Geteuid() != 0 { // who is no root is one in a user namespace
			again.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWUSER | unix.CLONE_NEWNET,
				UidMappings: []syscall.SysProcIDMap{{HostID: os.Getuid(), Size: 1}},
				GidMappings: []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}}}
		}
		out, err := again.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return false
	}
	out, err := exec.Command("/sbin/ip", "link", "set", "lo", "up").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return true
}

// TestSockets_CountWhatALoopbackConnectionMoves sends bytes to and fro and reads them off the kernel.
func TestSockets_CountWhatALoopbackConnectionMoves(t *testing.T) {
	if !alone(t) {
		return
	}
	s := OpenSockets()
	require.Empty(t, s.Missing())
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	there, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	defer there.Close()
	here, err := listener.Accept()
	require.NoError(t, err)
	defer here.Close()
	send := func(n int) {
		_, err := there.Write(make([]byte, n))
		require.NoError(t, err)
		_, err = io.ReadFull(here, make([]byte, n))
		require.NoError(t, err)
	}
	sums := func() (received, sent int64) {
		for _, by := range s.Local {
			received, sent = received+by[0], sent+by[1]
		}
		return received, sent
	}
	send(5000)
	require.NoError(t, s.Read())
	received, sent := sums()
	assert.Zero(t, received+sent, "what moved before the first reading belongs to no time")
	known := maps.Clone(s.seen)
	send(70_000)
	require.NoError(t, s.Read())
	received, sent = sums()
	assert.Equal(t, int64(70_000), received, "the first bytes are not in it")
	assert.GreaterOrEqual(t, sent, int64(60_000), "what was sent counts when it is acknowledged")
	assert.LessOrEqual(t, sent, int64(75_001), "the first bytes may be acknowledged later; nothing is counted twice")
	there.Close()
	here.Close()
	require.NoError(t, s.Read())
	require.Len(t, known, 2)
	for id := range known { // that which ended first is kept by the kernel for a while, and is no one's
		assert.NotContains(t, s.seen, id, "sockets that are gone are forgotten")
	}
	assert.Equal(t, "not asked for", (*Sockets)(nil).Missing())
}

// TestPairs_AreAskedOfThisKernel makes a pair of interfaces that leads into another network namespace, and one that
// does not, in a namespace of its own.
func TestPairs_AreAskedOfThisKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		_, err := Pairs(nil)
		assert.NoError(t, err, "who may make no namespace may ask all the same")
		return
	}
	done := make(chan struct{})
	go func() { // its thread is in another namespace, and ends with it
		defer close(done)
		runtime.LockOSThread()
		if !assert.NoError(t, unix.Unshare(unix.CLONE_NEWNET)) {
			return
		}
		other := exec.Command("/usr/bin/unshare", "-n", "sleep", "60")
		if !assert.NoError(t, other.Start()) {
			return
		}
		defer func() {
			assert.NoError(t, other.Process.Kill())
			_ = other.Wait() // it was killed
		}()
		inode := func(of string) uint64 {
			var st unix.Stat_t
			assert.NoError(t, unix.Stat(of, &st))
			return st.Ino
		}
		own := inode("/proc/thread-self/ns/net")
		there := fmt.Sprintf("/proc/%d/ns/net", other.Process.Pid)
		assert.Eventually(t, func() bool { return inode(there) != own }, 3*time.Minute, 5*time.Millisecond)
		for _, words := range []string{"must0 type veth peer name must1",
			fmt.Sprintf("press0 type veth peer name press1 netns %d", other.Process.Pid)} {
			out, err := exec.Command("ip", append([]string{"link", "add"},
				strings.Fields(words)...)...).CombinedOutput()
			if !assert.NoError(t, err, string(out)) {
				return
			}
		}
		ends, err := Pairs(map[uint64]int32{inode(there): int32(other.Process.Pid), 1: 1<<22 - 1})
		assert.NoError(t, err)
		assert.Equal(t, map[string]uint64{"press0": inode(there)}, ends.Spaces)
		assert.Equal(t, map[string]string{"must0": "must1", "must1": "must0"}, ends.Peers)
		assert.Equal(t, "veth", ends.Kinds["press0"])
		assert.NotContains(t, ends.Kinds, "lo")
	}()
	<-done
}
