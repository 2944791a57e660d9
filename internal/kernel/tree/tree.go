package tree

import (
	"errors"
	"fmt"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// maxFile bounds what is read of one kernel file. The longest legitimate one, memory.stat or a long CPU list, is far
// below.
const maxFile = 4 << 20

// Tree is a directory whose files are read with raw system calls relative to an open descriptor. os.ReadFile costs
// 27-39 µs for the four files of a process, mostly allocation and poller bookkeeping; this costs 15-27 µs and none.
type Tree struct {
	FD   int
	Root string
	path []byte // scratch, NUL-terminated
	buf  []byte
}

// Open opens a root directory. Close the Tree when it is not needed any more.
func Open(root string) (*Tree, error) {
	fd, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", root, err)
	}
	return &Tree{FD: fd, Root: root, path: make([]byte, 0, 512), buf: make([]byte, 16<<10)}, nil
}

// Close closes the root.
func (t *Tree) Close() { unix.Close(t.FD) }

// At begins a path below the root.
func (t *Tree) At(parts ...string) []byte {
	t.path = t.path[:0]
	for i, p := range parts {
		if i > 0 {
			t.path = append(t.path, '/')
		}
		t.path = append(t.path, p...)
	}
	return t.path
}

// AtPID begins the path of a process's file.
func (t *Tree) AtPID(pid int32, file string) []byte {
	t.path = AppendInt(t.path[:0], int64(pid))
	t.path = append(t.path, '/')
	t.path = append(t.path, file...)
	return t.path
}

// AppendInt adds the decimal digits of a number that is not negative.
func AppendInt(b []byte, n int64) []byte {
	var digits [20]byte
	i := len(digits)
	for {
		i--
		digits[i] = byte('0' + n%10)
		if n /= 10; n == 0 {
			return append(b, digits[i:]...)
		}
	}
}

// Open opens a file; the caller closes the descriptor. The second value is 0 where that went well.
func (t *Tree) Open(path []byte, flags int) (int, syscall.Errno) {
	t.path = append(path, 0)
	for {
		fd, _, e := unix.Syscall6(unix.SYS_OPENAT, uintptr(t.FD), uintptr(unsafe.Pointer(&t.path[0])),
			uintptr(flags|unix.O_CLOEXEC), 0, 0, 0)
		if e != unix.EINTR {
			return int(fd), e
		}
	}
}

// Read returns a file's whole content, valid until the next call. A file that grows while it is read is read on.
func (t *Tree) Read(path []byte) ([]byte, error) {
	fd, e := t.Open(path, unix.O_RDONLY)
	if e != 0 {
		return nil, e
	}
	defer unix.Close(fd)
	n := 0
	for {
		if n == len(t.buf) {
			if n >= maxFile {
				return nil, fmt.Errorf("longer than %d bytes: %w", maxFile, text.ErrGarbage)
			}
			t.buf = append(t.buf, make([]byte, len(t.buf))...)
		}
		m, _, e := unix.Syscall(unix.SYS_READ, uintptr(fd), uintptr(unsafe.Pointer(&t.buf[n])), uintptr(len(t.buf)-n))
		switch {
		case e == unix.EINTR:
		case e != 0:
			return nil, e
		case m == 0:
			return t.buf[:n], nil
		default:
			n += int(m)
		}
	}
}

// Readlink returns a symbolic link's target, valid until the next call.
func (t *Tree) Readlink(path []byte) ([]byte, error) {
	t.path = append(path, 0)
	n, _, e := unix.Syscall6(unix.SYS_READLINKAT, uintptr(t.FD), uintptr(unsafe.Pointer(&t.path[0])),
		uintptr(unsafe.Pointer(&t.buf[0])), uintptr(len(t.buf)), 0, 0)
	if e != 0 {
		return nil, e
	}
	return t.buf[:n], nil
}

// Exists tells whether a path is there.
func (t *Tree) Exists(path []byte) bool {
	fd, e := t.Open(path, unix.O_PATH)
	if e == 0 {
		unix.Close(fd)
	}
	return e == 0
}

// Entry is one name of a directory. Name is valid during the visit only.
type Entry struct {
	Name  []byte
	Inode uint64
	IsDir bool
}

// List visits the entries of a directory (getdents64, by its manual page). buf is the caller's, so that visits can
// nest.
func (t *Tree) List(path []byte, buf []byte, visit func(Entry)) error {
	fd, e := t.Open(path, unix.O_RDONLY|unix.O_DIRECTORY)
	if e != 0 {
		return e
	}
	defer unix.Close(fd)
	for {
		n, _, e := unix.Syscall(unix.SYS_GETDENTS64, uintptr(fd), uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)))
		if e == unix.EINTR {
			continue
		}
		if e != 0 {
			return e
		}
		if n == 0 {
			return nil
		}
		for rest := buf[:n]; len(rest) >= 20; {
			size := int(*(*uint16)(unsafe.Pointer(&rest[16])))
			if size < 20 || size > len(rest) {
				return text.ErrGarbage
			}
			name := rest[19:size]
			for i, c := range name {
				if c == 0 {
					name = name[:i]
					break
				}
			}
			kind := rest[18]
			if string(name) != "." && string(name) != ".." {
				visit(Entry{Name: name, Inode: *(*uint64)(unsafe.Pointer(&rest[0])), IsDir: kind == unix.DT_DIR})
			}
			rest = rest[size:]
		}
	}
}

// Gone tells that a file or process vanished between being listed and being read, which is normal.
func Gone(err error) bool {
	return errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ESRCH) || errors.Is(err, unix.ENODEV) ||
		errors.Is(err, unix.ENOTDIR)
}

// IsCgroups tells the kernel's cgroup filesystems from files laid out like one.
func (t *Tree) IsCgroups() bool {
	var fs unix.Statfs_t
	if err := unix.Fstatfs(t.FD, &fs); err != nil {
		return false
	}
	return fs.Type == unix.CGROUP_SUPER_MAGIC || fs.Type == unix.CGROUP2_SUPER_MAGIC
}

// ReadAgain returns what a file that is kept open holds now, valid until the next call.
func (t *Tree) ReadAgain(fd int) ([]byte, error) {
	n := 0
	for {
		if n == len(t.buf) {
			if n >= maxFile {
				return nil, fmt.Errorf("longer than %d bytes: %w", maxFile, text.ErrGarbage)
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
