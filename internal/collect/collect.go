package collect

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"vinescale/core/account"
	"vinescale/internal/carry"
	"vinescale/internal/client"
	"vinescale/internal/wire"
)

// Source is where readings come from: kernel.Reader, and the readers that count in the kernel itself.
type Source interface {
	Read(dst *account.Reading) error
	Mode() string
	Trouble() map[string]error
}

// Surveyor is a Source that also knows what the host is made of.
type Surveyor interface {
	Survey() *account.Inventory
}

// Divider is a Source that can make workloads of a user's brief programs, each by itself.
type Divider interface {
	ProgramsApart(bool)
}

// Options of a collector.
type Options struct {
	Host   string
	Source Source
	Names  wire.Describer
	Client *client.Client
	Spool  *Spool
	Tick   time.Duration // between readings; 5 s when zero
	Log    *slog.Logger
	// IdleGPUs says since when GPUs have had no work, by name, as far as that is known from before; nil for nothing.
	IdleGPUs map[string]time.Time
	// Acts carries out what the service orders; nil for a collector that only observes. OrderKey is the key that orders
	// must be signed with.
	Acts     *carry.Options
	OrderKey ed25519.PublicKey
	// BeforeTick, if set, is called before each reading: a staged host renders its files there.
	BeforeTick func(now time.Time) error
}

// interval is how long a closed interval is.
const interval = time.Minute

// Collector reads one host. Make it with New, run it with Run.
type Collector struct {
	Options
	tracker  account.Tracker
	readings [2]account.Reading // the tracker keeps the last; the other is being filled
	turn     int
	open     *account.Interval // the interval that is being added up
	partial  *account.Interval // what of a tick was read so far, while the host is read faster for those who look
	framing  framing
	sequence uint64
	unkept   []kept // closed intervals the spool could not take yet
	wake     chan struct{}
	newer    map[uint64]bool // spooled intervals that only a newer collector can read
	registry Registry        // nil where names come from elsewhere
	follower follower
	news     chan news
	// who wants to know what is known of this host's workloads
	asked chan chan<- *carry.Known
	base  base  // what is written down of the last reading
	found *base // what a collector before this one read last, until that is compared with the first reading
}

type kept struct {
	sequence uint64
	batch    []byte
}

// maxUnkept bounds what is held in memory while the spool's disk is full: two hours.
const maxUnkept = 120

// New makes a collector.
func New(o Options) *Collector {
	if o.Tick == 0 {
		o.Tick = 5 * time.Second
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	c := &Collector{
		Options: o,
		newer:   map[uint64]bool{},
		wake:    make(chan struct{}, 1),
		news:    make(chan news, mostNews),
		framing: newFraming(),
		asked:   make(chan chan<- *carry.Known),
	}
	if c.base.IdleGPUs = o.IdleGPUs; o.IdleGPUs == nil {
		c.base.IdleGPUs = map[string]time.Time{}
	}
	c.registry, _ = o.Names.(Registry)
	return c
}

// Run collects and sends until the context ends; then it closes the open interval,
// keeps it in the spool and tries once more to send.
func (c *Collector) Run(ctx context.Context) error {
	unfinished, err := c.recover()
	if err != nil {
		return fmt.Errorf("read what the spool had of an unfinished interval: %w", err)
	}
	c.found = c.foundBase(unfinished)
	if kept, err := c.Spool.List(); err != nil {
		return fmt.Errorf("read the spool: %w", err)
	} else if len(kept) > 0 {
		c.sequence = kept[len(kept)-1]
	}
	var sender sync.WaitGroup
	sender.Go(func() { c.send(ctx) })
	sender.Go(func() { c.sendFrames(ctx) })
	if c.registry != nil {
		sender.Go(func() { c.tellAll(ctx) })
	}
	if err := c.followOrders(ctx, &sender); err != nil {
		return err
	}
	defer sender.Wait()
	// A reader's first reading takes long, since it looks at everything for the first time: counters read late in it
	// would be of another moment than it says. So it is not the one that the next is compared with.
	if err := c.readOnce(time.Now()); err != nil {
		c.Log.Error("could not read this host; trying again at the next tick", "host", c.Host, "error", err)
	}
	for {
		now := time.Now()
		// A little after the full tick, so that the reading that ends a minute is past its end by the wall clock too.
		pace := c.framing.pace(now, c.Tick)
		next := now.Truncate(pace).Add(pace + 20*time.Millisecond)
		if err := c.tick(now); err != nil {
			c.Log.Error("could not read this host; trying again at the next tick", "host", c.Host, "error", err)
		}
		if !c.untilNext(ctx, next) {
			c.close()
			sender.Wait()
			c.lastSend()
			return nil
		}
	}
}

// untilNext waits for the next reading, and answers meanwhile who wants to know what the last one found. It returns
// false when the context ends.
func (c *Collector) untilNext(ctx context.Context, next time.Time) bool {
	due := time.After(time.Until(next))
	for {
		select {
		case <-ctx.Done():
			return false
		case answer := <-c.asked:
			answer <- c.known()
		case <-due:
			return true
		}
	}
}

// readOnce takes a reading that nothing is compared with.
func (c *Collector) readOnce(now time.Time) error {
	if c.BeforeTick != nil {
		if err := c.BeforeTick(now); err != nil {
			return err
		}
	}
	return c.Source.Read(&c.readings[0])
}

// tick takes one reading, adds it up, and closes the interval at the minute's end.
func (c *Collector) tick(now time.Time) error {
	if c.BeforeTick != nil {
		if err := c.BeforeTick(now); err != nil {
			return err
		}
	}
	clock := beginReading()
	defer clock.end()
	r := &c.readings[c.turn]
	if err := c.Source.Read(r); err != nil {
		return err
	}
	c.turn = (c.turn + 1) % len(c.readings)
	iv, err := c.tracker.Step(r)
	if c.registry != nil {
		c.tell(c.follower.follow(r))
	}
	switch {
	case errors.Is(err, account.ErrFirstReading):
		c.begin(r)
		return nil
	case errors.Is(err, account.ErrNoTime):
		return nil
	case errors.Is(err, account.ErrNewBoot):
		c.close()
		return nil
	case err != nil:
		return err
	}
	c.frame(iv, clock.took())
	if c.add(iv) {
		c.keep(r)
	}
	return nil
}

// add adds an interval between two readings to the open one, and tells whether it did: what is read faster than by the
// tick is added up to one first.
func (c *Collector) add(iv *account.Interval) bool {
	if c.partial != nil {
		iv = c.partial.Add(iv)
	}
	if iv.ElapsedMillis < c.Tick.Milliseconds() && iv.From.Truncate(c.Tick).Equal(iv.To.Truncate(c.Tick)) {
		c.partial = iv
		return false
	}
	c.partial = nil
	iv = iv.AsTick()
	if c.open == nil {
		c.open = iv
	} else {
		c.open = c.open.Add(iv)
	}
	return true
}

// keep keeps what was added up until a reading, so that an end at any moment costs nothing of it: the open interval, or
// the closed one where a minute is over. What was read is kept around it, so that the two fit.
func (c *Collector) keep(r *account.Reading) {
	err := c.keepBase(r, c.nextSequence())
	if begun := c.open.From.Truncate(interval); !r.Wall.Before(begun.Add(interval)) || r.Wall.Before(begun) {
		c.close()
	} else {
		_, batch, failed := c.encode(func(*wire.Interval) {})
		if failed == nil {
			failed = c.Spool.KeepOpen(batch)
		}
		err = errors.Join(err, failed)
	}
	if err == nil {
		err = c.Spool.ShiftBase()
	}
	if err != nil {
		c.Log.Warn("could not keep the interval that is being added up", "host", c.Host, "error", err)
	}
}

// nextSequence is what the open interval is told by.
func (c *Collector) nextSequence() uint64 { return max(c.sequence+1, uint64(c.open.To.UnixMicro())) }

// encode makes a batch of the open interval, to which more may be added.
func (c *Collector) encode(more func(*wire.Interval)) (sequence uint64, batch []byte, err error) {
	sequence = c.nextSequence()
	m := wire.FromInterval(c.open, sequence, c.Source.Mode(), c.Names)
	more(m)
	batch, err = wire.Encode(&wire.Batch{Version: wire.Version, Host: c.Host, Intervals: []*wire.Interval{m}})
	return sequence, batch, err
}

// recover keeps what a collector that ended before its time had of the interval that it was adding up, and returns the
// sequence of that; 0 where there is none, or none that can be read.
func (c *Collector) recover() (sequence uint64, err error) {
	batch, err := c.Spool.Open()
	if err != nil || batch == nil {
		return 0, err
	}
	b, err := wire.Decode(batch, wire.TypeProtobuf, "zstd")
	switch {
	case errors.Is(err, wire.ErrNewer): // it waits with what else is of a newer collector
		return 0, c.Spool.Shut(uint64(time.Now().UnixMicro()), batch)
	case err != nil || len(b.Intervals) != 1:
		c.Log.Error("what the last collector had of an unfinished interval is damaged; it is lost", "host", c.Host,
			"error", err)
		return 0, c.Spool.DropOpen()
	}
	c.Log.Info("the last collector ended before its time: what it had of an unfinished interval is kept", "host",
		c.Host)
	sequence = b.Intervals[0].Sequence
	return sequence, c.Spool.Shut(sequence, batch)
}

// close ends the open interval and keeps it.
func (c *Collector) close() {
	if c.partial != nil { // the reading ends with it
		part := c.partial.AsTick()
		if c.partial = nil; c.open != nil {
			part = c.open.Add(part)
		}
		c.open = part
	}
	if c.open != nil {
		var batch []byte
		var err error
		c.sequence, batch, err = c.encode(c.complete)
		switch {
		case err != nil:
			c.Log.Error("could not encode an interval; it is lost", "host", c.Host, "error", err)
		case len(c.unkept) > 0 || c.Spool.Shut(c.sequence, batch) != nil:
			// What is held in memory comes first; and no part of it may stand beside it.
			_ = c.Spool.DropOpen()
			c.unkept = append(c.unkept, kept{c.sequence, batch})
		}
		c.open = nil
	}
	for file, err := range c.Source.Trouble() {
		c.Log.Warn("left out a file", "host", c.Host, "file", file, "error", err)
	}
	for len(c.unkept) > 0 {
		if err := c.Spool.Put(c.unkept[0].sequence, c.unkept[0].batch); err != nil {
			c.Log.Error(
				"the spool takes nothing; holding intervals in memory",
				"host",
				c.Host,
				"held",
				len(c.unkept),
				"at_most",
				maxUnkept,
				"error",
				err,
			)
			if len(c.unkept) > maxUnkept {
				c.Log.Error("an interval is lost: the spool is full and so is memory", "host", c.Host, "sequence",
					c.unkept[0].sequence)
				c.unkept = c.unkept[1:]
			}
			return
		}
		c.unkept = c.unkept[1:]
	}
	c.wakeSender()
}

// wakeSender tells the sender that the spool has something new.
func (c *Collector) wakeSender() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// complete adds to an interval that is closed what is told of its end.
func (c *Collector) complete(m *wire.Interval) {
	processes, over := c.tracker.Running()
	m.AddProcesses(c.open, processes, over, c.Names)
	if s, ok := c.Source.(Surveyor); ok {
		inv := s.Survey()
		last := &c.readings[(c.turn+len(c.readings)-1)%len(c.readings)]
		inv.TellGPUs(c.open, last, c.Names.Workload, c.base.IdleGPUs)
		if err := m.AddInventory(inv); err != nil {
			c.Log.Warn("could not tell what the host is made of", "host", c.Host, "error", err)
		}
	}
}

// lastSend tries once to send what the spool keeps before the collector ends; what is not taken waits there.
func (c *Collector) lastSend() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for {
		done, err := c.sendSome(ctx)
		if err != nil {
			c.Log.Warn("not sent; kept in the spool for the next start", "host", c.Host, "error", err)
		}
		if done || err != nil {
			return
		}
	}
}

// How many intervals are sent in one call when catching up, and how much of them, as they are spooled: decoded they
// take some ten times that.
const (
	perCall      = 60
	perCallBytes = 256 << 10
)

// send sends what the spool keeps, oldest first, until the context ends.
func (c *Collector) send(ctx context.Context) {
	pause := time.Second
	for {
		done, err := c.sendSome(ctx)
		wait := time.Hour // until woken
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			c.Log.Warn("not sent; kept in the spool", "host", c.Host, "trying_again_in", pause, "error", err)
			wait, pause = pause, min(2*pause, 30*time.Second)
		case !done:
			wait, pause = 0, time.Second
		default:
			pause = time.Second
		}
		select {
		case <-ctx.Done():
			return
		case <-c.wakeIf(err == nil):
		case <-time.After(wait):
		}
	}
}

// wakeIf is the wake channel, or one that never wakes while the service is being given time.
func (c *Collector) wakeIf(ok bool) <-chan struct{} {
	if ok {
		return c.wake
	}
	return nil
}

// sendSome sends up to perCall intervals in one batch; done tells that the spool is empty.
func (c *Collector) sendSome(ctx context.Context) (done bool, err error) {
	sequences, err := c.Spool.List()
	if err != nil || len(sequences) == 0 {
		return err == nil, err
	}
	all := &wire.Batch{Version: wire.Version, Host: c.Host}
	var sent []uint64
	bytes := 0
	done = true
	for _, seq := range sequences {
		if len(sent) == perCall || bytes > perCallBytes {
			done = false
			break
		}
		if c.newer[seq] {
			continue
		}
		raw, err := c.Spool.Get(seq)
		if err != nil {
			return false, err
		}
		one, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
		if errors.Is(err, wire.ErrNewer) {
			c.newer[seq] = true
			c.Log.Warn("a spooled interval is of a newer collector; it stays in the spool for that", "host", c.Host,
				"sequence", seq, "error", err)
			continue
		}
		if err != nil {
			c.Log.Error("a spooled interval is damaged; set aside", "host", c.Host, "sequence", seq, "error", err)
			if err := c.Spool.Refuse(seq); err != nil {
				return false, err
			}
			continue
		}
		all.Intervals = append(all.Intervals, one.Intervals...)
		sent = append(sent, seq)
		bytes += len(raw)
	}
	if len(sent) == 0 {
		return done, nil
	}
	for _, iv := range all.Intervals[:len(all.Intervals)-1] {
		iv.Processes, iv.Inventory = nil, nil // only the newest are kept
	}
	if err := c.post(ctx, all, sent); err != nil {
		return false, err
	}
	return done, nil
}

// isOlder tells whether a service refuses a batch for its version alone: it is older than this collector. The batch is
// sound, so it is kept until the service is brought up to date.
func isOlder(p *client.Problem) bool {
	return strings.Contains(p.Detail, "version") && strings.Contains(p.Detail, "is not known here")
}

// post sends a batch and removes it from the spool once it is committed. One that the service will never take is set
// aside, alone: a batch of several is taken apart to find it.
func (c *Collector) post(ctx context.Context, b *wire.Batch, sequences []uint64) error {
	encoded, err := wire.Encode(b)
	if err != nil {
		return err
	}
	var receipt struct {
		Programs bool `json:"programs_apart"`
	}
	err = c.Client.SendBatch(ctx, encoded, &receipt)
	if d, ok := c.Source.(Divider); ok && err == nil {
		d.ProgramsApart(receipt.Programs)
	}
	var p *client.Problem
	if errors.As(err, &p) && (p.Status == 422 || p.Status == 400 || p.Status == 413) && !isOlder(p) {
		if len(sequences) > 1 {
			for i, seq := range sequences {
				one := &wire.Batch{Version: b.Version, Host: b.Host, Intervals: b.Intervals[i : i+1]}
				if err := c.post(ctx, one, []uint64{seq}); err != nil {
					return err
				}
			}
			return nil
		}
		c.Log.Error(
			"the service refused an interval; it is set aside in the spool's folder refused",
			"host",
			c.Host,
			"sequence",
			sequences[0],
			"error",
			err,
		)
		return c.Spool.Refuse(sequences[0])
	}
	if err != nil {
		return err
	}
	for _, seq := range sequences {
		if err := c.Spool.Remove(seq); err != nil {
			return err
		}
	}
	return nil
}
