package guest

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// Calls for which the libraries have no wrapper.

func control(call uintptr, fd uintptr, request uintptr, x *[28]byte) error {
	if _, _, e := unix.Syscall(call, fd, request, uintptr(unsafe.Pointer(x))); e != 0 {
		return e
	}
	return nil
}

func quota(fd, command uintptr, id uint32, q *[72]byte) error {
	if _, _, e := unix.Syscall6(unix.SYS_QUOTACTL_FD, fd, command, uintptr(id), uintptr(unsafe.Pointer(q)), 0,
		0); e != 0 {
		return e
	}
	return nil
}

func swap(call uintptr, device string, flags int) error {
	path, err := unix.BytePtrFromString(device)
	if err != nil {
		return err
	}
	if _, _, e := unix.Syscall(call, uintptr(unsafe.Pointer(path)), uintptr(flags), 0); e != 0 {
		return e
	}
	return nil
}
