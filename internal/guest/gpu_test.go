package guest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/devices"
)

// testGPU is a GPU of the machine: its node, and its directory among the devices.
type testGPU struct{ node, dir string }

func testGPUs(t *testing.T) (found []testGPU) {
	if !inGuest() {
		t.Skip("runs in the machine that TestVersion2 starts")
	}
	nodes, _ := filepath.Glob("/sys/class/drm/renderD*")
	for _, n := range nodes {
		dir, err := filepath.EvalSymlinks(filepath.Join(n, "device"))
		require.NoError(t, err)
		if text(dir+"/vendor") == "0x1234" && text(dir+"/busy_ns") != "" {
			found = append(found, testGPU{"/dev/dri/" + filepath.Base(n), dir})
		}
	}
	require.Len(t, found, 2)
	return found
}

func (g testGPU) number(t *testing.T, file string) int64 {
	n, err := strconv.ParseInt(text(filepath.Join(g.dir, file)), 10, 64)
	require.NoError(t, err, file)
	return n
}

// inFdinfo adds up what the kernel tells of a pid's clients of a GPU, in nanoseconds.
func inFdinfo(pid int, bus string) (sum int64) {
	files, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fdinfo/*", pid))
	for _, f := range files {
		content := text(f)
		if m := regexp.MustCompile(`drm-engine-compute:\t(\d+) ns`).FindStringSubmatch(content); m != nil &&
			strings.Contains(content, bus) {
			n, _ := strconv.ParseInt(m[1], 10, 64)
			sum += n
		}
	}
	return sum
}

// TestGuestGPUTimeIsTheirsWhoseJobsItDid has two cards, of which three processes in two groups use one, and a fourth
// the other. The cards do one job at a time; what they did for all is what they did.
func TestGuestGPUTimeIsTheirsWhoseJobsItDid(t *testing.T) {
	alpha, beta := cell(t, "alpha"), cell(t, "beta")
	gpus := testGPUs(t)
	w := watch(t)
	var before [2]int64
	for i, g := range gpus {
		before[i] = g.number(t, "busy_ns")
	}
	jobs := []struct {
		group string
		on    int
		args  []string
		mib   int64
	}{{alpha, 0, []string{"40", "5000", "0"}, 32}, {alpha, 0, []string{"20", "8000", "2000"}, 16},
		{beta, 0, []string{"25", "4000", "1000"}, 64}, {beta, 1, []string{"30", "3000", "500"}, 8}}
	var pids []int
	var ends []func() bool
	for _, j := range jobs {
		args := append(append([]string{"gpu", gpus[j.on].node}, j.args...), fmt.Sprint(j.mib<<20))
		cmd, out := start(t, j.group, args...)
		pids = append(pids, cmd.Process.Pid)
		ends = append(ends, func() bool { return out.Scan() && out.Text() == "done" })
	}
	time.Sleep(200 * time.Millisecond)
	w.read() // in the midst of it
	for _, end := range ends {
		require.True(t, end())
	}
	w.read()
	truth := map[string]int64{}
	for i, j := range jobs {
		bus := filepath.Base(gpus[j.on].dir)
		truth[filepath.Base(j.group)] += inFdinfo(pids[i], bus) / 1000
		truth[bus] += inFdinfo(pids[i], bus)
	}
	for i, g := range gpus {
		bus := filepath.Base(g.dir)
		assert.Equal(t, g.number(t, "busy_ns")-before[i], truth[bus],
			"what a card did for its clients is what it did, to the nanosecond")
	}
	memory := map[string]int64{"alpha": 48 << 20, "beta": 72 << 20}
	var shares int64
	for name, bytes := range memory {
		u := w.usage(name)
		assert.Equal(t, truth[name+".service"], u.Units[amount.GPU], "%s: GPU time, to the microsecond", name)
		assert.Equal(t, amount.Counted, u.Source[amount.GPU])
		assert.Equal(t, bytes, u.Peak[amount.GPUMemory], "%s: memory", name)
		shares += u.Units[amount.GPU]
		for _, x := range u.GPUs {
			require.Len(t, x.Engines, 1)
			assert.Equal(t, x.Micros, x.Engines[0].Micros)
		}
	}
	assert.Equal(t, shares, w.sum.Ledgers[amount.GPU].Shares)
	assert.EqualValues(t, 2*w.sum.ElapsedMillis*1000, w.sum.Ledgers[amount.GPU].Capacity.Units)
	assert.EqualValues(
		t,
		120<<20,
		gpus[0].number(t, "mem_info_vram_used")+gpus[1].number(t, "mem_info_vram_used"),
	)
}

// TestGuestASharedClientCountsOnce opens a GPU here, and hands the open file to a process of another group.
func TestGuestASharedClientCountsOnce(t *testing.T) {
	gamma := cell(t, "gamma")
	gpus := testGPUs(t)
	f, err := os.OpenFile(gpus[0].node, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	w := watch(t)
	cmd := handed(t, gamma, f)
	job := [2]uint32{20_000}
	const work = 1<<30 | 8<<16 | 'd'<<8 | 0x40
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), work, uintptr(unsafe.Pointer(&job)))
	require.Zero(t, errno)
	w.read()
	did := inFdinfo(os.Getpid(), filepath.Base(gpus[0].dir))
	require.GreaterOrEqual(t, did, int64(20e6))
	assert.Equal(t, did, inFdinfo(cmd.Process.Pid, filepath.Base(gpus[0].dir)), "both have the client")
	var shares int64
	for i := range w.sum.Usages {
		shares += w.sum.Usages[i].Units[amount.GPU]
	}
	assert.Equal(t, did/1000, shares)
}

// TestGuestSensorsAreThoseOfTheKernel has one of each: what the kernel shows in two places is listed once.
func TestGuestSensorsAreThoseOfTheKernel(t *testing.T) {
	gpus := testGPUs(t)
	chips(t)
	inv := watch(t).reader.Survey()
	value := map[string]float64{}
	for _, s := range inv.Sensors {
		key := strings.Join([]string{s.Chip, s.Name, s.Kind}, " ")
		if strings.HasPrefix(s.Chip, "testgpu") || s.Chip == "powercap" {
			key += " of " + s.Device
		}
		_, twice := value[key]
		assert.False(t, twice, "%s is listed once", key)
		if s.Value != nil {
			value[key] = *s.Value
		}
	}
	bus := filepath.Base(gpus[0].dir)
	for key, want := range map[string]float64{"battery power power": 9, "acpi_fan fan1 fan": 2400,
		"lm75 temp1 temperature": 42.5, "testgpu fan1 fan of " + bus: 1200,
		"testgpu edge temperature of " + bus: 40, "powercap cap power of " + bus: 200} {
		assert.InDelta(t, want, value[key], 1e-9, key)
	}
	assert.InDelta(t, 50, value["nvme Composite temperature"], 40)
	assert.Greater(t, value["acpitz temperature temperature"], 40.0)
	assert.Greater(t, value["max6650 fan1 fan"], 0.0)
	power := 0.0
	for key, v := range value {
		if strings.HasPrefix(key, "power_meter") {
			power = v
		}
	}
	assert.Greater(t, power, 150.0, "the firmware's power meter: %v", value)

	// Its cap is kept within its bounds by the kernel, and told as it stands.
	sheets := inv.GPUs
	require.Len(t, sheets, 2)
	chip, err := filepath.Glob(gpus[0].dir + "/hwmon/hwmon*/power1_cap")
	require.NoError(t, err)
	require.Len(t, chip, 1)
	require.NoError(t, os.WriteFile(chip[0], []byte("90000000"), 0))
	assert.ErrorIs(t, os.WriteFile(chip[0], []byte("900000000"), 0), unix.EINVAL)
	w := watch(t)
	w.read()
	for _, f := range w.reader.Survey().GPUs[0].Figures {
		want, told := map[string]float64{"board power, at most": 90, "least cap": 50, "most cap": 200}[f.Name]
		if told {
			assert.InDelta(t, want, *f.Value, 1e-9, f.Name)
		}
	}
	require.NoError(t, os.WriteFile(chip[0], []byte("200000000"), 0))
}

// TestGuestAMeterThatBeginsAgainLosesNothing reads a zone whose counter begins again every 50 J, by itself, while its
// card works; the chip of the card has a counter of the same that does not.
func TestGuestAMeterThatBeginsAgainLosesNothing(t *testing.T) {
	cell(t, "delta")
	gpus := testGPUs(t)
	sys := t.TempDir()
	require.NoError(t, os.MkdirAll(sys+"/class/powercap", 0o755))
	require.NoError(t, os.Symlink("/sys/class/powercap/testgpu:0", sys+"/class/powercap/testgpu:0"))
	straight, err := filepath.Glob(gpus[0].dir + "/hwmon/hwmon*/energy1_input")
	require.NoError(t, err)
	require.Len(t, straight, 1)
	energy, err := filepath.Rel(gpus[0].dir, straight[0])
	require.NoError(t, err)
	h := devices.Open(devices.Options{Sys: sys})
	start(t, tree+"/delta.service", "gpu", gpus[0].node, "400", "5000", "0", "0")
	const turn = 50_000_000
	var tracker account.Tracker
	var before [2]int64 // what the other counter told on either side of a reading
	var last, wrapped, late int64
	for n := 0; n < 400 && wrapped < 4; n++ {
		r := &account.Reading{Boot: "b", Mono: time.Duration(n) * time.Second, Wall: time.Unix(int64(n), 0)}
		around := [2]int64{gpus[0].number(t, energy)}
		var why string
		r.Meters, why = h.Meters(nil)
		around[1] = gpus[0].number(t, energy)
		require.Empty(t, why)
		require.Len(t, r.Meters, 1)
		iv, err := tracker.Step(r)
		least, most := around[0]-before[1], around[1]-before[0]
		switch {
		case n == 0:
			require.ErrorIs(t, err, account.ErrFirstReading)
		case most >= turn:
			late++ // so long between two readings that a whole turn may have passed, which no reader could see
		default:
			require.NoError(t, err)
			used := iv.Ledgers[amount.Energy].Used.Units
			assert.GreaterOrEqual(
				t,
				used,
				least-1,
				"the end that it tells of is the last it shows, not where it begins",
			)
			assert.LessOrEqual(t, used, most)
			if r.Meters[0].MicroJoules < last && least > 0 {
				wrapped++
			}
		}
		before, last = around, r.Meters[0].MicroJoules
		time.Sleep(60 * time.Millisecond)
	}
	assert.Positive(t, wrapped)
	t.Logf("the meter began again %d times; %d readings came too late to say", wrapped, late)
}

// chips puts a thermometer and a fan on a bus that is made of memory, and says what they show: 42.5 °C, and a fan that
// turns.
func chips(t *testing.T) {
	buses, _ := filepath.Glob("/sys/bus/i2c/devices/i2c-*")
	for _, b := range buses {
		if !strings.Contains(text(b+"/name"), "stub") {
			continue
		}
		poke(t, filepath.Base(b), 0x48, 0, 0x802a, true) // 42.5 in the chip's words, bytes the other way round
		poke(t, filepath.Base(b), 0x1b, 0x0c, 60, false) // turns counted
		poke(t, filepath.Base(b), 0x1b, 0x16, 2, false)  // in a second
		for _, chip := range []string{"lm75 0x48", "max6650 0x1b"} {
			require.NoError(t, os.WriteFile(b+"/new_device", []byte(chip), 0))
		}
		return
	}
	require.Fail(t, "there is no bus of memory")
}

// poke writes a register of a chip on a bus (the kernel's "I2C device interface"): a byte, or a word.
func poke(t *testing.T, bus string, chip uintptr, register byte, v uint16, isWord bool) {
	const useChip, smbus = 0x0703, 0x0720
	f, err := os.OpenFile("/dev/"+bus, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), useChip, chip)
	require.Zero(t, errno)
	order := struct {
		read, register byte
		size           uint32
		data           *[34]byte
	}{register: register, size: 2, data: &[34]byte{byte(v), byte(v >> 8)}}
	if isWord {
		order.size = 3
	}
	_, _, errno = unix.Syscall(unix.SYS_IOCTL, f.Fd(), smbus, uintptr(unsafe.Pointer(&order)))
	require.Zero(t, errno)
}

// handed starts a process in a group that has a file of this one open.
func handed(t *testing.T, dir string, f *os.File) *exec.Cmd {
	d, err := os.Open(dir)
	require.NoError(t, err)
	defer d.Close()
	cmd := exec.Command("/burner", "wait")
	cmd.ExtraFiles = []*os.File{f}
	cmd.SysProcAttr = &syscall.SysProcAttr{UseCgroupFD: true, CgroupFD: int(d.Fd())}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return cmd
}
