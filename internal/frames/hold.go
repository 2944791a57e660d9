package frames

import (
	"fmt"
	"maps"
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

// UsualPace is how often a host is read unless its collector is told otherwise.
const UsualPace = 5 * time.Second

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

// decode reads the frame.
func (f *Frame) decode() (*wire.Interval, error) {
	b, err := wire.Decode(f.Body, wire.TypeProtobuf, "zstd")
	if err != nil {
		return nil, fmt.Errorf("a frame of host %d: %w", f.Host, err)
	}
	return b.Intervals[0], nil
}

// laid is a frame as it is laid out for those who ask.
type laid struct {
	iv     *wire.Interval
	leaf   *leaf.Leaf      // of the tables that were asked for so far; nil for none
	tables map[string]bool // those
	bytes  int             // that it takes, about
}

// decodedBytes is about how much memory a frame takes that was decoded: numbers take less on their way.
func (f *Frame) decodedBytes() int { return 8 * len(f.Body) }

// with is the frame laid out with some more tables. It changes nothing that others may be reading.
func (x *laid) with(f *Frame, tables []string) *laid {
	all := maps.Clone(x.tables)
	if all == nil {
		all = map[string]bool{}
	}
	for _, t := range tables {
		all[t] = true
	}
	l := x.iv.LeafOf(f.Host, f.Who, all)
	l.Fill()
	return &laid{x.iv, l, all, f.decodedBytes() + l.Bytes()}
}

// Hold holds frames. It may be used from several goroutines.
type Hold struct {
	mu     sync.Mutex
	hosts  map[int32][]*Frame // oldest first
	bytes  int
	most   int // bytes
	laid   *lru.Cache[*Frame, *laid]
	weight int // of what is laid out
}

// NewHold makes an empty hold.
func NewHold() *Hold {
	h := &Hold{hosts: map[int32][]*Frame{}, most: mostBytes}
	var err error
	h.laid, err = lru.NewWithEvict(1<<16, func(_ *Frame, x *laid) { h.weight -= x.bytes })
	if err != nil {
		panic(err) // the size is a constant
	}
	return h
}

// PutDecoded holds a frame which somebody is about to ask for, as it was decoded.
func (h *Hold) PutDecoded(f *Frame, iv *wire.Interval) {
	h.Put(f)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.keepLaid(f, &laid{iv: iv, bytes: f.decodedBytes()})
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

// Of lists the frames of a host, oldest first.
func (h *Hold) Of(host int32) []*Frame {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.hosts[host])
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

// Each visits the frames of some hosts (nil for all) that begin in a span, by host and time, each with the tables named
// (at least). A leaf is of several askers at once: it must not be changed.
func (h *Hold) Each(hosts []int32, span question.Span, tables []string, visit func(*Frame, *leaf.Leaf) error) error {
	for _, f := range h.of(hosts, span) {
		l, err := h.lay(f, tables)
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
func (h *Hold) lay(f *Frame, tables []string) (*leaf.Leaf, error) {
	h.mu.Lock()
	x, there := h.laid.Get(f)
	h.mu.Unlock()
	if !there {
		iv, err := f.decode()
		if err != nil {
			return nil, err
		}
		x = &laid{iv: iv} // and what it takes is known once it is laid out
	}
	if x.leaf != nil && !slices.ContainsFunc(tables, func(t string) bool { return !x.tables[t] }) {
		return x.leaf, nil
	}
	x = x.with(f, tables)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.keepLaid(f, x)
	return x.leaf, nil
}

// keepLaid keeps a frame as it is laid out, in place of those that were not asked for in the longest time.
func (h *Hold) keepLaid(f *Frame, x *laid) {
	h.laid.Remove(f)
	h.laid.Add(f, x)
	h.weight += x.bytes
	for h.weight > mostLaid {
		h.laid.RemoveOldest()
	}
}

// Moment is what the newest frames of some hosts have in common.
type Moment struct {
	At      time.Time     // until when all of them have told; zero where none does
	Pace    time.Duration // of the slowest
	Hosts   int           // that tell
	Reading float64       // CPUs that their readings keep busy
	Usual   float64       // the same, were all read at the usual pace
}

// Now finds the newest moment of which all of some hosts have told (nil for all), without those that are silent.
//
// Hosts read themselves a little after full ticks, so frames of one tick begin and end in the same stretch between
// those, whichever host they are of.
func (h *Hold) Now(hosts []int32, now time.Time) Moment {
	h.mu.Lock()
	defer h.mu.Unlock()
	var m Moment
	add := func(list []*Frame) {
		if len(list) == 0 {
			return
		}
		f := list[len(list)-1]
		if now.Sub(f.To) > silentAfter*f.Pace+time.Second {
			return
		}
		m.Hosts, m.Pace = m.Hosts+1, max(m.Pace, f.Pace, f.To.Sub(f.From).Round(f.Pace))
		m.Reading += f.Reading.Seconds() / f.Pace.Seconds()
		m.Usual += f.Reading.Seconds() / max(f.Pace, UsualPace).Seconds()
		if m.At.IsZero() || f.To.Before(m.At) {
			m.At = f.To
		}
	}
	if hosts == nil {
		for _, list := range h.hosts {
			add(list)
		}
	}
	for _, host := range hosts {
		add(h.hosts[host])
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
