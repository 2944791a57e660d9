package netlink

import (
	"encoding/binary"
	"fmt"
	"syscall"

	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

// eachMessage visits the messages in what was received. False where a length does not fit.
func eachMessage(b []byte, visit func(kind uint16, payload []byte)) bool {
	for len(b) >= unix.SizeofNlMsghdr {
		n := int(binary.NativeEndian.Uint32(b))
		if n < unix.SizeofNlMsghdr || n > len(b) {
			return false
		}
		visit(binary.NativeEndian.Uint16(b[4:]), b[unix.SizeofNlMsghdr:n])
		b = b[min((n+3)&^3, len(b)):]
	}
	return true
}

// eachAttribute visits attributes. False where a length does not fit.
func eachAttribute(b []byte, visit func(kind uint16, value []byte)) bool {
	for len(b) >= 4 {
		n := int(binary.NativeEndian.Uint16(b))
		if n < 4 || n > len(b) {
			return false
		}
		visit(binary.NativeEndian.Uint16(b[2:])&0x3fff, b[4:n])
		b = b[min((n+3)&^3, len(b)):]
	}
	return true
}

// newRequest builds a message with a body and attributes.
func newRequest(kind, flags uint16, body []byte, attributes ...[]byte) []byte {
	b := make([]byte, unix.SizeofNlMsghdr, 256)
	b = append(b, body...)
	for _, a := range attributes {
		b = append(b, a...)
	}
	binary.NativeEndian.PutUint32(b, uint32(len(b)))
	binary.NativeEndian.PutUint16(b[4:], kind)
	binary.NativeEndian.PutUint16(b[6:], flags)
	return b
}

// newAttribute builds an attribute.
func newAttribute(kind uint16, value []byte) []byte {
	b := make([]byte, 4, 4+len(value)+3)
	binary.NativeEndian.PutUint16(b, uint16(4+len(value)))
	binary.NativeEndian.PutUint16(b[2:], kind)
	b = append(b, value...)
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

// errorIn is the error in an answer of type NLMSG_ERROR; nil for an acknowledgement.
func errorIn(payload []byte) error {
	if len(payload) < 4 {
		return text.ErrGarbage
	}
	if code := int32(binary.NativeEndian.Uint32(payload)); code != 0 {
		return fmt.Errorf("the kernel refuses: %w", syscall.Errno(-code))
	}
	return nil
}

// ask sends a request and takes its answers, up to the end of a list or to the acknowledgement: a request for
// one thing must ask for that (NLM_F_ACK).
func ask(fd int, buf, request []byte, take func([]byte)) error {
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return err
	}
	for {
		n, _, err := unix.Recvfrom(fd, buf, 0)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return err
		}
		done := n == 0
		var refused error
		eachMessage(buf[:n], func(kind uint16, payload []byte) {
			switch {
			case kind == unix.NLMSG_DONE:
				done = true
			case kind == unix.NLMSG_ERROR:
				refused, done = errorIn(payload), true
			case take != nil:
				take(payload)
			}
		})
		if done {
			return refused
		}
	}
}
