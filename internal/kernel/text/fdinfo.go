package text

import (
	"bytes"
	"strconv"

	"golang.org/x/sys/unix"
)

// Writable reads in what is told of a descriptor (proc_pid_fdinfo(5)) whether it was opened for writing.
func Writable(fdinfo []byte) bool {
	for len(fdinfo) > 0 {
		var l []byte
		l, fdinfo = Line(fdinfo)
		if flags, ok := bytes.CutPrefix(l, []byte("flags:")); ok {
			n, err := strconv.ParseInt(string(bytes.TrimSpace(flags)), 8, 64)
			return err == nil && n&unix.O_ACCMODE != unix.O_RDONLY
		}
	}
	return false
}

// MountOf reads there too by which mount the descriptor was opened; 0 where that is not told.
func MountOf(fdinfo []byte) int64 {
	for len(fdinfo) > 0 {
		var l []byte
		l, fdinfo = Line(fdinfo)
		if id, ok := bytes.CutPrefix(l, []byte("mnt_id:")); ok {
			n, _ := Number(bytes.TrimSpace(id))
			return n
		}
	}
	return 0
}
