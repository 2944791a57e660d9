package space

import (
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/tree"
)

// A walk is given up beyond so many entries, and so many directories in one another.
const (
	walkAtMost  = 100_000
	walkDeepest = 200
)

var errTooBig = errors.New("more entries, or deeper, than is walked")

// Walk adds up the space of a directory and all below it on one filesystem, some entries at a time. It follows no
// symbolic link and goes from directory to directory by open descriptors: whoever owns the files may rename them
// meanwhile.
type Walk struct {
	stack  []*level
	device uint64
	linked map[uint64]bool // files of several names, counted once
	Bytes  int64
	Files  int64
	Err    error
}

// level is a directory of which some entries are still to be looked at.
type level struct {
	dir     *os.File
	pending []string
}

// OpenWalk begins a walk. An error is told at its first step.
func OpenWalk(dir string) *Walk {
	w := &Walk{linked: map[uint64]bool{}}
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		w.Err = err
		return w
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		unix.Close(fd)
		w.Err = err
		return w
	}
	w.device = st.Dev
	w.add(&st)
	w.stack = append(w.stack, &level{dir: os.NewFile(uintptr(fd), dir)})
	return w
}

func (w *Walk) add(st *unix.Stat_t) {
	if st.Nlink > 1 && st.Mode&unix.S_IFMT != unix.S_IFDIR {
		if w.linked[st.Ino] {
			return
		}
		w.linked[st.Ino] = true
	}
	w.Bytes += st.Blocks * 512 // whatever the filesystem's block is (stat(2))
	w.Files++
}

// Step looks at some entries more. It returns how many of those allowed are left, and whether the walk is over.
func (w *Walk) Step(allowed int) (left int, done bool) {
	for ; allowed > 0 && w.Err == nil && len(w.stack) > 0; allowed-- {
		top := w.stack[len(w.stack)-1]
		if len(top.pending) == 0 {
			names, err := top.dir.Readdirnames(256)
			if len(names) == 0 {
				top.dir.Close()
				w.stack = w.stack[:len(w.stack)-1]
				if err != nil && !errors.Is(err, io.EOF) && !tree.Gone(err) {
					w.Err = err
				}
				continue
			}
			top.pending = names
		}
		name := top.pending[0]
		top.pending = top.pending[1:]
		w.enter(int(top.dir.Fd()), name)
	}
	if w.Err != nil {
		w.Close()
	}
	return allowed, len(w.stack) == 0
}

func (w *Walk) enter(dir int, name string) {
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		if !tree.Gone(err) {
			w.Err = err
		}
		return
	}
	if st.Dev != w.device {
		return // another filesystem is mounted there
	}
	w.add(&st)
	if w.Files > walkAtMost {
		w.Err = errTooBig
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR || w.Err != nil {
		return
	}
	if len(w.stack) >= walkDeepest {
		w.Err = errTooBig
		return
	}
	fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	switch {
	case err == nil:
		w.stack = append(w.stack, &level{dir: os.NewFile(uintptr(fd), name)})
	case !tree.Gone(err) && err != unix.ENOTDIR && err != unix.ELOOP:
		w.Err = err
	}
}

// Close lets a walk go before its end. A nil one is none.
func (w *Walk) Close() {
	if w == nil {
		return
	}
	for _, l := range w.stack {
		l.dir.Close()
	}
	w.stack = nil
}
