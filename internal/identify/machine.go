package identify

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// machines recognises virtual machines: by the directory a machine manager makes for each, and those begun by hand by
// the command line of their emulator.
type machines struct {
	run, proc string
	users     *Users
	boot      string
}

// vmDir matches what libvirt makes under both cgroup drivers: machine-qemu-N-NAME.scope, and qemu-N-NAME.libvirt-qemu.
var vmDir = regexp.MustCompile(`^(?:machine-)?qemu-(\d+)-(.+?)(?:\.scope|\.libvirt-qemu)$`)

// FactMachine is a machine's number at its manager.
const FactMachine = "machine_number"

func (m machines) byPath(p string) (account.Workload, bool) {
	found := vmDir.FindStringSubmatch(unescapeUnit(path.Base(p)))
	if found == nil {
		return account.Workload{}, false
	}
	w := account.Workload{Key: "vm:" + m.boot + ":" + found[1] + "-" + found[2], Kind: amount.VM, Name: found[2],
		UID: -1, Facts: map[string]string{FactMachine: found[1]}}
	// The manager's number begins anew with the manager; the emulator's start tells machines of one number apart.
	if b, err := os.ReadFile(filepath.Join(m.run, "libvirt/qemu", found[2]+".pid")); err == nil {
		if pid, err := strconv.Atoi(strings.TrimSpace(string(b))); err == nil {
			if start, ok := startOf(m.proc, pid); ok {
				w.Key = fmt.Sprintf("vm:%s:%d:%d", m.boot, pid, start)
			}
		}
	}
	return w, true
}

// startOf is when a process began, in clock ticks since boot (proc_pid_stat(5), field 22).
func startOf(proc string, pid int) (int64, bool) {
	b, err := os.ReadFile(fmt.Sprintf("%s/%d/stat", proc, pid))
	if err != nil {
		return 0, false
	}
	_, rest, ok := strings.Cut(string(b[strings.LastIndexByte(string(b), ')')+1:]), " ")
	fields := strings.Fields(rest)
	if !ok || len(fields) < 20 {
		return 0, false
	}
	n, err := strconv.ParseInt(fields[19], 10, 64)
	return n, err == nil
}

// byProcess recognises an emulator that no manager put into a cgroup of its own: QEMU, by its command line.
func (m machines) byProcess(p *Process, inside account.Workload) (account.Workload, bool) {
	if !strings.HasPrefix(p.Comm, "qemu-") {
		return account.Workload{}, false
	}
	args := p.arguments()
	if len(args) == 0 || !strings.HasPrefix(path.Base(args[0]), "qemu-system-") {
		return account.Workload{}, false
	}
	w := account.Workload{
		Key: fmt.Sprintf("vm:%s:%d:%d", m.boot, p.PID, p.Start), Kind: amount.VM,
		Name: "machine " + strconv.Itoa(int(p.PID)),
		UID:  p.Person(), Outer: inside.Key, Facts: map[string]string{account.FactWhy: "emulator's command line"},
	}
	w.Owner = m.users.Name(w.UID)
	var disks, taps []string
	for i := 1; i+1 < len(args); i++ {
		switch value := args[i+1]; args[i] {
		case "-name":
			if name := or(option(value, "guest"), bare(value)); name != "" {
				w.Name = name
			}
		case "-smp":
			w.Facts[account.FactCPUAsked] = or(option(value, "cpus"), bare(value))
		case "-m":
			w.Facts[account.FactMemoryAsked] = memorySize(or(option(value, "size"), bare(value)))
		case "-uuid":
			w.Facts[account.FactUUID] = value
		case "-drive", "-blockdev":
			disks = append(disks, or(option(value, "file"), option(value, "filename")))
		case "-hda", "-hdb", "-cdrom", "-fda":
			disks = append(disks, value)
		case "-netdev", "-nic":
			if tap := option(value, "ifname"); tap != "" {
				taps = append(taps, tap)
			}
		}
	}
	w.Facts[account.FactDisks], w.Facts[account.FactTaps] = joined(disks), joined(taps)
	return w, true
}

// option is the value of a key in an emulator's comma-separated option.
func option(s, key string) string {
	for part := range strings.SplitSeq(s, ",") {
		if k, v, ok := strings.Cut(part, "="); ok && k == key {
			return v
		}
	}
	return ""
}

// bare is an option's first part where it has no key.
func bare(s string) string {
	first, _, _ := strings.Cut(s, ",")
	if strings.Contains(first, "=") {
		return ""
	}
	return first
}

func joined(list []string) string {
	var some []string
	for _, s := range list {
		if s != "" {
			some = append(some, s)
		}
	}
	return strings.Join(some, ", ")
}

// memorySize turns an emulator's size (MiB, or with a suffix) into bytes.
func memorySize(s string) string {
	number := strings.TrimRight(strings.ToUpper(s), "BKMGT")
	n, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return ""
	}
	per := float64(1 << 20)
	switch strings.TrimSuffix(strings.ToUpper(s)[len(number):], "B") {
	case "K":
		per = 1 << 10
	case "G":
		per = 1 << 30
	case "T":
		per = 1 << 40
	}
	return strconv.FormatInt(int64(n*per), 10)
}

// vhostThread matches the kernel threads that move packets for a machine; they are named after its emulator.
var vhostThread = regexp.MustCompile(`^vhost-(\d+)$`)

// WorksFor tells for which process a kernel thread works, by its name.
func WorksFor(comm string) (pid int32, ok bool) {
	if !strings.HasPrefix(comm, "vhost-") {
		return 0, false
	}
	m := vhostThread.FindStringSubmatch(comm)
	if m == nil {
		return 0, false
	}
	n, err := strconv.ParseInt(m[1], 10, 32)
	return int32(n), err == nil
}

// MachinePart is the part that a thread of an emulator plays, by the name the emulator gives it where it was begun with
// debug-threads=on: a virtual CPU ("CPU 0/KVM"; "ALL CPUs/TCG" where one thread emulates all), an I/O thread ("IO
// iothread1"), or the emulator itself.
func MachinePart(comm string) string {
	switch {
	case strings.HasPrefix(comm, "ALL CPUs/"):
		return "all vCPUs"
	case strings.HasPrefix(comm, "CPU "):
		number, _ := VirtualCPU(comm)
		return "vCPU " + number
	case strings.HasPrefix(comm, "IO "), strings.HasPrefix(comm, "iothread"), strings.HasPrefix(comm, "IOThread"):
		return "I/O"
	}
	return "emulator"
}

// VirtualCPU is the number of the virtual CPU that a machine's thread is; false where it is none.
func VirtualCPU(comm string) (string, bool) {
	rest, ok := strings.CutPrefix(comm, "CPU ")
	number, _, _ := strings.Cut(rest, "/")
	return number, ok
}
