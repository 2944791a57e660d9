package stage

import (
	"crypto/sha256"
	"encoding/hex"
	"time"
)

// FallSilent plays the incident of a host that hangs and tells nothing for a while, until it is started anew: nobody
// knows what was used in the dark, all counters begin at nothing, and the same work runs in new processes under a new
// boot.
func (h *Host) FallSilent(dark time.Duration) {
	h.Now = h.Now.Add(dark)
	h.Uptime = 10 * time.Second // in which it started
	h.Boot = bootID(h.Name + h.Now.String())
	clear(h.user)
	clear(h.kernel)
	clear(h.away)
	h.network, h.hostNetwork, h.lostCPU, h.stall, h.drives = 0, 0, 0, 0, [2]drive{}
	h.ends, h.endCount, h.toldEnds, h.slots = nil, 0, 0, nil
	for _, p := range h.kthreads {
		p.CPUMicros = 0
	}
	for i, w := range h.Workloads {
		w.CPUMicros, w.DiskBytes, w.NetBytes = 0, 0, 0
		clear(w.PerCPU)
		w.throttled, w.periods, w.held, w.stalled, w.kills, w.since, w.most = 0, 0, 0, 0, 0, 0, 0
		w.readNanos, w.writeNanos = 0, 0
		for _, p := range w.Processes {
			p.Start, p.CPUMicros, p.DiskBytes, p.Runnable, p.tasks = int64(300+i), 0, 0, 0, nil
		}
	}
	h.Advance(time.Millisecond) // lays out memory
}

// bootID makes the identity of a boot out of what tells it from others.
func bootID(of string) string {
	sum := sha256.Sum256([]byte("boot of " + of))
	id := hex.EncodeToString(sum[:16])
	return id[:8] + "-" + id[8:12] + "-" + id[12:16] + "-" + id[16:20] + "-" + id[20:]
}
