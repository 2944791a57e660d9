package kernel_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
)

// BenchmarkRead reads 5,000 processes in 1,000 cgroups, steady. Its floor, measured in turn with it, is a bare
// open-read-close of the same files: no listing, no parsing, nothing kept.
func BenchmarkRead(b *testing.B) {
	const processes, cgroups = 5000, 1000
	dir := b.TempDir()
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() { // a filesystem in memory, as the kernel's are
		var err error
		dir, err = os.MkdirTemp("/dev/shm", "vinescale-bench-")
		require.NoError(b, err)
		b.Cleanup(func() { os.RemoveAll(dir) })
	}
	files := layOut(b, dir, processes, cgroups)
	registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: filepath.Join(dir, "etc"),
		Run: filepath.Join(dir, "run")}})
	uptime := 1000 * time.Second
	r, err := kernel.Open(registry, kernel.Options{
		Roots: kernel.Roots{Proc: filepath.Join(dir, "proc"), Sys: filepath.Join(dir, "sys"),
			Cgroup: filepath.Join(dir, "cgroup")},
		Clock: func() (time.Time, time.Duration) { uptime += 5 * time.Second; return time.Now(), uptime },
	})
	require.NoError(b, err)
	defer r.Close()
	readings := make([]account.Reading, 2)
	for n := range 4 { // past the first looks at each process
		require.NoError(b, r.Read(&readings[n%2]))
	}
	require.Len(b, readings[0].Processes, processes)
	require.Len(b, readings[0].Groups, cgroups)
	require.Empty(b, r.Trouble())

	allocations := testing.AllocsPerRun(5, func() { r.Read(&readings[0]) })
	var floor, read time.Duration
	buf := make([]byte, 64<<10)
	n := 0
	for b.Loop() {
		start := cpuTime()
		for _, f := range files {
			bareRead(f, buf)
		}
		floor += cpuTime() - start
		start = cpuTime()
		if err := r.Read(&readings[n%2]); err != nil {
			b.Fatal(err)
		}
		read += cpuTime() - start
		n++
	}
	b.ReportMetric(float64(read.Microseconds())/float64(b.N)/processes, "us/process")
	b.ReportMetric(float64(read)/float64(floor), "x-floor")
	b.ReportMetric(allocations/processes, "allocs/process")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkRecognise measures what recognition adds to a tick with 1,000 workloads and 5,000 processes that are known:
// looking again, once a minute, whose each process is and what each cgroup may use. Its floor, in turn with it, is the
// same reading without. What recognising all of them from nothing costs, once, is reported beside it.
func BenchmarkRecognise(b *testing.B) {
	const processes, cgroups, never = 5000, 1000, 1 << 40
	dir := b.TempDir()
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		dir, err = os.MkdirTemp("/dev/shm", "vinescale-bench-")
		require.NoError(b, err)
		b.Cleanup(func() { os.RemoveAll(dir) })
	}
	layOut(b, dir, processes, cgroups)
	var spent [2]time.Duration // with looking again, and without
	var readers [2]*kernel.Reader
	var readings [2]account.Reading
	var once time.Duration
	for i, every := range []int64{0, never} {
		registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: filepath.Join(dir, "etc"),
			Run: filepath.Join(dir, "run"), Proc: filepath.Join(dir, "proc")}})
		r, err := kernel.Open(registry, kernel.Options{
			Roots: kernel.Roots{Proc: filepath.Join(dir, "proc"), Sys: filepath.Join(dir, "sys"),
				Cgroup: filepath.Join(dir, "cgroup")}, RecheckEvery: every,
		})
		require.NoError(b, err)
		defer r.Close()
		readers[i] = r
		for n := range 4 {
			start := cpuTime()
			require.NoError(b, r.Read(&readings[i]))
			if n == 0 {
				once = cpuTime() - start
			}
		}
		require.Equal(b, cgroups, registry.Count())
	}
	for b.Loop() {
		for range 12 { // a whole minute
			for i, r := range readers {
				start := cpuTime()
				require.NoError(b, r.Read(&readings[i]))
				spent[i] += cpuTime() - start
			}
		}
	}
	tick := spent[1] / time.Duration(12*b.N)
	b.ReportMetric(100*(float64(spent[0])/float64(spent[1])-1), "%-added-to-a-tick")
	b.ReportMetric(float64(once-tick)/float64(tick), "ticks-once")
	b.ReportMetric(0, "ns/op")
}

// layOut writes the kernel files of sleeping processes and returns those that a steady reading reads.
func layOut(b *testing.B, dir string, processes, cgroups int) (read [][]byte) {
	write := func(name, content string) []byte {
		path := filepath.Join(dir, name)
		require.NoError(b, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(b, os.WriteFile(path, []byte(content), 0o644))
		return append([]byte(path), 0)
	}
	write("proc/sys/kernel/random/boot_id", "b\n")
	for name, content := range map[string]string{
		"stat": "cpu0 1 1 1 1 1 1 1 1\n", "uptime": "1000.00 1.00\n",
		"meminfo": "MemTotal: 1000000 kB\nMemFree: 1000 kB\n", "loadavg": "0.00 0.00 0.00 1/1 1\n",
		"diskstats": "", "1/net/dev": "eth0: 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16\n",
	} {
		read = append(read, write("proc/"+name, content))
	}
	require.NoError(b, os.MkdirAll(filepath.Join(dir, "sys"), 0o755))
	write("cgroup/cgroup.controllers", "cpu memory io\n")
	for i := range cgroups {
		group := fmt.Sprintf("cgroup/system.slice/intake-%d.service/", i)
		read = append(read, write(group+"cpu.stat",
			"usage_usec 123456\nuser_usec 1\nsystem_usec 1\nnr_periods 0\nnr_throttled 0\nthrottled_usec 0\n"),
			write(group+"memory.current", "123456789\n"),
			write(group+"memory.stat", "anon 1\nfile 2\nkernel 3\nkernel_stack 1\npagetables 1\nsock 0\nshmem 0\n"),
			write(group+"io.stat", ""))
	}
	for i := range processes {
		pid := "proc/" + strconv.Itoa(1000+i) + "/"
		read = append(read,
			write(pid+"stat",
				fmt.Sprintf(
					"%d (intake) S 1 1 1 0 -1 4194560 0 0 0 0 150 50 7 7 20 0 3 0 100 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 "+
						"17 0 0 0 0 0 0\n", 1000+i)),
			write(pid+"statm", "100 50 20 1 0 1 0\n"),
			write(pid+"io",
				"rchar: 1\nwchar: 1\nsyscr: 1\nsyscw: 1\nread_bytes: 1\nwrite_bytes: 1\ncancelled_write_bytes: 0\n"))
		write(pid+"status", "Name:\tintake\nUid:\t801\t801\t801\t801\nCpus_allowed_list:\t0-3\n")
		write(pid+"cgroup", fmt.Sprintf("0::/system.slice/intake-%d.service\n", i%cgroups))
	}
	return read
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
		panic(syscall.Errno(0))
	}
	return time.Duration(t.Nano())
}
