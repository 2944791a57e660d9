package devices

import (
	"net"
	"path/filepath"
	"strings"

	"vinescale/core/account"
)

// Links are the interfaces of the network that this process is in, with their addresses. Loopback is left out.
func Links(sys string) []account.MachineLink {
	links := []account.MachineLink{}
	all, err := net.Interfaces()
	if err != nil {
		return links
	}
	for i := range all {
		if all[i].Flags&net.FlagLoopback != 0 {
			continue
		}
		dir := filepath.Join(sys, "class/net", all[i].Name)
		l := account.MachineLink{Name: all[i].Name, Addresses: []string{}, Hardware: all[i].HardwareAddr.String(),
			State: text(filepath.Join(dir, "operstate"))}
		l.Virtual = strings.Contains(resolved(dir), "/devices/virtual/")
		if n, err := number(filepath.Join(dir, "speed")); err == nil && n > 0 {
			l.Mbit = n
		}
		if l.State == "" || l.State == "unknown" {
			l.State = map[bool]string{true: "up", false: "down"}[all[i].Flags&net.FlagUp != 0]
		}
		addresses, _ := all[i].Addrs()
		for _, a := range addresses {
			l.Addresses = append(l.Addresses, a.String())
		}
		links = append(links, l)
	}
	return links
}
