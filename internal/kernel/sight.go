package kernel

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// Sight is what a process or a thread does at a moment, by its own files (proc_pid_stat(5), proc_pid_wchan(5)).
type Sight struct {
	ID      int32 // pid, or tid of a thread
	Start   int64 // clock ticks since boot
	Comm    string
	Program string // full path; empty where it may not be read
	State   byte
	CPU     int32 // that it last ran on
	Nice    int
	Threads int32

	User, System time.Duration // since it began
	WaitsIn      string        // function of the kernel in which it waits; empty for none, or where it is not told
}

// SightOf looks at a process below a root of processes; false where it is gone. Its niceness is known only of a
// process of this host.
func SightOf(proc string, pid int32, own bool) (Sight, bool) {
	g, ok := sight(filepath.Join(proc, strconv.Itoa(int(pid))), pid, own)
	if ok {
		g.Program, _ = os.Readlink(filepath.Join(proc, strconv.Itoa(int(pid)), "exe"))
	}
	return g, ok
}

// SightsOfThreads looks at the threads of a process, in the order of their ids.
func SightsOfThreads(proc string, pid int32, own bool) (list []Sight) {
	dir := filepath.Join(proc, strconv.Itoa(int(pid)), "task")
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		tid, err := strconv.ParseInt(e.Name(), 10, 32)
		if err != nil {
			continue
		}
		if g, ok := sight(filepath.Join(dir, e.Name()), int32(tid), own); ok {
			list = append(list, g)
		}
	}
	slices.SortFunc(list, func(a, b Sight) int { return int(a.ID - b.ID) })
	return list
}

func sight(dir string, id int32, own bool) (g Sight, ok bool) {
	b, err := os.ReadFile(filepath.Join(dir, "stat"))
	if err != nil {
		return g, false
	}
	s, ok := text.ParseStat(b)
	if !ok {
		return g, false
	}
	g = Sight{ID: id, Start: s.Start, Comm: string(s.Comm), State: s.State, CPU: s.CPU, Threads: s.Threads,
		User: time.Duration(s.User) * time.Microsecond, System: time.Duration(s.System) * time.Microsecond}
	if b, err := os.ReadFile(filepath.Join(dir, "wchan")); err == nil {
		g.WaitsIn = strings.Trim(string(b), "0\x00\n")
	}
	if own {
		if raw, err := unix.Getpriority(unix.PRIO_PROCESS, int(id)); err == nil {
			g.Nice = 20 - raw // the system call itself answers 1 to 40
		}
	}
	return g, true
}
