package carry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// A process is watched for some seconds. Its system calls, and what it opens and connects to by them, are counted by
// the kernel where that can be had. Beside that it is looked at again and again: what its threads were at is a part of
// the looks, not a count of what they did.

const (
	lookEvery    = 20 * time.Millisecond
	filesEvery   = 10  // looks: its files take longer to list
	mostWatched  = 100 // threads
	spotsOfEach  = 4   // that are told of a thread; the rest is told together
	mostOfOpened = 200
	callsTold    = 40 // by the time that they took; the rest is told together
)

// watching is what was seen of a process while it was watched.
type watching struct {
	h       *Host
	x       *process
	looks   int
	spots   map[int32]map[string]int // by thread: at what it was, in how many looks
	cpus    map[int32]map[string]bool
	known   map[string]bool // what was open before
	opened  map[string]bool
	elapsed time.Duration
	trace   *bpf.Trace
	noTrace error // why there is none
}

// errNotCounting says that a collector was told so.
var errNotCounting = errors.New("this collector does not count inside the kernel")

// watch looks at a process for a time, or until it ends, and tells what it saw.
func (h *Host) watch(ctx context.Context, x *process, over time.Duration, add finder) {
	w := &watching{h: h, x: x, spots: map[int32]map[string]int{}, cpus: map[int32]map[string]bool{},
		known: map[string]bool{}, opened: map[string]bool{}}
	w.files(w.known)
	if w.noTrace = errNotCounting; h.Counts {
		w.trace, w.noTrace = bpf.OpenTrace(x.pid)
	}
	if w.trace != nil {
		defer w.trace.Close()
	}
	begin := time.Now()
	for time.Since(begin) < over && ctx.Err() == nil && h.isThere(x.ref()) {
		w.look()
		if w.looks++; w.looks%filesEvery == 0 {
			w.files(w.opened)
			w.takeNotes()
		}
		time.Sleep(lookEvery)
	}
	w.files(w.opened)
	w.elapsed = time.Since(begin)
	var calls []bpf.Call
	var reached []bpf.Reach
	var lost uint64
	if w.noTrace == nil {
		calls, reached, lost, w.noTrace = w.trace.Seen()
	}
	w.tell(add, reached)
	w.tellCalls(add, calls, lost)
	tellReached(add, reached)
}

// takeNotes makes room for what the kernel notes.
func (w *watching) takeNotes() {
	if w.trace == nil {
		return
	}
	if err := w.trace.Take(); err != nil {
		w.noTrace = err
	}
}

// tellCalls tells of the process's system calls, or why they were not counted.
func (w *watching) tellCalls(add finder, calls []bpf.Call, lost uint64) {
	if w.noTrace != nil {
		add("system call", "none counted", "because "+w.noTrace.Error())
		return
	}
	var rest bpf.Call
	for i, c := range calls {
		if i < callsTold {
			add("system call", c.Name, callWords(&c))
			continue
		}
		rest.Times, rest.Failed, rest.Took = rest.Times+c.Times, rest.Failed+c.Failed, rest.Took+c.Took
		rest.Longest = max(rest.Longest, c.Longest)
	}
	if rest.Times > 0 {
		add("system call", fmt.Sprintf("%d others", len(calls)-callsTold), callWords(&rest))
	}
	if lost > 0 {
		add("system call", "beyond what is kept", fmt.Sprintf("%d calls, files or addresses are not told", lost))
	}
}

// tellReached tells which files were opened, and where it connected to, once where it did so again and again.
func tellReached(add finder, reached []bpf.Reach) {
	for _, r := range slices.Compact(reached) {
		what, where := "opened", r.File
		if r.To != "" {
			what, where = "connected", r.To
		}
		if r.Failed != nil {
			what, where = "tried", where+": "+r.Failed.Error()
		}
		add("watched", what, where)
	}
}

// callWords says how often a system call was made, and how long it took.
func callWords(c *bpf.Call) string {
	var words []string
	switch {
	case c.Times == 1:
		words = append(words, fmt.Sprintf("once, %s", roundly(c.Took)))
	case c.Times > 1:
		words = append(words, fmt.Sprintf("%d times, %s in all, the longest %s", c.Times, roundly(c.Took),
			roundly(c.Longest)))
	}
	if c.Failed > 0 {
		words = append(words, fmt.Sprintf("%d failed", c.Failed))
	}
	if c.UnderWay > 0 {
		words = append(words, fmt.Sprintf("%d under way, for up to %s", c.UnderWay, roundly(c.Since)))
	}
	return strings.Join(words, "; ")
}

// roundly is a duration to three figures.
func roundly(d time.Duration) time.Duration {
	step := time.Duration(1)
	for d/step >= 1000 {
		step *= 10
	}
	return d.Round(step)
}

func (w *watching) look() {
	for i, tid := range w.h.threads(w.x.pid) {
		if i == mostWatched {
			return
		}
		task := filepath.Join(w.h.Proc, strconv.Itoa(int(w.x.pid)), "task", strconv.Itoa(int(tid)))
		b, err := os.ReadFile(filepath.Join(task, "stat"))
		if err != nil {
			continue
		}
		s := string(b)
		fields := strings.Fields(s[strings.LastIndexByte(s, ')')+1:])
		if len(fields) < 37 {
			continue
		}
		spot := text.StateWords[fields[0][0]]
		if fields[0] == "S" || fields[0] == "D" {
			if b, err := os.ReadFile(filepath.Join(task, "wchan")); err == nil && len(b) > 1 {
				spot += " in " + string(b)
			}
			if b, err := os.ReadFile(filepath.Join(task, "syscall")); err == nil {
				spot += inCall(string(b))
			}
		} else if fields[0] == "R" {
			if w.cpus[tid] == nil {
				w.cpus[tid] = map[string]bool{}
			}
			w.cpus[tid][fields[36]] = true
		}
		if w.spots[tid] == nil {
			w.spots[tid] = map[string]int{}
		}
		w.spots[tid][spot]++
	}
}

// files notes what is open, beside what was known.
func (w *watching) files(into map[string]bool) {
	dir := filepath.Join(w.h.Proc, strconv.Itoa(int(w.x.pid)))
	entries, err := os.ReadDir(filepath.Join(dir, "fd"))
	if err != nil {
		return
	}
	var sockets map[string]string
	for _, e := range entries {
		link, err := os.Readlink(filepath.Join(dir, "fd", e.Name()))
		if err != nil || w.known[link] || into[link] || len(into) >= mostOfOpened {
			continue
		}
		into[link] = true
		if number, is := strings.CutPrefix(link, "socket:["); is {
			if sockets == nil {
				sockets = w.h.sockets(dir)
			}
			if text := sockets[strings.TrimSuffix(number, "]")]; text != "" {
				into[text] = true
			}
		}
	}
}

// tell tells what was seen; reached is what the kernel noted.
func (w *watching) tell(add finder, reached []bpf.Reach) {
	add(
		"watched",
		fmt.Sprintf("%.1f s", w.elapsed.Seconds()),
		fmt.Sprintf("looked at %d times: parts are of the looks",
			w.looks),
	)
	for _, tid := range slices.Sorted(maps.Keys(w.spots)) {
		spots, all := w.spots[tid], 0
		for _, n := range spots {
			all += n
		}
		order := slices.SortedFunc(maps.Keys(spots), func(a, b string) int {
			return cmp.Or(spots[b]-spots[a], cmp.Compare(a, b))
		})
		var words []string
		for i, spot := range order {
			if i == spotsOfEach {
				words = append(words, fmt.Sprintf("%d other states", len(order)-i))
				break
			}
			words = append(words, fmt.Sprintf("%.0f %% %s", 100*float64(spots[spot])/float64(all), spot))
		}
		if on := slices.Sorted(maps.Keys(w.cpus[tid])); len(on) > 0 {
			words = append(words, "on CPU "+strings.Join(on, ", "))
		}
		add("watched", "thread "+strconv.Itoa(int(tid)), strings.Join(words, "; "))
	}
	traced := map[string]bool{} // what the kernel tells of is not told twice
	for _, r := range reached {
		traced[r.File] = true
	}
	for _, link := range slices.Sorted(maps.Keys(w.opened)) {
		if !traced[link] && !w.known[link] && !strings.HasPrefix(link, "socket:[") {
			add("watched", "opened", link)
		}
	}
}
