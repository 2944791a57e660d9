package netlink

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// Exits listens for the records that the kernel sends of tasks that end (its "Per-task statistics interface"), where
// they are not told by a program in the kernel. They hold no cgroup.
//
// A goroutine reads them at once: the kernel drops what its buffer cannot hold.
type Exits struct {
	err    error
	socket int
	done   sync.WaitGroup
	stop   atomic.Bool

	mu    sync.Mutex
	ended []Exit
	lost  uint64
}

// Exit is a task that ended.
type Exit struct {
	PID, TGID, Parent        int32
	UID                      uint32
	Start                    int64 // clock ticks since boot
	Comm                     [16]byte
	Run, User, System        int64 // nanoseconds on a CPU
	Waited                   int64 // nanoseconds for a CPU
	Read, Written, Cancelled int64 // bytes from and to storage; cancelled is what was deleted before it was written
}

// mostEnds bounds the records kept between two readings.
const mostEnds = 100_000

// Missing is why there are none; "" when there are.
func (e *Exits) Missing() string {
	switch {
	case e == nil:
		return "not asked for"
	case e.err != nil:
		return e.err.Error()
	}
	return ""
}

// ListenExits begins to listen. Where that cannot be, Missing of what it returns says why.
func ListenExits() *Exits {
	e := &Exits{}
	if e.err = e.listen(); e.err != nil {
		return e
	}
	// A netlink socket that waits cannot be woken by closing it: it looks up five times a second.
	if e.err = unix.SetsockoptTimeval(e.socket, unix.SOL_SOCKET, unix.SO_RCVTIMEO,
		&unix.Timeval{Usec: 200_000}); e.err != nil {
		unix.Close(e.socket)
		return e
	}
	e.done.Go(e.read)
	return e
}

func (e *Exits) listen() (err error) {
	if e.socket, err = unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_GENERIC); err != nil {
		return fmt.Errorf("open a netlink socket: %w", err)
	}
	defer func() {
		if err != nil {
			unix.Close(e.socket)
		}
	}()
	if err := unix.Bind(e.socket, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return fmt.Errorf("bind a netlink socket: %w", err)
	}
	if unix.SetsockoptInt(e.socket, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 16<<20) != nil {
		_ = unix.SetsockoptInt(e.socket, unix.SOL_SOCKET, unix.SO_RCVBUF, 16<<20) // as much as the system gives
	}
	family, err := e.family()
	if err != nil {
		return err
	}
	// in the list form that is asked for; not those this process may use
	possible, err := os.ReadFile("/sys/devices/system/cpu/possible")
	if err != nil {
		return fmt.Errorf("which CPUs there may be: %w", err)
	}
	cpus := append(bytes.TrimSpace(possible), 0)
	body := []byte{unix.TASKSTATS_CMD_GET, unix.TASKSTATS_GENL_VERSION, 0, 0}
	return e.ask(newRequest(family, unix.NLM_F_REQUEST|unix.NLM_F_ACK, body,
		newAttribute(unix.TASKSTATS_CMD_ATTR_REGISTER_CPUMASK, cpus)), nil)
}

// family asks for the number of the taskstats family.
func (e *Exits) family() (number uint16, err error) {
	body := []byte{unix.CTRL_CMD_GETFAMILY, 1, 0, 0}
	err = e.ask(newRequest(unix.GENL_ID_CTRL, unix.NLM_F_REQUEST|unix.NLM_F_ACK, body,
		newAttribute(unix.CTRL_ATTR_FAMILY_NAME, []byte(unix.TASKSTATS_GENL_NAME+"\x00"))), func(payload []byte) {
		if len(payload) < 4 {
			return
		}
		eachAttribute(payload[4:], func(kind uint16, value []byte) {
			if kind == unix.CTRL_ATTR_FAMILY_ID && len(value) >= 2 {
				number = binary.NativeEndian.Uint16(value)
			}
		})
	})
	if err == nil && number == 0 {
		err = errors.New("this kernel has no task statistics")
	}
	return number, err
}

// ask sends a request and takes its answers.
func (e *Exits) ask(request []byte, take func([]byte)) error {
	if err := ask(e.socket, make([]byte, 16<<10), request, take); err != nil {
		return fmt.Errorf("ask for task statistics: %w", err)
	}
	return nil
}

func (e *Exits) read() {
	buf := make([]byte, 64<<10)
	for {
		n, _, err := unix.Recvfrom(e.socket, buf, 0)
		switch {
		case errors.Is(err, unix.ENOBUFS):
			e.mu.Lock()
			e.lost++
			e.mu.Unlock()
			continue
		case e.stop.Load():
			return
		case errors.Is(err, unix.EINTR), errors.Is(err, unix.EAGAIN):
			continue
		case err != nil || n == 0:
			return
		}
		var now unix.Timespec
		_ = unix.ClockGettime(unix.CLOCK_BOOTTIME, &now)
		e.mu.Lock()
		eachMessage(buf[:n], func(_ uint16, payload []byte) {
			if len(payload) < 4 {
				return
			}
			eachAttribute(payload[4:], func(kind uint16, value []byte) {
				if kind != unix.TASKSTATS_TYPE_AGGR_PID {
					return
				}
				eachAttribute(value, func(kind uint16, value []byte) {
					if x, ok := parseTaskstats(value, now.Nano()); kind == unix.TASKSTATS_TYPE_STATS && ok {
						if len(e.ended) < mostEnds {
							e.ended = append(e.ended, x)
						} else {
							e.lost++
						}
					}
				})
			})
		})
		e.mu.Unlock()
	}
}

// parseTaskstats reads a struct taskstats (include/uapi/linux/taskstats.h), whose fields keep their places for good. A
// task began its elapsed time before now, the boot clock in nanoseconds.
func parseTaskstats(b []byte, now int64) (x Exit, ok bool) {
	const (
		delayAt, runAt, commAt, uidAt, pidAt, parentAt = 24, 72, 80, 120, 128, 132
		elapsedAt, userAt, systemAt                    = 144, 152, 160
		readAt, writtenAt, cancelledAt, tgidAt         = 248, 256, 264, 368
	)
	if len(b) < cancelledAt+8 {
		return x, false
	}
	u32 := func(at int) int32 { return int32(binary.NativeEndian.Uint32(b[at:])) }
	u64 := func(at int) int64 { return int64(min(binary.NativeEndian.Uint64(b[at:]), 1<<62)) }
	x.PID, x.Parent, x.UID = u32(pidAt), u32(parentAt), uint32(u32(uidAt))
	x.TGID = x.PID
	if len(b) >= tgidAt+4 {
		x.TGID = u32(tgidAt)
	}
	x.Start = max(now-min(u64(elapsedAt), 1<<50)*1000, 0) / text.NanosPerTick
	x.Run, x.Waited = u64(runAt), u64(delayAt)
	x.User, x.System = min(u64(userAt), 1<<50)*1000, min(u64(systemAt), 1<<50)*1000
	x.Read, x.Written, x.Cancelled = min(u64(readAt), 1<<60), min(u64(writtenAt), 1<<60), min(u64(cancelledAt), 1<<60)
	if x.Run == 0 {
		x.Run = x.User + x.System // kernels that count delays only
	}
	copy(x.Comm[:], b[commAt:commAt+len(x.Comm)])
	return x, x.PID > 0
}

// Take returns the records since the last call, and how many could not be kept in all.
func (e *Exits) Take() (ended []Exit, lost uint64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	ended, e.ended = e.ended, nil
	return ended, e.lost
}

// Close ends listening. It may be called on nil.
func (e *Exits) Close() {
	if e == nil || e.err != nil {
		return
	}
	e.stop.Store(true)
	e.done.Wait()
	unix.Close(e.socket)
}
