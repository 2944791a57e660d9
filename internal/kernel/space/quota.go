package space

import (
	"unsafe"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/kernel/text"
)

// fsXattr is struct fsxattr of ioctl_xfs_fsgetxattr(2).
type fsXattr struct {
	flags, extentSize, extents, project, cowExtentSize uint32
	_                                                  [8]byte
}

// diskQuota is struct if_dqblk of quotactl(2): limits in KiB, what is used in bytes.
type diskQuota struct {
	hardKiB, softKiB, used, hardFiles, softFiles, files, graceBytes, graceFiles uint64
	valid                                                                       uint32
	_                                                                           uint32
}

const (
	fsGetXattr = 0x801c581f      // FS_IOC_FSGETXATTR
	getProject = 0x800007<<8 | 2 // QCMD(Q_GETQUOTA, PRJQUOTA)
	mostBytes  = 1<<63 - 1
)

// ProjectOf is the number of the project that a directory is in; 0 for none.
func ProjectOf(fd int) (uint32, error) {
	var x fsXattr
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), fsGetXattr, uintptr(unsafe.Pointer(&x))); errno != 0 {
		return 0, errno
	}
	return x.project, nil
}

// QuotaOf is what a project has on the filesystem of a descriptor.
func QuotaOf(fd int, project uint32) (account.Files, error) {
	var q diskQuota
	if _, _, errno := unix.Syscall6(unix.SYS_QUOTACTL_FD, uintptr(fd), getProject, uintptr(project),
		uintptr(unsafe.Pointer(&q)), 0, 0); errno != 0 {
		return account.Files{}, errno
	}
	if q.used > mostBytes || q.files > mostBytes || q.hardKiB > mostBytes>>10 {
		return account.Files{}, text.ErrGarbage
	}
	return account.Files{Bytes: int64(q.used), Count: int64(q.files), LimitBytes: int64(q.hardKiB << 10)}, nil
}
