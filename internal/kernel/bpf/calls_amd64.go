package bpf

import "golang.org/x/sys/unix"

// callArguments is where in struct pt_regs the first arguments of a system call are, in bytes: rdi, rsi and rdx
// (arch/x86/include/asm/ptrace.h).
var callArguments = [3]uint32{14 * 8, 13 * 8, 12 * 8}

// opensFirst are the system calls whose first argument is the path that they open.
var opensFirst = [2]int32{unix.SYS_OPEN, unix.SYS_CREAT}
