package kernel

import (
	"fmt"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The files of a cgroup that are kept open, by their place in group.files.
const (
	keptCPU = iota
	keptMemory
	keptIO
	keptFiles
)

// mostKept is how many files may be kept open at most: half of what this process may open.
func mostKept() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return 0
	}
	return int(min(limit.Cur/2, 1<<20))
}

// leave gives up what is held of a cgroup that is no more.
func (r *Reader) leave(g *group) {
	for i := range g.files {
		if g.files[i] > 0 {
			r.keptOpen--
		}
	}
	g.close()
	r.leaveCounted(g)
}

func (g *group) close() {
	for i := range g.files {
		g.drop(i)
	}
}

func (g *group) drop(slot int) {
	if fd := g.files[slot]; fd > 0 {
		unix.Close(int(fd - 1))
		g.files[slot] = 0
	}
}

// isCgroups tells the kernel's cgroup filesystems from files laid out like one.
func (t *tree) isCgroups() bool {
	var fs unix.Statfs_t
	if err := unix.Fstatfs(t.fd, &fs); err != nil {
		return false
	}
	return fs.Type == unix.CGROUP_SUPER_MAGIC || fs.Type == unix.CGROUP2_SUPER_MAGIC
}

// readAgain returns what a file that is kept open holds now, valid until the next call.
func (t *tree) readAgain(fd int) ([]byte, error) {
	n := 0
	for {
		if n == len(t.buf) {
			if n >= maxFile {
				return nil, fmt.Errorf("longer than %d bytes: %w", maxFile, errGarbage)
			}
			t.buf = append(t.buf, make([]byte, len(t.buf))...)
		}
		m, _, e := unix.Syscall6(unix.SYS_PREAD64, uintptr(fd), uintptr(unsafe.Pointer(&t.buf[n])),
			uintptr(len(t.buf)-n), uintptr(n), 0, 0)
		switch {
		case e == syscall.EINTR:
		case e != 0:
			return nil, e
		case m == 0:
			return t.buf[:n], nil
		default:
			// A cgroup's file comes whole unless it is long: a short read of one is its end, which saves asking again.
			if n += int(m); n < len(t.buf) && n < 4<<10 {
				return t.buf[:n], nil
			}
		}
	}
}
