// Command burner uses CPU time at a known rate and keeps a record of its own CPU clock, for tests of attribution.
//
//	burner SECONDS CORES RECORD          burns by itself
//	burner SECONDS CORES RECORD swarm    burns by hundreds of children that live for a few milliseconds each
//	burner burn MICROSECONDS             is such a child
//	burner shorts COUNT RATE MICROS GO RECORD   once the file GO is there (GO "stop": once it is
//
// continued after it stopped itself), forks COUNT children at RATE a second that burn so
// long each, and records what they and itself used, in nanoseconds, from GO to the end
//
//	burner pinned CPU SECONDS            burns on one CPU
//	burner receive tcp4|tcp6|udp4 COUNT  prints its address, and how many bytes came
//
// burner send tcp4|tcp6|udp4 COUNT ADDRESS [keep] sends so many, and closes unless told to keep it open; prints the
//
//	count, and how many of them TCP sent again
//
// burner crowd EACH TREE... forks EACH children that sleep in every cgroup below the TREEs, prints "there"
//
//	burner brood COUNT MIB OWN SHARED    has children that share its memory and copy some of it
//	burner obey                          does what its standard input says
//	burner echo                          gives back on descriptor 4 each byte that comes on 3
//	burner hold MIB BACK                 touches MIB + BACK MiB of memory, gives BACK back and sleeps
//	burner write direct|buffered FILE BYTES
//	burner flood SECONDS                 has datagrams come in on its CPU a fifth of the time
//	burner part CPUS SECONDS CORES FILE  burns, and so does a child of it that is on these CPUs
//	burner discard|zero DEVICE BYTES     has the device forget its first bytes, or make zeroes of them
package main

import (
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func main() {
	if os.Args[1] == "burn" {
		micros, _ := strconv.Atoi(os.Args[2])
		burnUntil(time.Duration(micros) * time.Microsecond)
		return
	}
	if act, ok := acts[os.Args[1]]; ok {
		if err := act(os.Args[2:]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	seconds, err1 := strconv.ParseFloat(os.Args[1], 64)
	cores, err2 := strconv.ParseFloat(os.Args[2], 64)
	record, err3 := os.Create(os.Args[3])
	for _, err := range []error{err1, err2, err3} {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	swarm := len(os.Args) > 4
	begin, start := time.Now(), clock(swarm)
	for time.Since(begin).Seconds() < seconds {
		// A line is the wall clock and the CPU clock, in nanoseconds, the wall clock read on both sides of the other.
		a := time.Now()
		used := clock(swarm)
		fmt.Fprintln(record, (a.UnixNano()+time.Now().UnixNano())/2, used.Nanoseconds())
		due := time.Duration(cores * float64(time.Since(begin)))
		switch done := used - start; {
		case done >= due || cores == 0:
			time.Sleep(10 * time.Millisecond) // seldom enough that waking costs the kernel little
		case swarm:
			child := exec.Command("/proc/self/exe", "burn", "3000")
			if err := child.Run(); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
		default:
			burnUntil(clock(false) + min(due-done, 20*time.Millisecond))
		}
	}
}

// clock is what this process has used, with its ended children if asked.
func clock(withChildren bool) time.Duration {
	var t unix.Timespec
	unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &t)
	used := time.Duration(t.Nano())
	if withChildren {
		used += ofChildren()
	}
	return used
}

// ofChildren is what the children used that were waited for, by the kernel's own account, which goes by nanoseconds and
// is told in microseconds: to add up what is told of each loses one of every child's.
func ofChildren() time.Duration {
	var r syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_CHILDREN, &r)
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

func burnUntil(end time.Duration) {
	for clock(false) < end {
		for i := 0; i < 1000; i++ {
			sink += i
		}
	}
}

var sink int
