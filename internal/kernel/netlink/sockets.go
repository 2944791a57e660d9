package netlink

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"golang.org/x/sys/unix"
)

// Sockets asks the kernel for the bytes of open TCP sockets with the cgroup each was made in (sock_diag(7)), where
// packets are not counted by cgroup. It has payload only, no UDP, and not what moved between a reading and a socket's
// end.
type Sockets struct {
	err    error
	seen   map[socketID]socketBytes
	count  int64
	Groups map[uint64]*[2]int64 // received and sent since counting began, by cgroup
	Local  map[uint64]*[2]int64
	buf    []byte
}

type socketID struct {
	cookie uint64
	inode  uint32
}

type socketBytes struct {
	received, sent int64
	at             int64
}

// tcpSocket is one socket as sock_diag tells of it.
type tcpSocket struct {
	id             socketID
	group          uint64
	received, sent int64 // payload: what came, and what the other side acknowledged
	local          bool  // both ends are on this host
}

// Missing is why there are none; "" when there are.
func (s *Sockets) Missing() string {
	switch {
	case s == nil:
		return "not asked for"
	case s.err != nil:
		return s.err.Error()
	}
	return ""
}

// OpenSockets asks once whether the kernel tells of which cgroup sockets are. Where it does not, Missing says why.
func OpenSockets() *Sockets {
	s := &Sockets{seen: map[socketID]socketBytes{}, Groups: map[uint64]*[2]int64{}, Local: map[uint64]*[2]int64{},
		buf: make([]byte, 256<<10)}
	told := false
	s.err = s.dump(unix.AF_INET, func(x tcpSocket) { told = told || x.group != 0 })
	return s
}

// Read adds what each socket moved since the last call to its cgroup.
func (s *Sockets) Read() error {
	s.count++
	take := func(x tcpSocket) {
		was, known := s.seen[x.id]
		s.seen[x.id] = socketBytes{x.received, x.sent, s.count}
		if !known && s.count == 1 {
			return // it was there before counting began
		}
		into := s.Groups
		if x.local {
			into = s.Local
		}
		sum := into[x.group]
		if sum == nil {
			sum = &[2]int64{}
			into[x.group] = sum
		}
		sum[0] += max(x.received-was.received, 0)
		sum[1] += max(x.sent-was.sent, 0)
	}
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		if err := s.dump(family, take); err != nil {
			return err
		}
	}
	for id, b := range s.seen {
		if b.at < s.count {
			delete(s.seen, id)
		}
	}
	return nil
}

// dump visits the TCP sockets of one address family.
func (s *Sockets) dump(family uint8, visit func(tcpSocket)) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return fmt.Errorf("open a socket to ask for sockets: %w", err)
	}
	defer unix.Close(fd)
	body := make([]byte, 56) // struct inet_diag_req_v2
	const extInfo = 1 << 1   // INET_DIAG_INFO
	body[0], body[1], body[2] = family, unix.IPPROTO_TCP, extInfo
	const listening = 10
	binary.NativeEndian.PutUint32(body[4:], ^uint32(1<<listening))
	const byFamily = 20 // SOCK_DIAG_BY_FAMILY
	err = ask(fd, s.buf, newRequest(byFamily, unix.NLM_F_REQUEST|unix.NLM_F_DUMP, body),
		func(payload []byte) {
			if x, ok := parseSocket(payload); ok {
				visit(x)
			}
		})
	if err != nil {
		return fmt.Errorf("ask for sockets: %w", err)
	}
	return nil
}

// parseSocket reads a struct inet_diag_msg with its attributes (include/uapi/linux/inet_diag.h).
func parseSocket(b []byte) (x tcpSocket, ok bool) {
	const sourceAt, destinationAt, cookieAt, inodeAt, size = 8, 24, 44, 68, 72
	if len(b) < size {
		return x, false
	}
	address := func(at int) netip.Addr {
		if b[0] == unix.AF_INET {
			return netip.AddrFrom4([4]byte(b[at : at+4]))
		}
		return netip.AddrFrom16([16]byte(b[at : at+16])).Unmap()
	}
	from, to := address(sourceAt), address(destinationAt)
	x.local = from == to || to.IsLoopback()
	x.id = socketID{binary.NativeEndian.Uint64(b[cookieAt:]), binary.NativeEndian.Uint32(b[inodeAt:])}
	const info, cgroup = 2, 21 // INET_DIAG_INFO, INET_DIAG_CGROUP_ID
	const ackedAt, receivedAt = 120, 128
	ok = eachAttribute(b[size:], func(kind uint16, value []byte) {
		switch {
		case kind == cgroup && len(value) >= 8:
			x.group = binary.NativeEndian.Uint64(value)
		case kind == info && len(value) >= receivedAt+8:
			x.sent = int64(min(binary.NativeEndian.Uint64(value[ackedAt:]), 1<<62))
			x.received = int64(min(binary.NativeEndian.Uint64(value[receivedAt:]), 1<<62))
		}
	})
	return x, ok
}
