package guest

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// container is a cgroup that is recognised as an OCI container, by what its runtime says of it.
func container(t *testing.T, id string) string {
	id = strings.Repeat(id, 64)[:64]
	dir := group(t, id)
	state := filepath.Join("/run/runc", id, "state.json")
	require.NoError(t, os.MkdirAll(filepath.Dir(state), 0o755))
	raw, err := json.Marshal(map[string]any{
		"id": id, "init_process_pid": 1, "cgroup_paths": map[string]string{"": dir},
		"config": map[string]any{"labels": []string{"bundle=/vat/" + id}},
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(state, raw, 0o600))
	return dir
}

// root copies the burner to a directory, so that it can be a container's root.
func root(t *testing.T, dir string) {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	program, err := os.ReadFile("/burner")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/burner", program, 0o755))
}

// TestGuestSpaceIsToldByProjectAndByLayer gives one container a directory that is a project of its filesystem, and
// another an overlay.
func TestGuestSpaceIsToldByProjectAndByLayer(t *testing.T) {
	const bytes = 3 << 20
	one, two := container(t, "a1"), container(t, "b2")
	require.NoError(t, os.MkdirAll("/vat", 0o755))
	require.NoError(t, unix.Mount("/dev/vdb", "/vat", "ext4", 0, "prjquota"))
	t.Cleanup(func() { assert.NoError(t, unix.Unmount("/vat", unix.MNT_DETACH)) })
	require.NoError(t, os.Mkdir("/vat/project", 0o755))
	project(t, "/vat/project", 77, 16<<20)
	root(t, "/vat/project")
	require.NoError(t, unix.Mount("/vat/project", "/vat/project", "", unix.MS_BIND, ""))
	root(t, "/vat/lower")
	for _, dir := range []string{"/vat/upper", "/vat/work", "/vat/merged"} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	require.NoError(t, unix.Mount("overlay", "/vat/merged", "overlay", 0,
		"lowerdir=/vat/lower,upperdir=/vat/upper,workdir=/vat/work"))
	for dir, at := range map[string]string{one: "/vat/project", two: "/vat/merged"} {
		_, said := startAs(t, dir, &syscall.SysProcAttr{Chroot: at}, "contain", strconv.Itoa(bytes))
		require.True(t, said.Scan())
	}
	w := watch(t)
	w.read()

	u := w.usage(w.named(one))
	assert.Equal(t, amount.Container, w.registry.Workload(u.Workload).Kind)
	burner, err := os.Stat("/burner")
	require.NoError(t, err)
	assert.InDelta(t, bytes+burner.Size(), figure(t, u, amount.SpaceUsed)/w.sum.ElapsedMillis, 64<<10,
		"what its project has")
	assert.Equal(t, amount.Counted, u.Figures.Source[amount.SpaceUsed])
	assert.Equal(t, int64(16<<20), figure(t, u, amount.SpaceLimit)/w.sum.ElapsedMillis)
	assert.Equal(t, int64(3), figure(t, u, amount.SpaceFiles)/w.sum.ElapsedMillis)

	u = w.usage(w.named(two))
	assert.InDelta(t, bytes, figure(t, u, amount.SpaceUsed)/w.sum.ElapsedMillis, 64<<10,
		"its layer alone: the program is of its image")
	assert.Equal(t, amount.Summed, u.Figures.Source[amount.SpaceUsed])
}

// named is what a cgroup's workload is called.
func (w *watcher) named(dir string) string {
	for _, u := range w.sum.Usages {
		if x := w.registry.Workload(u.Workload); strings.Contains(x.Path, filepath.Base(dir)) {
			return x.Name
		}
	}
	return ""
}

// project makes a directory, and all that is made in it, a project with a limit (ioctl_xfs_fssetxattr(2), quotactl(2)).
func project(t *testing.T, dir string, number uint32, limit int64) {
	d, err := os.Open(dir)
	require.NoError(t, err)
	defer d.Close()
	const setXattr, inherit = 0x401c5820, 0x200
	x := [28]byte{}
	binary.NativeEndian.PutUint32(x[0:], inherit)
	binary.NativeEndian.PutUint32(x[12:], number)
	require.NoError(t, control(unix.SYS_IOCTL, d.Fd(), setXattr, &x))
	const setQuota, limits = 0x800008<<8 | 2, 1
	q := [72]byte{}
	binary.NativeEndian.PutUint64(q[0:], uint64(limit>>10))
	binary.NativeEndian.PutUint32(q[64:], limits)
	require.NoError(t, quota(d.Fd(), setQuota, number, &q))
}

// TestGuestSwapIsToldByDevice has a workload's pages on two swaps.
func TestGuestSwapIsToldByDevice(t *testing.T) {
	dir := cell(t, "cask", [2]string{"memory.max", "25165824"})
	for i, device := range []string{"/dev/vdc", "/dev/vdd"} {
		swapOn(t, device, 100-i) // the second when the first is full
	}
	w := watch(t)
	_, said := start(t, dir, "hold", "80", "0")
	require.True(t, said.Scan())
	w.read()
	w.sum = nil
	w.read()
	u := w.usage("cask")
	require.Len(t, u.Swapped, 2)
	sum := int64(0)
	for i, on := range u.Swapped {
		bytes := on.Units / w.sum.ElapsedMillis
		sum += bytes
		assert.Equal(t, []string{"/dev/vdc", "/dev/vdd"}[i], on.Swap)
		used := inSwaps(t, on.Swap)
		t.Logf("%s: %d of %d bytes in use", on.Swap, bytes, used)
		assert.InDelta(t, used, bytes, 2<<20, "nothing else is there")
	}
	assert.Greater(t, sum, int64(50<<20))
	assert.InDelta(t, figure(t, u, amount.MemorySwap)/w.sum.ElapsedMillis, sum, 2<<20, "as the kernel counts in all")
}

func inSwaps(t *testing.T, device string) int64 {
	for line := range strings.Lines(text("/proc/swaps")) {
		if f := strings.Fields(line); f[0] == device {
			n, err := strconv.ParseInt(f[3], 10, 64)
			require.NoError(t, err)
			return n << 10
		}
	}
	require.Fail(t, "no such swap", device)
	return 0
}

// swapOn makes a device a swap (the first page as mkswap(8) writes it) and switches it on with a priority.
func swapOn(t *testing.T, device string, priority int) {
	d, err := os.OpenFile(device, os.O_RDWR, 0)
	require.NoError(t, err)
	size, err := d.Seek(0, 2)
	require.NoError(t, err)
	page := make([]byte, 4096)
	binary.NativeEndian.PutUint32(page[1024:], 1)
	binary.NativeEndian.PutUint32(page[1028:], uint32(size/4096-1))
	copy(page[4086:], "SWAPSPACE2")
	_, err = d.WriteAt(page, 0)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	const prefer = 0x8000
	require.NoError(t, swap(unix.SYS_SWAPON, device, prefer|priority))
	t.Cleanup(func() { assert.NoError(t, swap(unix.SYS_SWAPOFF, device, 0)) })
}

// TestGuestNetworkIsToldByGroup sends over loopback between two cells of the host's network.
func TestGuestNetworkIsToldByGroup(t *testing.T) {
	const tcp, udp = 4_000_000, 500_000
	from, into := cell(t, "from"), cell(t, "into")
	w := watch(t)
	for protocol, bytes := range map[string]int{"tcp4": tcp, "udp4": udp} {
		_, in := start(t, into, "receive", protocol, strconv.Itoa(bytes))
		require.True(t, in.Scan())
		_, out := start(t, from, "send", protocol, strconv.Itoa(bytes), in.Text(), "keep")
		require.True(t, out.Scan())
		require.True(t, in.Scan())
	}
	time.Sleep(200 * time.Millisecond)
	w.read()
	sent, received := figure(t, w.usage("from"), amount.NetworkLocalSent),
		figure(t, w.usage("into"), amount.NetworkLocalReceived)
	t.Logf("sent %d, received %d", sent, received)
	assert.Equal(t, sent, received)
	assert.GreaterOrEqual(t, sent, int64(tcp+udp+udp/1000*28))
	assert.Less(t, sent, int64(tcp+udp)*110/100)
}

// TestGuestAVethPairHasItsWorkloadAtItsOtherEnd gives a cell a network of its own.
func TestGuestAVethPairHasItsWorkloadAtItsOtherEnd(t *testing.T) {
	const bytes, streamed = 300_000, 3_000_000
	dir := cell(t, "press")
	quiet(t)
	w := watch(t)
	cmd, said := startAs(t, dir, &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}, "inside", "eth0", "10.9.0.2",
		strconv.Itoa(streamed))
	require.True(t, said.Scan())
	w.read()
	pair(t, "veth7", "eth0", cmd.Process.Pid)
	pair(t, "veth8", "veth9", 1)
	require.True(t, said.Scan(), "its end is up")
	address, _ := startAs(t, dir, &syscall.SysProcAttr{}, "address", "veth7", "10.9.0.1")
	require.NoError(t, address.Wait())
	w.read()
	c, err := net.Dial("udp4", "10.9.0.2:7000")
	require.NoError(t, err)
	defer c.Close()
	for range bytes / 1000 {
		_, err := c.Write(make([]byte, 1000))
		require.NoError(t, err)
	}
	w.read()
	u := w.usage("press")
	seen := 0
	for _, n := range w.sum.Detail.Interfaces {
		switch n.Name {
		case "veth7":
			seen++
			assert.Equal(t, "veth", n.Kind)
			assert.Equal(t, u.Workload, n.Workload, "who is at its other end")
			assert.GreaterOrEqual(t, n.Sent, int64(bytes*1042/1000), "seen from the host, with frames")
		case "veth8":
			seen++
			assert.Equal(t, []any{"veth9", account.Unrecognised}, []any{n.Peer, n.Workload})
		}
	}
	assert.Equal(t, 2, seen)
	got := figure(t, u, amount.NetworkLocalReceived)
	assert.GreaterOrEqual(t, got, int64(bytes*1028/1000), "IP level")
	assert.Less(t, got, int64(bytes*1042/1000), "without frames")
	assert.Zero(t, u.Units[amount.Network], "it left no host")

	// Longer than the interface takes: on the wire it is fragments, each with a header of its own.
	before, wireBefore := u, wire(t, w, "veth7")
	for range 50 {
		_, err := c.Write(make([]byte, 20_000))
		require.NoError(t, err)
	}
	w.read()
	u = w.usage("press")
	got = figure(t, u, amount.NetworkLocalReceived) - figure(t, before, amount.NetworkLocalReceived)
	went := wire(t, w, "veth7")
	fragments := went.SentPackets - wireBefore.SentPackets
	t.Logf("50 datagrams of 20,000 bytes: %d bytes, in %d frames with %d bytes", got, fragments,
		went.Sent-wireBefore.Sent)
	assert.Greater(t, fragments, int64(50*13))
	if seesInterfaces() {
		assert.Equal(t, went.Sent-wireBefore.Sent, got+14*fragments)
	}

	// What it sends is seen by the kernel's program in pieces of up to 64 kB, by the interface in frames of 1514 bytes.
	before, wireBefore = u, wire(t, w, "veth7")
	stream, err := net.Dial("tcp4", "10.9.0.2:7001")
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, stream, streamed)
	require.NoError(t, err)
	// left open: what answers after a close comes from the kernel, which has no socket for it
	time.Sleep(500 * time.Millisecond)
	w.read()
	require.NoError(t, stream.Close())
	u = w.usage("press")
	sent := figure(t, u, amount.NetworkLocalSent) - figure(t, before, amount.NetworkLocalSent)
	came := wire(t, w, "veth7")
	frames := came.ReceivedPackets - wireBefore.ReceivedPackets
	t.Logf("streamed %d: %d bytes, %d bytes in %d frames", streamed, sent, came.Received-wireBefore.Received, frames)
	assert.Greater(t, frames, int64(streamed/1500))
	assert.Equal(t, came.Received-wireBefore.Received, sent+14*frames, "IP level and an Ethernet header each")
}

// seesInterfaces tells whether programs of this kernel are shown the interface of a packet: from Linux 6.2 on.
func seesInterfaces() bool {
	var u unix.Utsname
	if unix.Uname(&u) != nil {
		return false
	}
	var major, minor int
	_, err := fmt.Sscanf(unix.ByteSliceToString(u.Release[:]), "%d.%d", &major, &minor)
	return err == nil && (major > 6 || major == 6 && minor >= 2)
}

// quiet keeps the kernel, in namespaces made from here too, from asking again who has an address it has been told.
func quiet(t *testing.T) {
	require.True(t, inGuest(), "a machine's own settings are not touched")
	for name, value := range map[string]string{"base_reachable_time_ms": "3600000", "delay_first_probe_time": "3600"} {
		require.NoError(t, os.WriteFile("/proc/sys/net/ipv4/neigh/default/"+name, []byte(value), 0))
	}
}

// wire is what went over an interface of the host.
func wire(t *testing.T, w *watcher, name string) account.Interface {
	i := slices.IndexFunc(w.sum.Detail.Interfaces, func(n account.Interface) bool { return n.Name == name })
	require.GreaterOrEqual(t, i, 0)
	return w.sum.Detail.Interfaces[i]
}

// pair makes a veth pair, one end in the namespace of a process (rtnetlink(7)).
func pair(t *testing.T, name, peer string, pid int) {
	attribute := func(kind uint16, value []byte) []byte {
		b := binary.NativeEndian.AppendUint16(nil, uint16(4+len(value)))
		b = append(binary.NativeEndian.AppendUint16(b, kind), value...)
		return append(b, make([]byte, (4-len(b)%4)%4)...)
	}
	const vethPeer = 1
	other := make([]byte, unix.SizeofIfInfomsg)
	other = append(other, attribute(unix.IFLA_IFNAME, []byte(peer+"\x00"))...)
	other = append(other, attribute(unix.IFLA_NET_NS_PID, binary.NativeEndian.AppendUint32(nil, uint32(pid)))...)
	info := append(attribute(unix.IFLA_INFO_KIND, []byte("veth")),
		attribute(unix.IFLA_INFO_DATA, attribute(vethPeer, other))...)
	m := make([]byte, unix.SizeofNlMsghdr+unix.SizeofIfInfomsg)
	m = append(append(m, attribute(unix.IFLA_IFNAME, []byte(name+"\x00"))...), attribute(unix.IFLA_LINKINFO, info)...)
	binary.NativeEndian.PutUint32(m, uint32(len(m)))
	binary.NativeEndian.PutUint16(m[4:], unix.RTM_NEWLINK)
	binary.NativeEndian.PutUint16(m[6:], unix.NLM_F_REQUEST|unix.NLM_F_ACK|unix.NLM_F_CREATE|unix.NLM_F_EXCL)
	s, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_ROUTE)
	require.NoError(t, err)
	defer unix.Close(s)
	require.NoError(t, unix.Sendto(s, m, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}))
	answer := make([]byte, 4096)
	n, _, err := unix.Recvfrom(s, answer, 0)
	require.NoError(t, err)
	require.GreaterOrEqual(t, n, unix.SizeofNlMsghdr+4)
	require.Zero(t, int32(binary.NativeEndian.Uint32(answer[unix.SizeofNlMsghdr:])), fmt.Sprintf("make %s", name))
}

// TestGuestWrittenBackBytesAreChargedToWhoDirtiedThem writes through the page cache.
func TestGuestWrittenBackBytesAreChargedToWhoDirtiedThem(t *testing.T) {
	const bytes = 4 << 20
	dir := cell(t, "lees")
	w := watch(t)
	_, said := start(t, dir, "write", "buffered", "/dev/vda", strconv.Itoa(bytes))
	require.True(t, said.Scan())
	unix.Sync()
	w.read()
	w.read()
	u := w.usage("lees")
	t.Logf("io.stat: %s", text(dir+"/io.stat"))
	written := figure(t, u, amount.DiskWritten)
	assert.InDelta(t, bytes, written, 64<<10, "version 2 charges who dirtied the pages")
	assert.InDelta(t, 0, w.sum.Ledgers[amount.Disk].Residual.Units, 4096)
}

// TestGuestADeletedFileIsForgottenByItsDeviceAndNotWritten deletes a file of a filesystem that tells its device so.
func TestGuestADeletedFileIsForgottenByItsDeviceAndNotWritten(t *testing.T) {
	const bytes = 24 << 20
	dir := cell(t, "dregs")
	require.NoError(t, os.MkdirAll("/vat", 0o755))
	require.NoError(t, unix.Mount("/dev/vdb", "/vat", "ext4", 0, "discard,prjquota"))
	t.Cleanup(func() { assert.NoError(t, unix.Unmount("/vat", unix.MNT_DETACH)) })
	require.NoError(t, os.WriteFile("/vat/cuttings", nil, 0o644))
	require.NoError(t, os.Truncate("/vat/cuttings", bytes))
	w := watch(t)
	writer, said := start(t, dir, "write", "direct", "/vat/cuttings", strconv.Itoa(bytes))
	require.True(t, said.Scan())
	require.NoError(t, writer.Process.Kill()) // which has the file open
	_ = writer.Wait()
	unix.Sync()
	w.read()
	assert.InDelta(t, bytes, figure(t, w.usage("dregs"), amount.DiskWritten), 256<<10)
	w.sum = nil
	require.NoError(t, os.Remove("/vat/cuttings"))
	unix.Sync() // the journal is committed, and what it freed is discarded
	for w.read(); discarded(w) < bytes; w.read() {
		time.Sleep(200 * time.Millisecond)
	}
	l := w.sum.Ledgers[amount.Disk]
	charged := int64(0)
	for _, u := range w.sum.Usages {
		charged += u.Units[amount.Disk]
	}
	t.Logf("discarded %d, used %d, charged %d, kernel %d, residual %d", discarded(w), l.Used.Units, charged,
		l.Kernel.Units, l.Residual.Units)
	assert.Less(t, l.Used.Units, int64(2<<20), "the journal and directories")
	assert.Less(t, charged, int64(2<<20), "nobody wrote what was forgotten")
	assert.InDelta(t, 0, l.Residual.Units, 64<<10)
}

// discarded is how many bytes devices were told to forget.
func discarded(w *watcher) (sum int64) {
	for _, d := range w.sum.Detail.Disks {
		if !d.Inner {
			sum += d.DiscardedBytes
		}
	}
	return sum
}
