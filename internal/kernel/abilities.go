package kernel

import (
	"fmt"
	"os"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/bpf"
)

// The sources of abilities.
var (
	isCounted     = amount.Counted.String()
	isSummed      = amount.Summed.String()
	isSplit       = amount.Split.String()
	isUnavailable = amount.Unavailable.String()
)

// abilities is a list of what a host can count, of one resource after the other.
type abilities struct {
	of   string
	list []account.Ability
}

func (l *abilities) put(a account.Ability) {
	a.Of = l.of
	l.list = append(l.list, a)
}

// Abilities says what this host can count, how finely, what it must add up or split, what can be missed, what it cannot
// have, and why.
func (r *Reader) Abilities() []account.Ability {
	l := &abilities{}
	for _, of := range []struct {
		resource amount.Resource
		say      func(*abilities)
	}{{amount.CPU, r.sayCPU}, {amount.Memory, r.sayMemory}, {amount.Disk, r.sayDisk}, {amount.Network, r.sayNetwork},
		{amount.GPU, r.sayGPU}, {amount.GPUMemory, r.sayGPUMemory}, {amount.Energy, r.sayEnergy}} {
		l.of = of.resource.String()
		of.say(l)
	}
	l.of = ""
	r.sayRest(l)
	return l.list
}

// not is why something is not counted in the kernel; "" where it is.
func (r *Reader) not(f bpf.Feature) string {
	if err := r.counters.Missing(f); err != nil {
		return "no counting in the kernel: " + err.Error()
	}
	return ""
}

const atSwitches = "1 µs, at each switch and at the reading"

func (r *Reader) sayCPU(l *abilities) {
	groupFile := map[bool]string{true: "cpu.stat", false: "cpuacct.usage_percpu"}[r.cgroups.v2]
	const atTicks = "1 µs, and of what runs at the reading until its last clock tick"
	groups := account.Ability{What: "CPU time of a cgroup", Whose: account.OfCgroups, Source: isCounted,
		How: "the kernel's own counter, " + groupFile, Resolution: atTicks}
	isOnce := r.counting(bpf.CPU) != nil
	if isOnce {
		groups.How = "the scheduler's clock at each switch, of all cgroups at once (eBPF), on top of what " +
			groupFile + " told before"
		groups.Resolution = atSwitches
	}
	l.put(groups)
	cpu := r.counters.Has(bpf.CPU)
	byThreads := account.Ability{Source: isSummed, How: "each thread's time, put down to the CPU it last ran on",
		Resolution: "10 ms a thread", Misses: "on which CPU a thread was before its last"}
	switch {
	case isOnce:
		l.put(account.Ability{What: "CPU time of a cgroup, by CPU", Source: isCounted,
			How: "the scheduler's clock at each switch (eBPF)", Resolution: atSwitches})
	case !r.cgroups.v2:
		l.put(account.Ability{What: "CPU time of a cgroup, by CPU", Source: isCounted, How: groupFile,
			Resolution: atTicks})
	default:
		a := byThreads
		a.What, a.Why = "CPU time of a cgroup, by CPU", r.not(bpf.CPU)
		l.put(a)
	}
	if r.countsKin() {
		l.put(account.Ability{What: "CPU time of processes outside cgroups, by CPU", Source: isCounted,
			How: "the scheduler's clock at each switch, by user and family (eBPF)", Resolution: atSwitches})
	} else {
		a := byThreads
		a.What, a.Why = "CPU time of processes outside cgroups, by CPU", "a task's clock does not tell CPUs apart"
		l.put(a)
	}
	r.sayLoose(l)
	if cpu {
		l.put(account.Ability{What: account.TimeOnCPUs, Source: isCounted,
			Resolution: "1 µs of tasks, 10 ms of the rest",
			How:        "how long tasks ran there (eBPF), so that steal and interrupts are not counted twice"})
		l.put(account.Ability{What: "waiting for a CPU", Source: isCounted,
			How:        "the scheduler's run-queue delay (eBPF)",
			Resolution: "1 µs, at each switch"})
	} else {
		l.put(account.Ability{What: account.TimeOnCPUs, Source: isSummed, How: "/proc/stat", Why: r.not(bpf.CPU),
			Resolution: "10 ms", Misses: "stolen time and interrupts may be counted twice"})
		l.put(account.Ability{What: "waiting for a CPU", Source: isUnavailable, Why: r.not(bpf.CPU)})
	}
	if r.counters.Has(bpf.Groups) {
		l.put(account.Ability{What: "cgroups that came and went between readings", Source: isCounted,
			How:    "a record of each that is made (eBPF), kept for one reading after its end",
			Misses: "those whose records find no room, which is said (groups_missed)"})
	} else {
		l.put(account.Ability{What: "cgroups that came and went between readings", Source: isUnavailable,
			How: "what ran in them is their users', or in the residual", Why: r.not(bpf.Groups)})
	}
	l.put(account.Ability{What: "user and system time apart", Source: isSplit,
		How: "the kernel divides exact time by what it sampled at ticks", Resolution: "a clock tick"})
}

// sayLoose tells of the CPU time of what is in no cgroup that is a workload's.
func (r *Reader) sayLoose(l *abilities) {
	loose := account.Ability{What: "CPU time of processes outside cgroups", Whose: account.OfOthers}
	ended := account.Ability{What: "work that ended between readings", Whose: account.OfOthers}
	switch {
	case r.countsKin():
		loose.Source, loose.Resolution = isCounted, atSwitches
		loose.How = "the scheduler's clock of every task, by user and family as they were (eBPF)"
		loose.Why = "a change of user is seen within a clock tick"
		loose.Misses = "what there is no room for when very many families run at once, which is said (time_unplaced)"
	case r.counters.Has(bpf.CPU):
		loose.Source, loose.Resolution, loose.Why = isSummed, atSwitches, r.not(bpf.Tasks)
		loose.How = "the scheduler's clock of every task, ended ones too (eBPF)"
	default:
		loose.Source, loose.Resolution, loose.Why = isSummed, "10 ms a process", r.not(bpf.CPU)
		loose.How = "/proc/PID/stat"
		loose.Misses = "what ran since its last clock tick, and what ended between readings"
	}
	switch why := r.tasks.exits.Missing(); {
	case r.counters.Has(bpf.CPU):
		ended.Source, ended.Resolution = isCounted, atSwitches
		ended.How = "with its cgroup, user and family; a record of each ended task names its program (eBPF)"
		ended.Misses = "names of programs whose records find no room, which is said (ends_lost)"
	case why == "":
		ended.Source, ended.Resolution, ended.Why = isSummed, "a clock tick a task", r.not(bpf.CPU)
		ended.How = "taskstats exit records"
		ended.Misses = "what a task ran since its last clock tick: all of it for those that live for less"
	default:
		ended.Source, ended.Why = isUnavailable, r.not(bpf.CPU)+"; no taskstats: "+why
		ended.How = "it is in its cgroup's counter; outside cgroups it is in the residual"
	}
	l.put(loose)
	l.put(ended)
}

func (r *Reader) sayMemory(l *abilities) {
	const between = "what it was between readings: it is taken to have been as at the later one"
	l.put(account.Ability{What: "memory of a cgroup", Whose: account.OfCgroups, Source: isCounted,
		How: map[bool]string{true: "memory.current, memory.stat",
			false: "memory.usage_in_bytes, memory.stat"}[r.cgroups.v2],
		Resolution: "64 pages a CPU", Misses: between})
	l.put(account.Ability{What: "memory of processes outside cgroups", Whose: account.OfOthers, Source: isSummed,
		How:        "resident anonymous pages; shared pages by the number of sharers, once in five minutes",
		Resolution: "a page", Misses: "page cache, which is the kernel's, and " + between})
	switch {
	case len(r.host.swaps) < 2:
	case r.host.seesFrames && r.options.Ask:
		l.put(account.Ability{What: "on which swap pages are", Source: isSummed,
			How: "page tables of processes, each once in five minutes", Resolution: "a page"})
	default:
		l.put(account.Ability{What: "on which swap pages are", Source: isUnavailable,
			Why: "page tables may be read by root, or with CAP_SYS_ADMIN"})
	}
}

func (r *Reader) sayDisk(l *abilities) {
	byProcess := account.Ability{Source: isSummed, How: "/proc/PID/io: no device is known", Why: r.not(bpf.Disk),
		Resolution: "a page that is made dirty, a request that is read",
		Misses:     "what ended between readings; what is overwritten before it is written back counts all the same"}
	group := account.Ability{What: "disk of a cgroup", Source: isCounted, Resolution: "a request, when it is issued"}
	switch {
	case r.counters.Has(bpf.Disk):
		group.How = "each request as it is issued, by device (eBPF)"
	case r.cgroups.v2:
		group.How, group.Why = "io.stat, by device", r.not(bpf.Disk)
		group.Misses = "cgroups for which no controller of I/O is on: theirs is summed by /proc/PID/io"
	default:
		group.Source, group.How, group.Why = byProcess.Source, byProcess.How, byProcess.Why
		group.Resolution, group.Misses = byProcess.Resolution, byProcess.Misses
	}
	group.Whose = account.OfCgroups
	l.put(group)
	others := byProcess
	if r.countsKin() && r.counters.Has(bpf.Disk) {
		others = account.Ability{Source: isCounted, How: "each request as it is issued, by user and family (eBPF)",
			Resolution: "a request, when it is issued"}
	}
	others.What, others.Whose = "disk of processes outside cgroups", account.OfOthers
	l.put(others)
	back := account.Ability{What: "what the kernel writes back later"}
	latency := account.Ability{What: "latency of devices", Source: isCounted,
		How: "the mean alone, from /proc/diskstats", Resolution: "1 ms", Why: r.not(bpf.Disk)}
	switch {
	case r.counters.Has(bpf.Disk) && r.countsKin():
		back.Source, back.How = isCounted, "each page by who made it dirty (eBPF)"
		back.Why = "what was dirty before this collector began is split"
		back.Misses = "pages of several that a volume encrypts in one piece: they are whose the first is"
	case r.counters.Has(bpf.Disk):
		back.Source, back.How = isSplit, "by who dirtied pages"
		back.Why = "the kernel writes pages of several workloads together"
	case r.cgroups.v2:
		back.Source, back.How, back.Why = isCounted, "io.stat charges who dirtied it", r.not(bpf.Disk)
	default:
		back.Source, back.How, back.Why = isSummed, "counted when dirtied", r.not(bpf.Disk)
	}
	if r.counters.Has(bpf.Disk) {
		latency.How, latency.Resolution = "each request from issue to completion (eBPF)", "1 µs a request"
	}
	l.put(latency)
	l.put(back)
	files := "counted where the layer is a project of its filesystem"
	if os.Geteuid() != 0 {
		files = "the files of other users may not be looked at: run it as root"
	}
	l.put(account.Ability{What: "space of a container's files", Source: isSummed,
		How: "its writable layer is walked once an hour", Why: files, Resolution: "a block"})
	l.put(account.Ability{What: "space of a virtual machine's files", Source: isSummed,
		How: "the files and devices it has open for writing", Resolution: "a block"})
	l.put(account.Ability{What: "space of other workloads' files", Source: isUnavailable,
		Why: "filesystems count by user and project, not by cgroup"})
}

func (r *Reader) sayNetwork(l *abilities) {
	group := account.Ability{What: "network of a cgroup that shares the host's", Whose: account.OfCgroups}
	switch why := r.net.sockets.Missing(); {
	case r.counters.Has(bpf.Network):
		group.What, group.Source = "network of a cgroup", isCounted
		group.How = "every packet of the sockets it uses, IP level, as cut for the wire (eBPF)"
		group.Resolution = "a packet"
		group.Misses = "packets of no socket: forwarded ones, and what the kernel answers by itself"
	default:
		l.put(account.Ability{What: "network of a workload with a network of its own", Source: isCounted,
			Whose: account.OfCgroups, How: "the interfaces of its namespace", Resolution: "a packet, with its headers"})
		group.Source, group.Why = isUnavailable, r.not(bpf.Network)+"; "+why
		if why == "" {
			group.Source, group.Why = isSummed, r.not(bpf.Network)
			group.How, group.Resolution = "TCP payload of its open sockets (sock_diag)", "a byte, without headers"
			group.Misses = "UDP, and what was closed between readings"
		}
	}
	l.put(group)
	ends := account.Ability{What: "who is at the other end of an interface", Source: isUnavailable,
		How: "taps alone are known, by the machine that holds them open",
		Why: "this process is not in the host's network"}
	if r.options.Ask && r.net.selfNet == r.net.hostNet || r.options.Ends != nil {
		ends.Source, ends.Why = isCounted, ""
		ends.How = "veth pairs by the namespace of the other half, taps by the machine that holds them open"
	}
	l.put(ends)
}

func (r *Reader) sayEnergy(l *abilities) {
	meters, why := r.devices.Meters(nil)
	gpus := r.devices.GPUMeters()
	switch {
	case why != "" && len(gpus) == 0:
		l.put(account.Ability{What: "energy of the host", Source: isUnavailable, Why: why})
		return
	case why != "":
		l.put(account.Ability{What: "energy of GPUs alone", Source: isCounted,
			How: "meters added: " + strings.Join(gpus, ", "), Why: why})
		r.saySplitEnergy(l)
		return
	}
	names, power := make([]string, len(meters)), false
	for i := range meters {
		names[i], power = meters[i].Name, power || meters[i].IsPower
	}
	names = append(names, gpus...)
	host := account.Ability{What: "energy of the host", Source: isCounted, Resolution: "a joule and less",
		How: "meters added: " + strings.Join(names, ", ")}
	if power {
		host.Source, host.Resolution = isSummed, "the mean of two readings"
		host.How = "power of the " + strings.Join(names, ", ") + ", over time"
		host.Misses = "what it drew between readings"
	}
	if r.options.IdleMicroWatts == 0 {
		host.Why = "what the host draws at rest is not declared (--idle-watts), so it is split with the rest"
	}
	l.put(host)
	r.saySplitEnergy(l)
}

// saySplitEnergy tells how energy is divided.
func (r *Reader) saySplitEnergy(l *abilities) {
	for _, whose := range []account.Whose{account.OfCgroups, account.OfOthers} {
		l.put(account.Ability{What: "energy" + ofWhom(whose), Whose: whose, Source: isSplit,
			How:    "what the host drew beyond rest, by CPU time; what a GPU with a meter drew, by the time it worked",
			Misses: "that some work draws more in the same time"})
	}
}

// sayRest tells of what is of no one resource.
func (r *Reader) sayRest(l *abilities) {
	processes := account.Ability{What: "processes", Source: isCounted,
		How: "/proc, three files each, one after another",
		Why: r.not(bpf.Tasks), Resolution: "10 ms of each process"}
	if r.counters.Has(bpf.Tasks) {
		processes.How, processes.Resolution = "all tasks in one reading (eBPF)", ""
	}
	l.put(processes)
	if _, err := os.Stat(r.proc.Root + "/pressure/cpu"); err == nil {
		l.put(account.Ability{What: "pressure", Source: isCounted,
			How: "PSI of the host and of each cgroup in a version 2 tree", Resolution: "1 µs"})
	} else {
		l.put(account.Ability{What: "pressure", Source: isUnavailable,
			Why: "this kernel has no pressure stall information"})
	}
	if _, err := r.proc.Read(r.proc.At("1/io")); err != nil && !r.counters.Has(bpf.Tasks) {
		l.put(account.Ability{What: "other users' processes", Source: isUnavailable,
			Why: fmt.Sprintf("their I/O may not be read (%v): run it as root, or with CAP_SYS_PTRACE", err)})
	}
}
