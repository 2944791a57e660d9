package kernel

import (
	"bytes"
	"strconv"

	"golang.org/x/sys/unix"
)

// writable reads in what is told of a descriptor (proc_pid_fdinfo(5)) whether it was opened for writing.
func writable(fdinfo []byte) bool {
	for len(fdinfo) > 0 {
		var l []byte
		l, fdinfo = line(fdinfo)
		if flags, ok := bytes.CutPrefix(l, []byte("flags:")); ok {
			n, err := strconv.ParseInt(string(bytes.TrimSpace(flags)), 8, 64)
			return err == nil && n&unix.O_ACCMODE != unix.O_RDONLY
		}
	}
	return false
}

// mountOf reads there too by which mount the descriptor was opened; 0 where that is not told.
func mountOf(fdinfo []byte) int64 {
	for len(fdinfo) > 0 {
		var l []byte
		l, fdinfo = line(fdinfo)
		if id, ok := bytes.CutPrefix(l, []byte("mnt_id:")); ok {
			n, _ := number(bytes.TrimSpace(id))
			return n
		}
	}
	return 0
}
