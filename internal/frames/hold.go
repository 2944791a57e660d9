package frames

import (
	"fmt"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/wire"
)

// Held is for how long frames are held.
const Held = 15 * time.Minute

// Memory that a hold takes, in bytes: of frames as they came, and of those that are laid out for whoever asked last.
const (
	mostBytes = 512 << 20
	mostLaid  = 128 << 20
)

// silentAfter is how many ticks after its last frame a host is no longer waited for.
const silentAfter = 3

// Frame is what one tick counted on one host.
//
// Invariant: Who has an element for each workload of the frame, in its order.
type Frame struct {
	Host     int32
	From, To time.Time
	Pace     time.Duration // between readings of the host, as it is read now
	Reading  time.Duration // CPU time that its reading took
	Who      []leaf.User   // workload 0 where the book does not know it yet
	Body     []byte        // a wire.Batch as it is sent
}

// NewFrame makes a frame of a batch that was decoded from a body. The error says why it is none.
func NewFrame(host int32, b *wire.Batch, body []byte, who []leaf.User) (*Frame, error) {
	if len(b.Intervals) != 1 || b.Pace == nil {
		return nil, fmt.Errorf("a frame holds one interval and its pace: this one has %d", len(b.Intervals))
	}
	iv := b.Intervals[0]
	pace := time.Duration(b.Pace.TickMillis) * time.Millisecond
	if pace < time.Second || pace > time.Minute {
		return nil, fmt.Errorf("pace.tick_millis: %d is not between 1000 and 60000", b.Pace.TickMillis)
	}
	from := time.UnixMicro(iv.FromUnixMicros).UTC()
	return &Frame{Host: host, From: from, To: from.Add(time.Duration(iv.ElapsedMillis) * time.Millisecond), Pace: pace,
		Reading: time.Duration(b.Pace.ReadingMicros) * time.Microsecond, Who: who, Body: body}, nil
}

// size is about how many bytes a frame takes as it is held.
func (f *Frame) size() int { return len(f.Body) + 200 }

// leaf lays the frame out.
func (f *Frame) leaf() (*leaf.Leaf, error) {
	b, err := wire.Decode(f.Body, wire.TypeProtobuf, "zstd")
	if err != nil {
		return nil, fmt.Errorf("a frame of host %d: %w", f.Host, err)
	}
	l := b.Intervals[0].Leaf(f.Host, f.Who)
	l.Fill()
	return l, nil
}

// Hold holds frames. It may be used from several goroutines.
type Hold struct {
	mu     sync.Mutex
	hosts  map[int32][]*Frame // oldest first
	bytes  int
	most   int // bytes
	laid   *lru.Cache[*Frame, *leaf.Leaf]
	weight int // of what is laid out
}

// NewHold makes an empty hold.
func NewHold() *Hold {
	h := &Hold{hosts: map[int32][]*Frame{}, most: mostBytes}
	var err error
	h.laid, err = lru.NewWithEvict(1<<16, func(_ *Frame, l *leaf.Leaf) { h.weight -= l.Bytes() })
	if err != nil {
		panic(err) // the size is a constant
	}
	return h
}

// Put holds a frame. One that does not follow the host's last is left out: it came late, or twice.
func (h *Hold) Put(f *Frame) {
	h.mu.Lock()
	defer h.mu.Unlock()
	list := h.hosts[f.Host]
	if n := len(list); n > 0 {
		last := list[n-1]
		if f.From.Before(last.To.Add(-time.Second)) && f.From.After(last.From.Add(-time.Minute)) {
			return
		}
		if f.From.Before(last.From) { // its clock was set back: what it told before cannot be put in order with it
			h.drop(f.Host, n)
			list = nil
		} else if slices.Equal(last.Who, f.Who) {
			f.Who = last.Who
		}
	}
	h.hosts[f.Host] = append(list, f)
	h.bytes += f.size()
	h.shed(f)
}

// shed lets go of what is too old, and of the oldest of all where there is too much.
func (h *Hold) shed(newest *Frame) {
	list := h.hosts[newest.Host]
	old := slices.IndexFunc(list, func(f *Frame) bool { return f.To.After(newest.To.Add(-Held)) })
	h.drop(newest.Host, max(old, 0))
	for h.bytes > h.most {
		oldest := int32(0)
		var at time.Time
		for host, list := range h.hosts {
			if len(list) > 0 && (at.IsZero() || list[0].From.Before(at)) {
				oldest, at = host, list[0].From
			}
		}
		h.drop(oldest, max(len(h.hosts[oldest])/4, 1))
	}
}

// drop lets go of the first n frames of a host.
func (h *Hold) drop(host int32, n int) {
	list := h.hosts[host]
	for _, f := range list[:n] {
		h.bytes -= f.size()
		h.laid.Remove(f)
	}
	if n == len(list) {
		delete(h.hosts, host)
		return
	}
	h.hosts[host] = slices.Delete(list, 0, n)
}

// of lists the frames of some hosts (nil for all) that begin in a span, by host and time.
func (h *Hold) of(hosts []int32, span question.Span) (found []*Frame) {
	h.mu.Lock()
	defer h.mu.Unlock()
	add := func(list []*Frame) {
		for _, f := range list[begun(list, span.From):begun(list, span.To)] {
			found = append(found, f)
		}
	}
	if hosts == nil {
		for host := range h.hosts {
			hosts = append(hosts, host)
		}
		slices.Sort(hosts)
	}
	for _, host := range hosts {
		add(h.hosts[host])
	}
	return found
}

// begun is how many of some frames began before a time.
func begun(list []*Frame, at time.Time) int {
	n, _ := slices.BinarySearchFunc(list, at, func(f *Frame, at time.Time) int { return f.From.Compare(at) })
	return n
}

// Each visits the frames of some hosts (nil for all) that begin in a span, by host and time. A leaf is of several
// askers at once: it must not be changed.
func (h *Hold) Each(hosts []int32, span question.Span, visit func(*Frame, *leaf.Leaf) error) error {
	for _, f := range h.of(hosts, span) {
		l, err := h.lay(f)
		if err != nil {
			return err
		}
		if err := visit(f, l); err != nil {
			return err
		}
	}
	return nil
}

// lay is a frame as a leaf: that which was laid out for whoever asked before, or a new one.
func (h *Hold) lay(f *Frame) (*leaf.Leaf, error) {
	h.mu.Lock()
	l, there := h.laid.Get(f)
	h.mu.Unlock()
	if there {
		return l, nil
	}
	l, err := f.leaf()
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, there := h.laid.Peek(f); !there {
		h.laid.Add(f, l)
		h.weight += l.Bytes()
	}
	for h.weight > mostLaid {
		h.laid.RemoveOldest()
	}
	return l, nil
}

// Moment is what the newest frames of some hosts have in common.
type Moment struct {
	At     time.Time     // until when all of them have told; zero where none does
	Pace   time.Duration // of the slowest
	Hosts  int           // that tell
	Newest map[int32]*Frame
}

// Now finds the newest moment of which all of some hosts have told (nil for all), without those that are silent.
//
// Hosts read themselves a little after full ticks, so frames of one tick begin and end in the same stretch between
// those, whichever host they are of.
func (h *Hold) Now(hosts []int32, now time.Time) Moment {
	h.mu.Lock()
	defer h.mu.Unlock()
	m := Moment{Newest: map[int32]*Frame{}}
	for host, list := range h.hosts {
		f := list[len(list)-1]
		if hosts != nil && !slices.Contains(hosts, host) || now.Sub(f.To) > silentAfter*f.Pace+time.Second {
			continue
		}
		m.Newest[host] = f
		m.Hosts, m.Pace = m.Hosts+1, max(m.Pace, f.Pace, f.To.Sub(f.From).Round(f.Pace))
		if m.At.IsZero() || f.To.Before(m.At) {
			m.At = f.To
		}
	}
	if m.Hosts > 0 {
		m.At = m.At.Truncate(m.Pace)
	}
	return m
}

// Hosts is how many hosts have frames.
func (h *Hold) Hosts() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.hosts)
}
