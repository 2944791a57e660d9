package bpf

// Needs clang and the headers of libbpf, and the flags that "make generate" gives; the objects are in the repository,
// so that a build needs none of these.
//go:generate -command bpf go tool bpf2go -cc clang-16 -strip llvm-strip-16 -target bpfel
//go:generate bpf -type ended -type spent -type here -type who -type place cpu cpu.bpf.c
//go:generate bpf -type task -type groups tasks tasks.bpf.c
//go:generate bpf -type flow -type moved -type address net net.bpf.c
//go:generate bpf -type transfer -type done -type slot disk disk.bpf.c
//go:generate bpf -type made groups groups.bpf.c
//go:generate bpf -type begun -type done -type note calls calls.bpf.c
//go:generate go run callnames.go
