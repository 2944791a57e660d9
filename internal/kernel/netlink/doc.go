// Package netlink asks the kernel for what it tells by netlink(7) alone, and reads its answers: tasks that ended with
// what they used (taskstats), the bytes of open TCP sockets with their cgroup (sock_diag), and what is at the other end
// of network interfaces (rtnetlink).
//
// Messages have a header, then attributes of a length and a type, each padded to four bytes, in the byte order of the
// host. The parsers take any bytes. Start with ListenExits, OpenSockets and Pairs.
package netlink
