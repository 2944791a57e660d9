package kernel

import (
	"os"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// KeepSmall has this process, and those that it begins, use pages of the usual size alone: one byte that is touched
// then brings no 2 MB along. A kernel that keeps a file in large pieces may still map a whole piece of it at once.
func KeepSmall() error {
	return unix.Prctl(unix.PR_SET_THP_DISABLE, 1, 0, 0, 0)
}

// ReleaseOwnFile gives back the memory in which pages of this program's own file stand: most were needed at its start
// only, and the kernel brings back from its cache the ones that are needed again. It returns how many bytes of address
// space it went over. Mappings of which any page was written are left alone: their content is nowhere else.
func ReleaseOwnFile() (int64, error) {
	raw, err := os.ReadFile("/proc/self/smaps")
	if err != nil {
		return 0, err
	}
	own, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return 0, err
	}
	var total int64
	for _, m := range text.UnwrittenMappings(raw, own) {
		if _, _, errno := unix.Syscall(unix.SYS_MADVISE, m.Start, m.Size, unix.MADV_DONTNEED); errno != 0 {
			return total, errno
		}
		total += int64(m.Size)
	}
	return total, nil
}
