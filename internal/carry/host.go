package carry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/internal/identify"
	"vinescale/internal/kernel/netlink"
)

// Known is what is known of a host's workloads, as it was read last.
type Known struct {
	Boot      string
	Workloads map[string]account.Workload // by key: those that are there
	Of        map[Process]string          // keys of the workloads that processes are of
}

// Process names a process: a pid with its start, in clock ticks since boot.
type Process struct {
	PID   int32
	Start int64
}

// Options for New. Empty paths are the host's own.
type Options struct {
	Proc, Cgroup, Sys, Run string
	Users                  *identify.Users
	// Known asks for what is known of the host's workloads.
	Known func(context.Context) (*Known, error)
	// Policy reads what is allowed on this host; an error says why nothing is.
	Policy func() (*act.Policy, error)
	// Journal is a directory in which what was carried out is remembered.
	Journal string
	// Systems are those that manage workloads of their own; what they manage is done through them.
	Systems Systems
	// GPUs is the vendor's library of this host's GPUs; nil where there is none.
	GPUs GPULibrary
	// Counts says that system calls may be counted inside the kernel.
	Counts bool
	// Self is the pid of the collector.
	Self int32
	// IsStaged says that the host is made up of files: what an act would do is shown, and nothing is carried out.
	IsStaged bool
	Log      *slog.Logger
}

// Systems says where the systems are that manage workloads. An empty field is one that is not there.
type Systems struct {
	Bus      string // address of the bus that the init system is on
	Machines string // the machine manager's socket
	Engine   string // a container engine's socket
	Pods     string // the socket of a container runtime with the Container Runtime Interface
	Journal  string // the command that reads the init system's journal; empty for the usual one
	Jobs     string // the command that lists the scheduler's jobs; its others stand beside it
}

// Host carries out acts on the host that it runs on, one at a time.
type Host struct {
	Options
	turn    sync.Mutex
	journal journal
}

// New makes a Host. The error says what is wrong with the journal.
func New(o Options) (*Host, error) {
	def := func(s *string, fallback string) {
		if *s == "" {
			*s = fallback
		}
	}
	def(&o.Proc, "/proc")
	def(&o.Cgroup, "/sys/fs/cgroup")
	def(&o.Sys, "/sys")
	def(&o.Run, "/run")
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	j, err := openJournal(o.Journal)
	return &Host{Options: o, journal: j}, err
}

// refusal is an error that says why an act is not carried out: nothing was done.
type refusal struct{ why string }

func (r *refusal) Error() string { return r.why }

func refuse(format string, a ...any) error { return &refusal{fmt.Sprintf(format, a...)} }

var errStaged = errors.New("this host is staged: nothing runs on it that anything could be done to")

// Preview shows what an act would do. The error says why it is refused.
func (h *Host) Preview(ctx context.Context, o *act.Order) (*act.Preview, error) {
	p, err := h.plan(ctx, o)
	if err != nil {
		return nil, err
	}
	return &p.Preview, nil
}

// Carry carries an act out, unless it was before: then it tells what came of it. It never fails: what went wrong is the
// outcome. Within is how long the order may still be begun.
func (h *Host) Carry(ctx context.Context, o *act.Order, within time.Duration) act.Outcome {
	deadline := time.Now().Add(within) // by the monotonic clock
	h.turn.Lock()
	defer h.turn.Unlock()
	if h.IsStaged {
		return failed(act.Refused, errStaged)
	}
	before, err := h.journal.find(o.ID)
	if err != nil {
		return failed(act.Failed, fmt.Errorf("this host's journal of acts cannot be read: %w", err))
	}
	if before != nil {
		return h.recall(before)
	}
	if time.Now().After(deadline) {
		return failed(act.Expired, errors.New("the order came too late; nothing was done"))
	}
	var births *netlink.Births
	if o.Request.Verb == act.End && o.Request.Settings["force"] == "true" {
		// From before it is looked who is there, so that nobody is born in between.
		if births, err = netlink.OpenBirths(); err != nil {
			h.Log.Warn(
				"the kernel does not tell of births: what leaves its family meanwhile may be missed",
				"error",
				err,
			)
			births = nil
		} else {
			defer births.Close()
		}
	}
	p, err := h.plan(ctx, o)
	if err != nil {
		return failed(act.Refused, err)
	}
	p.births = births
	if p.Identity != o.Identity {
		return failed(
			act.Refused,
			fmt.Errorf("%s is not what it was when the act was previewed: look at a new preview",
				p.Target),
		)
	}
	entry := &record{ID: o.ID, Request: o.Request, Begun: time.Now().UTC(), Values: p.values, Identity: o.Identity,
		Touched: p.touched}
	if err := h.journal.put(entry); err != nil {
		return failed(
			act.Failed,
			fmt.Errorf("this host's journal of acts cannot be written, so nothing was done: %w",
				err),
		)
	}
	out := p.carry(ctx, h)
	out.At = time.Now().UTC()
	entry.Outcome, entry.Values = &out, p.values // with those that came meanwhile
	if err := h.journal.put(entry); err != nil {
		h.Log.Error("what came of an act could not be written down", "act", o.ID, "error", err)
	}
	if of := o.Request.Target.Act; o.Request.Verb == act.Undo && out.State == act.Done {
		h.journal.markUndone(of)
	}
	return out
}

// Recall tells what came of an act, and does nothing. One that is not known was never begun, and never will be: its
// order has expired.
func (h *Host) Recall(id string) act.Outcome {
	h.turn.Lock()
	defer h.turn.Unlock()
	before, err := h.journal.find(id)
	switch {
	case err != nil:
		return failed(act.Unknown, fmt.Errorf("this host's journal of acts cannot be read: %w", err))
	case before == nil:
		return failed(act.Expired, errors.New("the order never came to this host in time; nothing was done"))
	}
	return h.recall(before)
}

// recall tells what came of an act that was begun before. Where the collector ended in the middle, what is there now
// says what was done.
func (h *Host) recall(r *record) act.Outcome {
	if r.Outcome != nil {
		return *r.Outcome
	}
	out := act.Outcome{State: act.Unknown, At: time.Now().UTC(), Changes: []act.Change{}, Left: []act.Refusal{},
		Found: []act.Glimpse{}, Detail: "the collector ended while it carried this out; "}
	set := 0
	for i := range r.Values {
		v := &r.Values[i]
		now, err := v.read(h)
		if err != nil {
			out.Left = append(out.Left, act.Refusal{What: v.where(), Why: err.Error()})
			continue
		}
		if v.isAs(now, v.After) {
			set++
		}
		out.Changes = append(
			out.Changes,
			act.Change{What: v.what(), Where: v.where(), Before: v.Before, After: now},
		)
	}
	switch {
	case len(r.Values) == 0:
		out.Detail += "whether it was done cannot be told: look at what is there"
	case set == len(r.Values):
		out.State, out.CanUndo = act.Done, true
		out.Detail += "read back, all of it was done"
	case set == 0:
		out.State = act.Failed
		out.Detail += "read back, nothing of it was done"
	default:
		out.State, out.CanUndo = act.Partly, true
		out.Detail += fmt.Sprintf("read back, %d of %d values were set", set, len(r.Values))
	}
	r.Outcome = &out
	if err := h.journal.put(r); err != nil {
		h.Log.Error("what came of an act could not be written down", "act", r.ID, "error", err)
	}
	return out
}

func failed(state act.State, err error) act.Outcome {
	return act.Outcome{State: state, Detail: err.Error(), At: time.Now().UTC(), Changes: []act.Change{},
		Left: []act.Refusal{}, Found: []act.Glimpse{}}
}

// ReadPolicy reads a policy from a file, which must belong to root and be writable by nobody else: whoever can write it
// could have anything done as root. Where there is none, nothing is allowed.
func ReadPolicy(file string) (*act.Policy, error) {
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("this host only observes: it has no %s, which would say what may be done here", file)
	}
	if err != nil {
		return nil, fmt.Errorf("this host's policy cannot be read: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if s, is := info.Sys().(*syscall.Stat_t); !is || s.Uid != 0 || info.Mode().Perm()&0o022 != 0 ||
		!info.Mode().IsRegular() {
		return nil, fmt.Errorf(
			"this host's policy %s is not followed: it must be a file of root's that nobody else may "+
				"write",
			file,
		)
	}
	const most = 1 << 20
	if info.Size() > most {
		return nil, fmt.Errorf("this host's policy %s is larger than %d bytes", file, most)
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("this host's policy cannot be read: %w", err)
	}
	p, err := act.ParsePolicy(b)
	if err != nil {
		return nil, fmt.Errorf("this host's policy %s cannot be understood, so nothing is allowed: %s", file,
			strings.TrimSpace(err.Error()))
	}
	return p, nil
}

func inodeOf(info os.FileInfo) uint64 {
	if s, is := info.Sys().(*syscall.Stat_t); is {
		return s.Ino
	}
	return 0
}
