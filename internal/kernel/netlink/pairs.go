package netlink

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/kernel/tree"
)

// link is what the kernel tells of an interface by rtnetlink(7).
type link struct {
	index, peer int32 // peer is the number of the interface at its other end, in the namespace it is in; 0 for none
	space       int32 // the kernel's number, among those known here, of the other end's namespace; -1 for this one
	name, kind  string
}

// Pairs asks the kernel, by rtnetlink, which network namespace is at the other end of each interface.
//
// The kernel calls a namespace by a number that holds only within the namespace that asks. Listing the interfaces makes
// it give such a number to every namespace that has the other half of a pair. Then it asks for the number of each
// namespace that processes are in, and so finds which inode each number stands for. Processes has, by the inode of each
// network namespace, one process that is in it.
func Pairs(processes map[uint64]int32) (ends account.LinkEnds, err error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_ROUTE)
	if err != nil {
		return ends, fmt.Errorf("open a socket to ask for interfaces: %w", err)
	}
	defer unix.Close(fd)
	var links []link
	names := map[int32]string{}
	buf := make([]byte, 64<<10)
	err = ask(fd, buf, newRequest(unix.RTM_GETLINK, unix.NLM_F_REQUEST|unix.NLM_F_DUMP,
		make([]byte, unix.SizeofIfInfomsg)), func(payload []byte) {
		if l, ok := parseLink(payload); ok {
			links = append(links, l)
			names[l.index] = l.name
		}
	})
	if err != nil {
		return ends, fmt.Errorf("ask for interfaces: %w", err)
	}
	spaces := map[int32]uint64{}
	for id, process := range processes {
		pid := newAttribute(unix.NETNSA_PID, binary.NativeEndian.AppendUint32(nil, uint32(process)))
		err := ask(fd, buf, newRequest(unix.RTM_GETNSID, unix.NLM_F_REQUEST|unix.NLM_F_ACK, make([]byte, 4),
			pid), func(payload []byte) {
			if number, ok := namespaceNumber(payload); ok && number >= 0 {
				spaces[number] = id
			}
		})
		if err != nil && !tree.Gone(err) {
			return ends, fmt.Errorf("ask for a namespace's number: %w", err)
		}
	}
	ends = account.LinkEnds{Spaces: map[string]uint64{}, Peers: map[string]string{}, Kinds: map[string]string{}}
	for _, l := range links {
		if l.kind != "" {
			ends.Kinds[l.name] = l.kind
		}
		switch id, known := spaces[l.space]; {
		case l.peer == 0 || l.peer == l.index && l.space < 0:
		case l.space < 0:
			ends.Peers[l.name] = names[l.peer]
		case known:
			ends.Spaces[l.name] = id
		}
	}
	return ends, nil
}

// parseLink reads an answer about one interface: struct ifinfomsg and attributes.
func parseLink(b []byte) (l link, ok bool) {
	if len(b) < unix.SizeofIfInfomsg {
		return l, false
	}
	l.index, l.space = int32(binary.NativeEndian.Uint32(b[4:])), -1
	whole := eachAttribute(b[unix.SizeofIfInfomsg:], func(kind uint16, value []byte) {
		switch {
		case kind == unix.IFLA_IFNAME && len(value) > 1:
			l.name = string(value[:len(value)-1])
		case kind == unix.IFLA_LINK && len(value) == 4:
			l.peer = int32(binary.NativeEndian.Uint32(value))
		case kind == unix.IFLA_LINK_NETNSID && len(value) == 4:
			l.space = int32(binary.NativeEndian.Uint32(value))
		case kind == unix.IFLA_LINKINFO:
			eachAttribute(value, func(kind uint16, value []byte) {
				if kind == unix.IFLA_INFO_KIND && len(value) > 1 {
					l.kind = string(bytes.TrimRight(value, "\x00"))
				}
			})
		}
	})
	return l, whole && l.name != "" && l.index > 0
}

// namespaceNumber reads an answer about a namespace: struct rtgenmsg, padded, and attributes. A number below nothing
// says that it has none here.
func namespaceNumber(b []byte) (number int32, ok bool) {
	if len(b) < 4 {
		return 0, false
	}
	eachAttribute(b[4:], func(kind uint16, value []byte) {
		if kind == unix.NETNSA_NSID && len(value) == 4 {
			number, ok = int32(binary.NativeEndian.Uint32(value)), true
		}
	})
	return number, ok
}
