package text

import (
	"bytes"
	"encoding/hex"
	"net/netip"
)

// LocalIPv4 visits the addresses that a network namespace has itself, from its file net/fib_trie: of each it shows the
// leaf "|-- ADDRESS" and below it the routes to it, among them "/32 host LOCAL". One may come more than once.
func LocalIPv4(b []byte, visit func(netip.Addr)) {
	var leaf []byte
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		l = bytes.TrimLeft(l, " ")
		if rest, ok := bytes.CutPrefix(l, []byte("|-- ")); ok {
			leaf = rest
		} else if bytes.HasPrefix(l, []byte("/32 host LOCAL")) {
			if a, err := netip.ParseAddr(string(leaf)); err == nil {
				visit(a)
			}
		}
	}
}

// LocalIPv6 visits the addresses that a network namespace has itself, from its file net/if_inet6: 32 hexadecimal digits
// at the start of each line. Those of one link alone are left out: other hosts have the same on theirs.
func LocalIPv6(b []byte, visit func(netip.Addr)) {
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		var raw [16]byte
		if len(l) < 32 {
			continue
		}
		if _, err := hex.Decode(raw[:], l[:32]); err != nil {
			continue
		}
		if a := netip.AddrFrom16(raw); !a.IsLinkLocalUnicast() {
			visit(a)
		}
	}
}
