package kernel

import (
	"fmt"
	"os"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
)

// Abilities says what this host can count, what it must add up or split, what it cannot have, and why.
func (r *Reader) Abilities() []account.Ability {
	const counted, summed, split, unavailable = "counted", "summed", "split", "unavailable"
	var list []account.Ability
	put := func(what, source, how, why string) {
		list = append(list, account.Ability{What: what, Source: source, How: how, Why: why})
	}
	not := func(f bpf.Feature) string {
		if err := r.counters.Missing(f); err != nil {
			return "no counting in the kernel: " + err.Error()
		}
		return ""
	}
	groupFile := map[bool]string{true: "cpu.stat", false: "cpuacct.usage_percpu"}[r.cgroups.v2]
	put("CPU time of a cgroup", counted, "the kernel's own counter, "+groupFile, "")
	cpu := r.counters.Has(bpf.CPU)
	switch {
	case cpu || !r.cgroups.v2:
		how := "the scheduler's clock at each switch (eBPF)"
		if !r.cgroups.v2 {
			how = groupFile
		}
		put("CPU time of a cgroup, by CPU", counted, how, "")
	default:
		put("CPU time of a cgroup, by CPU", summed, "each thread's time, put down to the CPU it last ran on",
			not(bpf.CPU))
	}
	if r.countsKin() {
		put("CPU time of processes outside cgroups, by CPU", counted,
			"the scheduler's clock at each switch, by user and family (eBPF)", "")
	} else {
		put("CPU time of processes outside cgroups, by CPU", summed,
			"each thread's time, put down to the CPU it last ran on", "a task's clock does not tell CPUs apart")
	}
	if cpu {
		if r.countsKin() {
			put("CPU time of processes outside cgroups", counted,
				"the scheduler's clock of every task, by user and family as they were (eBPF)",
				"a change of user is seen within a clock tick")
		} else {
			put("CPU time of processes outside cgroups", summed,
				"the scheduler's clock of every task, ended ones too (eBPF)", not(bpf.Tasks))
		}
		put("work that ended between readings", counted,
			"with its cgroup, user and family; a record of each ended task names its program (eBPF)", "")
		put("time on each CPU", counted,
			"how long tasks ran there (eBPF), so that steal and interrupts are not counted twice", "")
		put("waiting for a CPU", counted, "the scheduler's run-queue delay (eBPF)", "")
	} else {
		put("CPU time of processes outside cgroups", summed, "/proc/PID/stat, in steps of 10 ms", not(bpf.CPU))
		if why := r.tasks.exits.Missing(); why == "" {
			put("work that ended between readings", summed, "taskstats exit records, in steps of a clock tick",
				not(bpf.CPU))
		} else {
			put("work that ended between readings", unavailable,
				"it is in its cgroup's counter; outside cgroups it is in the residual",
				not(bpf.CPU)+"; no taskstats: "+why)
		}
		put("time on each CPU", summed, "/proc/stat, in steps of 10 ms; stolen time may be counted twice", not(bpf.CPU))
		put("waiting for a CPU", unavailable, "", not(bpf.CPU))
	}
	if r.counters.Has(bpf.Groups) {
		put("cgroups that came and went between readings", counted,
			"a record of each that is made (eBPF), kept for one reading after its end", "")
	} else {
		put("cgroups that came and went between readings", unavailable,
			"what ran in them is their users', or in the residual", not(bpf.Groups))
	}
	put("user and system time apart", split, "the kernel divides exact time by what it sampled at ticks", "")
	if r.counters.Has(bpf.Tasks) {
		put("processes", counted, "all tasks in one reading (eBPF)", "")
	} else {
		put("processes", counted, "/proc, three files each", not(bpf.Tasks))
	}
	put("memory of a cgroup", counted, map[bool]string{true: "memory.current, memory.stat",
		false: "memory.usage_in_bytes, memory.stat"}[r.cgroups.v2], "")
	put("memory of processes outside cgroups", summed,
		"resident anonymous pages; shared pages by the number of sharers, once in five minutes", "")
	switch {
	case r.cgroups.v2:
		put("disk of a cgroup", counted, "io.stat, by device", "")
	case r.counters.Has(bpf.Disk):
		put("disk of a cgroup", counted, "each request as it is issued, by device (eBPF)", "")
	default:
		put("disk of a cgroup", summed, "/proc/PID/io: writes count when pages are dirtied, and no device is known",
			not(bpf.Disk))
	}
	if r.counters.Has(bpf.Disk) {
		put("latency of devices", counted, "each request from issue to completion (eBPF)", "")
		if r.countsKin() {
			put("what the kernel writes back later", counted, "each page by who made it dirty (eBPF)",
				"what was dirty before this collector began is split")
		} else {
			put("what the kernel writes back later", split, "by who dirtied pages",
				"the kernel writes pages of several workloads together")
		}
	} else {
		put("latency of devices", counted, "the mean alone, from /proc/diskstats", not(bpf.Disk))
		put("what the kernel writes back later", map[bool]string{true: counted, false: summed}[r.cgroups.v2],
			map[bool]string{true: "io.stat charges who dirtied it", false: "counted when dirtied"}[r.cgroups.v2],
			not(bpf.Disk))
	}
	switch {
	case r.counters.Has(bpf.Network):
		put("network of a cgroup", counted,
			"every packet of the sockets it uses, IP level, as cut for the wire (eBPF)", "")
	default:
		put("network of a workload with a network of its own", counted, "the interfaces of its namespace", "")
		if why := r.net.sockets.Missing(); why == "" {
			put("network of a cgroup that shares the host's", summed,
				"TCP payload of its open sockets (sock_diag): no UDP, and not what closed between readings",
				not(bpf.Network))
		} else {
			put("network of a cgroup that shares the host's", unavailable, "", not(bpf.Network)+"; "+why)
		}
	}
	if r.options.Ask && r.net.selfNet == r.net.hostNet || r.options.Ends != nil {
		put("who is at the other end of an interface", counted,
			"veth pairs by the namespace of the other half, taps by the machine that holds them open", "")
	} else {
		put("who is at the other end of an interface", unavailable,
			"taps alone are known, by the machine that holds them open", "this process is not in the host's network")
	}
	others := "counted where the layer is a project of its filesystem"
	if os.Geteuid() != 0 {
		others = "the files of other users may not be looked at: run it as root"
	}
	put("space of a container's files", summed, "its writable layer is walked once an hour", others)
	put("space of a virtual machine's files", summed, "the files and devices it has open for writing", "")
	put("space of other workloads' files", unavailable, "", "filesystems count by user and project, not by cgroup")
	switch {
	case len(r.host.swaps) < 2:
	case r.host.seesFrames && r.options.Ask:
		put("on which swap pages are", summed, "page tables of processes, each once in five minutes", "")
	default:
		put("on which swap pages are", unavailable, "", "page tables may be read by root, or with CAP_SYS_ADMIN")
	}
	if _, err := os.Stat(r.proc.Root + "/pressure/cpu"); err == nil {
		put("pressure", counted, "PSI of the host and of each cgroup in a version 2 tree", "")
	} else {
		put("pressure", unavailable, "", "this kernel has no pressure stall information")
	}
	if _, err := r.proc.Read(r.proc.At("1/io")); err != nil && !r.counters.Has(bpf.Tasks) {
		put("other users' processes", unavailable, "",
			fmt.Sprintf("their I/O may not be read (%v): run it as root, or with CAP_SYS_PTRACE", err))
	}
	return list
}
