package collect

import (
	"context"
	"time"

	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/internal/wire"
)

// Registry names workloads and learns of them from outside systems; identify.Registry is one.
type Registry interface {
	wire.Describer
	// ToAsk tells whether there is something to ask outside systems now.
	ToAsk() bool
	// Ask asks them, for a few seconds at most, and returns the workloads of which something was learned.
	Ask(ctx context.Context) []account.WorkloadID
	// Ended has them asked how workloads ended.
	Ended(ids []account.WorkloadID)
}

// follower sees which workloads come and go from one reading to the next.
type follower struct {
	seen  []int64 // by WorkloadID: the reading it was last in; 0 for never
	count int64
	last  time.Time // of the reading before
}

// news is what is to be told of workloads.
type news struct {
	boot  string
	at    time.Time
	come  []account.WorkloadID
	ended []account.WorkloadID
	end   time.Time // when those ended were last seen
}

// follow compares a reading with the one before.
func (f *follower) follow(r *account.Reading) (n news) {
	f.count++
	n = news{boot: r.Boot, at: r.Wall, end: f.last}
	see := func(w account.WorkloadID) {
		if w == account.Unrecognised {
			return
		}
		for int(w) >= len(f.seen) {
			f.seen = append(f.seen, 0)
		}
		if f.seen[w] != f.count && f.seen[w] != f.count-1 || f.seen[w] == 0 {
			n.come = append(n.come, w)
		}
		f.seen[w] = f.count
	}
	for i := range r.Groups {
		see(r.Groups[i].Workload)
	}
	for i := range r.Processes {
		see(r.Processes[i].Workload)
	}
	for w, seen := range f.seen {
		if seen != 0 && seen == f.count-1 {
			n.ended = append(n.ended, account.WorkloadID(w))
		}
	}
	f.last = r.Wall
	return n
}

// mostNews bounds what waits to be told; beyond it, news is dropped: the next interval says it too.
const mostNews = 16

// tell hands news to the teller, which asks outside systems first. It never waits.
func (c *Collector) tell(n news) {
	if len(n.come) == 0 && len(n.ended) == 0 && !c.registry.ToAsk() {
		return
	}
	select {
	case c.news <- n:
	default:
	}
}

// tellers asks and tells until the context ends.
func (c *Collector) tellAll(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case n := <-c.news:
			c.tellOne(ctx, n)
		}
	}
}

func (c *Collector) tellOne(ctx context.Context, n news) {
	c.registry.Ended(n.ended)
	var learned []account.WorkloadID
	if c.registry.ToAsk() {
		learned = c.registry.Ask(ctx)
	}
	due := n.at.Truncate(interval).Add(interval + c.Tick/2)
	m := wire.NewNotices(c.Host, n.boot, n.at, due)
	told := map[account.WorkloadID]bool{}
	for _, id := range n.ended {
		m.Add(c.registry.Workload(id), n.end)
		told[id] = true
	}
	for _, ids := range [][]account.WorkloadID{n.come, learned} {
		for _, id := range ids {
			if !told[id] {
				told[id] = true
				m.Add(c.registry.Workload(id), time.Time{})
			}
		}
	}
	if len(told) == 0 {
		return
	}
	raw, err := proto.Marshal(m)
	if err == nil {
		limited, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		err = c.Client.SendNotices(limited, raw)
	}
	if err != nil && ctx.Err() == nil {
		c.Log.Debug("news of workloads not taken; the next interval says it too", "host", c.Host, "error", err)
	}
}
