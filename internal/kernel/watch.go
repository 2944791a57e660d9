package kernel

import (
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/tree"
)

// watch tells whether directories of the cgroup trees were made, removed or renamed (inotify(7)), so that trees that
// did not change need not be walked. The zero value watches nothing, and then everything may have changed.
type watch struct {
	fd   int // + 1
	full bool
	buf  []byte
}

func (w *watch) open() {
	if fd, err := unix.InotifyInit1(unix.IN_NONBLOCK | unix.IN_CLOEXEC); err == nil {
		w.fd, w.buf = fd+1, make([]byte, 64<<10)
	}
}

func (w *watch) close() {
	if w.fd > 0 {
		unix.Close(w.fd - 1)
		w.fd = 0
	}
}

// add watches a directory; it is to be listed after that. A watch ends with its directory.
func (w *watch) add(path string) {
	if w.fd == 0 {
		return
	}
	_, err := unix.InotifyAddWatch(w.fd-1, path, unix.IN_CREATE|unix.IN_DELETE|unix.IN_MOVE|unix.IN_ONLYDIR)
	if err != nil && !tree.Gone(err) {
		w.full = true // what cannot be watched must be walked
	}
}

// changed tells whether anything changed since the last call, or may have.
func (w *watch) changed() bool {
	if w.fd == 0 || w.full {
		return true
	}
	found := false
	for {
		n, err := unix.Read(w.fd-1, w.buf)
		if err != nil || n <= 0 {
			return found
		}
		found = found || tellsChange(w.buf[:n])
	}
}

// tellsChange looks through events for one of a directory, or for more than the kernel kept.
func tellsChange(b []byte) bool {
	const header = unix.SizeofInotifyEvent
	for len(b) >= header {
		mask := *(*uint32)(unsafe.Pointer(&b[4]))
		length := *(*uint32)(unsafe.Pointer(&b[12]))
		if mask&unix.IN_Q_OVERFLOW != 0 || mask&unix.IN_ISDIR != 0 {
			return true
		}
		if uint64(len(b)) < header+uint64(length) {
			return true
		}
		b = b[header+length:]
	}
	return false
}

// watched is the full path of a directory of a hierarchy.
func (h *hierarchy) watched(path []byte) string {
	return strings.TrimSuffix(h.Root, "/") + string(path)
}
