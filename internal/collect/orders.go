package collect

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/internal/carry"
	"vinescale/internal/client"
)

// A collector asks its service for orders over and over, over the connection that it opens itself. It follows those
// that the key signed that it was given when its host was enrolled, and that answer the very request it made: one that
// is forged, changed, or given out a second time is worth nothing.

const (
	orderWait    = 25 * time.Second // for orders, at the service
	orderTransit = 40 * time.Second // an answer that takes longer is not followed
	reportFor    = 10 * time.Minute // for how long what came of an order is tried to be told
	longestRest  = 30 * time.Second // between two requests of a service that does not answer
)

// orderTaker follows orders.
type orderTaker struct {
	*Collector
	host *carry.Host

	mu   sync.Mutex
	busy map[string]bool // orders that are being followed, by act and errand
	work sync.WaitGroup
}

// followOrders begins to follow orders, where this collector is to carry out any.
func (c *Collector) followOrders(ctx context.Context, begun *sync.WaitGroup) error {
	if c.Acts == nil {
		return nil
	}
	o := *c.Acts
	o.Known, o.Log = c.askKnown, c.Log
	host, err := carry.New(o)
	if err != nil {
		return fmt.Errorf("keep a journal of acts: %w", err)
	}
	t := &orderTaker{Collector: c, host: host, busy: map[string]bool{}}
	begun.Go(func() {
		t.run(ctx)
		t.work.Wait()
	})
	return nil
}

// run asks for orders until the context ends.
func (t *orderTaker) run(ctx context.Context) {
	rest := time.Second
	for ctx.Err() == nil {
		err := t.ask(ctx)
		if err == nil {
			rest = time.Second
			continue
		}
		var p *client.Problem
		if errors.As(err, &p) && p.Status == http.StatusNotFound {
			rest = unknownOff // a service from before there were orders
		}
		t.Log.Debug("no orders could be asked for", "host", t.Host, "trying_again_in", rest, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(rest):
		}
		rest = min(2*rest, longestRest)
	}
}

// ask asks for orders once, and begins to follow those that come.
func (t *orderTaker) ask(ctx context.Context) error {
	nonce := rand.Text()
	inTime, cancel := context.WithTimeout(ctx, orderTransit)
	defer cancel()
	var answer struct {
		Orders []act.Signed `json:"orders"`
	}
	if err := t.Client.Orders(inTime, nonce, orderWait, &answer); err != nil {
		return err
	}
	for i := range answer.Orders {
		o, err := act.Open(t.OrderKey, &answer.Orders[i], t.Host, nonce)
		if err != nil {
			t.Log.Error("an order was refused", "host", t.Host, "error", err)
			continue
		}
		t.begin(ctx, o, time.Now())
	}
	return nil
}

// begin follows an order beside others, unless that is being done already.
func (t *orderTaker) begin(ctx context.Context, o *act.Order, came time.Time) {
	key := o.ID + " " + string(o.Errand)
	t.mu.Lock()
	isBusy := t.busy[key]
	t.busy[key] = true
	t.mu.Unlock()
	if isBusy {
		return
	}
	t.work.Go(func() {
		defer func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			delete(t.busy, key)
		}()
		t.report(ctx, o.ID, t.follow(ctx, o, came))
	})
}

// report is what is said of an order, in the form that the service takes.
type report struct {
	Preview *act.Preview `json:"preview,omitempty"`
	Refusal string       `json:"refusal,omitempty"`
	Outcome *act.Outcome `json:"outcome,omitempty"`
}

func (t *orderTaker) follow(ctx context.Context, o *act.Order, came time.Time) *report {
	switch o.Errand {
	case act.ToPreview:
		p, err := t.host.Preview(ctx, o)
		if err != nil {
			t.Log.Info(
				"an act was refused",
				"act",
				o.ID,
				"verb",
				o.Request.Verb,
				"target",
				o.Request.Target.String(),
				"error",
				err,
			)
			return &report{Refusal: err.Error()}
		}
		return &report{Preview: p}
	case act.ToRecall:
		out := t.host.Recall(o.ID)
		return &report{Outcome: &out}
	}
	out := t.host.Carry(context.WithoutCancel(ctx), o, time.Until(came.Add(o.Lives)))
	t.Log.Info(
		"carried out an act",
		"act",
		o.ID,
		"verb",
		o.Request.Verb,
		"target",
		o.Request.Target.String(),
		"state",
		out.State,
		"detail",
		out.Detail,
	)
	return &report{Outcome: &out}
}

// report tells what came of an order, again and again until the service has it: the service asks as well, where it
// never learns.
func (t *orderTaker) report(ctx context.Context, id string, r *report) {
	rest := time.Second
	for end := time.Now().Add(reportFor); time.Now().Before(end); rest = min(2*rest, longestRest) {
		inTime, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		err := t.Client.Report(inTime, id, r)
		cancel()
		var p *client.Problem
		if err == nil || errors.As(err, &p) && p.Status < 500 {
			if err != nil {
				t.Log.Warn("the service does not take what came of an act", "act", id, "error", err)
			}
			return
		}
		t.Log.Warn("what came of an act could not be told yet", "act", id, "trying_again_in", rest, "error", err)
		select {
		case <-ctx.Done():
			return // it is in the journal: the service asks for it
		case <-time.After(rest):
		}
	}
}

// askKnown asks what the last reading found, between two readings.
func (c *Collector) askKnown(ctx context.Context) (*carry.Known, error) {
	answer := make(chan *carry.Known, 1)
	select {
	case c.asked <- answer:
		return <-answer, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(30 * time.Second):
		return nil, errors.New("the collector is busy reading this host: try again")
	}
}

// known is what the last reading found of this host's workloads.
func (c *Collector) known() *carry.Known {
	r := &c.readings[(c.turn+len(c.readings)-1)%len(c.readings)]
	k := &carry.Known{Boot: r.Boot, Workloads: map[string]account.Workload{}, Of: map[carry.Process]string{}}
	keys := map[account.WorkloadID]string{}
	key := func(id account.WorkloadID) string {
		if id == account.Unrecognised {
			return ""
		}
		text, is := keys[id]
		if !is {
			w := c.Names.Workload(id)
			text = w.Key
			keys[id], k.Workloads[text] = text, w
		}
		return text
	}
	for i := range r.Groups {
		key(r.Groups[i].Workload)
	}
	for i := range r.Processes {
		if p := &r.Processes[i]; !p.Ended {
			if text := key(p.Workload); text != "" {
				k.Of[carry.Process{PID: p.PID, Start: p.Start}] = text
			}
		}
	}
	return k
}
