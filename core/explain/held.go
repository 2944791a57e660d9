package explain

import (
	"strconv"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// Held is what a workload is entitled to.
type Held struct {
	MayUseCPUs  float64  `json:"may_use_cpus" doc:"CPUs it may use at once: the least of its limits."`
	By          string   `json:"may_use_by" enum:"limit,cpuset,asked,host" doc:"What limits it."`
	Allowed     string   `json:"allowed_cpus" doc:"CPUs its processes may run on, kernel list format."`
	CPULimit    *float64 `json:"cpu_limit_cores"`
	CPUAsked    *float64 `json:"cpus_asked" doc:"By a job, or virtual CPUs of a machine."`
	MemoryLimit *float64 `json:"memory_limit_bytes"`
	MemoryAsked *float64 `json:"memory_asked_bytes"`
	GPUs        string   `json:"gpus" doc:"The host's numbers of the GPUs allotted; empty for none."`
	GPUClaim    string   `json:"gpus_claimed,omitempty" doc:"GPUs that only its own environment names."`
}

// HeldBy works out what a workload is entitled to from its facts, on a host of so many CPUs.
func HeldBy(w *account.Workload, hostCPUs int) Held {
	fact := func(name string) *float64 {
		v, err := strconv.ParseFloat(w.Facts[name], 64)
		if err != nil || v <= 0 {
			return nil
		}
		return &v
	}
	x := Held{
		Allowed: w.Allowed, CPULimit: fact(account.FactCPULimit), CPUAsked: fact(account.FactCPUAsked),
		MemoryLimit: fact(account.FactMemoryLimit), MemoryAsked: fact(account.FactMemoryAsked),
		GPUs: w.Facts[account.FactGPUs], GPUClaim: w.Facts[account.FactGPUClaim],
		MayUseCPUs: float64(hostCPUs), By: "host",
	}
	least := func(v float64, by string) {
		if v > 0 && v < x.MayUseCPUs {
			x.MayUseCPUs, x.By = v, by
		}
	}
	if set, err := cpuset.Parse(w.Allowed); err == nil {
		least(float64(set.Len()), "cpuset")
	}
	if x.CPULimit != nil {
		least(*x.CPULimit, "limit")
	}
	if x.CPUAsked != nil && w.Kind == amount.Job {
		least(*x.CPUAsked, "asked")
	}
	return x
}

// Crowding is how many threads want to run for each CPU that a workload may use; nil where it may use none.
func (h *Held) Crowding(runnableMean float64) *float64 {
	if h.MayUseCPUs <= 0 {
		return nil
	}
	crowding := runnableMean / h.MayUseCPUs
	return &crowding
}

// Entitled is what a workload is entitled to of the resources that can be held, in their mean units: limits,
// reservations and allotments. What nothing limits below the whole host is not held.
func (h *Held) Entitled(kind amount.Kind, hostCPUs int, hostMemory int64) map[string]float64 {
	of := map[string]float64{}
	// CPUs that it may run on beside others are not its own: it takes a limit, or a number that was asked for.
	isAsked := h.CPUAsked != nil && (kind == amount.Job || kind == amount.VM)
	if h.CPULimit != nil || isAsked {
		cpus := h.MayUseCPUs
		if isAsked {
			cpus = min(cpus, *h.CPUAsked)
		}
		if cpus < float64(hostCPUs) || isAsked {
			of[amount.CPU.String()] = cpus
		}
	}
	for _, limit := range []*float64{h.MemoryLimit, h.MemoryAsked} {
		least, there := of[amount.Memory.String()]
		if limit != nil && (hostMemory <= 0 || *limit < float64(hostMemory)) && (!there || *limit < least) {
			of[amount.Memory.String()] = *limit
		}
	}
	if set, err := cpuset.Parse(h.GPUs); err == nil && !set.IsEmpty() {
		of[amount.GPU.String()] = float64(set.Len())
	}
	return of
}
