package bpf

// callArguments is where in struct pt_regs the first arguments of a system call are, in bytes: x0, x1 and x2
// (arch/arm64/include/asm/ptrace.h).
var callArguments = [3]uint32{0, 8, 16}

// opensFirst are the system calls whose first argument is the path that they open: there are none.
var opensFirst = [2]int32{-1, -1}
