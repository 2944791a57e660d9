package carry

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/act"
	"vinescale/core/cpuset"
	"vinescale/internal/kernel/text"
)

// change is one value that an act sets: what it was, and what it is to be. It can be written to the journal, read
// back, and put back.
type change struct {
	Kind          kind
	What          string // in words
	File          string // of a cgroup; for a unit, a job or a machine its name
	Container     string // whose manager sets it; empty for the kernel alone
	Device        string // "8:0", of a limit by device
	PID, TID      int32
	Start         int64 // of the thread, in clock ticks since boot
	Before, After string
}

// kind is how a value is read and set.
type kind string

const (
	aFile       kind = "file"
	aDevice     kind = "limit by device"
	aMemory     kind = "memory limit" // of version 1, where the kernel rounds to pages
	anAffinity  kind = "affinity"
	aNiceness   kind = "niceness"
	aPriority   kind = "I/O priority"
	aPower      kind = "power"  // drivers round it to what they can
	aRoom       kind = "room"   // a group that is made for what has none
	aMember     kind = "member" // in which group a process is
	aStop       kind = "stopped"
	aFreeze     kind = "frozen"
	aUnit       kind = "unit"
	aUnitAtBoot kind = "unit at boot"
	aJob        kind = "job"
	aMachine    kind = "machine"
	aVCPU       kind = "virtual CPU"
	aContainer  kind = "container"
	aGPU        kind = "gpu" // a setting of the vendor's library: File is the GPU's address, Device the setting
)

func (c *change) what() string { return c.What }

func (c *change) where() string {
	switch {
	case c.TID != 0 && c.TID != c.PID:
		return fmt.Sprintf("thread %d of process %d", c.TID, c.PID)
	case c.PID != 0:
		return fmt.Sprintf("process %d", c.PID)
	case c.Device != "" && c.Kind != aRoom && c.Kind != aGPU:
		return c.File + " for " + c.Device
	}
	return c.File
}

// isAs tells whether a value that was read is the one that was set.
func (c *change) isAs(now, set string) bool {
	switch c.Kind {
	case anAffinity:
		a, err1 := cpuset.Parse(now)
		b, err2 := cpuset.Parse(set)
		return err1 == nil && err2 == nil && a.Equal(b)
	case aFile:
		if filepath.Base(c.File) == "cpuset.cpus" { // which the kernel may write in another way
			a, err1 := cpuset.Parse(now)
			b, err2 := cpuset.Parse(set)
			return err1 == nil && err2 == nil && a.Equal(b)
		}
	case aPower, aGPU:
		a, err1 := strconv.ParseInt(now, 10, 64)
		b, err2 := strconv.ParseInt(set, 10, 64)
		return now == set || err1 == nil && err2 == nil && a/1e6 == b/1e6
	case aMemory:
		a, err1 := strconv.ParseInt(now, 10, 64)
		b, err2 := strconv.ParseInt(set, 10, 64)
		page := int64(os.Getpagesize())
		return now == set || err1 == nil && err2 == nil && a/page == b/page || set == "-1" && a > 1<<62
	}
	return now == set
}

// read returns the value as it is now.
func (c *change) read(h *Host) (string, error) {
	switch c.Kind {
	case aFile, aMemory, aPower:
		b, err := os.ReadFile(c.File)
		return strings.TrimSpace(string(b)), gone(err)
	case aDevice:
		b, err := os.ReadFile(c.File)
		return deviceLimit(string(b), c.Device, c.deviceKey()), gone(err)
	case aFreeze:
		b, err := os.ReadFile(c.File)
		state := strings.TrimSpace(string(b))
		if state == "FREEZING" {
			state = "FROZEN"
		}
		return state, gone(err)
	case anAffinity, aNiceness, aPriority:
		if h.IsStaged {
			return h.readStaged(c)
		}
		if err := h.isThread(c); err != nil {
			return "", err
		}
		return readThread(c)
	case aStop:
		p, err := h.look(c.PID)
		if err != nil {
			return "", err
		}
		if p.start != c.Start || p.isEnded() {
			return "", errGone
		}
		if p.state == 'T' {
			return "stopped", nil
		}
		return "running", nil
	case aRoom:
		return c.readRoom()
	case aMember:
		return c.readMember(h)
	case aUnit, aUnitAtBoot:
		return h.readUnit(c)
	case aJob:
		return h.readJob(c)
	case aMachine, aVCPU:
		return h.readMachine(c)
	case aContainer:
		return h.readContainer(c)
	case aGPU:
		return h.readGPU(c)
	}
	return "", fmt.Errorf("values of the kind %q are not known to this collector", c.Kind)
}

// settleWithin is how long a value is given to be what it was set to: a process stops, and a group freezes, a moment
// after it was told to.
const settleWithin = 2 * time.Second

// settled reads a value after it was set; err is what came of setting it.
func (c *change) settled(h *Host, err error) (string, error) {
	for end := time.Now().Add(settleWithin); ; time.Sleep(2 * time.Millisecond) {
		now, failed := c.read(h)
		if err != nil || failed != nil || c.isAs(now, c.After) || time.Now().After(end) {
			return now, failed
		}
	}
}

// write sets the value.
func (c *change) write(h *Host, value string) error {
	if c.Container != "" && !h.IsStaged {
		return h.writeAllowance(c, value)
	}
	switch c.Kind {
	case aFile, aMemory, aPower, aFreeze:
		return writeFile(c.File, value)
	case aDevice:
		if c.deviceKey() == "" {
			return writeFile(c.File, c.Device+" "+value)
		}
		return writeFile(c.File, c.Device+" "+c.deviceKey()+"="+value)
	case anAffinity, aNiceness, aPriority:
		if err := h.isThread(c); err != nil {
			return err
		}
		return writeThread(c, value)
	case aStop:
		s := unix.SIGCONT
		if value == "stopped" {
			s = unix.SIGSTOP
		}
		return h.signal(ref{c.PID, c.Start}, s)
	case aRoom:
		return c.writeRoom(h, value)
	case aMember:
		return c.writeMember(h, value)
	case aUnit, aUnitAtBoot:
		return h.writeUnit(c, value)
	case aJob:
		return h.writeJob(c, value)
	case aMachine, aVCPU:
		return h.writeMachine(c, value)
	case aContainer:
		return h.writeContainer(c, value)
	case aGPU:
		return h.writeGPU(c, value)
	}
	return fmt.Errorf("values of the kind %q are not known to this collector", c.Kind)
}

func gone(err error) error {
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ENODEV) {
		return errGone
	}
	return err
}

// writeFile writes to a file of the kernel, in one call as it wants it. It never makes one.
func writeFile(file, value string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		return gone(err)
	}
	_, err = f.WriteString(value)
	return gone(errors.Join(err, f.Close()))
}

// deviceKey is what a value is called on its line of io.max; empty in files of version 1, which are of one value each.
func (c *change) deviceKey() string {
	if filepath.Base(c.File) != "io.max" {
		return ""
	}
	if strings.HasPrefix(c.What, "read") {
		return "rbps"
	}
	return "wbps"
}

// deviceLimit finds a device's value among the lines of io.max (the kernel's "Control Group v2") or of a throttle file
// of version 1; where there is none, it is the one that stands for no limit.
func deviceLimit(lines, device, key string) string {
	for line := range strings.Lines(lines) {
		fields := strings.Fields(line)
		if len(fields) < 2 || fields[0] != device {
			continue
		}
		if key == "" {
			return fields[1]
		}
		for _, f := range fields[1:] {
			if value, is := strings.CutPrefix(f, key+"="); is {
				return value
			}
		}
	}
	if key == "" {
		return "0"
	}
	return "max"
}

// isThread makes sure that a thread is the one that is meant.
func (h *Host) isThread(c *change) error {
	start, err := h.threadStart(c.PID, c.TID)
	if err != nil {
		return err
	}
	if start != c.Start {
		return errGone
	}
	return nil
}

func (h *Host) threadStart(pid, tid int32) (int64, error) {
	b, err := os.ReadFile(fmt.Sprintf("%s/%d/task/%d/stat", h.Proc, pid, tid))
	if err != nil {
		return 0, errGone
	}
	// Field 22 counted from the last bracket (proc_pid_stat(5)).
	s := string(b)
	fields := strings.Fields(s[strings.LastIndexByte(s, ')')+1:])
	if len(fields) < 20 {
		return 0, errGone
	}
	return strconv.ParseInt(fields[19], 10, 64)
}

// readStaged reads a thread's value from files: the kernel, if it were asked, would tell of a thread of another host.
func (h *Host) readStaged(c *change) (string, error) {
	switch c.Kind {
	case anAffinity:
		b, err := os.ReadFile(filepath.Join(h.Proc, strconv.Itoa(int(c.PID)), "status"))
		if err != nil {
			return "", errGone
		}
		_, allowed, _ := text.ParseStatus(b)
		return string(allowed), nil
	case aNiceness:
		return "0", nil
	}
	return "by niceness", nil
}

// Of I/O priorities (the kernel's "Block io priorities").
const (
	priorityOfProcess = 1
	classShift        = 13
	classNone         = 0
	classRealTime     = 1
	classBestEffort   = 2
	classIdle         = 3
)

func readThread(c *change) (string, error) {
	tid := int(c.TID)
	switch c.Kind {
	case anAffinity:
		var mask unix.CPUSet
		if err := unix.SchedGetaffinity(tid, &mask); err != nil {
			return "", threadError(err)
		}
		set := cpuset.Set{}
		for cpu := range len(mask) * 64 {
			if mask.IsSet(cpu) {
				set = set.With(cpu)
			}
		}
		return set.String(), nil
	case aNiceness:
		n, err := unix.Getpriority(unix.PRIO_PROCESS, tid)
		return strconv.Itoa(20 - n), threadError(err) // the system call returns 40 to 1 for -20 to 19
	}
	n, _, e := unix.Syscall(unix.SYS_IOPRIO_GET, priorityOfProcess, uintptr(tid), 0)
	if e != 0 {
		return "", threadError(e)
	}
	switch class, level := n>>classShift, n&(1<<classShift-1); class {
	case classNone:
		return "by niceness", nil
	case classIdle:
		return "idle", nil
	case classRealTime:
		return fmt.Sprint("real-time-", level), nil
	default:
		return fmt.Sprint(act.BestEffort, level), nil
	}
}

func writeThread(c *change, value string) error {
	tid := int(c.TID)
	switch c.Kind {
	case anAffinity:
		set, err := cpuset.Parse(value)
		if err != nil {
			return err
		}
		var mask unix.CPUSet
		for _, cpu := range set.CPUs() {
			if cpu >= len(mask)*64 {
				return fmt.Errorf("CPU %d is beyond what the kernel takes here", cpu)
			}
			mask.Set(cpu)
		}
		return threadError(unix.SchedSetaffinity(tid, &mask))
	case aNiceness:
		n, err := strconv.Atoi(value)
		if err != nil {
			return err
		}
		return threadError(unix.Setpriority(unix.PRIO_PROCESS, tid, n))
	}
	n := uintptr(classIdle << classShift)
	switch {
	case value == "by niceness":
		n = classNone
	case strings.HasPrefix(value, "real-time-"):
		level, _ := strconv.Atoi(strings.TrimPrefix(value, "real-time-"))
		n = classRealTime<<classShift | uintptr(level&7)
	case value != "idle":
		level, err := strconv.Atoi(strings.TrimPrefix(value, act.BestEffort))
		if err != nil {
			return err
		}
		n = classBestEffort<<classShift | uintptr(level&7)
	}
	_, _, e := unix.Syscall(unix.SYS_IOPRIO_SET, priorityOfProcess, uintptr(tid), n)
	if e != 0 {
		return threadError(e)
	}
	return nil
}

// threadError says why the kernel did not do something to a thread.
func threadError(err error) error {
	switch {
	case errors.Is(err, unix.ESRCH):
		return errGone
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
		return fmt.Errorf("not permitted: the collector lacks the right to change it (%w)", err)
	case errors.Is(err, unix.EINVAL):
		return fmt.Errorf(
			"the kernel does not take this value here, such as CPUs that its group may not run on (%w)",
			err,
		)
	}
	return err
}
