package hub

import (
	"context"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/store"
)

// ProgramTotal is what all processes of one program used: the many small ones that add up.
type ProgramTotal struct {
	Program     string  `json:"program" doc:"By its executable; what ended between readings has a line of its own."`
	Processes   int     `json:"processes" doc:"The most at the end of an interval in each workload, added."`
	Workloads   int     `json:"workloads"`
	CPUSeconds  float64 `json:"cpu_seconds"`
	Cores       float64 `json:"cpu_cores_mean"`
	MemoryBytes float64 `json:"memory_bytes_mean" doc:"Anonymous memory."`
	DiskBytes   float64 `json:"disk_bytes"`
}

// Programs adds up every program of a span, on one host or on all (""), in workloads that an expression matches ("" for
// all), most CPU time first.
func (h *Hub) Programs(ctx context.Context, span store.Span, hostName, where string) ([]ProgramTotal, error) {
	ask := store.UseQuestion{Span: span}
	if hostName != "" {
		host, err := h.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		ask.HostID = host.ID
	}
	only, err := h.matching(ctx, ask, where)
	if err != nil {
		return nil, err
	}
	ask.Only = only
	totals, err := h.store.ProgramTotals(ctx, ask)
	if err != nil {
		return nil, err
	}
	elapsed, err := h.elapsed(ctx, span)
	if err != nil {
		return nil, err
	}
	out := []ProgramTotal{}
	for _, t := range totals {
		x := ProgramTotal{
			Program: t.Program, Processes: t.Processes, Workloads: t.Workloads,
			CPUSeconds: amount.CPU.Amount(t.CPU, elapsed), Cores: amount.CPU.Mean(t.CPU, elapsed),
			MemoryBytes: amount.Memory.Mean(t.Memory, elapsed), DiskBytes: amount.Disk.Amount(t.Disk, elapsed),
		}
		if x.Program == "" {
			x.Program = account.NoProgramName
		}
		out = append(out, x)
	}
	return out, nil
}

// matching lists the workloads of a question that an expression matches; nil, for all, where there is none.
func (h *Hub) matching(ctx context.Context, ask store.UseQuestion, where string) ([]int64, error) {
	matches, err := h.filter(ctx, where)
	if err != nil || matches == nil {
		return nil, err
	}
	uses, err := h.store.WorkloadUses(ctx, ask)
	if err != nil {
		return nil, err
	}
	only := []int64{}
	for i := range uses {
		if matches(uses[i].HostName, &uses[i].Workload) {
			only = append(only, uses[i].ID)
		}
	}
	return only, nil
}
