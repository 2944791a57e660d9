// Package bpf counts inside the kernel, with eBPF: CPU time by cgroup and CPU, tasks, tasks that ended, network and
// block I/O by cgroup. Each is a Feature that is there or not, with the reason; none depends on another. Beside them a
// Trace counts the system calls of one process for a while.
//
// The programs are the *.bpf.c files beside this one; "make generate" compiles them, and the loader fits them to the
// running kernel by its type information (CO-RE). Cgroups are known by number: the inode of their directory.
//
// It imports nothing of this module. Start with Open.
package bpf
