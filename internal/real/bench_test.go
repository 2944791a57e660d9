package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/bpf"
)

// BenchmarkTick reads 5,000 real processes in 1,000 real cgroups of this kernel and differences the readings: with all
// that it can count, and by its files alone. The floor, in turn with them, is a bare open-read-close of the files of
// /proc and of the cgroups that a reading by files needs: no listing, no parsing.
func BenchmarkTick(b *testing.B) {
	const groups, each = 1000, 5
	trees := crowdedTrees(b, groups)
	var files [][]byte
	for i := range groups {
		for _, f := range []string{"cpuacct/%s/cpuacct.usage_percpu", "memory/%s/memory.usage_in_bytes",
			"memory/%s/memory.stat"} {
			path := fmt.Sprintf("/sys/fs/cgroup/"+f,
				fmt.Sprintf("vinescale-bench-%d/intake-%d.service", os.Getpid(), i))
			files = append(files, append([]byte(path), 0))
		}
	}
	cmd := exec.Command(filepath.Join("../../bin/burner"), append([]string{"crowd", strconv.Itoa(each)}, trees...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	b.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	there := make([]byte, 6)
	_, err = out.Read(there)
	require.NoError(b, err)
	pids := childrenOf(cmd.Process.Pid)
	require.Len(b, pids, groups*each)
	for _, pid := range pids {
		for _, f := range []string{"stat", "statm", "io"} {
			files = append(files, append(fmt.Appendf(nil, "/proc/%d/%s", pid, f), 0))
		}
	}

	memory := collectorMemory(b)
	begun := time.Now()
	type side struct {
		reader   *kernel.Reader
		tracker  account.Tracker
		readings [3]account.Reading
		spent    time.Duration
	}
	tick := func(s *side, n int) {
		r := &s.readings[n%3]
		if err := s.reader.Read(r); err != nil {
			b.Fatal(err)
		}
		s.tracker.Step(r)
	}
	var sides [2]*side
	for i := range sides {
		var counters *bpf.Counters
		if i == 0 {
			counters = bpf.Open(bpf.Options{CgroupV2: kernel.CgroupV2("/sys/fs/cgroup")})
			require.NoError(b, counters.Missing(bpf.Tasks))
		}
		now := time.Now()
		clock := func() (time.Time, time.Duration) { // as at the usual pace, so that what is read now and then is
			now = now.Add(5 * time.Second)
			return now, time.Since(begun) + now.Sub(begun)
		}
		r, err := kernel.Open(identify.NewRegistry(identify.Options{}),
			kernel.Options{Counters: counters, Clock: clock})
		require.NoError(b, err)
		b.Cleanup(r.Close)
		sides[i] = &side{reader: r}
		for n := range 4 {
			tick(sides[i], n)
		}
		require.GreaterOrEqual(b, len(sides[i].readings[0].Processes), groups*each)
		require.GreaterOrEqual(b, len(sides[i].readings[0].Groups), groups)
	}
	var floor time.Duration
	buf := make([]byte, 64<<10)
	n := 4
	const ticks = 12 // a minute's
	for b.Loop() {
		for tickNumber := range ticks {
			if tickNumber%4 == 0 {
				start := cpuTime()
				for _, f := range files {
					bareRead(f, buf)
				}
				floor += (cpuTime() - start) * 4
			}
			for _, s := range sides {
				start := cpuTime()
				tick(s, n)
				s.spent += cpuTime() - start
			}
			n++
		}
	}
	perTick := func(d time.Duration) float64 { return d.Seconds() * 1e3 / float64(b.N) / ticks }
	b.ReportMetric(perTick(floor), "ms-floor")
	b.ReportMetric(perTick(sides[0].spent), "ms-with-ebpf")
	b.ReportMetric(float64(sides[0].spent)/float64(floor), "x-floor-with-ebpf")
	b.ReportMetric(float64(sides[1].spent)/float64(floor), "x-floor-by-files")
	b.ReportMetric(memory/1e6, "MB-collector")
	b.ReportMetric(0, "ns/op")
}

// collectorMemory is the most that a collector of its own has resident while it reads this host for 20 s, in bytes.
func collectorMemory(b *testing.B) float64 {
	cmd := exec.Command("../../bin/vinescale", "collect", "--service", "http://127.0.0.1:9", "--host", "crowded",
		"--tick", "1s", "--spool", filepath.Join(b.TempDir(), "spool"))
	cmd.Env = append(os.Environ(), "VINESCALE_CREDENTIAL=none")
	require.NoError(b, cmd.Start())
	time.Sleep(20 * time.Second)
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
	require.NoError(b, err)
	_, rest, found := strings.Cut(string(raw), "VmHWM:")
	require.True(b, found)
	var kib float64
	_, err = fmt.Sscan(rest, &kib)
	require.NoError(b, err)
	cmd.Process.Signal(syscall.SIGINT)
	cmd.Wait()
	return kib * 1024
}

// crowdedTrees makes cgroups of the same names in each hierarchy that is read.
func crowdedTrees(b *testing.B, groups int) (trees []string) {
	require.Zero(b, os.Geteuid(), "it makes cgroups: run it as root")
	for _, controller := range []string{"cpuacct", "memory", "blkio", "unified"} {
		tree := fmt.Sprintf("/sys/fs/cgroup/%s/vinescale-bench-%d", controller, os.Getpid())
		require.NoError(b, os.Mkdir(tree, 0o755))
		trees = append(trees, tree)
		b.Cleanup(func() { os.Remove(tree) })
		for i := range groups {
			dir := fmt.Sprintf("%s/intake-%d.service", tree, i)
			require.NoError(b, os.Mkdir(dir, 0o755))
			b.Cleanup(func() {
				for range 200 {
					if os.Remove(dir) == nil {
						return
					}
					time.Sleep(10 * time.Millisecond)
				}
			})
		}
	}
	return trees
}

// BenchmarkSwitch measures what counting at each switch costs a pair of processes that do nothing but wake each other:
// round trips of a byte through two pipes. In turn, with and without: of each turn the shortest slice counts, and of
// all pairs of turns the median, since the machine may be slower for a while and faster for another.
func BenchmarkSwitch(b *testing.B) {
	const turns, trips = 20, 4000
	var added, without []float64
	play := pingPong(b)
	for b.Loop() {
		var shortest [2]time.Duration
		for k := range shortest {
			i := (k + len(added)) % 2 // now the one first, now the other
			var counters *bpf.Counters
			if i == 1 {
				counters = bpf.Open(bpf.Options{Off: []bpf.Feature{bpf.Tasks, bpf.Network, bpf.Disk}})
				require.NoError(b, counters.Missing(bpf.CPU))
			}
			shortest[i] = time.Hour
			for range turns {
				start := time.Now()
				play(trips)
				shortest[i] = min(shortest[i], time.Since(start))
			}
			if counters != nil {
				counters.Close()
			}
		}
		added = append(added, 100*(float64(shortest[1])/float64(shortest[0])-1))
		without = append(without, float64(shortest[0].Nanoseconds())/2/trips)
	}
	median := func(list []float64) float64 { slices.Sort(list); return list[len(list)/2] }
	b.ReportMetric(median(without), "ns/switch-without")
	b.ReportMetric(median(added), "%-added")
	b.ReportMetric(0, "ns/op")
}

// pingPong returns a function that sends a byte to and fro so many times between this process and a child on the same
// CPU.
func pingPong(b *testing.B) func(times int) {
	var there, back [2]int
	require.NoError(b, unix.Pipe(there[:]))
	require.NoError(b, unix.Pipe(back[:]))
	cmd := exec.Command("../../bin/burner", "echo")
	cmd.ExtraFiles = []*os.File{os.NewFile(uintptr(there[0]), "there"), os.NewFile(uintptr(back[1]), "back")}
	require.NoError(b, cmd.Start())
	b.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	var one unix.CPUSet
	one.Set(0)
	return func(times int) {
		unix.SchedSetaffinity(0, &one)
		unix.SchedSetaffinity(cmd.Process.Pid, &one)
		var c [1]byte
		p := uintptr(unsafe.Pointer(&c[0]))
		for range times {
			unix.RawSyscall(unix.SYS_WRITE, uintptr(there[1]), p, 1)
			unix.RawSyscall(unix.SYS_READ, uintptr(back[0]), p, 1)
		}
	}
}

func bareRead(path, buf []byte) {
	fd, _, e := unix.Syscall6(unix.SYS_OPENAT, ^uintptr(99), uintptr(unsafe.Pointer(&path[0])), unix.O_RDONLY, 0, 0, 0)
	if e != 0 {
		panic(e)
	}
	unix.Syscall(unix.SYS_READ, fd, uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)))
	unix.Syscall(unix.SYS_CLOSE, fd, 0, 0)
}

// cpuTime is what this process has used, which other processes on the machine do not disturb as they do the wall clock.
func cpuTime() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &t); err != nil {
		panic(err)
	}
	return time.Duration(t.Nano())
}
