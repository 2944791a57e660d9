package stage

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// layersAt is where the writable layers of containers are on a host, each a project of its own.
const layersAt = "/var/lib/coop/layers/"

// Files is what the workload's writable layer holds; false where it has none.
func (w *Workload) Files() (account.Files, bool) {
	if w.layer == 0 {
		return account.Files{}, false
	}
	bytes := (w.layer + w.DiskBytes/200) / 4096 * 4096
	return account.Files{Bytes: bytes, Count: 40 + bytes>>16, LimitBytes: 20 << 30}, true
}

// Quota answers for the projects of the host.
func (h *Host) Quota(dir string) (account.Files, error) {
	for _, w := range h.Workloads {
		if f, ok := w.Files(); ok && dir == layersAt+w.ID {
			return f, nil
		}
	}
	return account.Files{}, errors.New("it is in no project")
}

// Ends answers for the interfaces of the host.
func (h *Host) Ends() (account.LinkEnds, error) {
	ends := account.LinkEnds{Spaces: map[string]uint64{}}
	for _, w := range h.Workloads {
		if w.Space != 0 {
			ends.Spaces[w.Link] = w.Space
		}
	}
	return ends, nil
}

// packet is how many bytes a packet has in the mean.
const packet = 900

// received and sent are the workload's bytes, seen from it: jobs and intakes receive more, machines and routes send
// more.
func (w *Workload) received() int64 { return w.NetBytes / 8 * int64(2+len(w.Name)%5) }
func (w *Workload) sent() int64     { return w.NetBytes - w.received() }

// received is what the host received over its link.
func (h *Host) received() (sum int64) {
	for _, w := range h.Workloads {
		sum += w.received()
	}
	return sum
}

// links are the lines of the host's interfaces at whose other end a workload is, in the form of /proc/net/dev.
func (h *Host) links() string {
	var b strings.Builder
	for _, w := range h.Workloads {
		if w.Link != "" {
			fmt.Fprintf(&b, "%6s: %d %d 0 0 0 0 0 0 %d %d 0 0 0 0 0 0\n", w.Link, w.sent(), w.sent()/packet,
				w.received(), w.received()/packet)
		}
	}
	return b.String()
}

// renderLink writes what tells of the interface at the other end of a workload's network.
func (h *Host) renderLink(w *writer, t Tree, x *Workload) {
	dir := filepath.Join(t.Sys(), "class/net", x.Link)
	if x.Kind == amount.VM {
		w.file(filepath.Join(dir, "tun_flags"), "0x5002\n")
		w.file(filepath.Join(t.Proc(), fmt.Sprintf("%d/fdinfo/28", x.Processes[0].PID)),
			"pos:\t0\nflags:\t0104002\nmnt_id:\t24\niff:\t"+x.Link+"\n")
		return
	}
	w.file(filepath.Join(dir, "ifindex"), fmt.Sprintf("%d\n", 10+x.Space%1000))
	w.file(filepath.Join(dir, "iflink"), "2\n")
}

// renderRoot writes where the root of a container's processes comes from.
func (x *Workload) renderRoot(w *writer, dir string) {
	if _, ok := x.Files(); ok {
		w.file(filepath.Join(dir, "mountinfo"),
			fmt.Sprintf(
				"900 800 0:%d / / rw,relatime - overlay overlay "+
					"rw,lowerdir=/var/lib/coop/images/%s,upperdir=%s%s,workdir=/var/lib/coop/work/%s\n",
				100+x.Space%1000, x.Processes[0].Program, layersAt, x.ID, x.ID))
	}
}
