package carry

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/act"
	"vinescale/internal/kernel/text"
)

// process is a process as /proc tells of it.
type process struct {
	pid, parent int32
	session     int32 // pid of who began its session
	start       int64 // clock ticks since boot
	uid         int64
	comm        string
	isKernel    bool
	state       byte
	threads     int32
	workload    string // its key; empty where it is in none that is known
}

// ref tells a process from another of the same pid.
type ref struct {
	pid   int32
	start int64
}

func (p *process) ref() ref { return ref{p.pid, p.start} }

// errGone is the error of a process that is not there any more, or of whose pid another has become.
var errGone = errors.New("it is gone")

// look reads one process; errGone.
func (h *Host) look(pid int32) (process, error) {
	dir := filepath.Join(h.Proc, strconv.Itoa(int(pid)))
	b, err := os.ReadFile(filepath.Join(dir, "stat"))
	if err != nil {
		return process{}, errGone
	}
	s, ok := text.ParseStat(b)
	if !ok {
		return process{}, fmt.Errorf("read %s/stat: %w", dir, text.ErrGarbage)
	}
	status, err := os.ReadFile(filepath.Join(dir, "status"))
	if err != nil {
		return process{}, errGone
	}
	uid, _, ok := text.ParseStatus(status)
	if !ok {
		return process{}, fmt.Errorf("read %s/status: %w", dir, text.ErrGarbage)
	}
	return process{pid: pid, parent: s.Parent, session: s.Session, start: s.Start, uid: uid,
		comm: string(s.Comm), isKernel: s.Kernel, state: s.State, threads: s.Threads}, nil
}

// isEnded tells whether a process has ended, though its parent may not have asked for it yet. Where its first thread
// has ended, others may go on: they are counted with that one as long as they do.
func (p *process) isEnded() bool { return p.state == 'X' || p.state == 'Z' && p.threads <= 1 }

// all reads every process, by pid. Those that end meanwhile are left out.
func (h *Host) all() ([]process, error) {
	entries, err := os.ReadDir(h.Proc)
	if err != nil {
		return nil, fmt.Errorf("list processes: %w", err)
	}
	var list []process
	for _, e := range entries {
		pid, err := strconv.ParseInt(e.Name(), 10, 32)
		if err != nil {
			continue
		}
		p, err := h.look(int32(pid))
		if err == nil && !p.isEnded() {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b process) int { return int(a.pid) - int(b.pid) })
	return list, nil
}

// descendants are those of a list that descend from others of it, with these. One that lost its parent is known by its
// session, which only a descendant of who began it can be in.
func descendants(list []process, from map[int32]bool) []process {
	children := map[int32][]int32{}
	for i := range list {
		p := &list[i]
		children[p.parent] = append(children[p.parent], p.pid)
		if p.session != p.pid && p.session != p.parent && p.session > 0 {
			children[p.session] = append(children[p.session], p.pid)
		}
	}
	in := map[int32]bool{}
	var add func(pid int32)
	add = func(pid int32) {
		if in[pid] {
			return
		}
		in[pid] = true
		for _, c := range children[pid] {
			add(c)
		}
	}
	for pid := range from {
		add(pid)
	}
	return slices.DeleteFunc(slices.Clone(list), func(p process) bool { return !in[p.pid] })
}

// executable is the name of the file that a process runs; empty where that is not told.
func (h *Host) executable(pid int32) string {
	link, err := os.Readlink(filepath.Join(h.Proc, strconv.Itoa(int(pid)), "exe"))
	if err != nil {
		return ""
	}
	return filepath.Base(strings.TrimSuffix(link, " (deleted)"))
}

// threads lists the threads of a process.
func (h *Host) threads(pid int32) []int32 {
	entries, err := os.ReadDir(filepath.Join(h.Proc, strconv.Itoa(int(pid)), "task"))
	if err != nil {
		return nil
	}
	var tids []int32
	for _, e := range entries {
		if tid, err := strconv.ParseInt(e.Name(), 10, 32); err == nil {
			tids = append(tids, int32(tid))
		}
	}
	return tids
}

// signal sends a signal to the very process that is meant: never to another that has its pid since.
func (h *Host) signal(r ref, s unix.Signal) error {
	fd, err := unix.PidfdOpen(int(r.pid), 0)
	if err != nil {
		if errors.Is(err, unix.ESRCH) {
			return errGone
		}
		return err
	}
	defer unix.Close(fd)
	p, err := h.look(r.pid) // the descriptor is of whoever had the pid before this
	if err != nil {
		return err
	}
	if p.start != r.start || p.isEnded() {
		return errGone
	}
	if err := unix.PidfdSendSignal(fd, s, nil, 0); err != nil {
		if errors.Is(err, unix.ESRCH) {
			return errGone
		}
		return err
	}
	return nil
}

// isThere tells whether a process lives.
func (h *Host) isThere(r ref) bool {
	p, err := h.look(r.pid)
	return err == nil && p.start == r.start && !p.isEnded()
}

// tell is a process as previews tell of it.
func (h *Host) tell(p *process) act.Involved {
	return act.Involved{
		PID:      p.pid,
		Start:    p.start,
		Began:    h.began(p.start),
		User:     h.Users.Name(p.uid),
		Program:  p.comm,
		Workload: p.workload,
	}
}

// began is when a process began by the wall clock, to the hundredth of a second at best.
func (h *Host) began(start int64) time.Time {
	b, err := os.ReadFile(filepath.Join(h.Proc, "stat"))
	if err != nil {
		return time.Time{}
	}
	for line := range strings.Lines(string(b)) {
		if seconds, is := strings.CutPrefix(line, "btime "); is {
			n, _ := strconv.ParseInt(strings.TrimSpace(seconds), 10, 64)
			return time.Unix(n, 0).Add(time.Duration(start) * text.NanosPerTick).UTC()
		}
	}
	return time.Time{}
}

// cgroups are the cgroups of a process by controller, as paths within their hierarchies; "" is version 2.
func (h *Host) cgroups(pid int32) map[string]string {
	b, err := os.ReadFile(filepath.Join(h.Proc, strconv.Itoa(int(pid)), "cgroup"))
	if err != nil {
		return nil
	}
	paths := map[string]string{}
	for line := range strings.Lines(string(b)) {
		fields := strings.SplitN(strings.TrimSuffix(line, "\n"), ":", 3)
		if len(fields) != 3 {
			continue
		}
		for c := range strings.SplitSeq(fields[1], ",") {
			paths[c] = fields[2]
		}
	}
	return paths
}
