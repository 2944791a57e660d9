package crowd

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"time"

	"golang.org/x/sync/errgroup"

	"vinescale/internal/client"
	"vinescale/internal/wire"
)

// Fleet is many hosts that one service knows.
type Fleet struct {
	Address     string // of the service
	Names       []string
	credentials []string
	Workloads   int  // of each host
	EveryPart   bool // tell of many drives, GPUs and sensors, of each CPU, and of the highest ticks of all these
	sequence    uint64
	kept        *http.Transport // of frames
}

// Senders is how many hosts send at a time.
const Senders = 16

// Enrol makes hosts known to a service, by an administrator's token.
func Enrol(ctx context.Context, address, token string, hosts, workloads int) (*Fleet, error) {
	to, err := client.New(address, token)
	if err != nil {
		return nil, err
	}
	f := &Fleet{Address: address, Workloads: workloads}
	for i := range hosts {
		name := fmt.Sprintf("%s-%d", []string{"cellar", "press", "terrace", "orchard"}[i%4], i/4+1)
		var enrolled struct{ Credential string }
		err := to.Send(ctx, http.MethodPost, "/api/v1/hosts", map[string]string{"name": name}, &enrolled)
		if err != nil {
			return nil, err
		}
		f.Names, f.credentials = append(f.Names, name), append(f.credentials, enrolled.Credential)
	}
	return f, nil
}

// Batches are what each host sends of so many minutes from a time on, encoded: an interval a minute.
func (f *Fleet) Batches(from time.Time, minutes int) ([][]byte, error) {
	batches := make([][]byte, len(f.Names))
	var group errgroup.Group
	group.SetLimit(2)
	for i, name := range f.Names {
		group.Go(func() (err error) {
			rng := rand.New(rand.NewPCG(uint64(i), f.sequence))
			b := &wire.Batch{Version: wire.Version, Host: name}
			for n := range minutes {
				iv := Minute(rng, name, f.Workloads, from.Add(time.Duration(n)*time.Minute),
					f.sequence+uint64(n)+1)
				if err := addParts(rng, iv); err != nil {
					return err
				}
				if f.EveryPart {
					addEveryPart(rng, iv)
				}
				b.Intervals = append(b.Intervals, iv)
			}
			batches[i], err = wire.Encode(b)
			return err
		})
	}
	err := group.Wait()
	f.sequence += uint64(minutes)
	return batches, err
}

// Ticks are live frames of each host, encoded: what a tick of some seconds told that began at a time.
func (f *Fleet) Ticks(from time.Time, tick time.Duration) ([][]byte, error) {
	frames := make([][]byte, len(f.Names))
	for i, name := range f.Names {
		iv := Minute(rand.New(rand.NewPCG(uint64(i), uint64(from.Unix()))), name, f.Workloads, from, 1)
		iv.ElapsedMillis, iv.Ticks = tick.Milliseconds(), 1
		iv.ToUnixMicros = iv.FromUnixMicros + tick.Microseconds()
		var err error
		frames[i], err = wire.Encode(&wire.Batch{Version: wire.Version, Host: name, Intervals: []*wire.Interval{iv},
			Pace: &wire.Pace{TickMillis: uint32(tick.Milliseconds()), ReadingMicros: 4000}})
		if err != nil {
			return nil, err
		}
	}
	return frames, nil
}

// SendTicks sends the frames of all hosts, Senders of them at a time, each host over a connection that stays.
func (f *Fleet) SendTicks(ctx context.Context, frames [][]byte) error {
	if f.kept == nil {
		f.kept = &http.Transport{MaxIdleConnsPerHost: 2 * Senders}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(Senders)
	for i, raw := range frames {
		group.Go(func() error {
			to, err := client.New(f.Address, f.credentials[i])
			if err != nil {
				return err
			}
			to.Transport(f.kept)
			return to.SendFrame(ctx, raw, nil)
		})
	}
	return group.Wait()
}

// Send sends the batches of all hosts, Senders of them at a time.
func (f *Fleet) Send(ctx context.Context, batches [][]byte) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(Senders)
	for i, raw := range batches {
		group.Go(func() error { return f.sendOne(ctx, i, raw) })
	}
	return group.Wait()
}

// Spread sends the batches of all hosts evenly over some time, as collectors do that began whenever they were started,
// and tells how long each took to be acknowledged.
func (f *Fleet) Spread(ctx context.Context, batches [][]byte, over time.Duration) ([]time.Duration, error) {
	took := make([]time.Duration, len(batches))
	group, ctx := errgroup.WithContext(ctx)
	for i, raw := range batches {
		group.Go(func() error {
			time.Sleep(over * time.Duration(i) / time.Duration(len(batches)))
			begin := time.Now()
			defer func() { took[i] = time.Since(begin) }()
			return f.sendOne(ctx, i, raw)
		})
	}
	return took, group.Wait()
}

func (f *Fleet) sendOne(ctx context.Context, host int, raw []byte) error {
	to, err := client.New(f.Address, f.credentials[host])
	if err != nil {
		return err
	}
	return to.SendBatch(ctx, raw, nil)
}
