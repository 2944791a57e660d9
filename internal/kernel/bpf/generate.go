package bpf

// Needs clang and the headers of libbpf; the objects are in the repository, so that a build does not.
//go:generate go tool bpf2go -cc clang-16 -strip llvm-strip-16 -target bpfel -type ended -type spent -type here -type groups cpu cpu.bpf.c -- -O2 -g -Wall -I/usr/include/x86_64-linux-gnu
//go:generate go tool bpf2go -cc clang-16 -strip llvm-strip-16 -target bpfel -type task -type groups tasks tasks.bpf.c -- -O2 -g -Wall -I/usr/include/x86_64-linux-gnu
//go:generate go tool bpf2go -cc clang-16 -strip llvm-strip-16 -target bpfel -type flow -type moved net net.bpf.c -- -O2 -g -Wall -I/usr/include/x86_64-linux-gnu
//go:generate go tool bpf2go -cc clang-16 -strip llvm-strip-16 -target bpfel -type transfer -type done -type slot disk disk.bpf.c -- -O2 -g -Wall -I/usr/include/x86_64-linux-gnu
