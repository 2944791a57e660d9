package main

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// obey carries out the orders that come on its standard input, one a line, and answers each with what it used for it,
// and apart from that what the children used that the order made, in nanoseconds of their own clocks:
//
//	burn MICROS          burns
//	user UID             becomes another user
//	cpu CPU              goes on, with all its threads, on that CPU alone
//	children N MICROS    forks N children one after the other that burn so long each
//	threads N MICROS     burns in N threads at once, so long each
//	write FILE FROM BYTES  writes so many, from that place on
//	sync FILE            has a file written down
//	send FD BYTES        writes so many
//	receive FD BYTES     reads so many
//	life                 does nothing, and answers what it and all its children used since it began
func obey([]string) error {
	runtime.LockOSThread()
	orders := bufio.NewScanner(os.Stdin)
	for orders.Scan() {
		words := strings.Fields(orders.Text())
		before, children := clock(false), time.Duration(0)
		var err error
		switch words[0] {
		case "life":
			before, children = 0, clock(true)-clock(false)
		case "burn":
			burnUntil(before + time.Duration(number(words[1]))*time.Microsecond)
		case "user":
			err = syscall.Setuid(number(words[1]))
		case "cpu":
			err = goTo(number(words[1]))
		case "children":
			children, err = oneAfterTheOther(number(words[1]), time.Duration(number(words[2]))*time.Microsecond)
		case "write":
			err = writeAt(words[1], int64(number(words[2])), number(words[3]))
		case "calls": // so many of one kind, a pause of 50 ms three times, files of a directory, and an address
			err = calls(number(words[1]), words[2], words[3])
		case "sync":
			err = syncFile(words[1])
		case "send":
			b := make([]byte, 1<<20)
			for left, n := number(words[2]), 0; left > 0 && err == nil; left -= n {
				n, err = unix.Write(number(words[1]), b[:min(left, len(b))])
			}
		case "receive":
			b := make([]byte, 1<<18)
			for left, n := number(words[2]), 1; left > 0 && err == nil && n > 0; left -= n {
				n, err = unix.Read(number(words[1]), b[:min(left, len(b))])
			}
		case "threads":
			done := make(chan struct{})
			for range number(words[1]) {
				go func() {
					runtime.LockOSThread() // and ends with it
					burnThread(time.Duration(number(words[2])) * time.Microsecond)
					done <- struct{}{}
				}()
			}
			for range number(words[1]) {
				<-done
			}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", orders.Text(), err)
		}
		fmt.Println((clock(false) - before).Nanoseconds(), children.Nanoseconds())
	}
	return orders.Err()
}

// calls makes system calls that the runtime makes none of by itself. The file "there" is opened twice, and one that is
// not there once.
func calls(times int, dir, port string) error {
	for range times {
		unix.Getppid()
	}
	for range 3 {
		pause := unix.NsecToTimespec(50e6)
		if err := unix.ClockNanosleep(unix.CLOCK_MONOTONIC, 0, &pause, nil); err != nil {
			return err
		}
	}
	for _, name := range []string{"there", "gone", "there"} {
		fd, err := unix.Openat(unix.AT_FDCWD, dir+"/"+name, unix.O_RDONLY, 0)
		if err == nil {
			err = unix.Close(fd)
		}
		if err != nil && !errors.Is(err, unix.ENOENT) {
			return err
		}
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return unix.Connect(fd, &unix.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}, Port: number(port)})
}

// goTo moves all threads to a CPU: the runtime has some of its own, whose time is in this process's clock too.
func goTo(cpu int) error {
	var one unix.CPUSet
	one.Set(cpu)
	threads, err := os.ReadDir("/proc/self/task")
	for _, t := range threads {
		if failed := unix.SchedSetaffinity(number(t.Name()), &one); !errors.Is(failed, unix.ESRCH) {
			err = errors.Join(err, failed)
		}
	}
	return err
}

func writeAt(file string, from int64, bytes int) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(make([]byte, bytes), from)
	return errors.Join(err, f.Close())
}

func syncFile(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func burnThread(micros time.Duration) {
	var t unix.Timespec
	for {
		unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t)
		if time.Duration(t.Nano()) >= micros {
			return
		}
		for range 1000 {
			sink++
		}
	}
}

// oneAfterTheOther forks children that burn, each once the one before has ended, and returns what they used by the
// kernel's own account. What a child still does while it ends is in that only if it is waited for later: so the last
// two hundred that ended are left alone.
func oneAfterTheOther(count int, burns time.Duration) (time.Duration, error) {
	const left = 200
	before := ofChildren()
	ended := make([]int, 0, count)
	for n := range count {
		pid, err := fork(burns.Nanoseconds())
		if err != nil {
			return 0, err
		}
		for err = unix.EINTR; err == unix.EINTR; {
			err = unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil)
		}
		if err != nil {
			return 0, fmt.Errorf("until %d ends: %w", pid, err)
		}
		ended = append(ended, pid)
		if n >= left {
			if _, err := syscall.Wait4(ended[n-left], nil, 0, nil); err != nil {
				return 0, err
			}
		}
	}
	for range 20 { // by turns too: a machine that was halted altogether has only its clock moved on
		time.Sleep(5 * time.Millisecond)
	}
	for _, pid := range ended[max(count-left, 0):] {
		if _, err := syscall.Wait4(pid, nil, 0, nil); err != nil {
			return 0, err
		}
	}
	return ofChildren() - before, nil
}

// brood touches MIB of its own memory and SHARED MiB of memory that it shares with its children; each of COUNT children
// writes to OWN KiB of what it has of its parent's memory, of which it then has copies. It prints "there".
func brood(args []string) error {
	count, mib, own, shared := number(args[0]), number(args[1]), number(args[2]), number(args[3])
	private, err := unix.Mmap(-1, 0, mib<<20, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return err
	}
	if err := unix.Madvise(private, unix.MADV_NOHUGEPAGE); err != nil {
		return err
	}
	common, err := unix.Mmap(-1, 0, shared<<20, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_SHARED)
	if err != nil {
		return err
	}
	for _, memory := range [][]byte{private, common} {
		for i := 0; i < len(memory); i += 4096 {
			memory[i] = 1
		}
	}
	runtime.LockOSThread()
	for range count {
		if err := forkWriter(private[:own<<10], common); err != nil {
			return err
		}
	}
	time.Sleep(500 * time.Millisecond)
	fmt.Println("there")
	time.Sleep(time.Hour)
	return nil
}

// forkWriter begins a child that writes to memory, reads from other, and sleeps until its parent ends.
//
//go:norace
//go:nosplit
func forkWriter(write, read []byte) error {
	pid, _, e := syscall.RawSyscall6(syscall.SYS_CLONE, uintptr(syscall.SIGCHLD), 0, 0, 0, 0, 0)
	if e != 0 {
		return e
	}
	if pid != 0 {
		return nil
	}
	syscall.RawSyscall(syscall.SYS_PRCTL, unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0)
	for i := 0; i < len(write); i += 4096 {
		write[i]++
	}
	n := byte(0)
	for i := 0; i < len(read); i += 4096 {
		n += read[i]
	}
	write[0] = n
	for {
		syscall.RawSyscall(syscall.SYS_PAUSE, 0, 0, 0)
	}
}
