package devices

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/cpuset"
)

// Granted finds which of the GPUs of the last reading a workload was given, by the facts that are known of it: by a
// scheduler's allotment, by the nodes that a runtime made for it, and by the names that a container device interface
// has. What only its own environment says is a claim. Groups are lines of a devices cgroup's list, where that is known.
func (h *Host) Granted(dst []account.GPUGrant, w account.WorkloadID, facts map[string]string,
	allowed []string) []account.GPUGrant {
	begun := len(dst)
	put := func(gpus []int32, by string, claim bool) {
		for _, g := range gpus {
			at := slices.IndexFunc(dst[begun:], func(x account.GPUGrant) bool { return x.GPU == g })
			if at < 0 {
				dst = append(dst, account.GPUGrant{Workload: w, GPU: g, By: by, IsClaim: claim})
			}
		}
	}
	put(h.byNumbers(facts[account.FactGPUs]), "the scheduler", false)
	put(h.byNodes(strings.Split(facts[account.FactGPUNodes], ",")), "nodes made by its runtime", false)
	put(h.byNames(facts[account.FactGPUNames]), "the container device interface", false)
	put(h.byNodes(allowed), "its devices cgroup", false)
	if len(dst) == begun {
		claim := facts[account.FactGPUClaim]
		put(append(h.byNumbers(claim), h.byNames(claim)...), "its own environment", true)
	}
	mine := dst[begun:]
	slices.SortFunc(mine, func(a, b account.GPUGrant) int { return int(a.GPU - b.GPU) })
	for i := range mine {
		mine[i].Number = i
	}
	return dst
}

// byNumbers finds GPUs by the host's own numbers: those of their nodes, where they have such, as schedulers count them.
func (h *Host) byNumbers(list string) (found []int32) {
	numbers, err := cpuset.Parse(list) // lists of both have the same form
	if err != nil {
		return nil
	}
	for _, n := range numbers.CPUs() {
		for i := range h.gpus.sheets {
			if s := &h.gpus.sheets[i]; s.Card == "" && h.gpus.numberOf(i) == n {
				found = append(found, int32(i))
			}
		}
	}
	return found
}

func (g *gpus) numberOf(i int) int {
	if node := g.numbers[i]; node[0] == nvidiaMajor {
		return int(node[1])
	}
	return int(g.sheets[i].Index)
}

// byNodes finds GPUs by device numbers: 195:0, or as the list of a devices cgroup has them, c 195:0 rwm. What stands
// for all devices grants none in particular.
func (h *Host) byNodes(nodes []string) (found []int32) {
	for _, n := range nodes {
		if rest, is := strings.CutPrefix(n, "c "); is {
			number, rights, _ := strings.Cut(rest, " ")
			if !strings.Contains(rights, "w") {
				continue
			}
			n = number
		}
		for i, x := range h.gpus.numbers {
			if x[0] != 0 && n == fmt.Sprintf("%d:%d", x[0], x[1]) {
				found = append(found, int32(i))
			}
		}
	}
	return found
}

// byNames finds GPUs by names: uuids, those of partitions too, numbers, and numbers of partitions on their cards (0:1).
func (h *Host) byNames(list string) (found []int32) {
	for name := range strings.SplitSeq(list, ",") {
		name = strings.TrimSpace(name)
		card, part, isPart := strings.Cut(name, ":")
		for i := range h.gpus.sheets {
			s := &h.gpus.sheets[i]
			switch {
			case name == "":
			case name == "all" && s.Card == "", name == s.UUID, name == s.Name,
				s.Card == "" && name == strconv.Itoa(int(s.Index)):
				found = append(found, int32(i))
			case isPart && s.Card != "" && part == strconv.Itoa(int(s.Index)):
				k := slices.IndexFunc(h.gpus.sheets, func(c account.GPUSheet) bool { return c.Name == s.Card })
				if k >= 0 && card == strconv.Itoa(int(h.gpus.sheets[k].Index)) {
					found = append(found, int32(i))
				}
			}
		}
	}
	return found
}
