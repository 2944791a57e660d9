package main

import (
	"fmt"
	"net"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// contain writes so many bytes to a file in its root.
func contain(args []string) error {
	if err := os.WriteFile("/must", make([]byte, number(args[0])), 0o600); err != nil {
		return err
	}
	unix.Sync()
	fmt.Println("there")
	time.Sleep(time.Hour)
	return nil
}

// inside waits for an interface to be put into its network namespace, gives it an address, says so, receives datagrams
// at port 7000 and sends so many bytes to each who connects to port 7001, in frames of the size that the wire would
// see.
func inside(args []string) error {
	name, address, bytes := args[0], args[1], number(args[2])
	// it would send frames of its own; not there without IPv6
	_ = os.WriteFile("/proc/sys/net/ipv6/conf/default/disable_ipv6", []byte("1"), 0)
	fmt.Println("there")
	for {
		if _, err := net.InterfaceByName(name); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if err := setAddress(name, address); err != nil {
		return err
	}
	if err := cutFrames(name); err != nil {
		return err
	}
	c, err := net.ListenPacket("udp4", address+":7000")
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp4", address+":7001")
	if err != nil {
		return err
	}
	go func() {
		for {
			to, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = to.Write(make([]byte, bytes))
			// who closes first leaves its last answers to the kernel, which has no socket for them
			_, _ = to.Read(make([]byte, 1))
			_ = to.Close()
		}
	}()
	fmt.Println("up")
	for b := make([]byte, 64<<10); ; {
		if _, _, err := c.ReadFrom(b); err != nil {
			return err
		}
	}
}

// cutFrames has an interface take TCP in frames of its own size, rather than cut them itself (linux/ethtool.h,
// ETHTOOL_STSO).
func cutFrames(name string) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	value := struct{ command, on uint32 }{command: 0x1f}
	request := struct {
		name  [unix.IFNAMSIZ]byte
		value unsafe.Pointer
		_     [16]byte
	}{value: unsafe.Pointer(&value)}
	copy(request.name[:], name)
	if _, _, err := unix.Syscall(unix.SYS_IOCTL, uintptr(s), unix.SIOCETHTOOL,
		uintptr(unsafe.Pointer(&request))); err != 0 {
		return fmt.Errorf("have %s take frames: %w", name, err)
	}
	return nil
}

// setAddress gives an interface an IPv4 address and switches it on (netdevice(7)).
func setAddress(name, address string) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	r, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := r.SetInet4Addr(net.ParseIP(address).To4()); err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCSIFADDR, r); err != nil {
		return err
	}
	r.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r)
}

func address(args []string) error { return setAddress(args[0], args[1]) }
