package netlink

import (
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

// Births tells which processes were made, by whom, since it was opened (the kernel's "Kernel Connector", proc events).
// It takes root in the host's first network namespace.
type Births struct{ socket int }

// Birth is a process that was made. What its parent was is told even where that has ended since.
type Birth struct{ Parent, Child int32 }

// Of the connector (linux/connector.h, linux/cn_proc.h).
const (
	connectorProc = 1          // idx and val of processes' events
	listenToProc  = 1          // PROC_CN_MCAST_LISTEN
	eventFork     = 0x00000001 // PROC_EVENT_FORK
	connectorSize = 20         // of struct cn_msg
	eventSize     = 16         // of struct proc_event before its data
)

// OpenBirths begins to listen. Close it.
func OpenBirths() (*Births, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
		unix.NETLINK_CONNECTOR)
	if err != nil {
		return nil, fmt.Errorf("open a netlink socket: %w", err)
	}
	b := &Births{fd}
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20) != nil {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, 8<<20) // as much as the system gives
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: connectorProc}); err != nil {
		b.Close()
		return nil, fmt.Errorf("listen to the births of processes: %w", err)
	}
	body := make([]byte, connectorSize+4)
	binary.NativeEndian.PutUint32(body, connectorProc)
	binary.NativeEndian.PutUint32(body[4:], connectorProc)
	binary.NativeEndian.PutUint16(body[16:], 4)
	binary.NativeEndian.PutUint32(body[connectorSize:], listenToProc)
	message := newRequest(unix.NLMSG_DONE, 0, body)
	if err := unix.Sendto(fd, message, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		b.Close()
		return nil, fmt.Errorf("listen to the births of processes: %w", err)
	}
	return b, nil
}

// Close ends listening.
func (b *Births) Close() { unix.Close(b.socket) }

// Drain visits the processes that were made since the last call. It returns an error where the kernel had to drop some
// of them.
func (b *Births) Drain(visit func(Birth)) (err error) {
	buf := make([]byte, 4096)
	for {
		n, _, failed := unix.Recvfrom(b.socket, buf, 0)
		switch {
		case errors.Is(failed, unix.EINTR):
			continue
		case errors.Is(failed, unix.EAGAIN):
			return err
		case errors.Is(failed, unix.ENOBUFS):
			err = errors.New("more processes were made than the kernel could tell of")
			continue
		case failed != nil:
			return failed
		}
		eachMessage(buf[:n], func(_ uint16, payload []byte) {
			if birth, is := parseBirth(payload); is {
				visit(birth)
			}
		})
	}
}

// parseBirth reads an event; false where it is not of a process that was made: other events, and births of threads.
func parseBirth(b []byte) (birth Birth, is bool) {
	const data = connectorSize + eventSize
	if len(b) < data+16 || binary.NativeEndian.Uint32(b[connectorSize:]) != eventFork {
		return birth, false
	}
	word := func(i int) int32 { return int32(binary.NativeEndian.Uint32(b[data+4*i:])) }
	return Birth{Parent: word(1), Child: word(3)}, word(2) == word(3) // of the child: pid, tgid
}
