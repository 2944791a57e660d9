package main

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

var acts = map[string]func(args []string) error{"shorts": shorts, "pinned": pinned, "receive": receive, "send": send,
	"write":   write,
	"discard": func(args []string) error { return change(unix.BLKDISCARD, args) },
	"zero":    func(args []string) error { return change(unix.BLKZEROOUT, args) }, "crowd": crowd, "echo": echo,
	"hold": hold, "obey": obey, "brood": brood, "share": share, "contain": contain, "inside": inside,
	"address": address, "gpu": gpu, "wait": wait, "flood": flood, "part": part}

func number(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		panic(err)
	}
	return n
}

// shorts forks children that live about a millisecond. They are waited for a while after they ended, since only then
// the kernel's own figure of what they used is final: by the clock, and by turns of this process, for a machine that
// was halted altogether has only its clock moved on.
func shorts(args []string) error {
	count, rate, micros := number(args[0]), number(args[1]), number(args[2])
	if args[3] == "stop" {
		if err := syscall.Kill(os.Getpid(), syscall.SIGSTOP); err != nil {
			return err
		}
	} else {
		for {
			if _, err := os.Stat(args[3]); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	runtime.LockOSThread()
	own, before := clock(false), ofChildren()
	begin := time.Now()
	type born struct {
		pid   int
		ended time.Time // when it was seen to have ended
		turns int       // since then
	}
	var alive []born
	reap := func() error {
		kept := alive[:0]
		for _, c := range alive {
			if c.ended.IsZero() {
				var info unix.Siginfo
				if err := unix.Waitid(unix.P_PID, c.pid, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT,
					nil); err != nil {
					return fmt.Errorf("look at %d: %w", c.pid, err)
				}
				if info.Signo != 0 {
					c.ended = time.Now()
				}
			}
			if c.ended.IsZero() || time.Since(c.ended) < 100*time.Millisecond || c.turns < 20 {
				if !c.ended.IsZero() {
					c.turns++
				}
				kept = append(kept, c)
				continue
			}
			if _, err := syscall.Wait4(c.pid, nil, 0, nil); err != nil {
				return fmt.Errorf("wait for %d: %w", c.pid, err)
			}
		}
		alive = kept
		return nil
	}
	for n := 0; n < count; {
		for ; n < count && time.Since(begin) >= time.Duration(n)*time.Second/time.Duration(rate); n++ {
			pid, err := fork(int64(micros) * 1000)
			if err != nil {
				return err
			}
			alive = append(alive, born{pid: pid})
		}
		if err := reap(); err != nil {
			return err
		}
		time.Sleep(time.Millisecond)
	}
	for len(alive) > 0 {
		time.Sleep(20 * time.Millisecond)
		if err := reap(); err != nil {
			return err
		}
	}
	children := ofChildren() - before
	total := children + clock(false) - own
	if err := os.WriteFile(args[4]+".part", fmt.Appendln(nil, total.Nanoseconds(), children.Nanoseconds()),
		0o644); err != nil {
		return err
	}
	if err := os.Rename(args[4]+".part", args[4]); err != nil {
		return err
	}
	return syscall.Kill(os.Getpid(), syscall.SIGSTOP) // asleep, the runtime would still look up now and then
}

// fork begins a child that burns and ends, without starting a program: that alone would take it a millisecond. The
// child has this thread only, so it may do nothing but bare system calls.
//
//go:norace
//go:nosplit
func fork(nanos int64) (int, error) {
	pid, _, e := syscall.RawSyscall6(syscall.SYS_CLONE, uintptr(syscall.SIGCHLD), 0, 0, 0, 0, 0)
	if e != 0 {
		return 0, e
	}
	if pid != 0 {
		return int(pid), nil
	}
	var t unix.Timespec
	for {
		syscall.RawSyscall(syscall.SYS_CLOCK_GETTIME, unix.CLOCK_PROCESS_CPUTIME_ID, uintptr(unsafe.Pointer(&t)), 0)
		if t.Sec > 0 || t.Nsec >= nanos {
			syscall.RawSyscall(syscall.SYS_EXIT_GROUP, 0, 0, 0)
		}
	}
}

// hold touches so many MiB, gives some back, and says so.
func hold(args []string) error {
	size, back := number(args[0])<<20, number(args[1])<<20
	b, err := unix.Mmap(-1, 0, size+back, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return err
	}
	for i := 0; i < len(b); i += 4096 {
		b[i] = 1
	}
	if back > 0 {
		if err := unix.Madvise(b[size:], unix.MADV_DONTNEED); err != nil {
			return err
		}
	}
	fmt.Println("held")
	time.Sleep(time.Hour)
	return nil
}

// share maps a file that others map too, and touches all of it.
func share(args []string) error {
	f, err := os.OpenFile(args[0], os.O_RDWR, 0)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	b, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return err
	}
	for i := 0; i < len(b); i += 4096 {
		b[i] = 1
	}
	fmt.Println("shared")
	time.Sleep(time.Hour)
	return nil
}

// echo gives back each byte that comes, by bare system calls.
func echo([]string) error {
	runtime.LockOSThread()
	var c [1]byte
	p := uintptr(unsafe.Pointer(&c[0]))
	for {
		if n, _, e := syscall.RawSyscall(syscall.SYS_READ, 3, p, 1); n != 1 {
			return e
		}
		syscall.RawSyscall(syscall.SYS_WRITE, 4, p, 1)
	}
}

// crowd fills cgroups of the same name in several trees with children that sleep until this process is told to end, by
// SIGTERM: then it ends and reaps them.
func crowd(args []string) error {
	var children []int
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGTERM)
	each, trees := number(args[0]), args[1:]
	entries, err := os.ReadDir(trees[0])
	if err != nil {
		return err
	}
	runtime.LockOSThread()
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		for _, tree := range trees {
			if err := os.WriteFile(tree+"/"+e.Name()+"/cgroup.procs", []byte("0"), 0); err != nil {
				return err
			}
		}
		for range each {
			pid, err := forkSleeper()
			if err != nil {
				return err
			}
			children = append(children, pid)
		}
	}
	fmt.Println("there")
	<-end
	for _, pid := range children {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	for _, pid := range children {
		syscall.Wait4(pid, nil, 0, nil)
	}
	return nil
}

// forkSleeper begins a child that sleeps until its parent ends.
//
//go:norace
//go:nosplit
func forkSleeper() (int, error) {
	pid, _, e := syscall.RawSyscall6(syscall.SYS_CLONE, uintptr(syscall.SIGCHLD), 0, 0, 0, 0, 0)
	if e != 0 {
		return 0, e
	}
	if pid != 0 {
		return int(pid), nil
	}
	syscall.RawSyscall(syscall.SYS_PRCTL, syscall.PR_SET_PDEATHSIG, uintptr(syscall.SIGKILL), 0)
	for {
		syscall.RawSyscall(syscall.SYS_PAUSE, 0, 0, 0)
	}
}

func pinned(args []string) error {
	runtime.LockOSThread()
	var set unix.CPUSet
	set.Set(number(args[0]))
	if err := unix.SchedSetaffinity(0, &set); err != nil {
		return err
	}
	for end := time.Now().Add(time.Duration(number(args[1])) * time.Second); time.Now().Before(end); {
		burnUntil(clock(false) + 5*time.Millisecond)
	}
	fmt.Println("burned")
	time.Sleep(time.Hour)
	return nil
}

// loopback is any port of this machine, by the version of IP that a network's name ends with.
func loopback(network string) string {
	if strings.HasSuffix(network, "6") {
		return "[::1]:0"
	}
	return "127.0.0.1:0"
}

func receive(args []string) error {
	want, got := number(args[1]), 0
	b := make([]byte, 64<<10)
	if strings.HasPrefix(args[0], "tcp") {
		l, err := net.Listen(args[0], loopback(args[0]))
		if err != nil {
			return err
		}
		fmt.Println(l.Addr())
		c, err := l.Accept()
		if err != nil {
			return err
		}
		for got < want {
			n, err := c.Read(b)
			if got += n; err != nil {
				return err
			}
		}
		c.Write([]byte{1})
		if len(args) < 3 {
			fmt.Println(got)
			c.Read(b) // until the other side closes
			time.Sleep(time.Hour)
		}
	} else {
		c, err := net.ListenPacket(args[0], loopback(args[0]))
		if err != nil {
			return err
		}
		c.(*net.UDPConn).SetReadBuffer(64 << 20)
		fmt.Println(c.LocalAddr())
		for got < want {
			c.SetReadDeadline(time.Now().Add(2 * time.Second))
			n, _, err := c.ReadFrom(b)
			if got += n; err != nil {
				break // what was dropped by a full buffer passed the interface all the same
			}
		}
	}
	fmt.Println(got)
	time.Sleep(time.Hour)
	return nil
}

func send(args []string) error {
	want, sent := number(args[1]), 0
	c, err := net.Dial(args[0], args[2])
	if err != nil {
		return err
	}
	size := 64 << 10
	datagrams := strings.HasPrefix(args[0], "udp")
	if datagrams {
		size = 1000
	}
	for b := make([]byte, size); sent < want; {
		n, err := c.Write(b[:min(size, want-sent)])
		if sent += n; err != nil {
			return err
		}
		if datagrams && sent%50_000 == 0 {
			time.Sleep(time.Millisecond)
		}
	}
	again := uint64(0)
	if stream, ok := c.(*net.TCPConn); ok {
		c.Read(make([]byte, 1))
		if raw, err := stream.SyscallConn(); err == nil {
			raw.Control(func(fd uintptr) {
				if info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO); err == nil {
					again = info.Bytes_retrans
				}
			})
		}
	}
	if len(args) < 4 { // "keep" leaves it open
		c.Close()
	}
	fmt.Printf("%d\n%d\n", sent, again)
	time.Sleep(time.Hour)
	return nil
}

// write writes whole pages to a file or device, past the page cache or into it.
func write(args []string) error {
	flags := os.O_WRONLY
	if args[0] == "direct" {
		flags |= unix.O_DIRECT
	}
	f, err := os.OpenFile(args[1], flags, 0)
	if err != nil {
		return err
	}
	// aligned, as O_DIRECT wants
	b, err := unix.Mmap(-1, 0, 1<<20, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return err
	}
	for left := number(args[2]); left > 0; {
		n, err := f.Write(b[:min(left, len(b))])
		if left -= n; err != nil && !errors.Is(err, io.ErrShortWrite) {
			return err
		}
	}
	fmt.Println("written")
	time.Sleep(time.Hour)
	return nil
}

// change has a device change its first bytes by itself.
func change(request uintptr, args []string) error {
	f, err := os.OpenFile(args[0], os.O_RDWR, 0)
	if err != nil {
		return err
	}
	part := [2]uint64{0, uint64(number(args[1]))}
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request, uintptr(unsafe.Pointer(&part))); errno != 0 {
		return errno
	}
	fmt.Println("changed")
	time.Sleep(time.Hour)
	return nil
}

// flood has datagrams come in on the CPU it runs on, a fifth of the time, for so many seconds: the kernel takes them in
// as interrupts do their work.
func flood(args []string) error {
	in, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		return err
	}
	out, err := net.Dial("udp4", in.LocalAddr().String())
	if err != nil {
		return err
	}
	b := make([]byte, 100)
	for begin := time.Now(); time.Since(begin) < time.Duration(number(args[0]))*time.Second; {
		for burst := time.Now(); time.Since(burst) < 10*time.Millisecond; {
			out.Write(b) // what nobody reads is dropped at the end
		}
		time.Sleep(40 * time.Millisecond)
	}
	return nil
}

// part burns as is told after the CPUs, and has a child do the same that is on these CPUs instead of its own.
func part(args []string) error {
	child := append([]string{"-c", args[0], "/proc/self/exe"}, args[1:]...)
	child[2] = os.Args[0]
	child[len(child)-1] += "-child"
	if err := exec.Command("taskset", child...).Start(); err != nil {
		return err
	}
	return syscall.Exec(os.Args[0], append([]string{os.Args[0]}, args[1:]...), os.Environ())
}
