package devices

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/account"
)

// addCompute adds the memory of processes that use a GPU for computing alone, which the kernel's "amdkfd" tells of by
// process: their work does not go through a client of the card. How long engines worked for them it does not tell.
func (h *Host) addCompute(clients []account.GPUClient) []account.GPUClient {
	root := filepath.Join(h.sys, "class/kfd/kfd")
	pids := numbered(filepath.Join(root, "proc"), "")
	if len(pids) == 0 {
		return clients
	}
	cards := h.computeCards(root)
	for _, name := range pids {
		pid, err := strconv.ParseInt(name, 10, 32)
		if err != nil {
			continue
		}
		for id, card := range cards {
			bytes, err := number(filepath.Join(root, "proc", name, "vram_"+id))
			if err != nil || bytes <= 0 {
				continue
			}
			i := slices.IndexFunc(clients, func(c account.GPUClient) bool {
				return c.GPU == card && c.PID == int32(pid)
			})
			if i >= 0 { // newer kernels tell of the same memory by its client
				clients[i].Bytes = max(clients[i].Bytes, bytes)
				continue
			}
			clients = append(clients, account.GPUClient{GPU: card, ID: 1<<63 | uint64(pid), PID: int32(pid), Born: true,
				Kinds: []string{"compute"}, Bytes: bytes})
		}
	}
	return clients
}

// computeCards finds which card has which number among those that compute.
func (h *Host) computeCards(root string) map[string]int32 {
	found := map[string]int32{}
	for _, node := range numbered(filepath.Join(root, "topology/nodes"), "") {
		dir := filepath.Join(root, "topology/nodes", node)
		id := text(filepath.Join(dir, "gpu_id"))
		if id == "" || id == "0" { // a node of processors
			continue
		}
		for line := range strings.Lines(text(filepath.Join(dir, "properties")) + "\n") {
			minor, is := strings.CutPrefix(strings.TrimSpace(line), "drm_render_minor ")
			if !is {
				continue
			}
			i := slices.IndexFunc(h.gpus.cards, func(c card) bool { return strconv.Itoa(int(c.number)) == minor })
			if i >= 0 {
				found[id] = int32(i)
			}
		}
	}
	return found
}
