// Package guest tests attribution on a kernel with cgroup version 2 alone: it boots one in an emulated machine and runs
// the tests named TestGuest… in it, as its first process.
//
// The test program itself is the machine's init. Outside, TestVersion2 builds its initial file system, starts QEMU
// without hardware acceleration (slow, but there everywhere) and reads the results from a serial port. It is run by
// "make test-guest".
package guest
