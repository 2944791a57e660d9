package kernel

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// KeepSmall has this process, and those that it begins, use pages of the usual size alone: one byte that is touched
// then brings no 2 MB along.
func KeepSmall() error {
	return unix.Prctl(unix.PR_SET_THP_DISABLE, 1, 0, 0, 0)
}

// OwnFile is the memory in which pages of this program's own file stand.
type OwnFile struct{ mappings []text.Mapping }

// piece is how much of the program's file the kernel brings along with a page of it.
const piece = 16 << 10

// OpenOwnFile finds where pages of this program's file stand, and divides that into pieces. A kernel that keeps a file
// in large pieces (Linux 6.18 and later) maps a whole one, of up to 2 MB, where one page of it is needed; but never
// beyond the mapping that the page is in. Neighbours that are told apart by whether they belong into a core dump, where
// a program's own file never is, are mappings of their own. Mappings of which any page was written are left alone:
// their content is nowhere else.
func OpenOwnFile() (*OwnFile, error) {
	raw, err := os.ReadFile("/proc/self/smaps")
	if err != nil {
		return nil, err
	}
	own, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return nil, err
	}
	o := &OwnFile{text.UnwrittenMappings(raw, own)}
	for _, m := range o.mappings {
		for at := m.Start; at < m.Start+m.Size; at += 2 * piece {
			if err := advise(at, min(piece, m.Start+m.Size-at), unix.MADV_DONTDUMP); err != nil {
				return o, err
			}
		}
	}
	return o, nil
}

// Release gives the memory back: most pages were needed for a while only, and the kernel brings back from its cache the
// ones that are needed again.
func (o *OwnFile) Release() error {
	if o == nil {
		return nil
	}
	var errs []error
	for _, m := range o.mappings {
		errs = append(errs, advise(m.Start, m.Size, unix.MADV_DONTNEED))
	}
	return errors.Join(errs...)
}

func advise(start, size uintptr, how uintptr) error {
	if _, _, errno := unix.Syscall(unix.SYS_MADVISE, start, size, how); errno != 0 {
		return errno
	}
	return nil
}
