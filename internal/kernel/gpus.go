package kernel

import (
	"cmp"
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/devices"
	"vinescale/internal/kernel/tree"
)

// gpuGrants is what is known of who was given which GPU.
type gpuGrants struct {
	devices *tree.Tree // of version 1: the hierarchy that limits which devices are opened
	opened  bool
	known   map[account.WorkloadID][]string // lines of workloads' devices cgroups
}

// readGPUs reads the host's GPUs, who uses them, and who was given them.
func (r *Reader) readGPUs(dst *account.Reading) {
	r.devices.ReadGPUs(dst)
	if len(dst.GPUs) == 0 {
		return
	}
	again := r.gpus.known == nil || r.count%r.options.RecheckEvery == 0
	if again {
		r.gpus.known = map[account.WorkloadID][]string{}
	}
	for _, w := range present(dst) {
		about := r.registry.Workload(w)
		lines, known := r.gpus.known[w]
		if !known {
			lines = r.allowedDevices(&about)
			r.gpus.known[w] = lines
		}
		dst.GPUGrants = r.devices.Granted(dst.GPUGrants, w, about.Facts, lines)
	}
}

// present lists the workloads of a reading, each once, in order.
func present(dst *account.Reading) []account.WorkloadID {
	var all []account.WorkloadID
	for i := range dst.Groups {
		all = append(all, dst.Groups[i].Workload)
	}
	for i := range dst.Processes {
		if w := dst.Processes[i].Workload; w != account.Unrecognised {
			all = append(all, w)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// allowedDevices reads which devices the processes of a workload may open, where its cgroup says so: the kernel's
// "Device Whitelist Controller" of version 1. Version 2 keeps that in a program of the kernel, which tells nothing.
func (r *Reader) allowedDevices(w *account.Workload) (lines []string) {
	if w.Path == "" || w.Path == "/" || w.Kind != amount.Job && w.Kind != amount.Container {
		return nil
	}
	g := &r.gpus
	if !g.opened {
		g.opened = true
		g.devices, _ = tree.Open(strings.TrimSuffix(r.options.Roots.Cgroup, "/") + "/devices")
	}
	if g.devices == nil {
		return nil
	}
	b, err := g.devices.Read(g.devices.At(strings.TrimPrefix(w.Path, "/"), "devices.list"))
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(b)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "c ") && !strings.Contains(line, "*") {
			lines = append(lines, line)
		}
	}
	return lines
}

// ofWhom says in words whose use an ability is of.
func ofWhom(whose account.Whose) string {
	if whose == account.OfCgroups {
		return " of a cgroup"
	}
	return " of processes outside cgroups"
}

// sayGPU tells how the time of GPUs is had.
func (r *Reader) sayGPU(l *abilities) {
	sheets, why := r.devices.GPUs()
	byKernel, byLibrary := toldBy(sheets)
	for _, whose := range []account.Whose{account.OfCgroups, account.OfOthers} {
		if byKernel {
			l.put(account.Ability{What: "GPU time" + ofWhom(whose) + ", by the kernel", Whose: whose, Source: isCounted,
				How:        "what each client of a GPU used of its engines (DRM client usage stats)",
				Resolution: "1 ns, at the end of a job on an engine",
				Misses:     "what a client did last before it ended; who else uses a client that is shared"})
		}
		if byLibrary {
			l.put(account.Ability{What: "GPU time" + ofWhom(whose) + ", by a vendor's library", Whose: whose,
				Source:     amount.Reported.String(),
				How:        "samples of the GPU, added up every second by a helper process",
				Resolution: "1 % of a second", Misses: "what goes on between two samples"})
		}
	}
	if !byKernel && !byLibrary || why != "" {
		l.put(account.Ability{What: "GPU time", Source: isUnavailable, Why: cmp.Or(why, account.NoGPU)})
	}
}

// toldBy says who tells of GPUs.
func toldBy(sheets []account.GPUSheet) (kernel, library bool) {
	for i := range sheets {
		isKernel := sheets[i].Told == devices.ByKernel
		kernel, library = kernel || isKernel, library || !isKernel
	}
	return kernel, library
}

// sayGPUMemory tells how the memory of GPUs is had.
func (r *Reader) sayGPUMemory(l *abilities) {
	sheets, _ := r.devices.GPUs()
	told := slices.DeleteFunc(slices.Clone(sheets), func(s account.GPUSheet) bool { return s.MemoryBytes == nil })
	byKernel, byLibrary := toldBy(told)
	for _, whose := range []account.Whose{account.OfCgroups, account.OfOthers} {
		if byKernel {
			l.put(account.Ability{What: "GPU memory" + ofWhom(whose) + ", by the kernel", Whose: whose,
				Source: isCounted, Resolution: "1 KiB",
				How: "what each client of a GPU has of its memory (DRM client usage stats)"})
		}
		if byLibrary {
			l.put(account.Ability{What: "GPU memory" + ofWhom(whose) + ", by a vendor's library", Whose: whose,
				Resolution: "1 byte", Source: amount.Reported.String(), How: "what the library tells of each process"})
		}
	}
	switch {
	case len(sheets) == 0:
		l.put(account.Ability{What: "GPU memory", Source: isUnavailable, Why: account.NoGPU})
	case len(told) == 0:
		l.put(account.Ability{What: "GPU memory", Source: isUnavailable, Why: "its GPUs do not tell of their memory"})
	}
}
