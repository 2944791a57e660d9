package bpf

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
	"github.com/cilium/ebpf/link"
	"github.com/cilium/ebpf/rlimit"
	"golang.org/x/sys/unix"
)

// callRun are names of system calls whose numbers follow each other.
type callRun struct {
	from  int
	names string
}

// CallName is what a system call is called; its number where that is not known.
func CallName(number int) string {
	for _, run := range callNames {
		if names := strings.Fields(run.names); number >= run.from && number < run.from+len(names) {
			return names[number-run.from]
		}
	}
	return "call " + strconv.Itoa(number)
}

// Call is what a process did by one system call while it was traced.
type Call struct {
	Name     string
	Times    int64         // that it returned
	Took     time.Duration // of all those
	Longest  time.Duration
	Failed   int64         // that returned an error
	UnderWay int           // threads that are in it now
	Since    time.Duration // for how long the one of these that is longest in it has been
}

// Reach is a file that a process opened, or an address that it connected to.
type Reach struct {
	File   string
	To     string
	Failed error // why it could not
}

// Trace counts the system calls of one process. It is not safe for use from several goroutines.
type Trace struct {
	calls   callsObjects
	links   []link.Link
	notes   *ring
	reached []Reach
	left    uint64 // notes beyond the most that are kept
}

// mostReached is how many files and addresses are kept.
const mostReached = 2000

// OpenTrace begins to count the system calls of a process. Until Close, every system call on the host takes a little
// longer, some 50 to 100 ns. The error says why they cannot be counted.
func OpenTrace(pid int32) (*Trace, error) {
	t, err := openTrace(pid)
	if err != nil {
		return nil, explain(err)
	}
	return t, nil
}

// initialPIDs is the inode of the first namespace of pids (the kernel's PROC_PID_INIT_INO).
const initialPIDs = "pid:[4026531836]"

func openTrace(pid int32) (*Trace, error) {
	if len(callNames) == 0 {
		return nil, errors.New("the system calls of this kind of machine are not known here")
	}
	if ns, err := os.Readlink("/proc/self/ns/pid"); err != nil || ns != initialPIDs {
		return nil, errors.New(
			"the collector runs in a namespace of pids of its own, and the kernel counts by the host's",
		)
	}
	if is32(pid) {
		return nil, errors.New("it is a 32-bit program, whose calls have other numbers")
	}
	_ = rlimit.RemoveMemlock() // as in Open
	spec, err := loadCalls()
	if err != nil {
		return nil, err
	}
	for name, value := range map[string]any{callsVarTarget: uint32(pid), callsVarArguments: callArguments,
		callsVarOpensFirst: opensFirst, callsVarOpensSecond: [2]int32{unix.SYS_OPENAT, unix.SYS_OPENAT2},
		callsVarConnects: int32(unix.SYS_CONNECT)} {
		if err := spec.Variables[name].Set(value); err != nil {
			return nil, err
		}
	}
	t := &Trace{}
	if err := spec.LoadAndAssign(&t.calls, &ebpf.CollectionOptions{Cache: btf.NewCache()}); err != nil {
		return nil, err
	}
	if t.notes, err = openRing(t.calls.Notes); err != nil {
		t.Close()
		return nil, err
	}
	// The return first: a call that began before is not known then.
	for _, p := range []*ebpf.Program{t.calls.OnReturn, t.calls.OnCall} {
		l, err := link.AttachTracing(link.TracingOptions{Program: p})
		if err != nil {
			t.Close()
			return nil, fmt.Errorf("attach to system calls: %w", err)
		}
		t.links = append(t.links, l)
	}
	return t, nil
}

// is32 tells whether a process runs a program of 32 bits, by the class in the head of its file (elf(5)).
func is32(pid int32) bool {
	f, err := os.Open(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 5)
	_, err = f.ReadAt(head, 0)
	return err == nil && head[4] == 1
}

// Close ends the counting.
func (t *Trace) Close() {
	for _, l := range t.links {
		l.Close()
	}
	t.links = nil
	if t.notes != nil {
		t.notes.Close()
	}
	t.calls.Close()
}

// Take takes in what was noted since the last time, so that there is room for more.
func (t *Trace) Take() error {
	return t.notes.each(func(b []byte) {
		switch r, ok := decodeNote(b); {
		case ok && len(t.reached) < mostReached:
			t.reached = append(t.reached, r)
		case ok:
			t.left++
		}
	})
}

// Seen is what was counted until now: calls by the time that they took, what was reached in its order, and how many
// calls or notes found no room.
func (t *Trace) Seen() (calls []Call, reached []Reach, lost uint64, err error) {
	if err := t.Take(); err != nil {
		return nil, nil, 0, err
	}
	byNumber := map[uint32]*Call{}
	of := func(number uint32) *Call {
		if byNumber[number] == nil {
			byNumber[number] = &Call{Name: CallName(int(number))}
		}
		return byNumber[number]
	}
	var number uint32
	var d callsDone
	for each := t.calls.Calls.Iterate(); each.Next(&number, &d); {
		c := of(number)
		c.Times, c.Failed = int64(d.Times), int64(d.Failed)
		c.Took, c.Longest = time.Duration(d.Nanos), time.Duration(d.Longest)
	}
	var now unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &now); err != nil {
		return nil, nil, 0, err
	}
	var thread uint32
	var b callsBegun
	for each := t.calls.UnderWay.Iterate(); each.Next(&thread, &b); {
		if unix.Kill(int(thread), 0) == unix.ESRCH { // it ended in there
			continue
		}
		c := of(b.Id)
		c.UnderWay++
		c.Since = max(c.Since, time.Duration(now.Nano()-int64(b.At)))
	}
	for _, c := range byNumber {
		calls = append(calls, *c)
	}
	slices.SortFunc(calls, func(a, b Call) int {
		return cmp.Or(cmp.Compare(b.Took+b.Since, a.Took+a.Since), cmp.Compare(a.Name, b.Name))
	})
	if err := t.calls.Lost.Get(&lost); err != nil {
		return nil, nil, 0, err
	}
	return calls, t.reached, lost + t.left, nil
}

// What a note is about, as in calls.bpf.c.
const (
	aPath     = 1
	anAddress = 2
)

// decodeNote reads a note of the ring. False for one that is too short, or of an address that is none of the network's.
func decodeNote(b []byte) (Reach, bool) {
	var n callsNote
	if len(b) < int(unsafe.Sizeof(n)) {
		return Reach{}, false
	}
	n.Result = int64(binary.NativeEndian.Uint64(b))
	n.What, n.Length = binary.NativeEndian.Uint32(b[8:]), binary.NativeEndian.Uint32(b[12:])
	text := b[24:]
	text = text[:min(int(n.Length), len(text))]
	var r Reach
	// A connection that is not there yet was begun all the same.
	if n.Result < 0 && unix.Errno(-n.Result) != unix.EINPROGRESS {
		r.Failed = unix.Errno(-n.Result)
	}
	if n.What == aPath {
		r.File = strings.ToValidUTF8(string(text), "\uFFFD")
		return r, r.File != ""
	}
	r.To = toldAddress(text)
	return r, r.To != ""
}

// toldAddress reads an address as programs hand it to the kernel (ip(7), ipv6(7), unix(7)).
func toldAddress(b []byte) string {
	if len(b) < 3 {
		return ""
	}
	switch family := binary.NativeEndian.Uint16(b); {
	case family == unix.AF_INET && len(b) >= 8:
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte(b[4:8])), binary.BigEndian.Uint16(b[2:])).String()
	case family == unix.AF_INET6 && len(b) >= 24:
		return netip.AddrPortFrom(netip.AddrFrom16([16]byte(b[8:24])).Unmap(), binary.BigEndian.Uint16(b[2:])).String()
	case family == unix.AF_UNIX:
		path := b[2:]
		if path[0] == 0 { // a name of its own, which is in no directory; /proc/net/unix writes @ for each zero too
			path = bytes.ReplaceAll(bytes.TrimRight(path, "\x00"), []byte{0}, []byte("@"))
		}
		path, _, _ = bytes.Cut(path, []byte{0})
		return strings.ToValidUTF8(string(path), "\uFFFD")
	}
	return ""
}
