package guest

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/amount"
)

// TestGuestWhatAVolumeHandsOnIsWhoseItIs writes to volumes: some hand on what they are given, some encrypt
// it first, by a task of the kernel's, and some choose the way that each request takes. Nothing is controlled there:
// the kernel knows no cgroup of it.
func TestGuestWhatAVolumeHandsOnIsWhoseItIs(t *testing.T) {
	group(t, "system.slice")
	const sectors = 8 << 20 / 512
	drive := text("/sys/block/vda/dev")
	bytes := map[string]int{"linear direct": 3 << 20, "linear buffered": 2 << 20, "crypt direct": 5 << 20,
		"crypt buffered": 4 << 20, "multipath direct": 7 << 20, "multipath buffered": 6 << 20}
	tables := map[string]string{"linear": "%s %d", "crypt": "cipher_null-ecb - 0 %s %d",
		"multipath": "0 0 1 1 round-robin 0 1 1 %s 1000"}
	devices, from := map[string]string{}, 0
	for name := range bytes {
		target, _, _ := strings.Cut(name, " ")
		on := []any{drive, from}
		if target == "multipath" { // which takes a whole drive
			on = []any{map[bool]string{true: "/dev/vdc", false: "/dev/vdd"}[strings.HasSuffix(name, "direct")]}
		}
		devices[name] = volume(
			t,
			strings.ReplaceAll(name, " ", "-"),
			target,
			fmt.Sprintf(tables[target], on...),
			sectors,
		)
		from += sectors
	}
	w := watch(t)
	for name, n := range bytes {
		_, how, _ := strings.Cut(name, " ")
		_, said := start(
			t,
			cell(t, "system.slice/"+strings.ReplaceAll(name, " ", "-")),
			"write",
			how,
			devices[name],
			strconv.Itoa(n),
		)
		require.True(t, said.Scan(), name)
	}
	unix.Sync()
	w.read()
	w.read()
	for name, n := range bytes {
		u := w.usage(strings.ReplaceAll(name, " ", "-"))
		written := figure(t, u, amount.DiskWritten)
		t.Logf("%s: wrote %d, charged %d", name, n, written)
		assert.InDelta(t, n, written, 16<<10, name)
		assert.Equal(t, amount.Counted, u.Source[amount.Disk], name)
	}
	l := w.sum.Ledgers[amount.Disk]
	assert.Less(t, l.Kernel.Units, int64(64<<10), "the kernel's own")
	assert.InDelta(t, 0, l.Residual.Units, 4096)
}

// TestGuestWhatSeveralHaveEncryptedIsEachOnes has two cells write to one volume in turns, and the kernel write it all
// together.
func TestGuestWhatSeveralHaveEncryptedIsEachOnes(t *testing.T) {
	group(t, "system.slice")
	const turns = 24
	pieces := map[string]int{"must": 40 << 10, "lees": 16 << 10}
	device := volume(t, "both", "crypt", "cipher_null-ecb - 0 "+text("/sys/block/vda/dev")+" 0", 16<<20/512)
	orders, said := map[string]io.Writer{}, map[string]*bufio.Scanner{}
	for name := range pieces {
		in, out := obedient(t, cell(t, "system.slice/"+name))
		orders[name], said[name] = in, out
	}
	w := watch(t)
	at := 0
	for range turns {
		for _, name := range []string{"must", "lees"} {
			_, err := fmt.Fprintf(orders[name], "write %s %d %d\n", device, at, pieces[name])
			require.NoError(t, err)
			require.True(t, said[name].Scan())
			at += pieces[name]
		}
	}
	unix.Sync()
	w.read()
	w.read()
	for name, piece := range pieces {
		written := figure(t, w.usage(name), amount.DiskWritten)
		t.Logf("%s: wrote %d, charged %d", name, turns*piece, written)
		assert.EqualValues(t, turns*piece, written, name)
	}
	assert.InDelta(t, 0, w.sum.Ledgers[amount.Disk].Residual.Units, 4096)
}

// obedient starts a worker that does what it is told.
func obedient(t *testing.T, dir string) (io.Writer, *bufio.Scanner) {
	in, orders, err := os.Pipe()
	require.NoError(t, err)
	t.Cleanup(func() { in.Close(); orders.Close() })
	_, said := startWith(t, dir, &syscall.SysProcAttr{}, in, "obey")
	return orders, said
}

// TestGuestWhatIsWrittenTwiceIsWhoseItIs writes to an array of two drives that have the same.
func TestGuestWhatIsWrittenTwiceIsWhoseItIs(t *testing.T) {
	group(t, "system.slice")
	bytes := map[string]int{"direct": 6 << 20, "buffered": 3 << 20}
	device := mirror(t, "/dev/vdc", "/dev/vdd")
	w := watch(t)
	for how, n := range bytes {
		_, said := start(t, cell(t, "system.slice/"+how), "write", how, device, strconv.Itoa(n))
		require.True(t, said.Scan(), how)
		unix.Sync()
		w.read()
	}
	w.read()
	for how, n := range bytes {
		written := figure(t, w.usage(how), amount.DiskWritten)
		t.Logf("%s: wrote %d twice, charged %d", how, n, written)
		assert.InDelta(t, 2*n, written, 16<<10, how)
	}
	l := w.sum.Ledgers[amount.Disk]
	assert.Less(t, l.Kernel.Units, int64(64<<10), "the kernel's own")
	assert.InDelta(t, 0, l.Residual.Units, 4096)
}

// mirror makes an array of which each drive has all (include/uapi/linux/raid/md_u.h), and returns its device.
func mirror(t *testing.T, drives ...string) string {
	const array, build, add, run, stop = "md_both", 72<<16 | 0x23, 20<<16 | 0x21, 12<<16 | 0x30, 0x32
	require.NoError(t, os.WriteFile("/sys/module/md_mod/parameters/new_array", []byte(array), 0))
	device := "/dev/" + array
	f, err := os.OpenFile(device, os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	do := func(command uintptr, numbers ...int32) {
		b := [18]int32{}
		copy(b[:], numbers)
		direction := uintptr(1 << 30)
		if command == stop {
			direction = 0
		}
		_, _, e := unix.Syscall(unix.SYS_IOCTL, f.Fd(), direction|9<<8|command, uintptr(unsafe.Pointer(&b)))
		require.Zero(t, e, "%x", command)
	}
	n := int32(len(drives))
	size := int32(32 << 10)                                       // KiB
	do(build, 0, 90, 0, 0, 1, size, n, n, 0, 1, 0, 1, n, n, 0, 0) // level 1, of which nothing is written down
	for i, drive := range drives {
		info, err := os.Stat(drive)
		require.NoError(t, err)
		number := info.Sys().(*syscall.Stat_t).Rdev
		do(
			add,
			int32(i),
			int32(unix.Major(number)),
			int32(unix.Minor(number)),
			int32(i),
			1<<1|1<<2,
		) // active, in step
	}
	do(run)
	t.Cleanup(func() { do(stop) })
	return device
}

// volume makes a volume of one target (include/uapi/linux/dm-ioctl.h) and returns its device.
func volume(t *testing.T, name, target, table string, sectors uint64) string {
	control, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { control.Close() })
	const header, specification, whole = 312, 40, 1024
	do := func(command uintptr, fill func(b []byte)) [whole]byte {
		b := [whole]byte{}
		for i, n := range []uint32{4, 0, 0, whole, header} { // the version, the size of all, and where more begins
			binary.NativeEndian.PutUint32(b[4*i:], n)
		}
		copy(b[48:], name)
		if fill != nil {
			fill(b[:])
		}
		_, _, e := unix.Syscall(unix.SYS_IOCTL, control.Fd(), 3<<30|header<<16|0xfd<<8|command,
			uintptr(unsafe.Pointer(&b)))
		require.Zero(t, e, "%s: %d", name, command)
		return b
	}
	const create, remove, resume, load = 3, 4, 6, 9
	do(create, nil)
	t.Cleanup(func() { do(remove, nil) })
	do(load, func(b []byte) {
		binary.NativeEndian.PutUint32(b[20:], 1) // targets
		spec := b[header:]
		binary.NativeEndian.PutUint64(spec[8:], sectors)
		copy(spec[24:], target)
		copy(spec[specification:], table)
	})
	b := do(resume, nil)
	number := binary.NativeEndian.Uint64(b[40:])
	device := fmt.Sprintf("/dev/dm-%d", number&0xff|number>>12&^0xff)
	require.FileExists(t, device)
	return filepath.Clean(device)
}
