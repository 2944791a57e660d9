package real

import (
	"os"
	"os/exec"
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

// loop makes a loop device of 128 MiB.
func loop(t *testing.T) (device string) {
	image := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 128<<20))
	out, err := exec.Command("losetup", "--find", "--show", image).CombinedOutput()
	require.NoError(t, err, string(out))
	device = strings.TrimSpace(string(out))
	t.Cleanup(func() { exec.Command("losetup", "--detach", device).Run() })
	return device
}

// TestExact_DirectAndWrittenBackBytesAreCharged writes to a loop device past the page cache and through it.
func TestExact_DirectAndWrittenBackBytesAreCharged(t *testing.T) {
	const direct, buffered = 48 << 20, 24 << 20
	device := loop(t)
	info, err := os.Stat(device)
	require.NoError(t, err)
	number := info.Sys().(*syscall.Stat_t).Rdev
	key := int32(number>>8&0xfff)<<20 | int32(number&0xff)

	must, lees := newCell(t, "direct"), newCell(t, "buffered")
	w := watch(t)
	line(t, must.start(t, "write", "direct", device, strconv.Itoa(direct)))
	line(t, lees.start(t, "write", "buffered", device, strconv.Itoa(buffered)))
	w.read()
	syscall.Sync()
	time.Sleep(300 * time.Millisecond)
	w.read()
	on := func(u account.Usage) account.DeviceUse {
		for _, d := range u.Devices {
			if d.Device == key {
				return d
			}
		}
		return account.DeviceUse{}
	}
	a, b := on(w.usage(must.name)), on(w.usage(lees.name))
	t.Logf("direct %+v\nbuffered %+v", a, b)
	assert.Equal(t, int64(direct), a.Written, "direct: exact")
	assert.Positive(t, a.Micros, "and for how long the device worked")
	if b.Source == amount.Split {
		// What nothing tells whose it was is divided by who dirtied pages of any device, and others on this machine who
		// do take a part of this device's bytes. What was counted is on the device, and what was divided is in what was
		// written back: together it is all that was dirtied.
		u := w.usage(lees.name)
		back, ok := u.Figures.Get(amount.DiskWrittenBack)
		assert.True(t, ok)
		assert.LessOrEqual(t, back, int64(buffered+buffered/50))
		assert.GreaterOrEqual(
			t,
			back+b.Written,
			int64(buffered-buffered/50),
			"what it dirtied, as it was written back",
		)
		assert.Positive(t, b.Written)
		assert.LessOrEqual(t, b.Written, int64(buffered+buffered/50))
	} else {
		assert.InEpsilon(t, buffered, b.Written, 0.02, "buffered: what it dirtied, as the kernel wrote it back")
	}
	var operations int64
	for _, l := range w.sum.Detail.Latencies {
		if int32(l.Major<<20|l.Minor) == key && l.Kind == account.IOWrite {
			operations += l.Count
		}
	}
	assert.GreaterOrEqual(t, operations, a.WriteOps, "the histogram has every operation")
}

// TestExact_DiscardsAreNotWrites lets one cell discard a part of a loop device and another zero a part of it, by the
// kernel's own means: the one writes nothing, the other all of it.
func TestExact_DiscardsAreNotWrites(t *testing.T) {
	const forgotten, zeroed = 80 << 20, 16 << 20
	device := loop(t)
	must, lees := newCell(t, "forgets"), newCell(t, "zeroes")
	w := watch(t)
	line(t, must.start(t, "discard", device, strconv.Itoa(forgotten)))
	line(t, lees.start(t, "zero", device, strconv.Itoa(zeroed)))
	w.read()
	var drive account.Disk
	for _, d := range w.sum.Detail.Disks {
		if "/dev/"+d.Name == device {
			drive = d
		}
	}
	on := func(name string) account.DeviceUse {
		for _, u := range w.usage(name).Devices {
			if u.Device == drive.Number() {
				return u
			}
		}
		return account.DeviceUse{}
	}
	forgets, zeroes := on(must.name), on(lees.name)
	assert.EqualValues(t, forgotten, forgets.Discarded)
	assert.EqualValues(t, forgotten, drive.DiscardedBytes, "as the kernel counts for the device itself")
	assert.Zero(t, forgets.Written, "nothing was written")
	assert.Zero(t, zeroes.Discarded)
	assert.EqualValues(
		t,
		drive.WrittenBytes,
		zeroes.Written,
		"what is zeroed is written, by the device itself or not",
	)
	// Where the file behind cannot be zeroed in place the kernel learns that from the device, which has counted it, and
	// then writes zeroes.
	assert.Contains(t, []int64{zeroed, 2 * zeroed}, zeroes.Written)
	operations := int64(0)
	for _, l := range w.sum.Detail.Latencies {
		if l.Number() == drive.Number() && l.Kind == account.IODiscard {
			operations += l.Count
		}
	}
	assert.Equal(t, drive.Discards, operations, "how long each took is told apart")
}

// TestExact_WhatIsTooLargeForOneRequestIsWhoseItIs writes and reads past the page cache, in pieces of which a device
// takes a small part at a time, by a cell and by a user outside any.
func TestExact_WhatIsTooLargeForOneRequestIsWhoseItIs(t *testing.T) {
	const most = "64" // KiB in a request
	bytes := map[string]int{"a cell's": 24 << 20, "a user's": 16 << 20}
	c := newCell(t, "pours")
	cells, ends := map[string]*cell{"a cell's": c, "a user's": nil}, map[string]*os.File{}
	for name := range cells {
		device := loop(t)
		setting := filepath.Join("/sys/block", filepath.Base(device), "queue/max_sectors_kb")
		require.NoError(t, os.WriteFile(setting, []byte(most), 0o644))
		f, err := os.OpenFile(device, os.O_RDWR|unix.O_DIRECT, 0)
		require.NoError(t, err)
		defer f.Close()
		ends[name] = f
	}
	workers := map[string]*worker{}
	for name, f := range ends {
		workers[name] = hire(t, cells[name], plainUser, f)
	}
	w := watch(t)
	for name, x := range workers {
		x.do("send 3 %d", bytes[name])
		x.do("receive 3 %d", bytes[name]/2)
	}
	w.read()
	uses := map[string]account.Usage{"a cell's": w.usage(c.name), "a user's": w.loose(plainUser)}
	for name, f := range ends {
		i := slices.IndexFunc(
			w.sum.Detail.Disks,
			func(d account.Disk) bool { return "/dev/"+d.Name == f.Name() },
		)
		require.GreaterOrEqual(t, i, 0)
		drive, on := w.sum.Detail.Disks[i], account.DeviceUse{}
		for _, d := range uses[name].Devices {
			if d.Device == drive.Number() {
				on.Written, on.Read, on.WriteOps, on.Source = on.Written+d.Written, on.Read+d.Read,
					on.WriteOps+d.WriteOps, d.Source
			}
		}
		t.Logf(
			"%s: wrote %d, charged %d in %d requests; read %d, charged %d",
			name,
			bytes[name],
			on.Written,
			on.WriteOps,
			bytes[name]/2,
			on.Read,
		)
		assert.EqualValues(t, bytes[name], on.Written, "%s writes", name)
		assert.EqualValues(t, bytes[name]/2, on.Read, "%s reads", name)
		assert.GreaterOrEqual(t, on.WriteOps, int64(bytes[name]/(64<<10)), "the device took it in small parts")
		assert.EqualValues(t, drive.WrittenBytes, on.Written, "nobody else has a part of it")
		assert.Equal(t, amount.Counted, on.Source)
	}
}
