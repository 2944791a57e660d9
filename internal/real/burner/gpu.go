package main

import (
	"fmt"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The orders that the GPU of the tests takes (internal/guest/testgpu): to work for so many microseconds, and to set so
// many bytes of its memory aside.
const (
	gpuWork = 1<<30 | 8<<16 | 'd'<<8 | 0x40
	gpuTake = 3<<30 | 16<<16 | 'd'<<8 | 0x41
)

// gpu takes memory of a GPU, and lets it work so many times for so long; then it waits until it is ended.
func gpu(args []string) error {
	node, jobs, micros, pause, bytes := args[0], number(args[1]), number(args[2]), number(args[3]), number(args[4])
	f, err := os.OpenFile(node, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	order := func(what string, request uintptr, argument unsafe.Pointer) error {
		for {
			_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, uintptr(argument))
			if errno == 0 {
				return nil
			}
			if errno != unix.EINTR {
				return fmt.Errorf("%s: %w", what, errno)
			}
		}
	}
	if bytes > 0 {
		take := struct {
			bytes           uint64
			handle, padding uint32
		}{bytes: uint64(bytes)}
		if err := order("take memory", gpuTake, unsafe.Pointer(&take)); err != nil {
			return err
		}
	}
	for range jobs {
		job := [2]uint32{uint32(micros)}
		if err := order("work", gpuWork, unsafe.Pointer(&job)); err != nil {
			return err
		}
		time.Sleep(time.Duration(pause) * time.Microsecond)
	}
	fmt.Println("done")
	return wait(nil)
}

// wait does nothing until it is ended.
func wait([]string) error {
	time.Sleep(time.Hour)
	return nil
}
