package kernel

import (
	"bytes"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/cpuset"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// readHeld records what a cgroup's workload may use at most: cpu.max and memory.max of version 2 (the kernel's "Control
// Group v2"), cpu.cfs_quota_us and memory.limit_in_bytes of version 1. No limit, and one as large as the host, is none.
// It also records on which CPUs it may run, and how it is weighed against others.
func (r *Reader) readHeld(h *hierarchy, dir []byte, w account.WorkloadID) {
	path := string(dir)
	switch {
	case r.cgroups.v2:
		if b := r.counter(h, path, "cpu.max"); b != nil {
			quota, rest := text.Field(text.TrimNewline(b))
			r.limitCPU(w, quota, rest)
		}
		r.limitMemory(h, path, "memory.max", w)
		r.keptOn(w, r.counter(h, path, "cpuset.cpus.effective"))
		alone := string(text.TrimNewline(r.counter(h, path, "cpuset.cpus.partition")))
		if alone != "root" && alone != "isolated" { // else a member, or a partition that is not valid
			alone = ""
		}
		r.registry.SetFact(w, account.FactCPUAlone, alone)
		r.registry.SetFact(w, account.FactWeights, r.weights(path, func(dir string) []byte {
			return r.counter(h, dir, "cpu.weight")
		}, usualWeight))
	case h.name == "cpuacct" && r.cgroups.limits != nil:
		read := func(file string) []byte { return ofTree(r.cgroups.limits, path, file) }
		r.limitCPU(w, read("/cpu.cfs_quota_us"), read("/cpu.cfs_period_us"))
		r.registry.SetFact(w, account.FactWeights, r.weights(path, func(dir string) []byte {
			return ofTree(r.cgroups.limits, dir, "/cpu.shares")
		}, usualShares))
		if r.cgroups.cpusets != nil {
			r.keptOn(w, ofTree(r.cgroups.cpusets, path, "/cpuset.effective_cpus"))
		}
	case h.name == "memory":
		r.limitMemory(h, path, "memory.limit_in_bytes", w)
	}
}

func (r *Reader) limitCPU(w account.WorkloadID, quota, period []byte) {
	q, ok1 := text.Number(quota)
	p, _, ok2 := text.NextNumber(period)
	value := ""
	if ok1 && ok2 && p > 0 {
		if cores := float64(q) / float64(p); cores < float64(r.host.cpus) {
			value = strconv.FormatFloat(cores, 'g', 6, 64)
		}
	}
	r.registry.SetFact(w, account.FactCPULimit, value)
}

func (r *Reader) limitMemory(h *hierarchy, dir string, file string, w account.WorkloadID) {
	value := ""
	if b := r.counter(h, dir, file); b != nil {
		if n, ok := text.Number(text.TrimNewline(b)); ok && n < r.host.memory {
			value = strconv.FormatInt(n, 10)
		}
	}
	r.registry.SetFact(w, account.FactMemoryLimit, value)
}

// keptOn records the CPUs that a cgroup lets its processes run on; all of the host's are none in particular.
func (r *Reader) keptOn(w account.WorkloadID, list []byte) {
	value := string(text.TrimNewline(list))
	if set, err := cpuset.Parse(value); err != nil || set.Len() >= r.host.cpus {
		value = ""
	}
	r.registry.SetFact(w, account.FactCPUSet, value)
}

// What cpu.weight of version 2 and cpu.shares of version 1 are where nobody set them.
const (
	usualWeight = 100
	usualShares = 1024
)

// weights tells how the cgroups of a path are weighed against their siblings when these all want a CPU, from the
// outermost: 100 is usual, and "-" is one whose tasks compete as its parent's, since CPU time is not controlled there.
// It is empty where none of them is weighed.
func (r *Reader) weights(path string, read func(dir string) []byte, usual float64) string {
	if r.cgroups.weighedAt != r.count {
		r.cgroups.weighed, r.cgroups.weighedAt = map[string]string{}, r.count
	}
	var parts []string
	isWeighed := false
	for i := range path {
		if i+1 < len(path) && path[i+1] != '/' {
			continue
		}
		dir := path[:i+1]
		weight, known := r.cgroups.weighed[dir]
		if !known {
			weight = "-"
			if n, ok := text.Number(text.TrimNewline(read(dir))); ok && n > 0 {
				weight = strconv.FormatFloat(float64(n)*100/usual, 'g', 4, 64)
			}
			r.cgroups.weighed[dir] = weight
		}
		isWeighed = isWeighed || weight != "-"
		parts = append(parts, weight)
	}
	if !isWeighed {
		return ""
	}
	return strings.Join(parts, "/")
}

// ofTree returns a copy of a cgroup's file without its newline; nil when it is gone or not there.
func ofTree(t *tree.Tree, dir, file string) []byte {
	b, err := t.Read(append(append(append(t.At(), '.'), dir...), file...))
	if err != nil {
		return nil
	}
	return bytes.Clone(text.TrimNewline(b))
}
